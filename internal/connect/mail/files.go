package mail

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"mime"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapclient"
	gomessage "github.com/emersion/go-message"
	"github.com/emersion/go-message/charset"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/value"
)

// maxFiles is how many of a message's files are listed.
const maxFiles = 50

// filesField describes the files of a message.
func filesField() value.Field {
	f, address := connect.Field("files", value.List), connect.Field("address", value.Text)
	address.Hidden = true // it says nothing to people
	f.Of, f.Fields = value.Object, []value.Field{connect.Field("name", value.Text), connect.Field("media", value.Text), connect.Field("size", value.Num), address}
	return f
}

// filesAtOnce is of how many messages the files are asked for at once.
const filesAtOnce = 200

// filesOf asks for the files of some messages.
func filesOf(c *imapclient.Client, source string, validity uint32, uids []imap.UID) (map[imap.UID][]any, error) {
	list, err := fetch(c, imap.FetchOptions{BodyStructure: &imap.FetchItemBodyStructure{Extended: true}}, uids...)
	if err != nil {
		return nil, plain("reading which files messages have", err)
	}
	out := map[imap.UID][]any{}
	for _, m := range list {
		out[m.uid] = filesIn(source, m.structure, validity, m.uid)
	}
	return out, nil
}

// filesIn lists the files of a message, by its structure (RFC 3501, 6.4.5): whatever is no text to be read, attached or shown within it.
// Nothing of them is read.
func filesIn(source string, bs imap.BodyStructure, validity uint32, uid imap.UID) []any {
	var out []any
	if bs == nil {
		return nil
	}
	bs.Walk(func(path []int, part imap.BodyStructure) bool {
		one, ok := part.(*imap.BodyStructureSinglePart)
		if !ok {
			return part.MediaType() != "multipart/encrypted" && len(path) < 20
		}
		name, media := nameOf(one), one.MediaType()
		d := one.Disposition()
		attached := d != nil && strings.EqualFold(d.Value, "attachment")
		shown := strings.HasPrefix(media, "text/") || strings.HasPrefix(media, "application/pgp") || strings.HasPrefix(media, "application/pkcs7")
		if len(out) >= maxFiles || !attached && shown {
			return false
		}
		if name == "" {
			name = fmt.Sprintf("file %d%s", len(out)+1, ending(media))
		}
		size := float64(one.Size)
		if strings.EqualFold(one.Encoding, "base64") {
			size = float64(int(size) / 78 * 57) // lines of 76 and their ends, which hold 57 bytes
		}
		numbers := make([]string, len(path))
		for i, n := range path {
			numbers[i] = strconv.Itoa(n)
		}
		ref := fmt.Sprintf("%d-%d/%s", validity, uid, strings.Join(numbers, "."))
		out = append(out, map[string]any{"name": clean(name, 300), "media": clean(media, 200), "size": size, "address": message.HeldAt(source, ref)})
		return false
	})
	return out
}

// ending is how names of files of a type end, such as ".png".
func ending(media string) string {
	switch media { // of several, the one that people know
	case "image/jpeg":
		return ".jpg"
	case "message/rfc822":
		return ".eml"
	}
	if all, err := mime.ExtensionsByType(media); err == nil && len(all) > 0 {
		return all[0]
	}
	return ""
}

// nameOf gives a part's name, however it is written: plainly, as a word of RFC 2047, or in the pieces of RFC 2231.
func nameOf(part *imap.BodyStructureSinglePart) string {
	var of map[string]string
	if d := part.Disposition(); d != nil {
		of = d.Params
	}
	for _, p := range []struct {
		name   string
		params map[string]string
	}{{"filename", of}, {"name", part.Params}} {
		var b strings.Builder
		b.WriteString("x")
		for _, k := range slices.Sorted(maps.Keys(p.params)) {
			if k = strings.ToLower(k); k == p.name || strings.HasPrefix(k, p.name+"*") {
				fmt.Fprintf(&b, "; %s=%s", k, strconv.Quote(p.params[k]))
			}
		}
		_, params, err := mime.ParseMediaType(b.String())
		name := params[p.name]
		if err != nil || name == "" {
			name = p.params[p.name]
		}
		words := mime.WordDecoder{CharsetReader: charset.Reader}
		if plain, err := words.DecodeHeader(name); err == nil {
			name = plain
		}
		if name = strings.TrimSpace(name); name != "" {
			return name
		}
	}
	return ""
}

// Held gives one file of a message, which it asks the server for.
func (m *mailbox) Held(ctx context.Context, src connect.SourceConfig, ref string, most int64) ([]byte, string, error) {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	var validity uint32
	var uid imap.UID
	var rest string
	if _, err := fmt.Sscanf(ref, "%d-%d/%s", &validity, &uid, &rest); err != nil {
		return nil, "", fmt.Errorf("%q names no file of a mail", ref)
	}
	var path []int
	for n := range strings.SplitSeq(rest, ".") {
		k, err := strconv.Atoi(n)
		if err != nil || k < 1 {
			return nil, "", fmt.Errorf("%q names no file of a mail", ref)
		}
		path = append(path, k)
	}
	c, err := m.dial(ctx, silence, nil)
	if err != nil {
		return nil, "", err
	}
	defer c.Close()
	box := src.Get("mailbox", "INBOX")
	data, err := c.Select(box, &imap.SelectOptions{ReadOnly: true}).Wait()
	if err != nil {
		return nil, "", plain("opening "+box, err)
	}
	gone := &fault.Fault{Tried: "fetching a file of a mail", Said: "the mail is no longer in " + box, Do: "leave mails in the mailbox until they have been told"}
	if data.UIDValidity != validity {
		return nil, "", gone
	}
	header := &imap.FetchItemBodySection{Peek: true, Specifier: imap.PartSpecifierMIME, Part: path, Partial: &imap.SectionPartial{Size: maxText}}
	if len(path) == 1 && path[0] == 1 { // a message that is one part has no other header than its own, on some servers
		header.Specifier, header.Part = imap.PartSpecifierHeader, nil
		if several, err := m.hasParts(c, uid); err != nil {
			return nil, "", err
		} else if several {
			header.Specifier, header.Part = imap.PartSpecifierMIME, path
		}
	}
	head, err := section(c, uid, header)
	if err != nil {
		return nil, "", err
	}
	if head == nil {
		return nil, "", gone
	}
	body, err := section(c, uid, &imap.FetchItemBodySection{Peek: true, Part: path, Partial: &imap.SectionPartial{Size: most*3/2 + maxText}})
	if err != nil {
		return nil, "", err
	}
	return decoded(head, body, most)
}

// section asks for one part of a message; nil where the message is gone.
func section(c *imapclient.Client, uid imap.UID, part *imap.FetchItemBodySection) ([]byte, error) {
	list, err := fetch(c, imap.FetchOptions{BodySection: []*imap.FetchItemBodySection{part}}, uid)
	if err != nil {
		return nil, plain("fetching a file of a mail", err)
	}
	if len(list) == 0 {
		return nil, nil
	}
	return append([]byte{}, list[0].body...), nil
}

// hasParts tells whether a message has several parts.
func (m *mailbox) hasParts(c *imapclient.Client, uid imap.UID) (bool, error) {
	list, err := fetch(c, imap.FetchOptions{BodyStructure: &imap.FetchItemBodyStructure{}}, uid)
	if err != nil || len(list) == 0 {
		return false, err
	}
	_, several := list[0].structure.(*imap.BodyStructureMultiPart)
	return several, nil
}

// decoded takes a part out of how it is written for the way (base64, quoted-printable).
func decoded(header, body []byte, most int64) ([]byte, string, error) {
	if len(bytes.TrimSpace(header)) == 0 && len(body) == 0 {
		return nil, "", errors.New("the mail has no such file")
	}
	raw := append(append(bytes.TrimRight(header, "\r\n"), "\r\n\r\n"...), body...)
	part, err := gomessage.Read(bytes.NewReader(raw))
	if part == nil {
		return nil, "", fmt.Errorf("the file cannot be read: %w", err)
	}
	media, _, _ := part.Header.ContentType()
	out, err := io.ReadAll(io.LimitReader(part.Body, most+1))
	if int64(len(out)) > most {
		return nil, "", fmt.Errorf("the file is larger than %d MiB", most>>20)
	}
	if err != nil {
		return nil, "", fmt.Errorf("the file cannot be read: %w", err)
	}
	return out, media, nil
}

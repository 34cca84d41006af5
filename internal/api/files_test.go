package api_test

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// photo is a picture as a telephone makes it.
func photo(t *testing.T) []byte {
	t.Helper()
	img := image.NewRGBA(image.Rect(0, 0, 40, 30))
	for i := range 40 {
		img.Set(i, i*3/4, color.RGBA{200, uint8(i * 5), 60, 255})
	}
	var b bytes.Buffer
	require.NoError(t, jpeg.Encode(&b, img, nil))
	return b.Bytes()
}

// letterWith is a letter with a picture that is shown within it and a file, as mail programs write them.
func letterWith(picture, file []byte) string {
	lines := func(raw []byte) string {
		s, out := base64.StdEncoding.EncodeToString(raw), ""
		for len(s) > 76 {
			out, s = out+s[:76]+"\r\n", s[76:]
		}
		return out + s + "\r\n"
	}
	return "From: Ann <ann@localhost>\r\nTo: marit@localhost\r\nSubject: Photos of the hose\r\nMessage-ID: <photos@localhost>\r\nMIME-Version: 1.0\r\n" +
		"Content-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\nContent-Type: text/plain\r\n\r\nIt is cracked.\r\n" +
		"--b\r\nContent-Type: image/jpeg; name=\"hose.jpg\"\r\nContent-Disposition: inline; filename=\"hose.jpg\"\r\nContent-Transfer-Encoding: base64\r\n\r\n" + lines(picture) +
		"--b\r\nContent-Type: application/pdf\r\nContent-Disposition: attachment; filename*=UTF-8''Pr%C3%BCfung%202026.pdf\r\nContent-Transfer-Encoding: base64\r\n\r\n" + lines(file) + "--b--\r\n"
}

// The files of a mail go with what is told of it: as files where the other side takes them, as links elsewhere, its picture as a picture.
// Nobody gets at another mail's files by writing their address into a record.
func TestFilesOfAMail(t *testing.T) {
	f := forwardingHouse(t)
	f.turnedOn("dorfbote: 1\nname: Photos\nwatch: {source: desk/inbox, when: {field: subject, starts_with: Photos}}\n" +
		"gather: [{name: mails, find: {source: desk/inbox, take: all}}]\n" +
		"messages: {m: {title: \"For the board: ${record.subject}\", picture: {from: \"${record.files}\", text: the hose}, attach: [{from: \"${record.files}\"}, {name: mails.csv, table: {of: mails, columns: [subject]}}, {name: mails.xlsx, table: {of: mails, columns: [subject]}}]}}\n" +
		"route: {otherwise: {tell: [{to: \"square/#lab\", message: m}, {to: \"desk/marit@localhost\", message: m}, {to: other/tours, message: m}]}}\n")
	f.turnedOn("dorfbote: 1\nname: Sly\nwatch: {source: talk/tours}\n" +
		"messages: {m: {title: sly, attach: [{name: stolen.pdf, from: \"${record.text}\"}]}}\n" +
		"route: {otherwise: {tell: [{to: \"desk/marit@localhost\", message: m}]}}\n")
	picture, file := photo(t), []byte("%PDF-1.7\n"+strings.Repeat("Milch\n", 3000))
	f.mail.Post(t, "ann@localhost", "marit@localhost", letterWith(picture, file))

	var record string
	f.until("the letter came in", func() bool {
		f.st.DB.Raw("SELECT data::text FROM records WHERE source = 'desk/inbox' AND data->>'subject' LIKE 'Photos%'").Scan(&record)
		return record != ""
	})
	assert.Contains(t, record, "Prüfung 2026.pdf")
	var posts []struct {
		ID                       int64
		Destination, State, Body string
	}
	f.until("both are told", func() bool {
		posts = nil
		f.st.DB.Raw("SELECT id, destination, state, body::text AS body FROM posts WHERE destination IN ('square/#lab', 'desk/marit@localhost') AND state = 'sent' ORDER BY destination").Scan(&posts)
		return len(posts) == 2
	})
	assert.NotContains(t, posts[0].Body, base64.StdEncoding.EncodeToString(file)[:40], "the file is not kept with the post")

	// By mail they go along, whole.
	letter := f.letterCalled("For the board: Photos of the hose")
	assert.Contains(t, letter, base64.StdEncoding.EncodeToString(file)[:60])
	assert.Contains(t, letter, "Content-Type: application/pdf")
	assert.Contains(t, letter, "picture.jpg", "shown in the mail")
	assert.Contains(t, letter, "hose.jpg", "and carried as a file")

	// In the square the picture is handed over, and the files are links for people without an account.
	res, err := http.Get(f.square + "/channels/lab/posts?limit=5")
	require.NoError(t, err)
	raw, _ := io.ReadAll(res.Body)
	res.Body.Close()
	var said []struct {
		Picture *struct{ ID string }
		Links   []struct{ Text, To string }
	}
	require.NoError(t, json.Unmarshal(raw, &said))
	require.NotNil(t, said[0].Picture)
	require.Len(t, said[0].Links, 4)
	handed := func(n int, name string) (door, disposition string, data []byte) {
		t.Helper()
		assert.Equal(t, name, said[0].Links[n].Text)
		door = strings.TrimPrefix(said[0].Links[n].To, "https://dorfbote.example")
		res, err := http.Get(f.base + door)
		require.NoError(t, err)
		data, _ = io.ReadAll(res.Body)
		res.Body.Close()
		assert.Equal(t, "nosniff", res.Header.Get("X-Content-Type-Options"))
		return door, res.Header.Get("Content-Disposition"), data
	}
	door, disposition, got := handed(1, "Prüfung 2026.pdf")
	assert.Equal(t, file, got)
	assert.Equal(t, "attachment; filename*=utf-8''Pr%C3%BCfung%202026.pdf", disposition)
	_, _, got = handed(2, "mails.csv")
	assert.Contains(t, string(got), "Photos of the hose")
	_, _, got = handed(3, "mails.xlsx")
	assert.Equal(t, "PK", string(got[:2]))
	for _, other := range []string{door + "x", strings.Replace(door, ".1.l.", ".0.l.", 1), strings.Replace(door, "/file/", "/picture/", 1)} {
		res, err = http.Get(f.base + other)
		require.NoError(t, err)
		res.Body.Close()
		assert.Equal(t, http.StatusNotFound, res.StatusCode, other)
	}
	status, own := f.raw("GET", fmt.Sprintf("/api/posts/%d/files/1", posts[1].ID), "")
	assert.Equal(t, 200, status)
	assert.Equal(t, file, own, "whoever looks after it can have it, too")

	// Elsewhere the picture is an address that shows it, written anew, to whoever has it.
	f.until("the other chat has it", func() bool {
		f.mu.Lock()
		defer f.mu.Unlock()
		return len(f.calls) == 1
	})
	var other struct{ Pic string }
	require.NoError(t, json.Unmarshal([]byte(f.calls[0]), &other))
	shown := strings.TrimPrefix(other.Pic, "https://dorfbote.example")
	require.Regexp(t, `^/picture/.*\.jpg$`, shown)
	res, err = http.Get(f.base + shown)
	require.NoError(t, err)
	img, err := jpeg.Decode(res.Body)
	res.Body.Close()
	require.NoError(t, err)
	assert.Equal(t, 40, img.Bounds().Dx())
	assert.Equal(t, "image/jpeg", res.Header.Get("Content-Type"))
	assert.Contains(t, res.Header.Get("X-Robots-Tag"), "noindex")

	// Someone's text that names the same file gets nothing.
	address := record[strings.Index(record, "held:"):]
	address = address[:strings.Index(address, `"`)]
	f.ask("POST", "/channels/tours/say", fmt.Sprintf(`{"author":"Eve","text":%q}`, address))
	sly := f.letterCalled("sly")
	assert.NotContains(t, sly, base64.StdEncoding.EncodeToString(picture)[:60])
	assert.Contains(t, sly, "Not attached: stolen.pdf")
}

// letterCalled waits for a letter with a subject, and gives it.
func (f *forwarding) letterCalled(subject string) (letter string) {
	f.t.Helper()
	f.until("a letter called "+subject, func() bool {
		all, err := filepath.Glob(filepath.Join(f.mail.Dir, "home/mail/*/*"))
		require.NoError(f.t, err)
		for _, name := range all {
			if raw, err := os.ReadFile(name); err == nil && strings.Contains(string(raw), "\nSubject: "+subject+"\n") {
				letter = string(raw)
				return true
			}
		}
		return false
	})
	return letter
}

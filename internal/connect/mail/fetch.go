package mail

import (
	"errors"
	"io"
	"time"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapclient"
)

// fetched is what was asked of one message.
type fetched struct {
	uid       imap.UID
	date      time.Time
	size      int64
	structure imap.BodyStructure
	body      []byte // of the one section that was asked for; nil where the message has none
}

// fetch asks for messages, at most one section of each. Where the line breaks within a section, what is left of it is not looked at: the
// client reads on meanwhile, and both would read the same bytes.
func fetch(c *imapclient.Client, o imap.FetchOptions, uids ...imap.UID) ([]fetched, error) {
	if len(o.BodySection) > 1 {
		return nil, errors.New("one section at a time")
	}
	o.UID = true
	cmd := c.Fetch(imap.UIDSetNum(uids...), &o)
	var out []fetched
	for msg := cmd.Next(); msg != nil; msg = cmd.Next() {
		var one fetched
		for item := msg.Next(); item != nil; item = msg.Next() {
			switch x := item.(type) {
			case imapclient.FetchItemDataUID:
				one.uid = x.UID
			case imapclient.FetchItemDataInternalDate:
				one.date = x.Time
			case imapclient.FetchItemDataRFC822Size:
				one.size = x.Size
			case imapclient.FetchItemDataBodyStructure:
				one.structure = x.BodyStructure
			case imapclient.FetchItemDataBodySection:
				if x.Literal == nil {
					continue
				}
				raw, err := io.ReadAll(x.Literal)
				if err != nil {
					return nil, err
				}
				one.body = raw
			}
		}
		out = append(out, one)
	}
	return out, cmd.Close()
}

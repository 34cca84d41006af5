package connect

import "context"

// Holder is a connection at which files lie that came with records, such as those of a mail. A record's field "files" lists them:
// each has name, media, size in bytes, and address, which [dorfbote/internal/core/message.HeldAt] makes.
type Holder interface {
	Conn
	// Held gives a file's bytes and what they are, at most so many; more is an error. ref is the latter part of its address.
	Held(ctx context.Context, src SourceConfig, ref string, most int64) (data []byte, media string, err error)
}

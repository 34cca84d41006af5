package rehearse

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/value"
)

// batchBytes is about how much of a file is read at once.
const batchBytes = 256 << 10

// Batch is some lines of a file of arrivals.
type Batch struct {
	raw    []byte
	ends   []int // of the lines in raw
	offset int64 // of the first line in the file
	line   int   // its number
	parsed []parsedLine
	done   bool
	err    error
}

type parsedLine struct {
	arrival *arrival.Arrival
	place
}

// batches gives the lines of a file, batch by batch; nil at its end.
func batches(file io.Reader) func() *Batch {
	r := bufio.NewReaderSize(file, batchBytes)
	offset, line, over := int64(0), 1, false
	return func() *Batch {
		if over {
			return nil
		}
		b := &Batch{offset: offset, line: line, raw: make([]byte, 0, batchBytes+batchBytes/8)}
		for len(b.raw) < batchBytes {
			raw, err := readLine(r)
			b.raw = append(b.raw, raw...)
			b.ends = append(b.ends, len(b.raw))
			if err == nil {
				continue
			}
			if over = true; !errors.Is(err, io.EOF) {
				b.err = fault.In(fmt.Sprintf("line %d", line+len(b.ends)-1), err)
				b.ends = b.ends[:len(b.ends)-1]
			}
			break
		}
		offset, line = offset+int64(len(b.raw)), line+len(b.ends)
		return b
	}
}

// Parse reads the arrivals of the batch, once. The first that is wrong ends it.
func (b *Batch) Parse(values *value.Reader) {
	if b.done {
		return
	}
	b.done = true
	b.parsed = make([]parsedLine, 0, len(b.ends))
	from := 0
	for i, end := range b.ends {
		at, raw := int64(from), b.raw[from:end]
		from = end
		trimmed := bytes.TrimSpace(raw)
		if len(trimmed) == 0 {
			continue
		}
		a, err := arrival.ReadBy(values, trimmed)
		if err == nil && a.Time.IsZero() {
			err = errors.New("time: is missing; a rehearsal needs to know when each arrival came")
		}
		if err != nil {
			b.err = fault.In(fmt.Sprintf("line %d", b.line+i), err)
			break
		}
		b.parsed = append(b.parsed, parsedLine{a, place{at: a.Time.UnixNano(), offset: b.offset + at, line: int32(b.line + i)}})
	}
	b.raw, b.ends = nil, nil
}

package practice

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"

	"github.com/go-chi/chi/v5"

	"dorfbote/internal/core/message"
)

// note is what a channel's own address takes: a body of a shape of its own, as every chat has another.
type note struct {
	Note *struct {
		Headline string `json:"headline"`
		Lines    string `json:"lines"` // CommonMark
		Mood     string `json:"mood"`
		Rows     []struct {
			Name string `json:"name"`
			Is   string `json:"is"`
		} `json:"rows"`
		Doors []struct {
			Say  string `json:"say"`
			Goes string `json:"goes"`
		} `json:"doors"`
	} `json:"note"`
	As     *struct{ Called string } `json:"as"`
	Thread json.RawMessage          `json:"thread"` // the post that it answers
}

// readNote reads a note, and refuses what it knows nothing of, as strict chats do.
func readNote(r io.Reader) (*incoming, error) {
	var n note
	dec := json.NewDecoder(r)
	dec.DisallowUnknownFields()
	if err := dec.Decode(&n); err != nil {
		return nil, fmt.Errorf("the body is not a note: %w", err)
	}
	if n.Note == nil {
		return nil, errors.New(`the body has no note; it is {"note": {"headline": "…", "lines": "…", "rows": [{"name": "…", "is": "…"}], "doors": [{"say": "…", "goes": "…"}]}}`)
	}
	in := &incoming{Title: n.Note.Headline, Text: n.Note.Lines, Tone: n.Note.Mood, Under: n.Thread}
	for _, row := range n.Note.Rows {
		in.Facts = append(in.Facts, message.Fact{Label: row.Name, Value: row.Is})
	}
	for i, d := range n.Note.Doors {
		l := message.Link{Text: d.Say, To: d.Goes}
		if i == 0 {
			in.Link = &l
			continue
		}
		in.Links = append(in.Links, l)
	}
	if n.As != nil {
		in.Sender = &ownSender{Name: n.As.Called}
	}
	return in, nil
}

// maxPicture bounds a picture that is handed over.
const maxPicture = 10 << 20

// takePicture keeps a picture that a post is going to show.
func (s *Server) takePicture(w http.ResponseWriter, r *http.Request) {
	if s.senderOf(w, r) == "" {
		return
	}
	raw, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxPicture))
	media := http.DetectContentType(raw)
	if err != nil || media != "image/png" && media != "image/jpeg" {
		problem(w, http.StatusUnsupportedMediaType, "a picture is PNG or JPEG, of at most %d MiB", maxPicture>>20)
		return
	}
	var id int64
	if err := s.db.WithContext(r.Context()).Raw("INSERT INTO practice.pictures (media, data) VALUES (?, ?) RETURNING id", media, raw).Scan(&id).Error; err != nil {
		problem(w, http.StatusInternalServerError, "%v", err)
		return
	}
	answer(w, http.StatusCreated, map[string]any{"id": strconv.FormatInt(id, 10)})
}

// showPicture gives a picture to whoever reads the square.
func (s *Server) showPicture(w http.ResponseWriter, r *http.Request) {
	var p struct {
		Media string
		Data  []byte
	}
	if err := s.db.WithContext(r.Context()).Raw("SELECT media, data FROM practice.pictures WHERE id = ?", idOf(r)).Scan(&p).Error; err != nil || p.Media == "" {
		problem(w, http.StatusNotFound, "there is no such picture")
		return
	}
	w.Header().Set("Content-Type", p.Media)
	w.Header().Set("Cache-Control", "private, max-age=86400")
	_, _ = w.Write(p.Data)
}

func idOf(r *http.Request) int {
	n, _ := strconv.Atoi(chi.URLParam(r, "id"))
	return n
}

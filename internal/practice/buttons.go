package practice

import (
	"bytes"
	"context"
	"database/sql/driver"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"
)

// ownButton is a button of a post. Where it calls is known to the square alone; people see its words, and what came of it.
type ownButton struct {
	Text    string `json:"text"`
	Call    string `json:"call,omitempty"`
	Comment string `json:"comment,omitempty"` // none, optional or required
	Said    string `json:"said,omitempty"`    // what the sender answered when it was pressed
	Done    bool   `json:"done,omitempty"`    // it cannot be pressed any more
}

// ownButtons are the buttons of a post.
type ownButtons []ownButton

// Value implements driver.Valuer.
func (b ownButtons) Value() (driver.Value, error) {
	if b == nil {
		return "[]", nil
	}
	type kept ownButton
	out := make([]kept, len(b))
	for i, x := range b {
		out[i] = kept(x)
	}
	raw, err := json.Marshal(out)
	return string(raw), err
}

// Scan implements sql.Scanner.
func (b *ownButtons) Scan(v any) error {
	switch x := v.(type) {
	case nil:
		return nil
	case []byte:
		return json.Unmarshal(x, b)
	case string:
		return json.Unmarshal([]byte(x), b)
	}
	return fmt.Errorf("buttons are kept as JSON, not as %T", v)
}

// as has buttons that were pressed stay so when their post is edited.
func (b ownButtons) as(was ownButtons) {
	for i := range b {
		for _, w := range was {
			if w.Text == b[i].Text {
				b[i].Said, b[i].Done = w.Said, w.Done
			}
		}
	}
}

// shown are the buttons as people see them.
func (b ownButtons) shown() ownButtons {
	out := make(ownButtons, len(b))
	for i, x := range b {
		x.Call = ""
		out[i] = x
	}
	return out
}

// pressTimeout is how long a sender may take to say what came of a button.
const pressTimeout = 8 * time.Second

// press has a person press a button: the square calls the address that came with it, and shows what is answered.
func (s *Server) press(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Button  int    `json:"button"`
		By      string `json:"by"`
		Comment string `json:"comment"`
	}
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 64<<10)).Decode(&in); err != nil {
		problem(w, http.StatusBadRequest, "the body is not JSON that can be read: %v", err)
		return
	}
	if by := r.Header.Get("X-Practice-By"); in.By == "" {
		in.By = by
	}
	if in.By == "" {
		in.By = "somebody"
	}
	var p squarePost
	if err := s.db.WithContext(r.Context()).First(&p, "id = ?", idOf(r)).Error; err != nil {
		problem(w, http.StatusNotFound, "there is no such post any more")
		return
	}
	if in.Button < 0 || in.Button >= len(p.Buttons) {
		problem(w, http.StatusNotFound, "the post has no such button")
		return
	}
	b := &p.Buttons[in.Button]
	a, err := call(r.Context(), b.Call, in.By, strings.TrimSpace(in.Comment))
	if err != nil {
		problem(w, http.StatusBadGateway, "the sender did not answer: %v", err)
		return
	}
	if b.Said = a.Said; a.Done || a.All {
		for i := range p.Buttons {
			p.Buttons[i].Done = p.Buttons[i].Done || a.All || i == in.Button
		}
		if err := s.db.WithContext(r.Context()).Exec("UPDATE practice.posts SET buttons = ? WHERE id = ?", p.Buttons, p.ID).Error; err != nil {
			problem(w, http.StatusInternalServerError, "%v", err)
			return
		}
		s.events.tell(liveEvent{Topic: "posts", Channel: p.Channel})
	}
	answer(w, http.StatusOK, a)
}

// pressed is what a sender answers when its button was pressed.
type pressed struct {
	Said   string `json:"said"`
	Done   bool   `json:"done"` // it cannot be pressed any more
	All    bool   `json:"all"`  // none of the post's can
	Detail string `json:"detail,omitempty"`
}

// call tells a sender that its button was pressed.
func call(ctx context.Context, address, by, comment string) (out pressed, err error) {
	body, err := json.Marshal(map[string]string{"by": by, "comment": comment})
	if err != nil {
		return out, err
	}
	ctx, cancel := context.WithTimeout(ctx, pressTimeout)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(body))
	if err != nil {
		return out, err
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Accept", "application/json")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return out, err
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(res.Body, 64<<10))
	if err != nil {
		return out, err
	}
	if err := json.Unmarshal(raw, &out); err != nil {
		return out, fmt.Errorf("%s, with an answer that cannot be read", res.Status)
	}
	if out.Said == "" {
		out.Said = out.Detail
	}
	return out, nil
}

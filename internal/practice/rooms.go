package practice

import (
	"context"
	"encoding/json"
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"dorfbote/internal/practice/columns"

	"github.com/go-chi/chi/v5"
)

// The square as a place where people talk: what they say and how they react, and how a program reads it.

// tally is how often a post was reacted to in one way.
type tally struct {
	Name string `json:"name"`
	N    int    `json:"n"`
}

// saying is what one person says, or a reaction, as a program reads it.
type saying struct {
	ID       int64             `json:"id"`
	Author   string            `json:"author"`
	Text     string            `json:"text"`
	At       time.Time         `json:"at"`
	Mentions columns.Texts     `json:"mentions" gorm:"type:text[]"`
	Images   columns.JSONTexts `json:"images" gorm:"type:jsonb"`
	Under    int64             `json:"under"`
	Own      bool              `json:"own"`
	Reaction string            `json:"reaction,omitempty"`
	Post     int64             `json:"post,omitempty"`
	Change   int64             `json:"change,omitempty"` // the number of a change to what was said
	Gone     bool              `json:"gone,omitempty"`   // it was taken away
}

// saidColumns are those of what is said, to a sender. What a program has said that leaves the sender's mark is its own, too,
// whichever way it came.
const saidColumns = `id, CASE WHEN author = '' THEN sender ELSE author END AS author, btrim(title || E'\n' || text, E'\n') AS text, at, mentions, images,
	coalesce(under, 0) AS under, author = '' AND (sender = @sender OR mark <> '') AS own`

func (s *Server) roomRoutes(r chi.Router) {
	r.Get("/square/rooms", s.listRooms)
	r.Get("/square/rooms/{name}/messages", s.readRoom("SELECT "+saidColumns+" FROM practice.posts WHERE channel = @channel AND id > @after AND NOT gone ORDER BY id LIMIT @limit"))
	r.Get("/square/rooms/{name}/changes", s.readRoom("SELECT "+saidColumns+", changed AS change, gone FROM practice.posts WHERE channel = @channel AND changed > @after ORDER BY changed LIMIT @limit"))
	r.Get("/square/rooms/{name}/reactions", s.readRoom(`SELECT r.id, r.by AS author, btrim(p.title || E'\n' || p.text, E'\n') AS text, r.at, r.name AS reaction, r.post, r.by = @sender AS own
		FROM practice.reactions r JOIN practice.posts p ON p.id = r.post WHERE p.channel = @channel AND r.id > @after ORDER BY r.id LIMIT @limit`))
	r.Get("/square/rooms/{name}/wait", s.waitRoom)
	r.Post("/square/channels/{name}/say", s.say)
	r.Put("/square/posts/{id}/said", s.sayAnew)
	r.Delete("/square/posts/{id}/said", s.unsay)
	r.Post("/square/posts/{id}/reactions", s.react)
}

// listRooms lists the channels as a sender sees them.
func (s *Server) listRooms(w http.ResponseWriter, r *http.Request) {
	sender := s.senderOf(w, r)
	if sender == "" {
		return
	}
	var list []channel
	if err := s.db.WithContext(r.Context()).Order("name").Limit(200).Find(&list).Error; err != nil {
		problem(w, http.StatusInternalServerError, "%v", err)
		return
	}
	out := []map[string]any{}
	for _, c := range list {
		out = append(out, map[string]any{"name": c.Name, "purpose": c.Purpose, "private": c.Private, "let_in": !c.Private || slices.Contains(c.Members, sender)})
	}
	answer(w, http.StatusOK, out)
}

// roomOf gives who asks and the channel that is asked for, and answers with why not where the sender may not read it.
func (s *Server) roomOf(w http.ResponseWriter, r *http.Request) (sender string, c channel, ok bool) {
	if sender = s.senderOf(w, r); sender == "" {
		return "", c, false
	}
	if err := s.db.WithContext(r.Context()).First(&c, "name = ?", channelName(r)).Error; err != nil {
		problem(w, http.StatusNotFound, "there is no channel %s", channelName(r))
		return "", c, false
	}
	if c.Private && !slices.Contains(c.Members, sender) {
		problem(w, http.StatusForbidden, "%s is not in the private channel %s; a member must let it in first", sender, c.Name)
		return "", c, false
	}
	return sender, c, true
}

// longestWait is how long a program that waits for news of a channel is kept waiting.
const longestWait = 15 * time.Second

// waitRoom answers with a number that changes with whatever is said or done in a channel: at once where it is not the
// one that the program knows, else as soon as it changes.
func (s *Server) waitRoom(w http.ResponseWriter, r *http.Request) {
	_, c, ok := s.roomOf(w, r)
	if !ok {
		return
	}
	news, end := s.events.listen()
	defer end()
	late := time.After(longestWait)
	for {
		var at string
		err := s.db.WithContext(r.Context()).Raw(`SELECT coalesce(max(p.id), 0) || '-' || coalesce(max(p.changed), 0) || '-' || (SELECT coalesce(max(r.id), 0) FROM practice.reactions r JOIN practice.posts p ON p.id = r.post WHERE p.channel = @channel)
			FROM practice.posts p WHERE p.channel = @channel`, map[string]any{"channel": c.Name}).Scan(&at).Error
		if err != nil {
			problem(w, http.StatusInternalServerError, "%v", err)
			return
		}
		if at != r.URL.Query().Get("known") {
			answer(w, http.StatusOK, map[string]any{"at": at})
			return
		}
		select {
		case <-r.Context().Done():
			return
		case <-late:
			answer(w, http.StatusOK, map[string]any{"at": at})
			return
		case <-news:
		}
	}
}

// readRoom gives what came after a number, oldest first, to a sender that may read the channel.
func (s *Server) readRoom(query string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		sender, c, ok := s.roomOf(w, r)
		if !ok {
			return
		}
		list := []saying{}
		err := s.db.WithContext(r.Context()).Raw(query, map[string]any{
			"sender": sender, "channel": c.Name, "after": number(r, "after", 0, 1<<62), "limit": max(1, number(r, "limit", 100, 200)),
		}).Scan(&list).Error
		if err != nil {
			problem(w, http.StatusInternalServerError, "%v", err)
			return
		}
		answer(w, http.StatusOK, list)
	}
}

var mention = regexp.MustCompile(`@([\pL\pN][\pL\pN_-]*)`)

// say puts what a person says into a channel.
func (s *Server) say(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Text   string   `json:"text"`
		Author string   `json:"author"`
		Under  int64    `json:"under"`
		Images []string `json:"images"`
	}
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 64<<10)).Decode(&in); err != nil {
		problem(w, http.StatusBadRequest, "the body is not JSON that can be read: %v", err)
		return
	}
	if by := r.Header.Get("X-Practice-By"); in.Author == "" {
		in.Author = by
	}
	if in.Author == "" {
		in.Author = "somebody"
	}
	if strings.TrimSpace(in.Text) == "" || len([]rune(in.Text)) > maxText {
		problem(w, http.StatusBadRequest, "say something, in at most %d characters", maxText)
		return
	}
	p := squarePost{Channel: channelName(r), Sender: in.Author, Author: in.Author, Text: in.Text, Tone: "plain", Facts: json.RawMessage("[]"), At: time.Now(), Mentions: columns.Texts{}, Links: json.RawMessage("[]")}
	for _, m := range mention.FindAllStringSubmatch(in.Text, -1) {
		p.Mentions = append(p.Mentions, m[1])
	}
	if in.Images == nil {
		in.Images = []string{}
	}
	p.Images, _ = json.Marshal(in.Images)
	if in.Under > 0 {
		p.Under = &in.Under
	}
	if err := s.db.WithContext(r.Context()).Omit("Body", "Reactions").Create(&p).Error; err != nil {
		problem(w, http.StatusNotFound, "there is no channel %s, or no such post to answer", p.Channel)
		return
	}
	s.events.tell(liveEvent{Topic: "posts", Channel: p.Channel})
	answer(w, http.StatusCreated, map[string]any{"id": strconv.FormatInt(p.ID, 10)})
}

// sayAnew puts another text in the place of what a person has said.
func (s *Server) sayAnew(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Text   string `json:"text"`
		Author string `json:"author"`
	}
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 64<<10)).Decode(&in); err != nil || strings.TrimSpace(in.Text) == "" || len([]rune(in.Text)) > maxText {
		problem(w, http.StatusBadRequest, "say something, in at most %d characters", maxText)
		return
	}
	s.changeSaid(w, r, in.Author, "text = @text, edited_at = now()", map[string]any{"text": in.Text})
}

// unsay takes away what a person has said.
func (s *Server) unsay(w http.ResponseWriter, r *http.Request) {
	s.changeSaid(w, r, r.URL.Query().Get("author"), "text = '', gone = true", map[string]any{})
}

// changeSaid changes what a person has said: only that person's own.
func (s *Server) changeSaid(w http.ResponseWriter, r *http.Request, author, set string, values map[string]any) {
	if by := r.Header.Get("X-Practice-By"); author == "" {
		author = by
	}
	values["id"], _ = strconv.ParseInt(chi.URLParam(r, "id"), 10, 64)
	values["author"] = author
	var channel string
	err := s.db.WithContext(r.Context()).Raw("UPDATE practice.posts SET "+set+", changed = nextval('practice.changes') WHERE id = @id AND author = @author AND author <> '' AND NOT gone RETURNING channel", values).Scan(&channel).Error
	if err != nil || channel == "" {
		problem(w, http.StatusNotFound, "%s has said nothing like that; only one's own words can be changed", author)
		return
	}
	s.events.tell(liveEvent{Topic: "posts", Channel: channel})
	w.WriteHeader(http.StatusNoContent)
}

// react adds a person's reaction to a post.
func (s *Server) react(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Name string `json:"name"`
		By   string `json:"by"`
	}
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 4<<10)).Decode(&in); err != nil || strings.TrimSpace(in.Name) == "" || len(in.Name) > 40 {
		problem(w, http.StatusBadRequest, "name the reaction")
		return
	}
	if in.By == "" {
		in.By = r.Header.Get("X-Practice-By")
	}
	if in.By == "" {
		in.By = "somebody"
	}
	id, _ := strconv.ParseInt(chi.URLParam(r, "id"), 10, 64)
	var channel string
	err := s.db.WithContext(r.Context()).Raw(`WITH p AS (SELECT id, channel FROM practice.posts WHERE id = ?), i AS (
		INSERT INTO practice.reactions (post, name, by) SELECT id, ?, ? FROM p ON CONFLICT DO NOTHING) SELECT channel FROM p`, id, in.Name, in.By).Scan(&channel).Error
	if err != nil || channel == "" {
		problem(w, http.StatusNotFound, "there is no such post")
		return
	}
	s.events.tell(liveEvent{Topic: "posts", Channel: channel})
	w.WriteHeader(http.StatusNoContent)
}

// countReactions adds to posts how they were reacted to.
func (s *Server) countReactions(ctx context.Context, posts []squarePost) error {
	ids := make([]int64, len(posts))
	at := map[int64]int{}
	for i, p := range posts {
		ids[i], at[p.ID] = p.ID, i
	}
	if len(ids) == 0 {
		return nil
	}
	var rows []struct {
		Post int64
		Name string
		N    int
	}
	err := s.db.WithContext(ctx).Raw("SELECT post, name, count(*) AS n FROM practice.reactions WHERE post IN ? GROUP BY 1, 2 ORDER BY 1, min(id)", ids).Scan(&rows).Error
	for _, r := range rows {
		p := &posts[at[r.Post]]
		p.Reactions = append(p.Reactions, tally{r.Name, r.N})
	}
	return err
}

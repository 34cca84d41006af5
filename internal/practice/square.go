package practice

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
	"golang.org/x/time/rate"
	"gorm.io/gorm"

	"dorfbote/internal/core/message"
	"dorfbote/internal/practice/columns"
)

// Limits of the square, as any chat has them.
const (
	maxTitle   = 200
	maxText    = 4000
	maxFacts   = 20
	maxButtons = 8
)

// channel is a channel of the square.
type channel struct {
	Name      string        `json:"name" gorm:"primaryKey"`
	Purpose   string        `json:"purpose"`
	Private   bool          `json:"private"`
	Members   columns.Texts `json:"members" gorm:"type:text[]"`
	HookToken string        `json:"-"`
	Withdrawn bool          `json:"-"`
}

func (channel) TableName() string { return "practice.channels" }

// squarePost is a post in a channel.
type squarePost struct {
	ID        int64           `json:"id"`
	Channel   string          `json:"channel"`
	Sender    string          `json:"sender"`
	Title     string          `json:"title"`
	Text      string          `json:"text"` // CommonMark
	Facts     json.RawMessage `json:"facts"`
	Tone      string          `json:"tone"`
	Link      json.RawMessage `json:"link,omitempty"`
	Under     *int64          `json:"under,omitempty"`
	Key       *string         `json:"-"`
	Author    string          `json:"author,omitempty"` // of what a person said; empty for a sender's post
	Mentions  columns.Texts   `json:"mentions,omitempty" gorm:"type:text[]"`
	Images    json.RawMessage `json:"images,omitempty"`
	Reactions []tally         `json:"reactions,omitempty" gorm:"-"`
	At        time.Time       `json:"at"`
	EditedAt  *time.Time      `json:"edited_at,omitempty"`
	Body      []message.Block `json:"body" gorm:"-"` // the text, read

	Called  string          `json:"called,omitempty"` // the sender's name, where a post brings one
	Face    *int64          `json:"face,omitempty"`   // the sender's picture, where a post brings one
	Picture json.RawMessage `json:"picture,omitempty"`
	Links   json.RawMessage `json:"links,omitempty"` // besides Link
	Buttons ownButtons      `json:"buttons,omitempty" gorm:"type:jsonb"`
	Why     string          `json:"why,omitempty"` // the address of a page that says why it was posted
	Mark    string          `json:"-"`             // of the kind of program that posted it
}

func (squarePost) TableName() string { return "practice.posts" }

func (s *Server) squareRoutes(r chi.Router) {
	r.Get("/square/channels", s.listChannels)
	r.Get("/square/channels/{name}/posts", s.listPosts)
	r.Put("/square/channels/{name}/members/{sender}", s.member(true))
	r.Delete("/square/channels/{name}/members/{sender}", s.member(false))
	r.Get("/square/channels/{name}/webhook", s.showWebhook)
	r.Post("/square/channels/{name}/webhook", s.renewWebhook)
	r.Delete("/square/channels/{name}/webhook", s.withdrawWebhook)
	r.Post("/square/posts", s.tokenPost)
	r.Put("/square/posts/{post}", s.tokenEdit)
	r.Get("/square/posts/{id}", s.onePost)
	r.Post("/square/posts/{id}/press", s.press)
	r.Post("/square/pictures", s.takePicture)
	r.Get("/square/pictures/{id}", s.showPicture)
	s.roomRoutes(r)
	r.Post("/square/hooks/{token}", s.hookPost)
}

func (s *Server) listChannels(w http.ResponseWriter, r *http.Request) {
	var list []channel
	if err := s.db.WithContext(r.Context()).Order("name").Limit(200).Find(&list).Error; err != nil {
		problem(w, http.StatusInternalServerError, "%v", err)
		return
	}
	answer(w, http.StatusOK, list)
}

func (s *Server) listPosts(w http.ResponseWriter, r *http.Request) {
	q := s.db.WithContext(r.Context()).Where("channel = ? AND NOT gone", channelName(r))
	if before := number(r, "before", 0, 1<<62); before > 0 {
		q = q.Where("id < ?", before)
	}
	posts := []squarePost{}
	if err := q.Order("id DESC").Limit(number(r, "limit", 50, 200)).Find(&posts).Error; err != nil {
		problem(w, http.StatusInternalServerError, "%v", err)
		return
	}
	if err := s.countReactions(r.Context(), posts); err != nil {
		problem(w, http.StatusInternalServerError, "%v", err)
		return
	}
	for i := range posts {
		posts[i].Buttons = posts[i].Buttons.shown()
		posts[i].Body = message.ReadMarkdown(posts[i].Text)
	}
	answer(w, http.StatusOK, posts)
}

// onePost gives one post, for whoever follows a link to it.
func (s *Server) onePost(w http.ResponseWriter, r *http.Request) {
	var p squarePost
	if err := s.db.WithContext(r.Context()).First(&p, "id = ? AND NOT gone", idOf(r)).Error; err != nil {
		problem(w, http.StatusNotFound, "there is no such post any more")
		return
	}
	p.Buttons = p.Buttons.shown()
	answer(w, http.StatusOK, p)
}

func (s *Server) member(in bool) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		sql := "UPDATE practice.channels SET members = array_append(array_remove(members, ?), ?) WHERE name = ?"
		if !in {
			sql = "UPDATE practice.channels SET members = array_remove(array_remove(members, ?), ?) WHERE name = ?"
		}
		name, sender := channelName(r), chi.URLParam(r, "sender")
		res := s.db.WithContext(r.Context()).Exec(sql, sender, sender, name)
		if res.Error != nil || res.RowsAffected == 0 {
			problem(w, http.StatusNotFound, "there is no channel %s", name)
			return
		}
		s.events.tell(liveEvent{Topic: "channels", Channel: name})
		w.WriteHeader(http.StatusNoContent)
	}
}

func channelName(r *http.Request) string {
	return "#" + strings.TrimPrefix(chi.URLParam(r, "name"), "#")
}

// showWebhook tells a channel's own address, by which anyone who knows it may post.
func (s *Server) showWebhook(w http.ResponseWriter, r *http.Request) {
	var c channel
	err := s.db.WithContext(r.Context()).First(&c, "name = ? AND NOT withdrawn AND hook_token <> ''", channelName(r)).Error
	if err != nil {
		problem(w, http.StatusNotFound, "%s has no webhook", channelName(r))
		return
	}
	answer(w, http.StatusOK, map[string]string{"path": "/square/hooks/" + c.HookToken})
}

// renewWebhook gives the channel a new address; the old one is gone.
func (s *Server) renewWebhook(w http.ResponseWriter, r *http.Request) {
	raw := make([]byte, 12)
	_, _ = rand.Read(raw)
	s.setWebhook(w, r, hex.EncodeToString(raw), false)
}

// withdrawWebhook takes the channel's address away.
func (s *Server) withdrawWebhook(w http.ResponseWriter, r *http.Request) {
	s.setWebhook(w, r, "", true)
}

func (s *Server) setWebhook(w http.ResponseWriter, r *http.Request, token string, withdrawn bool) {
	res := s.db.WithContext(r.Context()).Exec("UPDATE practice.channels SET hook_token = ?, withdrawn = ? WHERE name = ?", token, withdrawn, channelName(r))
	switch {
	case res.Error != nil || res.RowsAffected == 0:
		problem(w, http.StatusNotFound, "there is no channel %s", channelName(r))
	case withdrawn:
		w.WriteHeader(http.StatusNoContent)
	default:
		s.showWebhook(w, r)
	}
}

// incoming is what a sender posts.
type incoming struct {
	Channel string          `json:"channel"`
	Title   string          `json:"title"`
	Text    string          `json:"text"`
	Facts   []message.Fact  `json:"facts"`
	Tone    string          `json:"tone"`
	Link    *message.Link   `json:"link"`
	Under   json.RawMessage `json:"under"`

	Links    []message.Link `json:"links"`
	Mentions []string       `json:"mentions"` // names of people here
	Picture  *ownPicture    `json:"picture"`
	Sender   *ownSender     `json:"sender"`
	Buttons  ownButtons     `json:"buttons"`
	Why      string         `json:"why"`
	Mark     string         `json:"mark"` // what a kind of program marks its posts by, so that none of them answers another
}

// ownPicture is a picture of a post, which was handed over before; ownSender is whom a post is shown as coming from.
type (
	ownPicture struct {
		ID   string `json:"id"`
		Text string `json:"text"`
	}
	ownSender struct {
		Name    string `json:"name"`
		Picture string `json:"picture"` // handed over before
	}
)

func (s *Server) tokenPost(w http.ResponseWriter, r *http.Request) {
	if sender := s.senderOf(w, r); sender != "" {
		s.receive(w, r, sender, "")
	}
}

// senderOf names the sender by its token, and answers the request where it is not known.
func (s *Server) senderOf(w http.ResponseWriter, r *http.Request) string {
	token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	var sender string
	if ok {
		_ = s.db.WithContext(r.Context()).Raw("SELECT sender FROM practice.tokens WHERE token = ?", token).Scan(&sender).Error
	}
	if sender == "" {
		w.Header().Set("WWW-Authenticate", "Bearer")
		problem(w, http.StatusUnauthorized, "the token is missing or not known")
	}
	return sender
}

func (s *Server) hookPost(w http.ResponseWriter, r *http.Request) {
	var c channel
	err := s.db.WithContext(r.Context()).First(&c, "hook_token = ? AND hook_token <> ''", chi.URLParam(r, "token")).Error
	if err != nil || c.Withdrawn {
		problem(w, http.StatusNotFound, "this webhook does not exist or has been withdrawn")
		return
	}
	in, err := readNote(http.MaxBytesReader(w, r.Body, 256<<10))
	if err != nil {
		problem(w, http.StatusUnprocessableEntity, "%v", err)
		return
	}
	in.Channel = c.Name
	if s.held(w, "webhook") {
		return
	}
	if status, err := s.allowed(r.Context(), in, "webhook", true); err != nil {
		problem(w, status, "%v", err)
		return
	}
	s.keep(w, r, in, "webhook")
}

// receive checks a post against the square's limits and keeps it. A key that has been seen from the
// sender gives the first post back.
func (s *Server) receive(w http.ResponseWriter, r *http.Request, sender, fixed string) {
	var in incoming
	if !s.take(w, r, sender, fixed, &in) {
		return
	}
	s.keep(w, r, &in, sender)
}

// keep keeps a post that is allowed, and answers.
func (s *Server) keep(w http.ResponseWriter, r *http.Request, in *incoming, sender string) {
	post, err := s.keepPost(r.Context(), in, sender, r.Header.Get("Idempotency-Key"))
	if err != nil {
		problem(w, http.StatusBadRequest, "%v", err)
		return
	}
	s.events.tell(liveEvent{Topic: "posts", Channel: post.Channel})
	answer(w, http.StatusCreated, map[string]any{"id": strconv.FormatInt(post.ID, 10), "link": fmt.Sprintf("/practice?post=%d", post.ID)})
}

// held answers a sender that posts too fast.
func (s *Server) held(w http.ResponseWriter, sender string) bool {
	wait := s.limits.wait(sender)
	if wait > 0 {
		w.Header().Set("Retry-After", strconv.Itoa(int(wait/time.Second)+1))
		problem(w, http.StatusTooManyRequests, "too many posts from %s; try again after %d s", sender, int(wait/time.Second)+1)
	}
	return wait > 0
}

// take reads a post and holds it to the square's limits; where it cannot be taken, it answers.
func (s *Server) take(w http.ResponseWriter, r *http.Request, sender, fixed string, in *incoming) bool {
	if s.held(w, sender) {
		return false
	}
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 256<<10)).Decode(in); err != nil {
		problem(w, http.StatusBadRequest, "the body is not a post in JSON: %v", err)
		return false
	}
	if fixed != "" {
		in.Channel = fixed
	}
	if status, err := s.allowed(r.Context(), in, sender, fixed != ""); err != nil {
		problem(w, status, "%v", err)
		return false
	}
	return true
}

func (s *Server) allowed(ctx context.Context, in *incoming, sender string, byHook bool) (int, error) {
	var c channel
	if err := s.db.WithContext(ctx).First(&c, "name = ?", in.Channel).Error; err != nil {
		return http.StatusNotFound, fmt.Errorf("there is no channel %s", in.Channel)
	}
	if c.Private && !byHook && !slices.Contains(c.Members, sender) {
		return http.StatusForbidden, fmt.Errorf("%s is not in the private channel %s; a member must let it in first", sender, c.Name)
	}
	switch {
	case in.Title == "" && in.Text == "" && len(in.Facts) == 0:
		return http.StatusBadRequest, errors.New("the post is empty")
	case len([]rune(in.Title)) > maxTitle:
		return http.StatusRequestEntityTooLarge, fmt.Errorf("the title has %d characters; %d are allowed", len([]rune(in.Title)), maxTitle)
	case len([]rune(in.Text)) > maxText:
		return http.StatusRequestEntityTooLarge, fmt.Errorf("the text has %d characters; %d are allowed", len([]rune(in.Text)), maxText)
	case len(in.Facts) > maxFacts:
		return http.StatusRequestEntityTooLarge, fmt.Errorf("there are %d facts; %d are allowed", len(in.Facts), maxFacts)
	}
	return 0, nil
}

func postOf(in *incoming, sender string) squarePost {
	if !slices.Contains(message.Tones, in.Tone) {
		in.Tone = "plain"
	}
	p := squarePost{Channel: in.Channel, Sender: sender, Title: in.Title, Text: in.Text, Tone: in.Tone, At: time.Now(), Mentions: columns.Texts{}, Images: json.RawMessage("[]")}
	p.Mark = in.Mark[:min(len(in.Mark), 40)]
	p.Facts, _ = json.Marshal(in.Facts)
	if in.Facts == nil {
		p.Facts = json.RawMessage("[]")
	}
	if in.Link != nil {
		p.Link, _ = json.Marshal(in.Link)
	}
	if p.Links, _ = json.Marshal(in.Links); in.Links == nil {
		p.Links = json.RawMessage("[]")
	}
	p.Mentions = append(p.Mentions, in.Mentions...)
	p.Buttons = in.Buttons[:min(len(in.Buttons), maxButtons)]
	if u, err := url.Parse(in.Why); err == nil && (u.Scheme == "http" || u.Scheme == "https") && len(in.Why) <= 1000 {
		p.Why = in.Why
	}
	if in.Picture != nil {
		p.Picture, _ = json.Marshal(in.Picture)
	}
	if in.Sender != nil {
		p.Called = in.Sender.Name
		if n, err := strconv.ParseInt(in.Sender.Picture, 10, 64); err == nil {
			p.Face = &n
		}
	}
	return p
}

// tokenEdit puts another text in the place of a sender's own post.
func (s *Server) tokenEdit(w http.ResponseWriter, r *http.Request) {
	sender := s.senderOf(w, r)
	var in incoming
	if sender == "" || !s.take(w, r, sender, "", &in) {
		return
	}
	id, err := strconv.ParseInt(chi.URLParam(r, "post"), 10, 64)
	p, now := postOf(&in, sender), time.Now()
	p.EditedAt = &now
	var was squarePost
	if s.db.WithContext(r.Context()).First(&was, "id = ?", id).Error == nil {
		p.Buttons.as(was.Buttons)
	}
	res := s.db.WithContext(r.Context()).Model(&squarePost{}).Where("id = ? AND sender = ? AND channel = ?", id, sender, in.Channel).
		Select("title", "text", "buttons", "facts", "tone", "link", "links", "picture", "mentions", "called", "face", "why", "edited_at").Updates(&p)
	switch {
	case err != nil || res.Error == nil && res.RowsAffected == 0:
		problem(w, http.StatusNotFound, "%s has no post %s in %s", sender, chi.URLParam(r, "post"), in.Channel)
	case res.Error != nil:
		problem(w, http.StatusInternalServerError, "%v", res.Error)
	default:
		s.events.tell(liveEvent{Topic: "posts", Channel: in.Channel})
		answer(w, http.StatusOK, map[string]any{"id": strconv.FormatInt(id, 10), "link": fmt.Sprintf("/practice?post=%d", id)})
	}
}

func (s *Server) keepPost(ctx context.Context, in *incoming, sender, key string) (*squarePost, error) {
	p := postOf(in, sender)
	if under := strings.Trim(string(in.Under), `" `); under != "" && under != "null" {
		id, err := strconv.ParseInt(under, 10, 64)
		if err != nil {
			return nil, fmt.Errorf("under: %q is no post", under)
		}
		p.Under = &id
	}
	if key != "" {
		p.Key = &key
	}
	err := s.db.WithContext(ctx).Omit("Body", "Reactions").Create(&p).Error
	if errors.Is(err, gorm.ErrDuplicatedKey) {
		err = s.db.WithContext(ctx).First(&p, "sender = ? AND key = ?", sender, key).Error
	}
	if errors.Is(err, gorm.ErrForeignKeyViolated) {
		return nil, errors.New("under: there is no such post")
	}
	return &p, err
}

// limits holds every sender to a rate.
type limits struct {
	perSecond float64
	burst     int
	mu        chan struct{}
	bySender  map[string]*rate.Limiter
}

func newLimits(perSecond float64, burst int) *limits {
	return &limits{perSecond: perSecond, burst: burst, mu: make(chan struct{}, 1), bySender: map[string]*rate.Limiter{}}
}

// wait is how long the sender must wait before its next post; 0 takes one from its allowance.
func (l *limits) wait(sender string) time.Duration {
	l.mu <- struct{}{}
	defer func() { <-l.mu }()
	lim := l.bySender[sender]
	if lim == nil {
		lim = rate.NewLimiter(rate.Limit(l.perSecond), l.burst)
		l.bySender[sender] = lim
	}
	r := lim.Reserve()
	if d := r.Delay(); d > 0 {
		r.Cancel()
		return d
	}
	return 0
}

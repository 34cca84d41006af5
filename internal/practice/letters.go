package practice

import (
	"bytes"
	"context"
	"errors"
	"io"
	"log"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/emersion/go-message/mail"
	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
	"github.com/go-chi/chi/v5"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"dorfbote/internal/practice/columns"
)

// The stand-in mailbox: a server that takes mail by SMTP for any address, and shows what came.

// letterRow is a mail that came.
type letterRow struct {
	ID      int64             `json:"id"`
	Message string            `json:"message"`
	Sender  string            `json:"sender"`
	Called  string            `json:"called"`
	ToList  columns.Texts     `json:"to" gorm:"type:text[]"`
	Subject string            `json:"subject"`
	Text    string            `json:"text"`
	Files   columns.JSONTexts `json:"files" gorm:"type:jsonb"`
	Under   string            `json:"under"`
	Raw     string            `json:"-"`
	At      time.Time         `json:"at"`
}

func (letterRow) TableName() string { return "practice.letters" }

// Limits of the stand-in mailbox, as any mail server has them.
const (
	maxLetter     = 15 << 20
	maxRecipients = 50
)

func (s *Server) letterRoutes(r chi.Router) {
	r.Get("/letters", s.listLetters)
	r.Get("/letters/{id}/raw", s.rawLetter)
}

func (s *Server) listLetters(w http.ResponseWriter, r *http.Request) {
	q := s.db.WithContext(r.Context()).Omit("Raw").Order("id DESC").Limit(number(r, "limit", 30, 200))
	if before := number(r, "before", 0, 1<<62); before > 0 {
		q = q.Where("id < ?", before)
	}
	if to := r.URL.Query().Get("to"); to != "" {
		q = q.Where("lower(?) = ANY (to_list)", to)
	}
	list := []letterRow{}
	if err := q.Find(&list).Error; err != nil {
		problem(w, http.StatusInternalServerError, "%v", err)
		return
	}
	answer(w, http.StatusOK, list)
}

func (s *Server) rawLetter(w http.ResponseWriter, r *http.Request) {
	var l letterRow
	if err := s.db.WithContext(r.Context()).First(&l, "id = ?", idOf(r)).Error; err != nil {
		problem(w, http.StatusNotFound, "there is no such mail")
		return
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	_, _ = io.WriteString(w, l.Raw)
}

// ServeMail takes mail at a listener until ctx ends. Whoever wants to send signs in, with a token of the square's as the password.
func (s *Server) ServeMail(ctx context.Context, l net.Listener) error {
	server := smtp.NewServer(&letterbox{s})
	server.ErrorLog = log.New(io.Discard, "", 0) // a line that breaks off is told to whoever called
	server.Domain, server.AllowInsecureAuth, server.EnableSMTPUTF8 = "mailbox.example", true, true
	server.MaxMessageBytes, server.MaxRecipients = maxLetter, maxRecipients
	server.ReadTimeout, server.WriteTimeout = time.Minute, time.Minute
	context.AfterFunc(ctx, func() { _ = server.Close() })
	if err := server.Serve(l); ctx.Err() == nil {
		return err
	}
	return nil
}

type letterbox struct{ s *Server }

// NewSession begins to speak to whoever called.
func (b *letterbox) NewSession(*smtp.Conn) (smtp.Session, error) {
	return &letterSession{box: b}, nil
}

type letterSession struct {
	box  *letterbox
	in   bool // signed in
	from string
	to   []string
}

// AuthMechanisms lists how one may sign in.
func (l *letterSession) AuthMechanisms() []string { return []string{sasl.Plain} }

// Auth signs in.
func (l *letterSession) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, _, password string) error {
		var sender string
		err := l.box.s.db.Raw("SELECT sender FROM practice.tokens WHERE token = ?", password).Scan(&sender).Error
		if l.in = err == nil && sender != ""; !l.in {
			return smtp.ErrAuthFailed
		}
		return nil
	}), nil
}

// Mail begins a mail.
func (l *letterSession) Mail(from string, _ *smtp.MailOptions) error {
	if !l.in {
		return &smtp.SMTPError{Code: 530, EnhancedCode: smtp.EnhancedCode{5, 7, 0}, Message: "sign in first"}
	}
	l.from, l.to = from, nil
	return nil
}

// Rcpt takes an address. There is nobody called nobody, whatever stands behind it.
func (l *letterSession) Rcpt(to string, _ *smtp.RcptOptions) error {
	if name, _, _ := strings.Cut(strings.ToLower(to), "@"); name == "nobody" {
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "there is nobody here by that name"}
	}
	l.to = append(l.to, strings.ToLower(to))
	return nil
}

// Data takes the mail itself. One whose Message-ID is known is the same mail, and taken as it is.
func (l *letterSession) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	row, err := letterOf(raw)
	if err != nil {
		return &smtp.SMTPError{Code: 554, EnhancedCode: smtp.EnhancedCode{5, 6, 0}, Message: "this is no mail that can be read"}
	}
	row.Sender, row.ToList, row.At = l.from, l.to, time.Now()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	if err := l.box.s.db.WithContext(ctx).Clauses(clause.OnConflict{DoNothing: true}).Create(row).Error; err != nil && !errors.Is(err, gorm.ErrDuplicatedKey) {
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 3, 0}, Message: "it cannot be kept at the moment"}
	}
	l.box.s.events.tell(liveEvent{Topic: "letters"})
	return nil
}

// Reset begins anew.
func (l *letterSession) Reset() { l.from, l.to = "", nil }

// Logout ends.
func (l *letterSession) Logout() error { return nil }

// letterOf reads a mail: its subject, its text and the names of its files.
func letterOf(raw []byte) (*letterRow, error) {
	mr, err := mail.CreateReader(bytes.NewReader(raw))
	if mr == nil {
		return nil, err
	}
	row := &letterRow{Raw: strings.ReplaceAll(strings.ToValidUTF8(string(raw), "\uFFFD"), "\x00", "\uFFFD"), Files: columns.JSONTexts{}}
	row.Subject, _ = mr.Header.Subject()
	if row.Message, _ = mr.Header.MessageID(); row.Message == "" {
		return nil, errors.New("it has no Message-ID")
	}
	if from, err := mr.Header.AddressList("From"); err == nil && len(from) > 0 {
		row.Called = from[0].Name
	}
	if under, err := mr.Header.MsgIDList("In-Reply-To"); err == nil && len(under) > 0 {
		row.Under = under[0]
	}
	for range 100 {
		p, _ := mr.NextPart()
		if p == nil {
			break // at its end, or where it is no mail any more: what came before is kept
		}
		switch h := p.Header.(type) {
		case *mail.InlineHeader:
			media, _, _ := h.ContentType()
			body, _ := io.ReadAll(io.LimitReader(p.Body, 100<<10))
			if media == "text/plain" && row.Text == "" {
				row.Text = strings.TrimSpace(string(body))
			}
		case *mail.AttachmentHeader:
			if name, err := h.Filename(); err == nil && !slices.Contains(row.Files, name) {
				row.Files = append(row.Files, name)
			}
		}
	}
	return row, nil
}

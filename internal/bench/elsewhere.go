package bench

import (
	"context"
	"fmt"
	"io"
	"log"
	"log/slog"
	"net"
	"net/http"
	"runtime"
	"sync"
	"time"

	"github.com/emersion/go-smtp"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine"
	"dorfbote/internal/store"
)

// How many posts each of these measures sends.
const (
	postsOnePlace = 3000
	postsManyEach = 100 // to each of 50 places
	places        = 50
	mails         = 1500
)

// silentMail is a mail server that takes everything and keeps nothing.
type silentMail struct{}

func (silentMail) NewSession(*smtp.Conn) (smtp.Session, error) { return silentMail{}, nil }
func (silentMail) Mail(string, *smtp.MailOptions) error        { return nil }
func (silentMail) Rcpt(string, *smtp.RcptOptions) error        { return nil }
func (silentMail) Reset()                                      {}
func (silentMail) Logout() error                               { return nil }
func (silentMail) Data(r io.Reader) error                      { _, err := io.Copy(io.Discard, r); return err }

// measureElsewhere sends posts that wait in the outbox to a webhook's places and to a mail server, beside bare loops of the same
// calls.
func measureElsewhere(ctx context.Context, url string) ([]Row, error) {
	st, err := store.Open(ctx, url, 20)
	if err != nil {
		return nil, err
	}
	defer st.Close()
	if err := st.Migrate(ctx); err != nil {
		return nil, err
	}
	e, err := engine.New(st, value.DefaultWorkspace(), slog.New(slog.DiscardHandler))
	if err != nil {
		return nil, err
	}
	if e.Env, err = connect.NewEnv(e.Workspace, "127.0.0.0/8"); err != nil {
		return nil, err
	}
	hook, office, stop, err := sides()
	if err != nil {
		return nil, err
	}
	defer stop()
	list := ""
	for i := range places {
		list += fmt.Sprintf("p%d %s/in/%d\n", i, hook, i)
	}
	sealed, err := e.Box.Seal(map[string]string{"places": list}, "elsewhere")
	if err != nil {
		return nil, err
	}
	w := store.Workflow{Name: "Elsewhere", Draft: "x", CreatedAt: time.Now(), UpdatedAt: time.Now()}
	hooks := store.Connection{ID: "elsewhere", Kind: "webhook", Title: "W", Settings: store.Texts{"shape": "title, text and facts", "id": "$.id"}, Sealed: sealed, CreatedAt: time.Now()}
	mailbox := store.Connection{ID: "mailbench", Kind: "mail", Title: "M", Settings: store.Texts{"smtp": office, "smtp_security": "not at all", "from": "desk@lindental.example"}, CreatedAt: time.Now()}
	for _, row := range []any{&w, &hooks, &mailbox} {
		if err := st.DB.WithContext(ctx).Create(row).Error; err != nil {
			return nil, err
		}
	}
	if err := e.Start(ctx); err != nil {
		return nil, err
	}
	defer e.Stop()
	var rows []Row
	for _, m := range []struct {
		what       string
		connection *store.Connection
		to         []string
		each       int
	}{
		{"posts a second to one place of a webhook", &hooks, []string{"p0"}, postsOnePlace},
		{fmt.Sprintf("posts a second to %d places of a webhook", places), &hooks, names(places), postsManyEach},
		{"mails a second to one address by SMTP", &mailbox, []string{"ann@farm.example"}, mails},
	} {
		bare, err := bareLoop(ctx, e, m.connection, m.to, m.each)
		if err != nil {
			return nil, err
		}
		rate, heap, err := drained(ctx, e, w.ID, m.connection.ID, m.to, m.each)
		if err != nil {
			return nil, err
		}
		rows = append(rows, Row{m.what, num(rate) + ", " + ratio(rate/bare), fmt.Sprintf("a bare loop of the same calls: %s; heap in use %d MiB", num(bare), heap>>20)})
	}
	return rows, nil
}

func names(n int) []string {
	out := make([]string, n)
	for i := range out {
		out[i] = fmt.Sprintf("p%d", i)
	}
	return out
}

// sides are a webhook's other side and a mail server.
func sides() (hook, office string, stop func(), err error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", "", nil, err
	}
	server := &http.Server{ReadHeaderTimeout: time.Minute, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		_, _ = w.Write([]byte(`{"id":"1"}`))
	})}
	go func() { _ = server.Serve(l) }()
	m, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", "", nil, err
	}
	mail := smtp.NewServer(silentMail{})
	mail.Domain, mail.ErrorLog = "mail.example", log.New(io.Discard, "", 0)
	go func() { _ = mail.Serve(m) }()
	return "http://" + l.Addr().String(), m.Addr().String(), func() { _ = server.Close(); _ = mail.Close() }, nil
}

func sample(n int) *message.Document {
	return &message.Document{
		Title: fmt.Sprintf("COL-%d: Sonnleiten is waiting", n), Tone: "warning", Facts: []message.Fact{{Label: "Driver", Value: "Petra"}}, Link: &message.Link{Text: "Open", To: "https://tours.example/1"},
		Body: []message.Block{{Kind: message.Paragraph, Inlines: []message.Inline{{Kind: message.Text, Text: "1240 litres in the Upper valley, 1 h 20 min late."}}}},
	}
}

// bareLoop makes the same calls one after the other for each place, without an outbox: how many a second.
func bareLoop(ctx context.Context, e *engine.Engine, c *store.Connection, to []string, each int) (float64, error) {
	config, err := e.Sources.Config(c)
	if err != nil {
		return 0, err
	}
	conn, err := kinds.Named(c.Kind).Open(config)
	if err != nil {
		return 0, err
	}
	defer conn.Close()
	sender := conn.(connect.Sender)
	began := time.Now()
	var wg sync.WaitGroup
	var failed error
	for _, place := range to {
		wg.Go(func() {
			for i := range each {
				if d := sender.Send(ctx, connect.Post{Place: place, Doc: sample(i), Key: fmt.Sprintf("bare-%s-%d", place, i)}); !d.Taken {
					failed = fmt.Errorf("%s: %s", place, d.Answer)
					return
				}
			}
		})
	}
	wg.Wait()
	return float64(len(to)*each) / time.Since(began).Seconds(), failed
}

// drained puts posts into the outbox and has them sent: how many a second, and how much memory was in use then.
func drained(ctx context.Context, e *engine.Engine, workflow int64, connection string, to []string, each int) (rate float64, heap uint64, err error) {
	db := e.Store.DB.WithContext(ctx)
	for _, place := range to {
		name := connection + "/" + place
		if err := db.Exec("INSERT INTO destinations (name, connection, title) VALUES (?, ?, ?) ON CONFLICT DO NOTHING", name, connection, place).Error; err != nil {
			return 0, 0, err
		}
		posts := make([]store.Post, each)
		for i := range posts {
			body, err := sample(i).JSON()
			if err != nil {
				return 0, 0, err
			}
			posts[i] = store.Post{Workflow: workflow, Arrival: 1, Destination: name, Message: "alert", Body: body, Title: sample(i).Title, Key: fmt.Sprintf("bench-%d-%s-%d", len(to), name, i), State: store.Waiting, CreatedAt: time.Now()}
		}
		if err := db.CreateInBatches(posts, 500).Error; err != nil {
			return 0, 0, err
		}
	}
	runtime.GC()
	began := time.Now()
	for _, place := range to {
		if err := e.Outbox.Wake(ctx, connection+"/"+place); err != nil {
			return 0, 0, err
		}
	}
	var mem runtime.MemStats
	for {
		var left int64
		if err := db.Raw("SELECT count(*) FROM posts WHERE state = 'waiting'").Scan(&left).Error; err != nil {
			return 0, 0, err
		}
		if runtime.ReadMemStats(&mem); mem.HeapInuse > heap {
			heap = mem.HeapInuse
		}
		if left == 0 {
			break
		}
		if time.Since(began) > 3*time.Minute {
			return 0, 0, fmt.Errorf("%d posts still wait", left)
		}
		time.Sleep(20 * time.Millisecond)
	}
	return float64(len(to)*each) / time.Since(began).Seconds(), heap, nil
}

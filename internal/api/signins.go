package api

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"gorm.io/gorm"

	"dorfbote/internal/store"
)

// SignInItem is one of a person's sessions.
type SignInItem struct {
	ID      int64     `json:"id"`
	Person  int64     `json:"person"`
	At      time.Time `json:"at"`
	SeenAt  time.Time `json:"seen_at"`
	Address string    `json:"address" doc:"where from"`
	Program string    `json:"program" doc:"the browser, as it names itself"`
	Current bool      `json:"current" doc:"this one"`
}

type signInsInput struct {
	Person int64 `query:"person" doc:"somebody else's, for administrators"`
}

func (s *Server) signInsRoutes() {
	register(s, op("list-sign-ins", http.MethodGet, "/api/sign-ins", "Where one is signed in", "People"), anyone, s.listSignIns)
	register(s, op("end-sign-in", http.MethodPost, "/api/sign-ins/{id}/end", "End a session", "People"), anyone, s.endSignIn)
	register(s, op("end-other-sign-ins", http.MethodPost, "/api/sign-ins/end-others", "End every session but this one", "People"), anyone, func(ctx context.Context, who *Person, _ *struct{}) (*struct{}, error) {
		return nil, s.endSignIns(ctx, who.ID, who.SignIn)
	})
}

func (s *Server) listSignIns(ctx context.Context, who *Person, in *signInsInput) (*listOutput[SignInItem], error) {
	person := who.ID
	if in.Person != 0 && in.Person != who.ID {
		if who.Role != "administrator" {
			return nil, huma.Error403Forbidden("only administrators see where others are signed in")
		}
		person = in.Person
	}
	var items []SignInItem
	err := s.store.DB.WithContext(ctx).Raw(`SELECT id, person, at, seen_at, address, program, id = ? AS current FROM sign_ins
		WHERE person = ? AND ended_at IS NULL AND seen_at > ? ORDER BY seen_at DESC LIMIT 200`, who.SignIn, person, time.Now().Add(-s.sessions.Lifetime)).Scan(&items).Error
	return list(items, 0), err
}

func (s *Server) endSignIn(ctx context.Context, who *Person, in *idInput) (*struct{}, error) {
	// Somebody else's is answered like one that does not exist, but to an administrator.
	res := s.store.DB.WithContext(ctx).Exec("UPDATE sign_ins SET ended_at = now() WHERE id = ? AND ended_at IS NULL AND (person = ? OR ?)", in.ID, who.ID, who.Role == "administrator")
	if res.Error == nil && res.RowsAffected == 0 {
		return nil, gorm.ErrRecordNotFound
	}
	return nil, res.Error
}

// endSignIns ends a person's sessions but one.
func (s *Server) endSignIns(ctx context.Context, person, but int64) error {
	return s.store.DB.WithContext(ctx).Exec("UPDATE sign_ins SET ended_at = now() WHERE person = ? AND ended_at IS NULL AND id <> ?", person, but).Error
}

// signInAs signs a person in.
func (s *Server) signInAs(ctx context.Context, p store.Person) (*personOutput, error) {
	if err := s.sessions.RenewToken(ctx); err != nil {
		return nil, err
	}
	from, _ := ctx.Value(callerKey{}).(caller)
	var id int64
	if err := s.store.DB.WithContext(ctx).Raw("INSERT INTO sign_ins (person, address, program) VALUES (?, ?, ?) RETURNING id", p.ID, from.address, from.program).Scan(&id).Error; err != nil {
		return nil, s.plainError("sign-in", err)
	}
	s.sessions.Put(ctx, sessionPerson, p.ID)
	s.sessions.Put(ctx, sessionSignIn, id)
	return &personOutput{Person{ID: p.ID, Name: p.Name, Email: p.Email, Role: p.Role, SignIn: id}}, nil
}

type callerKey struct{}

// caller is where a request comes from.
type caller struct{ address, program string }

// notesCaller keeps where a request comes from for whoever is to know it.
func notesCaller(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host, _, err := net.SplitHostPort(r.RemoteAddr)
		if err != nil {
			host = r.RemoteAddr
		}
		program := r.UserAgent()
		if len(program) > 300 {
			program = program[:300]
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), callerKey{}, caller{host, program})))
	})
}

// The limits on guessing passwords, over all processes: so many wrong ones within a while, for a name from one address,
// for a name from anywhere, and for an address that tries many names.
const (
	guessesFromOne    = 10
	guessesPerName    = 40
	guessesPerAddress = 60
	guessesWithin     = 10 * time.Minute
)

// guesses counts wrong passwords.
type guesses struct{ store *store.Store }

type guessKey struct {
	key   string
	limit int
}

// keys are what a guess counts for. This machine's own address is a proxy's, behind which everybody is: it counts for
// nothing by itself.
func (g *guesses) keys(ctx context.Context, name string) []guessKey {
	from, _ := ctx.Value(callerKey{}).(caller)
	out := []guessKey{{"name " + name + " from " + from.address, guessesFromOne}, {"name " + name, guessesPerName}}
	if ip := net.ParseIP(from.address); ip != nil && !ip.IsLoopback() {
		out = append(out, guessKey{"address " + from.address, guessesPerAddress})
	}
	return out
}

// wait is how long a name must not be tried.
func (g *guesses) wait(ctx context.Context, name string) time.Duration {
	longest := time.Duration(0)
	for _, k := range g.keys(ctx, name) {
		var since *time.Time
		err := g.store.DB.WithContext(ctx).Raw("SELECT since FROM guesses WHERE name = ? AND tries >= ? AND since > ?", k.key, k.limit, time.Now().Add(-guessesWithin)).Scan(&since).Error
		if err == nil && since != nil {
			longest = max(longest, time.Until(since.Add(guessesWithin)))
		}
	}
	return longest
}

func (g *guesses) failed(ctx context.Context, name string) {
	for _, k := range g.keys(ctx, name) {
		_ = g.store.DB.WithContext(ctx).Exec(`INSERT INTO guesses (name, tries, since) VALUES (?, 1, now())
			ON CONFLICT (name) DO UPDATE SET tries = CASE WHEN guesses.since < ? THEN 1 ELSE guesses.tries + 1 END, since = CASE WHEN guesses.since < ? THEN now() ELSE guesses.since END`,
			k.key, time.Now().Add(-guessesWithin), time.Now().Add(-guessesWithin)).Error
	}
}

func (g *guesses) right(ctx context.Context, name string) {
	from := g.keys(ctx, name)[0].key // who guesses from elsewhere is not let off by it
	_ = g.store.DB.WithContext(ctx).Exec("DELETE FROM guesses WHERE name = ? OR since < ?", from, time.Now().Add(-24*time.Hour)).Error
}

func tooManyGuesses(wait time.Duration) error {
	words := fmt.Sprintf("too many tries with a wrong password; wait %d minutes", int(wait.Minutes())+1)
	return huma.ErrorWithHeaders(huma.Error429TooManyRequests(words), http.Header{"Retry-After": {fmt.Sprint(int(wait.Seconds()) + 1)}})
}

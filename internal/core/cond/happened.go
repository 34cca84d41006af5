package cond

import "dorfbote/internal/core/formula"

// What people may have done with an alert, which what follows on it can ask for.
const (
	Claimed  = "claimed"  // somebody looks after it
	Answered = "answered" // somebody replied to it
)

// happened asks whether people did something with an alert.
type happened struct {
	path, what string
	want       bool
}

func (h *happened) Path() string { return h.path }

func (h *happened) text() string {
	words := map[string]string{Claimed: "somebody takes it", Answered: "somebody answers"}[h.what]
	if !h.want {
		words = map[string]string{Claimed: "nobody takes it", Answered: "nobody answers"}[h.what]
	}
	return words
}

func (h *happened) Words(each func(path, words string)) { each(h.path, h.text()) }

func (h *happened) Eval(sc *formula.Scope) Tri {
	did := sc.Claimed
	if h.what == Answered {
		did = sc.Replied
	}
	return tri(did == h.want)
}

// Judge gives the outcome and its own path.
func (h *happened) Judge(sc *formula.Scope) (Tri, string) { return h.Eval(sc), h.path }

func (h *happened) Explain(sc *formula.Scope) Line {
	return Line{Path: h.path, Result: h.Eval(sc).String(), Text: h.text()}
}

func (h *happened) Decider(*formula.Scope) (string, error) { return h.path, nil }

// IsHappened tells whether a condition asks only what people did with an alert.
func IsHappened(n Node) bool {
	_, ok := n.(*happened)
	return ok
}

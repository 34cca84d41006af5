// Package worth finds how a workflow could tell less while every alert that was of use would still be told.
package worth

import (
	"encoding/json"
	"errors"
	"fmt"
	"strconv"

	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// Alert is something that was told, and whether it was of use.
type Alert struct {
	Record map[string]any
	Led    bool // somebody took it, answered it, pressed one of its buttons, or found it useful
}

// The kinds of proposals.
const (
	Threshold = "threshold" // a bound that stands in the sheet is moved
	Narrow    = "narrow"    // a bound is added
	LeaveOut  = "leave out" // some values are left out
	Digest    = "digest"    // one message a day instead of many
)

// Proposal is one way to tell less.
type Proposal struct {
	Kind    string
	Path    string         // of what changes, such as keep.all[0]
	Words   string         // what changes
	Because string         // what speaks for it
	Sheet   map[string]any // the sheet as it would be
}

// What a proposal needs, so that it rests on more than chance.
const (
	leastAlerts = 5   // that were told at all
	leastLed    = 3   // of use, where a condition is added that nobody thought of
	leastGone   = 3   // that would not be told any more
	partMoved   = 0.2 // of those of no use that a moved bound leaves out at least
	partAdded   = 0.4 // the same of a condition that is added
	mostValues  = 12  // that a field may have for some of them to be left out
	digestFrom  = 10  // alerts from which a digest is worth while
)

// Propose finds ways to tell less, the surest first: bounds that stand there moved, a condition added, a digest. Each keeps
// every alert that was of use, as far as its record tells; a rehearsal shows it of the whole sheet. The sheet is as JSON has
// it, and every proposal compiles as it does.
func Propose(text []byte, known sheet.Known, alerts []Alert) ([]Proposal, error) {
	known.Lenient = true // as the version that is on is read
	plan, _, _ := sheet.Compile(text, known)
	if plan == nil || len(alerts) < leastAlerts {
		return nil, nil
	}
	f := finder{text: text, plan: plan, schema: plan.Terms.Schema, ws: plan.Terms.Workspace, alerts: alerts}
	for _, a := range alerts {
		if a.Led {
			f.led++
		}
	}
	var found []Proposal
	if f.led > 0 && f.led < len(alerts) {
		moved, err := f.moved()
		if err != nil {
			return nil, err
		}
		found = append(found, moved...)
		if len(moved) == 0 {
			added, err := f.added()
			if err != nil {
				return nil, err
			}
			found = append(found, added...)
		}
	}
	if d, err := f.digest(); err != nil {
		return nil, err
	} else if d != nil {
		found = append(found, *d)
	}
	sound := found[:0]
	for _, p := range found {
		raw, err := json.Marshal(p.Sheet)
		if err != nil {
			return nil, err
		}
		if plan, _, _ := sheet.Compile(raw, known); plan != nil {
			sound = append(sound, p)
		}
	}
	return sound, nil
}

// finder looks for proposals for one sheet.
type finder struct {
	text   []byte
	plan   *sheet.Plan
	schema *value.Schema
	ws     value.Workspace
	alerts []Alert
	led    int
}

// copy gives the sheet to be changed.
func (f finder) copy() (map[string]any, error) {
	raw, err := sheet.JSON(f.text)
	if err != nil {
		return nil, err
	}
	v, err := value.ReadJSON(raw)
	if err != nil {
		return nil, err
	}
	m, ok := v.(map[string]any)
	if !ok {
		return nil, errors.New("the sheet is no object")
	}
	return m, nil
}

func (f finder) label(field string) string {
	if s, _, ok := f.schema.Find(value.ParsePath(field)); ok && s.Label != "" {
		return s.Label
	}
	return value.LabelOf(field)
}

// because says what a proposal does to those that were told.
func (f finder) because(gone int) string {
	return fmt.Sprintf("Of %d alerts %s led to something; %s of the others would not be told any more, and every one that was of use still would.", len(f.alerts), few(f.led), few(gone))
}

func few(n int) string {
	if n == 0 {
		return "none"
	}
	return strconv.Itoa(n)
}

// digest proposes one message a day, where nothing of the sheet needs to be told at once.
func (f finder) digest() (*Proposal, error) {
	p := f.plan
	if len(f.alerts) < digestFrom || 2*f.led > len(f.alerts) || p.Pace != nil && p.Pace.Digest || p.AsksFor() || p.Trigger.Moments != nil || len(p.Questions) > 0 {
		return nil, nil
	}
	s, err := f.copy()
	if err != nil {
		return nil, err
	}
	if atOnce(s) {
		return nil, nil
	}
	pace, _ := s["pace"].(map[string]any)
	if pace == nil {
		pace = map[string]any{}
	}
	pace["digest"] = map[string]any{"at": "07:00"}
	s["pace"] = pace
	return &Proposal{
		Kind: Digest, Path: "pace.digest", Sheet: s, Words: "Everything in one message a day, at 07:00",
		Because: fmt.Sprintf("Of %d alerts %s led to something. Nothing is lost: each still stands in the message of its day.", len(f.alerts), few(f.led)),
	}, nil
}

// atOnce tells whether a sheet says of what it tells that somebody acts on it as it comes: with buttons, by being kept up, or
// by being told to others where nobody takes it.
func atOnce(sheet map[string]any) bool {
	found := false
	var walk func(v any)
	walk = func(v any) {
		switch x := v.(type) {
		case map[string]any:
			for name, inner := range x {
				found = found || name == "keep_up" || name == "buttons" || name == "unless" || name == "useful_for"
				walk(inner)
			}
		case []any:
			for _, inner := range x {
				walk(inner)
			}
		}
	}
	walk(sheet["messages"])
	walk(sheet["route"])
	walk(sheet["follow"])
	walk(sheet["pace"])
	return found
}

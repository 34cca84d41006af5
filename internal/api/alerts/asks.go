package alerts

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"gorm.io/gorm"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/engine/alerts"
	"dorfbote/internal/engine/decider"
	"dorfbote/internal/store"
)

// ChoiceItem is one of the answers that there are.
type ChoiceItem struct {
	Name    string `json:"name"`
	Text    string `json:"text"`
	Comment string `json:"comment" enum:"none,optional,required"`
}

// GivenItem is what one of those who were asked has answered.
type GivenItem struct {
	Place   string    `json:"place"`
	By      string    `json:"by"`
	Choice  string    `json:"choice"`
	Comment string    `json:"comment"`
	At      time.Time `json:"at"`
}

// AskItem is a question that was put about an arrival.
type AskItem struct {
	ID         int64             `json:"id"`
	Name       string            `json:"name" doc:"on the sheet"`
	Title      string            `json:"title"`
	Workflow   string            `json:"workflow"`
	WorkflowID int64             `json:"workflow_id"`
	Arrival    int64             `json:"arrival"`
	Source     string            `json:"source"`
	Key        string            `json:"key" doc:"of the record"`
	State      string            `json:"state" enum:"open,decided,withdrawn"`
	All        bool              `json:"all" doc:"everybody is to agree"`
	Asked      []string          `json:"asked" doc:"the places"`
	Open       []string          `json:"open" doc:"those that have not answered"`
	Yours      []string          `json:"yours" doc:"those through which whoever looks can answer"`
	Choices    []ChoiceItem      `json:"choices"`
	Given      []GivenItem       `json:"given"`
	Answer     *GivenItem        `json:"answer" doc:"what it came to; null while it is open, and where it was withdrawn"`
	PutAt      time.Time         `json:"put_at"`
	WentAt     *time.Time        `json:"went_at" doc:"null while it waits for opening hours"`
	EndsAt     *time.Time        `json:"ends_at"`
	Otherwise  string            `json:"otherwise" doc:"the choice where nobody answers in time"`
	Doc        *message.Document `json:"doc" doc:"the question as it was put; in lists it is left out"`
}

type asksInput struct {
	Of       string `query:"of" enum:"me,all" default:"me"`
	State    string `query:"state" enum:"open,decided,withdrawn,any" default:"open"`
	Arrival  int64  `query:"arrival"`
	Workflow int64  `query:"workflow"`
	Before   int64  `query:"before" doc:"questions put before this one"`
	Limit    int    `query:"limit" default:"50" minimum:"1" maximum:"200"`
}

type asksOutput struct {
	Body struct {
		Items []AskItem `json:"items"`
		Yours int64     `json:"yours" doc:"how many open ones wait for whoever looks"`
		Next  int64     `json:"next" doc:"before which the next page begins; 0 where there is none"`
	}
}

type askInput struct {
	ID int64 `path:"id"`
}

type askOutput struct{ Body AskItem }

type answerInput struct {
	ID   int64 `path:"id"`
	Body struct {
		Choice  string `json:"choice" minLength:"1"`
		Comment string `json:"comment,omitempty" maxLength:"2000"`
		Place   string `json:"place,omitempty" doc:"of those that were asked; may be left out where only one is yours"`
	}
}

type handInput struct {
	ID   int64 `path:"id"`
	Body struct {
		From string `json:"from" minLength:"1" doc:"a place that was asked"`
		To   string `json:"to" minLength:"1" doc:"whom to ask instead: a destination"`
	}
}

// Routes registers the room's operations.
func (al *Alerts) Routes() {
	kit.Register(al.Kit, kit.Op("list-asks", http.MethodGet, "/api/asks", "Questions that workflows have put to people", "Asks"), kit.Anyone, al.list)
	kit.Register(al.Kit, kit.Op("get-ask", http.MethodGet, "/api/asks/{id}", "One question, as it was put", "Asks"), kit.Anyone, al.get)
	kit.Changes(al.Kit, kit.Op("answer-ask", http.MethodPost, "/api/asks/{id}/answer", "Answer a question", "Asks"), kit.Anyone, kit.Act[answerInput, askOutput](store.AboutAsk, func(in *answerInput) string { return kit.IDText(in.ID) }), al.answer)
	kit.Changes(al.Kit, kit.Op("hand-over-ask", http.MethodPost, "/api/asks/{id}/hand-over", "Have somebody else asked in the place of one who was", "Asks"), kit.Editors, kit.Act[handInput, askOutput](store.AboutAsk, func(in *handInput) string { return kit.IDText(in.ID) }), al.handOver)
	kit.Changes(al.Kit, kit.Op("withdraw-ask", http.MethodPost, "/api/asks/{id}/withdraw", "Take a question back; nothing more is told of its arrival", "Asks"), kit.Editors, kit.Act[askInput, askOutput](store.AboutAsk, func(in *askInput) string { return kit.IDText(in.ID) }), al.withdraw)
	al.claimRoutes()
	al.shareRoutes()
	al.worthRoutes()
}

func (al *Alerts) list(ctx context.Context, p *kit.Person, in *asksInput) (*asksOutput, error) {
	mine, err := al.Engine.Alerts.PlacesOf(ctx, p.Email)
	if err != nil {
		return nil, err
	}
	f := store.AskFilter{State: in.State, Arrival: in.Arrival, Workflow: in.Workflow, Before: in.Before, Limit: in.Limit + 1}
	if f.State == "any" {
		f.State = ""
	}
	if in.Of == "me" {
		f.Places, f.Email = mine.Own, p.Email
	}
	rows, err := al.Store.Asks(ctx, f)
	if err != nil {
		return nil, err
	}
	out := &asksOutput{}
	out.Body.Items = []AskItem{}
	if len(rows) > in.Limit {
		rows = rows[:in.Limit]
		out.Body.Next = rows[len(rows)-1].ID
	}
	for i := range rows {
		item, err := al.item(ctx, &rows[i], mine)
		if err != nil {
			return nil, err
		}
		out.Body.Items = append(out.Body.Items, *item)
	}
	out.Body.Yours, err = al.Store.CountAsked(ctx, mine.Own, p.Email)
	return out, err
}

// item shows a question to somebody with places of their own.
func (al *Alerts) item(ctx context.Context, r *store.AskRow, mine *alerts.Places) (*AskItem, error) {
	it := &AskItem{
		ID: r.ID, Name: r.Name, Title: r.Title, Workflow: r.WorkflowName, WorkflowID: r.Workflow, Arrival: r.Arrival, Source: r.Source, Key: r.Key, State: r.State,
		Asked: r.Asking.Asked, Open: r.Asking.Open(), Yours: []string{}, Choices: []ChoiceItem{}, Given: []GivenItem{}, PutAt: r.PutAt, EndsAt: r.EndsAt,
	}
	if !r.Asking.Went.IsZero() {
		it.WentAt = &r.Asking.Went
	}
	for _, g := range r.Asking.Given {
		it.Given = append(it.Given, GivenItem(g))
	}
	if a := r.Answer; a != nil {
		it.Answer = &GivenItem{By: a.By, Choice: a.Choice, Comment: a.Comment, At: a.At}
	}
	for _, place := range it.Open {
		if mine.MayAnswer(place, r.Entitled) {
			it.Yours = append(it.Yours, place)
		}
	}
	if it.Open == nil {
		it.Open = []string{}
	}
	plan, err := al.Engine.Workflows.Plan(ctx, r.Workflow, r.Version, r.Source)
	if err != nil {
		return it, nil //nolint:nilerr // a sheet that cannot be run any more has its question shown without choices
	}
	if q := decide.PlanAskNamed(plan, r.Name); q != nil {
		it.All, it.Otherwise, it.Choices = q.All, q.Otherwise, choices(q.Choices)
	}
	return it, nil
}

func choices(list []sheet.Choice) []ChoiceItem {
	out := make([]ChoiceItem, len(list))
	for i, c := range list {
		out[i] = ChoiceItem{c.Name, c.Text, c.Comment}
	}
	return out
}

func (al *Alerts) one(ctx context.Context, p *kit.Person, id int64) (*AskItem, error) {
	rows, err := al.Store.Asks(ctx, store.AskFilter{ID: id, Limit: 1})
	if err != nil || len(rows) == 0 {
		return nil, kit.OrMissing(err)
	}
	mine, err := al.Engine.Alerts.PlacesOf(ctx, p.Email)
	if err != nil {
		return nil, err
	}
	return al.item(ctx, &rows[0], mine)
}

func (al *Alerts) get(ctx context.Context, p *kit.Person, in *askInput) (*askOutput, error) {
	it, err := al.one(ctx, p, in.ID)
	if err != nil {
		return nil, err
	}
	posts, err := al.Store.Posts(ctx, store.PostFilter{Arrival: it.Arrival, Workflow: it.WorkflowID, Limit: 200})
	if err != nil {
		return nil, err
	}
	for _, post := range posts {
		if post.Ask == it.Name {
			if it.Doc, err = message.Stored(post.Body); err != nil {
				return nil, err
			}
		}
	}
	return &askOutput{*it}, nil
}

func (al *Alerts) answer(ctx context.Context, p *kit.Person, in *answerInput) (*askOutput, error) {
	it, err := al.one(ctx, p, in.ID)
	if err != nil {
		return nil, err
	}
	place := in.Body.Place
	switch {
	case place == "" && len(it.Yours) > 0:
		place = it.Yours[0]
	case it.State != store.AskOpen:
		place = "" // the engine says how it ended
	case len(it.Yours) == 0:
		return nil, huma.Error403Forbidden("this question was not put to you; it was put to " + strings.Join(it.Open, ", "))
	case !slices.Contains(it.Yours, place):
		return nil, huma.Error403Forbidden(place + " is not yours to answer for")
	}
	by, err := al.called(ctx, p)
	if err != nil {
		return nil, err
	}
	if _, err := al.Engine.Alerts.AnswerAsk(ctx, in.ID, place, by, in.Body.Choice, in.Body.Comment); err != nil {
		return nil, refused(err)
	}
	return al.get(ctx, p, &askInput{in.ID})
}

// refused makes an answer of HTTP of why something was not done.
func refused(err error) error {
	if why, ok := errors.AsType[*alerts.Refused](err); ok {
		return huma.Error409Conflict(why.Words)
	}
	if why, ok := errors.AsType[*decider.ErrAsked](err); ok {
		return huma.Error409Conflict(why.Words)
	}
	return err
}

func (al *Alerts) handOver(ctx context.Context, p *kit.Person, in *handInput) (*askOutput, error) {
	it, err := al.one(ctx, p, in.ID)
	if err != nil {
		return nil, err
	}
	if err := al.MayEdit(ctx, p, it.WorkflowID); err != nil {
		return nil, err
	}
	to, err := al.Engine.Sources.Destination(ctx, in.Body.To)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	if err := al.Engine.Decider.HandOver(ctx, in.ID, in.Body.From, to, p.Name); err != nil {
		return nil, refused(err)
	}
	return al.get(ctx, p, &askInput{in.ID})
}

func (al *Alerts) withdraw(ctx context.Context, p *kit.Person, in *askInput) (*askOutput, error) {
	it, err := al.one(ctx, p, in.ID)
	if err != nil {
		return nil, err
	}
	if err := al.MayEdit(ctx, p, it.WorkflowID); err != nil {
		return nil, err
	}
	if err := al.Engine.Decider.Withdraw(ctx, in.ID, p.Name); err != nil {
		if errors.Is(err, gorm.ErrRecordNotFound) {
			return nil, err
		}
		return nil, refused(err)
	}
	return al.get(ctx, p, in)
}

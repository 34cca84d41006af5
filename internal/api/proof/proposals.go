package proof

import (
	"context"
	"net/http"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/core/worth"
	"dorfbote/internal/store"
)

// Proposal is one way in which a workflow could tell less.
type Proposal struct {
	Kind    string         `json:"kind" enum:"threshold,narrow,leave out,digest" doc:"a bound is moved or added, values are left out, or all goes in one message a day"`
	Path    string         `json:"path" doc:"of what changes in the sheet"`
	Words   string         `json:"words"`
	Because string         `json:"because"`
	Sheet   map[string]any `json:"sheet" doc:"the sheet as it would be; a rehearsal shows what it would tell"`
}

// proposalsOutput is what a workflow's alerts were worth, and what could be done about it.
type proposalsOutput struct {
	Body struct {
		Days   int        `json:"days" doc:"that were looked at"`
		Alerts int        `json:"alerts" doc:"that this version told in these days; the newest 2000"`
		Led    int        `json:"led" doc:"of these, alerts that somebody made use of"`
		Left   bool       `json:"left" doc:"somebody has said that it stays as it is"`
		Items  []Proposal `json:"items"`
	}
}

func (s *Proof) proposalRoutes() {
	kit.Register(s.Kit, kit.Op("list-proposals", http.MethodGet, "/api/workflows/{id}/proposals", "How a workflow could tell less, and nobody miss what was of use", "Workflows"), kit.Anyone, s.proposals)
}

func (s *Proof) proposals(ctx context.Context, _ *kit.Person, in *kit.IDInput) (*proposalsOutput, error) {
	w, err := s.Store.Workflow(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	since := s.Engine.Now().AddDate(0, 0, -store.WorthDays)
	out := &proposalsOutput{}
	b := &out.Body
	b.Days, b.Items, b.Left = store.WorthDays, []Proposal{}, w.LeftAt != nil && w.LeftAt.After(since)
	if w.Version == 0 {
		return out, nil
	}
	text, err := s.Store.VersionSheet(ctx, w.ID, w.Version)
	if err != nil {
		return nil, err
	}
	alerts, err := s.Engine.Past.Alerts(ctx, w.ID, w.Version, since)
	if err != nil {
		return nil, err
	}
	b.Alerts = len(alerts)
	for _, a := range alerts {
		if a.Led {
			b.Led++
		}
	}
	known, err := s.Engine.Workflows.Known(ctx)
	if err != nil {
		return nil, err
	}
	list, err := worth.Propose([]byte(text), known, alerts)
	for _, p := range list {
		b.Items = append(b.Items, Proposal(p))
	}
	return out, err
}

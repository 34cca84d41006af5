package workflows

import (
	"context"
	"net/http"
	"time"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/core/calendar"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// ScheduleBody is a calendar read back.
type ScheduleBody struct {
	Words   string      `json:"words" doc:"in plain English; empty where there is a problem"`
	Next    []time.Time `json:"next" doc:"the next ten moments"`
	Zone    string      `json:"zone"`
	Problem string      `json:"problem"`
	Suggest string      `json:"suggest"`
}

type scheduleInput struct {
	Body struct {
		Start  string `json:"start,omitempty"`
		Zone   string `json:"zone,omitempty"`
		Rule   string `json:"rule,omitempty"`
		Cron   string `json:"cron,omitempty"`
		Except string `json:"except,omitempty"`
	}
}

type scheduleOutput struct{ Body ScheduleBody }

func (s *Workflows) scheduleRoutes() {
	kit.Register(s.Kit, kit.Op("read-schedule", http.MethodPost, "/api/schedule", "A schedule in words, with its next moments", "Workflows"), kit.Anyone, s.readSchedule)
}

// momentsShown is how many of a schedule's next moments are shown.
const momentsShown = 10

func (s *Workflows) readSchedule(ctx context.Context, _ *kit.Person, in *scheduleInput) (*scheduleOutput, error) {
	out := &scheduleOutput{ScheduleBody{Next: []time.Time{}}}
	spec := sheet.ScheduleSpec{
		Start: report.Text{S: in.Body.Start}, Zone: report.Text{S: in.Body.Zone}, Rule: report.Text{S: in.Body.Rule}, Cron: report.Text{S: in.Body.Cron},
	}
	moments, _, err := spec.Compile(s.Engine.Workspace.Location())
	if err != nil {
		out.Body.Problem = fault.Plainly(err)
		if e, ok := fault.Of(err); ok {
			out.Body.Suggest = value.Nearest(e.Place, calendar.RuleParts())
		}
		return out, nil
	}
	if moments == nil {
		out.Body.Problem = "a schedule needs a start and a rule, or cron"
		return out, nil
	}
	var skip decide.Skip
	if in.Body.Except != "" {
		events, err := s.Store.SampleRecords(ctx, in.Body.Except, 20_000)
		if err != nil {
			return nil, err
		}
		skip = decide.DaysOff(events, s.Engine.Workspace.Location())
	}
	out.Body.Words, out.Body.Zone = moments.Words(), moments.Zone().String()
	if skip != nil {
		out.Body.Words += ", but not on the days in " + in.Body.Except
	}
	out.Body.Next = append(out.Body.Next, moments.Upcoming(s.Engine.Now(), momentsShown, skip)...)
	return out, nil
}

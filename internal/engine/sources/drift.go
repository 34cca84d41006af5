package sources

import (
	"context"
	"encoding/json"
	"fmt"
	"sort"
	"strings"

	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/store"
)

// learntField is how a field was when it was last looked at, to notice drift by.
type learntField struct {
	Name  string     `json:"name"`
	Type  value.Type `json:"type"`
	Share float64    `json:"share"` // of the records, how many filled it
}

// How many arrivals it takes to believe that a field is gone, and how usual it must have been.
const (
	driftArrivals = 10
	driftShare    = 0.5
)

// LookForDrift compares what comes in now with what came in before, for every source with news.
func (src *Sources) LookForDrift(ctx context.Context) error {
	var list []struct {
		store.Source
		Newest int64
		Fresh  int64
	}
	err := src.Store.DB.WithContext(ctx).Raw(`SELECT k.*, a.newest, a.fresh FROM sources k CROSS JOIN LATERAL (
			SELECT coalesce(max(seq), 0) AS newest, count(*) AS fresh FROM (
				SELECT seq FROM arrivals WHERE source = k.name AND seq > k.learnt_at AND for_workflow IS NULL ORDER BY seq DESC LIMIT 200) x) a
		WHERE a.fresh >= ? OR a.fresh > 0 AND k.learnt IS NULL`, driftArrivals).Scan(&list).Error
	if err != nil {
		return err
	}
	for i := range list {
		if err := src.driftOf(ctx, &list[i].Source, list[i].Newest); err != nil {
			return fmt.Errorf("the fields of %s: %w", list[i].Name, err)
		}
	}
	return nil
}

func (src *Sources) driftOf(ctx context.Context, k *store.Source, newest int64) error {
	rows, err := src.Store.RecentArrivals(ctx, k.Name, 100)
	if err != nil {
		return err
	}
	l := value.NewLearner()
	filled, n := map[string]int{}, 0
	for i := range rows {
		if rows[i].Seq <= k.LearntAt && k.Learnt != nil {
			continue
		}
		a, err := rows[i].Core()
		if err != nil || a.Record == nil || a.Kind() == "removed" {
			continue
		}
		n++
		l.See(a.Record)
		for name, v := range a.Record {
			if !value.Empty(v) {
				filled[name]++
			}
		}
	}
	if n == 0 {
		return nil
	}
	now := map[string]learntField{}
	for _, f := range l.Schema().Fields {
		now[f.Name] = learntField{f.Name, f.Type, float64(filled[f.Name]) / float64(n)}
	}
	var before []learntField
	if k.Learnt != nil {
		if err := json.Unmarshal([]byte(*k.Learnt), &before); err != nil {
			return err
		}
	}
	kept, drifted := compareFields(before, now, n)
	if err := src.tellDrift(ctx, k, before, drifted); err != nil {
		return err
	}
	raw, _ := json.Marshal(kept)
	return src.Store.DB.WithContext(ctx).Exec("UPDATE sources SET learnt = ?::jsonb, learnt_at = ? WHERE name = ?", string(raw), newest, k.Name).Error
}

// compareFields says by field what has drifted. A field that has, is kept as it was, so that its coming back is
// noticed.
func compareFields(before []learntField, now map[string]learntField, n int) (kept []learntField, drifted map[string]string) {
	drifted = map[string]string{}
	known := map[string]bool{}
	for _, f := range before {
		known[f.Name] = true
		g, there := now[f.Name]
		switch {
		case n >= driftArrivals && f.Share >= driftShare && (!there || g.Share == 0):
			drifted[f.Name] = "is not there any more"
			kept = append(kept, f)
		case n >= driftArrivals && there && g.Share > 0 && f.Type != value.Any && g.Type != f.Type && !compatible(f.Type, g.Type):
			drifted[f.Name] = fmt.Sprintf("was %s, and now is %s", typeWords(f.Type), typeWords(g.Type))
			kept = append(kept, f)
		case there:
			if n < driftArrivals && g.Share < f.Share {
				g.Share = f.Share
			}
			kept = append(kept, g)
		default:
			kept = append(kept, f)
		}
	}
	for _, name := range value.SortedKeys(now) {
		if !known[name] {
			kept = append(kept, now[name])
		}
	}
	return kept, drifted
}

func compatible(a, b value.Type) bool {
	same := func(t value.Type) value.Type {
		switch t {
		case value.Date:
			return value.Moment
		case value.Choice, value.Link, value.Person:
			return value.Text
		case value.Money:
			return value.Num
		case value.Choices:
			return value.List
		}
		return t
	}
	return same(a) == same(b) || b == value.Any && a == value.Text
}

func typeWords(t value.Type) string {
	if t == value.Any {
		return "of several types"
	}
	return string(t)
}

// tellDrift tells the owners of the sheets that use a field what has become of it, and takes it back where it is as
// before.
func (src *Sources) tellDrift(ctx context.Context, k *store.Source, before []learntField, drifted map[string]string) error {
	for _, f := range before {
		if drifted[f.Name] == "" {
			src.Done(ctx, k.Name, "drift of "+f.Name)
		}
	}
	if len(drifted) == 0 {
		return nil
	}
	uses, err := src.UsesOfFields(ctx, k.Name)
	if err != nil {
		return err
	}
	for name, what := range drifted {
		n := store.Notice{What: "drift of " + name, About: k.Name, Go: "/sources/" + k.Name}
		n.Words = fmt.Sprintf("The field %s of %s %s.", name, k.Name, what)
		if sheets := uses[name]; len(sheets) > 0 {
			names := make([]string, len(sheets))
			for i, s := range sheets {
				names[i] = s.Name
				n.Owner = s.Owner
				if s.Owner != sheets[0].Owner && (s.Owner == nil || sheets[0].Owner == nil || *s.Owner != *sheets[0].Owner) {
					n.Owner = nil
				}
			}
			n.Words += " It is used by " + strings.Join(names, ", ") + "."
			n.Go = fmt.Sprintf("/workflows/%d", sheets[0].ID)
		} else {
			n.Words += " No sheet uses it."
		}
		src.Notice(ctx, n)
	}
	return nil
}

// UsesOfFields lists, by field of a source, the workflows whose draft or version that is on speaks of it.
func (src *Sources) UsesOfFields(ctx context.Context, source string) (map[string][]store.Workflow, error) {
	var list []store.Workflow
	err := src.Store.DB.WithContext(ctx).Raw(`SELECT w.id, w.name, w.owner, w.is_on, w.draft || E'\n---\n' || coalesce(v.sheet, '') AS draft FROM workflows w
		LEFT JOIN workflow_versions v ON v.workflow = w.id AND v.version = w.version AND w.is_on
		WHERE w.draft LIKE '%' || ? || '%' OR v.sheet LIKE '%' || ? || '%' ORDER BY w.name`, source, source).Scan(&list).Error
	if err != nil {
		return nil, err
	}
	out := map[string][]store.Workflow{}
	for _, w := range list {
		fields := map[string]bool{}
		for text := range strings.SplitSeq(w.Draft, "\n---\n") {
			s, _ := sheet.Read([]byte(text))
			if s == nil || s.Watch.Source.S != source {
				continue
			}
			for _, f := range s.Fields() {
				fields[f] = true
			}
		}
		names := value.SortedKeys(fields)
		sort.Strings(names)
		for _, f := range names {
			out[f] = append(out[f], w)
		}
	}
	return out, nil
}

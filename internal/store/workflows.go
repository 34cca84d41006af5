package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"dorfbote/internal/core/sheet"

	"gorm.io/gorm"
)

// Workflow is a sheet with its draft and the version that is on.
type Workflow struct {
	ID        int64
	Name      string
	Draft     string
	DraftForm string // of what starts the draft, as far as it can be read
	Version   int
	IsOn      bool
	Source    string
	Form      string // of what starts the version: "" for a change, or due, lasts, …
	Since     int64
	CallToken string
	Owner     *int64
	Team      *int64 // whose people may change it; nil: everyone's
	CreatedAt time.Time
	UpdatedAt time.Time
	UpdatedBy string
	LeftAt    *time.Time // when somebody left it as it is, though few need what it tells
}

// Version is one version of a workflow that has been switched on.
type Version struct {
	Workflow int64 `gorm:"primaryKey"`
	Version  int   `gorm:"primaryKey"`
	Sheet    string
	Note     string
	ByPerson string
	At       time.Time
}

// TableName names the table.
func (Version) TableName() string { return "workflow_versions" }

// WorkflowRow is a workflow in a list.
type WorkflowRow struct {
	Workflow
	LastTold *time.Time
	Days     []int64 // posts a day over the last 14, oldest first
}

// Workflows lists every workflow with how much it has told lately. today is the beginning of the
// current day in the workspace's zone.
func (s *Store) Workflows(ctx context.Context, today time.Time) ([]WorkflowRow, error) {
	var list []Workflow
	db := s.DB.WithContext(ctx)
	if err := db.Order("name").Find(&list).Error; err != nil {
		return nil, err
	}
	rows := make([]WorkflowRow, len(list))
	at := map[int64]int{}
	for i, w := range list {
		rows[i] = WorkflowRow{Workflow: w, Days: make([]int64, 14)}
		at[w.ID] = i
	}
	var last []struct {
		Workflow int64
		At       time.Time
	}
	err := db.Raw(`SELECT w.id AS workflow, v.at FROM workflows w
		CROSS JOIN LATERAL (SELECT at FROM verdicts WHERE workflow = w.id AND verdict = 'told' ORDER BY at DESC LIMIT 1) v`).Scan(&last).Error
	if err != nil {
		return nil, err
	}
	for _, l := range last {
		t := l.At
		rows[at[l.Workflow]].LastTold = &t
	}
	var days []struct {
		Workflow int64
		Day      int
		Posts    int64
	}
	// Day 0 is the oldest; the days are counted in the workspace's zone, whose offset today has.
	err = db.Raw(`SELECT workflow, floor(extract(epoch FROM at - ?::timestamptz) / 86400)::int AS day, count(*) AS posts
		FROM verdicts WHERE verdict = 'told' AND at >= ? GROUP BY 1, 2`, today.AddDate(0, 0, -13), today.AddDate(0, 0, -13)).Scan(&days).Error
	for _, d := range days {
		if i, ok := at[d.Workflow]; ok && d.Day >= 0 && d.Day < 14 {
			rows[i].Days[d.Day] = d.Posts
		}
	}
	return rows, err
}

// NamesOf gives the names of workflows, in the order of their ids as they are named; one that is gone is named by its number.
func (s *Store) NamesOf(ctx context.Context, ids []int64) ([]string, error) {
	out := make([]string, len(ids))
	for i, id := range ids {
		out[i] = fmt.Sprintf("workflow %d", id)
	}
	if len(ids) == 0 {
		return out, nil
	}
	var rows []struct {
		ID   int64
		Name string
	}
	err := s.DB.WithContext(ctx).Raw("SELECT id, name FROM workflows WHERE id IN ?", ids).Scan(&rows).Error
	for _, r := range rows {
		for i, id := range ids {
			if id == r.ID {
				out[i] = r.Name
			}
		}
	}
	return out, err
}

// Workflow gives one workflow.
func (s *Store) Workflow(ctx context.Context, id int64) (*Workflow, error) {
	var w Workflow
	err := s.DB.WithContext(ctx).First(&w, id).Error
	return &w, err
}

// WorkflowNamed gives the workflow with a name, or nil.
func (s *Store) WorkflowNamed(ctx context.Context, name string) (*Workflow, error) {
	var w Workflow
	err := s.DB.WithContext(ctx).First(&w, "name = ?", name).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, nil
	}
	return &w, err
}

// Versions lists a workflow's versions, newest first.
func (s *Store) Versions(ctx context.Context, id int64) ([]Version, error) {
	var list []Version
	err := s.DB.WithContext(ctx).Where("workflow = ?", id).Order("version DESC").Limit(200).Find(&list).Error
	return list, err
}

// SwitchedOn is what is switched on, and by whom.
type SwitchedOn struct {
	Sheet, Source, Form, Note, By string
	Since                         int64
	// Asks says that it asks services or runs scripts: it goes at its own pace and holds up no other.
	Asks bool
}

// reads names the source whose arrivals a workflow decides.
func reads(source, form string) string {
	switch {
	case source != "":
		return source
	case form == "schedule": // as ticks of the calendar are called
		return "dorfbote/calendar"
	}
	return "dorfbote/" + form
}

// SwitchOn makes the sheet a new version, unless it is the current version's already, and switches
// the workflow on. Only arrivals that come after this moment are decided.
//
// since, where not negative, is the arrival after which it begins instead. arm is called in the transaction, to
// set what a timed workflow waits for.
func (s *Store) SwitchOn(ctx context.Context, id int64, on SwitchedOn, arm func(tx *gorm.DB, w *Workflow) error) (*Workflow, error) {
	var w Workflow
	source := reads(on.Source, on.Form)
	// A source is known before anything comes, so that its mark can be held below.
	err := s.DB.WithContext(Apart(ctx)).Exec("INSERT INTO marks (source, seq) SELECT @s, coalesce(max(seq), 0) FROM arrivals WHERE source = @s ON CONFLICT DO NOTHING", sql.Named("s", source)).Error
	if err != nil {
		return nil, err
	}
	err = s.DB.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		// Locks are taken in the order in which deciding takes them: the mark, the workflow, its watch.
		var mark int64
		if err := tx.Raw("SELECT seq FROM marks WHERE source = ? FOR UPDATE", source).Scan(&mark).Error; err != nil {
			return err
		}
		if err := tx.Raw("SELECT * FROM workflows WHERE id = ? FOR NO KEY UPDATE", id).Scan(&w).Error; err != nil {
			return err
		}
		was := reads(w.Source, w.Form)
		goesOn := w.IsOn && was == source
		if w.ID == 0 {
			return gorm.ErrRecordNotFound
		}
		var at time.Time
		if err := tx.Raw("SELECT now()").Scan(&at).Error; err != nil {
			return err
		}
		var current string
		if w.Version > 0 {
			if err := tx.Model(&Version{}).Where("workflow = ? AND version = ?", id, w.Version).Pluck("sheet", &current).Error; err != nil {
				return err
			}
		}
		if w.Version == 0 || current != on.Sheet {
			w.Version++
			if err := tx.Create(&Version{Workflow: id, Version: w.Version, Sheet: on.Sheet, Note: on.Note, ByPerson: on.By, At: at}).Error; err != nil {
				return err
			}
		}
		if on.Since >= 0 {
			w.Since = on.Since
		} else if !w.IsOn {
			if err := tx.Raw("SELECT coalesce(max(seq), 0) FROM arrivals").Scan(&w.Since).Error; err != nil {
				return err
			}
		}
		w.IsOn, w.Source, w.Form, w.UpdatedAt, w.UpdatedBy = true, on.Source, on.Form, at, on.By
		if err := tx.Model(&w).Select("version", "is_on", "source", "form", "since", "updated_at", "updated_by").Updates(&w).Error; err != nil {
			return err
		}
		if err := ownPace(tx, &w, on, source, mark, goesOn); err != nil {
			return err
		}
		return arm(tx, &w)
	})
	return &w, err
}

// ownPace gives a workflow that is switched on a mark of its own where it asks the outside, or begins with what has
// passed. One that had a mark and no longer needs it joins the others once it has caught up.
func ownPace(tx *gorm.DB, w *Workflow, on SwitchedOn, source string, mark int64, goesOn bool) error {
	var had []OwnMark
	if err := tx.Where("workflow = ?", w.ID).Find(&had).Error; err != nil {
		return err
	}
	m := OwnMark{Workflow: w.ID, Source: source, Seq: mark, Stays: on.Asks}
	needs := on.Asks
	if goesOn && len(had) > 0 && had[0].Source == source {
		m.Seq, needs = had[0].Seq, true
	}
	// Also what is not decided yet may be under way without it.
	if on.Since >= 0 && (on.Since < m.Seq || !needs) {
		m.Seq, needs = on.Since, true
	}
	if !needs {
		return tx.Exec("DELETE FROM own_marks WHERE workflow = ?", w.ID).Error
	}
	return tx.Save(&m).Error
}

// SwitchOff stops a workflow; its posts that wait are still sent.
func (s *Store) SwitchOff(ctx context.Context, id int64, by string) error {
	return s.DB.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Model(&Workflow{ID: id}).Updates(map[string]any{"is_on": false, "updated_by": by, "updated_at": gorm.Expr("now()")}).Error; err != nil {
			return err
		}
		return tx.Exec("DELETE FROM own_marks WHERE workflow = ?", id).Error
	})
}

// Live is a version that is on.
type Live struct {
	ID      int64
	Name    string
	Version int
	Source  string
	Form    string
	Since   int64
}

// Timed tells whether the workflow is started by timers.
func (l Live) Timed() bool {
	return l.Form == "due" || l.Form == "lasts" || l.Form == "silent" || l.Form == "schedule"
}

// LiveOn lists what is on for the sources.
func (s *Store) LiveOn(ctx context.Context, sources []string) ([]Live, error) {
	var list []Live
	err := s.DB.WithContext(ctx).Model(&Workflow{}).Select("id, name, version, source, form, since").
		Where("is_on AND source IN ?", sources).Order("id").Find(&list).Error
	return list, err
}

// LiveMark changes whenever what is on for a source does.
type LiveMark struct{ Count, Versions, Sinces int64 }

// LiveMark gives the mark of a source.
func (s *Store) LiveMark(ctx context.Context, source string) (m LiveMark, err error) {
	// Each workflow's number is in the sums, so that two that change places are not mistaken.
	err = s.Pool.QueryRow(ctx, `SELECT count(*), coalesce(sum((id * 7919 + 13) * (version + 1) % 1000000007), 0)::bigint, coalesce(sum((since % 1000000007 + 1) * (id % 1009 + 1)), 0)::bigint
		FROM workflows WHERE is_on AND source = $1`, source).Scan(&m.Count, &m.Versions, &m.Sinces)
	return m, err
}

// VersionSheet gives the sheet of one version.
func (s *Store) VersionSheet(ctx context.Context, id int64, version int) (string, error) {
	var v Version
	err := s.DB.WithContext(ctx).First(&v, "workflow = ? AND version = ?", id, version).Error
	return v.Sheet, err
}

// LiveNamed lists those of the workflows that are on.
func (s *Store) LiveNamed(ctx context.Context, ids []int64) ([]Live, error) {
	var list []Live
	err := s.DB.WithContext(ctx).Model(&Workflow{}).Select("id, name, version, source, form, since").
		Where("is_on AND id IN ?", ids).Order("id").Find(&list).Error
	return list, err
}

// AddWorkflow makes a workflow, with nothing on yet.
func (s *Store) AddWorkflow(ctx context.Context, w *Workflow) error {
	w.DraftForm = sheet.FormOf(w.Draft)
	return s.DB.WithContext(ctx).Create(w).Error
}

// SaveDraft keeps a workflow's name and draft, and who has written it when.
func (s *Store) SaveDraft(ctx context.Context, w *Workflow) error {
	w.DraftForm = sheet.FormOf(w.Draft)
	return s.DB.WithContext(ctx).Select("name", "draft", "draft_form", "updated_by", "updated_at").Updates(w).Error
}

// HandOver gives a workflow to another team, and, where owner is not nil, to another owner.
func (s *Store) HandOver(ctx context.Context, id int64, team, owner *int64) error {
	set := map[string]any{"team": team}
	if owner != nil {
		set["owner"] = *owner
	}
	return s.DB.WithContext(ctx).Model(&Workflow{}).Where("id = ?", id).UpdateColumns(set).Error
}

// DeleteWorkflow takes a workflow away, with its versions, verdicts and posts.
func (s *Store) DeleteWorkflow(ctx context.Context, w *Workflow) error {
	return s.DB.WithContext(ctx).Delete(w).Error
}

// SetCallToken has a workflow started by whoever knows a token, of which the hash is kept.
func (s *Store) SetCallToken(ctx context.Context, id int64, hash string) error {
	return s.DB.WithContext(ctx).Exec("UPDATE workflows SET call_token = ? WHERE id = ?", hash, id).Error
}

// Callable lists the workflows that others can call: those started by a call, as they are on or as their draft has it.
func (s *Store) Callable(ctx context.Context) ([]string, error) {
	out := []string{}
	err := s.DB.WithContext(ctx).Model(&Workflow{}).Where("'called' IN (form, draft_form)").Order("name").Pluck("name", &out).Error
	return out, err
}

// Mention is a workflow with the texts that may name a connection.
type Mention struct {
	Workflow
	Live string // the version that is on; empty where none is
}

// Mentions lists the workflows whose draft or version that is on may name something of a connection.
func (s *Store) Mentions(ctx context.Context, connection string) ([]Mention, error) {
	var out []Mention
	err := s.DB.WithContext(ctx).Raw(`SELECT w.*, coalesce(v.sheet, '') AS live FROM workflows w
		LEFT JOIN workflow_versions v ON v.workflow = w.id AND v.version = w.version AND w.is_on
		WHERE w.draft LIKE '%' || @c || '/%' OR v.sheet LIKE '%' || @c || '/%' OR w.draft LIKE '%person(%.' || @c || '%' OR v.sheet LIKE '%person(%.' || @c || '%' ORDER BY w.name`, sql.Named("c", connection)).Scan(&out).Error
	return out, err
}

// MoveDraft puts another draft in the place of one, unless it was changed meanwhile: moved is false then.
func (s *Store) MoveDraft(ctx context.Context, id int64, was, now, by string, at time.Time) (moved bool, err error) {
	res := s.DB.WithContext(ctx).Exec("UPDATE workflows SET draft = ?, updated_at = ?, updated_by = ? WHERE id = ? AND draft = ?", now, at, by, id, was)
	return res.RowsAffected > 0, res.Error
}

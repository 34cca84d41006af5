package store

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/value"
)

// Arrival is a stored arrival. It is never changed.
type Arrival struct {
	Seq        int64 `gorm:"primaryKey"`
	Source     string
	ID         string
	Type       string
	Time       time.Time
	Subject    string
	Data       json.RawMessage
	ReceivedAt time.Time
	// ForWorkflow is the one workflow that a tick or a start is for; nil for everything else.
	ForWorkflow *int64
	// ByStep is the step that started it; nil where none did.
	ByStep *int64
	// Through are the workflows that it came through, as [Through] writes them; "" where no post of ours caused it.
	Through string
}

// mostThrough is through how many workflows an arrival may come before it is stopped.
const mostThrough = 5

// Through adds a workflow to those that something came through.
func Through(before string, workflow int64) string {
	return strings.TrimPrefix(before+fmt.Sprintf(".w%d", workflow), ".")
}

// CameThrough reads them, in order; nil where there are none, or where that is not how they are written.
func CameThrough(text string) (workflows []int64) {
	if text == "" || len(text) > 400 {
		return nil
	}
	for one := range strings.SplitSeq(text, ".") {
		n, err := strconv.ParseInt(strings.TrimPrefix(one, "w"), 10, 64)
		if err != nil || !strings.HasPrefix(one, "w") || n < 0 {
			return nil
		}
		workflows = append(workflows, n)
	}
	return workflows
}

// Stopped tells whether an arrival goes round in a circle: it came through so many workflows that nothing is told of it any more.
func (a *Arrival) Stopped() bool { return len(CameThrough(a.Through)) >= mostThrough }

// Verdict is what a workflow made of an arrival.
type Verdict struct {
	Arrival   int64 `gorm:"primaryKey"`
	Workflow  int64 `gorm:"primaryKey"`
	Version   int
	Verdict   string
	Route     string
	DecidedBy string
	FailedAt  string
	Error     string
	At        time.Time
	Later     string // of what was held: released or digest, once it was told
	LaterAt   *time.Time
	DecidedAt time.Time
	Failures  *string // what could not be told where the rest was, as JSON
	More      int     // how many of a list were not told, being more than the most
	Gathered  *string // what was gathered for it, as JSON; nil where the sheet gathers nothing
	Ask       string  // the question that it waits for, or was dropped at
	Answers   *string // what people answered, as JSON: decide.Answered by the names of the questions
}

// Recall reads what was gathered for it, numbers with their digits; nil where the sheet gathers nothing.
func (v *Verdict) Recall() (map[string]any, error) {
	if v.Gathered == nil {
		return nil, nil
	}
	all, err := value.ReadJSON([]byte(*v.Gathered))
	m, _ := all.(map[string]any)
	return m, err
}

// Given reads what people answered, by the names of the questions.
func (v *Verdict) Given() (map[string]decide.Answered, error) {
	out := map[string]decide.Answered{}
	if v.Answers == nil {
		return out, nil
	}
	return out, json.Unmarshal([]byte(*v.Answers), &out)
}

// Stored makes the row of an arrival.
func Stored(a *arrival.Arrival) Arrival {
	return Arrival{
		Source: a.Source, ID: a.ID, Type: a.Type, Time: a.Time, Subject: a.Subject,
		Data: value.AppendJSON(nil, a.Data()),
	}
}

// Core reads the row back as an arrival.
func (a *Arrival) Core() (*arrival.Arrival, error) {
	v, err := value.ReadJSON(a.Data)
	if err != nil {
		return nil, fmt.Errorf("arrival %d in the database: %w", a.Seq, err)
	}
	d, _ := v.(map[string]any)
	out := &arrival.Arrival{ID: a.ID, Source: a.Source, Type: a.Type, Time: a.Time.UTC(), Subject: a.Subject}
	out.Carry(d)
	return out, nil
}

// ArrivalFilter narrows a list of arrivals. Zero values do not narrow.
type ArrivalFilter struct {
	Source   string
	Key      string // the record's key
	Text     string // anywhere in the record
	Verdict  string // of any workflow, or of Workflow
	Workflow int64
	Before   int64 // older than this one
	// Since and Until bound when it came in; zero values do not.
	Since, Until time.Time
	Limit        int
}

// lookedAtOnce is how many arrivals are looked through for a text or a rare verdict in one go.
const lookedAtOnce = 50_000

// ArrivalRow is an arrival in a list, with what the workflows made of it.
type ArrivalRow struct {
	Arrival
	Verdicts []VerdictRow
}

// ofVerdict asks for verdicts of a kind. What could be told in part alone counts as failed, too.
func ofVerdict(verdict string) string {
	if verdict == "failed" {
		return "(v.verdict = ? OR v.failures IS NOT NULL)"
	}
	return "v.verdict = ?"
}

// VerdictRow is a verdict with its workflow's name.
type VerdictRow struct {
	Verdict
	WorkflowName string
}

// Arrivals lists arrivals, newest first. A text is looked for among so many at a time; looked, where it is not 0, is
// where it left off, although fewer were found than asked for.
func (s *Store) Arrivals(ctx context.Context, f ArrivalFilter) (out []ArrivalRow, looked int64, err error) {
	q := s.DB.WithContext(ctx).Model(&Arrival{}).Order("seq DESC").Limit(f.Limit)
	if !f.Since.IsZero() {
		first, err := s.SeqAt(ctx, f.Since)
		if err != nil {
			return nil, 0, err
		}
		q = q.Where("seq >= ? AND received_at >= ?", first, f.Since)
	}
	if !f.Until.IsZero() {
		end, err := s.SeqAt(ctx, f.Until)
		if err != nil {
			return nil, 0, err
		}
		if f.Before == 0 || end < f.Before {
			f.Before = end
		}
	}
	floor, ceiling := int64(0), int64(math.MaxInt64) // between them verdicts are looked for, which leaves most partitions out
	if f.Text != "" || f.Verdict != "" && f.Verdict != "failed" {
		from := f.Before
		if from == 0 {
			last, err := s.LastSeq(ctx)
			if err != nil {
				return nil, 0, err
			}
			from = last + 1
		}
		ceiling = from
		if floor = max(from-lookedAtOnce, 0); floor > 0 {
			q = q.Where("seq >= ?", floor)
		}
	}
	if f.Source != "" {
		q = q.Where("source = ?", f.Source)
	}
	if f.Key != "" {
		q = q.Where("subject = ?", f.Key)
	}
	if f.Before > 0 {
		q = q.Where("seq < ?", f.Before)
	}
	if f.Text != "" {
		like := "%" + escapeLike(f.Text) + "%"
		q = q.Where("subject ILIKE ? OR data->>'record' ILIKE ?", like, like)
	}
	switch {
	case f.Verdict == "ignored":
		q = q.Where("NOT EXISTS (SELECT 1 FROM verdicts v WHERE v.arrival = arrivals.seq AND v.arrival >= ? AND v.arrival < ?)", floor, ceiling)
	case f.Verdict != "" && f.Workflow > 0:
		q = q.Where("EXISTS (SELECT 1 FROM verdicts v WHERE v.arrival = arrivals.seq AND "+ofVerdict(f.Verdict)+" AND v.workflow = ?)", f.Verdict, f.Workflow)
	case f.Verdict != "":
		q = q.Where("EXISTS (SELECT 1 FROM verdicts v WHERE v.arrival = arrivals.seq AND "+ofVerdict(f.Verdict)+")", f.Verdict)
	case f.Workflow > 0:
		q = q.Where("EXISTS (SELECT 1 FROM verdicts v WHERE v.arrival = arrivals.seq AND v.workflow = ?)", f.Workflow)
	}
	var list []Arrival
	if err := q.Find(&list).Error; err != nil {
		return nil, 0, err
	}
	if len(list) < f.Limit && floor > 0 {
		looked = floor
	}
	seqs := make([]int64, len(list))
	rows := make([]ArrivalRow, len(list))
	at := map[int64]int{}
	for i, a := range list {
		seqs[i], rows[i].Arrival, at[a.Seq] = a.Seq, a, i
	}
	verdicts, err := s.verdicts(ctx, seqs)
	for _, v := range verdicts {
		i := at[v.Arrival]
		rows[i].Verdicts = append(rows[i].Verdicts, v)
	}
	return rows, looked, err
}

func (s *Store) verdicts(ctx context.Context, seqs []int64) ([]VerdictRow, error) {
	if len(seqs) == 0 {
		return nil, nil
	}
	var out []VerdictRow
	err := s.DB.WithContext(ctx).Table("verdicts").Select("verdicts.*, workflows.name AS workflow_name").
		Joins("JOIN workflows ON workflows.id = verdicts.workflow").
		Where("arrival IN ?", seqs).Order("workflow").Find(&out).Error
	return out, err
}

func escapeLike(s string) string {
	var b []rune
	for _, r := range s {
		if r == '%' || r == '_' || r == '\\' {
			b = append(b, '\\')
		}
		b = append(b, r)
	}
	return string(b)
}

// Arrival gives one arrival with its verdicts.
func (s *Store) Arrival(ctx context.Context, seq int64) (*ArrivalRow, error) {
	var a Arrival
	if err := s.DB.WithContext(ctx).First(&a, "seq = ?", seq).Error; err != nil {
		return nil, err
	}
	verdicts, err := s.verdicts(ctx, []int64{seq})
	return &ArrivalRow{Arrival: a, Verdicts: verdicts}, err
}

// Verdict gives what a workflow made of an arrival; the error is [gorm.ErrRecordNotFound] where it made nothing of it.
func (s *Store) Verdict(ctx context.Context, arrival, workflow int64) (*Verdict, error) {
	var v Verdict
	err := s.DB.WithContext(ctx).First(&v, "arrival = ? AND workflow = ?", arrival, workflow).Error
	return &v, err
}

// ArrivalsBySeq gives arrivals in the order in which they came.
func (s *Store) ArrivalsBySeq(ctx context.Context, seqs []int64) ([]Arrival, error) {
	var list []Arrival
	err := s.DB.WithContext(ctx).Where("seq IN ?", seqs).Order("seq").Find(&list).Error
	return list, err
}

// RecentArrivals gives a source's last arrivals, newest first.
func (s *Store) RecentArrivals(ctx context.Context, source string, limit int) ([]Arrival, error) {
	var list []Arrival
	err := s.DB.WithContext(ctx).Where("source = ? AND for_workflow IS NULL", source).Order("seq DESC").Limit(limit).Find(&list).Error
	return list, err
}

// SampleRecords gives the newest records of a source, to learn its fields from.
func (s *Store) SampleRecords(ctx context.Context, source string, limit int) ([]map[string]any, error) {
	var raws []json.RawMessage
	err := s.DB.WithContext(ctx).Table("records").Where("source = ?", source).Order("time DESC").Limit(limit).Pluck("data", &raws).Error
	if err != nil {
		return nil, err
	}
	out := make([]map[string]any, 0, len(raws))
	for _, raw := range raws {
		v, err := value.ReadJSON(raw)
		if err != nil {
			return nil, err
		}
		if m, ok := v.(map[string]any); ok {
			out = append(out, m)
		}
	}
	return out, nil
}

// RecordRow is a record as it is now, with its newest arrival.
type RecordRow struct {
	Key     string
	Data    json.RawMessage
	Time    time.Time
	Arrival int64
}

// Records lists a source's records, newest first. text, where not empty, must stand somewhere in them.
func (s *Store) Records(ctx context.Context, source, text string, offset, limit int) ([]RecordRow, error) {
	q := s.DB.WithContext(ctx).Table("records r").Select(`r.key, r.data, r.time, coalesce((SELECT a.seq FROM arrivals a
		WHERE a.source = r.source AND a.subject = r.key AND a.for_workflow IS NULL ORDER BY a.seq DESC LIMIT 1), 0) AS arrival`).Where("r.source = ?", source)
	if text != "" {
		like := "%" + escapeLike(text) + "%"
		q = q.Where("r.key ILIKE ? OR r.data::text ILIKE ?", like, like)
	}
	var out []RecordRow
	return out, q.Order("r.time DESC, r.key").Offset(offset).Limit(limit).Scan(&out).Error
}

// LastSeq is the newest arrival's number.
func (s *Store) LastSeq(ctx context.Context) (int64, error) {
	var seq int64
	err := s.DB.WithContext(ctx).Raw("SELECT coalesce(max(seq), 0) FROM arrivals").Scan(&seq).Error
	return seq, err
}

// RecordsOf gives the records of some keys.
func (s *Store) RecordsOf(ctx context.Context, source string, keys []string) (map[string]map[string]any, error) {
	var rows []RecordRow
	if err := s.DB.WithContext(ctx).Table("records").Select("key, data").Where("source = ? AND key IN ?", source, keys).Scan(&rows).Error; err != nil {
		return nil, err
	}
	out := map[string]map[string]any{}
	for _, r := range rows {
		v, err := value.ReadJSON(r.Data)
		if err != nil {
			return nil, err
		}
		out[r.Key], _ = v.(map[string]any)
	}
	return out, nil
}

// LastArrival says when something last came from some sources, and how much has within a day, as far as the last 20,000
// arrivals tell.
func (s *Store) LastArrival(ctx context.Context, sources []string) (last *time.Time, today int64, err error) {
	err = s.DB.WithContext(ctx).Raw(`SELECT max(received_at), count(*) FILTER (WHERE received_at > now() - interval '1 day')
		FROM (SELECT received_at FROM arrivals WHERE source IN ? ORDER BY seq DESC LIMIT 20000) a`, sources).Row().Scan(&last, &today)
	return last, today, err
}

// SubjectOf gives the key of the record that an arrival is about.
func (s *Store) SubjectOf(ctx context.Context, seq int64) (subject string, err error) {
	err = s.DB.WithContext(ctx).Raw("SELECT subject FROM arrivals WHERE seq = ?", seq).Scan(&subject).Error
	return subject, err
}

// NewestKey gives the key of a source's newest record, "" where it has none.
func (s *Store) NewestKey(ctx context.Context, source string) (string, error) {
	var keys []string
	err := s.DB.WithContext(ctx).Table("records").Where("source = ?", source).Order("time DESC").Limit(1).Pluck("key", &keys).Error
	if err != nil || len(keys) == 0 {
		return "", err
	}
	return keys[0], nil
}

package store

import (
	"encoding/json"
	"time"
)

// Person is someone who signs in.
type Person struct {
	ID           int64
	Email        string
	Name         string
	Role         string // administrator, editor, viewer
	PasswordHash string
	CreatedAt    time.Time
}

// Connection is an app or a chat that Dorfbote is connected to.
type Connection struct {
	ID           string // the first part of a source or destination
	Kind         string // hook, chat, rest, feed, …: see internal/connect
	Title        string
	Address      string // of a chat's API
	KeyField     string // which field names a record sent as plain JSON
	Settings     Texts  `gorm:"type:jsonb"`
	Sealed       []byte // its secrets, see internal/seal
	Paused       bool
	LastOK       *time.Time `gorm:"column:last_ok"`
	FailingSince *time.Time
	LastError    string
	// SecretExpires is when its secret ends, as far as is known.
	SecretExpires *time.Time
	Owner         *int64
	CreatedAt     time.Time
}

// Source is one kind of record of a connection: a source.
type Source struct {
	Name      string `gorm:"primaryKey"`
	Connection  string
	Title       string
	KeyField    string
	TitleField  string
	LinkField   string
	Schema      *string     // JSON Schema; nil where fields are learnt
	Settings    Texts       `gorm:"type:jsonb"`
	Corrections Corrections `gorm:"type:jsonb"`
	Learnt      *string     // the fields as last learnt
	LearntAt    int64
}

// Poll is how a source that is asked from time to time stands.
type Poll struct {
	Source     string `gorm:"primaryKey"`
	Connection string
	Cursor     *string
	Start      string
	Begun      bool
	Every      int
	Quickest   int
	Slowest    int
	Owned      bool // somebody has said how often it is asked
	DueAt      time.Time
	LeaseUntil *time.Time
	Failures   int
	Suspect    bool
	Missing    Keys `gorm:"type:jsonb"`
	LastAt     *time.Time
	LastOK     *time.Time `gorm:"column:last_ok"`
	LastError  string
	LastRows   int64
	LastCalls  int
	LastMs     int
}

// Destination is a channel that posts go to.
type Destination struct {
	Name       string `gorm:"primaryKey"` // connection/channel
	Connection string
	Title      string
	Private    bool
	Paused     bool
	Reason     string
	NotBefore  *time.Time // the other side asked to wait until then
	Failures   int        // in a row
	PerMinute  int        // how many posts a minute a person allows; 0 is as fast as it goes
	SpacingMs  int        // learnt from being asked to wait: milliseconds from post to post
	SpacedAt   *time.Time // when that was learnt
	HeldBy     string     // the person who paused it, where one did
	Shut       string     // why it would take no post, as the other side said when it was asked
	AskedAt    *time.Time // when that was
}

// Workflow is a sheet with its draft and the version that is on.
type Workflow struct {
	ID        int64
	Name      string
	Draft     string
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
}

// Version is one version of a workflow that has been switched on.
type Version struct {
	Workflow int64 `gorm:"primaryKey"`
	Version    int   `gorm:"primaryKey"`
	Sheet      string
	Note       string
	ByPerson   string
	At         time.Time
}

// TableName names the table.
func (Version) TableName() string { return "workflow_versions" }

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
}

// Verdict is what a workflow made of an arrival.
type Verdict struct {
	Arrival    int64 `gorm:"primaryKey"`
	Workflow int64 `gorm:"primaryKey"`
	Version    int
	Verdict    string
	Route      string
	DecidedBy  string
	FailedAt   string
	Error      string
	At         time.Time
	Later      string // of what was held: released or digest, once it was told
	LaterAt    *time.Time
	DecidedAt  time.Time
	Gathered   *string // what was gathered for it, as JSON; nil where the sheet gathers nothing
}

// The states of a post.
const (
	Waiting = "waiting"
	Sent    = "sent"
	Refused = "refused"
	GivenUp = "given up"
	Dropped = "dropped"
	Expired = "expired"
	Held    = "held" // set aside by a person; those behind it go on
)

// Post is one composed message on its way to one destination.
type Post struct {
	ID          int64
	Workflow  int64
	Arrival     int64
	Destination string
	Message     string
	Body        json.RawMessage // a message.Document
	Title       string
	Under       *int64
	Key         string
	State       string
	Attempts    int
	Answer      string
	Status      int
	RemoteID    string
	CreatedAt   time.Time
	SentAt      *time.Time
	Updates     *int64     // the earlier post that this one is put in the place of
	ExpiresAt   *time.Time // when it is no longer worth sending; nil is never
}

// Attempt is one try of a post or a step.
type Attempt struct {
	ID      int64
	Post    *int64
	Step    *int64
	At      time.Time
	TookMs  int
	Status  int    // of HTTP; 0 when no answer came
	Address string // what was called
	Sent    string // the body as it went out; secrets travel in headers, which are not kept
	Answer  string // as it came, shortened
}

// The states of a step of a run, besides those of a post.
const (
	Done    = "done"
	Skipped = "skipped" // what it follows on did not come about
	Failed  = "failed"
)

// Step is one thing that a run does after its posts.
type Step struct {
	ID         int64
	Workflow int64
	Version    int
	Arrival    int64
	N          int
	Name       string
	Kind       string // add, change, append, call
	Target     string // a source, or a workflow's name
	RecordKey  string
	Body       json.RawMessage
	IfFails    string // stop, go_on or tell
	Broken     string // why its values could not be worked out
	Fallback   *string
	Key        string // idempotency key
	State      string
	Attempts   int
	Status     int
	Answer     string
	NotBefore  *time.Time
	CreatedAt  time.Time
	DoneAt     *time.Time
}

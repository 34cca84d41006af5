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
	ID        string // the first part of a source or destination
	Kind      string // hook, chat
	Title     string
	Address   string // of a chat's API
	Secret    string // a hook's signing secret, a chat's token
	KeyField  string // which field names a record sent as plain JSON
	CreatedAt time.Time
}

// Kind is one kind of record of a connection.
type Kind struct {
	Source     string `gorm:"primaryKey"`
	Connection string
	Title      string
	KeyField   string
	Schema     *string // JSON Schema; nil where fields are learnt
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
}

// Workflow is a sheet with its draft and the version that is on.
type Workflow struct {
	ID        int64
	Name      string
	Draft     string
	Version   int
	IsOn      bool
	Source    string
	Since     int64
	Owner     *int64
	CreatedAt time.Time
	UpdatedAt time.Time
	UpdatedBy string
}

// Version is one version of a workflow that has been switched on.
type Version struct {
	WorkflowID int64 `gorm:"primaryKey"`
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
}

// Verdict is what a workflow made of an arrival.
type Verdict struct {
	Arrival    int64 `gorm:"primaryKey"`
	WorkflowID int64 `gorm:"primaryKey"`
	Version    int
	Verdict    string
	Route      string
	DecidedBy  string
	FailedAt   string
	Error      string
	At         time.Time
}

// The states of a post.
const (
	Waiting = "waiting"
	Sent    = "sent"
	Refused = "refused"
	GivenUp = "given up"
	Dropped = "dropped"
)

// Post is one composed message on its way to one destination.
type Post struct {
	ID          int64
	WorkflowID  int64
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
}

// Package sheet reads, checks and writes sheets: YAML 1.2 or JSON as described by
// docs/schema/sheet.schema.json. Every problem found has its line and column.
package sheet

import (
	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/report"
)

// Version is the version of the sheet's format that this code reads and writes.
const Version = 1

// Sheet is a workflow as written.
type Sheet struct {
	Name     string
	Note     string
	Look     Look
	Watch    Watch
	Keep     *cond.Spec
	Gather   []Gather
	Asks     []Ask
	Messages []*message.Spec
	Route    Route
	Pace     *Pace
	Tables   []Table
	Answer   *Answer // nil: a caller is told that the call was taken, and no more
	Follow   []Follow
}

// Look is how a workflow is told apart in lists.
type Look struct {
	Icon   string `json:"icon,omitempty"`
	Colour string `json:"colour,omitempty"`
}

// Route says who is told.
type Route struct {
	At        report.Pos
	Every     bool // every row that holds, not the first alone
	Rows      []Row
	Otherwise *Branch
}

// Row is a named route with its condition.
type Row struct {
	Name string
	When *cond.Spec
	Branch
}

// Branch is whom a route tells.
type Branch struct {
	At   report.Pos
	Tell []Tell
}

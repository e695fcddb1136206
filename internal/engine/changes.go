package engine

import (
	"encoding/json"
	"strings"
)

// Compare asks for changes.
type Compare struct {
	Start    string
	Baseline json.RawMessage
	Last     string // as of Reset
	Rows     int    // how many rows of each table to return
}

// Changes tells how a database differs from its start state.
type Changes struct {
	Unit      string           `json:"unit,omitempty"` // as of Report
	Tables    []TableChange    `json:"tables"`
	Sequences []SequenceChange `json:"sequences"`
	Schema    []SchemaChange   `json:"schema"`
}

// NoChanges is what nobody has changed.
func NoChanges() *Changes {
	return &Changes{Tables: []TableChange{}, Sequences: []SequenceChange{}, Schema: []SchemaChange{}}
}

// TableChange counts, and where asked for holds, the rows that differ.
type TableChange struct {
	Name    string      `json:"name"`
	Added   int64       `json:"added"`
	Removed int64       `json:"removed"`
	Altered int64       `json:"altered"`
	Columns []string    `json:"columns,omitempty"`
	Rows    []RowChange `json:"rows,omitempty"`
}

// RowChange is one row: Before is nil for one that was added, After for one
// that was removed.
type RowChange struct {
	Before []any `json:"before,omitempty"`
	After  []any `json:"after,omitempty"`
}

// SequenceChange is a counter that moved.
type SequenceChange struct {
	Name   string `json:"name"`
	Before string `json:"before"`
	After  string `json:"after"`
}

// SchemaChange is an object that was added, removed or altered.
type SchemaChange struct {
	What string `json:"what"` // "added", "removed", "altered"
	Kind string `json:"kind"` // "table", "index", ...
	Name string `json:"name"`
	// Details are what differs of a table's columns, in words.
	Details []string `json:"details,omitempty"`
}

// String is the change in words.
func (c SchemaChange) String() string {
	text := c.What + " " + c.Kind + " " + c.Name
	if len(c.Details) > 0 {
		text += ": " + strings.Join(c.Details, ", ")
	}
	return text
}

package engine

import (
	"context"
	"encoding/json"
	"slices"
)

// Way is a way to reset.
type Way string

// The ways to reset. With none named the engine takes its cheapest exact one.
const (
	Truncation Way = "truncation"
	Rollback   Way = "rollback"
	Snapshot   Way = "snapshot"
)

// Reset asks for a database to be put back.
type Reset struct {
	Way      Way
	Start    string          // the template or snapshot that holds the start state
	Baseline json.RawMessage // of the witness, noted when the database was as it is to be; nil where unknown
	Last     string          // the state that the database was last put to; "" where that is not known
	Keep     []string        // tables that stay as they are
	InPlace  bool            // fail rather than put another database in this one's place
	Ahead    bool            // have the next one ready, where another is put in its place
	Begin    func() error    // called before the first change by an engine whose reset is not one transaction
}

// Report tells what a reset did.
type Report struct {
	Way       Way           `json:"way"` // "" where nothing was touched
	Why       string        `json:"why,omitempty"`
	Tables    []TableReport `json:"tables"`
	Unit      string        `json:"unit,omitempty"` // what its rows are called: "key"; "" for rows, of tables
	Kept      []string      `json:"kept,omitempty"` // tables that differ and were to be kept
	Sequences int           `json:"sequences"`
	Pages     int           `json:"pages,omitempty"`
	Schema    bool          `json:"schema"`            // the schema was changed
	Reconnect bool          `json:"reconnect"`         // clients have to connect again
	Noted     bool          `json:"-"`                 // the facts say already that the copy is at its start state
	Dropped   []string      `json:"dropped,omitempty"` // objects that had been added
	// settings and rights of the database itself that had been changed
	Settings []string `json:"settings,omitempty"`
	// what is not as in the start state, and could not be put back
	Stays    []string        `json:"stays,omitempty"`
	Baseline json.RawMessage `json:"-"` // for the facts; nil where none could be taken
	// Later does what may follow the answer and makes the next reset cheaper.
	// It returns the baseline, and is done before the database is used again;
	// nil where there is nothing to do.
	Later func(context.Context) (json.RawMessage, error) `json:"-"`
	// Worth says that Later costs less than the next reset saves, also where nothing was
	// put back.
	Worth bool `json:"-"`
}

// Differing are the tables that were not as in the start state. What was written
// and rolled back counts as touched, and leaves no difference.
func (r *Report) Differing() []TableReport {
	if r.Way != Truncation {
		return r.Tables
	}
	return slices.DeleteFunc(slices.Clone(r.Tables), func(t TableReport) bool { return t.Removed+t.PutBack == 0 })
}

// Differed reports whether anything was not as in the start state.
func (r *Report) Differed() bool {
	// What was put back by pages may have differed in nothing that a query shows.
	whole := r.Way != "" && r.Way != Truncation && r.Pages == 0
	return whole || r.Schema || r.Sequences+len(r.Settings) > 0 || len(r.Differing()) > 0
}

// TableReport counts the rows of one table that a reset removed and put back;
// below zero where it went by pages and did not count.
type TableReport struct {
	Name    string `json:"name"`
	Removed int64  `json:"removed"`
	PutBack int64  `json:"put_back"`
}

// MarshalJSON leaves out what was not counted.
func (t TableReport) MarshalJSON() ([]byte, error) {
	if t.Removed < 0 {
		return json.Marshal(map[string]string{"name": t.Name})
	}
	type counted TableReport
	return json.Marshal(counted(t))
}

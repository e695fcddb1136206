package engine

import (
	"context"
	"encoding/json"
	"hemzo/internal/fault"
	"hemzo/internal/sqltext"
	"time"
)

// Session says how a database is worked on.
type Session struct {
	Wait     time.Duration // bounds every wait for a lock
	Force    bool          // sessions that are in the way are ended
	Ended    func()        // told where sessions of clients were; may be nil
	Settings []Setting     // those of the project file that hold for a session
	Names    []string      // by which the sources call the database
	Roles    []string      // that the sources mention
	Commits  bool          // a gate lets through statements that commit by themselves
	Notice   func(string)  // takes what a user should know; may be nil
	Said     func(string)  // takes what the server says beside its answers; may be nil
	// Fresh says of a copy that nobody has come to it since it was made: what makes its
	// resets cheaper can be kept from then on, as long as it is open.
	Fresh bool
	Often bool // it is put back again and again: what makes that cheaper may be kept in memory
}

// Database is one database, opened. It is for one goroutine at a time.
type Database interface {
	// Apply runs a script as one step.
	Apply(ctx context.Context, s Script) error
	// Load puts rows into a table.
	Load(ctx context.Context, t Table) error
	// Query runs SQL, one or several statements.
	Query(ctx context.Context, text string, out Sink) error
	// Reset puts the database back to its start state.
	Reset(ctx context.Context, r Reset) (*Report, error)
	// Snapshot makes a snapshot of the present state. It returns the witness's
	// baseline of this database in that state, nil where there is none.
	Snapshot(ctx context.Context, to string, facts Facts) (json.RawMessage, error)
	// Contents sums up all that the database holds, in no order: two databases
	// with the same contents hold the same. Of copies of one template the
	// server's own numbers of objects are the same too: with kin they count.
	Contents(ctx context.Context, kin bool) ([]Content, error)
	// Changes tells how the database differs from its start state.
	Changes(ctx context.Context, c Compare) (*Changes, error)
	Close() error
}

// Script is SQL text that came from a file.
type Script struct {
	File  string
	Text  string
	First int  // the file's line at which Text begins
	Dump  bool // a dump: it may mention what is not there
}

// Locate puts an error at a place in the script, offset bytes from its begin.
func (s Script) Locate(offset int, e *fault.Error) *fault.Error {
	line, column := sqltext.Position(s.Text, offset)
	e.Where = fault.Position{File: s.File, Line: line + s.First - 1, Column: column}
	return e
}

// Table is rows for one table; nil is NULL.
type Table struct {
	File    string
	Name    string
	Columns []string
	Rows    [][]any
	Lines   []int // of the file, a line each row
}

// Sink takes the results of a query; its functions may be nil.
type Sink struct {
	Columns func(names []string) error
	Row     func(values []any) error // nil, int64, float64, string or []byte
	Done    func(changed int64) error
	// Typed has bool, json.Number and json.RawMessage given too, where the engine
	// has such values.
	Typed bool
	// Open is told at the end whether a transaction is open, which ends with the
	// database's session.
	Open func(bool)
}

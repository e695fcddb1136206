package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"hemzo/internal/fault"
	"hemzo/internal/sqltext"
	"slices"
	"strings"
	"time"
)

// Session says how a database is worked on.
type Session struct {
	Wait     time.Duration // bounds every wait for a lock
	Force    bool          // sessions that are in the way are ended
	Settings []Setting     // those of the project file that hold for a session
	Names    []string      // by which the sources call the database
	Notice   func(string)  // takes what a user should know; may be nil
	Said     func(string)  // takes what the server says beside its answers; may be nil
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
}

// Content is one object with its definition, or the rows of one table with a
// sum over them.
type Content struct{ Kind, Name, Sum string }

// Difference is something in which two databases differ.
type Difference struct {
	Kind   string `json:"kind"`
	Name   string `json:"name"`
	Has    string `json:"has"`    // the one that was looked at; "" where it is missing
	Wanted string `json:"wanted"` // what it is to be; likewise
}

// Differences compares what two databases hold, in order of their names.
func Differences(has, wanted []Content) (all []Difference) {
	type key struct{ kind, name string }
	sums := map[key]string{}
	for _, c := range has {
		sums[key{c.Kind, c.Name}] = c.Sum
	}
	for _, c := range wanted {
		k := key{c.Kind, c.Name}
		if sum, ok := sums[k]; !ok || sum != c.Sum {
			all = append(all, Difference{Kind: c.Kind, Name: c.Name, Has: sum, Wanted: cmp.Or(c.Sum, "there")})
		}
		delete(sums, k)
	}
	for k, sum := range sums {
		all = append(all, Difference{Kind: k.kind, Name: k.name, Has: cmp.Or(sum, "there")})
	}
	slices.SortFunc(all, func(a, b Difference) int {
		return strings.Compare(a.Kind+"\x00"+a.Name, b.Kind+"\x00"+b.Name)
	})
	return all
}

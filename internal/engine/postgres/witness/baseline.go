package witness

import (
	"encoding/json"
	"slices"

	"hemzo/internal/pattern"
)

// Baseline is what a database looked like to the witness when it was at its
// start state. A copy begins with that of its template: its files are the
// same.
type Baseline struct {
	Form      int       `json:"form"`
	Next      string    `json:"next"`      // transaction's number, when it was noted
	Relations string    `json:"relations"` // sum over pg_class
	Exact     bool      `json:"exact"`     // vacuumEvery page was visible to all: the map can be believed
	Quiet     bool      `json:"quiet"`     // no counter moves without a transaction's number
	Tables    []Mark    `json:"tables"`
	Catalogs  []Mark    `json:"catalogs"` // in the order in which the server is asked for them
	Counters  []Counter `json:"counters"`
	// the place in the log from which on it has to be read, as formatLogMark writes it
	At string `json:"at,omitempty"`
}

// Form is what baselines look like that this Hemzo reads and writes, the sums in them
// included: it changes with what they are sums of.
const Form = 6

// Mark is one table: whatever writes to it changes one of File, Pages and
// Vacuums, or leaves pages that are not visible to all.
type Mark struct {
	Name     string   `json:"n"` // as format('%I.%I') writes it
	OID      uint32   `json:"o"`
	File     int64    `json:"f,omitempty"` // node
	Pages    int64    `json:"p,omitempty"`
	Vacuums  int64    `json:"v,omitempty"`  // -1 where the table is not to be believed untouched
	Rows     bool     `json:"r,omitempty"`  // it has some
	Unlogged bool     `json:"u,omitempty"`  // the log says nothing of it
	View     bool     `json:"m,omitempty"`  // materialized: its rows cannot be written to
	Fires    bool     `json:"t,omitempty"`  // a trigger or rule of it fires for what a reset does
	Aimed    bool     `json:"k,omitempty"`  // a foreign key of another table leads to it
	Leads    []string `json:"fk,omitempty"` // the tables that its foreign keys lead to
	Count    int64    `json:"c,omitempty"`  // of rows: of a catalog, and where the map cannot be believed
	Since    string   `json:"x,omitempty"`  // the transaction that put its rows back, likewise
	// then a transaction with a lower number was under way: a row may be younger than it looks
	Older bool `json:"w,omitempty"`
}

// largePages is how many pages a table has of which a VACUUM that finds nothing to do takes
// less time than reading the rows does: it skips 32 pages and more that are visible to all.
const largePages = 64

func (m *Mark) large() bool { return m.Pages >= largePages && m.Name != largeObjects }

// HasLarge reports whether it has a table of which VACUUM tells sooner than its rows do that
// nobody has touched it.
func (b *Baseline) HasLarge() bool {
	return slices.ContainsFunc(b.Tables, func(m Mark) bool { return m.large() })
}

// Counter is a sequence.
type Counter struct {
	Name   string `json:"n"`
	Last   int64  `json:"l"`
	Called bool   `json:"c,omitempty"`
	Table  string `json:"t,omitempty"` // that it belongs to
	File   int64  `json:"f"`           // node
}

func Names(all []Mark) []string {
	names := make([]string, len(all))
	for i, m := range all {
		names[i] = m.Name
	}
	return names
}

// columns are the parts of marks, one list each, for a query.
func columns(all []Mark) []any {
	ids, files, pages, vacuums := make([]uint32, len(all)), make([]int64, len(all)), make([]int64, len(all)),
		make([]int64, len(all))
	for i, m := range all {
		ids[i], files[i], pages[i], vacuums[i] = m.OID, m.File, m.Pages, m.Vacuums
	}
	return []any{ids, files, pages, vacuums}
}

// ForCopies is the baseline of copies of a database: they are vacuumed anew.
func (b Baseline) ForCopies() (json.RawMessage, error) {
	b.At = ""
	for _, all := range []*[]Mark{&b.Tables, &b.Catalogs} {
		*all = slices.Clone(*all)
		for i, m := range *all {
			(*all)[i].Vacuums = min(m.Vacuums, 0)
		}
	}
	return json.Marshal(b)
}

var (
	// What format('%I.%I') writes, and nothing behind it.
	qualifiedName = pattern.Lazy(`^("([^"]|"")+"|[a-z_][a-z0-9_]*)\.("([^"]|"")+"|[a-z_][a-z0-9_]*)$`)
	catalogName   = pattern.Lazy(`^[a-z_][a-z0-9_]*$`)
	wholeNumber   = pattern.Lazy(`^[0-9]*$`)
)

// Safe reports whether all that of a baseline gets into statements is a name or
// a number: where tests log in as the role that made a copy they could have
// written it, and an administrator may work on that copy too.
func (b Baseline) Safe() bool {
	ok := wholeNumber().MatchString(b.Next)
	for _, m := range b.Tables {
		ok = ok && qualifiedName().MatchString(m.Name) && wholeNumber().MatchString(m.Since)
	}
	for _, m := range b.Catalogs {
		ok = ok && catalogName().MatchString(m.Name) && wholeNumber().MatchString(m.Since)
	}
	for _, c := range b.Counters {
		ok = ok && qualifiedName().MatchString(c.Name)
	}
	return ok
}

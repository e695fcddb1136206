// Package engine holds the contract between Hemzo and the database systems it
// works on. Each system lives in a folder of its own below; no code outside
// asks which one it has.
//
// A Server holds templates, copies and snapshots, told apart by their names,
// each with Facts kept beside or inside it. A Database is one of them, opened
// for work.
package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net"
	"slices"
	"strings"
	"time"

	"hemzo/internal/sqltext"
)

// ErrNotFound is returned for a template, copy or snapshot that is not there.
var ErrNotFound = errors.New("not found")

// Engine is one database system.
type Engine interface {
	// Name is the engine's name in a project file.
	Name() string
	// Dialect tells how its SQL is read.
	Dialect() sqltext.Dialect
	// Check reports what of a Spec the engine cannot give.
	Check(Spec) error
	// Base lists what the state before the first step depends on.
	Base(Spec) []string
	// Layers is how many layers of one build are worth keeping.
	Layers() int
	// Needs reports what the engine needs of this machine.
	Needs(context.Context) []Need
	// Private opens the server that Hemzo keeps in a folder of its own.
	Private(ctx context.Context, folder string, spec Spec) (Server, error)
}

// Starter is an engine whose private server is a process of its own, which a
// guard starts and ends.
type Starter interface {
	Engine
	// Identity names the server that a Spec wants: what asks for the same
	// shares one. It fails where this machine has no such server.
	Identity(Spec) (string, error)
	// Room estimates the bytes that the server's data takes at its start, with
	// what is kept in a folder for it.
	Room(spec Spec, kept string) int64
	// Start starts the server with its data in a folder of Home and returns
	// once a query has been answered.
	Start(ctx context.Context, home Home, spec Spec) (*Started, error)
	// Connect opens a server at the address that Start gave.
	Connect(ctx context.Context, address json.RawMessage, p Patience) (Server, error)
	// Clean ends and removes what a server that was killed left beside its data
	// in a folder: processes, shared memory. Nobody starts a server there meanwhile.
	Clean(folder string) error
}

// Remote is an engine that works on servers which are there already.
type Remote interface {
	Engine
	// Schemes lists how the URLs of its servers begin, without the colon.
	Schemes() []string
	// Hosts lists the machines that a URL leads to; sockets are left out.
	Hosts(url string) ([]string, error)
	// Existing opens the server at a URL.
	Existing(ctx context.Context, url string, spec Spec, p Patience) (Server, error)
}

// Patience says how long a server that has no connection free is waited for,
// and takes what a user should know meanwhile; Say may be nil.
type Patience struct {
	Wait time.Duration
	Say  func(string)
	Log  string // the file with the server's log, where this machine has it
}

// Client is somebody connected to a database.
type Client struct {
	PID         int       `json:"pid"`
	User        string    `json:"user"`
	Application string    `json:"application"`
	Address     string    `json:"address"`
	State       string    `json:"state"`
	Since       time.Time `json:"since"`
	Query       string    `json:"query"`
}

// Home is where a private server may put things.
type Home struct {
	Folder string    // for its data; it is made, and goes with the server
	Kept   string    // for what makes the next start faster; it stays
	Log    io.Writer // for what the server prints
	State  string    // of this machine and user
	// Password is the server's, the same at each start: nobody else knows it.
	Password string
}

// Foreteller is an engine that can tell how a copy will be reached before its
// server runs: its connections are passed on from other addresses.
type Foreteller interface {
	Engine
	// PortsOf lists the ports that a copy is reached at, the main one first.
	PortsOf(Spec) []int
	// Foretell tells the connection of a copy to be, where at has an address of
	// this machine, "host:port", for each of its ports, and password is that of
	// the server to be.
	Foretell(spec Spec, at map[int]string, password, id string, facts Facts) Connection
}

// Alone is an engine each of whose copies is a container of its own.
type Alone interface {
	Engine
	// InContainers opens the copies of a user: their facts lie in a folder, and
	// scope marks their containers.
	InContainers(ctx context.Context, folder, scope string, spec Spec) (Server, error)
}

// Contained is an engine whose servers run in containers too.
type Contained interface {
	Engine
	// Image says how the engine's server is run in a container.
	Image(Spec) Image
	// Enter asks the server of a container a first query, and returns what
	// Connect wants to know of it.
	Enter(ctx context.Context, host string, port int, password string) (json.RawMessage, error)
	// Connect opens a server at the address that Enter gave.
	Connect(ctx context.Context, address json.RawMessage, p Patience) (Server, error)
	// Tidy drops what does not outlive the server.
	Tidy(ctx context.Context, address json.RawMessage) error
}

// Image is how a server is run in a container.
type Image struct {
	Name     string // where the project file names none
	Port     int
	Args     []string
	Env      []Setting
	Password string // the variable that names the file with the password
	Data     string // the variable, of the image, that names the data folder
	Folder   string // the data folder where that is not set
	Stop     string // the signal that ends the server cleanly: "INT"
}

// Started is a server that a Starter has started.
type Started struct {
	PID     int // of the server, where it is a process of this machine; else 0
	Address json.RawMessage
	Wait    func() error // returns when the server has ended
	Stop    func() error // asks it to end cleanly
	Kill    func() error // ends it in any case
	// Tidy is called before a clean end: it drops what does not outlive the
	// server. Save is called after one, to keep the rest for the next start.
	Tidy func(ctx context.Context) error
	Save func() error
}

// Need is one thing an engine needs, for doctor.
type Need struct {
	What string // "SQLite library"
	Has  string // "3.54.1, part of this program"; "" where it is missing
	Next string // what to do where it is missing
}

// Spec is what a project file asks of an engine.
type Spec struct {
	Database   string // its name in the project file
	Version    string
	Encoding   string
	Locale     string
	Extensions []string
	Settings   []Setting
	As         string   // whose rights the sources run with
	Image      string   // of a container
	Room       int64    // for the data of a container, in bytes; 0 for no limit
	Memory     int64    // of a container, in bytes; 0 for no limit
	CPUs       int      // of a container; 0 for no limit
	Service    Service  // of any other system
	Roles      []string // that the sources mention, made without login
}

// Service says how a system is run that Hemzo knows nothing of.
type Service struct {
	Ports     []int // that it listens on, the main one first
	Variables []Setting
	Command   []string // for the image's entry; nil for the image's own
	Ready     string   // when it counts as ready: "GET /path", "says TEXT", or "" when it accepts connections
	Forget    string   // the request that makes it forget everything; "" for a fresh container
	Within    time.Duration
}

// Setting is one setting of an engine.
type Setting struct{ Name, Value string }

// About describes a server.
type About struct {
	Engine  string `json:"engine"`
	Version string `json:"version"`
	Where   string `json:"where"`
	Address string `json:"address"` // its folder or host and port
	// Notes tell what is slower or impossible on it.
	Notes []string `json:"notes,omitempty"`
}

// Connection is how a copy is reached. Fields that an engine has no use for
// are empty.
type Connection struct {
	URL      string `json:"url"`
	JDBC     string `json:"jdbc"`
	JDBCFull string `json:"jdbc_full"`
	ConnInfo string `json:"conninfo"`
	Host     string `json:"host"`
	Port     string `json:"port"`
	User     string `json:"user"`
	Password string `json:"password"`
	Database string `json:"database"`
	Socket   string `json:"socket"`
	File     string `json:"file"`
	Params   string `json:"params"`
	// Ports tells where each port of a service is published.
	Ports map[int]string `json:"ports,omitempty"`
	// Env holds the variables that the engine's own programs read.
	Env []Setting `json:"env,omitempty"`
}

// Address is where one port of a copy is reached: "127.0.0.1:5432".
func (c Connection) Address(port int) string {
	if published, ok := c.Ports[port]; ok {
		return net.JoinHostPort(c.Host, published)
	}
	return net.JoinHostPort(c.Host, c.Port)
}

// Server holds templates, copies and snapshots. Its methods may be called
// from several goroutines at once.
type Server interface {
	About() About
	// Connection tells how a database with these facts is reached under the
	// name id, whether it is there or not.
	Connection(id string, facts Facts) Connection
	// List returns all that bears Hemzo's mark, in no order.
	List(ctx context.Context) ([]Entry, error)
	// Find returns one, or ErrNotFound.
	Find(ctx context.Context, id string) (Entry, error)
	// Note changes the facts of one.
	Note(ctx context.Context, id string, change func(*Facts)) error
	// Lock takes a lock of this server that no other process has; waiting is
	// called once if it is not free.
	Lock(ctx context.Context, name string, waiting func()) (unlock func(), err error)
	// Own takes a lock that lives as long as this process, for Owner.Lock.
	Own(ctx context.Context) (lock string, release func(), err error)
	// Owned reports whether some process holds such a lock.
	Owned(ctx context.Context, lock string) bool
	// Create makes an empty database.
	Create(ctx context.Context, id string, spec Spec, facts Facts) error
	// Copy makes to from a database that nobody is connected to. It is whole
	// or it does not exist.
	Copy(ctx context.Context, from, to string, facts Facts) error
	// Rename gives a database its final name, in one step.
	Rename(ctx context.Context, from, to string, facts Facts) error
	// Drop removes one. What is not there is no error.
	Drop(ctx context.Context, id string) error
	// Clients lists who else is connected to a database, or to any where id
	// is "", as far as that can be told.
	Clients(ctx context.Context, id string) ([]Client, error)
	// Shared reports whether others use the server too, and the time by its
	// clock: there, what seems to have lost its owner is looked at twice.
	Shared(ctx context.Context) (now time.Time, shared bool, err error)
	// Clear removes what crashes left behind; young and owned work stays.
	Clear(ctx context.Context) error
	// Whole reports whether a template or snapshot is as it was made.
	Whole(ctx context.Context, e Entry) (bool, error)
	// References tells to which tables the foreign keys of each table of a
	// template lead, as far as that is known.
	References(ctx context.Context, e Entry) (map[string][]string, error)
	// Watch notes the present state of a database; the returned function
	// tells whether anybody came to it since, waiting for news of that.
	Watch(ctx context.Context, id string) (came func(wait time.Duration) (bool, error), err error)
	// Open opens one for work.
	Open(ctx context.Context, id string, s Session) (Database, error)
	Close() error
}

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
	// Keep makes a snapshot of the present state. It returns the witness's
	// baseline of this database in that state, nil where there is none.
	Keep(ctx context.Context, to string, facts Facts) (json.RawMessage, error)
	// Contents sums up all that the database holds, in no order: two databases
	// with the same contents hold the same. Of copies of one template the
	// server's own numbers of objects are the same too: with kin they count.
	Contents(ctx context.Context, kin bool) ([]Content, error)
	// Changes tells how the database differs from its start state.
	Changes(ctx context.Context, c Compare) (*Changes, error)
	Close() error
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
	slices.SortFunc(all, func(a, b Difference) int { return strings.Compare(a.Kind+"\x00"+a.Name, b.Kind+"\x00"+b.Name) })
	return all
}

// Script is SQL text that came from a file.
type Script struct {
	File  string
	Text  string
	First int  // the file's line at which Text begins
	Dump  bool // a dump: it may mention what is not there
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
	Way       Way             `json:"way"` // "" where nothing was touched
	Why       string          `json:"why,omitempty"`
	Tables    []TableReport   `json:"tables"`
	Kept      []string        `json:"kept,omitempty"` // tables that differ and were to be kept
	Sequences int             `json:"sequences"`
	Pages     int             `json:"pages,omitempty"`
	Schema    bool            `json:"schema"`             // the schema had changed
	Reconnect bool            `json:"reconnect"`          // clients have to connect again
	Noted     bool            `json:"-"`                  // the facts say already that the copy is at its start state
	Dropped   []string        `json:"dropped,omitempty"`  // objects that had been added
	Settings  []string        `json:"settings,omitempty"` // settings and rights of the database itself that had been changed
	Stays     []string        `json:"stays,omitempty"`    // what is not as in the start state, and could not be put back
	Baseline  json.RawMessage `json:"-"`                  // for the facts; nil where none could be taken
	// Later does what may follow the answer and makes the next reset cheaper.
	// It returns the baseline, and is done before the database is used again;
	// nil where there is nothing to do.
	Later func(context.Context) (json.RawMessage, error) `json:"-"`
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
	return r.Way != "" && r.Way != Truncation || r.Schema || r.Sequences+len(r.Settings) > 0 || len(r.Differing()) > 0
}

// TableReport counts the rows of one table that a reset removed and put back.
type TableReport struct {
	Name    string `json:"name"`
	Removed int64  `json:"removed"`
	PutBack int64  `json:"put_back"`
}

// Compare asks for changes.
type Compare struct {
	Start    string
	Baseline json.RawMessage
	Last     string // as of Reset
	Rows     int    // how many rows of each table to return
}

// Changes tells how a database differs from its start state.
type Changes struct {
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

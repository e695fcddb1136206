package engine

import (
	"context"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"hemzo/internal/fault"
)

// About describes a server.
type About struct {
	Engine  string `json:"engine"`
	Version string `json:"version"`
	Where   string `json:"where"`
	Address string `json:"address"` // its folder or host and port
	// InPlace reports that a reset can put back rows, and tell which: where it is
	// false every reset of what was touched replaces the copy.
	InPlace bool `json:"-"`
	// Notes tell what was found out of it, and what is slower or impossible on it.
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

// Patience says how long a server that has no connection free is waited for,
// and takes what a user should know meanwhile; Say may be nil.
type Patience struct {
	Wait time.Duration
	Run  bool // it is opened for a run, and may have room for so many at once
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
	Since       time.Time `json:"since"`               // connected
	Began       time.Time `json:"began,omitzero"`      // its transaction, where one is open
	WaitsFor    []int     `json:"waits_for,omitempty"` // the pids of those that hold the locks that it waits for
	Query       string    `json:"query"`
}

// String is the session in words.
func (c Client) String() string {
	parts := slices.DeleteFunc([]string{fmt.Sprintf("pid %d", c.PID), c.User, c.Application, c.State},
		func(s string) bool { return s == "" })
	text := strings.Join(parts, ", ")
	switch {
	case !c.Began.IsZero() && strings.Contains(c.State, "in transaction"):
		text += " since " + c.Began.Format("15:04:05")
	case !c.Began.IsZero():
		text += ", in a transaction since " + c.Began.Format("15:04:05")
	case !c.Since.IsZero():
		text += ", since " + c.Since.Format("15:04:05")
	}
	for _, pid := range c.WaitsFor {
		text += fmt.Sprintf(", waits for pid %d", pid)
	}
	if c.Query != "" {
		text += ": " + c.Query
	}
	return text
}

// Blocked is the cause of an error where sessions were in the way for as long
// as was to be waited.
type Blocked struct {
	Sessions []Client // none where they have ended since, or cannot be told
	Waited   time.Duration
}

// InTheWay is the error of which Blocked is the cause.
func InTheWay(all []Client, waited time.Duration, next, what string) *fault.Error {
	e := fault.New(fault.Failed, next, "%s (waited %s)", what, waited)
	e.Reason = &Blocked{Sessions: all, Waited: waited}
	for _, c := range all {
		e.Lines = append(e.Lines, c.String())
	}
	return e
}

func (b *Blocked) Error() string {
	return fmt.Sprintf("%d sessions are in the way (waited %s)", len(b.Sessions), b.Waited)
}

// Visitor tells who came to a database.
type Visitor int

// The visitors. Where it cannot be told who came, somebody did.
const (
	Nobody   Visitor = iota
	Hemzo            // commands of Hemzo's alone
	Somebody         // a client
)

// Server holds templates, copies and snapshots. Its methods may be called
// from several goroutines at once.
type Server interface {
	About() About
	// Connection tells how a database with these facts is reached under the
	// name id, whether it is there or not.
	Connection(id string, facts Facts) Connection
	// List returns all of some kinds that bears Hemzo's mark, in no order; without kinds
	// that of every kind.
	List(ctx context.Context, kinds ...Kind) ([]Entry, error)
	// Find returns one, or ErrNotFound.
	Find(ctx context.Context, id string) (Entry, error)
	// UpdateFacts changes the facts of one.
	UpdateFacts(ctx context.Context, id string, change func(*Facts)) error
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
	// IsIntact reports whether a template or snapshot is as it was made.
	IsIntact(ctx context.Context, e Entry) (bool, error)
	// Tables tells the tables of a template, and to which tables the foreign keys
	// of each lead; nil where that is not known.
	Tables(ctx context.Context, e Entry) (map[string][]string, error)
	// Watch notes the present state of a database; the returned function
	// tells who came to it since, waiting for news of that.
	Watch(ctx context.Context, id string) (came func(wait time.Duration) (Visitor, error), err error)
	// Open opens one for work.
	Open(ctx context.Context, id string, s Session) (Database, error)
	Close() error
}

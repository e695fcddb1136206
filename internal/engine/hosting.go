package engine

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net"
	"syscall"
)

// Hosting says where the servers of an engine can be, and how they come to be
// there. What is nil the engine cannot.
type Hosting struct {
	// Embedded opens the server that is a part of this program, its data in a
	// folder.
	Embedded func(ctx context.Context, folder string, spec Spec) (Server, error)
	// Process runs a server as a process of this machine.
	Process ProcessHost
	// Container runs a server in a container.
	Container ContainerHost
	// Connect opens a server that Process or Container runs, at the address that
	// its probe gave, where one server holds all copies.
	Connect func(ctx context.Context, address json.RawMessage, p Patience) (Server, error)
	// Prune drops from such a server what does not outlive it, before it is
	// ended and what is left is kept for the next start.
	Prune func(ctx context.Context, address json.RawMessage) error
	// PerCopy opens the copies where each has a server of its own, which the fleet
	// starts and ends as Process or Container says. See Separate.
	PerCopy func(ctx context.Context, fleet Fleet, spec Spec) (Server, error)
	// Existing works on servers that are there already.
	Existing Remote
	// Gate opens what stands before a copy of the engine's own server whose resets are rollbacks; the process
	// that owns the copy has it. told is the connection that clients were told: its user
	// and password are asked for. nil where the engine knows no reset by rollback.
	Gate func(ctx context.Context, s Server, id string, told Connection, session Session) (Gate, error)
	// Foretold tells how a copy will be reached before its server runs: other
	// addresses pass its connections on.
	Foretold *Foretold
	// Trial imitates what tests do; nil where nothing is known of that.
	Trial *Trial
}

// Separate reports whether each copy has a server of its own in a place, "memory" or
// "container": PerCopy opens them there, Connect elsewhere. Where an engine has both,
// only its processes are separate.
func (h Hosting) Separate(where string) bool {
	return h.PerCopy != nil && (where == "memory" || h.Connect == nil)
}

// ProcessHost is how an engine's server is run as a process of this machine.
type ProcessHost interface {
	// Identity names the server that a Spec wants: what asks for the same
	// shares one. It fails where this machine has no such server.
	Identity(Spec) (string, error)
	// Room estimates the bytes that the server's data takes at its start, with
	// what is kept in a folder for it.
	Room(spec Spec, kept string) int64
	// Launch lays out a server with its data in a folder of Home. The function
	// that it returns is called until a server runs: failed is why the last one
	// did not start, nil at first. It gives the program to run next, or an error
	// to stop with.
	Launch(home Home, spec Spec) (next func(ctx context.Context, failed error) (*Program, error), err error)
	// Clean ends and removes what a server that was killed left beside its data
	// in a folder: processes, shared memory. Nobody starts a server there
	// meanwhile.
	Clean(folder string) error
}

// ErrNotReady is in the chain of what a probe returns as long as the server may
// still come to answer.
var ErrNotReady = errors.New("the server does not answer yet")

// ErrUnfit is in the chain of what a probe returns where the server answers, and will never
// do what it is to begin with.
var ErrUnfit = errors.New("the server cannot begin with that")

// Program is a server to be run as a process.
type Program struct {
	Path   string   // of the executable
	Args   []string // after its name
	Env    []string // "NAME=VALUE", added to this process's
	Folder string   // to run in
	User   *User    // to run as; nil for this process's own
	Prints string   // the file for what it prints; "" for Home.Log
	Stop   syscall.Signal
	Kill   syscall.Signal
	// Probe asks the server a first query. After an error that is
	// ErrNotReady it is called again, as long as the program runs. Probe returns what Connect wants to know of it.
	Probe func(ctx context.Context) (json.RawMessage, error)
	// Ended says why the server ended before it answered, with its exit code.
	Ended func(code int) error
	// Save is called after a clean end, to keep for the next start what Prune
	// left, and returns where; nil for nothing.
	Save func() (folder string, err error)
}

// User is somebody that a process runs as.
type User struct{ UID, GID uint32 }

// Home is where a server that is a process may put things.
type Home struct {
	Folder string    // for its data; it is there, and goes with the server
	From   string    // a folder with the files that the server begins with; "" for none
	Kept   string    // for what makes the next start faster; it stays
	Log    io.Writer // for what the server prints
	// Password is the server's, the same at each start: nobody else knows it.
	Password string
}

// ContainerHost is how an engine's server is run in a container.
type ContainerHost interface {
	// Image says what is run.
	Image(Spec) Image
	// Probe asks a server a first query, and returns what Connect wants to know
	// of it. It is asked again until it succeeds, the container ends, or time is up.
	Probe(ctx context.Context, spec Spec, c Candidate) (json.RawMessage, error)
}

// Candidate is a container whose server may be ready.
type Candidate struct {
	Kept     string                // a folder for what makes the next start faster; "" for none
	From     string                // a folder with the files that the server begins with; "" for none
	Address  func(port int) string // "127.0.0.1:34567", on this machine
	Direct   func(port int) string // the same without a proxy, for Hemzo's own sessions; "" where there is none
	Password string                // that the server was given
	Printed  func(text string) bool
	Running  func(ctx context.Context) bool
}

// Image is how a server is run in a container.
type Image struct {
	Name     string // where the project file names none
	Ports    []int  // that it listens on, the main one first
	Args     []string
	Env      []Setting
	Password string // the variable that names the file with the password; "" for none
	Data     string // the variable, of the image, that names the data folder
	Folder   string // the data folder where that is not set
	Stop     string // the signal that ends the server cleanly: "INT"
	// Files are put in before the start, by absolute path, readable by all in it; nil for none.
	Files func(password string) map[string][]byte
}

// Fleet starts and ends the servers of an engine of which each copy has one of
// its own. Its methods may be called from several goroutines.
type Fleet interface {
	// Folder is this user's, for facts and templates of these servers. It stays.
	Folder() string
	// About tells where the servers run.
	About() About
	// Start starts the server of a copy from the files of a folder, none where
	// that is "", and returns once it has answered its probe. One that runs is
	// ended first. Where it does not start nothing is left of it.
	Start(ctx context.Context, id, from string) (Endpoint, error)
	// Stop ends the server of a copy and removes its data. What is not there is
	// no error.
	Stop(ctx context.Context, id string) error
	Close() error
}

// Gate stands between the clients of one copy and its server, and puts all that
// they do into one transaction. Its methods may be called from several goroutines.
type Gate interface {
	// ServeConn speaks to one client until it goes or ctx ends. The caller closes
	// the connection.
	ServeConn(ctx context.Context, client net.Conn) error
	// Reset takes back what the clients have done; they stay connected. A client that
	// keeps the session busy is waited for; then it is a Blocked, or with force its
	// statement is cancelled and its connection ended. What no rollback puts back may
	// be put back after the answer: no client does anything before.
	Reset(ctx context.Context, s Session) (*Report, error)
	// Clients lists who is connected to the gate; the copy knows of one session alone.
	Clients() []Client
	// Remarks are what has come since they were last asked for.
	Remarks() []Remark
	// Commit makes what they have done a part of the copy, so that it can be compared and
	// copied; the next Reset takes that back too. Where a transaction of a client is open
	// that is a Blocked, or with force it is rolled back.
	Commit(ctx context.Context, force bool) error
	// Release takes back what they have done, and has the gate let go of the copy, which
	// may be replaced then. The clients stay connected.
	Release(ctx context.Context) error
	// Close takes it back too, and ends the gate's sessions.
	Close() error
}

// Remark says in what a transaction that is rolled back differs from what clients of a
// copy may expect; each is made once.
type Remark struct {
	Kind  string `json:"kind"`
	Text  string `json:"text"`
	Unfit bool   `json:"unfit"` // something failed by it: the suite needs another way to reset
}

// Endpoint is how one server is reached.
type Endpoint struct {
	At       map[int]string  `json:"at,omitempty"`       // "127.0.0.1:34567" for each of its ports
	Password string          `json:"password,omitempty"` // of the server
	Address  json.RawMessage `json:"address,omitempty"`  // what its probe gave
	Folder   string          `json:"folder,omitempty"`   // of its data, where that is on this machine
}

// Remote is how an engine works on servers which are there already.
type Remote interface {
	// Schemes lists how the URLs of its servers begin, without the colon.
	Schemes() []string
	// Hosts lists the machines that a URL leads to; sockets are left out.
	Hosts(url string) ([]string, error)
	// Open opens the server at a URL.
	Open(ctx context.Context, url string, spec Spec, p Patience) (Server, error)
}

// Foretold is how the connection of a copy is told before its server runs.
type Foretold struct {
	// Ports lists the ports that a copy is reached at, the main one first.
	Ports func(Spec) []int
	// Connection tells the connection of a copy to be, at the given endpoint; nil where that
	// cannot be known: then copies are made at once.
	Connection func(spec Spec, at Endpoint, id string, facts Facts) Connection
	// Move tells a copy's connection with other addresses of its ports.
	Move func(c Connection, at map[int]string) Connection
}

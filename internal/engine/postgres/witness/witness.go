// Package witness tells which tables of a database were touched since a moment
// at which its state was noted, without reading them: from the numbers of
// transactions, from the write-ahead log, and from the visibility map. It knows
// sessions, not how they come to be.
package witness

import (
	"errors"
	"sync"

	"hemzo/internal/engine/postgres/schema"
	"hemzo/internal/engine/postgres/wal"
)

// Server is what is known of the server that a database is on. Its methods may
// be called from several goroutines.
type Server struct {
	// Trust tells what of the server can be believed.
	Trust func() Trust
	// Super reports whether Hemzo's role is a superuser.
	Super func() bool
	// Socket is the folder of a private server, with its data; "" where this
	// process sees none: the log is then read through a session.
	Socket func() string
	// Major returns the server's major version.
	Major func() string

	Catalogs schema.Catalogs

	mu  sync.Mutex // for what follows
	log wal.Log    // once it was asked for, but for its Fetch
}

// Trust is what of a server can be believed; the zero Trust is for a server of
// which nothing is known, and whose every row is read.
type Trust struct {
	// Map says that the visibility map shows what was written to, and nothing else:
	// what reads a table leaves it alone, and nobody vacuums but Hemzo.
	Map bool `json:"map"`
	// Log says that the write-ahead log does.
	Log bool `json:"log"`
	// Why says what the self-test found that is not so; "" where both can be believed.
	Why string `json:"why,omitempty"`
}

// Cannot says why rows cannot be put back in place, or what was touched not be
// told.
type Cannot struct{ Why string }

// Error returns Why.
func (e Cannot) Error() string { return e.Why }

// ErrGone says that a database is not the one that was looked at before: another
// has taken its place.
var ErrGone = errors.New("the copy was replaced meanwhile")

// Look looks at one database again and again. It is for one goroutine at a time.
type Look struct {
	Server *Server
	ID     string // the database's name
	OID    uint32 // of what was looked at; 0 where that was not asked yet
	// Birth is the transaction, the database's number and the position in the log
	// at which a copy was made, as three words; "" where that is not known.
	Birth string
	// FromStart says that the baseline is that of the start state, not one that
	// was noted after a reset.
	FromStart bool
	Noted     bool     // the map is not asked, but what VACUUM noted of it: Note comes before each look
	Keepers   []uint32 // sessions whose transactions have a number, and write nothing
	Writers   int64    // sessions with transactions that have a number, at the last look
	Running   int64    // sessions that were running a statement

	known      bool         // the session that asks was seen to be in the database of OID
	installed  bool         // it has the function that asks the map
	cleanXID   int64        // the next transaction's number when nothing was touched; 0 where unknown
	clean      wal.Position // the log tells nothing up to here that the baseline does not; 0 where unknown
	now        Moment       // of the last look
	far        bool         // the log since the one before could not be read
	log        wal.Log
	folder     string // of the database's files
	folderSeen bool   // this process can look there
	fileOwners map[uint32]fileOwner

	resets        int   // in place
	pendingVacuum []int // tables of the baseline that are still to be vacuumed

	countersOf   []Counter // of a baseline, with the query for them
	countersText string
}

// NewSession says that another session asks from now on.
func (l *Look) NewSession() { l.cleanXID, l.installed, l.known = 0, false, false }

// NewBaseline says that another baseline is compared with from now on.
func (l *Look) NewBaseline() { l.FromStart, l.clean, l.fileOwners = false, 0, nil }

// DropPending forgets which tables were to be vacuumed.
func (l *Look) DropPending() { l.pendingVacuum = nil }

// Replaced says that another database has taken this one's place.
func (l *Look) Replaced() { l.OID, l.clean, l.Birth = 0, 0, "" }

// Put is what a reset puts back.
type Put struct {
	Base     Baseline
	Tables   []int // of Base
	Counters []Counter
	Catalogs []int        // of Base, that were written to
	XID      string       // of the transaction that does it
	Alone    bool         // no other is under way with a lower number
	Switched bool         // it has switched triggers off and on again
	At       wal.Position // of the look that found this
}

// Mark is that of the i-th table.
func (p *Put) Mark(i int) Mark { return p.Base.Tables[p.Tables[i]] }

// Names of the tables.
func (p *Put) Names() []string {
	names := make([]string, len(p.Tables))
	for i := range p.Tables {
		names[i] = p.Mark(i).Name
	}
	return names
}

// Stamp notes that a table was put back. Where that was not the only transaction
// under way, what is written afterwards may look older, and the table is to be
// put back each time until it was.
func (p *Put) Stamp(m *Mark) {
	m.Since, m.Older, m.Vacuums = p.XID, !p.Alone, max(m.Vacuums, 0)
	if m.Older {
		m.Vacuums = -1
	}
}

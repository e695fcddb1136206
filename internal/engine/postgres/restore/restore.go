// Package restore puts the rows and counters of a database back, in one
// transaction, while clients stay connected. It knows sessions, not how they
// come to be.
package restore

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/witness"
)

// Plan is what a reset puts back, and from what.
type Plan struct {
	witness.Put
	Views  []int  // of Base: materialized views that were refreshed
	Start  string // the start state that the rows come from
	Report *engine.Report
}

// Session puts back in one database. It is for one goroutine at a time.
type Session struct {
	Look *witness.Look
	// Hands opens the session that writes, with the owner's rights and in replica
	// mode, or returns the one that is open.
	Hands func(context.Context) (*pgx.Conn, error)
	// From opens the session that reads the rows of a start state, or returns the
	// one that is open.
	From func(ctx context.Context, start string) (*pgx.Conn, error)
	// DropFrom drops what From reads: it has lost rows.
	DropFrom func(ctx context.Context, start string)
	// Writers counts the sessions of the database with a transaction's number.
	Writers func(context.Context) (int64, error)
	// Blocked says which sessions are in the way of some tables, where err is that.
	Blocked func(ctx context.Context, tables []string, err error) error
	Bound   bool // foreign keys and triggers hold for Hands: it is no superuser's
	Force   bool // sessions that are in the way are ended
	Often   bool // rows of small tables are kept in memory for the next time

	reader   *pgx.Conn // of the last From
	calls    bool      // of the start state callsFor: checks or defaults call functions of users'
	callsFor string

	kept     map[string]*local // tables of the start state keptFor, by name
	large    map[string]layout // those that are not kept
	keptFor  string
	keptSize int
}

func (s *Session) from(ctx context.Context, start string) (conn *pgx.Conn, err error) {
	s.reader, err = s.From(ctx, start)
	return s.reader, err
}

// rowsOf returns where the rows of a table of a start state come from.
func (s *Session) rowsOf(ctx context.Context, start string, m witness.Mark) (source, error) {
	if s.keptFor != start {
		s.forgetRows()
		s.kept, s.large, s.keptFor = map[string]*local{}, map[string]layout{}, start
	}
	if rows := s.kept[m.Name]; rows != nil {
		return rows, nil
	}
	conn, err := s.from(ctx, start)
	if err != nil {
		return nil, err
	}
	of, known := s.large[m.Name]
	if known {
		return remote{of, conn}, nil
	}
	if of, err = readLayout(ctx, conn, m.Name); err != nil {
		return nil, err
	}
	if s.Bound {
		of.format = "text"
	}
	if !s.Often {
		return remote{of, conn}, nil
	}
	rows, err := keepRows(ctx, conn, of)
	if errors.Is(err, errLarge) || err == nil && s.keptSize+rows.bytes() > allLimit {
		s.large[m.Name] = of
		return remote{of, conn}, nil
	}
	if err == nil && int64(len(rows.order)) != m.Count {
		err = ErrReferenceLost
	}
	if err != nil {
		return nil, err
	}
	s.kept[m.Name] = rows
	s.keptSize += rows.bytes()
	return rows, nil
}

// forgetRows lets go of rows that are kept.
func (s *Session) forgetRows() { s.kept, s.large, s.keptFor, s.keptSize = nil, nil, "", 0 }

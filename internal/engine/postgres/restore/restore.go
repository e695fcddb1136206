// Package restore puts the rows and counters of a database back, in one
// transaction, while clients stay connected. It knows sessions, not how they
// come to be.
package restore

import (
	"context"

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
	DropFrom func(context.Context)
	// Writers counts the sessions of the database with a transaction's number.
	Writers func(context.Context) (int64, error)
	// Blocked says which sessions are in the way of some tables, where err is that.
	Blocked func(ctx context.Context, tables []string, err error) error
	Force   bool // sessions that are in the way are ended

	reader   *pgx.Conn // of the last From
	calls    bool      // of the start state callsFor: checks or defaults call functions of users'
	callsFor string
}

func (s *Session) from(ctx context.Context, start string) (conn *pgx.Conn, err error) {
	s.reader, err = s.From(ctx, start)
	return s.reader, err
}

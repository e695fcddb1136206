package postgres

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/engine/postgres/restore"
	"hemzo/internal/engine/postgres/schema"
	"hemzo/internal/engine/postgres/witness"
)

// database is one database, opened as the role that owns it.
type database struct {
	server  *server
	id      string
	facts   engine.Facts
	session engine.Session
	conn    *pgx.Conn

	witnessConn   *pgx.Conn // asks the witness
	lookConn      *pgx.Conn // that did so last
	restoreConn   *pgx.Conn // puts back
	referenceConn *pgx.Conn // reads the rows of the start state referenceOf
	referenceOf   string

	keeper       *pgx.Conn // keeps the map exact; nil where nothing does
	restoreKeeps bool      // restoreConn does too
	keeperIdle   bool      // restoreConn alone does: the keeper's session has no transaction
	// the baseline of the start state freshOf, that the keeper began with
	fresh   json.RawMessage
	freshOf string

	warned   atomic.Bool     // the server has warned one of the sessions that vacuum
	holds    map[string]bool // locks that the keeper's session has
	readying chan struct{}   // closed when the sessions of the first reset are ready; nil where nobody readies them

	uses     sync.Mutex // for what follows, and for giving sessions back
	using    int        // requests under way
	requests int        // that there were

	end     time.Time          // until which the present reset may wait for locks
	limited map[*pgx.Conn]bool // connections that wait for less than the session's time

	look     witness.Look
	restore  restore.Session
	looks    int
	levelDue bool // somebody was here since what belongs to the database itself was compared

	read       witness.Baseline // what was read last of a witness.Baseline, from the text of readOf
	readOf     []byte
	startOf    string          // the start state that the next line is the baseline of
	start      json.RawMessage // it does not change as long as the start state is there
	foundStart engine.Entry    // a start state, once it was asked for

	schema    schema.Schema // of the start state schemaFor
	schemaFor string
}

// database opens one for work.
func (s *server) database(e engine.Entry, session engine.Session) *database {
	d := &database{server: s, id: e.ID, facts: e.Facts, session: session}
	d.look = witness.Look{Server: &s.witness, ID: e.ID, Birth: privateOf(e.Facts).Birth, Noted: !s.isSuperuser}
	d.restore = restore.Session{
		Look: &d.look, Hands: d.openRestore, From: d.openReference, DropFrom: d.dropReference, Blocked: d.blocked,
		Writers: d.countWriters, Bound: !s.isSuperuser, Force: session.Force, Often: session.Often,
	}
	return d
}

// lockTime is how long a lock may be waited for now.
func (d *database) lockTime() time.Duration {
	left := d.session.Wait
	if !d.end.IsZero() {
		left = min(left, time.Until(d.end))
	}
	return max(left, time.Millisecond)
}

// limitWaits has a connection that is open wait for locks as long as is left. In
// what had to wait for nobody the server is not told.
func (d *database) limitWaits(ctx context.Context, conn *pgx.Conn) error {
	left := d.lockTime()
	short := left < d.session.Wait*9/10
	if !short && !d.limited[conn] {
		return nil
	}
	_, err := conn.Exec(ctx, fmt.Sprintf("SET lock_timeout = %d", left.Milliseconds()), pgx.QueryExecModeSimpleProtocol)
	if err != nil {
		return fmt.Errorf("limiting what is waited for: %w", err)
	}
	if d.limited == nil {
		d.limited = map[*pgx.Conn]bool{}
	}
	d.limited[conn] = short
	return nil
}

// countWriters counts the sessions with a transaction's number.
func (d *database) countWriters(ctx context.Context) (int64, error) {
	oid := "(SELECT oid FROM pg_database WHERE datname = " + pg.Literal(d.id) + ")"
	return d.askInt(ctx, "SELECT "+d.server.witness.Writing("count(*)", oid, d.keepers()...))
}

func (d *database) connect(ctx context.Context) (*pgx.Conn, error) {
	if d.conn != nil {
		return d.conn, nil
	}
	conn, err := d.server.dialWithNotices(ctx, d.id, d.server.owner(d.facts), d.session.Said)
	if err != nil {
		return nil, fmt.Errorf("connecting to %s: %w", d.id, err)
	}
	if _, err := conn.Exec(ctx, "SET synchronous_commit = on"); err != nil {
		conn.Close(ctx)
		return nil, fmt.Errorf("connecting to %s: %w", d.id, err)
	}
	d.conn = conn
	return conn, nil
}

// use has the sessions of the database be those of a request, until done is called. On a
// server of others they are given back soon after the last, at once where it is crowded: the
// one that puts back later, as most tests end within that time.
func (d *database) use() (done func()) {
	if d.server.private {
		return func() {}
	}
	d.awaitReady()
	return d.beginUse()
}

func (d *database) beginUse() (done func()) {
	d.uses.Lock()
	defer d.uses.Unlock()
	d.using++
	d.requests++
	return func() {
		d.uses.Lock()
		defer d.uses.Unlock()
		d.using--
		seldom, often, after := idleShort, idleLong, d.requests
		if d.server.crowded.Load() {
			seldom, often = 0, 0
		}
		time.AfterFunc(seldom, func() { d.giveBack(after, &d.referenceConn, &d.witnessConn) })
		time.AfterFunc(often, func() { d.giveBack(after, &d.restoreConn) })
	}
}

// giveBack closes sessions that nobody has used since a request, but for what keeps the map
// exact.
func (d *database) giveBack(after int, all ...**pgx.Conn) {
	d.uses.Lock()
	defer d.uses.Unlock()
	if d.using > 0 || d.requests != after {
		return
	}
	ctx, stop := context.WithTimeout(context.Background(), time.Second)
	defer stop()
	for _, conn := range all {
		if *conn != nil && !(conn == &d.restoreConn && d.restoreKeeps) {
			_ = (*conn).Close(ctx)
			delete(d.limited, *conn)
			*conn = nil
		}
	}
}

func (d *database) Close() error {
	d.awaitReady()
	d.uses.Lock()
	d.requests++ // nothing is left to give back
	d.using++
	d.uses.Unlock()
	defer func() {
		d.uses.Lock()
		d.using--
		d.uses.Unlock()
	}()
	ctx, stop := context.WithTimeout(context.Background(), time.Second)
	defer stop()
	d.endKeeper(ctx)
	for _, conn := range []*pgx.Conn{d.witnessConn, d.restoreConn, d.referenceConn} {
		if conn != nil {
			_ = conn.Close(ctx)
		}
	}
	d.witnessConn, d.restoreConn, d.referenceConn, d.limited = nil, nil, nil, nil
	if d.conn == nil {
		return nil
	}
	// What this session changed is counted before it ends.
	_, _ = d.conn.Exec(ctx, "SELECT pg_stat_force_next_flush()")
	err := d.conn.Close(ctx)
	d.conn = nil
	return err
}

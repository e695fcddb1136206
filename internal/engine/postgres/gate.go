package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"hemzo/internal/engine"
	"hemzo/internal/engine/gating"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/engine/postgres/wal"
	"hemzo/internal/engine/postgres/witness"
	"hemzo/internal/fault"
	"hemzo/internal/relay/pgwire"
)

// gate is a relay before one copy, and what its resets put back that a rollback does
// not.
type gate struct {
	*pgwire.Relay
	server  *server
	id      string
	facts   engine.Facts
	session engine.Session

	base witness.Baseline // of the start state
	asks string           // which of its counters have moved; "" where there are none

	mu     sync.Mutex // for what follows
	conn   *pgx.Conn  // Hemzo's own, for counters
	look   witness.Look
	from   wal.Position // up to where the counters were looked at in the log; 0 where they were not
	resets int          // that took something back
}

// openGate opens what stands before a copy whose resets are rollbacks.
func openGate(ctx context.Context, from engine.Server, id string, told engine.Connection, session engine.Session) (
	engine.Gate, error) {
	s := from.(*server)
	e, err := s.Find(ctx, id)
	if err != nil {
		return nil, err
	}
	g := &gate{server: s, id: id, facts: e.Facts, session: session}
	if g.base, err = s.startBaseline(ctx, e.Facts.Start); err != nil {
		return nil, err
	}
	g.asks = witness.Moved(g.base.Counters)
	g.look = witness.Look{Server: &s.witness, ID: id}
	g.Relay = pgwire.New(pgwire.Config{
		User: told.User, Password: told.Password, Database: id, Dialect: dialect, Wait: gating.IdleLimit,
		Connect: g.connect, Dial: g.dial,
	})
	return g, nil
}

// startBaseline is that of a start state.
func (s *server) startBaseline(ctx context.Context, start string) (b witness.Baseline, err error) {
	e, err := s.Find(ctx, start)
	if err != nil {
		return b, err
	}
	if e.Facts.Baseline == nil || json.Unmarshal(e.Facts.Baseline, &b) != nil || !b.Safe() {
		return b, fault.New(fault.Lacking, "use another way to reset",
			"nothing is noted of the start state %s, so that its sequences could not be put back", start)
	}
	return b, nil
}

// connect opens the session that all clients share, as the role that they are.
func (g *gate) connect(ctx context.Context) (*pgconn.PgConn, error) {
	config := g.server.settings(g.id)
	config.User = g.server.login(g.id, g.facts)
	config.Password = g.server.password(config.User)
	delete(config.RuntimeParams, "application_name")
	return pgconn.ConnectConfig(ctx, &config.Config)
}

func (g *gate) dial(ctx context.Context) (net.Conn, error) {
	network, address := pgconn.NetworkAddress(g.server.config.Host, g.server.config.Port)
	return (&net.Dialer{}).DialContext(ctx, network, address)
}

// vacuumEvery is after how many resets the rows that were rolled back are vacuumed
// away: until then every look at a table passes over them.
const vacuumEvery = 500

// Reset rolls the transaction back, and puts back what that does not. Where somebody
// has committed all the same the copy is put back by truncation.
func (g *gate) Reset(ctx context.Context, with engine.Session) (*engine.Report, error) {
	report := &engine.Report{Tables: []engine.TableReport{}}
	done, err := g.Relay.Reset(ctx, with.Wait, with.Force, g.putBack)
	if err != nil {
		return nil, fmt.Errorf("rolling back %s: %w", g.id, err)
	}
	if done.Busy != nil {
		return nil, gating.Busy(*done.Busy, g.user(), with.Wait)
	}
	if done.Touched {
		report.Way = engine.Rollback
	}
	if !done.Escaped {
		return report, nil
	}
	if err := done.Settled(); err != nil {
		return nil, fmt.Errorf("rolling back %s: %w", g.id, err)
	}
	d, err := g.server.Open(ctx, g.id, g.session)
	if err != nil {
		return nil, err
	}
	report, err = d.Reset(ctx, engine.Reset{Start: g.facts.Start, Last: g.facts.Start})
	if err = errors.Join(err, d.Close()); err != nil {
		return nil, err
	}
	g.forget()
	return report, g.Relay.Release(ctx)
}

// forget forgets what was found in the log: another database may take the copy's place.
func (g *gate) forget() {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.from, g.look = 0, witness.Look{Server: &g.server.witness, ID: g.id}
}

// settleWithin bounds how long what no rollback puts back may take: a client waits.
const settleWithin = time.Minute

// putBack puts counters back, which no rollback does.
func (g *gate) putBack(ctx context.Context) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	ctx, stop := context.WithTimeout(ctx, settleWithin)
	defer stop()
	g.resets++
	if g.asks == "" && g.resets%vacuumEvery != 0 {
		return nil
	}
	known := g.conn != nil
	err := g.putBackOnce(ctx)
	if err != nil && known && g.conn != nil && g.conn.IsClosed() { // somebody has ended the session meanwhile
		err = g.putBackOnce(ctx)
	}
	return err
}

func (g *gate) putBackOnce(ctx context.Context) error {
	if g.conn == nil || g.conn.IsClosed() {
		config := g.server.ownSettings(g.id)
		config.DefaultQueryExecMode = pgx.QueryExecModeCacheStatement
		var err error
		if g.conn, err = g.server.dialRetrying(ctx, config); err != nil {
			return err
		}
		// What is to be read of the log has to be written out first.
		if _, err := g.conn.Exec(ctx, "SET synchronous_commit = on", pgx.QueryExecModeSimpleProtocol); err != nil {
			return err
		}
	}
	if g.resets%vacuumEvery == 0 {
		if _, err := g.conn.Exec(ctx, "VACUUM (TRUNCATE off)", pgx.QueryExecModeSimpleProtocol); err != nil {
			return err
		}
	}
	if g.asks == "" {
		return nil
	}
	// What is put back is written to the log, too: it is looked at once more.
	places, to, ok, err := g.look.MovedSince(ctx, g.conn, g.base, g.from)
	if err == nil && !ok {
		places, err = witness.Ask(ctx, g.conn, g.asks)
	}
	g.from = 0 // where it fails all are asked for the next time
	if err != nil {
		return err
	}
	if len(places) > 0 {
		err = g.putBackAt(ctx, places)
	}
	if err == nil {
		g.from = to
	}
	return err
}

// putBackAt puts back the counters at some places of the baseline, counted from one.
func (g *gate) putBackAt(ctx context.Context, places []int) error {
	names, values, called := make([]string, len(places)), make([]int64, len(places)), make([]bool, len(places))
	for i, at := range places {
		c := g.base.Counters[at-1]
		names[i], values[i], called[i] = c.Name, c.Last, c.Called
	}
	_, err := g.conn.Exec(ctx, "SELECT count(pg_catalog.setval(n::regclass, v, c)) FROM unnest($1::text[], "+
		"$2::bigint[], $3::bool[]) AS u (n, v, c)", names, values, called)
	if pg.State(err) == pg.InsufficientPrivilege {
		err = fmt.Errorf("a sequence cannot be put back: %w", err)
	}
	return err
}

// Commit makes what was done a part of the copy.
func (g *gate) Commit(ctx context.Context, force bool) error {
	err := gating.Commit(ctx, g.session, force, g.user(), g.Relay.Commit)
	if err != nil {
		return err
	}
	return g.hangUp(ctx) // the copy may be put aside now
}

// Release takes back what was done, and lets go of the copy.
func (g *gate) Release(ctx context.Context) error {
	if _, err := g.Reset(ctx, g.session); err != nil {
		return err
	}
	g.forget()
	if err := g.Relay.Release(ctx); err != nil {
		return err
	}
	return g.hangUp(ctx)
}

// hangUp ends Hemzo's own session. What uses it has ended.
func (g *gate) hangUp(ctx context.Context) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.conn == nil {
		return nil
	}
	conn := g.conn
	g.conn = nil
	return conn.Close(ctx)
}

// user is who clients are.
func (g *gate) user() string { return g.server.login(g.id, g.facts) }

// Clients lists who is connected.
func (g *gate) Clients() []engine.Client { return gating.Clients(g.Shared, g.user()) }

// Remarks says in what the transaction was not what clients may expect.
func (g *gate) Remarks() []engine.Remark { return gating.Remarks(g.Shared) }

// Close takes back what was done, and ends the sessions.
func (g *gate) Close() error {
	ctx, stop := context.WithTimeout(context.Background(), 5*time.Second)
	defer stop()
	_, err := g.Reset(ctx, engine.Session{Force: true})
	return errors.Join(err, g.Relay.Close(), g.hangUp(ctx))
}

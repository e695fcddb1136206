package mariadb

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"hemzo/internal/engine"
	"hemzo/internal/engine/gating"
	"hemzo/internal/relay/mywire"
	"hemzo/internal/sqltext"
)

// gate is a relay before one copy, and what its resets put back that a rollback does not:
// AUTO_INCREMENT, sequences, tables of engines that know no transactions.
type gate struct {
	*mywire.Relay
	session engine.Session
	id      string
	start   string // the state that it goes back to
	user    string // of the tests

	mu       sync.Mutex // for what follows
	database *database
	state    *state
	base     json.RawMessage // of its last reset by truncation
	closed   bool
}

// wireDialect are the lexical rules of what clients send: servers know no DELIMITER.
var wireDialect = func() sqltext.Dialect {
	d := dialect
	d.Delimiters = false
	return d
}()

// openGate opens what stands before a copy whose resets are rollbacks.
func openGate(ctx context.Context, from engine.Server, id string, told engine.Connection, session engine.Session) (
	engine.Gate, error) {
	e, err := from.Find(ctx, id)
	if err != nil {
		return nil, err
	}
	opened, err := from.Open(ctx, id, session)
	if err != nil {
		return nil, err
	}
	d, ok := opened.(*database)
	if !ok {
		return nil, errors.Join(fmt.Errorf("the copy %s is none of this engine", id), opened.Close())
	}
	g := &gate{session: session, id: id, start: e.Facts.Start, user: told.User, database: d}
	if g.state, err = d.state(ctx, g.start); err != nil {
		return nil, errors.Join(err, d.Close())
	}
	offered, err := d.at.offered()
	if err != nil {
		return nil, errors.Join(err, d.Close())
	}
	plugin := mywire.Native
	if d.at.MySQL {
		plugin = mywire.SHA2
	}
	g.Relay = mywire.New(mywire.Config{
		User: told.User, Password: told.Password, Schema: d.at.Schema, Plugin: plugin, Dialect: wireDialect,
		Wait: gating.IdleLimit, Commits: session.Commits,
		NoSavepoints: slices.ContainsFunc(g.state.Tables, func(t *table) bool { return t.Engine == "Aria" }),
		Connect:      g.connect, Kill: g.kill, TLS: offered,
	})
	return g, nil
}

// connect opens the session that all clients share, as the account that they are.
func (g *gate) connect(ctx context.Context, foundRows bool) (*mywire.Server, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if err := g.database.refresh(ctx); err != nil {
		return nil, err
	}
	at := g.database.at
	if at.TLS != "" { // the server gets to know the password
		c, err := at.dialAsTests(ctx)
		if err == nil {
			err = c.close()
		}
		if err != nil {
			return nil, err
		}
	}
	return mywire.Connect(ctx, at.config(at.account(), at.Password), foundRows)
}

// kill ends the statement of a session.
func (g *gate) kill(ctx context.Context, session uint32) error {
	g.mu.Lock()
	at := g.database.at
	g.mu.Unlock()
	c, err := at.dial(ctx)
	if err != nil {
		return fmt.Errorf("ending a statement: %w", err)
	}
	return errors.Join(c.do(ctx, fmt.Sprintf("KILL QUERY %d", session)), c.close())
}

// Reset rolls the transaction back, and puts back what that does not. Where somebody has
// committed all the same the copy is put back by truncation.
func (g *gate) Reset(ctx context.Context, with engine.Session) (*engine.Report, error) {
	report := &engine.Report{Tables: []engine.TableReport{}}
	var whole *engine.Report
	done, err := g.Relay.Reset(ctx, with.Wait, with.Force, func(ctx context.Context, escaped bool) (err error) {
		whole, err = g.putBack(ctx, escaped)
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("rolling back %s: %w", g.id, err)
	}
	if done.Busy != nil {
		return nil, gating.Busy(*done.Busy, g.user, with.Wait)
	}
	if done.Escaped {
		if err := done.Settled(); err != nil {
			return nil, fmt.Errorf("rolling back %s: %w", g.id, err)
		}
		return whole, nil
	}
	if done.Touched {
		report.Way = engine.Rollback
	}
	return report, nil
}

// settleWithin bounds how long what no rollback puts back may take: a client waits.
const settleWithin = time.Minute

// putBack puts back what no rollback does, or with escaped all. A session that was ended
// meanwhile is opened anew.
func (g *gate) putBack(ctx context.Context, escaped bool) (*engine.Report, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.closed {
		return nil, nil
	}
	ctx, stop := context.WithTimeout(ctx, settleWithin)
	defer stop()
	if escaped || !g.state.rollsBack() {
		r, err := g.database.Reset(ctx, engine.Reset{Start: g.start, Last: g.start, Baseline: g.base})
		if err != nil {
			return nil, err
		}
		g.base = r.Baseline
		return r, nil
	}
	known := g.database.hand != nil
	err := g.putBackCounters(ctx)
	if err != nil && known && broken(err) {
		_ = g.database.leave(&g.database.hand)
		err = g.putBackCounters(ctx)
	}
	return nil, err
}

// rollsBack reports whether a rollback puts all rows back.
func (s *state) rollsBack() bool {
	return !slices.ContainsFunc(s.Tables, func(t *table) bool { return t.Engine != "InnoDB" && t.Kind != "SEQUENCE" })
}

// putBackCounters puts back AUTO_INCREMENT where that has moved, and sequences, of which
// what was taken within their cache cannot be seen.
func (g *gate) putBackCounters(ctx context.Context) error {
	c, err := g.database.admin(ctx)
	if err != nil {
		return err
	}
	moved, err := g.moved(ctx, c)
	if err != nil {
		return err
	}
	var statements []string
	for _, t := range moved {
		statements = append(statements, fmt.Sprintf("ALTER TABLE %s AUTO_INCREMENT = %s", quote(t.Name), t.Next))
	}
	if len(moved) > 0 {
		if err := c.do(ctx, strings.Join(statements, ";")); err != nil {
			return fmt.Errorf("putting back AUTO_INCREMENT: %w", err)
		}
	}
	p := &putBack{database: g.database, c: c, state: g.state, report: &engine.Report{}}
	var sequences []*table
	for _, t := range g.state.Tables {
		if t.Kind == "SEQUENCE" {
			sequences = append(sequences, t)
		}
	}
	if len(sequences) == 0 {
		return nil
	}
	return p.sequences(ctx, sequences)
}

// moved are the tables whose AUTO_INCREMENT is another. InnoDB tells that of open tables;
// others are asked for, which opens them.
func (g *gate) moved(ctx context.Context, c *conn) (all []*table, err error) {
	schema := g.database.at.Schema
	now := map[string]counter{}
	if !g.database.at.Uncounted {
		if now, err = counters(ctx, c, schema, nil); err != nil {
			return nil, err
		}
	}
	var unseen []*table
	for _, t := range g.state.Tables {
		is, seen := now[t.Base]
		switch {
		case t.Next == "" || t.Kind == "SEQUENCE":
		case !seen || is.Next == 0 || t.Uncounted:
			unseen = append(unseen, t)
		case is.Next != number(t.Next):
			all = append(all, t)
		}
	}
	if len(unseen) == 0 {
		return all, nil
	}
	rows, err := c.rows(ctx, "SELECT TABLE_NAME, AUTO_INCREMENT FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? "+
		"AND AUTO_INCREMENT IS NOT NULL", schema)
	if err != nil {
		return nil, fmt.Errorf("asking for AUTO_INCREMENT: %w", err)
	}
	for _, r := range rows {
		i := slices.IndexFunc(unseen, func(t *table) bool { return t.Name == r[0] && t.Next != r[1] })
		if i >= 0 {
			all = append(all, unseen[i])
		}
	}
	return all, nil
}

// Clients lists who is connected.
func (g *gate) Clients() []engine.Client { return gating.Clients(g.Shared, g.user) }

// Remarks says in what the transaction was not what clients may expect.
func (g *gate) Remarks() []engine.Remark { return gating.Remarks(g.Shared) }

// Commit makes what was done a part of the copy.
func (g *gate) Commit(ctx context.Context, force bool) error {
	if err := gating.Commit(ctx, g.session, force, g.user, g.Relay.Commit); err != nil {
		return err
	}
	return g.hangUp() // the copy may be put aside now
}

// Release takes back what was done, and lets go of the copy.
func (g *gate) Release(ctx context.Context) error {
	if _, err := g.Reset(ctx, g.session); err != nil {
		return err
	}
	if err := g.Relay.Release(ctx); err != nil {
		return err
	}
	g.mu.Lock()
	g.base = nil // another database may take the copy's place
	g.mu.Unlock()
	return g.hangUp()
}

// hangUp ends Hemzo's own sessions. What uses them has ended.
func (g *gate) hangUp() error {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.database.Close()
}

// Close takes back what was done, and ends the sessions.
func (g *gate) Close() error {
	ctx, stop := context.WithTimeout(context.Background(), 5*time.Second)
	defer stop()
	_, err := g.Reset(ctx, engine.Session{Force: true})
	err = errors.Join(err, g.Relay.Close(), g.hangUp())
	g.mu.Lock()
	defer g.mu.Unlock()
	g.closed = true
	return err
}

// Package pgwire resets a copy by rollback, on the wire: a listener's connections
// speak PostgreSQL's protocol, version 3.0, with it, and all that they do happens
// in one transaction of one session of the server, which a reset rolls back.
//
// A savepoint, the guard, stands in front of each piece of work: it is what a
// client's transaction, or its lone statement, is undone to. A client's BEGIN,
// COMMIT and ROLLBACK never reach the server.
package pgwire

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"hemzo/internal/relay"
	"hemzo/internal/sqltext"
)

// Config says what is relayed, and for whom.
type Config struct {
	User, Password, Database string // as clients have to name them
	Dialect                  sqltext.Dialect
	// Wait bounds how long a client waits for another whose transaction is open
	// and idle.
	Wait time.Duration
	// Connect opens a session on the copy, as the role that clients are.
	Connect func(context.Context) (*pgconn.PgConn, error)
	// Dial reaches the server to cancel a statement.
	Dial func(context.Context) (net.Conn, error)
}

// Relay is what stands before one copy. Its methods may be called from several
// goroutines.
type Relay struct {
	*relay.Shared // its IO is for what follows
	config        Config
	verify        func() (*verifier, error)
	server        *session // nil where there is none, or it was lost
	all           map[*client]bool
	closed        bool
	stays         bool        // what was committed is still to be taken back
	clock         atomic.Bool // the time of the transaction was asked for

	mu   sync.Mutex // for what follows, and which session a client speaks through
	keys map[uint32]*client
}

// New makes a relay; its session is opened for the first client.
func New(c Config) *Relay {
	return &Relay{Shared: relay.NewShared(0), config: c, all: map[*client]bool{}, keys: map[uint32]*client{},
		verify: sync.OnceValues(func() (*verifier, error) { return newVerifier(c.Password) })}
}

// errClosed says that the relay has ended.
var errClosed = errors.New("the relay has ended")

// session returns the one session, opened where there is none. The caller has IO.
func (r *Relay) session(ctx context.Context) (*session, error) {
	if r.closed {
		return nil, errClosed
	}
	if err := r.Failure(); err != nil {
		return nil, fmt.Errorf("the last reset has failed: %w", err)
	}
	if r.server != nil {
		return r.server, nil
	}
	conn, err := r.config.Connect(ctx)
	if err != nil {
		return nil, err
	}
	r.server, err = newSession(ctx, conn)
	return r.server, err
}

// lose gives the session up: what was done in it is rolled back by its end.
func (r *Relay) lose() {
	if r.server != nil {
		// What has become of it is not known, and sequences may have moved.
		r.stays = r.stays || r.server.touched || r.server.escaped
		r.server.conn.Close()
		r.server = nil
	}
	for c := range r.all {
		c.wasReset()
	}
}

// ServeConn speaks with one client until it goes or ctx ends. The caller closes the
// connection.
func (r *Relay) ServeConn(ctx context.Context, conn net.Conn) error {
	c := &client{relay: r, Client: relay.Client{Conn: conn}, in: bufio.NewReaderSize(conn, 16<<10),
		settings: map[string]string{}, pending: map[string]string{}, statements: map[string]*prepared{},
		portals: map[string]*portal{}, channels: map[string]bool{}}
	c.out = bufio.NewWriterSize(pipe{c}, 64<<10)
	cancel, err := c.greet(ctx)
	if cancel != nil {
		return r.cancel(ctx, *cancel)
	}
	if errors.Is(err, errRefused) {
		return nil
	}
	if err != nil || c.ID == 0 {
		return err
	}
	defer r.leave(c)
	if err := c.serve(ctx); err != nil && !errors.Is(err, errRefused) {
		return err
	}
	return nil
}

// enter notes a client, and gives it a key to cancel its statements with.
func (r *Relay) enter(c *client) {
	r.all[c] = true
	r.Enter(&c.Client)
	r.mu.Lock()
	defer r.mu.Unlock()
	r.keys[c.ID] = c
}

// leave forgets a client; its open transaction is undone.
func (r *Relay) leave(c *client) {
	_ = r.IO.Take(context.Background())
	if r.HasFloor(&c.Client) && r.server != nil {
		r.server.undo()
	}
	if r.server != nil {
		c.closeAll()
		r.server.closings = append(r.server.closings, c.closings...)
		if r.server.unnamed == c {
			r.server.unnamed = nil
		}
	}
	delete(r.all, c)
	r.mu.Lock()
	delete(r.keys, c.ID)
	r.mu.Unlock()
	r.Leave(&c.Client)
	r.IO.Give()
	r.GiveFloor(&c.Client)
}

// cancelRequest is what a client sends to cancel another connection's statement.
type cancelRequest struct {
	id     uint32
	secret []byte
}

// cancel passes a request on where that client's statement is under way.
func (r *Relay) cancel(ctx context.Context, q cancelRequest) error {
	r.mu.Lock()
	c := r.keys[q.id]
	r.mu.Unlock()
	if c == nil || string(c.secret[:]) != string(q.secret) || !r.Busy(&c.Client) {
		return nil
	}
	return r.cancelFor(ctx, &c.Client)
}

// cancelFor cancels a client's statement, where it has a session.
func (r *Relay) cancelFor(ctx context.Context, of *relay.Client) error {
	r.mu.Lock()
	c := r.keys[of.ID]
	var s *session
	if c != nil {
		s = c.server
	}
	r.mu.Unlock()
	if s == nil {
		return nil
	}
	return r.cancelOn(ctx, s)
}

// cancelOn cancels what a session is doing.
func (r *Relay) cancelOn(ctx context.Context, s *session) error {
	conn, err := r.config.Dial(ctx)
	if err != nil {
		return fmt.Errorf("cancelling a statement: %w", err)
	}
	defer conn.Close()
	out := binary.BigEndian.AppendUint32(nil, uint32(12+len(s.secret)))
	out = binary.BigEndian.AppendUint32(out, 80877102)
	out = binary.BigEndian.AppendUint32(out, s.pid)
	_, err = conn.Write(append(out, s.secret...))
	return err
}

// Reset takes back all that was done: what is open becomes an error for the client
// whose it is. A client that keeps the session busy is waited for; after that it is
// returned, or with force its statement is cancelled and its connection ended.
//
// last puts back what no rollback does, and goes on when Reset has returned: no client
// does anything before it has ended. Where it fails they are told, and the next Reset
// tries it again.
func (r *Relay) Reset(ctx context.Context, wait time.Duration, force bool, last func(context.Context) error) (
	done relay.Done, err error) {
	done.Settled = r.Failure
	if done.Busy, err = r.TakeForReset(ctx, wait, force, r.cancelFor); done.Busy != nil || err != nil {
		return done, err
	}
	s := r.server
	for c := range r.all {
		c.wasReset()
	}
	done.Touched = r.stays || s != nil && s.touched
	done.Escaped = r.stays || s != nil && s.escaped
	again := r.Failure() != nil
	if !again && (s == nil || !s.touched) {
		r.IO.Give()
		return done, nil
	}
	if s != nil {
		ddl := s.ddl
		if err = s.restart(); err != nil {
			r.lose()
		}
		for c := range r.all {
			c.outdate(ddl)
		}
	}
	done.Settled = r.PutBack(ctx, last)
	return done, err
}

// Close ends the session; clients are told when they next speak.
func (r *Relay) Close() error {
	if err := r.IO.Take(context.Background()); err != nil {
		return err
	}
	defer r.IO.Give()
	r.lose()
	r.closed = true
	return nil
}

// Commit commits what was done, and lets go of the copy. Where transactions of clients
// are open nothing is done and these are returned; with force they are rolled back. A
// client that keeps the session busy is waited for as Reset does.
func (r *Relay) Commit(ctx context.Context, wait time.Duration, force bool) (open []relay.Open, err error) {
	busy, err := r.TakeForReset(ctx, wait, force, r.cancelFor)
	if err != nil {
		return nil, err
	}
	if busy != nil {
		return []relay.Open{*busy}, nil
	}
	defer r.IO.Give()
	for c := range r.all {
		if r.HasFloor(&c.Client) && (c.state == started || c.state == failed) {
			open = append(open, r.Seen(&c.Client))
		}
	}
	s := r.server
	if open != nil && !force || s == nil {
		return open, nil
	}
	sql := "COMMIT"
	if open != nil || s.guard == undo {
		sql = "ROLLBACK TO SAVEPOINT " + guardName + "; COMMIT"
	}
	s.guard = none
	if _, _, err = s.ask(sql); err == nil {
		r.stays = r.stays || s.touched || s.escaped
	}
	r.lose()
	return nil, err
}

// Release lets go of the copy: what was done and not committed is rolled back, and
// what was committed has been taken back by the caller.
func (r *Relay) Release(ctx context.Context) error {
	if err := r.IO.Take(ctx); err != nil {
		return err
	}
	defer r.IO.Give()
	r.lose()
	r.stays = false
	return nil
}

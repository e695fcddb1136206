// Package relay resets a copy by rollback, on the wire: a listener's connections
// speak PostgreSQL's protocol, version 3.0, with it, and all that they do happens
// in one transaction of one session of the server, which a reset rolls back.
//
// A savepoint, the guard, stands in front of each piece of work: it is what a
// client's transaction, or its lone statement, is undone to. A client's BEGIN,
// COMMIT and ROLLBACK never reach the server.
package relay

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

	"hemzo/internal/sqltext"
	"hemzo/internal/turn"
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
	config Config
	verify func() (*verifier, error)
	floor  floor     // whose transaction is under way
	io     turn.Turn // for what follows: one piece of work, or a reset
	server *session  // nil where there is none, or it was lost
	all    map[*client]bool
	closed bool
	stays  bool // what was committed is still to be taken back

	mu   sync.Mutex // for what follows
	keys map[uint32]*client
	last uint32
	busy *client // whose statement is under way
	// notPutBack is why the last reset has not put everything back
	notPutBack error
	remarks    []Remark      // that nobody has asked for
	remarked   map[Kind]bool // there was one
	clock      atomic.Bool   // the time of the transaction was asked for
}

// New makes a relay; its session is opened for the first client.
func New(c Config) *Relay {
	return &Relay{config: c, io: turn.New(), all: map[*client]bool{}, keys: map[uint32]*client{},
		remarked: map[Kind]bool{},
		verify:   sync.OnceValues(func() (*verifier, error) { return newVerifier(c.Password) })}
}

// errClosed says that the relay has ended.
var errClosed = errors.New("the relay has ended")

// session returns the one session, opened where there is none. The caller has io.
func (r *Relay) session(ctx context.Context) (*session, error) {
	if r.closed {
		return nil, errClosed
	}
	if err := r.failure(); err != nil {
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
	c := &client{relay: r, conn: conn, in: bufio.NewReaderSize(conn, 16<<10), began: time.Now(),
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
	if err != nil || c.id == 0 {
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
	r.mu.Lock()
	defer r.mu.Unlock()
	r.last++
	c.id = r.last
	r.keys[c.id] = c
}

// leave forgets a client; its open transaction is undone.
func (r *Relay) leave(c *client) {
	_ = r.io.Take(context.Background())
	if r.floor.has(c) && r.server != nil {
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
	delete(r.keys, c.id)
	r.mu.Unlock()
	r.io.Give()
	r.floor.give(c)
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
	var s *session
	if c != nil && r.busy == c && string(c.secret[:]) == string(q.secret) {
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

// Done tells what a reset did.
type Done struct {
	Touched bool         // something has reached the server since the one before
	Escaped bool         // something of it was committed, or may have been: it is still there
	Busy    *Open        // who was waited for in vain: nothing was done
	Settled func() error // waits until all is put back
}

// Reset takes back all that was done: what is open becomes an error for the client
// whose it is. A client that keeps the session busy is waited for; after that it is
// returned, or with force its statement is cancelled and its connection ended.
//
// last puts back what no rollback does, and goes on when Reset has returned: no client
// does anything before it has ended. Where it fails they are told, and the next Reset
// tries it again.
func (r *Relay) Reset(ctx context.Context, wait time.Duration, force bool, last func(context.Context) error) (
	done Done, err error) {
	done.Settled = r.failure
	if done.Busy, err = r.takeFrom(ctx, wait, force); done.Busy != nil || err != nil {
		return done, err
	}
	s := r.server
	for c := range r.all {
		c.wasReset()
	}
	done.Touched = r.stays || s != nil && s.touched
	done.Escaped = r.stays || s != nil && s.escaped
	again := r.failure() != nil
	if !again && (s == nil || !s.touched) {
		r.io.Give()
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
	over := make(chan struct{})
	go func() {
		r.setFailure(last(context.WithoutCancel(ctx)))
		r.io.Give()
		close(over)
	}()
	done.Settled = func() error { <-over; return r.failure() }
	return done, err
}

// Settled waits until nothing is under way, and tells why the last reset has not put
// everything back; nil where it has.
func (r *Relay) Settled() error {
	if err := r.io.Take(context.Background()); err != nil {
		return err
	}
	defer r.io.Give()
	return r.failure()
}

// takeFrom takes io for a reset, from a client that keeps it as Reset says.
func (r *Relay) takeFrom(ctx context.Context, wait time.Duration, force bool) (busy *Open, err error) {
	soon, stop := context.WithTimeout(ctx, wait)
	defer stop()
	err = r.io.Take(soon)
	if err == nil || ctx.Err() != nil {
		return nil, err
	}
	r.mu.Lock()
	c := r.busy
	if c == nil { // it ends at this moment, or a reset is under way
		r.mu.Unlock()
		return nil, r.io.Take(ctx)
	}
	s, open := c.server, c.seen()
	r.mu.Unlock()
	if !force {
		return &open, nil
	}
	c.conn.Close() // which ends what waits for its rows
	soon, stop = context.WithTimeout(ctx, endsWithin)
	defer stop()
	if err := r.io.Take(soon); err == nil || s == nil {
		return nil, err
	}
	if err := r.cancelOn(ctx, s); err != nil {
		return nil, err
	}
	return nil, r.io.Take(ctx)
}

// endsWithin is how long a statement has to end by itself once its client is gone.
const endsWithin = 100 * time.Millisecond

// failure is why the last reset has not put everything back; nil where it has.
func (r *Relay) failure() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.notPutBack
}

func (r *Relay) setFailure(err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.notPutBack = err
}

// Close ends the session; clients are told when they next speak.
func (r *Relay) Close() error {
	if err := r.io.Take(context.Background()); err != nil {
		return err
	}
	defer r.io.Give()
	r.lose()
	r.closed = true
	return nil
}

// Commit commits what was done, and lets go of the copy. Where transactions of clients
// are open nothing is done and these are returned; with force they are rolled back. A
// client that keeps the session busy is waited for as Reset does.
func (r *Relay) Commit(ctx context.Context, wait time.Duration, force bool) (open []Open, err error) {
	busy, err := r.takeFrom(ctx, wait, force)
	if err != nil {
		return nil, err
	}
	if busy != nil {
		return []Open{*busy}, nil
	}
	defer r.io.Give()
	for c := range r.all {
		if r.floor.has(c) && (c.state == started || c.state == failed) {
			r.mu.Lock()
			open = append(open, c.seen())
			r.mu.Unlock()
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
	if err := r.io.Take(ctx); err != nil {
		return err
	}
	defer r.io.Give()
	r.lose()
	r.stays = false
	return nil
}

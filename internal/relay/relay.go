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
}

// New makes a relay; its session is opened for the first client.
func New(c Config) *Relay {
	return &Relay{config: c, io: turn.New(), all: map[*client]bool{}, keys: map[uint32]*client{},
		verify: sync.OnceValues(func() (*verifier, error) { return newVerifier(c.Password) })}
}

// errClosed says that the relay has ended.
var errClosed = errors.New("the relay has ended")

// session returns the one session, opened where there is none. The caller has io.
func (r *Relay) session(ctx context.Context) (*session, error) {
	if r.closed {
		return nil, errClosed
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
	c := &client{relay: r, conn: conn, in: bufio.NewReaderSize(conn, 16<<10), out: bufio.NewWriterSize(conn, 64<<10),
		settings: map[string]string{}, pending: map[string]string{}, statements: map[string]*prepared{},
		portals: map[string]*portal{}, channels: map[string]bool{}}
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
// whose it is. touched is false where nothing has reached the server since the last
// one; ddl says that a definition may have been among it. last is run beside that, while
// no client does anything; nil for nothing.
func (r *Relay) Reset(ctx context.Context, last func(context.Context) error) (touched, ddl bool, err error) {
	if err := r.io.Take(ctx); err != nil {
		return false, false, err
	}
	defer r.io.Give()
	s := r.server
	for c := range r.all {
		c.wasReset()
	}
	if s == nil {
		return r.stays, false, nil
	}
	touched, ddl = s.touched, s.ddl
	if !touched {
		return false, false, nil
	}
	beside := make(chan error, 1)
	go func() {
		if last == nil {
			last = func(context.Context) error { return nil }
		}
		beside <- last(ctx)
	}()
	err = errors.Join(s.restart(), <-beside)
	if err != nil {
		r.lose()
		return touched, ddl, err
	}
	for c := range r.all {
		for _, p := range c.statements {
			p.stale = p.stale || ddl
		}
		c.unnamedStale = c.unnamedStale || ddl
	}
	return touched, ddl, nil
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

// Escaped reports whether something that clients did was committed: then a rollback
// is no reset any more.
func (r *Relay) Escaped() bool {
	_ = r.io.Take(context.Background())
	defer r.io.Give()
	return r.stays || r.server != nil && r.server.escaped
}

// Open is a client whose transaction is open.
type Open struct {
	ID            uint32
	Address, Last string // where it comes from, and its last statement
}

// Commit commits what was done, and lets go of the copy. Where transactions of clients
// are open nothing is done and these are returned; with force they are rolled back.
func (r *Relay) Commit(ctx context.Context, force bool) (open []Open, err error) {
	if err := r.io.Take(ctx); err != nil {
		return nil, err
	}
	defer r.io.Give()
	for c := range r.all {
		if c.state == started || c.state == failed {
			open = append(open, Open{c.id, c.conn.RemoteAddr().String(), shorten(c.last)})
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

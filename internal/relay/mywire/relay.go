// Package mywire resets a copy by rollback, on the wire: a listener's connections speak the
// protocol of MySQL and MariaDB with it, and all that they do happens in one transaction of
// one session of the server, which a reset rolls back.
//
// A statement that fails is undone by these servers themselves, so that a lone statement
// needs nothing in front. Before the first statement of a client's transaction stands a
// savepoint, to which its ROLLBACK goes back. A client's BEGIN, COMMIT and ROLLBACK never
// reach the server.
package mywire

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"net"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"hemzo/internal/relay"
	"hemzo/internal/sqltext"
)

// Config says what is relayed, and for whom.
type Config struct {
	User, Password string // as clients have to name them
	Schema         string // that they come to
	Plugin         string // by which passwords are asked for: Native or SHA2
	Dialect        sqltext.Dialect
	// Wait bounds how long a client waits for another whose transaction is open and idle.
	Wait time.Duration
	// Commits lets through what commits by itself. A reset says that something has escaped.
	Commits bool
	// TLS is what the relay offers to clients; nil for none.
	TLS *tls.Config
	// NoSavepoints says that there are tables of engines which know transactions and no
	// savepoints.
	NoSavepoints bool
	// Connect opens a session on the copy, as the account that clients are, with or without
	// the capability FOUND_ROWS.
	Connect func(ctx context.Context, foundRows bool) (*Server, error)
	// Kill ends what a session does, as KILL QUERY.
	Kill func(ctx context.Context, session uint32) error
}

// Relay is what stands before one copy. Its methods may be called from several goroutines.
type Relay struct {
	*relay.Shared // its IO is for what follows
	config        Config
	server        *session // nil where there is none, or it was lost
	all           map[*client]bool
	collations    map[byte]string // SET NAMES by the numbers of greetings
	limit         atomic.Int64    // of a command, in bytes; of a session that there was
	closed        bool
	stays         bool // what was committed is still to be taken back

	mu sync.Mutex // for what follows
	on uint32     // the number of the session on the server
}

// beyondServers is a number that no session of a test's server gets: KILL tells clients from
// sessions by it.
const beyondServers = 1_000_000

// New makes a relay; its session is opened for the first client.
func New(c Config) *Relay {
	return &Relay{Shared: relay.NewShared(beyondServers), config: c, all: map[*client]bool{},
		collations: map[byte]string{}}
}

// errClosed says that the relay has ended.
var errClosed = errors.New("the relay has ended")

// session returns the one session, opened where there is none that the first client to use it
// wants. The caller has IO.
func (r *Relay) session(ctx context.Context, foundRows bool) (*session, error) {
	if r.closed {
		return nil, errClosed
	}
	if err := r.Failure(); err != nil {
		return nil, errors.Join(errors.New("the last reset has failed"), err)
	}
	if s := r.server; s != nil {
		if s.foundRows == foundRows || s.current != nil || s.touched {
			return s, nil
		}
		r.server = nil // nobody has used it
		if err := s.close(); err != nil {
			return nil, err
		}
	}
	conn, err := r.config.Connect(ctx, foundRows)
	if err != nil {
		return nil, err
	}
	if r.server, err = newSession(conn, r.config.Schema); err != nil {
		return nil, err
	}
	r.limit.Store(int64(min(r.server.limit, maxCommand)))
	r.mu.Lock()
	defer r.mu.Unlock()
	r.on = conn.id
	return r.server, nil
}

// lose gives the session up: what was done in it is rolled back by its end, and the
// variables of clients go with it. So do their connections, as with a server that ends.
func (r *Relay) lose() {
	if r.server == nil {
		return
	}
	r.stays = r.stays || r.server.touched || r.server.escaped // what has become of it is not known
	_ = r.server.close()
	r.server = nil
	for c := range r.all {
		c.wasReset()
		if c.served {
			c.broken.Store(true)
			_ = c.Conn.SetReadDeadline(time.Now())
		}
	}
}

// letGo ends the session and has its clients stay: what they have set is told to the next.
func (r *Relay) letGo() error {
	s := r.server
	if s == nil {
		return nil
	}
	var err error
	if s.current != nil && !s.left {
		err = s.set(keep(s.current))
		s.current.kept = true
	}
	if err == nil {
		err = s.do("SET NAMES utf8mb4")
	}
	for c := range r.all {
		if err == nil && c.kept && c.values == nil { // else it was not on this session
			err = s.tell(c)
		}
		c.wasReset()
	}
	if err != nil {
		r.lose()
		return err
	}
	r.server = nil
	return s.close()
}

// ServeConn speaks with one client until it goes or ctx ends. The caller closes the
// connection.
func (r *Relay) ServeConn(ctx context.Context, conn net.Conn) error {
	c := &client{relay: r, Client: relay.Client{Conn: conn}, in: bufio.NewReaderSize(conn, 16<<10),
		schema: r.config.Schema, autocommit: true, statements: map[uint32]*prepared{}}
	c.out = bufio.NewWriterSize(pipe{c}, 64<<10)
	if err := c.greet(ctx); err != nil {
		if errors.Is(err, errRefused) {
			return nil
		}
		return err
	}
	if !c.served {
		return nil
	}
	defer r.leave(c)
	return c.serve(ctx)
}

// leave forgets a client; its open transaction is undone.
func (r *Relay) leave(c *client) {
	_ = r.IO.Take(context.Background())
	if s := r.server; s != nil {
		if r.HasFloor(&c.Client) {
			if c.state == started && c.undo() != nil {
				r.lose()
			}
		}
		s.temporary = append(s.temporary, c.temporary...)
		for _, p := range c.statements {
			if p.on == s {
				s.closings = append(s.closings, p.server)
			}
		}
		s.left = s.left || s.current == c
	}
	delete(r.all, c)
	r.Leave(&c.Client)
	r.IO.Give()
	r.GiveFloor(&c.Client)
}

// slot is the first that no client has: the server's memory of those that have gone is used
// again.
func (r *Relay) slot() int {
	taken := map[int]bool{}
	for c := range r.all {
		taken[c.slot] = true
	}
	i := 1
	for taken[i] {
		i++
	}
	return i
}

// cancel ends the statement that is under way on the session, whose it may be.
func (r *Relay) cancel(ctx context.Context, _ *relay.Client) error {
	r.mu.Lock()
	on := r.on
	r.mu.Unlock()
	return r.config.Kill(ctx, on)
}

// kill ends the statement of a client, by its number, or by that of the session, which is
// what CONNECTION_ID() gives; and its connection, where that is asked for. found is false
// where there is no such client.
func (r *Relay) kill(ctx context.Context, id uint32, connection bool) (found bool, err error) {
	r.mu.Lock()
	session := r.on == id
	r.mu.Unlock()
	all := r.Clients()
	i := slices.IndexFunc(all, func(o relay.Open) bool { return o.ID == id })
	if i < 0 && !session {
		return false, nil
	}
	if !session {
		if connection {
			r.Disconnect(id)
		}
		if !all[i].Active {
			return true, nil
		}
	}
	return true, r.cancel(ctx, nil)
}

// Reset takes back all that was done: what is open becomes an error for the client whose
// it is. A client that keeps the session busy is waited for; after that it is returned, or
// with force its statement is ended and its connection too.
//
// last puts back what no rollback does, and goes on when Reset has returned: no client
// does anything before it has ended. Where it fails they are told, and the next Reset
// tries it again. Where something has escaped it is told so, and the session has ended: it
// is to put back everything.
func (r *Relay) Reset(ctx context.Context, wait time.Duration, force bool,
	last func(ctx context.Context, escaped bool) error) (done relay.Done, err error) {
	done.Settled = r.Failure
	if done.Busy, err = r.TakeForReset(ctx, wait, force, r.cancel); done.Busy != nil || err != nil {
		return done, err
	}
	s := r.server
	for c := range r.all {
		c.wasReset()
	}
	done.Touched = r.stays || s != nil && s.touched
	done.Escaped = r.stays || s != nil && s.escaped
	again := r.Failure() != nil
	if !again && !r.stays && (s == nil || !s.touched) {
		r.IO.Give()
		return done, nil
	}
	if s != nil {
		if err = s.restart(r.temporary()); err != nil {
			done.Escaped = true
			r.lose()
		}
		done.Escaped = done.Escaped || s.escaped
	}
	if r.stays = done.Escaped; r.stays || s != nil && s.handlers {
		_ = r.letGo() // where that fails the session is lost, and its clients are
	}
	done.Settled = r.PutBack(ctx, func(ctx context.Context) error {
		err := last(ctx, r.stays)
		r.stays = r.stays && err != nil
		return err
	})
	return done, nil
}

// temporary are the names of temporary tables of clients, which they have no more.
func (r *Relay) temporary() (all []string) {
	for c := range r.all {
		all, c.temporary = append(all, c.temporary...), nil
	}
	return all
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

// Commit commits what was done, and lets go of the copy. Where transactions of clients are
// open nothing is done and these are returned; with force they are rolled back. A client
// that keeps the session busy is waited for as Reset does.
func (r *Relay) Commit(ctx context.Context, wait time.Duration, force bool) (open []relay.Open, err error) {
	busy, err := r.TakeForReset(ctx, wait, force, r.cancel)
	if err != nil {
		return nil, err
	}
	if busy != nil {
		return []relay.Open{*busy}, nil
	}
	defer r.IO.Give()
	var of *client
	for c := range r.all {
		if r.HasFloor(&c.Client) && c.state == started {
			of, open = c, append(open, r.Seen(&c.Client))
		}
	}
	s := r.server
	if open != nil && !force || s == nil {
		return open, nil
	}
	if of != nil {
		if err := of.undo(); err != nil {
			r.lose()
			return nil, err
		}
	}
	if err = s.do("COMMIT AND NO CHAIN NO RELEASE"); err == nil {
		r.stays = r.stays || s.touched || s.escaped
	}
	return nil, errors.Join(err, r.letGo())
}

// Release lets go of the copy: what was done and not committed is rolled back, and what was
// committed has been taken back by the caller.
func (r *Relay) Release(ctx context.Context) error {
	if err := r.IO.Take(ctx); err != nil {
		return err
	}
	defer r.IO.Give()
	r.stays = false
	return r.letGo()
}

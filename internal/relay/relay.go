// Package relay is what relays have in common, whichever protocol they speak: the clients
// of a copy share one session of its server, and all that they do happens in one
// transaction, which a reset rolls back.
package relay

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"hemzo/internal/turn"
)

// Shared says who uses the one session, and who waits for it. Its methods may be called
// from several goroutines.
type Shared struct {
	IO    turn.Turn // of the session: for one piece of work, or a reset
	floor floor     // whose transaction is under way

	mu      sync.Mutex // for what follows
	clients map[uint32]*Client
	last    uint32
	busy    *Client // whose statement is under way
	// notPutBack is why the last reset has not put everything back
	notPutBack error
	remarks    []Remark      // that nobody has asked for
	remarked   map[Kind]bool // there was one
}

// NewShared returns what nobody shares yet. Clients get the numbers after the given one.
func NewShared(last uint32) *Shared {
	return &Shared{IO: turn.New(), clients: map[uint32]*Client{}, last: last, remarked: map[Kind]bool{}}
}

// Client is one connection, as the others need to know it. Use Shared's methods.
type Client struct {
	ID   uint32
	Conn net.Conn

	began       time.Time
	application string    // what it calls itself; under mu, as what follows
	last        string    // statement that had the floor
	since       time.Time // when it got it
}

// Number gives a client a number, before it is let in.
func (s *Shared) Number(c *Client) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.last++
	c.ID = s.last
}

// Enter notes a client that is let in; it gets a number where it has none.
func (s *Shared) Enter(c *Client) {
	if c.ID == 0 {
		s.Number(c)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	c.began = time.Now()
	s.clients[c.ID] = c
}

// Leave forgets a client.
func (s *Shared) Leave(c *Client) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.clients, c.ID)
}

// Disconnect ends the connection of a client, by its number.
func (s *Shared) Disconnect(id uint32) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if c := s.clients[id]; c != nil {
		c.Conn.Close()
	}
}

// Call notes what a client calls itself.
func (s *Shared) Call(c *Client, application string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	c.application = application
}

// Gone reports whether a client has gone while it waited since a moment, by its connection
// and what was read of it: what it wanted is not done any more. It is looked at where it
// waited for a while alone.
func (c *Client) Gone(since time.Time, in *bufio.Reader) bool {
	if time.Since(since) < lookEvery || in.Buffered() > 0 {
		return false
	}
	_ = c.Conn.SetReadDeadline(time.Now())
	_, err := in.Peek(1)
	_ = c.Conn.SetReadDeadline(time.Time{})
	return err != nil && !errors.Is(err, os.ErrDeadlineExceeded)
}

// Begin notes a statement of a client that is under way from now on.
func (s *Shared) Begin(c *Client, statement string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.busy, c.last, c.since = c, statement, time.Now()
}

// Note notes what a client's statement is, which was not known when it began.
func (s *Shared) Note(c *Client, statement string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	c.last = statement
}

// End notes that none is under way.
func (s *Shared) End() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.busy = nil
}

// Busy reports whether a statement of a client is under way.
func (s *Shared) Busy(c *Client) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.busy == c
}

// Last is a client's last statement.
func (s *Shared) Last(c *Client) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return c.last
}

// InTheWay tells a client, in words, who did not let it have the floor within the limit.
func (s *Shared) InTheWay(by *Blocking, limit time.Duration) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	text := "the transaction of another client has been idle for %s: %s, after  %s"
	if by.Stalled {
		text = "another client has taken or sent no rows for %s: %s, after  %s"
	}
	return fmt.Sprintf(text, limit, by.Conn.RemoteAddr(), Shorten(by.last))
}

// Shorten cuts a statement for a message.
func Shorten(text string) string {
	text = strings.Join(strings.Fields(text), " ")
	if len(text) > 100 {
		text = text[:97] + "..."
	}
	return text
}

// Done tells what a reset did.
type Done struct {
	Touched bool         // something has reached the server since the one before
	Escaped bool         // something of it was committed, or may have been: it is still there
	Busy    *Open        // who was waited for in vain: nothing was done
	Settled func() error // waits until all is put back
}

// TakeForReset takes IO from a client that keeps it. It is waited for; after that it is
// returned, or with force its connection ended and its statement cancelled by the given
// function.
func (s *Shared) TakeForReset(ctx context.Context, wait time.Duration, force bool,
	cancel func(context.Context, *Client) error) (busy *Open, err error) {
	soon, stop := context.WithTimeout(ctx, wait)
	defer stop()
	err = s.IO.Take(soon)
	if err == nil || ctx.Err() != nil {
		return nil, err
	}
	s.mu.Lock()
	c := s.busy
	if c == nil { // it ends at this moment, or a reset is under way
		s.mu.Unlock()
		return nil, s.IO.Take(ctx)
	}
	open := s.seen(c)
	s.mu.Unlock()
	if !force {
		return &open, nil
	}
	c.Conn.Close() // which ends what waits for its rows
	soon, stop = context.WithTimeout(ctx, endsWithin)
	defer stop()
	if err := s.IO.Take(soon); err == nil {
		return nil, nil
	}
	if err := cancel(ctx, c); err != nil {
		return nil, err
	}
	return nil, s.IO.Take(ctx)
}

// endsWithin is how long a statement has to end by itself once its client is gone.
const endsWithin = 100 * time.Millisecond

// PutBack runs what puts back what no rollback does, and gives IO when it has ended: no
// client does anything before. The returned function waits for it. Where it fails Failure
// tells.
func (s *Shared) PutBack(ctx context.Context, last func(context.Context) error) (settled func() error) {
	over := make(chan struct{})
	go func() {
		s.setFailure(last(context.WithoutCancel(ctx)))
		s.IO.Give()
		close(over)
	}()
	return func() error { <-over; return s.Failure() }
}

// Settled waits until nothing is under way, and tells why the last reset has not put
// everything back; nil where it has.
func (s *Shared) Settled() error {
	if err := s.IO.Take(context.Background()); err != nil {
		return err
	}
	defer s.IO.Give()
	return s.Failure()
}

// Failure is why the last reset has not put everything back; nil where it has.
func (s *Shared) Failure() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.notPutBack
}

func (s *Shared) setFailure(err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.notPutBack = err
}

// Open is a client as others see it.
type Open struct {
	ID                uint32
	Application, From string
	Last              string    // its last statement
	Began, Since      time.Time // connected, and its last statement begun
	Active            bool      // the statement is under way
	Holds             bool      // it has its turn: its transaction is open
	WaitsFor          uint32    // the one whose turn it is, where it waits for that; 0 where not
}

// Clients lists those that are connected, by their numbers.
func (s *Shared) Clients() []Open {
	holder, waiting := s.floor.look()
	s.mu.Lock()
	defer s.mu.Unlock()
	var all []Open
	for _, c := range s.clients {
		o := s.seen(c)
		o.Holds = c == holder
		if waiting[c] && holder != nil {
			o.WaitsFor = holder.ID
		}
		all = append(all, o)
	}
	slices.SortFunc(all, func(a, b Open) int { return cmp.Compare(a.ID, b.ID) })
	return all
}

// Seen is a client as others see it.
func (s *Shared) Seen(c *Client) Open {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.seen(c)
}

func (s *Shared) seen(c *Client) Open {
	return Open{ID: c.ID, Application: c.application, From: c.Conn.RemoteAddr().String(), Last: Shorten(c.last),
		Began: c.began, Since: c.since, Active: s.busy == c}
}

// Kind is one of the things in which a transaction that is rolled back is not what
// clients may expect.
type Kind byte

const (
	Stands      Kind = iota // a statement asks for the time of the transaction
	Waited                  // one waited in vain for another client's transaction
	NeedsCommit             // one cannot be inside a transaction
	Weaker                  // one asks for an isolation level that it does not get
)

// Remark is a first case of its kind.
type Remark struct {
	Kind      Kind
	Statement string // cut to a line
}

// Remarks are those that have come since they were last asked for.
func (s *Shared) Remarks() []Remark {
	s.mu.Lock()
	defer s.mu.Unlock()
	all := s.remarks
	s.remarks = nil
	return all
}

// Remark notes the first case of a kind.
func (s *Shared) Remark(k Kind, text string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.remarked[k] {
		s.remarked[k] = true
		s.remarks = append(s.remarks, Remark{k, Shorten(text)})
	}
}

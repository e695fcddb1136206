package pgwire

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"

	"hemzo/internal/pattern"
	"hemzo/internal/relay"
)

// txState is where a client stands with transactions of its own.
type txState byte

const (
	idle    txState = iota
	begun           // it said BEGIN, and nothing else so far
	started         // statements of it have reached the server
	failed          // one of them failed
	gone            // a reset has taken it back
)

// client is one connection. Its fields are its goroutine's, which has the relay's io
// while it uses them, but for what it says of transactions before it has the floor.
type client struct {
	relay.Client
	relay  *Relay
	server *session // that it last spoke through; written under the relay's mu
	in     *bufio.Reader
	out    *bufio.Writer
	broken bool // it takes nothing any more
	secret [4]byte

	outside  sync.Mutex // for what is written without io, or by another client
	heldBack bool       // the relay has answered without io: another client has not given it

	state   txState
	reads   bool // its transaction is read only
	initial map[string]string
	// statements that set what is its own, by setting; those of the transaction that
	// is open, "" for what was reset
	settings, pending map[string]string
	channels          map[string]bool
	notes             []pgproto3.NotificationResponse // of the transaction that is open

	part         []message // that wait for a Flush or Sync
	waiting      int       // about how many bytes they take
	open         bool      // a part was flushed, and its Sync is to come
	skipping     bool      // up to the Sync, after an error
	unnamed      []byte    // the body of the last Parse without a name
	unnamedStale bool
	statements   map[string]*prepared
	portals      map[string]*portal
	closings     []toClose
	names        int
}

// prepared is a statement that a client has prepared.
type prepared struct {
	statement
	name  string // on the server
	parse []byte // the body of its Parse, with that name; nil where it was made by SQL
	stale bool   // definitions may have changed
}

// portal is one that a client has bound.
type portal struct {
	name string // on the server
	of   *prepared
}

// pipe is a client's connection as it is written to and read from while it has the floor:
// who waits for the floor learns when it is the client that holds everybody up.
type pipe struct{ c *client }

func (p pipe) Write(b []byte) (int, error) {
	p.c.relay.Stall(&p.c.Client, true)
	defer p.c.relay.Stall(&p.c.Client, false)
	return p.c.Conn.Write(b)
}

// readRow reads the next message of a COPY.
func (c *client) readRow() (message, error) {
	if c.in.Buffered() == 0 {
		c.relay.Stall(&c.Client, true)
		defer c.relay.Stall(&c.Client, false)
	}
	return readMessage(c.in, maxMessage)
}

// send writes a message for the client.
func (c *client) send(m pgproto3.BackendMessage) error {
	_, err := c.out.Write(appendBack(nil, m))
	return err
}

// forward passes a message of the server on.
func (c *client) forward(kind byte, body []byte) {
	var head [5]byte
	_, err := c.out.Write(appendMessage(head[:0], kind, body))
	c.broken = c.broken || err != nil
}

// passOn passes the body of a message on as it comes, undecoded. What the client does
// not take any more is read all the same.
func (c *client) passOn(kind byte, length int, in io.Reader) error {
	body := io.LimitReader(in, int64(length))
	if !c.broken {
		var head [5]byte
		_, err := c.out.Write(appendHead(head[:0], kind, length))
		if err == nil {
			err = relay.CopyTo(c.out, body)
		}
		c.broken = err != nil && errors.Is(err, relay.ErrWriting)
		if err != nil && !c.broken {
			return err
		}
	}
	_, err := io.Copy(io.Discard, body)
	return err
}

func appendHead(out []byte, kind byte, length int) []byte {
	n := uint32(length + 4)
	return append(out, kind, byte(n>>24), byte(n>>16), byte(n>>8), byte(n))
}

// ready ends an answer: the client is told how it stands with its own transactions.
func (c *client) ready() {
	status := byte('I')
	switch c.state {
	case begun, started:
		status = 'T'
	case failed, gone:
		status = 'E'
	}
	if status == 'I' {
		c.deliver()
	}
	_ = c.send(&pgproto3.ReadyForQuery{TxStatus: status})
	if err := c.out.Flush(); err != nil {
		c.broken = true
	}
}

// complete answers a statement that the relay has done by itself.
func (c *client) complete(tag string) {
	_ = c.send(&pgproto3.CommandComplete{CommandTag: []byte(tag)})
}

// serve takes the client's messages until it goes.
func (c *client) serve(ctx context.Context) error {
	for !c.broken {
		m, err := readMessage(c.in, maxMessage)
		if err != nil {
			c.abandon()
			if errors.Is(err, errMessage) {
				return c.refuse(protocolError, err.Error())
			}
			return nil // it has gone, however
		}
		switch m.kind {
		case query:
			err = c.simple(ctx, string(trimZero(m.body)))
		case parse, bind, describe, execute, closing:
			c.part = append(c.part, m)
			if c.waiting += len(m.body) + partCost; c.waiting > maxMessage {
				c.abandon()
				return c.refuse(protocolError, "too much came without a Sync")
			}
		case flush, syncing:
			c.part = append(c.part, m)
			c.waiting = 0
			err = c.extended(ctx)
		case copyData, copyDone, copyFail: // of a COPY that has failed
		case function:
			_ = c.send(problem(notSupported, "functions are not called by the fast path here", "call it by SELECT"))
			c.ready()
		case terminate:
			c.abandon()
			return nil
		default:
			c.abandon()
			return c.refuse(protocolError, fmt.Sprintf("a message of the kind %q is not known", m.kind))
		}
		if err != nil {
			c.abandon()
			return err
		}
	}
	c.abandon()
	return nil
}

// partCost is about what a message takes beside its body.
const partCost = 64

func trimZero(b []byte) []byte {
	if n := len(b); n > 0 && b[n-1] == 0 {
		return b[:n-1]
	}
	return b
}

// abandon ends what a client has begun and not ended: a part without its Sync.
func (c *client) abandon() {
	if c.open {
		c.broken = true
		w := &writer{}
		w.send(&pgproto3.Sync{}, expect{kind: ready, swallow: true})
		if _, err := c.server.exchange(&answers{c: c}, w); err != nil {
			c.relay.lose()
		} else {
			c.server.undo()
		}
		c.finish()
	}
}

// wasReset takes back what is open, where that is this client's. The caller has io.
func (c *client) wasReset() {
	if !c.relay.HasFloor(&c.Client) {
		return
	}
	if c.state == started || c.state == failed {
		c.state = gone
	}
	clear(c.pending)
	c.notes = nil
	c.portals = map[string]*portal{}
	c.relay.GiveFloor(&c.Client)
}

// enter takes the floor, where the client has not got it, and io, and prepares the
// session for it. Where it cannot be had an error has gone to the client. wants is the
// statement that it is for.
func (c *client) enter(ctx context.Context, wants string) (ok bool, err error) {
	r, began := c.relay, time.Now()
	if !r.HasFloor(&c.Client) {
		blocking, err := r.TakeFloor(ctx, &c.Client, r.config.Wait)
		if err != nil {
			return false, err
		}
		if blocking != nil {
			return false, c.heldUp(blocking, wants)
		}
	}
	r.Rest(&c.Client, false)
	if err := r.IO.Take(ctx); err != nil {
		return false, err
	}
	if !r.HasFloor(&c.Client) { // a reset came in between
		r.IO.Give()
		return c.enter(ctx, wants)
	}
	if c.Gone(began, c.in) {
		c.broken = true
		c.leave()
		return false, nil
	}
	s, err := r.session(ctx)
	if err == nil {
		if s != c.server && c.server != nil {
			c.lostSession()
		}
		r.mu.Lock()
		c.server = s
		r.mu.Unlock()
		if c.state == idle || c.state == begun {
			err = s.settle(c)
		}
	}
	if err != nil {
		return false, c.fail(err)
	}
	r.Begin(&c.Client, wants)
	return true, nil
}

// heldUp tells the client who did not let it have its turn. The other one may have io as
// long as it likes: it is not waited for.
func (c *client) heldUp(by *relay.Blocking, wants string) error {
	r := c.relay
	r.Remark(relay.Waited, wants)
	c.outside.Lock()
	defer c.outside.Unlock()
	c.heldBack = true
	return c.send(problem(lockNotAvailable, r.InTheWay(by, r.config.Wait), "On a copy that is reset by rollback one "+
		"transaction is open at a time; this statement was: "+relay.Shorten(wants)))
}

// fail tells the client that the session cannot be used.
func (c *client) fail(err error) error {
	answered, ok := errors.AsType[errServer](err)
	if ok {
		_ = c.send(answered.response)
	} else {
		_ = c.send(problem(connectionFailed, "the copy cannot be reached: "+err.Error(), ""))
		c.relay.lose()
	}
	c.leave()
	return nil
}

// leave gives io, and the floor where no transaction is open.
func (c *client) leave() {
	r := c.relay
	r.End()
	if c.state != started && c.state != failed {
		r.GiveFloor(&c.Client)
	} else {
		r.Rest(&c.Client, true)
	}
	r.IO.Give()
}

// finish is leave at the end of a part.
func (c *client) finish() {
	c.open, c.skipping = false, false
	c.leave()
}

// outdate has what is prepared parsed again where definitions may have changed.
func (c *client) outdate(ddl bool) {
	for _, p := range c.statements {
		p.stale = p.stale || ddl
	}
	c.unnamedStale = c.unnamedStale || ddl
}

// lostSession forgets what was on a session that is no more.
func (c *client) lostSession() {
	if c.state == started || c.state == failed {
		c.state = gone
	}
	for _, p := range c.statements {
		p.stale = true
	}
	c.unnamedStale, c.closings = true, nil
	c.portals = map[string]*portal{}
}

// front sets the guard before a piece of the client's work.
func (c *client) front(w *writer) {
	c.server.front(w)
	for _, x := range append(c.server.closings, c.closings...) {
		w.send(&pgproto3.Close{ObjectType: x.kind, Name: x.name}, expect{kind: closeComplete, swallow: true})
	}
	c.server.closings, c.closings = nil, nil
	if c.state == begun && c.reads {
		w.run(doRead)
	}
}

// closePortals has the client's portals closed, as the end of a transaction does.
func (c *client) closePortals() {
	for name, p := range c.portals {
		if name != "" {
			c.closings = append(c.closings, toClose{'P', p.name})
		}
	}
	c.portals = map[string]*portal{}
}

// closeAll has all that is the client's closed.
func (c *client) closeAll() {
	c.closePortals()
	for _, p := range c.statements {
		if p.name != "" {
			c.closings = append(c.closings, toClose{'S', p.name})
		}
	}
	c.statements = map[string]*prepared{}
}

// statementOf is the server's name of one of the client's prepared statements.
func (c *client) statementOf(name string) string {
	if p := c.statements[name]; p != nil {
		return p.name
	}
	if name == "" {
		c.statements[""] = &prepared{}
		return ""
	}
	c.names++
	p := &prepared{name: fmt.Sprintf("hemzo_%d_%d", c.ID, c.names)}
	c.statements[name] = p
	return p.name
}

// commitSettings keeps what a transaction has set.
func (c *client) commitSettings() {
	for name, sql := range c.pending {
		if sql == "" {
			delete(c.settings, name)
		} else {
			c.settings[name] = sql
		}
	}
	clear(c.pending)
}

var quotedValue = pattern.Lazy(`'([^']*)'\s*$`)

// noteSetting notes a statement that has set, or reset, something of the session's.
func (c *client) noteSetting(s statement) {
	name := s.setting()
	if name == "" {
		return
	}
	applied := c.server.applied
	if s.words[0] == "RESET" {
		if name == "all" {
			for name := range maps.Keys(maps.Clone(c.settings)) {
				c.pending[name] = ""
			}
			clear(applied)
		}
		c.pending[name] = ""
		delete(applied, name)
	} else {
		c.pending[name], applied[name] = s.text, s.text
	}
	if m := quotedValue().FindStringSubmatch(s.text); name == "application_name" && m != nil {
		c.relay.Call(&c.Client, m[1])
	}
	if c.state == idle {
		c.commitSettings()
	}
}

// noteLocal notes that a setting is another until the end of the transaction.
func (c *client) noteLocal(s statement) {
	if len(s.words) > 2 && s.words[1] == "LOCAL" {
		rest := statement{text: s.text, words: s.words[1:]}
		c.server.applied[rest.setting()] = "" // as nobody wants it: it is put back
	}
}

// configures finds calls of set_config that name what they set.
var configures = pattern.Lazy(
	`(?i)\bset_config\s*\(\s*'([\w.]+)'\s*,\s*'((?:[^']|'')*)'\s*,\s*('?t(?:rue)?'?|'?f(?:alse)?'?)\s*\)`)

// noteConfigs notes what a statement has set by the function set_config. What it sets
// by parameters is not seen.
func (c *client) noteConfigs(text string) {
	for _, m := range configures().FindAllStringSubmatch(text, -1) {
		name := strings.ToUpper(m[1])
		if strings.HasPrefix(strings.ToLower(strings.Trim(m[3], "'")), "t") {
			c.noteLocal(statement{words: []string{"SET", "LOCAL", name}})
			continue
		}
		c.noteSetting(statement{words: []string{"SET", name}, text: fmt.Sprintf("SELECT pg_catalog.set_config('%s', '%s', "+
			"false)", m[1], m[2])})
	}
}

// deliver hands on what other clients were notified of.
func (c *client) deliver() {
	for _, n := range c.notes {
		for other := range c.relay.all {
			if other.channels[n.Channel] {
				if other == c {
					_ = c.send(&n)
					continue
				}
				other.notify(n)
			}
		}
	}
	c.notes = nil
}

// notify tells a client at once; one that takes nothing is not waited for.
func (c *client) notify(n pgproto3.NotificationResponse) {
	c.outside.Lock()
	defer c.outside.Unlock()
	_ = c.Conn.SetWriteDeadline(time.Now().Add(time.Second))
	defer c.Conn.SetWriteDeadline(time.Time{})
	if c.send(&n) != nil || c.out.Flush() != nil {
		c.broken = true
	}
}

package mywire

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strconv"
	"sync/atomic"
	"time"

	"hemzo/internal/pattern"
	"hemzo/internal/relay"
	"hemzo/internal/sqltext"
)

// txState is where a client stands with transactions of its own.
type txState byte

const (
	idle    txState = iota
	begun           // it said BEGIN, and nothing else so far
	started         // statements of it have reached the server
	gone            // a reset has taken it back
)

// client is one connection. Its fields are its goroutine's, which has the relay's IO while
// it uses them, but for what it says of transactions before it has the floor.
type client struct {
	relay.Client
	relay  *Relay
	server *session // that it last spoke through
	in     *bufio.Reader
	out    *bufio.Writer
	seq    byte // of the next packet
	served bool // it was let in
	broken atomic.Bool

	capabilities uint32
	naming       string // the SET NAMES of its greeting
	schema       string // that it uses
	variables
	autocommit bool
	// noBackslashes says that its sql_mode has NO_BACKSLASH_ESCAPES, which servers tell
	noBackslashes bool
	readsNext     bool // SET TRANSACTION READ ONLY: the next transaction
	readsAll      bool // SET SESSION TRANSACTION READ ONLY: each

	state     txState
	reads     bool // its transaction is read only
	implied   bool // it was begun by a statement: whether one is open is the server's to know
	temporary []string

	statements map[uint32]*prepared
	closings   []*prepared // that are to be closed on the server
	last       uint32      // number of a statement
}

// dialect are the lexical rules of what the client sends now.
func (c *client) dialect() sqltext.Dialect {
	d := c.relay.config.Dialect
	d.Backslashes = !c.noBackslashes
	return d
}

// pipe is a client's connection as it is written to while it has the floor: who waits for
// the floor learns when it is the client that holds everybody up.
type pipe struct{ c *client }

func (p pipe) Write(b []byte) (int, error) {
	p.c.relay.Stall(&p.c.Client, true)
	defer p.c.relay.Stall(&p.c.Client, false)
	return p.c.Conn.Write(b)
}

// packet writes a payload for the client. What it does not take any more is dropped.
func (c *client) packet(payload []byte) {
	if c.broken.Load() {
		return
	}
	var err error
	if c.seq, err = writeWhole(c.out, payload, c.seq); err != nil {
		c.broken.Store(true)
	}
}

// flush sends what was written; false where the client takes nothing.
func (c *client) flush() bool {
	if c.out.Flush() != nil {
		c.broken.Store(true)
	}
	return !c.broken.Load()
}

// passOn passes the body of a packet on as it comes. What the client does not take any more
// is read all the same.
func (c *client) passOn(length int, in io.Reader) error {
	body := io.LimitReader(in, int64(length))
	if !c.broken.Load() {
		_, err := c.out.Write(appendHead(c.out.AvailableBuffer(), length, c.seq))
		c.seq++
		if err == nil {
			err = relay.CopyTo(c.out, body)
		}
		if err != nil && !errors.Is(err, relay.ErrWriting) {
			return err
		}
		if err != nil {
			c.broken.Store(true)
		}
	}
	_, err := io.Copy(io.Discard, body)
	return err
}

// flags are the bits of its status that are the client's own.
func (c *client) flags() (bits uint16) {
	if c.autocommit {
		bits |= autocommits
	}
	if c.state == begun || c.state == started {
		bits |= inTransaction
		if c.reads {
			bits |= inReadOnly
		}
	}
	return bits
}

// shown is a status of the server as the client is to see it.
func (c *client) shown(status uint16, more bool) uint16 {
	status = status&^ofTransactions | c.flags()
	if more {
		status |= moreResults
	}
	return status
}

// noteEnd notes that the client's transaction was committed by what it did, where it was.
func (c *client) noteEnd(s *session) {
	if s.ended() && c.state == started {
		c.state = idle
	}
}

// okay answers a command that the relay has done by itself.
func (c *client) okay() { c.okayMore(false) }

func (c *client) okayMore(more bool) {
	var status uint16
	if c.noBackslashes {
		status = noBackslashes
	}
	c.packet(okay{status: c.shown(status, more)}.append(nil))
}

// end writes the end of columns or rows.
func (c *client) end(warnings, status uint16) {
	out := binary.LittleEndian.AppendUint16([]byte{answerEOF}, warnings)
	c.packet(binary.LittleEndian.AppendUint16(out, status))
}

// fail answers with an error.
func (c *client) fail(code uint16, state, text string) {
	c.packet((&serverError{code, state, text}).append(nil))
	c.flush()
}

var matched = pattern.Lazy(`^.?Rows matched: (\d+)  Changed: (\d+)`)

// counts counts what an UPDATE did as the client has asked for, where the session counts in
// the other way.
func (c *client) counts(k *okay, foundRows bool) {
	wants := c.capabilities&capFoundRows != 0
	if wants == foundRows {
		return
	}
	m := matched().FindSubmatch(k.info)
	if m == nil {
		return
	}
	which := m[2]
	if wants {
		which = m[1]
	}
	k.affected, _ = strconv.ParseUint(string(which), 10, 64)
}

// serve takes the client's commands until it goes.
func (c *client) serve(ctx context.Context) error {
	for !c.broken.Load() {
		payload, seq, err := readWhole(c.in, int(c.relay.limit.Load()))
		if errors.Is(err, errPacket) { // a server ends the session then, which is everybody's here
			c.seq = seq + 1
			c.fail(errTooLong, "08S01", "Got a packet bigger than 'max_allowed_packet' bytes")
			return nil
		}
		if err != nil || len(payload) == 0 || payload[0] == comQuit {
			return nil // it has gone, however
		}
		c.seq = seq + 1
		if err := c.command(ctx, payload[0], payload[1:]); err != nil {
			if errors.Is(err, errRefused) {
				return nil
			}
			return err
		}
		if !c.flush() {
			return nil
		}
	}
	return nil
}

// command does one command.
func (c *client) command(ctx context.Context, kind byte, body []byte) error {
	switch kind {
	case comQuery:
		return c.query(ctx, string(body))
	case comPrepare:
		return c.prepare(ctx, string(body))
	case comExecute:
		return c.execute(ctx, body)
	case comFetch, comStmtReset:
		return c.onStatement(ctx, kind, body)
	case comLongData:
		c.longData(body)
		return nil
	case comClose:
		c.closeStatement(body)
		return nil
	case comPing:
		c.okay()
		return nil
	case comInitDB:
		return c.workOn(ctx, "USE "+string(body), false, func() error {
			_, err := c.uses(string(body), false)
			return err
		})
	case comFieldList:
		return c.pass(ctx, kind, body, &answer{fields: true})
	case comStatistics:
		return c.pass(ctx, kind, body, &answer{single: true})
	case comSetOption:
		return c.setOption(body)
	case comKill:
		r := reader{b: body}
		return c.kill(ctx, r.uint32(), true)
	case comReset:
		return c.work(ctx, "", func() error { return c.reset(nil) })
	case comChangeUser:
		return c.changeUser(ctx, body)
	}
	c.fail(errUnknownCmd, "08S01", fmt.Sprintf("a copy that is reset by rollback does not know the command %d", kind))
	return nil
}

// work does something with the session, as one piece of work. What the server refuses is
// told to the client.
func (c *client) work(ctx context.Context, wants string, f func() error) error {
	return c.workOn(ctx, wants, true, f)
}

// workOn is work that needs the floor or not: what changes no row and asks for none waits
// for the statements of others alone, not for their transactions.
func (c *client) workOn(ctx context.Context, wants string, floor bool, f func() error) error {
	ok, err := c.enter(ctx, wants, floor)
	if !ok || err != nil {
		return err
	}
	return c.leave(f())
}

// pass passes a command on as it stands.
func (c *client) pass(ctx context.Context, kind byte, body []byte, a *answer) error {
	return c.workOn(ctx, "", false, func() error {
		_, err := c.run(kind, body, a)
		return err
	})
}

// setOption says whether several statements are taken in a command.
func (c *client) setOption(body []byte) error {
	r := reader{b: body}
	switch r.uint16() {
	case multiStatement:
		c.capabilities |= capMultiStatements
	default:
		c.capabilities &^= capMultiStatements
	}
	c.end(0, c.shown(0, false))
	return nil
}

// kill ends what another client does, or its connection. It waits for nobody.
func (c *client) kill(ctx context.Context, id uint32, connection bool) error {
	found, err := c.relay.kill(ctx, id, connection)
	switch {
	case err != nil:
		c.fail(errUnknown, "HY000", err.Error())
	case !found:
		c.fail(errNoThread, "HY000", fmt.Sprintf("Unknown thread id: %d", id))
	default:
		c.okay()
	}
	return nil
}

// changeUser has the client begin anew, as an account that it proves.
func (c *client) changeUser(ctx context.Context, body []byte) error {
	r := reader{b: body}
	l := login{user: r.zero()}
	if r.take(int(r.byte())); r.bad {
		return c.refuse(errMalformed, "HY000", "a change of the user that is cut")
	}
	l.schema = r.zero()
	l.collation = byte(r.uint16())
	scramble := newScramble()
	response, err := c.switchTo(c.relay.config.Plugin, scramble)
	if err != nil {
		return err
	}
	l.plugin, l.response = c.relay.config.Plugin, response
	if err := c.authenticate(l, scramble); err != nil {
		return err
	}
	return c.work(ctx, "", func() error { return c.reset(&l) })
}

// reset has the client's session be as at its beginning; with a login it is that of this
// one.
func (c *client) reset(l *login) error {
	if err := c.endTransaction(rollback); err != nil {
		return err
	}
	s := c.server
	if err := s.closeAll(c); err != nil {
		return err
	}
	for _, name := range c.temporary {
		if err := s.do("DROP TEMPORARY TABLE IF EXISTS " + name); err != nil {
			return err
		}
	}
	c.temporary, c.autocommit, c.readsAll, c.readsNext = nil, true, false, false
	if l != nil {
		naming, err := c.relay.naming(s, l.collation)
		if err != nil {
			return err
		}
		c.naming, c.schema = naming, c.relay.config.Schema
		if l.schema != "" {
			c.schema = l.schema
		}
	}
	was := &client{variables: c.variables}
	c.variables = variables{slot: c.slot}
	if err := s.set(restore(c, was)); err != nil {
		return err
	}
	if c.naming != "" {
		c.system = append(c.system, names...)
		if err := s.do(c.naming); err != nil {
			return err
		}
	}
	if err := s.use(c.schema); err != nil {
		return err
	}
	c.okay()
	return nil
}

// wasReset takes back what is open, where that is this client's. The caller has IO.
func (c *client) wasReset() {
	if !c.relay.HasFloor(&c.Client) {
		return
	}
	if c.state == started {
		c.state = gone
	}
	c.relay.GiveFloor(&c.Client)
}

// enter takes the floor, where that is needed and the client has not got it, and IO, and has the client's
// variables in force. Where it cannot be had an error has gone to the client. wants is the
// statement that it is for.
func (c *client) enter(ctx context.Context, wants string, floor bool) (ok bool, err error) {
	r, began := c.relay, time.Now()
	if floor && !r.HasFloor(&c.Client) {
		blocking, err := r.TakeFloor(ctx, &c.Client, r.config.Wait)
		if err != nil {
			return false, err
		}
		if blocking != nil {
			c.heldUp(blocking, wants)
			return false, nil
		}
	}
	r.Rest(&c.Client, false)
	if err := r.IO.Take(ctx); err != nil {
		return false, err
	}
	if floor && !r.HasFloor(&c.Client) { // a reset came in between
		r.IO.Give()
		return c.enter(ctx, wants, floor)
	}
	if c.Gone(began, c.in) {
		c.broken.Store(true)
		return false, c.leave(nil)
	}
	s, err := r.session(ctx, c.capabilities&capFoundRows != 0)
	if err == nil {
		c.server = s
		err = s.settle(c)
	}
	if err != nil {
		return false, c.leave(err)
	}
	r.Begin(&c.Client, wants)
	return true, nil
}

// heldUp tells the client who did not let it have its turn.
func (c *client) heldUp(by *relay.Blocking, wants string) {
	r := c.relay
	r.Remark(relay.Waited, wants)
	c.fail(errLockWait, "HY000", r.InTheWay(by, r.config.Wait)+". On a copy that is reset by rollback one transaction "+
		"is open at a time")
}

// leave gives IO, and the floor where no transaction is open. What the server has refused is
// told to the client; any other error loses the session.
func (c *client) leave(failed error) error {
	r := c.relay
	if failed != nil {
		if e, ok := errors.AsType[*serverError](failed); ok {
			c.packet(e.append(nil))
		} else {
			c.packet((&serverError{errUnknown, "HY000", "the copy cannot be reached: " + failed.Error()}).append(nil))
			c.flush()
			r.lose()
		}
	}
	r.End()
	if c.state != started {
		r.GiveFloor(&c.Client)
	} else {
		r.Rest(&c.Client, true)
	}
	r.IO.Give()
	return nil
}

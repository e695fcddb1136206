package pgwire

import (
	"bytes"
	"context"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5/pgproto3"

	"hemzo/internal/relay"
)

// extended does what messages of the extended protocol ask for, up to a Flush or Sync.
func (c *client) extended(ctx context.Context) error {
	part := c.part
	c.part = nil
	syncs := part[len(part)-1].kind == syncing
	if !c.open {
		if c.skipping {
			if syncs {
				c.skipping = false
				return c.sayReady(ctx)
			}
			return nil
		}
		ok, err := c.enter(ctx, firstText(part))
		if err != nil {
			return err
		}
		if !ok {
			return c.skip(ctx, syncs)
		}
		if c.state == gone && !c.ends(part) {
			_ = c.send(c.goneError())
			c.leave()
			return c.skip(ctx, syncs)
		}
	}
	err := c.exchange(part, syncs)
	if errors.Is(err, errMessage) { // nothing of it was sent
		if !c.open {
			c.leave()
		}
		return c.refuse(protocolError, err.Error())
	}
	if err != nil {
		c.broken = true
		c.relay.lose()
		_ = c.send(problem(connectionFailed, err.Error(), ""))
	}
	if syncs {
		c.ready()
		c.finish()
		return nil
	}
	c.open = true
	return c.out.Flush()
}

// firstText is the first statement of messages, for others to be told.
func firstText(part []message) string {
	for _, m := range part {
		var p pgproto3.Parse
		if m.kind == parse && p.Decode(m.body) == nil {
			return p.Query
		}
	}
	return "a prepared statement"
}

// skip passes over what is to come, up to the Sync, after an error of the relay's own.
func (c *client) skip(ctx context.Context, syncs bool) error {
	if c.skipping = !syncs; syncs {
		return c.sayReady(ctx)
	}
	c.outside.Lock()
	defer c.outside.Unlock()
	c.heldBack = false
	return c.out.Flush()
}

// ends reports whether messages end a transaction.
func (c *client) ends(part []message) bool {
	for _, m := range part {
		s := statement{}
		switch m.kind {
		case parse:
			var p pgproto3.Parse
			if p.Decode(m.body) == nil {
				s = c.readOne(p.Query)
			}
		case bind:
			_, name, _ := bindNames(m.body)
			if p := c.statements[name]; p != nil {
				s = p.statement
			}
		}
		if s.order == commit || s.order == rollback {
			return true
		}
	}
	return false
}

// readOne reads a text of one statement; of several the server says what is wrong.
func (c *client) readOne(text string) statement {
	if all := c.relay.statements(text); len(all) == 1 {
		return all[0]
	}
	return statement{text: text}
}

// translation turns a client's messages into those for the server. It runs ahead: state
// is the client's once all is done, the client's own follows the answers.
type translation struct {
	*client
	w      *writer
	state  txState
	worked bool // something was executed since the guard
}

// exchange sends a part of the client's messages and passes on what comes back.
func (c *client) exchange(part []message, syncs bool) error {
	s := c.server
	t := &translation{client: c, w: &writer{}, state: c.state}
	a := &answers{c: c}
	guard, atGuard := s.guard, s.atGuard
	if !c.skipping {
		if !c.open && (c.state == idle || c.state == begun || c.state == gone) {
			c.front(t.w)
		}
		for _, m := range part {
			if err := t.message(m); err != nil {
				s.guard, s.atGuard, s.unnamed = guard, atGuard, nil
				return err
			}
		}
		a.copies = func() error { return c.copyIn(true) }
	}
	if syncs {
		if t.state == idle && t.worked {
			s.check(t.w, nil)
		}
		t.w.send(&pgproto3.Sync{}, expect{kind: ready})
	} else if !c.skipping {
		t.w.out = appendFront(t.w.out, &pgproto3.Flush{})
	}
	s.touched = s.touched || t.worked
	worked := t.worked || c.open
	if err := c.converse(a, t.w); err != nil {
		return err
	}
	failing := a.failed != nil || c.skipping
	if !syncs {
		c.skipping = failing
		return nil
	}
	switch {
	case failing || s.status == 'E':
		c.failedWork()
		if s.status == 'T' && c.state == failed { // it was made so by ROLLBACK TO
			c.state = started
		}
	case c.state == failed:
		c.state = started
		s.guard = dirty
	case worked:
		s.guard = dirty
	}
	return nil
}

// message translates one message.
func (t *translation) message(m message) error {
	switch m.kind {
	case parse:
		return t.parse(m.body)
	case bind:
		return t.bind(m.body)
	case describe:
		return t.describe(m.body)
	case execute:
		return t.execute(m.body)
	case closing:
		return t.close(m.body)
	}
	return nil // Flush and Sync, which end the part
}

var errMessage = fmt.Errorf("a message is not as the protocol has it")

// byRelay are the statements that the relay does: the server is given an empty one, so
// that it answers in the right order.
func byRelay(o order) bool {
	switch o {
	case begin, commit, rollback, level, deallocate, discard, listen, notify:
		return true
	}
	return false
}

// refusal makes the server answer with an error in the place of a statement.
func refusal(code, message string) string {
	return fmt.Sprintf("DO $hemzo$ BEGIN RAISE EXCEPTION USING ERRCODE = '%s', MESSAGE = '%s'; END $hemzo$", code, message)
}

// doRefuse is the statement that answers what is for transactions alone.
const doRefuse = "hemzo_refuse"

// misplaced reports whether a statement is for transactions alone, and there is none.
func (t *translation) misplaced(s statement) bool {
	return t.state == idle && (s.order == savepoint || s.order == inside && !t.worked)
}

func (t *translation) parse(body []byte) error {
	var m pgproto3.Parse
	if m.Decode(body) != nil {
		return errMessage
	}
	s := t.readOne(m.Query)
	t.noteClock(m.Query)
	p := &prepared{statement: s}
	switch old := t.statements[m.Name]; {
	case m.Name == "":
		t.statements[""] = p
	case old != nil: // the server refuses the name
		p.name = old.name
	default:
		t.names++
		p.name = fmt.Sprintf("hemzo_%d_%d", t.ID, t.names)
		t.statements[m.Name] = p
	}
	m.Name = p.name
	switch {
	case byRelay(s.order):
		m.Query = ""
	case s.order == twoPhase:
		t.relay.Remark(relay.NeedsCommit, m.Query)
		m.Query = refusal(notSupported, "PREPARE TRANSACTION cannot be used on a copy that is reset by rollback")
	case s.order == named:
		m.Query = t.renamed(m.Query)
	}
	encoded := appendFront(nil, &m)
	p.parse = encoded[5:]
	if m.Name == "" {
		t.unnamed, t.unnamedStale, t.server.unnamed = p.parse, false, t.client
	}
	t.w.raw(parse, p.parse, expect{kind: parseComplete})
	return nil
}

// renew has a statement parsed again where the server has lost it, or would refuse it.
func (t *translation) renew(name string, p *prepared) {
	if name == "" {
		if t.unnamed != nil && (t.server.unnamed != t.client || t.unnamedStale) {
			t.w.raw(parse, t.unnamed, expect{kind: parseComplete, swallow: true})
			t.server.unnamed, t.unnamedStale = t.client, false
		}
		return
	}
	if p == nil || !p.stale || p.parse == nil {
		return
	}
	t.w.send(&pgproto3.Close{ObjectType: 'S', Name: p.name}, expect{kind: closeComplete, swallow: true})
	t.w.raw(parse, p.parse, expect{kind: parseComplete, swallow: true})
	p.stale = false
}

// bindNames are the names of the portal and of the statement that a Bind begins with.
func bindNames(body []byte) (portal, statement string, rest []byte) {
	i := bytes.IndexByte(body, 0)
	if i < 0 {
		return "", "", nil
	}
	j := bytes.IndexByte(body[i+1:], 0)
	if j < 0 {
		return "", "", nil
	}
	return string(body[:i]), string(body[i+1 : i+1+j]), body[i+1+j+1:]
}

// unknownName is one that the server knows nothing of.
const unknownName = "hemzo_unknown"

func (t *translation) bind(body []byte) error {
	portalName, name, rest := bindNames(body)
	if rest == nil {
		return errMessage
	}
	p := t.statements[name]
	own := unknownName
	if p != nil {
		own = p.name
	}
	t.renew(name, p)
	e := expect{kind: bindComplete}
	if p != nil && t.misplaced(p.statement) {
		own = doRefuse
		t.w.send(&pgproto3.Close{ObjectType: 'S', Name: own}, expect{kind: closeComplete, swallow: true})
		t.w.send(&pgproto3.Parse{Name: own, Query: refusal(noTransaction, p.words[0]+
			" can only be used in transaction blocks")}, expect{kind: parseComplete, swallow: true})
	}
	if p != nil {
		t.prepareFor(p.statement)
		if !byRelay(p.order) && t.state == begun {
			if t.state = started; t.client.state == idle && t.reads {
				t.w.run(doRead)
			}
			e.done = func() {
				if t.client.state == begun {
					t.client.state = started
				}
			}
		}
	}
	x := &portal{of: p}
	if portalName != "" {
		t.names++
		x.name = fmt.Sprintf("hemzo_%d_%d", t.ID, t.names)
	}
	if old := t.portals[portalName]; old != nil && portalName != "" {
		x.name = old.name // the server refuses it
	}
	t.portals[portalName] = x
	out := append(append([]byte(x.name), 0), own...)
	t.w.raw(bind, append(append(out, 0), rest...), e)
	return nil
}

// prepareFor sets the guard anew where a statement ends a transaction.
func (t *translation) prepareFor(s statement) {
	server := t.server
	switch {
	case s.order == commit && (t.state == started || t.state == idle && t.worked):
		server.check(t.w, func() { t.ended(rollback) })
		t.w.run(doRelease)
		t.w.run(doSave)
		server.guard = armed
		t.worked = false
	case (s.order == commit || s.order == rollback) && (t.state == started || t.state == failed),
		s.order == rollback && t.state == idle && t.worked:
		t.w.run(doUndo)
		server.guard = armed
		t.worked = false
	}
}

func (t *translation) describe(body []byte) error {
	if len(body) < 2 {
		return errMessage
	}
	name := string(trimZero(body[1:]))
	own, e := name, expect{kind: describedPortal}
	switch body[0] {
	case 'S':
		e.kind = describedStatement
		p := t.statements[name]
		t.renew(name, p)
		if own = unknownName; p != nil {
			own = p.name
		}
	case 'P':
		if x := t.portals[name]; x != nil { // else one that SQL has made
			own = x.name
		}
	default:
		return errMessage
	}
	t.w.send(&pgproto3.Describe{ObjectType: body[0], Name: own}, e)
	return nil
}

func (t *translation) execute(body []byte) error {
	i := bytes.IndexByte(body, 0)
	if i < 0 || len(body) != i+5 {
		return errMessage
	}
	name := string(body[:i])
	e := expect{kind: executed}
	own := name
	x := t.portals[name]
	if x != nil {
		own = x.name
	}
	if x != nil && x.of != nil {
		t.effect(x.of.statement, &e)
		t.relay.Note(&t.Client, x.of.text)
	}
	if x == nil || x.of == nil || !byRelay(x.of.order) {
		t.worked = true
	}
	t.w.raw(execute, append([]byte(own), body[i:]...), e)
	return nil
}

// effect says what follows once a statement is done.
func (t *translation) effect(s statement, e *expect) {
	c, before := t.client, t.state
	if byRelay(s.order) {
		e.tag = s.tag
	}
	switch s.order {
	case begin:
		worked := t.worked
		if t.state == idle || t.state == gone {
			t.state, t.reads = begun, s.reads || c.readsOnly()
		}
		e.done = func() {
			if before == gone {
				c.state = idle
			}
			c.beginWork(s, worked)
		}
	case commit, rollback:
		if before == failed || before == gone {
			e.tag = "ROLLBACK"
		}
		t.state = idle
		if s.chain {
			t.state = begun
		}
		e.done = func() { c.endedBy(s, before) }
	case plain:
		if configures().MatchString(s.text) {
			e.done = func() { c.noteConfigs(s.text) }
		}
	case set:
		e.done = func() { c.noteSetting(s) }
	case local:
		e.done = func() { c.noteLocal(s) }
	case deallocate:
		e.done = c.closeStatements
	case discard:
		e.done = c.discard
	case listen:
		e.done = func() { c.listens(s) }
	case notify:
		e.done = func() { c.notifies(s) }
	}
}

// endedBy notes the end of a transaction whose guard was set anew already.
func (c *client) endedBy(s statement, before txState) {
	how := s.order
	if before == failed || before == gone {
		how = rollback
	}
	c.state = idle // so that nothing is undone once more
	c.ended(how)
	if s.chain {
		c.state = begun
	}
}

func (t *translation) close(body []byte) error {
	if len(body) < 2 {
		return errMessage
	}
	name := string(trimZero(body[1:]))
	own := name
	c := t.client
	e := expect{kind: closeComplete}
	switch body[0] {
	case 'S':
		if p := t.statements[name]; p != nil {
			own = p.name
			if name == "" {
				t.unnamed = nil
			}
			e.done = func() { delete(c.statements, name) }
		} else {
			own = unknownName
		}
	case 'P':
		if x := t.portals[name]; x != nil {
			own = x.name
			e.done = func() { delete(c.portals, name) }
		}
	default:
		return errMessage
	}
	t.w.send(&pgproto3.Close{ObjectType: body[0], Name: own}, e)
	return nil
}

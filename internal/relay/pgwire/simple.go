package pgwire

import (
	"context"
	"fmt"
	"maps"
	"strings"
	"unicode/utf8"

	"github.com/jackc/pgx/v5/pgproto3"

	"hemzo/internal/pattern"
	"hemzo/internal/relay"
)

// simple does what a Query message asks for.
func (c *client) simple(ctx context.Context, text string) error {
	all := c.relay.statements(text)
	if c.skipping && !c.open {
		return nil // up to the Sync
	}
	continuing := c.open
	if !c.open {
		if done, err := c.alone(ctx, all); done || err != nil {
			return err
		}
		ok, err := c.enter(ctx, text)
		if err != nil {
			return err
		}
		if !ok {
			return c.sayReady(ctx)
		}
		if c.state == gone { // a reset came in between
			c.leave()
			return c.simple(ctx, text)
		}
	}
	if err := c.queries(all, text, continuing); err != nil {
		c.broken = true
		c.relay.lose()
		_ = c.send(problem(connectionFailed, err.Error(), ""))
	}
	c.ready()
	c.finish()
	return nil
}

// sayReady ends an answer outside of a piece of work.
func (c *client) sayReady(ctx context.Context) error {
	if c.heldBack {
		c.outside.Lock()
		defer c.outside.Unlock()
		c.heldBack = false
		c.ready()
		return nil
	}
	if err := c.relay.IO.Take(ctx); err != nil {
		return err
	}
	defer c.relay.IO.Give()
	c.ready()
	return nil
}

// alone does what takes no session: a transaction that has not begun on it, or that a
// reset has taken back; false for anything else.
func (c *client) alone(ctx context.Context, all []statement) (done bool, err error) {
	if c.relay.HasFloor(&c.Client) || len(c.notes) > 0 { // others are told, which takes io
		return false, nil
	}
	// Nobody else looks at a client that has not got the floor, and nothing is waited for.
	c.outside.Lock()
	defer c.outside.Unlock()
	if len(all) == 0 {
		_ = c.send(&pgproto3.EmptyQueryResponse{})
		c.ready()
		return true, nil
	}
	ends := all[0].order == commit || all[0].order == rollback
	if c.state == gone && !ends {
		_ = c.send(c.goneError())
		c.ready()
		return true, nil
	}
	if len(all) > 1 || !ends && all[0].order != begin {
		if c.state == gone { // the first one ends it
			c.state = idle
		}
		return false, nil
	}
	if _, err := c.control(all[0], false, false); err != nil {
		return true, err
	}
	c.ready()
	return true, nil
}

// goneError says that a reset has taken back what a client was in the midst of.
func (c *client) goneError() *pgproto3.ErrorResponse {
	return problem(rolledBack, "the copy was reset: this transaction was rolled back",
		"End it with ROLLBACK; a reset belongs between two tests.")
}

// queries does the statements of one Query message; those that are not the relay's to do go
// on together, as they stand. An error means that the session is lost.
func (c *client) queries(all []statement, text string, continuing bool) error {
	// Several statements of one message are a transaction, for some purposes.
	several := len(all) > 1
	at := 0 // where in text the next statement is looked for
	for i := 0; i < len(all); {
		j := i
		for j < len(all) && !all[j].controls() {
			j++
		}
		if j == i {
			ok, err := c.control(all[i], continuing, several)
			if !ok || err != nil {
				return err
			}
			at += strings.Index(text[at:], all[i].text) + len(all[i].text)
			continuing = all[i].order != commit && all[i].order != rollback && (continuing || c.state == started)
			i++
			continue
		}
		from := at + strings.Index(text[at:], all[i].text)
		for ; i < j; i++ {
			at += strings.Index(text[at:], all[i].text) + len(all[i].text)
		}
		part := text[from:at]
		if from > 0 { // so that an error names its place in the whole
			part = strings.Repeat(" ", utf8.RuneCountInString(text[:from])) + part
		}
		if from == strings.Index(text, all[0].text) && j == len(all) {
			part = text
		}
		ok, err := c.run(part, continuing)
		if err != nil || !ok {
			return err
		}
		for _, s := range all[:j] {
			if s.order == local {
				c.noteLocal(s)
			}
		}
		continuing = true
	}
	return nil
}

// run has the server do a text; ok is false where that failed. continuing says that it
// belongs to what is under way: no guard is set in front of it.
func (c *client) run(text string, continuing bool) (ok bool, err error) {
	s, w := c.server, &writer{}
	c.noteClock(text)
	if !continuing && (c.state == idle || c.state == begun) {
		c.front(w)
	}
	if c.state == begun {
		c.state = started
	}
	w.send(&pgproto3.Query{String: text}, expect{kind: query})
	s.unnamed, c.unnamed, s.touched = nil, nil, true
	a := &answers{c: c, hold: c.state == idle && s.deferring}
	a.copies = func() error { return c.copyIn(false) }
	if err := c.converse(a, w); err != nil {
		return false, err
	}
	if s.status == 'E' || a.failed != nil {
		c.failedWork()
		return false, nil
	}
	s.guard = dirty
	if c.state == failed { // ROLLBACK TO
		c.state = started
	}
	c.noteConfigs(text)
	if a.hold {
		ok, err = c.checkNow()
		if ok {
			a.release()
		}
		return ok, err
	}
	return true, nil
}

// converse sends for a client, and passes on what comes back. An error of the server
// is the client's, and none here.
func (c *client) converse(a *answers, w *writer) error {
	_, err := c.server.exchange(a, w)
	if _, ok := err.(errServer); ok { //nolint:errorlint // it is returned as it is
		return nil
	}
	return err
}

// checkNow checks deferred constraints after a statement outside of transactions.
func (c *client) checkNow() (ok bool, err error) {
	w := &writer{}
	c.server.check(w, nil)
	w.send(&pgproto3.Sync{}, expect{kind: ready, swallow: true})
	a := &answers{c: c}
	if err := c.converse(a, w); err != nil {
		return false, err
	}
	if a.failed != nil {
		c.server.undo()
		return false, nil
	}
	return true, nil
}

// failedWork notes that what was sent failed: within a transaction that waits for its
// end, else it is undone.
func (c *client) failedWork() {
	switch c.state {
	case begun, started, failed:
		c.state = failed
	default:
		c.server.undo()
		clear(c.pending)
	}
}

// control does a statement about transactions, settings or names; ok is false where an
// error went to the client. several says that it is one of several in a message.
func (c *client) control(s statement, continuing, several bool) (ok bool, err error) {
	refuse := func(code, text, hint string) (bool, error) {
		_ = c.send(problem(code, text, hint))
		if c.state != gone && c.server != nil {
			c.failedWork()
		}
		return false, nil
	}
	if c.state == failed && s.order != commit && s.order != rollback && s.order != savepoint {
		return c.run(s.text, true) // the server says what is wrong
	}
	switch s.order {
	case begin:
		c.beginWork(s, continuing)
	case commit, rollback:
		if s.chain && c.state == idle {
			return refuse(noTransaction, s.tag+" AND CHAIN can only be used in transaction blocks", "")
		}
		return c.endWork(s, continuing)
	case savepoint, inside:
		if c.state == idle && (s.order == savepoint || !several) {
			return refuse(noTransaction, s.words[0]+" can only be used in transaction blocks", "")
		}
		return c.run(s.text, continuing)
	case set:
		return c.setting(s, continuing)
	case level:
		c.relay.Remark(relay.Weaker, s.text)
		_ = c.send(warning(notSupported, s.warns))
	case twoPhase:
		c.relay.Remark(relay.NeedsCommit, s.text)
		return refuse(notSupported, "PREPARE TRANSACTION cannot be used on a copy that is reset by rollback", needsCommit)
	case named:
		return c.run(c.renamed(s.text), continuing)
	case discard:
		if c.state != idle {
			return refuse(activeSQL, "DISCARD ALL cannot run inside a transaction block", "")
		}
		c.discard()
	case deallocate:
		c.closeStatements()
	case listen:
		c.listens(s)
	case notify:
		c.notifies(s)
	}
	c.complete(s.tag)
	return true, nil
}

// beginWork begins a transaction of the client's. Statements before it in the same
// message belong to it.
func (c *client) beginWork(s statement, continuing bool) {
	if c.state != idle {
		_ = c.send(warning(activeSQL, "there is already a transaction in progress"))
		return
	}
	if s.warns != "" {
		c.relay.Remark(relay.Weaker, s.text)
		_ = c.send(warning(notSupported, s.warns))
	}
	if c.state, c.reads = begun, s.reads || c.readsOnly(); continuing {
		c.state = started
	}
}

var setOn = pattern.Lazy(`(?i)(\bON|\bTRUE|\bYES|\b1|READ\s+ONLY)\W*$`)

// readsOnly reports whether the client has set that its transactions only read.
func (c *client) readsOnly() bool {
	return setOn().MatchString(c.settings["default_transaction_read_only"])
}

// endWork ends a transaction of the client's.
func (c *client) endWork(s statement, continuing bool) (ok bool, err error) {
	tag := s.tag
	switch c.state {
	case idle:
		_ = c.send(warning(noTransaction, "there is no transaction in progress"))
		if continuing && s.order == rollback {
			c.server.undo()
		}
	case started:
		if s.order == commit && c.server.deferring {
			if ok, err := c.checkNow(); err != nil || !ok {
				c.ended(rollback)
				return false, err
			}
		}
		c.ended(s.order)
	case failed, gone:
		tag = "ROLLBACK"
		c.ended(rollback)
	}
	c.state = idle
	if s.chain {
		c.state = begun
	}
	c.complete(tag)
	return true, nil
}

// ended does what the end of a transaction does beside its rows.
func (c *client) ended(how order) {
	if how == rollback {
		if c.state == started || c.state == failed {
			c.server.undo()
		}
		clear(c.pending)
		c.notes = nil
	} else {
		c.commitSettings()
	}
	c.state = idle
	c.closePortals()
}

// setting has the server try a setting, and keeps it for the client.
func (c *client) setting(s statement, continuing bool) (ok bool, err error) {
	for _, name := range fatalSettings {
		if s.setting() == name {
			_ = c.send(warning(notSupported, name+" is not set on a copy that is reset by rollback"))
			c.complete(s.words[0])
			return true, nil
		}
	}
	if ok, err = c.run(s.text, continuing); ok {
		c.noteSetting(s)
	}
	return ok, err
}

// closeStatements has all prepared statements of the client closed.
func (c *client) closeStatements() {
	for name, p := range c.statements {
		if name != "" {
			c.closings = append(c.closings, toClose{'S', p.name})
		}
	}
	c.statements = map[string]*prepared{}
}

// discard makes the client as it began.
func (c *client) discard() {
	c.closeStatements()
	c.closePortals()
	c.settings = maps.Clone(c.initial)
	clear(c.channels)
}

// listens notes what a client wants to hear of.
func (c *client) listens(s statement) {
	channel := ""
	if len(s.words) > 1 {
		channel = unquoted(s.words[1])
	}
	switch {
	case s.words[0] == "LISTEN":
		c.channels[channel] = true
	case channel == "*":
		clear(c.channels)
	default:
		delete(c.channels, channel)
	}
}

// unquoted is a name as the server understands it; words come in upper case.
func unquoted(word string) string {
	if name, ok := strings.CutPrefix(word, `"`); ok {
		return strings.ReplaceAll(strings.TrimSuffix(name, `"`), `""`, `"`)
	}
	return strings.ToLower(word)
}

var payload = pattern.Lazy(`(?is)^\s*NOTIFY\s+[^,]+,\s*'((?:[^']|'')*)'\s*$`)

// notifies notes what is to be told once the transaction is committed.
func (c *client) notifies(s statement) {
	if len(s.words) < 2 {
		return
	}
	n := pgproto3.NotificationResponse{PID: c.ID, Channel: unquoted(s.words[1])}
	if m := payload().FindStringSubmatch(s.text); m != nil {
		n.Payload = strings.ReplaceAll(m[1], "''", "'")
	}
	c.notes = append(c.notes, n)
}

// copyIn passes the rows of COPY FROM STDIN on, until the client ends them. One that
// vanishes meanwhile fails the COPY.
func (c *client) copyIn(extended bool) error {
	if err := c.out.Flush(); err != nil {
		c.broken = true
	}
	s := c.server
	var out []byte
	pass := func() error {
		_, err := s.conn.Write(out)
		out = out[:0]
		return err
	}
	for ended := false; ; {
		m, err := c.readRow()
		if err != nil || c.broken {
			c.broken = true
			m = message{kind: copyFail, body: []byte("the client has gone\x00")}
		}
		switch m.kind {
		case copyData, copyDone, copyFail:
			if !ended {
				out = appendMessage(out, m.kind, m.body)
			}
			ended = ended || m.kind != copyData
		case syncing, flush:
			if !ended {
				continue // as the server does
			}
			if m.kind == syncing {
				out = appendMessage(out, syncing, nil)
				return pass()
			}
		default:
			c.broken = true
			out = appendFront(out, &pgproto3.CopyFail{Message: fmt.Sprintf("unexpected message %q in COPY", m.kind)})
			ended = true
		}
		if len(out) > 32<<10 || ended {
			if err := pass(); err != nil {
				return err
			}
		}
		if ended && (!extended || c.broken) {
			if extended {
				out = appendMessage(out, syncing, nil)
			}
			return pass()
		}
	}
}

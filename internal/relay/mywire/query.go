package mywire

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"hemzo/internal/pattern"
	"hemzo/internal/relay"
)

// job is a statement on its way to the server: as a text, or as the execution of a prepared
// one.
type job struct {
	kind byte
	body []byte
}

func textJob(text string) job { return job{comQuery, []byte(text)} }

// query does what a client asks for by text.
func (c *client) query(ctx context.Context, text string) error {
	all := statements(c.dialect(), text)
	if len(all) == 0 || len(all) > 1 && (c.capabilities&capMultiStatements == 0 ||
		slices.ContainsFunc(all, statement.isBlock)) { // it is one, or the server refuses it
		all = []statement{{text: text}}
	}
	if len(all) == 1 && c.alone(ctx, all[0]) {
		return nil
	}
	if !c.autocommit && asksAutocommit().MatchString(text) { // of the session it is on
		text = "SELECT 0 AS `@@autocommit`"
		all = statements(c.dialect(), text)
	}
	return c.statementWork(ctx, text, slices.ContainsFunc(all, statement.needsFloor), func() error {
		return c.queries(all, text)
	})
}

var asksAutocommit = pattern.Lazy(`(?i)^\s*SELECT\s+@@(session\.|local\.)?autocommit\s*;?\s*$`)

// statementWork does statements as one piece of work, unless a reset has taken back the
// transaction that they are for.
func (c *client) statementWork(ctx context.Context, wants string, floor bool, f func() error) error {
	return c.workOn(ctx, wants, floor, func() error {
		if c.state == gone {
			c.state = idle
			return errGone
		}
		return f()
	})
}

// errGone says that a reset has taken back what a client was in the midst of.
var errGone = &serverError{errUnknown, "40000", "the copy was reset: this transaction was rolled back. A reset " +
	"belongs between two tests"}

// alone does what takes no session: a transaction that has not begun on it, or that a reset
// has taken back; false for anything else.
func (c *client) alone(ctx context.Context, s statement) bool {
	if s.order == kill {
		if id, connection, ok := s.killed(); ok {
			_ = c.kill(ctx, id, connection)
			return true
		}
	}
	if c.relay.HasFloor(&c.Client) {
		return false
	}
	switch s.order {
	case begin:
		c.begins(s)
	case commit:
		if c.state == gone {
			c.state = idle
			c.packet(errGone.append(nil))
			return true
		}
		c.ends(s)
	case rollback:
		c.ends(s)
	case set:
		on, ok := autocommitOf(s.text)
		if !ok || c.state != idle {
			return false
		}
		c.autocommit = on
	default:
		return false
	}
	c.okay()
	c.release(s)
	return true
}

// release ends the connection after a COMMIT RELEASE.
func (c *client) release(s statement) {
	if s.release && (s.order == commit || s.order == rollback) {
		c.flush()
		c.broken.Store(true)
	}
}

// begins notes the beginning of a transaction.
func (c *client) begins(s statement) {
	writes := strings.Contains(strings.Join(s.words, " "), "READ WRITE")
	c.implied = false
	c.state, c.reads = begun, s.reads || !writes && (c.readsAll || c.readsNext)
	c.readsNext = false
}

// ends notes the end of a transaction, and the beginning of a chained one.
func (c *client) ends(s statement) {
	was, reads := c.state, c.readsNext || c.readsAll
	c.state, c.readsNext = idle, false
	if s.chain {
		if c.state, c.implied = begun, false; was == idle {
			c.reads = reads
		}
	}
}

var autocommitAlone = pattern.Lazy(
	`(?i)^\s*SET\s+(?:(?:SESSION|LOCAL)\s+|@@(?:session|local)\.|@@)?autocommit\s*:?=\s*(0|1|ON|OFF|TRUE|FALSE)\s*;?\s*$`)

// autocommitOf is what a SET of that variable alone sets.
func autocommitOf(text string) (on, ok bool) {
	m := autocommitAlone().FindStringSubmatch(text)
	if m == nil {
		return false, false
	}
	return slices.Contains([]string{"1", "ON", "TRUE"}, strings.ToUpper(m[1])), true
}

// queries does the statements of a text; those that are not the relay's to do go on
// together, as they stand.
func (c *client) queries(all []statement, text string) error {
	for i := 0; i < len(all); {
		j := i
		for j < len(all) && !all[j].controls() && !c.refuses(all[j]) {
			j++
		}
		if j == i {
			if ok, err := c.control(all[i], textJob(all[i].text), i+1 < len(all)); !ok || err != nil {
				return err
			}
			i++
			continue
		}
		part := text
		if i > 0 || j < len(all) {
			part = text[all[i].start : all[j-1].start+len(all[j-1].text)]
		}
		if ok, err := c.plain(all[i:j], textJob(part), j < len(all)); !ok || err != nil {
			return err
		}
		i = j
	}
	return nil
}

// plain has the server do statements; ok is false where one failed. more says that others
// follow in the same command.
func (c *client) plain(all []statement, j job, more bool) (ok bool, err error) {
	working := false
	for _, s := range all {
		working = working || s.order != quiet
		if c.refuses(s) {
			return false, c.errReadsOnly()
		}
	}
	implied := working && !c.autocommit && c.state == idle
	if implied {
		c.begins(statement{})
		c.implied = true
	}
	if working && c.state == idle {
		c.readsNext = false
	}
	r, err := c.run(j.kind, j.body, &answer{more: more, file: all[0].order == load, quiet: !working})
	if implied && r.failed != nil && r.failed.code == errSyntax { // it was none
		c.state = idle
	}
	if r.failed == nil { // what is no name is noted by no name
		for _, s := range all {
			c.note(nil, userVariables(c.dialect(), s.text))
			c.server.handlers = c.server.handlers || s.word(0) == "HANDLER"
		}
	}
	return err == nil && r.failed == nil, err
}

// errReadsOnly says that a client may only read, as its server does.
func (c *client) errReadsOnly() error {
	e := &serverError{errReadOnly, "25006", "Cannot execute statement in a READ ONLY transaction"}
	if !c.server.isMariaDB() {
		e.message += "."
	}
	return e
}

// refuses reports whether a statement writes where the client may only read. Its own
// temporary tables are written all the same, but made on one of the two servers alone.
func (c *client) refuses(s statement) bool {
	switch {
	case !c.readsOnly():
		return false
	case s.order == temporary:
		return c.server.isMariaDB()
	case s.order == plain:
		return locking().MatchString(s.text)
	case s.order != writes && s.order != load:
		return false
	}
	return !slices.ContainsFunc(c.temporary, func(name string) bool {
		return slices.ContainsFunc(s.words, func(w string) bool { return strings.EqualFold(w, name) })
	})
}

var locking = pattern.Lazy(
	`(?is)^\W*SELECT\b.*(\bFOR\s+UPDATE\b|\b(NEXTVAL|SETVAL)\s*\(|\bNEXT\s+VALUE\s+FOR\b)`)

// readsOnly reports whether the transaction, or the statement alone, may write nothing.
func (c *client) readsOnly() bool {
	if c.state == idle {
		return c.readsNext || c.readsAll
	}
	return c.reads
}

// run sends a command for the client, and passes its answer on. An error means that the
// session is lost.
func (c *client) run(kind byte, body []byte, a *answer) (r result, err error) {
	s := c.server
	for _, p := range c.closings {
		if p.on == s {
			s.closings = append(s.closings, p.server)
		}
	}
	if err := s.closePrepared(s.closings); err != nil {
		return r, err
	}
	c.closings, s.closings = nil, nil
	guards := 0
	if c.state == begun && !a.quiet && (kind == comQuery || kind == comExecute) {
		if guards, err = c.setGuard(); err != nil {
			return r, err
		}
		c.state = started
	}
	if err := s.send(kind, body); err != nil {
		return r, err
	}
	if err := s.done(guards); err != nil && !isServers(err) { // else there was none to release
		return r, err
	}
	s.touched = s.touched || !a.quiet && (kind == comQuery || kind == comExecute)
	if r, err = s.answer(c, a); err != nil {
		return r, err
	}
	if r.failed != nil {
		err = s.check()
	}
	c.noBackslashes = s.status&noBackslashes != 0
	if err == nil && s.ended() {
		if c.state == started {
			c.state = idle
		}
		err = s.mend()
	}
	return r, err
}

// setGuard sends the savepoint that a transaction is undone to, and returns how many answers
// come. With the one before it those that its client had set go.
func (c *client) setGuard() (answers int, err error) {
	s := c.server
	if c.relay.config.NoSavepoints {
		return 0, s.savepoint(guard)
	}
	if s.guarded {
		answers, err = 1, s.send(comQuery, []byte("RELEASE SAVEPOINT "+guard))
	}
	s.guarded = true
	return answers + 1, errors.Join(err, s.send(comQuery, []byte("SAVEPOINT "+guard)))
}

// undo takes back what the client's transaction has done.
func (c *client) undo() error {
	s := c.relay.server
	err := s.do("ROLLBACK TO SAVEPOINT " + guard)
	if e, ok := errors.AsType[*serverError](err); ok && e.code == errNoSavepoint { // it was committed meanwhile
		s.escaped = true
		if err = s.do("ROLLBACK AND NO CHAIN NO RELEASE"); err == nil {
			err = s.begin()
		}
	}
	return err
}

// endTransaction ends the client's transaction, where one is open.
func (c *client) endTransaction(how order) (err error) {
	if c.state == started && how == rollback {
		err = c.undo()
	}
	if c.state != idle {
		c.readsNext = false
	}
	c.state = idle
	return err
}

// needsCommit is what a client is told of a statement that commits.
const needsCommit = "commits by itself, which no rollback takes back: use  reset: truncation  for these tests, or  " +
	"commits: replace"

// refuseCommit answers a statement that cannot be inside a transaction.
func (c *client) refuseCommit(s statement) (ok bool, err error) {
	c.relay.Remark(relay.NeedsCommit, s.text)
	return false, &serverError{errNotSupported, "42000", "On a copy that is reset by rollback: " +
		relay.Shorten(s.text) + " " + needsCommit}
}

// control does a statement about transactions or the session; ok is false where an error
// went to the client.
func (c *client) control(s statement, j job, more bool) (ok bool, err error) {
	switch s.order {
	case begin:
		if err := c.endTransaction(commit); err != nil {
			return false, err
		}
		c.begins(s)
	case commit, rollback:
		if c.state == started && s.order == rollback {
			if err := c.undo(); err != nil {
				return false, err
			}
		}
		c.ends(s)
	case savepoint, toSave:
		if c.state == idle && s.order == savepoint && c.autocommit {
			break
		}
		if c.state == idle && s.order == toSave {
			return false, &serverError{errNoSavepoint, "42000", fmt.Sprintf("SAVEPOINT %s does not exist", s.lastName())}
		}
		return c.plain([]statement{{text: s.text}}, j, more)
	case commits, branch:
		if !c.relay.config.Commits {
			return c.refuseCommit(s)
		}
		if c.state == begun {
			c.state = idle
		}
		return c.plain([]statement{{order: quiet, text: s.text}}, j, more)
	case set:
		return c.set(s, j, more)
	case next:
		if (c.state == started || c.state == begun) && !c.implied {
			return false, &serverError{errInTransaction, "25001",
				"Transaction characteristics can't be changed while a transaction is in progress"}
		}
		c.readsNext = s.reads
	case use:
		return c.uses(s.lastName(), more)
	case load:
		return c.load(s, j, more)
	case temporary:
		ok, err := c.plain([]statement{s}, j, more)
		if name := s.table(); ok && name != "" && !slices.Contains(c.temporary, name) {
			c.temporary = append(c.temporary, name)
		}
		return ok, err
	case plain, writes, quiet: // it may not write
		return c.plain([]statement{s}, j, more)
	default: // unlock, and a KILL that names nobody by a number
		return c.plain([]statement{{order: quiet, text: s.text}}, j, more)
	}
	c.okayMore(more)
	c.release(s)
	return true, nil
}

// uses has the client use another schema.
func (c *client) uses(schema string, more bool) (ok bool, err error) {
	if err := c.server.use(schema); err != nil {
		return false, err
	}
	c.schema = schema
	c.okayMore(more)
	return true, nil
}

// set sets variables. Those that all clients need otherwise never reach the server.
func (c *client) set(s statement, j job, more bool) (ok bool, err error) {
	system := s.setVariables()
	switches, others := setsKept(system)
	if switches || others {
		j = textJob(withoutKept(s.text))
		system = slices.DeleteFunc(system, func(name string) bool {
			a, b := setsKept([]string{name})
			return a || b
		})
	}
	if err := c.server.capture(system); err != nil {
		return false, err
	}
	if !switches {
		r, err := c.run(j.kind, j.body, &answer{more: more, quiet: asksSession(s.text)})
		if err == nil && r.failed == nil {
			err = c.noteSet(s, system)
		}
		return err == nil && r.failed == nil, err
	}
	on, ok := autocommitOf(s.text)
	if !ok {
		if err := c.server.do(string(j.body)); err != nil {
			return false, err
		}
		row, err := c.server.one("SELECT " + autocommit)
		if err != nil {
			return false, err
		}
		if on, ok = truth(row[0]); !ok {
			return false, &serverError{1231, "42000", fmt.Sprintf("Variable 'autocommit' can't be set to the value of '%s'",
				row[0].text)}
		}
	}
	if err := c.noteSet(s, system); err != nil {
		return false, err
	}
	if on && !c.autocommit {
		if err := c.endTransaction(commit); err != nil {
			return false, err
		}
	}
	c.autocommit = on
	c.okayMore(more)
	return true, nil
}

// noteSet notes which variables a SET has set.
func (c *client) noteSet(s statement, system []string) error {
	system = slices.DeleteFunc(slices.Clone(system), func(name string) bool { return !c.server.known[name] })
	c.note(system, userVariables(c.dialect(), s.text))
	if timeGoesOn().MatchString(s.text) {
		c.system = slices.DeleteFunc(c.system, func(name string) bool { return name == timestamp })
	}
	return c.noteReads(system)
}

// timeGoesOn is a SET that lets the session's clock go on.
var timeGoesOn = pattern.Lazy(`(?i)\btimestamp\s*:?=\s*(DEFAULT|0)\b`)

// noteReads notes whether the client's transactions only read from now on.
func (c *client) noteReads(system []string) error {
	for _, name := range system {
		if name != "transaction_read_only" && name != "tx_read_only" {
			continue
		}
		row, err := c.server.one("SELECT @@session." + name)
		if err != nil {
			return err
		}
		c.readsAll, _ = truth(row[0])
	}
	return nil
}

// loadPoint is the savepoint before a file is taken.
const loadPoint = "hemzo__load"

// load takes a file of the client's. One that vanishes meanwhile has loaded nothing.
func (c *client) load(s statement, j job, more bool) (ok bool, err error) {
	if c.capabilities&capLocalFiles == 0 {
		return false, &serverError{errNoLocal, "42000", "The used command is not allowed with this client"}
	}
	if err := c.server.savepoint(loadPoint); err != nil {
		return false, err
	}
	ok, err = c.plain([]statement{{order: load, text: s.text}}, j, more)
	if err == nil && c.broken.Load() {
		err = c.server.do("ROLLBACK TO SAVEPOINT " + loadPoint)
	}
	return ok, err
}

// sendFile has a client send the file that the server asks for; where that may not be it is
// empty.
func (s *session) sendFile(to *client, a *answer, asked []byte) error {
	if to != nil && a.file {
		to.packet(asked)
		for to.flush() {
			n, last, err := to.readChunk()
			if err != nil {
				to.broken.Store(true)
				break
			}
			if n == 0 {
				to.seq = last + 1
				break
			}
			if _, err := s.out.Write(appendHead(s.out.AvailableBuffer(), n, s.seq)); err != nil {
				return err
			}
			s.seq++
			if err := to.passChunk(s.out, n); err != nil {
				return err
			}
		}
	}
	if _, err := s.out.Write(appendHead(s.out.AvailableBuffer(), 0, s.seq)); err != nil {
		return err
	}
	return s.out.Flush()
}

// readChunk reads the head of the next part of a file.
func (c *client) readChunk() (length int, seq byte, err error) {
	if c.in.Buffered() == 0 {
		c.relay.Stall(&c.Client, true)
		defer c.relay.Stall(&c.Client, false)
	}
	return readHead(c.in)
}

// passChunk passes a part of a file on. What the client does not send any more is zeros: it
// is all taken back.
func (c *client) passChunk(out io.Writer, length int) error {
	body := make([]byte, length)
	if _, err := io.ReadFull(c.in, body); err != nil {
		c.broken.Store(true)
	}
	_, err := out.Write(body)
	return err
}

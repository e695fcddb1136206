package mywire

import (
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// guard is the savepoint that a client's transaction is undone to.
const guard = "hemzo__guard"

// session is the one that all clients share, always inside a transaction. A savepoint of a
// random name stands at its beginning: where that is gone somebody has ended it.
type session struct {
	*Server
	base    string
	limit   int     // of a command, in bytes
	status  uint16  // as the server last told it
	current *client // whose variables are in force; nil where nobody's are
	left    bool    // that one has gone
	schema  string  // in use
	multi   bool    // several statements are taken in a command

	touched   bool            // something was done since the transaction began
	escaped   bool            // the transaction was ended by somebody
	guarded   bool            // there is the guard
	handlers  bool            // tables may be open by HANDLER, which keeps them from being altered
	known     map[string]bool // variables whose first values are kept
	temporary []string        // tables of clients that have gone
	closings  []uint32        // likewise: prepared statements
	seq       byte            // of what goes to the server within an answer
}

// newSession begins the transaction.
func newSession(s *Server, schema string) (*session, error) {
	out := &session{Server: s, schema: schema, multi: true, base: "hemzo__" + strings.ToLower(rand.Text()),
		known: map[string]bool{}}
	err := out.do("SET SESSION wait_timeout = 2000000", "SET last_insert_id = 0")
	if err == nil {
		out.limit, err = out.number("SELECT @@max_allowed_packet")
	}
	if err == nil {
		err = out.capture(names)
	}
	if err == nil {
		err = out.begin()
	}
	if err != nil {
		return nil, errors.Join(err, out.close())
	}
	return out, nil
}

func (s *session) close() error { return s.driven.Close() }

// begin begins a transaction, whatever a client has set for those that come.
func (s *session) begin() error {
	s.guarded = false
	return s.do("START TRANSACTION READ WRITE", "SAVEPOINT "+s.base)
}

// savepoint sets a savepoint. Where what was done so far keeps it from being set that is
// committed: it has escaped.
func (s *session) savepoint(name string) error {
	if name == guard && s.guarded { // those that its client had set go with it
		if err := s.do("RELEASE SAVEPOINT " + guard); err != nil && !isServers(err) {
			return err
		}
	}
	s.guarded = s.guarded || name == guard
	err := s.do("SAVEPOINT " + name)
	if e, ok := errors.AsType[*serverError](err); !ok || e.code != errNoSavepoints {
		return err
	}
	s.escaped = true
	if err := s.do("COMMIT AND NO CHAIN NO RELEASE"); err != nil {
		return err
	}
	if err := s.begin(); err != nil {
		return err
	}
	s.guarded = name == guard
	return s.do("SAVEPOINT " + name)
}

// isServers reports whether an error is an answer of the server.
func isServers(err error) bool {
	_, ok := errors.AsType[*serverError](err)
	return ok
}

// rollback takes all back; escaped reports that the transaction had been ended before.
func (s *session) rollback() (escaped bool, err error) {
	err = s.do("ROLLBACK TO SAVEPOINT " + s.base)
	if e, ok := errors.AsType[*serverError](err); ok && e.code == errNoSavepoint {
		escaped, err = true, nil
	}
	if err != nil {
		return false, err
	}
	// completion_type may say that a new one is to begin, or the session to end.
	return escaped, s.do("ROLLBACK AND NO CHAIN NO RELEASE")
}

// restart ends the transaction, takes back what that does not of the session, and begins
// the next.
func (s *session) restart(temporary []string) error {
	escaped, err := s.rollback()
	s.escaped = s.escaped || escaped
	if err != nil {
		return err
	}
	statements := []string{"DO RELEASE_ALL_LOCKS()", "START TRANSACTION READ WRITE"}
	for _, name := range append(temporary, s.temporary...) {
		statements = append(statements, "DROP TEMPORARY TABLE IF EXISTS "+name)
	}
	s.temporary, s.touched, s.guarded = nil, false, false
	return s.do(append(statements, "SAVEPOINT "+s.base)...)
}

// send writes a command.
func (s *session) send(command byte, body []byte) error {
	_, err := writeWhole(s.out, append([]byte{command}, body...), 0)
	return err
}

// do runs statements of the relay's own, sent together; the first error is returned.
func (s *session) do(statements ...string) error {
	for _, sql := range statements {
		if err := s.send(comQuery, []byte(sql)); err != nil {
			return err
		}
	}
	return s.done(len(statements))
}

// done takes the answers to some commands of the relay's own.
func (s *session) done(commands int) (first error) {
	if err := s.out.Flush(); err != nil {
		return err
	}
	for range commands {
		r, err := s.answer(nil, &answer{})
		if err != nil {
			return err
		}
		if r.failed != nil && first == nil {
			first = r.failed
		}
	}
	return first
}

// value is one of a row: as text, and what type it has.
type value struct {
	text string
	null bool
	kind byte // a type of columns (MySQL's documentation of the protocol, "field_types.h")
}

// ask asks for rows.
func (s *session) ask(sql string) ([][]value, error) {
	if err := s.send(comQuery, []byte(sql)); err != nil {
		return nil, err
	}
	if err := s.out.Flush(); err != nil {
		return nil, err
	}
	a := &answer{keep: true}
	r, err := s.answer(nil, a)
	if err == nil && r.failed != nil {
		err = r.failed
	}
	return a.rows, err
}

// one asks for a row. A LIMIT of its own is what sql_select_limit leaves alone.
func (s *session) one(query string) ([]value, error) {
	rows, err := s.ask(query + " LIMIT 1")
	if err != nil {
		return nil, err
	}
	if len(rows) == 0 {
		return nil, errNoRow
	}
	return rows[0], nil
}

var errNoRow = errors.New("the server gives no row")

// number asks for a number.
func (s *session) number(query string) (int, error) {
	row, err := s.one(query)
	if err != nil {
		return 0, err
	}
	return strconv.Atoi(row[0].text)
}

// check learns whether the transaction is still there, of which errors tell nothing.
func (s *session) check() error {
	if err := s.send(comPing, nil); err != nil {
		return err
	}
	return s.done(1)
}

// ended reports whether the transaction was ended, as the server last told.
func (s *session) ended() bool { return s.status&inTransaction == 0 }

// mend begins another transaction where somebody has ended it.
func (s *session) mend() error {
	if !s.ended() {
		return nil
	}
	s.escaped, s.touched = true, true
	return s.begin()
}

// use selects a schema, where that is another one.
func (s *session) use(schema string) error {
	if schema == s.schema {
		return nil
	}
	if err := s.send(comInitDB, []byte(schema)); err != nil {
		return err
	}
	err := s.done(1)
	if err == nil {
		s.schema = schema
	}
	return err
}

// option has the server take several statements in a command, or one.
func (s *session) option(multi bool) error {
	if multi == s.multi {
		return nil
	}
	option := []byte{oneStatement, 0}
	if multi {
		option[0] = multiStatement
	}
	if err := s.send(comSetOption, option); err != nil {
		return err
	}
	s.multi = multi
	return s.done(1)
}

// answer is how an answer is taken, beside by whom.
type answer struct {
	more    bool      // another follows for the client
	keep    bool      // its rows are the relay's
	rows    [][]value // those
	columns []byte    // their types
	prepare *prepared // of the statement that is prepared by it
	file    bool      // its client may be asked for a file
	single  bool      // one packet, whatever it is
	quiet   bool      // nothing of the copy is changed by it
	rowsNow bool      // no columns come before the rows
	fields  bool      // columns and no rows
}

// result is what an answer came to.
type result struct {
	failed   *serverError
	status   uint16
	inserted uint64
}

// answer takes an answer, and passes it on to a client where one is given. An error means
// that the session is lost.
func (s *session) answer(to *client, a *answer) (r result, err error) {
	if a.rowsNow {
		return s.rows(to, a)
	}
	for {
		payload, seq, err := readWhole(s.in, maxCommand)
		if err != nil {
			return r, err
		}
		var first byte
		if len(payload) > 0 {
			first = payload[0]
		}
		s.seq = seq + 1
		switch {
		case a.single || len(payload) == 0:
			return r, s.passWhole(to, payload)
		case first == answerError:
			r.failed = readError(payload)
			return r, s.passWhole(to, payload)
		case a.prepare != nil && first == answerOK:
			return r, s.prepared(to, a.prepare, payload)
		case first == answerOK || first == answerEOF && len(payload) < 9:
			if r, err = s.okay(to, a, payload); err != nil || r.status&moreResults == 0 {
				return r, err
			}
			continue
		case first == answerFile:
			if err := s.sendFile(to, a, payload); err != nil {
				return r, err
			}
			continue
		}
		if r, err = s.results(to, a, payload); err != nil || r.failed != nil || r.status&moreResults == 0 {
			return r, err
		}
	}
}

func (s *session) passWhole(to *client, payload []byte) error {
	if to != nil {
		to.packet(payload)
	}
	return nil
}

// okay notes an OK, or the end of rows, and passes it on as it is for the client.
func (s *session) okay(to *client, a *answer, payload []byte) (r result, err error) {
	if payload[0] == answerEOF {
		in := reader{b: payload[1:]}
		warnings := in.uint16()
		r.status = in.uint16()
		s.status = r.status
		if to != nil {
			to.noteEnd(s)
			to.end(warnings, to.shown(r.status, a.more))
		}
		return r, nil
	}
	k, err := readOK(payload)
	if err != nil {
		return r, err
	}
	s.status, r.status, r.inserted = k.status, k.status, k.inserted
	if to != nil {
		to.noteEnd(s)
		to.counts(&k, s.foundRows)
		k.status = to.shown(k.status, a.more)
		to.packet(k.append(nil))
	}
	return r, nil
}

// results takes one result: its columns and its rows.
func (s *session) results(to *client, a *answer, head []byte) (r result, err error) {
	in := reader{b: head}
	columns := in.number()
	if a.fields { // the first column itself
		columns = 1 << 20
	}
	if err := s.passWhole(to, head); err != nil {
		return r, err
	}
	a.columns = a.columns[:0]
	for range columns {
		payload, _, err := readWhole(s.in, maxCommand)
		if err != nil {
			return r, err
		}
		if isEnd(payload) {
			if a.fields {
				return s.okay(to, a, payload)
			}
			return r, fmt.Errorf("%w: columns are missing", errPacket)
		}
		if len(payload) > 0 && payload[0] == answerError && a.fields {
			r.failed = readError(payload)
			return r, s.passWhole(to, payload)
		}
		if a.keep {
			a.columns = append(a.columns, columnType(payload))
		}
		if err := s.passWhole(to, payload); err != nil {
			return r, err
		}
	}
	payload, _, err := readWhole(s.in, maxCommand)
	if err != nil {
		return r, err
	}
	if !isEnd(payload) {
		return r, fmt.Errorf("%w: no end of columns", errPacket)
	}
	if r, err = s.okay(to, a, payload); err != nil || r.status&cursorExists != 0 {
		return r, err
	}
	return s.rows(to, a)
}

func isEnd(payload []byte) bool {
	return len(payload) > 0 && len(payload) < 9 && payload[0] == answerEOF
}

// columnType is the type in the definition of a column (ibid., "Column Definition").
func columnType(payload []byte) byte {
	r := reader{b: payload}
	for range 6 {
		r.text()
	}
	r.number()
	r.take(6)
	return r.byte()
}

// rows takes rows up to their end, and passes them on as they come.
func (s *session) rows(to *client, a *answer) (r result, err error) {
	for goesOn := false; ; {
		head, err := s.in.Peek(4)
		if err != nil {
			return r, err
		}
		n := int(head[0]) | int(head[1])<<8 | int(head[2])<<16
		if n > 0 && n < smallRow && !goesOn && !a.keep {
			if done, err := s.passRow(to, n); done || err != nil {
				if err != nil {
					return r, err
				}
				continue
			}
		}
		if n > 0 && !goesOn {
			if head, err = s.in.Peek(5); err != nil {
				return r, err
			}
			if last := head[4] == answerError || head[4] == answerEOF && n < 9; last || a.keep {
				payload, _, err := readWhole(s.in, maxCommand)
				switch {
				case err != nil:
					return r, err
				case head[4] == answerError:
					r.failed = readError(payload)
					return r, s.passWhole(to, payload)
				case last:
					return s.okay(to, a, payload)
				}
				a.rows = append(a.rows, a.row(payload))
				continue
			}
		}
		if _, err := s.in.Discard(4); err != nil {
			return r, err
		}
		if to == nil {
			_, err = io.CopyN(io.Discard, s.in, int64(n))
		} else {
			err = to.passOn(n, s.in)
		}
		if err != nil {
			return r, err
		}
		goesOn = n == maxPayload
	}
}

// smallRow is up to how many bytes a row is passed on from the buffer that it is in.
const smallRow = 4 << 10

// passRow passes on a packet of n bytes, where it is a row that is all there.
func (s *session) passRow(to *client, n int) (done bool, err error) {
	if s.in.Buffered() < n+4 {
		return false, nil
	}
	b, err := s.in.Peek(n + 4)
	if err != nil || b[4] == answerError || b[4] == answerEOF && n < 9 {
		return false, err
	}
	if to != nil && !to.broken.Load() {
		b[3] = to.seq
		to.seq++
		if _, err := to.out.Write(b); err != nil {
			to.broken.Store(true)
		}
	}
	_, err = s.in.Discard(n + 4)
	return true, err
}

// row reads a row in text form.
func (a *answer) row(payload []byte) (out []value) {
	r := reader{b: payload}
	for _, kind := range a.columns {
		b, null := r.text()
		out = append(out, value{string(b), null, kind})
	}
	return out
}

// prepared takes the rest of an answer to a statement being prepared.
func (s *session) prepared(to *client, p *prepared, payload []byte) error {
	r := reader{b: payload[1:]}
	p.server = r.uint32()
	columns, params := r.uint16(), r.uint16()
	if r.bad {
		return fmt.Errorf("%w: a prepared statement that is cut", errPacket)
	}
	p.params = int(params)
	if to != nil {
		copy(payload[1:5], []byte{byte(p.id), byte(p.id >> 8), byte(p.id >> 16), byte(p.id >> 24)})
		to.packet(payload)
	}
	for _, n := range []uint16{params, columns} {
		for i := 0; n > 0 && i <= int(n); i++ { // and the end of them
			payload, _, err := readWhole(s.in, maxCommand)
			if err != nil {
				return err
			}
			if isEnd(payload) {
				if _, err := s.okay(to, &answer{}, payload); err != nil {
					return err
				}
				continue
			}
			if err := s.passWhole(to, payload); err != nil {
				return err
			}
		}
	}
	return nil
}

// closePrepared has prepared statements closed, before the next command.
func (s *session) closePrepared(ids []uint32) error {
	for _, id := range ids {
		if err := s.send(comClose, []byte{byte(id), byte(id >> 8), byte(id >> 16), byte(id >> 24)}); err != nil {
			return err
		}
	}
	return nil
}

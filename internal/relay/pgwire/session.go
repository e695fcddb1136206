package pgwire

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"
)

// guardState is what has become of the savepoint that the next piece of work is
// undone to.
type guardState byte

const (
	none  guardState = iota // there is none
	armed                   // it is there, and nothing was done since
	dirty                   // what was done since is to stay
	undo                    // what was done since is to go
)

// guardName is that of the savepoint.
const guardName = "hemzo__guard"

// Statements that are prepared on the session.
const (
	doSave    = "hemzo_save"
	doRelease = "hemzo_release"
	doUndo    = "hemzo_undo"
	doRead    = "hemzo_read"
	doCheck   = "hemzo_check"
	doLater   = "hemzo_later"
)

// session is the one that all clients share, always inside a transaction.
type session struct {
	conn   net.Conn
	in     *bufio.Reader
	pid    uint32
	secret []byte
	params map[string]string // that the server reports at its beginning

	status  byte // of the last ReadyForQuery
	guard   guardState
	touched bool // something was done since the transaction began
	ddl     bool // a definition may have changed since
	escaped bool // the transaction was ended by somebody

	// settings that are in force, and those that were when the guard was set
	applied, atGuard map[string]string
	unnamed          *client   // whose the unnamed statement is
	closings         []toClose // statements and portals of clients that have gone

	known     bool // the next two are
	deferring bool // there are deferrable constraints
	later     bool // some of them are deferred at first
}

// toClose is a prepared statement or portal to be closed.
type toClose struct {
	kind byte // 'S' or 'P'
	name string
}

// newSession takes over a connection and begins the transaction.
func newSession(ctx context.Context, conn *pgconn.PgConn) (*session, error) {
	if err := conn.SyncConn(ctx); err != nil {
		return nil, err
	}
	h, err := conn.Hijack()
	if err != nil {
		return nil, err
	}
	s := &session{conn: h.Conn, in: bufio.NewReaderSize(h.Conn, 64<<10), pid: h.PID, secret: h.SecretKey,
		params: maps.Clone(h.ParameterStatuses), applied: map[string]string{}, atGuard: map[string]string{}}
	w := &writer{}
	for _, p := range [][2]string{{doSave, "SAVEPOINT " + guardName}, {doRelease, "RELEASE SAVEPOINT " + guardName},
		{doUndo, "ROLLBACK TO SAVEPOINT " + guardName}, {doRead, "SET TRANSACTION READ ONLY"},
		{doCheck, "SET CONSTRAINTS ALL IMMEDIATE"}} {
		w.send(&pgproto3.Parse{Name: p[0], Query: p[1]}, expect{kind: parseComplete, swallow: true})
	}
	w.send(&pgproto3.Sync{}, expect{kind: ready, swallow: true})
	if _, err = s.exchange(nil, w); err == nil {
		_, _, err = s.ask(beginning)
	}
	if err != nil {
		s.conn.Close()
		return nil, err
	}
	return s, nil
}

// ask runs SQL of the relay's own by the simple protocol, and returns the first
// column of each row, and the parameters that the server reported.
func (s *session) ask(sql string) (rows []string, told map[string]string, err error) {
	w := &writer{}
	w.send(&pgproto3.Query{String: sql}, expect{kind: query, swallow: true})
	s.unnamed = nil
	got := &answers{}
	_, err = s.exchange(got, w)
	return got.rows, got.params, err
}

// beginning begins the transaction that the next reset rolls back.
const beginning = "BEGIN ISOLATION LEVEL READ COMMITTED READ WRITE"

// restart ends the transaction, takes back what that does not of the session, and
// begins the next.
func (s *session) restart() error {
	s.guard = none
	s.known = s.known && !s.ddl
	s.applied, s.atGuard = map[string]string{}, map[string]string{}
	s.touched, s.ddl, s.escaped = false, false, false
	const all = "ROLLBACK; SELECT pg_catalog.pg_advisory_unlock_all(); DISCARD SEQUENCES; CLOSE ALL; " + beginning
	_, _, err := s.ask(all)
	if e, ok := errors.AsType[errServer](err); ok && e.response.Code == cancelled {
		_, _, err = s.ask(all) // the cancellation of what was under way came late
	}
	return err
}

// try runs statements and takes them back, telling what the server reported. Where
// somebody's transaction has failed nothing can be tried.
func (s *session) try(sql string) (told map[string]string, err error) {
	prefix := ""
	if s.status == 'E' {
		if s.guard != undo {
			return nil, nil
		}
		prefix, s.guard = "ROLLBACK TO SAVEPOINT "+guardName+";", armed
	}
	_, told, err = s.ask(prefix + "SAVEPOINT hemzo__try;" + sql)
	_, _, failed := s.ask("ROLLBACK TO SAVEPOINT hemzo__try; RELEASE SAVEPOINT hemzo__try")
	return told, errors.Join(err, failed)
}

// undo has what was done since the guard go before the next piece of work.
func (s *session) undo() {
	if s.guard != none {
		s.guard = undo
	}
	s.applied = maps.Clone(s.atGuard)
}

// writer gathers messages for the server, and what is expected to come back.
type writer struct {
	out   []byte
	queue []expect
}

// expect is an answer to come: by the kind of the message that ends it, or 'd' and
// 'p' for the description of a statement and of a portal, 'e' for what is executed,
// 'Q' for a query.
type expect struct {
	kind    byte
	swallow bool   // it is not the client's
	tag     string // in the place of what an empty statement answers
	done    func() // once it has come
	fails   func() // where an error comes in its place
}

const (
	describedStatement = 'd'
	describedPortal    = 'p'
	executed           = 'e'
)

func (w *writer) send(m pgproto3.FrontendMessage, e expect) {
	w.out = appendFront(w.out, m)
	w.queue = append(w.queue, e)
}

// raw is send for a message as it is.
func (w *writer) raw(kind byte, body []byte, e expect) {
	w.out = appendMessage(w.out, kind, body)
	w.queue = append(w.queue, e)
}

// run has a prepared statement of the relay's own executed. It takes the unnamed
// portal: no client's is bound yet.
func (w *writer) run(name string) {
	w.send(&pgproto3.Bind{PreparedStatement: name}, expect{kind: bindComplete, swallow: true})
	w.send(&pgproto3.Execute{}, expect{kind: executed, swallow: true})
}

// front sets the guard, in front of a piece of work.
func (s *session) front(w *writer) {
	switch s.guard {
	case none:
		w.run(doSave)
	case dirty:
		w.run(doRelease)
		w.run(doSave)
	case undo:
		w.run(doUndo)
	}
	if s.guard != armed {
		s.guard = armed
		s.atGuard = maps.Clone(s.applied)
	}
}

// settle prepares the session for a client: its settings, and what is to be known of
// constraints. It takes a trip only where something of that has changed.
func (s *session) settle(c *client) error {
	if !maps.Equal(s.applied, c.settings) {
		if err := s.apply(c.settings); err != nil {
			return err
		}
	}
	if s.known {
		return nil
	}
	return s.learn()
}

// clear makes the session one that can be asked, without a guard.
func (s *session) clear() error {
	sql := ""
	switch s.guard {
	case armed, dirty:
		sql = "RELEASE SAVEPOINT " + guardName
	case undo:
		sql = fmt.Sprintf("ROLLBACK TO SAVEPOINT %s; RELEASE SAVEPOINT %s", guardName, guardName)
	default:
		return nil
	}
	s.guard = none
	_, _, err := s.ask(sql)
	return err
}

// apply puts settings into force, those of another client out of it.
func (s *session) apply(settings map[string]string) error {
	if err := s.clear(); err != nil {
		return err
	}
	sql := []string{"SAVEPOINT hemzo__settings"}
	for _, name := range slices.Sorted(maps.Keys(s.applied)) {
		if _, kept := settings[name]; !kept {
			sql = append(sql, "RESET "+resettable(name))
		}
	}
	for _, name := range slices.Sorted(maps.Keys(settings)) {
		if s.applied[name] != settings[name] {
			sql = append(sql, settings[name])
		}
	}
	sql = append(sql, "RELEASE SAVEPOINT hemzo__settings")
	if _, _, err := s.ask(strings.Join(sql, "; ")); err != nil {
		_, _, failed := s.ask("ROLLBACK TO SAVEPOINT hemzo__settings; RELEASE SAVEPOINT hemzo__settings")
		return errors.Join(err, failed)
	}
	s.applied = maps.Clone(settings)
	return nil
}

// resettable is a setting's name as RESET takes it.
func resettable(name string) string {
	if name == "session_authorization" {
		return "SESSION AUTHORIZATION"
	}
	return name
}

// deferrableSQL lists what SET CONSTRAINTS puts back: the first row is there where
// any constraint can be deferred.
const deferrableSQL = `SELECT coalesce(string_agg(format('%I.%I', n.nspname, c.conname), ', ')
	FILTER (WHERE c.condeferred), '') FROM pg_catalog.pg_constraint c
	JOIN pg_catalog.pg_namespace n ON n.oid = c.connamespace WHERE c.condeferrable HAVING count(*) > 0`

// learn asks which constraints can be deferred.
func (s *session) learn() error {
	if err := s.clear(); err != nil {
		return err
	}
	rows, _, err := s.ask(deferrableSQL)
	if err != nil {
		return err
	}
	s.known, s.deferring, s.later = true, len(rows) > 0, len(rows) > 0 && rows[0] != ""
	if !s.later {
		return nil
	}
	w := &writer{}
	w.send(&pgproto3.Close{ObjectType: 'S', Name: doLater}, expect{kind: closeComplete, swallow: true})
	w.send(&pgproto3.Parse{Name: doLater, Query: "SET CONSTRAINTS " + rows[0] + " DEFERRED"},
		expect{kind: parseComplete, swallow: true})
	w.send(&pgproto3.Sync{}, expect{kind: ready, swallow: true})
	_, err = s.exchange(nil, w)
	return err
}

// check has deferred constraints checked, as a COMMIT does, and puts them back.
func (s *session) check(w *writer, fails func()) {
	if !s.deferring {
		return
	}
	w.run(doCheck)
	w.queue[len(w.queue)-1].fails = fails
	if s.later {
		w.run(doLater)
	}
}

// write sends what a writer has gathered; much of it beside what comes back.
func (s *session) write(w *writer) (wait func() error, err error) {
	out := w.out
	w.out = nil
	if len(out) < 32<<10 {
		_, err := s.conn.Write(out)
		return func() error { return nil }, err
	}
	failed := make(chan error, 1)
	go func() {
		_, err := s.conn.Write(out)
		failed <- err
	}()
	return func() error { return <-failed }, nil
}

// errServer is an error that the server answered to the relay itself.
type errServer struct{ response *pgproto3.ErrorResponse }

func (e errServer) Error() string { return e.response.Message + " (SQLSTATE " + e.response.Code + ")" }

// exchange sends messages of the relay's own, and reads what comes back.
func (s *session) exchange(a *answers, w *writer) (status byte, err error) {
	if a == nil {
		a = &answers{}
	}
	wait, err := s.write(w)
	if err != nil {
		return 0, err
	}
	err = s.read(a, w.queue)
	if failed := wait(); err == nil {
		err = failed
	}
	if err == nil && a.failed != nil {
		err = errServer{a.failed}
	}
	return s.status, err
}

var errLost = errors.New("the server has ended the session")

// lost says that the session is gone.
func lost(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return errLost
	}
	return fmt.Errorf("%w: %w", errLost, err)
}

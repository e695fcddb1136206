package mariadb

import (
	"context"
	"crypto/rand"
	"database/sql"
	"database/sql/driver"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-sql-driver/mysql"

	"hemzo/internal/engine"
	"hemzo/internal/engine/sessionlock"
	"hemzo/internal/fault"
	"hemzo/internal/turn"
)

// shared is a server that holds all: templates, copies and snapshots are schemas of it. What
// is known of each lies in a schema of Hemzo's own:
//
//	entries  the id of each, the schema that it is, and its facts
//	states   what is known of a template's or snapshot's schema
//	life     a random text that a restart of the server clears
//
// A schema without an entry is not Hemzo's. An entry comes before its schema, as work, and
// goes after it; it gets its own id in one step, when all is there.
type shared struct {
	about    engine.About
	at       address // without a schema
	private  bool    // the server is Hemzo's own
	accounts bool    // Hemzo's account may make others: each copy has one of its own
	patience engine.Patience

	locks *sessionlock.Locks[*conn]

	turn turn.Turn // for what follows
	conn *conn

	reads  sync.Mutex // for what follows
	states map[string]*state
	facts  map[string]string // of entries, as last read or written
}

// control is the schema of Hemzo's own.
const control = "hemzo_facts"

// place is what facts say of where something lies.
type place struct {
	Schema   string `json:"schema"`
	Account  string `json:"account,omitempty"`
	Password string `json:"password,omitempty"`
}

func placeOfFacts(f engine.Facts) (p place) {
	_ = json.Unmarshal(f.Private, &p)
	return p
}

func newShared(at address, p engine.Patience) *shared {
	at.Shared = true
	s := &shared{at: at, patience: p, turn: turn.New(), states: map[string]*state{}, facts: map[string]string{}}
	s.locks = newLocks(s)
	return s
}

// begin opens the server's own connection and makes Hemzo's schema where it is not there.
func (s *shared) begin(ctx context.Context) error {
	return s.ask(ctx, func(ctx context.Context, c *conn) error {
		rows, err := c.rows(ctx, "SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = ?", control)
		if err != nil || rows[0][0] == "3" {
			return err
		}
		return c.do(ctx, "CREATE DATABASE IF NOT EXISTS "+control+" CHARACTER SET utf8mb4 COLLATE utf8mb4_bin",
			"CREATE TABLE IF NOT EXISTS "+control+".entries (id varchar(64) PRIMARY KEY, place varchar(64) NOT NULL, "+
				"facts longtext NOT NULL) ENGINE=InnoDB",
			"CREATE TABLE IF NOT EXISTS "+control+".states (place varchar(64) PRIMARY KEY, state longtext NOT NULL) "+
				"ENGINE=InnoDB",
			"CREATE TABLE IF NOT EXISTS "+control+".life (id char(26)) ENGINE=MEMORY")
	})
}

// lifeOf names the present life of a server: what it counts begins anew with another.
func lifeOf(ctx context.Context, c *conn) (life string, err error) {
	life, _, err = lifeAndTime(ctx, c)
	return life, err
}

// lifeAndTime tells the server's time too.
func lifeAndTime(ctx context.Context, c *conn) (life, now string, err error) {
	for range 2 {
		rows, err := c.rows(ctx, "SELECT MIN(id), NOW() FROM "+control+".life")
		if err != nil {
			return "", "", fmt.Errorf("asking since when the server runs: %w", err)
		}
		if rows[0][0] != "" {
			return rows[0][0], rows[0][1], nil
		}
		if err := c.do(ctx, "INSERT INTO "+control+".life VALUES ("+text(rand.Text())+")"); err != nil {
			return "", "", fmt.Errorf("noting since when the server runs: %w", err)
		}
	}
	return "", "", errors.New("the server forgets what is noted in memory")
}

// ask runs something on the server's own connection, once more where that was broken.
func (s *shared) ask(ctx context.Context, f func(context.Context, *conn) error) error {
	if err := s.turn.Take(ctx); err != nil {
		return err
	}
	defer s.turn.Give()
	for tries := 0; ; tries++ {
		fresh := s.conn == nil
		if fresh {
			if err := s.connect(ctx); err != nil {
				return err
			}
		}
		// What it asks is short, and its locks would go with it: it is not broken off.
		short, stop := context.WithTimeout(context.WithoutCancel(ctx), shortTime)
		err := f(short, s.conn)
		stop()
		if err == nil || !broken(err) {
			return err
		}
		_ = s.conn.close()
		s.conn = nil
		s.locks.Lost()
		if fresh || tries > 0 || ctx.Err() != nil {
			return err
		}
	}
}

// shortTime bounds what is asked on the server's own connection.
const shortTime = 30 * time.Second

// broken reports whether a session is of no more use.
func broken(err error) bool {
	return errors.Is(err, driver.ErrBadConn) || errors.Is(err, mysql.ErrInvalidConn) || errors.Is(err, io.EOF) ||
		errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded)
}

func (s *shared) connect(ctx context.Context) error {
	c, err := s.dial(ctx, "")
	if err != nil {
		return err
	}
	// It holds locks, for as long as a run takes.
	if err := c.do(ctx, "SET SESSION wait_timeout = 2000000"); err != nil {
		return errors.Join(err, c.close())
	}
	s.conn = c
	s.locks.Reacquire(ctx, c)
	return nil
}

// Errors of a server that has no session free, or is not up yet.
const (
	tooManyConnections = 1040
	tooManyOfUser      = 1203
	shuttingDown       = 1053
)

// dial opens a session of Hemzo's account in a schema, as it reads and writes rows.
func (s *shared) dial(ctx context.Context, schema string) (*conn, error) {
	c, err := s.reach(ctx, schema)
	if err != nil {
		return nil, err
	}
	if err = plain(ctx, c); err != nil {
		return nil, errors.Join(err, c.close())
	}
	return c, nil
}

// reach opens a session, waiting for a server that has none free.
func (s *shared) reach(ctx context.Context, schema string) (*conn, error) {
	at := s.at
	at.Schema = schema
	for end, said := time.Now().Add(s.patience.Wait), false; ; {
		c, err := at.dial(ctx)
		if err == nil {
			return c, nil
		}
		switch code(err) {
		case tooManyConnections, tooManyOfUser, shuttingDown:
		default:
			return nil, err
		}
		if time.Now().After(end) {
			return nil, err
		}
		if s.patience.Say != nil && !said {
			s.patience.Say("the server has no connection free (" + messageOf(err) + "): waiting")
			said = true
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// messageOf is what the server says of an error.
func messageOf(err error) string {
	if e, ok := errors.AsType[*mysql.MySQLError](err); ok {
		return e.Message
	}
	return err.Error()
}

func (s *shared) About() engine.About {
	about := s.about
	about.InPlace = true
	return about
}

func (s *shared) locate(e engine.Entry) address { return s.locateFacts(e.ID, e.Facts) }

func (s *shared) locateFacts(id string, f engine.Facts) address {
	a, p := s.at, placeOfFacts(f)
	if a.Schema = p.Schema; p.Schema == "" {
		a.Schema = id
	}
	if a.Account, a.Password = p.Account, p.Password; p.Account == "" {
		a.Account, a.Password = a.login(), a.Admin
	}
	return a
}

// Connection tells how a copy is reached.
func (s *shared) Connection(id string, facts engine.Facts) engine.Connection {
	return s.locateFacts(id, facts).connection()
}

// List returns all of some kinds, or of every one, that has an entry and is there.
func (s *shared) List(ctx context.Context, kinds ...engine.Kind) ([]engine.Entry, error) {
	all, err := s.list(ctx, "")
	return slices.DeleteFunc(all, func(e engine.Entry) bool { return !e.Kind.In(kinds) }), err
}

func (s *shared) list(ctx context.Context, id string) (all []engine.Entry, err error) {
	// A copy whose schema somebody has dropped is put back by its next reset.
	query := "SELECT e.id, e.facts FROM " + control + ".entries e WHERE (e.id LIKE 'hemzo\\_c\\_%' OR EXISTS (SELECT 1 " +
		"FROM information_schema.SCHEMATA s WHERE s.SCHEMA_NAME = e.place))"
	var args []any
	if id != "" {
		query, args = query+" AND e.id = ?", []any{id}
	}
	err = s.ask(ctx, func(ctx context.Context, c *conn) error {
		rows, err := c.rows(ctx, query, args...)
		all = nil
		for _, r := range rows {
			if e, ours := entryOf(r[0], r[1]); ours {
				s.knowFacts(r[0], r[1])
				all = append(all, e)
			}
		}
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("listing what is on the server: %w", err)
	}
	return all, nil
}

func entryOf(id, facts string) (e engine.Entry, ours bool) {
	e.ID = id
	if e.Kind, ours = engine.KindOf(id); !ours {
		return e, false
	}
	e.Bad = json.Unmarshal([]byte(facts), &e.Facts) != nil || !e.Facts.Sound()
	e.Newer = e.Facts.Format > engine.Format
	e.Size = e.Facts.Size
	return e, true
}

// Find returns one.
func (s *shared) Find(ctx context.Context, id string) (engine.Entry, error) {
	all, err := s.list(ctx, id)
	if err == nil && len(all) == 0 {
		err = engine.ErrNotFound
	}
	if err != nil {
		return engine.Entry{}, err
	}
	return all[0], nil
}

// UpdateFacts changes the facts of one, while nobody else does.
func (s *shared) UpdateFacts(ctx context.Context, id string, change func(*engine.Facts)) error {
	if done, err := s.updateKnown(ctx, id, change); done || err != nil {
		return err
	}
	return s.ask(ctx, func(ctx context.Context, c *conn) error {
		tx, err := c.BeginTx(ctx, nil)
		if err != nil {
			return err
		}
		defer tx.Rollback()
		var facts string
		err = tx.QueryRowContext(ctx, "SELECT facts FROM "+control+".entries WHERE id = ? FOR UPDATE", id).Scan(&facts)
		if errors.Is(err, sql.ErrNoRows) {
			return engine.ErrNotFound
		}
		if err != nil {
			return fmt.Errorf("reading the facts of %s: %w", id, err)
		}
		e, _ := entryOf(id, facts)
		f, err := e.Change(change)
		if err != nil {
			return err
		}
		b, err := json.Marshal(f)
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "UPDATE "+control+".entries SET facts = ? WHERE id = ?", string(b), id); err != nil {
			return fmt.Errorf("writing the facts of %s: %w", id, err)
		}
		if err = tx.Commit(); err == nil {
			s.knowFacts(id, string(b))
		}
		return err
	})
}

// updateKnown changes facts that are still as this process read or wrote them last, in one
// trip; false where they are not.
func (s *shared) updateKnown(ctx context.Context, id string, change func(*engine.Facts)) (done bool, err error) {
	s.reads.Lock()
	known, ok := s.facts[id]
	s.reads.Unlock()
	e, ours := entryOf(id, known)
	if !ok || !ours {
		return false, nil
	}
	f, err := e.Change(change)
	if err != nil {
		return false, err
	}
	b, err := json.Marshal(f)
	if err != nil {
		return false, err
	}
	err = s.ask(ctx, func(ctx context.Context, c *conn) error {
		result, err := c.ExecContext(ctx, "UPDATE "+control+".entries SET facts = ? WHERE id = ? AND facts = ?", string(b),
			id, known)
		if err == nil {
			var n int64
			n, err = result.RowsAffected()
			done = n == 1
		}
		return err
	})
	if done = done && err == nil; done {
		s.knowFacts(id, string(b))
	} else {
		s.knowFacts(id, "")
	}
	return done, err
}

// knowFacts remembers the facts of one as they are on the server; "" forgets them.
func (s *shared) knowFacts(id, facts string) {
	s.reads.Lock()
	defer s.reads.Unlock()
	if len(s.facts) > 1000 {
		clear(s.facts)
	}
	if s.facts[id] = facts; facts == "" {
		delete(s.facts, id)
	}
}

// enter writes an entry of something that is not there yet.
func (s *shared) enter(ctx context.Context, id string, p place, f engine.Facts) error {
	f.Private, _ = json.Marshal(p) // of texts
	b, err := json.Marshal(f)
	if err != nil {
		return err
	}
	return s.ask(ctx, func(ctx context.Context, c *conn) error {
		_, err := c.ExecContext(ctx, "INSERT INTO "+control+".entries VALUES (?, ?, ?)", id, p.Schema, string(b))
		return err
	})
}

// publish gives what an entry describes its own id and its facts. Where another has made the
// same meanwhile, this one is dropped.
func (s *shared) publish(ctx context.Context, from, to string, p place, f engine.Facts) error {
	f.Private, _ = json.Marshal(p) // of texts
	b, err := json.Marshal(f)
	if err != nil {
		return err
	}
	err = s.ask(ctx, func(ctx context.Context, c *conn) error {
		_, err := c.ExecContext(ctx, "UPDATE "+control+".entries SET id = ?, facts = ? WHERE id = ?", to, string(b), from)
		return err
	})
	if code(err) == duplicateKey {
		return s.Drop(ctx, from)
	}
	return err
}

// Drop removes one. It becomes work first, so that what is dropped in part is taken for
// nothing else.
func (s *shared) Drop(ctx context.Context, id string) error {
	kind, ok := engine.KindOf(id)
	if !ok {
		return fault.New(fault.Refused, "", "%s does not bear Hemzo's mark", id)
	}
	if kind != engine.Work {
		gone := engine.NewID(engine.Work)
		unlock, err := s.Lock(ctx, gone, nil)
		if err != nil {
			return err
		}
		defer unlock()
		var found int64
		err = s.ask(ctx, func(ctx context.Context, c *conn) error {
			done, err := c.ExecContext(ctx, "UPDATE "+control+".entries SET id = ? WHERE id = ?", gone, id)
			if err == nil {
				found, err = done.RowsAffected()
			}
			return err
		})
		if err != nil || found == 0 {
			return err
		}
		id = gone
	}
	var schema string
	err := s.ask(ctx, func(ctx context.Context, c *conn) error {
		rows, err := c.rows(ctx, "SELECT place FROM "+control+".entries WHERE id = ?", id)
		if err == nil && len(rows) > 0 {
			schema = rows[0][0]
		}
		return err
	})
	if err != nil || schema == "" {
		return err
	}
	if err := s.remove(ctx, schema); err != nil {
		return fmt.Errorf("dropping %s: %w", id, err)
	}
	return s.ask(ctx, func(ctx context.Context, c *conn) error {
		return c.do(ctx, "DELETE FROM "+control+".states WHERE place = "+text(schema),
			"DELETE FROM "+control+".entries WHERE id = "+text(id))
	})
}

// remove drops a schema and its account, ending who is in it.
func (s *shared) remove(ctx context.Context, schema string) error {
	c, err := s.dial(ctx, "")
	if err != nil {
		return err
	}
	defer c.close()
	if s.accounts {
		if err := c.do(ctx, "DROP USER IF EXISTS "+accountName(schema)); err != nil {
			return err
		}
	}
	return s.dropSchema(ctx, c, schema, true, time.Minute)
}

// dropSchema drops a schema. Who is in the way is ended, or named after some time.
func (s *shared) dropSchema(ctx context.Context, c *conn, schema string, force bool, wait time.Duration) error {
	seconds := max(int(wait.Seconds()), 1)
	if force {
		seconds = 1
	}
	if err := c.do(ctx, fmt.Sprintf("SET lock_wait_timeout = %d", seconds)); err != nil {
		return err
	}
	for end := time.Now().Add(wait); ; {
		if force {
			if _, err := endSessions(ctx, c, schema); err != nil {
				return err
			}
		}
		err := c.do(ctx, "DROP DATABASE IF EXISTS "+quote(schema))
		if code(err) != lockWaitTimeout {
			return err
		}
		if !force || time.Now().After(end) {
			blocking, failed := sessions(ctx, c, schema)
			if failed != nil {
				return failed
			}
			return engine.InTheWay(blocking, wait, "end these sessions, or have them ended with  --force",
				"sessions hold locks on what is to be put back")
		}
	}
}

// endSessions ends the sessions of a schema, and reports whether there were any.
func endSessions(ctx context.Context, c *conn, schema string) (any bool, err error) {
	all, err := sessions(ctx, c, schema)
	for _, x := range all {
		_ = c.do(ctx, fmt.Sprintf("KILL CONNECTION %d", x.PID)) // it may have gone
	}
	return len(all) > 0, err
}

// Clear removes work whose maker is gone.
func (s *shared) Clear(ctx context.Context) error {
	var works []engine.Entry
	err := s.ask(ctx, func(ctx context.Context, c *conn) error {
		rows, err := c.rows(ctx, "SELECT id, facts FROM "+control+".entries WHERE id LIKE 'hemzo\\_w\\_%'")
		works = nil
		for _, r := range rows {
			if e, ours := entryOf(r[0], r[1]); ours {
				works = append(works, e)
			}
		}
		return err
	})
	if err != nil {
		return fmt.Errorf("looking for what crashes left: %w", err)
	}
	for _, e := range works {
		if e.Newer || s.Owned(ctx, e.ID) || e.Facts.Owner.Lock != "" && s.Owned(ctx, e.Facts.Owner.Lock) {
			continue
		}
		if err := s.Drop(ctx, e.ID); err != nil && fault.KindOf(err) != fault.Refused {
			return err
		}
	}
	return nil
}

// Clients lists who is connected to a copy, or to any.
func (s *shared) Clients(ctx context.Context, id string) (all []engine.Client, err error) {
	schemas := map[string]bool{}
	if id != "" {
		e, err := s.Find(ctx, id)
		if err != nil {
			return nil, err
		}
		schemas[s.locate(e).Schema] = true
	} else {
		entries, err := s.List(ctx)
		if err != nil {
			return nil, err
		}
		for _, e := range entries {
			schemas[s.locate(e).Schema] = true
		}
	}
	err = s.ask(ctx, func(ctx context.Context, c *conn) error {
		all = nil
		for schema := range schemas {
			some, err := sessions(ctx, c, schema)
			if err != nil {
				return err
			}
			all = append(all, some...)
		}
		return nil
	})
	return all, err
}

// Shared reports whether the server is somebody else's.
func (s *shared) Shared(ctx context.Context) (now time.Time, shared bool, err error) {
	if s.private {
		return now, false, nil
	}
	err = s.ask(ctx, func(ctx context.Context, c *conn) error {
		rows, err := c.rows(ctx, "SELECT UNIX_TIMESTAMP(NOW(3))")
		if err == nil {
			var seconds float64
			_, err = fmt.Sscan(rows[0][0], &seconds)
			now = time.UnixMilli(int64(seconds * 1000)).UTC()
		}
		return err
	})
	return now, true, err
}

// IsIntact reports whether a template is as it was made: of tables in memory a restart
// leaves nothing.
func (s *shared) IsIntact(ctx context.Context, e engine.Entry) (bool, error) {
	if e.Bad {
		return false, nil
	}
	st, err := s.stateOf(ctx, s.locate(e).Schema)
	if err != nil || st.Life == "" {
		return err == nil, err
	}
	life := ""
	err = s.ask(ctx, func(ctx context.Context, c *conn) (err error) {
		life, err = lifeOf(ctx, c)
		return err
	})
	return life == st.Life, err
}

// Tables tells the tables of a template, and where their foreign keys lead.
func (s *shared) Tables(ctx context.Context, e engine.Entry) (map[string][]string, error) {
	st, err := s.stateOf(ctx, s.locate(e).Schema)
	if err != nil {
		return nil, err
	}
	return st.leads(), nil
}

// Watch tells that somebody came: more is not known.
func (s *shared) Watch(context.Context, string) (func(time.Duration) (engine.Visitor, error), error) {
	return func(time.Duration) (engine.Visitor, error) { return engine.Somebody, nil }, nil
}

// Open opens one for work.
func (s *shared) Open(ctx context.Context, id string, session engine.Session) (engine.Database, error) {
	e, err := s.Find(ctx, id)
	if err != nil {
		return nil, err
	}
	return openDatabase(s, e, session)
}

// Close ends the server's own connection.
func (s *shared) Close() error {
	ctx, end := context.WithTimeout(context.Background(), 5*time.Second)
	defer end()
	s.locks.Close(ctx)
	if err := s.turn.Take(ctx); err != nil {
		return err
	}
	defer s.turn.Give()
	if s.conn == nil {
		return nil
	}
	err := s.conn.close()
	s.conn = nil
	return err
}

// accountName is the account of a schema, as statements name it.
func accountName(schema string) string { return "'" + strings.ReplaceAll(schema, "'", "") + "'@'%'" }

package mariadb

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
)

// Create makes an empty schema, for work.
func (s *shared) Create(ctx context.Context, id string, spec engine.Spec, facts engine.Facts) error {
	p := place{Schema: id}
	if err := s.enter(ctx, id, p, facts); err != nil {
		return fmt.Errorf("noting %s: %w", id, err)
	}
	charset := " CHARACTER SET " + charsetOf(spec)
	if collation := collationOf(spec); collation != "" {
		charset += " COLLATE " + collation
	}
	err := s.work(ctx, "", func(c *conn) (err error) {
		if err = c.do(ctx, "CREATE DATABASE "+quote(id)+charset); err == nil {
			p, err = s.makeAccount(ctx, c, p)
		}
		return err
	})
	if err == nil {
		err = s.publish(ctx, id, id, p, facts)
	}
	if err != nil {
		return errors.Join(err, s.Drop(context.WithoutCancel(ctx), id))
	}
	return nil
}

// work runs something in a session of its own.
func (s *shared) work(ctx context.Context, schema string, f func(c *conn) error) error {
	c, err := s.dial(ctx, schema)
	if err != nil {
		return err
	}
	return errors.Join(f(c), c.close())
}

// makeAccount makes the account of a schema, which reaches nothing else.
func (s *shared) makeAccount(ctx context.Context, c *conn, p place) (place, error) {
	if !s.accounts {
		return p, nil
	}
	p.Account, p.Password = p.Schema, rand.Text()
	err := c.do(ctx, fmt.Sprintf("CREATE USER %s IDENTIFIED BY '%s'", accountName(p.Account), p.Password),
		fmt.Sprintf("GRANT ALL ON `%s`.* TO %s", strings.ReplaceAll(p.Schema, "_", `\_`), accountName(p.Account)))
	if err != nil {
		return p, fmt.Errorf("making the account of %s: %w", p.Schema, err)
	}
	return p, nil
}

// start reads what is known of a template or snapshot, once.
func (s *shared) start(ctx context.Context, id string) (*state, error) {
	e, err := s.Find(ctx, id)
	if err != nil {
		return nil, err
	}
	return s.stateOf(ctx, s.locate(e).Schema)
}

func (s *shared) stateOf(ctx context.Context, schema string) (*state, error) {
	s.reads.Lock()
	st := s.states[schema]
	s.reads.Unlock()
	if st != nil {
		return st, nil
	}
	var read string
	err := s.ask(ctx, func(ctx context.Context, c *conn) error {
		rows, err := c.rows(ctx, "SELECT state FROM "+control+".states WHERE place = ?", schema)
		if err == nil && len(rows) > 0 {
			read = rows[0][0]
		}
		return err
	})
	st = &state{}
	if err == nil {
		err = json.Unmarshal([]byte(read), st)
	}
	if err != nil {
		return nil, fmt.Errorf("reading what is known of %s: %w", schema, err)
	}
	s.remember(st)
	return st, nil
}

func (s *shared) remember(st *state) {
	s.reads.Lock()
	defer s.reads.Unlock()
	if len(s.states) > 50 {
		clear(s.states)
	}
	s.states[st.Schema] = st
}

// keepState writes what is known of a template or snapshot.
func (s *shared) keepState(ctx context.Context, st *state) error {
	b, err := json.Marshal(st)
	if err != nil {
		return err
	}
	err = s.ask(ctx, func(ctx context.Context, c *conn) error {
		_, err := c.ExecContext(ctx, "REPLACE INTO "+control+".states VALUES (?, ?)", st.Schema, string(b))
		return err
	})
	if err != nil {
		return fmt.Errorf("writing what is known of %s: %w", st.Schema, err)
	}
	s.remember(st)
	return nil
}

// stateNow reads what a schema is now; c is in it.
func stateNow(ctx context.Context, c *conn, schema string) (*state, error) {
	st := &state{Schema: schema}
	var err error
	if st.Tables, err = tables(ctx, c, schema); err != nil {
		return nil, err
	}
	if st.Script, err = definitionsOf(ctx, c, schema, nil); err != nil {
		return nil, err
	}
	if st.Objects, err = objects(ctx, c, schema, st.Script); err != nil {
		return nil, err
	}
	called, err := basesOf(ctx, c, st)
	if err != nil {
		return nil, err
	}
	counted := map[string]counter{}
	if !c.narrow {
		if counted, err = counters(ctx, c, schema, nil); err != nil {
			return nil, err
		}
	}
	for i, t := range st.Tables {
		t.File = i + 1
		_, known := counted[called[t.Name]]
		t.Uncounted = !known
		t.Base, t.IDs = called[t.Name], called[t.Name]
		switch t.Kind {
		case "SEQUENCE":
			rows, err := c.rows(ctx, "SELECT * FROM "+quote(t.Name))
			if err != nil {
				return nil, fmt.Errorf("reading the sequence %s: %w", t.Name, err)
			}
			t.Counter = rows[0]
			continue
		case "SYSTEM VERSIONED":
			if t.History = historySum(ctx, c, t); !keepsHistory(ctx, c) {
				return nil, fault.New(fault.Lacking, "take a newer server, or  where: memory",
					"the history of the table %s cannot be copied by this server: that began with MariaDB 10.11", t.Name)
			}
		}
		rows, err := c.rows(ctx, "SELECT COUNT(*) FROM "+quote(t.Name))
		if err != nil {
			return nil, fmt.Errorf("counting the rows of %s: %w", t.Name, err)
		}
		if t.Rows = int64(number(rows[0][0])); t.Engine == "MEMORY" && t.Rows > 0 {
			if st.Life, err = lifeOf(ctx, c); err != nil {
				return nil, err
			}
		}
	}
	return st, nil
}

// basesOf tells how tables are called in InnoDB, where that can be known: MySQL does not say
// how it writes letters beyond ASCII.
func basesOf(ctx context.Context, c *conn, st *state) (map[string]string, error) {
	if !c.mysql && !c.narrow {
		return bases(ctx, c, st.Schema)
	}
	all := map[string]string{}
	for _, t := range st.Tables {
		if c.mysql {
			all[t.Name] = inFiles(t.Name)
		}
	}
	return all, nil
}

// inFiles is a name as names of files have it ("Mapping of Identifiers to File Names" in
// MySQL's manual); "" where it has letters beyond ASCII.
func inFiles(name string) string {
	var out strings.Builder
	for _, r := range name {
		switch {
		case r > 127:
			return ""
		case r == '_' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z':
			out.WriteRune(r)
		default:
			fmt.Fprintf(&out, "@%04x", r)
		}
	}
	return out.String()
}

// keepsHistory reports whether a session can write the history of a table.
func keepsHistory(ctx context.Context, c *conn) bool {
	return c.do(ctx, "SET system_versioning_insert_history = 1") == nil
}

// Rename makes finished work a template. Its account goes: nobody comes to it any more.
func (s *shared) Rename(ctx context.Context, from, to string, facts engine.Facts) error {
	e, err := s.Find(ctx, from)
	if err != nil {
		return err
	}
	schema := s.locate(e).Schema
	err = s.work(ctx, schema, func(c *conn) error {
		st, err := stateNow(ctx, c, schema)
		if err != nil {
			return err
		}
		if facts.Size, err = sizeOf(ctx, c, schema); err != nil {
			return err
		}
		if s.accounts {
			if err := c.do(ctx, "DROP USER IF EXISTS "+accountName(schema)); err != nil {
				return err
			}
		}
		return s.keepState(ctx, st)
	})
	if err != nil {
		return fmt.Errorf("keeping %s: %w", to, err)
	}
	return s.publish(ctx, from, to, place{Schema: schema}, facts)
}

// sizeOf is what the tables of a schema take, in bytes.
func sizeOf(ctx context.Context, c *conn, schema string) (int64, error) {
	rows, err := c.rows(ctx, "SELECT IFNULL(SUM(DATA_LENGTH + INDEX_LENGTH), 0) FROM information_schema.TABLES WHERE "+
		"TABLE_SCHEMA = ?", schema)
	if err != nil {
		return 0, fmt.Errorf("asking for the size: %w", err)
	}
	return int64(number(rows[0][0])), nil
}

// Copy makes a copy of a template or snapshot, or of the committed state of a copy.
func (s *shared) Copy(ctx context.Context, from, to string, facts engine.Facts) error {
	e, err := s.Find(ctx, from)
	if err != nil {
		return err
	}
	work := engine.NewID(engine.Work)
	unlock, err := s.Lock(ctx, work, nil)
	if err != nil {
		return err
	}
	defer unlock()
	p := place{Schema: to}
	kind, _ := engine.KindOf(to)
	if kind == engine.Template {
		p.Schema = engine.NewID(engine.Work)
	}
	making := engine.Facts{Format: engine.Format, Database: facts.Database, Engine: facts.Engine,
		Owner: engine.Owner{Lock: work}}
	if err := s.enter(ctx, work, p, making); err != nil {
		return fmt.Errorf("noting %s: %w", to, err)
	}
	source := s.locate(e).Schema
	live := e.Kind == engine.Copy || e.Kind == engine.Work
	facts.Size = e.Size
	err = s.work(ctx, source, func(c *conn) error {
		p, err = s.fill(ctx, c, source, p, kind, live)
		if err == nil && kind == engine.Copy {
			at := s.at
			at.Schema = p.Schema
			if facts.Spare { // nobody waits for it: see suspectAltered
				select {
				case <-time.After(time.Second):
				case <-ctx.Done():
					return ctx.Err()
				}
			}
			if from == facts.Start { // else it is not as in its start state
				facts.Baseline, err = note(ctx, c, at)
			}
		}
		return err
	})
	if err == nil {
		err = s.publish(ctx, work, to, p, facts)
	}
	if err != nil {
		err = errors.Join(err, s.Drop(context.WithoutCancel(ctx), work))
		if code(err) == noSuchDatabase || code(err) == noSuchTable { // dropped meanwhile
			if _, gone := s.Find(ctx, from); errors.Is(gone, engine.ErrNotFound) {
				return engine.ErrNotFound
			}
		}
	}
	return explainFull(err)
}

// explainFull says that it was for want of room that a server refused.
func explainFull(err error) error {
	switch code(err) {
	case diskFull, tableFull, errorOnWrite, outOfResources:
	default:
		return err
	}
	e := fault.New(fault.Lacking, "free some room, or set HEMZO_MEMORY_DIR to another folder; in a container give it "+
		"more with  tmpfs:", "the server has no room")
	e.Said, e.Reason = messageOf(err), err
	return e
}

// fill makes a schema from another: its definitions, its rows, then what would act on rows.
func (s *shared) fill(ctx context.Context, c *conn, source string, p place, kind engine.Kind, live bool) (place,
	error) {
	var st *state
	var err error
	if live {
		st, err = stateNow(ctx, c, source)
	} else {
		st, err = s.stateOf(ctx, source)
	}
	if err != nil {
		return p, err
	}
	rows, err := c.rows(ctx, "SELECT DEFAULT_CHARACTER_SET_NAME, DEFAULT_COLLATION_NAME FROM "+
		"information_schema.SCHEMATA WHERE SCHEMA_NAME = ?", source)
	if err != nil || len(rows) == 0 {
		return p, errors.Join(err, engine.ErrNotFound)
	}
	if err := c.do(ctx, fmt.Sprintf("CREATE DATABASE %s CHARACTER SET %s COLLATE %s", quote(p.Schema), rows[0][0],
		rows[0][1])); err != nil {
		return p, err
	}
	used := kind == engine.Copy || kind == engine.Work
	if used { // definitions name it
		if p, err = s.makeAccount(ctx, c, p); err != nil {
			return p, err
		}
	}
	r := &replay{server: s, c: c, state: st, source: source, to: p.Schema, live: live}
	if err := r.run(ctx); err != nil || used {
		return p, err
	}
	return p, s.keepState(ctx, r.moved())
}

// replay makes a schema from what is known of another on the same server, and its rows.
type replay struct {
	server     *shared
	c          *conn
	state      *state
	source, to string
	live       bool // others may write to the source
}

// run leaves the session in the new schema.
func (r *replay) run(ctx context.Context) error {
	if err := r.c.do(ctx, "USE "+quote(r.to)); err != nil {
		return err
	}
	if err := r.make(ctx, "sequence", "table"); err != nil {
		return err
	}
	for _, t := range r.state.Tables {
		if t.Kind == "SEQUENCE" {
			if err := r.c.do(ctx, "INSERT INTO "+quote(t.Name)+" VALUES ("+strings.Join(t.Counter, ", ")+")"); err != nil {
				return fmt.Errorf("copying the sequence %s: %w", t.Name, err)
			}
		}
	}
	if err := r.rows(ctx); err != nil {
		return err
	}
	if err := r.programs(ctx, "library", "package", "package body", "function", "procedure"); err != nil {
		return err
	}
	if err := r.views(ctx); err != nil {
		return err
	}
	if err := r.programs(ctx, "trigger", "event"); err != nil {
		return err
	}
	return plain(ctx, r.c)
}

// statement makes an object in the new schema. What names the old one, whose name is that of
// its account too, names the new one.
func (r *replay) statement(d definition) string { return strings.ReplaceAll(d.SQL, r.source, r.to) }

// alone makes one object, under the settings that it was made under. A program is the last
// of its message: MySQL takes what separates it from the next for a part of it.
func (r *replay) alone(ctx context.Context, d definition) error {
	if len(d.Under) > 0 {
		var under []string
		for _, s := range d.Under {
			under = append(under, s.Name+" = "+text(s.Value))
		}
		if err := r.c.do(ctx, "SET "+strings.Join(under, ", ")); err != nil {
			return err
		}
	}
	if _, err := r.c.ExecContext(ctx, r.statement(d)); err != nil {
		return fmt.Errorf("making the %s %s: %w", d.Kind, d.Name, err)
	}
	return nil
}

// programs makes the objects of some kinds, one after the other.
func (r *replay) programs(ctx context.Context, kinds ...string) error {
	for _, kind := range kinds {
		for _, d := range r.state.Script {
			if d.Kind == kind {
				if err := r.alone(ctx, d); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// make makes the objects of some kinds, many in a message.
func (r *replay) make(ctx context.Context, kinds ...string) error {
	var batch strings.Builder
	send := func() error {
		if batch.Len() == 0 {
			return nil
		}
		_, err := r.c.ExecContext(ctx, batch.String())
		batch.Reset()
		if err != nil {
			return fmt.Errorf("making every %s: %w", strings.Join(kinds, ", "), err)
		}
		return nil
	}
	for _, kind := range kinds {
		for _, d := range r.state.Script {
			if d.Kind != kind {
				continue
			}
			batch.WriteString(r.statement(d) + ";\n")
			if batch.Len() > together {
				if err := send(); err != nil {
					return err
				}
			}
		}
	}
	return send()
}

// views makes the views, those later that are made of others.
func (r *replay) views(ctx context.Context) error {
	var left []definition
	for _, d := range r.state.Script {
		if d.Kind == "view" {
			left = append(left, d)
		}
	}
	for len(left) > 0 {
		var again []definition
		var last error
		for _, d := range left {
			if err := r.alone(ctx, d); err != nil {
				if ctx.Err() != nil {
					return ctx.Err()
				}
				again, last = append(again, d), err
			}
		}
		if len(again) == len(left) {
			return last
		}
		left = again
	}
	return nil
}

// severalRows is from how many rows on two sessions copy them.
const severalRows = 5000

// rows copies the rows of all tables.
func (r *replay) rows(ctx context.Context) error {
	var filled []*table
	total := int64(0)
	for _, t := range r.state.Tables {
		if t.Kind != "SEQUENCE" && (t.Rows > 0 || r.live || t.History != "") {
			filled, total = append(filled, t), total+t.Rows
		}
	}
	slices.SortStableFunc(filled, func(a, b *table) int { return int(b.Rows - a.Rows) })
	if r.live {
		return r.rowsLocked(ctx, filled)
	}
	if total < severalRows {
		return r.insertAll(ctx, r.c, filled)
	}
	// Each takes the next, the largest first.
	next := make(chan *table, len(filled))
	for _, t := range filled {
		next <- t
	}
	close(next)
	all, ctx := errgroup.WithContext(ctx)
	take := func(c *conn) error {
		for t := range next {
			if err := r.insertAll(ctx, c, []*table{t}); err != nil {
				return err
			}
		}
		return nil
	}
	all.Go(func() error { return take(r.c) })
	all.Go(func() error { return r.server.work(ctx, r.to, take) })
	return all.Wait()
}

// rowsLocked copies rows while nobody writes to the source, so that they go together.
func (r *replay) rowsLocked(ctx context.Context, all []*table) error {
	var locks []string
	for _, t := range all {
		locks = append(locks, r.sourceOf(t)+" READ", quote(t.Name)+" WRITE")
	}
	if len(locks) == 0 {
		return nil
	}
	if err := r.c.do(ctx, "LOCK TABLES "+strings.Join(locks, ", ")); err != nil {
		if code(err) != lockWaitTimeout {
			return err
		}
		blocking, failed := sessions(ctx, r.c, r.source)
		if failed != nil {
			return failed
		}
		return engine.InTheWay(blocking, 10*time.Second, "end these transactions first", "sessions write to what is copied")
	}
	err := r.insertAll(ctx, r.c, all)
	return errors.Join(err, r.c.do(context.WithoutCancel(ctx), "UNLOCK TABLES"))
}

func (r *replay) sourceOf(t *table) string { return quote(r.source) + "." + quote(t.Name) }

// insertAll copies the rows of some tables, and checks how many they were.
func (r *replay) insertAll(ctx context.Context, c *conn, all []*table) error {
	for _, t := range all {
		columns, from := quoteAll(t.stored()), r.sourceOf(t)
		if t.Kind == "SYSTEM VERSIONED" {
			if !keepsHistory(ctx, c) {
				return fmt.Errorf("copying the history of %s: the server cannot write it", t.Name)
			}
			columns, from = columns+", "+strings.Join(t.period(), ", "), from+" FOR SYSTEM_TIME ALL"
		}
		done, err := c.ExecContext(ctx, "INSERT INTO "+quote(r.to)+"."+quote(t.Name)+" ("+columns+") SELECT "+columns+
			" FROM "+from)
		if err != nil {
			return fmt.Errorf("copying the rows of %s: %w", t.Name, err)
		}
		n, err := done.RowsAffected()
		if err != nil {
			return err
		}
		switch {
		case r.live:
			t.Rows = n
		case n != t.Rows && t.Kind != "SYSTEM VERSIONED":
			return fault.New(fault.Failed, "hemzo build makes it again from the sources",
				"of the %d rows of %s in %s there are %d", t.Rows, t.Name, r.source, n)
		}
	}
	return nil
}

// moved is what is known of the new schema.
func (r *replay) moved() *state {
	st := *r.state
	st.Schema, st.Script = r.to, slices.Clone(r.state.Script)
	for i := range st.Script {
		st.Script[i].SQL = strings.ReplaceAll(st.Script[i].SQL, r.source, r.to)
	}
	return &st
}

// renew makes a copy anew in its own schema: its account, and who is connected, stay.
func (s *shared) renew(ctx context.Context, d *database, from string) (json.RawMessage, bool, error) {
	e, err := s.Find(ctx, from)
	if err != nil {
		return nil, false, err
	}
	source := s.locate(e).Schema
	st, err := s.stateOf(ctx, source)
	if err != nil {
		return nil, false, err
	}
	var base json.RawMessage
	err = s.work(ctx, source, func(c *conn) error {
		rows, err := c.rows(ctx, "SELECT DEFAULT_CHARACTER_SET_NAME, DEFAULT_COLLATION_NAME FROM "+
			"information_schema.SCHEMATA WHERE SCHEMA_NAME = ?", source)
		if err != nil || len(rows) == 0 {
			return errors.Join(err, engine.ErrNotFound)
		}
		if err := s.dropSchema(ctx, c, d.at.Schema, d.session.Force, d.session.Wait); err != nil {
			return err
		}
		if err := c.do(ctx, fmt.Sprintf("CREATE DATABASE %s CHARACTER SET %s COLLATE %s", quote(d.at.Schema), rows[0][0],
			rows[0][1])); err != nil {
			return err
		}
		r := &replay{server: s, c: c, state: st, source: source, to: d.at.Schema}
		if err := r.run(ctx); err != nil {
			return err
		}
		base, err = note(ctx, c, d.at)
		return err
	})
	return base, d.session.Force, err
}

package postgres

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
)

// errReplace says why rows cannot be put back in place.
type errReplace struct{ why string }

func (e errReplace) Error() string { return e.why }

// Reset puts the database back: nothing where nothing was touched, rows in
// place where rows were, else by a copy of the start state in its place.
func (d *database) Reset(ctx context.Context, r engine.Reset) (*engine.Report, error) {
	if r.Way == engine.Rollback {
		return nil, fault.New(fault.Lacking, "leave out --by", "this version does not reset by rollback")
	}
	why := "it was asked for"
	if r.Way != engine.Snapshot || r.InPlace {
		report, err := d.inPlace(ctx, r)
		reason := errReplace{}
		if err == nil || !errors.As(err, &reason) {
			return report, err
		}
		why = reason.why
	}
	if len(r.Keep) > 0 && r.Way != engine.Snapshot {
		why += "; tables to keep were put back too"
	}
	if r.InPlace {
		return nil, d.inPlaceOnly(ctx, r, why)
	}
	if err := d.Close(); err != nil {
		return nil, err
	}
	e, err := d.server.Find(ctx, d.id)
	if err != nil {
		return nil, err
	}
	e.Facts.Baseline, e.Facts.At, e.Facts.Also, e.Facts.Born, e.Facts.Resetting = nil, r.Start, nil, "", false
	old, err := d.server.replace(ctx, r.Start, e)
	if err != nil {
		return nil, err
	}
	d.oid = 0
	report := &engine.Report{Way: engine.Snapshot, Why: why, Reconnect: true, Noted: true, Tables: []engine.TableReport{}}
	report.Later = func(ctx context.Context) (json.RawMessage, error) {
		err := d.server.aside(ctx, "DROP DATABASE IF EXISTS "+ident(old)+" WITH (FORCE)")
		if err == nil && r.Ahead {
			err = d.server.prepare(ctx, r.Start, e)
		}
		return nil, err
	}
	return report, nil
}

// inPlaceOnly is the refusal where a copy would have to be replaced, with
// what of the schema is in the way.
func (d *database) inPlaceOnly(ctx context.Context, r engine.Reset, why string) error {
	e := fault.New(fault.Failed, "reset without --in-place: clients must then connect again", "the copy cannot be put back in place: %s", why)
	changes, err := d.Changes(ctx, engine.Compare{Start: r.Start})
	if err != nil {
		return e
	}
	for _, c := range changes.Schema {
		e.Lines = append(e.Lines, c.What+" "+c.Kind+" "+c.Name)
	}
	return e
}

// base is the baseline of the start state: the database's own, where a reset
// has left one, else its template's.
func (d *database) base(ctx context.Context, r engine.Reset) (b baseline, err error) {
	raw := r.Baseline
	if raw == nil {
		if r.Last != r.Start {
			return b, errReplace{"nothing is noted of its start state"}
		}
		if d.startOf != r.Start {
			start, err := d.server.Find(ctx, r.Start)
			if err != nil {
				return b, err
			}
			if start.Facts.Made.After(d.facts.Made) {
				return b, errReplace{"its template was built again since"}
			}
			d.startOf, d.start = r.Start, start.Facts.Baseline
		}
		raw = d.start
	}
	// A suite asks thousands of times: the text is read once.
	if raw != nil && bytes.Equal(raw, d.readOf) {
		return d.read, nil
	}
	if raw == nil || json.Unmarshal(raw, &b) != nil {
		return b, errReplace{"the server cannot tell what was touched"}
	}
	d.read, d.readOf = b, raw
	return b, nil
}

// errGone says that a copy is not the one that was opened: another process
// has put another in its place.
var errGone = errors.New("the copy was replaced meanwhile")

// witness opens a session that can tell what was touched, and keeps it.
func (d *database) witness(ctx context.Context) (*pgx.Conn, error) {
	if d.seer != nil && !d.seer.IsClosed() {
		return d.seer, nil
	}
	config := d.server.settings(d.id)
	config.DefaultQueryExecMode = pgx.QueryExecModeCacheStatement // it is asked the same again and again
	conn, err := d.server.patient(ctx, config)
	if err != nil {
		return nil, fmt.Errorf("connecting to %s: %w", d.id, err)
	}
	// Rows that this session may not see are to be an error.
	var oid uint32
	err = conn.QueryRow(ctx, "SELECT oid FROM pg_database WHERE datname = current_database()").Scan(&oid)
	if err == nil {
		_, err = conn.Exec(ctx, "SET row_security = off; SET synchronous_commit = on", pgx.QueryExecModeSimpleProtocol)
	}
	if err == nil && d.oid != 0 && oid != d.oid {
		err = errGone
	}
	if err != nil {
		conn.Close(ctx)
		return nil, fmt.Errorf("connecting to %s: %w", d.id, err)
	}
	d.seer, d.seen, d.oid, d.sighted = conn, 0, oid, false
	return conn, nil
}

// exact reports whether the visibility map can be believed: nobody vacuums
// but Hemzo, and this major was looked at.
func (s *server) exact() bool {
	return s.private && s.super && slices.Contains(tested, major(s.about.Version))
}

// asked is compare, once more on a new session where Hemzo's own was ended
// while nobody used it: to make a snapshot, for one.
func (d *database) asked(ctx context.Context, base baseline) (touched, error) {
	for try := 0; ; try++ {
		conn, err := d.witness(ctx)
		if err != nil {
			return touched{}, err
		}
		t, err := d.compare(ctx, conn, base)
		if err == nil || !conn.IsClosed() || ctx.Err() != nil || try > 0 {
			if sqlState(err) == "42501" {
				err = errReplace{"on this server what was touched cannot be told: " + message(err)}
			}
			return t, err
		}
	}
}

// inPlace puts back what was touched, all in one transaction; connections
// stay open.
func (d *database) inPlace(ctx context.Context, r engine.Reset) (*engine.Report, error) {
	base, err := d.base(ctx, r)
	if err != nil {
		return nil, err
	}
	report := &engine.Report{Tables: []engine.TableReport{}, Baseline: r.Baseline}
	t, err := d.asked(ctx, base)
	if errors.Is(err, errSchema) {
		if report.Dropped, err = d.dropAdded(ctx, r.Start, base); err == nil {
			t, err = d.asked(ctx, base)
		}
	}
	if err != nil {
		return nil, err
	}
	work := putting{base: base, start: r.Start, report: report}
	for _, i := range t.tables {
		m := base.Tables[i-1]
		if kept(m.Name, r.Keep) {
			report.Kept = append(report.Kept, m.Name)
			continue
		}
		if m.Fires {
			return nil, errReplace{"a trigger or rule of " + shortName(m.Name) + " fires always"}
		}
		work.tables = append(work.tables, i-1)
	}
	for _, i := range t.counters {
		if c := base.Counters[i-1]; c.Table == "" || !kept(c.Table, r.Keep) {
			work.counters = append(work.counters, c)
		}
	}
	work.catalogs = t.catalogs
	if len(work.tables)+len(work.counters) > 0 || report.Dropped != nil {
		report.Way, report.Sequences, report.Schema = engine.Truncation, len(work.counters), report.Dropped != nil
	}
	if len(work.tables)+len(work.counters) > 0 {
		if err := d.putBack(ctx, &work); err != nil {
			return nil, err
		}
	}
	if len(work.tables)+len(work.catalogs) > 0 {
		report.Later = func(ctx context.Context) (json.RawMessage, error) { return d.settle(ctx, work) }
	}
	return report, nil
}

// putting is what a reset puts back, and into what.
type putting struct {
	base     baseline
	start    string
	tables   []int // of the baseline
	counters []counter
	catalogs []int // that were written to
	report   *engine.Report
	xid      string // of the transaction that did it
	alone    bool   // no other was under way with a lower number
}

// names of the tables.
func (p *putting) names() []string {
	names := make([]string, len(p.tables))
	for i, at := range p.tables {
		names[i] = p.base.Tables[at].Name
	}
	return names
}

// kept reports whether a table is one of those to keep, named with or
// without its schema.
func kept(name string, keep []string) bool {
	_, short, _ := strings.Cut(name, ".")
	return slices.Contains(keep, name) || slices.Contains(keep, short)
}

func array(names []string) string {
	quoted := make([]string, len(names))
	for i, n := range names {
		quoted[i] = literal(n)
	}
	return "ARRAY[" + strings.Join(quoted, ", ") + "]"
}

// hands opens the session that puts back, and keeps it. In replica mode no
// foreign key and no ordinary trigger is in the way; a session that goes into
// it forgets its plans, so the one that looks is another.
func (d *database) hands(ctx context.Context) (*pgx.Conn, error) {
	if d.hand != nil && !d.hand.IsClosed() {
		return d.hand, nil
	}
	conn, err := d.server.dial(ctx, d.id, "")
	if err != nil {
		return nil, fmt.Errorf("connecting to %s: %w", d.id, err)
	}
	// Rows that are put back have to be on disk for VACUUM to mark them.
	_, err = conn.Exec(ctx, fmt.Sprintf("SET synchronous_commit = on; SET lock_timeout = %d; SET session_replication_role = replica", max(d.session.Wait.Milliseconds(), 1)))
	if err != nil {
		conn.Close(ctx)
		if sqlState(err) == "42501" {
			return nil, errReplace{fmt.Sprintf("%s may not switch off triggers and foreign keys (session_replication_role)", d.server.config.User)}
		}
		return nil, fmt.Errorf("connecting to %s: %w", d.id, err)
	}
	d.hand = conn
	return conn, nil
}

// large is from how many pages on a table is emptied by TRUNCATE, which makes
// new files for it and its indexes, rather than row by row.
const large = 64

// putBack puts tables and sequences back in one transaction.
func (d *database) putBack(ctx context.Context, p *putting) (err error) {
	for try := 0; ; try++ {
		conn, err := d.hands(ctx)
		if err != nil {
			return err
		}
		if err = d.attempt(ctx, conn, p); err == nil || ctx.Err() != nil || try > 0 {
			return err
		}
		if forced := d.session.Force && sqlState(err) == "55P03"; forced {
			err = d.endHolders(ctx, p.names())
		} else if conn.IsClosed() {
			err = nil
		}
		if err != nil {
			return err
		}
		p.report.Tables = p.report.Tables[:0]
	}
}

func (d *database) attempt(ctx context.Context, conn *pgx.Conn, p *putting) (err error) {
	defer func() {
		if err != nil && !conn.IsClosed() {
			_, _ = conn.Exec(context.WithoutCancel(ctx), "ROLLBACK")
		}
	}()
	names := p.names()
	p.xid = ""
	sql := "BEGIN; SELECT pg_current_xact_id()::xid::text; " + others
	if len(names) > 0 {
		sql += "; LOCK TABLE ONLY " + strings.Join(names, ", ONLY ") + " IN SHARE ROW EXCLUSIVE MODE"
	}
	whole, err := d.wholly(ctx, p)
	if err != nil {
		return err
	}
	for i, name := range names {
		if !whole[p.tables[i]] {
			sql += "; DELETE FROM ONLY " + name
		}
	}
	// A counter that is set stays set, whatever becomes of the transaction: that
	// comes last.
	end := "COMMIT"
	if len(p.counters) > 0 {
		end = sets(p.counters) + "; COMMIT"
	}
	rows := slices.ContainsFunc(p.tables, func(at int) bool { return p.base.Tables[at].Rows })
	if !rows && len(whole) == 0 {
		sql += "; " + end
	}
	results, err := conn.PgConn().Exec(ctx, sql).ReadAll()
	if err != nil {
		return d.blocked(ctx, names, err)
	}
	removed := map[string]int64{}
	var emptied []int64
	for _, r := range results {
		if r.CommandTag.Delete() {
			emptied = append(emptied, r.CommandTag.RowsAffected())
		}
	}
	p.xid, p.alone = string(results[1].Rows[0][0]), string(results[2].Rows[0][0]) == "0"
	for i, name := range names {
		if !whole[p.tables[i]] {
			removed[name], emptied = emptied[0], emptied[1:]
			continue
		}
		if removed[name], err = truncate(ctx, conn, name); err != nil {
			return d.blocked(ctx, names, err)
		}
	}
	for i, name := range names {
		done := engine.TableReport{Name: shortName(name), Removed: removed[name]}
		if p.base.Tables[p.tables[i]].Rows {
			if done.PutBack, err = d.refill(ctx, conn, p.start, name); err != nil {
				if state := sqlState(err); strings.HasPrefix(state, "22") || strings.HasPrefix(state, "23") {
					return errReplace{"the rows of " + done.Name + " break rules of the table that came after them"}
				}
				return fmt.Errorf("putting the rows of %s back: %w", name, err)
			}
		}
		p.report.Tables = append(p.report.Tables, done)
	}
	if rows || len(whole) > 0 {
		_, err = conn.Exec(ctx, end)
	}
	return err
}

// others counts the transactions under way in this database that have a
// number: what they write after a reset is younger than it, and looks older.
const others = "SELECT count(*) FROM pg_stat_get_activity(NULL) s WHERE s.datid = (SELECT oid FROM pg_database WHERE datname = current_database()) AND s.backend_xid IS NOT NULL AND s.pid <> pg_backend_pid()"

// wholly says which tables have grown so large that they are emptied as a
// whole. One that a foreign key of another table leads to cannot be.
func (d *database) wholly(ctx context.Context, p *putting) (map[int]bool, error) {
	var ids []uint32
	var may []int
	files := d.files()
	for _, at := range p.tables {
		m := p.base.Tables[at]
		if m.Aimed || files != "" && m.Pages < large && !largerThan(files, m, large) {
			continue
		}
		ids, may = append(ids, m.OID), append(may, at)
	}
	if ids == nil {
		return nil, nil
	}
	rows, err := d.seer.Query(ctx, fmt.Sprintf("SELECT b.i::int FROM unnest($1::oid[]) WITH ORDINALITY AS b (id, i) WHERE pg_relation_size(b.id) > %d * 8192", large), ids)
	if err != nil {
		return nil, err
	}
	places, err := pgx.CollectRows(rows, pgx.RowTo[int])
	if err != nil || places == nil {
		return nil, err
	}
	whole := map[int]bool{}
	for _, i := range places {
		whole[may[i-1]] = true
	}
	return whole, nil
}

// truncate empties a table as a whole, or row by row where somebody reads it:
// that is in nobody's way.
func truncate(ctx context.Context, conn *pgx.Conn, name string) (removed int64, err error) {
	if err := conn.QueryRow(ctx, "SELECT count(*) FROM ONLY "+name).Scan(&removed); err != nil {
		return 0, err
	}
	_, err = conn.Exec(ctx, "SAVEPOINT whole; LOCK TABLE ONLY "+name+" IN ACCESS EXCLUSIVE MODE NOWAIT; TRUNCATE ONLY "+name+"; RELEASE whole")
	if err == nil || conn.IsClosed() {
		return removed, err
	}
	_, err = conn.Exec(ctx, "ROLLBACK TO whole; DELETE FROM ONLY "+name)
	return removed, err
}

func shortName(name string) string { return strings.TrimPrefix(name, "public.") }

// refill streams the rows of a table from the twin of the start state.
func (d *database) refill(ctx context.Context, conn *pgx.Conn, start, name string) (int64, error) {
	twin, err := d.reading(ctx, start)
	if err != nil {
		return 0, err
	}
	var columns string
	err = twin.QueryRow(ctx, "SELECT coalesce(string_agg(quote_ident(attname), ', ' ORDER BY attnum), '') FROM pg_attribute WHERE attrelid = $1::regclass AND attnum > 0 AND NOT attisdropped AND attgenerated = ''", name).Scan(&columns)
	if err != nil {
		return 0, err
	}
	in, out := io.Pipe()
	go func() {
		_, err := twin.PgConn().CopyTo(ctx, out, fmt.Sprintf("COPY (SELECT %s FROM ONLY %s) TO STDOUT (FORMAT binary)", columns, name))
		out.CloseWithError(err)
	}()
	tag, err := conn.PgConn().CopyFrom(ctx, in, fmt.Sprintf("COPY %s (%s) FROM STDIN (FORMAT binary)", name, columns))
	in.CloseWithError(err)
	return tag.RowsAffected(), err
}

// reading opens a session on the twin of a start state, and keeps it.
func (d *database) reading(ctx context.Context, start string) (*pgx.Conn, error) {
	if d.twin != nil && !d.twin.IsClosed() && d.twinOf == start {
		return d.twin, nil
	}
	if d.twin != nil {
		d.twin.Close(ctx)
	}
	var err error
	d.twin, err = d.server.twin(ctx, start)
	d.twinOf = start
	return d.twin, err
}

// settle makes the next look cheap, and returns the baseline for it: the
// pages of what was put back are marked as visible to all. A write that came
// in between would be hidden by that: such a table stays marked as touched.
func (d *database) settle(ctx context.Context, p putting) (json.RawMessage, error) {
	fresh := p.base
	fresh.Tables = slices.Clone(p.base.Tables)
	conn, err := d.witness(ctx)
	if err != nil {
		return nil, err
	}
	d.seen = 0
	if p.base.Exact {
		err = d.vacuumed(ctx, conn, p, &fresh)
	} else {
		for _, at := range p.tables {
			fresh.Tables[at].Since = p.xid
			if !p.alone {
				fresh.Tables[at].Vacuums = -1
			}
		}
	}
	if err != nil {
		return nil, fmt.Errorf("settling what was put back: %w", err)
	}
	raw, err := json.Marshal(fresh)
	if err == nil {
		d.read, d.readOf = fresh, raw
	}
	return raw, err
}

func (d *database) vacuumed(ctx context.Context, conn *pgx.Conn, p putting, fresh *baseline) error {
	hand, err := d.hands(ctx)
	if err != nil {
		return err
	}
	list := strings.Join(p.names(), ", ")
	for _, at := range p.catalogs {
		list = strings.TrimSuffix(catalogs[at].table+", "+list, ", ")
	}
	flush(ctx, hand)
	if _, err := hand.Exec(ctx, "VACUUM (INDEX_CLEANUP on) "+list); err != nil {
		return err
	}
	if len(p.catalogs) > 0 {
		now, err := observe(ctx, conn, p.base.Catalogs)
		if err != nil {
			return err
		}
		if same, err := sameSchema(ctx, conn, p.base, p.catalogs); err != nil || !same {
			return err // the next look will say so
		}
		fresh.Catalogs = slices.Clone(fresh.Catalogs)
		for _, at := range p.catalogs {
			fresh.Catalogs[at] = now[at]
		}
	}
	if len(p.tables) == 0 {
		return nil
	}
	var put []mark
	for _, at := range p.tables {
		m := p.base.Tables[at]
		m.Since = p.xid
		put = append(put, m)
	}
	now, err := observe(ctx, conn, put)
	if err != nil {
		return err
	}
	// Only now: what is written after this shows in the map.
	rows, err := conn.Query(ctx, rowsSince(put, ""), pgx.QueryExecModeSimpleProtocol)
	if err != nil {
		return err
	}
	var i int
	var count, newer int64
	_, err = pgx.ForEachRow(rows, []any{&i, &count, &newer}, func() error {
		if newer > 0 || count != p.report.Tables[i-1].PutBack {
			now[i-1].Vacuums = -1
		}
		return nil
	})
	for i, at := range p.tables {
		now[i].Since = ""
		if !p.alone {
			now[i].Vacuums = -1
		}
		fresh.Tables[at] = now[i]
	}
	return err
}

// holders are the sessions that hold locks on some tables which a reset has to
// wait for: not those that read.
const holders = `FROM pg_locks l JOIN pg_stat_activity a ON a.pid = l.pid
	WHERE l.granted AND a.pid <> pg_backend_pid() AND l.database = (SELECT oid FROM pg_database WHERE datname = current_database()) AND l.relation = ANY (%s::regclass[]) AND l.mode NOT IN ('AccessShareLock', 'RowShareLock')`

// endHolders ends the sessions that are in the way.
func (d *database) endHolders(ctx context.Context, tables []string) error {
	_, err := d.hand.Exec(ctx, "SELECT pg_terminate_backend(pid) FROM (SELECT DISTINCT a.pid "+fmt.Sprintf(holders, array(tables))+") AS h")
	if err != nil {
		return fmt.Errorf("ending the sessions that are in the way: %w", err)
	}
	return nil
}

// blocked says which sessions hold locks on tables that are to be put back.
func (d *database) blocked(ctx context.Context, tables []string, err error) error {
	if sqlState(err) != "55P03" {
		return fmt.Errorf("locking the touched tables: %w", err)
	}
	e := fault.New(fault.Failed, "end its transaction, give more time with --wait, or end the session with --force", "a session holds a lock on what is to be put back (waited %s)", d.session.Wait)
	e.Reason = err
	rows, failed := d.seer.Query(ctx, "SELECT DISTINCT format('pid %s, %s, %s, %s: %s', a.pid, a.usename, a.application_name, a.state, left(a.query, 100)) "+fmt.Sprintf(holders, array(tables)))
	if failed == nil {
		e.Lines, _ = pgx.CollectRows(rows, pgx.RowTo[string])
	}
	return e
}

// twin opens a copy of a start state from which rows are read: nobody can
// connect to a template itself. It is made at the first need, and goes with
// this process.
func (s *server) twin(ctx context.Context, start string) (*pgx.Conn, error) {
	s.twins.Lock()
	defer s.twins.Unlock()
	if id := s.twinOf[start]; id != "" {
		if conn, err := s.dial(ctx, id, ""); err == nil {
			return conn, nil
		}
		delete(s.twinOf, start)
	}
	lock, _, err := s.Own(ctx)
	if err != nil {
		return nil, err
	}
	e, err := s.Find(ctx, start)
	if err != nil {
		return nil, err
	}
	id := engine.NewID(engine.Work)
	facts := e.Facts
	facts.Owner, facts.Baseline = engine.Owner{Lock: lock}, nil
	if err := s.Copy(ctx, start, id, facts); err != nil {
		return nil, fmt.Errorf("making a copy to read from: %w", err)
	}
	if s.twinOf == nil {
		s.twinOf = map[string]string{}
	}
	s.twinOf[start] = id
	return s.dial(ctx, id, "")
}

// prepare makes the copy that is put in the place of e by the next
// replacement. It goes with this process.
func (s *server) prepare(ctx context.Context, from string, e engine.Entry) error {
	key := from + " " + s.owner(e.Facts)
	s.twins.Lock()
	there := s.spares[key] != ""
	s.twins.Unlock()
	if there {
		return nil
	}
	work := engine.NewID(engine.Work)
	lock, _, err := s.Own(ctx)
	if err != nil {
		return err
	}
	unlock, err := s.Lock(ctx, work, nil)
	if err != nil {
		return err
	}
	defer unlock()
	facts := e.Facts
	facts.Owner = engine.Owner{Lock: lock}
	text, err := comment(work, facts)
	if err != nil {
		return err
	}
	if err := s.fresh(ctx, from, work, e, s.aside); err != nil {
		return err
	}
	if err := s.do(ctx, text); err != nil {
		return err
	}
	s.twins.Lock()
	defer s.twins.Unlock()
	if s.spares == nil {
		s.spares = map[string]string{}
	}
	s.spares[key] = work
	return nil
}

// spare returns a copy that was made beforehand, "" where there is none.
func (s *server) spare(from string, e engine.Entry) string {
	s.twins.Lock()
	defer s.twins.Unlock()
	key := from + " " + s.owner(e.Facts)
	work := s.spares[key]
	delete(s.spares, key)
	return work
}

// dropTwins drops what twin and prepare have made.
func (s *server) dropTwins(ctx context.Context) {
	s.twins.Lock()
	defer s.twins.Unlock()
	for _, made := range []map[string]string{s.twinOf, s.spares} {
		for _, id := range made {
			_ = s.Drop(ctx, id)
		}
	}
	s.twinOf, s.spares = nil, nil
}

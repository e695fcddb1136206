package postgres

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
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
	if r.Way != engine.Snapshot {
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
	if r.Begin != nil {
		if err := r.Begin(); err != nil {
			return nil, err
		}
	}
	if err := d.Close(); err != nil {
		return nil, err
	}
	e, err := d.server.Find(ctx, d.id)
	if err != nil {
		return nil, err
	}
	if err := d.server.replace(ctx, r.Start, e); err != nil {
		return nil, err
	}
	return &engine.Report{Way: engine.Snapshot, Why: why, Reconnect: true, Tables: []engine.TableReport{}}, nil
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

// witness opens a session that can ask the visibility map.
func (d *database) witness(ctx context.Context) (*pgx.Conn, error) {
	if !d.server.private || !d.server.super || !slices.Contains(tested, major(d.server.about.Version)) {
		return nil, errReplace{"on this server what was touched cannot be told"}
	}
	if d.seer != nil && !d.seer.IsClosed() {
		return d.seer, nil
	}
	conn, err := d.server.dial(ctx, d.id, "")
	if err != nil {
		return nil, fmt.Errorf("connecting to %s: %w", d.id, err)
	}
	// Rows that a reset puts back have to be on disk for VACUUM to mark them.
	if _, err = conn.Exec(ctx, "SET synchronous_commit = on"); err == nil {
		_, err = conn.Exec(ctx, visible)
	}
	if err != nil {
		conn.Close(ctx)
		return nil, errReplace{"the server lacks the extension pg_visibility"}
	}
	d.seer, d.seen = conn, 0
	return conn, nil
}

// touched is what differs from the baseline.
type touched struct {
	tables    []string
	sequences []string
	now       baseline
}

// compare asks the witness.
func (d *database) compare(ctx context.Context, conn *pgx.Conn, base baseline) (t touched, err error) {
	var next, oldest int64
	names := slices.Sorted(maps.Keys(base.Sequences))
	if err := conn.QueryRow(ctx, "SELECT pg_snapshot_xmax(s)::text::bigint, pg_snapshot_xmin(s)::text::bigint FROM pg_current_snapshot() s", pgx.QueryExecModeCacheStatement).Scan(&next, &oldest); err != nil {
		return t, err
	}
	if next != d.seen { // some transaction has been here since
		same, err := sameSchema(ctx, conn, base)
		if err == nil && !same {
			err = errReplace{"the schema was changed"}
		}
		if err != nil {
			return t, err
		}
		var unseen map[string]bool
		if t.now, unseen, err = observe(ctx, conn); err != nil {
			return t, err
		}
		for name, m := range t.now.Tables {
			b, known := base.Tables[name]
			if !known {
				return t, errReplace{"the schema was changed"}
			}
			if unseen[name] || m.File != b.File || m.Pages != b.Pages || m.Vacuums != b.Vacuums {
				t.tables = append(t.tables, name)
			}
		}
		slices.Sort(t.tables)
		if slices.Contains(t.tables, "pg_catalog.pg_largeobject") {
			return t, errReplace{"large objects were changed"}
		}
	}
	at, err := sequences(ctx, conn, names)
	if err != nil {
		return t, errReplace{"the schema was changed"} // a sequence is gone
	}
	for _, name := range names {
		if at[name] != base.Sequences[name] {
			t.sequences = append(t.sequences, name)
		}
	}
	// Nothing is written without a transaction's number, and none is under way
	// that had one before.
	if len(t.tables) == 0 && oldest == next {
		d.seen = next
	}
	return t, nil
}

// inPlace puts back what was touched, all in one transaction; connections
// stay open.
func (d *database) inPlace(ctx context.Context, r engine.Reset) (*engine.Report, error) {
	conn, err := d.witness(ctx)
	if err != nil {
		return nil, err
	}
	base, err := d.base(ctx, r)
	if err != nil {
		return nil, err
	}
	report := &engine.Report{Tables: []engine.TableReport{}, Baseline: r.Baseline}
	t, err := d.compare(ctx, conn, base)
	if err != nil {
		return nil, err
	}
	var tables []string
	for _, name := range t.tables {
		if kept(name, r.Keep) {
			report.Kept = append(report.Kept, name)
			continue
		}
		tables = append(tables, name)
	}
	if len(tables) == 0 && len(t.sequences) == 0 {
		return report, nil
	}
	if err := d.plain(ctx, conn, tables); err != nil {
		return nil, err
	}
	var twin *pgx.Conn
	if slices.ContainsFunc(tables, func(name string) bool { return base.Tables[name].Rows }) {
		if twin, err = d.server.twin(ctx, r.Start); err != nil {
			return nil, err
		}
		defer twin.Close(ctx)
	}
	// A session that goes into replica mode forgets its plans: the one that
	// looks is another.
	hand, err := d.server.dial(ctx, d.id, "")
	if err != nil {
		return nil, fmt.Errorf("connecting to %s: %w", d.id, err)
	}
	defer hand.Close(ctx)
	if _, err := hand.Exec(ctx, "SET synchronous_commit = on"); err != nil {
		return nil, fmt.Errorf("connecting to %s: %w", d.id, err)
	}
	report.Way, report.Sequences = engine.Truncation, len(t.sequences)
	if err := d.putBack(ctx, hand, twin, base, tables, t.sequences, report); err != nil {
		return nil, err
	}
	return report, d.settle(ctx, conn, hand, base, tables, report)
}

// kept reports whether a table is one of those to keep, named with or
// without its schema.
func kept(name string, keep []string) bool {
	_, short, _ := strings.Cut(name, ".")
	return slices.Contains(keep, name) || slices.Contains(keep, short)
}

// plain fails where tables have triggers that fire always: those would fire
// for what a reset does.
func (d *database) plain(ctx context.Context, conn *pgx.Conn, tables []string) error {
	if len(tables) == 0 {
		return nil
	}
	var n int
	err := conn.QueryRow(ctx, "SELECT count(*) FROM pg_trigger WHERE tgenabled = 'A' AND tgrelid = ANY ("+array(tables)+"::regclass[])").Scan(&n)
	if err == nil && n > 0 {
		return errReplace{"a touched table has a trigger that fires always"}
	}
	return err
}

func array(names []string) string {
	quoted := make([]string, len(names))
	for i, n := range names {
		quoted[i] = literal(n)
	}
	return "ARRAY[" + strings.Join(quoted, ", ") + "]"
}

// putBack puts tables and sequences back in one transaction. In replica mode
// no foreign key and no ordinary trigger is in the way.
func (d *database) putBack(ctx context.Context, conn, twin *pgx.Conn, base baseline, tables, moved []string, report *engine.Report) (err error) {
	wait := max(d.session.Wait.Milliseconds(), 1)
	begin := fmt.Sprintf("BEGIN; SET LOCAL session_replication_role = replica; SET LOCAL lock_timeout = %d", wait)
	if len(tables) > 0 {
		begin += "; LOCK TABLE ONLY " + strings.Join(tables, ", ONLY ") + " IN SHARE ROW EXCLUSIVE MODE"
	}
	defer func() {
		if err != nil && !conn.IsClosed() {
			_, _ = conn.Exec(context.WithoutCancel(ctx), "ROLLBACK")
		}
	}()
	if _, err := conn.Exec(ctx, begin); err != nil {
		return d.blocked(ctx, tables, err)
	}
	for _, name := range tables {
		tag, err := conn.Exec(ctx, "DELETE FROM ONLY "+name)
		if err != nil {
			return fmt.Errorf("emptying %s: %w", name, err)
		}
		done := engine.TableReport{Name: shortName(name), Removed: tag.RowsAffected()}
		if base.Tables[name].Rows {
			if done.PutBack, err = refill(ctx, conn, twin, name); err != nil {
				return fmt.Errorf("putting the rows of %s back: %w", name, err)
			}
		}
		report.Tables = append(report.Tables, done)
	}
	for _, name := range moved {
		p := base.Sequences[name]
		if _, err := conn.Exec(ctx, fmt.Sprintf("SELECT setval(%s, %d, %t)", literal(name), p.Last, p.Called)); err != nil {
			return fmt.Errorf("putting the sequence %s back: %w", name, err)
		}
	}
	_, err = conn.Exec(ctx, "COMMIT")
	return err
}

func shortName(name string) string { return strings.TrimPrefix(name, "public.") }

// refill streams the rows of a table from the twin of the start state.
func refill(ctx context.Context, conn, twin *pgx.Conn, name string) (int64, error) {
	var columns string
	err := conn.QueryRow(ctx, "SELECT coalesce(string_agg(quote_ident(attname), ', ' ORDER BY attnum), '') FROM pg_attribute WHERE attrelid = $1::regclass AND attnum > 0 AND NOT attisdropped AND attgenerated = ''", name).Scan(&columns)
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

// settle marks the pages of what was put back as visible to all, so that the
// next look finds them untouched, and notes the baseline. A write that came
// in between would be hidden by that: such a table stays marked as touched.
func (d *database) settle(ctx context.Context, conn, hand *pgx.Conn, base baseline, tables []string, report *engine.Report) error {
	if len(tables) > 0 {
		if _, err := hand.Exec(ctx, "VACUUM "+strings.Join(tables, ", ")); err != nil {
			return fmt.Errorf("settling what was put back: %w", err)
		}
	}
	now, unseen, err := observe(ctx, conn)
	if err != nil {
		return fmt.Errorf("looking at what was put back: %w", err)
	}
	rows := map[string]int64{}
	for _, t := range report.Tables {
		rows[t.Name] = t.PutBack
	}
	fresh := base
	fresh.Tables = maps.Clone(base.Tables)
	for _, name := range tables {
		m := now.Tables[name]
		m.Rows = base.Tables[name].Rows
		var count int64
		err := conn.QueryRow(ctx, "SELECT count(*) FROM ONLY "+name).Scan(&count)
		if err != nil {
			return fmt.Errorf("looking at what was put back: %w", err)
		}
		if unseen[name] || count != rows[shortName(name)] {
			m.Vacuums = -1
		}
		fresh.Tables[name] = m
	}
	d.seen = 0
	report.Baseline, err = json.Marshal(fresh)
	return err
}

// blocked says which sessions hold locks on tables that are to be put back.
func (d *database) blocked(ctx context.Context, tables []string, err error) error {
	if sqlState(err) != "55P03" {
		return fmt.Errorf("locking the touched tables: %w", err)
	}
	e := fault.New(fault.Failed, "end its transaction, or give more time with --wait", "a session holds a lock on what is to be put back (waited %s)", d.session.Wait)
	e.Reason = err
	rows, failed := d.seer.Query(ctx, `SELECT DISTINCT format('pid %s, %s, %s, %s: %s', a.pid, a.usename, a.application_name, a.state, left(a.query, 100)) FROM pg_locks l JOIN pg_stat_activity a ON a.pid = l.pid
		WHERE l.granted AND a.pid <> pg_backend_pid() AND l.database = (SELECT oid FROM pg_database WHERE datname = current_database()) AND l.relation = ANY (`+array(tables)+`::regclass[])`)
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

// dropTwins drops what twin has made.
func (s *server) dropTwins(ctx context.Context) {
	s.twins.Lock()
	defer s.twins.Unlock()
	for _, id := range s.twinOf {
		_ = s.Drop(ctx, id)
	}
	s.twinOf = nil
}

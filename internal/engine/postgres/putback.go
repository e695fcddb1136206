package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/wal"
	"hemzo/internal/fault"
)

// putting is what a reset puts back, and into what.
type putting struct {
	base     baseline
	start    string
	tables   []int // of the baseline
	counters []counter
	catalogs []int // that were written to
	report   *engine.Report
	xid      string       // of the transaction that did it
	alone    bool         // no other was under way with a lower number
	at       wal.Position // of the look that found this
}

// names of the tables.
func (p *putting) names() []string {
	names := make([]string, len(p.tables))
	for i := range p.tables {
		names[i] = p.mark(i).Name
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
// foreign key and no ordinary trigger is in the way. It has the owner's rights
// and no more: checks, defaults and generated columns of the tests' run in it.
func (d *database) hands(ctx context.Context) (*pgx.Conn, error) {
	if d.hand != nil && !d.hand.IsClosed() {
		return d.hand, nil
	}
	if !d.server.super {
		return nil, errReplace{fmt.Sprintf("%s may not switch off triggers and foreign keys (session_replication_role)",
			d.server.config.User)}
	}
	owner, user := d.server.owner(d.facts), ""
	if owner != superRole {
		user = hand(owner)
	}
	conn, err := d.server.dial(ctx, d.id, user)
	if state := sqlState(err); state == "28000" || state == "28P01" {
		return nil, errReplace{fmt.Sprintf("the server does not let %s in, which puts rows back (%s)", user,
			message(err))}
	}
	if err != nil {
		return nil, fmt.Errorf("connecting to %s: %w", d.id, err)
	}
	// Rows that are put back have to be on disk for VACUUM to mark them.
	sql := fmt.Sprintf("SET synchronous_commit = on; SET lock_timeout = %d", max(d.session.Wait.Milliseconds(), 1))
	if user == "" {
		sql += "; SET session_replication_role = replica"
	}
	if _, err = conn.Exec(ctx, sql); err != nil {
		conn.Close(ctx)
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
		// two sessions can have ended, and what rows are read from be emptied
		if err = d.attempt(ctx, conn, p); err == nil || ctx.Err() != nil || try > 2 {
			return err
		}
		if forced := d.session.Force && sqlState(err) == "55P03"; forced {
			err = endHolders(ctx, conn, p.names())
		} else if errors.Is(err, errTwin) || conn.IsClosed() || d.twin != nil && d.twin.IsClosed() {
			err = nil // ended while nobody used it: again
		}
		if err != nil {
			return err
		}
		p.report.Tables = p.report.Tables[:0]
	}
}

// emptying is how the rows of a table that are not its start state's go.
type emptying byte

const (
	allRows   emptying = iota // one by one
	youngRows                 // only those that were written since the start state
	wholeFile                 // by TRUNCATE
)

// attempt puts tables and sequences back, once.
func (d *database) attempt(ctx context.Context, conn *pgx.Conn, p *putting) (err error) {
	defer func() {
		if err != nil && !conn.IsClosed() {
			_, _ = conn.Exec(context.WithoutCancel(ctx), "ROLLBACK")
		}
	}()
	names := p.names()
	how, err := d.emptyings(ctx, conn, p)
	if err != nil {
		return err
	}
	if p.xid, p.alone, err = d.beginAlone(ctx, conn); err != nil {
		return err
	}
	var sql []string
	if len(names) > 0 {
		sql = append(sql, "LOCK TABLE ONLY "+strings.Join(names, ", ONLY ")+" IN SHARE ROW EXCLUSIVE MODE")
	}
	first := len(sql)
	more := false // is to follow once it is known how many rows are left
	for i, name := range names {
		switch how[i] {
		case allRows:
			sql = append(sql, "DELETE FROM ONLY "+name)
		case youngRows:
			sql = append(sql, "DELETE FROM ONLY "+name+" WHERE "+p.young(i), "SELECT count(*) FROM ONLY "+name)
		}
		more = more || how[i] != allRows || p.mark(i).Rows
	}
	// A counter that is set stays set, whatever becomes of the transaction: that
	// comes last.
	end := "COMMIT"
	if len(p.counters) > 0 {
		end = sets(p.counters) + "; COMMIT"
	}
	if !more {
		sql = append(sql, end)
	}
	results, err := conn.PgConn().Exec(ctx, strings.Join(sql, "; ")).ReadAll()
	if err != nil {
		return d.blocked(ctx, names, err)
	}
	results = results[first:]
	for i, name := range names {
		done, left := engine.TableReport{Name: shortName(name)}, int64(0)
		switch how[i] {
		case wholeFile:
			done.Removed, err = truncate(ctx, conn, name)
		case youngRows:
			done.Removed = results[0].CommandTag.RowsAffected()
			left, err = strconv.ParseInt(string(results[1].Rows[0][0]), 10, 64)
			results = results[2:]
		case allRows:
			done.Removed = results[0].CommandTag.RowsAffected()
			results = results[1:]
		}
		if err != nil {
			return d.blocked(ctx, names, err)
		}
		if p.mark(i).Rows {
			if err := d.fill(ctx, conn, p.start, p.mark(i), left, &done); err != nil {
				return err
			}
		}
		p.report.Tables = append(p.report.Tables, done)
	}
	if more {
		if err := d.undisturbed(ctx, conn, p); err != nil {
			return err
		}
		_, err = conn.Exec(ctx, end)
	}
	return err
}

// undisturbed fails where a function that a check, a default or an index calls
// has written to a table which had been put back already.
func (d *database) undisturbed(ctx context.Context, conn *pgx.Conn, p *putting) error {
	if d.callsFor != p.start {
		const calls = "SELECT EXISTS (SELECT FROM pg_depend WHERE refclassid = 'pg_proc'::regclass AND refobjid >= " +
			"16384 AND classid IN ('pg_constraint'::regclass, 'pg_attrdef'::regclass, 'pg_class'::regclass))"
		if err := conn.QueryRow(ctx, calls).Scan(&d.calls); err != nil {
			return err
		}
		d.callsFor = p.start
	}
	if !d.calls {
		return nil
	}
	marks := make([]mark, len(p.tables))
	for i := range p.tables {
		marks[i] = mark{Name: p.mark(i).Name, Count: p.mark(i).Count}
	}
	others, err := differ(ctx, conn, marks, "")
	if err == nil && len(others) > 0 {
		err = errReplace{"a function that a check or a default calls writes to " + shortName(marks[others[0]-1].Name)}
	}
	return err
}

// mark is that of the i-th table.
func (p *putting) mark(i int) mark { return p.base.Tables[p.tables[i]] }

// stamp notes that a table was put back. Where that was not the only transaction
// under way, what is written afterwards may look older, and the table is to be
// put back each time until it was.
func (p *putting) stamp(m *mark) {
	m.Since, m.Older, m.Vacuums = p.xid, !p.alone, max(m.Vacuums, 0)
	if m.Older {
		m.Vacuums = -1
	}
}

// young is the condition for rows of the i-th table that were written since
// its start state.
func (p *putting) young(i int) string {
	if since := p.mark(i).Since; since != "" {
		return fmt.Sprintf("age(xmin) < age('%s'::xid)", since)
	}
	return fmt.Sprintf("age(xmin) <= age('%s'::xid)", p.base.Next)
}

// fill brings the rows of a table back of which some are left, as they were.
func (d *database) fill(ctx context.Context, conn *pgx.Conn, start string, m mark, left int64,
	done *engine.TableReport) (err error) {
	if left == m.Count && left > 0 {
		return nil
	}
	twin, err := d.reading(ctx, start)
	if err != nil {
		return err
	}
	r := refilling{from: twin, to: conn, name: m.Name}
	if err = r.layout(ctx); err == nil {
		err = r.fill(ctx, left, m.Count, done)
	}
	if sqlState(err) == "42501" {
		return errReplace{done.Name + " belongs to another role than the owner of the database"}
	}
	if state := sqlState(err); strings.HasPrefix(state, "22") || strings.HasPrefix(state, "23") {
		return errReplace{"the rows of " + done.Name + " break rules of the table that came after them"}
	}
	if errors.Is(err, errTwin) {
		d.dropTwin(ctx)
	}
	if err != nil {
		return fmt.Errorf("putting the rows of %s back: %w", m.Name, err)
	}
	return nil
}

// errTwin says that the twin of a start state is not as it was made: a crash of
// the server has emptied its unlogged tables.
var errTwin = errors.New("what rows are read from has not all of them")

// dropTwin drops the twin that rows are read from; the next is made anew.
func (d *database) dropTwin(ctx context.Context) {
	d.twin.Close(ctx)
	s := d.server
	if s.twins.Take(ctx) != nil {
		return
	}
	defer s.twins.Give()
	_ = s.Drop(ctx, s.twinOf[d.twinOf])
	delete(s.twinOf, d.twinOf)
}

// beginAlone begins a transaction with a number. alone is false where others of
// this database are under way that have one: what they write after a reset is
// younger than it, and looks older. Only a superuser is told of all.
func (d *database) beginAlone(ctx context.Context, conn *pgx.Conn) (xid string, alone bool, err error) {
	results, err := conn.PgConn().Exec(ctx,
		"BEGIN; SELECT pg_current_xact_id()::xid::text, pg_current_xact_id()::text, "+
			"pg_snapshot_xmin(pg_current_snapshot()) < pg_current_xact_id()").ReadAll()
	if err != nil {
		return "", false, err
	}
	row := results[1].Rows[0]
	if xid = string(row[0]); string(row[2]) != "t" { // nobody anywhere is older
		return xid, true, nil
	}
	n, err := d.server.number(ctx,
		"SELECT "+d.server.writing("count(*)", "(SELECT oid FROM pg_database WHERE datname = "+literal(d.id)+")"))
	return xid, err == nil && n <= 1, err // this one is one of them
}

// emptyings decides how each table is emptied. Rows that have not been written
// since the start state stay. A table that has grown large is emptied as a
// whole, unless a foreign key of another leads to it.
func (d *database) emptyings(ctx context.Context, conn *pgx.Conn, p *putting) ([]emptying, error) {
	how := make([]emptying, len(p.tables))
	var ids []uint32
	var limits []int64
	var asked []int
	files := d.files()
	for i := range how {
		m, limit := p.mark(i), int64(large)
		if m.Rows && m.Count > 0 && !m.Older {
			how[i], limit = youngRows, max(large, 4*m.Pages)
		}
		if m.Aimed || files != "" && m.Pages < limit && !largerThan(files, m, limit) {
			continue
		}
		ids, limits, asked = append(ids, m.OID), append(limits, limit), append(asked, i)
	}
	if ids == nil {
		return how, nil
	}
	grown, err := ask(ctx, conn, "SELECT b.i::int FROM unnest($1::oid[], $2::bigint[]) WITH ORDINALITY AS b (id, "+
		"pages, i) WHERE pg_relation_size(b.id) > b.pages * current_setting('block_size')::bigint", ids, limits)
	for _, i := range grown {
		how[asked[i-1]] = wholeFile
	}
	return how, err
}

// truncate empties a table as a whole, or row by row where somebody reads it:
// that is in nobody's way.
func truncate(ctx context.Context, conn *pgx.Conn, name string) (removed int64, err error) {
	if err := conn.QueryRow(ctx, "SELECT count(*) FROM ONLY "+name).Scan(&removed); err != nil {
		return 0, err
	}
	_, err = conn.Exec(ctx, "SAVEPOINT whole; LOCK TABLE ONLY "+name+" IN ACCESS EXCLUSIVE MODE NOWAIT; TRUNCATE ONLY "+
		name+"; RELEASE whole")
	if err == nil || conn.IsClosed() {
		return removed, err
	}
	_, err = conn.Exec(ctx, "ROLLBACK TO whole; DELETE FROM ONLY "+name)
	return removed, err
}

func shortName(name string) string { return strings.TrimPrefix(name, "public.") }

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

// holders are the sessions that hold locks on some tables which a reset has to
// wait for: not those that read.
const holders = `FROM pg_locks l JOIN pg_stat_activity a ON a.pid = l.pid
	WHERE l.granted AND a.pid <> pg_backend_pid() AND l.database = (SELECT oid FROM pg_database WHERE datname = current_database()) AND l.relation = ANY (%s::regclass[]) AND l.mode NOT IN ('AccessShareLock', 'RowShareLock')`

// endHolders ends the sessions that are in the way.
func endHolders(ctx context.Context, conn *pgx.Conn, tables []string) error {
	_, err := conn.Exec(ctx, "SELECT pg_terminate_backend(pid) FROM (SELECT DISTINCT a.pid "+
		fmt.Sprintf(holders, array(tables))+") AS h")
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
	e := fault.New(fault.Failed, "end its transaction, give more time with --wait, or end the session with --force",
		"a session holds a lock on what is to be put back (waited %s)", d.session.Wait)
	e.Reason = err
	conn, failed := d.witness(ctx)
	if failed != nil {
		return e
	}
	rows, failed := conn.Query(ctx,
		"SELECT DISTINCT format('pid %s, %s, %s, %s: %s', a.pid, a.usename, a.application_name, a.state, "+
			"left(a.query, 100)) "+fmt.Sprintf(holders, array(tables)))
	if failed == nil {
		e.Lines, _ = pgx.CollectRows(rows, pgx.RowTo[string])
	}
	return e
}

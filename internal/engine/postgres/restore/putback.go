package restore

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/engine/postgres/witness"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// large is from how many pages on a table is emptied by TRUNCATE, which makes
// new files for it and its indexes, rather than row by row.
const large = 64

// putBack puts tables and sequences back in one transaction.
func (s *Session) PutBack(ctx context.Context, p *Plan) (err error) {
	for try := 0; ; try++ {
		conn, err := s.Hands(ctx)
		if err != nil {
			return err
		}
		// two sessions can have ended, and what rows are read from be emptied
		attempt := s.attempt
		if s.Bound {
			attempt = s.attemptBound
		}
		if err = attempt(ctx, conn, p); err == nil || ctx.Err() != nil || try > 2 {
			return err
		}
		switch ended := conn.IsClosed() || s.reader != nil && s.reader.IsClosed(); {
		case s.Force && pg.State(err) == pg.LockNotAvailable:
			err = EndHolders(ctx, conn, p.Names())
		case ended, errors.Is(err, ErrReferenceLost): // while nobody used it: again
			err = nil
		case pg.State(err) == pg.DeadlockDetected: // with a statement that goes on now
			err = nil
		}
		if err != nil {
			return err
		}
		p.Report.Tables = p.Report.Tables[:0]
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
func (s *Session) attempt(ctx context.Context, conn *pgx.Conn, p *Plan) (err error) {
	defer func() {
		if err != nil && !conn.IsClosed() {
			_, _ = conn.Exec(context.WithoutCancel(ctx), "ROLLBACK")
		}
	}()
	names := p.Names()
	how, err := s.chooseEmptying(ctx, conn, p)
	if err != nil {
		return err
	}
	if p.XID, p.Alone, err = s.beginAlone(ctx, conn); err != nil {
		return err
	}
	sql, first, more := s.statements(p, how)
	more = more || len(p.Views) > 0
	// A counter that is set stays set, whatever becomes of the transaction: that
	// comes last.
	end := "COMMIT"
	if len(p.Counters) > 0 {
		end = witness.PutCounters(p.Counters) + "; COMMIT"
	}
	if !more {
		sql = append(sql, end)
	}
	results, err := conn.PgConn().Exec(ctx, strings.Join(sql, "; ")).ReadAll()
	if err != nil {
		return s.Blocked(ctx, names, err)
	}
	if err := s.finish(ctx, conn, p, how, results[first:]); err != nil || !more {
		return err
	}
	if err := s.refresh(ctx, conn, p); err != nil {
		return err
	}
	if err := s.checkUndisturbed(ctx, conn, p); err != nil {
		return err
	}
	_, err = conn.Exec(ctx, end)
	return err
}

// statements lock the tables and empty them as far as that takes no look at
// them. first is the place of the first that empties; more says that rows are
// to follow, once it is known how many are left.
func (s *Session) statements(p *Plan, how []emptying) (sql []string, first int, more bool) {
	names := p.Names()
	if len(names) > 0 {
		sql = append(sql, "LOCK TABLE ONLY "+strings.Join(names, ", ONLY ")+" IN SHARE ROW EXCLUSIVE MODE")
	}
	first = len(sql)
	for i, name := range names {
		switch how[i] {
		case allRows:
			sql = append(sql, "DELETE FROM ONLY "+name)
		case youngRows:
			sql = append(sql, "DELETE FROM ONLY "+name+" WHERE "+p.writtenSince(i)+s.returning(p.Start, name),
				"SELECT count(*) FROM ONLY "+name)
		}
		more = more || how[i] != allRows || p.Mark(i).Rows
	}
	return sql, first, more
}

// returning has a DELETE give out the keys of the rows that go, where those of the start state
// are known here.
func (s *Session) returning(start, name string) string {
	if kept := s.kept[name]; s.keptFor == start && kept != nil && kept.places != nil {
		return " RETURNING " + kept.key
	}
	return ""
}

// keysOf are keys that a statement gave out, as COPY writes them; nil where it gave none out.
func keysOf(r *pgconn.Result) (keys []string) {
	if len(r.FieldDescriptions) == 0 {
		return nil
	}
	keys = []string{}
	for _, row := range r.Rows {
		keys = append(keys, string(bytes.Join(escapeAll(row), []byte("\t"))))
	}
	return keys
}

// finish empties the rest of the tables, brings rows back, and reports what was
// done; results are those of what emptied the others.
func (s *Session) finish(
	ctx context.Context, conn *pgx.Conn, p *Plan, how []emptying, results []*pgconn.Result,
) (err error) {
	names := p.Names()
	for i, name := range names {
		done, left, gone := engine.TableReport{Name: pg.ShortName(name)}, int64(0), []string(nil)
		switch how[i] {
		case wholeFile:
			done.Removed, err = truncate(ctx, conn, name)
		case youngRows:
			done.Removed, gone = results[0].CommandTag.RowsAffected(), keysOf(results[0])
			left, err = strconv.ParseInt(string(results[1].Rows[0][0]), 10, 64)
			results = results[2:]
		case allRows:
			done.Removed = results[0].CommandTag.RowsAffected()
			results = results[1:]
		}
		if err != nil {
			return s.Blocked(ctx, names, err)
		}
		if p.Mark(i).Rows {
			if err := s.fill(ctx, conn, p.Start, p.Mark(i), left, gone, &done); err != nil {
				return err
			}
		}
		p.Report.Tables = append(p.Report.Tables, done)
	}
	return nil
}

// checkUndisturbed fails where a function that a check, a default or an index calls
// has written to a table which had been put back already.
func (s *Session) checkUndisturbed(ctx context.Context, conn *pgx.Conn, p *Plan) error {
	if s.callsFor != p.Start {
		const calls = "SELECT EXISTS (SELECT FROM pg_depend WHERE refclassid = 'pg_proc'::regclass AND refobjid >= " +
			"16384 AND classid IN ('pg_constraint'::regclass, 'pg_attrdef'::regclass, 'pg_class'::regclass))"
		if err := conn.QueryRow(ctx, calls).Scan(&s.calls); err != nil {
			return err
		}
		s.callsFor = p.Start
	}
	if !s.calls {
		return nil
	}
	marks := make([]witness.Mark, len(p.Tables))
	for i := range p.Tables {
		marks[i] = witness.Mark{Name: p.Mark(i).Name, Count: p.Mark(i).Count}
	}
	others, err := witness.Differ(ctx, conn, marks, "")
	if err == nil && len(others) > 0 {
		err = witness.Cannot{Why: "a function that a check or a default calls writes to " +
			pg.ShortName(marks[others[0]-1].Name)}
	}
	return err
}

// writtenSince is the condition for rows of the i-th table that were written since
// its start state.
func (p *Plan) writtenSince(i int) string {
	m := p.Mark(i)
	return m.Newer(p.Base.Next)
}

// fill brings the rows of a table back of which some are left, as they were.
func (s *Session) fill(ctx context.Context, conn *pgx.Conn, start string, m witness.Mark, left int64, gone []string,
	done *engine.TableReport) (err error) {
	if left == m.Count && left > 0 {
		return nil
	}
	from, err := s.rowsOf(ctx, start, m)
	if err == nil {
		r := refilling{layout: from.form(), from: from, to: conn}
		err = r.fill(ctx, left, m.Count, gone, done)
	}
	if pg.State(err) == pg.InsufficientPrivilege {
		return witness.Cannot{Why: done.Name + " belongs to another role than the owner of the database"}
	}
	if state := pg.State(err); strings.HasPrefix(state, "22") || strings.HasPrefix(state, "23") {
		return witness.Cannot{Why: "the rows of " + done.Name + " break rules of the table that came after them"}
	}
	if err != nil {
		return fmt.Errorf("putting the rows of %s back: %w", m.Name, s.lost(ctx, start, err))
	}
	return nil
}

// lost is an error, after which the next try reads the rows of a start state anew where it
// says that they were not all there.
func (s *Session) lost(ctx context.Context, start string, err error) error {
	if errors.Is(err, ErrReferenceLost) {
		s.DropFrom(ctx, start)
		s.forgetRows()
	}
	return err
}

// ErrReferenceLost says that the reference copy of a start state is not as it was made: a crash of
// the server has emptied its unlogged tables.
var ErrReferenceLost = errors.New("what rows are read from has not all of them")

// beginAlone begins a transaction with a number. alone is false where others of
// this database are under way that have one: what they write after a reset is
// younger than it, and looks older. Only a superuser is told of all.
func (s *Session) beginAlone(ctx context.Context, conn *pgx.Conn) (xid string, alone bool, err error) {
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
	n, err := s.Writers(ctx)
	return xid, err == nil && n <= 1, err // this one is one of them
}

// chooseEmptying decides how each table is emptied. Rows that have not been written
// since the start state stay. A table that has grown large is emptied as a
// whole, unless a foreign key of another leads to it.
func (s *Session) chooseEmptying(ctx context.Context, conn *pgx.Conn, p *Plan) ([]emptying, error) {
	how := make([]emptying, len(p.Tables))
	var ids []uint32
	var limits []int64
	var asked []int
	files := s.Look.Files()
	for i := range how {
		m, limit := p.Mark(i), int64(large)
		if m.Rows && m.Count > 0 && !m.Older {
			how[i], limit = youngRows, max(large, 4*m.Pages)
		}
		if m.Aimed || files != "" && m.Pages < limit && !witness.LargerThan(files, m, limit) {
			continue
		}
		ids, limits, asked = append(ids, m.OID), append(limits, limit), append(asked, i)
	}
	if ids == nil {
		return how, nil
	}
	grown, err := witness.Ask(ctx, conn,
		"SELECT b.i::int FROM unnest($1::oid[], $2::bigint[]) WITH ORDINALITY AS b (id, "+
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

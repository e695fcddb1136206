package sqlite

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	lite "modernc.org/sqlite/lib"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
)

// Reset puts the file back to its start state. Connections stay open, unless
// the report says otherwise. It takes one transaction: whatever ends it
// early leaves the file as it was.
func (d *database) Reset(ctx context.Context, r engine.Reset) (*engine.Report, error) {
	defer d.leaveUnread()()
	if r.Way == engine.Rollback {
		return nil, fault.New(fault.Usage,
			"use --by truncation or --by snapshot, which put back what was touched alone",
			"SQLite has no reset by rollback: a transaction belongs to one connection, and the tests open "+
				"connections of their own to the file")
	}
	other, err := d.swapped(r.Baseline)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return d.replace(ctx, r, "the file was gone")
	case err != nil:
		return nil, err
	case other:
		return d.replace(ctx, r, "another file had been put in its place")
	}
	same, err := untouched(d.path, r.Baseline)
	if err == nil && same {
		// Whoever has begun to write shows neither in the file nor beside it.
		same, err = d.quiet(ctx, r.Baseline)
	}
	switch {
	case err != nil && damaged(err):
		return d.replace(ctx, r, "the file was damaged")
	case err != nil:
		return nil, d.explain(err, "resetting")
	case same:
		return &engine.Report{Baseline: r.Baseline, Tables: []engine.TableReport{}}, nil
	}
	st, err := d.begin(r.Start)
	if err != nil {
		return nil, err
	}
	rows := r.Way == engine.Truncation || r.Way == "" && len(r.Keep) > 0
	report, err := d.attempt(ctx, st, r, rows, "")
	if need := new(pagesNeeded); errors.As(err, &need) {
		report, err = d.attempt(ctx, st, r, false, need.why)
	}
	switch {
	case err == nil || ctx.Err() != nil:
		return report, errors.Join(err, ctx.Err())
	case damaged(err):
		return d.replace(ctx, r, "the file was damaged")
	case errors.Is(err, errOtherPages):
		return d.replace(ctx, r, "its pages had another size")
	}
	return nil, d.explain(err, "resetting")
}

var errOtherPages = errors.New("pages have another size")

// errNoDatabase says that a file is none, as far as SQLite would not say so.
var errNoDatabase = errors.New("the file is no database")

func damaged(err error) bool {
	return errors.Is(err, errNoDatabase) || codeOf(err) == lite.SQLITE_NOTADB || codeOf(err) == lite.SQLITE_CORRUPT
}

// swapped reports whether another file is there than the one that was marked,
// or that is open here: what clients have open is not it.
func (d *database) swapped(baseline json.RawMessage) (bool, error) {
	now, err := look(d.path)
	if err != nil {
		return false, err
	}
	var then witness
	if baseline != nil && json.Unmarshal(baseline, &then) == nil && then.Inode != now.Inode {
		return true, nil
	}
	return d.inode != 0 && d.inode != now.Inode, nil
}

// quiet waits until nobody has a write transaction open, and reports whether
// the file is untouched then.
func (d *database) quiet(ctx context.Context, baseline json.RawMessage) (bool, error) {
	c, err := d.connect()
	if err != nil {
		return false, err
	}
	defer c.interrupted(ctx)()
	if _, err := c.do("BEGIN IMMEDIATE"); err != nil {
		return false, errors.Join(ctx.Err(), err)
	}
	defer c.rollback()
	return untouched(d.path, baseline)
}

// pagesNeeded ends an attempt that cannot put back rows, only pages.
type pagesNeeded struct{ why string }

func (p *pagesNeeded) Error() string { return p.why }

// attempt puts back rows or pages in one transaction.
func (d *database) attempt(ctx context.Context, st *start, r engine.Reset, rows bool,
	why string) (report *engine.Report, err error) {
	var c *conn
	if rows {
		c, err = d.join(st)
	} else {
		c, err = d.connect()
	}
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			c.rollback()
		}
	}()
	defer c.interrupted(ctx)()
	if _, err := c.do("BEGIN IMMEDIATE"); err != nil {
		return nil, err
	}
	seen, err := c.number("PRAGMA data_version")
	if err != nil {
		return nil, err
	}
	diff, err := d.differences(c, st)
	if err != nil {
		return nil, err
	}
	if diff.unknown {
		return nil, errOtherPages
	}
	report = &engine.Report{Way: engine.Snapshot, Why: why, Tables: []engine.TableReport{}}
	if diff.tables["sqlite_schema"] {
		if report.Schema, err = schemaDiffers(c, st); err != nil {
			return nil, err
		}
	}
	if rows {
		report.Way = engine.Truncation
		err = d.putRows(c, st, diff, r.Keep, report)
	} else {
		err = d.putWhole(c, st, diff, r.Keep, report)
	}
	if err != nil {
		return nil, err
	}
	if _, err = c.do("COMMIT"); err != nil {
		return nil, err
	}
	if err := d.putJournal(c, st, report); err != nil {
		return nil, err
	}
	report.Baseline = d.markQuietly(c, seen, r.Baseline)
	if !rows {
		d.forgetPages(report.Schema)
	}
	return report, nil
}

// putJournal puts back how the file is written, by a rollback journal or a
// write-ahead log. That takes a moment in which nobody has it open: else it is
// said to stay.
func (d *database) putJournal(c *conn, st *start, report *engine.Report) error {
	was, now := journalOf(st.page(1)), ""
	if err := c.each("PRAGMA main.journal_mode", func(s *stmt) error { now = s.text(0); return nil }); err != nil {
		return err
	}
	if (now == "wal") == (was == "wal") {
		return nil
	}
	c.setWait(0)
	defer c.setWait(d.wait)
	var set string
	err := c.each("PRAGMA main.journal_mode = "+was, func(s *stmt) error { set = s.text(0); return nil })
	if err == nil && (set == "wal") == (was == "wal") {
		report.Settings = append(report.Settings, "journal_mode "+was)
		return nil
	}
	report.Stays = append(report.Stays, "journal_mode "+now+" (it was "+was+"; others have the file open)")
	return nil
}

// journalOf is how a file is written by its first page.
func journalOf(page []byte) string {
	if page[atVersions] == 2 {
		return "wal"
	}
	return "delete"
}

// putWhole puts back everything, by pages.
func (d *database) putWhole(c *conn, st *start, diff *difference, keep []string, report *engine.Report) (err error) {
	if report.Schema && report.Why == "" {
		report.Why = "the schema was changed"
	}
	if len(keep) > 0 {
		report.Why = strings.TrimPrefix(report.Why+"; tables to keep were put back too", "; ")
	}
	for _, t := range sorted(diff.tables) {
		switch t {
		case "sqlite_schema":
		case "sqlite_sequence":
			if report.Sequences, err = movedSequences(c, st); err != nil {
				return err
			}
		default:
			report.Tables = append(report.Tables, engine.TableReport{Name: t, Removed: -1, PutBack: -1})
		}
	}
	report.Pages, err = d.putPages(c, st, diff, report.Schema)
	return err
}

// movedSequences counts the counters that differ.
func movedSequences(c *conn, st *start) (int, error) {
	var all [2][]counter
	for i, c := range []*conn{c, st.c} {
		there, err := c.number("SELECT count(*) FROM main.sqlite_schema WHERE name = 'sqlite_sequence'")
		if err != nil || there == 0 {
			return 0, err
		}
		if all[i], err = counters(c); err != nil {
			return 0, err
		}
	}
	n := 0
	for _, is := range all[0] {
		if !slices.Contains(all[1], is) {
			n++
		}
	}
	return n, nil
}

// schemaDiffers compares the schema rows. Where a tree begins counts too: a
// file that was rebuilt has its tables elsewhere.
func schemaDiffers(c *conn, st *start) (bool, error) {
	var all [2][]string
	for i, c := range []*conn{c, st.c} {
		err := c.each("SELECT type, name, tbl_name, sql, rootpage FROM main.sqlite_schema ORDER BY rowid",
			func(s *stmt) error {
				all[i] = append(all[i], fmt.Sprintf("%q", s.row(0, 5)))
				return nil
			})
		if err != nil {
			return false, err
		}
	}
	return !slices.Equal(all[0], all[1]), nil
}

// needsApplication reports whether SQLite lacks a function or a collation
// that only the application registers.
func needsApplication(err error) bool {
	return err != nil && (strings.Contains(err.Error(), "no such function") ||
		strings.Contains(err.Error(), "no such collation") || strings.Contains(err.Error(), "no such module"))
}

// putRows puts back the rows of the tables that differ.
func (d *database) putRows(c *conn, st *start, diff *difference, keep []string, report *engine.Report) error {
	if report.Schema {
		return &pagesNeeded{"the schema was changed"}
	}
	for _, name := range sorted(diff.tables) {
		switch {
		case name == "sqlite_schema":
			continue
		case kept(keep, name):
			report.Kept = append(report.Kept, name)
			continue
		case name == "sqlite_sequence":
			if err := putSequences(c, st, keep, report); err != nil {
				return err
			}
			continue
		}
		one, err := putTable(c, st, name)
		if needsApplication(err) && len(keep) == 0 {
			return &pagesNeeded{"the schema uses functions or collations of the application"}
		}
		if err != nil {
			return fmt.Errorf("table %q: %w", name, err)
		}
		if one.Removed+one.PutBack > 0 {
			report.Tables = append(report.Tables, one)
		}
	}
	if diff.header {
		return putHeader(c, st)
	}
	return nil
}

// putTable puts back one table's rows. Rows that are as they were stay.
func putTable(c *conn, st *start, name string) (engine.TableReport, error) {
	r := engine.TableReport{Name: name}
	q := quote(name)
	t, err := st.table(name)
	if err != nil {
		return r, err
	}
	if t.empty {
		r.Removed, err = c.do("DELETE FROM main." + q)
		return r, err
	}
	// First all that is not as it was goes, then all that is missing comes:
	// in this order no row meets another with the same unique value.
	r.Removed, err = c.do(fmt.Sprintf(
		"DELETE FROM main.%s AS now WHERE NOT EXISTS (SELECT 1 FROM start.%s AS was WHERE %s AND NOT (%s))",
		q, q, t.same("was", "now"), t.differ("was", "now")))
	if err != nil {
		return r, err
	}
	r.PutBack, err = c.do(fmt.Sprintf(
		"INSERT INTO main.%s (%s) SELECT %s FROM start.%s AS was WHERE NOT EXISTS (SELECT 1 FROM main.%s AS now "+
			"WHERE %s)",
		q, t.list(), t.list(), q, q, t.same("now", "was")))
	return r, err
}

// counter is one row of sqlite_sequence.
type counter struct {
	rowid int64
	name  string
	value any
}

// sequence is a counter's value. SQLite writes numbers; what somebody else
// has put there only has to differ from them.
func sequence(s *stmt) any {
	if b, ok := s.value(2).([]byte); ok {
		return "x" + string(b)
	}
	return s.value(2)
}

const allCounters = "SELECT rowid, name, seq FROM main.sqlite_sequence ORDER BY rowid"

// counters reads the counters of AUTOINCREMENT columns.
func counters(c *conn) (all []counter, err error) {
	all = []counter{}
	err = c.each(allCounters, func(s *stmt) error {
		all = append(all, counter{s.int(0), s.text(1), sequence(s)})
		return nil
	})
	return all, err
}

// putSequences puts back the counters that differ, but for tables to keep.
func putSequences(c *conn, st *start, keep []string, report *engine.Report) error {
	if st.counters == nil {
		var err error
		if st.counters, err = counters(st.c); err != nil {
			return err
		}
	}
	moved, missing, err := moved(c, st.counters, keep)
	if err != nil {
		return err
	}
	report.Sequences = len(moved)
	for _, rowid := range moved {
		if _, err := c.do("DELETE FROM main.sqlite_sequence WHERE rowid = ?", rowid); err != nil {
			return err
		}
	}
	for _, was := range missing {
		if _, err := c.do(putCounter, was.rowid, was.name, was.value); err != nil {
			return err
		}
	}
	return nil
}

// putCounter puts a counter back in its row, or in a new one where that of a
// table to keep has taken its place.
const putCounter = `INSERT INTO main.sqlite_sequence (rowid, name, seq)
	SELECT CASE WHEN EXISTS (SELECT 1 FROM main.sqlite_sequence WHERE rowid = ?1) THEN NULL ELSE ?1 END, ?2, ?3`

// moved compares the counters with those of the start state: the rows that
// have to go, and those that have to come.
func moved(c *conn, start []counter, keep []string) (gone []int64, missing []counter, err error) {
	i := 0
	err = c.each(allCounters, func(s *stmt) error {
		rowid := s.int(0)
		for ; i < len(start) && start[i].rowid < rowid; i++ {
			missing = append(missing, start[i])
		}
		same := i < len(start) && start[i].rowid == rowid
		if same && s.is(1, start[i].name) && sequence(s) == start[i].value {
			i++
			return nil
		}
		if kept(keep, s.text(1)) {
			return nil
		}
		gone = append(gone, rowid)
		return nil
	})
	for ; i < len(start); i++ {
		missing = append(missing, start[i])
	}
	return gone, slices.DeleteFunc(missing, func(was counter) bool { return kept(keep, was.name) }), err
}

func putHeader(c *conn, st *start) error {
	for _, p := range []string{"user_version", "application_id"} {
		n, err := st.c.number("PRAGMA " + p)
		if err != nil {
			return err
		}
		s, err := c.prepare(fmt.Sprintf("PRAGMA main.%s = %d", p, n))
		if err != nil {
			return err
		}
		_, err = s.step()
		s.finalize()
		if err != nil {
			return err
		}
	}
	return nil
}

// replace puts a new file in the place of one that cannot be put back.
func (d *database) replace(ctx context.Context, r engine.Reset, why string) (*engine.Report, error) {
	if r.InPlace {
		return nil, fault.New(fault.Failed, "reset without --in-place: clients must then open the file again",
			"the copy cannot be put back in place: %s", why)
	}
	d.disconnect()
	e, err := d.server.Find(ctx, d.id)
	if err != nil {
		return nil, err
	}
	for _, end := range []string{"-wal", "-shm", "-journal"} {
		if err := os.Remove(d.path + end); err != nil && !errors.Is(err, os.ErrNotExist) {
			return nil, fmt.Errorf("replacing %s: %w", d.path, err)
		}
	}
	if err := d.server.Copy(ctx, r.Start, d.id, e.Facts); err != nil {
		return nil, err
	}
	e, err = d.server.Find(ctx, d.id)
	if err != nil {
		return nil, err
	}
	return &engine.Report{Way: engine.Snapshot, Why: why, Reconnect: true, Tables: []engine.TableReport{},
		Baseline: e.Facts.Baseline}, nil
}

// forgetPages makes the connection that wrote pages forget what it knew of
// them.
func (d *database) forgetPages(newSchema bool) {
	if _, err := d.c.do("PRAGMA shrink_memory"); err != nil || newSchema {
		d.c.close()
		d.c = nil
	}
}

// markQuietly marks the file as it is now, unless somebody wrote to it since
// this connection saw data version seen: then there is no mark, and the next
// reset looks at the pages.
func (d *database) markQuietly(c *conn, seen int64, again json.RawMessage) json.RawMessage {
	c.setWait(0)
	defer c.setWait(d.wait)
	if hasLog(d.path) {
		if _, err := c.do("PRAGMA main.wal_checkpoint(TRUNCATE)"); err != nil || hasLog(d.path) {
			return nil
		}
	}
	// While this transaction reads, nobody can write to the file itself: the
	// data version is that of the marked file.
	if _, err := c.do("BEGIN"); err != nil {
		return nil
	}
	defer c.rollback()
	if now, err := c.number("PRAGMA data_version"); err != nil || now != seen {
		return nil
	}
	base, err := mark(d.path, again)
	if err != nil {
		return nil
	}
	return base
}

func kept(keep []string, table string) bool {
	return slices.ContainsFunc(keep, func(k string) bool { return strings.EqualFold(k, table) })
}

func sorted(set map[string]bool) []string {
	all := make([]string, 0, len(set))
	for name := range set {
		all = append(all, name)
	}
	slices.Sort(all)
	return all
}

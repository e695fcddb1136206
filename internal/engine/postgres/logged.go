package postgres

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine/postgres/wal"
)

// readable bounds how much of the write-ahead log is read to learn what was
// touched, in bytes: from there on it is as quick to ask for every table.
const readable = 4 << 20

// moment is where a server stands.
type moment struct {
	next, oldest int64 // number of the next transaction, of the oldest under way
	oid          uint32
	writers      int64 // sessions of the database whose transactions have a number
	at, flushed  wal.Position
}

// moment asks for it, of the database of a name, or of an oid where that is "".
func (s *server) moment(ctx context.Context, conn *pgx.Conn, id string, oid uint32) (m moment, err error) {
	of := strconv.FormatUint(uint64(oid), 10)
	if id != "" {
		of = "coalesce((SELECT oid FROM pg_database WHERE datname = " + literal(id) + "), 0)"
	}
	// Where none is under way that is older than the next number, and that is also
	// the next to be given out (which is what age counts from), none has any.
	what := "pg_snapshot_xmax(s)::text::bigint, pg_snapshot_xmin(s)::text::bigint, d.oid, CASE WHEN " +
		"pg_snapshot_xmin(s) = pg_snapshot_xmax(s) AND age(pg_snapshot_xmax(s)::xid) = 0 THEN 0 ELSE " +
		s.writing("count(*)", "d.oid") + " END"
	into := []any{&m.next, &m.oldest, &m.oid, &m.writers}
	if s.exact() {
		what += ", (pg_current_wal_insert_lsn() - '0/0')::bigint, (pg_current_wal_flush_lsn() - '0/0')::bigint"
		into = append(into, &m.at, &m.flushed)
	}
	err = conn.QueryRow(ctx, "SELECT "+what+" FROM pg_current_snapshot() s, (SELECT "+of+
		"::oid AS oid) d").Scan(into...)
	return m, err
}

// writing is a query in brackets for the sessions and prepared transactions of
// a database that have a transaction's number. Which session has one is told to
// few; who holds the lock of one is told to all.
func (s *server) writing(what, oid string) string {
	has := "a.backend_xid IS NOT NULL"
	if !s.super {
		has = "a.pid IN (SELECT l.pid FROM pg_locks l WHERE l.locktype = 'transactionid' AND l.mode = " +
			"'ExclusiveLock' AND l.granted)"
	}
	sessions := fmt.Sprintf("(SELECT %s FROM pg_stat_get_activity(NULL) a WHERE a.datid = %s AND a.pid <> "+
		"pg_backend_pid() AND a.backend_type = 'client backend' AND %s)", what, oid, has)
	if what != "count(*)" {
		return sessions
	}
	return sessions + fmt.Sprintf(" + (SELECT count(*) FROM pg_prepared_xact() p WHERE p.dbid = %s)", oid)
}

// flushed brings the log to disk, and returns the number of the transaction
// that it took.
func flushed(ctx context.Context, conn *pgx.Conn) (number int64, err error) {
	err = conn.QueryRow(ctx, "SELECT pg_current_xact_id()::text::bigint FROM pg_logical_emit_message(true, '', "+
		"'')").Scan(&number)
	return number, err
}

// formatLogMark is where a moment is told from which on the log has to be read, of
// which database it is true.
func formatLogMark(oid uint32, at wal.Position) string { return fmt.Sprintf("%d %s", oid, at) }

// parseLogMark reads what formatLogMark wrote; 0 where it is of another database.
func parseLogMark(text string, oid uint32) wal.Position {
	of, at, _ := strings.Cut(text, " ")
	p, err := wal.ParsePosition(at)
	if err != nil || of != strconv.FormatUint(uint64(oid), 10) {
		return 0
	}
	return p
}

// since is the position up to which the log holds nothing that a baseline does
// not tell; 0 where that is not known.
func (d *database) since(base baseline) wal.Position {
	if d.clear > 0 {
		return d.clear
	}
	text := base.At
	if text == "" && d.born {
		_, text, _ = strings.Cut(privateOf(d.facts).Birth, " ")
	}
	d.clear = parseLogMark(text, d.oid)
	return d.clear
}

// logged tells from the log what was touched up to a moment; false where the
// log cannot tell, or not without a session inside the database. took is the
// number of the transaction that this took, 0 for none.
func (d *database) logged(ctx context.Context, conn *pgx.Conn, inside bool, base baseline, m moment) (t touched,
	took int64, ok bool, err error) {
	from := d.since(base)
	if !inside && (from == 0 || slices.ContainsFunc(base.Tables, func(m mark) bool { return m.Unlogged })) ||
		d.files() == "" {
		return t, 0, false, nil
	}
	if d.log, err = d.server.findLog(ctx, conn); err != nil {
		return t, 0, false, err
	}
	// A crash of the server would take back a position that is not on disk.
	if m.flushed < m.at {
		if took, err = flushed(ctx, conn); err != nil {
			return t, 0, false, err
		}
	}
	if from == 0 || m.at-from > readable || unloggedPages(base) > 4*large || !base.Quiet ||
		slices.ContainsFunc(base.Catalogs, doubtful) {
		return t, took, false, nil
	}
	if t, ok = d.writtenBetween(base, from, m.at); !ok || len(t.catalogs) > 0 {
		return t, took, false, nil
	}
	var unlogged []int
	for i, b := range base.Tables {
		switch {
		case b.Unlogged && !doubtful(b):
			unlogged = append(unlogged, i+1)
		case doubtful(b) && !slices.Contains(t.tables, i+1):
			t.tables = append(t.tables, i+1)
		}
	}
	if unlogged != nil {
		err = d.unlogged(ctx, conn, base, unlogged, &t)
	}
	slices.Sort(t.tables)
	return t, took, err == nil, err
}

func doubtful(m mark) bool { return m.Vacuums < 0 }

// unloggedPages counts the pages of the tables that the log says nothing of.
func unloggedPages(base baseline) (n int64) {
	for _, m := range base.Tables {
		if m.Unlogged {
			n += m.Pages
		}
	}
	return n
}

// unlogged reads the rows of those tables that the log says nothing of.
func (d *database) unlogged(ctx context.Context, conn *pgx.Conn, base baseline, which []int, t *touched) error {
	var marks []mark
	for _, i := range which {
		marks = append(marks, base.Tables[i-1])
	}
	places, err := differ(ctx, conn, marks, base.Next)
	for _, i := range places {
		t.tables = append(t.tables, which[i-1])
	}
	return err
}

// writtenBetween lists what the log says to have been written to between two
// positions; false where it cannot be read.
func (d *database) writtenBetween(base baseline, from, to wal.Position) (t touched, ok bool) {
	places := d.filesOfBase(base)
	seen := map[uint32]bool{}
	remapped := false
	err := d.log.Read(from, to, func(r *wal.Record) {
		remapped = remapped || r.Remaps()
		if !r.Writes() {
			return
		}
		for _, b := range r.Blocks {
			if b.Database == d.oid && b.Fork == 0 {
				seen[b.File] = true
			}
		}
	})
	if err != nil || remapped {
		return t, false
	}
	for file := range seen {
		switch at := places[file]; at.kind {
		case ofTable:
			t.tables = append(t.tables, at.index+1)
		case ofCounter:
			t.counters = append(t.counters, at.index+1)
		case ofCatalog:
			t.catalogs = append(t.catalogs, at.index)
		}
	}
	for _, all := range [][]int{t.tables, t.counters, t.catalogs} {
		slices.Sort(all)
	}
	return t, true
}

// filed is what of a baseline a file belongs to.
type filed struct {
	kind  kindOfFile
	index int
}

type kindOfFile byte

const (
	ofNone kindOfFile = iota
	ofTable
	ofCounter
	ofCatalog
)

// filesOfBase finds what a file belongs to; it is kept for the baseline that
// was read last.
func (d *database) filesOfBase(base baseline) map[uint32]filed {
	if d.filedOf != nil {
		return d.filedOf
	}
	all := make(map[uint32]filed, len(base.Tables)+len(base.Counters)+len(base.Catalogs))
	for i, m := range base.Catalogs {
		all[uint32(m.File)] = filed{ofCatalog, i}
	}
	for i, m := range base.Tables {
		all[uint32(m.File)] = filed{ofTable, i}
	}
	for i, c := range base.Counters {
		all[uint32(c.File)] = filed{ofCounter, i}
	}
	d.filedOf = all
	return all
}

// findLog learns where the server's log lies, and how it is cut into files.
func (s *server) findLog(ctx context.Context, conn *pgx.Conn) (wal.Log, error) {
	s.logs.Lock()
	defer s.logs.Unlock()
	if s.log.Folder != "" || s.socket == "" {
		return s.log, nil
	}
	var timeline string
	err := conn.QueryRow(ctx, "SELECT left(pg_walfile_name(pg_current_wal_insert_lsn()), 8), "+
		"pg_size_bytes(current_setting('wal_segment_size'))").Scan(&timeline, &s.log.Segment)
	n, failed := strconv.ParseUint(timeline, 16, 32)
	if err = errors.Join(err, failed); err != nil {
		return wal.Log{}, err
	}
	s.log.Timeline, s.log.Folder = uint32(n), filepath.Join(s.socket, "data", "pg_wal")
	return s.log, nil
}

// refiled reads the files of the counters anew.
func refiled(ctx context.Context, conn *pgx.Conn, all []counter) ([]counter, error) {
	names := make([]string, len(all))
	for i, c := range all {
		names[i] = c.Name
	}
	rows, err := conn.Query(ctx, "SELECT coalesce(pg_relation_filenode(to_regclass(b.name)), 0)::bigint FROM "+
		"unnest($1::text[]) WITH ORDINALITY AS b (name, i) ORDER BY b.i", names)
	if err != nil {
		return nil, err
	}
	files, err := pgx.CollectRows(rows, pgx.RowTo[int64])
	if err != nil {
		return nil, err
	}
	all = slices.Clone(all)
	for i := range files {
		all[i].File = files[i]
	}
	return all, nil
}

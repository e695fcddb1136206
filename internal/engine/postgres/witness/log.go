package witness

import (
	"context"
	"errors"
	"fmt"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/engine/postgres/wal"
	"io"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// readable bounds how much of the write-ahead log is read to learn what was
// touched, in bytes: from there on it is as quick to ask for every table. The
// second is for a log that comes through a session.
const (
	readable = 4 << 20
	sent     = 512 << 10
)

// readable is as much of the log as is worth reading.
func (l *Look) readable() wal.Position {
	if l.Files() == "" {
		return sent
	}
	return readable
}

// manyPages is how many pages of unlogged tables, of which the log says nothing,
// take longer to read than it takes to ask the map of every table.
const manyPages = 256

// Moment is where a server stands.
type Moment struct {
	Next, Oldest int64 // number of the next transaction, of the oldest under way
	OID          uint32
	Writers      int64 // sessions of the database whose transactions have a number
	Running      int64 // those that are running a statement
	At, Flushed  wal.Position
}

// Moment asks for it, of the database of a name, or of an oid where that is "".
func (s *Server) Moment(ctx context.Context, conn *pgx.Conn, id string, oid uint32, but ...uint32) (m Moment,
	err error) {
	of := strconv.FormatUint(uint64(oid), 10)
	if id != "" {
		of = "coalesce((SELECT oid FROM pg_database WHERE datname = " + pg.Literal(id) + "), 0)"
	}
	// Where none is under way that is older than the next number, and that is also
	// the next to be given out (which is what age counts from), none has any.
	what := "pg_snapshot_xmax(s)::text::bigint, pg_snapshot_xmin(s)::text::bigint, d.oid, CASE WHEN " +
		"pg_snapshot_xmin(s) = pg_snapshot_xmax(s) AND age(pg_snapshot_xmax(s)::xid) = 0 THEN 0 ELSE " +
		s.Writing("count(*)", "d.oid", but...) + " END, " + s.Running("count(*)", "d.oid")
	into := []any{&m.Next, &m.Oldest, &m.OID, &m.Writers, &m.Running}
	if s.Trust().Log {
		what += ", (pg_current_wal_insert_lsn() - '0/0')::bigint, (pg_current_wal_flush_lsn() - '0/0')::bigint"
		into = append(into, &m.At, &m.Flushed)
	}
	err = conn.QueryRow(ctx, "SELECT "+what+" FROM pg_current_snapshot() s, (SELECT "+of+
		"::oid AS oid) d").Scan(into...)
	return m, err
}

// Writing is a query in brackets for the sessions and prepared transactions of
// a database that have a transaction's number. Which session has one is told to
// few; who holds the lock of one is told to all.
func (s *Server) Writing(what, oid string, except ...uint32) string {
	which := s.numbered()
	for _, pid := range except {
		which += fmt.Sprintf(" AND a.pid <> %d", pid)
	}
	sessions := clients(what, oid, which)
	if what != "count(*)" {
		return sessions
	}
	return sessions + fmt.Sprintf(" + (SELECT count(*) FROM pg_prepared_xact() p WHERE p.dbid = %s)", oid)
}

// numbered is a condition for sessions whose transaction has a number.
func (s *Server) numbered() string {
	if s.Super() {
		return "a.backend_xid IS NOT NULL"
	}
	return "a.pid IN (SELECT l.pid FROM pg_locks l WHERE l.locktype = 'transactionid' AND l.mode = 'ExclusiveLock' " +
		"AND l.granted)"
}

// Running is a query in brackets for the other sessions of a database that are running a
// statement: it may come to write, also where its client has gone. Of which roles that is
// told is a matter of rights; of the others those count that have locked a table to write.
func (s *Server) Running(what, oid string) string {
	runs := "a.state = 'active'"
	if !s.Super() {
		runs += " OR a.state IS NULL AND a.pid IN (SELECT l.pid FROM pg_locks l WHERE l.locktype = 'relation' AND " +
			"l.database = a.datid AND l.mode IN ('RowExclusiveLock', 'ShareRowExclusiveLock', 'ExclusiveLock', " +
			"'AccessExclusiveLock'))"
	}
	return clients(what, oid, "("+runs+") AND NOT "+s.numbered())
}

// clients is a query in brackets for other sessions of clients of a database.
func clients(what, oid, which string) string {
	return fmt.Sprintf("(SELECT %s FROM pg_stat_get_activity(NULL) a WHERE a.datid = %s AND a.pid <> "+
		"pg_backend_pid() AND "+pg.OfClient+" AND %s)", what, oid, which)
}

// Flush brings the log to disk, and returns the number of the transaction
// that it took.
func Flush(ctx context.Context, conn *pgx.Conn) (number int64, err error) {
	err = conn.QueryRow(ctx, flushSQL).Scan(&number)
	return number, err
}

const flushSQL = "SELECT pg_current_xact_id()::text::bigint FROM pg_logical_emit_message(true, '', '')"

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

// cleanPosition is the position up to which the log holds nothing that a baseline does
// not tell; 0 where that is not known.
func (l *Look) cleanPosition(base Baseline) wal.Position {
	if l.clean > 0 {
		return l.clean
	}
	text := base.At
	if text == "" && l.FromStart {
		_, text, _ = strings.Cut(l.Birth, " ")
	}
	l.clean = parseLogMark(text, l.OID)
	return l.clean
}

// logged tells from the log what was touched up to a moment; false where the
// log cannot tell, or not without a session inside the database. took is the
// number of the transaction that this took, 0 for none.
func (l *Look) logged(ctx context.Context, conn *pgx.Conn, inside bool, base Baseline, m Moment) (t Touched,
	took int64, ok bool, err error) {
	from := l.cleanPosition(base)
	if !inside && (from == 0 || slices.ContainsFunc(base.Tables, func(m Mark) bool { return m.Unlogged })) {
		return t, 0, false, nil
	}
	if err = l.findLog(ctx, conn); err != nil || l.log.Fetch == nil {
		return t, 0, false, err
	}
	// A crash of the server would take back a position that is not on disk.
	if m.Flushed < m.At {
		if took, err = l.flush(ctx, conn, from, m.At); err != nil {
			return t, 0, false, err
		}
	}
	l.far = from > 0 && m.At-from > l.readable()
	if from == 0 || l.far || unloggedPages(base) > manyPages || !base.Quiet ||
		slices.ContainsFunc(base.Catalogs, doubtful) {
		return t, took, false, nil
	}
	if t, ok = l.writtenBetween(base, from, m.At); !ok || len(t.Catalogs) > 0 {
		return t, took, false, nil
	}
	var unlogged []int
	for i, b := range base.Tables {
		switch {
		case b.Unlogged && !doubtful(b):
			unlogged = append(unlogged, i+1)
		case doubtful(b) && !slices.Contains(t.Tables, i+1):
			t.Tables = append(t.Tables, i+1)
		}
	}
	if unlogged != nil {
		err = l.unlogged(ctx, conn, base, unlogged, &t)
	}
	slices.Sort(t.Tables)
	return t, took, err == nil, err
}

func doubtful(m Mark) bool { return m.Vacuums < 0 }

// unloggedPages counts the pages of the tables that the log says nothing of.
func unloggedPages(base Baseline) (n int64) {
	for _, m := range base.Tables {
		if m.Unlogged {
			n += m.Pages
		}
	}
	return n
}

// unlogged reads the rows of those tables that the log says nothing of.
func (l *Look) unlogged(ctx context.Context, conn *pgx.Conn, base Baseline, which []int, t *Touched) error {
	var marks []Mark
	for _, i := range which {
		marks = append(marks, base.Tables[i-1])
	}
	places, err := Differ(ctx, conn, marks, base.Next)
	for _, i := range places {
		t.Tables = append(t.Tables, which[i-1])
	}
	return err
}

// writtenBetween lists what the log says to have been written to between two
// positions; false where it cannot be read.
func (l *Look) writtenBetween(base Baseline, from, to wal.Position) (t Touched, ok bool) {
	return l.writtenBy(base, from, to, (*wal.Record).Writes)
}

// writtenBy is writtenBetween with another sense of which records write.
func (l *Look) writtenBy(base Baseline, from, to wal.Position, writes func(*wal.Record) bool) (t Touched, ok bool) {
	places := l.filesOfBase(base)
	seen := map[uint32]bool{}
	remapped := false
	err := l.log.Read(from, to, func(r *wal.Record) {
		remapped = remapped || r.Remaps()
		if !writes(r) {
			return
		}
		for _, b := range r.Blocks {
			if b.Database == l.OID && b.Fork == 0 {
				seen[b.File] = true
			}
		}
	})
	l.far = l.far || err != nil // its files are gone
	if err != nil || remapped {
		return t, false
	}
	for file := range seen {
		switch at := places[file]; at.kind {
		case ofTable:
			t.Tables = append(t.Tables, at.index+1)
		case ofCounter:
			t.Counters = append(t.Counters, at.index+1)
		case ofCatalog:
			t.Catalogs = append(t.Catalogs, at.index)
		}
	}
	for _, all := range [][]int{t.Tables, t.Counters, t.Catalogs} {
		slices.Sort(all)
	}
	return t, true
}

// MovedSince lists the counters that the log says were written to since a position, by
// their places from 1 on, and tells up to where that is true; false where the log
// cannot tell. What was written and rolled back does not change where the files lie.
func (l *Look) MovedSince(ctx context.Context, conn *pgx.Conn, base Baseline, from wal.Position) (places []int,
	to wal.Position, ok bool, err error) {
	if !l.Server.Trust().Log || !base.Quiet {
		return nil, 0, false, nil
	}
	if l.OID == 0 {
		err = conn.QueryRow(ctx, "SELECT oid FROM pg_database WHERE datname = $1", l.ID).Scan(&l.OID)
	}
	if err == nil {
		err = l.findLog(ctx, conn)
	}
	if err != nil || l.log.Fetch == nil {
		return nil, 0, false, err
	}
	// The commit of this brings all before it to disk.
	err = conn.QueryRow(ctx, "SELECT (pg_catalog.pg_logical_emit_message(true, '', '') - '0/0')::bigint").Scan(&to)
	if err != nil || from == 0 || to-from > l.readable() {
		return nil, to, false, err
	}
	t, ok := l.writtenBetween(base, from, to)
	return t.Counters, to, ok, nil
}

// fileOwner is what of a baseline a file belongs to.
type fileOwner struct {
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
func (l *Look) filesOfBase(base Baseline) map[uint32]fileOwner {
	if l.fileOwners != nil {
		return l.fileOwners
	}
	all := make(map[uint32]fileOwner, len(base.Tables)+len(base.Counters)+len(base.Catalogs))
	for i, m := range base.Catalogs {
		all[uint32(m.File)] = fileOwner{ofCatalog, i}
	}
	for i, m := range base.Tables {
		all[uint32(m.File)] = fileOwner{ofTable, i}
	}
	for i, c := range base.Counters {
		all[uint32(c.File)] = fileOwner{ofCounter, i}
	}
	l.fileOwners = all
	return all
}

// findLog learns how the log is read: from its files, or where this process does
// not see them through a session.
func (l *Look) findLog(ctx context.Context, conn *pgx.Conn) (err error) {
	if l.log, err = l.Server.FindLog(ctx, conn); err == nil && l.log.Segment > 0 && l.Files() == "" {
		l.log.Fetch = through(ctx, conn)
	}
	return err
}

// flush is Flush. Where the log is read through the session, what is there after it
// comes with the same trip.
func (l *Look) flush(ctx context.Context, conn *pgx.Conn, from, to wal.Position) (took int64, err error) {
	if l.Files() != "" || from == 0 || from >= to || to-from > l.readable() {
		return Flush(ctx, conn)
	}
	pieces := l.log.Pieces(from, to)
	pipeline := conn.PgConn().StartPipeline(ctx)
	pipeline.SendQueryParams(flushSQL, nil, nil, nil, nil)
	pipeline.SendPipelineSync() // committed before the next is begun
	for _, p := range pieces {
		pipeline.SendQueryParams(fmt.Sprintf("SELECT pg_catalog.pg_read_binary_file('pg_wal/%s', %d, %d)", p.File, p.Offset,
			p.Length), nil, nil, nil, []int16{pgx.BinaryFormatCode})
	}
	if err := pipeline.Sync(); err != nil {
		return 0, errors.Join(err, pipeline.Close())
	}
	var rows [][]byte
	for {
		result, err := pipeline.GetResults()
		if err != nil || result == nil {
			return took, errors.Join(err, pipeline.Close())
		}
		reader, ok := result.(*pgconn.ResultReader)
		if !ok {
			if len(rows) > len(pieces) {
				break
			}
			continue
		}
		read := reader.Read()
		if len(rows) > 0 && pg.State(read.Err) != "" { // a file that a checkpoint has removed: the log tells nothing then
			_ = pipeline.Close()
			return strconv.ParseInt(string(rows[0]), 10, 64)
		}
		if read.Err != nil || len(read.Rows) != 1 {
			return 0, errors.Join(read.Err, pipeline.Close())
		}
		rows = append(rows, read.Rows[0][0])
	}
	l.log.Fetch = ahead(pieces, rows[1:], l.log.Fetch)
	took, err = strconv.ParseInt(string(rows[0]), 10, 64)
	return took, errors.Join(err, pipeline.Close())
}

// ahead fetches what has come already, and else as otherwise.
func ahead(pieces []wal.Piece, came [][]byte, fetch wal.Fetch) wal.Fetch {
	return func(file string, offset int64, into []byte) error {
		i := slices.Index(pieces, wal.Piece{File: file, Offset: offset, Length: len(into)})
		if i < 0 || len(came[i]) < len(into) {
			return fetch(file, offset, into)
		}
		copy(into, came[i])
		return nil
	}
}

// through fetches from the log's files through a session of a superuser.
func through(ctx context.Context, conn *pgx.Conn) wal.Fetch {
	return func(file string, offset int64, into []byte) error {
		var got []byte
		err := conn.QueryRow(ctx, "SELECT pg_catalog.pg_read_binary_file($1, $2, $3)", "pg_wal/"+file, offset,
			len(into)).Scan(&got)
		if err == nil && copy(into, got) < len(into) {
			err = io.ErrUnexpectedEOF
		}
		return err
	}
}

// FindLog learns where the server's log lies, and how it is cut into files. The
// log has no segments where it cannot be believed, or is of another format.
func (s *Server) FindLog(ctx context.Context, conn *pgx.Conn) (wal.Log, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	format, known := wal.Formats[s.Major()]
	if s.log.Segment > 0 || !known || !s.Trust().Log {
		return s.log, nil
	}
	var timeline string
	var segment int64
	err := conn.QueryRow(ctx, "SELECT left(pg_walfile_name(pg_current_wal_insert_lsn()), 8), "+
		"pg_size_bytes(current_setting('wal_segment_size'))").Scan(&timeline, &segment)
	n, failed := strconv.ParseUint(timeline, 16, 32)
	if err = errors.Join(err, failed); err != nil {
		return wal.Log{}, err
	}
	s.log = wal.Log{Segment: segment, Timeline: uint32(n), Format: format}
	if socket := s.Socket(); socket != "" {
		s.log.Fetch = wal.InFolder(filepath.Join(socket, "data", "pg_wal"))
	}
	return s.log, nil
}

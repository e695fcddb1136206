package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"golang.org/x/sys/unix"

	"hemzo/internal/engine/postgres/wal"
)

// baseline is what a database looked like to the witness when it was at its
// start state. A copy begins with that of its template: its files are the
// same.
type baseline struct {
	Form      int       `json:"form"`
	Next      string    `json:"next"`      // transaction's number, when it was noted
	Relations string    `json:"relations"` // sum over pg_class
	Exact     bool      `json:"exact"`     // every page was visible to all: the map can be believed
	Quiet     bool      `json:"quiet"`     // no counter moves without a transaction's number
	Tables    []mark    `json:"tables"`
	Catalogs  []mark    `json:"catalogs"` // in the order in which the server is asked for them
	Counters  []counter `json:"counters"`
	// the place in the log from which on it has to be read, as formatLogMark writes it
	At string `json:"at,omitempty"`
}

// form is what baselines look like that this Hemzo reads and writes.
const form = 4

// mark is one table: whatever writes to it changes one of File, Pages and
// Vacuums, or leaves pages that are not visible to all.
type mark struct {
	Name     string   `json:"n"` // as format('%I.%I') writes it
	OID      uint32   `json:"o"`
	File     int64    `json:"f,omitempty"` // node
	Pages    int64    `json:"p,omitempty"`
	Vacuums  int64    `json:"v,omitempty"`  // -1 where the table is not to be believed untouched
	Rows     bool     `json:"r,omitempty"`  // it has some
	Unlogged bool     `json:"u,omitempty"`  // the log says nothing of it
	View     bool     `json:"m,omitempty"`  // materialized: its rows cannot be written to
	Fires    bool     `json:"t,omitempty"`  // a trigger or rule of it fires for what a reset does
	Aimed    bool     `json:"k,omitempty"`  // a foreign key of another table leads to it
	Leads    []string `json:"fk,omitempty"` // the tables that its foreign keys lead to
	Count    int64    `json:"c,omitempty"`  // of rows: of a catalog, and where the map cannot be believed
	Since    string   `json:"x,omitempty"`  // the transaction that put its rows back, likewise
	// then a transaction with a lower number was under way: a row may be younger than it looks
	Older bool `json:"w,omitempty"`
}

// counter is a sequence.
type counter struct {
	Name   string `json:"n"`
	Last   int64  `json:"l"`
	Called bool   `json:"c,omitempty"`
	Table  string `json:"t,omitempty"` // that it belongs to
	File   int64  `json:"f"`           // node
}

// tested are the majors for which it was shown that what reads a table leaves
// the visibility map alone, and what writes to it does not.
var tested = []string{"15"}

// visible gives a session the function that asks the visibility map, from
// the contrib library, in its own temporary schema: nothing of it is in the
// database.
const visible = `CREATE OR REPLACE FUNCTION pg_temp.seen(regclass, OUT all_visible bigint, OUT all_frozen bigint) LANGUAGE c STRICT AS '$libdir/pg_visibility', 'pg_visibility_map_summary'`

// users are the tables that hold users' rows.
const users = `c.relkind IN ('r', 'm') AND c.relpersistence <> 't' AND n.nspname NOT IN ('pg_catalog', 'information_schema', 'pg_toast')`

// tables lists the tables of a baseline.
const tables = `SELECT format('%I.%I', n.nspname, c.relname), c.oid, c.relpersistence = 'u', c.relkind = 'm', coalesce(pg_relation_filenode(c.oid), 0)::bigint, pg_relation_size(c.oid) / current_setting('block_size')::bigint,
	c.oid IN (SELECT tgrelid FROM pg_trigger WHERE tgenabled IN ('A', 'R')) OR c.oid IN (SELECT ev_class FROM pg_rewrite WHERE ev_enabled IN ('A', 'R')),
	c.oid IN (SELECT confrelid FROM pg_constraint WHERE contype = 'f' AND conrelid <> confrelid),
	(SELECT array_agg(DISTINCT k.confrelid::regclass::text) FROM pg_constraint k WHERE k.contype = 'f' AND k.conrelid = c.oid AND k.confrelid <> c.oid)
	FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE ` + users +
	` OR c.oid = 'pg_largeobject'::regclass ORDER BY 1`

// differing lists, by their place in a baseline, the tables that are not as
// they are there.
const differing = `SELECT b.i::int FROM unnest($1::oid[], $2::bigint[], $3::bigint[], $4::bigint[]) WITH ORDINALITY AS b (id, file, pages, vacuums, i), pg_temp.seen(b.id) s
	WHERE s.all_visible <> b.pages OR coalesce(pg_stat_get_vacuum_count(b.id), 0) <> b.vacuums OR pg_relation_filenode(b.id) <> b.file`

// resized adds those whose size is another: the server takes long to find it.
const resized = differing + ` OR pg_relation_size(b.id) <> b.pages * current_setting('block_size')::bigint`

// marks reads tables as they are now, with the pages that are visible to all.
const marks = `SELECT pg_relation_filenode(b.id)::bigint, pg_relation_size(b.id) / current_setting('block_size')::bigint, coalesce(pg_stat_get_vacuum_count(b.id), 0), s.all_visible
	FROM unnest($1::oid[]) WITH ORDINALITY AS b (id, i), pg_temp.seen(b.id) s ORDER BY b.i`

func allNames(all []mark) []string {
	names := make([]string, len(all))
	for i, m := range all {
		names[i] = m.Name
	}
	return names
}

// columns are the parts of marks, one list each, for a query.
func columns(all []mark) []any {
	ids, files, pages, vacuums := make([]uint32, len(all)), make([]int64, len(all)), make([]int64, len(all)),
		make([]int64, len(all))
	for i, m := range all {
		ids[i], files[i], pages[i], vacuums[i] = m.OID, m.File, m.Pages, m.Vacuums
	}
	return []any{ids, files, pages, vacuums}
}

// measure reads marks anew but for what the map says of them.
func measure(ctx context.Context, conn *pgx.Conn, all []mark) ([]mark, error) {
	const measures = `SELECT pg_relation_filenode(b.id)::bigint, pg_relation_size(b.id) / current_setting('block_size')::bigint, coalesce(pg_stat_get_vacuum_count(b.id), 0)
		FROM unnest($1::oid[]) WITH ORDINALITY AS b (id, i) ORDER BY b.i`
	all = slices.Clone(all)
	rows, err := conn.Query(ctx, measures, columns(all)[0])
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for i := 0; rows.Next(); i++ {
		if err := rows.Scan(&all[i].File, &all[i].Pages, &all[i].Vacuums); err != nil {
			return nil, err
		}
	}
	return all, rows.Err()
}

// observe reads marks anew. One whose pages are not all visible to all is not
// to be believed.
func observe(ctx context.Context, conn *pgx.Conn, all []mark) ([]mark, error) {
	all = slices.Clone(all)
	rows, err := conn.Query(ctx, marks, columns(all)[0])
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for i := 0; rows.Next(); i++ {
		m := &all[i]
		var visible int64
		if err := rows.Scan(&m.File, &m.Pages, &m.Vacuums, &visible); err != nil {
			return nil, err
		}
		if visible < m.Pages {
			m.Vacuums = -1
		}
	}
	return all, rows.Err()
}

// unseen names the tables with pages that are not visible to all.
func unseen(ctx context.Context, conn *pgx.Conn) (names []string, err error) {
	if _, err := conn.Exec(ctx, visible); err != nil {
		return nil, nil // without the map nothing can be gained
	}
	all, err := listTables(ctx, conn)
	if err == nil {
		all, err = observe(ctx, conn, all)
	}
	for _, m := range all {
		if m.Vacuums < 0 {
			names = append(names, m.Name)
		}
	}
	return names, err
}

// listTables reads the tables of a baseline.
func listTables(ctx context.Context, conn *pgx.Conn) ([]mark, error) {
	rows, err := conn.Query(ctx, tables)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (m mark, err error) {
		err = row.Scan(&m.Name, &m.OID, &m.Unlogged, &m.View, &m.File, &m.Pages, &m.Fires, &m.Aimed, &m.Leads)
		return m, err
	})
}

// moved is a query for the counters that are not where they were, by their
// place in a baseline; "" where there are none. One that is there again, and
// has values ahead that are given out without a word in the log, is none of
// those.
func moved(all []counter) string {
	parts := make([]string, len(all))
	for i, c := range all {
		is := "NOT is_called"
		if !c.Called {
			is = "is_called"
		}
		parts[i] = fmt.Sprintf("SELECT %d FROM %s WHERE last_value <> %d OR %s OR log_cnt <> 0", i+1, c.Name, c.Last,
			is)
	}
	return strings.Join(parts, " UNION ALL ")
}

// counters reads where every sequence of a database stands, and whether each
// needs a transaction's number to move.
func counters(ctx context.Context, conn *pgx.Conn) (all []counter, quiet bool, err error) {
	rows, err := conn.Query(ctx, `SELECT format('%I.%I', n.nspname, c.relname), coalesce(pg_relation_filenode(c.oid), 0)::bigint, c.relpersistence = 'p' AND NOT (SELECT q.seqcycle FROM pg_sequence q WHERE q.seqrelid = c.oid), coalesce((SELECT format('%I.%I', tn.nspname, t.relname)
		FROM pg_depend d JOIN pg_class t ON t.oid = d.refobjid JOIN pg_namespace tn ON tn.oid = t.relnamespace WHERE d.classid = 'pg_class'::regclass AND d.objid = c.oid AND d.refclassid = 'pg_class'::regclass AND d.deptype IN ('a', 'i') LIMIT 1), '')
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind = 'S' AND c.relpersistence <> 't' AND c.oid >= 16384 ORDER BY 1`)
	if err != nil {
		return nil, false, err
	}
	quiet = true
	var c counter
	var logged bool
	var parts []string
	_, err = pgx.ForEachRow(rows, []any{&c.Name, &c.File, &logged, &c.Table}, func() error {
		all = append(all, c)
		parts = append(parts, "SELECT last_value, is_called, log_cnt FROM "+c.Name)
		quiet = quiet && logged
		return nil
	})
	if err != nil || all == nil {
		return all, quiet, err
	}
	rows, err = conn.Query(ctx, strings.Join(parts, " UNION ALL "))
	if err != nil {
		return nil, false, err
	}
	i := 0
	var ahead int64 // values that are given out without a word in the log
	_, err = pgx.ForEachRow(rows, []any{&c.Last, &c.Called, &ahead}, func() error {
		all[i].Last, all[i].Called = c.Last, c.Called
		quiet = quiet && ahead == 0
		i++
		return nil
	})
	return all, quiet, err
}

// hush makes every counter of a database need a transaction's number for its
// next value, which changes nothing else.
func hush(ctx context.Context, conn *pgx.Conn, all []counter) error {
	if len(all) == 0 {
		return nil
	}
	_, err := conn.Exec(ctx, sets(all), pgx.QueryExecModeSimpleProtocol)
	return err
}

// sets is the statement that puts sequences where they were.
func sets(all []counter) string {
	parts := make([]string, len(all))
	for i, c := range all {
		parts[i] = fmt.Sprintf("(%s, %d::bigint, %t)", literal(c.Name), c.Last, c.Called)
	}
	return "SELECT count(setval(name::regclass, value, called)) FROM (VALUES " + strings.Join(parts, ", ") +
		") AS put (name, value, called)"
}

// note takes a baseline of a database. With exact the map is to be believed:
// its catalogs are settled for that. Tables whose rows are known already, by
// their identifiers, are not counted.
func (s *server) note(ctx context.Context, conn *pgx.Conn, exact bool, known map[uint32]int64) (b baseline, err error) {
	b.Form = form
	if exact {
		_, failed := conn.Exec(ctx, visible)
		exact = failed == nil // else no contrib library
	}
	if exact {
		flush(ctx, conn)
		all, err := s.catalogs(ctx, conn)
		if err != nil {
			return b, err
		}
		names := make([]string, len(all))
		for i, c := range all {
			names[i] = "pg_catalog." + c.name
		}
		if _, err := conn.Exec(ctx, "VACUUM (INDEX_CLEANUP on) "+strings.Join(names, ", ")); err != nil {
			return b, err
		}
	}
	if b.Tables, err = listTables(ctx, conn); err != nil {
		return b, err
	}
	if b.Counters, b.Quiet, err = counters(ctx, conn); err != nil {
		return b, err
	}
	if !b.Quiet {
		if err := hush(ctx, conn, b.Counters); err != nil {
			return b, err
		}
		if _, b.Quiet, err = counters(ctx, conn); err != nil {
			return b, err
		}
	}
	if err := b.settled(ctx, conn, exact, known); err != nil {
		return b, err
	}
	if err := b.readCatalogs(ctx, conn, s); err != nil {
		return b, err
	}
	// What is written from here on has this number or a higher one.
	err = conn.QueryRow(ctx, "SELECT pg_snapshot_xmax(pg_current_snapshot())::text").Scan(&b.Next)
	return b, err
}

// forCopies is the baseline of copies of a database: they are vacuumed anew.
func (b baseline) forCopies() (json.RawMessage, error) {
	b.At = ""
	for _, all := range []*[]mark{&b.Tables, &b.Catalogs} {
		*all = slices.Clone(*all)
		for i, m := range *all {
			(*all)[i].Vacuums = min(m.Vacuums, 0)
		}
	}
	return json.Marshal(b)
}

const largeObjects = "pg_catalog.pg_largeobject"

// unwritten returns how many rows those tables of a baseline have of which the
// map of a copy of that database says that nobody wrote to them since; none
// where the map cannot be asked.
func unwritten(ctx context.Context, conn *pgx.Conn, b baseline) map[uint32]int64 {
	if _, err := conn.Exec(ctx, visible); err != nil || !b.Exact {
		return nil
	}
	rows, err := conn.Query(ctx, resized, columns(b.Tables)...)
	if err != nil {
		return nil
	}
	written, err := pgx.CollectRows(rows, pgx.RowTo[int])
	if err != nil {
		return nil // a table was dropped, for one
	}
	known := map[uint32]int64{}
	for i, m := range b.Tables {
		if !slices.Contains(written, i+1) {
			known[m.OID] = m.Count
		}
	}
	return known
}

// settled notes what the map says, or else how many rows there are.
func (b *baseline) settled(ctx context.Context, conn *pgx.Conn, exact bool, known map[uint32]int64) error {
	if exact {
		seen, err := observe(ctx, conn, b.Tables)
		if err != nil {
			return err
		}
		b.Exact = !slices.ContainsFunc(seen, func(m mark) bool { return m.Vacuums < 0 })
		b.Tables = seen
	}
	if !b.Exact {
		for i := range b.Tables {
			b.Tables[i].Vacuums = 0
		}
	}
	var ask []mark
	var places []int
	for i, m := range b.Tables {
		if count, ok := known[m.OID]; ok {
			b.Tables[i].Count, b.Tables[i].Rows = count, count > 0
			continue
		}
		ask, places = append(ask, m), append(places, i)
	}
	rows, err := conn.Query(ctx, rowsSince(ask, ""))
	if err != nil {
		return err
	}
	var i int
	var count, fresh int64
	_, err = pgx.ForEachRow(rows, []any{&i, &count, &fresh}, func() error {
		m := &b.Tables[places[i-1]]
		m.Count, m.Rows = count, count > 0
		return nil
	})
	return err
}

// rowsSince is a query that counts the rows of each table, and those that were
// written by a transaction after the one that the table's mark names, or else
// by next or a later one. It reads them all.
func rowsSince(all []mark, next string) string {
	var parts []string
	for i, m := range all {
		if m.Name == largeObjects {
			continue
		}
		newer := "false"
		switch {
		case m.Since != "":
			newer = fmt.Sprintf("age(xmin) < age('%s'::xid)", m.Since)
		case next != "":
			newer = fmt.Sprintf("age(xmin) <= age('%s'::xid)", next)
		}
		parts = append(parts, fmt.Sprintf("SELECT %d, count(*), count(*) FILTER (WHERE %s) FROM ONLY %s", i+1, newer,
			m.Name))
	}
	if parts == nil {
		return "SELECT 1, 0::bigint, 0::bigint WHERE false"
	}
	return strings.Join(parts, " UNION ALL ")
}

// errSchema says that a look found the schema changed.
var errSchema = errReplace{"the schema was changed"}

// gone reports whether an error says that something of the baseline is not
// there any more.
func gone(err error) bool {
	pg, ok := errors.AsType[*pgconn.PgError](err)
	return ok && slices.Contains([]string{"XX000", "42P01", "42703", "3F000", "42809"}, pg.Code)
}

// touched is what differs from a baseline, by its place there.
type touched struct {
	tables   []int
	counters []int
	catalogs []int        // that were written to, by their places, though the schema is the same
	idle     bool         // no transaction has been here
	at       wal.Position // in the log, of the moment that this is true of; 0 where there is none
}

func (t touched) nothing() bool { return len(t.tables)+len(t.counters) == 0 }

// compare asks what differs from a baseline. It fails with errReplace where
// that cannot be told, or is more than rows and counters.
func (d *database) compare(ctx context.Context, conn *pgx.Conn, base baseline) (t touched, err error) {
	t, ok, err := d.quick(ctx, conn, true, base)
	switch {
	case ok || err != nil:
		return t, err
	case base.Exact:
		t, err = d.pages(ctx, conn, base)
	default:
		t, err = d.rows(ctx, conn, base)
	}
	if gone(err) {
		err = errSchema
	}
	if err != nil {
		return t, err
	}
	return d.noticed(t, base)
}

// quick is compare as far as the numbers of transactions and the log tell,
// which takes no session inside the database; false where they do not. The
// moment that it is true of is noted, also where it cannot tell more.
func (d *database) quick(ctx context.Context, conn *pgx.Conn, inside bool, base baseline) (t touched, ok bool,
	err error) {
	id := d.id
	if inside && d.known {
		id = "" // the session is in that database, whatever it is called now
	}
	m, err := d.server.moment(ctx, conn, id, d.oid)
	if err == nil && id != "" && (m.oid == 0 || d.oid != 0 && m.oid != d.oid) {
		err = errGone
	}
	if err != nil {
		return t, false, err
	}
	if id != "" {
		d.oid, d.known = m.oid, inside
	}
	d.writers = m.writers
	// No transaction has been here since the last look, or since it was made, and
	// none is under way: the next number is that behind the last one that ended.
	birth, _, _ := strings.Cut(privateOf(d.facts).Birth, " ")
	if base.Quiet && m.writers == 0 &&
		(m.next == d.seen || m.oldest == m.next && d.born && birth == strconv.FormatInt(m.next-1, 10)) {
		return touched{idle: true}, true, nil
	}
	d.now = m
	if base.Exact {
		var took int64
		t, took, ok, err = d.logged(ctx, conn, inside, base, m)
		if took == m.next && m.oldest == m.next {
			d.now.next, d.now.oldest = took+1, took+1 // it was to learn this
		}
	}
	if !ok || err != nil {
		return touched{}, false, err
	}
	t, err = d.noticed(t, base)
	return t, true, err
}

// noticed notes of which moment it is true what was touched. Large objects
// cannot be put back row by row.
func (d *database) noticed(t touched, base baseline) (touched, error) {
	t.at = d.now.at
	if slices.ContainsFunc(t.tables, func(i int) bool { return base.Tables[i-1].Name == largeObjects }) {
		return t, errReplace{"large objects were changed"}
	}
	if !t.nothing() || len(t.catalogs) > 0 {
		return t, nil
	}
	d.clear = d.now.at
	// Nothing is written without a transaction's number, and none is under way
	// that had one before.
	if d.now.oldest == d.now.next && d.now.writers == 0 {
		d.seen = d.now.next
	}
	return t, nil
}

// sight gives the session the function that asks the visibility map.
func (d *database) sight(ctx context.Context, conn *pgx.Conn) error {
	if d.sighted {
		return nil
	}
	if _, err := conn.Exec(ctx, visible); err != nil {
		return errReplace{"the server lacks the extension pg_visibility"}
	}
	d.sighted = true
	return nil
}

// pages asks the visibility map of every table, and of the catalogs.
func (d *database) pages(ctx context.Context, conn *pgx.Conn, base baseline) (t touched, err error) {
	if err := d.sight(ctx, conn); err != nil {
		return t, err
	}
	all := slices.Concat(base.Tables, base.Catalogs)
	// Where this process sees the files it learns their sizes sooner.
	look, files := resized, d.files()
	if files != "" {
		look = differing
	}
	places, err := ask(ctx, conn, look, columns(all)...)
	if err == nil {
		err = d.moved(ctx, conn, base, &t)
	}
	if err != nil {
		return t, err
	}
	if files != "" {
		for _, p := range grown(files, all) {
			if !slices.Contains(places, p) {
				places = append(places, p)
			}
		}
	}
	slices.Sort(places)
	for _, p := range places {
		if p > len(base.Tables) {
			t.catalogs = append(t.catalogs, p-len(base.Tables)-1)
			continue
		}
		t.tables = append(t.tables, p)
	}
	if len(t.catalogs) > 0 {
		same, err := d.server.sameSchema(ctx, conn, base, t.catalogs)
		if err == nil && !same {
			err = errSchema
		}
		return t, err
	}
	return t, nil
}

// files is the folder with the files of the database, where this process can
// look at them.
func (d *database) files() string {
	if d.server.socket == "" || d.oid == 0 {
		return ""
	}
	folder := filepath.Join(d.server.socket, "data", "base", strconv.FormatUint(uint64(d.oid), 10))
	if d.filesOf != folder {
		d.filesOf = folder
		_, err := os.Stat(folder)
		d.filesSeen = err == nil
	}
	if !d.filesSeen {
		return ""
	}
	return folder
}

// grown lists, by their places, the tables whose files are not as long as
// noted, or not there. A table that is longer than one file has them numbered.
func grown(folder string, all []mark) (places []int) {
	const page, file = 8192, 1 << 30
	path := make([]byte, 0, len(folder)+24)
	for i, m := range all {
		path = strconv.AppendInt(append(append(path[:0], folder...), '/'), m.File, 10)
		want := m.Pages * page
		if want >= file {
			path = strconv.AppendInt(append(path, '.'), want/file, 10)
			want %= file
		}
		var st unix.Stat_t
		if unix.Stat(string(path), &st) != nil || st.Size != want {
			places = append(places, i+1)
		}
	}
	return places
}

// largerThan reports whether a table has more than so many pages, or other
// files than noted.
func largerThan(folder string, m mark, pages int64) bool {
	var st unix.Stat_t
	err := unix.Stat(filepath.Join(folder, strconv.FormatInt(m.File, 10)), &st)
	return err != nil || st.Size > pages*8192
}

// rows reads every row: those that a transaction since then wrote, and how
// many there are, tell what was touched where the map cannot be believed.
func (d *database) rows(ctx context.Context, conn *pgx.Conn, base baseline) (t touched, err error) {
	same, err := d.server.sameSchema(ctx, conn, base, nil)
	if err == nil && !same {
		err = errSchema
	}
	if err != nil {
		return t, err
	}
	var objects int64
	if err := conn.QueryRow(ctx, "SELECT count(*) FROM pg_largeobject_metadata").Scan(&objects); err != nil ||
		objects > 0 {
		return t, errors.Join(err, errReplace{"large objects may have been changed"})
	}
	if t.tables, err = differ(ctx, conn, base.Tables, base.Next); err == nil {
		err = d.moved(ctx, conn, base, &t)
	}
	return t, err
}

// differ reads every row of some tables, and lists, by their places from 1 on,
// those of which it tells that they are not as noted.
func differ(ctx context.Context, conn *pgx.Conn, all []mark, next string) (places []int, err error) {
	rows, err := conn.Query(ctx, rowsSince(all, next))
	if err != nil {
		return nil, err
	}
	var i int
	var count, fresh int64
	_, err = pgx.ForEachRow(rows, []any{&i, &count, &fresh}, func() error {
		if m := all[i-1]; count != m.Count || fresh > 0 || doubtful(m) {
			places = append(places, i)
		}
		return nil
	})
	return places, err
}

// moved asks which counters have moved.
func (d *database) moved(ctx context.Context, conn *pgx.Conn, base baseline, t *touched) (err error) {
	if q := d.movedOf(base); q != "" {
		t.counters, err = ask(ctx, conn, q)
	}
	return err
}

// ask runs a query, which the session keeps, for a list of places.
func ask(ctx context.Context, conn *pgx.Conn, sql string, args ...any) ([]int, error) {
	rows, err := conn.Query(ctx, sql, append([]any{pgx.QueryExecModeCacheStatement}, args...)...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[int])
}

// movedOf is moved, kept: the text is long, and the same as long as the start
// state is.
func (d *database) movedOf(base baseline) string {
	if !slices.Equal(d.countersOf, base.Counters) {
		d.countersOf, d.countersText = base.Counters, moved(base.Counters)
	}
	return d.countersText
}

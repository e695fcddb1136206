package witness

import (
	"cmp"
	"context"
	_ "embed"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine/postgres/pg"
)

// tablesSQL lists the tables of a baseline, that hold users' rows.
//
//go:embed sql/tables.sql
var tablesSQL string

// mapFunction gives a session the function that asks the visibility map, from
// the contrib library, in its own temporary schema: nothing of it is in the
// database.
const mapFunction = `CREATE OR REPLACE FUNCTION pg_temp.seen(regclass, OUT all_visible bigint,
		OUT all_frozen bigint) LANGUAGE c STRICT AS '$libdir/pg_visibility', 'pg_visibility_map_summary'`

// differing lists, by their place in a baseline, the tables that are not as
// they are there.
const differing = `SELECT b.i::int FROM unnest($1::oid[], $2::bigint[], $3::bigint[], $4::bigint[])
		WITH ORDINALITY AS b (id, file, pages, vacuums, i), pg_temp.seen(b.id) s
	WHERE s.all_visible <> b.pages OR coalesce(pg_stat_get_vacuum_count(b.id), 0) <> b.vacuums
		OR pg_relation_filenode(b.id) <> b.file`

// resized adds those whose size is another: the server takes long to find it.
const resized = differing + ` OR pg_relation_size(b.id) <> b.pages * current_setting('block_size')::bigint`

// differingNoted is resized by what the last VACUUM noted of the map, whoever it was: for roles
// that may not ask the map itself.
const differingNoted = `SELECT b.i::int FROM unnest($1::oid[], $2::bigint[], $3::bigint[], $4::bigint[])
		WITH ORDINALITY AS b (id, file, pages, vacuums, i) LEFT JOIN pg_class c ON c.oid = b.id
	WHERE c.oid IS NULL OR c.relallvisible <> b.pages OR b.vacuums < 0 OR pg_relation_filenode(b.id) <> b.file
		OR pg_relation_size(b.id) <> b.pages * current_setting('block_size')::bigint`

// marks reads tables as they are now, with the pages that are visible to all.
const marks = `SELECT pg_relation_filenode(b.id)::bigint,
		pg_relation_size(b.id) / current_setting('block_size')::bigint, coalesce(pg_stat_get_vacuum_count(b.id),
		0), s.all_visible
	FROM unnest($1::oid[]) WITH ORDINALITY AS b (id, i), pg_temp.seen(b.id) s ORDER BY b.i`

// marksNoted is marks by what the last VACUUM noted of the map.
const marksNoted = `SELECT pg_relation_filenode(b.id)::bigint,
		pg_relation_size(b.id) / current_setting('block_size')::bigint, 0::bigint, c.relallvisible::bigint
	FROM unnest($1::oid[]) WITH ORDINALITY AS b (id, i) JOIN pg_class c ON c.oid = b.id ORDER BY b.i`

// measure reads marks anew but for what the map says of them.
func measure(ctx context.Context, conn *pgx.Conn, all []Mark) ([]Mark, error) {
	const measures = `SELECT pg_relation_filenode(b.id)::bigint,
		pg_relation_size(b.id) / current_setting('block_size')::bigint, coalesce(pg_stat_get_vacuum_count(b.id),
		0)
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
func observe(ctx context.Context, conn *pgx.Conn, all []Mark) ([]Mark, error) {
	return observeBy(ctx, conn, marks, all)
}

func observeBy(ctx context.Context, conn *pgx.Conn, marks string, all []Mark) ([]Mark, error) {
	all = slices.Clone(all)
	rows, err := conn.Query(ctx, marks, columns(all)[0])
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for i := 0; rows.Next(); i++ {
		if i == len(all) {
			return nil, ErrSchema
		}
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

// DirtyTables names the tables with pages that are not visible to all.
func DirtyTables(ctx context.Context, conn *pgx.Conn) (names []string, err error) {
	if _, err := conn.Exec(ctx, mapFunction); err != nil {
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
func listTables(ctx context.Context, conn *pgx.Conn) ([]Mark, error) {
	rows, err := conn.Query(ctx, tablesSQL)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (m Mark, err error) {
		err = row.Scan(&m.Name, &m.OID, &m.Unlogged, &m.View, &m.File, &m.Pages, &m.Fires, &m.Aimed, &m.Leads)
		for i, name := range m.Leads {
			m.Leads[i] = pg.ShortName(name)
		}
		return m, err
	})
}

// Unwritten returns how many rows those tables and catalogs of a baseline have of which
// the map of a copy of that database says that nobody wrote to them since; none where the
// map cannot be asked.
func Unwritten(ctx context.Context, conn *pgx.Conn, b Baseline) map[uint32]int64 {
	if _, err := conn.Exec(ctx, mapFunction); err != nil || !b.Exact {
		return nil
	}
	all := slices.Concat(b.Tables, b.Catalogs)
	rows, err := conn.Query(ctx, resized, columns(all)...)
	if err != nil {
		return nil
	}
	written, err := pgx.CollectRows(rows, pgx.RowTo[int])
	if err != nil {
		return nil // a table was dropped, for one
	}
	known := map[uint32]int64{}
	for i, m := range all {
		if !slices.Contains(written, i+1) {
			known[m.OID] = m.Count
		}
	}
	return known
}

// Newer is the condition for rows that were written by a transaction after the one that a
// mark names, or else by next or a later one; next may be "" for none.
func (m *Mark) Newer(next string) string {
	switch {
	case m.Since != "":
		return fmt.Sprintf("age(xmin) < age('%s'::xid)", m.Since)
	case next != "":
		return fmt.Sprintf("age(xmin) <= age('%s'::xid)", next)
	}
	return never
}

// rowsSince is a query that counts the rows of each table, and those that were
// written by a transaction after the one that the table's mark names, or else
// by next or a later one. It reads them all.
func rowsSince(all []Mark, next string) (sql string, args []any) {
	var parts []string
	asked := false
	for i, m := range all {
		if m.Name == largeObjects {
			continue
		}
		newer := m.newerThan(i, next)
		asked = asked || newer != never
		parts = append(parts, fmt.Sprintf("SELECT %d, count(*), count(*) FILTER (WHERE %s) FROM ONLY %s", i+1,
			newer, m.Name))
	}
	if parts == nil {
		return "SELECT 1, 0::bigint, 0::bigint WHERE false", nil
	}
	if sql = strings.Join(parts, " UNION ALL "); asked {
		args = numbers(all, next)
	}
	return sql, args
}

// newerThan is Newer by the number that comes at a place from 0 on among those of numbers: the
// text stays the same, so that it is planned once, and the number's age is asked once.
func (m *Mark) newerThan(at int, next string) string {
	if m.Since == "" && next == "" {
		return never
	}
	return fmt.Sprintf("age(xmin) < (SELECT age(($1::text[])[%d]::xid) + ($2::int[])[%[1]d])", at+1)
}

// numbers are what newerThan compares with.
func numbers(all []Mark, next string) []any {
	since, more := make([]string, len(all)), make([]int32, len(all))
	for i, m := range all {
		if since[i] = m.Since; m.Since == "" {
			since[i], more[i] = cmp.Or(next, "3"), 1
		}
	}
	return []any{since, more}
}

// never is a condition for no row.
const never = "false"

// Differ reads every row of some tables, and lists, by their places from 1 on,
// those of which it tells that they are not as noted.
func Differ(ctx context.Context, conn *pgx.Conn, all []Mark, next string) (places []int, err error) {
	sql, args := rowsSince(all, next)
	rows, err := conn.Query(ctx, sql, args...)
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

// Ask runs a query, which the session keeps, for a list of places.
func Ask(ctx context.Context, conn *pgx.Conn, sql string, args ...any) ([]int, error) {
	rows, err := conn.Query(ctx, sql, append([]any{pgx.QueryExecModeCacheStatement}, args...)...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[int])
}

const largeObjects = "pg_catalog.pg_largeobject"

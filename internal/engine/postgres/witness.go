package postgres

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"
)

// baseline is what a database looked like to the witness when it was at its
// start state. A copy begins with that of its template: its files are the
// same.
type baseline struct {
	Next      string              `json:"next"`      // transaction's number, when it was noted
	Counts    string              `json:"counts"`    // of the rows of catalogs
	Relations string              `json:"relations"` // sum over pg_class
	Tables    map[string]mark     `json:"tables"`    // by name, as format('%I.%I') writes it
	Sequences map[string]position `json:"sequences"` // likewise
}

// mark is one table: whatever writes to it changes one of these, or leaves
// pages that are not visible to all.
type mark struct {
	File    int64 `json:"f"` // node
	Pages   int64 `json:"p"`
	Vacuums int64 `json:"v,omitempty"` // -1 where the table is not to be believed untouched
	Rows    bool  `json:"r,omitempty"` // it has some
}

type position struct {
	Last   int64 `json:"l"`
	Called bool  `json:"c,omitempty"`
}

// tested are the majors for which it was shown that what reads a table leaves
// the witness alone, and what writes to it does not.
var tested = []string{"15"}

// visible gives a session the function that asks the visibility map, from
// the contrib library, in its own temporary schema: nothing of it is in the
// database.
const visible = `CREATE FUNCTION pg_temp.seen(regclass, OUT all_visible bigint, OUT all_frozen bigint) LANGUAGE c STRICT AS '$libdir/pg_visibility', 'pg_visibility_map_summary'`

// users are the tables that hold users' rows.
const users = `c.relkind IN ('r', 'm') AND c.relpersistence <> 't' AND n.nspname NOT IN ('pg_catalog', 'information_schema', 'pg_toast')`

// glance reads every table's mark, and how many of its pages are visible to all.
const glance = `SELECT format('%I.%I', n.nspname, c.relname), coalesce(pg_relation_filenode(c.oid), 0)::bigint, pg_relation_size(c.oid) / current_setting('block_size')::bigint,
	coalesce(pg_stat_get_vacuum_count(c.oid), 0), (pg_temp.seen(c.oid)).all_visible
	FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE ` + users + ` OR c.oid = 'pg_largeobject'::regclass`

// catalogs are where a schema is written down, with the column that tells
// users' rows from the server's own, and what of them is a session's.
var catalogs = func() []struct{ table, id, but string } {
	const passing = "(SELECT oid FROM pg_class WHERE relpersistence = 't')"
	const own = "(SELECT oid FROM pg_namespace WHERE nspname ~ '^pg_(toast_)?temp_')"
	return []struct{ table, id, but string }{
		{"pg_attribute", "attrelid", "attrelid NOT IN " + passing}, {"pg_attrdef", "oid", "adrelid NOT IN " + passing}, {"pg_constraint", "oid", "conrelid NOT IN " + passing}, {"pg_index", "indexrelid", "indrelid NOT IN " + passing},
		{"pg_proc", "oid", "pronamespace NOT IN " + own}, {"pg_type", "oid", "typnamespace NOT IN " + own}, {"pg_trigger", "oid", "tgrelid NOT IN " + passing}, {"pg_rewrite", "ev_class", "ev_class NOT IN " + passing},
		{"pg_namespace", "oid", "oid NOT IN " + own}, {"pg_policy", "oid", ""}, {"pg_enum", "oid", ""}, {"pg_description", "objoid", ""}, {"pg_extension", "oid", ""},
		{"pg_sequence", "seqrelid", "seqrelid NOT IN " + passing}, {"pg_inherits", "inhrelid", "inhrelid NOT IN " + passing}, {"pg_default_acl", "oid", ""}, {"pg_statistic_ext", "oid", ""}, {"pg_operator", "oid", ""}, {"pg_cast", "oid", ""},
		{"pg_publication", "oid", ""}, {"pg_publication_rel", "oid", ""}, {"pg_event_trigger", "oid", ""}, {"pg_collation", "oid", ""}, {"pg_foreign_server", "oid", ""}, {"pg_ts_config", "oid", ""}, {"pg_largeobject_metadata", "oid", ""},
	}
}()

// counts is one text that changes when rows of catalogs come or go, and
// newer how many of them were written since a transaction's number: a row
// that was altered is one.
var counts, newer = func() (string, string) {
	var all, since []string
	for _, x := range catalogs {
		where := x.id + " >= 16384"
		if x.but != "" {
			where += " AND " + x.but
		}
		all = append(all, fmt.Sprintf("(SELECT count(*) FROM %s WHERE %s)", x.table, where))
		since = append(since, fmt.Sprintf("(SELECT count(*) FROM %s WHERE age(xmin) < age($1::text::xid) AND %s)", x.table, where))
	}
	return "SELECT concat_ws(' ', " + strings.Join(all, ", ") + ")", "SELECT " + strings.Join(since, " + ") + ", (SELECT count(*) FROM pg_class WHERE relpersistence <> 't' AND age(xmin) < age($1::text::xid))"
}()

// relations sums up pg_class without the state of the tables: a TRUNCATE
// writes a row of it too.
const relations = `SELECT concat(count(*), ':', bit_xor(hashtextextended(concat_ws(' ', oid, relname, relnamespace, reltype, relowner, relam, reltablespace, relhasindex, relpersistence, relkind, relnatts, relchecks, relhasrules, relhastriggers,
	relrowsecurity, relforcerowsecurity, relreplident, relispartition, relacl, reloptions, relpartbound), 0))) FROM pg_class WHERE oid >= 16384 AND relpersistence <> 't' AND relkind <> 't'`

// sameSchema reports whether the schema is that of a baseline.
func sameSchema(ctx context.Context, conn *pgx.Conn, base baseline) (bool, error) {
	var now string
	var written, classes int64
	if err := conn.QueryRow(ctx, newer, pgx.QueryExecModeCacheStatement, base.Next).Scan(&written, &classes); err != nil || written > 0 {
		return false, err
	}
	if err := conn.QueryRow(ctx, counts, pgx.QueryExecModeCacheStatement).Scan(&now); err != nil || now != base.Counts {
		return false, err
	}
	if classes == 0 {
		return true, nil
	}
	err := conn.QueryRow(ctx, relations, pgx.QueryExecModeCacheStatement).Scan(&now)
	return now == base.Relations, err
}

// observe reads what the witness sees, and which tables have pages that are
// not visible to all.
func observe(ctx context.Context, conn *pgx.Conn) (now baseline, unseen map[string]bool, err error) {
	now = baseline{Tables: map[string]mark{}, Sequences: map[string]position{}}
	unseen = map[string]bool{}
	rows, err := conn.Query(ctx, glance, pgx.QueryExecModeCacheStatement)
	if err != nil {
		return now, nil, err
	}
	for rows.Next() {
		var name string
		var m mark
		var all int64
		if err := rows.Scan(&name, &m.File, &m.Pages, &m.Vacuums, &all); err != nil {
			return now, nil, err
		}
		now.Tables[name] = m
		if all < m.Pages {
			unseen[name] = true
		}
	}
	if err := rows.Err(); err != nil {
		return now, nil, err
	}
	return now, unseen, nil
}

// sequences reads where every sequence stands.
func sequences(ctx context.Context, conn *pgx.Conn, names []string) (map[string]position, error) {
	at := map[string]position{}
	if len(names) == 0 {
		return at, nil
	}
	parts := make([]string, len(names))
	for i, n := range names {
		parts[i] = fmt.Sprintf("SELECT %s, last_value, is_called FROM %s", literal(n), n)
	}
	rows, err := conn.Query(ctx, strings.Join(parts, " UNION ALL "), pgx.QueryExecModeCacheStatement)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var name string
		var p position
		if err := rows.Scan(&name, &p.Last, &p.Called); err != nil {
			return nil, err
		}
		at[name] = p
	}
	return at, rows.Err()
}

// sequenceNames lists the sequences of a database.
func sequenceNames(ctx context.Context, conn *pgx.Conn) ([]string, error) {
	rows, err := conn.Query(ctx, "SELECT format('%I.%I', n.nspname, c.relname) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind = 'S' AND c.relpersistence <> 't' AND c.oid >= 16384")
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// note takes a baseline of a database that is at its start state; nil where
// some table has pages that are not visible to all: such a baseline would
// lie.
func note(ctx context.Context, conn *pgx.Conn) (json.RawMessage, error) {
	if _, err := conn.Exec(ctx, visible); err != nil {
		return nil, nil // no contrib library, or no right: the witness is not used
	}
	now, unseen, err := observe(ctx, conn)
	if err != nil || len(unseen) > 0 {
		return nil, err
	}
	for name, m := range now.Tables {
		if m.Pages > 0 && name != "pg_catalog.pg_largeobject" {
			m.Rows = some(ctx, conn, "ONLY "+name)
		}
		m.Vacuums = 0 // a copy counts anew
		now.Tables[name] = m
	}
	names, err := sequenceNames(ctx, conn)
	if err != nil {
		return nil, err
	}
	if now.Sequences, err = sequences(ctx, conn, names); err != nil {
		return nil, err
	}
	err = conn.QueryRow(ctx, counts).Scan(&now.Counts)
	if err == nil {
		err = conn.QueryRow(ctx, relations).Scan(&now.Relations)
	}
	if err == nil {
		// What is written from here on has this number or a higher one.
		err = conn.QueryRow(ctx, "SELECT pg_snapshot_xmax(pg_current_snapshot())::text").Scan(&now.Next)
	}
	if err != nil {
		return nil, err
	}
	return json.Marshal(now)
}

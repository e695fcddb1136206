package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
)

// catalog is a table in which a schema is written down.
type catalog struct {
	name    string
	oid     uint32
	columns []string // expressions for those that tell what is written down; others change by themselves
}

// passing says of some catalogs which of their rows belong to a session and go
// with it: those of temporary tables. Of any other catalog all rows count.
var passing = func() map[string]string {
	const relations = "(SELECT oid FROM pg_class WHERE relpersistence = 't')"
	const schemas = "(SELECT oid FROM pg_namespace WHERE nspname ~ '^pg_(toast_)?temp_')"
	all := map[string]string{
		"pg_class": "relpersistence = 't'", "pg_namespace": "oid IN " + schemas,
		"pg_proc": "pronamespace IN " + schemas, "pg_type": "typnamespace IN " + schemas,
		"pg_depend": "classid = 'pg_class'::regclass AND objid IN " + relations +
			" OR refclassid = 'pg_class'::regclass AND refobjid IN " + relations +
			" OR refclassid = 'pg_namespace'::regclass AND refobjid IN " + schemas +
			" OR classid = 'pg_type'::regclass AND objid IN (SELECT oid FROM pg_type WHERE typnamespace IN " + schemas +
			")",
		// of the schema public, with which they go
		"pg_init_privs":  "classoid = 'pg_namespace'::regclass AND objoid = 2200",
		"pg_description": "classoid = 'pg_class'::regclass AND objoid IN " + relations,
	}
	for table, column := range map[string]string{
		"pg_attribute": "attrelid", "pg_attrdef": "adrelid", "pg_constraint": "conrelid", "pg_index": "indrelid",
		"pg_trigger": "tgrelid", "pg_rewrite": "ev_class",
		"pg_sequence": "seqrelid", "pg_inherits": "inhrelid", "pg_policy": "polrelid", "pg_statistic_ext": "stxrelid",
		"pg_partitioned_table": "partrelid",
	} {
		all[table] = column + " IN " + relations
	}
	return all
}()

// restless are columns that change while nobody changes a schema: what VACUUM,
// ANALYZE, TRUNCATE and REINDEX note, and flags that are put back lazily.
var restless = map[string][]string{
	"pg_class": {"relfilenode", "relpages", "reltuples", "relallvisible", "relallfrozen", "relfrozenxid", "relminmxid",
		"relrewrite", "relhasindex", "relhasrules", "relhastriggers", "relhassubclass"},
	"pg_index": {"indcheckxmin"},
}

// catalogs lists the catalogs that can hold users' rows, as the server has
// them: pg_class is the first. Statistics are no schema, and the contents of
// large objects are looked at as those of tables are.
func (s *server) catalogs(ctx context.Context, conn *pgx.Conn) ([]catalog, error) {
	s.lists.Lock()
	defer s.lists.Unlock()
	if s.listOf != nil {
		return s.listOf, nil
	}
	rows, err := conn.Query(ctx, `SELECT c.relname::text, c.oid, array_agg(quote_ident(a.attname) || CASE WHEN a.atttypid = 'regproc'::regtype THEN '::oid' ELSE '' END ORDER BY a.attnum) FROM pg_class c JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped
		WHERE c.relnamespace = 'pg_catalog'::regnamespace AND c.relkind = 'r' AND NOT c.relisshared AND c.oid < 16384 AND c.relname NOT IN ('pg_statistic', 'pg_statistic_ext_data', 'pg_largeobject')
		AND has_table_privilege(c.oid, 'SELECT') GROUP BY c.relname, c.oid ORDER BY c.relname <> 'pg_class', c.relname`)
	if err != nil {
		return nil, err
	}
	all, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (c catalog, err error) {
		err = row.Scan(&c.name, &c.oid, &c.columns)
		c.columns = slices.DeleteFunc(c.columns,
			func(name string) bool { return slices.Contains(restless[c.name], name) })
		return c, err
	})
	if err != nil {
		return nil, fmt.Errorf("listing the catalogs: %w", err)
	}
	s.listOf = all
	return all, nil
}

// lasting is the condition for the rows of a catalog that stay.
func (c catalog) lasting() string {
	if but := passing[c.name]; but != "" {
		return "(" + but + ") IS NOT TRUE"
	}
	return "true"
}

// public is the oid of the schema of that name: it is another once somebody
// has dropped it and made it anew, which alone means nothing.
const public = "coalesce(to_regnamespace('public')::oid, 0)"

// row is an expression for all that a row of a catalog says.
func (c catalog) row() string {
	columns := make([]string, len(c.columns))
	for i, name := range c.columns {
		columns[i] = name
		switch {
		case c.name == "pg_namespace" && name == "oid":
			columns[i] = "nullif(oid, " + public + ")"
		case c.name == "pg_description" && name == "objoid":
			columns[i] = "CASE WHEN classoid = 'pg_namespace'::regclass THEN nullif(objoid, " + public +
				") ELSE objoid END"
		}
	}
	return "ROW(" + strings.Join(columns, ", ") + ")::text"
}

// sum is a query for how many rows a catalog has and a sum over them, the same
// in whatever order they are.
func (c catalog) sum(at int) string {
	return fmt.Sprintf("SELECT %d, concat_ws(' ', count(*), sum(hashtextextended(%s, 0)::numeric)) FROM "+
		"pg_catalog.%s WHERE %s", at, c.row(), c.name, c.lasting())
}

// catalogSums reads the sums of some catalogs, by their places.
func (s *server) catalogSums(ctx context.Context, conn *pgx.Conn, which []int) (map[int]string, error) {
	all, err := s.catalogs(ctx, conn)
	if err != nil {
		return nil, err
	}
	parts := make([]string, len(which))
	for i, at := range which {
		parts[i] = all[at].sum(at)
	}
	sums := map[int]string{}
	if len(parts) == 0 {
		return sums, nil
	}
	rows, err := conn.Query(ctx, strings.Join(parts, " UNION ALL "), pgx.QueryExecModeSimpleProtocol)
	if err != nil {
		return nil, err
	}
	var at int
	var sum string
	_, err = pgx.ForEachRow(rows, []any{&at, &sum}, func() error { sums[at] = sum; return nil })
	return sums, err
}

// places lists those of all catalogs.
func places(n int) []int {
	all := make([]int, n)
	for i := range all {
		all[i] = i
	}
	return all
}

// written is a query that counts, for each of some catalogs, by their place in
// the list, the rows that stay, and those that were written since the baseline
// was noted: a row that was altered is one.
func written(all []catalog, marks []mark, which []int, next string) string {
	parts := make([]string, len(which))
	for i, at := range which {
		newer := "false"
		switch {
		case marks != nil && marks[at].Since != "":
			newer = fmt.Sprintf("age(xmin) < age('%s'::xid)", marks[at].Since)
		case next != "":
			newer = fmt.Sprintf("age(xmin) <= age('%s'::xid)", next)
		}
		parts[i] = fmt.Sprintf("SELECT %d, count(*), count(*) FILTER (WHERE %s) FROM pg_catalog.%s WHERE %s", at, newer,
			all[at].name, all[at].lasting())
	}
	return strings.Join(parts, " UNION ALL ")
}

// sameSchema reports whether what some catalogs say, by their places, is as it
// was; nil means all of them. Of pg_class, of which TRUNCATE writes rows too,
// the sum is compared.
func (s *server) sameSchema(ctx context.Context, conn *pgx.Conn, base baseline, which []int) (same bool, err error) {
	all, err := s.catalogs(ctx, conn)
	if err != nil {
		return false, err
	}
	if len(all) != len(base.Catalogs) { // the server is another version than the one that the template was built on
		return false, nil
	}
	if which == nil {
		which = places(len(all))
	}
	classes := slices.Contains(which, 0)
	which = slices.DeleteFunc(slices.Clone(which), func(i int) bool { return i == 0 })
	same = true
	if len(which) > 0 {
		rows, err := conn.Query(ctx, written(all, base.Catalogs, which, base.Next), pgx.QueryExecModeSimpleProtocol)
		if err != nil {
			return false, err
		}
		var i int
		var count, since int64
		_, err = pgx.ForEachRow(rows, []any{&i, &count, &since}, func() error {
			same = same && count == base.Catalogs[i].Count && since == 0
			return nil
		})
		if err != nil || !same {
			return false, err
		}
	}
	if !classes {
		return same, nil
	}
	now, err := s.catalogSums(ctx, conn, []int{0})
	return err == nil && now[0] == base.Relations, err
}

// rewritten lists, by their places, the catalogs of which rows were written since
// a baseline, or have gone, and pg_class.
func (s *server) rewritten(ctx context.Context, conn *pgx.Conn, base baseline) (which []int, err error) {
	all, err := s.catalogs(ctx, conn)
	if err != nil {
		return nil, err
	}
	rows, err := conn.Query(ctx, written(all, base.Catalogs, places(len(all)), base.Next),
		pgx.QueryExecModeSimpleProtocol)
	if err != nil {
		return nil, err
	}
	var at int
	var count, since int64
	_, err = pgx.ForEachRow(rows, []any{&at, &count, &since}, func() error {
		if at == 0 || since > 0 || count != base.Catalogs[at].Count {
			which = append(which, at)
		}
		return nil
	})
	return which, err
}

// readCatalogs notes how many rows each catalog has, and what the map says of it.
func (b *baseline) readCatalogs(ctx context.Context, conn *pgx.Conn, s *server) error {
	all, err := s.catalogs(ctx, conn)
	if err != nil {
		return err
	}
	b.Catalogs = make([]mark, len(all))
	for i, c := range all {
		b.Catalogs[i] = mark{Name: c.name, OID: c.oid}
	}
	if b.Exact {
		if b.Catalogs, err = observe(ctx, conn, b.Catalogs); err != nil {
			return err
		}
	}
	rows, err := conn.Query(ctx, written(all, nil, places(len(all)), ""), pgx.QueryExecModeSimpleProtocol)
	if err != nil {
		return err
	}
	var i int
	var count, since int64
	_, err = pgx.ForEachRow(rows, []any{&i, &count, &since}, func() error {
		b.Catalogs[i].Count = count
		return nil
	})
	if err != nil {
		return err
	}
	sums, err := s.catalogSums(ctx, conn, []int{0})
	b.Relations = sums[0]
	return err
}

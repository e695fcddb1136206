package schema

import (
	"context"
	_ "embed"
	"fmt"
	"slices"
	"strings"
	"sync"

	"github.com/jackc/pgx/v5"
)

// catalogsSQL lists the catalogs that can hold users' rows.
//
//go:embed sql/catalogs.sql
var catalogsSQL string

// Catalog is a table in which a schema is written down.
type Catalog struct {
	Name    string
	OID     uint32
	columns []string // expressions for those that tell what is written down; others change by themselves
}

// Catalogs are the catalogs of one server, asked for once. Its methods may be
// called from several goroutines.
type Catalogs struct {
	mu  sync.Mutex // for what follows
	all []Catalog
}

// passing says of some catalogs which of their rows say nothing of a schema: those
// of temporary tables, which go with a session, and those of the tables in which the
// server keeps large values, which are others once a materialized view was
// refreshed. Of any other catalog all rows count.
var passing = func() map[string]string {
	const relations = "(SELECT oid FROM pg_class WHERE relpersistence = 't' OR relnamespace = 99)"
	const schemas = "(SELECT oid FROM pg_namespace WHERE nspname ~ '^pg_(toast_)?temp_')"
	all := map[string]string{
		"pg_class": "relpersistence = 't' OR relnamespace = 99", "pg_namespace": "oid IN " + schemas,
		"pg_proc": "pronamespace IN " + schemas, "pg_type": "typnamespace = 99 OR typnamespace IN " + schemas,
		"pg_depend": "classid = 'pg_class'::regclass AND objid IN " + relations +
			" OR refclassid = 'pg_class'::regclass AND refobjid IN " + relations +
			" OR refclassid = 'pg_namespace'::regclass AND refobjid IN " + schemas +
			" OR classid = 'pg_type'::regclass AND objid IN (SELECT oid FROM pg_type WHERE typnamespace = 99 OR " +
			"typnamespace IN " + schemas + ")",
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

// List lists the catalogs that can hold users' rows, as the server has
// them: pg_class is the first. Statistics are no schema, and the contents of
// large objects are looked at as those of tables are.
func (l *Catalogs) List(ctx context.Context, conn *pgx.Conn) ([]Catalog, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.all != nil {
		return l.all, nil
	}
	rows, err := conn.Query(ctx, catalogsSQL)
	if err != nil {
		return nil, err
	}
	all, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (c Catalog, err error) {
		err = row.Scan(&c.Name, &c.OID, &c.columns)
		c.columns = slices.DeleteFunc(c.columns,
			func(name string) bool { return slices.Contains(restless[c.Name], name) })
		return c, err
	})
	if err != nil {
		return nil, fmt.Errorf("listing the catalogs: %w", err)
	}
	l.all = all
	return all, nil
}

// Lasting is the condition for the rows of a catalog that stay.
func (c Catalog) Lasting() string {
	if but := passing[c.Name]; but != "" {
		return "(" + but + ") IS NOT TRUE"
	}
	return "true"
}

// public is the oid of the schema of that name: it is another once somebody
// has dropped it and made it anew, which alone means nothing.
const public = "coalesce(to_regnamespace('public')::oid, 0)"

// row is an expression for all that a row of a catalog says.
func (c Catalog) row() string {
	columns := make([]string, len(c.columns))
	for i, name := range c.columns {
		columns[i] = name
		switch {
		case c.Name == "pg_class" && name == "reltoastrelid": // its settings count
			columns[i] = "(SELECT concat(t.reloptions) FROM pg_class t WHERE t.oid = pg_class.reltoastrelid)"
		case c.Name == "pg_namespace" && name == "oid":
			columns[i] = "nullif(oid, " + public + ")"
		case c.Name == "pg_description" && name == "objoid":
			columns[i] = "CASE WHEN classoid = 'pg_namespace'::regclass THEN nullif(objoid, " + public +
				") ELSE objoid END"
		}
	}
	return "ROW(" + strings.Join(columns, ", ") + ")::text"
}

// sum is a query for how many rows a catalog has and a sum over them, the same
// in whatever order they are.
func (c Catalog) sum(at int) string {
	return fmt.Sprintf("SELECT %d, concat_ws(' ', count(*), sum(hashtextextended(%s, 0)::numeric)) FROM "+
		"pg_catalog.%s WHERE %s", at, c.row(), c.Name, c.Lasting())
}

// Sums reads the sums of some catalogs, by their places.
func (l *Catalogs) Sums(ctx context.Context, conn *pgx.Conn, which []int) (map[int]string, error) {
	all, err := l.List(ctx, conn)
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

// Places lists those of all catalogs.
func Places(n int) []int {
	all := make([]int, n)
	for i := range all {
		all[i] = i
	}
	return all
}

package witness

import (
	"context"
	_ "embed"
	"fmt"
	"hemzo/internal/engine/postgres/pg"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
)

// countersSQL lists the sequences of a database, with the table that each belongs to.
//
//go:embed sql/counters.sql
var countersSQL string

// Moved is a query for the counters that are not where they were, by their
// place in a baseline; "" where there are none. One that is there again, and
// has values ahead that are given out without a word in the log, is none of
// those.
func Moved(all []Counter) string {
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
func counters(ctx context.Context, conn *pgx.Conn) (all []Counter, quiet bool, err error) {
	rows, err := conn.Query(ctx, countersSQL)
	if err != nil {
		return nil, false, err
	}
	quiet = true
	var c Counter
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

// pinCounters makes every counter of a database need a transaction's number for its
// next value, which changes nothing else.
func pinCounters(ctx context.Context, conn *pgx.Conn, all []Counter) error {
	if len(all) == 0 {
		return nil
	}
	_, err := conn.Exec(ctx, PutCounters(all), pgx.QueryExecModeSimpleProtocol)
	return err
}

// PutCounters is the statement that puts sequences where they were.
func PutCounters(all []Counter) string {
	parts := make([]string, len(all))
	for i, c := range all {
		parts[i] = fmt.Sprintf("(%s, %d::bigint, %t)", pg.Literal(c.Name), c.Last, c.Called)
	}
	return "SELECT count(setval(name::regclass, value, called)) FROM (VALUES " + strings.Join(parts, ", ") +
		") AS put (name, value, called)"
}

// filed is a baseline with the files that everything has now.
func filed(ctx context.Context, conn *pgx.Conn, b Baseline) (Baseline, error) {
	var err error
	for _, all := range []*[]Mark{&b.Tables, &b.Catalogs} {
		ids := make([]uint32, len(*all))
		for i, m := range *all {
			ids[i] = m.OID
		}
		rows, failed := conn.Query(ctx, "SELECT coalesce(pg_relation_filenode(b.id), 0)::bigint FROM "+
			"unnest($1::oid[]) WITH ORDINALITY AS b (id, i) ORDER BY b.i", ids)
		if failed != nil {
			return b, failed
		}
		files, failed := pgx.CollectRows(rows, pgx.RowTo[int64])
		if failed != nil {
			return b, failed
		}
		*all = slices.Clone(*all)
		for i := range *all {
			(*all)[i].File = files[i]
		}
	}
	b.Counters, err = refiled(ctx, conn, b.Counters)
	return b, err
}

// sameFiles reports whether everything has the files of a baseline still.
func sameFiles(a, b Baseline) bool {
	file := func(x, y Mark) bool { return x.File == y.File }
	return slices.EqualFunc(a.Tables, b.Tables, file) && slices.EqualFunc(a.Catalogs, b.Catalogs, file) &&
		slices.EqualFunc(a.Counters, b.Counters, func(x, y Counter) bool { return x.File == y.File })
}

// refiled reads the files of the counters anew.
func refiled(ctx context.Context, conn *pgx.Conn, all []Counter) ([]Counter, error) {
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

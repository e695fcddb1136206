package witness

import (
	"context"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
)

// Take takes a baseline of a database. With exact the map is to be believed:
// its catalogs are settled for that. Tables and catalogs whose rows are known already, by
// their identifiers, are neither settled nor counted.
func (s *Server) Take(ctx context.Context, conn *pgx.Conn, exact bool, known map[uint32]int64) (b Baseline, err error) {
	b.Form = Form
	if exact {
		_, failed := conn.Exec(ctx, mapFunction)
		exact = failed == nil // else no contrib library
	}
	if exact {
		flushCommits(ctx, conn)
		all, err := s.Catalogs.List(ctx, conn)
		if err != nil {
			return b, err
		}
		var names []string
		for _, c := range all {
			if _, unwritten := known[c.OID]; !unwritten {
				names = append(names, "pg_catalog."+c.Name)
			}
		}
		if names == nil {
			names = []string{"pg_catalog.pg_class"} // without a name it would be everything
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
		if err := pinCounters(ctx, conn, b.Counters); err != nil {
			return b, err
		}
		if _, b.Quiet, err = counters(ctx, conn); err != nil {
			return b, err
		}
	}
	if err := b.settled(ctx, conn, exact, known); err != nil {
		return b, err
	}
	if err := b.readCatalogs(ctx, conn, s, known); err != nil {
		return b, err
	}
	// What is written from here on has this number or a higher one.
	err = conn.QueryRow(ctx, "SELECT pg_snapshot_xmax(pg_current_snapshot())::text").Scan(&b.Next)
	return b, err
}

// settled notes what the map says, or else how many rows there are.
func (b *Baseline) settled(ctx context.Context, conn *pgx.Conn, exact bool, known map[uint32]int64) error {
	if exact {
		seen, err := observe(ctx, conn, b.Tables)
		if err != nil {
			return err
		}
		b.Exact = !slices.ContainsFunc(seen, func(m Mark) bool { return m.Vacuums < 0 })
		b.Tables = seen
	}
	if !b.Exact {
		for i := range b.Tables {
			b.Tables[i].Vacuums = 0
		}
	}
	var ask []Mark
	var places []int
	for i, m := range b.Tables {
		if count, ok := known[m.OID]; ok {
			b.Tables[i].Count, b.Tables[i].Rows = count, count > 0
			continue
		}
		ask, places = append(ask, m), append(places, i)
	}
	sql, args := rowsSince(ask, "")
	rows, err := conn.Query(ctx, sql, args...)
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

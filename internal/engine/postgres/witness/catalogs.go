package witness

import (
	"context"
	"fmt"
	"hemzo/internal/engine/postgres/schema"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
)

// written is a query that counts, for each of some catalogs, by their place in
// the list, the rows that stay, and those that were written since the baseline
// was noted: a row that was altered is one.
func written(all []schema.Catalog, marks []Mark, which []int, next string) (sql string, args []any) {
	parts := make([]string, len(which))
	if marks == nil {
		marks = make([]Mark, len(all))
	}
	asked := false
	for i, at := range which {
		newer := marks[at].newerThan(at, next)
		asked = asked || newer != never
		parts[i] = fmt.Sprintf("SELECT %d, count(*), count(*) FILTER (WHERE %s) FROM pg_catalog.%s WHERE %s", at,
			newer, all[at].Name, all[at].Lasting())
	}
	if sql = strings.Join(parts, " UNION ALL "); asked {
		args = numbers(marks, next)
	}
	return sql, args
}

// Same reports whether what some catalogs say, by their places, is as it
// was; nil means all of them. Of pg_class, of which TRUNCATE writes rows too,
// the sum is compared.
func (s *Server) Same(ctx context.Context, conn *pgx.Conn, base Baseline, which []int) (same bool, err error) {
	all, err := s.Catalogs.List(ctx, conn)
	if err != nil {
		return false, err
	}
	if len(all) != len(base.Catalogs) { // the server is another version than the one that the template was built on
		return false, nil
	}
	if which == nil {
		which = schema.Places(len(all))
	}
	classes := slices.Contains(which, 0)
	which = slices.DeleteFunc(slices.Clone(which), func(i int) bool { return i == 0 })
	same = true
	if len(which) > 0 {
		sql, args := written(all, base.Catalogs, which, base.Next)
		rows, err := conn.Query(ctx, sql, args...)
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
	now, err := s.Catalogs.Sums(ctx, conn, []int{0})
	return err == nil && now[0] == base.Relations, err
}

// Rewritten lists, by their places, the catalogs of which rows were written since
// a baseline, or have gone, and pg_class.
func (s *Server) Rewritten(ctx context.Context, conn *pgx.Conn, base Baseline) (which []int, err error) {
	all, err := s.Catalogs.List(ctx, conn)
	if err != nil {
		return nil, err
	}
	sql, args := written(all, base.Catalogs, schema.Places(len(all)), base.Next)
	rows, err := conn.Query(ctx, sql, args...)
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
func (b *Baseline) readCatalogs(ctx context.Context, conn *pgx.Conn, s *Server, known map[uint32]int64) error {
	all, err := s.Catalogs.List(ctx, conn)
	if err != nil {
		return err
	}
	b.Catalogs = make([]Mark, len(all))
	for i, c := range all {
		b.Catalogs[i] = Mark{Name: c.Name, OID: c.OID}
	}
	look := measure // the log needs their files
	if b.Exact {
		look = observe
	}
	if b.Catalogs, err = look(ctx, conn, b.Catalogs); err != nil {
		return err
	}
	if !b.Exact {
		for i := range b.Catalogs {
			b.Catalogs[i].Vacuums = 0
		}
	}
	which := []int{0} // at least one: of pg_class the sum is wanted too
	for i, c := range all {
		count, unwritten := known[c.OID]
		if b.Catalogs[i].Count = count; !unwritten && i > 0 {
			which = append(which, i)
		}
	}
	sql, args := written(all, nil, which, "")
	rows, err := conn.Query(ctx, sql, args...)
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
	sums, err := s.Catalogs.Sums(ctx, conn, []int{0})
	b.Relations = sums[0]
	return err
}

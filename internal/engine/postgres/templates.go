package postgres

import (
	"context"
	"encoding/json"
	"fmt"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/engine/postgres/witness"
)

// rememberInherited remembers the baseline of the template that a work was copied from: what
// is not written to meanwhile need not be counted again.
func (s *server) rememberInherited(work string, from engine.Entry) {
	s.works.Lock()
	defer s.works.Unlock()
	delete(s.inherited, work)
	var b witness.Baseline
	if from.Facts.Baseline == nil || json.Unmarshal(from.Facts.Baseline, &b) != nil || b.Form != witness.Form {
		return
	}
	if s.inherited == nil {
		s.inherited = map[string]witness.Baseline{}
	}
	s.inherited[work] = b
}

// takeInherited returns what grow remembers, and forgets it.
func (s *server) takeInherited(work string) (below witness.Baseline, ok bool) {
	s.works.Lock()
	defer s.works.Unlock()
	below, ok = s.inherited[work]
	delete(s.inherited, work)
	return below, ok
}

// freezeTemplate marks every page of a finished template as seen by all, and counts
// its rows: copies of it need neither.
func (s *server) freezeTemplate(ctx context.Context, id string) (carry, base json.RawMessage, err error) {
	conn, err := s.dial(ctx, id, "")
	if err != nil {
		return nil, nil, fmt.Errorf("settling %s: %w", id, err)
	}
	defer conn.Close(ctx)
	var known map[uint32]int64
	below, ok := s.takeInherited(id)
	if ok && s.exact() {
		known = witness.Unwritten(ctx, conn, below)
	}
	err = s.vacuumTemplate(ctx, conn, id)
	if err == nil {
		if _, err = conn.Exec(ctx, "SET row_security = off"); err == nil {
			var b witness.Baseline
			if b, err = s.witness.Take(ctx, conn, s.exact() || s.mayKeep(ctx, s.readRetrying), known); err == nil {
				base, err = b.ForCopies()
			}
		}
		// rows that this role may not see: what is touched cannot be told
		if pg.State(err) == pg.InsufficientPrivilege {
			base, err = nil, nil
		}
	}
	if err != nil {
		return nil, nil, fmt.Errorf("settling %s: %w", id, err)
	}
	items, err := s.level(ctx, conn, pg.Literal(id))
	if err != nil {
		return nil, base, err
	}
	c := carryOf(items)
	if c.Unlogged, err = filledUnlogged(ctx, conn); err != nil || c.empty() {
		return nil, base, err
	}
	carry, err = json.Marshal(c)
	return carry, base, err
}

func (s *server) vacuumTemplate(ctx context.Context, conn *pgx.Conn, id string) error {
	// What came with the layer below has been settled there.
	const fresh = `SELECT format('%I.%I', n.nspname, c.relname) FROM pg_class c JOIN pg_namespace n ON n.oid
		= c.relnamespace
		WHERE c.relkind IN ('r', 'm') AND c.relpersistence <> 't' AND n.nspname NOT IN ('pg_catalog',
			'information_schema', 'pg_toast')
		AND (c.reltuples < 0 OR pg_stat_get_tuples_inserted(c.oid) + pg_stat_get_tuples_updated(c.oid)
			+ pg_stat_get_tuples_deleted(c.oid) > 0)
		ORDER BY pg_stat_get_tuples_inserted(c.oid) DESC, c.oid`
	rows, err := conn.Query(ctx, fresh)
	if err != nil {
		return err
	}
	tables, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return err
	}
	all, ctx := errgroup.WithContext(ctx)
	for i, part := range splitForTwo(tables) {
		all.Go(func() error {
			if i == 0 {
				return witness.Vacuum(ctx, conn, part)
			}
			other, err := s.dial(ctx, id, "")
			if err != nil {
				return err
			}
			defer other.Close(ctx)
			return witness.Vacuum(ctx, other, part)
		})
	}
	return all.Wait()
}

// splitForTwo deals many tables out to two sessions, few to one.
func splitForTwo(tables []string) [][]string {
	if len(tables) < 8 {
		return [][]string{tables}
	}
	parts := make([][]string, 2)
	for i, t := range tables {
		parts[i%2] = append(parts[i%2], t)
	}
	return parts
}

// Whole reports whether facts can be believed; nobody can connect to a
// template and change it.
func (s *server) IsIntact(_ context.Context, e engine.Entry) (bool, error) { return !e.Bad, nil }

// Tables reads the tables and their foreign keys from the baseline.
func (s *server) Tables(_ context.Context, e engine.Entry) (map[string][]string, error) {
	var b witness.Baseline
	if e.Facts.Baseline == nil || json.Unmarshal(e.Facts.Baseline, &b) != nil {
		return nil, nil
	}
	all := map[string][]string{}
	for _, m := range b.Tables {
		all[pg.ShortName(m.Name)] = m.Leads
	}
	return all, nil
}

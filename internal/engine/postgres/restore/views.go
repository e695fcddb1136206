package restore

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/engine/postgres/witness"
)

// refresh computes materialized views again, once the tables below them are as they
// were, and compares each with the start state: its rows cannot be written to.
func (s *Session) refresh(ctx context.Context, conn *pgx.Conn, p *Plan) error {
	if len(p.Views) == 0 {
		return nil
	}
	reference, err := s.from(ctx, p.Start)
	if err != nil {
		return err
	}
	// What reads another view was made after it.
	views := slices.SortedFunc(slices.Values(p.Views),
		func(a, b int) int { return int(p.Base.Tables[a].OID) - int(p.Base.Tables[b].OID) })
	for _, at := range views {
		m := p.Base.Tables[at]
		want, err := sumView(ctx, reference, m.Name)
		if err != nil {
			return fmt.Errorf("reading the view %s of the start state: %w", m.Name, err)
		}
		before, err := sumView(ctx, conn, m.Name)
		if err != nil {
			return cannotRefresh(m, err)
		}
		if _, err := conn.Exec(ctx, "REFRESH MATERIALIZED VIEW "+m.Name+want.data()); err != nil {
			return cannotRefresh(m, err)
		}
		after, err := sumView(ctx, conn, m.Name)
		if err != nil {
			return cannotRefresh(m, err)
		}
		if after.sum != want.sum {
			return witness.Cannot{Why: "the materialized view " + pg.ShortName(m.Name) +
				" holds something else when it is refreshed"}
		}
		done := engine.TableReport{Name: pg.ShortName(m.Name)}
		if before.sum != after.sum {
			done.Removed, done.PutBack = before.rows, after.rows
		}
		p.Report.Tables = append(p.Report.Tables, done)
	}
	return nil
}

// view is what a materialized view holds.
type view struct {
	populated bool
	rows      int64
	sum       string // the same whatever the order of the rows is
}

func (v view) data() string {
	if v.populated {
		return ""
	}
	return " WITH NO DATA"
}

func sumView(ctx context.Context, conn *pgx.Conn, name string) (v view, err error) {
	err = conn.QueryRow(ctx, "SELECT relispopulated FROM pg_class WHERE oid = $1::regclass", name).Scan(&v.populated)
	if err != nil || !v.populated {
		return v, err
	}
	err = conn.QueryRow(ctx, "SELECT count(*), concat_ws(' ', count(*), sum(hashtextextended(t::text, 0)::numeric)) FROM "+
		name+" t").Scan(&v.rows, &v.sum)
	return v, err
}

// cannotRefresh leaves to a replacement what cannot be computed again here: the owner
// is another role, somebody reads the view, or what it calls fails.
func cannotRefresh(m witness.Mark, err error) error {
	if state := pg.State(err); state != "" && !strings.HasPrefix(state, "57") {
		return witness.Cannot{Why: "the materialized view " + pg.ShortName(m.Name) + " was refreshed, and cannot be again (" +
			pg.Message(err) + ")"}
	}
	return errors.Join(fmt.Errorf("refreshing %s", m.Name), err)
}

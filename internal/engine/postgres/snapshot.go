package postgres

import (
	"context"
	"encoding/json"
	"fmt"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/engine/postgres/witness"
)

// Keep makes a snapshot; nobody may be connected meanwhile. The pages of this
// database are settled first, so that the snapshot and this database have a
// baseline in common.
func (d *database) Snapshot(ctx context.Context, to string, facts engine.Facts) (base json.RawMessage, err error) {
	defer d.use()()
	if err := d.Close(); err != nil {
		return nil, err
	}
	end := time.Now().Add(d.session.Wait)
	if err := d.vacate(ctx, end); err != nil {
		return nil, err
	}
	var now *witness.Baseline
	if facts.Of != "" {
		if now, facts.Baseline, err = d.captureBaseline(ctx); err != nil {
			return nil, err
		}
	}
	if err := d.copyBefore(ctx, to, facts, end); err != nil {
		return nil, err
	}
	if now != nil {
		return d.commonBaseline(ctx, to, *now)
	}
	return nil, nil
}

// vacate waits until nobody is connected, at most until end. Hemzo's own idle
// sessions step aside: they come again at need.
func (d *database) vacate(ctx context.Context, end time.Time) error {
	const connected = "FROM pg_stat_activity WHERE datname = $1 AND " + pg.OfClient + " AND pid <> pg_backend_pid()"
	aside := connected + " AND application_name = 'hemzo' AND (state = 'idle' OR state = 'idle in transaction' AND " +
		"query IN (" + pg.Literal(lookEnd) + ", " + pg.Literal(beginKeeping) + ", " + pg.Literal(beginNumbered) + "))"
	if d.session.Force {
		aside = connected
	}
	for pause := time.Millisecond; ; pause = min(pause*2, 50*time.Millisecond) {
		ended, err := d.server.queryInt(ctx, "SELECT coalesce(sum((pg_terminate_backend(pid) AND application_name <> "+
			"'hemzo')::int), 0) "+aside, d.id)
		if err != nil {
			return fmt.Errorf("ending the sessions of %s: %w", d.id, err)
		}
		if ended > 0 && d.session.Ended != nil {
			d.session.Ended()
		}
		n, err := d.server.queryInt(ctx, "SELECT count(*) "+connected, d.id)
		if err != nil || n == 0 {
			return err
		}
		if time.Now().After(end) {
			return d.inUse(ctx)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
	}
}

// copyBefore copies the database. The server waits by itself for sessions that
// came meanwhile, some seconds: it does so until end at most.
func (d *database) copyBefore(ctx context.Context, to string, facts engine.Facts, end time.Time) error {
	limited, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	watch := time.AfterFunc(time.Until(end), func() {
		for limited.Err() == nil {
			clients, err := d.server.Clients(limited, d.id)
			if err == nil && len(clients) > 0 {
				stop(d.inUse(limited))
				return
			}
			time.Sleep(20 * time.Millisecond)
		}
	})
	defer watch.Stop()
	err := d.server.Copy(limited, d.id, to, facts)
	if cause := context.Cause(limited); err != nil && cause != nil && ctx.Err() == nil {
		return cause
	}
	if pg.State(err) == pg.ObjectInUse {
		return d.inUse(ctx)
	}
	return err
}

// inUse names who is connected.
func (d *database) inUse(ctx context.Context) error {
	all, _ := d.server.Clients(ctx, d.id)
	return engine.InTheWay(all, d.session.Wait,
		"close these connections, end them with --force, or give more time with --wait", "the copy is in use")
}

// commonBaseline is the baseline that this database and its snapshot have in commonBaseline:
// none where somebody came while it was made.
func (d *database) commonBaseline(ctx context.Context, to string, now witness.Baseline) (json.RawMessage, error) {
	d.setBaseline(now, nil)
	t, err := d.compareRetrying(ctx, now)
	if err == nil && t.Nothing() {
		return json.Marshal(now)
	}
	return nil, d.server.UpdateFacts(ctx, to, func(f *engine.Facts) { f.Baseline = nil })
}

// captureBaseline settles the database and notes a baseline of it as it is now, and
// that of its copies; nil where somebody is at work in it.
func (d *database) captureBaseline(ctx context.Context) (*witness.Baseline, json.RawMessage, error) {
	conn, err := d.server.dial(ctx, d.id, "")
	if err != nil {
		return nil, nil, fmt.Errorf("connecting to %s: %w", d.id, err)
	}
	defer conn.Close(ctx)
	take := d.takeCounting
	if d.server.exact() {
		take = d.takeSettled
	}
	b, quiet, err := take(ctx, conn)
	if pg.State(err) == pg.InsufficientPrivilege { // rows that this role may not see
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, fmt.Errorf("settling %s: %w", d.id, err)
	}
	if !quiet {
		return nil, nil, nil
	}
	raw, err := b.ForCopies()
	return &b, raw, err
}

// takeSettled takes a baseline for the map; not quiet says that somebody is at work.
func (d *database) takeSettled(ctx context.Context, conn *pgx.Conn) (b witness.Baseline, quiet bool, err error) {
	dirty, err := witness.DirtyTables(ctx, conn)
	if err == nil {
		err = witness.Vacuum(ctx, conn, dirty)
	}
	if err == nil {
		b, err = d.server.witness.Take(ctx, conn, true, nil)
	}
	return b, b.Exact, err
}

// takeCounting takes a baseline whose rows are counted. Whoever writes later has the
// number that is noted, or a higher one: nobody has a lower one at a moment after
// it was asked for.
func (d *database) takeCounting(ctx context.Context, conn *pgx.Conn) (b witness.Baseline, quiet bool, err error) {
	if _, err := conn.Exec(ctx, "SET row_security = off"); err != nil {
		return b, false, err
	}
	m, err := d.server.witness.Moment(ctx, conn, d.id, 0)
	if err != nil {
		return b, false, err
	}
	writers, err := d.countWriters(ctx)
	if err == nil {
		b, err = d.server.witness.Take(ctx, conn, false, nil)
	}
	b.Next = strconv.FormatInt(m.Next, 10)
	return b, writers == 0, err
}

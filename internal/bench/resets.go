package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"hemzo/internal/copies"
	"hemzo/internal/engine"
	"hemzo/internal/engine/all"
	"hemzo/internal/place"
	"hemzo/internal/project"
	"hemzo/internal/reset"
	"hemzo/internal/template"
)

// held is a copy that is reset in this process, as a suite's is, and the
// suite's own connection to it.
type held struct {
	*reset.Session
	scoped copies.ScopedServer
	plan   *template.Plan
	copied engine.Entry
	client *pgconn.PgConn
}

// hold takes a copy of a project's database and opens it.
func (b bench) hold(ctx context.Context, root string) (*held, error) {
	p, err := project.Read(filepath.Join(root, project.FileName), "", os.LookupEnv)
	if err != nil {
		return nil, err
	}
	e, err := all.Named(p.Databases[0].Engine)
	if err != nil {
		return nil, err
	}
	scope := copies.ScopeOf(p.Root)
	plan, err := template.Read(ctx, p, &p.Databases[0], e, scope)
	if err != nil {
		return nil, err
	}
	server, err := place.Open(ctx, e, place.Wanted{Database: p.Databases[0].Name, Where: p.Databases[0].Where,
		URL: p.Databases[0].URL, Spec: template.Spec(&p.Databases[0])})
	if err != nil {
		return nil, err
	}
	h := &held{scoped: copies.ScopedServer{Server: server, Scope: scope}, plan: plan}
	taken, err := h.scoped.Take(ctx, copies.Request{Plan: plan, Layer: plan.Head()})
	if err != nil {
		return nil, err
	}
	h.copied = taken.Copy
	if h.Session, err = reset.Open(ctx, server, taken.Copy, time.Second); err != nil {
		return nil, err
	}
	return h, h.connect(ctx)
}

func (h *held) connect(ctx context.Context) (err error) {
	h.client, err = pgconn.Connect(ctx, h.scoped.Server.Connection(h.copied.ID, h.copied.Facts).URL)
	return err
}

func (h *held) end(ctx context.Context) error {
	return errors.Join(h.client.Close(ctx), h.Close(), h.scoped.Drop(ctx, h.copied, true), h.scoped.Server.Close())
}

// timed resets n times, each after some work, and returns the middle time.
func (h *held) timed(ctx context.Context, n int, want engine.Way, work func(i int) error) (time.Duration, error) {
	var all []time.Duration
	for i := range n + 3 {
		if err := work(i); err != nil {
			return 0, err
		}
		began := time.Now()
		r, err := h.Do(ctx, reset.Options{})
		took := time.Since(began)
		if err != nil {
			return 0, err
		}
		if r.Way != want {
			return 0, fmt.Errorf("a reset by %q (%s), wanted %q", r.Way, r.Why, want)
		}
		if i >= 3 {
			all = append(all, took)
		}
		// The next test's own work, while what follows the answer is done.
		for next := time.Now(); time.Since(next) < 15*time.Millisecond; {
			if err := h.run(ctx, "SELECT 1"); err != nil {
				return 0, err
			}
		}
	}
	return middle(all), nil
}

func (h *held) run(ctx context.Context, sql string) error {
	_, err := h.client.Exec(ctx, sql).ReadAll()
	return err
}

// five touches five tables, twenty rows each.
func (h *held) five(ctx context.Context) error {
	var sql strings.Builder
	for i := range 5 {
		fmt.Fprintf(&sql, "INSERT INTO hive_%d (label) SELECT 'new ' || g FROM generate_series(1, 20) g;", 4*i+1)
	}
	return h.run(ctx, sql.String())
}

// resets measures resets inside one process, raw SQL on a kept connection
// beside each.
func (b bench) resets() error {
	ctx := context.Background()
	os.Setenv("HEMZO_PROGRAM", b.program)
	defer func() { _, _ = place.Stop(ctx, all.Engines(), true) }()
	root := filepath.Join(b.dir, "resets")
	if _, err := b.schema(root, 100); err != nil {
		return err
	}
	h, err := b.hold(ctx, root)
	if err != nil {
		return err
	}
	five, err := b.inPlace(ctx, h)
	if err != nil {
		return err
	}
	if err := b.whole(ctx, h); err != nil {
		return err
	}
	if err := h.end(ctx); err != nil {
		return err
	}
	if _, err := b.command(b.program, "take", "--project", root, "--as", "whole")(); err != nil {
		return err
	}
	got, err := median(15, b.command(b.program, "reset", "-q", "--project", root, "whole"))
	if err != nil {
		return err
	}
	bare, err := median(15, b.command(b.program, "version"))
	if err != nil {
		return err
	}
	line("hemzo reset NAME, nothing touched", got, "hemzo version", bare, "<= 30 ms", got <= 30*time.Millisecond)
	if _, err := b.command(b.program, "drop", "--project", root, "whole")(); err != nil {
		return err
	}
	for _, other := range []struct {
		name   string
		tables int
		rows   int
		limit  float64
	}{{"500 tables", 500, 3000, 1.5}, {"500 MB of untouched rows", 170, 36000, 1.1}} {
		root := filepath.Join(b.dir, strings.Fields(other.name)[1]+"-resets")
		if _, err := b.schemaOf(root, 20, other.tables, other.rows); err != nil {
			return err
		}
		h, err := b.hold(ctx, root)
		if err != nil {
			return err
		}
		got, err := h.timed(ctx, 40, engine.Truncation, func(int) error { return h.five(ctx) })
		if err != nil {
			return err
		}
		line("the same with "+other.name, got, "with 170 tables, 50 MB", five, fmt.Sprintf("<= %.1f x", other.limit),
			float64(got) <= other.limit*float64(five))
		if err := h.end(ctx); err != nil {
			return err
		}
	}
	return nil
}

// inPlace measures what leaves the connections open.
func (b bench) inPlace(ctx context.Context, h *held) (five time.Duration, err error) {
	one, err := median(100, func() (time.Duration,
		error) {
		return timed(func() error { return h.run(ctx, "SELECT 1") })
	})
	if err != nil {
		return 0, err
	}
	got, err := h.timed(ctx, 60, "", func(int) error { return nil })
	if err != nil {
		return 0, err
	}
	line("reset, untouched, quiet server", got, "SELECT 1", one, "<= 0.3 ms", got <= 300*time.Microsecond)
	other, err := b.beside(ctx)
	if err != nil {
		return 0, err
	}
	got, err = h.timed(ctx, 60, "", func(int) error {
		_, err := other.Exec(ctx, "SELECT pg_current_xact_id()").ReadAll()
		return err
	})
	err = errors.Join(err, other.Close(ctx))
	if err != nil {
		return 0, err
	}
	line("reset, untouched, beside other workers", got, "SELECT 1", one, "<= 3 ms", got <= 3*time.Millisecond)

	if five, err = h.timed(ctx, 60, engine.Truncation, func(int) error { return h.five(ctx) }); err != nil {
		return 0, err
	}
	var all, deletes []string
	for i := range 170 {
		if i%4 != 0 {
			all = append(all, fmt.Sprintf("hive_%d", i))
		}
	}
	for i := range 5 {
		deletes = append(deletes, fmt.Sprintf("DELETE FROM hive_%d", 4*i+1))
	}
	truncate, err := median(7, func() (time.Duration, error) {
		return timed(func() error { return h.run(ctx, "TRUNCATE "+strings.Join(all, ", ")+" RESTART IDENTITY") })
	})
	if err != nil {
		return 0, err
	}
	raw, err := median(21, func() (time.Duration, error) {
		if err := h.five(ctx); err != nil {
			return 0, err
		}
		return timed(func() error { return h.run(ctx, strings.Join(deletes, ";")) })
	})
	if err != nil {
		return 0, err
	}
	line("reset, 5 tables of 170, 20 rows each", five, "the five DELETEs", raw, "<= 3 ms", five <= 3*time.Millisecond)
	line("the same, beside TRUNCATE of all", five, "TRUNCATE of all empty tables", truncate, "<= 1/15",
		five*15 <= truncate)
	if _, err := h.Do(ctx, reset.Options{}); err != nil {
		return 0, err
	}

	got, err = h.timed(ctx, 20, engine.Truncation, func(i int) error {
		return h.run(ctx, fmt.Sprintf("UPDATE hive_8 SET weight = 0 WHERE id = %d", i+1))
	})
	if err != nil {
		return 0, err
	}
	line("reset, 1 of 10,000 reference rows altered", got, "SELECT 1", one, "<= 60 ms", got <= 60*time.Millisecond)
	return five, nil
}

// pause is for the copy that is made beforehand.
const pause = 400 * time.Millisecond

// beside is the connection of another worker, on the same server.
func (b bench) beside(ctx context.Context) (*pgconn.PgConn, error) {
	url, err := b.adminURL("postgres")
	if err != nil {
		return nil, err
	}
	return pgconn.Connect(ctx, url)
}

// whole measures what puts another database in the place of a copy, in turns
// with what the server needs for it by itself.
func (b bench) whole(ctx context.Context, h *held) (err error) {
	start := h.copied.Facts.Start
	for _, name := range []string{"bench_a", "bench_b"} {
		if _, err := b.admin(ctx, "CREATE DATABASE "+name+" TEMPLATE "+start+" STRATEGY file_copy"); err != nil {
			return err
		}
		defer func() {
			_, failed := b.admin(ctx, "DROP DATABASE "+name)
			err = errors.Join(err, failed)
		}()
	}
	got, bare, err := inTurns(
		func() (time.Duration, error) { return h.replaced(ctx, true) },
		func() (time.Duration, error) { return b.renames(ctx) },
	)
	if err != nil {
		return err
	}
	line("snapshot restore, copy made beforehand", got, "two bare renames", bare, "<= 2 x", got <= 2*bare)
	got, bare, err = inTurns(
		func() (time.Duration, error) { return h.replaced(ctx, false) },
		func() (time.Duration, error) { return b.bareCopy(ctx, start) },
	)
	if err != nil {
		return err
	}
	line("snapshot restore, no copy made beforehand", got, "the bare copy", bare, "<= 1.2 x", got <= bare*12/10)
	return h.connect(ctx)
}

// replaced times one replacement.
func (h *held) replaced(ctx context.Context, ahead bool) (time.Duration, error) {
	return timed(func() error {
		_, err := h.Do(ctx, reset.Options{Way: engine.Snapshot, Ahead: ahead})
		return err
	})
}

// inTurns returns the medians of two measurements, each of which comes first in
// every second round: whatever else the machine does meets both.
func inTurns(one, other func() (time.Duration, error)) (first, second time.Duration, err error) {
	var all [2][]time.Duration
	for i := range 18 {
		for turn := range 2 {
			which := (i + turn) % 2
			took, err := []func() (time.Duration, error){one, other}[which]()
			if err != nil {
				return 0, 0, err
			}
			if i > 1 {
				all[which] = append(all[which], took)
			}
		}
		time.Sleep(pause)
	}
	return middle(all[0]), middle(all[1]), nil
}

// renames times two renames in one transaction, no client connected.
func (b bench) renames(ctx context.Context) (time.Duration, error) {
	took, err := b.admin(ctx, "BEGIN; ALTER DATABASE bench_a RENAME TO bench_c; ALTER DATABASE bench_b RENAME TO "+
		"bench_a; COMMIT")
	if err == nil {
		_, err = b.admin(ctx, "ALTER DATABASE bench_c RENAME TO bench_b")
	}
	return took, err
}

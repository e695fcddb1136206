package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"hemzo/internal/copies"
	"hemzo/internal/engine/all"
	"hemzo/internal/place"
	"hemzo/internal/reset"
)

// costs measures how what is done again and again grows: with tables, with the size of the
// data, with workers, with migrations. It has no baselines: it is what docs/costs.md tells.
func (b bench) costs() error {
	os.Setenv("HEMZO_PROGRAM", b.program)
	defer func() { _, _ = place.Stop(context.Background(), all.Engines(), true) }()
	for _, grow := range []func() error{b.byTables, b.bySize, b.byWorkers, b.byMigrations} {
		if err := grow(); err != nil {
			return err
		}
	}
	return nil
}

func row(what string, n int, took ...any) { fmt.Printf("%-12s %8d  "+fmt.Sprintln(took...), what, n) }

// costOf measures a copy, a reset of what nobody touched, and one of a table.
func (b bench) costOf(root, touch string) (copied, untouched, touched time.Duration, err error) {
	ctx := context.Background()
	h, err := b.hold(ctx, root)
	if err != nil {
		return 0, 0, 0, err
	}
	defer func() { err = errors.Join(err, h.end(ctx)) }()
	did := func(work string) (time.Duration, error) {
		return median(5, func() (time.Duration, error) {
			if err := h.run(ctx, work); err != nil {
				return 0, err
			}
			began := time.Now()
			_, err := h.Do(ctx, reset.Options{})
			took := time.Since(began)
			time.Sleep(15 * time.Millisecond) // what follows the answer
			return took, err
		})
	}
	if untouched, err = did("SELECT 1"); err != nil {
		return 0, 0, 0, err
	}
	if touched, err = did(touch); err != nil {
		return 0, 0, 0, err
	}
	copied, err = median(5, b.takeAnother(ctx, h))
	return copied, untouched, touched, err
}

// takeAnother takes a copy like the one that is held, and drops it.
func (b bench) takeAnother(ctx context.Context, h *held) func() (time.Duration, error) {
	return func() (time.Duration, error) {
		began := time.Now()
		taken, err := h.scoped.Take(ctx, copies.Request{Plan: h.plan, Layer: h.plan.Head()})
		took := time.Since(began)
		if err == nil {
			err = h.scoped.Drop(ctx, taken.Copy, true)
		}
		return took, err
	}
}

func (b bench) byTables() error {
	for _, n := range []int{20, 200, 500, 1000, 2000} {
		root := filepath.Join(b.dir, fmt.Sprint("tables", n))
		if _, err := b.schemaOf(root, 20, n, 20); err != nil {
			return err
		}
		copied, untouched, touched, err := b.costOf(root, "UPDATE hive_4 SET weight = 1")
		if err != nil {
			return err
		}
		row("tables", n, "copy", show(copied), "untouched", show(untouched), "one table", show(touched))
	}
	return nil
}

func (b bench) bySize() error {
	for _, mb := range []int{10, 100, 1000} {
		root := filepath.Join(b.dir, fmt.Sprint("size", mb))
		text := fmt.Sprintf("CREATE TABLE large (id int PRIMARY KEY, note text);\nINSERT INTO large SELECT g, "+
			"repeat('linden ', 140) FROM generate_series(1, %d) g;\nCREATE TABLE small (n int);\nINSERT INTO small "+
			"VALUES (1);\n", mb*1000)
		if err := b.oneFile(root, text); err != nil {
			return err
		}
		copied, untouched, touched, err := b.costOf(root, "UPDATE small SET n = 2")
		if err != nil {
			return err
		}
		row("megabytes", mb, "copy", show(copied), "untouched", show(untouched), "a small table", show(touched))
		if _, err := b.command(b.program, "stop", "--force", "--templates", "--project", root)(); err != nil {
			return err
		}
	}
	return nil
}

// oneFile writes a project of one migration.
func (b bench) oneFile(root, text string) error {
	if err := os.MkdirAll(filepath.Join(root, "m"), 0o755); err != nil {
		return err
	}
	return errors.Join(os.WriteFile(filepath.Join(root, "m", "0001.sql"), []byte(text), 0o644),
		os.WriteFile(filepath.Join(root, "hemzo.yaml"),
			[]byte("databases: { apiary: { engine: "+b.private.Name()+", from: [ { migrations: m } ] } }\n"), 0o644))
}

// byWorkers has many take copies and put them back at once.
func (b bench) byWorkers() error {
	ctx := context.Background()
	root := filepath.Join(b.dir, "workers")
	if _, err := b.schemaOf(root, 20, 200, 20); err != nil {
		return err
	}
	h, err := b.hold(ctx, root)
	if err != nil {
		return err
	}
	defer func() { _ = h.end(ctx) }()
	const each = 4
	for _, n := range []int{1, 4, 16, 64} {
		var all sync.WaitGroup
		errs := make([]error, n)
		began := time.Now()
		for i := range n {
			all.Go(func() {
				for range each {
					if _, err := b.takeAnother(ctx, h)(); err != nil {
						errs[i] = err
						return
					}
				}
			})
		}
		all.Wait()
		if err := errors.Join(errs...); err != nil {
			return err
		}
		took := time.Since(began)
		row("workers", n, "copies a second", fmt.Sprintf("%.0f", float64(n*each)/took.Seconds()))
	}
	return nil
}

// byMigrations measures commands that have nothing to do.
func (b bench) byMigrations() error {
	for _, n := range []int{100, 1000, 10_000} {
		root := filepath.Join(b.dir, fmt.Sprint("migrations", n))
		for i := range n {
			text := fmt.Sprintf("-- Migration %d.\nCREATE TABLE hive_%d (id INTEGER PRIMARY KEY, label TEXT);\n", i, i)
			if i == 0 {
				if err := b.oneFile(root, text); err != nil {
					return err
				}
				continue
			}
			if err := os.WriteFile(filepath.Join(root, "m", fmt.Sprintf("%05d.sql", i+1)), []byte(text), 0o644); err != nil {
				return err
			}
		}
		if err := os.WriteFile(filepath.Join(root, "hemzo.yaml"),
			[]byte("databases: { apiary: { engine: "+b.embedded.Name()+", from: [ { migrations: m } ] } }\n"),
			0o644); err != nil {
			return err
		}
		built, err := b.command(b.program, "build", "-q", "--project", root)()
		if err != nil {
			return err
		}
		again, err := median(5, b.command(b.program, "build", "-q", "--project", root))
		if err != nil {
			return err
		}
		steps, err := median(5, b.command(b.program, "steps", "-q", "--project", root))
		if err != nil {
			return err
		}
		row("migrations", n, "first build", show(built), "build", show(again), "steps", show(steps))
	}
	return nil
}

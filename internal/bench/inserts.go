package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"hemzo/internal/copies"
	"hemzo/internal/engine"
	"hemzo/internal/engine/all"
	"hemzo/internal/place"
	"hemzo/internal/project"
	"hemzo/internal/template"
)

// What many a test suite has: a file for each table, and a statement for each row.
const (
	insertTables = 173
	insertRows   = 995
)

// inserts measures builds from such files beside the client of each server.
func (b bench) inserts() error {
	os.Setenv("HEMZO_PROGRAM", b.program)
	for _, on := range []struct {
		engine string
		client func(engine.Connection, []string) error
	}{{"postgres", psqlFiles}, {"mariadb", mariadbClient}, {"sqlite", sqliteClient}} {
		if err := b.insertsInto(on.engine, on.client); err != nil {
			return fmt.Errorf("%s: %w", on.engine, err)
		}
	}
	return nil
}

func (b bench) insertsInto(name string, client func(engine.Connection, []string) error) error {
	ctx := context.Background()
	root := filepath.Join(b.dir, "inserts-"+name)
	files, err := writeInserts(root, name, insertTables, insertRows)
	if err != nil {
		return err
	}
	defer func() { _, _ = place.Stop(ctx, all.Engines(), true) }()
	p, err := project.Read(filepath.Join(root, project.FileName), "", os.LookupEnv)
	if err != nil {
		return err
	}
	e, err := all.Named(name)
	if err != nil {
		return err
	}
	scope := copies.ScopeOf(p.Root)
	plan, err := template.Read(ctx, p, &p.Databases[0], e, scope)
	if err != nil {
		return err
	}
	server, err := place.Open(ctx, e, place.Wanted{Where: []string{"memory"}, Spec: template.Spec(&p.Databases[0])})
	if err != nil {
		return err
	}
	defer server.Close()
	scoped := copies.ScopedServer{Server: server, Scope: scope}
	var builds, bases []time.Duration
	for range 3 {
		if err := forget(ctx, server); err != nil {
			return err
		}
		empty, err := scoped.Take(ctx, copies.Request{Plan: plan, Layer: 0})
		if err != nil {
			return err
		}
		base, err := timed(func() error { return client(server.Connection(empty.Copy.ID, empty.Copy.Facts), files) })
		if err := errors.Join(err, scoped.Drop(ctx, empty.Copy, true)); err != nil {
			return err
		}
		result, err := plan.Build(ctx, server, plan.Head(), nil)
		if err != nil {
			return err
		}
		builds, bases = append(builds, result.Took), append(bases, base)
	}
	took, base := middle(builds), middle(bases)
	line(fmt.Sprintf("%s: build of %d tables, %d INSERTs", name, insertTables, insertTables*insertRows), took,
		"its own client, the same files", base, "<= 0.5 x", took <= base/2)
	return nil
}

// writeInserts writes a project, and returns its files of SQL.
func writeInserts(root, engine string, tables, rows int) (files []string, err error) {
	if err := os.MkdirAll(filepath.Join(root, "m"), 0o755); err != nil {
		return nil, err
	}
	for t := range tables {
		parent := ""
		if t > 0 {
			parent = fmt.Sprintf(" REFERENCES hive_%d (id)", t-1)
		}
		var text strings.Builder
		fmt.Fprintf(&text, "CREATE TABLE hive_%d (id int PRIMARY KEY, label varchar(80) NOT NULL, note varchar(200), "+
			"weight numeric(10,2), seen timestamp NULL, parent int%s);\nCREATE INDEX label_%d ON hive_%d (label);\n", t,
			parent, t, t)
		for i := range rows {
			fmt.Fprintf(&text, "INSERT INTO hive_%d (id, label, note, weight, seen, parent) VALUES (%d, 'hive %d of "+
				"it''s apiary', 'linden honey %d, seen by the keeper from the east', %d.%02d, '2026-05-%02d 10:00:00', "+
				"%d);\n", t, i, i, i*7919%1000003, i*31%9999, i%100, 1+i%28, i)
		}
		files = append(files, filepath.Join(root, "m", fmt.Sprintf("%04d.sql", t)))
		if err := os.WriteFile(files[t], []byte(text.String()), 0o644); err != nil {
			return nil, err
		}
	}
	return files, os.WriteFile(filepath.Join(root, project.FileName),
		[]byte("databases: { apiary: { engine: "+engine+", from: [ { migrations: m } ] } }\n"), 0o644)
}

func psqlFiles(c engine.Connection, files []string) error {
	_, err := psql(c.URL, files...)
	return err
}

func sqliteClient(c engine.Connection, files []string) error {
	for _, f := range files {
		if out, err := exec.Command("sqlite3", c.File, ".read "+f).CombinedOutput(); err != nil {
			return fmt.Errorf("sqlite3: %w: %s", err, out)
		}
	}
	return nil
}

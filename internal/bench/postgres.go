package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"hemzo/internal/copies"
	"hemzo/internal/engine"
	"hemzo/internal/engine/all"
	"hemzo/internal/place"
	"hemzo/internal/project"
	"hemzo/internal/template"
)

// postgres measures the engine PostgreSQL on a generated schema of 170
// tables and about 50 MB of rows, raw psql beside it on the same server.
func (b bench) postgres() error {
	ctx := context.Background()
	os.Setenv("HEMZO_PROGRAM", b.program)
	root := filepath.Join(b.dir, "postgres")
	p, err := b.schema(root, 100)
	if err != nil {
		return err
	}
	defer func() { _, _ = place.Stop(ctx, all.Engines(), true) }()
	e := b.private
	scope := copies.ScopeOf(p.Root)
	read := func() (*template.Plan, error) { return template.Read(ctx, p, &p.Databases[0], e, scope) }
	plan, err := read()
	if err != nil {
		return err
	}
	server, err := place.Open(ctx, e, place.Wanted{Where: []string{"memory"}, Spec: template.Spec(&p.Databases[0])})
	if err != nil {
		return err
	}
	defer server.Close()
	scoped := copies.ScopedServer{Server: server, Scope: scope}

	// From nothing, against psql -f of the same files into a fresh database.
	var files []string
	for i := range 100 {
		files = append(files, filepath.Join(root, "m", fmt.Sprintf("%04d.sql", i)))
	}
	var result *template.Result
	var builds, bases []time.Duration
	for range 3 { // in turns: the machine is not the same from one moment to the next
		if err := forget(ctx, server); err != nil {
			return err
		}
		empty, err := scoped.Take(ctx, copies.Request{Plan: plan, Layer: 0})
		if err != nil {
			return err
		}
		base, err := psql(server.Connection(empty.Copy.ID, empty.Copy.Facts).URL, files...)
		if err != nil {
			return err
		}
		if err := scoped.Drop(ctx, empty.Copy, true); err != nil {
			return err
		}
		if result, err = plan.Build(ctx, server, plan.Head(), nil); err != nil {
			return err
		}
		builds, bases = append(builds, result.Took), append(bases, base)
	}
	took, base := middle(builds), middle(bases)
	line("build of 100 migrations, 170 tables, "+fmt.Sprintf("%d MB", result.Template.Size>>20), took,
		"psql -f of the same files", base, "<= 1.1 x", took <= base*11/10)

	var takes, bares []time.Duration
	for range 15 {
		began := time.Now()
		taken, err := scoped.Take(ctx, copies.Request{Plan: plan, Layer: plan.Head()})
		takes = append(takes, time.Since(began))
		if err != nil {
			return err
		}
		if err := scoped.Drop(ctx, taken.Copy, true); err != nil {
			return err
		}
		bare, err := b.bareCopy(ctx, result.Template.ID)
		if err != nil {
			return err
		}
		bares = append(bares, bare)
	}
	got, bare := middle(takes), middle(bares)
	line("take, template ready", got, "CREATE DATABASE ... STRATEGY file_copy", bare, "<= 1.15 x", got <= bare*115/100)

	if got, err = median(11, b.command(b.program, "build", "--project", root)); err != nil {
		return err
	}
	line("hemzo build, nothing to do, start to end", got, "the bare copy", bare, "<= 40 ms", got <= 40*time.Millisecond)

	// One migration more, again and again.
	builds, bases = nil, nil
	for i := range 7 {
		file := filepath.Join(root, "m", fmt.Sprintf("%04d.sql", 100+i))
		if err := os.WriteFile(file, fmt.Appendf(nil, "CREATE TABLE one_more_%d (id int PRIMARY KEY);\n", i),
			0o644); err != nil {
			return err
		}
		base, err := b.bareStep(ctx, result.Template.ID, file)
		if err != nil {
			return err
		}
		if plan, err = read(); err != nil {
			return err
		}
		if result, err = plan.Build(ctx, server, plan.Head(), nil); err != nil {
			return err
		}
		builds, bases = append(builds, result.Took), append(bases, base)
	}
	took, base = middle(builds), middle(bases)
	line("one migration added to 100", took, "the bare copy, connect, that migration", base, "<= 1.3 x",
		took <= base*13/10)
	return b.cold(ctx, root)
}

// forget drops the templates of a server.
func forget(ctx context.Context, server engine.Server) error {
	all, err := server.List(ctx)
	for _, e := range all {
		err = errors.Join(err, server.Drop(ctx, e.ID))
	}
	return err
}

// psql times psql -f.
func psql(url string, files ...string) (time.Duration, error) {
	args := []string{"-qX", "-v", "ON_ERROR_STOP=1", "-o", "/dev/null"}
	for _, f := range files {
		args = append(args, "-f", f)
	}
	return timed(func() error {
		out, err := exec.Command("psql", append(args, url)...).CombinedOutput()
		if err != nil {
			return fmt.Errorf("psql: %w: %s", err, out)
		}
		return nil
	})
}

// bareStep times a bare copy of a template and one file applied to it.
func (b bench) bareStep(ctx context.Context, template, file string) (time.Duration, error) {
	copied, err := b.admin(ctx, "CREATE DATABASE bench_copy TEMPLATE "+template+" STRATEGY file_copy")
	if err != nil {
		return 0, err
	}
	url, err := b.adminURL("bench_copy")
	if err != nil {
		return 0, err
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return 0, err
	}
	// Without psql's own start, which on some systems takes longer than all.
	applied, err := timed(func() error {
		conn, err := pgconn.Connect(ctx, url)
		if err != nil {
			return err
		}
		_, err = conn.Exec(ctx, string(text)).ReadAll()
		return errors.Join(err, conn.Close(ctx))
	})
	if err == nil {
		_, err = b.admin(ctx, "DROP DATABASE bench_copy")
	}
	return copied + applied, err
}

// adminURL is a database of the private server, as its superuser.
func (b bench) adminURL(database string) (string, error) {
	records, _ := filepath.Glob(filepath.Join(b.dir, "state", "hemzo", "servers", "*.json"))
	text, err := os.ReadFile(records[0])
	if err != nil {
		return "", err
	}
	var r struct {
		Servers map[string]struct {
			Address struct {
				Port     int
				Password string
			}
		}
	}
	err = json.Unmarshal(text, &r)
	return fmt.Sprintf("postgresql://hemzo:%s@127.0.0.1:%d/%s", r.Servers[""].Address.Password,
		r.Servers[""].Address.Port, database), err
}

// admin times SQL run by the private server's superuser, on a connection that
// is open already.
func (b bench) admin(ctx context.Context, sql string) (time.Duration, error) {
	url, err := b.adminURL("postgres")
	if err != nil {
		return 0, err
	}
	conn, err := pgconn.Connect(ctx, url)
	if err != nil {
		return 0, err
	}
	took, err := timed(func() error {
		_, err := conn.Exec(ctx, sql).ReadAll()
		return err
	})
	return took, errors.Join(err, conn.Close(ctx))
}

// bareCopy times CREATE DATABASE ... TEMPLATE by itself, on the server.
func (b bench) bareCopy(ctx context.Context, template string) (time.Duration, error) {
	d, err := b.admin(ctx, "CREATE DATABASE bench_copy TEMPLATE "+template+" STRATEGY file_copy")
	if err != nil {
		return 0, err
	}
	_, err = b.admin(ctx, "DROP DATABASE bench_copy")
	return d, err
}

// cold measures a start with nothing running, from the kept data folder, and
// fifty processes that ask at once.
func (b bench) cold(ctx context.Context, root string) error {
	var saved string
	got, err := median(3, func() (time.Duration, error) {
		if _, err := place.Stop(ctx, all.Engines(), true); err != nil {
			return 0, err
		}
		found, _ := filepath.Glob(filepath.Join(b.dir, "cache", "hemzo", b.private.Name(), "saved-*"))
		if len(found) != 1 {
			return 0, fmt.Errorf("no kept data folder")
		}
		saved = found[0]
		return b.command(b.program, "take", "--project", root)()
	})
	if err != nil {
		return err
	}
	base, err := b.bareStart(saved)
	if err != nil {
		return err
	}
	line("nothing running to a populated copy", got, "folder copied by cp, bare server start", base, "<= 1.5 x",
		got <= base*3/2)

	if err := os.WriteFile(filepath.Join(root, "m", "0200.sql"),
		[]byte("CREATE TABLE yet_another (id int PRIMARY KEY);\n"), 0o644); err != nil {
		return err
	}
	var wg sync.WaitGroup
	failed := make(chan error, 50)
	began := time.Now()
	for range 50 {
		wg.Go(func() {
			if _, err := b.command(b.program, "take", "-q", "--project", root)(); err != nil {
				failed <- err
			}
		})
	}
	wg.Wait()
	fmt.Printf("%-44s %10s   %d failed (wanted: 0)\n", "50 processes taking a copy, one build", show(time.Since(began)),
		len(failed))
	return nil
}

// bareStart copies a data folder and starts a server on it, by hand.
func (b bench) bareStart(saved string) (time.Duration, error) {
	dir, err := os.MkdirTemp(b.dir, "bare-")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(dir)
	script := `set -e
dir=$1; from=$2; bin=$(ls -d /usr/lib/postgresql/*/bin | tail -1)
cp -r "$from" "$dir/data"; chmod -R go-rwx "$dir/data"
run() {
  if [ "$(id -u)" != 0 ]; then "$@"; return; fi
  chown -R postgres "$dir"
  setpriv --reuid=postgres --regid=postgres --clear-groups "$@"
}
options="-p 1 -k $dir -c fsync=off -c shared_buffers=64MB -c listen_addresses= -c hba_file=$dir/hba"
run "$bin/pg_ctl" -D "$dir/data" -w -s -l "$dir/log" -o "$options" start
`
	if err := os.WriteFile(filepath.Join(dir, "hba"), []byte("local all all trust\n"), 0o644); err != nil {
		return 0, err
	}
	took, err := timed(func() error {
		out, err := exec.Command("sh", "-c", script, "sh", dir, filepath.Join(saved, "data")).CombinedOutput()
		if err != nil {
			return fmt.Errorf("starting by hand: %w: %s", err, out)
		}
		return nil
	})
	stop := exec.Command("sh", "-c",
		`pid=$(head -1 "$1/data/postmaster.pid"); kill -QUIT $pid; while kill -0 $pid 2>/dev/null; do sleep 0.02; done`,
		"sh", dir)
	_ = stop.Run()
	return took, err
}

// schema writes a project of n migrations that make 170 tables, 40 of them
// with rows, about 50 MB.
func (b bench) schema(root string, n int) (*project.Project, error) {
	return b.schemaOf(root, n, 170, 3000)
}

// schemaOf is schema with another number of tables, and of rows in each
// fourth of the first 170 of them.
func (b bench) schemaOf(root string, n, tables, rows int) (*project.Project, error) {
	if err := os.MkdirAll(filepath.Join(root, "m"), 0o755); err != nil {
		return nil, err
	}
	table := 0
	for i := range n {
		var text strings.Builder
		for ; table < (i+1)*tables/n; table++ {
			fmt.Fprintf(&text, "CREATE TABLE hive_%d (id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY, label text "+
				"NOT NULL UNIQUE, weight numeric, notes jsonb, seen timestamptz DEFAULT now());\nCREATE INDEX ON "+
				"hive_%d (weight);\n", table, table)
			n := rows
			if table == 8 { // of which a reset puts one row back
				n = max(rows, 10000)
			}
			if table%4 == 0 && table < 170 {
				fmt.Fprintf(&text, "INSERT INTO hive_%d (label, weight, notes) SELECT 'hive ' || g, g * 1.5, "+
					"jsonb_build_object('brood', g, 'queen', repeat('q', 100)) FROM generate_series(1, %d) g;\n", table,
					n)
			}
		}
		if err := os.WriteFile(filepath.Join(root, "m", fmt.Sprintf("%04d.sql", i)), []byte(text.String()),
			0o644); err != nil {
			return nil, err
		}
	}
	file := filepath.Join(root, project.FileName)
	if err := os.WriteFile(file, []byte("databases: { apiary: { engine: postgres, from: [ { migrations: m } ] } }\n"),
		0o644); err != nil {
		return nil, err
	}
	return project.Read(file, "", os.LookupEnv)
}

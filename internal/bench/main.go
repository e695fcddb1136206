// Command bench measures what Hemzo promises, each figure beside a raw
// baseline in the same run. Times are medians; what counts is the ratio.
package main

import (
	"context"
	"database/sql"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	_ "modernc.org/sqlite"

	"hemzo/internal/copies"
	"hemzo/internal/engine"
	"hemzo/internal/engine/all"
	"hemzo/internal/place"
	"hemzo/internal/project"
	"hemzo/internal/reset"
	"hemzo/internal/template"
)

func main() {
	program := flag.String("program", "bin/hemzo", "the built program")
	part := flag.String("engine", "", "only the figures of this engine, or of: container, control, resets")
	long := flag.Duration("long", time.Minute, "how long the eight workers go on")
	flag.Parse()
	if err := run(*program, *part, *long); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// median runs f n times after two that do not count, and returns the middle
// time of what f reports.
func median(n int, f func() (time.Duration, error)) (time.Duration, error) {
	var all []time.Duration
	for i := range n + 2 {
		d, err := f()
		if err != nil {
			return 0, err
		}
		if i >= 2 {
			all = append(all, d)
		}
	}
	return middle(all), nil
}

func middle(all []time.Duration) time.Duration {
	slices.Sort(all)
	return all[len(all)/2]
}

func timed(f func() error) (time.Duration, error) {
	began := time.Now()
	err := f()
	return time.Since(began), err
}

// line prints one figure: what, Hemzo's, the baseline's, and the limit.
func line(what string, got time.Duration, raw string, base time.Duration, limit string, ok bool) {
	verdict := "ok"
	if !ok {
		verdict = "NOT REACHED"
	}
	fmt.Printf("%-44s %10s   %-34s %10s   %5.2f x   %-22s %s\n", what, show(got), raw, show(base),
		float64(got)/float64(max(base, 1)), limit, verdict)
}

func show(d time.Duration) string { return fmt.Sprintf("%.3f ms", float64(d)/1e6) }

type bench struct {
	dir      string
	program  string
	long     time.Duration
	embedded engine.Engine // a part of the program
	private  engine.Engine // whose server is a process that holds all copies
}

// engineWith is the first engine whose servers can be hosted so.
func engineWith(fits func(engine.Hosting) bool) engine.Engine {
	all := all.Engines()
	return all[slices.IndexFunc(all, func(e engine.Engine) bool { return fits(e.Hosting()) })]
}

func run(program, part string, long time.Duration) error {
	program, err := filepath.Abs(program)
	if err != nil {
		return err
	}
	parent := "/dev/shm"
	if _, err := os.Stat(parent); err != nil {
		parent = ""
	}
	dir, err := os.MkdirTemp(parent, "hemzo-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	for k, v := range map[string]string{"HEMZO_MEMORY_DIR": dir, "XDG_STATE_HOME": filepath.Join(dir, "state")} {
		os.Setenv(k, v)
	}
	b := bench{
		dir: dir, program: program, long: long,
		embedded: engineWith(func(h engine.Hosting) bool { return h.Embedded != nil }),
		private:  engineWith(func(h engine.Hosting) bool { return h.Process != nil && h.PerCopy == nil }),
	}
	os.Setenv("XDG_CACHE_HOME", filepath.Join(dir, "cache"))
	if err := os.Chmod(dir, 0o711); err != nil { // a server of root's runs as another user
		return err
	}
	fmt.Printf("%-44s %10s   %-34s %10s   %7s   %s\n", "figure", "hemzo", "baseline", "", "ratio", "wanted")
	figures := map[string][]func() error{
		b.embedded.Name(): {b.start, b.copies, b.plan, b.split}, b.private.Name(): {b.postgres},
		"container": {b.containers},
		"control":   {b.control}, "resets": {b.resets}, "versions": {b.versions}, "five": {b.onlyFive},
		"rollback": {b.rollback}, "mariadb": {b.mariadb}, "redis": {b.redis}, "inserts": {b.inserts}, "costs": {b.costs},
		"scale": {b.scale}, "shared": {b.shared},
		"": {b.start, b.copies, b.plan, b.split, b.postgres, b.control, b.resets, b.rollback, b.mariadb, b.redis,
			b.inserts, b.containers, b.versions, b.shared},
	}
	for _, f := range figures[part] {
		if err := f(); err != nil {
			return err
		}
	}
	return nil
}

func (b bench) command(args ...string) func() (time.Duration, error) {
	return func() (time.Duration, error) {
		cmd := exec.Command(args[0], args[1:]...)
		cmd.Dir = b.dir
		return timed(cmd.Run)
	}
}

// start measures the program's start and its size.
func (b bench) start() error {
	got, err := median(41, b.command(b.program, "version"))
	if err != nil {
		return err
	}
	base, err := median(41, b.command("/bin/true"))
	if err != nil {
		return err
	}
	line("hemzo version, start to end", got, "/bin/true", base, "<= 15 ms", got <= 15*time.Millisecond)
	info, err := os.Stat(b.program)
	if err != nil {
		return err
	}
	fmt.Printf("%-44s %7.1f MB\n", "size of the program (wanted: <= 35 MB)", float64(info.Size())/(1<<20))
	return nil
}

// project writes a project whose one migration makes 200 tables, 40 of them
// with rows, and a ballast of some megabytes.
func (b bench) project(name string, ballast int) (*project.Project, error) {
	root := filepath.Join(b.dir, name)
	if err := os.MkdirAll(filepath.Join(root, "m"), 0o755); err != nil {
		return nil, err
	}
	var text strings.Builder
	for i := range 200 {
		fmt.Fprintf(&text, "CREATE TABLE hive_%d (id INTEGER PRIMARY KEY AUTOINCREMENT, label TEXT NOT NULL, "+
			"weight REAL, UNIQUE (label));\n", i)
		if i >= 160 {
			fmt.Fprintf(&text, "INSERT INTO hive_%d (label, weight) VALUES ('a', 1), ('b', 2), ('c', 3);\n", i)
		}
	}
	if ballast > 0 {
		fmt.Fprintf(&text, "CREATE TABLE ballast (id INTEGER PRIMARY KEY, body BLOB);\nWITH RECURSIVE n(v) AS "+
			"(SELECT 1 UNION ALL SELECT v + 1 FROM n WHERE v < %d) INSERT INTO ballast SELECT v, "+
			"randomblob(1000000) FROM n;\n", ballast)
	}
	if err := os.WriteFile(filepath.Join(root, "m", "0001_hives.sql"), []byte(text.String()), 0o644); err != nil {
		return nil, err
	}
	file := filepath.Join(root, project.FileName)
	if err := os.WriteFile(file, []byte("databases: { apiary: { engine: "+b.embedded.Name()+
		", from: [ { migrations: m } ] } }\n"),
		0o644); err != nil {
		return nil, err
	}
	return project.Read(file, "", os.LookupEnv)
}

// scoped opens a server and builds the project's template.
func (b bench) scoped(p *project.Project) (copies.ScopedServer, *template.Plan, error) {
	ctx := context.Background()
	scope := copies.ScopeOf(p.Root)
	plan, err := template.Read(ctx, p, &p.Databases[0], b.embedded, scope)
	if err != nil {
		return copies.ScopedServer{}, nil, err
	}
	server, err := place.Open(ctx, b.embedded,
		place.Wanted{Where: []string{"memory"}, Spec: template.Spec(&p.Databases[0])})
	if err != nil {
		return copies.ScopedServer{}, nil, err
	}
	_, err = plan.Build(ctx, server, plan.Head(), nil)
	return copies.ScopedServer{Server: server, Scope: scope}, plan, err
}

func (b bench) copies() error {
	for _, ballast := range []int{0, 50} {
		p, err := b.project(fmt.Sprintf("ballast%d", ballast), ballast)
		if err != nil {
			return err
		}
		scoped, plan, err := b.scoped(p)
		if err != nil {
			return err
		}
		if err := b.copy(scoped, plan); err != nil {
			return err
		}
		if err := b.reset(scoped, plan, ballast); err != nil {
			return err
		}
	}
	return nil
}

func (b bench) copy(scoped copies.ScopedServer, plan *template.Plan) error {
	ctx := context.Background()
	var size int64
	from := ""
	got, err := median(31, func() (time.Duration, error) {
		var taken *copies.Taken
		d, err := timed(func() (err error) {
			taken, err = scoped.Take(ctx, copies.Request{Plan: plan, Layer: plan.Head()})
			return err
		})
		if err != nil {
			return 0, err
		}
		size, from = taken.Copy.Size, scoped.Server.Connection(taken.Copy.Facts.Start, engine.Facts{}).File
		return d, scoped.Drop(ctx, taken.Copy, true)
	})
	if err != nil {
		return err
	}
	to := filepath.Join(b.dir, "plain")
	base, err := median(31, func() (time.Duration, error) {
		d, err := timed(func() error { return plainCopy(from, to) })
		os.Remove(to)
		return d, err
	})
	if err != nil {
		return err
	}
	line(fmt.Sprintf("take, template ready, %.1f MB", float64(size)/(1<<20)), got, "the same file copied", base,
		"<= 1.5 x + 1 ms", got <= base*3/2+time.Millisecond)
	return nil
}

// plainCopy copies a file with what the system offers for it
// (copy_file_range on Linux, by io.Copy).
func plainCopy(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.Create(to)
	if err != nil {
		return err
	}
	defer out.Close()
	_, err = io.Copy(out, in)
	return err
}

func (b bench) reset(scoped copies.ScopedServer, plan *template.Plan, ballast int) error {
	ctx := context.Background()
	taken, err := scoped.Take(ctx, copies.Request{Plan: plan, Layer: plan.Head()})
	if err != nil {
		return err
	}
	defer scoped.Drop(ctx, taken.Copy, true)
	db, err := sql.Open("sqlite", "file:"+scoped.Server.Connection(taken.Copy.ID, taken.Copy.Facts).File+
		"?_pragma=synchronous(off)&_pragma=busy_timeout(5000)")
	if err != nil {
		return err
	}
	defer db.Close()
	client, err := db.Conn(ctx)
	if err != nil {
		return err
	}
	touch := func() error {
		for i := range 3 {
			if _, err := client.ExecContext(ctx,
				fmt.Sprintf("INSERT INTO hive_%d (label) WITH RECURSIVE n(v) AS (SELECT 1 UNION ALL SELECT v + 1 "+
					"FROM n WHERE v < 20) SELECT 'n' || v FROM n", i*7)); err != nil {
				return err
			}
		}
		return nil
	}
	opened, err := reset.Open(ctx, scoped.Server, taken.Copy, time.Second)
	if err != nil {
		return err
	}
	defer opened.Close()
	name := fmt.Sprintf("%d MB", max(taken.Copy.Size>>20, 1))
	by := func(way engine.Way) func() error {
		return func() error { _, err := opened.Do(ctx, reset.Options{Way: way}); return err }
	}
	bare := func() error {
		for _, s := range []string{"BEGIN IMMEDIATE", "DELETE FROM hive_0", "DELETE FROM hive_7", "DELETE FROM hive_14",
			"COMMIT"} {
			if _, err := client.ExecContext(ctx, s); err != nil {
				return err
			}
		}
		return nil
	}
	// In turn, so that a change of the machine's pace meets all alike.
	all := make([][]time.Duration, 3)
	for i := range 1000 {
		for j, f := range []func() error{by(engine.Truncation), bare, by(engine.Snapshot)} {
			if err := touch(); err != nil {
				return err
			}
			d, err := timed(f)
			if err != nil {
				return err
			}
			if i >= 50 {
				all[j] = append(all[j], d)
			}
		}
	}
	for j := range all {
		slices.Sort(all[j])
	}
	ways := map[engine.Way]time.Duration{engine.Truncation: all[0][len(all[0])/2],
		engine.Snapshot: all[2][len(all[2])/2]}
	base := all[1][len(all[1])/2]
	limit := "<= 3 x"
	ok := ways[engine.Truncation] <= 3*base
	if ballast > 0 {
		limit, ok = "(no figure given)", true
	}
	line("truncation, 3 of 200 tables touched, "+name, ways[engine.Truncation], "the bare DELETEs in a transaction",
		base, limit, ok)
	line("snapshot, 3 of 200 tables touched, "+name, ways[engine.Snapshot], "the bare DELETEs in a transaction", base,
		"(no figure given)", true)
	if _, err := opened.Do(ctx, reset.Options{}); err != nil {
		return err
	}
	got, err := median(1001, func() (time.Duration, error) {
		return timed(func() error { _, err := opened.Do(ctx, reset.Options{}); return err })
	})
	if err != nil {
		return err
	}
	one, err := median(1001, func() (time.Duration, error) {
		return timed(func() error { _, err := client.ExecContext(ctx, "SELECT 1"); return err })
	})
	if err != nil {
		return err
	}
	line("reset of an untouched copy, "+name, got, "SELECT 1", one, "<= 0.2 ms", got <= 200*time.Microsecond)
	return nil
}

// split measures reading SQL: sixteen times the text, sixteen times the time.
func (b bench) split() error {
	one := "CREATE TRIGGER t AFTER INSERT ON hive BEGIN UPDATE hive SET label = CASE WHEN 1 THEN 'a;' END; " +
		"END;\n-- a comment\n"
	text := strings.Repeat(one, 16_000_000/len(one))
	statements := b.embedded.Language().Statements
	split := func(text string) (time.Duration, error) {
		return median(11, func() (time.Duration, error) {
			return timed(func() error { statements(text); return nil })
		})
	}
	base, err := split(text[:1_000_000])
	if err != nil {
		return err
	}
	got, err := split(text)
	line("splitting 16 MB of SQL", got, "splitting 1 MB of it", base, "in proportion: 16 x", got <= 24*base)
	return err
}

// plan measures hemzo steps over a thousand migrations.
func (b bench) plan() error {
	root := filepath.Join(b.dir, "thousand")
	if err := os.MkdirAll(filepath.Join(root, "m"), 0o755); err != nil {
		return err
	}
	for i := range 1000 {
		text := fmt.Sprintf("-- Migration %d.\nCREATE TABLE hive_%d (id INTEGER PRIMARY KEY, label TEXT NOT NULL, "+
			"weight REAL);\nCREATE INDEX hive_%d_label ON hive_%d (label);\n", i, i, i, i)
		if err := os.WriteFile(filepath.Join(root, "m", fmt.Sprintf("%04d_hive.sql", i)), []byte(text),
			0o644); err != nil {
			return err
		}
	}
	if err := os.WriteFile(filepath.Join(root, project.FileName),
		[]byte("databases: { apiary: { engine: "+b.embedded.Name()+", from: [ { migrations: m } ] } }\n"),
		0o644); err != nil {
		return err
	}
	plan := b.command(b.program, "steps", "--project", root)
	base, err := median(11, b.command("sh", "-c", "cat "+root+"/m/*.sql | wc -c"))
	if err != nil {
		return err
	}
	got, err := median(11, plan)
	if err != nil {
		return err
	}
	line("hemzo steps, 1,000 migrations, none built", got, "cat of the same files", base, "<= 300 ms",
		got <= 300*time.Millisecond)
	built, err := b.command(b.program, "build", "--project", root)()
	if err != nil {
		return err
	}
	if got, err = median(11, plan); err != nil {
		return err
	}
	line("hemzo steps, 1,000 migrations, all built", got, "cat of the same files", base, "<= 300 ms",
		got <= 300*time.Millisecond)
	fmt.Printf("%-44s %10s\n", "(building those 1,000 once)", show(built))
	return nil
}

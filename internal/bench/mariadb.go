package main

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"hemzo/internal/copies"
	"hemzo/internal/engine"
	"hemzo/internal/engine/all"
	"hemzo/internal/place"
	"hemzo/internal/project"
	"hemzo/internal/reset"
	"hemzo/internal/template"
)

// mariadbTables is how many tables the schema has; every third holds rows.
const mariadbTables = 170

// mariadbFiles writes a project of 170 tables and some 50 MB.
func (b bench) mariadbFiles(root, engineName, where, image string) error {
	folder := filepath.Join(root, "db")
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	yaml := fmt.Sprintf("databases: { apiary: { engine: %s, where: %s, image: %q, from: [ { migrations: db } ] } }\n",
		engineName, where, image)
	yaml = strings.Replace(yaml, `image: "", `, "", 1)
	if err := os.WriteFile(filepath.Join(root, project.FileName), []byte(yaml), 0o644); err != nil {
		return err
	}
	for i := range mariadbTables {
		var text strings.Builder
		fmt.Fprintf(&text, "CREATE TABLE hive_%d (id int AUTO_INCREMENT PRIMARY KEY, label varchar(60), notes text, "+
			"weight double, KEY (label));\n", i)
		for r := 0; i%3 == 0 && r < 1700; r++ {
			fmt.Fprintf(&text, "INSERT INTO hive_%d (label, notes, weight) VALUES ('hive %d', '%s', %d.5);\n", i, r,
				strings.Repeat("honey and brood, ", 25), r)
		}
		if err := os.WriteFile(filepath.Join(folder, fmt.Sprintf("%04d_hive.sql", i)), []byte(text.String()),
			0o644); err != nil {
			return err
		}
	}
	return nil
}

// mariadb measures builds, copies and resets of 170 tables, raw SQL and files beside them:
// where each copy has a server, and where one server in a container holds all.
func (b bench) mariadb() error {
	for _, on := range []struct{ engine, where, image string }{
		{"mariadb", "memory", ""}, {"mariadb", "container", "hemzo-test/mariadb:10.11"},
		{"mysql", "container", "hemzo-test/mysql:9"}} {
		if on.image != "" && exec.Command("docker", "image", "inspect", on.image).Run() != nil {
			fmt.Printf("%s in a container: there is no image %s\n", on.engine, on.image)
			continue
		}
		if err := b.mariadbOn(on.engine, on.where, on.image); err != nil {
			return fmt.Errorf("%s, %s: %w", on.engine, on.where, err)
		}
	}
	return nil
}

func (b bench) mariadbOn(engineName, where, image string) error {
	ctx := context.Background()
	os.Setenv("HEMZO_PROGRAM", b.program)
	root := filepath.Join(b.dir, engineName+where)
	if err := b.mariadbFiles(root, engineName, where, image); err != nil {
		return err
	}
	defer func() { _, _ = place.Stop(ctx, all.Engines(), true) }()
	p, err := project.Read(filepath.Join(root, project.FileName), "", os.LookupEnv)
	if err != nil {
		return err
	}
	e, err := all.Named(p.Databases[0].Engine)
	if err != nil {
		return err
	}
	scope := copies.ScopeOf(p.Root)
	plan, err := template.Read(ctx, p, &p.Databases[0], e, scope)
	if err != nil {
		return err
	}
	server, err := place.Open(ctx, e, place.Wanted{Database: "apiary", Where: []string{where},
		Spec: template.Spec(&p.Databases[0])})
	if err != nil {
		return err
	}
	defer server.Close()
	m := mariadbBench{name: map[string]string{"mariadb": "MariaDB", "mysql": "MySQL"}[engineName], separate: where ==
		"memory", scoped: copies.ScopedServer{Server: server, Scope: scope}, plan: plan}
	if !m.separate {
		m.name += " (container)"
	}
	began := time.Now()
	taken, err := m.scoped.Take(ctx, copies.Request{Plan: plan, Layer: plan.Head()})
	if err != nil {
		return err
	}
	built := time.Since(began)
	c := server.Connection(taken.Copy.ID, taken.Copy.Facts)
	raw, err := b.byClient(c, filepath.Join(root, "db"))
	if err != nil {
		return err
	}
	line(m.name+": build from nothing, 170 tables", built, "its own client, the same files", raw, "<= 0.7 x",
		float64(built) <= 0.7*float64(raw))
	if m.separate {
		err = m.copies(ctx)
	} else {
		err = m.copiesBeside(ctx, c)
	}
	if err != nil {
		return err
	}
	if err := errors.Join(m.resets(ctx, taken.Copy), m.rollback(ctx, e, taken.Copy)); err != nil {
		return err
	}
	return m.scoped.Drop(ctx, taken.Copy, true)
}

// mariadbBench is one server, or one for each copy, that is measured.
type mariadbBench struct {
	name     string
	separate bool
	scoped   copies.ScopedServer
	plan     *template.Plan
}

// copiesBeside measures copies on one server beside bare statements that make the same tables
// of those of a copy, in one message each.
func (m mariadbBench) copiesBeside(ctx context.Context, c engine.Connection) error {
	_, err := reset.Do(ctx, m.scoped.Server, m.find(ctx, c), reset.Options{Wait: 5 * time.Second, Force: true})
	if err != nil {
		return err
	}
	db, err := opened(c)
	if err != nil {
		return err
	}
	defer db.Close()
	var tables, drop strings.Builder
	for i := range mariadbTables {
		fmt.Fprintf(&tables, "CREATE TABLE bare_%d LIKE hive_%d; INSERT INTO bare_%d SELECT * FROM hive_%d;", i, i, i, i)
		fmt.Fprintf(&drop, "DROP TABLE bare_%d;", i)
	}
	bare, err := median(5, func() (time.Duration, error) {
		took, err := timed(func() error { _, err := db.Exec(tables.String()); return err })
		if err == nil {
			_, err = db.Exec(drop.String())
		}
		return took, err
	})
	if err != nil {
		return err
	}
	took, err := median(5, func() (time.Duration, error) {
		began := time.Now()
		t, err := m.scoped.Take(ctx, copies.Request{Plan: m.plan, Layer: m.plan.Head()})
		took := time.Since(began)
		if err == nil {
			err = m.scoped.Drop(ctx, t.Copy, true)
		}
		return took, err
	})
	line(m.name+": a copy of 170 tables", took, "bare statements", bare, "<= 1.2 x", float64(took) <= 1.2*float64(bare))
	return err
}

// find is the copy of a connection.
func (m mariadbBench) find(ctx context.Context, c engine.Connection) engine.Entry {
	e, _ := m.scoped.Server.Find(ctx, c.Database)
	return e
}

// opened opens one session of a copy.
func opened(c engine.Connection) (*sql.DB, error) {
	config := mysql.NewConfig()
	config.User, config.Passwd, config.DBName = c.User, c.Password, c.Database
	if config.Net, config.Addr = "unix", c.Socket; c.Socket == "" {
		config.Net, config.Addr = "tcp", c.Host+":"+c.Port
	}
	config.MultiStatements = true
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return nil, err
	}
	db := sql.OpenDB(connector)
	db.SetMaxOpenConns(1)
	return db, nil
}

// byClient has the server's own client run the same files in a database beside the copy.
func (b bench) byClient(c engine.Connection, folder string) (time.Duration, error) {
	files, err := filepath.Glob(filepath.Join(folder, "*.sql"))
	if err != nil {
		return 0, err
	}
	var drop strings.Builder
	drop.WriteString("SET foreign_key_checks = 0;")
	for i := range mariadbTables {
		fmt.Fprintf(&drop, "DROP TABLE hive_%d;", i)
	}
	if err := mariadbRun(c, drop.String()); err != nil {
		return 0, err
	}
	return timed(func() error { return mariadbClient(c, files) })
}

// mariadbClient has the server's own client run files.
func mariadbClient(c engine.Connection, files []string) error {
	for _, f := range files {
		text, err := os.ReadFile(f)
		if err == nil {
			err = mariadbRun(c, string(text))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func mariadbRun(c engine.Connection, text string) error {
	args := []string{"--no-defaults", "--protocol=socket", "-S" + c.Socket, "-u" + c.User, c.Database}
	if c.Socket == "" {
		args = []string{"--no-defaults", "--protocol=tcp", "-h" + c.Host, "-P" + c.Port, "-u" + c.User, c.Database}
	}
	cmd := exec.Command("mariadb", args...)
	cmd.Env = append(os.Environ(), "MYSQL_PWD="+c.Password)
	cmd.Stdin = strings.NewReader(text)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("mariadb: %w: %s", err, out)
	}
	return nil
}

// copies measures copies beside the copy of a folder.
func (m mariadbBench) copies(ctx context.Context) error {
	scoped, plan := m.scoped, m.plan
	var made []engine.Entry
	took, err := median(7, func() (time.Duration, error) {
		began := time.Now()
		t, err := scoped.Take(ctx, copies.Request{Plan: plan, Layer: plan.Head()})
		if err == nil {
			made = append(made, t.Copy)
		}
		return time.Since(began), err
	})
	if err != nil {
		return err
	}
	at := struct {
		Address struct {
			Folder, Server string
		} `json:"address"`
	}{}
	if err := unmarshal(made[0].Facts.Private, &at); err != nil {
		return err
	}
	template := filepath.Join(filepath.Dir(at.Address.Folder), "..")
	bare, err := median(7, func() (time.Duration, error) {
		return bareStart(at.Address.Server, at.Address.Folder,
			template)
	})
	line("MariaDB: a copy of 170 tables", took, "folder copied, server started", bare, "<= 1.3 x",
		float64(took) <= 1.3*float64(bare))
	for _, e := range made {
		err = errors.Join(err, scoped.Drop(ctx, e, true))
	}
	return err
}

// bareStart copies the data of a server with cp, starts one on them and waits until it
// answers.
func bareStart(program, data, beside string) (time.Duration, error) {
	work, err := os.MkdirTemp(beside, "bare-")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(work)
	to := filepath.Join(work, "data")
	socket := filepath.Join(work, "s")
	began := time.Now()
	if out, err := exec.Command("cp", "-a", data, to).CombinedOutput(); err != nil {
		return 0, fmt.Errorf("%w: %s", err, out)
	}
	cmd := exec.Command(program, "--no-defaults", "--datadir="+to, "--socket="+socket, "--skip-networking",
		"--user=root",
		"--innodb-log-file-size=8M", "--innodb-data-file-path=ibdata1:4M:autoextend", "--innodb-flush-method=nosync",
		"--innodb-buffer-pool-size=64M", "--innodb-doublewrite=0", "--skip-grant-tables", "--pid-file="+work+"/pid")
	if err := cmd.Start(); err != nil {
		return 0, err
	}
	defer func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }()
	config := mysql.NewConfig()
	config.Net, config.Addr = "unix", socket
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return 0, err
	}
	db := sql.OpenDB(connector)
	defer db.Close()
	for time.Since(began) < 20*time.Second {
		if _, err := os.Stat(socket); err == nil && db.Ping() == nil {
			return time.Since(began), nil
		}
		time.Sleep(time.Millisecond)
	}
	return 0, errors.New("the bare server does not answer")
}

// resets measures resets beside raw statements.
func (m mariadbBench) resets(ctx context.Context, e engine.Entry) error {
	scoped := m.scoped
	s, err := reset.Open(ctx, scoped.Server, e, 5*time.Second)
	if err != nil {
		return err
	}
	defer s.Close()
	if _, err := s.Do(ctx, reset.Options{}); err != nil { // the client above has emptied it
		return err
	}
	now, err := scoped.Server.Find(ctx, e.ID)
	if err != nil {
		return err
	}
	db, err := opened(scoped.Server.Connection(e.ID, now.Facts))
	if err != nil {
		return err
	}
	defer db.Close()
	bare, err := median(50, func() (time.Duration, error) {
		return timed(func() error { _, err := db.Exec("SELECT 1"); return err })
	})
	if err != nil {
		return err
	}
	var everything strings.Builder
	for i := range mariadbTables {
		fmt.Fprintf(&everything, "DELETE FROM hive_%d;", i)
	}
	for _, work := range []struct {
		name   string
		tables []int
		limit  time.Duration
	}{{m.name + ": reset, nothing touched", nil, time.Millisecond},
		{m.name + ": reset, 5 of 170 tables touched", []int{1, 4, 7, 10, 13}, 5 * time.Millisecond},
		{m.name + ": reset, 2 of them with 1,700 rows", []int{0, 3, 7, 10, 13}, 0}} {
		took, err := median(30, func() (time.Duration, error) {
			for _, i := range work.tables {
				if _, err := db.Exec(fmt.Sprintf("INSERT INTO hive_%d (label) VALUES ('new'), ('newer')", i)); err != nil {
					return 0, err
				}
			}
			return timed(func() error { _, err := s.Do(ctx, reset.Options{InPlace: true}); return err })
		})
		if err != nil {
			return err
		}
		line(work.name, took, "SELECT 1", bare, fmt.Sprintf("<= %s", work.limit), work.limit == 0 || took <= work.limit)
	}
	gone, err := timed(func() error { _, err := db.Exec(everything.String()); return err })
	if err != nil {
		return err
	}
	back, err := timed(func() error { _, err := s.Do(ctx, reset.Options{InPlace: true}); return err })
	line(m.name+": reset, all rows deleted", back, "DELETE FROM each table", gone, "-", true)
	return err
}

// unmarshal reads what a probe has told of a server.
func unmarshal(b []byte, into any) error {
	if err := json.Unmarshal(b, into); err != nil {
		return fmt.Errorf("reading where a server is: %w", err)
	}
	return nil
}

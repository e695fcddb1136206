package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
	"hemzo/internal/engine/launch"
	"hemzo/internal/project"
	"hemzo/internal/reset"
)

// ordinary starts a PostgreSQL server as its packages leave it, on a disk, with 200
// connections.
func (b bench) ordinary() (url string, stop func() error, err error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if found == nil {
		return "", nil, errors.New("there is no PostgreSQL here")
	}
	bin := filepath.Dir(found[len(found)-1])
	dir, err := os.MkdirTemp("", "hemzo-bench-")
	if err != nil {
		return "", nil, err
	}
	as := &syscall.SysProcAttr{}
	if u := launch.ServerUser("postgres"); u != nil {
		as.Credential = &syscall.Credential{Uid: u.UID, Gid: u.GID}
		err = os.Chown(dir, int(u.UID), int(u.GID))
	}
	data := filepath.Join(dir, "data")
	laid := exec.Command(filepath.Join(bin, "initdb"), "-D", data, "-A", "trust", "-U", "keeper")
	laid.SysProcAttr = as
	if out, failed := laid.CombinedOutput(); failed != nil {
		return "", nil, errors.Join(err, fmt.Errorf("laying out a server: %w: %s", failed, out))
	}
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", nil, err
	}
	port := free.Addr().(*net.TCPAddr).Port
	free.Close()
	server := exec.Command(filepath.Join(bin, "postgres"), "-D", data, "-p", fmt.Sprint(port), "-h", "127.0.0.1",
		"-k", dir, "-N", "200")
	server.SysProcAttr = as
	if err := server.Start(); err != nil {
		return "", nil, err
	}
	url = fmt.Sprintf("postgresql://keeper@127.0.0.1:%d/postgres", port)
	for end := time.Now().Add(time.Minute); ; time.Sleep(10 * time.Millisecond) {
		conn, err := pgx.Connect(context.Background(), url)
		if err == nil {
			conn.Close(context.Background())
			break
		}
		if time.Now().After(end) {
			return "", nil, err
		}
	}
	return url, func() error {
		_ = server.Process.Signal(syscall.SIGQUIT)
		_ = server.Wait()
		return os.RemoveAll(dir)
	}, nil
}

// shared measures resets on a server of others, the same by hand beside: the touched tables
// emptied, and their rows brought back from a copy of them.
func (b bench) shared() error {
	url, stop, err := b.ordinary()
	if err != nil {
		return err
	}
	defer func() { _ = stop() }()
	plain := strings.Replace(url, "keeper@", "plain@", 1)
	made := exec.Command("psql", "-qXd", url, "-c", "CREATE ROLE plain LOGIN CREATEDB")
	if out, err := made.CombinedOutput(); err != nil {
		return fmt.Errorf("making a role: %w: %s", err, out)
	}
	for _, s := range []struct {
		what                        string
		url                         string
		tables, rows, touched, more int
		first, later                time.Duration
	}{
		{"3 of 30 tables", url, 30, 200, 3, 0, 25 * time.Millisecond, 5 * time.Millisecond},
		{"5 of 170 tables", url, 170, 3000, 5, 0, 0, 10 * time.Millisecond},
		{"5 of 170, 500 MB beside", url, 170, 3000, 5, 450_000, 0, 12 * time.Millisecond},
		{"5 of 170, CREATEDB alone", plain, 170, 3000, 5, 0, 0, 20 * time.Millisecond},
		{"5 of 170, CREATEDB alone, 500 MB beside", plain, 170, 3000, 5, 450_000, 0, 24 * time.Millisecond},
	} {
		root := filepath.Join(b.dir, strings.ReplaceAll(s.what, " ", "-"))
		if _, err := b.schemaOf(root, 10, s.tables, s.rows); err != nil {
			return err
		}
		if s.more > 0 {
			text := fmt.Sprintf("CREATE TABLE large AS SELECT g, repeat('q', 1000) FROM generate_series(1, %d) g;", s.more)
			if err := os.WriteFile(filepath.Join(root, "m", "9999.sql"), []byte(text), 0o644); err != nil {
				return err
			}
		}
		if err := os.WriteFile(filepath.Join(root, project.FileName), fmt.Appendf(nil, "databases: { apiary: { engine: %s, "+
			"where: existing, url: '%s', from: [ { migrations: m } ] } }\n", b.private.Name(), s.url), 0o644); err != nil {
			return err
		}
		if err := b.sharedResets(root, s.what, s.touched, s.first, s.later); err != nil {
			return fmt.Errorf("%s: %w", s.what, err)
		}
	}
	return nil
}

func (b bench) sharedResets(root, what string, touched int, first, later time.Duration) error {
	ctx := context.Background()
	var work, again []string
	hive := func(i int) string { return fmt.Sprintf("hive_%d", 12+4*i) } // those with so many rows
	for i := range touched {
		table := hive(i)
		work = append(work, fmt.Sprintf("INSERT INTO %s (label) VALUES ('one more'); UPDATE %[1]s SET weight = 0 "+
			"WHERE id < 4", table))
		again = append(again, fmt.Sprintf("TRUNCATE %s; INSERT INTO %[1]s OVERRIDING SYSTEM VALUE SELECT * FROM kept_%d; "+
			"SELECT setval(pg_get_serial_sequence('%[1]s', 'id'), max(id)) FROM kept_%[2]d", table, i))
	}
	var firsts, laters, hands []time.Duration
	for range 5 {
		h, err := b.hold(ctx, root)
		if err != nil {
			return err
		}
		_ = h.Close()
		if h.Session, err = reset.OpenFresh(ctx, h.scoped.Server, h.copied, time.Second); err != nil {
			return err
		}
		took, err := h.again(ctx, 8, strings.Join(work, "; "))
		if err != nil {
			return err
		}
		firsts, laters = append(firsts, took[0]), append(laters, took[1:]...)
		for i := range touched {
			if err := h.run(ctx, fmt.Sprintf("CREATE TABLE kept_%d AS SELECT * FROM %s", i, hive(i))); err != nil {
				return err
			}
		}
		for range 5 {
			if err := h.run(ctx, strings.Join(work, "; ")); err != nil {
				return err
			}
			began := time.Now()
			if err := h.run(ctx, "BEGIN; "+strings.Join(again, "; ")+"; COMMIT"); err != nil {
				return err
			}
			hands = append(hands, time.Since(began))
		}
		if err := h.end(ctx); err != nil {
			return err
		}
	}
	byHand := middle(hands)
	if first > 0 {
		line("shared server: "+what+", first", middle(firsts), "emptied and filled by hand", byHand,
			"<= "+first.String(), middle(firsts) <= first)
	}
	line("shared server: "+what, middle(laters), "emptied and filled by hand", byHand, "<= "+later.String(),
		middle(laters) <= later)
	return nil
}

// again resets so many times, each after some work, and returns what each took.
func (h *held) again(ctx context.Context, times int, work string) (took []time.Duration, err error) {
	for range times {
		if err := h.run(ctx, work); err != nil {
			return nil, err
		}
		began := time.Now()
		r, err := h.Do(ctx, reset.Options{Ahead: true})
		if err != nil {
			return nil, err
		}
		took = append(took, time.Since(began))
		if r.Way == engine.Snapshot { // its clients connect again
			h.client.Close(ctx)
			if err := h.connect(ctx); err != nil {
				return nil, err
			}
		}
		time.Sleep(150 * time.Millisecond) // the next test's own work
	}
	return took, nil
}

package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
	"hemzo/internal/engine/all"
	"hemzo/internal/place"
)

// relayed is a copy behind its gate, and a plain pass-through to the same server.
type relayed struct {
	gate          engine.Gate
	relay, direct string // addresses
	end           func()
}

// relays opens both for a copy.
func relays(ctx context.Context, e engine.Engine, s engine.Server, copied engine.Entry) (*relayed, error) {
	c := s.Connection(copied.ID, copied.Facts)
	gate, err := e.Hosting().Gate(ctx, place.Inner(s), copied.ID, c, engine.Session{Wait: time.Second})
	if err != nil {
		return nil, err
	}
	at := net.JoinHostPort(c.Host, c.Port)
	r := &relayed{gate: gate}
	var ends []func()
	for address, serve := range map[*string]func(net.Conn){
		&r.relay:  func(conn net.Conn) { _ = gate.ServeConn(ctx, conn) },
		&r.direct: func(conn net.Conn) { passThrough(conn, at) },
	} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return nil, err
		}
		ends = append(ends, func() { l.Close() })
		*address = l.Addr().String()
		go func() {
			for {
				conn, err := l.Accept()
				if err != nil {
					return
				}
				go func() {
					defer conn.Close()
					serve(conn)
				}()
			}
		}()
	}
	r.end = func() {
		for _, end := range ends {
			end()
		}
		_ = gate.Close()
	}
	return r, nil
}

// passThrough copies bytes both ways.
func passThrough(conn net.Conn, at string) {
	server, err := net.Dial("tcp", at)
	if err != nil {
		return
	}
	defer server.Close()
	go func() {
		_, _ = io.Copy(server, conn)
		server.Close()
	}()
	_, _ = io.Copy(conn, server)
}

// rollback measures resets by rollback, and what the relay costs between them.
func (b bench) rollback() error {
	ctx := context.Background()
	os.Setenv("HEMZO_PROGRAM", b.program)
	defer func() { _, _ = place.Stop(ctx, all.Engines(), true) }()
	root := filepath.Join(b.dir, "rollback")
	if _, err := b.schema(root, 20); err != nil {
		return err
	}
	h, err := b.hold(ctx, root)
	if err != nil {
		return err
	}
	r, err := relays(ctx, b.private, h.scoped.Server, h.copied)
	if err != nil {
		return err
	}
	c := h.scoped.Server.Connection(h.copied.ID, h.copied.Facts)
	at := net.JoinHostPort(c.Host, c.Port)
	relay, err := pgx.Connect(ctx, strings.Replace(c.URL, at, r.relay, 1))
	if err != nil {
		return err
	}
	direct, err := pgx.Connect(ctx, strings.Replace(c.URL, at, r.direct, 1))
	if err != nil {
		return err
	}
	if err := rollbackResets(ctx, h, r, relay); err != nil {
		return err
	}
	if err := latencies(ctx, relay, direct); err != nil {
		return err
	}
	if err := bulk(ctx, relay, direct); err != nil {
		return err
	}
	err = errors.Join(relay.Close(ctx), direct.Close(ctx))
	r.end()
	if err = errors.Join(err, h.end(ctx)); err != nil {
		return err
	}
	return b.served(ctx, root)
}

// served measures a run's own process that serves many clients.
func (b bench) served(ctx context.Context, root string) error {
	at, pid, end, err := b.serve(root, "--by", "rollback")
	if err != nil {
		return err
	}
	_, url, err := ask("GET", at+"/connection?form=url")
	if err == nil {
		err = manyClients(ctx, strings.TrimSpace(url))
	}
	if err == nil {
		err = endpointResets(ctx, at, strings.TrimSpace(url))
	}
	if err == nil {
		err = memoryOf(pid)
	}
	return errors.Join(err, end())
}

// endpointResets measures resets as a suite asks for them, and when its next statement is
// answered.
func endpointResets(ctx context.Context, at, url string) error {
	c, err := pgx.Connect(ctx, url)
	if err != nil {
		return err
	}
	defer c.Close(ctx)
	var resets, firsts, empty []time.Duration
	for range 200 {
		for i := range 5 {
			if _, err := c.Exec(ctx, fmt.Sprintf("INSERT INTO hive_%d (label) VALUES ('new')", 4*i+1)); err != nil {
				return err
			}
		}
		began := time.Now()
		took, _, err := ask("POST", at+"/reset")
		if err == nil {
			_, err = c.Exec(ctx, "SELECT 1")
		}
		if err != nil {
			return err
		}
		resets, firsts = append(resets, took), append(firsts, time.Since(began))
		if took, _, err = ask("POST", at+"/reset"); err != nil {
			return err
		}
		empty = append(empty, took)
	}
	line("endpoint's reset, 5 of 170 tables touched", middle(resets), "the same, nothing touched", middle(empty), "-",
		true)
	line("and the answer of the next SELECT", middle(firsts), "the reset alone", middle(resets), "-", true)
	return nil
}

// memoryOf prints the most memory that a process has had.
func memoryOf(pid int) error {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return err
	}
	m := regexp.MustCompile(`VmHWM:\s+(\d+) kB`).FindSubmatch(status)
	if m == nil {
		return errors.New("the system does not tell how much memory a process has had")
	}
	kb, err := strconv.Atoi(string(m[1]))
	verdict := "ok"
	if kb > 100<<10 {
		verdict = "NOT REACHED"
	}
	fmt.Printf("%-44s %d MB resident at most (wanted: 100) %s\n", "the relay's process, all of that", kb>>10, verdict)
	return err
}

// rollbackResets measures the resets beside the two statements alone.
func rollbackResets(ctx context.Context, h *held, r *relayed, relay *pgx.Conn) error {
	for _, work := range []struct {
		name   string
		tables int
	}{{"reset by rollback, nothing touched", 0}, {"reset by rollback, 5 of 170 tables touched", 5}} {
		touch := func(run func(string) error) error {
			for i := range work.tables {
				if err := run(fmt.Sprintf("INSERT INTO hive_%d (label) SELECT 'new ' || g FROM generate_series(1, 20) g",
					4*i+1)); err != nil {
					return err
				}
			}
			return nil
		}
		// The same work, in a session of its own.
		err := h.run(ctx, "BEGIN")
		if err != nil {
			return err
		}
		bare, err := median(200, func() (time.Duration, error) {
			if err := touch(func(sql string) error { return h.run(ctx, sql) }); err != nil {
				return 0, err
			}
			return timed(func() error { return h.run(ctx, "ROLLBACK; BEGIN") })
		})
		if err = errors.Join(err, h.run(ctx, "ROLLBACK")); err != nil {
			return err
		}
		took, err := median(200, func() (time.Duration, error) {
			err := touch(func(sql string) error { _, err := relay.Exec(ctx, sql); return err })
			if err != nil {
				return 0, err
			}
			return timed(func() error { _, err := r.gate.Reset(ctx, engine.Session{Wait: time.Second}); return err })
		})
		if err != nil {
			return err
		}
		line(work.name, took, "ROLLBACK; BEGIN", bare, "<= 0.5 ms, <= 3 x", took <= 500*time.Microsecond && took <= 3*bare)
	}
	return nil
}

// latencies measures single statements through both, in turns.
func latencies(ctx context.Context, relay, direct *pgx.Conn) error {
	for _, work := range []struct {
		name  string
		limit float64
		do    func(*pgx.Conn) error
	}{
		{"a prepared SELECT of one row", 1.4, func(c *pgx.Conn) error {
			var label string
			return c.QueryRow(ctx, "SELECT label FROM hive_4 WHERE id = $1", 7).Scan(&label)
		}},
		{"BEGIN, SELECT, COMMIT", 1, func(c *pgx.Conn) error {
			tx, err := c.Begin(ctx)
			if err != nil {
				return err
			}
			var label string
			err = tx.QueryRow(ctx, "SELECT label FROM hive_4 WHERE id = $1", 7).Scan(&label)
			return errors.Join(err, tx.Commit(ctx))
		}},
	} {
		var got, base []time.Duration
		for range 3000 {
			for c, all := range map[*pgx.Conn]*[]time.Duration{relay: &got, direct: &base} {
				d, err := timed(func() error { return work.do(c) })
				if err != nil {
					return err
				}
				*all = append(*all, d)
			}
		}
		g, d := middle(got), middle(base)
		line(work.name+", through the relay", g, "a plain pass-through", d, fmt.Sprintf("<= %.1f x", work.limit),
			float64(g) <= work.limit*float64(d))
	}
	return nil
}

// bulk measures much data through both.
func bulk(ctx context.Context, relay, direct *pgx.Conn) error {
	for _, work := range []struct {
		name string
		do   func(*pgx.Conn) error
	}{
		{"SELECT of 1,000,000 rows", func(c *pgx.Conn) error {
			_, err := c.PgConn().Exec(ctx, "SELECT g, 'hive ' || g FROM generate_series(1, 1000000) g").ReadAll()
			return err
		}},
		{"COPY of 100 MB out", func(c *pgx.Conn) error {
			_, err := c.PgConn().CopyTo(ctx, io.Discard, "COPY (SELECT repeat('x', 1000) FROM generate_series(1, 100000)) "+
				"TO STDOUT")
			return err
		}},
		{"COPY of 100 MB in", func(c *pgx.Conn) error {
			row := strings.Repeat("x", 999) + "\n"
			_, err := c.Exec(ctx, "CREATE TEMPORARY TABLE IF NOT EXISTS much (body text); TRUNCATE much")
			if err == nil {
				_, err = c.PgConn().CopyFrom(ctx, strings.NewReader(strings.Repeat(row, 100000)), "COPY much FROM STDIN")
			}
			return err
		}},
	} {
		var got, base []time.Duration
		for range 3 {
			for c, all := range map[*pgx.Conn]*[]time.Duration{relay: &got, direct: &base} {
				d, err := timed(func() error { return work.do(c) })
				if err != nil {
					return err
				}
				*all = append(*all, d)
			}
		}
		g, d := middle(got), middle(base)
		line(work.name+", through the relay", g, "a plain pass-through", d, "<= 1.43 x", float64(g) <= float64(d)/0.7)
	}
	return nil
}

// manyClients has 50 clients connected, 8 of them busy for two seconds.
func manyClients(ctx context.Context, url string) error {
	var all []*pgx.Conn
	for range 50 {
		c, err := pgx.Connect(ctx, url)
		if err != nil {
			return err
		}
		defer c.Close(ctx)
		all = append(all, c)
	}
	var busy sync.WaitGroup
	var done, failed atomic.Int64
	end := time.Now().Add(2 * time.Second)
	for i, c := range all[:8] {
		busy.Go(func() {
			for n := 0; time.Now().Before(end); n++ {
				if i == 0 && n%100 == 0 { // one of them reads much
					const much = "SELECT g, 'hive ' || g FROM generate_series(1, 100000) g"
					if _, err := c.PgConn().Exec(ctx, much).ReadAll(); err != nil {
						failed.Add(1)
					}
				}
				tx, err := c.Begin(ctx)
				if err == nil {
					_, err = tx.Exec(ctx, "INSERT INTO hive_1 (label) VALUES ($1)", fmt.Sprint(i, " ", time.Now().UnixNano()))
					err = errors.Join(err, tx.Commit(ctx))
				}
				if err != nil {
					failed.Add(1)
				}
				done.Add(1)
			}
		})
	}
	busy.Wait()
	fmt.Printf("%-44s %d transactions, %d failed (wanted: 0)\n", "50 clients, 8 busy for 2 s", done.Load(), failed.Load())
	return nil
}

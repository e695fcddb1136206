package main

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
)

// over times a run of "true" and the bare "true", in turns, and returns the
// middle of what the run takes more.
func (b bench) over(n int, project string, flags ...string) (more, bare time.Duration, err error) {
	var runs, bares []time.Duration
	args := append(append([]string{b.program, "run", "-q", "--project", project}, flags...), "--", "true")
	for i := range n + 2 {
		run, err := b.command(args...)()
		if err != nil {
			return 0, 0, err
		}
		time.Sleep(200 * time.Millisecond) // the guard's drop is not to be counted with the next run
		plain, err := b.command("true")()
		if err != nil {
			return 0, 0, err
		}
		if i >= 2 {
			runs, bares = append(runs, run), append(bares, plain)
		}
	}
	bare = middle(bares)
	return middle(runs) - bare, bare, nil
}

// runs measures what a run adds to its command: on the demo project, and on
// the large template beside a bare copy of it.
func (b bench) runs(large, template string) error {
	demo := filepath.Join(b.dir, "demo")
	if _, err := b.command(b.program, "demo", "--engine", b.private.Name(), "--unpack", demo)(); err != nil {
		return err
	}
	if _, err := b.command(b.program, "build", "--project", demo)(); err != nil {
		return err
	}
	got, bare, err := b.over(21, demo)
	if err != nil {
		return err
	}
	line("run -- true, demo project, over true", got, "true", bare, "<= 60 ms", got <= 60*time.Millisecond)
	if got, bare, err = b.over(21, demo, "--lazy"); err != nil {
		return err
	}
	line("run --lazy -- true, over true", got, "true", bare, "<= 25 ms", got <= 25*time.Millisecond)

	var copies []time.Duration
	for range 11 {
		d, err := b.bareCopy(context.Background(), template)
		if err != nil {
			return err
		}
		copies = append(copies, d)
	}
	if got, _, err = b.over(11, large); err != nil {
		return err
	}
	limit := middle(copies)*12/10 + 40*time.Millisecond
	line("run -- true, 170 tables, over true", got, "the bare copy", middle(copies), "<= 1.2 x + 40 ms", got <= limit)
	return nil
}

// eight has eight workers take, write, look and reset for a time: each has to
// see its own rows alone.
func (b bench) eight(project string, long time.Duration) error {
	at, _, end, err := b.serve(project)
	if err != nil {
		return err
	}
	var rounds, wrong atomic.Int64
	var all sync.WaitGroup
	errs := make([]error, 8)
	for i := range errs {
		all.Go(func() {
			errs[i] = worker(at, i, time.Now().Add(long), &rounds, &wrong)
		})
	}
	all.Wait()
	if err := errors.Join(append(errs, end())...); err != nil {
		return err
	}
	left, err := exec.Command(b.program, "list", "--json", "--project", project).Output()
	if err != nil {
		return err
	}
	n := strings.Count(string(left), `"id": "hemzo_c_`)
	fmt.Printf("%-44s %d rounds, %d rows of others seen, %d copies left (wanted: 0 and 0)\n",
		"8 workers for "+long.String(), rounds.Load(), wrong.Load(), n)
	return nil
}

func worker(at string, i int, until time.Time, rounds, wrong *atomic.Int64) error {
	ctx := context.Background()
	for round := 0; time.Now().Before(until); round++ {
		// Now and then another worker in its place.
		own := fmt.Sprintf("%s/w/worker-%d-%d", at, i, round/200)
		_, url, err := ask("GET", own+"/connection?form=url")
		if err != nil {
			return err
		}
		conn, err := pgconn.Connect(ctx, strings.TrimSpace(url))
		if err != nil {
			return err
		}
		text := fmt.Sprintf("INSERT INTO hive_1 (label) SELECT 'worker %d ' || g FROM generate_series(1, 20) g; "+
			"INSERT INTO hive_%d (label) VALUES ('x'); SELECT count(*) FILTER (WHERE label LIKE 'worker %d %%'), "+
			"count(*) FROM hive_1", i, 2+4*(round%5), i)
		results, err := conn.Exec(ctx, text).ReadAll()
		if err != nil {
			return err
		}
		row := results[len(results)-1].Rows[0]
		if string(row[0]) != "20" || string(row[1]) != "20" {
			wrong.Add(1)
		}
		if _, _, err := ask("POST", own+"/reset"); err != nil {
			return err
		}
		if err := conn.Close(ctx); err != nil {
			return err
		}
		rounds.Add(1)
	}
	return nil
}

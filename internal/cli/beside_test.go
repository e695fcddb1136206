package cli_test

import (
	"bufio"
	"context"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// beside is how often each of those that work side by side does its work.
var beside = flag.Int("beside", 12, "rounds of each worker and command that work side by side")

// post sends a request and returns its answer.
func post(t *testing.T, method, url string) (status int, body string) {
	t.Helper()
	request, err := http.NewRequestWithContext(t.Context(), method, url, nil)
	require.NoError(t, err)
	response, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	b, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	return response.StatusCode, string(b)
}

// TestWorkersBeside: eight workers at one endpoint, all ways to reset mixed,
// some adding tables, some leaving connections open: each sees its own rows
// alone, and no reset fails for another's sake.
func TestWorkersBeside(t *testing.T) {
	command, root, _, _ := commander(t, "postgres")
	require.NoError(t, os.WriteFile(filepath.Join(root, "m", "9999.sql"),
		[]byte("INSERT INTO hive_1 VALUES (1, 'first');"), 0o644))
	serve := command("serve")
	out, err := serve.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, serve.Start())
	defer func() {
		assert.NoError(t, serve.Process.Signal(os.Interrupt))
		_ = serve.Wait()
	}()
	at, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	at = strings.TrimSpace(at)
	var all sync.WaitGroup
	for n := range 8 {
		all.Go(func() { worker(t, fmt.Sprintf("%s/w/w%d", at, n), n) })
	}
	all.Wait()
}

// worker works on a copy of its own, resets it, and works again.
func worker(t *testing.T, at string, n int) {
	status, url := post(t, "GET", at+"/connection?form=url")
	if !assert.Equal(t, 200, status, url) {
		return
	}
	var conn *pgx.Conn
	for round := range *beside {
		if conn == nil || conn.IsClosed() {
			var err error
			if conn, err = pgx.Connect(t.Context(), strings.TrimSpace(url)); !assert.NoError(t, err) {
				return
			}
		}
		var rows int
		var label string
		err := conn.QueryRow(t.Context(), "SELECT count(*), max(label) FROM hive_1").Scan(&rows, &label)
		assert.NoError(t, err)
		assert.Equal(t, "1 first", fmt.Sprint(rows, " ", label), "the start state, worker %d", n)
		_, err = conn.Exec(t.Context(),
			fmt.Sprintf("INSERT INTO hive_1 SELECT g, 'w%d' FROM generate_series(2, %d) g", n, 3+rand.IntN(30)))
		assert.NoError(t, err)
		if rand.IntN(8) == 0 {
			_, err = conn.Exec(t.Context(), fmt.Sprintf("CREATE TABLE extra_%d (a serial, b int)", round))
			assert.NoError(t, err)
		}
		status, body := post(t, "POST", at+"/reset"+[]string{"", "", "?by=truncation", "?by=snapshot"}[rand.IntN(4)])
		if !assert.Equal(t, 200, status, body) {
			return
		}
		if strings.Contains(body, `"reconnect":true`) {
			conn.Close(context.Background())
		}
	}
	conn.Close(context.Background())
}

// TestCommandsBeside: run, take, drop, sweep, build, list and stop against each
// other, on two projects: each does what it is told or is refused for the sake
// of somebody that is at work.
func TestCommandsBeside(t *testing.T) {
	for _, role := range []string{"owner", "own", "superuser", "app_writer"} {
		t.Run(role, func(t *testing.T) {
			first, root, data, home := commander(t, "postgres")
			second := t.TempDir()
			for i, dir := range []string{root, second} {
				require.NoError(t, os.MkdirAll(filepath.Join(dir, "n"), 0o755))
				require.NoError(t, os.WriteFile(filepath.Join(dir, "n", "1.sql"),
					[]byte("CREATE ROLE app_writer; CREATE TABLE hive (id int); INSERT INTO hive VALUES (1); GRANT "+
						"ALL ON hive TO app_writer"), 0o644))
				keys := fmt.Sprintf("databases: { apiary%d: { engine: postgres, role: %s, from: [ { migrations: n "+
					"} ] } }\n", i, role)
				require.NoError(t, os.WriteFile(filepath.Join(dir, "hemzo.yaml"), []byte(keys), 0o644))
			}
			var all sync.WaitGroup
			loop := func(dir string, args ...string) {
				all.Go(func() {
					for range *beside {
						cmd := first(args...)
						cmd.Dir = dir
						out, _ := cmd.CombinedOutput()
						assert.Contains(t, []int{0, 5}, cmd.ProcessState.ExitCode(), "hemzo %s: %s",
							strings.Join(args, " "), out)
						if args[0] == "run" {
							assert.Zero(t, cmd.ProcessState.ExitCode(), string(out))
						}
					}
				})
			}
			const ask = `[ "$(psql -XAtc 'SELECT count(*) FROM hive' "$DATABASE_URL")" = 1 ] &&
				curl -sS --fail-with-body -X POST "$HEMZO_CONTROL/reset" >answer || { cat answer; exit 22; }`
			loop(root, "run", "-q", "--", "sh", "-c", ask)
			loop(second, "run", "-q", "--copies", "2", "--", "sh", "-c", "true")
			loop(root, "take", "-q", "--for", "1s")
			loop(root, "drop", "-q", "--all")
			loop(second, "sweep", "--templates", "--unused", "0s")
			loop(second, "list", "--everyone")
			loop(root, "build", "-q")
			loop(root, "stop")
			all.Wait()
			_, _ = data, home
		})
	}
}

// TestKilledStarts: whoever is killed while a server is laid out, started, used
// or ended, nothing of it is left after one sweep: no process, no folder of
// data, no shared memory.
func TestKilledStarts(t *testing.T) {
	command, root, data, home := commander(t, "postgres")
	keys := "databases: { apiary: { engine: postgres, role: own, from: [ { migrations: m } ] } }\n"
	require.NoError(t, os.WriteFile(filepath.Join(root, "hemzo.yaml"), []byte(keys), 0o644))
	segments := func() string {
		out, err := exec.Command("sh", "-c",
			"ipcs -m | awk '$6 == 0 {print $2}' | sort; ls /dev/shm | grep PostgreSQL | sort").Output()
		require.NoError(t, err)
		return string(out)
	}
	before := segments()
	for i := range max(*kills/3, 6) {
		if i%2 == 0 { // from nothing
			require.NoError(t, os.RemoveAll(filepath.Join(home, "cache")))
		}
		victims := []string{"hemzo guard", "hemzo run", "initdb", "bin/postgres -D", "hemzo take", "hemzo stop"}[i%6]
		run := command("run", "-q", "--", "true")
		switch victims {
		case "hemzo take":
			run = command("take", "-q", "--for", "0s")
		case "hemzo stop":
			require.NoError(t, run.Run())
			run = command("stop", "-q")
		}
		require.NoError(t, run.Start())
		time.Sleep(rand.N(900 * time.Millisecond)) // only where it dies depends on it
		// Of this test's own: their arguments or folders name its folder.
		_ = exec.Command("sh", "-c", fmt.Sprintf(
			"for p in $(pgrep -f '%s'); do tr '\\0' ' ' </proc/$p/environ | grep -q '%s' && kill -9 $p; done", victims,
			data)).Run()
		_ = run.Wait()
		for _, args := range [][]string{{"sweep"}, {"stop", "--force"}} {
			out, err := command(args...).CombinedOutput()
			require.NoError(t, err, "%s, %d: %s", victims, i, out)
		}
		left, err := filepath.Glob(filepath.Join(data, "hemzo-*postgres*"))
		require.NoError(t, err)
		assert.Empty(t, left, victims)
		out, _ := exec.Command("sh", "-c",
			fmt.Sprintf("for p in /proc/[0-9]*; do readlink $p/cwd 2>/dev/null; done | grep '%s' || true",
				data)).Output()
		assert.Empty(t, string(out), "%s, %d: processes", victims, i)
	}
	out, err := command("take", "-q", "--as", "look").CombinedOutput()
	require.NoError(t, err, string(out))
	out, err = command("sql", "--on", "look", "--bare",
		`SELECT (SELECT count(*) FROM pg_roles WHERE rolname LIKE 'hemzo\_\_u%'),
			(SELECT count(*) FROM pg_database WHERE datname ~ 'hemzo_[csw]')`).CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Equal(t, "1\t1\n", string(out), "logins and databases, with those of the one that looks")
	out, err = command("stop", "--force").CombinedOutput()
	require.NoError(t, err, string(out))
	// What other tests of this machine begin and end meanwhile goes by itself.
	for line := range strings.Lines(segments()) {
		if !strings.Contains(before, line) {
			assert.Eventually(t, func() bool { return !strings.Contains(segments(), line) }, time.Minute,
				50*time.Millisecond, "shared memory of a server that is gone: %s", line)
		}
	}
}

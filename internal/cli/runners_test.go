package cli_test

import (
	"context"
	"flag"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// runners is how many machines of a CI system share one server.
var runners = flag.Int("runners", 10, "runners that share one ordinary PostgreSQL server")

// ordinaryServer starts a PostgreSQL server as its packages leave it, with so many connections,
// that listens at an address, and returns its port.
func ordinaryServer(t *testing.T, at string, connections int) (port int) {
	dir, err := os.MkdirTemp("", "hemzo-server-")
	require.NoError(t, err)
	bin := filepath.Join("/usr/lib/postgresql", major(t), "bin")
	as := &syscall.SysProcAttr{}
	if os.Getuid() == 0 {
		u, err := user.Lookup("postgres")
		require.NoError(t, err)
		uid, _ := strconv.Atoi(u.Uid)
		gid, _ := strconv.Atoi(u.Gid)
		as.Credential = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
		require.NoError(t, os.Chown(dir, uid, gid))
	}
	require.NoError(t, os.Chmod(dir, 0o755))
	data := filepath.Join(dir, "data")
	laid := exec.Command(filepath.Join(bin, "initdb"), "-D", data, "-A", "trust", "-U", "keeper")
	laid.SysProcAttr = as
	out, err := laid.CombinedOutput()
	require.NoError(t, err, string(out))
	hba, err := os.OpenFile(filepath.Join(data, "pg_hba.conf"), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = hba.WriteString("host all all samenet trust\n")
	require.NoError(t, err)
	require.NoError(t, hba.Close())
	free, err := net.Listen("tcp", at+":0")
	require.NoError(t, err)
	port = free.Addr().(*net.TCPAddr).Port
	require.NoError(t, free.Close())
	server := exec.Command(filepath.Join(bin, "postgres"), "-D", data, "-p", fmt.Sprint(port), "-h", at, "-k", dir,
		"-N", fmt.Sprint(connections))
	server.SysProcAttr = as
	require.NoError(t, server.Start())
	t.Cleanup(func() {
		assert.NoError(t, server.Process.Signal(syscall.SIGQUIT))
		_ = server.Wait()
		assert.NoError(t, os.RemoveAll(dir))
	})
	require.Eventually(t, func() bool {
		conn, err := pgx.Connect(t.Context(), fmt.Sprintf("postgresql://keeper@%s:%d/postgres", at, port))
		return err == nil && conn.Close(t.Context()) == nil
	}, time.Minute, 10*time.Millisecond)
	return port
}

// networks counts those that machines has made.
var networks atomic.Int64

// machines makes networks of their own for so many runners, and returns how a command is
// run in each, how one is cut off with all that runs there, and the address at which they
// reach this machine. An ordinary user has one network for all, and cuts none off.
func machines(t *testing.T, n int) (within func(i int, args ...string) []string, cut func(i int), at string) {
	if os.Getuid() != 0 {
		return func(_ int, args ...string) []string { return args }, nil, "127.0.0.1"
	}
	ip := func(args ...string) {
		out, err := exec.Command("ip", args...).CombinedOutput()
		require.NoError(t, err, "ip %s: %s", strings.Join(args, " "), out)
	}
	number := os.Getpid()%8000*2 + int(networks.Add(1)%2)
	name := func(what string, i int) string { return fmt.Sprintf("hz%s%d-%d", what, number, i) }
	bridge, net := name("b", 0), fmt.Sprintf("10.%d.%d", 64+number%64, number/64%250)
	ip("link", "add", bridge, "type", "bridge")
	t.Cleanup(func() { _ = exec.Command("ip", "link", "del", bridge).Run() })
	ip("addr", "add", net+".1/24", "dev", bridge)
	ip("link", "set", bridge, "up")
	for i := range n {
		space := name("n", i)
		ip("netns", "add", space)
		t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", space).Run() })
		ip("link", "add", name("v", i), "type", "veth", "peer", "name", "eth0", "netns", space)
		ip("link", "set", name("v", i), "master", bridge, "up")
		ip("-n", space, "addr", "add", fmt.Sprintf("%s.%d/24", net, i+2), "dev", "eth0")
		ip("-n", space, "link", "set", "eth0", "up")
		ip("-n", space, "link", "set", "lo", "up")
	}
	return func(i int, args ...string) []string {
			return append([]string{"ip", "netns", "exec", name("n", i)}, args...)
		},
		func(i int) {
			ip("link", "set", name("v", i), "down")
			pids, err := exec.Command("ip", "netns", "pids", name("n", i)).Output()
			require.NoError(t, err)
			for _, pid := range strings.Fields(string(pids)) {
				_ = exec.Command("kill", "-KILL", pid).Run()
			}
		}, net + ".1"
}

// suiteOfRunner is five tests: each finds the start state, writes to three tables, and resets.
const suiteOfRunner = `set -e
for i in 1 2 3 4 5; do
	found=$(psql -qXAt "$DATABASE_URL" -c \
		"SELECT (SELECT count(*) FROM hive_1) || ' ' || (SELECT count(*) FROM hive_2)")
	test "$found" = "2 0" || { echo "found $found"; exit 9; }
	psql -qX "$DATABASE_URL" -c "INSERT INTO hive_1 VALUES ($i + 2, 'x'); UPDATE hive_1 SET label = 'y' WHERE id = 1" \
		-c "INSERT INTO hive_2 VALUES (1, 'z')" -c "DELETE FROM hive_3"
	curl -sf -X POST "$HEMZO_CONTROL/reset" >/dev/null
done
test -z "$VANISH" || { touch "$HOME/there"; sleep 600; }
`

// TestRunners: machines that share one server build a template once, none fails for want of
// connections, one that is cut off holds nothing for long, and nothing is left.
func TestRunners(t *testing.T) {
	t.Parallel()
	within, cut, at := machines(t, *runners)
	port := ordinaryServer(t, at, 200)
	url := fmt.Sprintf("postgresql://keeper@%s:%d/postgres", at, port)
	root, env := project(t, 20)
	require.NoError(t, os.WriteFile(filepath.Join(root, "hemzo.yaml"), fmt.Appendf(nil, "databases: { apiary: { engine: "+
		"postgres, where: existing, url: %q, from: [ { migrations: m } ] } }\nallow_hosts: [ %q ]\n", url, at), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(root, "m", "9999.sql"),
		[]byte("INSERT INTO hive_1 VALUES (1, 'first'), (2, 'second');"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(root, "suite.sh"), []byte(suiteOfRunner), 0o644))
	homes := t.TempDir()
	command := func(ctx context.Context, i int, more string, args ...string) *exec.Cmd {
		home := filepath.Join(homes, fmt.Sprint(i))
		args = within(i, append([]string{program}, args...)...)
		cmd := exec.CommandContext(ctx, args[0], args[1:]...)
		cmd.Dir, cmd.Env = root, append(append([]string{}, env...), "HOME="+home,
			"XDG_CACHE_HOME="+filepath.Join(home, "cache"), "HEMZO_RUN="+fmt.Sprint(i), more)
		require.NoError(t, os.MkdirAll(home, 0o755))
		return cmd
	}
	watch, err := pgx.Connect(t.Context(), url)
	require.NoError(t, err)
	defer watch.Close(context.Background())
	count := func(sql string) (n int) {
		require.NoError(t, watch.QueryRow(t.Context(), sql).Scan(&n), sql)
		return n
	}

	vanishing := command(t.Context(), 0, "VANISH=1", "run", "-q", "--", "sh", "suite.sh")
	if cut != nil {
		require.NoError(t, vanishing.Start())
	}
	var all sync.WaitGroup
	var builds atomic.Int64
	for i := 1; i < *runners; i++ {
		all.Go(func() {
			out, err := command(t.Context(), i, "", "run", "--", "sh", "suite.sh").CombinedOutput()
			assert.NoError(t, err, "runner %d: %s", i, out)
			if strings.Contains(string(out), "steps applied") {
				builds.Add(1)
			}
		})
	}
	ended := make(chan struct{})
	go func() { all.Wait(); close(ended) }()
	most := 0
	for working := true; working; {
		select {
		case <-ended:
			working = false
		case <-time.After(10 * time.Millisecond):
			most = max(most, count("SELECT count(*) FROM pg_stat_activity WHERE application_name = 'hemzo'"))
		}
	}
	t.Logf("%d runners: at most %d connections of Hemzo's", *runners, most)
	assert.LessOrEqual(t, builds.Load(), int64(1))
	assert.LessOrEqual(t, count("SELECT count(*) FROM pg_database WHERE datname LIKE 'hemzo\\_r\\_%'"), 1)

	if cut == nil {
		assert.Zero(t, count("SELECT count(*) FROM pg_database WHERE datname LIKE 'hemzo\\_c\\_%'"))
		return
	}

	// One is cut off: its sessions end soon, and its copy is no longer owned.
	there := filepath.Join(homes, "0", "there")
	require.Eventually(t, func() bool { _, err := os.Stat(there); return err == nil }, 2*time.Minute, 10*time.Millisecond)
	assert.Equal(t, 1, count("SELECT count(*) FROM pg_database WHERE datname LIKE 'hemzo\\_c\\_%'"))
	cut(0)
	_ = vanishing.Wait()
	assert.Eventually(t, func() bool {
		return count("SELECT count(*) FROM pg_stat_activity WHERE application_name = 'hemzo'") == 0
	}, 2*time.Minute, 100*time.Millisecond, "its sessions are ended")
	sweep := func() {
		out, err := command(t.Context(), 1, "", "sweep").CombinedOutput()
		require.NoError(t, err, string(out))
	}
	sweep() // it is noticed
	assert.Equal(t, 1, count("SELECT count(*) FROM pg_database WHERE datname LIKE 'hemzo\\_c\\_%'"), "it may come back")
	if *runners >= 50 {
		time.Sleep(2*time.Minute + time.Second)
		sweep()
		assert.Zero(t, count("SELECT count(*) FROM pg_database WHERE datname LIKE 'hemzo\\_c\\_%'"))
	}
	assert.Zero(t, count("SELECT count(*) FROM pg_database WHERE datname LIKE 'hemzo\\_w\\_%'"))
	assert.Zero(t, count("SELECT count(*) FROM pg_roles WHERE rolname LIKE 'hemzo\\_\\_u\\_%'"))
}

// TestTwoServers: runs that need two servers, each of which carries one run alone, come one after
// the other, in whatever order their project files name the servers.
func TestTwoServers(t *testing.T) {
	t.Parallel()
	const at, connections = "127.0.0.1", 10
	var urls []string
	for range 2 {
		urls = append(urls, fmt.Sprintf("postgresql://keeper@%s:%d/postgres", at, ordinaryServer(t, at, connections)))
	}
	ctx, stop := context.WithTimeout(t.Context(), 2*time.Minute)
	defer stop()
	var all sync.WaitGroup
	for i := range 6 {
		root, env := project(t, 1)
		database := "{ engine: postgres, where: existing, url: %q, from: [ { migrations: m } ] }"
		text := fmt.Appendf(nil, "databases: { apiary: "+database+", orchard: "+database+" }", urls[i%2], urls[1-i%2])
		require.NoError(t, os.WriteFile(filepath.Join(root, "hemzo.yaml"), text, 0o644))
		all.Go(func() {
			run := exec.CommandContext(ctx, program, "run", "--", "sleep", "0.2")
			run.Dir, run.Env = root, env
			out, err := run.CombinedOutput()
			assert.NoError(t, err, string(out))
		})
	}
	all.Wait()
}

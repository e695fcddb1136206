package cli_test

import (
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// examples is the folder of the suites in several languages.
var examples string

// program is the built program that all tests drive.
var program string

func TestMain(m *testing.M) {
	os.Exit(func() int {
		examples, _ = filepath.Abs("../../examples/suites")
		if given := os.Getenv("HEMZO_TEST_EXAMPLES"); given != "" {
			examples = given
		}
		program = os.Getenv("HEMZO_TEST_PROGRAM")
		if program != "" {
			return m.Run()
		}
		dir, err := os.MkdirTemp("", "hemzo-program-")
		if err != nil {
			panic(err)
		}
		defer os.RemoveAll(dir)
		program = filepath.Join(dir, "hemzo")
		build := exec.Command("go", "build", "-o", program, "../../cmd/hemzo")
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		if out, err := build.CombinedOutput(); err != nil {
			panic(fmt.Sprintf("%v\n%s", err, out))
		}
		// The suite in Go, built as its users build it.
		build = exec.Command("go", "test", "-c", "-o", filepath.Join(dir, "suite"), "../../examples/suites/go")
		if out, err := build.CombinedOutput(); err != nil {
			panic(fmt.Sprintf("%v\n%s", err, out))
		}
		return m.Run()
	}())
}

// memory makes a folder for the data of private servers, on a memory file
// system where there is one, and checks that nothing but templates is left
// in it.
func memory(t testing.TB) string {
	dir, err := os.MkdirTemp("/dev/shm", "hemzo-test-")
	if err != nil {
		dir, err = os.MkdirTemp("", "hemzo-test-")
	}
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

// environment is what a command of a test sees.
func environment(memory, home string) []string {
	return []string{
		"PATH=" + filepath.Dir(program) + string(os.PathListSeparator) + os.Getenv("PATH"),
		"HEMZO_MEMORY_DIR=" + memory, "HOME=" + home, "XDG_STATE_HOME=",
		"XDG_CACHE_HOME=" + filepath.Join(home, "cache"), "HEMZO_PROFILE=", "HEMZO_RUN=", "HEMZO_PROGRAM=", "CI=",
		"TERM=dumb",
		"TMPDIR=" + os.TempDir(), "EXAMPLES=" + examples, "SUITE=" + filepath.Join(filepath.Dir(program), "suite"),
	}
}

func TestScripts(t *testing.T) {
	dir, err := filepath.Abs("testdata")
	require.NoError(t, err)
	testscript.Run(t, params(dir, false))
}

// TestInContainers runs what PostgreSQL has to do with its server in a
// container too.
func TestInContainers(t *testing.T) {
	if !engineHere() {
		return // an ordinary user may have none: root runs this
	}
	p := params("", true)
	for _, name := range []string{"postgres", "carried", "roles"} {
		file, err := filepath.Abs(filepath.Join("testdata", name+".txtar"))
		require.NoError(t, err)
		p.Files = append(p.Files, file)
	}
	setup := p.Setup
	p.Setup = func(e *testscript.Env) error {
		e.Setenv("WHERE", "container")
		e.Setenv("IMAGE", "hemzo-test/postgres:"+major(t))
		return setup(e)
	}
	testscript.Run(t, p)
}

// major is the major version of this machine's PostgreSQL.
func major(t *testing.T) string {
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	require.NoError(t, err)
	require.NotEmpty(t, found)
	return filepath.Base(filepath.Dir(filepath.Dir(found[len(found)-1])))
}

// engineHere reports whether this user has a container engine. Root has to.
func engineHere() bool {
	if os.Getuid() == 0 {
		return true
	}
	conn, err := net.Dial("unix", "/var/run/docker.sock")
	if err != nil {
		return false
	}
	conn.Close()
	return true
}

// freePort is a program that prints a port that nobody has, outside the range
// from which the system gives out ports by itself: it stays free for a while.
const freePort = `#!/usr/bin/env python3
import random, socket
while True:
    port = random.randrange(10000, 32000)
    try:
        socket.socket().bind(("", port))
        break
    except OSError:
        pass
print(port)
`

func params(dir string, inContainers bool) testscript.Params {
	return testscript.Params{
		Dir: dir,
		Setup: func(e *testscript.Env) error {
			dir, err := os.MkdirTemp("/dev/shm", "hemzo-test-")
			if err != nil {
				dir, err = os.MkdirTemp("", "hemzo-test-")
			}
			if err == nil {
				err = os.Chmod(dir, 0o711) // a server of root's runs as another user
			}
			if err != nil {
				return err
			}
			vars := environment(dir, filepath.Join(e.WorkDir, "home"))
			e.Defer(func() {
				stop := exec.Command(program, "stop", "--force", "--templates")
				stop.Env = vars
				if out, err := stop.CombinedOutput(); err != nil {
					panic(fmt.Sprintf("%v: %s", err, out))
				}
				os.RemoveAll(dir)
			})
			for _, v := range vars {
				name, value, _ := strings.Cut(v, "=")
				e.Setenv(name, value)
			}
			err = os.WriteFile(filepath.Join(e.WorkDir, "free-port"), []byte(freePort), 0o755)
			return errors.Join(err, os.Mkdir(filepath.Join(e.WorkDir, "home"), 0o755))
		},
		Condition: func(name string) (bool, error) {
			switch name {
			case "root":
				return os.Getuid() == 0, nil
			case "container":
				return inContainers, nil
			case "engine":
				return engineHere(), nil
			}
			return false, fmt.Errorf("no condition %q", name)
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){
			"exits": exits,
			"hemzo": func(ts *testscript.TestScript, neg bool, args []string) {
				err := ts.Exec("hemzo", args...)
				if (err != nil) != neg {
					ts.Fatalf("hemzo %s: %v", strings.Join(args, " "), err)
				}
			},
		},
	}
}

// exits CODE COMMAND... runs a command that has to exit with a code.
func exits(ts *testscript.TestScript, neg bool, args []string) {
	err := ts.Exec(args[1], args[2:]...)
	got := "0"
	if err != nil {
		got = strings.TrimPrefix(err.Error(), "exit status ")
	}
	if (got == args[0]) == neg {
		ts.Fatalf("%s: exited with %s, wanted %s", strings.Join(args[1:], " "), got, args[0])
	}
}

// project writes a project of a number of migrations and returns its folder
// and the environment for commands in it.
func project(t *testing.T, migrations int) (root string, env []string) {
	t.Helper()
	root = t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(root, "m"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "hemzo.yaml"),
		[]byte("databases: { apiary: { engine: sqlite, from: [ { migrations: m } ] } }\n"), 0o644))
	for i := range migrations {
		text := fmt.Sprintf("CREATE TABLE hive_%d (id INTEGER PRIMARY KEY, label TEXT);\n", i)
		require.NoError(t, os.WriteFile(filepath.Join(root, "m", fmt.Sprintf("%04d_hive.sql", i)), []byte(text), 0o644))
	}
	return root, append(os.Environ(), environment(memory(t), t.TempDir())...)
}

// TestManyAtOnce: of thirty processes that want a copy of a template that is
// not built yet one builds it, and none fails.
func TestManyAtOnce(t *testing.T) {
	root, env := project(t, 40)
	var wg sync.WaitGroup
	outputs, urls := make([]string, 30), make([]string, 30)
	for i := range outputs {
		wg.Go(func() {
			cmd := exec.Command(program, "take")
			cmd.Dir, cmd.Env = root, env
			var notes strings.Builder
			cmd.Stderr = &notes
			out, err := cmd.Output()
			assert.NoError(t, err, notes.String())
			outputs[i], urls[i] = notes.String(), string(out)
		})
	}
	wg.Wait()
	built := 0
	seen := map[string]bool{}
	for i := range outputs {
		if strings.Contains(outputs[i], "applied") {
			built++
		}
		seen[urls[i]] = true
	}
	assert.Equal(t, 1, built, "one process builds")
	assert.Len(t, seen, 30, "each has a copy of its own")
}

// kills is how often a run is killed.
var kills = flag.Int("kills", 30, "runs that TestKilledAnywhere kills, for each engine")

// TestKilledAnywhere: whenever a run is killed, nothing of it is left once
// its command has ended: no copy, no half-made one, no rendered file and no
// socket.
func TestKilledAnywhere(t *testing.T) {
	for _, engine := range []string{"sqlite", "postgres"} {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			killAnywhere(t, engine)
		})
	}
}

// busySuite is a command that keeps the endpoint at work.
const busySuite = `
curl -s -X POST "$HEMZO_CONTROL/reset" >/dev/null
for w in a b c; do curl -s "$HEMZO_CONTROL/w/$w" >/dev/null; done
curl -s -X POST "$HEMZO_CONTROL/w/a/reset?by=snapshot" >/dev/null
curl -s -X POST "$HEMZO_CONTROL/w/b/snapshot?as=s&force" >/dev/null
`

// commander writes a project of an engine and returns what makes commands in
// it, and its folders for data and for all else.
func commander(t *testing.T, engine string) (command func(args ...string) *exec.Cmd, root, data, home string) {
	root, env := project(t, 20)
	keys := "databases: { apiary: { engine: " + engine +
		", from: [ { migrations: m } ] } }\nfiles: [ { from: app.in, to: app.out } ]\n"
	require.NoError(t, os.WriteFile(filepath.Join(root, "hemzo.yaml"), []byte(keys), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(root, "app.in"), []byte("{url}"), 0o644))
	command = func(args ...string) *exec.Cmd {
		cmd := exec.Command(program, args...)
		cmd.Dir, cmd.Env = root, env
		return cmd
	}
	for _, v := range env {
		if dir, ok := strings.CutPrefix(v, "HEMZO_MEMORY_DIR="); ok {
			data = dir
			require.NoError(t, os.Chmod(data, 0o711))
		}
		if dir, ok := strings.CutPrefix(v, "HOME="); ok {
			home = dir
		}
	}
	t.Cleanup(func() {
		out, err := command("stop", "--force", "--templates").CombinedOutput()
		assert.NoError(t, err, string(out))
	})
	return command, root, data, home
}

// TestKilledResets: a reset that is killed has happened or it has not, and the
// next one brings back the start state.
func TestKilledResets(t *testing.T) {
	for _, engine := range []string{"sqlite", "postgres"} {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			command, root, _, _ := commander(t, engine)
			require.NoError(t, os.WriteFile(filepath.Join(root, "m", "9999.sql"),
				[]byte("INSERT INTO hive_1 VALUES (1, 'first'), (2, 'second');"), 0o644))
			run := func(args ...string) string {
				out, err := command(args...).CombinedOutput()
				require.NoError(t, err, string(out))
				return strings.TrimSpace(string(out))
			}
			run("take", "-q", "--as", "k")
			for i := range *kills / 2 {
				run("sql", "--on", "k", "DELETE FROM hive_1; INSERT INTO hive_1 VALUES (3, 'x'), (4, 'y'), (5, "+
					"'z'); INSERT INTO hive_2 VALUES (7, 'z')")
				reset := command(append([]string{"reset", "k"}, [][]string{nil, {"--by", "snapshot"}}[i%2]...)...)
				require.NoError(t, reset.Start())
				time.Sleep(rand.N(120 * time.Millisecond)) // only where it dies depends on it
				_ = reset.Process.Kill()
				_ = reset.Wait()
				assert.Contains(t, []string{"2\t0", "3\t1"},
					run("sql", "--bare", "--on", "k",
						"SELECT (SELECT count(*) FROM hive_1), (SELECT count(*) FROM hive_2)"))
				assert.Contains(t, run("reset", "k", "--verify"), "verified")
			}
		})
	}
}

func killAnywhere(t *testing.T, engine string) {
	command, root, data, home := commander(t, engine)
	out, err := command("build").CombinedOutput()
	require.NoError(t, err, string(out))
	seed := time.Now().UnixNano()
	random := rand.New(rand.NewPCG(uint64(seed), 0))
	for i := range *kills {
		// Each time other sources, so that every other run builds.
		text := fmt.Sprintf("CREATE TABLE other_%d (x int);\n", i/2)
		require.NoError(t, os.WriteFile(filepath.Join(root, "m", "0015_hive.sql"), []byte(text), 0o644))
		after := time.Duration(random.IntN(250)) * time.Millisecond
		run := command("run", "-q", "--", "sh", "-c", busySuite)
		require.NoError(t, run.Start())
		time.Sleep(after) // only where it dies depends on it
		_ = run.Process.Kill()
		_ = run.Wait()
		clean := func() (left string) {
			out, err := command("sweep").CombinedOutput()
			require.NoError(t, err, string(out))
			listed, err := command("list", "--json").Output()
			require.NoError(t, err)
			for line := range strings.Lines(string(listed)) {
				if strings.Contains(line, "hemzo_c_") {
					left += line
				}
			}
			return left
		}
		// The command keeps its copies until it has ended too.
		require.Eventually(t, func() bool { return clean() == "" }, time.Minute, time.Millisecond,
			"seed %d, kill %d, after %s", seed, i, after)
		assert.NoFileExists(t, filepath.Join(root, "app.out"), "seed %d, after %s", seed, after)
		works, err := filepath.Glob(filepath.Join(data, "*", "sqlite", "hemzo_[ws]_*"))
		require.NoError(t, err)
		sockets, err := filepath.Glob(filepath.Join(home, ".local", "state", "hemzo", "control", "*"))
		require.NoError(t, err)
		assert.Empty(t, append(works, sockets...), "seed %d, after %s", seed, after)
	}
	if engine == "postgres" {
		out, err := command("take", "--as", "look").CombinedOutput()
		require.NoError(t, err, string(out))
		// The server may still be at what it was told by somebody who was killed.
		var left string
		for end := time.Now().Add(time.Minute); time.Now().Before(end); {
			require.NoError(t, command("sweep").Run())
			out, err := command("sql", "--on", "look", "--bare",
				`SELECT datname, datconnlimit, shobj_description(oid, 'pg_database') FROM pg_database
				WHERE datname ~ 'hemzo_[sw]'`).Output()
			require.NoError(t, err)
			if left = strings.TrimSpace(string(out)); left == "" {
				break
			}
		}
		assert.Empty(t, left, "snapshots and half-made databases, seed %d", seed)
	}
	out, err = command("run", "--", "cat", "app.out").CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), "://")
}

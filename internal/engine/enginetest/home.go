package enginetest

import (
	"bytes"
	"context"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hemzo/internal/copies"
	"hemzo/internal/engine"
	"hemzo/internal/place"
)

// Main runs a package's tests. The program of the tests is also the guard that
// Hemzo starts for an engine's servers.
func Main(m *testing.M, engines ...engine.Engine) {
	if len(os.Args) == 3 && os.Args[1] == place.GuardCommand {
		if err := place.Guard(os.Args[2], engines, copies.SweepGuarded); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	}
	os.Exit(m.Run())
}

// Home gives the servers of a test folders of their own. When the test is done
// they are ended, and nothing of theirs may be left.
func Home(t testing.TB, e engine.Engine) {
	t.Helper()
	data, err := os.MkdirTemp("/dev/shm", "hemzo-test-")
	if err != nil {
		data, err = os.MkdirTemp("", "hemzo-test-")
	}
	require.NoError(t, err)
	require.NoError(t, os.Chmod(data, 0o711)) // run by root, a server runs as another user
	root := t.TempDir()
	for name, value := range map[string]string{
		"HEMZO_MEMORY_DIR": data, "HEMZO_PROGRAM": "",
		"XDG_STATE_HOME": filepath.Join(root, "state"), "XDG_CACHE_HOME": filepath.Join(root, "cache"),
	} {
		t.Setenv(name, value)
	}
	t.Cleanup(func() {
		if t.Failed() {
			logServers(t, filepath.Join(root, "state"))
		}
		_, err := place.Stop(context.Background(), []engine.Engine{e}, true)
		require.NoError(t, err)
		left, err := filepath.Glob(filepath.Join(data, "hemzo-*-*"))
		require.NoError(t, err)
		require.Empty(t, left, "data of servers")
		require.NoError(t, os.RemoveAll(data))
	})
}

// logServers logs what servers said last: why one has ended, for one.
func logServers(t testing.TB, state string) {
	_ = filepath.WalkDir(state, func(path string, _ fs.DirEntry, _ error) error {
		if strings.HasSuffix(path, ".log") {
			text, _ := os.ReadFile(path)
			lines := strings.Split(strings.TrimSpace(string(text)), "\n")
			t.Logf("%s:\n%s", filepath.Base(path), strings.Join(lines[max(0, len(lines)-60):], "\n"))
		}
		return nil
	})
}

// Program runs a program with an input and returns what it prints.
func Program(t *testing.T, input, name string, args ...string) string {
	t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Stdin = strings.NewReader(input)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	require.NoError(t, cmd.Run(), "%s: %s", name, errs.String())
	return out.String()
}

// SortLines puts the lines of a dump in an order, without those that are another
// each time: rows have no order.
func SortLines(text string, another func(line string) bool) string {
	lines := slices.DeleteFunc(strings.Split(text, "\n"), another)
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

package place

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine/sqlite"
	"hemzo/internal/fault"
)

func TestDataFolder(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("HEMZO_MEMORY_DIR", dir)
	t.Setenv("XDG_RUNTIME_DIR", "")
	f, err := DataFolder(Room)
	require.NoError(t, err)
	t.Cleanup(func() { os.Remove(f.Path) }) // where it was not there before, and is empty
	info, err := os.Stat(f.Path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())
	again, err := DataFolder(Room)
	require.NoError(t, err)
	assert.Equal(t, f, again, "what was chosen once is found again")
	if !f.Memory {
		assert.Equal(t, "HEMZO_MEMORY_DIR is on disk", f.Why)
		assert.Equal(t, dir, filepath.Dir(f.Path), "it is taken all the same")
	}
}

func TestPrivate(t *testing.T) {
	dir := t.TempDir()
	open := filepath.Join(dir, "open")
	require.NoError(t, os.Mkdir(open, 0o755))
	require.NoError(t, makePrivate(open))
	info, err := os.Stat(open)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())
	link := filepath.Join(dir, "link")
	require.NoError(t, os.Symlink(open, link))
	assert.Equal(t, fault.Lacking, fault.KindOf(makePrivate(link)), "another's link is not followed")
	assert.ErrorContains(t, makePrivate(filepath.Join(dir, "no", "where")), "cannot make")
}

func TestOnce(t *testing.T) {
	state := t.TempDir()
	assert.True(t, firstTime(state, "a"))
	assert.False(t, firstTime(state, "a"))
	assert.True(t, firstTime(state, "b"))
}

func TestAlive(t *testing.T) {
	self, ok := Running(os.Getpid())
	require.True(t, ok)
	assert.True(t, Alive(self))
	other := self
	other.Started = "another time"
	assert.False(t, Alive(other), "a number that another process got since")
	cmd := exec.Command("sleep", "100")
	require.NoError(t, cmd.Start())
	p, ok := Running(cmd.Process.Pid)
	require.True(t, ok)
	require.NoError(t, cmd.Process.Kill())
	_ = cmd.Wait()
	assert.False(t, Alive(p))
}

func TestOpenRefuses(t *testing.T) {
	t.Setenv("HEMZO_MEMORY_DIR", t.TempDir())
	w := Wanted{Database: "apiary", Where: []string{"container"}}
	w.Spec.Locale = "C"
	_, err := Open(context.Background(), sqlite.Engine{}, w)
	assert.ErrorContains(t, err, `sqlite cannot run in ["container"]`)
	w.Spec.Locale = "de_DE"
	_, err = Open(context.Background(), sqlite.Engine{}, w)
	assert.ErrorContains(t, err, "it has no locales")
}

// TestRoom: where memory has less room than a server needs, its data goes to
// disk, or the server is refused where only memory will do.
func TestRoom(t *testing.T) {
	t.Setenv("HEMZO_MEMORY_DIR", "")
	t.Setenv("XDG_RUNTIME_DIR", "")
	f, err := DataFolder(1 << 60)
	require.NoError(t, err)
	assert.False(t, f.Memory)
	assert.Contains(t, f.Why, "needed")
	var said []string
	w := Wanted{Database: "apiary", Say: func(text string) { said = append(said, text) }}
	state := t.TempDir()
	for range 2 {
		_, err = w.folder(state, 1<<60)
		require.NoError(t, err)
	}
	assert.Len(t, said, 1, "it is said once")
	w.Required = true
	_, err = w.folder(state, 1<<60)
	assert.ErrorContains(t, err, `database "apiary" wants memory`)
}

// TestRotate: a log that has grown too large begins anew, its end is kept,
// and who appends to it goes on.
func TestRotate(t *testing.T) {
	path := filepath.Join(t.TempDir(), "log")
	f, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	require.NoError(t, err)
	defer f.Close()
	_, err = f.WriteString("begin\n")
	require.NoError(t, err)
	rotate(path)
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "begin\n", string(b), "it is small")
	_, err = f.Write(append(make([]byte, logLimit), "last words\n"...))
	require.NoError(t, err)
	rotate(path)
	_, err = f.WriteString("more\n")
	require.NoError(t, err)
	b, err = os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "more\n", string(b))
	b, err = os.ReadFile(path + ".1")
	require.NoError(t, err)
	assert.Len(t, b, logTail)
	assert.Equal(t, "last words\n", string(b[len(b)-11:]))
}

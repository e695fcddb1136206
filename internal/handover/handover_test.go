package handover

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
	"hemzo/internal/place"
	"hemzo/internal/project"
)

func two(t *testing.T, files string) (*project.Project, []Copy) {
	t.Helper()
	root := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(root, "app.in"),
		[]byte(`{"url": "{apiary.url}", {other}, {cache.file}, {url}}`), 0o644))
	file := filepath.Join(root, "hemzo.yaml")
	require.NoError(t, os.WriteFile(file, []byte(`
databases:
  apiary: { engine: sqlite, env: { DB: "{jdbc}?a={copy}", BOTH: "{file} {cache.file}" } }
  cache: { engine: sqlite }
env: { SUITE: "{apiary.url} {cache.url}" }
`+files), 0o644))
	p, err := project.Read(file, "", os.LookupEnv)
	require.NoError(t, err)
	return p, []Copy{
		{Database: "apiary", Name: "a",
			Connection: engine.Connection{URL: "sqlite:///a", JDBC: "jdbc:sqlite:/a", File: "/a",
				Env: []engine.Setting{{Name: "X", Value: "it's"}}}},
		{Database: "cache", Name: "c", Connection: engine.Connection{URL: "sqlite:///c", File: "/c"}},
	}
}

func TestEnvironment(t *testing.T) {
	p, all := two(t, "")
	assert.Equal(t, []engine.Setting{
		{Name: "DB", Value: "jdbc:sqlite:/a?a=a"}, {Name: "BOTH", Value: "/a /c"},
		{Name: "HEMZO_APIARY_URL", Value: "sqlite:///a"},
		{Name: "CACHE_URL", Value: "sqlite:///c"}, {Name: "HEMZO_CACHE_URL", Value: "sqlite:///c"},
		{Name: "SUITE", Value: "sqlite:///a sqlite:///c"},
	}, Environment(p, all))
	for _, s := range Environment(p, all[:1]) {
		assert.NotEqual(t, "SUITE", s.Name, "what names a database that was not taken is left out")
	}
	assert.Equal(t, []string{"A=1", "B=3"}, List([]string{"A=1", "B=2"}, []engine.Setting{{Name: "B", Value: "3"}}))
}

func TestForm(t *testing.T) {
	p, all := two(t, "")
	for form, want := range map[string]string{
		"": "sqlite:///a", "url": "sqlite:///a", "jdbc": "jdbc:sqlite:/a", "file": "/a", "{copy}@{file}": "a@/a",
		"engine-env": `export X='it'\''s'`,
	} {
		got, err := Form(p, all[0], form)
		require.NoError(t, err)
		assert.Equal(t, want, got, form)
	}
	env, err := Form(p, all[0], "env")
	require.NoError(t, err)
	assert.Contains(t, env, "export DB='jdbc:sqlite:/a?a=a'\n")
	dotenv, err := Form(p, all[0], "dotenv")
	require.NoError(t, err)
	assert.Contains(t, dotenv, "BOTH=\"/a {cache.file}\"\n")
	for _, form := range []string{"nonsense", "{nonsense}"} {
		_, err := Form(p, all[0], form)
		assert.Equal(t, fault.Usage, fault.KindOf(err))
	}
	_, err = Form(p, all[1], "engine-env")
	assert.ErrorContains(t, err, "read no variables")
	assert.Equal(t, `"a \"b\" \$c \\ \n"`, quoted("a \"b\" $c \\ \n"))
}

func TestRender(t *testing.T) {
	p, all := two(t, "files: [ { from: app.in, to: out/app.json } ]\n")
	state, out := t.TempDir(), filepath.Join(p.Root, "out", "app.json")
	self, ok := place.Running(os.Getpid())
	require.True(t, ok)
	_, err := Render(p, state, all, self)
	require.Error(t, err, "a folder that is not there is not made")
	require.NoError(t, os.Mkdir(filepath.Dir(out), 0o755))

	remove, err := Render(p, state, all, self)
	require.NoError(t, err)
	text, err := os.ReadFile(out)
	require.NoError(t, err)
	assert.Equal(t, `{"url": "sqlite:///a", {other}, /c, {url}}`, string(text), "only known keys are replaced")
	_, err = Render(p, state, all, self)
	assert.ErrorContains(t, err, "in use by another run")
	remove()
	assert.NoFileExists(t, out)

	// The file of a run that died is Hemzo's still, unless it was changed.
	gone := engine.Process{PID: self.PID, Started: "another"}
	_, err = Render(p, state, all, gone)
	require.NoError(t, err)
	remove, err = Render(p, state, all, self)
	require.NoError(t, err)
	remove()
	_, err = Render(p, state, all, gone)
	require.NoError(t, err)
	assert.Equal(t, []string{out}, SweepFiles(state))
	assert.NoFileExists(t, out)
	_, err = Render(p, state, all, gone)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(out, []byte("mine now"), 0o644))
	_, err = Render(p, state, all, self)
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	SweepFiles(state)
	assert.FileExists(t, out)
}

// TestLinks: nothing is written through a link, wherever it leads, and nothing
// waited for that is no file.
func TestLinks(t *testing.T) {
	p, all := two(t, "files: [ { from: app.in, to: app.json } ]\n")
	state, out, elsewhere := t.TempDir(), filepath.Join(p.Root, "app.json"), filepath.Join(t.TempDir(), "target")
	self, ok := place.Running(os.Getpid())
	require.True(t, ok)
	for what, make := range map[string]func() error{
		"dangling": func() error { return os.Symlink(elsewhere, out) },
		"pipe":     func() error { return syscall.Mkfifo(out, 0o600) },
		"folder":   func() error { return os.Mkdir(out, 0o755) },
	} {
		require.NoError(t, make(), what)
		_, err := Render(p, state, all, self)
		assert.Equal(t, fault.Refused, fault.KindOf(err), what)
		info, err := os.Lstat(out)
		require.NoError(t, err, what)
		assert.False(t, info.Mode().IsRegular(), what)
		assert.NoFileExists(t, elsewhere)
		require.NoError(t, os.Remove(out))
	}
	// One that is put in the place of a rendered file is neither followed nor removed.
	remove, err := Render(p, state, all, self)
	require.NoError(t, err)
	text, err := os.ReadFile(out)
	require.NoError(t, err)
	require.NoError(t, os.Remove(out))
	require.NoError(t, os.WriteFile(elsewhere, text, 0o600))
	require.NoError(t, os.Symlink(elsewhere, out))
	remove()
	assert.FileExists(t, elsewhere)
	assert.FileExists(t, out)
}

package template

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
	"hemzo/internal/engine/sqlite"
	"hemzo/internal/fault"
	"hemzo/internal/project"
)

var ctx = context.Background()

// home is a project in a folder of its own, with a server.
type home struct {
	*testing.T
	root   string
	server engine.Server
}

func at(t *testing.T, from string, files ...string) *home {
	t.Helper()
	h := &home{T: t, root: t.TempDir()}
	h.put(append(files, "hemzo.yaml", "databases: { apiary: { engine: sqlite, from: ["+from+
		"], env: { FILE: '{file}' } } }")...)
	server, err := sqlite.Engine{}.Hosting().Embedded(ctx, filepath.Join(t.TempDir(), "sqlite"), engine.Spec{})
	require.NoError(t, err)
	t.Cleanup(func() { server.Close() })
	h.server = server
	return h
}

// put writes files, given as name and text in turn.
func (h *home) put(files ...string) {
	for i := 0; i < len(files); i += 2 {
		path := filepath.Join(h.root, files[i])
		require.NoError(h, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(h, os.WriteFile(path, []byte(files[i+1]), 0o644))
	}
}

func (h *home) plan() *Plan {
	h.Helper()
	p, err := project.Read(filepath.Join(h.root, "hemzo.yaml"), "", os.LookupEnv)
	require.NoError(h, err)
	plan, err := Read(ctx, p, &p.Databases[0], sqlite.Engine{}, engine.Scope{Project: h.root})
	require.NoError(h, err)
	return plan
}

// build builds the head and returns the names of the steps it applied.
func (h *home) build() (applied []string) {
	h.Helper()
	plan := h.plan()
	result, err := plan.Build(ctx, h.server, plan.Head(), nil)
	require.NoError(h, err)
	for _, s := range result.Applied {
		applied = append(applied, s.Name)
	}
	return applied
}

// why returns the reason of each step that is not ready, "" for those that
// are.
func (h *home) why() (all []string) {
	h.Helper()
	states, err := h.plan().Look(ctx, h.server)
	require.NoError(h, err)
	for _, s := range states {
		all = append(all, s.Why)
	}
	return all
}

func TestWhy(t *testing.T) {
	h := at(t, "{ migrations: m }", "m/1.sql", "CREATE TABLE a(x)", "m/2.sql", "CREATE TABLE b(x)", "m/3.sql",
		"CREATE TABLE c(x)")
	assert.Equal(t, []string{"never built", "never built", "never built"}, h.why())
	assert.Len(t, h.build(), 3)
	assert.Equal(t, []string{"", "", ""}, h.why())
	h.put("m/4.sql", "CREATE TABLE d(x)")
	assert.Equal(t, []string{"", "", "", "new"}, h.why())
	h.put("m/2.sql", "CREATE TABLE b(x, y)")
	why := h.why()
	assert.Regexp(t, "^changed since ", why[1])
	assert.Equal(t, []string{"stands on 2.sql", "new"}, why[2:])
	assert.Equal(t, []string{"2.sql", "3.sql", "4.sql"}, h.build())

	require.NoError(t, os.Rename(filepath.Join(h.root, "m/4.sql"), filepath.Join(h.root, "m/04.sql")))
	assert.Equal(t, []string{"", "", "", ""}, h.why(), "a new name alone changes nothing")
	require.NoError(t, os.Rename(filepath.Join(h.root, "m/1.sql"), filepath.Join(h.root, "m/5.sql")))
	assert.Equal(t, []string{"its place changed", "stands on 2.sql", "renamed, now on another layer",
		"renamed, now on another layer"}, h.why())
}

func TestLayerNames(t *testing.T) {
	h := at(t, "{ migrations: m }", "m/0001_hives.sql", "SELECT 1", "m/0002_jars.sql", "SELECT 2", "m/0002_jam.sql",
		"SELECT 3")
	plan := h.plan()
	for name, want := range map[string]int{"0001": 1, "0001_hives": 1, "0001_hives.sql": 1, "0002_ja": 0, "0002_jam": 2,
		"3": 3, "0": 3, "9": -1, "x": -1} {
		got, err := plan.Layer(name)
		switch {
		case want <= 0 || name == "0":
			assert.Equal(t, fault.Usage, fault.KindOf(err), name)
			assert.Error(t, err, name)
		default:
			require.NoError(t, err, name)
			assert.Equal(t, want, got, name)
		}
	}
	assert.Regexp(t, "^apiary-sqlite-[0-9a-f]{16}$", plan.Key())
}

const counting = "{ migrations: m }, { run: [sh, app/run.sh], inputs: 'app/*.sql', continues: true }"

func TestCommandContinues(t *testing.T) {
	script := `for f in app/*.sql; do n=$(basename $f .sql);
		sqlite3 "$FILE" "INSERT OR IGNORE INTO done VALUES ('$n', (SELECT count(*) FROM done))"; done`
	h := at(t, counting, "m/1.sql", "CREATE TABLE done (name PRIMARY KEY, at)", "app/run.sh", script, "app/1.sql", "a")
	assert.Len(t, h.build(), 2)
	order := func() (rows [][]any) {
		plan := h.plan()
		result, err := plan.Build(ctx, h.server, plan.Head(), nil)
		require.NoError(t, err)
		d, err := h.server.Open(ctx, result.Template.ID, engine.Session{})
		require.NoError(t, err)
		defer d.Close()
		require.NoError(t, d.Query(ctx, "SELECT name, at FROM done ORDER BY at",
			engine.Sink{Row: func(r []any) error { rows = append(rows, r); return nil }}))
		return rows
	}
	h.put("app/0.sql", "b")
	assert.Equal(t, [][]any{{"1", int64(0)}, {"0", int64(1)}}, order(),
		"an input was added: the command ran on its older result")
	h.put("app/1.sql", "changed")
	assert.Equal(t, [][]any{{"0", int64(0)}, {"1", int64(1)}}, order(), "an input was changed: it ran from nothing")
}

func TestCommandsThatFail(t *testing.T) {
	for script, want := range map[string]string{
		"exit 0": "never connected", "echo told; exit 3": "the command failed: exit status 3",
	} {
		h := at(t, "{ run: [sh, app/run.sh], inputs: always }", "app/run.sh", script)
		plan := h.plan()
		_, err := plan.Build(ctx, h.server, plan.Head(), nil)
		assert.ErrorContains(t, err, want)
		assert.Equal(t, fault.StepFailed, fault.KindOf(err))
		all, err := h.server.List(ctx)
		require.NoError(t, err)
		assert.Empty(t, all, "nothing half-made is left")
	}
	h := at(t, "{ run: [./nowhere], inputs: always }")
	plan := h.plan()
	_, err := plan.Build(ctx, h.server, plan.Head(), nil)
	assert.ErrorContains(t, err, "the command cannot be run")
}

func TestAlwaysRuns(t *testing.T) {
	h := at(t, "{ migrations: m }, { run: [sh, app/run.sh], inputs: always }", "m/1.sql", "CREATE TABLE a(x)",
		"app/run.sh", `sqlite3 "$FILE" "INSERT INTO a VALUES (1)"`)
	assert.Len(t, h.build(), 2)
	assert.Equal(t, []string{"sh app/run.sh"}, h.build())
	assert.Equal(t, []string{"", "runs at every build"}, h.why())
}

// TestCancel: a build that is told to stop leaves nothing.
func TestCancel(t *testing.T) {
	h := at(t, "{ migrations: m }", "m/1.sql", "CREATE TABLE a(x)", "m/2.sql",
		"WITH RECURSIVE n(v) AS (SELECT 1 UNION ALL SELECT v + 1 FROM n WHERE v < 1000000000000) SELECT count(*) "+
			"FROM n")
	stopped, stop := context.WithCancel(ctx)
	plan := h.plan()
	_, err := plan.Build(stopped, h.server, plan.Head(), func(e Event) {
		if e.Number == 2 {
			stop()
		}
	})
	assert.ErrorIs(t, err, context.Canceled)
	all, err := h.server.List(ctx)
	require.NoError(t, err)
	require.Len(t, all, 1, "the layer below stays, the work is gone")
	assert.Equal(t, engine.Template, all[0].Kind)
}

// TestLongLines: a command may print lines of any length.
func TestLongLines(t *testing.T) {
	h := at(t, "{ migrations: m }, { run: [sh, app/run.sh], inputs: always, within: 1m }", "m/1.sql",
		"CREATE TABLE a(x)",
		"app/run.sh", `head -c 3000000 /dev/zero | tr '\0' x; echo; echo told;
		sqlite3 "$FILE" "INSERT INTO a VALUES (1)"`)
	var lines []string
	plan := h.plan()
	_, err := plan.Build(ctx, h.server, plan.Head(), func(e Event) {
		if e.Output != "" {
			lines = append(lines, e.Output)
		}
	})
	require.NoError(t, err)
	require.Len(t, lines, 2)
	assert.LessOrEqual(t, len(lines[0]), longestLine)
	assert.Equal(t, "told", lines[1])
}

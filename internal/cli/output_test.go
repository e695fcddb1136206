package cli

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
	"hemzo/internal/reset"
)

func TestUnits(t *testing.T) {
	for d, want := range map[time.Duration]string{
		0: "-", 42 * time.Microsecond: "0.04 ms", 1500 * time.Microsecond: "1.5 ms", 42 * time.Millisecond: "42 ms",
		1234 * time.Millisecond:         "1.2 s",
		59*time.Minute + 50*time.Second: "1 h", 2*time.Hour - time.Millisecond: "2 h", 3 * time.Minute: "3 min",
		100 * time.Hour: "4 days",
	} {
		assert.Equal(t, want, span(d))
	}
	for n, want := range map[int64]string{12: "12 B", 2048: "2 KB", 3 << 19: "1.5 MB", 50 << 20: "50 MB",
		3 << 29: "1.5 GB"} {
		assert.Equal(t, want, size(n))
	}
	assert.Equal(t, "just now", ago(time.Now()))
	assert.Equal(t, "30 s ago", ago(time.Now().Add(-30*time.Second)))
	assert.Equal(t, "1 copy", count(1, "copy"))
	assert.Equal(t, "2 copies", count(2, "copy"))
	assert.Equal(t, "0 steps", count(0, "step"))
}

func TestCells(t *testing.T) {
	assert.Equal(t, "NULL", cell(nil))
	assert.Equal(t, "x'00ff'", cell([]byte{0, 255}))
	assert.Equal(t, "1.5", cell(1.5))
	assert.Equal(t, "a·b", cell("a\nb"))
	assert.Equal(t, 32, len([]rune(cell(strings.Repeat("č", 42)))))
}

func TestGrid(t *testing.T) {
	g := &grid{right: map[int]bool{1: true}}
	g.add("a", "1", "x")
	g.add("bčč", "200", "")
	assert.Equal(t, []string{" a      1  x", " bčč  200"}, g.lines(" "))
}

func TestReport(t *testing.T) {
	var out bytes.Buffer
	a := &app{err: &out}
	a.report(&fault.Error{What: "it fails", Where: fault.Position{File: "m.sql", Line: 2, Column: 3}, Said: "no",
		Code: "7", Lines: []string{"SELECT"}, Next: "mend it"})
	assert.Equal(t, "hemzo: m.sql:2:3: it fails: no (7)\n    SELECT\n  next: mend it\n", out.String())
	out.Reset()
	a.report(errors.New("plain"))
	assert.Equal(t, "hemzo: plain\n", out.String())
	out.Reset()
	a.quiet = true
	a.note("not shown")
	assert.Empty(t, out.String())
}

func TestResetText(t *testing.T) {
	for want, r := range map[string]engine.Report{
		"untouched, at its start state (1.0 ms)": {},
		"back at its start state, in place: 3 pages of 1 table, 2 counters (1.0 ms)": {Way: engine.Snapshot, Pages: 3,
			Tables: make([]engine.TableReport, 1), Sequences: 2},
		"back at its start state, in place: 5 rows removed, 2 put back in 1 table; kept a, b (1.0 ms)": {
			Way: engine.Truncation, Tables: []engine.TableReport{{Name: "hive", Removed: 5, PutBack: 2}},
			Kept: []string{"a", "b"}},
		"replaced: clients must connect again; the file was gone (1.0 ms)": {
			Way: engine.Snapshot, Reconnect: true, Why: "the file was gone"},
	} {
		assert.Equal(t, want, resetText(&reset.Report{Report: r, Took: engine.Milliseconds(time.Millisecond)}, ""))
	}
}

func TestSurvey(t *testing.T) {
	for _, c := range []struct {
		name  string
		files map[string]string
		want  surveyed
	}{
		{"pairs and seeds", map[string]string{"db/migrate/1_a.up.sql": "PRAGMA x", "db/migrate/1_a.down.sql": "",
			"db/seeds/kind.csv": "a"},
			surveyed{engine: "sqlite", migrations: []string{"db/migrate"}, undo: []string{"*.down.sql"},
				data: []string{"db/seeds"}}},
		{"another engine", map[string]string{"sql/1.sql": "CREATE TABLE a (b int AUTO_INCREMENT) ENGINE=InnoDB",
			"sql/2.sql": "x"},
			surveyed{engine: "mariadb", migrations: []string{"sql"}}},
		{"other people's files", map[string]string{"node_modules/x/1.sql": "JSONB", "node_modules/x/2.sql": "",
			".git/1.sql": "", "vendor/2.sql": "SERIAL"},
			surveyed{engine: "sqlite"}},
		{"numbered by date", map[string]string{"m/2024-01-01_a.sql": "a jsonb", "m/2024-01-02_b.sql": "$$"},
			surveyed{engine: "postgres", migrations: []string{"m"}}},
		{"folders beside one another, and a schema", map[string]string{"db/up/1_a.sql": "x", "db/up/2_b.sql": "x",
			"db/down/1_a.sql": "x", "db/down/2_b.sql": "x", "db/up/3_c.py": "x", "db/schema.sql": "x"},
			surveyed{engine: "sqlite", migrations: []string{"db/up"}, skipped: []string{
				"db/down: it undoes what is in up",
				"db/up/3_c.py: no SQL; where it changes the schema, run it as a source:  run:",
				"db/schema.sql: the migrations make the schema"}}},
		{"a folder for each migration, twice", map[string]string{"a/m/1_x/do.sql": "x", "a/m/1_x/undo.sql": "x",
			"b/m/2_y/do.sql": "x"},
			surveyed{engine: "sqlite", migrations: []string{"a/m", "b/m"}, undo: []string{"undo.sql"}}},
		{"a schema alone", map[string]string{"db/schema.sql": "CREATE TABLE a (b serial)"},
			surveyed{engine: "postgres", dump: "db/schema.sql"}},
		{"no numbers", map[string]string{"sql/tables.sql": "x", "sql/views.sql": "x"},
			surveyed{engine: "sqlite", migrations: []string{"sql"}}},
	} {
		t.Run(c.name, func(t *testing.T) {
			root := t.TempDir()
			for name, text := range c.files {
				path := filepath.Join(root, name)
				require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
				require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
			}
			got, err := survey(root)
			require.NoError(t, err)
			got.because, got.traces, got.reasons, got.scripts, got.dumps = "", nil, nil, nil, nil
			assert.Equal(t, &c.want, got)
		})
	}
	assert.Equal(t, "app", databaseName("/x/My App (2)"))
	assert.Equal(t, "app", databaseName("/x/src"))
	assert.Equal(t, "honey-log", databaseName("/x/honey-log"))
}

// TestFit: what is too wide for a terminal loses columns, then letters; never a
// whole line's order.
func TestFit(t *testing.T) {
	make := func() *grid {
		g := &grid{drop: []int{1}, whole: map[int]bool{0: true}}
		g.add("pid 4711", "127.0.0.1", "hive-app-of-the-orchard", "SELECT 1")
		return g
	}
	g := make()
	g.fit(80)
	assert.Equal(t, []string{"pid 4711  127.0.0.1  hive-app-of-the-orchard  SELECT 1"}, g.lines(""))
	g = make()
	g.fit(44)
	assert.Equal(t, []string{"pid 4711  hive-app-of-the-orchard  SELECT 1"}, g.lines(""))
	g.fit(30)
	assert.Equal(t, []string{"pid 4711  hive-app-…  SELECT 1"}, g.lines(""))
	g.fit(3)
	assert.Equal(t, []string{"pid 4711  hive-…  SELEC…"}, g.lines(""))
}

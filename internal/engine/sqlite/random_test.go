package sqlite

import (
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
)

var (
	seed   = flag.Uint64("seed", 0, "the seed of the random work; 0 for one made up and told")
	rounds = flag.Int("rounds", 60, "how many rounds of random work")
)

// worker does random work on a copy, as a suite with several connections
// would: committed, rolled back, failed.
type worker struct {
	r     *rand.Rand
	conns []*conn
	extra int // objects made
	log   []string
}

func (w *worker) pick(of ...string) string { return of[w.r.IntN(len(of))] }

// rowWork is a statement that changes rows.
func (w *worker) rowWork() string {
	id := w.r.IntN(700)
	return []func() string{
		func() string {
			return fmt.Sprintf("INSERT INTO apiary(name) VALUES ('%s %d')", w.pick("Lime Hill", "LIME HILL", "Ridge"),
				w.r.IntN(5))
		},
		func() string {
			return fmt.Sprintf("INSERT OR REPLACE INTO hive(id, apiary_id, label) VALUES (%d, 1, 'h%d')", id, id)
		},
		func() string { return fmt.Sprintf("UPDATE hive SET label = label || 'x' WHERE id %% 97 = %d", id%97) },
		func() string { return fmt.Sprintf("DELETE FROM hive WHERE id BETWEEN %d AND %d", id, id+w.r.IntN(300)) },
		func() string {
			return fmt.Sprintf("INSERT OR REPLACE INTO kind VALUES ('%s', %s)", w.pick("a", "A", "b", "z"),
				w.pick("1", "1.0", "'1'", "x'31'", "NULL"))
		},
		func() string {
			return fmt.Sprintf("INSERT INTO note VALUES (%d, randomblob(%d))", id, w.r.IntN(20000))
		},
		func() string { return "UPDATE note SET body = zeroblob(length(body))" },
		func() string {
			return fmt.Sprintf("INSERT INTO log WITH RECURSIVE n(v) AS (SELECT 1 UNION ALL SELECT v + 1 FROM n "+
				"WHERE v < %d) SELECT 'entry ' || v FROM n", 1+w.r.IntN(800))
		},
		func() string { return "DELETE FROM " + w.pick("log", "note", "kind", "apiary", "hive") },
		func() string { return fmt.Sprintf("UPDATE sqlite_sequence SET seq = seq + %d", w.r.IntN(9)) },
		func() string { return fmt.Sprintf("PRAGMA user_version = %d", w.r.IntN(9)) },
	}[w.r.IntN(11)]()
}

// schemaWork is a statement that changes the schema.
func (w *worker) schemaWork() string {
	w.extra++
	return []string{
		fmt.Sprintf("CREATE TABLE extra_%d (a INTEGER PRIMARY KEY, b TEXT)", w.extra),
		fmt.Sprintf("CREATE INDEX extra_%d ON hive(apiary_id, id)", w.extra),
		fmt.Sprintf("ALTER TABLE log ADD COLUMN extra_%d DEFAULT 'd'", w.extra),
		fmt.Sprintf("CREATE VIEW extra_%d AS SELECT * FROM hive", w.extra),
		"DROP TABLE IF EXISTS note", "DROP TRIGGER IF EXISTS hive_made", "DROP INDEX IF EXISTS hive_label",
		"VACUUM", "ANALYZE", "REINDEX",
	}[w.r.IntN(10)]
}

// round does one test's worth of work.
func (w *worker) round() {
	w.log = nil
	for range 1 + w.r.IntN(4) {
		c := w.conns[w.r.IntN(len(w.conns))]
		var all []string
		for range 1 + w.r.IntN(5) {
			all = append(all, w.rowWork())
		}
		if w.r.IntN(6) == 0 {
			all = append(all, w.schemaWork())
		}
		switch w.r.IntN(4) {
		case 0:
			all = append(append([]string{"BEGIN"}, all...), "ROLLBACK")
		case 1:
			all = append(append([]string{"BEGIN IMMEDIATE"}, all...), "COMMIT")
		}
		for _, text := range all {
			w.log = append(w.log, text)
			// What fails is work too; a transaction must not stay open.
			if s, err := c.prepare(text); err == nil {
				_, _ = s.step()
				s.finalize()
			}
		}
		c.rollback()
	}
}

// dumped is what SQLite's own program dumps of a file.
func dumped(t *testing.T, file string) string {
	t.Helper()
	out, err := exec.Command("sqlite3", "file:"+file+"?mode=ro", ".dump").CombinedOutput()
	require.NoError(t, err, string(out))
	return string(out)
}

// TestRandomWork: whatever is done to a copy, a reset brings back its start
// state. A failure names the seed that repeats it.
func TestRandomWork(t *testing.T) {
	n := *seed
	if n == 0 {
		n = rand.Uint64()
	}
	r := rand.New(rand.NewPCG(n, 1))
	for _, mode := range []string{"delete", "wal"} {
		s, template, copied := made(t, apiary, engine.Setting{Name: "journal_mode", Value: mode})
		want, dump := content(t, s.file(template)), dumped(t, s.file(template))
		w := &worker{r: r}
		again := func() {
			for _, c := range w.conns {
				c.close()
			}
			w.conns = nil
			for range 3 {
				c, err := connect(s.file(copied), readWrite, time.Second)
				require.NoError(t, err)
				w.conns = append(w.conns, c)
			}
		}
		again()
		t.Cleanup(func() {
			for _, c := range w.conns {
				c.close()
			}
		})
		long, err := s.Open(context.Background(), copied, engine.Session{Wait: 20 * time.Millisecond})
		require.NoError(t, err)
		t.Cleanup(func() { long.Close() })
		e, err := s.Find(context.Background(), copied)
		require.NoError(t, err)
		base := e.Facts.Baseline
		for i := range *rounds {
			if r.IntN(8) > 0 {
				w.round()
			}
			way := []engine.Way{engine.Truncation, engine.Snapshot, ""}[r.IntN(3)]
			o := engine.Reset{Way: way, Start: template, Baseline: base}
			told := fmt.Sprintf("seed %d, %s, round %d, by %q:\n%s", n, mode, i, way, strings.Join(w.log, ";\n"))
			swapped := false
			switch r.IntN(12) {
			case 0: // a writer that has not committed yet
				c := w.conns[r.IntN(3)]
				_, err := c.do("BEGIN IMMEDIATE")
				require.NoError(t, err, told)
				_, _ = c.do("INSERT INTO log VALUES ('late')")
				_, err = long.Reset(context.Background(), o)
				require.ErrorContains(t, err, "holds a lock", told)
				_, err = c.do([]string{"COMMIT", "ROLLBACK"}[r.IntN(2)])
				require.NoError(t, err, told)
			case 1: // another file in its place, which somebody works in
				b, err := os.ReadFile(s.file(copied))
				require.NoError(t, err)
				require.NoError(t, os.WriteFile(s.file(copied)+".new", b, 0o600))
				require.NoError(t, os.Rename(s.file(copied)+".new", s.file(copied)))
				if c, err := connect(s.file(copied), readWrite, 0); err == nil {
					_, _ = c.do("INSERT INTO log VALUES ('elsewhere')")
					c.close()
				}
				swapped = true
			}
			report, err := long.Reset(context.Background(), o)
			require.NoError(t, err, told)
			require.Equal(t, swapped, report.Reconnect, told)
			base = report.Baseline
			if swapped {
				again()
			}
			require.Equal(t, want, content(t, s.file(copied)), told)
			require.Equal(t, dump, dumped(t, s.file(copied)), told)
			changes, err := long.Changes(context.Background(), engine.Compare{Start: template})
			require.NoError(t, err, told)
			require.Empty(t, len(changes.Tables)+len(changes.Schema)+len(changes.Sequences), told)
		}
	}
}

package sqlite

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
)

// TestSmallFile: where the schema's page is the only one that says what is
// where, putting it back comes last.
func TestSmallFile(t *testing.T) {
	s, template, copied := made(t, "CREATE TABLE hive (id INTEGER PRIMARY KEY, label TEXT);")
	run(t, s.file(copied), "INSERT INTO hive(label) VALUES ('a'); ALTER TABLE hive ADD COLUMN colour TEXT; CREATE "+
		"TABLE jar (x)")
	report := reset(t, s, copied, engine.Reset{Start: template})
	assert.False(t, report.Reconnect)
	assert.Equal(t, content(t, s.file(template)), content(t, s.file(copied)))
}

const apiary = `
CREATE TABLE apiary (id INTEGER PRIMARY KEY AUTOINCREMENT, name TEXT NOT NULL UNIQUE COLLATE NOCASE);
CREATE TABLE hive (id INTEGER PRIMARY KEY, apiary_id INTEGER REFERENCES apiary ON DELETE CASCADE,
		mother INTEGER REFERENCES hive,
  label TEXT, loud TEXT GENERATED ALWAYS AS (upper(label)) STORED, CHECK (label <> ''));
CREATE INDEX hive_label ON hive(label);
CREATE TABLE kind (code TEXT PRIMARY KEY, weight) WITHOUT ROWID;
CREATE TABLE note (rowid TEXT, body BLOB);
CREATE TABLE log (what TEXT);
CREATE TRIGGER hive_logged AFTER DELETE ON hive BEGIN INSERT INTO log VALUES ('deleted ' || old.id); END;
CREATE TRIGGER hive_made AFTER INSERT ON hive BEGIN INSERT INTO log VALUES ('made ' || new.id); END;
INSERT INTO apiary(name) VALUES ('Lime Hill'), ('Old Mill');
INSERT INTO hive(id, apiary_id, label) SELECT value, 1 + value % 2, 'hive ' || value FROM generate_series(1, 500);
DELETE FROM log;
INSERT INTO kind VALUES ('a', 1), ('b', 1.5), ('c', NULL);
INSERT INTO note VALUES ('x', x'00ff'), (NULL, NULL);
PRAGMA user_version = 7;
`

// made returns a server with a template and a copy of it.
func made(t *testing.T, script string, settings ...engine.Setting) (s *server, template, copied string) {
	t.Helper()
	ctx := context.Background()
	opened, err := Engine{}.Hosting().Embedded(ctx, t.TempDir(), engine.Spec{})
	require.NoError(t, err)
	s = opened.(*server)
	work, template, copied := engine.NewID(engine.Work), engine.TemplateID("0123456789abcdef"),
		engine.NewID(engine.Copy)
	facts := engine.Facts{Format: engine.Format}
	require.NoError(t, s.Create(ctx, work, engine.Spec{Settings: settings}, facts))
	d, err := s.Open(ctx, work, engine.Session{Wait: time.Second})
	require.NoError(t, err)
	script = strings.ReplaceAll(script, "generate_series(1, 500)",
		"(WITH RECURSIVE n(value) AS (SELECT 1 UNION ALL SELECT value + 1 FROM n WHERE value < 500) SELECT value "+
			"FROM n)")
	require.NoError(t, d.Apply(ctx, engine.Script{File: "apiary.sql", Text: script, First: 1}))
	require.NoError(t, d.Close())
	require.NoError(t, s.Rename(ctx, work, template, facts))
	require.NoError(t, s.Copy(ctx, template, copied, facts))
	t.Cleanup(func() { s.Close() })
	return s, template, copied
}

// content returns all that a file holds, as text: schema, rows with their
// types and row ids, counters, header fields.
func content(t *testing.T, path string) string {
	t.Helper()
	c, err := connect("file:"+path+"?mode=ro", readWrite, time.Second)
	require.NoError(t, err)
	defer c.close()
	var b strings.Builder
	var tables []string
	require.NoError(t, c.each("SELECT type, name, sql FROM sqlite_schema ORDER BY 1, 2", func(s *stmt) error {
		fmt.Fprintln(&b, s.text(0), s.text(1), s.text(2))
		if s.text(0) == "table" {
			tables = append(tables, s.text(1))
		}
		return nil
	}))
	for _, name := range tables {
		tab, err := describe(c, "main", name)
		require.NoError(t, err)
		require.NoError(t, c.each(fmt.Sprintf("SELECT %s FROM %s ORDER BY 1", tab.list(), quote(name)),
			func(s *stmt) error {
				fmt.Fprintf(&b, "%s: %#v\n", name, s.row(0, len(s.columns())))
				return nil
			}))
	}
	for _, p := range []string{"user_version", "application_id", "integrity_check"} {
		w, err := c.word("PRAGMA " + p)
		require.NoError(t, err)
		fmt.Fprintln(&b, p, w)
	}
	return b.String()
}

// works are kinds of work that a test may do to a copy.
var works = map[string]string{
	"rows added":      "INSERT INTO hive(apiary_id, label) VALUES (1, 'n'); INSERT INTO log VALUES ('x')",
	"rows altered":    "UPDATE hive SET label = label || '!' WHERE id % 7 = 0",
	"rows removed":    "DELETE FROM hive WHERE id < 400",
	"all removed":     "DELETE FROM hive; DELETE FROM apiary; DELETE FROM kind; DELETE FROM note",
	"a letter's case": "UPDATE apiary SET name = upper(name)",
	"a type alone": "UPDATE kind SET weight = 1.0 WHERE code = 'a'; UPDATE note SET body = 'text' " +
		"WHERE rowid = 'x'",
	"a key": "UPDATE kind SET code = 'z' WHERE code = 'a'; UPDATE hive SET id = 9999 WHERE id = 3",
	"unique values " +
		"swapped": "UPDATE apiary SET name = 'q' WHERE id = 1; UPDATE apiary SET name = 'Lime Hill' WHERE id = 2; " +
		"UPDATE apiary SET name = 'Old Mill' WHERE id = 1",
	"a counter":                "INSERT INTO apiary(name) VALUES ('x'); DELETE FROM apiary WHERE name = 'x'",
	"a counter by hand":        "UPDATE sqlite_sequence SET seq = 77; INSERT INTO sqlite_sequence VALUES ('hive', 3)",
	"the version":              "PRAGMA user_version = 8; PRAGMA application_id = 5",
	"much":                     "INSERT INTO note SELECT label, zeroblob(3000) FROM hive",
	"a rollback":               "BEGIN; DELETE FROM hive; ROLLBACK",
	"a table made and dropped": "CREATE TABLE t(a); INSERT INTO t VALUES (1); DROP TABLE t",
}

var schemaWorks = map[string]string{
	"a table":     "CREATE TABLE extra (a); INSERT INTO extra VALUES (1); UPDATE hive SET label = 'x'",
	"a column":    "ALTER TABLE hive ADD COLUMN colour TEXT",
	"an index":    "DROP INDEX hive_label",
	"a trigger":   "DROP TRIGGER hive_made",
	"a vacuum":    "DELETE FROM hive WHERE id > 100; VACUUM",
	"statistics":  "ANALYZE",
	"table gone":  "DROP TABLE note",
	"bigger page": "PRAGMA page_size = 8192; VACUUM; DELETE FROM hive",
}

func run(t *testing.T, path, text string) {
	t.Helper()
	d := &database{server: &server{}, path: path, wait: time.Second}
	defer d.Close()
	require.NoError(t, d.Query(context.Background(), text, engine.Sink{}))
}

func reset(t *testing.T, s *server, id string, r engine.Reset) *engine.Report {
	t.Helper()
	ctx := context.Background()
	d, err := s.Open(ctx, id, engine.Session{Wait: time.Second})
	require.NoError(t, err)
	defer d.Close()
	report, err := d.Reset(ctx, r)
	require.NoError(t, err)
	return report
}

func TestResetIsExact(t *testing.T) {
	for _, mode := range []string{"delete", "wal"} {
		for _, way := range []engine.Way{engine.Truncation, engine.Snapshot, ""} {
			s, template, copied := made(t, apiary, engine.Setting{Name: "journal_mode", Value: mode})
			e, err := s.Find(context.Background(), copied)
			require.NoError(t, err)
			want := content(t, s.file(template))
			require.Equal(t, want, content(t, s.file(copied)))
			base := e.Facts.Baseline
			// So does the one that resets, as in a long-lived process.
			long, err := s.Open(context.Background(), copied, engine.Session{Wait: time.Second})
			require.NoError(t, err)
			t.Cleanup(func() { long.Close() })
			// Another connection stays open all the while.
			other, err := connect(s.file(copied), readWrite, time.Second)
			require.NoError(t, err)
			t.Cleanup(other.close)
			for _, works := range []map[string]string{works, schemaWorks} {
				for name, work := range works {
					if mode == "wal" && name == "bigger page" {
						continue // SQLite keeps the page size of a file with a write-ahead log
					}
					t.Run(fmt.Sprintf("%s/%s/%s", mode, way, name), func(t *testing.T) {
						_, err := other.number("SELECT count(*) FROM hive")
						require.NoError(t, err)
						run(t, s.file(copied), work)
						report, err := long.Reset(context.Background(),
							engine.Reset{Way: way, Start: template, Baseline: base})
						require.NoError(t, err)
						base = report.Baseline
						assert.Equal(t, want, content(t, s.file(copied)))
						assert.Equal(t, name == "bigger page", report.Reconnect, report.Why)
						if report.Reconnect {
							other.close()
							other, err = connect(s.file(copied), readWrite, time.Second)
							require.NoError(t, err)
						}
						n, err := other.number("SELECT count(*) FROM hive")
						require.NoError(t, err)
						assert.EqualValues(t, 500, n, "the connection that stayed open sees the start state")
						again := reset(t, s, copied, engine.Reset{Way: way, Start: template, Baseline: base})
						assert.Empty(t, again.Tables, "a second reset finds nothing")
						if mode == "delete" {
							assert.Empty(t, again.Way)
						}
					})
				}
			}
		}
	}
}

func TestResetKeeps(t *testing.T) {
	s, template, copied := made(t, apiary)
	run(t, s.file(copied), "INSERT INTO log VALUES ('stays'); INSERT INTO apiary(name) VALUES ('stays'); INSERT "+
		"INTO note VALUES ('goes', 1)")
	report := reset(t, s, copied, engine.Reset{Start: template, Keep: []string{"LOG", "apiary"}})
	assert.Equal(t, []engine.TableReport{{Name: "note", Removed: 1}}, report.Tables)
	assert.Equal(t, 0, report.Sequences, "the counter of a kept table is kept")
	c, err := connect(s.file(copied), readWrite, time.Second)
	require.NoError(t, err)
	defer c.close()
	n, err := c.number("SELECT count(*) FROM log JOIN apiary ON what = name")
	require.NoError(t, err)
	assert.EqualValues(t, 1, n)
}

// TestWitness: a write shows, however soon after the mark it comes; what is
// not written is recognised without a look at the pages.
func TestWitness(t *testing.T) {
	for _, mode := range []string{"delete", "wal"} {
		s, _, copied := made(t, apiary, engine.Setting{Name: "journal_mode", Value: mode})
		c, err := connect(s.file(copied), readWrite, time.Second)
		require.NoError(t, err)
		defer c.close()
		for i := range 200 {
			base, err := mark(s.file(copied), nil)
			require.NoError(t, err)
			_, err = c.number("SELECT count(*) FROM hive")
			require.NoError(t, err)
			same, err := untouched(s.file(copied), base)
			require.NoError(t, err)
			require.True(t, same, "reading is no touch")
			_, err = c.do("UPDATE kind SET weight = ?", i)
			require.NoError(t, err)
			same, err = untouched(s.file(copied), base)
			require.NoError(t, err)
			require.False(t, same, "%s: write %d was not seen", mode, i)
			_, err = c.do("PRAGMA wal_checkpoint(TRUNCATE)")
			require.NoError(t, err)
		}
	}
}

func TestResetNamesALock(t *testing.T) {
	s, template, copied := made(t, apiary)
	run(t, s.file(copied), "DELETE FROM kind")
	for _, hold := range []string{"BEGIN IMMEDIATE", "BEGIN; SELECT * FROM hive LIMIT 1"} {
		other := &database{server: s, path: s.file(copied), wait: time.Second}
		require.NoError(t, other.Query(context.Background(), hold, engine.Sink{}))
		d := &database{server: s, id: copied, path: s.file(copied), wait: 10 * time.Millisecond}
		_, err := d.Reset(context.Background(), engine.Reset{Start: template})
		assert.ErrorContains(t, err, "another connection holds a lock on it (waited 10ms)", hold)
		d.Close()
		other.Close()
	}
	assert.NotEmpty(t, reset(t, s, copied, engine.Reset{Start: template}).Tables)
}

func TestRollbackIsRefused(t *testing.T) {
	s, template, copied := made(t, apiary)
	d, err := s.Open(context.Background(), copied, engine.Session{})
	require.NoError(t, err)
	_, err = d.Reset(context.Background(), engine.Reset{Way: engine.Rollback, Start: template})
	assert.ErrorContains(t, err, "no reset by rollback")
	assert.Equal(t, fault.Usage, fault.KindOf(err))
}

func TestChanges(t *testing.T) {
	s, template, copied := made(t, apiary)
	run(t, s.file(copied), `INSERT INTO apiary(name) VALUES ('new'); DELETE FROM kind WHERE code = 'b';
		UPDATE kind SET weight = 2 WHERE code = 'a';
		CREATE TABLE extra (a UNIQUE); CREATE INDEX extra_a ON extra (a); INSERT INTO extra VALUES (1);
		DROP TRIGGER hive_made;
		ALTER TABLE log ADD COLUMN at INT; ALTER TABLE log DROP COLUMN what; DROP TABLE note`)
	d, err := s.Open(context.Background(), copied, engine.Session{Wait: time.Second})
	require.NoError(t, err)
	defer d.Close()
	changes, err := d.Changes(context.Background(), engine.Compare{Start: template, Rows: 5})
	require.NoError(t, err)
	assert.Equal(t, &engine.Changes{
		Tables: []engine.TableChange{
			{Name: "apiary", Added: 1, Columns: []string{"id", "name"},
				Rows: []engine.RowChange{{After: []any{int64(3), "new"}}}},
			{Name: "kind", Removed: 1, Altered: 1, Columns: []string{"code", "weight"}, Rows: []engine.RowChange{
				{Before: []any{"b", 1.5}}, {Before: []any{"a", int64(1)}, After: []any{"a", int64(2)}}}},
			{Name: "extra", Added: 1, Columns: []string{"a"}, Rows: []engine.RowChange{{After: []any{int64(1)}}}},
		},
		Sequences: []engine.SequenceChange{{Name: "apiary", Before: "2", After: "3"}},
		Schema: []engine.SchemaChange{
			{What: "added", Kind: "table", Name: "extra"}, {What: "removed", Kind: "trigger", Name: "hive_made"},
			{What: "altered", Kind: "table", Name: "log",
				Details: []string{"removed column what", "added column at INT"}},
			{What: "removed", Kind: "table", Name: "note"},
		},
	}, changes)
}

func TestApplyTellsWhere(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"syntax", "CREATE TABLE a (x);\n\n  CRATE TABLE b (x);",
			`m.sql:3:3: SQLite refuses this: near "CRATE": syntax error`},
		{"inside", "CREATE TABLE a (x);\nINSERT INTO a (x,\n  y) VALUES (1, 2);", "m.sql:2:"},
		{"constraint", "CREATE TABLE a (x UNIQUE);\nINSERT INTO a VALUES (1), (1);",
			"m.sql:2:1: SQLite refuses this: UNIQUE constraint failed: a.x (SQLite code 2067)"},
		{"open string", "SELECT 1;\nSELECT 'abc",
			"m.sql:2:8: SQLite refuses this: a string is begun here and never ended"},
		{"open transaction", "BEGIN; CREATE TABLE a (x);", "m.sql: it leaves a transaction open"},
		{"attach", "\nATTACH '/tmp/x.db' AS x;", "m.sql:2:1: this statement reaches beyond the database"},
		{"vacuum into", "VACUUM INTO '/tmp/x.db'", "m.sql:1:1: this statement reaches beyond the database"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s, _, copied := made(t, apiary)
			before := content(t, s.file(copied))
			d, err := s.Open(context.Background(), copied, engine.Session{Wait: time.Second})
			require.NoError(t, err)
			defer d.Close()
			err = d.Apply(context.Background(), engine.Script{File: "m.sql", Text: c.text, First: 1})
			assert.ErrorContains(t, err, c.want)
			assert.Equal(t, before, content(t, s.file(copied)), "a migration that fails changes nothing")
		})
	}
}

func TestLoad(t *testing.T) {
	s, _, copied := made(t, apiary)
	d, err := s.Open(context.Background(), copied, engine.Session{Wait: time.Second})
	require.NoError(t, err)
	defer d.Close()
	load := func(table string, columns ...string) error {
		return d.Load(context.Background(),
			engine.Table{File: "d.csv", Name: table, Columns: columns, Rows: [][]any{{"d", nil}, {"a", "1"}},
				Lines: []int{2, 3}})
	}
	assert.ErrorContains(t, load("kinds", "code", "weight"), `d.csv:1: there is no table "kinds"`)
	assert.ErrorContains(t, load("kind", "code", "wait"), `d.csv:1: table "kind" has no column "wait"`)
	assert.ErrorContains(t, load("kind", "code", "weight"),
		"d.csv:3: SQLite refuses this row: UNIQUE constraint failed")
	assert.NoError(t, load("note", "rowid", "body"))
}

func TestDamagedTemplate(t *testing.T) {
	s, template, _ := made(t, apiary)
	e, err := s.Find(context.Background(), template)
	require.NoError(t, err)
	ok, err := s.IsIntact(context.Background(), e)
	require.NoError(t, err)
	assert.True(t, ok)
	require.NoError(t, os.Chmod(s.file(template), 0o600))
	f, err := os.OpenFile(s.file(template), os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte{1}, 5000)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	ok, err = s.IsIntact(context.Background(), e)
	require.NoError(t, err)
	assert.False(t, ok)
}

func TestWatch(t *testing.T) {
	s, _, copied := made(t, apiary)
	came, err := s.Watch(context.Background(), copied)
	require.NoError(t, err)
	seen, err := came(0)
	require.NoError(t, err)
	assert.Equal(t, engine.Nobody, seen)
	run(t, s.file(copied), "CREATE TABLE seen (x); DROP TABLE seen")
	seen, err = came(0)
	require.NoError(t, err)
	assert.Equal(t, engine.Hemzo, seen, "not somebody")
	c, err := connect(s.file(copied), readOnly, time.Second)
	require.NoError(t, err)
	_, err = c.number("SELECT count(*) FROM hive")
	require.NoError(t, err)
	c.close()
	run(t, s.file(copied), "SELECT 1 FROM hive LIMIT 1")
	seen, err = came(0)
	require.NoError(t, err)
	assert.Equal(t, engine.Somebody, seen)
}

// TestHalfASnapshot: the facts of a snapshot whose maker was killed before its
// file had its name go as soon as the copy has lost its owner.
func TestHalfASnapshot(t *testing.T) {
	s, _, copied := made(t, apiary)
	ctx := context.Background()
	e, err := s.Find(ctx, copied)
	require.NoError(t, err)
	left := func(owner string) error {
		e.Facts.Owner.Lock = owner
		require.NoError(t, s.Write(copied, e.Facts))
		id := engine.NewID(engine.Kept)
		require.NoError(t, s.Write(id, engine.Facts{Format: engine.Format, Of: copied}))
		require.NoError(t, s.Clear(ctx))
		_, err := os.Stat(strings.TrimSuffix(s.file(id), ".db") + ".json")
		return err
	}
	alive, _, err := s.Own(ctx)
	require.NoError(t, err)
	assert.NoError(t, left(alive), "it may be at it still")
	assert.ErrorIs(t, left("owner-gone"), os.ErrNotExist)
	assert.NoError(t, left(""), "nobody knows: it goes after a minute")
	require.NoError(t, s.Drop(ctx, copied))
	require.NoError(t, s.Clear(ctx))
	names, err := os.ReadDir(s.Path)
	require.NoError(t, err)
	for _, n := range names {
		assert.NotContains(t, n.Name(), "hemzo_s_")
	}
}

// TestOpenWriter: a write transaction that is open shows neither in the file
// nor beside it; a reset waits for it, names it, and puts back what it commits.
func TestOpenWriter(t *testing.T) {
	for _, mode := range []string{"delete", "wal"} {
		s, template, copied := made(t, apiary, engine.Setting{Name: "journal_mode", Value: mode})
		want := content(t, s.file(template))
		e, err := s.Find(t.Context(), copied)
		require.NoError(t, err)
		for _, way := range []engine.Way{"", engine.Truncation, engine.Snapshot} {
			d, err := s.Open(t.Context(), copied, engine.Session{Wait: 50 * time.Millisecond})
			require.NoError(t, err)
			writer, err := connect(s.file(copied), readWrite, 0)
			require.NoError(t, err)
			_, err = writer.do("BEGIN IMMEDIATE")
			require.NoError(t, err)
			_, err = writer.do("INSERT INTO log VALUES ('left')")
			require.NoError(t, err)
			r := engine.Reset{Way: way, Start: template, Baseline: e.Facts.Baseline}
			_, err = d.Reset(t.Context(), r)
			require.ErrorContains(t, err, "another connection holds a lock on it", "%s by %q", mode, way)
			_, err = writer.do("COMMIT")
			require.NoError(t, err)
			writer.close()
			report, err := d.Reset(t.Context(), r)
			require.NoError(t, err)
			e.Facts.Baseline = report.Baseline
			require.Equal(t, want, content(t, s.file(copied)))
			require.NoError(t, d.Close())
		}
	}
}

// TestOtherFile: a file that was put in the copy's place, emptied or cut short is
// replaced, whoever has the old one open; in place that is refused.
func TestOtherFile(t *testing.T) {
	for _, mode := range []string{"delete", "wal"} {
		s, template, copied := made(t, apiary, engine.Setting{Name: "journal_mode", Value: mode})
		want, file := content(t, s.file(template)), s.file(copied)
		d, err := s.Open(t.Context(), copied, engine.Session{Wait: time.Second})
		require.NoError(t, err)
		e, err := s.Find(t.Context(), copied)
		require.NoError(t, err)
		base := e.Facts.Baseline
		client := func(sql string) *conn {
			c, err := connect(file, readWrite, time.Second)
			require.NoError(t, err)
			_, _ = c.do(sql)
			return c
		}
		for what, work := range map[string]func(){
			"renamed": func() {
				b, err := os.ReadFile(file)
				require.NoError(t, err)
				require.NoError(t, os.WriteFile(file+".new", b, 0o600))
				require.NoError(t, os.Rename(file+".new", file))
				client("INSERT INTO log VALUES ('new')").close()
			},
			"emptied": func() { require.NoError(t, os.Truncate(file, 0)) },
			"removed": func() { require.NoError(t, os.Remove(file)) },
			"cut":     func() { require.NoError(t, os.Truncate(file, 5000)) },
			"garbage": func() { require.NoError(t, os.WriteFile(file, bytes.Repeat([]byte("honey "), 999), 0o600)) },
		} {
			old := client("INSERT INTO log VALUES ('old')")
			// its connections are open
			report, err := d.Reset(t.Context(), engine.Reset{Start: template, Baseline: base})
			require.NoError(t, err, what)
			base = report.Baseline
			work()
			_, err = d.Reset(t.Context(), engine.Reset{Start: template, Baseline: base, InPlace: true})
			require.ErrorContains(t, err, "cannot be put back in place", what)
			report, err = d.Reset(t.Context(), engine.Reset{Start: template, Baseline: base})
			require.NoError(t, err, what)
			assert.True(t, report.Reconnect, what)
			base = report.Baseline
			old.close()
			require.Equal(t, want, content(t, file), "%s, %s", mode, what)
		}
		require.NoError(t, d.Close())
	}
}

// TestHowItIsWritten: a journal mode that was changed is put back, or said to
// stay; a text of the schema that was written by hand is put back by any way.
func TestHowItIsWritten(t *testing.T) {
	s, template, copied := made(t, apiary)
	want, file := content(t, s.file(template)), s.file(copied)
	var base json.RawMessage
	reset := func(way engine.Way) *engine.Report {
		d, err := s.Open(t.Context(), copied, engine.Session{Wait: time.Second})
		require.NoError(t, err)
		defer d.Close()
		report, err := d.Reset(t.Context(), engine.Reset{Way: way, Start: template, Baseline: base})
		require.NoError(t, err)
		base = report.Baseline
		require.Equal(t, want, content(t, file))
		return report
	}
	reset("")
	for _, way := range []engine.Way{engine.Truncation, engine.Snapshot} {
		c, err := connect(file, readWrite, time.Second)
		require.NoError(t, err)
		_, err = c.do("PRAGMA journal_mode = wal")
		require.NoError(t, err)
		_, err = c.do("BEGIN")
		require.NoError(t, err)
		_, err = c.number("SELECT count(*) FROM hive")
		require.NoError(t, err)
		assert.Equal(t, []string{"journal_mode wal (it was delete; others have the file open)"}, reset(way).Stays)
		c.rollback()
		_, err = c.do("INSERT INTO log VALUES ('x')")
		require.NoError(t, err)
		c.close()
		report := reset(way)
		assert.Empty(t, report.Stays)
		assert.Equal(t, []string{"journal_mode delete"}, report.Settings)

		c, err = connect(file, readWrite, time.Second)
		require.NoError(t, err)
		_, err = c.do("PRAGMA writable_schema = on")
		require.NoError(t, err)
		_, err = c.do("UPDATE sqlite_schema SET sql = replace(sql, 'mother INTEGER', 'mother INT') WHERE name = 'hive'")
		require.NoError(t, err)
		c.close()
		assert.True(t, reset(way).Schema, way)
	}
}

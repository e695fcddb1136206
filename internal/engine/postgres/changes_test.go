package postgres

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
)

// TestChanges: rows, counters and the schema, columns one by one; what came or
// went with its table is not told by itself, and an added table's rows are.
func TestChanges(t *testing.T) {
	s, copied, _ := beginWith(t, whole, `CREATE TABLE kind (code text PRIMARY KEY);
		INSERT INTO kind VALUES ('d'), ('z');
		CREATE TABLE hive (id serial PRIMARY KEY, label text, frames int, kind text REFERENCES kind);
		CREATE TABLE old (id serial PRIMARY KEY); CREATE VIEW labels AS SELECT label FROM hive`)
	d, err := s.Open(t.Context(), copied.ID, engine.Session{})
	require.NoError(t, err)
	defer d.Close()
	run := func(sql string) {
		require.NoError(t, d.Apply(t.Context(), engine.Script{File: "work.sql", Text: sql, First: 1}))
	}
	run(`INSERT INTO hive (label, kind) VALUES ('a', 'd'); UPDATE kind SET code = 'y' WHERE code = 'z';
		ALTER TABLE hive DROP COLUMN frames, ADD COLUMN "queen's" date, ALTER COLUMN kind SET NOT NULL,
			ADD CONSTRAINT named CHECK (label <> '');
		CREATE TABLE extra (id serial PRIMARY KEY, n int UNIQUE, kind text REFERENCES kind);
		INSERT INTO extra (n) VALUES (7); DROP TABLE old;
		ALTER TABLE kind ALTER COLUMN code TYPE varchar(9);
		CREATE TRIGGER same BEFORE UPDATE ON hive FOR EACH ROW EXECUTE FUNCTION suppress_redundant_updates_trigger()`)
	changes, err := d.Changes(t.Context(), engine.Compare{Start: copied.Facts.Start, Rows: 5})
	require.NoError(t, err)
	assert.Equal(t, &engine.Changes{
		Tables: []engine.TableChange{
			{Name: "extra", Added: 1, Columns: []string{"id", "n", "kind"},
				Rows: []engine.RowChange{{After: []any{int64(1), int64(7), nil}}}},
			{Name: "hive", Added: 1, Columns: []string{"id", "label", "kind"},
				Rows: []engine.RowChange{{After: []any{int64(1), "a", "d"}}}},
			{Name: "kind", Added: 1, Removed: 1, Columns: []string{"code"},
				Rows: []engine.RowChange{{After: []any{"y"}}, {Before: []any{"z"}}}},
		},
		Sequences: []engine.SequenceChange{{Name: "hive_id_seq", Before: "0", After: "1"}},
		Schema: []engine.SchemaChange{
			{What: "added", Kind: "constraint", Name: "named on hive"},
			{What: "added", Kind: "table", Name: "extra"},
			{What: "altered", Kind: "table", Name: "hive",
				Details: []string{"removed column frames", "altered column kind", `added column "queen's" date`}},
			{What: "altered", Kind: "table", Name: "kind",
				Details: []string{"column code was text, is character varying(9)"}},
			{What: "removed", Kind: "table", Name: "old"},
			{What: "added", Kind: "trigger", Name: "same on hive"},
		},
	}, changes)
}

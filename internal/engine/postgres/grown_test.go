package postgres

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/witness"
)

// TestGrown: the baseline of a layer above another is the one that counting all
// of its rows gives, whatever its step has done.
func TestGrown(t *testing.T) {
	const tables = `CREATE TABLE kind (code text); INSERT INTO kind SELECT g::text FROM generate_series(1,
		3000) g; CREATE UNLOGGED TABLE scale (n int); INSERT INTO scale VALUES (1);
		CREATE TABLE hive (id serial PRIMARY KEY, label text); INSERT INTO hive (label) VALUES ('a'),
			('b'); CREATE TABLE gone (n int); CREATE MATERIALIZED VIEW labels AS SELECT label FROM hive`
	s, copied, _ := beginWith(t, whole, tables)
	template := copied.Facts.Start
	for i, step := range []string{
		"SELECT 1", "INSERT INTO hive (label) VALUES ('c')", "DELETE FROM kind WHERE code < '2'", "TRUNCATE hive",
		"INSERT INTO scale VALUES (2)", "DROP TABLE gone; CREATE TABLE gone (n int); INSERT INTO gone VALUES (1)",
		"CREATE TABLE jar (n int); INSERT INTO jar VALUES (1), (2); DELETE FROM hive; REFRESH MATERIALIZED VIEW labels",
		"ALTER TABLE kind RENAME TO sort",
		"CREATE TYPE size AS ENUM ('s', 'm'); COMMENT ON TABLE kind IS 'of honey'",
		"CREATE CAST (text AS hive) WITH INOUT",
		"CREATE FUNCTION f() RETURNS int LANGUAGE sql AS 'SELECT 1'; GRANT SELECT ON hive TO PUBLIC",
		"DROP VIEW IF EXISTS v",
		"CREATE OPERATOR === (FUNCTION = int4eq, LEFTARG = int, RIGHTARG = int); " +
			"CREATE RULE r AS ON INSERT TO kind DO ALSO SELECT 1",
		"CREATE STATISTICS st ON id, label FROM hive; CREATE COLLATION c FROM \"C\"",
		"ALTER TABLE hive ADD COLUMN n int DEFAULT 4; UPDATE hive SET n = 5 WHERE label = 'a'",
	} {
		work, above := engine.NewID(engine.Work), "hemzo_t_0000000000"+string("abcdef0123456789"[i])+"0"
		facts := engine.Facts{Format: 1, Database: "apiary", Fingerprint: "y"}
		require.NoError(t, s.Copy(t.Context(), template, work, facts), step)
		_, grown := s.inherited[work]
		assert.True(t, grown, step)
		d, err := s.Open(t.Context(), work, engine.Session{})
		require.NoError(t, err)
		require.NoError(t, d.Apply(t.Context(), engine.Script{File: "step.sql", Text: step, First: 1}), step)
		require.NoError(t, d.Close())
		require.NoError(t, s.Rename(t.Context(), work, above, facts), step)
		e, err := s.Find(t.Context(), above)
		require.NoError(t, err)
		var got witness.Baseline
		require.NoError(t, json.Unmarshal(e.Facts.Baseline, &got))
		assert.Equal(t, s.exact(), got.Exact, step)

		fresh := engine.NewID(engine.Copy)
		require.NoError(t, s.Copy(t.Context(), above, fresh, facts), step)
		conn, err := dialTest(t.Context(), s, fresh, "")
		require.NoError(t, err)
		want, err := s.witness.Take(t.Context(), conn, true, nil)
		require.NoError(t, err)
		require.NoError(t, conn.Close(t.Context()))
		for j, m := range got.Tables {
			assert.Equal(t, want.Tables[j].Name, m.Name, step)
			assert.Equal(t, want.Tables[j].Count, m.Count, "%s: rows of %s", step, m.Name)
			assert.Equal(t, m.Count > 0, m.Rows, "%s: rows of %s", step, m.Name)
		}
		for j, m := range got.Catalogs {
			assert.Equal(t, want.Catalogs[j].Name, m.Name, step)
			assert.Equal(t, want.Catalogs[j].Count, m.Count, "%s: rows of %s", step, m.Name)
		}
		assert.Equal(t, want.Relations, got.Relations, step)
	}
}

package postgres

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/reset"
)

// bees has what is in the way of who cannot switch it off: foreign keys that do something,
// triggers of all kinds, numbers that are always the table's own, odd names and values.
const bees = `CREATE TABLE "we""ird" ("se lect" text PRIMARY KEY, "a b" int, "x""y" bytea, at timestamptz, v interval,
	n numeric, j jsonb, m money, r int4range);
INSERT INTO "we""ird" VALUES (E'it''s\ta\\b', 1, '\x00ff', '2026-01-01 00:00:00.123456+03', '1 mon 2 days', 1.50,
	'{"a": "\\n"}', 12.5, '[1,5)'), ('b', 2, NULL, NULL, NULL, 'NaN', NULL, NULL, 'empty');
CREATE TABLE "Bee" (id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY, up text REFERENCES "we""ird" ON UPDATE CASCADE
	ON DELETE CASCADE, code text UNIQUE, n int GENERATED ALWAYS AS (length(up)) STORED);
INSERT INTO "Bee" (up, code) VALUES ('b', 'c1'), (E'it''s\ta\\b', 'c2');
CREATE TABLE egg (bee int REFERENCES "Bee" ON DELETE SET NULL, code text REFERENCES "Bee" (code));
INSERT INTO egg VALUES (1, 'c1'), (2, NULL);
CREATE TABLE log (what text);
CREATE FUNCTION "f""n"() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN INSERT INTO log VALUES (TG_OP || ' ' || TG_TABLE_NAME); RETURN coalesce(new, old); END $$;
CREATE TRIGGER "t A" BEFORE INSERT OR UPDATE OR DELETE ON "we""ird" FOR EACH ROW EXECUTE FUNCTION "f""n"();
CREATE TRIGGER "t"" O" AFTER INSERT OR UPDATE OR DELETE ON "Bee" FOR EACH ROW EXECUTE FUNCTION "f""n"();
ALTER TABLE "Bee" ENABLE ALWAYS TRIGGER "t"" O";
CREATE CONSTRAINT TRIGGER later AFTER INSERT ON egg DEFERRABLE INITIALLY DEFERRED FOR EACH ROW
	EXECUTE FUNCTION "f""n"();
CREATE TABLE big (id int PRIMARY KEY, body text);
INSERT INTO big SELECT g, repeat('x', 200) FROM generate_series(1, 20000) g;
CREATE TABLE a (id int PRIMARY KEY, b int); CREATE TABLE b (id int PRIMARY KEY, a int NOT NULL REFERENCES a);
ALTER TABLE a ADD FOREIGN KEY (b) REFERENCES b; INSERT INTO a VALUES (1, NULL); INSERT INTO b VALUES (1, 1);
UPDATE a SET b = 1;
CREATE TABLE fold (name text PRIMARY KEY, x int); CREATE RULE r AS ON UPDATE TO fold DO INSTEAD NOTHING;
CREATE TABLE loose (x numeric PRIMARY KEY); INSERT INTO loose VALUES (1.0), (2);
CREATE TABLE tied (x numeric REFERENCES loose ON DELETE CASCADE ON UPDATE CASCADE); INSERT INTO tied VALUES (1);
CREATE TABLE "$1" (id int PRIMARY KEY); INSERT INTO "$1" VALUES (1), (2); CREATE TABLE led (one int REFERENCES "$1");
CREATE SCHEMA "o s"; CREATE TABLE "o s"."t.t" (id int PRIMARY KEY);`

// TestBound: a role that is no superuser puts rows back in place whatever foreign keys and triggers
// do, and replaces the copy where it cannot; triggers are enabled then as they were.
func TestBound(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	s, copied, fresh := beginWith(t, bound, bees)
	want, dump := contents(t, s, fresh.ID), dumped(t, s, fresh.ID)
	o, err := reset.OpenFresh(ctx, s, copied, 5*time.Second)
	require.NoError(t, err)
	defer o.Close()
	const none, rows, whole = engine.Way(""), engine.Truncation, engine.Snapshot
	for _, work := range []struct {
		way engine.Way
		sql string
	}{
		{none, "SELECT 1"},
		{rows, `INSERT INTO "we""ird" VALUES ('c', 3); INSERT INTO "Bee" (up, code) VALUES ('c', 'c3');
			INSERT INTO egg VALUES (3, 'c3')`},
		{rows, `UPDATE "we""ird" SET "a b" = 7, "x""y" = '\x01', j = '[1]', n = 2, at = now(), v = '3 days', m = 9,
			r = '[2,3)'`},
		{rows, `UPDATE "we""ird" SET "se lect" = 'z' WHERE "se lect" = 'b'`},
		{rows, `DELETE FROM egg; DELETE FROM "we""ird" WHERE "se lect" <> 'b'`},
		{rows, `UPDATE egg SET code = NULL; DELETE FROM "Bee" WHERE id = 1; INSERT INTO "Bee" (up, code) VALUES ('b', 'c1')`},
		{rows, `UPDATE egg SET code = NULL; UPDATE "Bee" SET code = 'new' WHERE id = 1;
			INSERT INTO "Bee" (up, code) VALUES ('b', 'c1'); UPDATE egg SET code = 'c1', bee = 3`},
		{rows, "DELETE FROM big WHERE id % 3 = 0; UPDATE big SET body = 'y' WHERE id = 5; INSERT INTO big VALUES (-1, 'q')"},
		{rows, `TRUNCATE "we""ird", "Bee", egg RESTART IDENTITY; TRUNCATE big`},
		{rows, "UPDATE a SET b = NULL; UPDATE b SET id = 5; UPDATE a SET b = 5"},
		{whole, "UPDATE a SET b = NULL; DELETE FROM b; DELETE FROM a"}, // each needs the other's first
		{whole, "INSERT INTO fold VALUES ('x', 1)"},
		{whole, "INSERT INTO loose VALUES (3)"}, // equal keys may have other texts
		{rows, "INSERT INTO tied VALUES (2)"},
		{rows, `UPDATE "$1" SET id = id; INSERT INTO "$1" VALUES (7); INSERT INTO led VALUES (7)`},
		{whole, "ALTER TABLE big ADD COLUMN c int"},
		{rows, `INSERT INTO "o s"."t.t" SELECT generate_series(1, 5000)`},
		{rows, `BEGIN; DELETE FROM egg; ROLLBACK; SELECT nextval('"Bee_id_seq"')`},
	} {
		client, err := dialTest(ctx, s, copied.ID, s.owner(copied.Facts))
		require.NoError(t, err)
		require.NoError(t, pg.Run(ctx, client, work.sql), work.sql)
		report, err := o.Do(ctx, reset.Options{})
		require.NoError(t, err, work.sql)
		assert.Equal(t, work.way, report.Way, "%s: %s", work.sql, report.Why)
		if work.way != whole {
			require.NoError(t, client.Ping(ctx), "the connection stays")
		}
		_ = client.Close(ctx)
		require.Equal(t, want, contents(t, s, copied.ID), work.sql)
		require.Equal(t, dump, dumped(t, s, copied.ID), work.sql)
	}
}

package postgres

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/engine/postgres/witness"
	"hemzo/internal/fault"
	"hemzo/internal/place"
	"hemzo/internal/reset"
)

const hives = `
CREATE TYPE state AS ENUM ('thriving', 'lost');
CREATE TABLE kind (code text PRIMARY KEY, title text);
CREATE TABLE hive (id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY, kind text REFERENCES kind,
		mother int REFERENCES hive, label text, loud text GENERATED ALWAYS AS (upper(label)) STORED,
		state state DEFAULT 'thriving', notes jsonb);
CREATE TABLE queen (id serial PRIMARY KEY, hive int NOT NULL REFERENCES hive
		ON DELETE CASCADE DEFERRABLE INITIALLY DEFERRED);
ALTER TABLE hive ADD COLUMN queen int REFERENCES queen DEFERRABLE INITIALLY DEFERRED;
CREATE TABLE reading (hive int, at date) PARTITION BY RANGE (at);
CREATE TABLE reading_1 PARTITION OF reading FOR VALUES FROM ('2026-01-01') TO ('2026-07-01');
CREATE TABLE reading_2 PARTITION OF reading FOR VALUES FROM ('2026-07-01') TO ('2027-01-01');
CREATE TABLE parent (x int); CREATE TABLE child (y int) INHERITS (parent);
CREATE UNLOGGED TABLE cache (k text, v text);
CREATE TABLE wide (id int, body text);
CREATE TABLE rights (who aclitem[]);
CREATE SCHEMA other; CREATE TABLE other.journal (at timestamptz DEFAULT now(), what text);
CREATE MATERIALIZED VIEW loud AS SELECT loud FROM hive; CREATE UNIQUE INDEX ON loud (loud);
CREATE SEQUENCE tickets START 100;
CREATE FUNCTION noted() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN INSERT INTO other.journal (what) VALUES (TG_OP); RETURN coalesce(new, old); END $$;
CREATE TRIGGER noted AFTER INSERT OR DELETE ON hive FOR EACH ROW EXECUTE FUNCTION noted();
CREATE TABLE many (id int PRIMARY KEY);
CREATE TABLE firing (x int); CREATE TRIGGER always AFTER DELETE
		ON firing FOR EACH ROW EXECUTE FUNCTION noted(); ALTER TABLE firing ENABLE ALWAYS TRIGGER always;
CREATE RULE keeps AS ON DELETE TO kind DO INSTEAD NOTHING;
INSERT INTO kind VALUES ('d', 'Dadant'), ('z', NULL);
INSERT INTO hive (kind, label, notes) VALUES ('d', 'a', '{"brood": 7}'), ('z', 'b', NULL);
INSERT INTO queen (hive) VALUES (1), (2);
UPDATE hive SET queen = id;
INSERT INTO reading VALUES (1, '2026-02-02'), (2, '2026-08-08');
INSERT INTO wide SELECT g, repeat(md5(g::text), 300) FROM generate_series(1, 200) g;
INSERT INTO many SELECT g FROM generate_series(1, 30000) g;
INSERT INTO cache VALUES ('a', 'b'); INSERT INTO rights VALUES ('{=r/hemzo}');
CREATE MATERIALIZED VIEW titles AS SELECT code, title FROM kind; CREATE UNIQUE INDEX ON titles (code);
SELECT nextval('tickets');
`

// begin starts a private server and returns a copy of a template with hives,
// and one more, that stays as it is. Where it is not exact, the visibility map
// is not believed.
func begin(t testing.TB, exact bool) (s *server, copied, fresh engine.Entry) {
	t.Helper()
	if exact {
		return beginWith(t, whole, hives)
	}
	return beginWith(t, witness.Trust{}, hives)
}

// beginWith is begin with a schema of one's own, and a server of which no more is
// believed than is said.
func beginWith(t testing.TB, trust witness.Trust, schema string) (s *server, copied, fresh engine.Entry) {
	t.Helper()
	runtime.LockOSThread() // the server dies with the thread that starts it
	dir, err := os.MkdirTemp("/dev/shm", "hemzo-test-")
	if err != nil {
		dir, err = os.MkdirTemp("", "hemzo-test-")
	}
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o711))
	folder := filepath.Join(dir, "server")
	require.NoError(t, os.Mkdir(folder, 0o700))
	log, err := os.Create(filepath.Join(dir, "log"))
	require.NoError(t, err)
	started, err := place.Start(t.Context(), Engine{}, engine.Home{Password: "secret", Folder: folder, Log: log},
		engine.Spec{})
	require.NoError(t, err)
	opened, err := connect(t.Context(), started.Address, engine.Patience{})
	require.NoError(t, err)
	s = opened.(*server)
	s.trust = witness.Trust{Map: s.trust.Map && trust.Map, Log: s.trust.Log && trust.Log}
	if trust == ordinary || trust == bound {
		s.private = false
		for _, setting := range []string{"autovacuum = on", "autovacuum_naptime = 1", "autovacuum_vacuum_threshold = 0",
			"autovacuum_vacuum_scale_factor = 0", "autovacuum_vacuum_insert_threshold = 0",
			"autovacuum_vacuum_insert_scale_factor = 0", "autovacuum_vacuum_cost_delay = 0"} {
			require.NoError(t, s.exec(t.Context(), "ALTER SYSTEM SET "+setting))
		}
		require.NoError(t, s.exec(t.Context(), "SELECT pg_reload_conf()"))
	}
	private := s
	t.Cleanup(func() {
		assert.NoError(t, private.Close())
		assert.NoError(t, syscall.Kill(started.PID, syscall.SIGQUIT))
		started.Wait()
		log.Close()
		assert.NoError(t, os.RemoveAll(dir))
		runtime.UnlockOSThread()
	})
	if trust == bound {
		require.NoError(t, s.exec(t.Context(), "CREATE ROLE maker CREATEDB CREATEROLE LOGIN PASSWORD 'Maker1'"))
		s = existing(t, urlOf(s, "maker", "Maker1"))
	}
	facts := engine.Facts{Format: 1, Database: "apiary", Fingerprint: "x"}
	work, template := engine.NewID(engine.Work), "hemzo_t_0123456789ab"
	require.NoError(t, s.Create(t.Context(), work, engine.Spec{Encoding: "UTF8", Locale: "C"}, facts))
	d, err := s.Open(t.Context(), work, engine.Session{})
	require.NoError(t, err)
	require.NoError(t, d.Apply(t.Context(), engine.Script{File: "hives.sql", Text: schema, First: 1}))
	require.NoError(t, d.Close())
	require.NoError(t, s.Rename(t.Context(), work, template, facts))
	facts.Start = template
	for _, e := range []*engine.Entry{&copied, &fresh} {
		id := engine.NewID(engine.Copy)
		require.NoError(t, s.Copy(t.Context(), template, id, facts))
		*e, err = s.Find(t.Context(), id)
		require.NoError(t, err)
	}
	return s, copied, fresh
}

// contents is all that a database holds, in order.
func contents(t *testing.T, s *server, id string) []engine.Content {
	t.Helper()
	d, err := s.Open(t.Context(), id, engine.Session{})
	require.NoError(t, err)
	defer d.Close()
	all, err := d.Contents(t.Context(), true)
	require.NoError(t, err)
	slices.SortFunc(all, func(a, b engine.Content) int { return strings.Compare(a.Kind+a.Name, b.Kind+b.Name) })
	return all
}

// TestReset: whatever was done, a reset sees it, and afterwards the copy
// holds what a fresh one holds, to the row and the counter.
func TestReset(t *testing.T) {
	t.Parallel()
	s, copied, fresh := begin(t, true)
	want := contents(t, s, fresh.ID)
	o, err := reset.Open(t.Context(), s, copied, 300*time.Millisecond)
	require.NoError(t, err)
	defer o.Close()
	report, err := o.Do(t.Context(), reset.Options{})
	require.NoError(t, err)
	assert.Equal(t, engine.Way(""), report.Way, "nobody has been here")
	const none, rows, whole = engine.Way(""), engine.Truncation, engine.Snapshot
	for _, work := range []struct {
		what, sql string
		way       engine.Way
	}{
		{"reading", "SELECT count(*) FROM hive; SELECT * FROM wide", none},
		{"reading again", "SELECT * FROM kind", none}, {"analysing", "ANALYZE", none},
		{"insert", "INSERT INTO hive (label) VALUES ('c')", rows},
		{"update", "UPDATE hive SET label = label WHERE id = 1", rows},
		{"delete", "UPDATE hive SET queen = NULL; DELETE FROM queen WHERE id = 2", rows},
		{"insert rolled back", "BEGIN; INSERT INTO wide VALUES (0, ''); ROLLBACK", rows},
		{"counter rolled back", "BEGIN; INSERT INTO hive (label) VALUES ('c'); ROLLBACK", rows},
		{"nextval", "SELECT nextval('tickets')", rows}, {"setval", "SELECT setval('tickets', 7, false)", rows},
		{"restart", "ALTER SEQUENCE tickets RESTART", rows},
		{"restart with truncate", "TRUNCATE queen, hive RESTART IDENTITY CASCADE", rows},
		{"truncate", "TRUNCATE wide", rows}, {"truncate, cascading", "TRUNCATE hive CASCADE", rows},
		{"truncate, filled " +
			"again", "TRUNCATE wide; INSERT INTO wide SELECT g, repeat(md5(g::text), 300) FROM generate_series(1, " +
			"200) g", rows},
		{"delete all and vacuum", "DELETE FROM wide; COMMIT; VACUUM wide", rows},
		{"update and vacuum", "UPDATE wide SET body = 'x' WHERE id = 1; COMMIT; VACUUM wide", rows},
		{"vacuum full", "VACUUM FULL wide", rows},
		{"toast", "UPDATE wide SET body = body || 'x' WHERE id = 3", rows},
		{"partition", "INSERT INTO reading VALUES (3, '2026-03-03')", rows},
		{"moved between partitions", "UPDATE reading SET at = '2026-09-09' WHERE hive = 1", rows},
		{"inherited", "INSERT INTO child VALUES (1, 2); INSERT INTO parent VALUES (3)", rows},
		{"unlogged", "INSERT INTO cache VALUES ('c', 'd')", rows},
		{"another schema", "INSERT INTO other.journal (what) VALUES ('x')", rows},
		{"copy", "CREATE TEMP TABLE t AS SELECT 1 AS x; INSERT INTO kind SELECT 'q' || x FROM t; DROP TABLE t", rows},
		{"a temporary table", "CREATE TEMP TABLE t AS SELECT 1 AS x", none},
		{"materialized view", "INSERT INTO hive (label) VALUES ('c'); REFRESH MATERIALIZED VIEW loud", whole},
		{"refreshed", "INSERT INTO kind VALUES ('y', 'Y'); REFRESH MATERIALIZED VIEW titles", rows},
		{"refreshed for nothing", "REFRESH MATERIALIZED VIEW titles", rows},
		{"without data", "REFRESH MATERIALIZED VIEW titles WITH NO DATA", whole},
		{"refreshed beside readers", "REFRESH MATERIALIZED VIEW CONCURRENTLY loud", whole},
		{"refreshed beside readers", "UPDATE kind SET title = 'x'; REFRESH MATERIALIZED VIEW CONCURRENTLY titles", rows},
		{"settings of large values", "ALTER TABLE wide SET (toast.autovacuum_enabled = off)", whole},
		{"a dictionary", "CREATE TEXT SEARCH DICTIONARY words (TEMPLATE = simple)", whole},
		{"a conversion", "CREATE CONVERSION narrow FOR 'UTF8' TO 'LATIN1' FROM utf8_to_iso8859_1", whole},
		{"a type without a binary form", "DELETE FROM rights", rows},
		{"cycle", "SET CONSTRAINTS ALL DEFERRED; DELETE FROM queen; UPDATE hive SET queen = NULL; DELETE FROM hive",
			rows},
		{"enum", "ALTER TYPE state ADD VALUE 'weak'", whole}, {"column", "ALTER TABLE kind ADD COLUMN x int", whole},
		{"table", "CREATE TABLE more (x int REFERENCES hive)", rows},
		{"index", "CREATE INDEX ON hive (label); INSERT INTO hive (label) VALUES ('c')", rows},
		{"dropped", "DROP TABLE other.journal", whole},
		{"function", "CREATE OR REPLACE FUNCTION noted() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RETURN NULL; " +
			"END $$", whole}, {"grant", "GRANT SELECT ON hive TO PUBLIC", whole},
		{"comment", "COMMENT ON TABLE hive IS 'x'", whole},
		{"trigger off", "ALTER TABLE hive DISABLE TRIGGER noted", whole},
		{"default", "ALTER TABLE hive ALTER label SET DEFAULT 'x'", whole},
		{"renamed", "ALTER TABLE kind RENAME title TO name", whole}, {"view", "CREATE VIEW v AS SELECT 1", rows},
		{"much added", "CREATE SCHEMA \"new on\"; CREATE TYPE \"new on\".size AS ENUM ('s'); CREATE TABLE \"new " +
			"on\".box (id serial PRIMARY KEY, s \"new on\".size); CREATE FUNCTION many(int) RETURNS int LANGUAGE " +
			"sql AS 'SELECT 1'; CREATE TRIGGER more AFTER INSERT ON hive FOR EACH ROW EXECUTE FUNCTION noted(); " +
			"CREATE RULE r AS ON INSERT TO kind DO ALSO NOTHING; INSERT INTO \"new on\".box DEFAULT VALUES", rows},
		{"a column that uses what was added",
			"CREATE FUNCTION seven() RETURNS int LANGUAGE sql AS 'SELECT 7'; ALTER TABLE wide ALTER id SET DEFAULT " +
				"seven()", whole}, {"many rows", "INSERT INTO many SELECT 50000 + g FROM generate_series(1, 5000) g",
			rows}, {"a firing trigger", "INSERT INTO firing VALUES (1)", whole},
		{"large object", "SELECT lo_from_bytea(0, 'x')", whole},
		{"table made and dropped", "CREATE TABLE gone (x int); DROP TABLE gone", none},
		{"a counter that is back, with values ahead",
			"TRUNCATE wide; SELECT setval('tickets', 99); SELECT nextval('tickets')", rows},
		{"one of those values", "SELECT nextval('tickets')", rows},
		{"insert after all that", "INSERT INTO hive (kind, label) VALUES ('d', 'c')", rows},
	} {
		if work.what == "vacuum full" && !s.exact() { // every row is as it was
			continue
		}
		conn, err := dialTest(t.Context(), s, copied.ID, s.owner(copied.Facts))
		require.NoError(t, err)
		for _, text := range strings.Split(work.sql, "COMMIT;") {
			_, err = conn.Exec(t.Context(), text, pgx.QueryExecModeSimpleProtocol)
			require.NoError(t, err, work.what)
		}
		report, err := o.Do(t.Context(), reset.Options{})
		require.NoError(t, err, work.what)
		assert.Equal(t, work.way, report.Way, "%s (%s)", work.what, report.Why)
		if !report.Reconnect {
			assert.NoError(t, conn.Ping(t.Context()), "%s: the client's connection stays", work.what)
		}
		conn.Close(t.Context())
		require.Equal(t, want, contents(t, s, copied.ID), "after %s", work.what)
		again, err := o.Do(t.Context(), reset.Options{})
		require.NoError(t, err, work.what)
		if again.Way != none { // contents read a page while it was being settled
			again, err = o.Do(t.Context(), reset.Options{})
			require.NoError(t, err, work.what)
		}
		assert.Equal(t, none, again.Way, "after %s and a reset: %s %v", work.what, again.Why, again.Tables)
	}
}

// TestResetBlocked: a session that holds a lock on what is to be put back is
// named, and nothing has been done.
func TestResetBlocked(t *testing.T) {
	s, copied, _ := begin(t, true)
	conn, err := dialTest(t.Context(), s, copied.ID, s.owner(copied.Facts))
	require.NoError(t, err)
	defer conn.Close(context.Background())
	_, err = conn.Exec(t.Context(), "INSERT INTO hive (label) VALUES ('c'); BEGIN; UPDATE hive SET label = 'held'")
	require.NoError(t, err)
	o, err := reset.Open(t.Context(), s, copied, 50*time.Millisecond)
	require.NoError(t, err)
	defer o.Close()
	_, err = o.Do(t.Context(), reset.Options{})
	require.ErrorContains(t, err, "a transaction is under way that has written (waited 50ms)")
	reader, err := dialTest(t.Context(), s, copied.ID, s.owner(copied.Facts))
	require.NoError(t, err)
	defer reader.Close(context.Background())
	_, err = reader.Exec(t.Context(), "BEGIN; SELECT count(*) FROM hive")
	require.NoError(t, err)
	forced, err := reset.Do(t.Context(), s, copied, reset.Options{Wait: 50 * time.Millisecond, Force: true})
	require.NoError(t, err)
	assert.Equal(t, engine.Truncation, forced.Way)
	assert.Error(t, conn.Ping(t.Context()), "it was in the way")
	assert.NoError(t, reader.Ping(t.Context()), "it was not")
	_, err = reader.Exec(t.Context(), "COMMIT")
	require.NoError(t, err)
	conn = reader
	_, err = conn.Exec(t.Context(), "BEGIN; UPDATE hive SET label = 'held'")
	require.NoError(t, err)
	_, err = conn.Exec(t.Context(), "COMMIT")
	require.NoError(t, err)
	report, err := o.Do(t.Context(), reset.Options{Keep: []string{"kind"}})
	require.NoError(t, err)
	assert.Equal(t, engine.Truncation, report.Way)
	_, err = conn.Exec(t.Context(), "INSERT INTO kind VALUES ('k', 'kept'); DELETE FROM reading")
	require.NoError(t, err)
	report, err = o.Do(t.Context(), reset.Options{Keep: []string{"kind"}})
	require.NoError(t, err)
	assert.Equal(t, []string{"public.kind"}, report.Kept)
	var n int
	require.NoError(t, conn.QueryRow(t.Context(), "SELECT count(*) FROM kind").Scan(&n))
	assert.Equal(t, 3, n, "a table to keep stays as it is")

	// One that has a table to itself is in the way of the look already.
	_, err = conn.Exec(t.Context(), "BEGIN; TRUNCATE wide")
	require.NoError(t, err)
	_, err = o.Do(t.Context(), reset.Options{Keep: []string{"kind"}})
	var told *fault.Error
	require.ErrorAs(t, err, &told)
	require.Len(t, told.Lines, 1)
	assert.Contains(t, told.Lines[0], "BEGIN; TRUNCATE wide")
	require.NoError(t, o.Close())
	copied, err = s.Find(t.Context(), copied.ID)
	require.NoError(t, err)
	_, err = reset.Do(t.Context(), s, copied,
		reset.Options{Wait: 2 * time.Second, Force: true, Keep: []string{"kind"}})
	require.NoError(t, err)
	assert.Error(t, conn.Ping(t.Context()), "it was in the way")
}

// TestSettled: what followed a reset has settled what Hemzo's own session and
// a client's temporary tables have written to the catalogs, so that the next
// look is a short one.
func TestSettled(t *testing.T) {
	s, copied, _ := begin(t, true)
	opened, err := s.Open(t.Context(), copied.ID, engine.Session{Wait: time.Second})
	require.NoError(t, err)
	defer opened.Close()
	d := opened.(*database)
	client, err := dialTest(t.Context(), s, copied.ID, s.owner(copied.Facts))
	require.NoError(t, err)
	defer client.Close(context.Background())
	r := engine.Reset{Start: copied.Facts.Start, Last: copied.Facts.Start}
	for _, work := range []string{"CREATE TEMP TABLE passing (x int)",
		"INSERT INTO many SELECT 70000 + g FROM generate_series(1, 40) g; CREATE TABLE added (x int)"} {
		_, err = client.Exec(t.Context(), work)
		require.NoError(t, err)
		report, err := d.Reset(t.Context(), r)
		require.NoError(t, err)
		require.NotNil(t, report.Later, work)
		r.Baseline, err = report.Later(t.Context())
		require.NoError(t, err)
		base, err := d.base(t.Context(), r)
		require.NoError(t, err)
		conn, err := d.openWitness(t.Context())
		require.NoError(t, err)
		left, err := d.look.AskMap(t.Context(), conn, base)
		require.NoError(t, err)
		assert.Empty(t, slices.Concat(left.Tables, left.Counters, left.Catalogs), "after %s", work)
	}
}

// TestSnapshotInPlace: rows are put back to a snapshot and to the start state
// in turns while a client stays connected; where that cannot be it is refused
// with what is in the way.
func TestSnapshotInPlace(t *testing.T) {
	for name, trust := range trusts {
		t.Run(name, func(t *testing.T) { snapshotInPlace(t, trust) })
	}
}

// whole trusts a server as far as may be.
var whole = witness.Trust{Map: true, Log: true}

// bound is one of which Hemzo's role is no superuser.
var bound = witness.Trust{Why: "others own it"}

// ordinary is a server that others use, where PostgreSQL vacuums by itself.
var ordinary = witness.Trust{Why: "others use it"}

// trusts are how much of a server may be believed.
var trusts = map[string]witness.Trust{
	"log and map": whole, "the map": {Map: true}, "the log": {Log: true}, "every row": {},
}

// TestUncommitted: however it is learnt what was touched, a transaction that has
// written is noticed, waited for, and ended with force.
func TestUncommitted(t *testing.T) {
	for name, trust := range trusts {
		t.Run(name, func(t *testing.T) {
			s, copied, fresh := beginWith(t, trust, hives)
			want := contents(t, s, fresh.ID)
			c, err := dialTest(t.Context(), s, copied.ID, s.owner(copied.Facts))
			require.NoError(t, err)
			defer c.Close(context.Background())
			_, err = c.Exec(t.Context(), "BEGIN; UPDATE kind SET title = 'held' WHERE code = 'd'")
			require.NoError(t, err)
			o := reset.Options{Wait: 50 * time.Millisecond}
			_, err = reset.Do(t.Context(), s, copied, o)
			var told *fault.Error
			require.ErrorAs(t, err, &told)
			require.Len(t, told.Lines, 1)
			assert.Contains(t, told.Lines[0], "UPDATE kind")
			o.Force = true
			_, err = reset.Do(t.Context(), s, copied, o)
			require.NoError(t, err)
			require.Error(t, c.Ping(t.Context()))
			require.Equal(t, want, contents(t, s, copied.ID))
		})
	}
}

func snapshotInPlace(t *testing.T, trust witness.Trust) {
	s, copied, fresh := beginWith(t, trust, hives)
	first := contents(t, s, fresh.ID)
	work := func(sql string) {
		conn, err := dialTest(t.Context(), s, copied.ID, s.owner(copied.Facts))
		require.NoError(t, err)
		defer conn.Close(context.Background())
		_, err = conn.Exec(t.Context(), sql)
		require.NoError(t, err)
	}
	work("INSERT INTO hive (label) VALUES ('seed'); DELETE FROM reading; UPDATE wide SET body = 'w'; SELECT " +
		"nextval('tickets'); INSERT INTO cache VALUES ('c', 'd')")
	snapshot, err := reset.Snapshot(t.Context(), s, copied, "seeded", engine.Session{Wait: 5 * time.Second})
	require.NoError(t, err)
	seeded := contents(t, s, copied.ID)
	client, err := dialTest(t.Context(), s, copied.ID, s.owner(copied.Facts))
	require.NoError(t, err)
	defer client.Close(context.Background())
	for round := range 6 {
		_, err = client.Exec(t.Context(),
			"INSERT INTO hive (label) VALUES ('x'); UPDATE many SET id = -id WHERE id < 50; TRUNCATE cache; INSERT "+
				"INTO reading VALUES (9, '2026-01-09')")
		require.NoError(t, err)
		o, want := reset.Options{Wait: time.Second, To: snapshot.ID, InPlace: true}, seeded
		if round%3 == 2 {
			o.To, want = "", first
		}
		copied, err = s.Find(t.Context(), copied.ID)
		require.NoError(t, err)
		report, err := reset.Do(t.Context(), s, copied, o)
		require.NoError(t, err)
		assert.Equal(t, engine.Truncation, report.Way, report.Why)
		require.Equal(t, want, contents(t, s, copied.ID), "round %d", round)
		require.NoError(t, client.Ping(t.Context()))
	}
	if !s.exact() { // rows do not tell what large objects hold
		return
	}
	// What a large object of the snapshot holds cannot be put back in place.
	work("SELECT lo_from_bytea(4711, 'x')")
	copied, err = s.Find(t.Context(), copied.ID)
	require.NoError(t, err)
	require.NoError(t, client.Close(t.Context()))
	object, err := reset.Snapshot(t.Context(), s, copied, "object", engine.Session{Wait: 5 * time.Second})
	require.NoError(t, err)
	client, err = dialTest(t.Context(), s, copied.ID, s.owner(copied.Facts))
	require.NoError(t, err)
	defer client.Close(context.Background())
	for range 2 {
		copied, err = s.Find(t.Context(), copied.ID)
		require.NoError(t, err)
		_, err = reset.Do(t.Context(), s, copied, reset.Options{Wait: time.Second, To: object.ID, InPlace: true})
		require.NoError(t, err)
	}
	work("SELECT lo_put(4711, 0, 'y')")
	_, err = reset.Do(t.Context(), s, copied, reset.Options{Wait: time.Second, To: object.ID, InPlace: true})
	require.ErrorContains(t, err, "cannot be put back in place: large objects were changed")
	work("SELECT lo_unlink(4711); ALTER TABLE hive ADD COLUMN colour text")
	copied, err = s.Find(t.Context(), copied.ID)
	require.NoError(t, err)
	for _, to := range []string{"", snapshot.ID} {
		_, err = reset.Do(t.Context(), s, copied, reset.Options{To: to, InPlace: true})
		require.ErrorContains(t, err, "cannot be put back in place: the schema was changed")
		assert.NoError(t, client.Ping(t.Context()))
	}
	report, err := reset.Do(t.Context(), s, copied, reset.Options{To: snapshot.ID})
	require.NoError(t, err)
	assert.True(t, report.Reconnect)
	require.Equal(t, seeded, contents(t, s, copied.ID))
}

// TestReplacedAhead: a copy that was made beforehand takes the place of another
// with the facts that this has by then, whoever is connected.
func TestReplacedAhead(t *testing.T) {
	s, copied, fresh := begin(t, true)
	want := contents(t, s, fresh.ID)
	o, err := reset.Open(t.Context(), s, copied, time.Second)
	require.NoError(t, err)
	defer func() { assert.NoError(t, o.Close()) }()
	for _, name := range []string{"", "", "renamed", "", "again"} {
		c, err := dialTest(t.Context(), s, copied.ID, s.owner(copied.Facts))
		require.NoError(t, err)
		_, err = c.Exec(t.Context(), "DROP TABLE cache; DELETE FROM wide")
		require.NoError(t, err)
		if name != "" { // nobody connected, but other facts
			require.NoError(t, c.Close(t.Context()))
			require.NoError(t, s.UpdateFacts(t.Context(), copied.ID, func(f *engine.Facts) { f.Name = name }))
		}
		report, err := o.Do(t.Context(), reset.Options{Way: engine.Snapshot, Ahead: true})
		require.NoError(t, err)
		assert.True(t, report.Reconnect)
		assert.Error(t, c.Ping(t.Context()))
		require.Equal(t, want, contents(t, s, copied.ID))
		if now, err := s.Find(t.Context(), copied.ID); assert.NoError(t, err) && name != "" {
			assert.Equal(t, name, now.Facts.Name)
		}
		c.Close(t.Context())
	}
	_, err = o.Do(t.Context(), reset.Options{Way: engine.Snapshot, Ahead: true}) // nobody, and nothing new
	require.NoError(t, err)
	now, err := s.Find(t.Context(), copied.ID)
	require.NoError(t, err)
	assert.Equal(t, "again", now.Facts.Name)
	assert.Equal(t, copied.Facts.Start, now.Facts.BaselineState)
	require.Equal(t, want, contents(t, s, copied.ID))
}

// TestOlderTransaction: a transaction that is under way when a reset is asked
// for, and has a number, could write, or has written, what the next test would
// find: it is waited for, named, and ended by force.
func TestOlderTransaction(t *testing.T) {
	for _, exact := range []bool{true, false} {
		s, copied, fresh := begin(t, exact)
		want := contents(t, s, fresh.ID)
		o, err := reset.Open(t.Context(), s, copied, 50*time.Millisecond)
		require.NoError(t, err)
		connect := func() *pgx.Conn {
			c, err := dialTest(t.Context(), s, copied.ID, s.owner(copied.Facts))
			require.NoError(t, err)
			return c
		}
		for _, first := range []string{"", "DELETE FROM wide WHERE id = 7"} {
			older := connect()
			_, err = older.Exec(t.Context(), first)
			require.NoError(t, err)
			_, err = older.Exec(t.Context(), "BEGIN; UPDATE wide SET body = 'older' WHERE id = 5")
			require.NoError(t, err)
			_, err = o.Do(t.Context(), reset.Options{})
			require.ErrorContains(t, err, "a transaction is under way that has written (waited 50ms)")
			require.ErrorContains(t, errors.New(strings.Join(told(err).Lines, " ")), "UPDATE wide")
			_, err = older.Exec(t.Context(), "COMMIT")
			require.NoError(t, err)
			_, err = o.Do(t.Context(), reset.Options{})
			require.NoError(t, err)
			require.Equal(t, want, contents(t, s, copied.ID))
			_, err = older.Exec(t.Context(), "BEGIN; SELECT pg_current_xact_id()")
			require.NoError(t, err)
			copied, err = s.Find(t.Context(), copied.ID)
			require.NoError(t, err)
			_, err = reset.Do(t.Context(), s, copied, reset.Options{Wait: 50 * time.Millisecond, Force: true})
			require.NoError(t, err)
			require.Error(t, older.Ping(t.Context()), "it was in the way")
			older.Close(t.Context())
			require.Equal(t, want, contents(t, s, copied.ID))
		}
		require.NoError(t, o.Close())
	}
}

// TestRunningStatement: a statement that began before a reset, and has written nothing yet,
// is over before the reset looks, also where its client has gone.
func TestRunningStatement(t *testing.T) {
	for name, trust := range trusts {
		t.Run(name, func(t *testing.T) {
			s, copied, fresh := beginWith(t, trust, hives)
			want := contents(t, s, fresh.ID)
			leave := func(statement string) {
				c, err := dialTest(t.Context(), s, copied.ID, s.owner(copied.Facts))
				require.NoError(t, err)
				defer c.Close(context.Background())
				raw := c.PgConn()
				raw.Frontend().SendQuery(&pgproto3.Query{String: statement})
				require.NoError(t, raw.Frontend().Flush())
				require.Eventually(t, func() bool {
					n, err := s.queryInt(t.Context(), fmt.Sprintf("SELECT count(*) FROM pg_stat_activity WHERE pid = %d AND "+
						"state = 'active'", raw.PID()))
					return err == nil && n > 0
				}, time.Minute, time.Millisecond)
				require.NoError(t, raw.Conn().Close())
			}
			const late = "UPDATE kind SET title = 'late' FROM (SELECT pg_sleep(%s)) s"
			o := reset.Options{Wait: time.Minute}
			leave(fmt.Sprintf(late, "0.4"))
			_, err := reset.Do(t.Context(), s, copied, o)
			require.NoError(t, err)
			require.Equal(t, want, contents(t, s, copied.ID))
			leave(fmt.Sprintf(late, "60"))
			o.Wait = 20 * time.Millisecond
			_, err = reset.Do(t.Context(), s, copied, o)
			require.ErrorContains(t, err, "a statement is running that may write (waited 20ms)")
			require.ErrorContains(t, errors.New(strings.Join(told(err).Lines, " ")), "UPDATE kind")
			o.Force = true
			_, err = reset.Do(t.Context(), s, copied, o)
			require.NoError(t, err)
			require.Equal(t, want, contents(t, s, copied.ID))
		})
	}
}

// TestNextTruncates: a test that empties tables right after a reset is not kept waiting by
// what follows the reset.
func TestNextTruncates(t *testing.T) {
	s, copied, fresh := beginWith(t, whole, `CREATE TABLE hive (id serial PRIMARY KEY, label text);
		CREATE TABLE frame (id serial PRIMARY KEY, hive int REFERENCES hive, label text);
		CREATE TABLE jar (id serial PRIMARY KEY, label text);
		INSERT INTO hive (label) SELECT 'linden' FROM generate_series(1, 50);
		INSERT INTO frame (hive) SELECT 1 FROM generate_series(1, 50);
		INSERT INTO jar (label) SELECT 'linden' FROM generate_series(1, 50)`)
	want := contents(t, s, fresh.ID)
	o, err := reset.Open(t.Context(), s, copied, 5*time.Second)
	require.NoError(t, err)
	defer o.Close()
	c, err := dialTest(t.Context(), s, copied.ID, s.owner(copied.Facts))
	require.NoError(t, err)
	defer c.Close(context.Background())
	_, err = c.Exec(t.Context(), "SET lock_timeout = '4s'") // shortening a table goes on for 5
	require.NoError(t, err)
	for range 100 {
		_, err = c.Exec(t.Context(), "DELETE FROM frame; DELETE FROM jar WHERE id < 3")
		require.NoError(t, err)
		_, err = c.Exec(t.Context(), "TRUNCATE hive, frame, jar RESTART IDENTITY CASCADE")
		require.NoError(t, err)
		_, err = o.Do(t.Context(), reset.Options{})
		require.NoError(t, err)
	}
	require.Equal(t, want, contents(t, s, copied.ID))
	// One that has become much longer is made shorter again.
	size := func() int64 {
		n, err := s.database(copied, engine.Session{}).count(t, "SELECT pg_relation_size('jar')")
		require.NoError(t, err)
		return n
	}
	before := size()
	for range 2 {
		_, err = c.Exec(t.Context(), "INSERT INTO jar (label) SELECT repeat('x', 500) FROM generate_series(1, 40000)")
		require.NoError(t, err)
		_, err = o.Do(t.Context(), reset.Options{})
		require.NoError(t, err)
	}
	_, err = o.Do(t.Context(), reset.Options{}) // what followed the last is done
	require.NoError(t, err)
	require.Equal(t, want, contents(t, s, copied.ID))
	require.Less(t, size(), before+1<<20)
}

// told is an error as a user is told it.
func told(err error) *fault.Error {
	f := new(fault.Error)
	errors.As(err, &f)
	return f
}

// TestResetWithoutConnections: a reset that finds no connection free says so,
// has changed nothing, and succeeds once there is one.
func TestResetWithoutConnections(t *testing.T) {
	s, copied, fresh := begin(t, true)
	want := contents(t, s, fresh.ID)
	client, err := dialTest(t.Context(), s, copied.ID, s.owner(copied.Facts))
	require.NoError(t, err)
	defer client.Close(context.Background())
	_, err = client.Exec(t.Context(), "INSERT INTO hive (label) VALUES ('c'); DELETE FROM many")
	require.NoError(t, err)
	dirty := contents(t, s, copied.ID)
	var others []*pgx.Conn
	for err == nil {
		var c *pgx.Conn
		if c, err = dialTest(t.Context(), s, "postgres", ""); err == nil {
			others = append(others, c)
		}
	}
	require.Equal(t, pg.TooManyConnections, pg.State(err))
	for free := range 3 { // none, then one, then two: a reset takes three
		_, err = reset.Do(t.Context(), s, copied, reset.Options{Wait: time.Second})
		require.Error(t, err)
		require.Regexp(t, "too many clients|connection slots are reserved", err.Error(), "%d free", free)
		require.NoError(t, others[0].Close(t.Context()))
		others = others[1:]
		require.Eventually(t, func() bool {
			n, err := s.queryInt(t.Context(),
				"SELECT count(*) FROM pg_stat_activity WHERE backend_type = 'client backend'")
			return err == nil && int(n) == len(others)+2
		}, 20*time.Second, time.Millisecond)
	}
	for _, c := range others {
		require.NoError(t, c.Close(t.Context()))
	}
	require.Eventually(t, func() bool {
		n, err := s.queryInt(t.Context(), "SELECT count(*) FROM pg_stat_activity WHERE backend_type = 'client backend'")
		return err == nil && n == 2
	}, 20*time.Second, time.Millisecond)
	assert.Equal(t, dirty, contents(t, s, copied.ID), "nothing was changed")
	report, err := reset.Do(t.Context(), s, copied, reset.Options{Wait: time.Second})
	require.NoError(t, err)
	assert.Equal(t, engine.Truncation, report.Way)
	assert.Equal(t, want, contents(t, s, copied.ID))
}

// dialTest opens a session as a test has one, which does not bear Hemzo's name.
func dialTest(ctx context.Context, s *server, database, user string) (*pgx.Conn, error) {
	conn, err := s.dial(ctx, database, user)
	if err == nil {
		_, err = conn.Exec(ctx, "SET application_name = 'pytest'")
	}
	return conn, err
}

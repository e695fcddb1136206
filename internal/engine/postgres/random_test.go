package postgres

import (
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/witness"
	"hemzo/internal/reset"
)

var (
	seed   = flag.Uint64("seed", 0, "the seed of the random work; 0 for one made up and told")
	rounds = flag.Int("rounds", 60, "how many rounds of random work")
)

// worker does random work on a copy, as a suite with several connections
// would: committed, rolled back, failed.
type worker struct {
	*rand.Rand
	conns []*pgx.Conn
	extra int // objects made
	log   []string
}

func (w *worker) pick(of ...string) string { return of[w.IntN(len(of))] }

// rowWork is a statement that changes rows or counters.
func (w *worker) rowWork() string {
	table := w.pick("kind", "hive", "queen", "reading", "child", "cache", "wide", "other.journal", "many", "rights")
	n := w.IntN(40)
	return w.pick(
		fmt.Sprintf("INSERT INTO hive (kind, label) SELECT 'd', 'h' || g FROM generate_series(1, %d) g", 1+n),
		fmt.Sprintf("INSERT INTO hive (kind, label) VALUES ('%s', 'x')", w.pick("d", "z", "none")),
		fmt.Sprintf("INSERT INTO many SELECT g FROM generate_series(%d, %d) g", 40000+n, 40000+n*w.IntN(200)),
		fmt.Sprintf("INSERT INTO reading VALUES (%d, '2026-0%d-01')", n, 1+w.IntN(9)),
		"INSERT INTO child VALUES (1, 2)", "INSERT INTO cache VALUES ('k', 'v')",
		"INSERT INTO other.journal (what) VALUES ('x')",
		fmt.Sprintf("UPDATE wide SET body = %s WHERE id %% 37 = %d",
			w.pick("body", "body || 'x'", "NULL", "repeat('y', 5000)"), n),
		"UPDATE hive SET label = label", "UPDATE reading SET at = at + 200",
		fmt.Sprintf("UPDATE many SET id = id + 100000 WHERE id %% 900 = %d", n),
		"DELETE FROM "+table, "DELETE FROM many WHERE id % 3 = 0", fmt.Sprintf("DELETE FROM wide WHERE id = %d", n),
		"TRUNCATE "+w.pick("wide", "many", "cache", "reading_1", "hive CASCADE",
			"queen, hive RESTART IDENTITY CASCADE"),
		"SELECT nextval('tickets')", fmt.Sprintf("SELECT setval('tickets', %d, %t)", 1+n, n%2 == 0),
		"SELECT nextval('queen_id_seq')",
		"SELECT count(*) FROM "+table, "CREATE TEMP TABLE IF NOT EXISTS passing (x int)",
		"DROP TABLE IF EXISTS passing", "ANALYZE "+table,
		"SET CONSTRAINTS ALL DEFERRED", "SELECT 1 / 0", "SAVEPOINT s", "ROLLBACK TO s",
	)
}

// schemaWork is a statement that changes the schema, or what it may look like.
func (w *worker) schemaWork() string {
	w.extra++
	return w.pick(
		fmt.Sprintf("CREATE TABLE extra_%d AS SELECT * FROM hive", w.extra),
		fmt.Sprintf("CREATE TABLE extra_%d (id serial PRIMARY KEY, hive int REFERENCES hive)", w.extra),
		fmt.Sprintf("CREATE INDEX extra_%d ON wide (id)", w.extra),
		fmt.Sprintf("CREATE VIEW extra_%d AS SELECT * FROM hive", w.extra),
		fmt.Sprintf("CREATE SEQUENCE extra_%d", w.extra),
		fmt.Sprintf("CREATE FUNCTION extra_%d() RETURNS int LANGUAGE sql AS 'SELECT 1'", w.extra),
		fmt.Sprintf("ALTER TABLE wide ADD COLUMN extra_%d int DEFAULT 7", w.extra),
		fmt.Sprintf("CREATE SCHEMA extra_%d CREATE TABLE t (x int)", w.extra), "DROP TABLE IF EXISTS extra_1",
		"DROP TABLE IF EXISTS cache", "COMMENT ON TABLE hive IS 'x'", "GRANT SELECT ON many TO PUBLIC",
		"ALTER TABLE hive DISABLE TRIGGER noted", "REFRESH MATERIALIZED VIEW loud",
		"ALTER SEQUENCE tickets INCREMENT 5", "SELECT lo_from_bytea(0, 'x')", "CLUSTER many USING many_pkey",
		"ALTER TABLE reading DETACH PARTITION reading_2", "CREATE TYPE late AS ENUM ('a')",
		"ALTER TABLE many SET UNLOGGED", "CREATE RULE r AS ON INSERT TO kind DO ALSO NOTHING",
	)
}

// levelWork is a statement that changes what belongs to the database itself, or
// what the server brought along.
func (w *worker) levelWork() string {
	own := func(sql string) string {
		return "DO $do$ BEGIN EXECUTE format('" + strings.ReplaceAll(sql, "'", "''") +
			"', current_database()); END $do$"
	}
	return w.pick(
		own("ALTER DATABASE %I SET work_mem = '5MB'"), own("ALTER DATABASE %I SET search_path = other"),
		own("ALTER ROLE CURRENT_USER IN DATABASE %I SET work_mem = '6MB'"),
		own("ALTER ROLE CURRENT_USER IN DATABASE %I SET application_name = 'x'"),
		own("ALTER DATABASE %I RESET ALL"), own("ALTER DATABASE %I CONNECTION LIMIT 7"),
		own("REVOKE TEMP ON DATABASE %I FROM PUBLIC"), own("GRANT CREATE ON DATABASE %I TO PUBLIC"),
		own("COMMENT ON DATABASE %I IS '{}'"),
		"DROP SCHEMA public CASCADE; CREATE SCHEMA public", "CREATE SCHEMA IF NOT EXISTS public",
		"ALTER SCHEMA other RENAME TO another", "GRANT ALL ON SCHEMA public TO PUBLIC",
		"COMMENT ON SCHEMA public IS 'x'", "ALTER SCHEMA public OWNER TO CURRENT_USER",
		"ALTER TABLE hive DISABLE TRIGGER noted; ALTER TABLE hive ENABLE TRIGGER noted",
		"ALTER SEQUENCE queen_id_seq OWNED BY NONE", "ALTER DEFAULT PRIVILEGES GRANT SELECT ON TABLES TO PUBLIC",
	)
}

// round does one test's worth of work.
func (w *worker) round(ctx context.Context) {
	w.log = nil
	for range 1 + w.IntN(3) {
		c := w.conns[w.IntN(len(w.conns))]
		var all []string
		for range 1 + w.IntN(4) {
			all = append(all, w.rowWork())
		}
		if w.IntN(6) == 0 {
			all = append(all, w.schemaWork())
		}
		if w.IntN(6) == 0 {
			all = append(all, w.levelWork())
		}
		switch w.IntN(5) {
		case 0:
			all = append(append([]string{"BEGIN"}, all...), "ROLLBACK")
		case 1, 2:
			all = append(append([]string{"BEGIN"}, all...), "COMMIT")
		case 3:
			all = append(all, w.pick("VACUUM", "VACUUM many", "VACUUM FULL wide", "VACUUM (FREEZE) hive", "CHECKPOINT"))
		}
		for _, text := range all {
			w.log = append(w.log, text)
			_, _ = c.Exec(ctx, text) // what fails is work too
		}
		_, _ = c.Exec(ctx, "ROLLBACK")
	}
}

// TestRandomWork: whatever is done to a copy, a reset brings back its start
// state, also while what followed the last one is still being done. A failure
// names the seed that repeats it.
func TestRandomWork(t *testing.T) {
	t.Parallel()
	for name, trust := range trusts {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			randomWork(t, trust)
		})
	}
	t.Run("a keeper", func(t *testing.T) {
		t.Parallel()
		randomWork(t, ordinary)
	})
	t.Run("no superuser", func(t *testing.T) {
		t.Parallel()
		randomWork(t, bound)
	})
}

// vacuumUncounted vacuums a database again and again, as autovacuum does: the server does not
// count it.
func vacuumUncounted(ctx context.Context, s *server, id string) {
	var conn *pgx.Conn
	for ctx.Err() == nil {
		if conn == nil || conn.IsClosed() {
			var err error
			if conn, err = s.dial(ctx, id, ""); err != nil {
				conn = nil
				continue
			}
			_, _ = conn.Exec(ctx, "SET track_counts = off; SET vacuum_truncate = off")
		}
		_, _ = conn.Exec(ctx, "VACUUM (TRUNCATE off)")
		time.Sleep(3 * time.Millisecond)
	}
	if conn != nil {
		conn.Close(context.Background())
	}
}

// randomWork has a server of which no more is believed than is said.
func randomWork(t *testing.T, trust witness.Trust) {
	n := *seed
	if n == 0 {
		n = rand.Uint64()
	}
	ctx := t.Context()
	s, copied, fresh := beginWith(t, trust, hives)
	want, dump := contents(t, s, fresh.ID), dumped(t, s, fresh.ID)
	w := &worker{Rand: rand.New(rand.NewPCG(n, 1))}
	connect := func() {
		for _, c := range w.conns {
			c.Close(ctx)
		}
		w.conns = nil
		for range 2 {
			c, err := dialTest(ctx, s, copied.ID, s.owner(copied.Facts))
			require.NoError(t, err)
			w.conns = append(w.conns, c)
		}
	}
	connect()
	long, err := reset.OpenFresh(ctx, s, copied, 10*time.Second)
	require.NoError(t, err)
	kept := int64(0)
	shared := trust == ordinary || trust == bound
	if shared {
		vacuuming, stop := context.WithCancel(ctx)
		var gone sync.WaitGroup
		gone.Go(func() { vacuumUncounted(vacuuming, s, copied.ID) })
		defer func() {
			stop()
			gone.Wait()
			require.Equal(t, atLeast(s.about.Version, 15), kept > 0, "it was kept")
		}()
	}
	ways := map[engine.Way]int{}
	many := *rounds
	if trust == bound { // more is replaced there, which takes longer
		many /= 2
	}
	for i := range many {
		if w.IntN(8) > 0 {
			w.round(ctx)
		}
		o := reset.Options{Way: []engine.Way{"", "", "", engine.Truncation, engine.Snapshot}[w.IntN(5)],
			Ahead: w.IntN(2) == 0}
		told := fmt.Sprintf("seed %d, round %d, by %q:\n%s", n, i, o.Way, strings.Join(w.log, ";\n"))
		if shared {
			n, err := s.queryInt(ctx, "SELECT count(*) FROM pg_stat_activity WHERE datname = $1 AND application_name = 'hemzo' "+
				"AND state = 'idle in transaction' AND backend_xid IS NOT NULL", copied.ID)
			require.NoError(t, err)
			kept += n
		}
		report, err := long.Do(ctx, o)
		require.NoError(t, err, told)
		ways[report.Way]++
		if report.Reconnect {
			connect()
		}
		for _, c := range w.conns {
			require.NoError(t, c.Ping(ctx), "the connections stay; %s", told)
		}
		require.Equal(t, want, contents(t, s, copied.ID), "%+v\n%s", report, told)
		require.Equal(t, dump, dumped(t, s, copied.ID), "%+v\n%s", report, told)
		if w.IntN(25) == 0 { // another process goes on with what this one has noted
			require.NoError(t, long.Close(), told)
			copied, err = s.Find(ctx, copied.ID)
			require.NoError(t, err)
			open := reset.Open
			if copied.Facts.Baseline == nil && w.IntN(2) == 0 {
				open = reset.OpenFresh
			}
			long, err = open(ctx, s, copied, 10*time.Second)
			require.NoError(t, err)
		}
	}
	require.NoError(t, long.Close())
	for _, c := range w.conns {
		c.Close(ctx)
	}
	t.Log(ways, kept)
}

package postgres

import (
	"context"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
	"hemzo/internal/reset"
)

// TestKept: what tests do beside a keeper does not wait for it, and where it is taken away
// nothing is believed that it would have told.
func TestKept(t *testing.T) {
	s, copied, fresh := beginWith(t, ordinary, hives)
	if !atLeast(s.about.Version, 15) {
		return // the map is not believed there
	}
	ctx, want := t.Context(), contents(t, s, fresh.ID)
	vacuum, err := s.dial(ctx, copied.ID, "")
	require.NoError(t, err)
	defer func() { vacuum.Close(context.Background()) }()
	// keepers are the sessions that have a number and no snapshot.
	keepers := func(id string) (pids []int) {
		err := s.readRetrying(ctx, func(ctx context.Context, conn *pgx.Conn) error {
			rows, err := conn.Query(ctx, "SELECT pid FROM pg_stat_activity WHERE datname = $1 AND application_name = 'hemzo' "+
				"AND state = 'idle in transaction' AND backend_xid IS NOT NULL AND backend_xmin IS NULL", id)
			if err == nil {
				pids, err = pgx.CollectRows(rows, pgx.RowTo[int])
			}
			return err
		})
		require.NoError(t, err)
		return pids
	}
	await := func(id string, n int, why string) {
		require.Eventually(t, func() bool { return len(keepers(id)) == n }, 5*time.Second, time.Millisecond, why)
	}
	gone := func(id string) { await(id, 0, "it is kept no more") }
	o, err := reset.OpenFresh(ctx, s, copied, 5*time.Second)
	require.NoError(t, err)
	await(copied.ID, 1, "it is kept")

	// work does something as a client, has it vacuumed as autovacuum would, and resets.
	work := func(before func(), all ...string) *reset.Report {
		client, err := dialTest(ctx, s, copied.ID, s.owner(copied.Facts))
		require.NoError(t, err)
		for _, sql := range append([]string{"SET statement_timeout = '10s'"}, all...) {
			_, err = client.Exec(ctx, sql)
			require.NoError(t, err, sql)
		}
		require.NoError(t, client.Close(ctx))
		if before != nil {
			before()
		}
		if vacuum.IsClosed() || vacuum.Ping(ctx) != nil {
			vacuum, err = s.dial(ctx, copied.ID, "")
			require.NoError(t, err)
		}
		_, err = vacuum.Exec(ctx, "SET track_counts = off; VACUUM (FREEZE, INDEX_CLEANUP on, TRUNCATE off)")
		if err != nil { // one statement is one transaction
			_, err = vacuum.Exec(ctx, "SET track_counts = off")
			require.NoError(t, err)
			_, err = vacuum.Exec(ctx, "VACUUM (FREEZE, INDEX_CLEANUP on, TRUNCATE off)")
			require.NoError(t, err)
		}
		report, err := o.Do(ctx, reset.Options{Wait: 5 * time.Second})
		require.NoError(t, err, all)
		assert.NotEmpty(t, report.Way, all)
		require.Equal(t, want, contents(t, s, copied.ID), all)
		return report
	}
	const insert = "INSERT INTO hive (kind, label) VALUES ('d', 'h'); UPDATE wide SET body = body || 'x' WHERE id = 7"
	for _, sql := range []string{insert, "DELETE FROM reading", "DELETE FROM cache", "REFRESH MATERIALIZED VIEW loud",
		"VACUUM FULL wide", "TRUNCATE many", "SELECT lo_from_bytea(0, 'x')", "CREATE INDEX CONCURRENTLY late ON wide (body)",
		"REINDEX TABLE CONCURRENTLY hive", "ALTER TABLE kind ADD late int", "SELECT nextval('tickets')",
		"CLUSTER many USING many_pkey", "CREATE TABLE late AS SELECT * FROM hive"} {
		more := insert
		if sql == insert {
			more = "DELETE FROM kind WHERE code = 'd' AND false"
		}
		work(nil, sql, more)
		require.NoError(t, o.Close())
		gone(copied.ID)
		require.NoError(t, s.UpdateFacts(ctx, copied.ID, func(f *engine.Facts) { f.Baseline = nil }))
		copied, err = s.Find(ctx, copied.ID)
		require.NoError(t, err)
		o, err = reset.OpenFresh(ctx, s, copied, 5*time.Second)
		require.NoError(t, err)
		await(copied.ID, 1, sql)
	}

	// Who writes is waited for, twice in one transaction of the keeper's.
	client, err := dialTest(ctx, s, copied.ID, s.owner(copied.Facts))
	require.NoError(t, err)
	defer client.Close(context.Background())
	for range 2 {
		_, err = client.Exec(ctx, "BEGIN; DELETE FROM kind WHERE code = 'none'; SELECT pg_current_xact_id()")
		require.NoError(t, err)
		committed := make(chan error, 1)
		time.AfterFunc(100*time.Millisecond, func() {
			_, err := client.Exec(ctx, "COMMIT")
			committed <- err
		})
		_, err = o.Do(ctx, reset.Options{Wait: 5 * time.Second})
		require.NoError(t, err)
		require.NoError(t, <-committed)
	}

	// At once after a reset, while what follows it is under way.
	for range 40 {
		for _, sql := range []string{"SET statement_timeout = '10s'", "UPDATE hive SET label = 'late'",
			"CREATE INDEX CONCURRENTLY late ON hive (label)", "DROP INDEX late"} {
			_, err = client.Exec(ctx, sql)
			require.NoError(t, err, sql)
			if sql[0] == 'U' {
				_, err = o.Do(ctx, reset.Options{Wait: 5 * time.Second})
				require.NoError(t, err)
			}
		}
	}
	_, err = o.Do(ctx, reset.Options{Wait: 5 * time.Second})
	require.NoError(t, err)
	require.Equal(t, want, contents(t, s, copied.ID))
	require.NoError(t, client.Close(ctx))

	// What the database has its sessions begin with does not hold for it.
	require.NoError(t, o.Close())
	for _, set := range []string{"SET default_transaction_read_only = on",
		"SET default_transaction_isolation = 'serializable'", "RESET ALL"} {
		require.NoError(t, s.exec(ctx, "ALTER DATABASE "+copied.ID+" "+set))
		o, err = reset.OpenFresh(ctx, s, copied, 5*time.Second)
		require.NoError(t, err)
		await(copied.ID, 1, set)
		if set != "RESET ALL" {
			require.NoError(t, o.Close())
			gone(copied.ID)
		}
	}

	// It is ended by somebody, and another process of Hemzo's takes a snapshot.
	end := func() { require.NoError(t, s.exec(ctx, "SELECT pg_terminate_backend($1)", keepers(copied.ID)[0])) }
	work(end, insert)
	await(copied.ID, 1, "it is kept again")
	vacuum.Close(ctx)
	made, err := reset.Snapshot(ctx, s, copied, "brood", engine.Session{Wait: 5 * time.Second})
	require.NoError(t, err)
	gone(copied.ID)
	work(nil, insert)
	require.NoError(t, s.Drop(ctx, made.ID))
	require.NoError(t, o.Close())
	gone(copied.ID)

	// Somebody was writing before it: the map could hide what that one writes later.
	writer, err := dialTest(ctx, s, fresh.ID, s.owner(fresh.Facts))
	require.NoError(t, err)
	defer writer.Close(context.Background())
	_, err = writer.Exec(ctx, "BEGIN; DELETE FROM kind WHERE code = 'none'; SELECT pg_current_xact_id()")
	require.NoError(t, err)
	other, err := reset.OpenFresh(ctx, s, fresh, time.Second)
	require.NoError(t, err)
	defer other.Close()
	gone(fresh.ID) // or never there
}

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

// TestTwoConnections: a run on an ordinary server has two connections, whose locks everybody
// sees: while its tests run, between resets, after a keeper was ended by somebody, and until it
// lets go.
func TestTwoConnections(t *testing.T) {
	t.Parallel()
	s, copied, fresh := beginWith(t, ordinary, "CREATE TABLE hive (id int PRIMARY KEY); INSERT INTO hive VALUES (1), (2);")
	if !atLeast(s.about.Version, 15) {
		return // there is no keeper
	}
	ctx, want := t.Context(), contents(t, s, fresh.ID)
	lock, release, err := s.Own(ctx)
	require.NoError(t, err)
	ok, err := s.takeSlot(ctx, 1)
	require.NoError(t, err)
	require.True(t, ok)
	others := existing(t, urlOf(s, "hemzo", ""))
	ours := func(where string) int64 {
		n, err := others.queryInt(ctx, "SELECT count(*) FROM pg_stat_activity WHERE application_name = 'hemzo' AND "+
			"pid <> pg_backend_pid()"+where)
		require.NoError(t, err)
		return n
	}
	await := func(n int64, why string) {
		require.Eventually(t, func() bool { return ours("") == n }, 20*time.Second, 5*time.Millisecond, why)
	}
	seen := func(why string) {
		assert.True(t, others.Owned(ctx, lock), "others see the owner's lock %s", why)
		free, err := others.takeSlot(ctx, 1)
		require.NoError(t, err)
		assert.False(t, free, "and the slot %s", why)
	}
	o, err := reset.OpenFresh(ctx, s, copied, 10*time.Second)
	require.NoError(t, err)
	await(2, "the keeper and who puts back")
	seen("while the first test runs")
	work := func() *reset.Report {
		client, err := dialTest(ctx, s, copied.ID, s.owner(copied.Facts))
		require.NoError(t, err)
		require.NoError(t, pg.Run(ctx, client, "INSERT INTO hive VALUES (3); DELETE FROM hive WHERE id = 1"))
		report, err := o.Do(ctx, reset.Options{})
		require.NoError(t, err)
		require.NoError(t, client.Ping(ctx))
		require.NoError(t, client.Close(ctx))
		seen("after a reset")
		return report
	}
	for range 3 {
		assert.Equal(t, engine.Truncation, work().Way)
		await(2, "what the reset has opened is given back")
	}
	assert.True(t, s.away.Load())
	work()
	assert.True(t, s.away.Load(), "a reset of tables that were put back before needs no more")

	require.NoError(t, others.exec(ctx, "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = "+
		"'hemzo' AND usename = 'hemzo' AND datname = "+pg.Literal(copied.ID)))
	require.Eventually(t, func() bool { return others.Owned(ctx, lock) && !s.away.Load() }, 20*time.Second,
		5*time.Millisecond, "the server's own session has the locks again")
	work()
	work()
	require.Equal(t, want, contents(t, s, copied.ID))
	require.NoError(t, o.Close())
	seen("until the run lets go")
	release()
	assert.False(t, others.Owned(ctx, lock))
}

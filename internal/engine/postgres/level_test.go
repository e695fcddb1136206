package postgres

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/engine/postgres/witness"
)

// TestCarry: what is read of a database is what its copies are given, and is read
// of them again; of what comes as facts nothing but names and values gets into
// statements.
func TestCarry(t *testing.T) {
	limit := int32(7)
	for _, c := range []carry{
		{}, {Limit: &limit}, {Comment: "the hives"},
		{Settings: []roleSetting{{Name: "work_mem", Value: "7MB"},
			{Role: "app", Name: "search_path", Value: `"a b", c`}}},
		{Grants: append([]grant{{Role: "app", Right: "CREATE", Pass: true}}, usual...)},
		{Grants: []grant{{Owner: true, Right: "CONNECT"}}},
	} {
		items := c.items("hemzo_apiary", true)
		back := carryOf(items)
		assert.Equal(t, c, back)
		assert.Empty(t, differItems(items, back.items("hemzo_apiary", true)))
		raw, err := json.Marshal(c)
		require.NoError(t, err)
		read, err := readCarry(raw)
		require.NoError(t, err)
		assert.Equal(t, c, read)
		assert.Equal(t, c.items("o", true), read.items("o", true))
	}
	assert.Equal(t, int32(7), limitOf(json.RawMessage(`{"limit": 7}`)))
	assert.Equal(t, int32(-1), limitOf(nil))
	assert.Equal(t, int32(-1), limitOf(json.RawMessage(`nonsense`)))

	evil := `x"; DROP ROLE boss; --`
	c := carry{
		Settings: []roleSetting{{Role: evil, Name: evil, Value: "'; DROP ROLE boss; --"}},
		Comment:  "'; DROP ROLE boss; --",
		Grants: []grant{{Role: evil, Right: "CONNECT"},
			{Right: "CONNECT ON DATABASE a TO PUBLIC; DROP ROLE boss; GRANT CONNECT"}},
		Unlogged: []tableName{{evil, evil}},
	}
	sql := c.statements("hemzo_c_0", "hemzo_apiary", true)
	for _, part := range strings.Split(sql, "DROP ROLE boss")[1:] {
		before := sql[:strings.Index(sql, part)]
		quoted := strings.Count(before, `"`)%2 == 1 || strings.Count(before, `'`)%2 == 1
		assert.True(t, quoted, "%s", before)
	}
	assert.Equal(t, `"x""; DROP ROLE boss; --"."x""; DROP ROLE boss; --"`, c.Unlogged[0].String())
	assert.NotContains(t, sql, "TO PUBLIC; DROP")
}

// TestLevelling: only what was changed is put back, by name.
func TestLevelling(t *testing.T) {
	c := carry{Settings: []roleSetting{{Name: "work_mem", Value: "7MB"}}, Comment: "the hives"}
	now := append(c.items("hemzo_apiary", true), levelItem{Kind: "setting", Role: "app", Name: "jit", Value: "off"},
		levelItem{Kind: "right", Role: "app", Name: "CREATE", Value: "false"})
	for kind, want := range map[string][]string{
		"setting": {`ALTER DATABASE "d" RESET ALL`, `ALTER ROLE "app" IN DATABASE "d" RESET "jit"`,
			`ALTER DATABASE "d" SET "work_mem" = '7MB'`},
		"right": {`REVOKE ALL ON DATABASE "d" FROM "app"`, `GRANT CONNECT ON DATABASE "d" TO PUBLIC`,
			`GRANT CREATE ON DATABASE "d" TO "hemzo_apiary"`},
		"comment": {`COMMENT ON DATABASE "d" IS NULL`, `COMMENT ON DATABASE "d" IS 'the hives'`},
		"limit":   {`ALTER DATABASE "d" CONNECTION LIMIT -1`}, "owner": {`ALTER DATABASE "d" OWNER TO "hemzo_apiary"`},
		"template": {`ALTER DATABASE "d" IS_TEMPLATE false`},
	} {
		sql := c.levelling("d", "hemzo_apiary", []levelItem{{Kind: kind}}, now)
		for _, part := range want {
			assert.Contains(t, sql, part, kind)
		}
		for _, other := range []string{"RESET ALL", "COMMENT", "LIMIT", "IS_TEMPLATE"} {
			if !strings.Contains(strings.Join(want, ";"), other) {
				assert.NotContains(t, sql, other, kind)
			}
		}
	}
	for _, i := range []levelItem{{Kind: "setting", Role: "app", Name: "jit"}, {Kind: "right", Name: "CONNECT"},
		{Kind: "owner right", Name: "CREATE"}, {Kind: "limit"}} {
		kind, name := i.words()
		assert.True(t, strings.HasPrefix(kind, "database "), kind)
		assert.Equal(t, i.Kind == "limit", name == "")
	}
}

// TestWorkLimit: the mark of work is its name's, and no limit that anybody wants.
func TestWorkLimit(t *testing.T) {
	seen := map[int32]bool{}
	for range 1000 {
		id := engine.NewID(engine.Work)
		n := workLimit(id)
		assert.Equal(t, n, workLimit(id))
		assert.GreaterOrEqual(t, n, int32(1_000_000_000))
		seen[n] = true
	}
	assert.Greater(t, len(seen), 990)
	assert.Nil(t, carryOf([]levelItem{{Kind: "limit", Value: "1000000123"}}).Limit,
		"a copy of work does not take it along")
}

// TestSafe: nothing of a baseline gets into statements but names and numbers.
func TestSafe(t *testing.T) {
	good := witness.Baseline{Next: "7",
		Tables:   []witness.Mark{{Name: "public.hive", Since: "9"}, {Name: `"odd ""on"" a.b; x"."T"`}},
		Catalogs: []witness.Mark{{Name: "pg_class"}}, Counters: []witness.Counter{{Name: "public.hive_id_seq"}}}
	assert.True(t, good.Safe())
	for _, evil := range []string{"public.hive; DROP ROLE boss", `"a"."b" x`, `"a""."b"`, "hive", "public.hive--", "",
		"a.b\nc", "A.b"} {
		assert.False(t, witness.Baseline{Tables: []witness.Mark{{Name: evil}}}.Safe(), evil)
		assert.False(t, witness.Baseline{Counters: []witness.Counter{{Name: evil}}}.Safe(), evil)
	}
	for _, evil := range []string{"7; SELECT 1", "'", "7\n"} {
		assert.False(t, witness.Baseline{Next: evil}.Safe(), evil)
		assert.False(t, witness.Baseline{Tables: []witness.Mark{{Name: "a.b", Since: evil}}}.Safe(), evil)
		assert.False(t, witness.Baseline{Catalogs: []witness.Mark{{Name: "pg_class", Since: evil}}}.Safe(), evil)
		assert.False(t, witness.Baseline{Catalogs: []witness.Mark{{Name: "pg_class" + evil}}}.Safe(), evil)
	}
}

// TestLevelAfterLooks: that a look finds nobody since the look before does not hide what the
// database itself was given before that one: resets and changes look, too, and a reset looks
// anew after a statement that it waited for.
func TestLevelAfterLooks(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	s, copied, _ := begin(t, true)
	d, err := s.Open(ctx, copied.ID, engine.Session{Wait: 5 * time.Second})
	require.NoError(t, err)
	defer d.Close()
	client, err := dialTest(ctx, s, copied.ID, s.owner(copied.Facts))
	require.NoError(t, err)
	defer client.Close(ctx)
	start := copied.Facts.Start
	do := func() *engine.Report {
		_, err := client.Exec(ctx, "ALTER DATABASE "+pg.Ident(copied.ID)+" SET work_mem = '5MB'")
		require.NoError(t, err)
		for range 2 {
			changes, err := d.Changes(ctx, engine.Compare{Start: start, Last: start})
			require.NoError(t, err)
			assert.Len(t, changes.Schema, 1)
		}
		report, err := d.Reset(ctx, engine.Reset{Start: start, Last: start})
		require.NoError(t, err)
		return report
	}
	assert.Equal(t, []string{"database setting work_mem"}, do().Settings, "after changes that looked")
	slow, err := dialTest(ctx, s, copied.ID, s.owner(copied.Facts))
	require.NoError(t, err)
	defer slow.Close(ctx)
	done := make(chan error, 1)
	go func() {
		_, err := slow.Exec(ctx, "SELECT pg_sleep(1)")
		done <- err
	}()
	require.Eventually(t, func() bool {
		n, err := s.queryInt(ctx, "SELECT count(*) FROM pg_stat_activity WHERE query LIKE 'SELECT pg_sleep%' AND "+
			"state = 'active'")
		return err == nil && n > 0
	}, 5*time.Second, time.Millisecond)
	assert.Equal(t, []string{"database setting work_mem"}, do().Settings, "after a statement that ran")
	require.NoError(t, <-done)
	changes, err := d.Changes(ctx, engine.Compare{Start: start, Last: start})
	require.NoError(t, err)
	assert.Empty(t, changes.Schema)
}

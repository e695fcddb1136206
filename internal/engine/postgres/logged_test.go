package postgres

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/wal"
	"hemzo/internal/engine/postgres/witness"
	"hemzo/internal/fault"
	"hemzo/internal/reset"
)

var (
	dumpedRecord = regexp.MustCompile(`^rmgr: (\S+) .*tx: +(\d+).*? desc: (\S+)`)
	dumpedBlock  = regexp.MustCompile(`blkref #\d+: rel \d+/(\d+)/(\d+)(?: fork (\w+))? blk (\d+)`)
)

// TestLogAgrees: of random work the log is read as PostgreSQL's own program
// reads it, record by record.
func TestLogAgrees(t *testing.T) {
	s, copied, _ := begin(t, true)
	ctx := t.Context()
	from, err := s.witness.Moment(ctx, s.conn, copied.ID, 0)
	require.NoError(t, err)
	w := &worker{Rand: rand.New(rand.NewPCG(rand.Uint64(), 1))}
	c, err := dialTest(ctx, s, copied.ID, s.owner(copied.Facts))
	require.NoError(t, err)
	defer c.Close(context.Background())
	w.conns = []*pgx.Conn{c}
	for range 40 {
		w.round(ctx)
	}
	for _, sql := range []string{"ROLLBACK", "CREATE TABLE locked (x int); INSERT INTO locked VALUES (1)",
		"SELECT x FROM locked FOR UPDATE"} {
		_, err = c.Exec(ctx, sql)
		require.NoError(t, err)
	}
	// Images of whole pages, with hints and without.
	_, err = c.Exec(ctx, "ROLLBACK; CREATE UNLOGGED TABLE imaged (id int PRIMARY KEY)")
	require.NoError(t, err)
	to, err := s.witness.Moment(ctx, s.conn, copied.ID, 0)
	require.NoError(t, err)
	_, err = witness.Flush(ctx, s.conn)
	require.NoError(t, err)
	log, err := s.witness.FindLog(ctx, s.conn)
	require.NoError(t, err)
	forks := map[string]string{"": "0", "fsm": "1", "vm": "2", "init": "3"}
	var want, got []string
	kinds := map[string]bool{}
	tools, err := find("")
	require.NoError(t, err)
	out, err := exec.Command(filepath.Join(tools.folder, "pg_waldump"), "-p", filepath.Join(s.socket, "data", "pg_wal"),
		"-s", from.At.String(), "-e", to.At.String()).Output()
	require.NoError(t, err)
	for line := range strings.Lines(string(out)) {
		told := dumpedRecord.FindStringSubmatch(line)
		require.NotNil(t, told, line)
		record := fmt.Sprint(told[2], " ", changesRows(told[1], told[3]))
		kinds[told[1]+" "+told[3]] = true
		for _, b := range dumpedBlock.FindAllStringSubmatch(line, -1) {
			record += fmt.Sprintf(" %s/%s/%s/%s", b[1], b[2], forks[b[3]], b[4])
		}
		want = append(want, record)
	}
	require.NoError(t, log.Read(from.At, to.At, func(r *wal.Record) {
		record := fmt.Sprint(r.Transaction, " ", r.Writes())
		for _, b := range r.Blocks {
			record += fmt.Sprintf(" %d/%d/%d/%d", b.Database, b.File, b.Fork, b.Number)
		}
		got = append(got, record)
	}))
	require.Greater(t, len(want), 500)
	require.Equal(t, want, got)
	for _, kind := range []string{"Heap INSERT", "Heap LOCK", "Heap2 VISIBLE", "XLOG FPI", "Btree INSERT_LEAF",
		"Transaction COMMIT"} {
		assert.True(t, kinds[kind], "there was no %s", kind)
	}
	for _, kind := range []struct{ manager, info byte }{{0, 0xA0}, {10, 0x60}, {9, 0x40}} {
		r := wal.Record{Manager: kind.manager, Info: kind.info}
		assert.False(t, r.Writes(), "%v", kind)
	}
}

// changesRows reports whether an operation of a manager, by the names that the
// server's own program gives them, may change what somebody reads.
func changesRows(manager, operation string) bool {
	switch operation, _, _ = strings.Cut(operation, "+"); manager {
	case "XLOG":
		return operation != "FPI_FOR_HINT"
	case "Heap":
		return operation != "LOCK" && operation != "INPLACE"
	case "Heap2":
		return operation == "MULTI_INSERT" || operation == "NEW_CID" || operation == "REWRITE"
	}
	return true
}

// TestLogTells: the log alone tells what a test has touched, also to a process
// that opens the copy anew, and nothing where another database was written to;
// a reset leaves nothing behind in it.
func TestLogTells(t *testing.T) {
	t.Run("from files", func(t *testing.T) { logTells(t, true) })
	t.Run("through a session", func(t *testing.T) { logTells(t, false) })
}

// logTells has a server whose files are seen, as those in memory are, or not, as
// those of containers are not.
func logTells(t *testing.T, seen bool) {
	s, copied, fresh := begin(t, true)
	if !seen {
		s.socket = ""
	}
	clients := map[string]*pgx.Conn{}
	for _, id := range []string{copied.ID, fresh.ID} {
		c, err := dialTest(t.Context(), s, id, s.owner(copied.Facts))
		require.NoError(t, err)
		defer c.Close(context.Background())
		clients[id] = c
	}
	facts, err := s.Find(t.Context(), copied.ID)
	require.NoError(t, err)
	r := engine.Reset{Start: facts.Facts.Start, Last: facts.Facts.Start}
	for i, work := range []struct {
		sql      string
		tables   []string
		counters int
		gone     bool // its files have gone
	}{
		{"SELECT 1; INSERT INTO nothing VALUES (1)", nil, 0, false},
		{"INSERT INTO hive (label) VALUES ('c')", []string{"other.journal", "public.hive"}, 1, false},
		{"SELECT * FROM hive FOR UPDATE; SELECT * FROM kind; ANALYZE", nil, 0, false},
		{"INSERT INTO queen (hive) VALUES (1)", []string{"public.queen"}, 1, false},
		{"INSERT INTO cache VALUES ('k', 'v'); DELETE FROM wide WHERE id = 3", []string{"public.cache", "public.wide"},
			0, false},
		{"BEGIN; UPDATE many SET id = -id WHERE id = 4; ROLLBACK", []string{"public.many"}, 0, false},
		{"SELECT setval('tickets', 55)", nil, 1, false},
		{"DELETE FROM wide WHERE id = 5", []string{"public.wide"}, 0, true},
	} {
		opened, err := s.Open(t.Context(), copied.ID, engine.Session{Wait: time.Second})
		require.NoError(t, err)
		d := opened.(*database)
		_, _ = clients[copied.ID].Exec(t.Context(), work.sql) // the first fails, and takes a number
		if work.gone {
			for range 3 {
				require.NoError(t, s.exec(t.Context(), "SELECT pg_switch_wal()"))
			}
			require.NoError(t, s.exec(t.Context(), "CHECKPOINT"))
		}
		_, err = clients[fresh.ID].Exec(t.Context(), "INSERT INTO parent VALUES (1); SELECT nextval('tickets')")
		require.NoError(t, err)
		base, err := d.base(t.Context(), r)
		require.NoError(t, err)
		conn, err := d.openWitness(t.Context())
		require.NoError(t, err)
		told, ok, err := d.look.Quick(t.Context(), conn, true, base)
		require.NoError(t, err)
		require.Equal(t, !work.gone, ok, "the log tells; work %d", i)
		if work.gone {
			told, err = d.look.Compare(t.Context(), conn, base)
			require.NoError(t, err)
		}
		var names []string
		for _, at := range told.Tables {
			names = append(names, base.Tables[at-1].Name)
		}
		assert.Equal(t, work.tables, names, work.sql)
		assert.Len(t, told.Counters, work.counters, work.sql)
		report, err := d.Reset(t.Context(), r)
		require.NoError(t, err)
		assert.Equal(t, len(work.tables)+work.counters > 0 && !strings.HasSuffix(work.sql, "ROLLBACK"),
			report.Differed(), work.sql)
		if report.Later != nil {
			r.Baseline, err = report.Later(t.Context())
			require.NoError(t, err)
		}
		require.NoError(t, opened.Close())
	}
}

// TestFirstLook: the first look of a process is taken without a session in the
// copy, and all goes as otherwise.
func TestFirstLook(t *testing.T) {
	s, copied, fresh := beginWith(t, whole,
		"CREATE TABLE kind (code text PRIMARY KEY); INSERT INTO kind VALUES ('d'), ('z'); CREATE TABLE hive (id "+
			"serial PRIMARY KEY, label text)")
	want := contents(t, s, fresh.ID)
	c, err := dialTest(t.Context(), s, copied.ID, s.owner(copied.Facts))
	require.NoError(t, err)
	defer c.Close(context.Background())
	for i, work := range []string{"SELECT 1", "INSERT INTO hive (label) VALUES ('c')",
		"INSERT INTO hive (label) SELECT g FROM generate_series(1, 20000) g",
		"DELETE FROM kind; INSERT INTO kind VALUES ('x')", "TRUNCATE kind"} {
		_, err := c.Exec(t.Context(), work)
		require.NoError(t, err)
		copied, err = s.Find(t.Context(), copied.ID)
		require.NoError(t, err)
		report, err := reset.Do(t.Context(), s, copied, reset.Options{Wait: time.Second})
		require.NoError(t, err)
		assert.Equal(t, i > 0, report.Differed(), work)
		require.Equal(t, want, contents(t, s, copied.ID), work)
	}
	_, err = c.Exec(t.Context(), "BEGIN; UPDATE kind SET code = 'held' WHERE code = 'd'")
	require.NoError(t, err)
	copied, err = s.Find(t.Context(), copied.ID)
	require.NoError(t, err)
	_, err = reset.Do(t.Context(), s, copied, reset.Options{Wait: 50 * time.Millisecond})
	var told *fault.Error
	require.ErrorAs(t, err, &told)
	require.Len(t, told.Lines, 1)
	assert.Contains(t, told.Lines[0], "UPDATE kind")
}

// TestNotStill: neither the map nor the log is believed where PostgreSQL vacuums
// by itself.
func TestNotStill(t *testing.T) {
	s, _, _ := begin(t, true)
	require.True(t, s.exact())
	require.NoError(t, s.exec(t.Context(), "ALTER SYSTEM SET autovacuum = on"))
	require.NoError(t, s.exec(t.Context(), "SELECT pg_reload_conf()"))
	require.Eventually(t, func() bool {
		require.NoError(t, s.conn.Close(t.Context()))
		s.asked = false
		require.NoError(t, s.begin(t.Context()))
		return !s.exact()
	}, 20*time.Second, 10*time.Millisecond)
}

// TestResetAfterCrash: the server lost a process, and with it what was not on
// disk and the rows of unlogged tables, the template's too. That is said.
func TestResetAfterCrash(t *testing.T) {
	s, copied, fresh := begin(t, true)
	want := contents(t, s, fresh.ID)
	o, err := reset.Open(t.Context(), s, copied, time.Second)
	require.NoError(t, err)
	defer func() { assert.NoError(t, o.Close()) }()
	var c *pgx.Conn
	connect := func() {
		require.Eventually(t, func() bool {
			c, err = dialTest(t.Context(), s, copied.ID, s.owner(copied.Facts))
			return err == nil
		}, 20*time.Second, time.Millisecond)
	}
	work := func(sql string) {
		_, err := c.Exec(t.Context(), sql)
		require.NoError(t, err)
	}
	const usual = "INSERT INTO hive (label) VALUES ('c'); DELETE FROM many WHERE id < 10"
	connect()
	for range 2 {
		work(usual)
		_, err = o.Do(t.Context(), reset.Options{})
		require.NoError(t, err)
	}
	require.Equal(t, want, contents(t, s, copied.ID))
	work(usual)
	require.NoError(t, syscall.Kill(int(c.PgConn().PID()), syscall.SIGKILL))
	s.patience.Wait = 20 * time.Second
	require.Eventually(t, func() bool { // until the server has noticed
		_, err = o.Do(t.Context(), reset.Options{})
		return err != nil && strings.Contains(err.Error(), "hemzo_t_0123456789ab is gone")
	}, 20*time.Second, 10*time.Millisecond)
}

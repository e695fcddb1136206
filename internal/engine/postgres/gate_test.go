package postgres

import (
	"context"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
)

// gated is a copy behind its gate, with an address that clients connect to.
type gated struct {
	*gate
	s             *server
	copied, fresh engine.Entry
	url           string
}

// beginGated makes a copy with a gate; a handler that fails fails the test.
func beginGated(t testing.TB) *gated {
	s, copied, fresh := begin(t, true)
	opened, err := openGate(t.Context(), s, copied.ID, s.Connection(copied.ID, copied.Facts),
		engine.Session{Wait: time.Second})
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	var all sync.WaitGroup
	all.Go(func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			all.Go(func() {
				defer conn.Close()
				defer context.AfterFunc(ctx, func() { conn.Close() })()
				assert.NoError(t, opened.ServeConn(ctx, conn))
			})
		}
	})
	t.Cleanup(func() {
		stop()
		l.Close()
		all.Wait()
		assert.NoError(t, opened.Close())
	})
	c := s.Connection(copied.ID, copied.Facts)
	u := url.URL{Scheme: "postgresql", User: url.UserPassword(c.User, c.Password), Host: l.Addr().String(),
		Path: copied.ID}
	return &gated{gate: opened.(*gate), s: s, copied: copied, fresh: fresh, url: u.String()}
}

func (g *gated) client(t testing.TB) *pgx.Conn {
	c, err := pgx.Connect(t.Context(), g.url)
	require.NoError(t, err)
	t.Cleanup(func() { c.Close(context.Background()) })
	return c
}

// reset resets, and waits until all is put back: what is compared is read beside the gate.
func (g *gated) reset(t testing.TB) *engine.Report {
	r, err := g.Reset(t.Context(), engine.Session{Wait: time.Second})
	require.NoError(t, err)
	require.NoError(t, g.Settled())
	return r
}

// TestGateRandomWork: whatever clients do, a rollback brings the start state back,
// and they stay connected.
func TestGateRandomWork(t *testing.T) {
	n := *seed
	if n == 0 {
		n = rand.Uint64()
	}
	ctx := t.Context()
	g := beginGated(t)
	want, dump := contents(t, g.s, g.fresh.ID), dumped(t, g.s, g.fresh.ID)
	w := &worker{Rand: rand.New(rand.NewPCG(n, 1))}
	for range 3 {
		w.conns = append(w.conns, g.client(t))
	}
	for i := range *rounds {
		w.round(ctx)
		require.NotEqual(t, engine.Truncation, g.reset(t).Way, "nothing has escaped")
		told := fmt.Sprintf("seed %d, round %d:\n%s", n, i, strings.Join(w.log, ";\n"))
		for _, c := range w.conns {
			require.NoError(t, c.Ping(ctx), "the connections stay; %s", told)
			require.Equal(t, byte('I'), c.PgConn().TxStatus(), told)
		}
		require.Equal(t, want, contents(t, g.s, g.copied.ID), told)
		require.Equal(t, dump, dumped(t, g.s, g.copied.ID), told)
	}
}

// TestGateModes: pgx in each of its modes, its batches and its pipeline, database/sql.
func TestGateModes(t *testing.T) {
	g := beginGated(t)
	ctx := t.Context()
	for _, mode := range []pgx.QueryExecMode{pgx.QueryExecModeCacheStatement, pgx.QueryExecModeCacheDescribe,
		pgx.QueryExecModeDescribeExec, pgx.QueryExecModeExec, pgx.QueryExecModeSimpleProtocol} {
		c := g.client(t)
		count := func(q interface {
			QueryRow(context.Context, string, ...any) pgx.Row
		}) (n int) {
			require.NoError(t, q.QueryRow(ctx, "SELECT count(*) FROM many WHERE id < $1", mode, 0).Scan(&n), mode)
			return n
		}
		for range 2 {
			tx, err := c.Begin(ctx)
			require.NoError(t, err)
			_, err = tx.Exec(ctx, "INSERT INTO many VALUES ($1)", mode, -1)
			require.NoError(t, err)
			inner, err := tx.Begin(ctx)
			require.NoError(t, err)
			_, err = inner.Exec(ctx, "INSERT INTO many VALUES ($1)", mode, -1)
			require.Equal(t, "23505", pg.State(err))
			require.NoError(t, inner.Rollback(ctx))
			require.Equal(t, 1, count(tx))
			require.NoError(t, tx.Commit(ctx))
			_, err = c.Exec(ctx, "SELECT 1 / $1::int", mode, 0)
			require.Equal(t, "22012", pg.State(err))
			require.Equal(t, 1, count(c))
			tx, err = c.Begin(ctx)
			require.NoError(t, err)
			_, err = tx.Exec(ctx, "DELETE FROM many")
			require.NoError(t, err)
			require.NoError(t, tx.Rollback(ctx))
			n, err := c.CopyFrom(ctx, pgx.Identifier{"many"}, []string{"id"}, pgx.CopyFromRows([][]any{{-2}, {-3}}))
			require.NoError(t, err)
			require.EqualValues(t, 2, n)
			require.Equal(t, 3, count(c))
			b := &pgx.Batch{}
			b.Queue("BEGIN")
			b.Queue("DELETE FROM many WHERE id = $1", -2)
			b.Queue("COMMIT")
			b.Queue("DELETE FROM many WHERE id = $1", -3)
			b.Queue("SELECT 1 / 0")
			failed := c.SendBatch(ctx, b).Close()
			require.ErrorContains(t, failed, "division by zero")
			require.Equal(t, 2, count(c), "%s: what was committed before an error stays, the rest goes", mode)
			require.Equal(t, engine.Rollback, g.reset(t).Way)
			require.Zero(t, count(c))
		}
	}
	config, err := pgx.ParseConfig(g.url)
	require.NoError(t, err)
	db := stdlib.OpenDB(*config)
	defer db.Close()
	tx, err := db.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
	require.NoError(t, err)
	_, err = tx.Exec("DELETE FROM many")
	require.Equal(t, "25006", pg.State(err), "read only")
	require.NoError(t, tx.Rollback())
	reader := g.client(t)
	for _, sql := range []string{"SET SESSION CHARACTERISTICS AS TRANSACTION READ ONLY", "BEGIN"} {
		_, err = reader.Exec(ctx, sql)
		require.NoError(t, err)
	}
	_, err = reader.Exec(ctx, "DELETE FROM cache")
	require.Equal(t, "25006", pg.State(err), "read only by a setting")
	require.NoError(t, reader.Close(ctx))
	_, err = db.Exec("DELETE FROM cache")
	require.NoError(t, err)
	g.reset(t)
	require.Equal(t, contents(t, g.s, g.fresh.ID), contents(t, g.s, g.copied.ID))
}

// TestGateFaults: whatever becomes of a client, the others go on, and nothing of what
// it left open stays.
func TestGateFaults(t *testing.T) {
	g := beginGated(t)
	ctx := t.Context()
	other := g.client(t)
	rows := func() (n int) {
		limited, stop := context.WithTimeout(ctx, 20*time.Second)
		defer stop()
		require.NoError(t, other.QueryRow(limited, "SELECT count(*) FROM wide").Scan(&n))
		return n
	}
	raw := func() (net.Conn, *pgproto3.Frontend) {
		conn, err := pgconn.Connect(ctx, g.url)
		require.NoError(t, err)
		h, err := conn.Hijack()
		require.NoError(t, err)
		return h.Conn, h.Frontend
	}
	_, err := other.Exec(ctx, "INSERT INTO cache VALUES ('committed', '')")
	require.NoError(t, err)
	for name, last := range map[string][]byte{
		"in a transaction": nil,
		"within a message": {'Q', 0, 0, 0, 100, 'S'},
		"within a part": pgFront(&pgproto3.Parse{Query: "SELECT 1"}, &pgproto3.Bind{}, &pgproto3.Execute{},
			&pgproto3.Flush{}),
		"in COPY": pgFront(&pgproto3.Query{String: "COPY wide FROM STDIN"},
			&pgproto3.CopyData{Data: []byte("900\tR\n")}),
		"in extended COPY": pgFront(&pgproto3.Parse{Query: "COPY wide FROM STDIN"}, &pgproto3.Bind{},
			&pgproto3.Execute{}, &pgproto3.Sync{}, &pgproto3.CopyData{Data: []byte("r")}),
		"an unknown message": {'?', 0, 0, 0, 4},
		"a negative length":  {'Q', 255, 255, 255, 255},
		"a broken message":   append(pgFront(&pgproto3.Sync{}), 'B', 0, 0, 0, 5, 'x', 'S', 0, 0, 0, 4),
	} {
		conn, front := raw()
		front.SendQuery(&pgproto3.Query{String: "BEGIN"})
		front.SendQuery(&pgproto3.Query{String: "DELETE FROM wide"})
		require.NoError(t, front.Flush())
		for ready := 0; ready < 2; {
			m, err := front.Receive()
			require.NoError(t, err)
			if _, ok := m.(*pgproto3.ReadyForQuery); ok {
				ready++
			}
		}
		_, err := conn.Write(last)
		require.NoError(t, err)
		require.NoError(t, conn.Close())
		require.Equal(t, 200, rows(), name)
		var kept int
		require.NoError(t, other.QueryRow(ctx, "SELECT count(*) FROM cache WHERE k = 'committed'").Scan(&kept))
		require.Equal(t, 1, kept, "what another has committed stays; %s", name)
	}
	for name, first := range map[string][]byte{
		"a short startup message": {0, 0, 0, 3}, "another protocol": binary.BigEndian.AppendUint32([]byte{0, 0, 0, 8}, 2<<16),
		"a long startup message": {127, 0, 0, 0, 0, 3, 0, 0}, "no words": {0, 0, 0, 10, 0, 3, 0, 0, 'u', 0},
	} {
		conn, err := net.Dial("tcp", strings.Split(strings.Split(g.url, "@")[1], "/")[0])
		require.NoError(t, err)
		_, err = conn.Write(first)
		require.NoError(t, err)
		require.NoError(t, conn.(*net.TCPConn).CloseWrite())
		_ = conn.SetReadDeadline(time.Now().Add(20 * time.Second))
		_, err = io.ReadAll(conn)
		require.NoError(t, err, name)
		conn.Close()
	}
	// A statement is cancelled, that of the client who asks for it.
	c := g.client(t)
	limited, stop := context.WithCancel(ctx)
	time.AfterFunc(200*time.Millisecond, stop)
	_, err = c.Exec(limited, "SELECT pg_sleep(60)")
	require.Error(t, err)
	require.Equal(t, 200, rows())
	// The server ends the session: what was open is told, and what follows goes on.
	c = g.client(t)
	_, err = c.Exec(ctx, "BEGIN; DELETE FROM wide; SELECT nextval('tickets')") // which its end does not take back
	require.NoError(t, err)
	_, err = g.s.queryInt(ctx, "SELECT count(pg_terminate_backend(pid)) FROM pg_stat_activity WHERE datname = $1 AND "+
		"application_name <> 'hemzo'", g.copied.ID)
	require.NoError(t, err)
	_, err = c.Exec(ctx, "SELECT 1")
	require.Error(t, err)
	_, _ = c.Exec(ctx, "ROLLBACK")
	_ = g.reset(t)
	require.Equal(t, contents(t, g.s, g.fresh.ID), contents(t, g.s, g.copied.ID), "sequences too")
	require.Eventually(t, func() bool { return other.IsClosed() || other.Ping(ctx) == nil }, 20*time.Second,
		time.Millisecond)
	other = g.client(t)
	require.Equal(t, 200, rows())
	// Statements that are for transactions alone are refused outside of them, and chained
	// transactions go on, in both protocols.
	for _, mode := range []pgx.QueryExecMode{pgx.QueryExecModeDescribeExec, pgx.QueryExecModeSimpleProtocol} {
		for _, sql := range []string{"SAVEPOINT a", "LOCK TABLE wide", "DECLARE c CURSOR FOR SELECT 1", "COMMIT AND CHAIN"} {
			_, err = other.Exec(ctx, sql, mode)
			require.Equal(t, "25P01", pg.State(err), "%s %s", mode, sql)
			require.Equal(t, byte('I'), other.PgConn().TxStatus())
		}
		for _, sql := range []string{"BEGIN", "SAVEPOINT a", "LOCK TABLE wide", "DELETE FROM wide WHERE id = 1",
			"COMMIT AND CHAIN", "DELETE FROM wide", "ROLLBACK AND CHAIN"} {
			_, err = other.Exec(ctx, sql, mode)
			require.NoError(t, err, "%s %s", mode, sql)
			require.Equal(t, byte('T'), other.PgConn().TxStatus(), sql)
		}
		require.Equal(t, 199, rows())
		_, err = other.Exec(ctx, "COMMIT", mode)
		require.NoError(t, err)
		g.reset(t)
		require.Equal(t, 200, rows())
	}
	_, err = other.Exec(ctx, "LOCK TABLE wide; SELECT 1", pgx.QueryExecModeSimpleProtocol)
	require.NoError(t, err, "several statements of one message are a transaction")
	// What was committed all the same, in a way that the relay did not see, is put back.
	_, err = other.Exec(ctx, "SET standard_conforming_strings = off")
	require.NoError(t, err)
	_, err = other.Exec(ctx, `SELECT '\''; COMMIT; DELETE FROM wide; SELECT 'x'`)
	require.NoError(t, err)
	_ = g.reset(t)
	require.Equal(t, contents(t, g.s, g.fresh.ID), contents(t, g.s, g.copied.ID))
}

// TestGateSlow: a client that takes no rows, or sends none, holds others up for a while
// alone; a reset says who it is, or with force does without it.
func TestGateSlow(t *testing.T) {
	g := beginGated(t)
	ctx := t.Context()
	other := g.client(t)
	for name, sql := range map[string]string{"takes none": "SELECT repeat('x', 1000) FROM generate_series(1, 1000000)",
		"sends none": "COPY wide FROM STDIN"} {
		config, err := pgconn.ParseConfig(g.url)
		require.NoError(t, err)
		config.RuntimeParams["application_name"] = "idler"
		conn, err := pgconn.ConnectConfig(ctx, config)
		require.NoError(t, err)
		h, err := conn.Hijack()
		require.NoError(t, err)
		h.Frontend.SendQuery(&pgproto3.Query{String: sql})
		require.NoError(t, h.Frontend.Flush())
		_, err = h.Frontend.Receive()
		require.NoError(t, err)
		for i := range 2 {
			mode := []pgx.QueryExecMode{pgx.QueryExecModeDescribeExec, pgx.QueryExecModeSimpleProtocol}[i]
			_, err = other.Exec(ctx, "DELETE FROM many", mode)
			require.ErrorContains(t, err, "another client has taken or sent no rows for 2s", name)
			require.ErrorContains(t, err, shortened(sql), name)
		}
		all := g.Clients()
		require.Len(t, all, 2)
		require.Equal(t, []string{"idle", "active"}, []string{all[0].State, all[1].State})
		require.Equal(t, "idler", all[1].Application)
		_, err = g.Reset(ctx, engine.Session{Wait: 50 * time.Millisecond})
		var blocked *engine.Blocked
		require.ErrorAs(t, err, &blocked, name)
		require.Equal(t, all[1].PID, blocked.Sessions[0].PID)
		require.ErrorAs(t, g.Commit(ctx, false), &blocked, name)
		require.Equal(t, "active", blocked.Sessions[0].State)
		_, err = g.Reset(ctx, engine.Session{Force: true})
		require.NoError(t, err, name)
		h.Conn.Close()
		var n int
		require.NoError(t, other.QueryRow(ctx, "SELECT count(*) FROM wide").Scan(&n), name)
		require.Equal(t, 200, n)
	}
	// What a suite may stumble over is remarked, once.
	_, err := other.Exec(ctx, "BEGIN ISOLATION LEVEL SERIALIZABLE; SELECT now(); COMMIT; SELECT current_timestamp")
	require.NoError(t, err)
	_, err = other.Exec(ctx, "VACUUM wide")
	require.ErrorContains(t, err, "VACUUM cannot run inside a transaction block")
	var kinds []string
	for _, m := range g.Remarks() {
		kinds = append(kinds, fmt.Sprint(m.Kind, m.Unfit))
	}
	require.Equal(t, []string{"turnstrue", "isolationfalse", "clockfalse", "committrue"}, kinds)
	require.Empty(t, g.Remarks())
}

// shortened is the beginning of a statement as messages have it.
func shortened(sql string) string { return sql[:min(len(sql), 50)] }

// TestGateFails: where what no rollback puts back cannot be put back, clients are told,
// and the next reset tries again.
func TestGateFails(t *testing.T) {
	g := beginGated(t)
	ctx := t.Context()
	c := g.client(t)
	_, err := c.Exec(ctx, "SELECT nextval('tickets')")
	require.NoError(t, err)
	right := g.base
	g.base.Counters = slices.Clone(right.Counters)
	for i := range g.base.Counters {
		g.base.Counters[i].Name = "none." + g.base.Counters[i].Name
	}
	_, err = g.Reset(ctx, engine.Session{Wait: time.Second})
	require.NoError(t, err)
	require.Error(t, g.Settled())
	_, err = c.Exec(ctx, "SELECT 1")
	require.ErrorContains(t, err, "the last reset has failed")
	g.base = right
	g.reset(t)
	require.NoError(t, c.Ping(ctx))
	require.Equal(t, contents(t, g.s, g.fresh.ID), contents(t, g.s, g.copied.ID))
}

func pgFront(all ...pgproto3.FrontendMessage) (out []byte) {
	for _, m := range all {
		out, _ = m.Encode(out)
	}
	return out
}

// FuzzGate: whatever bytes a client sends, the relay neither hangs nor fails for
// others, and a reset brings the start state back.
func FuzzGate(f *testing.F) {
	g := beginGated(f)
	other := g.client(f)
	for _, seed := range [][]byte{
		pgFront(&pgproto3.Query{String: "BEGIN; DELETE FROM wide"}, &pgproto3.Query{String: "COMMIT"}),
		pgFront(&pgproto3.Parse{Name: "a", Query: "SELECT 1"}, &pgproto3.Bind{PreparedStatement: "a", DestinationPortal: "p"},
			&pgproto3.Describe{ObjectType: 'P', Name: "p"}, &pgproto3.Execute{Portal: "p"},
			&pgproto3.Close{ObjectType: 'S', Name: "a"}, &pgproto3.Flush{}, &pgproto3.Sync{}),
		pgFront(&pgproto3.Parse{Query: "COMMIT"}, &pgproto3.Bind{}, &pgproto3.Execute{}, &pgproto3.Sync{}),
		pgFront(&pgproto3.Query{String: "COPY wide FROM STDIN"}, &pgproto3.CopyData{Data: []byte("900\tx\n")},
			&pgproto3.CopyDone{}),
		pgFront(&pgproto3.Query{String: "PREPARE x AS SELECT 1; EXECUTE x; SET a.b = 1; LISTEN x; NOTIFY x, 'y'; " +
			"SAVEPOINT a"}),
		{'E', 0, 0, 0, 4}, {'B', 0, 0, 0, 6, 0, 0, 'S', 0, 0, 0, 4},
	} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, sent []byte) {
		ctx, stop := context.WithTimeout(t.Context(), 30*time.Second)
		defer stop()
		conn, err := pgconn.Connect(ctx, g.url)
		require.NoError(t, err)
		h, err := conn.Hijack()
		require.NoError(t, err)
		defer h.Conn.Close()
		_, _ = h.Conn.Write(sent)
		_ = h.Conn.(*net.TCPConn).CloseWrite()
		_ = h.Conn.SetReadDeadline(time.Now().Add(20 * time.Second))
		_, err = io.ReadAll(h.Conn)
		require.False(t, errors.Is(err, os.ErrDeadlineExceeded), "it hangs")
		_, err = g.Reset(ctx, engine.Session{Wait: time.Second})
		require.NoError(t, err)
		var n int
		require.NoError(t, other.QueryRow(ctx, "SELECT count(*) FROM wide").Scan(&n))
		require.Equal(t, 200, n)
	})
}

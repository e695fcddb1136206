package mariadb_test

import (
	"context"
	"database/sql"
	"flag"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
	"hemzo/internal/engine/enginetest"
	"hemzo/internal/engine/mariadb"
	"hemzo/internal/place"
)

var (
	seed   = flag.Uint64("seed", 0, "of the random work; 0 for another each time")
	rounds = flag.Int("rounds", 25, "of random work")
	shared = flag.Int("shared-rounds", 6, "of random work on each version, where one server holds all")
)

// held is a copy of a template, and a fresh one beside it.
type held struct {
	server        engine.Server
	copied, fresh engine.Entry
	template      string
	baseline      []byte
	kind          kind
}

func begin(t testing.TB, k kind, w place.Wanted) *held {
	enginetest.Home(t, k.engine)
	k = k.withTools(t)
	m := enginetest.NewTemplate(t, k.subject(w))
	h := &held{kind: k, server: m.Server, template: m.ID}
	h.copied, h.fresh = m.Take(t), m.Take(t)
	h.baseline = h.copied.Facts.Baseline
	return h
}

func (h *held) connection(t testing.TB, e engine.Entry) engine.Connection {
	now, err := h.server.Find(t.Context(), e.ID)
	require.NoError(t, err)
	return h.server.Connection(e.ID, now.Facts)
}

func (h *held) client(t *testing.T) *sql.Conn { return h.direct(t, h.copied, nil) }

// config is how the driver connects to a copy.
func (h *held) config(t testing.TB, e engine.Entry) *mysql.Config {
	c := h.connection(t, e)
	config := mysql.NewConfig()
	config.User, config.Passwd, config.Net, config.Addr, config.DBName = c.User, c.Password, "tcp", c.Host+":"+c.Port,
		c.Database
	config.Logger = log.New(io.Discard, "", 0)
	return config
}

// direct opens a session on a copy.
func (h *held) direct(t *testing.T, e engine.Entry, change func(*mysql.Config)) *sql.Conn {
	config := h.config(t, e)
	if change != nil {
		change(config)
	}
	connector, err := mysql.NewConnector(config)
	require.NoError(t, err)
	db := sql.OpenDB(connector)
	db.SetMaxIdleConns(0) // one that is closed is gone
	t.Cleanup(func() { db.Close() })
	conn, err := db.Conn(t.Context())
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	return conn
}

func (h *held) reset(t *testing.T, with engine.Session, keep ...string) (*engine.Report, error) {
	d, err := h.server.Open(t.Context(), h.copied.ID, with)
	require.NoError(t, err)
	defer d.Close()
	r, err := d.Reset(t.Context(), engine.Reset{Start: h.template, Last: h.template, Baseline: h.baseline,
		Keep: keep})
	if err == nil {
		h.baseline = r.Baseline
	}
	return r, err
}

// statements are what random work is put together from; # is a number, and ' a text.
var statements = []string{
	"INSERT INTO hive (type, label, weight, notes) VALUES ('LAN', '$', # / 3, '{}')",
	"INSERT INTO hive (id, type, mother) VALUES (#, 'WAR', 1)", "UPDATE hive SET label = '$', exact = # / 7 WHERE " +
		"id <= #",
	"UPDATE hive SET mother = id WHERE id > 1", "DELETE FROM hive WHERE id = #",
	"DELETE FROM hive_type WHERE code = 'WAR'",
	"UPDATE hive_type SET code = 'YYY' WHERE code = 'LAN'", "REPLACE INTO hive_type VALUES ('LAN', '$')",
	"INSERT IGNORE INTO hive (type) VALUES ('???')", "INSERT INTO hive_type VALUES ('LAN', 'twice')",
	"INSERT INTO journal SELECT label, id FROM hive", "DELETE FROM journal",
	"INSERT INTO basket (what) VALUES ('$'), ('$')",
	"DELETE FROM basket WHERE id = #", "INSERT INTO lately VALUES (#, '$')", "DELETE FROM lately",
	"SELECT NEXTVAL(ticket)", "SELECT SETVAL(ticket, 5 * # + 200)", "CALL harvest(#)",
	"DELETE FROM reading WHERE grams < #",
	"UPDATE reading SET at = '2027-01-02'", "ALTER TABLE reading TRUNCATE PARTITION p26",
	"INSERT INTO `we ird-é` VALUES (#, '$')", "UPDATE `we ird-é` SET v = NULL", "TRUNCATE journal", "TRUNCATE reading",
	"BEGIN", "COMMIT", "ROLLBACK", "SAVEPOINT a", "ROLLBACK TO a", "SET autocommit = 0", "SET autocommit = 1",
	"CREATE TEMPORARY TABLE IF NOT EXISTS mine (id int)", "INSERT INTO mine VALUES (#)", "ANALYZE TABLE hive",
	"OPTIMIZE TABLE basket", "ALTER TABLE hive AUTO_INCREMENT = #", "LOCK TABLES hive WRITE", "UNLOCK TABLES",
	"UPDATE dues SET sum = #", "CREATE TABLE IF NOT EXISTS more (id int)", "DROP TABLE IF EXISTS more",
	"ALTER TABLE basket ADD COLUMN IF NOT EXISTS more int", "DROP VIEW IF EXISTS strong", "ALTER TABLE hive FORCE",
	"CREATE OR REPLACE TRIGGER gone BEFORE DELETE ON hive FOR EACH ROW SET @a = 1", "DROP PROCEDURE IF EXISTS harvest",
	"SET foreign_key_checks = 0", "SET foreign_key_checks = 1", "DELETE FROM hive", "SELECT * FROM hive FOR UPDATE",
}

// rare are those that have a copy replaced: few rounds are to have one.
func rare(s string) bool {
	for _, word := range []string{"dues", "CREATE ", "DROP ", "ADD COLUMN"} {
		if strings.Contains(s, word) && !strings.Contains(s, "TEMPORARY") {
			return true
		}
	}
	return false
}

// TestRandomWork: whatever clients do, a reset brings the start state back.
func TestRandomWork(t *testing.T) {
	randomWork(t, here(), place.Wanted{Where: []string{"memory"}}, *rounds)
}

// TestRandomWorkShared: on one server for all copies too, of each version.
func TestRandomWorkShared(t *testing.T) {
	enginetest.Containers(t)
	for _, k := range kinds {
		t.Run(strings.TrimPrefix(k.image, "hemzo-test/"), func(t *testing.T) {
			randomWork(t, k, place.Wanted{Where: []string{"container"}}, *shared)
		})
	}
}

func randomWork(t *testing.T, k kind, w place.Wanted, rounds int) {
	n := *seed
	if n == 0 {
		n = rand.Uint64()
	}
	r := rand.New(rand.NewPCG(n, 1))
	h := begin(t, k, w)
	start := h.kind.dump(t, h.connection(t, h.fresh))
	require.Equal(t, start, h.kind.dump(t, h.connection(t, h.copied)))
	replaced := 0
	for i := range rounds {
		var log []string
		clients := []*sql.Conn{h.client(t), h.client(t)}
		for range 1 + r.IntN(12) {
			s := statements[r.IntN(len(statements))]
			if rare(s) && r.IntN(12) > 0 {
				continue
			}
			for strings.Contains(s, "#") {
				s = strings.Replace(s, "#", fmt.Sprint(r.IntN(40)), 1)
			}
			s = strings.ReplaceAll(s, "$", []string{"linden", `it''s`, "", "Ünder\\n"}[r.IntN(4)])
			which := r.IntN(2)
			limited, stop := context.WithTimeout(t.Context(), 60*time.Millisecond)
			_, err := clients[which].ExecContext(limited, s) // what fails is a test's own affair
			stop()
			log = append(log, fmt.Sprintf("%d: %s  -- %v", which, s, err))
		}
		if r.IntN(2) == 0 { // else their transactions are ended
			for _, c := range clients {
				_, _ = c.ExecContext(t.Context(), "ROLLBACK")
				_, _ = c.ExecContext(t.Context(), "UNLOCK TABLES")
			}
		}
		told := fmt.Sprintf("seed %d, round %d:\n%s", n, i, strings.Join(log, ";\n"))
		report, err := h.reset(t, engine.Session{Wait: 2 * time.Second, Force: true})
		require.NoError(t, err, told)
		if report.Reconnect {
			replaced++
		}
		for _, c := range clients { // one that has only read may hold locks that a dump waits for
			_ = c.Close()
		}
		require.Equal(t, start, h.kind.dump(t, h.connection(t, h.copied)), told)
		again, err := h.reset(t, engine.Session{Wait: 2 * time.Second})
		require.NoError(t, err, told)
		require.Empty(t, again.Differing(), told)
	}
	require.Less(t, replaced, max(rounds/2, 4), "most are put back in place")
	require.Equal(t, start, h.kind.dump(t, h.connection(t, h.fresh)))
}

// TestInProportion: what was not touched is not looked at, and one that is in the way of a
// reset is named.
func TestInProportion(t *testing.T) {
	h := begin(t, here(), place.Wanted{Where: []string{"memory"}})
	c := h.client(t)
	do := func(statement string) {
		_, err := c.ExecContext(t.Context(), statement)
		require.NoError(t, err)
	}
	touched := func() (names []string) {
		r, err := h.reset(t, engine.Session{Wait: time.Second})
		require.NoError(t, err)
		require.False(t, r.Reconnect, r.Why)
		for _, x := range r.Tables {
			names = append(names, x.Name)
		}
		return names
	}
	always := []string{"basket", "journal", "lately"} // of engines that count nothing
	require.Equal(t, always, touched())
	for range 2 {
		do("UPDATE `we ird-é` SET v = 'x'")
		require.Equal(t, append(always, "we ird-é"), touched())
		require.Equal(t, always, touched())
		do("DELETE FROM reading")
		require.Equal(t, []string{"basket", "journal", "lately", "reading"}, touched())
	}
	// A table that is kept is put back as soon as it is not kept any more.
	do("DELETE FROM hive_type")
	for range 2 {
		r, err := h.reset(t, engine.Session{Wait: time.Second}, "hive_type")
		require.NoError(t, err)
		require.NotContains(t, r.Tables, "hive_type")
	}
	require.Contains(t, touched(), "hive_type")
	require.Equal(t, always, touched())
	do("BEGIN")
	do("UPDATE hive SET label = 'open'")
	_, err := h.reset(t, engine.Session{Wait: time.Second})
	var blocked *engine.Blocked
	require.ErrorAs(t, err, &blocked)
	require.Equal(t, "idle in transaction", blocked.Sessions[0].State)
	ended := false
	r, err := h.reset(t, engine.Session{Force: true, Ended: func() { ended = true }})
	require.NoError(t, err)
	require.True(t, ended)
	require.False(t, r.Reconnect)
	require.Error(t, c.PingContext(t.Context()))
	require.Equal(t, h.kind.dump(t, h.connection(t, h.fresh)), h.kind.dump(t, h.connection(t, h.copied)))
}

// TestWaits: of sessions that wait it is told for whom, on each version; a reset names who is
// in its way, or ends it.
func TestWaits(t *testing.T) {
	t.Run("memory", func(t *testing.T) { waits(t, here(), place.Wanted{Where: []string{"memory"}}) })
	enginetest.Containers(t)
	for _, k := range kinds {
		t.Run(strings.TrimPrefix(k.image, "hemzo-test/"), func(t *testing.T) {
			waits(t, k, place.Wanted{Where: []string{"container"}})
		})
	}
}

func waits(t *testing.T, k kind, w place.Wanted) {
	h := begin(t, k, w)
	holder, waiter := h.client(t), h.client(t)
	do := func(statement string) {
		_, err := holder.ExecContext(t.Context(), statement)
		require.NoError(t, err)
	}
	do("BEGIN")
	do("UPDATE hive SET label = 'held' WHERE id = 1")
	var number int
	require.NoError(t, holder.QueryRowContext(t.Context(), "SELECT CONNECTION_ID()").Scan(&number))
	ended := make(chan error, 1)
	go func() {
		_, err := waiter.ExecContext(t.Context(), "DELETE FROM hive")
		ended <- err
	}()
	require.Eventually(t, func() bool {
		all, err := h.server.Clients(t.Context(), h.copied.ID)
		require.NoError(t, err)
		return slices.ContainsFunc(all, func(c engine.Client) bool {
			return slices.Equal(c.WaitsFor, []int{number}) && strings.Contains(c.String(), "DELETE FROM hive")
		})
	}, time.Minute, mariadb.TransactionsKept)
	_, err := h.reset(t, engine.Session{Wait: time.Second})
	var blocked *engine.Blocked
	require.ErrorAs(t, err, &blocked)
	require.NotEmpty(t, blocked.Sessions)
	_, err = h.reset(t, engine.Session{Force: true})
	require.NoError(t, err)
	<-ended // it may have been let in before it was ended
	require.Equal(t, h.kind.dump(t, h.connection(t, h.fresh)), h.kind.dump(t, h.connection(t, h.copied)))
}

// TestGoneClient: what a client began and did not wait for is over before a reset looks.
func TestGoneClient(t *testing.T) {
	h := begin(t, here(), place.Wanted{Where: []string{"memory"}})
	start := h.kind.dump(t, h.connection(t, h.copied))
	leave := func(statement string) {
		limited, stop := context.WithTimeout(t.Context(), 60*time.Millisecond)
		defer stop()
		_, err := h.client(t).ExecContext(limited, statement)
		require.ErrorIs(t, err, context.DeadlineExceeded)
	}
	leave("UPDATE reading SET grams = 1 WHERE SLEEP(0.2) = 0")
	_, err := h.reset(t, engine.Session{Wait: time.Minute})
	require.NoError(t, err)
	require.Equal(t, start, h.kind.dump(t, h.connection(t, h.copied)))

	holder := h.client(t)
	for _, statement := range []string{"BEGIN", "DELETE FROM reading WHERE grams < 38"} { // it locks rows, and finds none
		_, err = holder.ExecContext(t.Context(), statement)
		require.NoError(t, err)
	}
	leave("UPDATE reading SET at = '2027-01-02'")
	_, err = h.reset(t, engine.Session{Wait: time.Millisecond})
	var blocked *engine.Blocked
	require.ErrorAs(t, err, &blocked)
	require.Len(t, blocked.Sessions, 1)
	require.Contains(t, blocked.Sessions[0].Query, "UPDATE reading")
	_, err = h.reset(t, engine.Session{Force: true})
	require.NoError(t, err)
	require.NoError(t, holder.PingContext(t.Context()), "it has changed nothing")
	_, err = holder.ExecContext(t.Context(), "ROLLBACK")
	require.NoError(t, err)
	require.Equal(t, start, h.kind.dump(t, h.connection(t, h.copied)))
}

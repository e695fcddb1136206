package mariadb_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
	"hemzo/internal/place"
)

// gated is a copy behind its gate, with an address that clients connect to.
type gated struct {
	engine.Gate
	*held
	at string
}

// beginGated makes a copy with a gate; a connection that fails fails the test.
func beginGated(t *testing.T, k kind, w place.Wanted, session engine.Session) *gated {
	h := begin(t, k, w)
	gate, err := k.engine.Hosting().Gate(t.Context(), place.Inner(h.server), h.copied.ID, h.connection(t, h.copied), session)
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
				assert.NoError(t, gate.ServeConn(ctx, conn))
			})
		}
	})
	t.Cleanup(func() {
		stop()
		l.Close()
		all.Wait()
		assert.NoError(t, gate.Close())
	})
	return &gated{Gate: gate, held: h, at: l.Addr().String()}
}

// through opens a session through the gate.
func (g *gated) through(t *testing.T, change func(*mysql.Config)) *sql.Conn {
	return g.held.direct(t, g.copied, func(c *mysql.Config) {
		c.Addr = g.at
		if change != nil {
			change(c)
		}
	})
}

// back resets, and waits until all is put back: what is compared is read beside the gate.
func (g *gated) back(t *testing.T) *engine.Report {
	r, err := g.Reset(t.Context(), engine.Session{Wait: time.Second})
	require.NoError(t, err)
	require.NoError(t, g.Commit(t.Context(), false))
	return r
}

func do(t *testing.T, c *sql.Conn, statements ...string) {
	for _, s := range statements {
		_, err := c.ExecContext(t.Context(), s)
		require.NoError(t, err, s)
	}
}

func ask(t *testing.T, c *sql.Conn, query string, args ...any) (text string) {
	require.NoError(t, c.QueryRowContext(t.Context(), query, args...).Scan(&text), query)
	return text
}

// TestGateModes: transactions, prepared statements, several in a message, files.
func TestGateModes(t *testing.T) {
	g := beginGated(t, here(), place.Wanted{Where: []string{"memory"}}, engine.Session{Wait: time.Second})
	c := g.through(t, nil)
	require.Equal(t, "3", ask(t, c, "SELECT COUNT(*) FROM hive"))
	do(t, c, "INSERT INTO hive (type) VALUES ('LAN')")
	require.Equal(t, "4", ask(t, c, "SELECT COUNT(*) FROM hive WHERE id > ?", 0))
	require.Equal(t, engine.Rollback, g.back(t).Way)
	require.Equal(t, "3", ask(t, c, "SELECT COUNT(*) FROM hive"))
}

// pair are a client of the gate, and one that does the same on a copy of its own.
type pair struct {
	through, direct *sql.Conn
	prepared        map[string][2]*sql.Stmt
	open, off       bool // it is in a transaction, or each statement begins one
}

// told is what a statement came to, as text.
func told(ctx context.Context, c *sql.Conn, s *sql.Stmt, text string) string {
	var rows *sql.Rows
	var err error
	if reading.MatchString(text) {
		if s != nil {
			rows, err = s.QueryContext(ctx)
		} else {
			rows, err = c.QueryContext(ctx, text)
		}
		if err != nil {
			return failure(err)
		}
		defer rows.Close()
		return readAll(rows)
	}
	var done sql.Result
	if s != nil {
		done, err = s.ExecContext(ctx)
	} else {
		done, err = c.ExecContext(ctx, text)
	}
	if err != nil {
		return failure(err)
	}
	affected, _ := done.RowsAffected()
	id, _ := done.LastInsertId()
	return fmt.Sprint(affected, " ", id)
}

var reading = regexp.MustCompile(`^(SELECT|SHOW|CALL shown)`)

var ofCopy = regexp.MustCompile(`hemzo_c_[0-9a-f]+`)

func failure(err error) string {
	var e *mysql.MySQLError
	if errors.As(err, &e) {
		message, _, _ := strings.Cut(e.Message, " at row ") // rows come in any order
		return fmt.Sprint(e.Number, " ", ofCopy.ReplaceAllString(message, "COPY"))
	}
	return fmt.Sprint(err)
}

func readAll(rows *sql.Rows) (text string) {
	for {
		names, _ := rows.Columns()
		values, at := make([]sql.NullString, len(names)), make([]any, len(names))
		for i := range at {
			at[i] = &values[i]
		}
		for rows.Next() {
			if err := rows.Scan(at...); err != nil {
				return text + err.Error()
			}
			text += fmt.Sprintln(values)
		}
		if !rows.NextResultSet() {
			break
		}
	}
	if rows.Err() != nil {
		text += failure(rows.Err())
	}
	return text
}

// equals are statements that have to come to the same through a gate.
var equals = []string{
	"BEGIN", "BEGIN", "START TRANSACTION READ ONLY", "COMMIT", "ROLLBACK", "ROLLBACK AND CHAIN", "COMMIT AND CHAIN",
	"SAVEPOINT a", "SAVEPOINT b", "ROLLBACK TO a", "ROLLBACK TO SAVEPOINT b", "RELEASE SAVEPOINT a",
	"SET autocommit = 0", "SET autocommit = 1", "SET autocommit = 1", "SET SESSION autocommit = ON, @x = 5",
	"SET @old = @@sql_mode, sql_mode = 'ANSI_QUOTES'", "SET sql_mode = @old", "SET SESSION sql_mode = DEFAULT",
	"SET NAMES latin1", "SET NAMES utf8mb4 COLLATE utf8mb4_unicode_ci", "SET @x = 7", "SET @y = 'a;b', @`z z` = 1.5",
	"SET time_zone = '+03:00'", "SET SESSION wait_timeout = 1", "SET foreign_key_checks = 0", "SET foreign_key_checks = 1",

	"SET TRANSACTION ISOLATION LEVEL SERIALIZABLE", "SET nonsense = 1", "SET autocommit = 7", "SET SESSION sql_mode = 'x'",
	"SELECT @x, @y, @`z z`, @old", "SELECT @@sql_mode, @@character_set_client, @@collation_connection, @@time_zone",
	"SELECT LAST_INSERT_ID()", "SELECT \"x\"", "SELECT 'é', LENGTH('é'), HEX('é')", "SELECT @x := COUNT(*) FROM hive",
	"INSERT INTO hive (type, label) VALUES ('LAN', '$'), ('WAR', '$')", "INSERT INTO hive (type) VALUES ('???')",
	"INSERT INTO hive (id, type) VALUES (#, 'LAN')", "INSERT IGNORE INTO hive (id, type) VALUES (#, 'LAN')",
	"UPDATE hive SET label = '$' WHERE id < #", "UPDATE hive SET label = label", "DELETE FROM hive WHERE id = #",
	"INSERT INTO hive (id, type) VALUES (1, 'LAN') ON DUPLICATE KEY UPDATE label = '$'",
	"UPDATE hive_type SET code = 'XXX' WHERE code = 'LAN'", "INSERT INTO journal SELECT label, id FROM hive",
	"REPLACE INTO hive_type VALUES ('NEW', '$')", "INSERT INTO reading SELECT id, NULL, 1 FROM hive, hive_type",
	"SELECT id, type, label FROM hive ORDER BY id", "SELECT COUNT(*), SUM(n) FROM journal", "SELECT 1; SELECT 2",
	"SELECT COUNT(*) FROM hive FOR UPDATE", "SELECT 1; BEGIN; DELETE FROM journal; ROLLBACK; SELECT COUNT(*) FROM journal",
	"SELECT 1; SELECT nothing; DELETE FROM hive", "CALL harvest(#)", "SELECT twice(#)", "SELECT * FROM nothing", "SELEC",
	"CREATE TEMPORARY TABLE IF NOT EXISTS mine (id int) ENGINE=InnoDB", "INSERT INTO mine VALUES (#)",
	"SELECT COUNT(*) FROM mine", "SHOW VARIABLES LIKE 'sql_mode'", "SELECT SLEEP(0)", "DO 1", "SELECT 1 /* ; COMMIT */",
	"/*! SET @x = 9 */", "SELECT 'COMMIT; ROLLBACK'", "SELECT NEXTVAL(ticket)", "SELECT REPEAT('x', 100000), 1",
	"INSERT INTO hive (type, body) VALUES ('LAN', REPEAT('x', #000))",
}

// TestGateEquals: what clients do through a gate comes to the same as on a copy of their own,
// and resets take it back.
func TestGateEquals(t *testing.T) {
	t.Run("memory", func(t *testing.T) { gateEquals(t, here(), place.Wanted{Where: []string{"memory"}}, *rounds) })
	containers(t)
	for _, k := range kinds {
		t.Run(strings.TrimPrefix(k.image, "hemzo-test/"), func(t *testing.T) {
			gateEquals(t, k, place.Wanted{Where: []string{"container"}}, *shared)
		})
	}
}

func gateEquals(t *testing.T, k kind, w place.Wanted, rounds int) {
	n := *seed
	if n == 0 {
		n = rand.Uint64()
	}
	r := rand.New(rand.NewPCG(n, 1))
	k.undone = true
	g := beginGated(t, k, w, engine.Session{Wait: time.Second})
	start := g.kind.dump(t, g.connection(t, g.fresh))
	multi := func(c *mysql.Config) { c.MultiStatements = true }
	var pairs []*pair
	for range 2 {
		pairs = append(pairs, &pair{through: g.through(t, multi), direct: g.held.direct(t, g.fresh, multi),
			prepared: map[string][2]*sql.Stmt{}})
	}
	var baseline []byte = g.fresh.Facts.Baseline
	for i := range rounds {
		var log []string
		owner := -1
		for range 1 + r.IntN(25) {
			which := r.IntN(len(pairs))
			if owner >= 0 {
				which = owner
			}
			text := fill(r, equals[r.IntN(len(equals))])
			text = strings.Replace(text, "mine", fmt.Sprint("mine", which), 1) // its name is everybody's
			// A procedure may only read, and servers look at once at some of what is prepared.
			reads := strings.Contains(strings.Join(log, ""), "READ ONLY")
			if (strings.HasPrefix(text, "CALL") || strings.Contains(text, "autocommit") || strings.Contains(text, "BEGIN") ||
				strings.Contains(text, "TEMPORARY")) && reads ||
				k.engine.MySQL && strings.Contains(text, "ticket") {
				continue
			}
			log = append(log, fmt.Sprintf("%d: %s", which, text))
			p := pairs[which]
			about := fmt.Sprintf("seed %d, round %d:\n%s", n, i, strings.Join(log, ";\n"))
			want, got := p.both(t, text, !reads && r.IntN(3) == 0)
			require.Equal(t, want, got, about)
			owner = -1
			if p.follow(text); p.open || p.off {
				owner = which
			}
		}
		for _, p := range pairs {
			do(t, p.direct, "START TRANSACTION READ WRITE", "DROP TEMPORARY TABLE IF EXISTS mine0, mine1", "ROLLBACK")
			if r.IntN(2) == 0 {
				do(t, p.through, "ROLLBACK")
			}
		}
		about := fmt.Sprintf("seed %d, round %d:\n%s", n, i, strings.Join(log, ";\n"))
		_, err := g.Reset(t.Context(), engine.Session{Wait: time.Second})
		require.NoError(t, err, about)
		if _, err = g.Reset(t.Context(), engine.Session{Wait: time.Minute}); i%4 == 3 { // it waits for the first
			err = g.Commit(t.Context(), false)
			for _, p := range pairs { // what is prepared anew is so by other settings
				clear(p.prepared)
			}
		}
		require.NoError(t, err, about)
		d, err := g.server.Open(t.Context(), g.fresh.ID, engine.Session{Wait: time.Second, Force: true})
		require.NoError(t, err)
		report, err := d.Reset(t.Context(), engine.Reset{Start: g.template, Last: g.template, Baseline: baseline})
		require.NoError(t, err, about)
		require.NoError(t, d.Close())
		baseline = report.Baseline
		require.Equal(t, start, g.kind.dump(t, g.connection(t, g.copied)), about)
		for _, p := range pairs {
			if _, err := p.through.ExecContext(t.Context(), "ROLLBACK"); err != nil {
				t.Log(err)
			}
			p.open = false
		}
	}
}

func fill(r *rand.Rand, s string) string {
	for strings.Contains(s, "#") {
		s = strings.Replace(s, "#", fmt.Sprint(r.IntN(40)), 1)
	}
	return strings.ReplaceAll(s, "$", []string{"linden", `it''s`, "", "Ünder\\n"}[r.IntN(4)])
}

// both has both clients do a statement, prepared or not; what is prepared stays so.
func (p *pair) both(t *testing.T, text string, prepared bool) (direct, through string) {
	if !prepared {
		return told(t.Context(), p.direct, nil, strings.Replace(text, "timeout = 1", "timeout = 1000", 1)), told(t.Context(), p.through, nil, text)
	}
	both, known := p.prepared[text]
	if !known {
		var errs [2]error
		both[0], errs[0] = p.direct.PrepareContext(t.Context(), strings.Replace(text, "timeout = 1", "timeout = 1000", 1))
		both[1], errs[1] = p.through.PrepareContext(t.Context(), text)
		if errs[0] != nil || errs[1] != nil {
			return failure(errs[0]), failure(errs[1])
		}
		p.prepared[text] = both
	}
	return told(t.Context(), p.direct, both[0], text), told(t.Context(), p.through, both[1], text)
}

// follow notes what a statement does to the client's transaction, if it does not fail.
func (p *pair) follow(text string) {
	switch {
	case strings.HasPrefix(text, "BEGIN"), strings.HasPrefix(text, "START"), strings.Contains(text, "CHAIN"):
		p.open = true
	case text == "COMMIT", text == "ROLLBACK":
		p.open = false
	case text == "SET autocommit = 0":
		p.off = true
	case strings.Contains(text, "autocommit = 1"), strings.Contains(text, "autocommit = ON"):
		p.open, p.off = p.open && !p.off, false
	}
}

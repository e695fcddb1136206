package mariadb_test

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
	"hemzo/internal/engine/enginetest"
	"hemzo/internal/place"
)

// gated is a copy behind its gate, with an address that clients connect to.
type gated struct {
	engine.Gate
	*held
	at string
}

// beginGated makes a copy with a gate; a connection that fails fails the test.
func beginGated(t testing.TB, k kind, w place.Wanted, session engine.Session) *gated {
	h := begin(t, k, w)
	gate, err := k.engine.Hosting().Gate(t.Context(), place.Inner(h.server), h.copied.ID, h.connection(t, h.copied),
		session)
	require.NoError(t, err)
	at, release := enginetest.Serve(t, gate)
	t.Cleanup(func() {
		release()
		assert.NoError(t, gate.Close())
	})
	return &gated{Gate: gate, held: h, at: at}
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

// TestGateModes: what drivers do, in all forms of the protocol.
func TestGateModes(t *testing.T) {
	k := here()
	k.sets = []engine.Setting{{Name: "max_allowed_packet", Value: "64M"}}
	g := beginGated(t, k, place.Wanted{Where: []string{"memory"}}, engine.Session{Wait: time.Second})
	ctx := t.Context()
	found, c := g.through(t, func(c *mysql.Config) { c.ClientFoundRows = true }), g.through(t, nil)
	done, err := found.ExecContext(ctx, "INSERT INTO hive (id, type) VALUES (1, 'LAN') ON DUPLICATE KEY UPDATE id = 1")
	require.NoError(t, err)
	n, _ := done.RowsAffected()
	require.EqualValues(t, 1, n, "found")
	small := g.through(t, func(c *mysql.Config) { c.MaxAllowedPacket = 16 << 10 })
	insert, err := small.PrepareContext(ctx, "INSERT INTO hive (type, label, body) VALUES (?, ?, ?)")
	require.NoError(t, err)
	for range 2 {
		for want, c := range map[int64]*sql.Conn{0: c, 3: found} {
			done, err := c.ExecContext(ctx, "UPDATE hive SET label = label")
			require.NoError(t, err)
			n, _ := done.RowsAffected()
			require.Equal(t, want, n, "found or changed")
		}
		// A value that goes ahead of its statement, and one that takes several packets.
		_, err = insert.ExecContext(ctx, "LAN", "long", bytes.Repeat([]byte("x"), 60<<10))
		require.NoError(t, err)
		require.Equal(t, "61440", ask(t, c, "SELECT LENGTH(body) FROM hive WHERE label = ?", "long"))
		big := strings.Repeat("y", 17<<20)
		do(t, c, "DO '"+big+"'")
		require.Equal(t, big, ask(t, c, "SELECT REPEAT('y', 17 << 20)"))
		mysql.RegisterReaderHandler("rows", func() io.Reader {
			return io.MultiReader(strings.NewReader("a\t1\n"), strings.NewReader(strings.Repeat("b\t2\n", 100000)))
		})
		done, err = c.ExecContext(ctx, "LOAD DATA LOCAL INFILE 'Reader::rows' INTO TABLE journal (what, n)")
		require.NoError(t, err)
		n, _ := done.RowsAffected()
		require.EqualValues(t, 100001, n)
		for range 3 {
			short := g.through(t, nil)
			require.Equal(t, "0", ask(t, short, "SELECT LAST_INSERT_ID()"))
			do(t, short, "INSERT INTO hive (type) VALUES ('LAN')")
			require.NoError(t, short.Close())
		}
		tx, err := c.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
		require.NoError(t, err)
		_, err = tx.Exec("DELETE FROM hive")
		require.ErrorContains(t, err, "1792")
		require.NoError(t, tx.Rollback())
		require.NotEmpty(t, g.back(t).Way) // Aria rolls nothing back
		require.Equal(t, "3", ask(t, c, "SELECT COUNT(*) FROM hive"))
		require.Equal(t, "0", ask(t, c, "SELECT COUNT(*) FROM journal"))
	}
	// A cursor: its rows are fetched some at a time.
	conn := g.raw(t)
	defer conn.Close()
	answered := func(packets int, kind byte, body string) (all []byte) {
		_, err := conn.Write(packet(kind, body))
		require.NoError(t, err)
		for range packets {
			head := make([]byte, 4)
			_, err := io.ReadFull(conn, head)
			require.NoError(t, err)
			rest := make([]byte, int(head[0])|int(head[1])<<8)
			_, err = io.ReadFull(conn, rest)
			require.NoError(t, err)
			all = append(append(all, head...), rest...)
		}
		return all
	}
	id := string(answered(3, 0x16, "SELECT seq FROM seq_1_to_5")[5:9])
	last := answered(3, 0x17, id+"\x01\x01\x00\x00\x00")
	require.NotZero(t, last[len(last)-2]&0x40, "a cursor is open")
	for _, rows := range []int{2, 2, 1} {
		got := answered(rows+1, 0x1c, id+"\x02\x00\x00\x00")
		require.Equal(t, byte(0xfe), got[len(got)-5], "the end of %d rows", rows)
	}
	require.Equal(t, byte(0), answered(1, 0x1a, id)[4])
	require.Equal(t, byte(0), answered(1, 0x1f, "")[4])
	require.Contains(t, string(answered(1, 0x17, id+"\x00\x01\x00\x00\x00")), "Unknown prepared statement")
	require.Contains(t, string(answered(1, 9, "")), "Uptime")
	require.Contains(t, string(answered(2, 4, "hive\x00lab%")), "label")
	// What is one client's own is nobody else's, whatever its name, and nonsense is nobody's.
	name := "@" + strings.Repeat("n", 64)
	do(t, c, "USE information_schema", "SET "+name+" = 'mine', timestamp = 1000000000", "SET @`a b` = 1")
	_, err = c.ExecContext(ctx, "SELECT @a FROM")
	require.Error(t, err)
	require.Equal(t, "0", ask(t, found, "SELECT COUNT(*) FROM journal"))
	require.Equal(t, "1", ask(t, found, "SELECT "+name+" IS NULL AND @`a b` IS NULL AND UNIX_TIMESTAMP() > 1500000000"))
	require.Equal(t, "1", ask(t, c, "SELECT "+name+" = 'mine' AND UNIX_TIMESTAMP() = 1000000000"))
	require.Equal(t, "information_schema", ask(t, c, "SELECT DATABASE()"))
	do(t, c, "SET timestamp = DEFAULT", "USE honey")
	do(t, c, "HANDLER hive OPEN", "INSERT INTO hive (type) VALUES ('LAN')") // the table cannot be altered
	require.NotEmpty(t, g.back(t).Way)
	_ = ask(t, found, "SELECT NEXT VALUE FOR ticket")
	require.NotEmpty(t, g.back(t).Way, "a sequence alone has moved")
	require.Equal(t, "100", ask(t, c, "SELECT NEXT VALUE FOR ticket"))
	require.Equal(t, "1", ask(t, c, "SELECT UNIX_TIMESTAMP() > 1500000000"))
	// The session changes, and what was prepared goes on.
	require.NoError(t, g.Release(ctx))
	_, err = insert.ExecContext(ctx, "WAR", "again", []byte{1})
	require.NoError(t, err)
	long := g.through(t, func(c *mysql.Config) { c.MaxAllowedPacket = 100 << 20 })
	_, err = long.ExecContext(ctx, "DO '"+strings.Repeat("y", 65<<20)+"'")
	require.Error(t, err)
	do(t, c, "DO 1")
	for _, change := range []func(*mysql.Config){func(c *mysql.Config) { c.Passwd += "x" },
		func(c *mysql.Config) { c.Passwd = "" }, func(c *mysql.Config) { c.User = "root" },
		func(c *mysql.Config) { c.DBName = "mysql" }} {
		h := g.config(t, g.copied)
		h.Addr = g.at
		change(h)
		connector, err := mysql.NewConnector(h)
		require.NoError(t, err)
		_, err = connector.Connect(ctx)
		require.Error(t, err)
	}
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
	"SELECT LAST_INSERT_ID()", "SELECT @@autocommit", "SET sql_select_limit = 0", "SET sql_select_limit = 9",
	"SELECT \"x\"", "SELECT 'é', LENGTH('é'), HEX('é')", "SELECT @x := COUNT(*) FROM hive",
	"INSERT INTO hive (type, label) VALUES ('LAN', '$'), ('WAR', '$')", "INSERT INTO hive (type) VALUES ('???')",
	"INSERT INTO hive (id, type) VALUES (#, 'LAN')", "INSERT IGNORE INTO hive (id, type) VALUES (#, 'LAN')",
	"UPDATE hive SET label = '$' WHERE id < #", "UPDATE hive SET label = label", "DELETE FROM hive WHERE id = #",
	"INSERT INTO hive (id, type) VALUES (1, 'LAN') ON DUPLICATE KEY UPDATE label = '$'",
	"UPDATE hive_type SET code = 'ZZZ' WHERE code = 'LAN'", "INSERT INTO journal SELECT label, id FROM hive",
	"REPLACE INTO hive_type VALUES ('NEW', '$')", "INSERT INTO reading SELECT id, NULL, 1 FROM hive, hive_type",
	"SELECT id, type, label FROM hive ORDER BY id", "SELECT COUNT(*), SUM(n) FROM journal", "SELECT 1; SELECT 2",
	"SELECT COUNT(*) FROM hive FOR UPDATE", "SELECT 1; BEGIN; DELETE FROM journal; ROLLBACK; SELECT COUNT(*) FROM journal",
	"SELECT 1; SELECT nothing; DELETE FROM hive", "CALL harvest(#)", "SELECT twice(#)", "SELECT * FROM nothing", "SELEC",
	"CREATE TEMPORARY TABLE IF NOT EXISTS mine (id int) ENGINE=InnoDB", "INSERT INTO mine VALUES (#)",
	"SELECT COUNT(*) FROM mine", "SHOW VARIABLES LIKE 'sql_mode'", "SELECT SLEEP(0)", "DO 1", "SELECT 1 /* ; COMMIT */",
	"/*! SET @x = 9 */", "SELECT 'COMMIT; ROLLBACK'", "SELECT NEXTVAL(ticket)", "SELECT REPEAT('x', 100000), 1",
	"INSERT INTO hive (type, body) VALUES ('LAN', REPEAT('x', #000))",
}

// unlikeReading are statements that differ in transactions which only read: see the documents.
var unlikeReading = regexp.MustCompile(`^CALL|autocommit|BEGIN|TEMPORARY`)

// TestGateEquals: what clients do through a gate comes to the same as on a copy of their own,
// and resets take it back.
func TestGateEquals(t *testing.T) {
	t.Run("memory", func(t *testing.T) { gateEquals(t, here(), place.Wanted{Where: []string{"memory"}}, *rounds) })
	enginetest.Containers(t)
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
			if reads && unlikeReading.MatchString(text) ||
				pairs[which].off && strings.HasPrefix(text, "SET TRANSACTION") ||
				k.engine.MySQL && strings.Contains(text, "ticket") {
				continue
			}
			log = append(log, fmt.Sprintf("%d: %s", which, text))
			p := pairs[which]
			about := fmt.Sprintf("seed %d, round %d:\n%s", n, i, strings.Join(log, ";\n"))
			prepared := !reads && !strings.Contains(text, "@@autocommit") && r.IntN(3) == 0
			want, got := p.both(t, text, prepared)
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
	alone := strings.Replace(text, "timeout = 1", "timeout = 1000", 1) // the relay does not believe it
	if !prepared {
		return told(t.Context(), p.direct, nil, alone), told(t.Context(), p.through, nil, text)
	}
	both, known := p.prepared[text]
	if !known {
		var errs [2]error
		both[0], errs[0] = p.direct.PrepareContext(t.Context(), alone)
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

// raw opens a session through the gate, and gives its connection.
func (g *gated) raw(t testing.TB) net.Conn {
	config := g.config(t, g.copied)
	config.Addr, config.MaxAllowedPacket, config.MultiStatements = g.at, 1<<20, true
	var conn net.Conn
	config.DialFunc = func(ctx context.Context, network, address string) (net.Conn, error) {
		var err error
		conn, err = (&net.Dialer{}).DialContext(ctx, network, address)
		return conn, err
	}
	connector, err := mysql.NewConnector(config)
	require.NoError(t, err)
	_, err = connector.Connect(t.Context())
	require.NoError(t, err)
	return conn
}

func packet(kind byte, body string) []byte {
	n := len(body) + 1
	return append([]byte{byte(n), byte(n >> 8), byte(n >> 16), 0, kind}, body...)
}

// TestGateFaults: whatever becomes of a client, the others go on, and nothing of what it left
// open stays; what has escaped is put back.
func TestGateFaults(t *testing.T) {
	k := here()
	k.undone = true
	g := beginGated(t, k, place.Wanted{Where: []string{"memory"}}, engine.Session{Wait: time.Second})
	start := g.kind.dump(t, g.connection(t, g.fresh))
	other := g.through(t, nil)
	do(t, other, "INSERT INTO journal VALUES ('committed', 1)")
	for name, last := range map[string][]byte{
		"in a transaction": nil, "within a head": {9, 0}, "within a command": {9, 0, 0, 0, 3, 'S'},
		"in a file":          packet(3, "LOAD DATA LOCAL INFILE 'rows' INTO TABLE journal (what)"),
		"within a file":      append(packet(3, "LOAD DATA LOCAL INFILE 'rows' INTO TABLE journal (what)"), 9, 0, 0, 2, 'r'),
		"an unknown command": packet(99, "x"), "an empty command": {0, 0, 0, 0},
		"reading none": packet(3, "SELECT * FROM reading"), "a broken execution": packet(0x17, "\x01\x00"),
		"an unknown one":   packet(0x17, "\x09\x00\x00\x00\x00\x01\x00\x00\x00"),
		"a change of user": packet(0x11, "honey\x00\x05"), "another database": packet(2, "nowhere"),
		"a reset": packet(0x1f, ""), "statistics": packet(9, ""), "fields": packet(4, "hive\x00%"),
		"a kill": packet(12, "\x63\x00\x00\x00"),
	} {
		conn := g.raw(t)
		for _, text := range []string{"BEGIN", "DELETE FROM reading"} {
			_, err := conn.Write(packet(3, text))
			require.NoError(t, err)
			require.NoError(t, conn.SetReadDeadline(time.Now().Add(20*time.Second)))
			_, err = conn.Read(make([]byte, 1000))
			require.NoError(t, err, name)
		}
		_, err := conn.Write(last)
		require.NoError(t, err)
		require.NoError(t, conn.Close())
		require.Equal(t, "2", ask(t, other, "SELECT COUNT(*) FROM reading"), name)
		require.Equal(t, "1", ask(t, other, "SELECT COUNT(*) FROM journal"), name)
	}
	for name, first := range map[string][]byte{"nothing": nil, "a short greeting": {3, 0, 0, 1, 1, 2, 3},
		"a long one": {255, 255, 255, 1, 1}, "an old one": append([]byte{40, 0, 0, 1}, make([]byte, 40)...)} {
		conn, err := net.Dial("tcp", g.at)
		require.NoError(t, err)
		_, err = conn.Write(first)
		require.NoError(t, err)
		require.NoError(t, conn.(*net.TCPConn).CloseWrite())
		_ = conn.SetReadDeadline(time.Now().Add(20 * time.Second))
		_, err = io.ReadAll(conn)
		require.NoError(t, err, name)
		conn.Close()
	}
	g.back(t)
	require.Equal(t, start, g.kind.dump(t, g.connection(t, g.copied)))
	// What was committed all the same is put back, and clients stay.
	do(t, other, "SET @mine = 'kept'")
	for _, text := range []string{"EXECUTE IMMEDIATE 'COMMIT'", "EXECUTE IMMEDIATE 'TRUNCATE reading'",
		"BEGIN NOT ATOMIC DELETE FROM hive; COMMIT; START TRANSACTION; DELETE FROM reading; END",
		"SET STATEMENT max_statement_time = 9 FOR COMMIT", "PREPARE a FROM 'COMMIT'; EXECUTE a"} {
		multi := g.through(t, func(c *mysql.Config) { c.MultiStatements = true })
		do(t, multi, "BEGIN", "DELETE FROM reading", text)
		require.NotEqual(t, engine.Rollback, g.back(t).Way, text)
		require.Equal(t, start, g.kind.dump(t, g.connection(t, g.copied)), text)
		require.Equal(t, "kept", ask(t, other, "SELECT @mine"), text)
	}
	// Quotes are read as the client's sql_mode has them.
	multi := g.through(t, func(c *mysql.Config) { c.MultiStatements = true })
	do(t, multi, "SET sql_mode = 'NO_BACKSLASH_ESCAPES'", "BEGIN", "DELETE FROM reading", `SELECT '\'; COMMIT; SELECT 'x'`)
	require.Equal(t, engine.Rollback, g.back(t).Way)
	// The server ends the session: clients are told by their connections' end.
	do(t, other, "BEGIN", "DELETE FROM hive")
	admin := g.held.client(t)
	id := ask(t, admin, "SELECT ID FROM information_schema.PROCESSLIST WHERE ID <> CONNECTION_ID() AND "+
		"USER = SUBSTRING_INDEX(CURRENT_USER(), '@', 1)")
	do(t, admin, "KILL "+id)
	_, err := other.ExecContext(t.Context(), "DELETE FROM reading")
	require.Error(t, err)
	other = g.through(t, nil)
	require.Equal(t, "3", ask(t, other, "SELECT COUNT(*) FROM hive"))
	_, err = g.Reset(t.Context(), engine.Session{Wait: time.Second})
	require.NoError(t, err)
	require.Equal(t, start, g.kind.dump(t, g.connection(t, g.copied)))
}

// TestGateSlow: a client that takes no rows holds others up for a while alone; a reset says who
// it is, or with force does without it. A statement is ended by another client's KILL.
func TestGateSlow(t *testing.T) {
	g := beginGated(t, here(), place.Wanted{Where: []string{"memory"}}, engine.Session{Wait: time.Second})
	other := g.through(t, nil)
	for name, text := range map[string]string{"takes none": "SELECT REPEAT('x', 1000) FROM seq_1_to_1000000",
		"sends none": "LOAD DATA LOCAL INFILE 'rows' INTO TABLE reading"} {
		conn := g.raw(t)
		_, err := conn.Write(packet(3, text))
		require.NoError(t, err)
		_, err = conn.Read(make([]byte, 10))
		require.NoError(t, err)
		_, err = other.ExecContext(t.Context(), "DELETE FROM reading")
		require.ErrorContains(t, err, "another client has taken or sent no rows for 2s", name)
		require.ErrorContains(t, err, text, name)
		_, err = g.Reset(t.Context(), engine.Session{Wait: 50 * time.Millisecond})
		var blocked *engine.Blocked
		require.ErrorAs(t, err, &blocked, name)
		require.ErrorAs(t, g.Commit(t.Context(), false), &blocked, name)
		require.Equal(t, "active", blocked.Sessions[0].State)
		_, err = g.Reset(t.Context(), engine.Session{Force: true})
		require.NoError(t, err, name)
		require.Equal(t, "2", ask(t, other, "SELECT COUNT(*) FROM reading"), name)
		conn.Close()
	}
	for _, by := range []string{"SELECT CONNECTION_ID()", "greeting"} {
		ended := make(chan error, 1)
		sleeper := g.through(t, nil)
		id := ""
		if by != "greeting" {
			id = ask(t, sleeper, by)
		}
		go func() {
			_, err := sleeper.ExecContext(t.Context(), "DO SLEEP(60)")
			ended <- err
		}()
		require.Eventually(t, func() bool {
			for _, c := range g.Clients() {
				if c.State == "active" {
					if by == "greeting" {
						id = fmt.Sprint(c.PID)
					}
					return true
				}
			}
			return false
		}, 20*time.Second, time.Millisecond)
		do(t, other, "KILL QUERY "+id)
		<-ended // SLEEP tells of it by its value
		do(t, sleeper, "DO 1")
	}
	_, err := other.ExecContext(t.Context(), "KILL 12345678")
	require.ErrorContains(t, err, "Unknown thread id")
}

// FuzzGate: whatever bytes a client sends, the relay neither hangs nor fails for others, and a
// reset brings the start state back.
func FuzzGate(f *testing.F) {
	k := here()
	k.undone = true
	g := beginGated(f, k, place.Wanted{Where: []string{"memory"}}, engine.Session{Wait: time.Second})
	other := g.raw(f)
	for _, seed := range [][]byte{
		append(packet(3, "BEGIN; DELETE FROM hive"), packet(3, "COMMIT")...), packet(0x16, "SELECT ?"),
		append(packet(0x16, "INSERT INTO journal VALUES (?, ?)"),
			packet(0x17, "\x01\x00\x00\x00\x00\x01\x00\x00\x00\x00\x01\x08\x00\x08\x0012345678")...),
		append(packet(0x18, "\x01\x00\x00\x00\x00\x00long"), packet(0x1a, "\x01\x00\x00\x00")...),
		append(packet(3, "LOAD DATA LOCAL INFILE 'x' INTO TABLE journal (what)"), 2, 0, 0, 2, 'a', '\n', 0, 0, 0, 3),
		packet(3, "SET autocommit = 0, @a = 1, NAMES latin1; CREATE TEMPORARY TABLE a (i int); KILL 3; SAVEPOINT x"),
		packet(0x11, "root\x00\x00honey\x00\x21\x00"), packet(0x1f, ""), packet(0x1b, "\x01\x00"), packet(2, "x"),
		packet(4, "hive\x00"),
	} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, sent []byte) {
		conn := g.raw(t)
		defer conn.Close()
		_, _ = conn.Write(sent)
		_ = conn.(*net.TCPConn).CloseWrite()
		_ = conn.SetReadDeadline(time.Now().Add(20 * time.Second))
		_, err := io.ReadAll(conn)
		require.False(t, errors.Is(err, os.ErrDeadlineExceeded), "it hangs")
		_, err = g.Reset(t.Context(), engine.Session{Wait: time.Second})
		require.NoError(t, err)
		_, err = other.Write(packet(3, "SELECT CONCAT('hives ', COUNT(*)) FROM hive"))
		require.NoError(t, err)
		_ = other.SetReadDeadline(time.Now().Add(20 * time.Second))
		b := make([]byte, 1000)
		n, err := other.Read(b)
		require.NoError(t, err)
		require.Contains(t, string(b[:n]), "hives 3")
	})
}

// TestGateAtOnce: clients at once, resets among them, what commits let through or refused; in
// the end all is as at the start.
func TestGateAtOnce(t *testing.T) {
	n := *seed
	if n == 0 {
		n = rand.Uint64()
	}
	for _, commits := range []bool{false, true} {
		t.Run(map[bool]string{false: "refused", true: "replaced"}[commits], func(t *testing.T) {
			g := beginGated(t, here(), place.Wanted{Where: []string{"memory"}},
				engine.Session{Wait: time.Second, Commits: commits})
			start := g.kind.dump(t, g.connection(t, g.fresh))
			for round := range 3 {
				var all sync.WaitGroup
				for i := range 4 {
					r := rand.New(rand.NewPCG(n, uint64(10*round+i)))
					c := g.through(t, func(c *mysql.Config) { c.MultiStatements = true })
					all.Go(func() {
						defer c.Close()
						for range 60 {
							from := [][]string{statements, equals}[r.IntN(2)]
							limited, stop := context.WithTimeout(t.Context(), 100*time.Millisecond)
							_, _ = c.ExecContext(limited, fill(r, from[r.IntN(len(from))]))
							stop()
						}
					})
				}
				for range 20 {
					_, err := g.Reset(t.Context(), engine.Session{Wait: 5 * time.Second, Force: true})
					require.NoError(t, err)
				}
				all.Wait()
				require.Eventually(t, func() bool { return len(g.Clients()) == 0 }, 20*time.Second, time.Millisecond)
				_, err := g.Reset(t.Context(), engine.Session{Wait: 5 * time.Second, Force: true})
				require.NoError(t, err)
				require.NoError(t, g.Commit(t.Context(), true))
				require.Equal(t, start, g.kind.dump(t, g.connection(t, g.copied)), "seed %d", n)
			}
		})
	}
}

// TestGateTLS: a server that is there already is reached by TLS where its URL says so.
func TestGateTLS(t *testing.T) {
	enginetest.Containers(t)
	k := kinds[2]
	enginetest.Home(t, k.engine)
	g := beginGated(t, k, place.Wanted{Where: []string{"existing"}, URL: k.there(t, "root") + "?tls=skip-verify"},
		engine.Session{Wait: time.Second})
	c := g.through(t, nil)
	var name, cipher string
	require.NoError(t, c.QueryRowContext(t.Context(), "SHOW STATUS LIKE 'Ssl_cipher'").Scan(&name, &cipher))
	require.NotEmpty(t, cipher)
	do(t, c, "DELETE FROM hive")
	require.NotEmpty(t, g.back(t).Way)
	require.Equal(t, "3", ask(t, c, "SELECT COUNT(*) FROM hive"))
	// Its own client insists on TLS, which the relay offers.
	own := g.connection(t, g.copied)
	own.Host, own.Port, _ = net.SplitHostPort(g.at)
	out := program(t, own, "SHOW TABLES", []string{"docker", "run", "--rm", "-i", "--network", "host", "-e", "MYSQL_PWD",
		"--entrypoint", "mariadb", k.image}, "--ssl", own.Database)
	require.Contains(t, out, "hive_type")
}

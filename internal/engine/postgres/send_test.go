package postgres

import (
	"context"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
	"hemzo/internal/sqltext"
)

// TestSentAhead: of statements that were sent ahead of each other's results it is told
// which one failed, each is what the server runs then, and what they say comes in order.
func TestSentAhead(t *testing.T) {
	s, copied, fresh := beginWith(t, whole, `CREATE TABLE wax (id int PRIMARY KEY, of text DEFAULT current_query());
		CREATE TABLE jar (id int PRIMARY KEY);
		CREATE FUNCTION say(n int) RETURNS int LANGUAGE plpgsql AS
		$$BEGIN RAISE NOTICE 'hive %', n; RETURN n; END$$`)
	var said []string
	d, err := s.Open(t.Context(), copied.ID, engine.Session{Said: func(line string) { said = append(said, line) }})
	require.NoError(t, err)
	defer d.Close()
	apply := func(text string) error {
		return d.Apply(t.Context(), engine.Script{File: "m.sql", Text: text, First: 1})
	}
	many := func(table string, n, bad int, instead string) string {
		var text strings.Builder
		for i := range n {
			line := fmt.Sprintf("INSERT INTO %s (id) VALUES (%d); -- é\n", table, i)
			if i == bad {
				line = "  " + instead + ";\n"
			}
			text.WriteString(line)
		}
		return text.String()
	}
	const n = 5*sendStatements + 7
	want := contents(t, s, fresh.ID)
	for i, bad := range []int{0, 1, sendStatements - 1, sendStatements, 3 * sendStatements, n - 1} {
		table := []string{"wax", "jar"}[i%2]
		for instead, told := range map[string]struct {
			column int
			says   string
		}{
			"INSERT INTO wax SELECT 1/0":             {3, "division by zero"},
			"INSERT INTO wax SELECT missing":         {26, `column "missing" does not exist`},
			"INSERT INTO wax VALUES ($1)":            {27, "there is no parameter $1"},
			"INSERT INTO wax VALUES (-1), (-2), (-":  {40, "syntax error"},
			"INSERT INTO jar VALUES (-7), ('é')":     {33, "invalid input syntax"},
			"INSERT INTO jar VALUES (3.5), (1), (1)": {3, "duplicate key"},
			"COPY wax FROM '/nowhere'":               {3, "pg_read_server_files"},
			"DO $$BEGIN RAISE 'no bees'; END$$":      {3, "no bees"},
		} {
			err := apply(many(table, n, bad, instead))
			var f *fault.Error
			require.ErrorAs(t, err, &f)
			assert.Equal(t, fault.Position{File: "m.sql", Line: bad + 1, Column: told.column}, f.Where, instead)
			assert.Contains(t, f.Said, told.says)
			require.Equal(t, want, contents(t, s, copied.ID), "a script that fails leaves nothing")
		}
	}

	text := many("wax", n, n/2, "COPY wax (id) FROM stdin;\n-1\n\\.\nSELECT say(id)"+
		" FROM (SELECT id FROM wax WHERE id < 3 ORDER BY id) w")
	require.NoError(t, apply(text))
	assert.Equal(t, []string{"NOTICE: hive -1", "NOTICE: hive 0", "NOTICE: hive 1", "NOTICE: hive 2"}, said)
	one := func(sql string) int64 {
		n, err := s.database(copied, engine.Session{}).count(t, sql)
		require.NoError(t, err)
		return n
	}
	assert.EqualValues(t, n, one("SELECT count(*) FROM wax"))
	assert.EqualValues(t, n-1, one("SELECT count(*) FROM wax WHERE of = 'INSERT INTO wax (id) VALUES (' || id || ')'"))

	require.NoError(t, apply(many("jar", n, -1, "")))
	assert.EqualValues(t, n, one("SELECT count(*) FROM jar"))

	// Whoever stops waits for no more than the statement under way.
	ctx, stop := context.WithCancel(t.Context())
	time.AfterFunc(50*time.Millisecond, stop)
	err = d.Apply(ctx, engine.Script{File: "m.sql", Text: strings.Repeat("SELECT pg_sleep(0.01);\n", 100_000), First: 1})
	require.ErrorIs(t, err, context.Canceled)
	require.NoError(t, apply("SELECT 1"))
}

// losable is a connection that can be lost, and counts what is written once that is known.
type losable struct {
	net.Conn
	lost, known atomic.Bool
	after       atomic.Int64
}

func (l *losable) Read(b []byte) (int, error) {
	if l.lost.Load() {
		l.known.Store(true)
		return 0, io.EOF
	}
	return l.Conn.Read(b)
}

func (l *losable) Write(b []byte) (int, error) {
	if l.known.Load() {
		l.after.Add(1)
	}
	return l.Conn.Write(b)
}

// TestConnectionLost: of a connection that is lost while statements are under way nothing
// more is written but by the driver's goroutine that ends it.
func TestConnectionLost(t *testing.T) {
	s, copied, _ := beginWith(t, whole, `CREATE TABLE jar (id int)`)
	config := s.settings(copied.ID)
	dial, first, leave := config.DialFunc, &losable{}, make(chan struct{})
	config.DialFunc = func(ctx context.Context, network, address string) (c net.Conn, err error) {
		if first.Conn != nil {
			<-leave // the driver's goroutine asks the server to stop, on a second connection
			return nil, io.EOF
		}
		first.Conn, err = dial(ctx, network, address)
		return first, err
	}
	conn, err := pgx.ConnectConfig(t.Context(), config)
	require.NoError(t, err)
	send := &sender{conn: conn.PgConn(), ahead: true}
	one := func() error { return send.run(t.Context(), sqltext.Piece{}, "SELECT 1", []string{"SELECT"}) }
	require.NoError(t, one())
	first.lost.Store(true)
	for err == nil {
		err = one()
	}
	var told *refused
	require.ErrorAs(t, err, &told)
	require.True(t, conn.IsClosed())
	require.NoError(t, send.finish(t.Context())) // nothing is under way
	require.Zero(t, first.after.Load())
	close(leave)
	<-conn.PgConn().CleanupDone()
}

// TestObserved: code of users' that a table calls is told of each statement alone.
func TestObserved(t *testing.T) {
	s, copied, _ := beginWith(t, whole, `CREATE FUNCTION told(n int) RETURNS int IMMUTABLE LANGUAGE plpgsql AS
		$$BEGIN RAISE NOTICE '%', current_query(); RETURN n; END$$;
		CREATE FUNCTION fired() RETURNS trigger LANGUAGE plpgsql AS
		$$BEGIN RAISE NOTICE '%', current_query(); RETURN NEW; END$$;
		CREATE FUNCTION more(a int, b int) RETURNS boolean IMMUTABLE LANGUAGE plpgsql AS
		$$BEGIN RAISE NOTICE '%', current_query(); RETURN a > b; END$$;
		CREATE OPERATOR >>> (FUNCTION = more, LEFTARG = int, RIGHTARG = int);
		CREATE DOMAIN grams AS int CHECK (told(VALUE) >= 0); CREATE TABLE other (a int, b int)`)
	var said []string
	d, err := s.Open(t.Context(), copied.ID, engine.Session{Said: func(line string) { said = append(said, line) }})
	require.NoError(t, err)
	defer d.Close()
	for i, definition := range []string{
		"CREATE TABLE %s (a int, b int); CREATE TRIGGER f AFTER INSERT ON %[1]s FOR EACH ROW EXECUTE FUNCTION fired()",
		"CREATE TABLE %s (a int, b int); CREATE TRIGGER f BEFORE INSERT ON %[1]s EXECUTE FUNCTION fired()",
		"CREATE TABLE %s (a int, b int); CREATE RULE r AS ON INSERT TO %[1]s DO ALSO SELECT told(NEW.a)",
		"CREATE TABLE %s (a int, b int, c int DEFAULT told(1))",
		"CREATE TABLE %s (a int CHECK (told(a) >= 0), b int)", "CREATE TABLE %s (a int CHECK (a >>> -1), b int)",
		"CREATE TABLE %s (a grams, b int)", "CREATE TABLE %s (a int, b int); CREATE INDEX ON %[1]s (told(a))",
		"CREATE TABLE %s (a int, b int, c int GENERATED ALWAYS AS (told(a)) STORED)",
		"CREATE VIEW %s AS SELECT a, b FROM other; CREATE RULE i AS ON INSERT TO %[1]s DO INSTEAD SELECT told(NEW.a)",
		"CREATE TABLE %s (a int, b int) PARTITION BY LIST (a); CREATE TABLE %[1]s_1 PARTITION OF %[1]s DEFAULT; " +
			"CREATE TRIGGER f AFTER INSERT ON %[1]s_1 FOR EACH ROW EXECUTE FUNCTION fired()",
	} {
		table := fmt.Sprint("observed", i)
		var text strings.Builder
		fmt.Fprintf(&text, definition+";\n", table)
		var want []string
		for k := range 2 * longRun {
			statement := fmt.Sprintf("INSERT INTO %s (a, b) VALUES (%d, 0)", table, k)
			want = append(want, "NOTICE: "+statement)
			text.WriteString(statement + ";\n")
		}
		said = nil
		require.NoError(t, d.Apply(t.Context(), engine.Script{File: "m.sql", Text: text.String(), First: 1}))
		require.Equal(t, want, slices.Compact(said), definition)
	}
}

// TestObservedLater: a table that is watched from the middle of a run of inserts on.
func TestObservedLater(t *testing.T) {
	s, copied, _ := beginWith(t, whole, `CREATE TABLE first (a int); CREATE TABLE second (a int);
		CREATE FUNCTION told() RETURNS trigger LANGUAGE plpgsql AS
		$$BEGIN RAISE NOTICE '%', current_query(); RETURN NEW; END$$;
		CREATE FUNCTION watch() RETURNS trigger LANGUAGE plpgsql AS
		$$BEGIN CREATE TRIGGER t AFTER INSERT ON second FOR EACH ROW EXECUTE FUNCTION told(); RETURN NEW; END$$;
		CREATE TRIGGER w AFTER INSERT ON first FOR EACH ROW EXECUTE FUNCTION watch()`)
	var said []string
	d, err := s.Open(t.Context(), copied.ID, engine.Session{Said: func(line string) { said = append(said, line) }})
	require.NoError(t, err)
	defer d.Close()
	var text strings.Builder
	var want []string
	for k := range 2 * longRun {
		if k == longRun {
			text.WriteString("INSERT INTO first VALUES (1);\n")
		}
		statement := fmt.Sprintf("INSERT INTO second VALUES (%d)", k)
		text.WriteString(statement + ";\n")
		if k >= longRun {
			want = append(want, "NOTICE: "+statement)
		}
	}
	require.NoError(t, d.Apply(t.Context(), engine.Script{File: "m.sql", Text: text.String(), First: 1}))
	require.Equal(t, want, said)
}

// count returns what a query in a copy returns.
func (d *database) count(t *testing.T, sql string) (n int64, err error) {
	defer d.Close()
	conn, err := d.connect(t.Context())
	if err == nil {
		err = conn.QueryRow(t.Context(), sql).Scan(&n)
	}
	return n, err
}

// TestPlainInsert: nothing but literals is taken for plain.
func TestPlainInsert(t *testing.T) {
	for text, want := range map[string]string{
		"INSERT INTO hive (id, \"La\"\"bel\") VALUES (1, 'it''s'), (-2.5e+3, NULL)": "hive",
		"insert\n into \"My\".t values(true,FALSE , DEFAULT)":                       `"My".t`,
		"INSERT INTO a.b VALUES ('', .5, 7.)":                                       "a.b",
	} {
		table, plain := plainInsert(text)
		assert.True(t, plain, text)
		assert.Equal(t, want, table)
	}
	for _, text := range []string{"", "INSERT INTO t DEFAULT VALUES", "INSERT INTO t SELECT 1",
		"INSERT INTO t VALUES (f())",
		"INSERT INTO t VALUES (1) RETURNING id", "INSERT INTO t VALUES (1) ON CONFLICT DO NOTHING",
		"INSERT INTO t VALUES (now())", "INSERT INTO t VALUES (E'\\'')", "INSERT INTO t VALUES ('1'::int)",
		"INSERT INTO t VALUES (1 + 1)", "INSERT INTO t VALUES ((SELECT 1))", "INSERT INTO t VALUES ($1)",
		"INSERT INTO t VALUES (current_user)", "INSERT INTO t AS x VALUES (1)",
		"INSERT INTO t OVERRIDING SYSTEM VALUE VALUES (1)",
		"INSERT INTO t VALUES (1), ", "INSERT INTO t VALUES (1)) ", "INSERT INTO t VALUES ('", "INSERT INTO t VALUES (--1)",
		"INSERT INTO t VALUES (1 /* c */)", "INSERT INTO t VALUES (U&'x')",
		"WITH x AS (SELECT 1) INSERT INTO t VALUES (1)",
		"INSERT INTO t (a[1]) VALUES (1)", "INSERT INTO t VALUES (.)", "INSERT INTO t VALUES (1a)",
		"INSERT INTO 1t VALUES (1)",
		"UPDATE t SET a = 1", "INSERT INTO t VALUES (DATE '2026-05-01')", "INSERT INTO a.b.c VALUES (1)"} {
		_, plain := plainInsert(text)
		assert.False(t, plain, text)
	}
}

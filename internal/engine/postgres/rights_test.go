package postgres

import (
	"bytes"
	"context"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"runtime"
	"sort"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/engine/postgres/witness"
	"hemzo/internal/fault"
	"hemzo/internal/place"
	"hemzo/internal/reset"
)

// urlOf is the URL of a private server for one of its roles, by TCP, or by its
// socket where there is no password.
func urlOf(s *server, user, password string) string {
	port := fmt.Sprint(s.config.Port)
	if password == "" {
		return "postgresql:///postgres?" + url.Values{"host": {s.socket}, "port": {port}, "user": {user}}.Encode()
	}
	return fmt.Sprintf("postgresql://%s:%s@127.0.0.1:%s/postgres", user, password, port)
}

// existing opens a private server as one that is there already.
func existing(t testing.TB, url string) *server {
	t.Helper()
	opened, err := Engine{}.Open(t.Context(), url, engine.Spec{}, engine.Patience{})
	require.NoError(t, err)
	t.Cleanup(func() { opened.Close() })
	return opened.(*server)
}

// makeTemplate builds a template from SQL, and returns a copy of it.
func makeTemplate(t *testing.T, s *server, facts engine.Facts, digits, sql string) engine.Entry {
	t.Helper()
	work, template, copied := engine.NewID(engine.Work), "hemzo_t_"+digits, engine.NewID(engine.Copy)
	require.NoError(t, s.Create(t.Context(), work, engine.Spec{Encoding: "UTF8", Locale: "C"}, facts))
	d, err := s.Open(t.Context(), work, engine.Session{Names: []string{"honey"}})
	require.NoError(t, err)
	require.NoError(t, d.Apply(t.Context(), engine.Script{File: "m.sql", Text: sql, First: 1}))
	require.NoError(t, d.Close())
	require.NoError(t, s.Rename(t.Context(), work, template, facts))
	facts.Start = template
	require.NoError(t, s.Copy(t.Context(), template, copied, facts))
	e, err := s.Find(t.Context(), copied)
	require.NoError(t, err)
	return e
}

// enters reports whether a copy's connection, as it is handed out, lets in.
func enters(t *testing.T, s *server, e engine.Entry) error {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), s.Connection(e.ID, e.Facts).URL)
	if err == nil {
		err = conn.Close(t.Context())
	}
	return err
}

// try runs a statement as another role of a server, with its rights alone.
func try(t *testing.T, s *server, e engine.Entry, sql string) error {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), s.Connection(e.ID, e.Facts).URL)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	_, err = conn.Exec(t.Context(), sql, pgx.QueryExecModeSimpleProtocol)
	return err
}

// TestPasswords: what passwords are derived from is nobody's to compute; every
// administrator of a server has the same, and one whose own password changed
// goes on. What Hemzo did not make is not taken for its own.
func TestPasswords(t *testing.T) {
	private, _, _ := beginWith(t, whole, "SELECT 1")
	const hers = "Second1"
	require.NoError(t, private.exec(t.Context(), "CREATE ROLE boss SUPERUSER LOGIN PASSWORD '"+hers+
		"'; CREATE ROLE maker CREATEDB CREATEROLE LOGIN PASSWORD 'one'; CREATE ROLE other CREATEDB CREATEROLE "+
		"LOGIN PASSWORD 'two'; CREATE ROLE hemzo_wax LOGIN"))
	facts := engine.Facts{Format: engine.Format, Database: "honey", Role: "superuser"}
	first := existing(t, urlOf(private, "hemzo", "")) // no password to derive anything from
	e := makeTemplate(t, first, facts, "00000000000a", "CREATE TABLE hive (id int)")
	require.NoError(t, enters(t, first, e))
	c := first.Connection(e.ID, e.Facts)
	for _, guess := range []string{"", "hemzo", "postgres"} {
		assert.NotEqual(t, derived(guess, c.User), c.Password)
	}
	second := existing(t, urlOf(private, "boss", hers))
	assert.Equal(t, c.Password, second.Connection(e.ID, e.Facts).Password, "two administrators, one secret")
	var readable bool
	require.NoError(t, private.readRetrying(t.Context(), func(ctx context.Context, conn *pgx.Conn) error {
		return conn.QueryRow(ctx, "SELECT has_table_privilege('maker', 'pg_authid', 'SELECT')").Scan(&readable)
	}))
	assert.False(t, readable, "only superusers read it")

	facts.Role = ""
	maker := existing(t, urlOf(private, "maker", "one"))
	facts.Database = "comb"
	e = makeTemplate(t, maker, facts, "00000000000b", "CREATE TABLE hive (id int)")
	require.NoError(t, enters(t, maker, e))
	assert.NotEqual(t, derived("one", "hemzo_comb"), maker.Connection(e.ID, e.Facts).Password)
	require.NoError(t, private.exec(t.Context(), "ALTER ROLE maker PASSWORD 'changed'"))
	maker = existing(t, urlOf(private, "maker", "changed"))
	id := engine.NewID(engine.Copy)
	require.NoError(t, maker.Copy(t.Context(), e.Facts.Start, id, e.Facts))
	again, err := maker.Find(t.Context(), id)
	require.NoError(t, err)
	require.NoError(t, enters(t, maker, again), "the roles' passwords follow")
	err = existing(t, urlOf(private, "other", "two")).ensureOwner(t.Context(), e.Facts)
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	assert.ErrorContains(t, err, "made through another administrator")

	facts.Database = "wax"
	err = first.Create(t.Context(), engine.NewID(engine.Work), engine.Spec{Encoding: "UTF8", Locale: "C"}, facts)
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	assert.ErrorContains(t, err, "there is a role hemzo_wax that Hemzo did not make")
	facts.Role = "superuser"
	facts.Database = "super" // its owner is not the superuser of that word
	assert.NotEqual(t, superRole, ownerOf("super", ""))
	assert.LessOrEqual(t, len(restoreRole(ownerOf(strings.Repeat("a", 63), ""))), 63)
}

// TestRightsOfTests: names, functions and facts that tests can write are run
// and believed with the rights of the tests, and no more.
func TestRightsOfTests(t *testing.T) {
	const schema = `CREATE TABLE spied (who text, super text);
		CREATE FUNCTION spy(v int) RETURNS boolean LANGUAGE plpgsql AS $$ BEGIN
			BEGIN EXECUTE 'RESET ROLE'; EXECUTE 'RESET SESSION AUTHORIZATION';
			EXECUTE 'ALTER ROLE hemzo_apiary SUPERUSER'; EXCEPTION WHEN OTHERS THEN NULL; END;
			INSERT INTO spied VALUES (session_user, current_setting('is_superuser')); RETURN true; END $$;
		CREATE TABLE hive (id int PRIMARY KEY, label text CHECK (spy(length(label))));
		INSERT INTO hive VALUES (1, 'a'), (2, 'b'); TRUNCATE spied;`
	private, copied, fresh := beginWith(t, whole, schema)
	want := contents(t, private, fresh.ID)
	super := func() (n int64) {
		n, err := private.queryInt(t.Context(),
			"SELECT count(*) FROM pg_roles WHERE rolsuper AND rolname LIKE 'hemzo\\_%'")
		require.NoError(t, err)
		return n
	}
	o, err := reset.Open(t.Context(), private, copied, time.Second)
	require.NoError(t, err)
	defer o.Close()
	const evil = `x on y ADD a int;COMMIT;ALTER ROLE hemzo_apiary SUPERUSER;--`
	for _, sql := range []string{
		"DELETE FROM hive; DELETE FROM spied", "UPDATE hive SET id = id + 10; DELETE FROM spied",
		`ALTER TABLE hive ADD CONSTRAINT "` + evil + `" CHECK (id > 0)`,
		`CREATE TABLE "` + evil + `" ("` + evil + `" int CONSTRAINT "'` + evil + `" CHECK (true)); CREATE INDEX "` +
			evil + `i" ON "` + evil + `" ("` + evil + `"); CREATE POLICY "` + evil + `" ON "` + evil + `"`,
		`CREATE SCHEMA "` + evil + `" CREATE VIEW "` + evil + `" AS SELECT 1; CREATE TYPE "` + evil +
			`" AS ENUM ('a'); CREATE FUNCTION "` + evil + `"(a "` + evil + `") RETURNS int LANGUAGE sql AS 'SELECT 1'`,
		`CREATE SEQUENCE "` + evil + `s"; CREATE TRIGGER "` + evil +
			`" AFTER INSERT ON hive FOR EACH ROW EXECUTE FUNCTION suppress_redundant_updates_trigger();
			CREATE RULE "` +
			evil + `" AS ON INSERT TO hive DO ALSO NOTHING; CREATE STATISTICS "` + evil + `" ON id, label FROM hive`,
	} {
		require.NoError(t, try(t, private, copied, sql), sql)
		report, err := o.Do(t.Context(), reset.Options{})
		require.NoError(t, err, sql)
		if !strings.HasPrefix(sql, "UPDATE") { // there the spy writes to what had been put back
			assert.Equal(t, engine.Truncation, report.Way, "%s: %s", sql, report.Why)
		}
		assert.Zero(t, super(), sql)
		_, err = o.Do(t.Context(), reset.Options{}) // the rows that the spy has written meanwhile
		require.NoError(t, err)
		require.Equal(t, want, contents(t, private, copied.ID), sql)
	}
}

// TestWritersOfOthers: an account that may make databases, and is told of nobody's sessions,
// waits for what another role has not committed yet.
func TestWritersOfOthers(t *testing.T) {
	private, _, _ := beginWith(t, whole, "SELECT 1")
	for _, statement := range []string{"CREATE ROLE plain CREATEDB LOGIN PASSWORD 'Plain1'",
		"CREATE ROLE other LOGIN PASSWORD 'Other1'"} {
		require.NoError(t, private.exec(t.Context(), statement))
	}
	s := existing(t, urlOf(private, "plain", "Plain1"))
	copied := makeTemplate(t, s, engine.Facts{Format: engine.Format, Database: "honey"}, "0000000000e1",
		"CREATE TABLE hive (id int); GRANT ALL ON hive TO other; INSERT INTO hive VALUES (1)")
	config, err := pgx.ParseConfig(urlOf(private, "other", "Other1"))
	require.NoError(t, err)
	config.Database = copied.ID
	require.NoError(t, private.exec(t.Context(), "GRANT CONNECT ON DATABASE "+pg.Ident(copied.ID)+" TO other"))
	o := reset.Options{Wait: 50 * time.Millisecond}
	for statement, want := range map[string]string{
		"BEGIN; UPDATE hive SET id = 2":                      "a transaction is under way that has written",
		"UPDATE hive SET id = 2 FROM (SELECT pg_sleep(1)) s": "a statement is running that may write"} {
		other, err := pgx.ConnectConfig(t.Context(), config)
		require.NoError(t, err)
		var number int
		require.NoError(t, other.QueryRow(t.Context(), "SELECT pg_backend_pid()").Scan(&number))
		ended := make(chan error, 1)
		go func() {
			_, err := other.Exec(t.Context(), statement)
			ended <- err
		}()
		require.Eventually(t, func() bool {
			n, err := private.queryInt(t.Context(), fmt.Sprintf("SELECT count(*) FROM pg_locks WHERE pid = %d AND mode = "+
				"'RowExclusiveLock'", number))
			return err == nil && n > 0
		}, time.Minute, time.Millisecond)
		_, err = reset.Do(t.Context(), s, copied, o)
		require.ErrorContains(t, err, want)
		require.Len(t, told(err).Lines, 1)
		require.NoError(t, <-ended)
		require.NoError(t, other.Close(t.Context()))
		_, err = reset.Do(t.Context(), s, copied, reset.Options{Wait: time.Minute})
		require.NoError(t, err)
	}
}

// TestFactsOfTests: tests write what they can, a copy's facts stay what Hemzo
// wrote; a template is Hemzo's own role's.
func TestFactsOfTests(t *testing.T) {
	private, _, _ := beginWith(t, whole, "SELECT 1")
	require.NoError(t, private.exec(t.Context(),
		"CREATE ROLE maker CREATEDB CREATEROLE LOGIN PASSWORD 'one'; CREATE ROLE plain CREATEDB LOGIN PASSWORD 'two'"))
	for i, s := range []*server{private, existing(t, urlOf(private, "hemzo", "")),
		existing(t, urlOf(private, "maker", "one")), existing(t, urlOf(private, "plain", "two"))} {
		facts := engine.Facts{Format: engine.Format, Database: fmt.Sprint("honey", i), Name: "mine"}
		e := makeTemplate(t, s, facts, fmt.Sprintf("0000000000c%d", i),
			"CREATE TABLE hive (id int); INSERT INTO hive VALUES (1)")
		forged := `{"format":2,"database":"x","name":"forged","start":"shop","private":` +
			`{"carry":{"grants":[{"right":` +
			`"CONNECT ON DATABASE x TO PUBLIC; ALTER ROLE hemzo_honey SUPERUSER; GRANT CONNECT"}]}}}`
		for _, sql := range []string{
			"COMMENT ON DATABASE %s IS 'the shop database'", "COMMENT ON DATABASE %s IS " + pg.Literal(forged),
			"ALTER ROLE CURRENT_USER IN DATABASE %s SET application_name = " + pg.Literal(forged),
			"ALTER DATABASE %s SET application_name = " + pg.Literal(forged),
		} {
			require.NoError(t, try(t, s, e, fmt.Sprintf(sql, e.ID)), sql)
			now, err := s.Find(t.Context(), e.ID)
			require.NoError(t, err, sql)
			if s.hasOwnerRoles() || !strings.Contains(sql, "COMMENT") {
				assert.Equal(t, "mine", now.Facts.Name, sql)
				assert.Equal(t, e.Facts.Start, now.Facts.Start, sql)
			} else { // this role is the tests': nothing more than the tests may is done with it
				require.NoError(t, s.UpdateFacts(t.Context(), e.ID, func(f *engine.Facts) { *f = e.Facts }))
			}
			_, err = reset.Do(t.Context(), s, e, reset.Options{Wait: time.Second})
			require.NoError(t, err, "%d: %s", i, sql)
			e, err = s.Find(t.Context(), e.ID)
			require.NoError(t, err)
		}
		var comment *string
		require.NoError(t, private.readRetrying(t.Context(), func(ctx context.Context, conn *pgx.Conn) error {
			return conn.QueryRow(ctx, "SELECT shobj_description(oid, 'pg_database') FROM pg_database WHERE datname "+
				"= $1", e.ID).Scan(&comment)
		}))
		if s.hasOwnerRoles() {
			assert.Nil(t, comment, "it went with the reset")
			for _, sql := range []string{"ALTER DATABASE %s ALLOW_CONNECTIONS true", "DROP DATABASE %s",
				"ALTER DATABASE %s RENAME TO mine", "COMMENT ON DATABASE %s IS 'x'"} {
				assert.Equal(t, pg.InsufficientPrivilege, pg.State(try(t, s, e, fmt.Sprintf(sql, e.Facts.Start))), sql)
			}
		}
		for _, right := range []string{"CONNECT; DROP ROLE x", "ALL"} {
			c := carry{Grants: []grant{{Right: right}}}
			assert.NotContains(t, c.granting("d", "o"), "GRANT", right)
		}
	}
}

// TestMarks: a name alone is no mark; what an interrupted drop has left is made
// anew, and cleared away; so is the login of a copy that never came to be.
func TestMarks(t *testing.T) {
	s, copied, _ := beginWith(t, whole, "CREATE TABLE hive (id int)")
	ctx := t.Context()
	foreign := existing(t, urlOf(s, "hemzo", ""))
	const theirs = "hemzo_w_0123456789ab"
	require.NoError(t, s.execInBackground(ctx, "CREATE DATABASE "+theirs))
	require.NoError(t, foreign.Clear(ctx))
	require.NoError(t, foreign.Drop(ctx, theirs))
	there := func(name string) bool {
		n, err := s.queryInt(ctx, "SELECT count(*) FROM pg_database WHERE datname = $1", name)
		require.NoError(t, err)
		return n > 0
	}
	assert.True(t, there(theirs), "a name like Hemzo's is somebody's")
	work := engine.NewID(engine.Work)
	require.NoError(t, s.execInBackground(ctx,
		fmt.Sprintf("CREATE DATABASE %s CONNECTION LIMIT %d", work, workLimit(work))))
	require.NoError(t, foreign.Clear(ctx))
	assert.False(t, there(work), "work that nobody is at")

	// What is to take a copy's place has that one's limit, not the mark.
	from, err := foreign.Find(ctx, copied.Facts.Start)
	require.NoError(t, err)
	require.NoError(t, foreign.copyForReplacement(ctx, from, work, copied))
	require.NoError(t, foreign.Clear(ctx)) // whoever made it was killed
	assert.False(t, there(work))

	start := copied.Facts.Start
	require.NoError(t, s.exec(ctx, "SET allow_system_table_mods = on; UPDATE pg_database SET datconnlimit = -2 WHERE "+
		"datname = '"+start+"'"))
	_, err = s.Find(ctx, start)
	require.ErrorIs(t, err, engine.ErrNotFound, "it is to be built again")
	assert.False(t, there(start), "its name is free for that")
	require.NoError(t, s.exec(ctx, "UPDATE pg_database SET datconnlimit = -2 WHERE datname = '"+copied.ID+
		"'; RESET allow_system_table_mods"))
	require.ErrorIs(t, s.UpdateFacts(ctx, copied.ID, func(*engine.Facts) {}), engine.ErrNotFound)
	require.NoError(t, s.Clear(ctx))
	assert.False(t, there(copied.ID))

	owned := engine.Facts{Format: engine.Format, Database: "apiary", Role: "own"}
	id := engine.NewID(engine.Copy)
	require.NoError(t, s.ensureLogin(ctx, id, owned)) // and then its taker is killed
	logins := func() int64 {
		n, err := s.queryInt(ctx, "SELECT count(*) FROM pg_roles WHERE rolname LIKE 'hemzo\\_\\_u\\_%'")
		require.NoError(t, err)
		return n
	}
	require.Equal(t, int64(1), logins())
	unlock, err := s.Lock(ctx, "login "+ownLogin(id), nil)
	require.NoError(t, err)
	require.NoError(t, foreign.Clear(ctx))
	require.Equal(t, int64(1), logins(), "somebody is making its copy")
	unlock()
	require.NoError(t, foreign.Clear(ctx))
	require.Zero(t, logins())
}

// TestTwoAtOnce: several that want the same thing gone, made or noted succeed.
func TestTwoAtOnce(t *testing.T) {
	private, copied, _ := beginWith(t, whole, "CREATE ROLE app_writer; CREATE TABLE hive (id int)")
	start := copied.Facts.Start
	var all []*server
	for range 6 {
		all = append(all, existing(t, urlOf(private, "hemzo", "")))
	}
	together := func(what string, work func(s *server) error) {
		var wg sync.WaitGroup
		for _, s := range all {
			wg.Go(func() { assert.NoError(t, work(s), what) })
		}
		wg.Wait()
	}
	for i := range 8 {
		facts := engine.Facts{Format: engine.Format, Database: fmt.Sprint("new", i),
			Role: []string{"own", "app_writer", "", "superuser"}[i%4]}
		id := engine.NewID(engine.Copy)
		together("roles", func(s *server) error { return s.ensureOwner(t.Context(), facts) })
		require.NoError(t, private.exec(t.Context(), "ALTER ROLE app_writer NOLOGIN"))
		together("logins", func(s *server) error {
			s.keys.Lock()
			s.ensured = nil
			s.keys.Unlock()
			return s.ensureLogin(t.Context(), id, facts)
		})
		require.NoError(t, all[0].Copy(t.Context(), start, id, facts))
		together("notes and drops", func(s *server) error {
			if err := s.UpdateFacts(t.Context(), id, func(f *engine.Facts) { f.Lost = time.Now() }); err != nil &&
				err != engine.ErrNotFound {
				return err
			}
			return s.Drop(t.Context(), id)
		})
		together("clearing", func(s *server) error { return s.Clear(t.Context()) })
	}
}

// TestSlowWorkAside: a snapshot that waits for a client keeps nobody else from
// anything, and its wait ends with its caller's.
func TestSlowWorkAside(t *testing.T) {
	s, copied, other := beginWith(t, whole, "CREATE TABLE hive (id int)")
	client, err := pgx.Connect(t.Context(), s.Connection(copied.ID, copied.Facts).URL)
	require.NoError(t, err)
	defer client.Close(context.Background())
	for _, late := range []bool{false, true} { // the client is there, or comes while the server waits
		ctx, stop := context.WithCancel(t.Context())
		ended := make(chan error, 1)
		d := s.database(copied, engine.Session{Wait: time.Hour})
		go func() {
			if late {
				ended <- d.copyBefore(ctx, engine.NewID(engine.Kept), copied.Facts, time.Now().Add(time.Hour))
				return
			}
			_, err := d.Snapshot(ctx, engine.NewID(engine.Kept), engine.Facts{Format: engine.Format})
			ended <- err
		}()
		for range 5 {
			id := engine.NewID(engine.Copy)
			require.NoError(t, s.Copy(t.Context(), copied.Facts.Start, id, copied.Facts))
			require.NoError(t, s.UpdateFacts(t.Context(), other.ID, func(f *engine.Facts) { f.Name = id }))
			require.NoError(t, s.Drop(t.Context(), id))
		}
		select {
		case err := <-ended:
			if !late {
				require.NoError(t, err, "it ended by itself while others worked")
				t.Fatal("it did not wait for the client")
			}
		default:
		}
		stop()
		select {
		case err := <-ended:
			require.Error(t, err)
		case <-time.After(time.Minute):
			t.Fatal("it goes on without its caller")
		}
	}
	_, err = reset.Snapshot(t.Context(), s, copied, "busy", engine.Session{Wait: 50 * time.Millisecond})
	require.ErrorContains(t, err, "the copy is in use (waited 50ms)")
	canceled, stop := context.WithCancel(t.Context())
	stop()
	_, err = s.Find(canceled, copied.ID)
	require.ErrorIs(t, err, context.Canceled)
	_, err = s.Find(t.Context(), copied.ID)
	require.NoError(t, err, "the connection of all is not the worse for it")
}

// TestOneSpare: of several that want a copy made ahead one makes it.
func TestOneSpare(t *testing.T) {
	s, copied, other := beginWith(t, whole, "CREATE TABLE hive (id int)")
	works := func() int64 {
		n, err := s.queryInt(t.Context(), "SELECT count(*) FROM pg_database WHERE datname LIKE 'hemzo\\_w%'")
		require.NoError(t, err)
		return n
	}
	var wg sync.WaitGroup
	for i := range 12 {
		wg.Go(func() {
			assert.NoError(t, s.prepareSpare(t.Context(), copied.Facts.Start, []string{copied.ID, other.ID}[i%2]))
		})
	}
	wg.Wait()
	assert.Equal(t, int64(1), works())
	for _, e := range []engine.Entry{copied, other} {
		o, err := reset.Open(t.Context(), s, e, time.Second)
		require.NoError(t, err)
		for range 3 {
			_, err := o.Do(t.Context(), reset.Options{Way: engine.Snapshot, Ahead: true})
			require.NoError(t, err)
		}
		require.NoError(t, o.Close())
	}
	assert.Equal(t, int64(1), works())
	s.dropSpares(t.Context())
	assert.Zero(t, works())
}

// TestClean: of a server whose main process was killed nothing stays: no busy
// backend and no shared memory.
func TestClean(t *testing.T) {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	folder := t.TempDir()
	for dir := folder; dir != "/tmp" && dir != "/"; dir = dir[:strings.LastIndex(dir, "/")] {
		_ = exec.Command("chmod", "o+x", dir).Run()
	}
	log, err := os.Create(folder + ".log")
	require.NoError(t, err)
	defer os.Remove(log.Name())
	defer log.Close()
	started, err := place.Start(t.Context(), Engine{}, engine.Home{Password: "secret", Folder: folder, Log: log},
		engine.Spec{})
	require.NoError(t, err)
	opened, err := connect(t.Context(), started.Address, engine.Patience{})
	require.NoError(t, err)
	s := opened.(*server)
	busy := make(chan error, 1)
	go func() {
		busy <- s.execInBackground(t.Context(), "SELECT count(*) FROM generate_series(1, 100000000000) a")
	}()
	require.Eventually(t, func() bool {
		n, err := s.queryInt(t.Context(),
			"SELECT count(*) FROM pg_stat_activity WHERE query LIKE '%generate_series%' AND state = 'active' AND "+
				"pid <> pg_backend_pid()")
		return err == nil && n == 1
	}, time.Minute, time.Millisecond)
	looker := exec.Command("sleep", "1000") // somebody who looks at the files
	looker.Dir = folder + "/data"
	require.NoError(t, looker.Start())
	defer func() {
		assert.NoError(t, looker.Process.Kill(), "nobody has ended it")
		_ = looker.Wait()
	}()
	segment, named := segmentOf(folder + "/data")
	require.True(t, named)
	require.NoError(t, syscall.Kill(started.PID, syscall.SIGKILL))
	started.Wait()
	require.NoError(t, Engine{}.Clean(folder))
	assert.Error(t, <-busy)
	assert.Empty(t, workingIn(folder, folder+"/data"))
	out, err := exec.Command("ipcs", "-m", "-i", fmt.Sprint(segment)).CombinedOutput()
	require.NoError(t, err)
	assert.NotContains(t, string(out), "mode=", "its shared memory is gone")
}

// dumped is what the server's own program dumps of a database, with what belongs
// to the database itself, which that leaves to another.
func dumped(t *testing.T, s *server, id string) string {
	t.Helper()
	tools, err := find("")
	require.NoError(t, err)
	url := urlOf(s, "hemzo", "")
	if s.socket == "" {
		url = urlOf(s, s.config.User, s.config.Password) + "?connect_timeout=5"
	}
	args := []string{"-d", url + "&dbname=" + id}
	if tools.major != "13" { // whose last release writes no key
		args = append(args, "--restrict-key=x")
	}
	dump := exec.Command(tools.folder+"/pg_dump", args...)
	var said bytes.Buffer
	dump.Stderr = &said
	out, err := dump.Output()
	require.NoError(t, err, said.String())
	var level string
	require.NoError(t, s.readRetrying(t.Context(), func(ctx context.Context, conn *pgx.Conn) error {
		return conn.QueryRow(ctx, `SELECT concat_ws(E'\n', d.datconnlimit, pg_get_userbyid(d.datdba),
		d.datistemplate, c.description, (SELECT string_agg(a::text, ',' ORDER BY a::text)
		FROM aclexplode(coalesce(d.datacl, acldefault('d', d.datdba))) a),
			(SELECT string_agg(concat(s.setrole, ' ', i), ',' ORDER BY s.setrole, i) FROM pg_db_role_setting s,
				unnest(s.setconfig) i WHERE s.setdatabase = d.oid AND i NOT LIKE 'hemzo.facts=%'
				AND i NOT LIKE 'application\_name={%'))
			FROM pg_database d LEFT JOIN pg_shdescription c ON c.objoid = d.oid AND c.classoid
				= 'pg_database'::regclass WHERE d.datname = $1`, id).Scan(&level)
	}))
	lines := strings.Split(string(out), "\n")
	sort.Strings(lines) // the order of rows and oids is no difference
	return strings.Join(lines, "\n") + level
}

// TestBuiltIn: what tests change of objects that the server brought along, of the
// database itself, and in catalogs that few use is seen and put back; where
// that can be done in place, clients stay.
func TestBuiltIn(t *testing.T) {
	t.Parallel()
	const schema = `CREATE SCHEMA app; CREATE TABLE app.hive (id int); INSERT INTO app.hive VALUES (1);
		CREATE FOREIGN DATA WRAPPER w; CREATE SERVER away FOREIGN DATA WRAPPER w;
		CREATE USER MAPPING FOR PUBLIC SERVER away OPTIONS (a 'b'); CREATE PUBLICATION p;
		ALTER DATABASE honey SET work_mem = '7MB'; GRANT CREATE ON DATABASE honey TO PUBLIC;
		COMMENT ON DATABASE honey IS 'the hives'`
	private, _, _ := beginWith(t, whole, "SELECT 1")
	require.NoError(t, private.exec(t.Context(), "CREATE ROLE reader"))
	for i, s := range []*server{private, existing(t, urlOf(private, "hemzo", ""))} {
		facts := engine.Facts{Format: engine.Format, Database: "apiary", Role: "superuser"}
		copied := makeTemplate(t, s, facts, fmt.Sprintf("0000000000d%d", i), schema)
		o, err := reset.Open(t.Context(), s, copied, time.Second)
		require.NoError(t, err)
		want := dumped(t, private, copied.ID)
		require.Contains(t, want, "the hives")
		all := contents(t, s, copied.ID)
		for _, work := range []struct {
			sql     string
			inPlace bool
		}{
			{"DROP SCHEMA public", true}, {
				"DROP SCHEMA public; CREATE SCHEMA public; CREATE TABLE public.more (id int)", true},
			{"ALTER SCHEMA public RENAME TO gone", true}, {"ALTER SCHEMA public OWNER TO CURRENT_USER", true},
			{"GRANT ALL ON SCHEMA public TO PUBLIC", true}, {"REVOKE ALL ON SCHEMA public FROM PUBLIC", true},
			{"COMMENT ON SCHEMA public IS 'x'", true},
			{"DROP EXTENSION plpgsql", false}, {"COMMENT ON EXTENSION plpgsql IS 'x'", false},
			{"REVOKE EXECUTE ON FUNCTION pg_catalog.now() FROM PUBLIC", false},
			{"GRANT SELECT ON pg_catalog.pg_class TO reader", false},
			{"ALTER USER MAPPING FOR PUBLIC SERVER away OPTIONS (SET a 'c')", false},
			{"ALTER PUBLICATION p ADD TABLES IN SCHEMA app", false},
			{"ALTER TABLE app.hive DISABLE TRIGGER ALL; ALTER TABLE app.hive ENABLE TRIGGER ALL", true},
			{"COMMENT ON TABLE app.hive IS 'x'; COMMENT ON TABLE app.hive IS NULL", true},
			{"ALTER DATABASE %s SET work_mem = '9MB'", true}, {"ALTER DATABASE %s RESET ALL", true},
			{"ALTER ROLE CURRENT_USER IN DATABASE %s SET search_path = app", true},
			{"ALTER ROLE ALL IN DATABASE %s SET search_path = app", true},
			{"ALTER DATABASE %s CONNECTION LIMIT 3", true},
			{"REVOKE ALL ON DATABASE %s FROM PUBLIC", true},
			{"GRANT CONNECT ON DATABASE %s TO reader WITH GRANT OPTION", true},
			{"COMMENT ON DATABASE %s IS 'another'", true}, {"ALTER DATABASE %s OWNER TO reader", true},
			{"ALTER DATABASE %s IS_TEMPLATE true", true},
		} {
			if strings.Contains(work.sql, "TABLES IN SCHEMA") && !atLeast(s.about.Version, 15) {
				continue
			}
			client, err := pgx.Connect(t.Context(), s.Connection(copied.ID, copied.Facts).URL)
			require.NoError(t, err)
			_, err = client.Exec(t.Context(), strings.ReplaceAll(work.sql, "%s", copied.ID),
				pgx.QueryExecModeSimpleProtocol)
			require.NoError(t, err, work.sql)
			d, err := s.Open(t.Context(), copied.ID, engine.Session{Wait: time.Second})
			require.NoError(t, err)
			changes, err := d.Changes(t.Context(), engine.Compare{Start: copied.Facts.Start})
			require.NoError(t, err)
			require.NoError(t, d.Close())
			if differs := dumped(t, private, copied.ID) != want; differs || strings.Contains(work.sql, "MAPPING") {
				assert.NotEmpty(t, changes.Schema, work.sql)
				assert.NotEqual(t, all, contents(t, s, copied.ID), "%s: seen by --verify", work.sql)
			}
			report, err := o.Do(t.Context(), reset.Options{})
			require.NoError(t, err, work.sql)
			assert.Equal(t, work.inPlace, !report.Reconnect, "%d: %s: %s", i, work.sql, report.Why)
			assert.Equal(t, work.inPlace, client.Ping(t.Context()) == nil, work.sql)
			client.Close(t.Context())
			require.Equal(t, want, dumped(t, private, copied.ID), work.sql)
			require.Equal(t, all, contents(t, s, copied.ID), work.sql)
			again, err := o.Do(t.Context(), reset.Options{})
			require.NoError(t, err, work.sql)
			if again.Way != "" { // contents read a page while it was being settled
				again, err = o.Do(t.Context(), reset.Options{})
				require.NoError(t, err, work.sql)
			}
			assert.Equal(t, engine.Way(""), again.Way, "after %s: %s %v", work.sql, again.Why, again.Settings)
		}
		// What was put back in place is known to be, also to another process.
		for i, sql := range []string{"DROP SCHEMA public; CREATE SCHEMA public", "INSERT INTO app.hive VALUES (2)",
			"INSERT INTO app.hive VALUES (3)"} {
			require.NoError(t, try(t, s, copied, sql))
			report, err := o.Do(t.Context(), reset.Options{})
			require.NoError(t, err)
			assert.Equal(t, i == 0, report.Schema, sql)
			require.NoError(t, o.Close())
			copied, err = s.Find(t.Context(), copied.ID)
			require.NoError(t, err)
			o, err = reset.Open(t.Context(), s, copied, time.Second)
			require.NoError(t, err)
		}
		require.NoError(t, o.Close())
	}
}

// TestEndSessions: after it none is there that RENAME or DROP would wait for.
func TestEndSessions(t *testing.T) {
	s, copied, _ := beginWith(t, whole, `CREATE TABLE jar (id int)`)
	for range 5 {
		conn, err := dialTest(t.Context(), s, copied.ID, "")
		require.NoError(t, err)
		defer conn.Close(context.Background())
	}
	require.NoError(t, s.endSessions(t.Context(), copied.ID))
	n, err := s.queryInt(t.Context(), "SELECT numbackends FROM pg_stat_database WHERE datname = $1", copied.ID)
	require.NoError(t, err)
	require.Zero(t, n)
}

// TestPath: functions of the tests' own, under the names of PostgreSQL's, do not run with
// Hemzo's rights, wherever the database has names looked for.
func TestPath(t *testing.T) {
	for _, trust := range []witness.Trust{whole, {}} {
		s, copied, fresh := beginWith(t, trust, `CREATE TABLE hive (id int PRIMARY KEY, label text);
			INSERT INTO hive SELECT g, 'x' FROM generate_series(1, 100) g`)
		want := contents(t, s, fresh.ID)
		conn, err := dialTest(t.Context(), s, copied.ID, s.owner(copied.Facts))
		require.NoError(t, err)
		defer conn.Close(context.Background())
		require.NoError(t, pg.Run(t.Context(), conn, `CREATE SCHEMA evil; DO $do$
			DECLARE f record;
			BEGIN
			FOR f IN SELECT p.oid::regprocedure::text AS header, p.proname, p.prorettype::regtype::text AS gives,
				(SELECT string_agg('$' || i, ',') FROM generate_series(1, p.pronargs) i) AS arguments FROM pg_proc p
				WHERE p.pronamespace = 'pg_catalog'::regnamespace AND p.prokind = 'f' AND NOT p.proretset
				AND p.prorettype <> ALL ('{internal,cstring,trigger,event_trigger,language_handler}'::regtype[])
			LOOP
				BEGIN
				EXECUTE format('CREATE FUNCTION evil.%s RETURNS %s LANGUAGE plpgsql AS $f$BEGIN IF '
					'pg_catalog.current_setting(''is_superuser'') = ''on'' THEN RAISE ''ran as a superuser''; END IF; '
					'RETURN pg_catalog.%I(%s); END$f$', f.header, f.gives, f.proname, coalesce(f.arguments, ''));
				EXCEPTION WHEN OTHERS THEN NULL; -- a type that no function of users' may have
				END;
			END LOOP;
			END$do$`))
		var made int
		require.NoError(t, conn.QueryRow(t.Context(), "SELECT count(*) FROM pg_proc WHERE pronamespace = "+
			"'evil'::regnamespace AND proname IN ('age', 'pg_relation_size', 'pg_current_xact_id')").Scan(&made))
		require.GreaterOrEqual(t, made, 5)
		require.NoError(t, pg.Run(t.Context(), conn, fmt.Sprintf("ALTER DATABASE %s SET search_path = evil, pg_catalog, "+
			"public; DELETE FROM hive WHERE id > 50", pg.Ident(copied.ID))))
		d, err := s.Open(t.Context(), copied.ID, engine.Session{Wait: time.Second})
		require.NoError(t, err)
		_, err = d.Changes(t.Context(), engine.Compare{Start: copied.Facts.Start, Last: copied.Facts.Start})
		require.NoError(t, err)
		_, err = d.Contents(t.Context(), false)
		require.NoError(t, err)
		_, err = d.Reset(t.Context(), engine.Reset{Start: copied.Facts.Start, Last: copied.Facts.Start})
		require.NoError(t, err)
		require.NoError(t, d.Close())
		require.Equal(t, want, contents(t, s, copied.ID))
	}
}

// TestReference: processes that put copies of one template back read its rows from one
// reference, which goes with the template, and to which nobody of the tests can connect.
func TestReference(t *testing.T) {
	s, copied, fresh := beginWith(t, ordinary, `CREATE TABLE hive (id int PRIMARY KEY);
		INSERT INTO hive SELECT generate_series(1, 100)`)
	start := copied.Facts.Start
	references := func() (ids []string) {
		all, err := s.List(t.Context(), engine.Reference)
		require.NoError(t, err)
		for _, e := range all {
			ids = append(ids, e.ID)
		}
		return ids
	}
	want := contents(t, s, fresh.ID)
	var all sync.WaitGroup
	for _, e := range []engine.Entry{copied, fresh} {
		for i := range 2 {
			all.Go(func() {
				for range 5 {
					conn, err := dialTest(t.Context(), s, e.ID, s.owner(e.Facts))
					if !assert.NoError(t, err) {
						return
					}
					_, err = conn.Exec(t.Context(), fmt.Sprintf("DELETE FROM hive WHERE id %% 2 = %d", i))
					assert.NoError(t, err)
					conn.Close(t.Context())
					_, err = reset.Do(t.Context(), s, e, reset.Options{Wait: 10 * time.Second, Way: engine.Truncation})
					assert.NoError(t, err)
				}
			})
		}
	}
	all.Wait()
	require.Equal(t, []string{referenceID(start)}, references())
	require.Equal(t, want, contents(t, s, copied.ID))
	_, err := dialTest(t.Context(), s, referenceID(start), s.owner(copied.Facts))
	assert.ErrorContains(t, err, "permission denied for database")

	// Nor can they where Hemzo's role is no superuser, whom alone no limit holds.
	require.NoError(t, s.exec(t.Context(), "CREATE ROLE maker CREATEDB CREATEROLE LOGIN PASSWORD 'Maker1'"))
	m := existing(t, urlOf(s, "maker", "Maker1"))
	made := makeTemplate(t, m, engine.Facts{Format: engine.Format, Database: "honey"}, "0000000000e5",
		"CREATE TABLE hive (id int)")
	opened, err := m.dialReference(t.Context(), made.Facts.Start)
	require.NoError(t, err)
	require.NoError(t, opened.Close(t.Context()))
	_, err = dialTest(t.Context(), m, referenceID(made.Facts.Start), m.owner(made.Facts))
	assert.ErrorContains(t, err, "permission denied for database")

	// It is of a template that was made anew since: another takes its place.
	e, err := s.Find(t.Context(), start)
	require.NoError(t, err)
	require.NoError(t, s.UpdateFacts(t.Context(), start, func(f *engine.Facts) { f.Made = f.Made.Add(time.Hour) }))
	require.NoError(t, s.Clear(t.Context()))
	assert.NotContains(t, references(), referenceID(start))
	conn, err := s.dialReference(t.Context(), start)
	require.NoError(t, err)
	_, err = conn.Exec(t.Context(), "DELETE FROM public.hive")
	assert.ErrorContains(t, err, "read-only")
	require.NoError(t, s.Drop(t.Context(), e.ID))
	assert.NotContains(t, references(), referenceID(start))
	_, err = conn.Exec(t.Context(), "SELECT 1")
	assert.Error(t, err)
	_, err = s.dialReference(t.Context(), start)
	assert.ErrorIs(t, err, engine.ErrNotFound)
}

// TestDropBesideVacuum: a role that is no superuser drops its databases also while autovacuum
// works there.
func TestDropBesideVacuum(t *testing.T) {
	others, _, _ := beginWith(t, ordinary, "SELECT 1")
	require.NoError(t, others.exec(t.Context(), "CREATE ROLE plain CREATEDB LOGIN PASSWORD 'Plain1'"))
	s := existing(t, urlOf(others, "plain", "Plain1"))
	copied := makeTemplate(t, s, engine.Facts{Format: engine.Format, Database: "honey"}, "0000000000e3",
		"CREATE TABLE hive (id int) WITH (autovacuum_vacuum_cost_delay = 100, autovacuum_vacuum_cost_limit = 1)")
	conn, err := dialTest(t.Context(), s, copied.ID, "plain")
	require.NoError(t, err)
	_, err = conn.Exec(t.Context(), "INSERT INTO hive SELECT generate_series(1, 200000)")
	require.NoError(t, err)
	require.NoError(t, conn.Close(t.Context()))
	require.Eventually(t, func() bool {
		n, err := others.queryInt(t.Context(), "SELECT count(*) FROM pg_stat_activity WHERE datname = $1 AND backend_type = "+
			"'autovacuum worker'", copied.ID)
		return err == nil && n > 0
	}, time.Minute, time.Millisecond)
	require.NoError(t, s.Drop(t.Context(), copied.ID))
	_, err = s.Find(t.Context(), copied.ID)
	require.ErrorIs(t, err, engine.ErrNotFound)
}

package postgres_test

import (
	"fmt"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
	"hemzo/internal/engine/enginetest"
	"hemzo/internal/engine/postgres"
	"hemzo/internal/place"
)

func TestMain(m *testing.M) { enginetest.Main(m, postgres.Engine{}) }

func subject(w place.Wanted, image string) enginetest.Subject {
	return enginetest.Subject{
		Engine: postgres.Engine{}, Wanted: w,
		Spec:  engine.Spec{Database: "honey", Locale: "C", Encoding: "UTF8", Image: image},
		Steps: suiteSteps, Broken: "CREATE TABLE a (x int);\nCREATE TABEL b (x int);", Work: suiteWork,
		Client: func(t *testing.T, c engine.Connection, text string) {
			enginetest.Program(t, text, "psql", "-Xqd", c.URL)
		},
		Hold: func(t *testing.T, c engine.Connection) func() {
			cmd := exec.Command("psql", "-Xqd", c.URL)
			in, err := cmd.StdinPipe()
			require.NoError(t, err)
			require.NoError(t, cmd.Start())
			return func() { _ = in.Close(); _ = cmd.Wait() }
		},
		Dump: func(t *testing.T, c engine.Connection) string {
			dump := []string{"pg_dump", "--create", "--no-security-labels", "-d", c.URL}
			if image != "" { // the server's own program: an older one does not read it
				dump = append([]string{"docker", "run", "--rm", "--network", "host", "--entrypoint", "pg_dump", image},
					dump[1:]...)
			}
			text := enginetest.Program(t, "", dump[0], dump[1:]...)
			return enginetest.SortLines(strings.ReplaceAll(text, c.Database, "COPY"), func(l string) bool {
				return l == "" || strings.HasPrefix(l, `\restrict`) || strings.HasPrefix(l, `\unrestrict`) ||
					strings.Contains(l, `"hemzo.facts"`) || strings.Contains(l, ` '{"format"`) // what Hemzo notes
			})
		},
	}
}

func TestSuiteInMemory(t *testing.T) {
	enginetest.Home(t, postgres.Engine{})
	enginetest.Run(t, subject(place.Wanted{Where: []string{"memory"}}, ""))
}

func TestSuiteInContainers(t *testing.T) {
	enginetest.Containers(t)
	for _, major := range append([]string{"15"}, otherMajors...) {
		t.Run(major, func(t *testing.T) {
			enginetest.Home(t, postgres.Engine{})
			enginetest.Run(t, subject(place.Wanted{Where: []string{"container"}}, "hemzo-test/postgres:"+major))
		})
	}
}

// TestSuiteExisting: the private server is one that is there already, for a
// superuser, a role that may make roles, and one that may make databases alone.
func TestSuiteExisting(t *testing.T) {
	for _, role := range []struct{ name, may string }{
		{"hemzo", ""}, {"maker", "CREATEDB CREATEROLE"}, {"plain", "CREATEDB"}} {
		t.Run(role.name, func(t *testing.T) {
			enginetest.Home(t, postgres.Engine{})
			s, err := place.Open(t.Context(), postgres.Engine{}, place.Wanted{Database: "other", Where: []string{"memory"}})
			require.NoError(t, err)
			defer s.Close()
			password, err := place.Password()
			require.NoError(t, err)
			url := "postgresql://%s:%s@" + s.About().Address + "/postgres"
			if role.may != "" {
				enginetest.Program(t, fmt.Sprintf("CREATE ROLE %s LOGIN %s PASSWORD '%s'", role.name, role.may, password),
					"psql", "-Xqd", fmt.Sprintf(url, "hemzo", password))
			}
			k := subject(place.Wanted{Where: []string{"existing"}, URL: fmt.Sprintf(url, role.name, password)}, "")
			k.Shared = true
			enginetest.Run(t, k)
		})
	}
}

var suiteSteps = []string{`
CREATE TYPE state AS ENUM ('thriving', 'lost');
CREATE TABLE kind (code text PRIMARY KEY, title text);
INSERT INTO kind VALUES ('d', 'Dadant'), ('z', NULL);`, `
CREATE TABLE hive (id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY, kind text REFERENCES kind,
		mother int REFERENCES hive, label text,
  loud text GENERATED ALWAYS AS (upper(label)) STORED, state state DEFAULT 'thriving', notes jsonb);
CREATE TABLE queen (id serial PRIMARY KEY, hive int NOT NULL REFERENCES hive
		ON DELETE CASCADE DEFERRABLE INITIALLY DEFERRED);
ALTER TABLE hive ADD COLUMN queen int REFERENCES queen DEFERRABLE INITIALLY DEFERRED;
CREATE TABLE reading (hive int, at date) PARTITION BY RANGE (at);
CREATE TABLE reading_1 PARTITION OF reading FOR VALUES FROM ('2026-01-01') TO ('2026-07-01');
CREATE TABLE reading_2 PARTITION OF reading FOR VALUES FROM ('2026-07-01') TO ('2027-01-01');
CREATE TABLE parent (x int); CREATE TABLE child (y int) INHERITS (parent);
CREATE UNLOGGED TABLE cache (k text, v text);
CREATE SCHEMA other; CREATE TABLE other.journal (what text);
CREATE MATERIALIZED VIEW loud AS SELECT loud FROM hive;
CREATE SEQUENCE tickets START 100;
CREATE FUNCTION noted() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN INSERT INTO other.journal (what) VALUES (TG_OP); RETURN coalesce(new, old); END $$;
CREATE TRIGGER noted AFTER INSERT OR DELETE ON hive FOR EACH ROW EXECUTE FUNCTION noted();
CREATE RULE keeps AS ON DELETE TO kind DO INSTEAD NOTHING;`, `
INSERT INTO hive (kind, label, notes) VALUES ('d', 'a', '{"brood": 7}'), ('z', 'b', NULL);
INSERT INTO queen (hive) VALUES (1), (2);
UPDATE hive SET queen = id;
INSERT INTO reading VALUES (1, '2026-02-02'), (2, '2026-08-08');
INSERT INTO cache VALUES ('a', 'b');
SELECT nextval('tickets');`}

var suiteWork = []enginetest.Work{
	{Name: "rows", Text: "INSERT INTO hive (kind, label) VALUES ('d', 'c'); UPDATE kind SET title = 'Zander' WHERE " +
		"code = 'z'; DELETE FROM other.journal"},
	{Name: "rolled back", Text: "BEGIN; DELETE FROM queen; SAVEPOINT a; INSERT INTO parent VALUES (1); ROLLBACK TO " +
		"a; ROLLBACK; SELECT nextval('tickets')"},
	{Name: "emptied", Text: "TRUNCATE hive, queen RESTART IDENTITY CASCADE; TRUNCATE kind CASCADE; TRUNCATE cache"},
	{Name: "cascade", Text: "DELETE FROM hive WHERE id = 1; DELETE FROM reading; INSERT INTO child VALUES (1, 2)"},
	{Name: "copied in", Text: "COPY reading FROM stdin;\n3\t2026-03-03\n\\.\nREFRESH MATERIALIZED VIEW loud;"},
	{Name: "sequences", Text: "SELECT setval('tickets', 5, false); ALTER SEQUENCE tickets INCREMENT 3; ALTER TABLE " +
		"hive ALTER id RESTART WITH 900"},
	{Name: "objects", Text: `CREATE TABLE "a;b""c" (x int); CREATE VIEW v AS SELECT 1; CREATE TYPE t AS (x int);
		CREATE FUNCTION f() RETURNS int LANGUAGE sql AS 'SELECT 1'; CREATE SCHEMA mine CREATE TABLE mine.x (y int)`},
	{Name: "altered", Text: "ALTER TABLE hive ADD COLUMN weight int DEFAULT 3; DROP TRIGGER noted ON hive; ALTER " +
		"TYPE state ADD VALUE 'sold'; COMMENT ON TABLE kind IS 'kinds'"},
	{Name: "dropped", Text: "DROP TABLE other.journal CASCADE; DROP SCHEMA other CASCADE; DROP MATERIALIZED VIEW loud"},
	{Name: "rights", Text: "GRANT SELECT ON hive TO PUBLIC; ALTER TABLE hive ENABLE ROW LEVEL SECURITY; REVOKE ALL " +
		"ON queen FROM CURRENT_USER; ALTER DEFAULT PRIVILEGES GRANT SELECT ON TABLES TO PUBLIC"},
	{Name: "a hostile name", Text: `ALTER TABLE parent
		ADD CONSTRAINT "x on y ADD a int;COMMIT;ALTER ROLE CURRENT_USER SUPERUSER;--" CHECK (x > 0)`},
	{Name: "settings", Text: "DO $$ BEGIN EXECUTE format('ALTER DATABASE %I SET work_mem = ''5MB''', " +
		"current_database()); EXECUTE format('COMMENT ON DATABASE %I IS ''mine''', current_database()); END $$"},
	{Name: "public", Text: "CREATE TABLE public.z (a int); GRANT CREATE ON SCHEMA public TO PUBLIC"},
	{Name: "large objects", Text: "SELECT lo_from_bytea(0, 'honey')"},
	{Name: "clustered and vacuumed", Text: "CLUSTER hive USING hive_pkey; VACUUM FULL kind; ANALYZE"},
}

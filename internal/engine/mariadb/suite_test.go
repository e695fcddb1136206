package mariadb_test

import (
	"bytes"
	"context"
	"crypto/rand"
	"database/sql"
	"fmt"
	"io"
	"log"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
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

func TestMain(m *testing.M) { enginetest.Main(m, mariadb.Engine{}, mariadb.Engine{MySQL: true}) }

// steps build a schema that has what real ones have.
var steps = []string{`
CREATE TABLE hive_type (code char(3) PRIMARY KEY, title varchar(40) NOT NULL);
INSERT INTO hive_type VALUES ('LAN', 'Langstroth'), ('WAR', 'Warré');
CREATE TABLE hive (id int unsigned AUTO_INCREMENT PRIMARY KEY, type char(3) NOT NULL, mother int unsigned,
  label varchar(60) CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci, loud varchar(60) AS (UPPER(label)) STORED,
  quiet int AS (id + 1) VIRTUAL, weight float, exact double, flags bit(5), notes longtext CHECK (json_valid(notes)),
  body blob, at timestamp(3) NULL, place point, secret int INVISIBLE DEFAULT 7,
  CONSTRAINT fk_type FOREIGN KEY (type) REFERENCES hive_type (code) ON UPDATE CASCADE ON DELETE CASCADE,
  CONSTRAINT fk_mother FOREIGN KEY (mother) REFERENCES hive (id) ON DELETE SET NULL,
  CHECK (weight < 1e9), KEY (label), FULLTEXT KEY words (label));
INSERT INTO hive (id, type, mother, label, weight, exact, flags, notes, body, at, place, secret) VALUES
  (1, 'LAN', NULL, 'by the linden', 0.1, 0.1, b'10101', '{"a": 1}', x'00ff0a095c27', '2026-05-01 10:00:00.123',
    POINT(1, 2), 1),
  (2, 'WAR', 1, 'tab\tand\nline \\ ''quote''', 16777217, 1e-300, NULL, NULL, '', NULL, NULL, 2);
INSERT INTO hive (id, type, label) VALUES (0 + 9, 'LAN', NULL);`,
	`
CREATE TABLE journal (what varchar(20), n int) ENGINE=Aria;
CREATE TABLE basket (id int AUTO_INCREMENT PRIMARY KEY, what text) ENGINE=MyISAM;
INSERT INTO basket (what) VALUES ('smoker'), ('veil');
CREATE TABLE lately (id int PRIMARY KEY, what varchar(9)) ENGINE=MEMORY;
INSERT INTO lately VALUES (1, 'swarm');
CREATE SEQUENCE ticket START WITH 100 INCREMENT BY 5 CACHE 10;
CREATE TABLE reading (hive int, at date, grams int) PARTITION BY RANGE (YEAR(at))
  (PARTITION p26 VALUES LESS THAN (2027), PARTITION rest VALUES LESS THAN MAXVALUE);
INSERT INTO reading VALUES (1, '2026-05-01', 30000), (1, '2027-05-01', 31000);
CREATE TABLE dues (id int PRIMARY KEY, sum decimal(10,2)) WITH SYSTEM VERSIONING;
INSERT INTO dues VALUES (1, 12.50);
CREATE TABLE loan (id int PRIMARY KEY, n int, since timestamp(6) GENERATED ALWAYS AS ROW START,
  till timestamp(6) GENERATED ALWAYS AS ROW END, PERIOD FOR SYSTEM_TIME (since, till)) WITH SYSTEM VERSIONING;
INSERT INTO loan (id, n) VALUES (1, 1);
UPDATE loan SET n = 2;
CREATE TABLE ` + "`we ird-é`" + ` (` + "`the ``key`" + ` int PRIMARY KEY, v text);
INSERT INTO ` + "`we ird-é`" + ` VALUES (0, 'zero');
CREATE VIEW strong AS SELECT id, label FROM hive WHERE weight > 1;
DELIMITER ;;
CREATE TRIGGER noted AFTER INSERT ON hive FOR EACH ROW BEGIN
  INSERT INTO journal VALUES ('insert', NEW.id); INSERT INTO journal VALUES ('again', NEW.id); END;;
CREATE TRIGGER gone BEFORE DELETE ON hive FOR EACH ROW INSERT INTO journal VALUES ('delete', OLD.id);;
CREATE PROCEDURE harvest(n int) BEGIN DECLARE i int DEFAULT 0; WHILE i < n DO
  INSERT INTO reading VALUES (i, '2026-06-01', i); SET i = i + 1; END WHILE; END;;
DELIMITER ;
CREATE PROCEDURE widen() ALTER TABLE reading ADD COLUMN more int;
CREATE FUNCTION twice(n int) RETURNS int DETERMINISTIC RETURN 2 * n;
`}

var work = []enginetest.Work{
	{Name: "rows", Text: "INSERT INTO hive (type, label) VALUES ('LAN', 'new'); " +
		"UPDATE hive SET label = 'BY THE LINDEN' WHERE id = 1"},
	{Name: "cascades", Text: "DELETE FROM hive_type WHERE code = 'LAN'"},
	{Name: "keys", Text: "UPDATE hive_type SET code = 'NEW' WHERE code = 'WAR'"},
	{Name: "rolled back", Text: "BEGIN; INSERT INTO hive (type, label) VALUES ('LAN', 'x'); " +
		"DELETE FROM reading; ROLLBACK"},
	{Name: "truncated", Text: "SET foreign_key_checks = 0; TRUNCATE hive; TRUNCATE journal; TRUNCATE reading"},
	{Name: "other engines", Text: "DELETE FROM basket WHERE id = 1; INSERT INTO basket (what) VALUES ('a'), ('b'); " +
		"INSERT INTO lately VALUES (2, 'x'); INSERT INTO journal VALUES ('x', 1)"},
	{Name: "a procedure", Text: "CALL harvest(1000)"},
	{Name: "a sequence", Text: "SELECT NEXTVAL(ticket); SELECT NEXTVAL(ticket)"},
	{Name: "a sequence far on", Text: "SELECT SETVAL(ticket, 9000)"},
	{Name: "history", Text: "UPDATE dues SET sum = 1; UPDATE dues SET sum = 12.50"},
	{Name: "history by name", Text: "DELETE FROM loan"},
	{Name: "names", Text: "UPDATE `we ird-é` SET v = 'one'; INSERT INTO `we ird-é` VALUES (7, '')"},
	{Name: "numbers alone", Text: "INSERT IGNORE INTO hive (type, label) VALUES ('nope', 'x'); " +
		"ALTER TABLE basket AUTO_INCREMENT = 50"},
	{Name: "hidden by statistics", Text: "DELETE FROM hive WHERE id = 2; ANALYZE TABLE hive, reading"},
	{Name: "a time that stands still", Text: "SET TIMESTAMP = 1000000000; DELETE FROM hive WHERE id = 9; " +
		"ALTER TABLE hive AUTO_INCREMENT = 900; UPDATE reading SET grams = 1; ALTER TABLE reading FORCE"},
	{Name: "definitions", Text: "ALTER TABLE hive ADD COLUMN x int; DROP VIEW strong; " +
		"CREATE TABLE more (id int); DROP FUNCTION twice"},
	{Name: "definitions by name", Text: "EXECUTE IMMEDIATE 'ALTER TABLE reading ADD KEY (hive)'; " +
		"PREPARE a FROM 'DROP VIEW strong'; EXECUTE a"},
	{Name: "definitions in a procedure", Text: "CALL widen()"},
	{Name: "triggers", Text: "DROP TRIGGER gone; " +
		"CREATE TRIGGER gone BEFORE DELETE ON hive FOR EACH ROW SET @a = 1"},
	{Name: "made and dropped", Text: "CREATE TABLE more (id int); INSERT INTO more VALUES (1); " +
		"DROP TABLE more; DELETE FROM journal"},
}

// program runs a program of the server's, with the copy's variables.
func program(t testing.TB, c engine.Connection, text string, tool []string,
	args ...string) string {
	t.Helper()
	args = append(append(tool[1:], "--no-defaults", "--protocol=tcp", "-h"+c.Host, "-P"+c.Port, "-u"+c.User), args...)
	limited, stop := context.WithTimeout(t.Context(), time.Minute) // a lock that is left holds it for ever
	defer stop()
	cmd := exec.CommandContext(limited, tool[0], args...)
	cmd.Env = append(os.Environ(), "MYSQL_PWD="+c.Password)
	cmd.Stdin = strings.NewReader(text)
	var out, problems bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &problems
	err := cmd.Run()
	if limited.Err() != nil {
		problems.WriteString(whoIsThere(c))
	}
	require.NoError(t, err, "%s: %s", text, problems.String())
	return out.String()
}

// whoIsThere lists the sessions that a copy's account sees.
func whoIsThere(c engine.Connection) string {
	cmd := exec.Command("mariadb", "--no-defaults", "--protocol=tcp", "-h"+c.Host, "-P"+c.Port, "-u"+c.User, "-e",
		"SHOW FULL PROCESSLIST")
	cmd.Env = append(os.Environ(), "MYSQL_PWD="+c.Password)
	out, _ := cmd.CombinedOutput()
	return string(out)
}

var ofThisRun = regexp.MustCompile(`(?m)^-- (Dump completed|Host:|MariaDB dump|MySQL dump).*$`)

// kind is a server that the suite runs on.
type kind struct {
	engine mariadb.Engine
	image  string // with the server's own programs; "" for this machine's
	box    string // a container in which they run
	sets   []engine.Setting
	undone bool // all tables are of an engine that knows transactions
}

// withTools starts a container with the server's own programs, where they are not this
// machine's.
func (k kind) withTools(t testing.TB) kind {
	if k.image == "" || !k.engine.MySQL { // the others are read by those of this machine
		return k
	}
	k.box = "hemzo-test-tools-" + rand.Text()[:8]
	out, err := exec.Command("docker", "run", "-d", "--rm", "--network", "host", "--name", k.box, "--entrypoint", "sleep",
		k.image, "1000").CombinedOutput()
	require.NoError(t, err, string(out))
	t.Cleanup(func() { _ = exec.Command("docker", "rm", "-f", "-v", k.box).Run() })
	return k
}

// tool is a program of the server's own, where the suite runs it.
func (k kind) tool(name string) []string {
	if !k.engine.MySQL { // those of one version read the others
		return []string{name}
	}
	old := map[string]string{"mariadb": "mysql", "mariadb-dump": "mysqldump"}[name]
	if k.image == "" {
		return []string{old}
	}
	return []string{"docker", "exec", "-i", "-e", "MYSQL_PWD", k.box, old}
}

// dump is what the server's own program prints, and what it leaves out.
func (k kind) dump(t *testing.T, c engine.Connection) string {
	args := []string{"--routines", "--events", "--skip-extended-insert", "--hex-blob", "--order-by-primary"}
	more := "SELECT *, secret, exact FROM hive; SELECT id FROM hive WHERE MATCH (label) AGAINST ('linden'); "
	if k.engine.MySQL {
		args = append(args, "--no-tablespaces", "--set-gtid-purged=OFF", "--column-statistics=0")
	} else {
		more += "SELECT * FROM ticket; "
	}
	if k.versioned() {
		more += "SELECT *, ROW_START, ROW_END FROM dues FOR SYSTEM_TIME ALL; SELECT * FROM loan FOR SYSTEM_TIME ALL"
	}
	text := program(t, c, "", k.tool("mariadb-dump"), append(args, c.Database)...)
	counters := program(t, c, "SET @@session.sql_mode = ''; "+k.unexpired()+"SELECT TABLE_NAME, AUTO_INCREMENT FROM "+
		"information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND AUTO_INCREMENT IS NOT NULL ORDER BY 1; "+more,
		k.tool("mariadb"), c.Database)
	text = ofThisRun.ReplaceAllString(text, "") + counters
	if strings.HasPrefix(c.Database, "hemzo_c_") {
		text = strings.ReplaceAll(text, c.Database, "COPY")
	}
	return text
}

func (k kind) unexpired() string {
	if k.engine.MySQL {
		return "SET information_schema_stats_expiry = 0; "
	}
	return ""
}

// versioned reports whether the suite's schema has a table with a history.
func (k kind) versioned() bool { return !k.engine.MySQL && !strings.HasSuffix(k.image, ":10.5") }

// schema leaves out of a text what the server has not got.
func (k kind) schema(text string) string {
	if !k.versioned() {
		text = strings.ReplaceAll(text, " WITH SYSTEM VERSIONING", "")
		text = regexp.MustCompile(`,\s+since timestamp[^;]*SYSTEM_TIME \(since, till\)`).ReplaceAllString(text, "")
	}
	if k.undone {
		text = regexp.MustCompile(`ENGINE=\w+`).ReplaceAllString(text, "ENGINE=InnoDB")
	}
	if k.engine.MySQL {
		text = regexp.MustCompile(`(?m)^CREATE SEQUENCE.*$`).ReplaceAllString(text, "")
		text = strings.NewReplacer(" ENGINE=Aria", " ENGINE=MyISAM", "quiet int AS (id + 1)", "quiet int AS (mother + 1)").
			Replace(text)
	}
	return text
}

// works are what tests do on a server.
func (k kind) works() (all []enginetest.Work) {
	for _, w := range work {
		if k.engine.MySQL && (strings.Contains(w.Text, "ticket") || strings.Contains(w.Text, "IMMEDIATE")) {
			continue
		}
		all = append(all, w)
	}
	return all
}

func (k kind) subject(w place.Wanted) enginetest.Subject {
	s := enginetest.Subject{
		Engine: k.engine, Spec: engine.Spec{Database: "honey", Settings: k.sets}, Wanted: w,
		Broken: "SELECT 1;\nSELEC 2;", Work: k.works(),
		Client: func(t *testing.T, c engine.Connection, text string) {
			program(t, c, text, k.tool("mariadb"), "-f", c.Database)
		},
		Hold:    func(t *testing.T, c engine.Connection) func() { return hold(t, c) },
		Commits: true,
		Dump:    k.dump,
	}
	if w.Where[0] == "container" {
		s.Spec.Image = k.image
	}
	for _, text := range steps {
		s.Steps = append(s.Steps, k.schema(text))
	}
	return s
}

// hold has a client of a copy stay connected.
func hold(t *testing.T, c engine.Connection) (release func()) {
	t.Helper()
	config := mysql.NewConfig()
	config.User, config.Passwd, config.Net, config.DBName = c.User, c.Password, "tcp", c.Database
	config.Addr = net.JoinHostPort(c.Host, c.Port)
	config.Logger = log.New(io.Discard, "", 0)
	connector, err := mysql.NewConnector(config)
	require.NoError(t, err)
	db := sql.OpenDB(connector)
	require.NoError(t, db.Ping())
	return func() { _ = db.Close() }
}

// here is the server whose programs are on this machine.
func here() kind {
	return kind{engine: mariadb.Engine{MySQL: strings.Contains(os.Getenv(enginetest.Inside), "mysql")}}
}

// TestSuite: what every engine has to do, in memory.
func TestSuite(t *testing.T) {
	k := here()
	enginetest.Home(t, k.engine)
	enginetest.Run(t, k.subject(place.Wanted{Where: []string{"memory"}}))
}

// kinds are the servers in images.
var kinds = []kind{{image: "hemzo-test/mariadb:10.5"}, {image: "hemzo-test/mariadb:10.11"},
	{image: "hemzo-test/mariadb:11.8"}, {engine: mariadb.Engine{MySQL: true}, image: "hemzo-test/mysql:9"}}

// TestSuiteInContainers: one server holds all.
func TestSuiteInContainers(t *testing.T) {
	enginetest.Containers(t)
	for _, k := range kinds {
		t.Run(strings.TrimPrefix(k.image, "hemzo-test/"), func(t *testing.T) {
			enginetest.Home(t, k.engine)
			enginetest.Run(t, k.withTools(t).subject(place.Wanted{Where: []string{"container"}}))
		})
	}
}

// TestSuiteExisting: the server of a container is one that is there already, for an account
// that may do anything, and one that may make databases of Hemzo's names alone.
func TestSuiteExisting(t *testing.T) {
	enginetest.Containers(t)
	for _, k := range []kind{kinds[1], kinds[3]} {
		for _, account := range []string{"root", "plain"} {
			t.Run(k.engine.Name()+" "+account, func(t *testing.T) {
				enginetest.Home(t, k.engine)
				k := k.withTools(t)
				url := k.there(t, account)
				subject := k.subject(place.Wanted{Where: []string{"existing"}, URL: url})
				subject.Shared = true
				enginetest.Run(t, subject)
			})
		}
	}
}

// there is the URL of a server that is there already: that of a container, for an account.
func (k kind) there(t testing.TB, account string) string {
	w := place.Wanted{Database: "other", Where: []string{"container"}, Spec: engine.Spec{Image: k.image},
		Ready: time.Minute}
	s, err := place.Open(t.Context(), k.engine, w)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, s.Close()) })
	password, err := place.Password()
	require.NoError(t, err)
	host, port, err := net.SplitHostPort(s.About().Address)
	require.NoError(t, err)
	root := engine.Connection{Host: host, Port: port, User: "root", Password: password, Database: "mysql"}
	program(t, root, "CREATE USER plain IDENTIFIED BY '"+password+"'; GRANT ALL ON `hemzo\\_%`.* TO plain",
		k.tool("mariadb"))
	return fmt.Sprintf("%s://%s:%s@%s/", k.engine.Name(), account, password, s.About().Address)
}

// TestOtherVersions runs the tests of servers in memory on other versions.
func TestOtherVersions(t *testing.T) {
	enginetest.InImages(t, []string{"hemzo-test/mariadb:10.5", "hemzo-test/mariadb:11.8", "hemzo-test/mysql:9"},
		func(string) []string { return []string{"-test.run", "TestSuite$|TestRandomWork$"} })
}

// TestSuiteUntrusted: where the witness has failed its test on a build rows are read, and all
// is as exact.
func TestSuiteUntrusted(t *testing.T) {
	enginetest.Home(t, mariadb.Engine{})
	w := place.Wanted{Where: []string{"memory"}, Database: "honey", Spec: engine.Spec{Database: "honey"}}
	s, err := place.Open(t.Context(), mariadb.Engine{}, w)
	require.NoError(t, err)
	id := engine.NewID(engine.Copy)
	require.NoError(t, s.Create(t.Context(), id, w.Spec, engine.Facts{Format: engine.Format}))
	require.NoError(t, s.Drop(t.Context(), id))
	require.NoError(t, s.Close())
	files, err := filepath.Glob(filepath.Join(os.Getenv("XDG_CACHE_HOME"), "hemzo", "*", "*", "tested-*.json"))
	require.NoError(t, err)
	if len(files) == 0 {
		files, _ = filepath.Glob(filepath.Join(os.Getenv("XDG_CACHE_HOME"), "hemzo", "*", "tested-*.json"))
	}
	require.NotEmpty(t, files)
	for _, f := range files {
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(f, bytes.Replace(b, []byte(`"problem":""`), []byte(`"problem":"x"`), 1), 0o600))
	}
	subject := kind{}.subject(w)
	subject.Rewrites = true // what has no key lies in a file, and there is no sum of it
	enginetest.Run(t, subject)
}

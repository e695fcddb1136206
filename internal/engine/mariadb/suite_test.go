package mariadb_test

import (
	"bytes"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
	"hemzo/internal/engine/enginetest"
	"hemzo/internal/engine/mariadb"
	"hemzo/internal/place"
)

func TestMain(m *testing.M) { enginetest.Main(m, mariadb.Engine{}) }

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
	{Name: "names", Text: "UPDATE `we ird-é` SET v = 'one'; INSERT INTO `we ird-é` VALUES (7, '')"},
	{Name: "numbers alone", Text: "INSERT IGNORE INTO hive (type, label) VALUES ('nope', 'x'); " +
		"ALTER TABLE basket AUTO_INCREMENT = 50"},
	{Name: "hidden by statistics", Text: "DELETE FROM hive WHERE id = 2; ANALYZE TABLE hive, reading"},
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
func program(t *testing.T, c engine.Connection, text, name string, args ...string) string {
	t.Helper()
	args = append([]string{"--no-defaults", "--protocol=tcp", "-h" + c.Host, "-P" + c.Port, "-u" + c.User}, args...)
	cmd := exec.Command(name, args...)
	cmd.Env = append(os.Environ(), "MYSQL_PWD="+c.Password)
	cmd.Stdin = strings.NewReader(text)
	var out, problems bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &problems
	require.NoError(t, cmd.Run(), "%s: %s", text, problems.String())
	return out.String()
}

var ofThisRun = regexp.MustCompile(`(?m)^-- (Dump completed|Host:|MariaDB dump).*$`)

// dump is what the server's own program prints, and what it leaves out.
func dump(t *testing.T, c engine.Connection) string {
	text := program(t, c, "", "mariadb-dump", "--routines", "--events", "--skip-extended-insert", "--hex-blob",
		"--order-by-primary", c.Database)
	counters := program(t, c, "SELECT TABLE_NAME, AUTO_INCREMENT FROM information_schema.TABLES WHERE TABLE_SCHEMA = "+
		"DATABASE() AND AUTO_INCREMENT IS NOT NULL ORDER BY 1; SELECT * FROM ticket; SELECT *, secret, exact FROM hive; "+
		"SELECT id FROM hive WHERE MATCH (label) AGAINST ('linden'); "+
		"SELECT *, ROW_START, ROW_END FROM dues FOR SYSTEM_TIME ALL",
		"mariadb", c.Database)
	return ofThisRun.ReplaceAllString(text, "") + counters
}

func subject() enginetest.Subject {
	return enginetest.Subject{
		Engine: mariadb.Engine{}, Spec: engine.Spec{Database: "honey"}, Wanted: place.Wanted{Where: []string{"memory"}},
		Steps: steps, Broken: "SELECT 1;\nSELEC 2;", Work: work,
		Client: func(t *testing.T, c engine.Connection, text string) { program(t, c, text, "mariadb", "-f", c.Database) },
		Dump:   dump,
	}
}

// TestSuite: what every engine has to do.
func TestSuite(t *testing.T) {
	enginetest.Home(t, mariadb.Engine{})
	enginetest.Run(t, subject())
}

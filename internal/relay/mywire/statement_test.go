package mywire

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"hemzo/internal/sqltext"
)

var dialect = sqltext.Dialect{Backtick: true, Backslashes: true, HashComments: true, Conditional: true, Programs: true,
	Modes: true}

// TestRead: what a statement does to transactions and to the session.
func TestRead(t *testing.T) {
	for want, texts := range map[order][]string{
		begin:     {"BEGIN", "begin work", "START TRANSACTION READ ONLY", "/* a */ BEGIN", "/*!40100 BEGIN */"},
		commit:    {"COMMIT", "commit AND CHAIN", "COMMIT RELEASE"},
		rollback:  {"ROLLBACK", "ROLLBACK WORK AND NO CHAIN"},
		savepoint: {"SAVEPOINT a"},
		toSave:    {"ROLLBACK TO a", "ROLLBACK WORK TO SAVEPOINT a", "RELEASE SAVEPOINT a"},
		commits: {"CREATE TABLE a (i int)", "TRUNCATE a", "LOCK TABLES a READ", "ALTER TABLE a FORCE", "DROP TABLE a",
			"ANALYZE TABLE a", "START SLAVE", "SET PASSWORD = 'x'", "LOAD INDEX INTO CACHE a",
			"CREATE OR REPLACE TABLE a (i int)"},
		temporary: {"CREATE TEMPORARY TABLE a (i int)", "CREATE OR REPLACE TEMPORARY TABLE a (i int)"},
		quiet: {"SHOW TABLES", "SELECT 1", "SELECT @@version", "SELECT DATABASE(), 'FRO M'", "", "DROP TEMPORARY TABLE a",
			"DO 1",
			"XA RECOVER"},
		set:    {"SET a = 1", "SET NAMES utf8", "/*!40101 SET @old = @@sql_mode */"},
		next:   {"SET TRANSACTION READ ONLY"},
		use:    {"USE a"},
		kill:   {"KILL QUERY 7"},
		branch: {"XA START 'a'"},
		load:   {"LOAD DATA LOCAL INFILE 'a' INTO TABLE b"},
		writes: {"INSERT INTO a VALUES (1)", "DELETE FROM a", "LOAD DATA INFILE 'a' INTO TABLE b"},
		unlock: {"UNLOCK TABLES"},
		plain: {"SELECT * FROM a", "SELECT f()", "CALL a()", "BEGIN NOT ATOMIC SELECT 1", "ANALYZE SELECT 1", "(SELECT 1)",
			"WITH a AS (SELECT 1) SELECT * FROM a", "EXECUTE a", "SELECT 1 INTO @a", "DO f()",
			"SELECT NEXT VALUE FOR a", "SELECT GET_LOCK('a', 0)",
			"SET STATEMENT a = 1 FOR SELECT 1"},
	} {
		for _, text := range texts {
			assert.Equal(t, want, read(dialect, text).order, text)
		}
	}
	assert.True(t, read(dialect, "ROLLBACK WORK AND CHAIN").chain)
	assert.False(t, read(dialect, "COMMIT AND NO CHAIN").chain)
	assert.True(t, read(dialect, "COMMIT AND NO CHAIN RELEASE").release)
	assert.True(t, read(dialect, "START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY").reads)
	for text, want := range map[string]string{
		"CREATE TEMPORARY TABLE IF NOT EXISTS `a b` (i int)": "`a b`", "create temporary table x.y as select 1": "x.y",
	} {
		assert.Equal(t, want, read(dialect, text).table())
	}
	id, connection, ok := (&statement{words: []string{"KILL", "HARD", "QUERY", "7"}}).killed()
	assert.Equal(t, []any{uint32(7), false, true}, []any{id, connection, ok})
}

// TestVariables: which variables a text sets or names, and what is set in the place of those
// that the relay keeps.
func TestVariables(t *testing.T) {
	for text, want := range map[string][]string{
		"SET a = 1, SESSION b = (SELECT c, d FROM e), @@session.f := 2":  {"a", "b", "f"},
		"SET @x = 1, @@g = 2, GLOBAL h = 3, @@global.i = 4":              {"g"},
		"SET NAMES utf8mb4 COLLATE x":                                    names,
		"SET CHARACTER SET latin1":                                       names,
		"SET @OLD_SQL_MODE=@@SQL_MODE, SQL_MODE='NO_AUTO_VALUE_ON_ZERO'": {"sql_mode"},
	} {
		s := read(dialect, text)
		assert.Equal(t, want, s.setVariables(), text)
	}
	for text, want := range map[string][]string{
		"SELECT @a, @`b c`, @'d', @@e, 'f@g.org', @h.i": {"@A", "@`b c`", "@'d'", "@H.I"},
		"SELECT 'someone@apiary.org'":                   nil,
		"/*!40101 SET @x = @@y */":                      {"@X"},
		"CREATE USER a@b":                               nil,
	} {
		assert.Equal(t, want, userVariables(dialect, text), text)
	}
	for text, want := range map[string]string{
		"SET autocommit=0, a = 1":                "SET @hemzo__autocommit = 0, a = 1",
		"SET @@session.autocommit := ON":         "SET @hemzo__autocommit := 1",
		"SET SESSION wait_timeout = 5, b = 2":    "SET @hemzo__unset = 5, b = 2",
		"SET LOCAL autocommit = @old_autocommit": "SET @hemzo__autocommit = @old_autocommit",
	} {
		assert.Equal(t, want, withoutKept(text))
	}
	on, ok := autocommitOf("set @@autocommit = OFF;")
	assert.Equal(t, []bool{false, true}, []bool{on, ok})
	_, ok = autocommitOf("SET autocommit = 1, a = 2")
	assert.False(t, ok)
}

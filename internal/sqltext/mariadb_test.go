package sqltext

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

var mariadb = Dialect{Backtick: true, Backslashes: true, HashComments: true, Conditional: true, Delimiters: true,
	Programs: true, Modes: true}

// TestMariaDB: where statements end in MariaDB's and MySQL's SQL.
func TestMariaDB(t *testing.T) {
	split := func(text string) (all []string) {
		var whole strings.Builder
		for _, p := range Split(mariadb, text) {
			whole.WriteString(text[p.Start:p.End])
			if p.Statement {
				all = append(all, text[p.Start:p.End])
			}
		}
		assert.Equal(t, text, whole.String(), "the pieces are the text")
		return all
	}
	for text, want := range map[string][]string{
		`SELECT 'a\'; b'; SELECT "c\"; d"`:                     {`SELECT 'a\'; b'`, `SELECT "c\"; d"`},
		"SELECT `a``;b` # ; c\n; SELECT 1":                     {"SELECT `a``;b`", "SELECT 1"},
		"SELECT 1 -- ; x\n, 5--6; SELECT 2":                    {"SELECT 1 -- ; x\n, 5--6", "SELECT 2"},
		"/*!40101 SET a = ';*/' */; /* ; */ SELECT 1":          {"/*!40101 SET a = ';*/' */", "SELECT 1"},
		"/*M!999999\\- enable the sandbox mode */ \nSELECT 1;": {"/*M!999999\\- enable the sandbox mode */ \nSELECT 1"},
		"DELIMITER ;;\nCREATE TRIGGER a BEGIN x; y; END;;\nSELECT 1;;\ndelimiter ;\nSELECT 2;": {
			"CREATE TRIGGER a BEGIN x; y; END", "SELECT 1", "SELECT 2"},
		"DELIMITER $$\nSELECT 1$$\nSELECT '$$'$$ SELECT 2": {"SELECT 1", "SELECT '$$'", "SELECT 2"},
		"CREATE PROCEDURE p() BEGIN IF a THEN SELECT 1; END IF; CASE b WHEN 1 THEN SELECT 2; END CASE; " +
			"WHILE c DO SELECT CASE d WHEN 1 THEN 2 END; END WHILE; END; SELECT 3": {
			"CREATE PROCEDURE p() BEGIN IF a THEN SELECT 1; END IF; CASE b WHEN 1 THEN SELECT 2; END CASE; " +
				"WHILE c DO SELECT CASE d WHEN 1 THEN 2 END; END WHILE; END", "SELECT 3"},
		"CREATE TABLE a (begin int); BEGIN; COMMIT":           {"CREATE TABLE a (begin int)", "BEGIN", "COMMIT"},
		`SET sql_mode = 'ANSI_QUOTES'; SELECT "a\"; SELECT 1`: {`SET sql_mode = 'ANSI_QUOTES'`, `SELECT "a\"`, "SELECT 1"},
		`SET NAMES utf8, SESSION sql_mode='NO_BACKSLASH_ESCAPES'; SELECT '\'; SET @@sql_mode=DEFAULT; SELECT '\';'`: {
			`SET NAMES utf8, SESSION sql_mode='NO_BACKSLASH_ESCAPES'`, `SELECT '\'`, "SET @@sql_mode=DEFAULT", `SELECT '\';'`},
		`/*!40101 SET @OLD=@@SQL_MODE, SQL_MODE='ANSI' */; SELECT "\"; /*!40101 SET SQL_MODE=@OLD */; SELECT "\";"`: {
			`/*!40101 SET @OLD=@@SQL_MODE, SQL_MODE='ANSI' */`, `SELECT "\"`, "/*!40101 SET SQL_MODE=@OLD */", `SELECT "\";"`},
		"DELIMITER //": nil, "DELIMITER": {"DELIMITER"},
	} {
		assert.Equal(t, want, split(text), text)
	}
	for _, open := range []string{`SELECT 'a\'`, "SELECT `a", "SELECT 1 /*! a", "SELECT 1 /* a"} {
		all := Split(mariadb, open)
		assert.NotEmpty(t, all[len(all)-1].Open, open)
	}
}

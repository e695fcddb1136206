package sqlite_test

import (
	"os/exec"
	"strings"
	"testing"

	"hemzo/internal/engine"
	"hemzo/internal/engine/enginetest"
	"hemzo/internal/engine/sqlite"
	"hemzo/internal/place"
)

func TestMain(m *testing.M) { enginetest.Main(m, sqlite.Engine{}) }

func TestSuite(t *testing.T) {
	enginetest.Home(t, sqlite.Engine{})
	enginetest.Run(t, enginetest.Subject{
		Engine: sqlite.Engine{}, Spec: engine.Spec{Locale: "C", Encoding: "UTF-8"},
		Wanted: place.Wanted{Where: []string{"memory"}},
		Steps:  suiteSteps, Broken: "CREATE TABLE a (x);\nCREATE TABEL b (x);", Work: suiteWork,
		Client: func(t *testing.T, c engine.Connection, text string) {
			cmd := exec.Command("sqlite3", c.File) // what fails is a test's own affair
			cmd.Stdin = strings.NewReader(text)
			_ = cmd.Run()
		},
		Dump: func(t *testing.T, c engine.Connection) string {
			const ask = ".dump\nPRAGMA user_version; PRAGMA application_id; PRAGMA auto_vacuum;"
			return enginetest.SortLines(enginetest.Program(t, ask, "sqlite3", c.File),
				func(string) bool { return false })
		},
	})
}

var suiteSteps = []string{`
CREATE TABLE kind (code TEXT PRIMARY KEY, title TEXT) WITHOUT ROWID;
INSERT INTO kind VALUES ('d', 'Dadant'), ('z', NULL);`, `
CREATE TABLE hive (id INTEGER PRIMARY KEY AUTOINCREMENT, kind TEXT REFERENCES kind, label TEXT,
		loud TEXT AS (upper(label)) STORED);
CREATE TABLE journal (what TEXT, "odd 'name""" BLOB);
CREATE TRIGGER noted AFTER INSERT ON hive BEGIN INSERT INTO journal VALUES ('hive', x'00ff'); END;
CREATE VIEW louder AS SELECT loud FROM hive;
CREATE INDEX by_label ON hive (label);
CREATE VIRTUAL TABLE notes USING fts5(text);
INSERT INTO notes VALUES ('the queen is marked');
INSERT INTO hive (kind, label) VALUES ('d', 'a'), ('z', 'b');`}

var suiteWork = []enginetest.Work{
	{Name: "rows", Text: "INSERT INTO hive (kind, label) VALUES ('d', 'c'); UPDATE kind SET title = 'Zander' WHERE " +
		"code = 'z'; DELETE FROM journal;"},
	{Name: "rolled back", Text: "BEGIN; DELETE FROM hive; ROLLBACK;"},
	{Name: "emptied", Text: "DELETE FROM hive; DELETE FROM kind; DELETE FROM sqlite_sequence;"},
	{Name: "search", Text: "INSERT INTO notes VALUES ('brood'); DELETE FROM notes WHERE text MATCH 'queen';"},
	{Name: "objects", Text: `CREATE TABLE "a;b""c" (x); DROP VIEW louder; ALTER TABLE journal ADD COLUMN at TEXT;
		DROP TRIGGER noted;`},
	{Name: "dropped", Text: "DROP TABLE journal; DROP TABLE notes;"},
	{Name: "header", Text: "PRAGMA user_version = 7; PRAGMA application_id = 99;"},
	{Name: "vacuum", Text: "DELETE FROM journal; VACUUM;"},
	{Name: "journal mode", Text: "PRAGMA journal_mode = wal; INSERT INTO journal VALUES ('x', NULL);"},
}

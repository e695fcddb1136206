package sqlite

import (
	"strings"

	"hemzo/internal/engine"
)

// imitation is what tests do, in this language.
func imitation() *engine.Trial {
	return &engine.Trial{
		Nothing: "SELECT 1",
		Tables: `SELECT '"' || replace(name, '"', '""') || '"', NULL FROM sqlite_schema WHERE type = 'table' AND
			name NOT LIKE 'sqlite!_%' ESCAPE '!' ORDER BY 1`,
		Few: func(table string) string {
			return "DELETE FROM " + table + " WHERE rowid = (SELECT min(rowid) FROM " + table + ")"
		},
		Many:   func(table string) string { return "DELETE FROM " + table },
		Schema: "CREATE TABLE hemzo_trial (id int)",
		Empty: func(tables []string) string {
			return "PRAGMA foreign_keys = OFF; BEGIN; DELETE FROM " + strings.Join(tables, "; DELETE FROM ") + "; COMMIT"
		},
	}
}

package mariadb

import (
	"strings"

	"hemzo/internal/engine"
)

// imitation is what tests do, in this language.
func imitation() *engine.Trial {
	return &engine.Trial{
		Nothing: "SELECT 1",
		Tables: "SELECT CONCAT('`', REPLACE(TABLE_NAME, '`', '``'), '`'), IFNULL(TABLE_ROWS, 0) FROM " +
			"information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_TYPE = 'BASE TABLE' ORDER BY 2 DESC, 1",
		Few:    func(table string) string { return "DELETE FROM " + table + " LIMIT 1" },
		Many:   func(table string) string { return "DELETE FROM " + table },
		Schema: "CREATE TABLE hemzo_trial (id int)",
		Empty: func(tables []string) string {
			return "SET foreign_key_checks = 0; TRUNCATE " + strings.Join(tables, "; TRUNCATE ") +
				"; SET foreign_key_checks = 1"
		},
	}
}

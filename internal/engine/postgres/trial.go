package postgres

import (
	"strings"

	"hemzo/internal/engine"
)

// imitation is what tests do, in this language.
func imitation() *engine.Trial {
	return &engine.Trial{
		Nothing: "SELECT 1",
		Tables: `SELECT format('%I.%I', n.nspname, c.relname), greatest(c.reltuples, 0)::bigint FROM pg_class c
			JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind = 'r' AND n.nspname NOT IN ('pg_catalog',
			'information_schema') AND n.nspname NOT LIKE 'pg_%' AND NOT EXISTS (SELECT FROM pg_depend d WHERE
			d.classid = 'pg_class'::regclass AND d.objid = c.oid AND d.deptype = 'e') ORDER BY 2 DESC, 1`,
		Few: func(table string) string {
			return "DELETE FROM " + table + " WHERE ctid IN (SELECT ctid FROM " + table + " LIMIT 1)"
		},
		Many:   func(table string) string { return "DELETE FROM " + table },
		Schema: "CREATE TABLE hemzo_trial (id int)",
		Empty: func(tables []string) string {
			return "TRUNCATE " + strings.Join(tables, ", ") + " RESTART IDENTITY CASCADE"
		},
	}
}

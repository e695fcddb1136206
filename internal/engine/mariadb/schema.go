package mariadb

import (
	"context"
	"database/sql"
	"fmt"
	"hash/crc32"
	"slices"
	"strings"
)

// table is a table as a start state has it.
type table struct {
	Name    string   `json:"name"`
	Engine  string   `json:"engine"` // "InnoDB", "Aria", "MEMORY", ...
	Kind    string   `json:"kind"`   // "BASE TABLE", "SEQUENCE", "SYSTEM VERSIONED"
	Columns []column `json:"columns"`
	Key     []string `json:"key,omitempty"` // the columns of the primary key
	Base    string   `json:"base"`          // its name in InnoDB
	IDs     string   `json:"ids"`           // InnoDB's numbers of it and of its partitions
	Next    string   `json:"next"`          // AUTO_INCREMENT; "" where it has none
	Rows    int64    `json:"rows"`
	File    int      `json:"file,omitempty"`     // of its rows, 0 where it has none; on a shared server its number
	Counter []string `json:"counter,omitempty"`  // the row of a sequence
	Trigger []string `json:"triggers,omitempty"` // the names of its triggers
	Words   bool     `json:"words,omitempty"`    // it has a fulltext index
	History string   `json:"history,omitempty"`  // the sum of one with a history
	Period  []string `json:"period,omitempty"`   // the columns with the times of its history, where they are named
	Leads   []string `json:"leads,omitempty"`    // to which tables its foreign keys lead
	// Uncounted: the server tells nothing of what it counts for the table, as MySQL does not
	// of those with partitions.
	Uncounted bool `json:"uncounted,omitempty"`
}

// column is a column of a table.
type column struct {
	Name      string `json:"name"`
	Type      string `json:"type"`
	Generated bool   `json:"generated,omitempty"`
}

// object is something of a schema that has a definition.
type object struct {
	Kind string `json:"kind"`
	Name string `json:"name"`
	Sum  string `json:"sum"`
}

func quote(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

func quoteAll(names []string) string {
	quoted := make([]string, len(names))
	for i, n := range names {
		quoted[i] = quote(n)
	}
	return strings.Join(quoted, ", ")
}

// text is a string constant; with backslashes it is the same in every mode but
// NO_BACKSLASH_ESCAPES, which Hemzo's sessions have not got.
func text(s string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`, "\n", `\n`, "\x00", `\0`).Replace(s) + "'"
}

// stored are the columns that have values of their own.
func (t *table) stored() (names []string) {
	for _, c := range t.Columns {
		if !c.Generated {
			names = append(names, c.Name)
		}
	}
	return names
}

// period are the columns with the times of a row's history, as statements name them.
func (t *table) period() []string {
	if len(t.Period) == 0 {
		return []string{"ROW_START", "ROW_END"}
	}
	names := make([]string, len(t.Period))
	for i, n := range t.Period {
		names[i] = quote(n)
	}
	return names
}

// transacted reports whether the table's changes are counted, and those that are rolled back
// too.
func (t *table) transacted() bool {
	return t.Engine == "InnoDB" && t.Kind != "SEQUENCE" && !t.Uncounted
}

// tables reads the tables of a schema, in order of their names.
func tables(ctx context.Context, c *conn, schema string) ([]*table, error) {
	rows, err := c.rows(ctx, "SELECT TABLE_NAME, ENGINE, TABLE_TYPE, AUTO_INCREMENT FROM information_schema.TABLES "+
		"WHERE TABLE_SCHEMA = ? AND TABLE_TYPE <> 'VIEW' ORDER BY BINARY TABLE_NAME", schema)
	if err != nil {
		return nil, fmt.Errorf("reading the tables: %w", err)
	}
	var all []*table
	byName := map[string]*table{}
	for _, r := range rows {
		t := &table{Name: r[0], Engine: r[1], Kind: r[2], Next: r[3]}
		all, byName[r[0]] = append(all, t), t
	}
	rows, err = c.rows(ctx, "SELECT TABLE_NAME, COLUMN_NAME, DATA_TYPE, "+c.generated()+", COLUMN_KEY = "+
		"'PRI', IFNULL(GENERATION_EXPRESSION, '') FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = ? ORDER BY "+
		"TABLE_NAME, ORDINAL_POSITION", schema)
	if err != nil {
		return nil, fmt.Errorf("reading the columns: %w", err)
	}
	for _, r := range rows {
		if t := byName[r[0]]; t != nil {
			t.Columns = append(t.Columns, column{Name: r[1], Type: r[2], Generated: r[3] == "1"})
			if r[4] == "1" {
				t.Key = append(t.Key, r[1])
			}
			if r[5] == "ROW START" || r[5] == "ROW END" {
				t.Period = append(t.Period, r[1])
			}
		}
	}
	rows, err = c.rows(ctx, "SELECT EVENT_OBJECT_TABLE, TRIGGER_NAME FROM information_schema.TRIGGERS WHERE "+
		"TRIGGER_SCHEMA = ? ORDER BY EVENT_OBJECT_TABLE, ACTION_TIMING, EVENT_MANIPULATION, ACTION_ORDER", schema)
	if err != nil {
		return nil, fmt.Errorf("reading the triggers: %w", err)
	}
	for _, r := range rows {
		if t := byName[r[0]]; t != nil {
			t.Trigger = append(t.Trigger, r[1])
		}
	}
	rows, err = c.rows(ctx, "SELECT DISTINCT TABLE_NAME, REFERENCED_TABLE_NAME FROM "+
		"information_schema.REFERENTIAL_CONSTRAINTS WHERE CONSTRAINT_SCHEMA = ? AND UNIQUE_CONSTRAINT_SCHEMA = ? ORDER "+
		"BY 1, 2", schema, schema)
	if err != nil {
		return nil, fmt.Errorf("reading the foreign keys: %w", err)
	}
	for _, r := range rows {
		if t := byName[r[0]]; t != nil {
			t.Leads = append(t.Leads, r[1])
		}
	}
	return all, searched(ctx, c, schema, byName)
}

// searched notes which tables have a fulltext index.
func searched(ctx context.Context, c *conn, schema string, byName map[string]*table) error {
	rows, err := c.rows(ctx, "SELECT DISTINCT TABLE_NAME FROM information_schema.STATISTICS WHERE TABLE_SCHEMA = ? AND "+
		"INDEX_TYPE = 'FULLTEXT'", schema)
	if err != nil {
		return fmt.Errorf("reading the indexes: %w", err)
	}
	for _, r := range rows {
		if t := byName[r[0]]; t != nil {
			t.Words = true
		}
	}
	return nil
}

// bases asks how the tables of a schema are called in InnoDB: names of files, in which
// much is written otherwise.
func bases(ctx context.Context, c *conn, schema string) (map[string]string, error) {
	n := len(schema) + 1
	rows, err := c.rows(ctx, "SELECT DISTINCT "+baseOf+" b, "+
		"CONVERT(CONVERT(BINARY "+baseOf+" USING filename) USING utf8mb4) FROM "+
		c.counting()+" WHERE LEFT(NAME, ?) = ?", n+1, n+1, n, schema+"/")
	if err != nil {
		return nil, fmt.Errorf("reading how tables are called: %w", err)
	}
	all := map[string]string{}
	for _, r := range rows {
		all[r[1]] = r[0]
	}
	return all, nil
}

// baseOf is a table's name without that of a partition.
const baseOf = "SUBSTRING_INDEX(SUBSTRING_INDEX(SUBSTR(NAME, ?), '#P#', 1), '#p#', 1)"

// counters reads InnoDB's numbers of the tables of a schema, or of some, by their bases.
func counters(ctx context.Context, c *conn, schema string, some []*table) (map[string]counter, error) {
	n := len(schema) + 1
	query := "SELECT SUBSTR(NAME, ?), TABLE_ID, MODIFIED_COUNTER, AUTOINC FROM " + c.counting() +
		" WHERE LEFT(NAME, ?) = ?"
	args := []any{n + 1, n, schema + "/"}
	if some != nil {
		query += " AND " + baseOf + " IN ("
		args = append(args, n+1)
		for i, t := range some {
			if i > 0 {
				query += ", "
			}
			query += "?"
			args = append(args, t.Base)
		}
		query += ")"
	}
	all := map[string]counter{}
	err := c.each(ctx, query+" ORDER BY TABLE_ID", args, func(r []sql.RawBytes) error {
		name := string(r[0])
		row := fmt.Appendf(nil, "%s/%s %s %s %s", schema, name, r[1], r[2], r[3])
		if strings.HasPrefix(name, "FTS_") || strings.HasPrefix(name, "#") {
			name = "" // of a fulltext index, or a definition under way
		}
		if i := strings.Index(strings.ToUpper(name), "#P#"); i > 0 {
			name = name[:i]
		}
		k := all[name]
		k.IDs = strings.TrimPrefix(k.IDs+","+string(r[1]), ",")
		k.Modified += number(string(r[2]))
		k.Next = max(k.Next, number(string(r[3])))
		k.Rows++
		k.Check += uint64(crc32.ChecksumIEEE(row))
		all[name] = k
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("reading what tables count: %w", err)
	}
	return all, nil
}

// sumQuery sums up what counters reads, as sumOf does: where it is the same nothing was
// counted.
func sumQuery(c *conn) string {
	return "SELECT COUNT(*) AS n, SUM(MODIFIED_COUNTER) AS m, SUM(CRC32(CONCAT_WS(' ', NAME, TABLE_ID, " +
		"MODIFIED_COUNTER, AUTOINC))) AS s FROM " + c.counting() + " WHERE LEFT(NAME, ?) = ?"
}

func countersSum(ctx context.Context, c *conn, schema string) (string, error) {
	rows, err := c.rows(ctx, sumQuery(c), len(schema)+1, schema+"/")
	if err != nil {
		return "", fmt.Errorf("reading what tables count: %w", err)
	}
	return strings.Join(rows[0], " "), nil
}

// sumOf is the sum over what was read by counters.
func sumOf(all map[string]counter) string {
	var sum counter
	for _, k := range all {
		sum.Rows, sum.Modified, sum.Check = sum.Rows+k.Rows, sum.Modified+k.Modified, sum.Check+k.Check
	}
	return fmt.Sprint(sum.Rows, sum.Modified, sum.Check)
}

// counter are InnoDB's numbers of one table.
type counter struct {
	IDs      string `json:"ids"` // another after TRUNCATE, or where it was made anew
	Modified uint64 `json:"modified"`
	Next     uint64 `json:"next"` // AUTO_INCREMENT; 0 before the table is first opened
	// Rows and Check are the number of rows of InnoDB's own table about it, and the sum of
	// their checksums.
	Rows  int    `json:"rows"`
	Check uint64 `json:"check"`
}

// same reports whether nothing was counted between two readings.
func (k counter) same(o counter) bool {
	return k.IDs == o.IDs && k.Modified == o.Modified && k.Next == o.Next
}

// done are how often some statements were executed on a server.
type done struct {
	Defined uint64 `json:"defined"` // those that may change a definition
	Cleared uint64 `json:"cleared"` // those that may clear what tables count
}

// definers and clearers are what statements count as that may change a definition, and
// that may clear what tables count.
var (
	definers = []string{"CREATE_TABLE", "CREATE_INDEX", "CREATE_VIEW", "CREATE_TRIGGER", "CREATE_PROCEDURE",
		"CREATE_FUNCTION", "CREATE_EVENT", "CREATE_DB", "CREATE_SEQUENCE", "CREATE_PACKAGE", "CREATE_PACKAGE_BODY",
		"CREATE_USER", "CREATE_ROLE", "CREATE_SERVER", "CREATE_UDF", "ALTER_TABLE", "ALTER_DB", "ALTER_DB_UPGRADE",
		"ALTER_FUNCTION", "ALTER_PROCEDURE", "ALTER_EVENT", "ALTER_SEQUENCE", "ALTER_USER", "ALTER_SERVER",
		"ALTER_TABLESPACE", "DROP_TABLE", "DROP_INDEX", "DROP_VIEW", "DROP_TRIGGER", "DROP_PROCEDURE", "DROP_FUNCTION",
		"DROP_EVENT", "DROP_DB", "DROP_SEQUENCE", "DROP_PACKAGE", "DROP_PACKAGE_BODY", "DROP_USER", "DROP_ROLE",
		"DROP_SERVER", "RENAME_TABLE", "RENAME_USER", "GRANT", "GRANT_ROLE", "GRANT_ROLES", "REVOKE", "REVOKE_ALL",
		"REVOKE_ROLE", "REVOKE_ROLES", "CREATE_LIBRARY", "ALTER_LIBRARY", "DROP_LIBRARY", "IMPORT"}
	clearers = []string{"ANALYZE", "FLUSH", "OPTIMIZE", "REPAIR", "CHECK", "RESET"}
)

func commands(names []string) string { return "'COM_" + strings.Join(names, "', 'COM_") + "'" }

// statementsQuery asks for their sums.
var statementsQuery = "SELECT IFNULL(SUM(IF(VARIABLE_NAME IN (" + commands(clearers) + "), 0, VARIABLE_VALUE)), 0) " +
	"AS defined, IFNULL(SUM(IF(VARIABLE_NAME IN (" + commands(clearers) + "), VARIABLE_VALUE, 0)), 0) AS cleared FROM " +
	"information_schema.GLOBAL_STATUS WHERE VARIABLE_NAME IN (" + commands(slices.Concat(definers, clearers)) + ")"

// statements counts them. They are counted for everybody, Hemzo too, and nobody without
// rights on the server clears them.
func statements(ctx context.Context, c *conn) (d done, err error) {
	query := statementsQuery
	if c.mysql { // there it is in no table
		query = "SHOW GLOBAL STATUS WHERE Variable_name IN (" + commands(slices.Concat(definers, clearers)) + ")"
	}
	rows, err := c.rows(ctx, query)
	if err != nil {
		return d, fmt.Errorf("reading what was executed: %w", err)
	}
	if !c.mysql {
		return done{Defined: number(rows[0][0]), Cleared: number(rows[0][1])}, nil
	}
	for _, r := range rows {
		if slices.Contains(clearers, strings.ToUpper(strings.TrimPrefix(r[0], "Com_"))) {
			d.Cleared += number(r[1])
		} else {
			d.Defined += number(r[1])
		}
	}
	return d, nil
}

package mariadb

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"hemzo/internal/engine"
	"hemzo/internal/pattern"
)

// definition is what makes an object of a schema.
type definition struct {
	Kind string `json:"kind"` // "table", "view", "sequence", "trigger", "procedure", ...
	Name string `json:"name"`
	SQL  string `json:"sql"`
	// Under are the settings of the session that made it, which it keeps.
	Under []engine.Setting `json:"under,omitempty"`
	// Order is that of a trigger among those of its table.
	Order string `json:"order,omitempty"`
	sum   string // where it is known
}

// position is the AUTO_INCREMENT in a definition, which is no part of it.
var position = pattern.Lazy(` AUTO_INCREMENT=\d+`)

// object is the definition's sum. Schemas of Hemzo's own names are told apart by nothing
// else: what they say of their own name is the same in each.
func (d definition) object(schema string) object {
	if d.sum != "" {
		return object{d.Kind, d.Name, d.sum}
	}
	sql := d.SQL
	if d.Kind == "table" {
		sql = position().ReplaceAllString(sql, "")
	}
	parts := []string{neutral(sql, schema), d.Order}
	for _, s := range d.Under {
		parts = append(parts, s.Name, s.Value)
	}
	return objectOf(d.Kind, d.Name, parts...)
}

func objectOf(kind, name string, parts ...string) object {
	sum := sha256.Sum256([]byte(strings.Join(parts, "\x00")))
	return object{kind, name, hex.EncodeToString(sum[:12])}
}

// neutral is a text without a schema's own name, where that is one of Hemzo's: it is the
// name of its account too.
func neutral(text, schema string) string {
	if _, ours := engine.KindOf(schema); !ours {
		return text
	}
	return strings.ReplaceAll(text, schema, "\x01")
}

// listing finds the objects of one kind, by their names.
type listing struct {
	sql  string // the kind and the name of each, and its order
	text int    // the column with the text of its SHOW CREATE
}

// definitionsOf reads what defines the objects of a schema, which is the session's own, in
// no order that matters but that of triggers. Of tables that are known, by their names, the
// sum alone is taken.
func definitionsOf(ctx context.Context, c *conn, schema string, known map[string]object) (all []definition,
	err error) {
	listings := []listing{
		{"SELECT CASE TABLE_TYPE WHEN 'VIEW' THEN 'view' WHEN 'SEQUENCE' THEN 'sequence' ELSE 'table' END, " +
			"TABLE_NAME, '' FROM information_schema.TABLES WHERE TABLE_SCHEMA = ?", 1},
		{"SELECT 'trigger', TRIGGER_NAME, CONCAT(EVENT_OBJECT_TABLE, ' ', ACTION_TIMING, ' ', EVENT_MANIPULATION, ' ', " +
			"ACTION_ORDER) FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = ? ORDER BY EVENT_OBJECT_TABLE, " +
			"ACTION_TIMING, EVENT_MANIPULATION, ACTION_ORDER", 2},
		{"SELECT LOWER(ROUTINE_TYPE), ROUTINE_NAME, '' FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = ? " +
			"ORDER BY ROUTINE_TYPE, ROUTINE_NAME", 2},
		{"SELECT 'event', EVENT_NAME, '' FROM information_schema.EVENTS WHERE EVENT_SCHEMA = ?", 3},
	}
	if c.mysql && c.libraries {
		listings = append(listings, listing{"SELECT 'library', LIBRARY_NAME, '' FROM information_schema.LIBRARIES WHERE " +
			"LIBRARY_SCHEMA = ?", 2})
	}
	for _, l := range listings {
		rows, err := c.rows(ctx, l.sql, schema)
		if err != nil {
			return nil, fmt.Errorf("reading what is in the schema: %w", err)
		}
		for _, r := range rows {
			d := definition{Kind: r[0], Name: r[1], Order: r[2]}
			if o, ok := known[d.Name]; ok && d.Kind == "table" {
				d.sum = o.Sum
				all = append(all, d)
				continue
			}
			if err := d.read(ctx, c, l.text); err != nil {
				return nil, fmt.Errorf("reading the definition of the %s %s: %w", d.Kind, d.Name, err)
			}
			all = append(all, d)
		}
	}
	return all, nil
}

// kept are the columns about a definition that say under which settings it was made.
var kept = []string{"sql_mode", "character_set_client", "collation_connection", "time_zone"}

func (d *definition) read(ctx context.Context, c *conn, text int) error {
	rows, err := c.QueryContext(ctx, "SHOW CREATE "+strings.ToUpper(d.Kind)+" "+quote(d.Name))
	if err != nil {
		return err
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return err
	}
	values, at := make([]*string, len(names)), make([]any, len(names))
	for i := range at {
		at[i] = &values[i]
	}
	if !rows.Next() {
		return fmt.Errorf("there is none: %w", rows.Err())
	}
	if err := rows.Scan(at...); err != nil {
		return err
	}
	if values[text] == nil {
		return fmt.Errorf("this account may not see it")
	}
	d.SQL = *values[text]
	for i, name := range names {
		if slices.Contains(kept, name) && values[i] != nil {
			d.Under = append(d.Under, engine.Setting{Name: name, Value: *values[i]})
		}
	}
	return rows.Close()
}

// definitions sums up what defines a schema: its objects, its own settings, and who has
// which rights in it, where this account may see that.
func definitions(ctx context.Context, c *conn, schema string, known map[string]object) ([]object, error) {
	found, err := definitionsOf(ctx, c, schema, known)
	if err != nil {
		return nil, err
	}
	return objects(ctx, c, schema, found)
}

// known are the objects of the tables of some names.
func (s *state) known(some map[string]bool) map[string]object {
	all := map[string]object{}
	for _, o := range s.Objects {
		if o.Kind == "table" && some[o.Name] {
			all[o.Name] = o
		}
	}
	return all
}

func objects(ctx context.Context, c *conn, schema string, found []definition) (all []object, err error) {
	for _, d := range found {
		all = append(all, d.object(schema))
	}
	queries := []struct{ kind, sql string }{
		{"schema", "SELECT 'its own', CONCAT(DEFAULT_CHARACTER_SET_NAME, ' ', DEFAULT_COLLATION_NAME) FROM " +
			"information_schema.SCHEMATA WHERE SCHEMA_NAME = ?"},
	}
	if !c.narrow {
		queries = append(queries, []struct{ kind, sql string }{
			{"right", "SELECT CONCAT(User, ' on tables'), CONCAT_WS(',', Host, Table_name, Table_priv, Column_priv) FROM " +
				"mysql.tables_priv WHERE Db = ?"},
			{"right", "SELECT CONCAT(User, ' on the database'), CONCAT_WS(',', Host, Select_priv, Insert_priv, " +
				"Update_priv, Delete_priv, Create_priv, Drop_priv, Alter_priv, Trigger_priv, Execute_priv, Event_priv) FROM " +
				"mysql.db WHERE REPLACE(Db, '\\\\_', '_') = ?"}}...)
	}
	for _, q := range queries {
		rows, err := c.rows(ctx, q.sql, schema)
		if err != nil {
			return nil, fmt.Errorf("reading every %s: %w", q.kind, err)
		}
		for _, r := range rows {
			if strings.HasPrefix(r[0], schema+" ") { // the copy's own account, which is made by Hemzo
				continue
			}
			all = append(all, objectOf(q.kind, r[0], r[1:]...))
		}
	}
	slices.SortFunc(all, func(a, b object) int {
		return strings.Compare(a.Kind+"\x00"+a.Name, b.Kind+"\x00"+b.Name)
	})
	return all, nil
}

package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
)

// drops say how an object of each kind is dropped, in the order in which that
// is done: what hangs on a table before the table.
var drops = []struct{ kind, how string }{
	{"event trigger", "DROP EVENT TRIGGER IF EXISTS %s"}, {"publication", "DROP PUBLICATION IF EXISTS %s"}, {"policy", "DROP POLICY IF EXISTS %s"}, {"rule", "DROP RULE IF EXISTS %s"}, {"trigger", "DROP TRIGGER IF EXISTS %s"},
	{"constraint", ""}, {"statistics", "DROP STATISTICS IF EXISTS %s"}, {"materialized view", "DROP MATERIALIZED VIEW IF EXISTS %s CASCADE"}, {"view", "DROP VIEW IF EXISTS %s CASCADE"},
	{"table", "DROP TABLE IF EXISTS %s CASCADE"}, {"index", "DROP INDEX IF EXISTS %s"}, {"aggregate", "DROP AGGREGATE IF EXISTS %s CASCADE"}, {"procedure", "DROP PROCEDURE IF EXISTS %s CASCADE"},
	{"function", "DROP FUNCTION IF EXISTS %s CASCADE"}, {"sequence", "DROP SEQUENCE IF EXISTS %s CASCADE"}, {"type", "DROP TYPE IF EXISTS %s CASCADE"}, {"collation", "DROP COLLATION IF EXISTS %s"},
	{"extension", "DROP EXTENSION IF EXISTS %s CASCADE"}, {"schema", "DROP SCHEMA IF EXISTS %s CASCADE"},
}

// dropAdded drops what was added to the schema, where nothing else of it was
// changed, and returns what that was. Clients stay connected. Otherwise it
// fails with errSchema, and has done nothing.
func (d *database) dropAdded(ctx context.Context, start string, base baseline) (dropped []string, err error) {
	if base.Tables == nil || !d.server.super {
		return nil, errSchema
	}
	twin, err := d.reading(ctx, start)
	if err != nil {
		return nil, err
	}
	if d.schemaFor != start {
		if d.schema, err = schemaOf(ctx, twin); err != nil {
			return nil, err
		}
		d.schemaFor = start
	}
	before := d.schema
	conn, err := d.hands(ctx)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil && !conn.IsClosed() {
			_, _ = conn.Exec(context.WithoutCancel(ctx), "ROLLBACK")
		}
	}()
	if _, err := conn.Exec(ctx, "BEGIN"); err != nil {
		return nil, err
	}
	after, err := schemaOf(ctx, conn)
	if err != nil {
		return nil, err
	}
	for n, old := range before {
		if now, there := after[n]; !there || now.Definition != old.Definition {
			return nil, errSchema
		}
	}
	sql, known, dropped := droppings(after, before)
	if added := len(after) - len(before); added == 0 || known < added {
		return nil, errSchema // some are of a kind that is left to a replacement
	}
	if _, err := conn.Exec(ctx, sql); err != nil {
		if sqlState(err) == "55P03" {
			return nil, d.blocked(ctx, nil, err)
		}
		return nil, errSchema
	}
	after, err = schemaOf(ctx, conn)
	if err != nil {
		return nil, err
	}
	same, err := sameSchema(ctx, conn, base, nil)
	if err == nil && (!same || len(schemaChanges(before, after)) > 0) {
		err = errSchema
	}
	if err == nil {
		_, err = conn.Exec(ctx, "COMMIT")
	}
	return dropped, err
}

// droppings are the statements that drop what is in now and not in before, how
// many objects those are, and their names but for parts of others.
func droppings(now, before schema) (sql string, known int, what []string) {
	var all []string
	for _, kind := range drops {
		var names []string
		for n := range now {
			if _, old := before[n]; !old && n.kind == kind.kind {
				names = append(names, n.name)
			}
		}
		slices.Sort(names)
		for _, name := range names {
			known++
			n := objectName{kind.kind, name}
			if !partOf(now[n], now, before) {
				what = append(what, kind.kind+" "+shortName(name))
			}
			how := kind.how
			switch {
			case kind.kind == "constraint":
				constraint, table, _ := strings.Cut(name, " on ")
				all = append(all, "ALTER TABLE IF EXISTS "+table+" DROP CONSTRAINT IF EXISTS "+constraint)
				continue
			case kind.kind == "table" && strings.HasPrefix(now[n].Definition, "f"):
				how = "DROP FOREIGN TABLE IF EXISTS %s CASCADE"
			}
			all = append(all, fmt.Sprintf(how, name))
		}
	}
	return strings.Join(all, "; "), known, what
}

// schemaOf reads the definitions of all objects, by name.
func schemaOf(ctx context.Context, conn *pgx.Conn) (schema, error) {
	if conn.PgConn().TxStatus() == 'I' {
		if _, err := conn.Exec(ctx, "BEGIN READ ONLY"); err != nil {
			return nil, err
		}
		defer func() { _, _ = conn.Exec(ctx, "COMMIT") }()
	}
	all, err := objects(ctx, conn)
	if err != nil {
		return nil, err
	}
	out := schema{}
	for _, o := range all {
		out[objectName{o.Kind, o.Name}] = o
	}
	return out, nil
}

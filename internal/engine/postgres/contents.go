package postgres

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/engine/postgres/schema"
)

// Contents sums up all that the database holds.
func (d *database) Contents(ctx context.Context, kin bool) ([]engine.Content, error) {
	conn, err := d.server.dial(ctx, d.id, "")
	if err != nil {
		return nil, fmt.Errorf("connecting to %s: %w", d.id, err)
	}
	defer conn.Close(ctx)
	if _, err := conn.Exec(ctx, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY"); err != nil {
		return nil, fmt.Errorf("reading %s: %w", d.id, err)
	}
	all, err := schema.Objects(ctx, conn)
	if err != nil {
		return nil, err
	}
	var out []engine.Content
	for _, o := range all {
		out = append(out, engine.Content{Kind: o.Kind, Name: o.Name, Sum: o.Definition})
		sum := ""
		switch {
		case o.Kind == "table" && o.Definition[0] == 'r' || o.Kind == "materialized view":
			// The same whatever the order of the rows is.
			var c engine.Content
			c, err = sumRows(ctx, conn, o.Name)
			out = append(out, c)
		case o.Kind == "sequence":
			err = conn.QueryRow(ctx, "SELECT concat_ws(' ', last_value, is_called) FROM "+o.Name).Scan(&sum)
			out = append(out, engine.Content{Kind: "counter", Name: o.Name, Sum: sum})
		}
		if err != nil {
			return nil, fmt.Errorf("reading %s: %w", o.Name, err)
		}
	}
	return d.beyondObjects(ctx, conn, kin, out)
}

// sumRows sums up the rows of a table: the same whatever their order is. Values are
// written by their types alone, as format does: a cast may be a test's own function.
func sumRows(ctx context.Context, conn *pgx.Conn, table string) (c engine.Content, err error) {
	c = engine.Content{Kind: engine.Rows, Name: table, Columns: map[string]string{}}
	rows, err := conn.Query(ctx, "SELECT attname FROM pg_attribute WHERE attrelid = $1::regclass AND attnum > 0 AND "+
		"NOT attisdropped ORDER BY attnum", table)
	if err != nil {
		return c, err
	}
	columns, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return c, err
	}
	sql := "SELECT count(*), concat_ws(' ', count(*), sum(hashtextextended(format('%L', t), 0)::numeric)), ARRAY["
	for i, name := range columns {
		if i > 0 {
			sql += ", "
		}
		sql += "sum(hashtextextended(format('%L', t." + pg.Ident(name) + "), 0)::numeric)::text"
	}
	var sums []*string
	if err := conn.QueryRow(ctx, sql+"]::text[] FROM ONLY "+table+" t").Scan(&c.Rows, &c.Sum, &sums); err != nil {
		return c, err
	}
	for i, name := range columns {
		if sums[i] != nil {
			c.Columns[name] = *sums[i]
		}
	}
	return c, nil
}

// beyondObjects adds what no object of users' tells: what the catalogs say,
// built-in objects included, large objects, and what belongs to the database
// itself. The limit that marks work of Hemzo's stands for the one to come.
func (d *database) beyondObjects(ctx context.Context, conn *pgx.Conn, kin bool, out []engine.Content) ([]engine.Content,
	error) {
	all, err := d.server.witness.Catalogs.List(ctx, conn)
	if err != nil {
		return nil, err
	}
	if !kin {
		all = nil
	}
	sums, err := d.server.witness.Catalogs.Sums(ctx, conn, schema.Places(len(all)))
	if err != nil {
		return nil, fmt.Errorf("reading the catalogs: %w", err)
	}
	for at, sum := range sums {
		out = append(out, engine.Content{Kind: "catalog", Name: all[at].Name, Sum: sum})
	}
	if d.server.isSuperuser {
		var sum string
		if err := conn.QueryRow(ctx, "SELECT concat_ws(' ', count(*), sum(hashtextextended(concat_ws(' ', loid, "+
			"pageno, encode(data, 'hex')), 0)::numeric)) FROM pg_largeobject").Scan(&sum); err != nil {
			return nil, fmt.Errorf("reading the large objects: %w", err)
		}
		out = append(out, engine.Content{Kind: "large objects", Name: "all", Sum: sum})
	}
	items, err := d.server.level(ctx, conn, "current_database()")
	for _, i := range items {
		kind, name := i.words()
		if kind == "database limit" && i.Value == fmt.Sprint(workLimit(d.id)) {
			i.Value = fmt.Sprint(limitOf(privateOf(d.facts).Carry))
		}
		out = append(out, engine.Content{Kind: kind, Name: name, Sum: i.Value})
	}
	return out, err
}

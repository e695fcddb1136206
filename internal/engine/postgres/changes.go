package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
)

// Changes compares the database with its start state: the tables that the
// witness saw touched, or all where it cannot tell; counters; the schema.
func (d *database) Changes(ctx context.Context, c engine.Compare) (*engine.Changes, error) {
	changes := engine.NoChanges()
	tables, err := d.touchedTables(ctx, engine.Reset{Start: c.Start, Baseline: c.Baseline, Last: c.Last})
	if err != nil || tables != nil && len(tables) == 0 {
		return changes, err
	}
	conn, err := d.server.dial(ctx, d.id, "")
	if err != nil {
		return nil, fmt.Errorf("connecting to %s: %w", d.id, err)
	}
	defer conn.Close(ctx)
	start, err := d.server.twin(ctx, c.Start)
	if err != nil {
		return nil, err
	}
	defer start.Close(ctx)
	for _, x := range []*pgx.Conn{conn, start} {
		if _, err := x.Exec(ctx, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY"); err != nil {
			return nil, fmt.Errorf("comparing: %w", err)
		}
	}
	before, err := schemaOf(ctx, start)
	if err != nil {
		return nil, err
	}
	after, err := schemaOf(ctx, conn)
	if err != nil {
		return nil, err
	}
	changes.Schema = schemaChanges(before, after)
	for name, now := range after {
		old, common := before[name]
		switch {
		case name.kind == "table" && !common && now.Definition[0] == 'r':
			if err := d.compareTable(ctx, nil, conn, name.name, c.Rows, changes); err != nil {
				return nil, err
			}
		case !common:
		case name.kind == "sequence":
			if err := sequenceChange(ctx, start, conn, name.name, changes); err != nil {
				return nil, err
			}
		case name.kind == "table" && now.Definition[0] == 'r' && old.Definition[0] == 'r' && (tables == nil || slices.Contains(tables, name.name)):
			if err := d.compareTable(ctx, start, conn, name.name, c.Rows, changes); err != nil {
				return nil, err
			}
		}
	}
	slices.SortFunc(changes.Tables, func(a, b engine.TableChange) int { return strings.Compare(a.Name, b.Name) })
	slices.SortFunc(changes.Sequences, func(a, b engine.SequenceChange) int { return strings.Compare(a.Name, b.Name) })
	return changes, nil
}

// touchedTables asks the witness: nil where it cannot tell, empty where
// nothing at all was touched.
func (d *database) touchedTables(ctx context.Context, r engine.Reset) ([]string, error) {
	base, err := d.base(ctx, r)
	var t touched
	if err == nil {
		t, err = d.asked(ctx, base)
	}
	if reason := (errReplace{}); errors.As(err, &reason) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if len(t.tables) == 0 && len(t.counters) > 0 {
		return []string{""}, nil // counters alone
	}
	names := []string{}
	for _, i := range t.tables {
		names = append(names, base.Tables[i-1].Name)
	}
	return names, nil
}

// schema is all that users have made in a database, but for rows.
type schema map[objectName]object

type objectName struct{ kind, name string }

// partOf reports whether an object belongs to a table that is in one schema
// and not in another: it came or went with the table.
func partOf(o object, in, other schema) bool {
	for _, kind := range []string{"table", "materialized view", "view", "type"} {
		n := objectName{kind, o.Of}
		_, there := in[n]
		_, also := other[n]
		if there && !also {
			return true
		}
	}
	return false
}

func schemaChanges(before, after schema) []engine.SchemaChange {
	out := []engine.SchemaChange{}
	add := func(what string, n objectName, details []string) {
		name, of, part := strings.Cut(n.name, " on ")
		if part {
			name += " on " + shortName(of)
		}
		out = append(out, engine.SchemaChange{What: what, Kind: n.kind, Name: shortName(name), Details: details})
	}
	for n, now := range after {
		old, common := before[n]
		switch {
		case !common && !partOf(now, after, before):
			add("added", n, nil)
		case common && old.Definition != now.Definition:
			add("altered", n, columnChanges(old.Definition, now.Definition))
		}
	}
	for n, old := range before {
		if _, ok := after[n]; !ok && !partOf(old, before, after) {
			add("removed", n, nil)
		}
	}
	slices.SortFunc(out, func(a, b engine.SchemaChange) int { return strings.Compare(a.Kind+a.Name+a.What, b.Kind+b.Name+b.What) })
	return out
}

// columnChanges tells how the columns differ that two definitions of a table
// hold.
func columnChanges(old, now string) (out []string) {
	was, is := columnsOf(old), columnsOf(now)
	for _, c := range was {
		if column(is, c[0]) == nil {
			out = append(out, "removed column "+c[0])
		}
	}
	for _, c := range is {
		switch o := column(was, c[0]); {
		case o == nil:
			out = append(out, "added column "+c[0]+" "+c[1])
		case o[1] != c[1]:
			out = append(out, "column "+c[0]+" was "+o[1]+", is "+c[1])
		case !slices.Equal(o, c):
			out = append(out, "altered column "+c[0])
		}
	}
	return out
}

// columnsOf reads the columns out of a definition: name, type, all else.
func columnsOf(definition string) (all [][]string) {
	for _, text := range strings.Split(definition, "\x1e")[1:] {
		all = append(all, strings.Split(text, "\x1f"))
	}
	return all
}

func column(columns [][]string, name string) []string {
	for _, c := range columns {
		if c[0] == name {
			return c
		}
	}
	return nil
}

func sequenceChange(ctx context.Context, start, conn *pgx.Conn, name string, changes *engine.Changes) error {
	var at [2]string
	for i, c := range []*pgx.Conn{start, conn} {
		// The value that was given out last; none before the first.
		err := c.QueryRow(ctx, "SELECT CASE WHEN is_called THEN last_value::text WHEN last_value = 1 THEN '0' ELSE 'before ' || last_value END FROM "+name).Scan(&at[i])
		if err != nil {
			return fmt.Errorf("comparing %s: %w", name, err)
		}
	}
	if at[0] != at[1] {
		changes.Sequences = append(changes.Sequences, engine.SequenceChange{Name: shortName(name), Before: at[0], After: at[1]})
	}
	return nil
}

// compareTable notes how the rows of a table differ, where they do.
func (d *database) compareTable(ctx context.Context, start, conn *pgx.Conn, name string, limit int, changes *engine.Changes) error {
	t, err := d.tableChange(ctx, start, conn, name, limit)
	if err != nil {
		return fmt.Errorf("comparing %s: %w", name, err)
	}
	if t.Added+t.Removed+t.Altered > 0 {
		changes.Tables = append(changes.Tables, t)
	}
	return nil
}

// tableChange compares the rows of a table: by its primary key, where it has
// one, so that a row can be told to have been altered. start is nil for one
// that was added.
func (d *database) tableChange(ctx context.Context, start, conn *pgx.Conn, name string, limit int) (engine.TableChange, error) {
	t := engine.TableChange{Name: shortName(name)}
	const common = "SELECT array_agg(quote_ident(attname) ORDER BY attnum) FROM pg_attribute WHERE attrelid = $1::regclass AND attnum > 0 AND NOT attisdropped"
	var was, columns, key []string
	if err := conn.QueryRow(ctx, common, name).Scan(&columns); err != nil {
		return t, err
	}
	if start != nil {
		if err := start.QueryRow(ctx, common, name).Scan(&was); err != nil {
			return t, err
		}
		columns = slices.DeleteFunc(columns, func(c string) bool { return !slices.Contains(was, c) })
	}
	if len(columns) == 0 {
		return t, nil
	}
	err := conn.QueryRow(ctx, "SELECT coalesce(array_agg(quote_ident(a.attname)), '{}') FROM pg_index i JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = ANY (i.indkey) WHERE i.indrelid = $1::regclass AND i.indisprimary", name).Scan(&key)
	if err != nil {
		return t, err
	}
	var keys []int
	for i, c := range columns {
		if slices.Contains(key, c) {
			keys = append(keys, i)
		}
	}
	query := fmt.Sprintf("SELECT %s FROM ONLY %s", strings.Join(columns, ", "), name)
	if len(keys) > 0 {
		query += " ORDER BY " + strings.Join(key, ", ")
	}
	before := map[string][][]any{}
	if start != nil {
		err = d.query(ctx, start, query, engine.Sink{Row: func(r []any) error {
			k := keyOf(r, keys)
			before[k] = append(before[k], r)
			return nil
		}})
	}
	if err != nil {
		return t, err
	}
	keep := func(c engine.RowChange) {
		if len(t.Rows) < limit {
			t.Rows = append(t.Rows, c)
		}
	}
	err = d.query(ctx, conn, query, engine.Sink{Row: func(r []any) error {
		k := keyOf(r, keys)
		old := before[k]
		if len(old) == 0 {
			t.Added++
			keep(engine.RowChange{After: r})
			return nil
		}
		before[k] = old[1:]
		if keyOf(old[0], nil) != keyOf(r, nil) {
			t.Altered++
			keep(engine.RowChange{Before: old[0], After: r})
		}
		return nil
	}})
	if err != nil {
		return t, err
	}
	for _, k := range sortedKeys(before) {
		for _, r := range before[k] {
			t.Removed++
			keep(engine.RowChange{Before: r})
		}
	}
	if limit > 0 {
		t.Columns = columns
	}
	return t, nil
}

func sortedKeys(m map[string][][]any) []string {
	var all []string
	for k := range m {
		all = append(all, k)
	}
	slices.Sort(all)
	return all
}

// keyOf is a text for some columns of a row, for all where keys is nil.
func keyOf(r []any, keys []int) string {
	var b strings.Builder
	if keys == nil {
		for _, v := range r {
			fmt.Fprintf(&b, "%T:%v\x00", v, v)
		}
		return b.String()
	}
	for _, i := range keys {
		fmt.Fprintf(&b, "%T:%v\x00", r[i], r[i])
	}
	return b.String()
}

// Package schema reads what users have made in a database, and what its catalogs
// say, and tells how two of them differ. It knows no server, only sessions.
package schema

import (
	"context"
	_ "embed"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
)

// objectsSQL lists every object that a user has made, with a text that says
// all that there is to know of it. What belongs to an extension stands for
// itself. Names are as format('%I') writes them. The last columns name what it
// is a part of, the table of an index, say, and drop it; "" where nothing does.
//
//go:embed sql/objects.sql
var objectsSQL string

// Object is one of them.
type Object struct{ Kind, Name, Definition, Of, Drop string }

// short is its name as a user knows it, without the schema public.
func (o Object) Short() string {
	if part, ok := strings.CutSuffix(o.Name, " on "+o.Of); ok && o.Of != "" {
		return part + " on " + pg.ShortName(o.Of)
	}
	return pg.ShortName(o.Name)
}

// objects lists what users have made in a database.
func Objects(ctx context.Context, conn *pgx.Conn) ([]Object, error) {
	// Names are to be whole, whatever the session's path is.
	_, err := conn.Exec(ctx, "SET LOCAL search_path = pg_catalog", pgx.QueryExecModeSimpleProtocol)
	if err != nil {
		return nil, fmt.Errorf("reading the schema: %w", err)
	}
	rows, err := conn.Query(ctx, objectsSQL, pgx.QueryExecModeSimpleProtocol)
	if err != nil {
		return nil, fmt.Errorf("reading the schema: %w", err)
	}
	all, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Object])
	if err != nil {
		return nil, fmt.Errorf("reading the schema: %w", err)
	}
	return all, nil
}

// Schema is all that users have made in a database, but for rows.
type Schema map[Name]Object

// Name names an object.
type Name struct{ Kind, Name string }

// Read reads the definitions of all objects, by name.
func Read(ctx context.Context, conn *pgx.Conn) (Schema, error) {
	if conn.PgConn().TxStatus() == 'I' {
		if _, err := conn.Exec(ctx, "BEGIN READ ONLY", pgx.QueryExecModeSimpleProtocol); err != nil {
			return nil, err
		}
		defer func() { _, _ = conn.Exec(ctx, "COMMIT", pgx.QueryExecModeSimpleProtocol) }()
	}
	all, err := Objects(ctx, conn)
	if err != nil {
		return nil, err
	}
	out := Schema{}
	for _, o := range all {
		out[Name{o.Kind, o.Name}] = o
	}
	return out, nil
}

// partOf reports whether an object belongs to a table that is in one schema
// and not in another: it came or went with the table.
func partOf(o Object, in, other Schema) bool {
	for _, kind := range []string{"table", "materialized view", "view", "type"} {
		n := Name{kind, o.Of}
		_, there := in[n]
		_, also := other[n]
		if there && !also {
			return true
		}
	}
	return false
}

func Changes(before, after Schema) []engine.SchemaChange {
	out := []engine.SchemaChange{}
	add := func(what string, n Name, details []string) {
		o, there := after[n]
		if !there {
			o = before[n]
		}
		out = append(out, engine.SchemaChange{What: what, Kind: n.Kind, Name: o.Short(), Details: details})
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
	slices.SortFunc(out, func(a, b engine.SchemaChange) int {
		return strings.Compare(a.Kind+a.Name+a.What, b.Kind+b.Name+b.What)
	})
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

// dropOrder is the order in which objects that were added are dropped: what
// hangs on a table before the table. Kinds that are not here are left to a
// replacement.
var dropOrder = []string{
	"event trigger", "publication", "policy", "rule", "trigger", "constraint", "statistics", "materialized view",
	"view", "table", "index",
	"aggregate", "procedure", "function", "sequence", "type", "collation", "extension", "schema",
}

// Public is an object that tests drop and make anew to empty a database.
var Public = Name{"schema", "public"}

// Drops are the statements that drop what is in now and not in before, how
// many objects those are, and their names but for parts of others. The
// statements come whole from the server, which quotes all names.
func Drops(now, before Schema) (sql string, known int, what []string) {
	var all []string
	for _, kind := range dropOrder {
		var names []Name
		for n := range now {
			if _, old := before[n]; !old && n.Kind == kind && now[n].Drop != "" {
				names = append(names, n)
			}
		}
		slices.SortFunc(names, func(a, b Name) int { return strings.Compare(a.Name, b.Name) })
		for _, n := range names {
			known++
			if partOf(now[n], now, before) {
				continue // it goes with its table
			}
			what = append(what, kind+" "+now[n].Short())
			all = append(all, now[n].Drop)
		}
	}
	return strings.Join(all, "; "), known, what
}

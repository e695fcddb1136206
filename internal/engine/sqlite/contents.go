package sqlite

import (
	"context"
	"fmt"
	"hash/fnv"

	"hemzo/internal/engine"
)

// Contents sums up all that the file holds.
func (d *database) Contents(ctx context.Context, _ bool) ([]engine.Content, error) {
	var out []engine.Content
	var tables []string
	err := d.Query(ctx, "SELECT type, name, coalesce(sql, '') FROM sqlite_schema",
		engine.Sink{Row: func(r []any) error {
			out = append(out, engine.Content{Kind: fmt.Sprint(r[0]), Name: fmt.Sprint(r[1]), Sum: fmt.Sprint(r[2])})
			if r[0] == "table" {
				tables = append(tables, fmt.Sprint(r[1]))
			}
			return nil
		}})
	if err != nil {
		return nil, err
	}
	for _, name := range tables {
		var rows, sum uint64 // the same whatever the order of the rows is
		err := d.Query(ctx, "SELECT * FROM "+quote(name), engine.Sink{Row: func(r []any) error {
			h := fnv.New64a()
			for _, v := range r {
				fmt.Fprintf(h, "%T:%v\x00", v, v)
			}
			rows, sum = rows+1, sum+h.Sum64()
			return nil
		}})
		if err != nil {
			return nil, err
		}
		out = append(out, engine.Content{Kind: "rows", Name: name, Sum: fmt.Sprint(rows, " ", sum)})
	}
	return out, nil
}

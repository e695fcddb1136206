package sqlite

import (
	"context"
	"fmt"
	"hash/fnv"

	"hemzo/internal/engine"
)

// Contents sums up all that the file holds.
func (d *database) Contents(ctx context.Context, _ bool) ([]engine.Content, error) {
	defer d.leaveUnread()()
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
		c := engine.Content{Kind: engine.Rows, Name: name, Columns: map[string]string{}}
		var sum uint64 // the same whatever the order of the rows is
		var names []string
		var columns []uint64
		err := d.Query(ctx, "SELECT * FROM "+quote(name), engine.Sink{
			Columns: func(all []string) error { names, columns = all, make([]uint64, len(all)); return nil },
			Row: func(r []any) error {
				whole := fnv.New64a()
				for i, v := range r {
					h := fnv.New64a()
					fmt.Fprintf(h, "%T:%v\x00", v, v)
					whole.Write(h.Sum(nil))
					columns[i] += h.Sum64()
				}
				c.Rows, sum = c.Rows+1, sum+whole.Sum64()
				return nil
			}})
		if err != nil {
			return nil, err
		}
		for i, n := range names {
			c.Columns[n] = fmt.Sprint(columns[i])
		}
		c.Sum = fmt.Sprint(c.Rows, " ", sum)
		out = append(out, c)
	}
	return out, nil
}

package mariadb

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"

	"hemzo/internal/engine"
)

// Changes tells how the copy differs from its start state.
func (d *database) Changes(ctx context.Context, want engine.Compare) (*engine.Changes, error) {
	s, err := d.state(ctx, want.Start)
	if err != nil {
		return nil, err
	}
	c, err := d.admin(ctx)
	if err != nil {
		return nil, err
	}
	known := want.Baseline
	if want.Last != want.Start {
		known = nil
	}
	x, err := d.suspect(ctx, c, s, known)
	if err != nil {
		return nil, err
	}
	out := engine.NoChanges()
	if x.defined {
		if out.Schema, err = d.schemaChanges(ctx, c, s); err != nil {
			return nil, err
		}
	}
	for _, t := range s.Tables {
		gone := slices.ContainsFunc(out.Schema, func(o engine.SchemaChange) bool {
			return o.Kind == "table" &&
				o.Name == t.Name
		})
		switch {
		case gone:
		case t.Kind == "SEQUENCE":
			rows, err := c.rows(ctx, "SELECT * FROM "+quote(t.Name))
			if err != nil {
				return nil, err
			}
			if !slices.Equal(rows[0], t.Counter) {
				out.Sequences = append(out.Sequences, engine.SequenceChange{Name: t.Name, Before: t.Counter[0],
					After: rows[0][0]})
			}
		case x.tables[t.Name] || want.Last != want.Start:
			if err := d.compare(ctx, c, s, t, want.Rows, out); err != nil {
				return nil, fmt.Errorf("comparing the table %s: %w", t.Name, err)
			}
		}
	}
	return out, nil
}

// schemaChanges are the objects whose definitions are not as in the state.
func (d *database) schemaChanges(ctx context.Context, c *conn, s *state) ([]engine.SchemaChange, error) {
	now, err := definitions(ctx, c, d.at.Schema, nil)
	if err != nil {
		return nil, err
	}
	all := []engine.SchemaChange{}
	find := func(in []object, o object) (object, bool) {
		i := slices.IndexFunc(in, func(x object) bool { return x.Kind == o.Kind && x.Name == o.Name })
		if i < 0 {
			return object{}, false
		}
		return in[i], true
	}
	for _, o := range now {
		was, there := find(s.Objects, o)
		switch {
		case !there:
			all = append(all, engine.SchemaChange{What: "added", Kind: o.Kind, Name: o.Name})
		case was.Sum != o.Sum:
			all = append(all, engine.SchemaChange{What: "altered", Kind: o.Kind, Name: o.Name})
		}
	}
	for _, o := range s.Objects {
		if _, there := find(now, o); !there {
			all = append(all, engine.SchemaChange{What: "removed", Kind: o.Kind, Name: o.Name})
		}
	}
	return all, nil
}

// row is one row, in texts; an absent one is NULL.
type row struct {
	key, whole string
	values     []any
}

// compare compares the rows of a table with those of the state.
func (d *database) compare(ctx context.Context, c *conn, s *state, t *table, limit int, out *engine.Changes) error {
	now, err := read(ctx, c, t, quote(t.Name))
	if err != nil {
		return err
	}
	was := map[string][]row{}
	if s.there() {
		if was, err = read(ctx, c, t, s.rowsOf(t).from); err != nil {
			return err
		}
	} else if t.Rows > 0 {
		const beside = "`hemzo__start`"
		if err := c.do(ctx, "DROP TEMPORARY TABLE IF EXISTS "+beside, bare(t, beside, false)); err != nil {
			return err
		}
		defer func() { _ = c.do(context.WithoutCancel(ctx), "DROP TEMPORARY TABLE IF EXISTS "+beside) }()
		p := &putBack{database: d, c: c, state: s}
		if err := p.load(ctx, t, beside); err != nil {
			return err
		}
		if was, err = read(ctx, c, t, beside); err != nil {
			return err
		}
	}
	change := engine.TableChange{Name: t.Name, Columns: t.stored()}
	add := func(r engine.RowChange) {
		if len(change.Rows) < limit {
			change.Rows = append(change.Rows, r)
		}
	}
	for key, rows := range now {
		before := was[key]
		for i, r := range rows {
			switch {
			case i >= len(before):
				change.Added++
				add(engine.RowChange{After: r.values})
			case before[i].whole != r.whole:
				change.Altered++
				add(engine.RowChange{Before: before[i].values, After: r.values})
			}
		}
	}
	for key, rows := range was {
		for i, r := range rows {
			if i >= len(now[key]) {
				change.Removed++
				add(engine.RowChange{Before: r.values})
			}
		}
	}
	if limit == 0 {
		change.Columns = nil
	}
	if change.Added+change.Altered+change.Removed > 0 {
		out.Tables = append(out.Tables, change)
	}
	return d.compareNext(ctx, c, t, out)
}

// compareNext compares AUTO_INCREMENT.
func (d *database) compareNext(ctx context.Context, c *conn, t *table, out *engine.Changes) error {
	if t.Next == "" {
		return nil
	}
	rows, err := c.rows(ctx, "SELECT AUTO_INCREMENT FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? AND "+
		"TABLE_NAME = ?",
		d.at.Schema, t.Name)
	if err == nil && len(rows) == 1 && rows[0][0] != t.Next {
		out.Sequences = append(out.Sequences, engine.SequenceChange{Name: t.Name, Before: t.Next, After: rows[0][0]})
	}
	return err
}

// read reads the rows of a table, by their keys.
func read(ctx context.Context, c *conn, t *table, from string) (map[string][]row, error) {
	names := t.stored()
	all := map[string][]row{}
	err := c.each(ctx, "SELECT "+strings.Join(t.written(), ", ")+" FROM "+from, nil, func(values []sql.RawBytes) error {
		var r row
		var whole, key strings.Builder
		for i, v := range values {
			part := fmt.Sprintf("%d:%t:%s;", len(v), v == nil, v)
			whole.WriteString(part)
			if len(t.Key) == 0 || slices.Contains(t.Key, names[i]) {
				key.WriteString(part)
			}
			if v == nil {
				r.values = append(r.values, nil)
			} else {
				r.values = append(r.values, string(v))
			}
		}
		r.key, r.whole = key.String(), whole.String()
		all[r.key] = append(all[r.key], r)
		return nil
	})
	return all, err
}

// Contents sums up all that the copy holds.
func (d *database) Contents(ctx context.Context, _ bool) (all []engine.Content, err error) {
	c, err := d.admin(ctx)
	if err != nil {
		return nil, err
	}
	objects, err := definitions(ctx, c, d.at.Schema, nil)
	if err != nil {
		return nil, err
	}
	for _, o := range objects {
		all = append(all, engine.Content{Kind: o.Kind, Name: o.Name, Sum: o.Sum})
	}
	found, err := tables(ctx, c, d.at.Schema)
	if err != nil {
		return nil, err
	}
	for _, t := range found {
		if t.Kind == "SEQUENCE" {
			rows, err := c.rows(ctx, "SELECT * FROM "+quote(t.Name))
			if err != nil {
				return nil, err
			}
			all = append(all, engine.Content{Kind: "counter", Name: t.Name, Sum: strings.Join(rows[0], " ")})
			continue
		}
		if t.Next != "" {
			all = append(all, engine.Content{Kind: "counter", Name: t.Name, Sum: t.Next})
		}
		sum, err := summed(ctx, c, t)
		if err != nil {
			return nil, fmt.Errorf("summing up the table %s: %w", t.Name, err)
		}
		all = append(all, sum)
	}
	return all, nil
}

// summed sums up the rows of a table, in no order.
func summed(ctx context.Context, c *conn, t *table) (engine.Content, error) {
	return summedIn(ctx, c, t, quote(t.Name))
}

func summedIn(ctx context.Context, c *conn, t *table, from string) (engine.Content, error) {
	out := engine.Content{Kind: engine.Rows, Name: t.Name, Columns: map[string]string{}}
	half := c.hash("%s")
	var all, names []string
	parts := []string{}
	for i, v := range t.written() {
		name := t.stored()[i]
		one := fmt.Sprintf("IFNULL(CONCAT('v', LENGTH(%s), ':', BINARY %s), 'n')", v, v)
		names, parts = append(names, name), append(parts, one)
		all = append(all, "IFNULL(SUM("+fmt.Sprintf(half, one)+"), 0)")
	}
	query := "SELECT COUNT(*), IFNULL(SUM(" + fmt.Sprintf(half, "CONCAT("+strings.Join(parts, ", ")+")") + "), 0), " +
		strings.Join(all, ", ") + " FROM " + from
	rows, err := c.rows(ctx, query)
	if err != nil {
		return out, err
	}
	r := rows[0]
	out.Rows, out.Sum = int64(number(r[0])), r[0]+" "+r[1]
	for i, name := range names {
		if out.Rows > 0 {
			out.Columns[name] = r[i+2]
		}
	}
	return out, nil
}

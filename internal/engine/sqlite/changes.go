package sqlite

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"strings"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
)

// Changes compares the file with its start state, in one read transaction.
func (d *database) Changes(ctx context.Context, r engine.Compare) (*engine.Changes, error) {
	defer d.leaveUnread()()
	changes := engine.NoChanges()
	same, err := untouched(d.path, r.Baseline)
	if errors.Is(err, os.ErrNotExist) {
		return nil, fault.New(fault.Failed, "hemzo reset makes it again", "the file %s is gone", d.path)
	}
	if other, failed := d.swapped(nil); failed == nil && other {
		d.disconnect() // from a file that is not there any more
	}
	if err != nil || same {
		return changes, err
	}
	st, err := d.begin(r.Start)
	if err != nil {
		return nil, err
	}
	c, err := d.join(st)
	if err != nil {
		return nil, err
	}
	defer c.interrupted(ctx)()
	if _, err := c.do("BEGIN"); err != nil {
		return nil, d.explain(err, "comparing")
	}
	defer c.rollback()
	// The first read takes the lock that keeps the pages as they are.
	if _, err := c.number("PRAGMA main.schema_version"); err != nil {
		return nil, d.explain(err, "comparing")
	}
	diff, err := d.differences(c, st)
	if err == nil && diff.unknown {
		diff.tables, err = allTables(c)
	}
	if err == nil {
		err = compare(c, diff, r, changes)
	}
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, d.explain(err, "comparing")
	}
	return changes, nil
}

// Keep makes a snapshot while other connections are open: a lock that no
// writer passes holds the file still meanwhile.
func (d *database) Snapshot(ctx context.Context, to string, facts engine.Facts) (json.RawMessage, error) {
	defer d.leaveUnread()()
	c, err := d.connect()
	if err != nil {
		return nil, err
	}
	for try := 0; ; try++ {
		if hasLog(d.path) {
			if _, err := c.do("PRAGMA wal_checkpoint(TRUNCATE)"); err != nil {
				return nil, d.explain(err, "making a snapshot")
			}
		}
		if _, err := c.do("BEGIN IMMEDIATE"); err != nil {
			return nil, d.explain(err, "making a snapshot")
		}
		if !hasLog(d.path) {
			break
		}
		c.rollback()
		if try == 100 {
			return nil, fault.New(fault.Failed, "end the reads that keep the write-ahead log from being emptied",
				"making a snapshot: the write-ahead log of %s stays in use", d.path)
		}
	}
	defer c.rollback()
	return nil, d.server.Copy(ctx, d.id, to, facts)
}

func allTables(c *conn) (map[string]bool, error) {
	all := map[string]bool{"sqlite_schema": true}
	err := c.each("SELECT name FROM start.sqlite_schema WHERE type = 'table' AND rootpage > 0", func(s *stmt) error {
		all[s.text(0)] = true
		return nil
	})
	return all, err
}

func compare(c *conn, diff *difference, r engine.Compare, out *engine.Changes) error {
	gone := map[string]bool{}
	if diff.tables["sqlite_schema"] {
		var err error
		if out.Schema, err = schemaChanges(c); err != nil {
			return err
		}
	}
	altered := map[string]bool{}
	for _, s := range out.Schema {
		if s.Kind == "table" {
			altered[s.Name], gone[s.Name] = s.What == "altered", s.What == "removed"
		}
	}
	for _, name := range sorted(diff.tables) {
		switch {
		case name == "sqlite_schema" || gone[name]:
			continue
		case name == "sqlite_sequence":
			if err := sequenceChanges(c, out); err != nil {
				return err
			}
			continue
		}
		t, err := describe(c, "start", name)
		if err != nil {
			return err
		}
		if t == nil {
			continue
		}
		if altered[name] {
			now, err := describe(c, "main", name)
			if err != nil {
				return err
			}
			t.columns = common(t.columns, now.columns)
			if strings.Join(t.key, ",") != strings.Join(now.key, ",") {
				continue // rows that no key tells apart any more
			}
		}
		one, err := tableChanges(c, t, r.Rows)
		if err != nil {
			return fmt.Errorf("table %q: %w", name, err)
		}
		if one.Added+one.Removed+one.Altered > 0 {
			out.Tables = append(out.Tables, one)
		}
	}
	for _, s := range out.Schema {
		if s.Kind == "table" && s.What == "added" {
			if err := addedTable(c, s.Name, r.Rows, out); err != nil {
				return err
			}
		}
	}
	return nil
}

// addedTable lists the rows of a table that the start state does not have.
func addedTable(c *conn, name string, rows int, out *engine.Changes) error {
	t, err := describe(c, "main", name)
	if err != nil || t == nil {
		return err
	}
	one := engine.TableChange{Name: name, Columns: t.columns}
	if one.Added, err = c.number("SELECT count(*) FROM main." + quote(name)); err != nil || one.Added == 0 {
		return err
	}
	if rows > 0 {
		err = c.each(fmt.Sprintf("SELECT %s FROM main.%s LIMIT ?", quoteAll(t.columns), quote(name)),
			func(s *stmt) error {
				one.Rows = append(one.Rows, engine.RowChange{After: s.row(0, len(t.columns))})
				return nil
			}, rows)
	} else {
		one.Columns = nil
	}
	out.Tables = append(out.Tables, one)
	return err
}

func schemaChanges(c *conn) (all []engine.SchemaChange, err error) {
	all = []engine.SchemaChange{}
	const list = `SELECT CASE WHEN was.name IS NULL THEN 'added' WHEN now.name IS NULL THEN 'removed'
		ELSE 'altered' END,
		coalesce(now.type, was.type), coalesce(now.name, was.name)
		FROM main.sqlite_schema AS now FULL JOIN start.sqlite_schema AS was ON now.type = was.type AND now.name
			= was.name
		WHERE CASE WHEN now.name IS NULL THEN was.tbl_name = was.name OR was.tbl_name IN (SELECT name
			FROM main.sqlite_schema)
			WHEN was.name IS NULL THEN now.tbl_name = now.name OR now.tbl_name IN (SELECT name
				FROM start.sqlite_schema)
			ELSE now.sql IS NOT was.sql END ORDER BY 3, 2` // but for what came or went with its table
	err = c.each(list, func(s *stmt) error {
		if !strings.HasPrefix(s.text(2), "sqlite_autoindex_") {
			all = append(all, engine.SchemaChange{What: s.text(0), Kind: s.text(1), Name: s.text(2)})
		}
		return nil
	})
	for i, s := range all {
		if err == nil && s.Kind == "table" && s.What == "altered" {
			all[i].Details, err = columnChanges(c, s.Name)
		}
	}
	return all, err
}

// columnChanges tells how the columns of a table differ.
func columnChanges(c *conn, table string) (out []string, err error) {
	const list = `SELECT was.name, now.name, was.type, now.type FROM pragma_table_xinfo(?1, 'main') AS now FULL
		JOIN pragma_table_xinfo(?1, 'start') AS was ON now.name = was.name
		WHERE now.name IS NULL OR was.name IS NULL OR now.type <> was.type OR now."notnull" <> was."notnull"
			OR now.dflt_value IS NOT was.dflt_value OR now.pk <> was.pk OR now.hidden <> was.hidden
		ORDER BY now.cid IS NOT NULL, now.cid, was.cid`
	err = c.each(list, func(s *stmt) error {
		switch was, now := s.text(0), s.text(1); {
		case now == "":
			out = append(out, "removed column "+was)
		case was == "":
			out = append(out, strings.TrimSpace("added column "+now+" "+s.text(3)))
		case s.text(2) != s.text(3):
			out = append(out, "column "+now+" was "+s.text(2)+", is "+s.text(3))
		default:
			out = append(out, "altered column "+now)
		}
		return nil
	}, table)
	return out, err
}

func sequenceChanges(c *conn, out *engine.Changes) error {
	return c.each(`SELECT coalesce(now.name, was.name), coalesce(was.seq, 0), coalesce(now.seq, 0)
		FROM main.sqlite_sequence AS now FULL JOIN start.sqlite_sequence AS was ON now.name = was.name
		WHERE now.seq IS NOT was.seq ORDER BY 1`, func(s *stmt) error {
		out.Sequences = append(out.Sequences,
			engine.SequenceChange{Name: s.text(0), Before: s.text(1), After: s.text(2)})
		return nil
	})
}

func tableChanges(c *conn, t *table, rows int) (engine.TableChange, error) {
	one := engine.TableChange{Name: t.name}
	q, same, differ := quote(t.name), t.same("was", "now"), t.differ("was", "now")
	added := fmt.Sprintf("FROM main.%s AS now WHERE NOT EXISTS (SELECT 1 FROM start.%s AS was WHERE %s)", q, q, same)
	removed := fmt.Sprintf("FROM start.%s AS was WHERE NOT EXISTS (SELECT 1 FROM main.%s AS now WHERE %s)", q, q, same)
	altered := fmt.Sprintf("FROM main.%s AS now JOIN start.%s AS was ON %s WHERE %s", q, q, same, differ)
	for n, from := range map[*int64]string{&one.Added: added, &one.Removed: removed, &one.Altered: altered} {
		var err error
		if *n, err = c.number("SELECT count(*) " + from); err != nil {
			return one, err
		}
	}
	if rows == 0 {
		return one, nil
	}
	one.Columns = t.columns
	now, was := prefixed("now", t.columns), prefixed("was", t.columns)
	n := len(t.columns)
	for _, part := range []struct {
		list, from string
		row        func(*stmt) engine.RowChange
	}{
		{now, added, func(s *stmt) engine.RowChange { return engine.RowChange{After: s.row(0, n)} }},
		{was, removed, func(s *stmt) engine.RowChange { return engine.RowChange{Before: s.row(0, n)} }},
		{was + ", " + now, altered, func(s *stmt) engine.RowChange {
			return engine.RowChange{Before: s.row(0, n), After: s.row(n, 2*n)}
		}},
	} {
		err := c.each(fmt.Sprintf("SELECT %s %s LIMIT ?", part.list, part.from), func(s *stmt) error {
			one.Rows = append(one.Rows, part.row(s))
			return nil
		}, rows-len(one.Rows))
		if err != nil {
			return one, err
		}
	}
	return one, nil
}

func (s *stmt) row(from, to int) []any {
	row := make([]any, 0, to-from)
	for i := from; i < to; i++ {
		row = append(row, s.value(i))
	}
	return row
}

func prefixed(alias string, columns []string) string {
	all := make([]string, len(columns))
	for i, c := range columns {
		all[i] = alias + "." + quote(c)
	}
	return strings.Join(all, ", ")
}

func common(a, b []string) (both []string) {
	for _, x := range a {
		for _, y := range b {
			if strings.EqualFold(x, y) {
				both = append(both, x)
			}
		}
	}
	return both
}

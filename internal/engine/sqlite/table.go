package sqlite

import (
	"fmt"
	"slices"
	"strings"
)

// table is what putting rows back needs to know of a table.
type table struct {
	name    string
	columns []string // that hold values of their own: no generated ones
	key     []string // what tells rows apart: a name of the row id, or the primary key
	empty   bool     // it has no rows
	rowid   string   // a name of the row id that no column bears, "" where there is none
}

// describe reads a table's columns; nil where there is no such table.
func describe(c *conn, schema, name string) (*table, error) {
	t := &table{}
	withoutRowid := false
	err := c.each("SELECT name, wr FROM pragma_table_list WHERE schema = ? AND name = ? COLLATE NOCASE AND type <> "+
		"'view'", func(s *stmt) error {
		t.name, withoutRowid = s.text(0), s.int(1) == 1
		return nil
	}, schema, name)
	if err != nil || t.name == "" {
		return nil, err
	}
	var all []string
	keys := map[int64]string{}
	err = c.each("SELECT name, pk, hidden FROM pragma_table_xinfo(?, ?)", func(s *stmt) error {
		all = append(all, strings.ToLower(s.text(0)))
		if pk := s.int(1); pk > 0 {
			keys[pk] = s.text(0)
		}
		if s.int(2) == 0 {
			t.columns = append(t.columns, s.text(0))
		}
		return nil
	}, t.name, schema)
	if err != nil {
		return nil, err
	}
	if withoutRowid {
		for i := int64(1); keys[i] != ""; i++ {
			t.key = append(t.key, keys[i])
		}
		return t, nil
	}
	for _, alias := range []string{"rowid", "_rowid_", "oid"} {
		if !slices.Contains(all, alias) {
			t.rowid, t.key = alias, []string{alias}
			return t, nil
		}
	}
	return nil, fmt.Errorf("every name of the row id of table %q is taken by a column", t.name)
}

// table describes a table of the start state, once.
func (st *start) table(name string) (*table, error) {
	if t := st.tables[name]; t != nil {
		return t, nil
	}
	t, err := describe(st.c, "main", name)
	if err != nil {
		return nil, err
	}
	if t == nil {
		return nil, fmt.Errorf("it is not in the start state")
	}
	rows, err := st.c.number("SELECT EXISTS (SELECT 1 FROM " + quote(name) + ")")
	if err != nil {
		return nil, err
	}
	t.empty = rows == 0
	st.tables[name] = t
	return t, nil
}

// same is the condition that two rows have the same key.
func (t *table) same(a, b string) string {
	var all []string
	for _, k := range t.key {
		all = append(all, fmt.Sprintf("%s.%s IS %s.%s", a, quote(k), b, quote(k)))
	}
	if t.rowid != "" {
		return fmt.Sprintf("%s.%s = %s.%s", a, t.rowid, b, t.rowid)
	}
	return strings.Join(all, " AND ")
}

// differ is the condition that two rows hold other values. It compares bytes
// and types: neither a column's collation nor 1 = 1.0 may hide a change.
func (t *table) differ(a, b string) string {
	if len(t.columns) == 0 {
		return "0"
	}
	var all []string
	for _, c := range t.columns {
		q := quote(c)
		all = append(all, fmt.Sprintf(
			"%[1]s.%[3]s COLLATE BINARY IS NOT %[2]s.%[3]s OR typeof(%[1]s.%[3]s) <> typeof(%[2]s.%[3]s)", a, b, q))
	}
	return strings.Join(all, " OR ")
}

// list names what an exact copy of a row holds.
func (t *table) list() string {
	if t.rowid == "" {
		return quoteAll(t.columns)
	}
	// Where the row id is a column too, it is given once, by that name.
	return strings.TrimSuffix(t.rowid+", "+quoteAll(t.columns), ", ")
}

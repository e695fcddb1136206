package mariadb

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// baseline is what tells of a copy's tables which were touched, noted when they were as
// in a state. It holds for one life of a server: all of it lives in its memory.
type baseline struct {
	Life   string             `json:"life"`
	Tables map[string]counter `json:"tables"` // by their bases
	Sum    string             `json:"sum"`    // over all that tables count
	Done   done               `json:"done"`
}

// suspicion is what may not be as in the state.
type suspicion struct {
	tables  map[string]bool
	defined bool // definitions may be others
	same    bool // the baseline is as it was
	now     baseline
}

// suspect asks what was touched since a baseline was noted; nil for none, or one of
// another life: then the server began with the state's files, and nothing was counted yet.
func suspect(ctx context.Context, c *conn, a address, s *state, known json.RawMessage) (*suspicion, error) {
	var head struct { // the rest is read where it is needed
		baseline
		Tables json.RawMessage `json:"tables"`
	}
	if json.Unmarshal(known, &head) != nil || head.Life != a.Life {
		head.baseline, head.Tables = baseline{Life: a.Life}, nil
	}
	base := head.baseline
	x := &suspicion{tables: map[string]bool{}, now: baseline{Life: a.Life}}
	var err error
	if x.now.Done, err = statements(ctx, c); err != nil {
		return nil, err
	}
	if x.now.Sum, err = countersSum(ctx, c, a.Schema); err != nil {
		return nil, err
	}
	if base.Sum == x.now.Sum && base.Done == x.now.Done && s.allTransacted() {
		x.same = true
		return x, nil
	}
	if head.Tables != nil {
		if err := json.Unmarshal(head.Tables, &base.Tables); err != nil {
			return nil, fmt.Errorf("reading a baseline: %w", err)
		}
	}
	if x.now.Tables, err = counters(ctx, c, a.Schema, nil); err != nil {
		return nil, err
	}
	if base.Tables == nil {
		base.Done = a.Done
	}
	x.suspectCounted(s, base)
	if x.defined {
		err = x.suspectMoved(ctx, c, a, s)
	}
	return x, err
}

// historySum sums up all that a table with a history holds: "" where that cannot be told.
func historySum(ctx context.Context, c *conn, t *table) string {
	parts := []string{}
	for _, v := range append(t.written(), "ROW_START", "ROW_END") {
		parts = append(parts, "IFNULL(CONCAT(LENGTH("+v+"), ':', "+v+"), 'n')")
	}
	rows, err := c.rows(ctx, "SELECT COUNT(*), SUM(CAST(CONV(LEFT(MD5(CONCAT("+strings.Join(parts,
		", ")+")), 15), 16, 10) "+
		"AS DECIMAL(30))) FROM "+quote(t.Name)+" FOR SYSTEM_TIME ALL")
	if err != nil || len(rows) != 1 {
		return ""
	}
	return strings.Join(rows[0], " ")
}

// suspectCounted suspects the tables whose counters are not those of a baseline.
func (x *suspicion) suspectCounted(s *state, base baseline) {
	tables := len(x.now.Tables)
	if _, others := x.now.Tables[""]; others {
		tables--
	}
	x.defined = x.now.Done.Defined != base.Done.Defined || tables != s.counted()
	for _, t := range s.Tables {
		is, there := x.now.Tables[t.Base]
		was, noted := base.Tables[t.Base]
		if !noted {
			was = counter{IDs: t.IDs}
			if is.Next != 0 && t.Next != "" { // it is 0 until the table is opened
				was.Next = number(t.Next)
			}
			if t.Next == "" {
				was.Next = is.Next
			}
		}
		switch { // it is 0 until the table is opened
		case is.Next == 0:
			was.Next = 0
		case was.Next == 0 && t.Next != "":
			was.Next = number(t.Next)
		}
		switch {
		case t.Kind == "SEQUENCE":
		case !t.transacted(), !there, !is.same(was), x.now.Done != base.Done: // ALTER, too, clears what a table counts
			x.tables[t.Name] = true
		}
	}
}

// suspectMoved suspects tables whose AUTO_INCREMENT is another: a statement that defines it
// may have closed them, and InnoDB tells of open tables alone.
func (x *suspicion) suspectMoved(ctx context.Context, c *conn, a address, s *state) error {
	rows, err := c.rows(ctx, "SELECT TABLE_NAME, AUTO_INCREMENT FROM information_schema.TABLES WHERE TABLE_SCHEMA "+
		"= ? AND "+
		"AUTO_INCREMENT IS NOT NULL", a.Schema)
	for _, r := range rows {
		if t := s.table(r[0]); t != nil && t.Next != r[1] {
			x.tables[t.Name] = true
		}
	}
	return err
}

// allTransacted reports whether all changes of rows are counted.
func (s *state) allTransacted() bool {
	return !slices.ContainsFunc(s.Tables, func(t *table) bool { return !t.transacted() && t.Kind != "SEQUENCE" })
}

// counted is how many tables InnoDB counts for.
func (s *state) counted() (n int) {
	for _, t := range s.Tables {
		if t.IDs != "" {
			n++
		}
	}
	return n
}

// names are the suspected tables, in the state's order.
func (x *suspicion) names(s *state) (all []*table) {
	for _, t := range s.Tables {
		if x.tables[t.Name] {
			all = append(all, t)
		}
	}
	return all
}

// others reports whether definitions are not as in the state, in words.
func others(ctx context.Context, c *conn, a address, s *state) (differ []string, err error) {
	now, err := definitions(ctx, c, a.Schema)
	if err != nil {
		return nil, err
	}
	for _, o := range now {
		if !slices.Contains(s.Objects, o) {
			differ = append(differ, o.Kind+" "+o.Name)
		}
	}
	for _, o := range s.Objects {
		if !slices.ContainsFunc(now, func(n object) bool { return n.Kind == o.Kind && n.Name == o.Name }) {
			differ = append(differ, o.Kind+" "+o.Name)
		}
	}
	return differ, nil
}

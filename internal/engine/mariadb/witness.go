package mariadb

import (
	"bytes"
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
	// On a server with other copies Done is everybody's. There Made tells when each table was
	// made or altered, as of the copy's making and of Hemzo's own statements since, and
	// Noted the server's time of the baseline.
	Made  map[string]string `json:"made,omitempty"`
	Noted string            `json:"noted,omitempty"`
}

// suspicion is what may not be as in the state.
type suspicion struct {
	tables  map[string]bool
	defined bool // definitions may be others
	same    bool // the baseline is as it was
	now     baseline
	// unaltered are tables that nothing has altered, where definitions may be others
	unaltered map[string]bool
}

// suspect asks what was touched since a baseline was noted. Where that is nil, or one of
// another life, a server of the copy's own began with the state's files and counted nothing
// before; on one that is shared all is looked at.
func (d *database) suspect(ctx context.Context, c *conn, s *state, known json.RawMessage) (*suspicion, error) {
	if d.at.Uncounted {
		return suspectAll(s), nil
	}
	now, err := look(ctx, c, d.at)
	if err != nil {
		return nil, err
	}
	life := now.Life
	base, whole := d.baselineOf(known, life)
	x := &suspicion{tables: map[string]bool{}, now: now}
	if base.Sum == x.now.Sum && base.Done == x.now.Done && s.allTransacted() {
		x.same = true
		return x, nil
	}
	if !whole && base.Sum != "" {
		if err := json.Unmarshal(known, &base); err != nil {
			return nil, fmt.Errorf("reading a baseline: %w", err)
		}
	}
	if x.now.Tables, err = counters(ctx, c, d.at.Schema, nil); err != nil {
		return nil, err
	}
	switch {
	case d.at.Shared && base.Tables == nil:
		all := suspectAll(s)
		all.now = x.now
		all.now.Made, err = made(ctx, c, d.at.Schema)
		return all, err
	case d.at.Shared:
		x.now.Made = base.Made
		x.suspectCounted(s, base)
		if x.now.Done != base.Done {
			err = x.suspectAltered(ctx, c, d.at, s, base)
		}
	default:
		if base.Tables == nil {
			base.Done = d.at.Done
		}
		x.suspectCounted(s, base)
		for _, t := range s.Tables { // ALTER, too, clears what a table counts
			if x.now.Done != base.Done && t.Kind != "SEQUENCE" {
				x.tables[t.Name] = true
			}
		}
	}
	if err == nil && x.defined {
		err = x.suspectMoved(ctx, c, d.at, s)
	}
	return x, err
}

// baselineOf reads a baseline, but for what it says of each table: that is read where it is
// needed. whole reports that it is there, as the baseline was noted here. One of another life
// of the server says nothing.
func (d *database) baselineOf(known json.RawMessage, life string) (base baseline, whole bool) {
	if known != nil && bytes.Equal(known, d.noted) && d.notedBase.Life == life {
		return d.notedBase, true
	}
	var head struct {
		baseline
		Tables json.RawMessage `json:"tables"`
		Made   json.RawMessage `json:"made"`
	}
	if json.Unmarshal(known, &head) != nil || head.Life != life {
		return baseline{Life: life}, false
	}
	return head.baseline, false
}

// look notes what is asked first. In whichever order the server reads the two, what is done
// meanwhile differs from a baseline in one of them, or is seen the next time.
func look(ctx context.Context, c *conn, a address) (now baseline, err error) {
	now.Life = a.Life
	if a.Shared {
		if now.Life, now.Noted, err = lifeAndTime(ctx, c); err != nil {
			return now, err
		}
	}
	if c.mysql {
		if now.Done, err = statements(ctx, c); err != nil {
			return now, err
		}
		now.Sum, err = countersSum(ctx, c, a.Schema)
		return now, err
	}
	rows, err := c.rows(ctx, "SELECT * FROM ("+statementsQuery+") a, ("+sumQuery(c)+") b", len(a.Schema)+1,
		a.Schema+"/")
	if err != nil {
		return now, fmt.Errorf("reading what was executed and counted: %w", err)
	}
	now.Done = done{Defined: number(rows[0][0]), Cleared: number(rows[0][1])}
	now.Sum = strings.Join(rows[0][2:], " ")
	return now, nil
}

// note notes a baseline of a copy that is at its start state.
func note(ctx context.Context, c *conn, a address) (json.RawMessage, error) {
	if a.Uncounted {
		return nil, nil
	}
	b, err := look(ctx, c, a)
	if err != nil {
		return nil, err
	}
	if b.Tables, err = counters(ctx, c, a.Schema, nil); err != nil {
		return nil, err
	}
	b.Sum = sumOf(b.Tables)
	if b.Made, err = made(ctx, c, a.Schema); err != nil {
		return nil, err
	}
	return json.Marshal(b)
}

// suspectAll suspects everything.
func suspectAll(s *state) *suspicion {
	x := &suspicion{tables: map[string]bool{}, defined: true, now: baseline{Tables: map[string]counter{}}}
	for _, t := range s.Tables {
		x.tables[t.Name] = t.Kind != "SEQUENCE"
	}
	return x
}

// made tells when the tables of a schema, or some, were made or altered, to the second.
func made(ctx context.Context, c *conn, schema string, some ...string) (map[string]string, error) {
	query := "SELECT TABLE_NAME, IFNULL(CREATE_TIME, '') FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? AND " +
		"TABLE_TYPE <> 'VIEW'"
	args := []any{schema}
	if len(some) > 0 {
		query += " AND TABLE_NAME IN (" + strings.TrimSuffix(strings.Repeat("?, ", len(some)), ", ") + ")"
		for _, name := range some {
			args = append(args, name)
		}
	}
	rows, err := c.rows(ctx, query, args...)
	if err != nil {
		return nil, fmt.Errorf("asking when tables were made: %w", err)
	}
	all := map[string]string{}
	for _, r := range rows {
		all[r[0]] = r[1]
	}
	return all, nil
}

// suspectAltered suspects, where something was executed on the server by whomever, the
// tables that may have been altered, which clears what they count. A second in which the
// baseline was noted tells nothing. MySQL takes the time from the session, which may SET
// TIMESTAMP: any other time than the noted one is suspect too, not a later one alone.
func (x *suspicion) suspectAltered(ctx context.Context, c *conn, a address, s *state, base baseline) error {
	now, err := made(ctx, c, a.Schema)
	if err != nil {
		return err
	}
	x.defined = x.defined || x.now.Done.Defined != base.Done.Defined
	cleared := x.now.Done.Cleared != base.Done.Cleared
	x.unaltered = map[string]bool{}
	for _, t := range s.Tables {
		at := now[t.Name]
		altered := at == "" || at != base.Made[t.Name] || at >= base.Noted
		if t.Kind != "SEQUENCE" && (cleared || altered) {
			x.tables[t.Name] = true
		}
		// One that was renamed brings its time along, and its number.
		is, was := x.now.Tables[t.Base], base.Tables[t.Base]
		x.unaltered[t.Name] = !altered && t.transacted() && is.IDs == was.IDs && is.IDs != ""
	}
	return nil
}

// historySum sums up all that a table with a history holds: "" where that cannot be told.
func historySum(ctx context.Context, c *conn, t *table) string {
	parts := []string{}
	for _, v := range append(t.written(), t.period()...) {
		parts = append(parts, "IFNULL(CONCAT(LENGTH("+v+"), ':', "+v+"), 'n')")
	}
	rows, err := c.rows(ctx, "SELECT COUNT(*), SUM("+c.hash("CONCAT("+strings.Join(parts, ", ")+")")+") FROM "+
		quote(t.Name)+" FOR SYSTEM_TIME ALL")
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
	x.defined = x.now.Done.Defined != base.Done.Defined || !s.there() && tables != s.counted()
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
		case !t.transacted(), !there, !is.same(was):
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
func (x *suspicion) others(ctx context.Context, c *conn, a address, s *state) (differ []string, err error) {
	now, err := definitions(ctx, c, a.Schema, s.known(x.unaltered))
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

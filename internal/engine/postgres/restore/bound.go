package restore

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/engine/postgres/witness"
)

// An owner of tables that is no superuser cannot switch foreign keys off. Rows then go and
// come in an order that they allow, and a row that others may refer to is updated where it
// was changed: its deletion could reach rows that nobody has touched. Triggers of users' are
// switched off and on again in the same transaction.

// bounds is what holds for a table that is put back.
type bounds struct {
	triggers   []string // that fire, each with how it is enabled
	rules      bool     // a rule rewrites what writes to it
	leads      []int    // places of tables that its foreign keys lead to
	referenced bool     // a foreign key leads to it
	contained  bool     // what a foreign key does on DELETE or UPDATE reaches no row of the start state
	immediate  bool     // its primary key is checked at once
}

// boundTable is a table whose rows are put back one by one.
type boundTable struct {
	bounds
	layout
	mark   witness.Mark
	how    emptying
	source source // where rows are to come

	gone           []string // places of rows that go
	fresh, changed [][]byte // rows that come: those that are not there, and those that are otherwise
	keys           []string // of rows that went; nil where they are not known
	done           engine.TableReport
}

// attemptBound is attempt where foreign keys and triggers hold. It is tried once more where
// a foreign key is in the way: then rows come before others go.
func (s *Session) attemptBound(ctx context.Context, conn *pgx.Conn, p *Plan) error {
	err := s.tryBound(ctx, conn, p, false)
	if pg.State(err) == pg.ForeignKeyViolation {
		p.Report.Tables = p.Report.Tables[:0]
		err = s.tryBound(ctx, conn, p, true)
	}
	switch state := pg.State(err); {
	case state == pg.InsufficientPrivilege:
		return witness.Cannot{Why: "a table that was touched is not its owner's to put back: " + pg.Message(err)}
	case strings.HasPrefix(state, "22"), strings.HasPrefix(state, "23"), strings.HasPrefix(state, "42"):
		return witness.Cannot{Why: "the rows cannot be put back one by one: " + pg.Message(err)}
	}
	return err
}

func (s *Session) tryBound(ctx context.Context, conn *pgx.Conn, p *Plan, comeFirst bool) (err error) {
	defer func() {
		if err != nil && !conn.IsClosed() {
			_, _ = conn.Exec(context.WithoutCancel(ctx), "ROLLBACK")
		}
	}()
	how, err := s.chooseEmptying(ctx, conn, p)
	if err != nil {
		return err
	}
	if p.XID, p.Alone, err = s.beginAlone(ctx, conn); err != nil {
		return err
	}
	names := p.Names()
	if len(names) > 0 {
		_, err := conn.Exec(ctx, "LOCK TABLE ONLY "+strings.Join(names, ", ONLY ")+
			" IN SHARE ROW EXCLUSIVE MODE; SET CONSTRAINTS ALL DEFERRED")
		if err != nil {
			return s.Blocked(ctx, names, err)
		}
	}
	all, err := s.readBound(ctx, conn, p, how)
	if err != nil {
		return err
	}
	if err := s.putBound(ctx, conn, p, all, comeFirst); err != nil {
		return err
	}
	if err := s.refresh(ctx, conn, p); err != nil {
		return err
	}
	if err := s.checkUndisturbed(ctx, conn, p); err != nil {
		return err
	}
	end := "COMMIT"
	if len(p.Counters) > 0 {
		end = witness.PutCounters(p.Counters) + "; COMMIT"
	}
	_, err = conn.Exec(ctx, end)
	return err
}

// parentsFirst orders tables so that each comes after those that its foreign keys lead to,
// as far as there is no circle.
func parentsFirst(all []*boundTable) (order []*boundTable) {
	seen := make([]bool, len(all))
	var visit func(i int)
	visit = func(i int) {
		if seen[i] {
			return
		}
		seen[i] = true
		for _, parent := range all[i].leads {
			visit(parent - 1)
		}
		order = append(order, all[i])
	}
	for i := range all {
		visit(i)
	}
	return order
}

// putBound moves the rows.
func (s *Session) putBound(ctx context.Context, conn *pgx.Conn, p *Plan, all []*boundTable, comeFirst bool) error {
	off, on := switching(all)
	if off != "" {
		if _, err := conn.Exec(ctx, off); err != nil {
			return err
		}
	}
	order := parentsFirst(all)
	steps := []func() error{
		func() error { return s.emptyBound(ctx, conn, p, all, order) },
		func() error {
			return eachBound(backwards(order), func(t *boundTable) error { return t.remove(ctx, conn) })
		},
		func() error { return eachBound(order, func(t *boundTable) error { return t.bring(ctx, conn) }) },
	}
	if comeFirst {
		steps[1], steps[2] = steps[2], steps[1]
	}
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	for _, t := range order {
		if !t.referenced && t.mark.Rows {
			if err := s.fillBound(ctx, conn, p, t); err != nil {
				return err
			}
		}
	}
	if _, err := conn.Exec(ctx, "SET CONSTRAINTS ALL IMMEDIATE"); err != nil { // what has checks to come cannot be altered
		return err
	}
	for _, t := range all {
		if err := t.verify(ctx, conn, p.XID); err != nil {
			return err
		}
		p.Report.Tables = append(p.Report.Tables, t.done)
	}
	if on != "" {
		_, err := conn.Exec(ctx, on)
		p.Switched = true
		return err
	}
	return nil
}

func eachBound(all []*boundTable, do func(*boundTable) error) error {
	for _, t := range all {
		if !t.referenced {
			continue
		}
		if err := do(t); err != nil {
			return err
		}
	}
	return nil
}

func backwards(all []*boundTable) []*boundTable {
	all = slices.Clone(all)
	slices.Reverse(all)
	return all
}

// switching are the statements that switch triggers of users' off, and on again.
func switching(all []*boundTable) (off, on string) {
	var a, b strings.Builder
	for _, t := range all {
		for _, g := range t.triggers {
			name, always := strings.CutSuffix(g, " A")
			name = strings.TrimSuffix(name, " O")
			fmt.Fprintf(&a, "ALTER TABLE ONLY %s DISABLE TRIGGER %s;", t.mark.Name, name)
			how := "ENABLE"
			if always {
				how += " ALWAYS"
			}
			fmt.Fprintf(&b, "ALTER TABLE ONLY %s %s TRIGGER %s;", t.mark.Name, how, name)
		}
	}
	return a.String(), b.String()
}

// emptyBound has the rows go that were written to tables which no foreign key leads to,
// children first.
func (s *Session) emptyBound(ctx context.Context, conn *pgx.Conn, p *Plan, all, order []*boundTable) (err error) {
	for _, t := range backwards(order) {
		switch i := slices.Index(all, t); {
		case t.referenced:
		case t.how == wholeFile:
			t.done.Removed, err = truncate(ctx, conn, t.mark.Name)
		default:
			where := ""
			if t.how == youngRows {
				where = " WHERE " + p.writtenSince(i) + s.returning(p.Start, t.mark.Name)
			}
			results, failed := conn.PgConn().Exec(ctx, "DELETE FROM ONLY "+t.mark.Name+where).ReadAll()
			if err = failed; err == nil {
				t.done.Removed, t.keys = results[0].CommandTag.RowsAffected(), keysOf(results[0])
			}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// fillBound brings the missing rows of a table that no foreign key leads to.
func (s *Session) fillBound(ctx context.Context, conn *pgx.Conn, p *Plan, t *boundTable) error {
	var left int64
	if err := conn.QueryRow(ctx, "SELECT count(*) FROM ONLY "+t.mark.Name).Scan(&left); err != nil {
		return err
	}
	return s.fill(ctx, conn, p.Start, t.mark, left, t.keys, &t.done)
}

// remove has the rows go whose keys the start state does not have.
func (t *boundTable) remove(ctx context.Context, conn *pgx.Conn) error {
	if len(t.gone) == 0 {
		return nil
	}
	_, err := conn.Exec(ctx, "DELETE FROM ONLY "+t.mark.Name+" WHERE ctid = ANY ($1::tid[])",
		pgx.QueryExecModeExec, t.gone)
	return err
}

// bring brings rows that are missing, and has others be as they were.
func (t *boundTable) bring(ctx context.Context, conn *pgx.Conn) error {
	if len(t.fresh) > 0 {
		in := bytes.NewReader(bytes.Join(t.fresh, nil))
		_, err := conn.PgConn().CopyFrom(ctx, in, fmt.Sprintf("COPY %s (%s) FROM STDIN", t.name, t.columns))
		if err != nil {
			return err
		}
	}
	if len(t.changed) == 0 {
		return nil
	}
	sql, err := t.updating()
	if err == nil {
		_, err = conn.Exec(ctx, sql)
	}
	return err
}

// updating is the statement that gives rows which are there their values back.
func (t *boundTable) updating() (string, error) {
	var set []string
	for _, n := range t.names {
		if !slices.Contains(t.numbered, n) && !slices.Contains(t.keyNames, n) {
			set = append(set, n+" = EXCLUDED."+n)
		}
	}
	if set == nil { // none but those of the key: they are what they are
		for _, n := range t.keyNames {
			if !slices.Contains(t.numbered, n) {
				set = append(set, n+" = EXCLUDED."+n)
			}
		}
	}
	do := "NOTHING"
	if set != nil {
		do = "UPDATE SET " + strings.Join(set, ", ")
	}
	var rows []string
	for _, line := range t.changed {
		values, err := literals(line)
		if err != nil || len(values) != len(t.names) {
			return "", errors.Join(err, errForm)
		}
		rows = append(rows, "("+strings.Join(values, ", ")+")")
	}
	return fmt.Sprintf("INSERT INTO %s (%s) OVERRIDING SYSTEM VALUE VALUES %s ON CONFLICT (%s) DO %s", t.name, t.columns,
		strings.Join(rows, ", "), t.key, do), nil
}

// verify fails where a table does not hold what its start state does: what a foreign key or
// the type of a column made of what was written.
func (t *boundTable) verify(ctx context.Context, conn *pgx.Conn, xid string) error {
	var count int64
	if err := conn.QueryRow(ctx, "SELECT count(*) FROM ONLY "+t.mark.Name).Scan(&count); err != nil {
		return err
	}
	other := witness.Cannot{Why: "the rows of " + pg.ShortName(t.mark.Name) +
		" are not what they were once they are put back"}
	if count != t.mark.Count {
		return other
	}
	if !t.referenced || !t.mark.Rows {
		return nil
	}
	now, err := readAllOf(ctx, conn, fmt.Sprintf("COPY (SELECT %s FROM ONLY %s WHERE xmin = '%s'::xid) TO STDOUT",
		t.columns, t.name, xid))
	if err != nil {
		return err
	}
	var got [][]byte
	for line := range bytes.Lines(now) {
		got = append(got, line)
	}
	want := slices.Concat(t.fresh, t.changed)
	slices.SortFunc(got, bytes.Compare)
	slices.SortFunc(want, bytes.Compare)
	if !slices.EqualFunc(got, want, bytes.Equal) {
		return other
	}
	return nil
}

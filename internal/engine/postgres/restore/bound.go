package restore

import (
	"bytes"
	"context"
	_ "embed"
	"errors"
	"fmt"
	"io"
	"maps"
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

//go:embed sql/bounds.sql
var boundsSQL string

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

// rowsLimit bounds the rows that are put back one by one, in bytes for each table.
const rowsLimit = 64 << 20

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

// readBound learns what of each table is to go and to come.
func (s *Session) readBound(ctx context.Context, conn *pgx.Conn, p *Plan, how []emptying) (all []*boundTable, err error) {
	oids := make([]uint32, len(p.Tables))
	for i := range p.Tables {
		oids[i] = p.Mark(i).OID
		all = append(all, &boundTable{mark: p.Mark(i), how: how[i],
			done: engine.TableReport{Name: pg.ShortName(p.Mark(i).Name)}})
	}
	rows, err := conn.Query(ctx, boundsSQL, pgx.QueryExecModeExec, oids)
	if err != nil {
		return nil, err
	}
	var i int
	var b bounds
	_, err = pgx.ForEachRow(rows, []any{&i, &b.triggers, &b.rules, &b.leads, &b.referenced, &b.contained, &b.immediate},
		func() error {
			all[i-1].bounds, b = b, bounds{}
			return nil
		})
	for i, t := range all {
		if err == nil {
			err = s.compareBound(ctx, conn, p, i, t)
		}
	}
	return all, err
}

// compareBound compares the rows of a table with those of its start state, where a foreign
// key leads to it: of others those that were written go, and what is missing comes.
func (s *Session) compareBound(ctx context.Context, conn *pgx.Conn, p *Plan, i int, t *boundTable) (err error) {
	name := pg.ShortName(t.mark.Name)
	if t.rules {
		return witness.Cannot{Why: "a rule rewrites what puts rows of " + name + " back"}
	}
	if t.mark.Rows {
		if t.source, err = s.rowsOf(ctx, p.Start, t.mark); err != nil {
			return s.lost(ctx, p.Start, err)
		}
		t.layout = t.source.form()
	}
	if !t.referenced {
		return nil
	}
	if !t.contained || t.mark.Rows && (t.key == "" || !t.binary || !t.immediate) {
		return witness.Cannot{Why: "a foreign key leads to rows of " + name + " that have no key of their own"}
	}
	young := p.writtenSince(i)
	if t.mark.Older || t.mark.Count == 0 {
		young = "true"
	}
	written, err := t.readWritten(ctx, conn, young)
	if err != nil || !t.mark.Rows {
		return err
	}
	places, err := t.missing(ctx, conn, young, written)
	if err != nil {
		return err
	}
	coming, err := t.read(ctx, places)
	if err != nil {
		return s.lost(ctx, p.Start, err)
	}
	t.split(written, coming)
	return nil
}

// missing lists where the rows are, in the start state, of which none is left as it was; those
// that were written have some keys.
func (t *boundTable) missing(ctx context.Context, conn *pgx.Conn, young string, written map[string]string) ([]string, error) {
	if kept, ok := t.source.(*local); ok {
		var all int64
		if err := conn.QueryRow(ctx, "SELECT count(*) FROM ONLY "+t.name).Scan(&all); err != nil {
			return nil, err
		}
		places := kept.among(slices.Sorted(maps.Keys(written)))
		if t.mark.Count-int64(len(places)) == all-int64(len(written)) { // all that is missing was written to
			return places, nil
		}
	}
	left := t.layout
	left.where = " WHERE NOT (" + young + ")"
	places, err := t.source.absent(ctx, remote{left, conn})
	if errors.Is(err, errOrder) {
		err = witness.Cannot{Why: "the keys of " + pg.ShortName(t.name) + " are others than those of its start state"}
	}
	return places, err
}

// read reads rows of the start state.
func (t *boundTable) read(ctx context.Context, places []string) (lines [][]byte, err error) {
	if len(places) == 0 {
		return nil, nil
	}
	in := t.source.rows(ctx, places)
	all, err := io.ReadAll(io.LimitReader(in, rowsLimit))
	if err = errors.Join(err, in.Close()); err != nil {
		return nil, err
	}
	if len(all) == rowsLimit {
		return nil, witness.Cannot{Why: "too many rows of " + pg.ShortName(t.mark.Name) + " are to be put back one by one"}
	}
	for line := range bytes.Lines(all) {
		lines = append(lines, line)
	}
	if len(lines) != len(places) {
		return nil, ErrReferenceLost
	}
	return lines, nil
}

// readWritten reads the places of the rows that were written, by their keys; where the start
// state has no rows they go.
func (t *boundTable) readWritten(ctx context.Context, conn *pgx.Conn, young string) (at map[string]string, err error) {
	list := "ctid"
	if t.key != "" {
		list += ", " + t.key
	}
	there, err := readAll(ctx, conn, fmt.Sprintf("COPY (SELECT %s FROM ONLY %s WHERE %s) TO STDOUT", list, t.mark.Name, young))
	if errors.Is(err, errLarge) {
		return nil, witness.Cannot{Why: "too many rows of " + pg.ShortName(t.mark.Name) + " are to be put back one by one"}
	}
	if err != nil {
		return nil, err
	}
	at = map[string]string{}
	for line := range bytes.Lines(there) {
		place, key, _ := bytes.Cut(bytes.TrimSuffix(line, []byte("\n")), []byte("\t"))
		t.done.Removed++
		if t.mark.Rows {
			at[string(key)] = string(place)
		} else {
			t.gone = append(t.gone, string(place))
		}
	}
	return at, nil
}

// split compares the keys of the rows that were written with those that come.
func (t *boundTable) split(at map[string]string, coming [][]byte) {
	t.done.PutBack = int64(len(coming))
	for _, line := range coming {
		key := t.keyOf(line)
		if _, ok := at[key]; ok {
			delete(at, key)
			t.changed = append(t.changed, line)
		} else {
			t.fresh = append(t.fresh, line)
		}
	}
	for _, place := range at {
		t.gone = append(t.gone, place)
	}
	slices.Sort(t.gone)
}

// keyOf is the key of a row, as COPY writes it.
func (t *boundTable) keyOf(line []byte) string {
	values := bytes.Split(bytes.TrimSuffix(line, []byte("\n")), []byte("\t"))
	var key [][]byte
	for _, k := range t.keyNames {
		if at := slices.Index(t.names, k); at >= 0 && at < len(values) {
			key = append(key, values[at])
		}
	}
	return string(bytes.Join(key, []byte("\t")))
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
	_, err := conn.Exec(ctx, "DELETE FROM ONLY "+t.mark.Name+" WHERE ctid = ANY ($1::tid[])", pgx.QueryExecModeExec, t.gone)
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

// literals are the values of a row in COPY's text format ("File Formats" in the manual's page
// on COPY), each as a statement has it.
func literals(line []byte) (values []string, err error) {
	for value := range bytes.SplitSeq(bytes.TrimSuffix(line, []byte("\n")), []byte("\t")) {
		if string(value) == `\N` {
			values = append(values, "NULL")
			continue
		}
		text, err := unescape(value)
		if err != nil {
			return nil, err
		}
		values = append(values, pg.Literal(text))
	}
	return values, nil
}

// escapeAll writes values as COPY does.
func escapeAll(values [][]byte) [][]byte {
	out := make([][]byte, len(values))
	for i, v := range values {
		for _, c := range v {
			if e := strings.IndexByte(escaped, c); e >= 0 {
				out[i] = append(out[i], '\\', escapedAs[e])
			} else {
				out[i] = append(out[i], c)
			}
		}
	}
	return out
}

// The bytes that COPY escapes, and what comes behind the backslash.
const escaped, escapedAs = "\b\f\n\r\t\v\\", `bfnrtv\`

func unescape(value []byte) (string, error) {
	var b strings.Builder
	for i := 0; i < len(value); i++ {
		c := value[i]
		if c == '\\' {
			if i++; i == len(value) {
				return "", errForm
			}
			e := strings.IndexByte(escapedAs, value[i])
			if e < 0 {
				return "", errForm
			}
			c = escaped[e]
		}
		b.WriteByte(c)
	}
	return b.String(), nil
}

// verify fails where a table does not hold what its start state does: what a foreign key or
// the type of a column made of what was written.
func (t *boundTable) verify(ctx context.Context, conn *pgx.Conn, xid string) error {
	var count int64
	if err := conn.QueryRow(ctx, "SELECT count(*) FROM ONLY "+t.mark.Name).Scan(&count); err != nil {
		return err
	}
	other := witness.Cannot{Why: "the rows of " + pg.ShortName(t.mark.Name) + " are not what they were once they are put back"}
	if count != t.mark.Count {
		return other
	}
	if !t.referenced || !t.mark.Rows {
		return nil
	}
	now, err := readAllOf(ctx, conn, fmt.Sprintf("COPY (SELECT %s FROM ONLY %s WHERE xmin = '%s'::xid) TO STDOUT", t.columns,
		t.name, xid))
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

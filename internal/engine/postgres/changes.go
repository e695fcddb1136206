package postgres

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/engine/postgres/schema"
	"hemzo/internal/engine/postgres/witness"
)

// Changes compares the database with its start state: the tables that the
// witness saw touched, or all where it cannot tell; counters; the schema.
func (d *database) Changes(ctx context.Context, c engine.Compare) (*engine.Changes, error) {
	defer d.use()()
	changes := engine.NoChanges()
	tables, idle, err := d.touchedTables(ctx, engine.Reset{Start: c.Start, Baseline: c.Baseline, Last: c.Last})
	if err != nil || idle {
		return changes, err
	}
	if changes.Schema, err = d.levelChanges(ctx, c.Start); err != nil || tables != nil && len(tables) == 0 {
		return changes, err
	}
	conn, err := d.server.dial(ctx, d.id, "")
	if err != nil {
		return nil, fmt.Errorf("connecting to %s: %w", d.id, err)
	}
	defer conn.Close(ctx)
	start, err := d.server.dialReference(ctx, c.Start)
	if err != nil {
		return nil, err
	}
	defer start.Close(ctx)
	for _, x := range []*pgx.Conn{conn, start} {
		if _, err := x.Exec(ctx, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY"); err != nil {
			return nil, fmt.Errorf("comparing: %w", err)
		}
	}
	before, err := schema.Read(ctx, start)
	if err != nil {
		return nil, err
	}
	after, err := schema.Read(ctx, conn)
	if err != nil {
		return nil, err
	}
	objects := schema.Changes(before, after)
	if len(objects) == 0 {
		// What no object of users' tells: rights on what is built in, say.
		if objects, err = d.catalogChanges(ctx, start, conn); err != nil {
			return nil, err
		}
	}
	changes.Schema = append(changes.Schema, objects...)
	if err := d.contentChanges(ctx, start, conn, before, after, tables, c.Rows, changes); err != nil {
		return nil, err
	}
	slices.SortFunc(changes.Tables, func(a, b engine.TableChange) int { return strings.Compare(a.Name, b.Name) })
	slices.SortFunc(changes.Sequences, func(a, b engine.SequenceChange) int { return strings.Compare(a.Name, b.Name) })
	return changes, nil
}

// contentChanges compares the rows of tables, of those named or, for nil, of all,
// and where sequences stand.
func (d *database) contentChanges(
	ctx context.Context, start, conn *pgx.Conn, before, after schema.Schema,
	tables []string, rows int, changes *engine.Changes,
) error {
	for name, now := range after {
		old, common := before[name]
		switch {
		case name.Kind == "table" && !common && now.Definition[0] == 'r':
			if err := d.compareTable(ctx, nil, conn, name.Name, rows, changes); err != nil {
				return err
			}
		case !common:
		case name.Kind == "sequence":
			if err := d.sequenceChange(ctx, start, conn, name.Name, changes); err != nil {
				return err
			}
		case name.Kind == "table" && now.Definition[0] == 'r' && old.Definition[0] == 'r' &&
			(tables == nil || slices.Contains(tables, name.Name)):
			if err := d.compareTable(ctx, start, conn, name.Name, rows, changes); err != nil {
				return err
			}
		}
	}
	return nil
}

// levelChanges compares what belongs to the database itself.
func (d *database) levelChanges(ctx context.Context, start string) ([]engine.SchemaChange, error) {
	out := []engine.SchemaChange{}
	e, err := d.startEntry(ctx, start)
	if err != nil {
		return nil, err
	}
	c, err := readCarry(privateOf(e.Facts).Carry)
	if err != nil {
		return nil, fmt.Errorf("reading the facts of %s: %w", start, err)
	}
	var now []levelItem
	err = d.server.readRetrying(ctx, func(ctx context.Context, conn *pgx.Conn) (err error) {
		now, err = d.server.level(ctx, conn, pg.Literal(d.id))
		return err
	})
	if err != nil {
		return nil, err
	}
	want := c.items(d.server.owner(d.facts), d.server.hasOwnerRoles())
	what := map[[2]string]string{}
	for _, i := range differItems(now, want) {
		kind, name := i.words()
		key := [2]string{kind, name}
		switch _, twice := what[key]; {
		case twice:
			what[key] = "altered"
		case slices.Contains(now, i):
			what[key] = "added"
		default:
			what[key] = "removed"
		}
	}
	for key, how := range what {
		out = append(out, engine.SchemaChange{What: how, Kind: key[0], Name: key[1]})
	}
	slices.SortFunc(out, func(a, b engine.SchemaChange) int { return strings.Compare(a.Kind+a.Name, b.Kind+b.Name) })
	return out, nil
}

// catalogChanges names the catalogs that do not say the same.
func (d *database) catalogChanges(ctx context.Context, start, conn *pgx.Conn) (out []engine.SchemaChange, err error) {
	all, err := d.server.witness.Catalogs.List(ctx, conn)
	if err != nil {
		return nil, err
	}
	var sums [2]map[int]string
	for i, c := range []*pgx.Conn{start, conn} {
		if sums[i], err = d.server.witness.Catalogs.Sums(ctx, c, schema.Places(len(all))); err != nil {
			return nil, err
		}
	}
	for at, c := range all {
		if sums[0][at] != sums[1][at] {
			out = append(out, engine.SchemaChange{What: "altered", Kind: "catalog", Name: c.Name})
		}
	}
	return out, nil
}

// touchedTables asks the witness: nil where it cannot tell, empty where no
// table and no counter was touched; idle where nothing at all was.
func (d *database) touchedTables(ctx context.Context, r engine.Reset) (names []string, idle bool, err error) {
	base, err := d.base(ctx, r)
	var t witness.Touched
	if err == nil {
		t, err = d.compareRetrying(ctx, base)
	}
	if reason := (witness.Cannot{}); errors.As(err, &reason) {
		return nil, false, nil
	}
	if err != nil {
		return nil, false, err
	}
	if len(t.Tables) == 0 && len(t.Counters) > 0 {
		return []string{""}, false, nil // counters alone
	}
	names = []string{}
	for _, i := range t.Tables {
		names = append(names, base.Tables[i-1].Name)
	}
	return names, t.Idle, nil
}

// readable reports whether Hemzo's role may read a table or sequence. Where it is no
// superuser a test may have taken that right away, which is a change then.
func (d *database) readable(ctx context.Context, conn *pgx.Conn, kind, name string, changes *engine.Changes) (ok bool,
	err error) {
	if d.server.isSuperuser {
		return true, nil
	}
	err = conn.QueryRow(ctx, "SELECT has_table_privilege($1::regclass, 'SELECT')", name).Scan(&ok)
	if err != nil {
		return false, fmt.Errorf("comparing %s: %w", name, err)
	}
	if !ok {
		changes.Schema = append(changes.Schema, engine.SchemaChange{What: "altered", Kind: kind, Name: pg.ShortName(name),
			Details: []string{"its owner may not read it any more"}})
	}
	return ok, nil
}

func (d *database) sequenceChange(ctx context.Context, start, conn *pgx.Conn, name string,
	changes *engine.Changes) error {
	if ok, err := d.readable(ctx, conn, "sequence", name, changes); err != nil || !ok {
		return err
	}
	var at [2]string
	for i, c := range []*pgx.Conn{start, conn} {
		// The value that was given out last; none before the first.
		err := c.QueryRow(ctx, "SELECT CASE WHEN is_called THEN last_value::text WHEN last_value = 1 THEN '0' ELSE "+
			"'before ' || last_value END FROM "+name).Scan(&at[i])
		if err != nil {
			return fmt.Errorf("comparing %s: %w", name, err)
		}
	}
	if at[0] != at[1] {
		changes.Sequences = append(changes.Sequences,
			engine.SequenceChange{Name: pg.ShortName(name), Before: at[0], After: at[1]})
	}
	return nil
}

// compareTable notes how the rows of a table differ, where they do.
func (d *database) compareTable(ctx context.Context, start, conn *pgx.Conn, name string, limit int,
	changes *engine.Changes) error {
	if ok, err := d.readable(ctx, conn, "table", name, changes); err != nil || !ok {
		return err
	}
	t, err := d.tableChange(ctx, start, conn, name, limit)
	if err != nil {
		return fmt.Errorf("comparing %s: %w", name, err)
	}
	if t.Added+t.Removed+t.Altered > 0 {
		changes.Tables = append(changes.Tables, t)
	}
	return nil
}

// tableChange compares the rows of a table: by its primary key, where it has
// one, so that a row can be told to have been altered. start is nil for one
// that was added. Both tables are read in the order of that key, side by side,
// and no more is kept of them than limit rows.
func (d *database) tableChange(ctx context.Context, start, conn *pgx.Conn, name string, limit int) (engine.TableChange,
	error) {
	t := engine.TableChange{Name: pg.ShortName(name)}
	const common = "SELECT array_agg(quote_ident(attname) ORDER BY attnum) FROM pg_attribute WHERE attrelid = " +
		"$1::regclass AND attnum > 0 AND NOT attisdropped"
	var was, columns []string
	if err := conn.QueryRow(ctx, common, name).Scan(&columns); err != nil {
		return t, err
	}
	if start != nil {
		if err := start.QueryRow(ctx, common, name).Scan(&was); err != nil {
			return t, err
		}
		columns = slices.DeleteFunc(columns, func(c string) bool { return !slices.Contains(was, c) })
	}
	if len(columns) == 0 {
		return t, nil
	}
	order, keys, err := rowOrder(ctx, conn, name, columns)
	if err != nil {
		return t, err
	}
	query := fmt.Sprintf("SELECT %s, ROW(%s)::text, %s FROM ONLY %s ORDER BY %s", strings.Join(order, ", "),
		strings.Join(columns, ", "), strings.Join(columns, ", "), name, keys)
	now := openRows(ctx, conn, query, len(order))
	defer now.close()
	before := &rowStream{ended: true}
	if start != nil {
		before = openRows(ctx, start, query, len(order))
		defer before.close()
	}
	err = mergeRows(before, now, func(c engine.RowChange) {
		switch {
		case c.Before == nil:
			t.Added++
		case c.After == nil:
			t.Removed++
		default:
			t.Altered++
		}
		if len(t.Rows) < limit {
			t.Rows = append(t.Rows, c)
		}
	})
	if limit > 0 {
		t.Columns = columns
	}
	return t, err
}

// rowOrder returns expressions that tell the rows of a table apart, and the
// order by them: of the primary key, where its columns are among those given,
// else of all columns. Numbers are in their own order, all else in that of
// bytes, so that two streams can be compared here.
func rowOrder(ctx context.Context, conn *pgx.Conn, name string, columns []string) (order []string, by string,
	err error) {
	rows, err := conn.Query(ctx, `SELECT quote_ident(a.attname), a.atttypid IN ('int2'::regtype,
		'int4'::regtype, 'int8'::regtype) FROM pg_index i JOIN pg_attribute a ON a.attrelid = i.indrelid
		AND a.attnum = ANY (i.indkey)
		WHERE i.indrelid = $1::regclass AND i.indisprimary ORDER BY array_position(i.indkey::int2[], a.attnum)`, name)
	if err != nil {
		return nil, "", err
	}
	var column string
	var number, all bool
	var places []string
	_, err = pgx.ForEachRow(rows, []any{&column, &number}, func() error {
		all = all || !slices.Contains(columns, column)
		if !number {
			column = "(" + column + "::text) COLLATE \"C\""
		}
		order = append(order, column)
		places = append(places, fmt.Sprint(len(order)))
		return nil
	})
	if err != nil || order != nil && !all {
		return order, strings.Join(places, ", "), err
	}
	return []string{"(ROW(" + strings.Join(columns, ", ") + ")::text) COLLATE \"C\""}, "1", nil
}

// rowStream reads the rows of a query one by one.
type rowStream struct {
	results *pgconn.MultiResultReader
	rows    *pgconn.ResultReader
	keys    int
	key     []any // of the row that it stands at
	whole   string
	values  []any
	ended   bool
	err     error
}

// openRows begins to read. The first keys columns are the row's key, the next
// one is the text of the whole row.
func openRows(ctx context.Context, conn *pgx.Conn, query string, keys int) *rowStream {
	s := &rowStream{results: conn.PgConn().Exec(ctx, query), keys: keys}
	if s.results.NextResult() {
		s.rows = s.results.ResultReader()
	}
	s.next()
	return s
}

// next goes to the next row.
func (s *rowStream) next() {
	if s.rows == nil || !s.rows.NextRow() {
		s.ended = true
		s.err = s.close()
		return
	}
	fields, row := s.rows.FieldDescriptions(), s.rows.Values()
	all := make([]any, len(row))
	for i, v := range row {
		all[i] = value(fields[i].DataTypeOID, v, false)
	}
	s.key, s.whole, s.values = all[:s.keys], string(row[s.keys]), all[s.keys+1:]
}

func (s *rowStream) close() error {
	if s.results == nil {
		return s.err
	}
	var err error
	if s.rows != nil {
		_, err = s.rows.Close()
	}
	err = errors.Join(err, s.results.Close())
	s.results = nil
	return err
}

// mergeRows reads two streams in the same order, and passes on how they differ.
func mergeRows(before, now *rowStream, differ func(engine.RowChange)) error {
	for !before.ended || !now.ended {
		order := 0
		switch {
		case before.ended:
			order = 1
		case now.ended:
			order = -1
		default:
			order = compareKeys(before.key, now.key)
		}
		switch {
		case order < 0:
			differ(engine.RowChange{Before: before.values})
		case order > 0:
			differ(engine.RowChange{After: now.values})
		case before.whole != now.whole:
			differ(engine.RowChange{Before: before.values, After: now.values})
		}
		if order <= 0 {
			before.next()
		}
		if order >= 0 {
			now.next()
		}
	}
	return errors.Join(before.err, now.err)
}

// compareKeys compares keys of numbers and texts.
func compareKeys(a, b []any) int {
	for i := range a {
		x, number := a[i].(int64)
		y, also := b[i].(int64)
		order := strings.Compare(fmt.Sprint(a[i]), fmt.Sprint(b[i]))
		if number && also {
			order = cmp.Compare(x, y)
		}
		if order != 0 {
			return order
		}
	}
	return 0
}

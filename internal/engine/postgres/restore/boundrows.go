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

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/engine/postgres/witness"
)

//go:embed sql/bounds.sql
var boundsSQL string

// rowsLimit bounds the rows that are put back one by one, in bytes for each table.
const rowsLimit = 64 << 20

// readBound learns what of each table is to go and to come.
func (s *Session) readBound(ctx context.Context, conn *pgx.Conn, p *Plan, how []emptying) (all []*boundTable,
	err error) {
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
func (t *boundTable) missing(ctx context.Context, conn *pgx.Conn, young string, written map[string]string) ([]string,
	error) {
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
	there, err := readAll(ctx, conn, fmt.Sprintf("COPY (SELECT %s FROM ONLY %s WHERE %s) TO STDOUT", list, t.mark.Name,
		young))
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

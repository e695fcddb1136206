package postgres

import (
	"context"
	"errors"
	"strconv"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgtype"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
	"hemzo/internal/sqltext"
)

// Query runs SQL and passes its results on.
func (d *database) Query(ctx context.Context, text string, out engine.Sink) error {
	conn, err := d.connect(ctx)
	if err != nil {
		return err
	}
	s := engine.Script{Text: text, First: 1}
	for _, p := range sqltext.Statements(dialect, text) {
		if p.CopyIn {
			return fault.New(fault.Usage, "make it a migration, or use psql", "COPY ... FROM stdin has no data here")
		}
		err := d.query(ctx, conn, text[p.Start:p.End], out)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if e := new(pgconn.PgError); errors.As(err, &e) {
			told := failed(s, p, err)
			told.Kind = fault.Failed
			return told
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (d *database) query(ctx context.Context, conn *pgx.Conn, text string, out engine.Sink) error {
	results := conn.PgConn().Exec(ctx, text)
	for results.NextResult() {
		r := results.ResultReader()
		if err := d.result(r, out); err != nil {
			r.Close()
			return errors.Join(err, results.Close())
		}
		tag, err := r.Close()
		if err != nil {
			return errors.Join(err, results.Close())
		}
		if len(r.FieldDescriptions()) == 0 && out.Done != nil {
			if err := out.Done(tag.RowsAffected()); err != nil {
				return errors.Join(err, results.Close())
			}
		}
	}
	return results.Close()
}

func (d *database) result(r *pgconn.ResultReader, out engine.Sink) error {
	fields := r.FieldDescriptions()
	if len(fields) == 0 {
		return nil
	}
	names := make([]string, len(fields))
	for i, f := range fields {
		names[i] = f.Name
	}
	if out.Columns != nil {
		if err := out.Columns(names); err != nil {
			return err
		}
	}
	for r.NextRow() {
		if out.Row == nil {
			continue
		}
		row := make([]any, len(fields))
		for i, v := range r.Values() {
			row[i] = value(fields[i].DataTypeOID, v)
		}
		if err := out.Row(row); err != nil {
			return err
		}
	}
	return nil
}

// value turns a value in text form into a number where it is one.
func value(oid uint32, b []byte) any {
	if b == nil {
		return nil
	}
	switch oid {
	case pgtype.Int2OID, pgtype.Int4OID, pgtype.Int8OID:
		if n, err := strconv.ParseInt(string(b), 10, 64); err == nil {
			return n
		}
	case pgtype.Float4OID, pgtype.Float8OID:
		if f, err := strconv.ParseFloat(string(b), 64); err == nil {
			return f
		}
	}
	return string(b)
}

package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgtype"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
	"hemzo/internal/sqltext"
)

// Query runs SQL and passes its results on.
func (d *database) Query(ctx context.Context, text string, out engine.Sink) error {
	conn, err := d.connectThrough(ctx)
	if err != nil {
		return err
	}
	s := engine.Script{Text: text, First: 1}
	for _, p := range sqltext.Split(dialect, text) {
		if err := cannotRun(s, p); err != nil {
			return err
		}
		if !p.Statement {
			continue
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
	if out.Open != nil {
		out.Open(conn.PgConn().TxStatus() != 'I')
	}
	return nil
}

// connectThrough connects as clients do: where the copy is reset by rollback, through its
// gate, as long as that is there.
func (d *database) connectThrough(ctx context.Context) (*pgx.Conn, error) {
	host, port, err := net.SplitHostPort(d.facts.Through)
	number, failed := strconv.ParseUint(port, 10, 16)
	if d.conn != nil || err != nil || failed != nil || !net.ParseIP(host).IsLoopback() {
		return d.connect(ctx)
	}
	config := d.server.settings(d.id)
	config.Host, config.Port, config.Fallbacks = host, uint16(number), nil
	config.User = d.server.login(d.id, d.facts)
	config.Password, config.RequireAuth = d.server.password(config.User), "scram-sha-256"
	conn, err := pgx.ConnectConfig(ctx, config)
	if errors.Is(err, syscall.ECONNREFUSED) { // its process has gone
		return d.connect(ctx)
	}
	if err != nil {
		return nil, fmt.Errorf("connecting to %s: %w", d.id, err)
	}
	d.conn = conn
	return conn, nil
}

// cannotRun says of what only a client program can run that it is not run here.
func cannotRun(s engine.Script, p sqltext.Piece) error {
	text := s.Text[p.Start:p.End]
	words := sqltext.Words(dialect, text, 12)
	switch {
	case p.Client:
		return s.Locate(p.Start, fault.New(fault.Usage, "use psql with the copy's URL, which hemzo show prints",
			"%s is a command of psql, not SQL", strings.TrimSpace(text)))
	case p.CopyIn:
		return s.Locate(p.Start, fault.New(fault.Usage, "make it a migration, or use psql",
			"COPY ... FROM stdin has no data here"))
	case len(words) > 0 && words[0] == "COPY" && slices.Contains(words, "STDOUT"):
		return s.Locate(p.Start, fault.New(fault.Usage, "write it as SELECT, or use psql",
			"COPY ... TO STDOUT: its data has nowhere to go here"))
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
			row[i] = value(fields[i].DataTypeOID, v, out.Typed)
		}
		if err := out.Row(row); err != nil {
			return err
		}
	}
	return nil
}

// value turns a value in text form into a number where it is one; typed, also into
// a boolean, a decimal or JSON.
func value(oid uint32, b []byte, typed bool) any {
	if b == nil {
		return nil
	}
	switch {
	case typed && oid == pgtype.BoolOID:
		return string(b) == "t"
	case typed && oid == pgtype.NumericOID && json.Valid(b):
		return json.Number(b)
	case typed && (oid == pgtype.JSONOID || oid == pgtype.JSONBOID) && json.Valid(b):
		return json.RawMessage(slices.Clone(b))
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

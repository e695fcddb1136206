package sqlite

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	lite "modernc.org/sqlite/lib"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
	"hemzo/internal/sqltext"
)

// database is one file, opened. Its connection is made when first needed.
type database struct {
	server *server
	id     string
	path   string
	wait   time.Duration
	// foreignKeys makes foreign keys act; SQLite leaves that to each
	// connection.
	foreignKeys bool

	inode  uint64  // of the file that the connections are to; 0 where there is none
	c      *conn   // to the file alone
	joined *conn   // to the file, with the start state attached to it
	raw    mapping // the file itself, open as long as the connections: see pagesOf
	start  *start
}

func (d *database) connect() (*conn, error) {
	if d.c != nil {
		return d.c, nil
	}
	c, err := d.another()
	if err == nil && d.foreignKeys {
		_, err = c.do("PRAGMA foreign_keys = ON")
	}
	d.c = c
	return c, err
}

func (d *database) another() (*conn, error) {
	if now, err := look(d.path); err == nil && d.inode == 0 {
		d.inode = now.Inode
	}
	c, err := connect(d.path, readWrite, d.wait)
	if err != nil {
		return nil, d.explain(err, "opening "+d.path)
	}
	// The data is as lasting as its folder; a sync would only cost time.
	if _, err := c.do("PRAGMA synchronous = OFF"); err != nil {
		c.close()
		return nil, d.explain(err, "opening "+d.path)
	}
	return c, nil
}

func (d *database) Close() error {
	defer d.leaveUnread()()
	d.disconnect()
	return nil
}

func (d *database) disconnect() {
	for _, c := range []*conn{d.c, d.joined} {
		if c != nil {
			c.close()
		}
	}
	d.c, d.joined, d.inode = nil, nil, 0
	if d.start != nil {
		d.start.close()
		d.start = nil
	}
	d.raw.close()
}

// explain says what to do about an error that is not the user's SQL.
func (d *database) explain(err error, doing string) error {
	switch codeOf(err) {
	case lite.SQLITE_BUSY, lite.SQLITE_LOCKED:
		e := engine.InTheWay(holders(d.path), d.wait, "end the other transaction, or give more time with --wait",
			doing+": another connection holds a lock on it")
		e.Reason, e.Code = errors.Join(err, e.Reason), code(err)
		return e
	case lite.SQLITE_NOTADB, lite.SQLITE_CORRUPT:
		e := fault.New(fault.Failed, "drop it and take a new copy", "%s: the file is damaged", doing)
		e.Reason, e.Code = err, code(err)
		return e
	}
	return d.server.noRoom(err, doing)
}

func code(err error) string {
	if e, ok := errors.AsType[*liteError](err); ok {
		return fmt.Sprintf("SQLite code %d", e.Code)
	}
	return ""
}

// Apply runs a script in one transaction, unless it holds a statement that
// steers transactions itself or has no effect inside one.
func (d *database) Apply(ctx context.Context, s engine.Script) (err error) {
	defer d.leaveUnread()()
	defer func() {
		if err != nil && ctx.Err() != nil { // whatever it was that was interrupted
			err = ctx.Err()
		}
	}()
	c, err := d.connect()
	if err != nil {
		return err
	}
	defer c.interrupted(ctx)()
	statements := slices.Collect(sqltext.Statements(dialect, s.Text))
	alone := false
	for _, p := range statements {
		text := s.Text[p.Start:p.End]
		if err := within(s, p, text); err != nil {
			return err
		}
		alone = alone || !fitsTransaction(text)
	}
	if !alone {
		if _, err := c.do("BEGIN"); err != nil {
			return d.explain(err, "beginning a transaction")
		}
	}
	for _, p := range statements {
		if err := d.run(ctx, s, p); err != nil {
			c.rollback()
			return err
		}
	}
	if !alone {
		if _, err := c.do("COMMIT"); err != nil {
			c.rollback()
			return d.failed(s, len(s.Text), "", err)
		}
	}
	if lite.Xsqlite3_get_autocommit(c.tls, c.db) == 0 {
		c.rollback()
		e := fault.New(fault.StepFailed,
			"add COMMIT at its end, or drop its BEGIN: Hemzo runs each migration in a transaction",
			"it leaves a transaction open")
		e.Where.File = s.File
		return e
	}
	return nil
}

// rollback ends a transaction that is still open.
func (c *conn) rollback() {
	if lite.Xsqlite3_get_autocommit(c.tls, c.db) == 0 {
		_, _ = c.do("ROLLBACK")
	}
}

func (d *database) run(ctx context.Context, s engine.Script, p sqltext.Piece) error {
	text := s.Text[p.Start:p.End]
	if p.Open != "" {
		return d.failed(s, p.Start, text,
			&liteError{Message: "a " + p.Open + " is begun here and never ended", Offset: p.OpenAt - p.Start,
				Code: lite.SQLITE_ERROR})
	}
	st, err := d.c.prepare(text)
	if err != nil {
		return d.failed(s, p.Start, text, err)
	}
	if st == nil {
		return nil
	}
	defer st.finalize()
	for {
		more, err := st.step()
		switch {
		case err != nil && ctx.Err() != nil:
			return ctx.Err()
		case err != nil:
			return d.failed(s, p.Start, text, err)
		case !more:
			return nil
		}
	}
}

// failed places SQLite's message in the file that the statement came from.
func (d *database) failed(s engine.Script, begin int, text string, err error) error {
	if f := d.server.noRoom(err, "applying "+s.File); fault.KindOf(f) == fault.Lacking {
		return f
	}
	at := begin
	message := err.Error()
	if l, ok := errors.AsType[*liteError](err); ok {
		message = l.Message
		if l.Offset > 0 && l.Offset <= len(text) {
			at += l.Offset
		}
	}
	return s.Locate(at, &fault.Error{
		Kind: fault.StepFailed, What: "SQLite refuses this", Said: message, Code: code(err), Reason: err,
		Lines: fault.Excerpt(text),
	})
}

// within refuses statements that reach beyond the database.
func within(s engine.Script, p sqltext.Piece, text string) error {
	words := sqltext.Words(dialect, text, 64)
	if len(words) == 0 {
		return nil
	}
	outside := words[0] == "ATTACH" || words[0] == "VACUUM" && slices.Contains(words, "INTO")
	if !outside {
		return nil
	}
	e := fault.New(fault.Refused, "take it out of the migration: Hemzo changes nothing that it did not make",
		"this statement reaches beyond the database")
	e.Lines = []string{text}
	return s.Locate(p.Start, e)
}

// fitsTransaction reports whether a statement does the same inside a
// transaction that is open already.
func fitsTransaction(text string) bool {
	words := sqltext.Words(dialect, text, 1)
	return len(words) == 0 || !slices.Contains([]string{"BEGIN", "COMMIT", "END", "ROLLBACK", "SAVEPOINT", "RELEASE",
		"VACUUM", "PRAGMA", "DETACH"}, words[0])
}

// Load puts rows into a table, in one transaction.
func (d *database) Load(ctx context.Context, t engine.Table) error {
	defer d.leaveUnread()()
	c, err := d.connect()
	if err != nil {
		return err
	}
	defer c.interrupted(ctx)()
	bad := func(line int, next, what string, args ...any) error {
		e := fault.New(fault.StepFailed, next, what, args...)
		e.Where = fault.Position{File: t.File, Line: line}
		return e
	}
	table, err := describe(c, "main", t.Name)
	if err != nil {
		return d.explain(err, "loading "+t.File)
	}
	if table == nil {
		return bad(1, "name the file after its table, and load it after the migration that makes it",
			"there is no table %q", t.Name)
	}
	for _, col := range t.Columns {
		if !slices.ContainsFunc(table.columns, func(k string) bool { return strings.EqualFold(k, col) }) {
			return bad(1, "columns: "+strings.Join(table.columns, ", "), "table %q has no column %q", t.Name, col)
		}
	}
	if _, err := c.do("BEGIN"); err != nil {
		return d.explain(err, "loading "+t.File)
	}
	insert := fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", quote(t.Name), quoteAll(t.Columns),
		strings.TrimSuffix(strings.Repeat("?,", len(t.Columns)), ","))
	for i, row := range t.Rows {
		if _, err := c.do(insert, row...); err != nil {
			c.rollback()
			if ctx.Err() != nil {
				return ctx.Err()
			}
			e := &fault.Error{Kind: fault.StepFailed, What: "SQLite refuses this row", Said: err.Error(),
				Code: code(err), Reason: err, Where: fault.Position{File: t.File, Line: t.Lines[i]}}
			if l, ok := errors.AsType[*liteError](err); ok {
				e.Said = l.Message
			}
			return e
		}
	}
	if _, err := c.do("COMMIT"); err != nil {
		c.rollback()
		return d.explain(err, "loading "+t.File)
	}
	return nil
}

// Query runs SQL and passes its results on.
func (d *database) Query(ctx context.Context, text string, out engine.Sink) error {
	defer d.leaveUnread()()
	c, err := d.connect()
	if err != nil {
		return err
	}
	defer c.interrupted(ctx)()
	s := engine.Script{Text: text, First: 1}
	for p := range sqltext.Statements(dialect, text) {
		if err := d.query(ctx, s, p, out); err != nil {
			return err
		}
	}
	if out.Open != nil {
		out.Open(lite.Xsqlite3_get_autocommit(c.tls, c.db) == 0)
	}
	return nil
}

func (d *database) query(ctx context.Context, s engine.Script, p sqltext.Piece, out engine.Sink) error {
	text := s.Text[p.Start:p.End]
	refuse := func(err error) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if c := codeOf(err); c == lite.SQLITE_BUSY || c == lite.SQLITE_LOCKED {
			return d.explain(err, "running the statement")
		}
		err = d.failed(s, p.Start, text, err)
		if e := new(fault.Error); errors.As(err, &e) && e.Kind == fault.StepFailed {
			e.Kind = fault.Failed
		}
		return err
	}
	st, err := d.c.prepare(text)
	if err != nil {
		return refuse(err)
	}
	if st == nil {
		return nil
	}
	defer st.finalize()
	before := lite.Xsqlite3_total_changes64(d.c.tls, d.c.db)
	names := st.columns()
	if len(names) > 0 && out.Columns != nil {
		if err := out.Columns(names); err != nil {
			return err
		}
	}
	for {
		more, err := st.step()
		if err != nil {
			return refuse(err)
		}
		if !more {
			break
		}
		if out.Row == nil {
			continue
		}
		row := make([]any, len(names))
		for i := range row {
			row[i] = st.value(i)
		}
		if err := out.Row(row); err != nil {
			return err
		}
	}
	if len(names) == 0 && out.Done != nil {
		return out.Done(lite.Xsqlite3_total_changes64(d.c.tls, d.c.db) - before)
	}
	return nil
}

func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

func quoteAll(names []string) string {
	quoted := make([]string, len(names))
	for i, n := range names {
		quoted[i] = quote(n)
	}
	return strings.Join(quoted, ", ")
}

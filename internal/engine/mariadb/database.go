package mariadb

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/go-sql-driver/mysql"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
	"hemzo/internal/pattern"
	"hemzo/internal/sqltext"
)

// holder holds copies and their start states: a server for each copy, or one for all.
type holder interface {
	Find(ctx context.Context, id string) (engine.Entry, error)
	Lock(ctx context.Context, name string, waiting func()) (unlock func(), err error)
	Copy(ctx context.Context, from, to string, facts engine.Facts) error
	// locate tells where a copy is.
	locate(e engine.Entry) address
	// start reads what is known of a template or snapshot.
	start(ctx context.Context, id string) (*state, error)
	// renew makes a copy anew from a template or snapshot, at its address; reconnect says
	// that clients have to connect again.
	renew(ctx context.Context, d *database, from string) (base json.RawMessage, reconnect bool, err error)
}

// database is one copy, or work, opened.
type database struct {
	holder  holder
	entry   engine.Entry
	at      address
	session engine.Session
	hand    *conn // of Hemzo's account, opened at need
	user    *conn // of the tests' account, likewise
	known   *state
	knownID string
	// noted is the baseline that was noted last, as it was written and as it is
	noted     json.RawMessage
	notedBase baseline
}

func openDatabase(h holder, e engine.Entry, session engine.Session) (*database, error) {
	at := h.locate(e)
	if at.Schema == "" {
		return nil, fault.New(fault.Failed, "take another", "%s has no server", e.ID)
	}
	return &database{holder: h, entry: e, at: at, session: session}, nil
}

// Close ends the sessions.
func (d *database) Close() error { return errors.Join(d.leave(&d.hand), d.leave(&d.user)) }

func (d *database) leave(c **conn) error {
	if *c == nil {
		return nil
	}
	err := (*c).close()
	*c = nil
	return err
}

// admin is a session of Hemzo's account.
func (d *database) admin(ctx context.Context) (*conn, error) {
	if d.hand != nil {
		return d.hand, nil
	}
	c, err := d.at.dial(ctx)
	if err != nil {
		return nil, fmt.Errorf("connecting to the server of %s: %w", d.entry.ID, err)
	}
	if err := plain(ctx, c); err != nil {
		return nil, errors.Join(err, c.close())
	}
	d.hand = c
	return c, nil
}

// owner is a session of the tests' account, as which sources and users' statements run.
func (d *database) owner(ctx context.Context) (*conn, error) {
	if d.user != nil {
		return d.user, nil
	}
	c, err := d.at.dialAsTests(ctx)
	if err != nil {
		return nil, fmt.Errorf("connecting to the server of %s: %w", d.entry.ID, err)
	}
	d.user = c
	return c, nil
}

// Apply runs a script. These servers commit at each statement that defines something:
// what fails in the middle stays half done, and is thrown away with the work.
func (d *database) Apply(ctx context.Context, s engine.Script) error {
	c, err := d.owner(ctx)
	if err != nil {
		return err
	}
	// Rows that are inserted one by one are committed together.
	if err := c.do(ctx, "SET autocommit = 0"); err != nil {
		return err
	}
	if err := d.runAll(ctx, c, s); err != nil {
		return errors.Join(err, d.leave(&d.user))
	}
	if err := c.do(ctx, "COMMIT"); err != nil {
		return errors.Join(d.refused(s, 0, "", err), d.leave(&d.user))
	}
	return d.leave(&d.user) // its variables are the script's own
}

// together bounds, in bytes, the statements about rows that are sent in one message.
const together = 256 << 10

// runAll runs the statements of a script. Those about rows go together, many in a message.
func (d *database) runAll(ctx context.Context, c *conn, s engine.Script) error {
	var batch []sqltext.Piece
	size := 0
	for p := range sqltext.Statements(dialect, s.Text) {
		rows := p.Open == "" && aboutRows(s.Text[p.Start:p.End])
		if rows {
			batch, size = append(batch, p), size+p.End-p.Start
		}
		if rows && size < together {
			continue
		}
		if err := d.runBatch(ctx, c, s, batch); err != nil {
			return err
		}
		batch, size = batch[:0], 0
		if rows {
			continue
		}
		if err := d.run(ctx, c, s, p); err != nil {
			return err
		}
	}
	return d.runBatch(ctx, c, s, batch)
}

// runBatch runs statements about rows. Where one of several fails all are taken back, and
// run one by one up to it, so that it is known which.
func (d *database) runBatch(ctx context.Context, c *conn, s engine.Script, batch []sqltext.Piece) error {
	if len(batch) > 1 {
		var text strings.Builder
		text.WriteString("SAVEPOINT hemzo__together")
		for _, p := range batch {
			text.WriteString(";\n")
			text.WriteString(s.Text[p.Start:p.End])
		}
		_, err := c.ExecContext(ctx, text.String())
		if err == nil || ctx.Err() != nil {
			return ctx.Err()
		}
		if err := c.do(ctx, "ROLLBACK TO SAVEPOINT hemzo__together"); err != nil {
			return err
		}
	}
	for _, p := range batch {
		if err := d.run(ctx, c, s, p); err != nil {
			return err
		}
	}
	return nil
}

// aboutRows reports whether a statement only writes rows.
func aboutRows(text string) bool {
	if len(text) < 7 {
		return false
	}
	word := strings.ToUpper(text[:7])
	return slices.Contains([]string{"INSERT ", "UPDATE ", "DELETE ", "REPLACE"}, word)
}

func (d *database) run(ctx context.Context, c *conn, s engine.Script, p sqltext.Piece) error {
	text := undefined(s.Text[p.Start:p.End], d.session.Roles)
	if p.Open != "" {
		return s.Locate(p.OpenAt, fault.New(fault.StepFailed, "", "a %s is begun here and never ended", p.Open))
	}
	skip, err := d.within(ctx, c, s, p, text)
	if skip || err != nil {
		return err
	}
	if _, err := c.ExecContext(ctx, text); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if code(err) == emptyQuery { // a comment that servers of other versions run
			return nil
		}
		return d.refused(s, p.Start, text, err)
	}
	return nil
}

// within refuses what reaches beyond the database; skip says that a statement names it by
// one of its names, and need not be run.
func (d *database) within(ctx context.Context, c *conn, s engine.Script, p sqltext.Piece, text string) (skip bool,
	err error) {
	words := sqltext.Words(dialect, conditionalText(text), 12)
	if len(words) == 0 {
		return false, nil
	}
	beyond := func(next string) (bool, error) {
		e := fault.New(fault.Refused, next, "this statement reaches beyond the database")
		e.Lines = fault.Excerpt(text)
		return false, s.Locate(p.Start, e)
	}
	second := ""
	if len(words) > 1 {
		second = words[1]
	}
	switch {
	case words[0] == "USE" || (words[0] == "CREATE" || words[0] == "ALTER" || words[0] == "DROP") &&
		(second == "DATABASE" || second == "SCHEMA"):
		name := strings.ReplaceAll(strings.Trim(lastName(words), "`"), "``", "`")
		known := append([]string{d.at.Schema}, d.session.Names...)
		if !slices.ContainsFunc(known, func(k string) bool { return strings.EqualFold(k, name) }) {
			return beyond(fmt.Sprintf("where the sources call their database so, add  names: [%s]", strings.ToLower(name)))
		}
		if words[0] == "ALTER" && !strings.EqualFold(name, d.at.Schema) {
			return beyond("name it " + d.at.Schema + ", or leave its name out")
		}
		if words[0] == "DROP" {
			rows, err := c.rows(ctx, "SHOW TABLES")
			if err != nil || len(rows) == 0 { // it is as if it had been made anew
				return true, err
			}
			return beyond("leave it out: each build begins with an empty database")
		}
		return words[0] != "ALTER", nil
	case words[0] == "SET" && (second == "GLOBAL" || second == "PERSIST" || second == "@" && len(words) > 3 &&
		(words[3] == "GLOBAL" || words[3] == "PERSIST")):
		return beyond("use  settings: in the project file, or take it out")
	case aboutAccounts(words):
		if ofOthers(text, d.session.Roles) {
			return true, nil
		}
		return beyond("take it out, as Hemzo makes the account that tests use, with all rights in the database; or list " +
			"the accounts under  roles:  to have such statements passed over")
	case words[0] == "SHUTDOWN" || words[0] == "FLUSH" || words[0] == "INSTALL" || words[0] == "UNINSTALL":
		return beyond("take it out: it is about the server")
	}
	return false, nil
}

// conditional is a statement that stands in a comment which servers run, as a whole.
var conditional = pattern.Lazy(`(?s)^/\*M?!\d*\s*(.*)\*/$`)

// conditionalText is what such a comment says; any other text stays.
func conditionalText(text string) string {
	if m := conditional().FindStringSubmatch(text); m != nil {
		return m[1]
	}
	return text
}

// lastName is the name that a statement about a database ends with.
func lastName(words []string) string {
	name := ""
	for _, w := range words[1:] {
		if w == "CHARACTER" || w == "DEFAULT" || w == "CHARSET" || w == "COLLATE" || w == "COMMENT" {
			break
		}
		if w != "IF" && w != "NOT" && w != "EXISTS" && !strings.HasPrefix(w, "/*") {
			name = w
		}
	}
	return name
}

// refused places the server's message in the file that the statement came from.
func (d *database) refused(s engine.Script, begin int, text string, err error) error {
	e := &fault.Error{Kind: fault.StepFailed, What: d.at.product() + " refuses this", Said: err.Error(), Reason: err,
		Lines: fault.Excerpt(text)}
	at := begin
	if m, ok := errors.AsType[*mysql.MySQLError](err); ok {
		e.Said, e.Code = m.Message, fmt.Sprintf("%d, SQLSTATE %s", m.Number, m.SQLState)
		at += placeOf(m.Message, text)
		switch m.Number {
		case accessDenied:
			e.Next = "take out what asks for rights on the server, as DEFINER does that names somebody else"
			noDefiner(e, text)
		case schemaDenied, commandDenied:
			e.Next = "the sources have rights in their own database alone"
		}
	}
	return s.Locate(at, e)
}

// placeOf is where in a statement the server saw an error of syntax: it names the text
// there, and the line.
func placeOf(message, text string) int {
	_, rest, ok := strings.Cut(message, " near '")
	i := strings.LastIndex(rest, "' at line ")
	if !ok || i < 0 {
		return 0
	}
	line, _ := strconv.Atoi(rest[i+len("' at line "):])
	from := 0
	for range line - 1 {
		n := strings.IndexByte(text[from:], '\n')
		if n < 0 {
			return 0
		}
		from += n + 1
	}
	if n := strings.Index(text[from:], rest[:i]); n >= 0 && i > 0 {
		return from + n
	}
	return from
}

// Load puts rows into a table, in one transaction.
func (d *database) Load(ctx context.Context, t engine.Table) error {
	c, err := d.owner(ctx)
	if err != nil {
		return err
	}
	bad := func(line int, next, what string, args ...any) error {
		e := fault.New(fault.StepFailed, next, what, args...)
		e.Where = fault.Position{File: t.File, Line: line}
		return e
	}
	rows, err := c.rows(ctx, "SELECT COLUMN_NAME FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = ? AND "+
		"TABLE_NAME = ? ORDER BY ORDINAL_POSITION", d.at.Schema, t.Name)
	if err != nil {
		return fmt.Errorf("loading %s: %w", t.File, err)
	}
	if len(rows) == 0 {
		return bad(1, "name the file after its table, and load it after the migration that makes it",
			"there is no table %q", t.Name)
	}
	var columns []string
	for _, r := range rows {
		columns = append(columns, r[0])
	}
	for _, col := range t.Columns {
		if !slices.ContainsFunc(columns, func(k string) bool { return strings.EqualFold(k, col) }) {
			return bad(1, "columns: "+strings.Join(columns, ", "), "table %q has no column %q", t.Name, col)
		}
	}
	tx, err := c.BeginTx(ctx, nil)
	if err != nil {
		return fmt.Errorf("loading %s: %w", t.File, err)
	}
	defer tx.Rollback()
	insert, err := tx.PrepareContext(ctx, fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", quote(t.Name),
		quoteAll(t.Columns), strings.TrimSuffix(strings.Repeat("?,", len(t.Columns)), ",")))
	if err != nil {
		return fmt.Errorf("loading %s: %w", t.File, err)
	}
	defer insert.Close()
	for i, row := range t.Rows {
		if _, err := insert.ExecContext(ctx, row...); err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			e := &fault.Error{Kind: fault.StepFailed, What: d.at.product() + " refuses this row", Said: err.Error(), Reason: err,
				Where: fault.Position{File: t.File, Line: t.Lines[i]}}
			if m, ok := errors.AsType[*mysql.MySQLError](err); ok {
				e.Said, e.Code = m.Message, fmt.Sprintf("%d, SQLSTATE %s", m.Number, m.SQLState)
			}
			return e
		}
	}
	return tx.Commit()
}

// Query runs SQL and passes its results on.
func (d *database) Query(ctx context.Context, text string, out engine.Sink) error {
	c, err := d.asClients(ctx)
	if err != nil {
		return err
	}
	s := engine.Script{Text: text, First: 1}
	for p := range sqltext.Statements(dialect, text) {
		if err := d.query(ctx, c, s, p, out); err != nil {
			return err
		}
	}
	if out.Open != nil {
		open, err := c.inTransaction(ctx)
		if err != nil {
			return err
		}
		out.Open(open)
	}
	return nil
}

// asClients is a session of the tests' account that connects as clients do: where the copy
// is reset by rollback, through its gate, as long as that is there.
func (d *database) asClients(ctx context.Context) (*conn, error) {
	host, port, err := net.SplitHostPort(d.entry.Facts.Through)
	number, failed := strconv.Atoi(port)
	if d.user != nil || err != nil || failed != nil || !net.ParseIP(host).IsLoopback() {
		return d.owner(ctx)
	}
	at := d.at
	at.Socket, at.Host, at.Port, at.TLS, at.own = "", host, number, "", nil
	c, err := at.dialAsTests(ctx)
	if errors.Is(err, syscall.ECONNREFUSED) { // its process has gone
		return d.owner(ctx)
	}
	if err != nil {
		return nil, fmt.Errorf("connecting to %s: %w", d.entry.ID, err)
	}
	c.relayed = true
	d.user = c
	return c, nil
}

// inTransaction reports whether the session has a transaction open.
func (c *conn) inTransaction(ctx context.Context) (bool, error) {
	if !c.mysql && !c.relayed {
		rows, err := c.rows(ctx, "SELECT @@in_transaction")
		return err == nil && rows[0][0] == "1", err
	}
	// Without one a savepoint is gone at once.
	if err := c.do(ctx, "SAVEPOINT hemzo__open"); err != nil {
		return false, err
	}
	err := c.do(ctx, "ROLLBACK TO SAVEPOINT hemzo__open")
	if code(err) == noSavepoint {
		return false, nil
	}
	return err == nil, err
}

func (d *database) query(ctx context.Context, c *conn, s engine.Script, p sqltext.Piece, out engine.Sink) error {
	text := s.Text[p.Start:p.End]
	rows, err := c.QueryContext(ctx, text)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		err = d.refused(s, p.Start, text, err)
		if e, ok := errors.AsType[*fault.Error](err); ok {
			e.Kind = fault.Failed
		}
		return err
	}
	defer rows.Close()
	types, err := rows.ColumnTypes()
	if err != nil {
		return err
	}
	if len(types) > 0 {
		if err := pass(rows, types, out); err != nil {
			return err
		}
		return rows.Err()
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil || out.Done == nil {
		return err
	}
	changed, err := c.rows(ctx, "SELECT ROW_COUNT()")
	if err != nil {
		return err
	}
	n, _ := strconv.ParseInt(changed[0][0], 10, 64)
	return out.Done(max(n, 0))
}

// pass hands the rows of a result on.
func pass(rows *sql.Rows, types []*sql.ColumnType, out engine.Sink) error {
	names := make([]string, len(types))
	for i, t := range types {
		names[i] = t.Name()
	}
	if out.Columns != nil {
		if err := out.Columns(names); err != nil {
			return err
		}
	}
	values, at := make([]any, len(names)), make([]any, len(names))
	for i := range at {
		at[i] = &values[i]
	}
	for rows.Next() {
		if err := rows.Scan(at...); err != nil {
			return err
		}
		if out.Row == nil {
			continue
		}
		row := make([]any, len(values))
		for i, v := range values {
			row[i] = valueOf(v, types[i].DatabaseTypeName(), out.Typed)
		}
		if err := out.Row(row); err != nil {
			return err
		}
	}
	return nil
}

// valueOf is a value as results have it.
func valueOf(v any, kind string, typed bool) any {
	switch v := v.(type) {
	case []byte:
		switch {
		case typed && strings.Contains(kind, "DECIMAL"):
			return json.Number(v)
		case strings.Contains(kind, "BLOB") || strings.Contains(kind, "BINARY") || kind == "BIT" || kind == "GEOMETRY":
			return slices.Clone(v)
		case strings.Contains(kind, "INT") || kind == "YEAR":
			if n, err := strconv.ParseInt(string(v), 10, 64); err == nil {
				return n
			}
		case kind == "FLOAT" || kind == "DOUBLE":
			if n, err := strconv.ParseFloat(string(v), 64); err == nil {
				return n
			}
		}
		return string(v)
	case time.Time:
		return v.Format("2006-01-02 15:04:05.999999")
	case uint64:
		if v < 1<<63 {
			return int64(v)
		}
		return strconv.FormatUint(v, 10)
	case float32:
		return float64(v)
	}
	return v
}

// Snapshot keeps the present state. The witness begins anew in that state with a server
// that is started from it.
func (d *database) Snapshot(ctx context.Context, to string, facts engine.Facts) (json.RawMessage, error) {
	return nil, d.holder.Copy(ctx, d.entry.ID, to, facts)
}

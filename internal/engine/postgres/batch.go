package postgres

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"github.com/jackc/pgx/v5/pgconn"

	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/sqltext"
)

// batchBytes is how large a message of several statements becomes.
const batchBytes = 32 << 10

// longRun is from how many plain inserts in a row on it is worth to look at their tables.
const longRun = 20

// batch is statements that are sent in one message. One batch is run while the next is
// gathered.
type batch struct {
	quiet map[string]bool // the quiet tables of this run of plain inserts
	// loud says that the run has met another: its code may have changed any table since
	loud   bool
	pieces []sqltext.Piece
	text   strings.Builder
	under  chan error // the result of the one that is run; nil where none is
}

// insert runs one of many plain inserts in a row, now or soon.
func (s *sender) insert(ctx context.Context, p sqltext.Piece, text, table string) error {
	together, err := s.batches(ctx, table)
	switch {
	case err != nil:
		return err
	case together:
		return s.add(ctx, p, text)
	}
	return s.send(ctx, p, text)
}

// batches reports whether inserts into a table may share a message. PostgreSQL runs the
// statements of a message one after another, each with its own result ("Multiple Statements
// in a Simple Query" in the protocol's description), but tells all of them the text and the
// time of the message (current_query, statement_timestamp): so into this table rows have to
// go without any code that could ask.
func (s *sender) batches(ctx context.Context, table string) (bool, error) {
	if s.rows.loud || s.rows.quiet[table] {
		return !s.rows.loud, nil
	}
	if err := s.await(); err != nil {
		return false, err
	}
	if err := s.endPipe(); err != nil {
		return false, err
	}
	if s.rows.quiet == nil {
		s.rows.quiet = map[string]bool{}
	}
	quiet, err := s.quietTable(ctx, table)
	s.rows.quiet[table], s.rows.loud = quiet, !quiet
	return quiet, err
}

// isInsert reports whether a statement begins with that word.
func isInsert(text string) bool {
	return len(text) > 6 && strings.EqualFold(text[:6], "insert") && text[6] <= ' '
}

// inserts finds the plain inserts of a script that stand many in a row. It is asked of one
// piece after another.
type inserts struct {
	text   string
	pieces []sqltext.Piece
	end    int    // up to where the present run was looked at
	long   bool   // it is a long one
	into   string // the table of the piece that was asked of last
}

// inLongRun reports whether a piece is one of a long run.
func (x *inserts) inLongRun(i int) bool {
	if i >= x.end {
		if x.long = x.long && x.plain(i); x.long {
			x.end = i + 1
		} else {
			x.look(i)
		}
	}
	return x.long && x.plain(i)
}

// plain reports whether a piece is a plain insert, and notes into which table.
func (x *inserts) plain(i int) (plain bool) {
	p := x.pieces[i]
	if !p.Statement || p.Open != "" || !isInsert(x.text[p.Start:p.End]) {
		return false
	}
	x.into, plain = plainInsert(x.text[p.Start:p.End])
	return plain
}

// look finds out how long the run is that begins at a piece.
func (x *inserts) look(i int) {
	n := 0
	for x.end = i; x.end < len(x.pieces) && n < longRun; x.end++ {
		p := x.pieces[x.end]
		if p.Client || p.Data || p.Statement && !x.plain(x.end) {
			break
		}
		if p.Statement {
			n++
		}
	}
	x.long, x.end = n == longRun, max(x.end, i+1)
}

// quietTable asks whether rows go into a table without code of users': it has no triggers of
// theirs, no rules, no policies, no types of theirs but enums, no function or operator of
// theirs in defaults, constraints and indexes; nor does a default ask for the statement.
func (s *sender) quietTable(ctx context.Context, table string) (bool, error) {
	results, err := s.conn.Exec(ctx, quietSQL+pg.Literal(table)+")").ReadAll()
	if err != nil {
		return false, fmt.Errorf("looking at the table %s: %w", table, err)
	}
	return len(results[0].Rows) == 1 && string(results[0].Rows[0][0]) == "t", nil
}

// 16384 is the first number of an object that is not built in.
const quietSQL = `SELECT c.relkind = 'r' AND NOT c.relhasrules AND NOT c.relrowsecurity
	AND NOT EXISTS (SELECT FROM pg_catalog.pg_trigger t WHERE t.tgrelid = c.oid AND NOT t.tgisinternal)
	AND NOT EXISTS (SELECT FROM pg_catalog.pg_attribute a JOIN pg_catalog.pg_type y ON y.oid = a.atttypid
		WHERE a.attrelid = c.oid AND a.attnum > 0 AND y.oid >= 16384 AND y.typtype <> 'e')
	AND NOT EXISTS (SELECT FROM pg_catalog.pg_attrdef d WHERE d.adrelid = c.oid
		AND pg_catalog.pg_get_expr(d.adbin, d.adrelid) ~ 'statement_timestamp|current_query|pg_stat')
	AND NOT EXISTS (SELECT FROM pg_catalog.pg_constraint k WHERE k.conrelid = c.oid AND k.contype = 'c'
		AND pg_catalog.pg_get_constraintdef(k.oid) ~ 'statement_timestamp|current_query|pg_stat')
	AND NOT EXISTS (SELECT FROM pg_catalog.pg_depend p WHERE p.refclassid IN ('pg_catalog.pg_proc'::regclass,
		'pg_catalog.pg_operator'::regclass, 'pg_catalog.pg_opclass'::regclass) AND (
		p.classid = 'pg_catalog.pg_attrdef'::regclass AND p.objid IN (
			SELECT oid FROM pg_catalog.pg_attrdef WHERE adrelid = c.oid)
		OR p.classid = 'pg_catalog.pg_constraint'::regclass AND p.objid IN (
			SELECT oid FROM pg_catalog.pg_constraint WHERE conrelid = c.oid)
		OR p.classid = 'pg_catalog.pg_class'::regclass AND p.objid IN (
			SELECT indexrelid FROM pg_catalog.pg_index WHERE indrelid = c.oid)))
	FROM pg_catalog.pg_class c WHERE c.oid = pg_catalog.to_regclass(`

// add adds a statement to the batch, and has that run where it is large enough.
func (s *sender) add(ctx context.Context, p sqltext.Piece, text string) error {
	b := &s.rows
	b.pieces = append(b.pieces, p)
	b.text.WriteString(text)
	b.text.WriteByte(';')
	if b.text.Len() < batchBytes {
		return nil
	}
	return s.runBatch(ctx)
}

// runBatch begins to run what was gathered, once the batch before is done.
func (s *sender) runBatch(ctx context.Context) error {
	b := &s.rows
	if err := s.await(); err != nil || len(b.pieces) == 0 {
		b.pieces = nil
		b.text.Reset()
		return err
	}
	text, pieces, conn := b.text.String(), b.pieces, s.conn
	b.pieces, b.under = nil, make(chan error, 1)
	b.text.Reset()
	go func() { b.under <- runTogether(ctx, conn, text, pieces) }()
	return nil
}

// await waits for the batch that is run.
func (s *sender) await() error {
	if s.rows.under == nil {
		return nil
	}
	err := <-s.rows.under
	s.rows.under = nil
	return err
}

// endBatch runs what was gathered, and waits for it.
func (s *sender) endBatch(ctx context.Context) error {
	err := s.runBatch(ctx)
	return errors.Join(err, s.await())
}

// runTogether runs statements in one message. Of an error it finds out which one it is of:
// by the place in the text, where the server tells one, else by the results before it.
func runTogether(ctx context.Context, conn *pgconn.PgConn, text string, pieces []sqltext.Piece) error {
	results := conn.Exec(ctx, text)
	done := 0
	for results.NextResult() {
		if _, err := results.ResultReader().Close(); err == nil {
			done++
		}
	}
	err := results.Close()
	if err == nil {
		return nil
	}
	at := min(done, len(pieces)-1)
	if told, ok := errors.AsType[*pgconn.PgError](err); ok && told.Position > 0 {
		before := 0
		for at = range pieces {
			n := utf8.RuneCountInString(text[before : before+length(pieces[at])])
			if int(told.Position) <= n+1 || at == len(pieces)-1 {
				break
			}
			told.Position -= int32(n + 1)
			before += length(pieces[at]) + 1
		}
	}
	return &refused{pieces[at], err}
}

func length(p sqltext.Piece) int { return p.End - p.Start }

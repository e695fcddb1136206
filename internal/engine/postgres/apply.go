package postgres

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/fault"
	"hemzo/internal/pattern"
	"hemzo/internal/sqltext"
)

// Apply runs a script in one transaction, unless it holds a statement that
// steers transactions itself or cannot run inside one.
func (d *database) Apply(ctx context.Context, s engine.Script) error {
	conn, err := d.connect(ctx)
	if err != nil {
		return err
	}
	pieces := sqltext.Split(dialect, s.Text)
	alone, err := validateScript(s, pieces, d.session.Names)
	if err != nil {
		return err
	}
	if !alone {
		if _, err := conn.Exec(ctx, "BEGIN"); err != nil {
			return fmt.Errorf("beginning a transaction: %w", err)
		}
	}
	err = d.pieces(ctx, s, pieces, !alone)
	if err == nil && !alone {
		if _, err = conn.Exec(ctx, "COMMIT"); err != nil {
			err = failed(s, sqltext.Piece{Start: len(s.Text), End: len(s.Text)}, err)
		}
	}
	if err == nil && conn.PgConn().TxStatus() != 'I' {
		e := fault.New(fault.StepFailed,
			"add COMMIT at its end, or drop its BEGIN: Hemzo runs each migration in a transaction",
			"it leaves a transaction open")
		e.Where.File = s.File
		err = e
	}
	if err != nil {
		d.abandon(ctx)
	}
	return err
}

// abandon ends whatever a failed script left open.
func (d *database) abandon(ctx context.Context) {
	if ctx.Err() != nil || d.conn.IsClosed() {
		_ = d.Close()
		return
	}
	if d.conn.PgConn().TxStatus() != 'I' {
		_, _ = d.conn.Exec(ctx, "ROLLBACK")
	}
}

// validateScript finds what a script may not hold, and whether it has to run statement
// by statement, outside a transaction.
func validateScript(s engine.Script, pieces []sqltext.Piece, names []string) (alone bool, err error) {
	for _, p := range pieces {
		text := s.Text[p.Start:p.End]
		if p.Client {
			if !harmless(text) {
				return false, s.Locate(p.Start, fault.New(fault.StepFailed, "take the line out",
					"this line is for another program (%s)", strings.TrimSpace(text)))
			}
			continue
		}
		if !p.Statement || isInsert(text) { // which is none of what follows
			continue
		}
		words := sqltext.Words(dialect, text, 12)
		if _, own := ownName(words, text, names, ""); own {
			continue
		}
		if reachesServer(words) {
			e := fault.New(fault.Refused, "take it out of the migration: Hemzo changes nothing that it did not make",
				"this statement reaches beyond the database")
			e.Lines = []string{text}
			return false, s.Locate(p.Start, e)
		}
		alone = alone || !fitsTransaction(words)
	}
	return alone, nil
}

// harmless reports whether a client program's line has no effect on a load.
func harmless(line string) bool {
	word, _, _ := strings.Cut(strings.TrimSpace(line), " ")
	return slices.Contains([]string{`\restrict`, `\unrestrict`, `\echo`, `\encoding`, `\.`}, word)
}

func reachesServer(words []string) bool {
	if len(words) < 2 {
		return false
	}
	switch words[0] {
	case "CREATE", "DROP":
		return words[1] == "DATABASE" || words[1] == "TABLESPACE"
	case "ALTER":
		return words[1] == "DATABASE" || words[1] == "TABLESPACE" || words[1] == "SYSTEM"
	}
	return false
}

var databaseName = pattern.Lazy(`(?i)\bDATABASE\s+("(?:[^"]|"")+"|[a-z_][\w$]*)`)

// ownName finds a statement that names the database it runs in by a name of
// the project file, and gives the database's real name to it.
func ownName(words []string, text string, names []string, id string) (string, bool) {
	if len(words) < 3 || !slices.Contains([]string{"ALTER", "COMMENT", "GRANT", "REVOKE"}, words[0]) {
		return "", false
	}
	m := databaseName().FindStringSubmatchIndex(text)
	if m == nil || (words[0] == "ALTER" && words[1] != "DATABASE") ||
		(words[0] == "COMMENT" && words[2] != "DATABASE") {
		return "", false
	}
	name := text[m[2]:m[3]]
	if strings.HasPrefix(name, `"`) {
		name = strings.ReplaceAll(strings.Trim(name, `"`), `""`, `"`)
	} else {
		name = strings.ToLower(name)
	}
	if !slices.Contains(names, name) || words[0] == "ALTER" && !slices.Contains(words, "SET") &&
		!slices.Contains(words, "RESET") {
		return "", false
	}
	return text[:m[2]] + pg.Ident(id) + text[m[3]:], true
}

// fitsTransaction reports whether a statement may run in a transaction that
// is open already, and what follows it may use its result there.
func fitsTransaction(words []string) bool {
	if len(words) == 0 {
		return true
	}
	switch words[0] {
	case "BEGIN", "START", "COMMIT", "END", "ROLLBACK", "ABORT", "SAVEPOINT", "RELEASE", "PREPARE", "VACUUM", "CLUSTER":
		return false
	case "CREATE", "DROP", "REINDEX", "REFRESH":
		return !slices.Contains(words, "CONCURRENTLY")
	case "ALTER":
		// A new value of an enum cannot be used before it is committed.
		return !(words[1] == "TYPE" && slices.Contains(words, "VALUE"))
	}
	return true
}

// pieces runs the statements of a script, ahead of their results where those are undone
// together.
func (d *database) pieces(ctx context.Context, s engine.Script, pieces []sqltext.Piece, together bool) error {
	passed := map[string]int{}
	send, rows := &sender{conn: d.conn.PgConn(), ahead: together}, &inserts{text: s.Text, pieces: pieces}
	var err error
	for i, p := range pieces {
		if !p.Statement {
			continue
		}
		text := s.Text[p.Start:p.End]
		if together && rows.inLongRun(i) {
			if err = send.insert(ctx, p, text, rows.into); err != nil || ctx.Err() != nil {
				break
			}
			continue
		}
		words := sqltext.Words(dialect, text, 12)
		if own, ok := ownName(words, text, d.session.Names, d.id); ok {
			if words[0] != "COMMENT" || d.server.hasOwnerRoles() { // the comment is where Hemzo keeps its facts
				err = send.run(ctx, p, own, words)
			}
		} else if p.CopyIn {
			err = send.copyIn(ctx, p, text, data(s, pieces[i+1:]))
		} else if s.Dump && d.missingRole(ctx, text, words, passed) {
			continue
		} else if name := newRole(words); name != "" && d.server.roles {
			err = send.alone(ctx, p, func() error { return d.server.makeRole(ctx, name, roleOptions(text)) })
		} else {
			err = send.run(ctx, p, text, words)
		}
		if err != nil || ctx.Err() != nil {
			break
		}
	}
	if ended := send.finish(ctx); err == nil {
		err = ended
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if told, ok := errors.AsType[*refused](err); ok {
		return d.server.broken(failed(s, told.piece, told.err))
	}
	if err != nil {
		return fmt.Errorf("running %s: %w", s.File, err)
	}
	if len(passed) > 0 && d.session.Notice != nil {
		names, all := slices.Sorted(maps.Keys(passed)), 0
		for _, n := range passed {
			all += n
		}
		d.session.Notice(fmt.Sprintf("%s: %d owner and grant lines for roles that are not there were passed over; "+
			"to have them:  roles: [%s]", s.File, all, strings.Join(names, ", ")))
	}
	return nil
}

// data returns the data lines behind a COPY statement, "" where there are
// none.
func data(s engine.Script, after []sqltext.Piece) string {
	for _, p := range after {
		if p.Data {
			return s.Text[p.Start:p.End]
		}
		if p.Statement || p.Client {
			break
		}
	}
	return ""
}

// missingRole reports whether a statement of a dump only gives something to a
// role that is not there.
func (d *database) missingRole(ctx context.Context, text string, words []string, passed map[string]int) bool {
	if len(words) == 0 || !slices.Contains([]string{"ALTER", "GRANT", "REVOKE"}, words[0]) {
		return false
	}
	words = sqltext.Words(dialect, text, 10_000)
	name := ""
	switch {
	case len(words) > 2 && words[0] == "ALTER" && words[len(words)-3] == "OWNER":
		name = words[len(words)-1]
	case len(words) > 2 && (words[0] == "GRANT" || words[0] == "REVOKE"):
		name = words[len(words)-1]
	default:
		return false
	}
	name = strings.Trim(strings.ToLower(name), `"`)
	if name == "public" {
		return false
	}
	n, err := d.server.queryInt(ctx, "SELECT count(*) FROM pg_roles WHERE rolname = $1", name)
	if err != nil || n > 0 {
		return false
	}
	passed[name]++
	return true
}

// newRole returns the name of the role that a statement makes, "" for any
// other statement. Roles belong to the whole server: they are made once, by
// Hemzo, and a second CREATE ROLE of the same is passed over.
func newRole(words []string) string {
	if len(words) < 3 || words[0] != "CREATE" || words[1] != "ROLE" && words[1] != "USER" && words[1] != "GROUP" ||
		words[2] == "MAPPING" {
		return ""
	}
	if strings.HasPrefix(words[2], `"`) {
		return strings.ReplaceAll(strings.Trim(words[2], `"`), `""`, `"`)
	}
	return strings.ToLower(words[2])
}

// roleOptions keeps of a CREATE ROLE what concerns its rights inside a
// database: nobody logs in by a role that a migration makes.
func roleOptions(text string) string {
	words := sqltext.Words(dialect, text, 1000)
	options := "NOLOGIN"
	for _, w := range []string{"NOINHERIT", "BYPASSRLS"} {
		if slices.Contains(words, w) {
			options += " " + w
		}
	}
	return options
}

// broken looks into the server's log for why it has gone, where it has.
func (s *server) broken(err *fault.Error) error {
	if err.Code == "" && s.full() {
		err.Kind, err.What, err.Said, err.Next = fault.Lacking, "the server ended while it ran this", noSpace, noRoom
	}
	return err
}

// full reports whether the last words of the server's log tell of a full disk.
func (s *server) full() bool {
	if s.patience.Log == "" {
		return false
	}
	time.Sleep(100 * time.Millisecond) // they come a moment after the end
	log, err := os.ReadFile(s.patience.Log)
	return err == nil && bytes.Contains(log[max(len(log)-8192, 0):], []byte(noSpace))
}

// explainDiskFull tells what to do where something failed for want of room.
func (s *server) explainDiskFull(err error, doing string) error {
	known, lost := new(fault.Error), pg.State(err) == ""
	if err == nil || errors.As(err, &known) || errors.Is(err, engine.ErrNotFound) || errors.Is(err, context.Canceled) ||
		!lost && pg.State(err) != pg.DiskFull || lost && !s.full() {
		return err
	}
	e := fault.New(fault.Lacking, noRoom, "%s: the server has no room", doing)
	e.Said, e.Reason = noSpace, err
	return e
}

// What a server says that has no room, and what to do then.
const (
	noSpace = "No space left on device"
	noRoom  = "drop copies (hemzo drop --all) or old templates (hemzo sweep --templates), or give it more with  tmpfs:"
)

// failed places the server's message in the file that the statement came
// from, at the character that the server points at.
func failed(s engine.Script, p sqltext.Piece, err error) *fault.Error {
	text := s.Text[p.Start:p.End]
	e := &fault.Error{Kind: fault.StepFailed, What: "PostgreSQL refuses this", Said: pg.Message(err), Reason: err}
	offset := p.Start
	if pg.State(err) == "" {
		e.What, e.Next = "the server ended the connection while it ran this", "the server's own log tells why"
	}
	if told, ok := errors.AsType[*pgconn.PgError](err); ok {
		e.Code = told.Code
		for i := range text {
			offset = p.Start + i
			if told.Position <= 1 {
				break
			}
			told.Position--
		}
		if told.Detail != "" {
			e.Said += " (" + told.Detail + ")"
		}
		e.Next = told.Hint
		if told.Where != "" {
			e.Lines = append(e.Lines, strings.Split(told.Where, "\n")...)
		}
		if told.Code == pg.DiskFull {
			e.Kind, e.Next = fault.Lacking, noRoom
		}
	}
	e.Lines = append(fault.Excerpt(text), e.Lines...)
	return s.Locate(offset, e)
}

// Load puts rows into a table by COPY.
func (d *database) Load(ctx context.Context, t engine.Table) error {
	conn, err := d.connect(ctx)
	if err != nil {
		return err
	}
	var b bytes.Buffer
	for _, row := range t.Rows {
		for i, v := range row {
			if i > 0 {
				b.WriteByte(',')
			}
			if v != nil {
				b.WriteString(`"` + strings.ReplaceAll(v.(string), `"`, `""`) + `"`)
			}
		}
		b.WriteByte('\n')
	}
	columns := make([]string, len(t.Columns))
	for i, c := range t.Columns {
		columns[i] = pg.Ident(c)
	}
	_, err = conn.PgConn().CopyFrom(ctx, &b,
		fmt.Sprintf("COPY %s (%s) FROM STDIN (FORMAT csv)", table(t.Name), strings.Join(columns, ", ")))
	if err == nil || ctx.Err() != nil {
		return ctx.Err()
	}
	e := &fault.Error{Kind: fault.StepFailed, What: "PostgreSQL refuses this", Said: pg.Message(err), Reason: err,
		Where: fault.Position{File: t.File, Line: 1}}
	if told, ok := errors.AsType[*pgconn.PgError](err); ok {
		e.Code = told.Code
		if told.Detail != "" {
			e.Said += " (" + told.Detail + ")"
		}
		if n := copyLine(told.Where); n > 0 && n <= len(t.Lines) {
			e.Where.Line = t.Lines[n-1]
		}
	}
	return e
}

// copyLine reads the row's number from the context of an error of COPY.
func copyLine(where string) int {
	_, rest, ok := strings.Cut(where, ", line ")
	if !ok {
		return 0
	}
	n, _ := strconv.Atoi(strings.TrimRight(strings.FieldsFunc(rest, func(r rune) bool { return r < '0' || r > '9' })[0],
		","))
	return n
}

// table quotes the name of a table, which may bear its schema.
func table(name string) string {
	return pgx.Identifier(strings.Split(name, ".")).Sanitize()
}

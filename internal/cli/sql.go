package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"hemzo/internal/engine"
	"hemzo/internal/engine/all"
	"hemzo/internal/fault"
	"hemzo/internal/template"
)

func (a *app) sqlCommand() *cobra.Command {
	var (
		on   string
		bare bool
		wait time.Duration
	)
	c := &cobra.Command{
		Use:   "sql [STATEMENT]",
		Short: "Run SQL, or standard input, on a copy and print the rows",
		Long: `Sql runs the statement, or what comes on standard input, on a copy and
prints the rows. On a terminal with neither it asks for statements; one ends
with a semicolon.

With --json each result is an object, with the columns in their order and the
rows, or with the number of rows changed.`,
		Args: cobra.MaximumNArgs(1),
		RunE: a.inProject(func(c *cobra.Command, s *session, args []string) error {
			f, err := s.find(c.Context(), on)
			if err != nil {
				return err
			}
			session := engine.Session{Wait: f.wait(wait)}
			if f.database != nil {
				session = template.SessionOf(f.database, session.Wait)
			}
			session.Said = func(text string) { a.note("%s", text) }
			d, err := f.scoped.Server.Open(c.Context(), f.entry.ID, session)
			if err != nil {
				return err
			}
			defer d.Close()
			out := &rows{app: a, bare: bare}
			if len(args) == 0 && term.IsTerminal(int(a.in.Fd())) && a.outTerm {
				e, err := all.Named(f.entry.Facts.Engine)
				lines := err == nil && e.Language().Lines
				return prompt{app: a, d: d, out: out, name: f.entry.Facts.Name, lines: lines}.run(c.Context())
			}
			text := strings.Join(args, "")
			if len(args) == 0 {
				b, err := io.ReadAll(a.in)
				if err != nil {
					return fmt.Errorf("reading standard input: %w", err)
				}
				text = string(b)
			}
			err = out.run(c.Context(), d, text)
			if err == nil && out.open {
				return fault.New(fault.Failed, "end it, with COMMIT or EXEC",
					"a transaction was left open: nothing that it did is kept")
			}
			return err
		}),
	}
	c.Flags().StringVar(&on, "on", "", "the `COPY` (default: the only one of this project)")
	c.Flags().BoolVar(&bare, "bare", false, "rows alone, a tab between values")
	waitFlag(c, &wait)
	_ = c.RegisterFlagCompletionFunc("on", a.copyNames)
	return c
}

// rows prints the results of statements.
type rows struct {
	*app
	bare    bool
	grid    *grid
	columns []string
	results []result
	n       int
	open    bool // a transaction
}

// result is one result as JSON: rows, or a number of rows changed.
type result struct {
	columns []string
	rows    [][]any
	changed int64
}

// printResults prints results as JSON, a row to a line.
func (r *rows) printResults() error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	put := func(text string, v any) error {
		b.WriteString(text)
		err := e.Encode(v)
		b.Truncate(b.Len() - 1) // the end of the line
		return err
	}
	b.WriteString("[")
	for i, one := range r.results {
		between := ",\n  "
		if i == 0 {
			between = "\n  "
		}
		if one.columns == nil {
			if err := put(between+`{"changed": `, one.changed); err != nil {
				return err
			}
			b.WriteString("}")
			continue
		}
		if err := put(between+`{"columns": `, one.columns); err != nil {
			return err
		}
		b.WriteString(`, "rows": [`)
		for j, row := range one.rows {
			between := ",\n    "
			if j == 0 {
				between = "\n    "
			}
			if err := put(between, row); err != nil {
				return err
			}
		}
		b.WriteString("]}")
	}
	r.say("%s]", b.String())
	return nil
}

func (r *rows) run(ctx context.Context, d engine.Database, text string) error {
	r.results = []result{}
	err := d.Query(ctx, text, engine.Sink{Columns: r.begin, Row: r.row, Done: r.done, Typed: r.json,
		Open: func(open bool) { r.open = open }})
	r.flush()
	if r.json && err == nil {
		return r.printResults()
	}
	return err
}

func (r *rows) begin(names []string) error {
	r.flush()
	r.columns, r.n = names, 0
	if r.json {
		r.results = append(r.results, result{columns: names})
	}
	if r.json || r.bare {
		return nil
	}
	p := r.paintFor(r.outTerm)
	head := make([]string, len(names))
	for i, n := range names {
		head[i] = p.honey(n)
	}
	r.grid = &grid{}
	r.grid.add(head...)
	return nil
}

func (r *rows) row(values []any) error {
	r.n++
	switch {
	case r.json:
		for i, v := range values {
			values[i] = forJSON(v)
		}
		last := &r.results[len(r.results)-1]
		last.rows = append(last.rows, values)
	case r.bare:
		cells := make([]string, len(values))
		for i, v := range values {
			if v != nil {
				cells[i] = plain(v)
			}
		}
		r.say("%s", strings.Join(cells, "\t"))
	default:
		cells := make([]string, len(values))
		for i, v := range values {
			cells[i] = strings.ReplaceAll(plain(v), "\n", "·")
		}
		r.grid.add(cells...)
		// Widths are fitted over this many rows; a long result is printed
		// as it comes.
		if len(r.grid.rows) > 1000 {
			r.print(r.grid, "")
			r.grid = &grid{}
		}
	}
	return nil
}

// forJSON is a value as JSON can have it: bytes as text, and what is not a number
// of JSON's too.
func forJSON(v any) any {
	switch v := v.(type) {
	case []byte:
		return plain(v)
	case float64:
		if math.IsNaN(v) || math.IsInf(v, 0) {
			return fmt.Sprint(v)
		}
	}
	return v
}

func (r *rows) flush() {
	if r.grid != nil {
		r.print(r.grid, "")
		r.say("%s", r.paintFor(r.outTerm).dim(count(r.n, "row")))
		r.grid = nil
	}
}

func (r *rows) done(changed int64) error {
	switch {
	case r.json:
		r.results = append(r.results, result{changed: changed})
	case !r.bare && !r.quiet && changed > 0:
		r.say("%s", r.paintFor(r.outTerm).dim(count(changed, "row")+" changed"))
	}
	return nil
}

const promptHelp = `
  up, down       earlier statements
  help, \?       this
  exit, \q       the end, as Ctrl-D`

// prompt asks for statements until the end of input.
type prompt struct {
	*app
	d     engine.Database
	out   *rows
	name  string
	lines bool // a statement is a line
}

// whole reports whether a text is a statement, and no part of one.
func (p prompt) whole(text string) bool {
	text = strings.TrimSpace(text)
	return p.lines || strings.HasSuffix(text, ";") || strings.HasPrefix(text, `\`)
}

func (p prompt) help() string {
	if p.lines {
		return "A command is a line." + promptHelp
	}
	return "A statement ends with a semicolon and may take several lines." + promptHelp
}

func (p prompt) run(ctx context.Context) error {
	a, d, out, name := p.app, p.d, p.out, p.name
	fd := int(a.in.Fd())
	old, err := term.MakeRaw(fd)
	if err != nil {
		return fmt.Errorf("asking for statements: %w", err)
	}
	defer func() { _ = term.Restore(fd, old) }()
	t := term.NewTerminal(struct {
		io.Reader
		io.Writer
	}{a.in, os.Stdout}, name+"> ")
	if width, height, err := term.GetSize(fd); err == nil && width > 0 {
		_ = t.SetSize(width, height)
	}
	// aside does something while the terminal is as the user's shell has it.
	aside := func(work func()) error {
		_ = term.Restore(fd, old)
		work()
		old, err = term.MakeRaw(fd)
		return err
	}
	fmt.Fprintln(t, "help tells how to use this prompt, exit ends it")
	var text bytes.Buffer
	for ctx.Err() == nil {
		line, err := t.ReadLine()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
		word := strings.TrimSuffix(strings.TrimSpace(line), ";")
		switch {
		case text.Len() == 0 && (word == "exit" || word == "quit" || word == `\q`):
			return leavePrompt(a, out)
		case text.Len() == 0 && (word == "help" || word == `\?` || word == `\h`):
			fmt.Fprintln(t, p.help())
			continue
		}
		text.WriteString(line + "\n")
		if !p.whole(text.String()) {
			t.SetPrompt(strings.Repeat(" ", len(name)) + "> ")
			continue
		}
		err = aside(func() {
			if err := out.run(ctx, d, text.String()); err != nil {
				a.report(err)
			}
		})
		if err != nil {
			return err
		}
		text.Reset()
		t.SetPrompt(name + map[bool]string{true: "*> ", false: "> "}[out.open])
	}
	return leavePrompt(a, out)
}

// leavePrompt says what becomes of a transaction that is open at the end.
func leavePrompt(a *app, out *rows) error {
	if out.open {
		a.note("a transaction was left open: nothing that it did is kept")
	}
	return nil
}

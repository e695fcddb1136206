package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"hemzo/internal/engine"
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
with a semicolon.`,
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
			d, err := f.scoped.Server.Open(c.Context(), f.entry.ID, session)
			if err != nil {
				return err
			}
			defer d.Close()
			out := &rows{app: a, bare: bare}
			switch {
			case len(args) == 1:
				return out.run(c.Context(), d, args[0])
			case term.IsTerminal(int(a.in.Fd())) && a.outTerm:
				return a.prompt(c.Context(), d, out, f.entry.Facts.Name)
			}
			text, err := io.ReadAll(a.in)
			if err != nil {
				return fmt.Errorf("reading standard input: %w", err)
			}
			return out.run(c.Context(), d, string(text))
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
	objects []map[string]any
	n       int
}

func (r *rows) run(ctx context.Context, d engine.Database, text string) error {
	err := d.Query(ctx, text, engine.Sink{Columns: r.begin, Row: r.row, Done: r.done})
	r.flush()
	if r.json && err == nil {
		if r.objects == nil {
			r.objects = []map[string]any{}
		}
		return r.printJSON(r.objects)
	}
	return err
}

func (r *rows) begin(names []string) error {
	r.flush()
	r.columns, r.n = names, 0
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
		o := map[string]any{}
		for i, c := range r.columns {
			if b, ok := values[i].([]byte); ok {
				values[i] = plain(b)
			}
			o[c] = values[i]
		}
		r.objects = append(r.objects, o)
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

func (r *rows) flush() {
	if r.grid != nil {
		r.print(r.grid, "")
		r.say("%s", r.paintFor(r.outTerm).dim(count(r.n, "row")))
		r.grid = nil
	}
}

func (r *rows) done(changed int64) error {
	if !r.json && !r.bare && changed > 0 {
		r.say("%s", r.paintFor(r.outTerm).dim(count(changed, "row")+" changed"))
	}
	return nil
}

// prompt asks for statements until the end of input.
func (a *app) prompt(ctx context.Context, d engine.Database, out *rows, name string) error {
	old, err := term.MakeRaw(int(a.in.Fd()))
	if err != nil {
		return a.plainPrompt(ctx, d, out)
	}
	restore := func() { term.Restore(int(a.in.Fd()), old) }
	defer restore()
	screen := struct {
		io.Reader
		io.Writer
	}{a.in, os.Stdout}
	t := term.NewTerminal(screen, name+"> ")
	text := ""
	for ctx.Err() == nil {
		line, err := t.ReadLine()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		text += line + "\n"
		if !strings.HasSuffix(strings.TrimSpace(text), ";") {
			t.SetPrompt(strings.Repeat(" ", len(name)) + "> ")
			continue
		}
		restore()
		if err := out.run(ctx, d, text); err != nil {
			a.report(err)
		}
		if old, err = term.MakeRaw(int(a.in.Fd())); err != nil {
			return err
		}
		text = ""
		t.SetPrompt(name + "> ")
	}
	return ctx.Err()
}

func (a *app) plainPrompt(ctx context.Context, d engine.Database, out *rows) error {
	in := bufio.NewScanner(a.in)
	text := ""
	for in.Scan() {
		text += in.Text() + "\n"
		if strings.HasSuffix(strings.TrimSpace(text), ";") {
			if err := out.run(ctx, d, text); err != nil {
				a.report(err)
			}
			text = ""
		}
	}
	return in.Err()
}

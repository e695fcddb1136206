package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"hemzo/internal/compare"
	"hemzo/internal/control"
	"hemzo/internal/copies"
	"hemzo/internal/engine"
	"hemzo/internal/engine/all"
	"hemzo/internal/fault"
	"hemzo/internal/project"
)

// comparing are the flags of compare.
type comparing struct {
	after  string
	tests  int
	rounds int
	chart  string
}

func (a *app) compareCommand() *cobra.Command {
	flags := comparing{tests: 200, rounds: 9}
	c := &cobra.Command{
		Use:   "compare [DATABASE]",
		Short: "Measure every way to reset, on the project's own schema",
		Long: `Compare measures what each way to put a copy back takes, on this project's
own schema and on this machine: after a test that touches nothing, after one
that deletes a few rows, after one that deletes many, and after one that
changes the schema; or with --after, after statements of your own. It says
which way to use, and what a suite would cost with each. A copy for each test
counts with the dropping of the one before. Beside them it measures the
statements that are often written by hand: they empty every table, and put
nothing back.

Each figure is the median of some rounds, with the middle half of them.`,
		Args: cobra.MaximumNArgs(1), ValidArgsFunction: a.databaseNames,
		RunE: a.inProject(func(c *cobra.Command, s *session, args []string) error {
			d, err := s.one(args)
			if err != nil {
				return err
			}
			return s.compare(c.Context(), d, flags)
		}),
	}
	c.Flags().StringVar(&flags.after, "after", "", "`SQL` that a test of yours runs, in the place of what is usual")
	c.Flags().Var(&numberFlag{&flags.tests}, "tests", "how many tests the suite has (default 200)")
	c.Flags().Var(&numberFlag{&flags.rounds}, "rounds", "how often each is measured (default 9)")
	c.Flags().StringVar(&flags.chart, "chart", "", "draw the result into a `FILE`, .svg or .png")
	_ = c.MarkFlagFilename("chart", "svg", "png")
	return c
}

// compared is what compare prints as JSON.
type compared struct {
	Database string `json:"database"`
	Engine   string `json:"engine"`
	Version  string `json:"version,omitempty"`
	Where    string `json:"where"`
	Tests    int    `json:"tests"`
	*compare.Result
	Suites map[string]engine.Milliseconds `json:"suite_ms"` // by the ways
}

func (s *session) compare(ctx context.Context, d *project.Database, flags comparing) error {
	e, err := all.Named(d.Engine)
	if err != nil {
		return err
	}
	h := e.Hosting()
	switch {
	case h.Trial == nil:
		return fault.New(fault.Usage, "choose another database", "%s cannot be reset in several ways: its engine is %s",
			d.Name, d.Engine)
	case flags.rounds == 0:
		return fault.New(fault.Usage, "", "--rounds 0: at least 1")
	case flags.chart != "" && !slices.Contains(compare.ChartTypes(), filepath.Ext(flags.chart)):
		return fault.New(fault.Usage, "a name that ends in .svg or .png", "--chart %s: what kind of file is that?",
			flags.chart)
	}
	taken, err := s.readyFor(ctx, d)
	if err != nil {
		return err
	}
	show := s.measuringBar(ctx)
	result, err := compare.Run(ctx, compare.Subject{
		Trial: h.Trial, Rollback: h.Gate != nil && !slices.Contains(d.Where, "existing"), After: flags.after,
		Rounds: flags.rounds, Doing: show.step,
		Open: func(ctx context.Context, way engine.Way, spare int) (*control.Control, func() error, error) {
			return s.compareBy(ctx, d, way, spare)
		},
	})
	show.end()
	if err != nil {
		return err
	}
	if flags.chart != "" {
		if err := drawn(flags.chart, d.Name, taken, result); err != nil {
			return err
		}
	}
	return s.printCompared(d, taken, result, flags)
}

// readyFor builds the template, so that what is measured is no build, and tells where it is.
func (s *session) readyFor(ctx context.Context, d *project.Database) (engine.About, error) {
	taken, scoped, err := s.take(ctx, d, takeFlags{wait: -1}, engine.Owner{Command: "hemzo compare"})
	if err != nil {
		return engine.About{}, err
	}
	return scoped.Server.About(), scoped.Drop(context.WithoutCancel(ctx), taken.Copy, true)
}

// compareBy opens what hands out copies that are reset in a way.
func (s *session) compareBy(ctx context.Context, d *project.Database, way engine.Way, spare int) (*control.Control,
	func() error, error) {
	one := *d
	one.Reset, one.Spare, one.Keep, one.Lazy = string(way), spare, nil, false
	sources, err := s.sources(ctx, []*project.Database{&one}, takeFlags{wait: -1},
		engine.Owner{Command: "hemzo compare"}, mpb.New(mpb.WithOutput(nil)))
	if err != nil {
		return nil, nil, err
	}
	k := control.New(sources)
	end := func() error {
		last := context.WithoutCancel(ctx)
		return k.Close(last, func(scoped copies.ScopedServer, e engine.Entry) error {
			return scoped.Drop(last, e, true)
		}, nil)
	}
	return k, end, nil
}

// measuringBar shows what is being measured.
type measuringBar struct {
	box  *mpb.Progress
	bar  *mpb.Bar
	what chan string
	last string
}

func (s *session) measuringBar(ctx context.Context) *measuringBar {
	m := &measuringBar{box: s.bars(ctx), what: make(chan string, 1)}
	m.bar = m.box.New(0, mpb.NopStyle(), mpb.PrependDecorators(decor.Any(func(decor.Statistics) string {
		select {
		case m.last = <-m.what:
		default:
		}
		return "measuring: " + m.last
	})))
	return m
}

func (m *measuringBar) step(what string) {
	select {
	case <-m.what:
	default:
	}
	m.what <- what
}

func (m *measuringBar) end() {
	m.bar.Abort(true)
	m.box.Wait()
}

// drawn draws the chart into a file, which appears whole or not at all.
func drawn(path, database string, about engine.About, r *compare.Result) (err error) {
	file, err := os.CreateTemp(filepath.Dir(path), ".chart-*")
	if err != nil {
		return fmt.Errorf("drawing the chart: %w", err)
	}
	defer os.Remove(file.Name())
	title := fmt.Sprintf("%s: what a reset takes (%s)", database, aboutWords(about))
	err = r.Draw(file, filepath.Ext(path), title)
	if err = errors.Join(err, file.Close()); err == nil {
		err = os.Chmod(file.Name(), 0o644)
	}
	if err == nil {
		err = os.Rename(file.Name(), path)
	}
	if err != nil {
		return fmt.Errorf("drawing the chart: %w", err)
	}
	return nil
}

func aboutWords(about engine.About) string {
	return strings.TrimSpace(about.Engine+" "+about.Version) + ", " + about.Where
}

func (s *session) printCompared(d *project.Database, about engine.About, r *compare.Result, flags comparing) error {
	if s.json {
		out := compared{Database: d.Name, Engine: about.Engine, Version: about.Version, Where: about.Where,
			Tests: flags.tests, Result: r, Suites: map[string]engine.Milliseconds{}}
		for _, w := range r.Ways {
			if w.On(r.On).Unable == "" {
				out.Suites[w.Name] = w.Suite(r.On, flags.tests)
			}
		}
		return s.printJSON(out)
	}
	p := s.paintFor(s.outTerm)
	s.say("%s  %s", p.strong(d.Name), p.dim(aboutWords(about)))
	g := &grid{right: map[int]bool{}, whole: map[int]bool{0: true}}
	head := []string{p.dim("reset by")}
	for i, work := range r.Works {
		head = append(head, p.dim(work.Name), "")
		g.right[2*i+1] = true
	}
	last := len(head)
	g.right[last], g.whole[last] = true, true
	g.add(append(head, p.dim(count(flags.tests, "test")))...)
	notes := &footnotes{}
	for _, w := range r.Ways {
		g.add(s.comparedRow(p, r, w, flags.tests, notes)...)
	}
	s.print(g, "  ")
	for _, text := range notes.texts {
		s.say("  %s", p.dim(text))
	}
	if s.verbose {
		for _, work := range r.Works {
			s.say("  %s", p.dim(work.Name+":  "+strings.ReplaceAll(work.Text, "\n", " ")))
		}
	}
	use := "reset: " + r.Use
	if words := (compare.Way{Name: r.Use}).Words(); words != r.Use {
		use = words + " for each test"
	}
	s.say("%s  %s", p.strong("use"), p.honey(use))
	s.say("     %s", r.Why)
	return nil
}

// comparedRow is one way's row of the table.
func (s *session) comparedRow(p paint, r *compare.Result, w compare.Way, tests int, notes *footnotes) []string {
	name := w.Words()
	if w.Name == compare.ByHand {
		name += notes.mark("the template's own rows are gone then")
	}
	if w.Name == r.Use {
		name = p.honey(name)
	}
	row := []string{name}
	for _, c := range w.Costs {
		switch {
		case c.Unable != "":
			row = append(row, "-"+notes.mark(firstLine(c.Unable)), "")
		default:
			text := span(c.Median)
			if c.Did != "" {
				text += notes.mark(fmt.Sprintf("by %s: %s", c.Did, c.Why))
			}
			row = append(row, text, p.dim(shortSpan(c.Low)+"–"+shortSpan(c.High)))
		}
	}
	suite := "-"
	if w.On(r.On).Unable == "" {
		suite = span(w.Suite(r.On, tests))
	}
	return append(row, suite)
}

// shortSpan is a span without its unit, where that is milliseconds.
func shortSpan(d engine.Milliseconds) string { return strings.TrimSuffix(span(d), " ms") }

func firstLine(text string) string {
	line, _, _ := strings.Cut(text, "\n")
	return line
}

// footnotes are what is said below a table, each once.
type footnotes struct{ texts []string }

// mark returns the mark of a note.
func (f *footnotes) mark(text string) string {
	i := slices.IndexFunc(f.texts, func(t string) bool { return strings.HasSuffix(t, ") "+text) })
	if i < 0 {
		i = len(f.texts)
		f.texts = append(f.texts, fmt.Sprintf("%d) %s", i+1, text))
	}
	return fmt.Sprintf(" %d)", i+1)
}

package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
	"hemzo/internal/place"
	"hemzo/internal/project"
	"hemzo/internal/template"
)

func (a *app) stepsCommand() *cobra.Command {
	var key bool
	c := &cobra.Command{
		Use:   "steps [DATABASE]",
		Short: "The steps in order: ready or due, why, and how long each took last time",
		Args:  cobra.MaximumNArgs(1), ValidArgsFunction: a.databaseNames,
		RunE: a.inProject(func(c *cobra.Command, s *session, args []string) error {
			chosen, err := s.project.Choose(args...)
			if err != nil {
				return err
			}
			plans, keys := []listing{}, []string{}
			for _, d := range chosen {
				plan, err := s.plan(c.Context(), d)
				if err != nil {
					return err
				}
				if key {
					keys = append(keys, plan.Key())
					continue
				}
				states, runs, err := s.states(c.Context(), d, plan)
				if err != nil {
					return err
				}
				plans = append(plans, newListing(d, plan, states, runs))
			}
			if key && a.json {
				return a.printJSON(keys)
			}
			if key {
				a.say("%s", strings.Join(keys, "\n"))
				return nil
			}
			if a.json {
				return a.printJSON(plans)
			}
			for i, p := range plans {
				if i > 0 {
					a.say("")
				}
				a.showSteps(p)
			}
			return nil
		}),
	}
	c.Flags().BoolVar(&key, "key", false,
		"print one line that stands for the sources, without any server: a key for a CI system's cache")
	return c
}

// states tells how the steps of a database stand on its server, where one runs, or
// will stand on what is kept for it.
func (s *session) states(ctx context.Context, d *project.Database, plan *template.Plan) (all []template.State,
	runs bool, err error) {
	scoped, err := s.running(ctx, d)
	if errors.Is(err, place.ErrNotRunning) {
		return plan.States(place.KeptTemplates(plan.Engine, s.wanted(d))), false, nil
	}
	if err != nil {
		return nil, false, err
	}
	all, err = plan.Look(ctx, scoped.Server)
	return all, true, err
}

// listing is a plan as it is shown.
type listing struct {
	Database string              `json:"database"`
	Engine   string              `json:"engine"`
	Running  bool                `json:"running"` // its server: else what is kept for it counts
	Ready    int                 `json:"ready"`
	Due      int                 `json:"due"`
	Expected engine.Milliseconds `json:"expected_ms"` // as far as known
	Notes    []string            `json:"notes,omitempty"`
	Steps    []template.State    `json:"steps"`
}

func newListing(d *project.Database, plan *template.Plan, states []template.State, runs bool) listing {
	p := listing{Database: d.Name, Engine: d.Engine, Running: runs, Notes: plan.Notes, Steps: states}
	for _, st := range states {
		if st.Ready {
			p.Ready++
			continue
		}
		p.Due++
		p.Expected += st.Took
	}
	return p
}

func (a *app) showSteps(p listing) {
	c := a.paintFor(a.outTerm)
	a.say("%s %s", c.strong(p.Database), c.dim(p.Engine+", "+count(len(p.Steps), "step")))
	g := &grid{right: map[int]bool{1: true, 3: true}}
	last := ""
	for i, st := range p.Steps {
		why := st.Why
		if why == last {
			why = "" // said in the line above
		}
		last = st.Why
		layer, state := c.dim("░"), c.honey("due")
		if st.Ready {
			layer, state = c.good("▒"), c.good("ready")
		}
		if st.Kept {
			layer = c.good("█")
		}
		took := ""
		if st.Took > 0 {
			took = span(st.Took)
		}
		g.add(layer, c.dim(strconv.Itoa(i+1)), st.Name, c.dim(took), state, c.dim(why))
	}
	a.print(g, "  ")
	for _, n := range p.Notes {
		a.say("  %s %s", c.dim("note:"), n)
	}
	if len(p.Steps) > 0 {
		a.say("  %s", legend(p, c))
	}
	a.say("  %s", summary(p))
}

// legend says what the signs before steps mean, of those that are there.
func legend(p listing, c paint) string {
	var kept, ready, due bool
	for _, st := range p.Steps {
		kept, ready, due = kept || st.Kept, ready || st.Ready && !st.Kept, due || !st.Ready
	}
	var parts []string
	for _, sign := range []struct {
		there bool
		text  string
	}{{kept, c.good("█") + c.dim(" ready, its layer kept")}, {ready, c.good("▒") + c.dim(" ready")},
		{due, c.dim("░ due")}} {
		if sign.there {
			parts = append(parts, sign.text)
		}
	}
	return strings.Join(parts, "   ")
}

func summary(p listing) string {
	if len(p.Steps) == 0 {
		return "no sources: copies are empty"
	}
	text := fmt.Sprintf("%d ready", p.Ready)
	switch {
	case !p.Running && p.Ready == 0:
		text = "0 ready: no server runs"
	case !p.Running:
		text += ", kept from the last server"
	case p.Due == 0:
		return "all ready: nothing is applied when a copy is taken"
	}
	if p.Due == 0 {
		return text
	}
	text += fmt.Sprintf(", %d due", p.Due)
	if p.Expected > 0 {
		text += ": about " + span(p.Expected)
	}
	return text
}

func (a *app) buildCommand() *cobra.Command {
	verify := false
	c := &cobra.Command{
		Use:   "build [DATABASE...]",
		Short: "Make the templates, or find them ready",
		Long: `Build makes the templates that are missing, or finds them ready. With --verify
it also applies all sources from scratch and compares the result with the
template, object by object and row by row: what differs is listed, and the
exit code is 1. What differs from build to build, as times and random values
do, is left out and named.`,
		ValidArgsFunction: a.databaseNames,
		RunE: a.inProject(func(c *cobra.Command, s *session, args []string) error {
			chosen, err := s.project.Choose(args...)
			if err != nil {
				return err
			}
			done := []builtReport{}
			for _, d := range chosen {
				r, err := s.build(c, d)
				if err != nil {
					return err
				}
				if verify {
					v, err := s.verify(c, d)
					if err != nil {
						return err
					}
					r.Verified, r.Differences, r.Left = true, v.Differences, v.Left
				}
				done = append(done, r)
				if !a.json && !a.quiet {
					a.say("%s", r.line(a.paintFor(a.outTerm)))
				}
			}
			if a.json {
				if err := a.printJSON(done); err != nil {
					return err
				}
			}
			for _, r := range done {
				if len(r.Differences) > 0 {
					return fault.New(fault.Failed,
						"hemzo sweep --templates --unused 0s  removes templates: the next build is from scratch",
						"the template of %s is not what its sources give", r.Database)
				}
			}
			return nil
		}),
	}
	c.Flags().BoolVar(&verify, "verify", false, "compare each template with a build from scratch")
	return c
}

func (s *session) verify(c *cobra.Command, d *project.Database) (v template.Verified, err error) {
	plan, err := s.plan(c.Context(), d)
	if err != nil {
		return v, err
	}
	scoped, err := s.scoped(c.Context(), d)
	if err != nil {
		return v, err
	}
	b := s.building(c.Context(), d.Name)
	defer b.end()
	return plan.Verify(c.Context(), scoped.Server, plan.Head(), b.event)
}

// builtReport is a build as it is shown.
type builtReport struct {
	Database string              `json:"database"`
	Template string              `json:"template"`
	Steps    int                 `json:"steps"`
	Applied  int                 `json:"applied"`
	Size     int64               `json:"size"`
	Took     engine.Milliseconds `json:"took_ms"`

	Verified    bool                `json:"verified,omitempty"`
	Differences []engine.Difference `json:"differences,omitempty"`
	Left        []string            `json:"left_out,omitempty"` // what differs from build to build
}

func (s *session) build(c *cobra.Command, d *project.Database) (r builtReport, err error) {
	plan, err := s.plan(c.Context(), d)
	if err != nil {
		return r, err
	}
	scoped, err := s.scoped(c.Context(), d)
	if err != nil {
		return r, err
	}
	b := s.building(c.Context(), d.Name)
	defer b.end()
	result, err := plan.Build(c.Context(), scoped.Server, plan.Head(), b.event)
	if err != nil {
		return r, err
	}
	return builtReport{
		Database: d.Name, Template: result.Template.ID, Steps: plan.Head(),
		Applied: len(result.Applied), Size: result.Template.Size, Took: engine.Milliseconds(result.Took),
	}, nil
}

func (r builtReport) line(p paint) string {
	text := fmt.Sprintf("%s: template ready, %s, %s", p.strong(r.Database), count(r.Steps, "step"), size(r.Size))
	note := " (nothing to apply)"
	if r.Applied > 0 {
		note = fmt.Sprintf(" (%d applied in %s)", r.Applied, span(r.Took))
	}
	text += p.dim(note)
	if r.Verified && len(r.Differences) == 0 {
		text += ", the same as from scratch"
	}
	if len(r.Left) > 0 {
		text += "\n  " + p.dim("left out, as it differs from build to build: "+few(r.Left, ", "))
	}
	for _, d := range r.Differences {
		text += fmt.Sprintf("\n  %s %s %s\n    template      %s\n    from scratch  %s", p.bad("differs"), d.Kind,
			d.Name, shorten(cmp.Or(d.Has, "none"), 100), shorten(cmp.Or(d.Wanted, "none"), 100))
	}
	return text
}

package cli

import (
	"cmp"
	"fmt"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
	"hemzo/internal/project"
	"hemzo/internal/template"
)

func (a *app) planCommand() *cobra.Command {
	var key bool
	c := &cobra.Command{
		Use:   "plan [DATABASE]",
		Short: "The steps in order: ready or to apply, why, and how long each took last time",
		Args:  cobra.MaximumNArgs(1), ValidArgsFunction: a.databaseNames,
		RunE: a.inProject(func(c *cobra.Command, s *session, args []string) error {
			chosen, err := s.project.Choose(args...)
			if err != nil {
				return err
			}
			var plans []planned
			for _, d := range chosen {
				plan, err := s.plan(c.Context(), d)
				if err != nil {
					return err
				}
				if key {
					a.say("%s", plan.Key())
					continue
				}
				scoped, err := s.scoped(c.Context(), d)
				if err != nil {
					return err
				}
				states, err := plan.Look(c.Context(), scoped.Server)
				if err != nil {
					return err
				}
				plans = append(plans, newPlanned(d, plan, states))
			}
			if key {
				return nil
			}
			if a.json {
				return a.printJSON(plans)
			}
			for i, p := range plans {
				if i > 0 {
					a.say("")
				}
				a.showPlan(p)
			}
			return nil
		}),
	}
	c.Flags().BoolVar(&key, "key", false,
		"print one line that stands for the sources, without any server: a key for a CI system's cache")
	return c
}

// planned is a plan as it is shown.
type planned struct {
	Database string           `json:"database"`
	Engine   string           `json:"engine"`
	Ready    int              `json:"ready"`
	ToApply  int              `json:"to_apply"`
	Expected time.Duration    `json:"expected"` // nanoseconds, as far as known
	Notes    []string         `json:"notes,omitempty"`
	Steps    []template.State `json:"steps"`
}

func newPlanned(d *project.Database, plan *template.Plan, states []template.State) planned {
	p := planned{Database: d.Name, Engine: d.Engine, Notes: plan.Notes, Steps: states}
	for _, st := range states {
		if st.Ready {
			p.Ready++
			continue
		}
		p.ToApply++
		p.Expected += st.Took
	}
	return p
}

func (a *app) showPlan(p planned) {
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
		layer, state := c.dim("░"), c.honey("to apply")
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
	a.say("  %s", summary(p))
}

func summary(p planned) string {
	switch {
	case len(p.Steps) == 0:
		return "no sources: copies are empty"
	case p.ToApply == 0:
		return "all ready: a copy is all that a take costs"
	case p.Expected > 0:
		return fmt.Sprintf("%d ready, %d to apply: about %s", p.Ready, p.ToApply, span(p.Expected))
	}
	return fmt.Sprintf("%d ready, %d to apply", p.Ready, p.ToApply)
}

func (a *app) buildCommand() *cobra.Command {
	verify := false
	c := &cobra.Command{
		Use:   "build [DATABASE...]",
		Short: "Make the templates, or find them ready",
		Long: `Build makes the templates that are missing, or finds them ready. With --verify
it also applies all sources from nothing and compares the result with the
template, object by object and row by row: what differs is listed, and the
exit code is 1. (Times and random values that sources write do differ.)`,
		ValidArgsFunction: a.databaseNames,
		RunE: a.inProject(func(c *cobra.Command, s *session, args []string) error {
			chosen, err := s.project.Choose(args...)
			if err != nil {
				return err
			}
			var done []builtReport
			for _, d := range chosen {
				r, err := s.build(c, d)
				if err != nil {
					return err
				}
				if verify {
					if r.Differences, err = s.verify(c, d); err != nil {
						return err
					}
					r.Verified = true
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
						"hemzo sweep --templates --unused 0s  removes templates: the next build is from nothing",
						"the template of %s is not what its sources give", r.Database)
				}
			}
			return nil
		}),
	}
	c.Flags().BoolVar(&verify, "verify", false, "compare each template with a build from nothing")
	return c
}

func (s *session) verify(c *cobra.Command, d *project.Database) ([]engine.Difference, error) {
	plan, err := s.plan(c.Context(), d)
	if err != nil {
		return nil, err
	}
	scoped, err := s.scoped(c.Context(), d)
	if err != nil {
		return nil, err
	}
	b := s.building(c.Context(), d.Name)
	defer b.end()
	return plan.Verify(c.Context(), scoped.Server, plan.Head(), b.event)
}

// builtReport is a build as it is shown.
type builtReport struct {
	Database string        `json:"database"`
	Template string        `json:"template"`
	Steps    int           `json:"steps"`
	Applied  int           `json:"applied"`
	Size     int64         `json:"size"`
	Took     time.Duration `json:"took"`

	Verified    bool                `json:"verified,omitempty"`
	Differences []engine.Difference `json:"differences,omitempty"`
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
		Applied: len(result.Applied), Size: result.Template.Size, Took: result.Took,
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
		text += ", the same as from nothing"
	}
	for _, d := range r.Differences {
		text += fmt.Sprintf("\n  %s %s %s\n    template      %s\n    from nothing  %s", p.bad("differs"), d.Kind,
			d.Name, shorten(cmp.Or(d.Has, "none"), 100), shorten(cmp.Or(d.Wanted, "none"), 100))
	}
	return text
}

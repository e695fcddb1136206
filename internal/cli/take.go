package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"hemzo/internal/control"
	"hemzo/internal/copies"
	"hemzo/internal/engine"
	"hemzo/internal/fault"
	"hemzo/internal/handover"
	"hemzo/internal/place"
	"hemzo/internal/project"
	"hemzo/internal/template"
)

// takeFlags are the flags that say which copy is wanted.
type takeFlags struct {
	name  string
	again bool
	empty bool
	until string
	lazy  bool
	by    string // a way to reset, in the place of the project file's
	wait  time.Duration
}

func (f *takeFlags) add(a *app, c *cobra.Command) {
	c.Flags().BoolVar(&f.empty, "empty", false, "a copy before the first step")
	c.Flags().StringVar(&f.until, "until", "",
		"a copy as it is after `STEP`: its name, the beginning of it, or its number")
	_ = c.RegisterFlagCompletionFunc("until", a.stepNames)
	waitFlag(c, &f.wait)
	oneOf(c, "empty", "until")
}

// layer is the layer that the flags ask for.
func (f *takeFlags) layer(p *template.Plan) (int, error) {
	switch {
	case f.empty:
		return 0, nil
	case f.until != "":
		return p.Layer(f.until)
	}
	return p.Head(), nil
}

func (a *app) takeCommand() *cobra.Command {
	var (
		flags takeFlags
		keep  time.Duration = -1
		pid   int
		form  string
	)
	c := &cobra.Command{
		Use:   "take [DATABASE]",
		Short: "Hand out a copy; its URL alone on stdout",
		Long: `Take hands out a copy and prints its URL alone on stdout, so that
URL=$(hemzo take) works. The copy stays until it is dropped, or as long as
--for and --while say.

--form gives the connection in another form: url, jdbc, conninfo, file, env,
engine-env, dotenv, json, or any text with {url}, {file}, {copy} ... in it.`,
		Args: cobra.MaximumNArgs(1), ValidArgsFunction: a.databaseNames,
		RunE: func(c *cobra.Command, args []string) error {
			if flags.again && flags.name == "" {
				return fault.New(fault.Usage, "add --as NAME", "--again needs the name of the copy")
			}
			s, err := a.begin()
			if err != nil {
				return err
			}
			defer s.close()
			d, err := s.one(args)
			if err != nil {
				return err
			}
			owner, err := ownerOf(keep, pid)
			if err != nil {
				return err
			}
			if err := handover.CheckForm(form, handover.Copy{Database: d.Name}); err != nil {
				return err
			}
			taken, scoped, err := s.take(c.Context(), d, flags, owner)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(a.describe(c.Context(), scoped, taken.Copy))
			}
			text, err := handover.Form(s.project, handed(scoped, taken.Copy), form)
			if err != nil {
				return err
			}
			a.say("%s", text)
			return nil
		},
	}
	flags.add(a, c)
	c.Flags().StringVar(&flags.name, "as", "", "a `NAME` for the copy")
	c.Flags().BoolVar(&flags.again, "again", false,
		"the copy of that name, back at its start state; a new one where there is none or the sources changed")
	c.Flags().Var(&spanFlag{&keep}, "for", "how long the copy stays")
	c.Flags().IntVar(&pid, "while", 0, "the copy stays as long as the process `PID`")
	c.Flags().StringVar(&form, "form", "url", "the form of what is printed")
	_ = c.RegisterFlagCompletionFunc("form", cobra.FixedCompletions(handover.Forms, cobra.ShellCompDirectiveNoFileComp))
	return c
}

// ownerOf turns --for and --while into an owner.
func ownerOf(keep time.Duration, pid int) (o engine.Owner, err error) {
	if keep >= 0 {
		o.Until = time.Now().Add(keep).UTC()
	}
	if pid == 0 {
		return o, nil
	}
	process, ok := place.Running(pid)
	if !ok {
		return o, fault.New(fault.Usage, "", "--while %d: there is no such process", pid)
	}
	o.Process, o.Machine = process, place.Machine()
	return o, nil
}

// take hands out one copy, showing how its build goes on.
func (s *session) take(ctx context.Context, d *project.Database, f takeFlags, owner engine.Owner) (*copies.Taken,
	copies.ScopedServer, error) {
	plan, err := s.plan(ctx, d)
	if err != nil {
		return nil, copies.ScopedServer{}, err
	}
	layer, err := f.layer(plan)
	if err != nil {
		return nil, copies.ScopedServer{}, err
	}
	scoped, err := s.scoped(ctx, d)
	if err != nil {
		return nil, scoped, err
	}
	b := s.building(ctx, d.Name)
	taken, err := scoped.Take(ctx, copies.Request{
		Plan: plan, Layer: layer, Name: f.name, Again: f.again, Owner: owner, Progress: b.event,
		Wait: found{database: d}.wait(f.wait),
	})
	b.end()
	if err != nil {
		return nil, scoped, err
	}
	if taken.Replaced {
		s.note("%s was made from other sources: replaced by a new copy", taken.Copy.Facts.Name)
	}
	if r := taken.Build; r != nil && len(r.Applied) > 0 {
		s.note("%s: %s applied in %s", d.Name, count(len(r.Applied), "step"), span(r.Took))
	}
	return taken, scoped, nil
}

// handed is a copy in the form that it is handed over in.
func handed(scoped copies.ScopedServer, e engine.Entry) handover.Copy {
	return handover.Copy{Database: e.Facts.Database, Name: e.Facts.Name,
		Connection: scoped.Server.Connection(e.ID, e.Facts)}
}

// handedBy is a copy of a run's, likewise.
func handedBy(x *control.Copy) handover.Copy {
	return handover.Copy{Database: x.Database(), Name: x.Entry().Facts.Name, Connection: x.Connection()}
}

// lazyFlag adds --lazy.
func (f *takeFlags) lazyFlag(c *cobra.Command) {
	c.Flags().BoolVar(&f.lazy, "lazy", false, "start servers and make copies when somebody first connects, or asks")
	c.Flags().StringVar(&f.by, "by", "", "how resets put the copies back: `truncation`, rollback or snapshot "+
		"(default: the project file's, or what is quickest)")
	_ = c.RegisterFlagCompletionFunc("by", ways)
}

// copyReport is a copy as it is shown.
type copyReport struct {
	Name       string            `json:"name"`
	ID         string            `json:"id"`
	Database   string            `json:"database"`
	Engine     string            `json:"engine"`
	Size       int64             `json:"size"`
	Steps      int               `json:"steps"`
	LastStep   string            `json:"last_step,omitempty"`
	Made       time.Time         `json:"made"`
	Owner      string            `json:"kept_until"`     // in words
	Until      time.Time         `json:"until,omitzero"` // where there is a time
	Alive      bool              `json:"owner_alive"`
	Failed     bool              `json:"failed,omitempty"`
	Held       bool              `json:"held,omitempty"`
	Resetting  bool              `json:"resetting,omitempty"`
	Start      string            `json:"start"`
	Project    string            `json:"project"`
	Connection engine.Connection `json:"connection"`
	Snapshots  []snapshotReport  `json:"snapshots"`
}

type snapshotReport struct {
	Name string    `json:"name"`
	Size int64     `json:"size"`
	Made time.Time `json:"made"`
}

func (a *app) describe(ctx context.Context, scoped copies.ScopedServer, e engine.Entry) copyReport {
	f := e.Facts
	r := copyReport{
		Snapshots: []snapshotReport{}, Name: f.Name, ID: e.ID, Database: f.Database, Engine: f.Engine, Size: e.Size,
		Steps: len(f.Steps),
		Made:  f.Made, Owner: keptUntil(f.Owner), Until: f.Owner.Until, Alive: scoped.Alive(ctx, f.Owner),
		Failed: f.Failed, Held: f.Held, Resetting: f.Resetting,
		Start: f.Start, Project: f.Scope.Project, Connection: scoped.Server.Connection(e.ID, f),
	}
	if n := len(f.Steps); n > 0 {
		r.LastStep = f.Steps[n-1].Name
	}
	snapshots, _ := scoped.Snapshots(ctx, e)
	for _, n := range snapshots {
		r.Snapshots = append(r.Snapshots, snapshotReport{n.Facts.Name, n.Size, n.Facts.Made})
	}
	return r
}

// keptUntil says what ends the time of a copy.
func keptUntil(o engine.Owner) string {
	var parts []string
	switch {
	case o.Command != "":
		parts = append(parts, o.Command+" ends")
	case o.Process.PID != 0:
		parts = append(parts, fmt.Sprintf("process %d ends", o.Process.PID))
	case o.Lock != "":
		parts = append(parts, "a running hemzo ends")
	}
	if !o.Until.IsZero() {
		parts = append(parts, clock(o.Until))
	}
	if parts == nil {
		return "it is dropped"
	}
	return strings.Join(parts, ", or ")
}

// clock writes a time as a clock shows it, with the day where it is not today.
func clock(t time.Time) string {
	t = t.Local()
	if now := time.Now(); t.Format(time.DateOnly) == now.Format(time.DateOnly) {
		return t.Format("15:04")
	}
	return t.Format("Mon 2 Jan, 15:04")
}

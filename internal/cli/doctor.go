package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strconv"

	"github.com/spf13/cobra"

	"hemzo/internal/container"
	"hemzo/internal/engine"
	"hemzo/internal/engine/all"
	"hemzo/internal/fault"
	"hemzo/internal/place"
	"hemzo/internal/project"
	"hemzo/internal/template"
)

// finding is one thing that doctor looked at.
type finding struct {
	About string `json:"about"`
	What  string `json:"what"`
	OK    bool   `json:"ok"`
	// NotNeeded is true for what is missing while the database has another place.
	NotNeeded bool   `json:"not_needed,omitempty"`
	Found     string `json:"found"`
	Next      string `json:"next,omitempty"`
}

func (a *app) doctorCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "doctor",
		Short: "What each declared database needs, and whether this machine has it",
		Args:  cobra.NoArgs,
		RunE: a.inProject(func(c *cobra.Command, s *session, args []string) error {
			all := append(s.machine(), s.databases(c)...)
			missing := 0
			for _, f := range all {
				if !f.OK && !f.NotNeeded {
					missing++
				}
			}
			if a.json {
				if err := a.printJSON(all); err != nil {
					return err
				}
			} else {
				a.showFindings(all)
			}
			if missing > 0 {
				return fault.New(fault.Lacking, "", "%s of what is needed is missing", strconv.Itoa(missing))
			}
			return nil
		}),
	}
}

// machine looks at what Hemzo itself needs.
func (s *session) machine() []finding {
	var out []finding
	add := func(what, found string, err error) {
		if err != nil {
			out = append(out, failing("this machine", what, err))
			return
		}
		out = append(out, finding{About: "this machine", What: what, OK: true, Found: found})
	}
	state, err := place.StateFolder()
	add("state folder", short(state), err)
	folder, err := place.DataFolder(place.Room)
	text := folder.Path + ", in memory"
	if !folder.Memory {
		text = fmt.Sprintf("%s, on disk: %s", folder.Path, folder.Why)
	}
	add("data folder", text, err)
	return out
}

// databases looks at what each declared database needs.
func (s *session) databases(c *cobra.Command) []finding {
	var out []finding
	for i := range s.project.Databases {
		d := &s.project.Databases[i]
		e, err := all.Named(d.Engine)
		if err != nil {
			out = append(out, failing(d.Name, "engine", err))
			continue
		}
		if err := e.Check(template.Spec(d)); err != nil {
			out = append(out, failing(d.Name, "project file", err))
			continue
		}
		out = append(out, s.places(c.Context(), d, e)...)
		if opaque(d) {
			continue // it has no sources
		}
		plan, err := s.plan(c.Context(), d)
		if err != nil {
			out = append(out, failing(d.Name, "sources", err))
			continue
		}
		out = append(out, finding{About: d.Name, What: "sources", OK: true, Found: count(len(plan.Steps), "step")})
	}
	return out
}

// failing is the finding of an error.
func failing(about, what string, err error) finding {
	f := finding{About: about, What: what, Found: err.Error()}
	if x, ok := errors.AsType[*fault.Error](err); ok {
		f.Next = x.Next
	}
	return f
}

// places looks at the places that a database may run in, in order. Where one has
// all that it needs, what others lack is not needed.
func (s *session) places(ctx context.Context, d *project.Database, e engine.Engine) []finding {
	var out []finding
	usable := false
	for _, where := range d.Where {
		var some []finding
		h := e.Hosting()
		switch {
		case where == "existing" && h.Existing != nil:
			some = s.existing(ctx, d)
		case where == "container" && h.Container != nil:
			some = append(s.containers(ctx, d, h.Container), s.runs(ctx, d, where)...)
		case where == "memory" && (h.Embedded != nil || h.Process != nil):
			for _, n := range e.Needs(ctx, template.Spec(d)) {
				some = append(some, finding{About: d.Name, What: n.What, OK: n.Has != "",
					Found: cmp.Or(n.Has, n.Lacks, "missing on "+runtime.GOOS), Next: n.Next})
			}
			some = append(some, s.runs(ctx, d, where)...)
		default:
			continue
		}
		usable = usable || !slices.ContainsFunc(some, func(f finding) bool { return !f.OK })
		out = append(out, some...)
	}
	for i := range out {
		out[i].NotNeeded = usable && !out[i].OK
	}
	return out
}

// containers looks at the container engine and the image.
func (s *session) containers(ctx context.Context, d *project.Database, e engine.ContainerHost) []finding {
	docker, err := container.Find(ctx)
	if err != nil {
		return []finding{failing(d.Name, "container engine", err)}
	}
	defer docker.Close()
	f := finding{About: d.Name, What: "container engine", OK: true}
	f.Found = fmt.Sprintf("%s (API %s) at %s, %s", docker.Version, docker.API, docker.Endpoint, docker.From)
	name := or(d.Image, e.Image(template.Spec(d)).Name)
	image := finding{About: d.Name, What: "image", OK: true, Found: name}
	if !docker.Has(ctx, name) {
		image.Found = name + ", to be pulled from " + container.Registry(name)
	}
	return []finding{f, image}
}

// existing looks at a server that has to be there already.
func (s *session) existing(ctx context.Context, d *project.Database) []finding {
	scoped, err := s.scoped(ctx, d)
	if err != nil {
		return []finding{failing(d.Name, "server", err)}
	}
	return findings(d, scoped.Server.About())
}

// runs tells what is known of a private server that runs; it starts none.
func (s *session) runs(ctx context.Context, d *project.Database, where string) []finding {
	scoped, err := s.running(ctx, d)
	if err != nil || scoped.Server.About().Where != where {
		return nil
	}
	if about := scoped.Server.About(); len(about.Notes) > 0 {
		return findings(d, about)
	}
	return nil
}

// findings are what a server tells of itself.
func findings(d *project.Database, about engine.About) []finding {
	out := []finding{{About: d.Name, What: "server", OK: true, Found: about.Version + " at " + about.Address}}
	for _, note := range about.Notes {
		out = append(out, finding{About: d.Name, What: "server", OK: true, Found: note})
	}
	return out
}

func (a *app) showFindings(all []finding) {
	p := a.paintFor(a.outTerm)
	about := ""
	g := &grid{}
	flush := func() {
		if len(g.rows) > 0 {
			a.say("%s", p.strong(about))
			a.print(g, "  ")
		}
		g = &grid{}
	}
	for _, f := range all {
		if f.About != about {
			flush()
			about = f.About
		}
		state := p.good("has")
		switch {
		case f.NotNeeded:
			state = p.dim("lacks")
			f.Found += p.dim(" (not needed: there is another place)")
			f.Next = ""
		case !f.OK:
			state = p.bad("lacks")
		}
		text := f.Found
		if !f.OK && f.Next != "" {
			text += p.dim("; next: " + f.Next)
		}
		g.add(state, f.What, text)
	}
	flush()
}

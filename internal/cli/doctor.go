package cli

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"

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
	Found string `json:"found"`
	Next  string `json:"next,omitempty"`
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
				if !f.OK {
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
				return fault.New(fault.Lacking, "", "%s missing", count(missing, "thing"))
			}
			return nil
		}),
	}
}

// machine looks at what Hemzo itself needs.
func (s *session) machine() []finding {
	var out []finding
	add := func(what, found string, err error) {
		f := finding{About: "this machine", What: what, OK: err == nil, Found: found}
		if err != nil {
			f.Found = err.Error()
			if e, ok := err.(*fault.Error); ok {
				f.Next = e.Next
			}
		}
		out = append(out, f)
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
			out = append(out, finding{About: d.Name, What: "engine", Found: err.Error()})
			continue
		}
		for _, n := range e.Needs(c.Context()) {
			out = append(out, finding{About: d.Name, What: n.What, OK: n.Has != "",
				Found: or(n.Has, "missing on "+runtime.GOOS), Next: n.Next})
		}
		if err := e.Check(template.Spec(d)); err != nil {
			f := finding{About: d.Name, What: "project file", Found: err.Error()}
			if x, ok := err.(*fault.Error); ok {
				f.Next = x.Next
			}
			out = append(out, f)
			continue
		}
		plan, err := s.plan(c.Context(), d)
		if err != nil {
			f := finding{About: d.Name, What: "sources", Found: err.Error()}
			if x, ok := err.(*fault.Error); ok {
				f.Next = x.Next
			}
			out = append(out, f)
			continue
		}
		out = append(out, finding{About: d.Name, What: "sources", OK: true, Found: count(len(plan.Steps), "step")})
		if h := e.Hosting(); h.Container != nil && slices.Contains(d.Where, "container") {
			out = append(out, s.containers(c.Context(), d, h.Container)...)
		}
		if slices.Equal(d.Where, []string{"existing"}) {
			out = append(out, s.existing(c.Context(), d)...)
		}
	}
	return out
}

// containers looks at the container engine and the image.
func (s *session) containers(ctx context.Context, d *project.Database, e engine.ContainerHost) []finding {
	only := slices.Equal(d.Where, []string{"container"})
	f := finding{About: d.Name, What: "container engine"}
	docker, err := container.Find(ctx)
	if err != nil {
		f.Found, f.OK = err.Error(), !only // another place will do
		if x, ok := errors.AsType[*fault.Error](err); ok {
			f.Next = x.Next
		}
		return []finding{f}
	}
	defer docker.Close()
	f.OK, f.Found = true, fmt.Sprintf("%s (API %s) at %s, %s", docker.Version, docker.API, docker.Endpoint, docker.From)
	name := or(d.Image, e.Image(template.Spec(d)).Name)
	image := finding{About: d.Name, What: "image", OK: true, Found: name}
	if !docker.Has(ctx, name) {
		image.Found = name + ", to be pulled from " + container.Registry(name)
	}
	return []finding{f, image}
}

// existing looks at a server that has to be there already.
func (s *session) existing(ctx context.Context, d *project.Database) []finding {
	f := finding{About: d.Name, What: "server"}
	scoped, err := s.scoped(ctx, d)
	if err != nil {
		f.Found = err.Error()
		if x, ok := errors.AsType[*fault.Error](err); ok {
			f.Next = x.Next
		}
		return []finding{f}
	}
	about := scoped.Server.About()
	f.OK, f.Found = true, about.Version+" at "+about.Address
	out := []finding{f}
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
		if !f.OK {
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

// Package template makes templates: it finds the longest layer that is ready
// on a server, applies the steps above it, once, under a lock, and keeps the
// result.
package template

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
	"hemzo/internal/project"
	"hemzo/internal/source"
)

// Plan is what one database is made from, in order.
type Plan struct {
	Project  *project.Project
	Database *project.Database
	Engine   engine.Engine
	Scope    engine.Scope
	Steps    []source.Step
	Layers   []string // fingerprints; layer i is the state after step i
	Notes    []string
	read     *source.Plan
	key      string
}

// Fresh reports whether reading the sources again would find the same.
func (p *Plan) Fresh() bool { return p.read.Fresh() }

// Spec is what a database of the project file asks of its engine.
func Spec(d *project.Database) engine.Spec {
	s := engine.Spec{Database: d.Name, SourceRole: d.Role, Version: d.Version, Encoding: d.Encoding, Locale: d.Locale,
		Extensions: d.Extensions, Roles: d.Roles, Image: d.Image, Room: d.Tmpfs, Memory: d.Memory, CPUs: d.CPUs}
	if len(d.Ports) > 0 {
		s.Service = engine.Service{Ports: d.Ports, Command: d.Command, Ready: d.ReadyWhen, Forget: d.Forget,
			Within: d.Ready}
		for _, v := range d.Variables {
			s.Service.Variables = append(s.Service.Variables, engine.Setting{Name: v.Name, Value: v.Value})
		}
	}
	if u, err := url.Parse(d.URL); err == nil && u.User != nil {
		s.SourceRole += " " + u.User.Username()
	}
	for _, v := range d.Settings {
		s.Settings = append(s.Settings, engine.Setting{Name: v.Name, Value: v.Value})
	}
	return s
}

// SessionOf says how Hemzo works on a database of the project file.
func SessionOf(d *project.Database, wait time.Duration) engine.Session {
	return engine.Session{Wait: wait, Settings: Spec(d).Settings, Names: d.Names, Roles: d.Roles,
		Commits: d.Commits}
}

// Reread is the variable that has all sources read, where the times of a file system are not
// to be believed.
const Reread = "HEMZO_REREAD"

// memory is what is known of sources from earlier commands, in this user's cache.
func memory() source.Memory {
	folder, err := os.UserCacheDir()
	if err != nil || os.Getenv(Reread) != "" {
		return source.Memory{}
	}
	return source.Memory{Folder: filepath.Join(folder, "hemzo", "sources")}
}

// Read reads the sources of a database. It needs no server.
func Read(ctx context.Context, p *project.Project, d *project.Database, e engine.Engine, scope engine.Scope) (*Plan,
	error) {
	if err := e.Check(Spec(d)); err != nil {
		return nil, err
	}
	if engine.Way(d.Reset) == engine.Rollback && e.Hosting().Gate == nil {
		f := fault.New(fault.Usage, "write  reset: truncation  or leave it out", "%s has no reset by rollback", e.Name())
		f.Where = d.At
		return nil, f
	}
	var items []source.Item
	for _, s := range d.From {
		items = append(items, source.Item{
			Migrations: s.Migrations, Data: s.Data, Dump: s.Dump, Command: s.Run,
			Undo: s.Undo, Only: s.Only, Skip: s.Skip, ByName: s.ByName, Apply: s.Apply, Back: s.Back,
			Inputs: s.Inputs, Always: s.Always, Continues: s.Continues, Within: s.Within,
		})
	}
	read, err := memory().Read(ctx, p.Root, items, e.Language())
	if err != nil {
		return nil, err
	}
	base := append([]string{"hemzo format " + strconv.Itoa(engine.Format)}, e.Fingerprint(Spec(d))...)
	base = append(base, d.Grants...)
	return &Plan{
		Project: p, Database: d, Engine: e, Scope: scope,
		Steps: read.Steps, Layers: source.Chain(base, read.Steps), Notes: read.Notes, read: read,
		key: source.Key(base, read.Steps),
	}, nil
}

// Head is the number of the highest layer.
func (p *Plan) Head() int { return len(p.Steps) }

// Layer finds the layer after the step that name names: by its whole name, by
// its number, or by the beginning of its name.
func (p *Plan) Layer(name string) (int, error) {
	var begin []int
	for i, s := range p.Steps {
		if s.Name == name || strings.TrimSuffix(s.Name, ".sql") == name {
			return i + 1, nil
		}
		if strings.HasPrefix(s.Name, name) {
			begin = append(begin, i+1)
		}
	}
	if len(begin) == 1 {
		return begin[0], nil
	}
	if n, err := strconv.Atoi(name); err == nil && len(begin) == 0 && n >= 0 && n <= p.Head() {
		return n, nil
	}
	if len(begin) > 1 {
		return 0, fault.New(fault.Usage, "give more of its name", "%q names %d steps: %s, %s", name, len(begin),
			p.Steps[begin[0]-1].Name, p.Steps[begin[1]-1].Name)
	}
	return 0, fault.New(fault.Usage, "hemzo steps lists them", "database %q has no step %q", p.Database.Name, name)
}

// State tells how one step stands.
type State struct {
	Name  string              `json:"step"`
	Kind  source.Kind         `json:"kind"`
	Ready bool                `json:"ready"`
	Kept  bool                `json:"kept"`          // its layer is a template
	Why   string              `json:"why,omitempty"` // it is to be applied
	Took  engine.Milliseconds `json:"took_ms"`       // last time; 0 where unknown
	Layer string              `json:"layer"`         // its fingerprint
}

// Look tells how each step stands on a server.
func (p *Plan) Look(ctx context.Context, s engine.Server) ([]State, error) {
	all, err := s.List(ctx, engine.Template)
	if err != nil {
		return nil, err
	}
	var whole []engine.Entry
	for _, e := range all {
		if e.Newer || e.Bad {
			continue
		}
		ok, err := s.IsIntact(ctx, e)
		if err != nil {
			return nil, err
		}
		if !ok {
			continue
		}
		if e.Facts.Fingerprint == p.Layers[p.Head()] {
			if err := p.checkKeep(ctx, s, e); err != nil {
				return nil, err
			}
		}
		whole = append(whole, e)
	}
	return p.States(whole), nil
}

// States tells how each step stands beside templates that are as they were made.
func (p *Plan) States(templates []engine.Entry) []State {
	whole := map[string]bool{}
	var last engine.Entry
	took := map[string]time.Duration{}
	for _, e := range templates {
		whole[e.Facts.Fingerprint] = true
		for _, f := range e.Facts.Steps {
			took[f.Hash] = max(took[f.Hash], f.Took)
		}
		f := e.Facts
		if len(f.Steps) == f.Layer && f.Database == p.Database.Name && f.Scope.Project == p.Scope.Project &&
			(f.Made.After(last.Facts.Made) || f.Made.Equal(last.Facts.Made) && len(f.Steps) > len(last.Facts.Steps)) {
			last = e
		}
	}
	ready := 0
	for i, l := range p.Layers {
		if whole[l] {
			ready = i
		}
	}
	states := make([]State, len(p.Steps))
	below := ""
	for i, step := range p.Steps {
		st := State{Name: step.Name, Kind: step.Kind, Ready: i < ready, Kept: whole[p.Layers[i+1]],
			Layer: p.Layers[i+1], Took: engine.Milliseconds(took[step.Hash])}
		if !st.Ready {
			st.Why = why(step, i, last, below)
			if below == "" {
				below = step.Name
			}
			if st.Took == 0 {
				if j := stepNamed(last.Facts.Steps, step.Name); j >= 0 {
					st.Took = engine.Milliseconds(last.Facts.Steps[j].Took)
				}
			}
		}
		states[i] = st
	}
	return states
}

// why tells why a step is not ready. last is the newest template of the
// database, below the lowest step that is not ready.
func why(step source.Step, i int, last engine.Entry, below string) string {
	known := last.Facts.Steps
	switch j := stepNamed(known, step.Name); {
	case step.Always:
		return "runs at every build"
	case known == nil && last.ID == "":
		return "never built"
	case j < 0 && slices.ContainsFunc(known, func(f engine.StepFact) bool { return f.Hash == step.Hash }):
		return "renamed, now on another layer"
	case j < 0:
		return "new"
	case known[j].Hash != step.Hash:
		return "changed since " + last.Facts.Made.Local().Format("2 Jan 15:04")
	case below != "":
		return "stands on " + below
	case j != i:
		return "its place changed"
	}
	return "its template is gone"
}

func stepNamed(steps []engine.StepFact, name string) int {
	return slices.IndexFunc(steps, func(f engine.StepFact) bool { return f.Name == name })
}

// Key is one line that stands for all that the templates depend on; a CI
// system can keep its cache under it.
func (p *Plan) Key() string {
	return fmt.Sprintf("%s-%s-%s", p.Database.Name, p.Engine.Name(), p.key[:16])
}

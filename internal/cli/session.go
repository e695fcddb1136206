package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"hemzo/internal/control"
	"hemzo/internal/copies"
	"hemzo/internal/engine"
	"hemzo/internal/engine/all"
	"hemzo/internal/fault"
	"hemzo/internal/handover"
	"hemzo/internal/place"
	"hemzo/internal/project"
	"hemzo/internal/template"
	"hemzo/internal/turn"
)

// session is one command's view of a project: its file, and the servers of
// its databases, opened when needed.
type session struct {
	*app
	project *project.Project
	scope   engine.Scope
	mu      sync.Mutex
	servers map[string]*opening // by engine and place
	swept   []engine.Entry      // what opening the servers removed
	builds  []*building         // shown in one box
	late    error               // the last that went wrong while a command ran
}

// opening is a server that is opened once, by whoever asks first.
type opening struct {
	turn   turn.Turn // for what follows
	server engine.Server
	took   time.Duration
}

// begin reads the project file and opens a session.
func (a *app) begin() (*session, error) {
	dir, err := os.Getwd()
	if err != nil {
		return nil, err
	}
	file, err := project.Find(dir, a.project)
	if err != nil {
		return nil, err
	}
	p, err := project.Read(file, a.profile, os.LookupEnv)
	if err != nil {
		return nil, err
	}
	return &session{app: a, project: p, scope: copies.ScopeOf(p.Root), servers: map[string]*opening{}}, nil
}

// inProject is a command's work in a session of its own.
func (a *app) inProject(work func(c *cobra.Command, s *session, args []string) error) func(*cobra.Command,
	[]string) error {
	return func(c *cobra.Command, args []string) error {
		s, err := a.begin()
		if err != nil {
			return err
		}
		defer s.close()
		return work(c, s, args)
	}
}

// onCopy is a command's work on the copy that its first argument names.
func (a *app) onCopy(work func(c *cobra.Command, s *session, f found, args []string) error) func(*cobra.Command,
	[]string) error {
	return a.inProject(func(c *cobra.Command, s *session, args []string) error {
		f, err := s.find(c.Context(), first(args))
		if err != nil {
			return err
		}
		return work(c, s, f, args)
	})
}

func (s *session) close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, o := range s.servers {
		if o.server != nil {
			o.server.Close()
		}
	}
	s.servers = map[string]*opening{}
}

// scoped opens the server of a database and sweeps it a little.
func (s *session) scoped(ctx context.Context, d *project.Database) (copies.ScopedServer, error) {
	e, err := all.Named(d.Engine)
	if err != nil {
		return copies.ScopedServer{}, err
	}
	key := fmt.Sprint(d.Engine, d.Where, d.Version, d.URL)
	h := e.Hosting()
	if h.Process != nil || h.Container != nil {
		key += fmt.Sprint(d.Settings, d.Image, d.Tmpfs, d.Memory, d.CPUs) // a server of its own
	}
	if h.PerCopy != nil {
		key = d.Name
	}
	s.mu.Lock()
	o := s.servers[key]
	if o == nil {
		o = &opening{turn: turn.New()}
		s.servers[key] = o
	}
	s.mu.Unlock()
	server, err := s.opened(ctx, o, e, d)
	return copies.ScopedServer{Server: server, Scope: s.scope}, err
}

// opened opens a server where it is not open yet. Where that fails, or whoever
// wanted it has gone, the next who asks tries again.
func (s *session) opened(ctx context.Context, o *opening, e engine.Engine, d *project.Database) (engine.Server, error) {
	if err := o.turn.Take(ctx); err != nil {
		return nil, err
	}
	defer o.turn.Give()
	if o.server != nil {
		return o.server, nil
	}
	began := time.Now()
	server, err := s.open(ctx, e, d)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	o.server, o.took = server, time.Since(began)
	return server, nil
}

// open opens a server and sweeps it a little.
func (s *session) open(ctx context.Context, e engine.Engine, d *project.Database) (engine.Server, error) {
	pull := s.pulling(ctx)
	defer pull.end()
	server, err := place.Open(ctx, e, place.Wanted{
		Pulling:  pull.event,
		Database: d.Name, Where: d.Where, Required: d.Required, Spec: template.Spec(d), Ready: d.Ready, Idle: d.Idle,
		Wait: d.Wait, URL: d.URL, AllowHosts: s.project.AllowHosts,
		Say: func(text string) { s.note("%s", text) },
	})
	if err != nil {
		return nil, err
	}
	gone, err := copies.ScopedServer{Server: server, Scope: s.scope}.Sweep(ctx, 0, false)
	s.mu.Lock()
	s.swept = append(s.swept, gone...)
	s.mu.Unlock()
	for _, e := range gone {
		if s.verbose {
			s.note("removed %s: its owner is gone", e.Facts.Name)
		}
	}
	if state, err := place.StateFolder(); err == nil {
		control.SweepSockets(filepath.Join(state, "control"))
		for _, path := range handover.SweepFiles(state) {
			if s.verbose {
				s.note("removed %s: the run that wrote it is gone", path)
			}
		}
	}
	if err != nil {
		server.Close()
		return nil, err
	}
	return server, nil
}

// started is what the slowest server took to open.
func (s *session) started() (longest time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, o := range s.servers {
		longest = max(longest, o.took)
	}
	return longest
}

// failed reports what went wrong while a command runs, once.
func (s *session) failed(err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.late == nil || s.late.Error() != err.Error() {
		s.report(err)
	}
	s.late = err
}

// scopedServers opens the servers of all databases, each once.
func (s *session) scopedServers(ctx context.Context) ([]copies.ScopedServer, error) {
	var out []copies.ScopedServer
	seen := map[engine.Server]bool{}
	for i := range s.project.Databases {
		scoped, err := s.scoped(ctx, &s.project.Databases[i])
		if err != nil {
			return nil, err
		}
		if !seen[scoped.Server] {
			seen[scoped.Server] = true
			out = append(out, scoped)
		}
	}
	return out, nil
}

// found is a copy together with where it stands.
type found struct {
	scoped   copies.ScopedServer
	entry    engine.Entry
	database *project.Database // nil where the project file has it no more
}

// wait is how long locks are waited for, where no flag says so.
func (f found) wait(flag time.Duration) time.Duration {
	if flag >= 0 {
		return flag
	}
	if f.database != nil {
		return f.database.Wait
	}
	return 5 * time.Second
}

// find finds the copy that a user means.
func (s *session) find(ctx context.Context, which string) (found, error) {
	scopedServers, err := s.scopedServers(ctx)
	if err != nil {
		return found{}, err
	}
	var first error
	for _, scoped := range scopedServers {
		e, err := scoped.Find(ctx, which)
		if err == nil {
			return found{scoped: scoped, entry: e, database: s.project.Database(e.Facts.Database)}, nil
		}
		if first == nil || fault.KindOf(err) == fault.Refused {
			first = err
		}
	}
	return found{}, first
}

// plan reads the sources of a database.
func (s *session) plan(ctx context.Context, d *project.Database) (*template.Plan, error) {
	e, err := all.Named(d.Engine)
	if err != nil {
		return nil, err
	}
	return template.Read(ctx, s.project, d, e, s.scope)
}

// one returns the database named, or the only one.
func (s *session) one(args []string) (*project.Database, error) {
	chosen, err := s.project.Choose(args...)
	if err != nil {
		return nil, err
	}
	if len(chosen) > 1 {
		var names []string
		for _, d := range chosen {
			names = append(names, d.Name)
		}
		return nil, fault.New(fault.Usage, "name one of them: "+strings.Join(names, ", "),
			"the project file declares %d databases", len(chosen))
	}
	return chosen[0], nil
}

// databaseNames completes names of databases.
func (a *app) databaseNames(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	s, err := a.begin()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	defer s.close()
	var names []string
	for _, d := range s.project.Databases {
		names = append(names, d.Name)
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

// copyNames completes names of copies.
func (a *app) copyNames(c *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	s, err := a.begin()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	defer s.close()
	scopedServers, err := s.scopedServers(c.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var names []string
	for _, scoped := range scopedServers {
		copies, _ := scoped.Copies(c.Context())
		for _, e := range copies {
			names = append(names, e.Facts.Name)
		}
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

// first returns the first argument, "" where there is none.
func first(args []string) string {
	if len(args) == 0 {
		return ""
	}
	return args[0]
}

// waitFlag adds --wait; below zero means the project file's value.
func waitFlag(c *cobra.Command, wait *time.Duration) {
	*wait = -1
	c.Flags().Var(&spanFlag{wait}, "wait", "how long to wait for a lock (default: the project file's, 5s)")
}

// spanFlag is a duration flag that shows no default.
type spanFlag struct{ d *time.Duration }

func (f *spanFlag) String() string { return "" }
func (f *spanFlag) Type() string   { return "duration" }
func (f *spanFlag) Set(s string) error {
	d, err := time.ParseDuration(s)
	if err == nil && d < 0 {
		err = errors.New("it is below zero")
	}
	*f.d = d
	return err
}

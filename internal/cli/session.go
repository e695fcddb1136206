package cli

import (
	"context"
	"errors"
	"fmt"
	"net/url"
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
	project   *project.Project
	scope     engine.Scope
	mu        sync.Mutex
	servers   map[string]*opening // by engine and place
	forRun    bool                // it opens servers for a run
	swept     []engine.Entry      // what opening the servers removed
	builds    []*building         // shown in one box
	lastError error               // the last that went wrong while a command ran
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

// onContents is onCopy for a command that asks for, or changes, what the copy holds.
func (a *app) onContents(work func(c *cobra.Command, s *session, f found, args []string) error) func(*cobra.Command,
	[]string) error {
	return a.onCopy(func(c *cobra.Command, s *session, f found, args []string) error {
		if err := f.standsAlone(c.Context()); err != nil {
			return err
		}
		return work(c, s, f, args)
	})
}

// throughOwner asks the run that resets a copy by rollback; errNotThere where it cannot
// be asked, or the copy is no such one.
func (f found) throughOwner(ctx context.Context, method, path string, query url.Values) (*control.Done, error) {
	at := os.Getenv("HEMZO_CONTROL")
	if f.entry.Facts.Through == "" {
		return nil, errNotThere
	}
	if at != "" {
		done, err := askOwner(ctx, at, f, method, path, query)
		if !errors.Is(err, errNotThere) {
			return done, err
		}
	}
	state, err := place.StateFolder()
	if err != nil || !place.OwnerAlive(ctx, f.scoped.Server, f.entry.Facts.Owner) {
		return nil, errNotThere
	}
	at = control.AtSocket(control.SocketOf(socketFolder(state), f.entry.Facts.Asks))
	return askOwner(ctx, at, f, method, path, query)
}

// standsAlone refuses a copy whose contents only the process knows that resets it by
// rollback: what its clients have done is in no committed transaction.
func (f found) standsAlone(ctx context.Context) error {
	if f.entry.Facts.Through == "" || !place.OwnerAlive(ctx, f.scoped.Server, f.entry.Facts.Owner) {
		return nil
	}
	return fault.New(fault.Failed, `inside that run ask its endpoint, as in  curl "$HEMZO_CONTROL/changes"`,
		"%s is reset by rollback by  %s: what its clients have done is seen there alone", f.entry.Facts.Name,
		f.entry.Facts.Owner.Command)
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

// opens is how a server is reached: place.Open, or place.Look.
type opens func(context.Context, engine.Engine, place.Wanted) (engine.Server, error)

// scoped opens the server of a database, starting it where needed, and sweeps it
// a little.
func (s *session) scoped(ctx context.Context, d *project.Database) (copies.ScopedServer, error) {
	return s.reach(ctx, d, place.Open)
}

// running is scoped for a server that runs; else the error is place.ErrNotRunning.
func (s *session) running(ctx context.Context, d *project.Database) (copies.ScopedServer, error) {
	return s.reach(ctx, d, place.Look)
}

func (s *session) reach(ctx context.Context, d *project.Database, how opens) (copies.ScopedServer, error) {
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
	server, err := s.opened(ctx, o, e, d, how)
	return copies.ScopedServer{Server: server, Scope: s.scope}, err
}

// opened opens a server where it is not open yet. Where that fails, or whoever
// wanted it has gone, the next who asks tries again.
func (s *session) opened(ctx context.Context, o *opening, e engine.Engine, d *project.Database,
	how opens) (engine.Server, error) {
	if err := o.turn.Take(ctx); err != nil {
		return nil, err
	}
	defer o.turn.Give()
	if o.server != nil {
		return o.server, nil
	}
	began := time.Now()
	server, err := s.open(ctx, e, d, how)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	o.server, o.took = server, time.Since(began)
	return server, nil
}

// open opens a server and sweeps it a little.
func (s *session) open(ctx context.Context, e engine.Engine, d *project.Database, how opens) (engine.Server, error) {
	pull := s.pulling(ctx)
	defer pull.end()
	w := s.wanted(d)
	w.Pulling = pull.event
	server, err := how(ctx, e, w)
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

// wanted is what a database asks of a place.
func (s *session) wanted(d *project.Database) place.Wanted {
	return place.Wanted{
		Database: d.Name, Where: d.Where, Required: d.Required, Spec: template.Spec(d), Ready: d.Ready, Idle: d.Idle,
		Wait: d.Wait, URL: d.URL, AllowHosts: s.project.AllowHosts,
		Say: func(text string) { s.note("%s", text) }, Run: s.forRun,
	}
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
	if s.lastError == nil || s.lastError.Error() != err.Error() {
		s.report(err)
	}
	s.lastError = err
}

// scopedServers opens the servers of all databases, each once; those that do not
// run are left out where how is place.Look. The error is the first of those that
// cannot be reached: the others are returned all the same.
func (s *session) scopedServers(ctx context.Context, how opens) (out []copies.ScopedServer, unreached error) {
	seen := map[engine.Server]bool{}
	for i := range s.project.Databases {
		scoped, err := s.reach(ctx, &s.project.Databases[i], how)
		switch {
		case errors.Is(err, place.ErrNotRunning):
		case err != nil && unreached == nil:
			unreached = err
		case err == nil && !seen[scoped.Server]:
			seen[scoped.Server] = true
			out = append(out, scoped)
		}
	}
	return out, unreached
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

// find finds the copy that a user means. It starts nothing: a copy is on a server
// that runs.
func (s *session) find(ctx context.Context, which string) (found, error) {
	scopedServers, unreached := s.scopedServers(ctx, place.Look)
	var names []string
	var last found
	for _, scoped := range scopedServers {
		if which == "" {
			all, err := scoped.Copies(ctx)
			if err != nil {
				return found{}, err
			}
			for _, e := range all {
				names, last = append(names, e.Facts.Name), found{scoped: scoped, entry: e}
			}
			continue
		}
		e, err := scoped.Find(ctx, which)
		if err == nil {
			return s.found(scoped, e), nil
		}
		if fault.KindOf(err) != fault.Usage && fault.KindOf(err) != fault.Refused {
			return found{}, err
		}
		all, err := scoped.Copies(ctx)
		if err != nil {
			return found{}, err
		}
		for _, e := range all {
			names = append(names, e.Facts.Name)
		}
	}
	if unreached != nil {
		return found{}, unreached
	}
	next := "hemzo take hands one out"
	if names != nil {
		next = "copies: " + strings.Join(names, ", ")
	}
	switch {
	case which == "" && len(names) == 1:
		return s.found(last.scoped, last.entry), nil
	case which == "" && len(names) > 1:
		return found{}, fault.New(fault.Usage, "name one of them: "+strings.Join(names, ", "), "this project has %d copies",
			len(names))
	case which == "":
		return found{}, fault.New(fault.Usage, next, "this project has no copy")
	case strings.ContainsAny(which, "/:"):
		return found{}, fault.New(fault.Refused, next, "%s is not a copy that Hemzo made: it is left alone", which)
	}
	return found{}, fault.New(fault.Usage, next, "this project has no copy %q", which)
}

func (s *session) found(scoped copies.ScopedServer, e engine.Entry) found {
	return found{scoped: scoped, entry: e, database: s.project.Database(e.Facts.Database)}
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

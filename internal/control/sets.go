package control

import (
	"context"
	"errors"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"hemzo/internal/copies"
	"hemzo/internal/engine"
	"hemzo/internal/fault"
	"hemzo/internal/reset"
	"hemzo/internal/template"
	"hemzo/internal/turn"
)

// Set is a copy of each database, for one worker; the run's own has no name.
type Set struct {
	Name    string
	filling turn.Turn // held while it is filled
	mu      sync.Mutex
	copies  []*Copy
}

// Copy is one copy of a set. Requests for it run one after another.
type Copy struct {
	control  *Control
	source   *source
	busy     turn.Turn // held by the request that works on it, for what follows
	made     bool      // it is on the server
	entry    engine.Entry
	opened   *reset.Session
	doors    *doors            // of a copy that is made at need
	foretold engine.Connection // likewise
	came     atomic.Bool       // somebody came to the doors
	Build    *template.Result  // what its template took, where it was built for it
	Took     time.Duration     // for the copy
	Stale    bool              // it replaced one from older sources
	gate     engine.Gate       // opened at need; nil where there is none
	// elsewhere says that the copy itself is at another state than its start state: no
	// rollback leads there
	elsewhere bool
	passing   atomic.Pointer[passing]
	next      engine.Way // of the next reset, where clients reach the copy itself until then
	// visited tells whether anybody but Hemzo came; nil where nobody watches
	visited func(wait time.Duration) (engine.Visitor, error)
}

// passing is the gate that a copy's clients pass now.
type passing struct {
	gate engine.Gate
	name string // of the copy
}

// notePassing notes which it is; busy is held.
func (x *Copy) notePassing() {
	if x.gate == nil || x.next != "" {
		x.passing.Store(nil)
		return
	}
	x.passing.Store(&passing{x.gate, x.entry.Facts.Name})
}

// Database is the name of the database that it is a copy of.
func (c *Copy) Database() string { return c.source.Name }

// Made reports whether the copy is on the server: one that is made at need is
// not before somebody comes to it.
func (c *Copy) Made() bool {
	_ = c.busy.Take(context.Background())
	defer c.busy.Give()
	return c.made
}

// Connection tells how the copy is reached.
func (c *Copy) Connection() engine.Connection {
	if c.doors != nil {
		return c.foretold
	}
	e := c.Entry()
	return c.source.Scoped.Server.Connection(e.ID, e.Facts)
}

// make makes the copy where it is not there yet; busy is held.
func (c *Copy) make(ctx context.Context) error {
	if c.made {
		return nil
	}
	made, err := c.control.take(ctx, c.source, copies.Request{ID: c.entry.ID, Name: c.entry.Facts.Name})
	if err != nil {
		return err
	}
	c.made, c.entry, c.Build, c.Took, c.Stale = true, made.entry, made.Build, made.Took, made.Stale
	c.source.Lazy.Made(c.source.Scoped, &copies.Taken{Copy: c.entry, Build: c.Build, Took: c.Took})
	return nil
}

// Entry is the copy as it is known.
func (c *Copy) Entry() engine.Entry {
	_ = c.busy.Take(context.Background())
	defer c.busy.Give()
	return c.entry
}

// Scoped is where the copy stands.
func (c *Copy) Scoped() copies.ScopedServer { return c.source.Scoped }

// Copies are the copies of a set, in the order of the project file.
func (s *Set) Copies() []*Copy {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.copies)
}

// Find returns a set of the given worker, making it where it is new.
func (c *Control) Find(ctx context.Context, worker string) (*Set, error) {
	if worker != "" {
		if err := copies.CheckName(worker); err != nil {
			return nil, err
		}
	}
	for {
		s, err := c.set(worker)
		if err != nil {
			return nil, err
		}
		if err := s.filling.Take(ctx); err != nil {
			return nil, err
		}
		current, err := c.filled(ctx, s)
		s.filling.Give()
		if current || err != nil {
			return s, err
		}
	}
}

// set is the set of a worker, empty where it is new.
func (c *Control) set(worker string) (*Set, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.done {
		return nil, fault.New(fault.Refused, "", "the run is over")
	}
	s := c.sets[worker]
	if s == nil {
		s = &Set{Name: worker, filling: turn.New()}
		c.sets[worker] = s
	}
	return s, nil
}

// filled fills a set that is empty. It is false where the set is not its
// worker's any more: who waited for one that could not be filled asks for
// another, so that a worker never has two.
func (c *Control) filled(ctx context.Context, s *Set) (bool, error) {
	c.mu.Lock()
	current := c.sets[s.Name] == s
	c.mu.Unlock()
	if !current || s.Copies() != nil {
		return current, nil
	}
	made := make([]*Copy, len(c.sources))
	errs := make([]error, len(c.sources))
	var all sync.WaitGroup
	for i := range c.sources {
		all.Go(func() { made[i], errs[i] = c.handOut(ctx, c.sources[i], s.Name) })
	}
	all.Wait()
	err := errors.Join(errs...)
	if err == nil {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.copies = made
		return true, nil
	}
	for _, m := range made {
		if m == nil {
			continue
		}
		if m.stopListening(); m.made {
			err = errors.Join(err, m.source.Scoped.Drop(context.WithoutCancel(ctx), m.entry, true))
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	delete(c.sets, s.Name)
	return false, err
}

// errSeveral is the answer where it is not clear whose copies are meant.
type errSeveral struct{ names []string }

func (e errSeveral) Error() string {
	return "there are several sets of copies: say which, as in /w/" + e.names[len(e.names)-1] + "/reset"
}

// errDatabases is the answer where it is not clear which database is meant.
type errDatabases struct{ names []string }

func (e errDatabases) Error() string {
	return "there are several databases: say which, as in ?database=" + e.names[0]
}

// Only returns the set that a request without a worker's name means.
func (c *Control) Only(ctx context.Context) (*Set, error) {
	c.mu.Lock()
	names := c.names()
	c.mu.Unlock()
	switch len(names) {
	case 0:
		return c.Find(ctx, "")
	case 1:
		return c.Find(ctx, names[0])
	}
	return nil, errSeveral{names}
}

func (c *Control) names() []string {
	var names []string
	for name := range c.sets {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// Sets returns all sets, by name.
func (c *Control) Sets() []*Set {
	c.mu.Lock()
	defer c.mu.Unlock()
	var all []*Set
	for _, name := range c.names() {
		all = append(all, c.sets[name])
	}
	return all
}

// handOut hands out one copy of a database for a set: one that is made at need is
// only listened for.
func (c *Control) handOut(ctx context.Context, s *source, worker string) (*Copy, error) {
	if s.Lazy == nil {
		return c.take(ctx, s, copies.Request{Worker: worker})
	}
	x := &Copy{control: c, source: s, busy: turn.New(),
		entry: engine.Entry{ID: engine.NewID(engine.Copy),
			Facts: engine.Facts{Name: copies.MadeUp(s.Name, worker), Database: s.Name}}}
	if !s.Lazy.Now {
		if err := x.listen(); err != nil {
			return nil, err
		}
		return x, nil
	}
	if err := x.makeNow(ctx); err != nil {
		if x.stopListening(); x.made {
			err = errors.Join(err, s.Scoped.Drop(context.WithoutCancel(ctx), x.entry, true))
		}
		return nil, err
	}
	return x, nil
}

// makeNow makes a copy, and opens its gate, before anybody can come.
func (x *Copy) makeNow(ctx context.Context) error {
	if err := x.busy.Take(ctx); err != nil {
		return err
	}
	defer x.busy.Give()
	if err := x.make(ctx); err != nil {
		return err
	}
	if err := x.listen(); err != nil {
		return err
	}
	_, err := x.gateway(ctx)
	return err
}

// take hands out one copy of a database, a spare one where there is one.
func (c *Control) take(ctx context.Context, s *source, r copies.Request) (*Copy, error) {
	if err := s.open(ctx); err != nil {
		return nil, err
	}
	plan, err := s.plan(ctx)
	if err != nil {
		return nil, err
	}
	layer, err := s.Layer(plan)
	if err != nil {
		return nil, err
	}
	r.Plan, r.Layer, r.Owner, r.Progress, r.Wait = plan, layer, s.Owner, s.Progress, s.Wait
	c.mu.Lock()
	r.Owner.Child = c.child
	c.mu.Unlock()
	began := time.Now()
	if r.Name == "" {
		if e, ok := c.spares.pop(ctx, s, plan.Layers[layer]); ok {
			// Handed out by its facts alone.
			if err := s.Scoped.Server.UpdateFacts(ctx, e.ID,
				func(f *engine.Facts) {
					f.Spare, f.Owner, f.Name = false, r.Owner, copies.MadeUp(s.Name, r.Worker)
					e.Facts = *f
				}); err == nil {
				c.note(s.Name, "take", time.Since(began))
				return c.handed(ctx, &Copy{source: s, entry: e, Took: time.Since(began)})
			}
		}
	}
	taken, err := s.Scoped.Take(ctx, r)
	if fault.KindOf(err) == fault.Lacking && c.spares.giveUp(ctx) {
		// Room or connections were short: what was made ahead goes first.
		taken, err = s.Scoped.Take(ctx, r)
	}
	if err != nil {
		return nil, err
	}
	c.note(s.Name, "take", taken.Took)
	if c.times("take") > len(c.sources) { // more than one set is wanted
		c.spares.want(s, r)
	}
	return c.handed(ctx, &Copy{source: s, entry: taken.Copy, Build: taken.Build, Took: taken.Took,
		Stale: taken.Replaced})
}

// handed is a copy that is on the server, ready to be handed out.
func (c *Control) handed(ctx context.Context, x *Copy) (_ *Copy, err error) {
	x.control, x.busy, x.made = c, turn.New(), true
	if c.Watch {
		if x.visited, err = x.source.Scoped.Server.Watch(ctx, x.entry.ID); err != nil {
			return nil, errors.Join(err, x.source.Scoped.Drop(context.WithoutCancel(ctx), x.entry, true))
		}
	}
	x.keep(ctx)
	return x, nil
}

// keep keeps what makes the resets of a copy on a server of others cheaper, where that can
// be; else they take longer.
func (x *Copy) keep(ctx context.Context) {
	if x.source.Way != "" && x.source.Way != engine.Truncation ||
		x.source.Scoped.Server.About().Where != "existing" {
		return
	}
	opened, err := reset.OpenFresh(ctx, x.source.Scoped.Server, x.entry, x.source.Wait)
	if err == nil {
		x.opened = opened
	}
}

// pick returns the copies of a set that a request means: of one database, or
// all.
func (s *Set) pick(database string) ([]*Copy, error) {
	all := s.Copies()
	if database == "" {
		return all, nil
	}
	var names []string
	for _, c := range all {
		if c.source.Name == database {
			return []*Copy{c}, nil
		}
		names = append(names, c.source.Name)
	}
	return nil, fault.New(fault.Usage, "databases: "+strings.Join(names, ", "),
		"there is no copy of a database %q here", database)
}

// each does something with copies of a set, side by side.
func each(ctx context.Context, chosen []*Copy, work func(*Copy) error) error {
	errs := make([]error, len(chosen))
	var all sync.WaitGroup
	for i, c := range chosen {
		all.Go(func() {
			if errs[i] = c.busy.Take(ctx); errs[i] != nil {
				return
			}
			defer c.busy.Give()
			if errs[i] = ctx.Err(); errs[i] == nil {
				errs[i] = work(c)
			}
		})
	}
	all.Wait()
	return errors.Join(errs...)
}

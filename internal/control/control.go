// Package control is what a suite asks between its tests: copies taken, put
// back, set aside, for one worker or for many. It answers Go calls and, by
// Handler, HTTP requests.
package control

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
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

// Source is a declared database of which copies are handed out.
type Source struct {
	Name string
	// Open opens the server that the copies are on, and tells whose they are.
	// It is asked once, at the first need.
	Open func(context.Context) (copies.ScopedServer, engine.Owner, error)
	// Plan reads the sources, again at each take: they may have changed.
	Plan     func(context.Context) (*template.Plan, error)
	Layer    func(*template.Plan) (int, error)
	Way      engine.Way // of resets, where none is named
	Keep     []string
	Wait     time.Duration
	Progress func(template.Event)
	Stock    int   // copies made ahead
	Lazy     *Lazy // nil where copies are made at once
}

// source is a Source with what it has opened.
type source struct {
	Source
	opening turn.Turn // held while it is opened
	mu      sync.Mutex
	opened  bool
	Shelf   copies.ScopedServer
	Owner   engine.Owner
	read    *template.Plan // the last
}

// plan is what the sources say now: they are read again where they changed.
func (s *source) plan(ctx context.Context) (*template.Plan, error) {
	s.mu.Lock()
	p := s.read
	s.mu.Unlock()
	if p != nil && p.Fresh() {
		return p, nil
	}
	p, err := s.Plan(ctx)
	if err == nil {
		s.mu.Lock()
		s.read = p
		s.mu.Unlock()
	}
	return p, err
}

// open opens the server, once. Where that fails the next who asks tries again.
func (s *source) open(ctx context.Context) error {
	if err := s.opening.Take(ctx); err != nil {
		return err
	}
	defer s.opening.Give()
	if s.there() {
		return nil
	}
	shelf, owner, err := s.Open(ctx)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.Shelf, s.Owner, s.opened = shelf, owner, true
	return nil
}

// there reports whether the server has been opened: then copies may be there.
func (s *source) there() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.opened
}

// Control keeps the copies of a run, in sets: one for each worker.
type Control struct {
	sources []*source
	stock   *stock

	mu   sync.Mutex
	sets map[string]*Set
	took map[string]*spent // by what was done: "take", "reset", ...
	done bool
	left []Leftover

	// child keeps the copies too, should this process be killed.
	child engine.Process
}

// New returns a Control that has no copies yet.
func New(sources []Source) *Control {
	c := &Control{stock: newStock(), sets: map[string]*Set{}, took: map[string]*spent{}}
	for _, s := range sources {
		c.sources = append(c.sources, &source{Source: s, opening: turn.New()})
	}
	return c
}

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
	return c.source.Shelf.Server.Connection(e.ID, e.Facts)
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
	c.source.Lazy.Made(c.source.Shelf, &copies.Taken{Copy: c.entry, Build: c.Build, Took: c.Took})
	return nil
}

// Entry is the copy as it is known.
func (c *Copy) Entry() engine.Entry {
	_ = c.busy.Take(context.Background())
	defer c.busy.Give()
	return c.entry
}

// Shelf is where the copy stands.
func (c *Copy) Shelf() copies.ScopedServer { return c.source.Shelf }

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
		all.Go(func() { made[i], errs[i] = c.hand(ctx, c.sources[i]) })
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
		if m.leave(); m.made {
			err = errors.Join(err, m.source.Shelf.Drop(context.WithoutCancel(ctx), m.entry, true))
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

// hand hands out one copy of a database for a set: one that is made at need is
// only listened for.
func (c *Control) hand(ctx context.Context, s *source) (*Copy, error) {
	if s.Lazy == nil {
		return c.take(ctx, s, copies.Request{})
	}
	x := &Copy{control: c, source: s, busy: turn.New(),
		entry: engine.Entry{ID: engine.NewID(engine.Copy),
			Facts: engine.Facts{Name: copies.MadeUp(s.Name), Database: s.Name}}}
	if err := x.listen(); err != nil {
		return nil, err
	}
	return x, nil
}

// take hands out one copy of a database, from stock where there is one.
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
		if e, ok := c.stock.pop(ctx, s, plan.Layers[layer]); ok {
			// Handed out by its facts alone.
			if err := s.Shelf.Server.UpdateFacts(ctx, e.ID,
				func(f *engine.Facts) { f.Stock, f.Owner = false, r.Owner; e.Facts = *f }); err == nil {
				c.note("take", time.Since(began))
				return &Copy{control: c, source: s, busy: turn.New(), made: true, entry: e, Took: time.Since(began)},
					nil
			}
		}
	}
	taken, err := s.Shelf.Take(ctx, r)
	if fault.KindOf(err) == fault.Lacking && c.stock.giveUp(ctx) {
		// Room or connections were short: what was made ahead goes first.
		taken, err = s.Shelf.Take(ctx, r)
	}
	if err != nil {
		return nil, err
	}
	c.note("take", taken.Took)
	if c.times("take") > len(c.sources) { // more than one set is wanted
		c.stock.want(s, r)
	}
	return &Copy{control: c, source: s, busy: turn.New(), made: true, entry: taken.Copy, Build: taken.Build,
		Took: taken.Took, Stale: taken.Replaced}, nil
}

// spent tells how often something was done, and how long it took. Of many times
// some are remembered, any of them as likely as any other.
type spent struct {
	times   int
	slowest time.Duration
	some    []time.Duration
}

// mostSpent bounds what is remembered of how long something took.
const mostSpent = 1000

func (s *spent) add(took time.Duration) {
	s.times++
	s.slowest = max(s.slowest, took)
	if len(s.some) < mostSpent {
		s.some = append(s.some, took)
	} else if i := rand.IntN(s.times); i < mostSpent {
		s.some[i] = took
	}
}

// note counts what was done.
func (c *Control) note(what string, took time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.took[what] == nil {
		c.took[what] = &spent{}
	}
	c.took[what].add(took)
}

// times tells how often something was done.
func (c *Control) times(what string) int {
	c.mu.Lock()
	defer c.mu.Unlock()
	if s := c.took[what]; s != nil {
		return s.times
	}
	return 0
}

// Stats tells how often something was done, and how long it took in the
// middle and at worst.
func (c *Control) Stats(what string) (times int, median, slowest time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	s := c.took[what]
	if s == nil {
		return 0, 0, 0
	}
	return s.times, slices.Sorted(slices.Values(s.some))[len(s.some)/2], s.slowest
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

// each does something with the copies of a set that a request means, those
// of different databases side by side.
func (s *Set) each(ctx context.Context, database string, work func(*Copy) error) error {
	chosen, err := s.pick(database)
	if err != nil {
		return err
	}
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

// Done tells what was done with one copy.
type Done struct {
	Database string          `json:"database"`
	Copy     string          `json:"copy"`
	Reset    *reset.Report   `json:"reset,omitempty"`
	Snapshot string          `json:"snapshot,omitempty"`
	Held     string          `json:"held,omitempty"`
	Changes  *engine.Changes `json:"changes,omitempty"`
}

// Reset asks for copies to be put back.
type Reset struct {
	Database string // "" for all of the set
	Way      engine.Way
	To       string // a snapshot; "" for the start state
	InPlace  bool   // fail rather than end the clients' connections
	After    string // the test that has just ended; "" where that is not said
}

// Reset puts the copies of a set back.
func (c *Control) Reset(ctx context.Context, s *Set, r Reset) ([]Done, error) {
	if !slices.Contains([]engine.Way{"", engine.Truncation, engine.Rollback, engine.Snapshot}, r.Way) {
		return nil, fault.New(fault.Usage, "truncation, rollback or snapshot", "there is no reset by %q", r.Way)
	}
	return c.all(ctx, s, r.Database, func(x *Copy) (Done, error) {
		report, err := c.reset(ctx, x, r)
		if err == nil && report.Differed() && r.To == "" {
			left := *report
			left.Tables = report.Differing()
			c.found(Leftover{Database: x.source.Name, Copy: x.entry.Facts.Name, After: r.After, Report: &left})
		}
		return Done{Reset: report}, err
	})
}

// Leftover is what a reset found that a test had left behind.
type Leftover struct {
	Database string        `json:"database"`
	Copy     string        `json:"copy"`
	After    string        `json:"after,omitempty"` // the test, where the reset was told
	Report   *reset.Report `json:"reset"`
}

// mostLeft bounds what is remembered of leftovers.
const mostLeft = 1000

func (c *Control) found(l Leftover) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.left) < mostLeft {
		c.left = append(c.left, l)
	}
}

// Leftovers lists what resets have found, the first thousand.
func (c *Control) Leftovers() []Leftover {
	c.mu.Lock()
	defer c.mu.Unlock()
	return slices.Clone(c.left)
}

// Child makes a process keep the copies too, those of now and of later: they
// outlive this process, should it be killed.
func (c *Control) Child(ctx context.Context, p engine.Process) {
	c.mu.Lock()
	c.child = p
	c.mu.Unlock()
	for _, s := range c.Sets() {
		for _, x := range s.Copies() {
			if x.Made() {
				_ = x.source.Shelf.Server.UpdateFacts(ctx, x.Entry().ID, func(f *engine.Facts) { f.Owner.Child = p })
			}
		}
	}
}

// all does something with each copy and collects what was done, in the order
// of the project file.
func (c *Control) all(ctx context.Context, s *Set, database string, work func(*Copy) (Done, error)) ([]Done, error) {
	var mu sync.Mutex
	done := map[*Copy]Done{}
	err := s.each(ctx, database, func(x *Copy) error {
		d, err := work(x)
		d.Database, d.Copy = x.source.Name, x.entry.Facts.Name
		mu.Lock()
		defer mu.Unlock()
		done[x] = d
		return err
	})
	if err != nil {
		return nil, err
	}
	out := []Done{}
	for _, x := range s.Copies() {
		if d, ok := done[x]; ok {
			out = append(out, d)
		}
	}
	return out, nil
}

func (c *Control) reset(ctx context.Context, x *Copy, r Reset) (*reset.Report, error) {
	if !x.made && r.To == "" { // nobody has been there
		return &reset.Report{Report: engine.Report{Tables: []engine.TableReport{}}}, nil
	}
	began := time.Now()
	o := reset.Options{Way: r.Way, InPlace: r.InPlace, Keep: x.source.Keep, Wait: x.source.Wait,
		Ahead: x.source.Stock > 0}
	if r.Way == "" {
		o.Way = x.source.Way
	}
	if r.To != "" {
		if err := x.make(ctx); err != nil {
			return nil, err
		}
		snapshot, err := x.snapshot(ctx, r.To)
		if err != nil {
			return nil, err
		}
		o.To = snapshot.ID
	}
	opened, err := x.open(ctx)
	if err != nil {
		return nil, err
	}
	report, err := opened.Do(ctx, o)
	if err != nil {
		x.close() // what is open may be broken
		return nil, err
	}
	c.note("reset", time.Since(began))
	return report, nil
}

// open opens a copy, and keeps it open: a suite resets it thousands of times.
func (x *Copy) open(ctx context.Context) (*reset.Session, error) {
	if x.opened != nil {
		return x.opened, nil
	}
	if err := x.make(ctx); err != nil {
		return nil, err
	}
	// As it is now: other commands may have changed its facts.
	e, err := x.source.Shelf.Server.Find(ctx, x.entry.ID)
	if errors.Is(err, engine.ErrNotFound) {
		return nil, fault.New(fault.Failed, "take another", "the copy %q is gone", x.entry.Facts.Name)
	}
	if err != nil {
		return nil, err
	}
	x.entry = e
	x.opened, err = reset.Open(ctx, x.source.Shelf.Server, e, x.source.Wait)
	return x.opened, err
}

// leave ends the listening for a copy that is made at need.
func (x *Copy) leave() {
	if x.doors != nil {
		x.doors.close()
	}
}

func (x *Copy) close() {
	if x.opened != nil {
		_ = x.opened.Close()
		x.opened = nil
	}
}

func (x *Copy) snapshot(ctx context.Context, name string) (engine.Entry, error) {
	all, err := x.source.Shelf.Snapshots(ctx, x.entry)
	if err != nil {
		return engine.Entry{}, err
	}
	for _, e := range all {
		if e.Facts.Name == name {
			return e, nil
		}
	}
	return engine.Entry{}, fault.New(fault.Usage, "", "the copy %q has no snapshot %q", x.entry.Facts.Name, name)
}

// Snapshot keeps the present state of the copies of a set under a name.
func (c *Control) Snapshot(ctx context.Context, s *Set, database, name string, force bool) ([]Done, error) {
	if err := copies.CheckName(name); err != nil {
		return nil, err
	}
	return c.all(ctx, s, database, func(x *Copy) (Done, error) {
		if err := x.make(ctx); err != nil {
			return Done{}, err
		}
		if _, err := x.snapshot(ctx, name); err == nil {
			return Done{}, fault.New(fault.Failed, "use another name", "the copy %q has a snapshot %q already",
				x.entry.Facts.Name, name)
		}
		x.close()
		_, err := reset.Snapshot(ctx, x.source.Shelf.Server, x.entry, name,
			engine.Session{Wait: x.source.Wait, Force: force})
		return Done{Snapshot: name}, err
	})
}

// Changes tells how the copies of a set differ from their start state; rows
// bounds how many rows of each table are returned.
func (c *Control) Changes(ctx context.Context, s *Set, database string, rows int) ([]Done, error) {
	return c.all(ctx, s, database, func(x *Copy) (Done, error) {
		if !x.made {
			return Done{Changes: engine.NoChanges()}, nil
		}
		e, err := x.source.Shelf.Server.Find(ctx, x.entry.ID)
		if err != nil {
			return Done{}, err
		}
		changes, err := reset.Changes(ctx, x.source.Shelf.Server, e, rows, x.source.Wait)
		return Done{Changes: changes}, err
	})
}

// Hold sets the copies of a set aside as they are, for some time, and puts
// fresh ones in their place, at the same addresses.
func (c *Control) Hold(ctx context.Context, s *Set, database, name string, keep time.Duration) ([]Done, error) {
	if err := copies.CheckName(name); err != nil {
		return nil, err
	}
	return c.all(ctx, s, database, func(x *Copy) (Done, error) {
		as := name
		if len(s.copies) > 1 && database == "" {
			as = name + "-" + x.source.Name
		}
		if err := x.make(ctx); err != nil {
			return Done{}, err
		}
		x.close()
		e, err := x.source.Shelf.Server.Find(ctx, x.entry.ID)
		if err != nil {
			return Done{}, err
		}
		if err := x.source.Shelf.Hold(ctx, e, as, keep, x.source.Wait); err != nil {
			return Done{}, err
		}
		report, err := c.reset(ctx, x, Reset{})
		return Done{Held: as, Reset: report}, err
	})
}

// Take hands out a copy under a name, beside the sets; the same name gives
// the same copy, at its start state, or a new one where the sources changed.
func (c *Control) Take(ctx context.Context, database, name string) (*Copy, error) {
	for _, s := range c.sources {
		if s.Name == database || database == "" && len(c.sources) == 1 {
			return c.take(ctx, s, copies.Request{Name: name, Again: name != ""})
		}
	}
	return nil, fault.New(fault.Usage, "say which, as in  ?database=NAME", "there is no database %q", database)
}

// Drop drops a copy that Take handed out, by its name.
func (c *Control) Drop(ctx context.Context, name string) error {
	for _, s := range c.sources {
		if !s.there() {
			continue
		}
		all, err := s.Shelf.Copies(ctx)
		if err != nil {
			return err
		}
		for _, e := range all {
			if e.Facts.Name == name {
				if e.Facts.Owner.Lock != s.Owner.Lock {
					return fault.New(fault.Refused, "hemzo drop "+name, "the copy %q is not this run's", name)
				}
				return s.Shelf.Drop(ctx, e, true)
			}
		}
	}
	return fault.New(fault.Usage, "", "there is no copy %q", name)
}

// Close ends the work: the copies of the sets are dropped but for those that
// keep wants, and so is what was taken by name or made ahead. drop is how;
// keep may be nil.
func (c *Control) Close(ctx context.Context, drop func(copies.ScopedServer, engine.Entry) error,
	keep func(*Copy) bool) error {
	c.mu.Lock()
	c.done = true
	c.mu.Unlock()
	err := c.stock.close(drop)
	ours := map[string]bool{}
	for _, s := range c.Sets() {
		for _, x := range s.Copies() {
			x.leave()
			_ = x.busy.Take(context.Background())
			x.close()
			ours[x.entry.ID] = true
			made := x.made
			x.busy.Give()
			if !made || keep != nil && keep(x) {
				continue
			}
			if failed := drop(x.source.Shelf, x.entry); failed != nil {
				err = errors.Join(err, fmt.Errorf("finishing with the copy %s: %w", x.entry.Facts.Name, failed))
			}
		}
	}
	for _, s := range c.sources {
		if !s.there() || s.Owner.Lock == "" {
			continue
		}
		all, failed := s.Shelf.Copies(ctx)
		err = errors.Join(err, failed)
		for _, e := range all {
			if e.Facts.Owner.Lock == s.Owner.Lock && !ours[e.ID] {
				err = errors.Join(err, drop(s.Shelf, e))
			}
		}
	}
	return err
}

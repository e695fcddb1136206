// Package control is what a suite asks between its tests: copies taken, put
// back, set aside, for one worker or for many. It answers Go calls and, by
// Handler, HTTP requests.
package control

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"hemzo/internal/copies"
	"hemzo/internal/engine"
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
	Spare    int   // copies made ahead
	Lazy     *Lazy // nil where copies are made at once
	Opaque   bool  // what a copy holds can be neither read nor kept: a service
}

// source is a Source with what it has opened.
type source struct {
	Source
	opening turn.Turn // held while it is opened
	mu      sync.Mutex
	opened  bool
	Scoped  copies.ScopedServer
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
	if s.isOpen() {
		return nil
	}
	scoped, owner, err := s.Open(ctx)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.Scoped, s.Owner, s.opened = scoped, owner, true
	return nil
}

// isOpen reports whether the server has been opened: then copies may be isOpen.
func (s *source) isOpen() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.opened
}

// Control keeps the copies of a run, in sets: one for each worker.
type Control struct {
	// CheckLeft has each reset find out what a test left, whatever that costs.
	CheckLeft bool
	// Watch has it noted of each copy whether anybody comes to it.
	Watch bool

	sources []*source
	spares  *spares

	mu   sync.Mutex
	sets map[string]*Set
	took map[string]*durations // by what was done: "take", "reset", ...
	busy busy                  // when anything was done
	// served is how often something was done for a database
	served map[string]int
	done   bool
	left   []Leftover

	replaced []Replacement
	held     []string
	remarks  []Remark

	// child keeps the copies too, should this process be killed.
	child engine.Process
}

// New returns a Control that has no copies yet.
func New(sources []Source) *Control {
	c := &Control{spares: newSpares(), sets: map[string]*Set{}, took: map[string]*durations{},
		served: map[string]int{}}
	for _, s := range sources {
		c.sources = append(c.sources, &source{Source: s, opening: turn.New()})
	}
	return c
}

// AwaitSpares waits, for seconds at most, until a copy that was made ahead is ready, where
// some are wanted.
func (c *Control) AwaitSpares(ctx context.Context) { c.spares.await(ctx, 5*time.Second) }

// Child makes a process keep the copies too, those of now and of later: they
// outlive this process, should it be killed.
func (c *Control) Child(ctx context.Context, p engine.Process) {
	c.mu.Lock()
	c.child = p
	c.mu.Unlock()
	for _, s := range c.Sets() {
		for _, x := range s.Copies() {
			if x.Made() {
				_ = x.source.Scoped.Server.UpdateFacts(ctx, x.Entry().ID, func(f *engine.Facts) { f.Owner.Child = p })
			}
		}
	}
}

// Close ends the work: the copies of the sets are dropped but for those that
// keep wants, and so is what was taken by name or made ahead. drop is how;
// keep may be nil.
func (c *Control) Close(ctx context.Context, drop func(copies.ScopedServer, engine.Entry) error,
	keep func(*Copy) bool) error {
	c.mu.Lock()
	c.done = true
	c.mu.Unlock()
	err := c.spares.close(drop)
	ours := map[string]bool{}
	for _, s := range c.Sets() {
		for _, x := range s.Copies() {
			x.stopListening()
			_ = x.busy.Take(context.Background())
			x.close()
			ours[x.entry.ID] = true
			made := x.made
			x.busy.Give()
			if !made || keep != nil && keep(x) {
				continue
			}
			if failed := drop(x.source.Scoped, x.entry); failed != nil {
				err = errors.Join(err, fmt.Errorf("finishing with the copy %s: %w", x.entry.Facts.Name, failed))
			}
		}
	}
	for _, s := range c.sources {
		if !s.isOpen() || s.Owner.Lock == "" {
			continue
		}
		all, failed := s.Scoped.Copies(ctx)
		err = errors.Join(err, failed)
		for _, e := range all {
			if e.Facts.Owner.Lock == s.Owner.Lock && !ours[e.ID] {
				err = errors.Join(err, drop(s.Scoped, e))
			}
		}
	}
	return err
}

package control

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"hemzo/internal/copies"
	"hemzo/internal/engine"
	"hemzo/internal/fault"
	"hemzo/internal/reset"
)

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
	if gate, err := x.gateway(ctx); err != nil || gate != nil && o.To == "" && o.Way == engine.Rollback {
		if err != nil {
			return nil, err
		}
		done, err := gate.Reset(ctx)
		if err != nil {
			return nil, err
		}
		c.note("reset", time.Since(began))
		return &reset.Report{Report: *done, Took: time.Since(began)}, nil
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
	e, err := x.source.Scoped.Server.Find(ctx, x.entry.ID)
	if errors.Is(err, engine.ErrNotFound) {
		return nil, fault.New(fault.Failed, "take another", "the copy %q is gone", x.entry.Facts.Name)
	}
	if err != nil {
		return nil, err
	}
	x.entry = e
	x.opened, err = reset.Open(ctx, x.source.Scoped.Server, e, x.source.Wait)
	return x.opened, err
}

// stopListening ends the listening for a copy that is made at need.
func (x *Copy) stopListening() {
	if x.doors != nil {
		x.doors.close()
	}
	if x.gate != nil {
		_ = x.gate.Close() // what it held goes with the copy
	}
}

func (x *Copy) close() {
	if x.opened != nil {
		_ = x.opened.Close()
		x.opened = nil
	}
}

func (x *Copy) snapshot(ctx context.Context, name string) (engine.Entry, error) {
	all, err := x.source.Scoped.Snapshots(ctx, x.entry)
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
		_, err := reset.Snapshot(ctx, x.source.Scoped.Server, x.entry, name,
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
		e, err := x.source.Scoped.Server.Find(ctx, x.entry.ID)
		if err != nil {
			return Done{}, err
		}
		changes, err := reset.Changes(ctx, x.source.Scoped.Server, e, rows, x.source.Wait)
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
		e, err := x.source.Scoped.Server.Find(ctx, x.entry.ID)
		if err != nil {
			return Done{}, err
		}
		if err := x.source.Scoped.Hold(ctx, e, as, keep, x.source.Wait); err != nil {
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
		if !s.isOpen() {
			continue
		}
		all, err := s.Scoped.Copies(ctx)
		if err != nil {
			return err
		}
		for _, e := range all {
			if e.Facts.Name == name {
				if e.Facts.Owner.Lock != s.Owner.Lock {
					return fault.New(fault.Refused, "hemzo drop "+name, "the copy %q is not this run's", name)
				}
				return s.Scoped.Drop(ctx, e, true)
			}
		}
	}
	return fault.New(fault.Usage, "", "there is no copy %q", name)
}

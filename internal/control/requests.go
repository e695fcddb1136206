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
	Sessions []engine.Client `json:"sessions,omitempty"`
	old      []engine.Entry  // the snapshots that one took the place of
}

// Reset asks for copies to be put back.
type Reset struct {
	Database string // "" for all of the set
	Way      engine.Way
	To       string         // a snapshot; "" for the start state
	InPlace  bool           // fail rather than end the clients' connections
	Force    bool           // end the sessions that hold locks
	Wait     *time.Duration // for locks; nil for the project file's
	After    string         // the test that has just ended; "" where that is not said
	// Next is the way of the reset after this one, where copies are reset by rollback:
	// until then clients reach the copy itself, and may commit
	Next engine.Way
}

// Reset puts the copies of a set back.
func (c *Control) Reset(ctx context.Context, s *Set, r Reset) ([]Done, error) {
	if !slices.Contains([]engine.Way{"", engine.Truncation, engine.Rollback, engine.Snapshot}, r.Way) {
		return nil, fault.New(fault.Usage, "truncation, rollback or snapshot", "there is no reset by %q", r.Way)
	}
	if r.Next != "" && r.Next != engine.Truncation && r.Next != engine.Snapshot {
		return nil, fault.New(fault.Usage, "next=truncation or next=snapshot", "the next reset cannot be by %q", r.Next)
	}
	return c.all(ctx, s, r.Database, func(x *Copy) (Done, error) {
		left := c.leftBefore(ctx, x, r)
		report, err := c.reset(ctx, x, r)
		if err == nil {
			err = x.turnTo(ctx, r.Next, report)
		}
		if err != nil {
			return Done{}, err
		}
		at := Leftover{Database: x.source.Name, Copy: x.entry.Facts.Name, Worker: s.Name, After: r.After}
		if report.Reconnect && !x.source.Opaque {
			c.foundReplaced(at, report.Why)
		}
		if report.Differed() && report.Way != engine.Rollback && r.To == "" && !x.source.Opaque {
			differing := *report
			differing.Tables = report.Differing()
			at.Report, at.Changes = &differing, left
			c.found(at)
		}
		return Done{Reset: report}, nil
	})
}

// leftBefore is what a test left, where leftovers are asked for and the reset
// will not tell: it replaces the copy unseen. nil where the reset tells.
func (c *Control) leftBefore(ctx context.Context, x *Copy, r Reset) *engine.Changes {
	if !c.CheckLeft || !x.made || x.source.Opaque || x.source.Scoped.Server.About().InPlace {
		return nil
	}
	e, err := x.source.Scoped.Server.Find(ctx, x.entry.ID)
	if err != nil {
		return nil
	}
	changes, err := reset.Changes(ctx, x.source.Scoped.Server, e, 0, x.wait(r))
	if err != nil {
		return nil // the reset itself says what is wrong
	}
	return changes
}

// all does something with each copy and collects what was done, in the order
// of the project file.
func (c *Control) all(ctx context.Context, s *Set, database string, work func(*Copy) (Done, error)) ([]Done, error) {
	chosen, err := s.pick(database)
	if err != nil {
		return nil, err
	}
	return c.work(ctx, s, chosen, work)
}

// work does something with each of some copies of a set.
func (c *Control) work(ctx context.Context, s *Set, chosen []*Copy, work func(*Copy) (Done, error)) ([]Done, error) {
	var mu sync.Mutex
	done := map[*Copy]Done{}
	err := each(ctx, chosen, func(x *Copy) error {
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

// wait is how long locks are waited for.
func (x *Copy) wait(r Reset) time.Duration {
	if r.Wait != nil {
		return *r.Wait
	}
	return x.source.Wait
}

func (c *Control) reset(ctx context.Context, x *Copy, r Reset) (*reset.Report, error) {
	if !x.made && r.To == "" { // nobody has been there
		return &reset.Report{Report: engine.Report{Tables: []engine.TableReport{}}}, nil
	}
	began := time.Now()
	o := reset.Options{Way: r.Way, InPlace: r.InPlace, Keep: x.source.Keep, Wait: x.wait(r), Force: r.Force,
		Ahead: x.source.Spare > 0}
	if r.Way == "" {
		o.Way = x.source.Way
	}
	if r.To != "" {
		if err := x.make(ctx); err != nil {
			return nil, err
		}
		snapshot, err := x.source.Scoped.SnapshotNamed(ctx, x.entry, r.To)
		if err != nil {
			return nil, err
		}
		o.To = snapshot.ID
	}
	if o.Way == engine.Rollback && x.next != "" {
		o.Way = x.next
	}
	rollback := o.To == "" && o.Way == engine.Rollback && !x.elsewhere
	if gate, err := x.gateway(ctx); err != nil || gate != nil && rollback {
		if err != nil {
			return nil, err
		}
		done, err := gate.Reset(ctx, engine.Session{Wait: o.Wait, Force: o.Force})
		if err != nil {
			return nil, err
		}
		c.note(x.source.Name, "reset", time.Since(began))
		x.remark()
		return &reset.Report{Report: *done, Took: engine.Milliseconds(time.Since(began))}, nil
	}
	if x.gate != nil { // what its clients have done would be in the way
		if err := x.gate.Release(ctx); err != nil {
			return nil, err
		}
		if o.Way == engine.Rollback {
			o.Way = ""
		}
	}
	report, err := x.putBack(ctx, o, r.Force || r.Wait != nil)
	if err != nil {
		x.close() // what is open may be broken
		return nil, err
	}
	x.elsewhere = o.To != ""
	c.note(x.source.Name, "reset", time.Since(began))
	return report, nil
}

// turnTo has the clients of a copy with a gate reach the copy itself until the next
// reset, which is of another way, or its gate again. Connections that lead elsewhere
// end.
func (x *Copy) turnTo(ctx context.Context, next engine.Way, report *reset.Report) error {
	if x.source.Lazy == nil || x.source.Lazy.Gate == nil || next == x.next {
		return nil
	}
	if x.gate != nil {
		if err := x.gate.Release(ctx); err != nil {
			return err
		}
	}
	x.next = next
	x.notePassing()
	if x.doors.endConnections() {
		report.Reconnect = true
	}
	return nil
}

// putBack puts the copy back; alone does so in sessions of its own, which wait
// and end others as this request wants.
func (x *Copy) putBack(ctx context.Context, o reset.Options, alone bool) (*reset.Report, error) {
	if alone {
		x.close()
		if err := x.find(ctx); err != nil {
			return nil, err
		}
		return reset.Do(ctx, x.source.Scoped.Server, x.entry, o)
	}
	opened, err := x.open(ctx)
	if err != nil {
		return nil, err
	}
	return opened.Do(ctx, o)
}

// find brings what is known of the copy up to date: other commands may have
// changed its facts.
func (x *Copy) find(ctx context.Context) error {
	if err := x.make(ctx); err != nil {
		return err
	}
	e, err := x.source.Scoped.Server.Find(ctx, x.entry.ID)
	if errors.Is(err, engine.ErrNotFound) {
		return fault.New(fault.Failed, "take another", "the copy %q is gone", x.entry.Facts.Name)
	}
	if err == nil {
		x.entry = e
	}
	return err
}

// open opens a copy, and keeps it open: a suite resets it thousands of times.
func (x *Copy) open(ctx context.Context) (*reset.Session, error) {
	if x.opened != nil {
		return x.opened, nil
	}
	if err := x.find(ctx); err != nil {
		return nil, err
	}
	var err error
	x.opened, err = reset.Open(ctx, x.source.Scoped.Server, x.entry, x.source.Wait)
	return x.opened, err
}

// stopListening ends the listening for a copy that is made at need.
func (x *Copy) stopListening() {
	if x.doors == nil {
		return
	}
	x.doors.stopAccepting()
	if x.gate != nil {
		_ = x.gate.Close() // what it held goes with the copy
	}
	x.doors.open.Wait()
}

// Release ends the sessions in which the copy is put back; the next reset opens
// them again.
func (x *Copy) Release() {
	_ = x.busy.Take(context.Background())
	defer x.busy.Give()
	x.close()
}

func (x *Copy) close() {
	if x.opened != nil {
		_ = x.opened.Close()
		x.opened = nil
	}
}

// Snapshot keeps the present state of the copies of a set under a name: of all
// that are asked for, or of none. With replace one of that name goes.
func (c *Control) Snapshot(ctx context.Context, s *Set, database, name string, replace, force bool) ([]Done, error) {
	if err := copies.CheckName(name); err != nil {
		return nil, err
	}
	chosen, err := s.readable(database, "has no snapshots")
	if err != nil {
		return nil, err
	}
	var made []engine.Entry
	return inOrder(ctx, chosen, func() ([]Done, error) {
		var out []Done
		for _, x := range chosen {
			x.close()
			var e engine.Entry
			var old []engine.Entry
			err := x.find(ctx)
			if err == nil {
				err = x.commit(ctx, force)
			}
			if err == nil {
				e, old, err = x.source.Scoped.Snapshot(ctx, x.entry, name, replace,
					engine.Session{Wait: x.source.Wait, Force: force})
			}
			if err != nil {
				return nil, errors.Join(err, undo(ctx, chosen, made))
			}
			made = append(made, e)
			out = append(out, Done{Database: x.source.Name, Copy: x.entry.Facts.Name, Snapshot: name, old: old})
		}
		// Those that are replaced go when all that replace them are there.
		for i, x := range chosen {
			for _, old := range out[i].old {
				if err := x.source.Scoped.Server.Drop(ctx, old.ID); err != nil {
					return nil, err
				}
			}
		}
		return out, nil
	})
}

// commit has what was done through the copy's gate stand in the copy itself.
func (x *Copy) commit(ctx context.Context, force bool) error {
	if x.gate == nil {
		return nil
	}
	return x.gate.Commit(ctx, force)
}

// undo drops what was made of copies, in their order.
func undo(ctx context.Context, of []*Copy, made []engine.Entry) (err error) {
	for i, e := range made {
		err = errors.Join(err, of[i].source.Scoped.Server.Drop(context.WithoutCancel(ctx), e.ID))
	}
	return err
}

// readable are the copies that a request means whose content can be read, kept
// and compared: services are passed over, unless one is asked for by name.
func (s *Set) readable(database, cannot string) ([]*Copy, error) {
	chosen, err := s.pick(database)
	if err != nil {
		return nil, err
	}
	kept := slices.DeleteFunc(slices.Clone(chosen), func(x *Copy) bool { return x.source.Opaque })
	if len(kept) == 0 {
		return nil, fault.New(fault.Usage, "ask for another database", "a service %s", cannot)
	}
	return kept, nil
}

// inOrder does something with several copies at once, when no other request works
// on any of them. Their turns are taken in the order of the project file, so that
// no two requests wait for one another.
func inOrder(ctx context.Context, all []*Copy, work func() ([]Done, error)) ([]Done, error) {
	for _, x := range all {
		if err := x.busy.Take(ctx); err != nil {
			return nil, err
		}
		defer x.busy.Give()
	}
	return work()
}

// Changes tells how the copies of a set differ from their start state; rows
// bounds how many rows of each table are returned.
func (c *Control) Changes(ctx context.Context, s *Set, database string, rows int) ([]Done, error) {
	chosen, err := s.readable(database, "cannot be compared")
	if err != nil {
		return nil, err
	}
	return c.work(ctx, s, chosen, func(x *Copy) (Done, error) {
		if !x.made {
			return Done{Changes: engine.NoChanges()}, nil
		}
		if err := x.commit(ctx, false); err != nil {
			return Done{}, err
		}
		e, err := x.source.Scoped.Server.Find(ctx, x.entry.ID)
		if err != nil {
			return Done{}, err
		}
		changes, err := reset.Changes(ctx, x.source.Scoped.Server, e, rows, x.source.Wait)
		return Done{Changes: changes}, err
	})
}

// Sessions lists who is connected to the copies of a set: while one is put back, too.
func (c *Control) Sessions(ctx context.Context, s *Set, database string) ([]Done, error) {
	chosen, err := s.readable(database, "does not tell who is connected")
	if err != nil {
		return nil, err
	}
	out := []Done{}
	for _, x := range chosen {
		d, err := x.sessions(ctx)
		if err != nil {
			return nil, err
		}
		d.Database = x.source.Name
		out = append(out, d)
	}
	return out, nil
}

// sessions lists who is connected to a copy: of one with a gate at any time, of another
// when no other request works on it.
func (x *Copy) sessions(ctx context.Context) (d Done, err error) {
	if p := x.passing.Load(); p != nil {
		return Done{Copy: p.name, Sessions: p.gate.Clients()}, nil
	}
	if err := x.busy.Take(ctx); err != nil {
		return d, err
	}
	defer x.busy.Give()
	d = Done{Copy: x.entry.Facts.Name, Sessions: []engine.Client{}}
	if x.made {
		d.Sessions, err = x.source.Scoped.Server.Clients(ctx, x.entry.ID)
	}
	return d, err
}

// Hold sets the copies of a set aside as they are, for some time, and puts
// fresh ones in their place, at the same addresses: all that are asked for, or
// none. A name that is taken gets a number.
func (c *Control) Hold(ctx context.Context, s *Set, database, name string, keep time.Duration) ([]Done, error) {
	chosen, err := s.readable(database, "cannot be held")
	if err != nil {
		return nil, err
	}
	return inOrder(ctx, chosen, func() ([]Done, error) {
		var held []engine.Entry
		ended := make([]bool, len(chosen))
		for i, x := range chosen {
			e, err := c.setAside(ctx, x, name, keep, len(chosen) > 1, &ended[i])
			if err != nil {
				return nil, errors.Join(err, undo(ctx, chosen, held))
			}
			held = append(held, e)
		}
		var out []Done
		for i, x := range chosen {
			c.foundHeld(held[i])
			report, err := c.reset(ctx, x, Reset{})
			if err != nil {
				return nil, err
			}
			report.Reconnect = report.Reconnect || ended[i]
			out = append(out, Done{Database: x.source.Name, Copy: x.entry.Facts.Name, Held: held[i].Facts.Name,
				Reset: report})
		}
		return out, nil
	})
}

// setAside makes a held copy of a copy. ended is set where sessions of clients
// were ended for that.
func (c *Control) setAside(ctx context.Context, x *Copy, name string, keep time.Duration, several bool,
	ended *bool) (engine.Entry, error) {
	if several {
		name += "-" + x.source.Name
	}
	x.close()
	if err := x.find(ctx); err != nil {
		return engine.Entry{}, err
	}
	if err := x.commit(ctx, true); err != nil {
		return engine.Entry{}, err
	}
	return x.source.Scoped.Hold(ctx, x.entry, name, keep,
		engine.Session{Wait: x.source.Wait, Force: true, Ended: func() { *ended = true }})
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

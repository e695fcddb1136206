// Package reset brings copies back to their start state, makes snapshots, and
// tells what a test left behind.
package reset

import (
	"context"
	"errors"
	"strings"
	"time"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
)

// Options say how a copy is put back.
type Options struct {
	Way  engine.Way
	To   string // the id of a snapshot to return to; "" for the start state
	Keep []string
	Wait time.Duration
}

// Report tells what a reset did and how long it took.
type Report struct {
	engine.Report
	Took time.Duration `json:"took"`
}

// Do puts a copy back. A copy whose reset was begun and not finished is
// marked as such, and the next reset trusts nothing that was noted before.
func Do(ctx context.Context, s engine.Server, e engine.Entry, o Options) (*Report, error) {
	began := time.Now()
	if e.Newer || e.Bad {
		return nil, fault.New(fault.Refused, "drop it, or use the Hemzo that made it", "the facts of %s cannot be read by this Hemzo", e.ID)
	}
	target := e.Facts.Start
	if o.To != "" {
		target = o.To
		o.Way = engine.Snapshot
	}
	start, err := sound(ctx, s, target)
	if err != nil {
		return nil, err
	}
	d, err := open(ctx, s, e, o.Wait)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	r := engine.Reset{Way: o.Way, Start: target, Keep: o.Keep}
	if o.To != "" {
		r.Keep = nil
	}
	// A baseline noted with some tables kept says nothing of those tables.
	at := standsFor(e.Facts)
	if !e.Facts.Resetting && (at == target || at == but(target, r.Keep) && r.Way != engine.Snapshot) {
		r.Baseline = e.Facts.Baseline
	}
	r.Begin = func() error {
		return s.Note(ctx, e.ID, func(f *engine.Facts) { f.Resetting, f.Baseline = true, nil })
	}
	done, err := d.Reset(ctx, r)
	if err != nil {
		return nil, err
	}
	if done.Way != "" || e.Facts.Resetting {
		err = s.Note(ctx, e.ID, func(f *engine.Facts) {
			f.Resetting, f.Baseline, f.At = false, done.Baseline, target
			if len(done.Kept) > 0 {
				f.At = but(target, r.Keep)
			}
			f.Steps = start.Facts.Steps // advance may have added to them
		})
	}
	return &Report{Report: *done, Took: time.Since(began)}, err
}

// but names a state in which some tables are not those of the start state.
func but(target string, keep []string) string {
	return target + " but " + strings.Join(keep, ",")
}

// standsFor is the state that a copy's baseline was noted in.
func standsFor(f engine.Facts) string {
	if f.At != "" {
		return f.At
	}
	return f.Start
}

// open opens a copy; one whose data is gone is opened too where the engine
// can put it back.
func open(ctx context.Context, s engine.Server, e engine.Entry, wait time.Duration) (engine.Database, error) {
	d, err := s.Open(ctx, e.ID, engine.Session{Wait: wait})
	if errors.Is(err, engine.ErrNotFound) {
		return nil, fault.New(fault.Failed, "hemzo take hands out another", "the copy %q is gone", e.Facts.Name)
	}
	return d, err
}

// sound checks that a start state is there and as it was made.
func sound(ctx context.Context, s engine.Server, id string) (engine.Entry, error) {
	e, err := s.Find(ctx, id)
	if errors.Is(err, engine.ErrNotFound) {
		return e, fault.New(fault.Failed, "hemzo build makes it again from the sources", "its start state %s is gone", id)
	}
	if err != nil {
		return e, err
	}
	whole, err := s.Whole(ctx, e)
	if err == nil && !whole {
		return e, fault.New(fault.Failed, "hemzo build makes it again from the sources", "its start state %s is not as it was made: somebody changed it", id)
	}
	return e, err
}

// Snapshot keeps the present state of a copy under a name.
func Snapshot(ctx context.Context, s engine.Server, e engine.Entry, name string, wait time.Duration) (engine.Entry, error) {
	d, err := open(ctx, s, e, wait)
	if err != nil {
		return engine.Entry{}, err
	}
	defer d.Close()
	id := engine.NewID(engine.Kept)
	f := e.Facts
	err = d.Keep(ctx, id, engine.Facts{
		Format: engine.Format, Database: f.Database, Engine: f.Engine, Name: name, Scope: f.Scope,
		Fingerprint: f.Fingerprint, Steps: f.Steps, Made: time.Now().UTC().Truncate(time.Millisecond), Of: e.ID,
	})
	if err != nil {
		return engine.Entry{}, err
	}
	return s.Find(ctx, id)
}

// Changes tells how a copy differs from its start state. rows bounds how many
// rows of each table are returned.
func Changes(ctx context.Context, s engine.Server, e engine.Entry, rows int, wait time.Duration) (*engine.Changes, error) {
	if _, err := sound(ctx, s, e.Facts.Start); err != nil {
		return nil, err
	}
	d, err := open(ctx, s, e, wait)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	c := engine.Compare{Start: e.Facts.Start, Rows: rows}
	if standsFor(e.Facts) == e.Facts.Start {
		c.Baseline = e.Facts.Baseline
	}
	return d.Changes(ctx, c)
}

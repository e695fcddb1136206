// Package reset brings copies back to their start state, makes snapshots, and
// tells what a test left behind.
package reset

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
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
	// Force ends sessions that hold locks on what is to be put back.
	Force bool
	// InPlace fails rather than put another database in the copy's place.
	InPlace bool
	// Ahead has the copy for the next replacement made when the answer is given.
	Ahead bool
}

// Report tells what a reset did and how long it took.
type Report struct {
	engine.Report
	Took engine.Milliseconds `json:"took_ms"`
}

// Session is a copy held open for many resets, as a suite needs them. It is
// for one goroutine at a time.
type Session struct {
	server     engine.Server
	entry      engine.Entry
	start      engine.Entry // the start state that the last reset went to
	d          engine.Database
	once       bool          // there will be no other reset: nothing is done for it alone
	later      chan struct{} // closed when what followed the last answer is done; nil where nothing did
	factsDirty bool          // the copy's facts, as they are known here, are to be written
}

// Open opens a copy. Closing it leaves the copy as it is.
func Open(ctx context.Context, s engine.Server, e engine.Entry, wait time.Duration) (*Session, error) {
	return openFor(ctx, s, e, engine.Session{Wait: wait, Often: true})
}

// OpenFresh is Open for a copy that nobody has come to since it was made: what can be kept
// of that makes its resets cheaper.
func OpenFresh(ctx context.Context, s engine.Server, e engine.Entry, wait time.Duration) (*Session, error) {
	return openFor(ctx, s, e, engine.Session{Wait: wait, Fresh: true, Often: true})
}

func openFor(ctx context.Context, s engine.Server, e engine.Entry, session engine.Session) (*Session, error) {
	if e.Newer || e.Bad {
		return nil, fault.New(fault.Refused, "drop it, or use the Hemzo that made it",
			"the facts of %s cannot be read by this Hemzo", e.ID)
	}
	d, err := open(ctx, s, e, session)
	if err != nil {
		return nil, err
	}
	return &Session{server: s, entry: e, d: d}, nil
}

// Close ends the work on the copy.
func (o *Session) Close() error {
	o.settled()
	var err error
	if o.factsDirty {
		ctx, stop := context.WithTimeout(context.Background(), 5*time.Second)
		defer stop()
		now := o.entry.Facts
		err = o.server.UpdateFacts(ctx, o.entry.ID,
			func(f *engine.Facts) { f.Baseline, f.BaselineState, f.Also = now.Baseline, now.BaselineState, now.Also })
		if errors.Is(err, engine.ErrNotFound) {
			err = nil // dropped meanwhile
		}
	}
	return errors.Join(err, o.d.Close())
}

// settled waits for what followed the last answer.
func (o *Session) settled() {
	if o.later != nil {
		<-o.later
		o.later = nil
	}
}

// follow does, after the answer, what makes the next reset, or the next to a
// snapshot, cheaper. What it
// notes is kept here and written at the end: what the server knows of the
// copy until then is older, and as true.
func (o *Session) follow(later func(context.Context) (json.RawMessage, error), snapshot string) {
	done := make(chan struct{})
	o.later = done
	go func() {
		defer close(done)
		ctx, stop := context.WithTimeout(context.Background(), time.Minute)
		defer stop()
		if base, err := later(ctx); err == nil && base != nil {
			o.factsDirty = true
			if f := &o.entry.Facts; snapshot == "" {
				f.Baseline = base
			} else {
				f.Also = maps.Clone(f.Also)
				f.Also[snapshot] = base
			}
		}
	}()
}

// Do puts a copy back once.
func Do(ctx context.Context, s engine.Server, e engine.Entry, opt Options) (*Report, error) {
	o, err := openFor(ctx, s, e, engine.Session{Wait: opt.Wait, Force: opt.Force})
	if err != nil {
		return nil, err
	}
	o.once = true
	defer o.Close()
	return o.Do(ctx, opt)
}

// Do puts the copy back. A copy whose reset was begun and not finished is
// marked as such, and the next reset trusts nothing that was noted before.
func (o *Session) Do(ctx context.Context, opt Options) (*Report, error) {
	began := time.Now()
	o.settled()
	r, also, err := o.request(ctx, opt)
	if err != nil {
		return nil, err
	}
	done, err := o.d.Reset(ctx, r)
	if errors.Is(err, engine.ErrNotFound) { // where it went since it was looked for
		if _, gone := find(ctx, o.server, r.Start); gone != nil {
			err = gone
		}
	}
	if err != nil {
		return nil, err
	}
	if also && !done.Noted {
		// What is noted of the start state stays true beside it.
		if done.Later != nil && (done.Way != "" || !o.once) {
			o.follow(done.Later, opt.To)
		}
		return &Report{Report: *done, Took: engine.Milliseconds(time.Since(began))}, nil
	}
	err = o.noteDone(ctx, r, done)
	return &Report{Report: *done, Took: engine.Milliseconds(time.Since(began))}, err
}

// request is what the engine is asked for. also says that it goes to a snapshot
// whose baseline is kept beside that of the start state.
func (o *Session) request(ctx context.Context, opt Options) (r engine.Reset, also bool, err error) {
	f := &o.entry.Facts
	r = engine.Reset{Way: opt.Way, Start: f.Start, Keep: opt.Keep, InPlace: opt.InPlace, Ahead: opt.Ahead}
	if opt.To != "" {
		r.Start, r.Way, r.Keep = opt.To, engine.Snapshot, nil
	}
	if o.start.ID != r.Start {
		if o.start, err = find(ctx, o.server, r.Start); err != nil {
			return r, false, err
		}
	}
	if err := sound(ctx, o.server, o.start); err != nil {
		return r, false, err
	}
	r.Begin = func() error {
		return o.note(ctx, func(f *engine.Facts) { f.Resetting, f.Baseline = true, nil })
	}
	if f.Resetting { // nothing that was noted is true any more
		return r, false, nil
	}
	// A baseline noted with some tables kept says nothing of those tables.
	r.Last = standsFor(*f)
	if r.Last == r.Start || r.Last == stateKeeping(r.Start, r.Keep) && r.Way != engine.Snapshot {
		r.Baseline = f.Baseline
	}
	if also = opt.To != "" && opt.InPlace && f.Also[opt.To] != nil; also {
		r.Baseline, r.Last = f.Also[opt.To], opt.To
	}
	return r, also, nil
}

// noteDone writes what is known of a copy once it was put back, or has that
// written when what makes the next reset cheaper is done.
func (o *Session) noteDone(ctx context.Context, r engine.Reset, done *engine.Report) error {
	f := &o.entry.Facts
	if done.Way == "" && !f.Resetting {
		if done.Later != nil && (!o.once || done.Worth) {
			o.follow(done.Later, "")
		}
		return nil
	}
	at := r.Start
	if len(done.Kept) > 0 {
		at = stateKeeping(r.Start, r.Keep)
	}
	if done.Noted {
		f.Resetting = false
	}
	if done.Later != nil && !f.Resetting && f.Layer == o.start.Facts.Layer {
		f.Baseline, f.BaselineState, o.factsDirty = r.Baseline, at, !done.Noted
		if done.Noted { // it is another database
			f.Baseline, f.Also = nil, nil
		}
		o.follow(done.Later, "")
		return nil
	}
	if !f.Resetting && standsFor(*f) == at && bytes.Equal(f.Baseline, done.Baseline) && f.Layer == o.start.Facts.Layer {
		return nil
	}
	err := o.note(ctx, func(f *engine.Facts) {
		f.Resetting, f.Baseline, f.BaselineState = false, done.Baseline, at
		if f.Layer > o.start.Facts.Layer { // advance has added to them
			f.Layer, f.Steps = o.start.Facts.Layer, f.Steps[:o.start.Facts.Layer]
		}
	})
	if err == nil && done.Later != nil && (done.Way != "" || !o.once) {
		o.follow(done.Later, "")
	}
	return err
}

// note changes the copy's facts, on the server and as they are known here.
func (o *Session) note(ctx context.Context, change func(*engine.Facts)) error {
	return o.server.UpdateFacts(ctx, o.entry.ID, func(f *engine.Facts) {
		change(f)
		o.entry.Facts = *f
	})
}

// stateKeeping names a state in which some tables are not those of the start state.
func stateKeeping(target string, keep []string) string {
	return target + " but " + strings.Join(keep, ",")
}

// standsFor is the state that a copy's baseline was noted in.
func standsFor(f engine.Facts) string {
	if f.BaselineState != "" {
		return f.BaselineState
	}
	return f.Start
}

// open opens a copy; one whose data is gone is opened too where the engine
// can put it back.
func open(ctx context.Context, s engine.Server, e engine.Entry, session engine.Session) (engine.Database, error) {
	d, err := s.Open(ctx, e.ID, session)
	if errors.Is(err, engine.ErrNotFound) {
		return nil, fault.New(fault.Failed, "hemzo take hands out another", "the copy %q is gone", e.Facts.Name)
	}
	return d, err
}

// find finds a start state.
func find(ctx context.Context, s engine.Server, id string) (engine.Entry, error) {
	e, err := s.Find(ctx, id)
	if errors.Is(err, engine.ErrNotFound) {
		return e, fault.New(fault.Failed, "hemzo build makes it again from the sources", "its start state %s is gone",
			id)
	}
	return e, err
}

// sound checks that a start state is as it was made.
func sound(ctx context.Context, s engine.Server, start engine.Entry) error {
	whole, err := s.IsIntact(ctx, start)
	if err == nil && !whole {
		return fault.New(fault.Failed, "hemzo build makes it again from the sources",
			"its start state %s is not as it was made: somebody changed it", start.ID)
	}
	return err
}

// Snapshot keeps the present state of a copy under a name.
func Snapshot(ctx context.Context, s engine.Server, e engine.Entry, name string, session engine.Session) (engine.Entry,
	error) {
	d, err := open(ctx, s, e, session)
	if err != nil {
		return engine.Entry{}, err
	}
	defer d.Close()
	id := engine.NewID(engine.Kept)
	f := e.Facts
	base, err := d.Snapshot(ctx, id, engine.Facts{
		Format: engine.Format, Database: f.Database, Engine: f.Engine, Name: name, Scope: f.Scope, Role: f.Role,
		Fingerprint: f.Fingerprint, Layer: f.Layer, Steps: f.Steps, Made: time.Now().UTC().Truncate(time.Millisecond),
		Of: e.ID,
	})
	if err == nil && base != nil {
		err = s.UpdateFacts(ctx, e.ID, func(f *engine.Facts) {
			f.Also = maps.Clone(f.Also)
			if f.Also == nil {
				f.Also = map[string]json.RawMessage{}
			}
			f.Also[id] = base
		})
	}
	if err != nil {
		return engine.Entry{}, err
	}
	return s.Find(ctx, id)
}

// Verify compares all that a copy holds with its start state, of which it makes
// a copy for that. The rows and counters of tables to keep are left out.
func Verify(ctx context.Context, s engine.Server, e engine.Entry, keep []string,
	wait time.Duration) (all []engine.Difference, err error) {
	if _, err := find(ctx, s, e.Facts.Start); err != nil {
		return nil, err
	}
	lock, _, err := s.Own(ctx)
	if err != nil {
		return nil, err
	}
	fresh, facts := engine.NewID(engine.Work), e.Facts
	facts.Owner, facts.Baseline = engine.Owner{Lock: lock}, nil
	defer func() { err = errors.Join(err, s.Drop(context.WithoutCancel(ctx), fresh)) }()
	if err := s.Copy(ctx, e.Facts.Start, fresh, facts); err != nil {
		return nil, fmt.Errorf("making a copy to compare with: %w", err)
	}
	var contents [2][]engine.Content
	for i, id := range []string{e.ID, fresh} {
		d, err := s.Open(ctx, id, engine.Session{Wait: wait})
		if err != nil {
			return nil, err
		}
		contents[i], err = d.Contents(ctx, true)
		if err = errors.Join(err, d.Close()); err != nil {
			return nil, err
		}
	}
	return slices.DeleteFunc(engine.Differences(contents[0], contents[1]),
		func(d engine.Difference) bool { return ofKept(d, keep) }), nil
}

// ofKept reports whether a difference is in the rows or the counter of a table
// to keep.
func ofKept(d engine.Difference, keep []string) bool {
	if d.Kind != "rows" && d.Kind != "counter" {
		return false
	}
	_, short, dotted := strings.Cut(d.Name, ".")
	if !dotted {
		short = d.Name
	}
	return slices.ContainsFunc(keep, func(k string) bool {
		_, name, dotted := strings.Cut(k, ".")
		if !dotted {
			name = k
		}
		return strings.EqualFold(short, name) || d.Kind == "counter" && strings.HasPrefix(short, name+"_")
	})
}

// Changes tells how a copy differs from its start state. rows bounds how many
// rows of each table are returned.
func Changes(ctx context.Context, s engine.Server, e engine.Entry, rows int, wait time.Duration) (*engine.Changes,
	error) {
	start, err := find(ctx, s, e.Facts.Start)
	if err != nil {
		return nil, err
	}
	if err := sound(ctx, s, start); err != nil {
		return nil, err
	}
	d, err := open(ctx, s, e, engine.Session{Wait: wait})
	if err != nil {
		return nil, err
	}
	defer d.Close()
	c := engine.Compare{Start: e.Facts.Start, Rows: rows}
	if standsFor(e.Facts) == e.Facts.Start {
		c.Baseline = e.Facts.Baseline
	}
	if !e.Facts.Resetting {
		c.Last = standsFor(e.Facts)
	}
	return d.Changes(ctx, c)
}

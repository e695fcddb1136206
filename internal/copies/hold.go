package copies

import (
	"context"
	"crypto/sha256"
	"fmt"
	"slices"
	"strings"
	"time"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
	"hemzo/internal/pattern"
	"hemzo/internal/place"
	"hemzo/internal/reset"
)

// mostHeld is how many copies of a project may be held at once: the oldest
// goes when another comes.
const mostHeld = 10

// Hold sets a copy aside as it is, under a name, for some time. The name is made
// safe, and numbered where there is a copy of that name. The copy itself stays as
// it is too: a reset makes it fresh.
func (s ScopedServer) Hold(ctx context.Context, e engine.Entry, name string, keep time.Duration,
	session engine.Session) (held engine.Entry, err error) {
	if name, err = SafeName(name); err != nil {
		return held, err
	}
	// Two that hold under one name: the second sees the first's.
	unlock, err := s.Server.Lock(ctx, "name-"+s.nameHash(name), nil)
	if err != nil {
		return held, err
	}
	defer unlock()
	if name, err = s.freeName(ctx, name); err != nil {
		return held, err
	}
	d, err := s.Server.Open(ctx, e.ID, session)
	if err != nil {
		return held, err
	}
	defer d.Close()
	f := e.Facts
	f.Name, f.Held, f.Made, f.Baseline, f.BaselineState = name, true, time.Now().UTC().Truncate(time.Millisecond), nil,
		"as it was held"
	f.Owner = engine.Owner{Until: place.Now(ctx, s.Server).Add(keep)}
	id := engine.NewID(engine.Copy)
	if _, err := d.Snapshot(ctx, id, f); err != nil {
		return held, err
	}
	if err := s.fewHeld(ctx); err != nil {
		return held, err
	}
	return s.Server.Find(ctx, id)
}

func (s ScopedServer) fewHeld(ctx context.Context) error {
	all, err := s.Copies(ctx)
	if err != nil {
		return err
	}
	held := slices.DeleteFunc(all, func(e engine.Entry) bool { return !e.Facts.Held })
	for ; len(held) > mostHeld; held = held[1:] {
		if err := s.remove(ctx, held[0]); err != nil {
			return err
		}
	}
	return nil
}

// Snapshot keeps the present state of a copy under a name. With replace those of
// that name are to go: they are returned for that, and there until then.
func (s ScopedServer) Snapshot(ctx context.Context, e engine.Entry, name string, replace bool,
	session engine.Session) (made engine.Entry, old []engine.Entry, err error) {
	if err := CheckName(name); err != nil {
		return made, nil, err
	}
	if old, err = s.Snapshots(ctx, e); err != nil {
		return made, nil, err
	}
	old = slices.DeleteFunc(old, func(there engine.Entry) bool { return there.Facts.Name != name })
	if len(old) > 0 && !replace {
		return made, nil, fault.New(fault.Failed, "use another name, or --replace it",
			"the copy %q has a snapshot %q already", e.Facts.Name, name)
	}
	made, err = reset.Snapshot(ctx, s.Server, e, name, session)
	return made, old, err
}

// SnapshotNamed finds a snapshot of a copy by its name: the newest, where replacing
// one was cut off.
func (s ScopedServer) SnapshotNamed(ctx context.Context, of engine.Entry, name string) (engine.Entry, error) {
	all, err := s.Snapshots(ctx, of)
	if err != nil {
		return engine.Entry{}, err
	}
	var known []string
	for _, e := range slices.Backward(all) {
		if e.Facts.Name == name {
			return e, nil
		}
		known = append([]string{e.Facts.Name}, known...)
	}
	next := "hemzo snapshot COPY NAME makes one"
	if known != nil {
		next = "snapshots: " + strings.Join(known, ", ")
	}
	return engine.Entry{}, fault.New(fault.Usage, next, "the copy %q has no snapshot %q", of.Facts.Name, name)
}

var unsafeInNames = pattern.Lazy(`[^A-Za-z0-9._]+`)

// SafeName makes a name that a test has in its runner one that a copy can have:
// what a name may not hold becomes "-".
func SafeName(name string) (string, error) {
	safe := strings.Trim(unsafeInNames().ReplaceAllString(name, "-"), "-._")
	if safe == "" {
		return "", fault.New(fault.Usage, "say how the held copy is to be called, as in  as=test_x",
			"%q is not a name for a copy", name)
	}
	if len(safe) > 48 {
		safe = safe[:41] + fmt.Sprintf("-%06x", sha256.Sum256([]byte(name)))[:7]
	}
	return safe, nil
}

// freeName is a name that no copy of this scope has: with a number where it is
// taken.
func (s ScopedServer) freeName(ctx context.Context, name string) (string, error) {
	all, err := s.Copies(ctx)
	if err != nil {
		return "", err
	}
	taken := names(all)
	for free, n := name, 2; ; n++ {
		if !slices.Contains(taken, free) {
			return free, nil
		}
		free = fmt.Sprintf("%s-%d", name, n)
	}
}

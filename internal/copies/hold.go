package copies

import (
	"context"
	"slices"
	"time"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
)

// mostHeld is how many copies of a project may be held at once: the oldest
// goes when another comes.
const mostHeld = 10

// Hold sets a copy aside as it is, under a name, for some time. Sessions that
// are in the way are ended. The copy itself stays as it is too: a reset makes
// it fresh.
func (s ScopedServer) Hold(ctx context.Context, e engine.Entry, name string, keep, wait time.Duration) error {
	there, err := s.named(ctx, name)
	if err != nil {
		return err
	}
	if there.ID != "" {
		return fault.New(fault.Failed, "use another name, or  hemzo drop "+name, "there is a copy %q already", name)
	}
	d, err := s.Server.Open(ctx, e.ID, engine.Session{Wait: wait, Force: true})
	if err != nil {
		return err
	}
	defer d.Close()
	f := e.Facts
	f.Name, f.Held, f.Made, f.Baseline, f.BaselineState = name, true, time.Now().UTC().Truncate(time.Millisecond), nil,
		"as it was held"
	f.Owner = engine.Owner{Until: time.Now().Add(keep).UTC()}
	if _, err := d.Snapshot(ctx, engine.NewID(engine.Copy), f); err != nil {
		return err
	}
	return s.fewHeld(ctx)
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

package place

import (
	"context"
	"os"
	"time"

	"hemzo/internal/engine"
)

// owners tells whether some process holds an owner's lock, and what time it is on the server.
type owners interface {
	Owned(ctx context.Context, lock string) bool
	Shared(ctx context.Context) (now time.Time, shared bool, err error)
}

// Now is the time by which it is told when owners' copies go: the server's where other machines
// use it too, whose clocks may differ.
func Now(ctx context.Context, s owners) time.Time {
	if now, shared, err := s.Shared(ctx); err == nil && shared {
		return now
	}
	return time.Now().UTC()
}

// Machine names this machine in an owner.
func Machine() string {
	name, _ := os.Hostname()
	return name
}

// OwnerAlive reports whether an owner still keeps what it owns on a server.
// Without an owner nothing is kept, and nothing is taken away. A process of another machine
// cannot be asked for, and is taken for alive.
func OwnerAlive(ctx context.Context, s owners, o engine.Owner) bool {
	if ended(ctx, s, o) {
		return false
	}
	if o.Lock == "" && o.Process.PID != 0 && o.Machine != "" && o.Machine != Machine() {
		return true
	}
	return o.Lock != "" && s.Owned(ctx, o.Lock) ||
		o.Process.PID != 0 && Alive(o.Process) ||
		o.Child.PID != 0 && Alive(o.Child)
}

// OwnerLost reports whether something had an owner and has it no more.
func OwnerLost(ctx context.Context, s owners, o engine.Owner) bool {
	return ended(ctx, s, o) || (o.Lock != "" || o.Process.PID != 0) && !OwnerAlive(ctx, s, o)
}

// ended reports whether an owner's time is over.
func ended(ctx context.Context, s owners, o engine.Owner) bool {
	return !o.Until.IsZero() && Now(ctx, s).After(o.Until)
}

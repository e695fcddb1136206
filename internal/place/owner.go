package place

import (
	"context"
	"time"

	"hemzo/internal/engine"
)

// locks tells whether some process holds an owner's lock.
type locks interface {
	Owned(ctx context.Context, lock string) bool
}

// OwnerAlive reports whether an owner still keeps what it owns on a server.
// Without an owner nothing is kept, and nothing is taken away.
func OwnerAlive(ctx context.Context, s locks, o engine.Owner) bool {
	if !o.Until.IsZero() && time.Now().After(o.Until) {
		return false
	}
	return o.Lock != "" && s.Owned(ctx, o.Lock) ||
		o.Process.PID != 0 && Alive(o.Process) ||
		o.Child.PID != 0 && Alive(o.Child)
}

// OwnerLost reports whether something had an owner and has it no more.
func OwnerLost(ctx context.Context, s locks, o engine.Owner) bool {
	if !o.Until.IsZero() && time.Now().After(o.Until) {
		return true
	}
	return (o.Lock != "" || o.Process.PID != 0) && !OwnerAlive(ctx, s, o)
}

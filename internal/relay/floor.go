package relay

import (
	"context"
	"slices"
	"sync"
	"time"
)

// floor is given to one client at a time, in the order in which they ask: from the
// first statement of its transaction to the end, or for one piece of work.
type floor struct {
	mu      sync.Mutex
	holder  *client
	idle    bool // the holder's transaction is open, and nothing of it under way
	stalled bool // its client is waited for, to take rows or to send them
	moves   int  // how often that ended
	waiting []*waiter
}

type waiter struct {
	c     *client
	given chan struct{}
}

// lookEvery is how often somebody who waits looks whether that can end.
const lookEvery = 20 * time.Millisecond

// blocking is a client that holds the floor and does nothing.
type blocking struct {
	*client
	stalled bool // it takes no rows, or sends none; else its transaction is idle
}

// take waits for the floor. After the limit in which its holder did nothing, the
// holder is returned: that may never end.
func (f *floor) take(ctx context.Context, c *client, limit time.Duration) (*blocking, error) {
	f.mu.Lock()
	if f.holder == nil {
		f.holder, f.idle, f.stalled = c, false, false
		f.mu.Unlock()
		return nil, nil
	}
	w := &waiter{c, make(chan struct{})}
	f.waiting = append(f.waiting, w)
	f.mu.Unlock()
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	var still, stuck time.Duration
	for seen := -1; ; {
		select {
		case <-w.given:
			return nil, nil
		case <-ctx.Done():
			if f.giveUp(w) {
				return nil, nil
			}
			return nil, ctx.Err()
		case <-tick.C:
		}
		f.mu.Lock()
		holder := f.holder
		if f.idle {
			still += lookEvery
		}
		if stuck += lookEvery; !f.stalled || f.moves != seen {
			stuck, seen = 0, f.moves
		}
		f.mu.Unlock()
		if still >= limit || stuck >= limit {
			if f.giveUp(w) {
				return nil, nil
			}
			return &blocking{holder, stuck >= limit}, nil
		}
	}
}

// giveUp waits no longer; true where the floor was given meanwhile.
func (f *floor) giveUp(w *waiter) (given bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	i := slices.Index(f.waiting, w)
	if i >= 0 {
		f.waiting = slices.Delete(f.waiting, i, i+1)
	}
	return i < 0
}

// has reports whether a client has the floor.
func (f *floor) has(c *client) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.holder == c
}

// give passes a client's floor to who has waited longest; nothing where it has not got it.
func (f *floor) give(c *client) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.holder != c {
		return
	}
	f.holder, f.idle, f.stalled = nil, false, false
	if len(f.waiting) > 0 {
		next := f.waiting[0]
		f.waiting = f.waiting[1:]
		f.holder = next.c
		close(next.given)
	}
}

// stall notes whether a holder's client is waited for.
func (f *floor) stall(c *client, stalled bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.holder == c {
		f.stalled = stalled
		f.moves++
	}
}

// rest notes whether a holder's transaction is open and nothing of it under way.
func (f *floor) rest(c *client, idle bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.holder == c {
		f.idle = idle
	}
}

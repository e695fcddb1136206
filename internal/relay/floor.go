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
	waiting []*waiter
}

type waiter struct {
	c     *client
	given chan struct{}
}

// lookEvery is how often somebody who waits looks whether that can end.
const lookEvery = 20 * time.Millisecond

// take waits for the floor. After the limit in which its holder did nothing, the
// holder is returned: that may never end.
func (f *floor) take(ctx context.Context, c *client, limit time.Duration) (blocking *client, err error) {
	f.mu.Lock()
	if f.holder == nil {
		f.holder, f.idle = c, false
		f.mu.Unlock()
		return nil, nil
	}
	w := &waiter{c, make(chan struct{})}
	f.waiting = append(f.waiting, w)
	f.mu.Unlock()
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	var still time.Duration
	for {
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
		f.mu.Unlock()
		if still >= limit {
			if f.giveUp(w) {
				return nil, nil
			}
			return holder, nil
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
	f.holder, f.idle = nil, false
	if len(f.waiting) > 0 {
		next := f.waiting[0]
		f.waiting = f.waiting[1:]
		f.holder = next.c
		close(next.given)
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

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
	holder  *Client
	idle    bool // the holder's transaction is open, and nothing of it under way
	stalled bool // its client is waited for, to take rows or to send them
	moves   int  // how often that ended
	waiting []*waiter
}

type waiter struct {
	c     *Client
	given chan struct{}
}

// lookEvery is how often somebody who waits looks whether that can end.
const lookEvery = 20 * time.Millisecond

// Blocking is a client that has the floor and does nothing.
type Blocking struct {
	*Client
	Stalled bool // it takes no rows, or sends none; else its transaction is idle
}

// TakeFloor waits for the floor. After the limit in which its holder did nothing, the
// holder is returned: that may never end.
func (s *Shared) TakeFloor(ctx context.Context, c *Client, limit time.Duration) (*Blocking, error) {
	f := &s.floor
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
			return &Blocking{holder, stuck >= limit}, nil
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

// HasFloor reports whether a client has the floor.
func (s *Shared) HasFloor(c *Client) bool {
	f := &s.floor
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.holder == c
}

// GiveFloor passes a client's floor to who has waited longest; nothing where it has not got it.
func (s *Shared) GiveFloor(c *Client) {
	f := &s.floor
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

// Stall notes whether a holder's client is waited for.
func (s *Shared) Stall(c *Client, stalled bool) {
	f := &s.floor
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.holder == c {
		f.stalled = stalled
		f.moves++
	}
}

// Rest notes whether a holder's transaction is open and nothing of it under way.
func (s *Shared) Rest(c *Client, idle bool) {
	f := &s.floor
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.holder == c {
		f.idle = idle
	}
}

// look tells who has the floor, and who waits for it.
func (f *floor) look() (holder *Client, waiting map[*Client]bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	waiting = map[*Client]bool{}
	for _, w := range f.waiting {
		waiting[w.c] = true
	}
	return f.holder, waiting
}

package control

import (
	"math/rand/v2"
	"slices"
	"time"

	"hemzo/internal/engine"
	"hemzo/internal/reset"
)

// durations tells how often something was done, and how long it took. Of many times
// some are remembered, any of them as likely as any other.
type durations struct {
	times   int
	slowest time.Duration
	some    []time.Duration
}

// mostSpent bounds what is remembered of how long something took.
const mostSpent = 1000

func (s *durations) add(took time.Duration) {
	s.times++
	s.slowest = max(s.slowest, took)
	if len(s.some) < mostSpent {
		s.some = append(s.some, took)
	} else if i := rand.IntN(s.times); i < mostSpent {
		s.some[i] = took
	}
}

// note counts what was done for a database, which has ended now.
func (c *Control) note(database, what string, took time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.served[database]++
	now := time.Now()
	c.busy.add(part{now.Add(-took), now})
	if c.took[what] == nil {
		c.took[what] = &durations{}
	}
	c.took[what].add(took)
}

// times tells how often something was done.
func (c *Control) times(what string) int {
	c.mu.Lock()
	defer c.mu.Unlock()
	if s := c.took[what]; s != nil {
		return s.times
	}
	return 0
}

// Stats tells how often something was done, and how long it took in the
// middle and at worst.
func (c *Control) Stats(what string) (times int, median, slowest time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	s := c.took[what]
	if s == nil {
		return 0, 0, 0
	}
	return s.times, slices.Sorted(slices.Values(s.some))[len(s.some)/2], s.slowest
}

// Leftover is what a reset found that a test had left behind.
type Leftover struct {
	Database string        `json:"database"`
	Copy     string        `json:"copy"`
	Worker   string        `json:"worker,omitempty"`
	After    string        `json:"after,omitempty"` // the test, where the reset was told
	Report   *reset.Report `json:"reset"`
	// Changes is what was left, where the reset replaced the copy unseen.
	Changes *engine.Changes `json:"changes,omitempty"`
}

// Replacement is a reset that put another database in the place of a copy: its
// clients had to connect again.
type Replacement struct {
	Database string `json:"database"`
	Copy     string `json:"copy"`
	Worker   string `json:"worker,omitempty"`
	After    string `json:"after,omitempty"`
	Why      string `json:"why"`
}

// mostLeft bounds what is remembered of leftovers.
const mostLeft = 1000

func (c *Control) found(l Leftover) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.left) < mostLeft {
		c.left = append(c.left, l)
	}
}

// foundReplaced notes that a copy was replaced.
func (c *Control) foundReplaced(at Leftover, why string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.replaced) < mostLeft {
		c.replaced = append(c.replaced,
			Replacement{Database: at.Database, Copy: at.Copy, Worker: at.Worker, After: at.After, Why: why})
	}
}

// Replaced lists the resets that replaced a copy, the first thousand.
func (c *Control) Replaced() []Replacement {
	c.mu.Lock()
	defer c.mu.Unlock()
	return slices.Clone(c.replaced)
}

// Remark is what the gate of a database's copies had to say, the first time.
type Remark struct {
	Database string `json:"database"`
	engine.Remark
}

// remarked notes a remark, and passes it on where it is the first of its kind about that
// database.
func (c *Control) remarked(s *source, m engine.Remark) {
	c.mu.Lock()
	known := slices.ContainsFunc(c.remarks, func(r Remark) bool { return r.Database == s.Name && r.Kind == m.Kind })
	if !known {
		c.remarks = append(c.remarks, Remark{s.Name, m})
	}
	c.mu.Unlock()
	if !known && s.Lazy.Remarked != nil {
		s.Lazy.Remarked(m)
	}
}

// Remarks lists what was remarked.
func (c *Control) Remarks() []Remark {
	c.mu.Lock()
	defer c.mu.Unlock()
	return slices.Clone(c.remarks)
}

// foundHeld notes that a copy is held.
func (c *Control) foundHeld(e engine.Entry) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.held = append(c.held, e.Facts.Name)
}

// Held lists the names of the copies that were held.
func (c *Control) Held() []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return slices.Clone(c.held)
}

// Leftovers lists what resets have found, the first thousand.
func (c *Control) Leftovers() []Leftover {
	c.mu.Lock()
	defer c.mu.Unlock()
	return slices.Clone(c.left)
}

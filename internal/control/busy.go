package control

import (
	"maps"
	"slices"
	"time"
)

// busy is the time during which at least one of several things was done. What it remembers
// of many is bounded.
type busy struct {
	parts  []part // apart from each other, in order
	before time.Duration
	from   time.Time // what was earlier is in before
}

type part struct{ begin, end time.Time }

// mostParts bounds what is remembered in parts.
const mostParts = 1000

// add adds what ended now.
func (b *busy) add(p part) {
	if p.begin.Before(b.from) {
		p.begin = b.from
	}
	if !p.begin.Before(p.end) {
		return
	}
	// All that it touches becomes one with it.
	i := len(b.parts)
	for i > 0 && !b.parts[i-1].end.Before(p.begin) {
		i--
		p.begin = earlier(p.begin, b.parts[i].begin)
		if b.parts[i].end.After(p.end) {
			p.end = b.parts[i].end
		}
	}
	b.parts = append(b.parts[:i], p)
	if len(b.parts) > mostParts {
		first := b.parts[0]
		b.before += first.end.Sub(first.begin)
		b.from, b.parts = first.end, slices.Delete(b.parts, 0, 1)
	}
}

func (b *busy) total() time.Duration {
	sum := b.before
	for _, p := range b.parts {
		sum += p.end.Sub(p.begin)
	}
	return sum
}

func earlier(a, b time.Time) time.Time {
	if b.Before(a) {
		return b
	}
	return a
}

// Spent is the time during which copies were handed out or put back, one or several at once,
// and how often that was, by the names of databases.
func (c *Control) Spent() (busy time.Duration, times map[string]int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.busy.total(), maps.Clone(c.served)
}

package relay

import (
	"cmp"
	"slices"
	"time"
)

// Open is a client as others see it.
type Open struct {
	ID                uint32
	Application, From string
	Last              string    // its last statement
	Began, Since      time.Time // connected, and its last statement begun
	Active            bool      // the statement is under way
	Holds             bool      // it has its turn: its transaction is open
	WaitsFor          uint32    // the one whose turn it is, where it waits for that; 0 where not
}

// Clients lists those that are connected, by their numbers.
func (r *Relay) Clients() []Open {
	holder, waiting := r.floor.look()
	r.mu.Lock()
	defer r.mu.Unlock()
	var all []Open
	for _, c := range r.keys {
		o := c.seen()
		o.Holds = c == holder
		if waiting[c] && holder != nil {
			o.WaitsFor = holder.id
		}
		all = append(all, o)
	}
	slices.SortFunc(all, func(a, b Open) int { return cmp.Compare(a.ID, b.ID) })
	return all
}

// seen is the client as others see it. The caller has the relay's mu.
func (c *client) seen() Open {
	return Open{ID: c.id, Application: c.application, From: c.conn.RemoteAddr().String(), Last: shorten(c.last),
		Began: c.began, Since: c.since, Active: c.relay.busy == c}
}

// look tells who has the floor, and who waits for it.
func (f *floor) look() (holder *client, waiting map[*client]bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	waiting = map[*client]bool{}
	for _, w := range f.waiting {
		waiting[w.c] = true
	}
	return f.holder, waiting
}

// Kind is one of the things in which a transaction that is rolled back is not what
// clients may expect.
type Kind byte

const (
	Stands      Kind = iota // a statement asks for the time of the transaction
	Waited                  // one waited in vain for another client's transaction
	NeedsCommit             // one cannot be inside a transaction
	Weaker                  // one asks for an isolation level that it does not get
)

// Remark is a first case of its kind.
type Remark struct {
	Kind      Kind
	Statement string // cut to a line
}

// Remarks are those that have come since they were last asked for.
func (r *Relay) Remarks() []Remark {
	r.mu.Lock()
	defer r.mu.Unlock()
	all := r.remarks
	r.remarks = nil
	return all
}

// remark notes the first case of a kind.
func (r *Relay) remark(k Kind, text string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if !r.remarked[k] {
		r.remarked[k] = true
		r.remarks = append(r.remarks, Remark{k, shorten(text)})
	}
}

// stands are the beginnings of what gives the time at which the transaction began, in
// lower case.
var stands = []string{"now(", "now (", "current_timestamp", "current_date", "current_time", "localtime",
	"transaction_timestamp"}

// readsClock reports whether a text may ask for the time of the transaction. It is asked
// of each statement: it looks at the words' first letters alone.
func readsClock(text string) bool {
	inWord := false
	for i := 0; i < len(text); i++ {
		b := text[i] | 0x20
		starts := !inWord && (b == 'n' || b == 'c' || b == 'l' || b == 't')
		inWord = b >= 'a' && b <= 'z' || text[i] == '_' || text[i] >= '0' && text[i] <= '9' || text[i] >= 0x80
		if !starts {
			continue
		}
		for _, s := range stands {
			if len(text)-i >= len(s) && equalFold(text[i:i+len(s)], s) {
				return true
			}
		}
	}
	return false
}

// equalFold compares with a text in lower case; letters of ASCII alone are folded.
func equalFold(text, lower string) bool {
	for i := range len(lower) {
		b := text[i]
		if b >= 'A' && b <= 'Z' {
			b |= 0x20
		}
		if b != lower[i] {
			return false
		}
	}
	return true
}

// noteClock remarks a statement that asks for the time of the transaction.
func (c *client) noteClock(text string) {
	if !c.relay.clock.Load() && readsClock(text) {
		c.relay.clock.Store(true)
		c.relay.remark(Stands, text)
	}
}

package compare

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"hemzo/internal/engine"
)

// On is the cost after the work that a suite's tests mostly do.
func (w Way) On(work string) Cost {
	i := slices.IndexFunc(w.Costs, func(c Cost) bool { return c.Work == work })
	if i < 0 {
		return Cost{Unable: "it was not measured"}
	}
	return w.Costs[i]
}

// words are the names of ways that are no words of the project file.
var words = map[string]string{Fresh: "a fresh copy", Spare: "a copy made ahead", ByHand: "emptied by hand"}

// Words names the way for people.
func (w Way) Words() string { return cmp.Or(words[w.Name], w.Name) }

// Suite is what a number of tests cost by a way, each after the same work.
func (w Way) Suite(work string, tests int) engine.Milliseconds {
	return w.On(work).Median * engine.Milliseconds(tests)
}

// worth is from how much less another way than truncation is worth its conditions.
const worth = engine.Milliseconds(time.Millisecond)

// judge finds the way to use. Truncation is it unless another takes a third less and at
// least a millisecond: it has no conditions.
func (r *Result) judge() {
	r.On = r.Works[min(1, len(r.Works)-1)].Name
	cost := func(name string) (Cost, bool) {
		i := slices.IndexFunc(r.Ways, func(w Way) bool { return w.Name == name })
		if i < 0 {
			return Cost{}, false
		}
		c := r.Ways[i].On(r.On)
		return c, c.Unable == ""
	}
	r.Use = Truncation
	best, _ := cost(Truncation)
	first := best
	for _, name := range []string{Rollback, Snapshot, Spare, Fresh} {
		c, ok := cost(name)
		if ok && (best.Unable != "" || c.Median*3 < best.Median*2 && best.Median-c.Median >= worth) {
			r.Use, best = name, c
		}
	}
	c, ok := cost(Rollback)
	switch {
	case r.Use == Rollback:
		r.Why = fmt.Sprintf("%s: %s, by truncation %s. Not every test fits a rollback: a run names those that do not",
			r.On, figure(best.Median), figure(first.Median))
	case r.Use != Truncation:
		r.Why = fmt.Sprintf("%s: %s, by truncation %s", r.On, figure(best.Median), figure(first.Median))
	case ok && c.Median*3 < best.Median*2:
		r.Why = fmt.Sprintf("%s: %s. Rollback saves less than a millisecond a test, and truncation fits every test", r.On,
			figure(best.Median))
	default:
		r.Why = fmt.Sprintf("%s: %s. No other way takes a third less and saves a millisecond a test", r.On,
			figure(best.Median))
	}
}

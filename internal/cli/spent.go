package cli

import (
	"context"
	"fmt"
	"time"

	"hemzo/internal/engine"
)

// suiteTime says what part of a run's time was Hemzo's.
type suiteTime struct {
	Wall engine.Milliseconds `json:"wall_ms"` // until the command ended
	// Before is what went by until the command began: servers, builds, the first copies.
	Before engine.Milliseconds `json:"before_ms"`
	// During is when copies were handed out or put back while the command ran.
	During engine.Milliseconds `json:"during_ms"`
	Times  int                 `json:"times"` // how often a test had a database as it is at its start
	// Anew is what the steps had taken for each of these, had there been no template; 0
	// where that is not known.
	Anew engine.Milliseconds `json:"built_anew_ms,omitempty"`
}

// measureTime is asked when the command has ended.
func (r *runner) measureTime(ctx context.Context) suiteTime {
	if r.control == nil || r.spent.command == 0 {
		return suiteTime{}
	}
	busy, times := r.control.Spent()
	before := r.spent.before
	t := suiteTime{Before: engine.Milliseconds(before), During: engine.Milliseconds(max(busy-r.spent.first, 0)),
		Wall: engine.Milliseconds(before + r.spent.command)}
	seen := map[string]bool{}
	for _, set := range r.control.Sets() {
		for _, x := range set.Copies() {
			if name := x.Database(); !seen[name] && x.Made() {
				seen[name] = true
				t.Times = max(t.Times, times[name])
				t.Anew += engine.Milliseconds(times[name]) * engine.Milliseconds(stepsTime(ctx, x.Scoped().Server, x.Entry()))
			}
		}
	}
	return t
}

// stepsTime is what the steps of a copy's template took when they were run.
func stepsTime(ctx context.Context, s engine.Server, copied engine.Entry) (sum time.Duration) {
	e, err := s.Find(ctx, copied.Facts.Start)
	if err != nil {
		return 0
	}
	for _, step := range e.Facts.Steps {
		sum += step.Took
	}
	return sum
}

// words says it in a line.
func (t suiteTime) words() string {
	all := t.Before + t.During
	during := "nothing"
	if t.During > 0 {
		during = span(t.During)
	}
	text := fmt.Sprintf("Hemzo took %s of %s (%.0f %%): %s before the command, %s during it", span(all), span(t.Wall),
		100*float64(all)/float64(max(t.Wall, 1)), span(t.Before), during)
	if t.Times > 1 && t.Anew > all {
		text += fmt.Sprintf("; every step run %d times: %s", t.Times, span(t.Anew))
	}
	return text
}

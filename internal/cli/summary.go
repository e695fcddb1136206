package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"hemzo/internal/control"
	"hemzo/internal/engine"
	"hemzo/internal/fault"
	"hemzo/internal/reset"
)

// look says, when the command has ended, where a database was never connected
// to and what tests left behind, and sums up.
func (r *runner) look(ctx context.Context, code int) int {
	fail := func(when bool) {
		if when && code == 0 {
			code = 1
		}
	}
	fail(r.unvisited() && r.flags.must)
	fail(r.leftovers() && r.flags.checkLeft)
	r.sumUp(ctx)
	return code
}

// unvisited names the databases that nobody ever connected to.
func (r *runner) unvisited() (any bool) {
	resets, _, _ := r.control.Stats("reset")
	silent := map[string]int{}
	wait := 4 * time.Millisecond
	if r.flags.must {
		wait = time.Second
	}
	for _, set := range r.sets {
		for _, x := range set.Copies() {
			if came, asked := x.WasVisited(); asked {
				if !came && r.flags.must { // else that is what laziness is for
					silent[x.Database()]++
				}
				continue
			}
			came := r.came[x]
			if resets > 0 || came == nil { // Hemzo's own sessions were there too
				continue
			}
			if yes, err := came(wait); yes || err != nil {
				continue
			}
			silent[x.Database()]++
		}
	}
	for _, x := range r.sets[0].Copies() {
		// Of several sets not every one has to be used.
		if d := x.Database(); silent[d] == len(r.sets) {
			any = true
			r.note("nothing connected to %s: %s was set; does another setting win?", d, r.variable(d))
		}
	}
	return any
}

// mostNamed is how many leftovers are named one by one.
const mostNamed = 20

// leftovers names what resets found, where a test's leftovers are a fault.
func (r *runner) leftovers() (any bool) {
	all := r.control.Leftovers()
	if !r.flags.checkLeft {
		return len(all) > 0
	}
	for i, l := range all {
		if i == mostNamed {
			r.note("and %d more", len(all)-i)
			break
		}
		after := "left behind"
		if l.After != "" {
			after = l.After + " left"
		}
		r.note("%s in %s: %s", after, l.Copy, touchedWords(l.Report))
	}
	return len(all) > 0
}

// touchedWords says in a line what a reset found.
func touchedWords(r *reset.Report) string {
	var parts []string
	for _, t := range r.Tables {
		parts = append(parts, t.Name)
	}
	for _, d := range r.Dropped {
		parts = append(parts, d+" added")
	}
	if r.Why != "" {
		parts = append(parts, r.Why)
	}
	if r.Sequences > 0 {
		parts = append(parts, count(r.Sequences, "counter")+" moved")
	}
	return few(parts, ", ")
}

// few joins the first of many parts.
func few(parts []string, with string) string {
	const most = 8
	if n := len(parts) - most; n > 0 {
		parts = append(parts[:most:most], fmt.Sprintf("and %d more", n))
	}
	return strings.Join(parts, with)
}

// sumUp says where the time went, and what the last test left behind.
func (r *runner) sumUp(ctx context.Context) {
	resets, middle, worst := r.control.Stats("reset")
	copied, took, slowest := r.control.Stats("take")
	if resets == 0 && !r.verbose && copied <= 1 || r.quiet {
		return
	}
	parts := []string{"command " + span(r.spent.command)}
	if start := r.session.started(); start > 0 {
		parts = append(parts, "servers "+span(start))
	}
	if r.spent.build > 0 {
		parts = append(parts, "build "+span(r.spent.build))
	}
	switch {
	case copied == 1:
		parts = append(parts, "copy "+span(took))
	case copied > 1:
		parts = append(parts, fmt.Sprintf("%d copies, median %s, slowest %s", copied, span(took), span(slowest)))
	}
	if resets > 0 {
		parts = append(parts, fmt.Sprintf("%s, median %s, slowest %s", count(resets, "reset"), span(middle),
			span(worst)))
	}
	r.note("%s", strings.Join(parts, "; "))
	if resets == 0 {
		return
	}
	for _, set := range r.control.Sets() {
		done, err := r.control.Changes(ctx, set, "", 0)
		if err != nil {
			continue // a look, no more: the copies go in any case
		}
		for _, d := range done {
			if words := leftWords(d.Changes); words != "" {
				r.note("left in %s by the last test: %s", d.Copy, words)
			}
		}
	}
}

// leftWords says in a line how a copy differs from its start state.
func leftWords(c *engine.Changes) string {
	var parts []string
	for _, t := range c.Tables {
		var rows []string
		for _, n := range []struct {
			n    int64
			text string
		}{{t.Added, "added"}, {t.Removed, "removed"}, {t.Altered, "altered"}} {
			if n.n > 0 {
				rows = append(rows, fmt.Sprintf("%d %s", n.n, n.text))
			}
		}
		parts = append(parts, t.Name+" "+strings.Join(rows, ", "))
	}
	if n := len(c.Schema); n > 0 {
		parts = append(parts, count(n, "schema change"))
	}
	if n := len(c.Sequences); n > 0 {
		parts = append(parts, count(n, "counter")+" moved")
	}
	return few(parts, "; ")
}

// variable is the first variable that a database is handed over in.
func (r *runner) variable(database string) string {
	if d := r.session.project.Database(database); d != nil && len(d.Env) > 0 {
		return d.Env[0].Name
	}
	return "its variable"
}

func (r *runner) writeReport(code int, err error, took time.Duration) error {
	report := struct {
		Exit      int           `json:"exit"`
		HemzoCode int           `json:"hemzo_code,omitempty"`
		Reason    string        `json:"reason,omitempty"`
		Command   []string      `json:"command"`
		Copies    []string      `json:"copies"`
		Took      time.Duration `json:"took"`

		Resets       int                `json:"resets"`
		ResetMedian  time.Duration      `json:"reset_median"`
		ResetSlowest time.Duration      `json:"reset_slowest"`
		Left         []control.Leftover `json:"left"`
	}{Exit: code, Command: r.args, Copies: []string{}, Took: took, Left: []control.Leftover{}}
	if err != nil {
		report.Exit, report.HemzoCode, report.Reason = 125, int(fault.KindOf(err)), err.Error()
	}
	for _, set := range r.sets {
		for _, x := range set.Copies() {
			report.Copies = append(report.Copies, x.Entry().Facts.Name)
		}
	}
	if r.control != nil {
		report.Resets, report.ResetMedian, report.ResetSlowest = r.control.Stats("reset")
		report.Left = slices.Concat(report.Left, r.control.Leftovers())
	}
	b, failed := json.MarshalIndent(report, "", "  ")
	if failed == nil {
		failed = os.WriteFile(r.flags.report, append(b, '\n'), 0o644)
	}
	if failed != nil {
		return fault.New(fault.Failed, "", "cannot write the report: %v", failed)
	}
	return nil
}

package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"hemzo/internal/control"
	"hemzo/internal/engine"
	"hemzo/internal/fault"
)

// conclude says, when the command has ended, where a database was never connected
// to and what tests left behind, and sums up.
func (r *runner) conclude(ctx context.Context, code int) int {
	fail := func(when bool) {
		if when && code == 0 {
			code = 1
		}
	}
	fail(r.unvisited() && r.flags.must)
	fail(r.leftovers() && r.flags.checkLeft)
	r.sumUp(ctx)
	r.heldCopies()
	return code
}

// unvisited names the databases that nobody ever connected to.
func (r *runner) unvisited() (any bool) {
	silent := map[string]int{}
	wait := 4 * time.Millisecond
	if r.flags.must {
		wait = time.Second
	}
	sets := r.control.Sets()
	for _, set := range sets {
		for _, x := range set.Copies() {
			who, known := x.Visited(wait)
			// That nobody came to one that is made at need is what laziness is for; whoever
			// uses Hemzo's commands knows the variable.
			silently := known && (who == engine.Nobody && x.Made() || who != engine.Somebody && r.flags.must)
			if silently {
				silent[x.Database()]++
			}
		}
	}
	for _, x := range r.sets[0].Copies() {
		// Of several sets not every one has to be used.
		if d := x.Database(); silent[d] == len(sets) {
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
		r.note("%s in %s: %s", after, l.Copy, touchedWords(l))
	}
	return len(all) > 0
}

// touchedWords says in a line what a reset found.
func touchedWords(l control.Leftover) string {
	if l.Changes != nil {
		return leftWords(l.Changes)
	}
	r := l.Report
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
	r.note("%s", r.time.words())
	r.replacements()
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

// replacements says which resets ended the connections of clients, and why.
func (r *runner) replacements() {
	var whys []string
	after, times := map[string][]string{}, map[string]int{}
	for _, x := range r.control.Replaced() {
		if times[x.Why]++; times[x.Why] == 1 {
			whys = append(whys, x.Why)
		}
		if x.After != "" && !slices.Contains(after[x.Why], x.After) {
			after[x.Why] = append(after[x.Why], x.After)
		}
	}
	for _, why := range whys {
		text := why
		if tests := after[why]; tests != nil {
			text += " after " + few(tests, ", ")
		}
		r.note("%s replaced the database (%s): clients had to connect again", count(times[why], "reset"), text)
	}
}

// heldCopies names the copies that were held, and how one looks at each.
func (r *runner) heldCopies() {
	for _, name := range r.control.Held() {
		r.note("held %s: hemzo changes %s --rows", name, name)
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

// reportedCopy is a copy of a run in its report.
type reportedCopy struct {
	Copy     string `json:"copy"`
	Database string `json:"database"`
	Worker   string `json:"worker,omitempty"`
}

// runReport is what --report writes.
type runReport struct {
	Exit      int                 `json:"exit"`
	HemzoCode int                 `json:"hemzo_code,omitempty"`
	Reason    string              `json:"reason,omitempty"`
	Command   []string            `json:"command"`
	Copies    []reportedCopy      `json:"copies"`
	Held      []string            `json:"held"`
	Took      engine.Milliseconds `json:"took_ms"`

	Resets       int                   `json:"resets"`
	ResetMedian  engine.Milliseconds   `json:"reset_median_ms"`
	ResetSlowest engine.Milliseconds   `json:"reset_slowest_ms"`
	Replaced     []control.Replacement `json:"replaced"`
	Remarks      []control.Remark      `json:"remarks"` // on resets by rollback
	Time         suiteTime             `json:"time"`
	Left         []control.Leftover    `json:"left"`
}

// openReport opens the file of the report before there is anything to lose.
func (r *runner) openReport() (err error) {
	if r.flags.report == "" {
		return nil
	}
	r.report, err = os.OpenFile(r.flags.report, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o644)
	if err != nil {
		return fault.New(fault.Usage, "name a file in a folder that can be written to", "the report cannot be written: %v",
			err)
	}
	return nil
}

func (r *runner) writeReport(code int, err error, took time.Duration) error {
	report := runReport{Exit: code, Command: r.args, Copies: []reportedCopy{}, Held: []string{},
		Took: engine.Milliseconds(took), Replaced: []control.Replacement{}, Left: []control.Leftover{},
		Remarks: []control.Remark{}}
	if err != nil {
		report.Exit, report.HemzoCode, report.Reason = 125, int(fault.KindOf(err)), err.Error()
	}
	if r.control != nil {
		for _, set := range r.control.Sets() {
			for _, x := range set.Copies() {
				report.Copies = append(report.Copies,
					reportedCopy{Copy: x.Entry().Facts.Name, Database: x.Database(), Worker: set.Name})
			}
		}
		times, median, slowest := r.control.Stats("reset")
		report.Resets, report.ResetMedian, report.ResetSlowest = times, engine.Milliseconds(median),
			engine.Milliseconds(slowest)
		report.Time = r.time
		report.Left = append(report.Left, r.control.Leftovers()...)
		report.Remarks = append(report.Remarks, r.control.Remarks()...)
		report.Replaced = append(report.Replaced, r.control.Replaced()...)
		report.Held = append(report.Held, r.control.Held()...)
	}
	b, failed := json.MarshalIndent(report, "", "  ")
	if failed == nil {
		_, failed = r.report.Write(append(b, '\n'))
	}
	if failed = errors.Join(failed, r.report.Close()); failed != nil {
		return fault.New(fault.Failed, "", "the report cannot be written: %v", failed)
	}
	return nil
}

// Package compare measures the ways to put a database back that it allows, on its own
// schema, and says which of them fits.
package compare

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"hemzo/internal/control"
	"hemzo/internal/engine"
)

// Subject is a database whose resets are measured.
type Subject struct {
	Trial *engine.Trial
	// Open opens what hands out copies that are reset in a way, with so many made ahead;
	// end drops its copies.
	Open     func(ctx context.Context, way engine.Way, spare int) (k *control.Control, end func() error, err error)
	Rollback bool // the database allows that way too
	// After is what the tests do; "" for what Trial imitates.
	After string
	// Rounds is how often each is measured.
	Rounds int
	// Doing is told what is measured next.
	Doing func(what string)
}

// Work is something that tests do.
type Work struct {
	Name string `json:"work"`
	Text string `json:"statements"`
}

// Cost is what one way to put back one kind of work took.
type Cost struct {
	Work   string              `json:"work"`
	Median engine.Milliseconds `json:"median_ms,omitempty"`
	Low    engine.Milliseconds `json:"low_ms,omitempty"` // a quarter of the rounds took less
	High   engine.Milliseconds `json:"high_ms,omitempty"`
	Rounds int                 `json:"rounds,omitempty"`
	// Did is how it was put back, where that is another way than was asked for, with why.
	Did engine.Way `json:"did,omitempty"`
	Why string     `json:"why,omitempty"`
	// Unable is why it cannot be; "" where it was measured.
	Unable string `json:"unable,omitempty"`
}

// The ways, by the names that results have.
const (
	Truncation = string(engine.Truncation)
	Rollback   = string(engine.Rollback)
	Snapshot   = string(engine.Snapshot)
	Fresh      = "fresh copy"
	Spare      = "spare copy"
	ByHand     = "by hand"
)

// Way is what one way costs.
type Way struct {
	Name  string `json:"way"`
	Costs []Cost `json:"costs"` // one for each kind of work, in their order
}

// Result is what was measured.
type Result struct {
	Works []Work `json:"works"`
	Ways  []Way  `json:"ways"`
	// Use is the way to use after the work On, and Why.
	Use string `json:"use"`
	On  string `json:"on"`
	Why string `json:"because"`
}

// The kinds of work.
const (
	nothing = "nothing touched"
	few     = "a few rows"
	many    = "many rows"
	schema  = "schema changed"
	yours   = "your statements"
)

// Run measures. What it has made is gone when it returns.
func Run(ctx context.Context, s Subject) (*Result, error) {
	m := &measuring{Subject: s, result: &Result{}}
	steps := []func(context.Context) error{
		m.findWork,
		func(ctx context.Context) error { return m.resets(ctx, engine.Truncation) },
	}
	if s.Rollback {
		steps = append(steps, func(ctx context.Context) error { return m.resets(ctx, engine.Rollback) })
	}
	steps = append(steps,
		func(ctx context.Context) error { return m.resets(ctx, engine.Snapshot) },
		func(ctx context.Context) error { return m.copies(ctx, 0) },
		func(ctx context.Context) error { return m.copies(ctx, 1) },
		m.byHand)
	for _, step := range steps {
		if err := step(ctx); err != nil {
			return nil, err
		}
	}
	m.result.judge()
	return m.result, nil
}

// measuring is one run.
type measuring struct {
	Subject
	tables []string
	result *Result
}

// held is a copy that is put back again and again, and a session in it.
type held struct {
	k   *control.Control
	set *control.Set
	d   engine.Database
	end func() error
}

func (m *measuring) hold(ctx context.Context, way engine.Way) (*held, error) {
	k, end, err := m.Open(ctx, way, 0)
	if err != nil {
		return nil, err
	}
	h := &held{k: k, end: end}
	if h.set, err = k.Find(ctx, ""); err != nil {
		return nil, errors.Join(err, end())
	}
	return h, nil
}

func (h *held) close() error {
	h.leave()
	return h.end()
}

// run runs statements in the session.
func (h *held) run(ctx context.Context, text string) error {
	return h.query(ctx, text, engine.Sink{})
}

func (h *held) query(ctx context.Context, text string, out engine.Sink) error {
	if h.d == nil {
		x := h.set.Copies()[0]
		d, err := x.Scoped().Server.Open(ctx, x.Entry().ID, engine.Session{Wait: 10 * time.Second})
		if err != nil {
			return err
		}
		h.d = d
	}
	return h.d.Query(ctx, text, out)
}

// leave ends the session; its server may have gone.
func (h *held) leave() {
	if h.d != nil {
		_ = h.d.Close()
	}
	h.d = nil
}

// reset puts the copy back, and tells how long that took.
func (h *held) reset(ctx context.Context) (control.Done, time.Duration, error) {
	began := time.Now()
	done, err := h.k.Reset(ctx, h.set, control.Reset{})
	took := time.Since(began)
	if err != nil {
		return control.Done{}, 0, err
	}
	if done[0].Reset.Reconnect {
		h.leave()
	}
	return done[0], took, nil
}

// mostTries is how many tables are tried for one kind of work, and fewTables how many of
// them it changes.
const (
	mostTries = 100
	fewTables = 5
)

// findWork finds statements that do each kind of work on this schema, by trying: what
// constraints and triggers refuse is left out.
func (m *measuring) findWork(ctx context.Context) (err error) {
	m.Doing("looking at the schema")
	h, err := m.hold(ctx, engine.Truncation)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, h.close()) }()
	filled, err := m.listTables(ctx, h)
	if err != nil {
		return err
	}
	if m.After != "" {
		m.result.Works = []Work{{nothing, m.Trial.Nothing}, {yours, m.After}}
		if err := h.run(ctx, m.After); err != nil {
			return fmt.Errorf("running what tests are to do: %w", err)
		}
		return nil
	}
	works := []Work{{nothing, m.Trial.Nothing}}
	some, err := h.try(ctx, filled, m.Trial.Few, fewTables)
	if err != nil {
		return err
	}
	if len(some) > 0 {
		works = append(works, Work{few, join(some)})
	}
	if _, _, err := h.reset(ctx); err != nil {
		return err
	}
	if some, err = h.try(ctx, filled, m.Trial.Many, 1); err != nil {
		return err
	}
	if len(some) > 0 {
		works = append(works, Work{many, join(some)})
	}
	if m.Trial.Schema != "" {
		works = append(works, Work{schema, m.Trial.Schema})
	}
	m.result.Works = works
	return nil
}

// listTables lists the tables, and returns those with rows, of most rows first.
func (m *measuring) listTables(ctx context.Context, h *held) (filled []string, err error) {
	if m.Trial.Tables == "" {
		return []string{""}, nil
	}
	rows := map[string]int64{}
	var uncounted []string
	err = h.query(ctx, m.Trial.Tables, engine.Sink{Row: func(values []any) error {
		name, _ := values[0].(string)
		n, counted := values[1].(int64)
		m.tables, rows[name] = append(m.tables, name), n
		if !counted {
			uncounted = append(uncounted, name)
		}
		return nil
	}})
	for _, name := range uncounted {
		if err == nil {
			err = h.query(ctx, "SELECT count(*) FROM "+name, engine.Sink{Row: func(values []any) error {
				rows[name], _ = values[0].(int64)
				return nil
			}})
		}
	}
	if err != nil {
		return nil, fmt.Errorf("listing the tables: %w", err)
	}
	filled = slices.DeleteFunc(slices.Clone(m.tables), func(name string) bool { return rows[name] == 0 })
	slices.SortStableFunc(filled, func(a, b string) int { return cmp.Compare(rows[b], rows[a]) })
	return filled, nil
}

// try returns up to n of the statements, one for a table, that the database takes.
func (h *held) try(ctx context.Context, tables []string, statement func(string) string, n int) (taken []string,
	err error) {
	for i, table := range tables {
		if len(taken) == n || i == mostTries {
			break
		}
		text := statement(table)
		if h.run(ctx, text) == nil {
			taken = append(taken, text)
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
	}
	return taken, nil
}

// join joins statements, one on a line.
func join(statements []string) (text string) {
	for i, s := range statements {
		if i > 0 {
			text += ";\n"
		}
		text += s
	}
	return text
}

// unmeasured is how many rounds before each measurement do not count, and between how long
// a test goes on with its own work.
const (
	unmeasured = 2
	between    = 10 * time.Millisecond
	longest    = 5 * time.Second // of the rounds of one measurement, but for the first three
)

// repeated measures some rounds.
func (m *measuring) repeated(ctx context.Context, round func() (time.Duration, error)) (Cost, error) {
	var all []time.Duration
	began := time.Now()
	for i := range m.Rounds + unmeasured {
		took, err := round()
		if err != nil {
			return Cost{}, err
		}
		if i >= unmeasured {
			all = append(all, took)
		}
		if len(all) >= 3 && time.Since(began) > longest {
			break
		}
		if err := ctx.Err(); err != nil {
			return Cost{}, err
		}
	}
	slices.Sort(all)
	at := func(part float64) engine.Milliseconds {
		return engine.Milliseconds(all[int(part*float64(len(all)-1)+0.5)])
	}
	return Cost{Median: at(0.5), Low: at(0.25), High: at(0.75), Rounds: len(all)}, nil
}

// resets measures resets in one way, after each kind of work.
func (m *measuring) resets(ctx context.Context, way engine.Way) (err error) {
	w := Way{Name: string(way)}
	for _, work := range m.result.Works {
		cost, err := m.resetAfter(ctx, way, work)
		if err != nil {
			return fmt.Errorf("measuring resets by %s, %s: %w", way, work.Name, err)
		}
		w.Costs = append(w.Costs, cost)
	}
	m.result.Ways = append(m.result.Ways, w)
	return nil
}

// resetAfter measures resets after one kind of work, in a copy of its own.
func (m *measuring) resetAfter(ctx context.Context, way engine.Way, work Work) (cost Cost, err error) {
	m.Doing(fmt.Sprintf("%s, %s", way, work.Name))
	h, err := m.hold(ctx, way)
	if err != nil {
		return cost, err
	}
	defer func() { err = errors.Join(err, h.close()) }()
	var did engine.Way
	var why, unable string
	cost, err = m.repeated(ctx, func() (time.Duration, error) {
		if err := h.run(ctx, work.Text); err != nil {
			if ctx.Err() == nil {
				unable = err.Error()
			}
			return 0, err
		}
		done, took, err := h.reset(ctx)
		if err != nil {
			return 0, err
		}
		did, why = done.Reset.Way, done.Reset.Why
		return took, h.rest(ctx, m.Trial.Nothing)
	})
	if unable != "" {
		return Cost{Work: work.Name, Unable: unable}, nil
	}
	cost.Work = work.Name
	if did != way && did != "" {
		cost.Did, cost.Why = did, why
	}
	return cost, err
}

// rest lets time go by as a test does that reads.
func (h *held) rest(ctx context.Context, text string) error {
	for began := time.Now(); time.Since(began) < between; {
		if err := h.run(ctx, text); err != nil {
			return err
		}
	}
	return nil
}

// copies measures taking another copy, and dropping the old one.
func (m *measuring) copies(ctx context.Context, spare int) (err error) {
	w := Way{Name: Fresh}
	if spare > 0 {
		w.Name = Spare
	}
	m.Doing(w.Name)
	k, end, err := m.Open(ctx, engine.Truncation, spare)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, end()) }()
	old := ""
	cost, err := m.repeated(ctx, func() (time.Duration, error) {
		k.AwaitSpares(ctx)
		began := time.Now()
		x, err := k.Take(ctx, "", "")
		if err != nil {
			return 0, err
		}
		if old != "" {
			err = k.Drop(ctx, old)
		}
		old = x.Entry().Facts.Name
		return time.Since(began), err
	})
	if err != nil {
		return fmt.Errorf("measuring a %s for each test: %w", w.Name, err)
	}
	for _, work := range m.result.Works { // it does not matter what was done to the old one
		cost.Work = work.Name
		w.Costs = append(w.Costs, cost)
	}
	m.result.Ways = append(m.result.Ways, w)
	return nil
}

// byHand measures the statements that people write: they empty every table, and put
// nothing back.
func (m *measuring) byHand(ctx context.Context) (err error) {
	if m.Trial.Tables != "" && len(m.tables) == 0 {
		return nil
	}
	w := Way{Name: ByHand}
	text := m.Trial.Empty(m.tables)
	for _, work := range m.result.Works {
		if work.Name == schema {
			w.Costs = append(w.Costs, Cost{Work: work.Name, Unable: "it leaves the schema as it is"})
			continue
		}
		m.Doing(w.Name + ", " + work.Name)
		cost, err := m.handAfter(ctx, work, text)
		if err != nil {
			return err
		}
		w.Costs = append(w.Costs, cost)
	}
	m.result.Ways = append(m.result.Ways, w)
	return nil
}

func (m *measuring) handAfter(ctx context.Context, work Work, text string) (cost Cost, err error) {
	h, err := m.hold(ctx, engine.Truncation)
	if err != nil {
		return cost, err
	}
	defer func() { err = errors.Join(err, h.close()) }()
	unable := ""
	cost, err = m.repeated(ctx, func() (time.Duration, error) {
		if err := h.run(ctx, work.Text); err != nil {
			return 0, err
		}
		began := time.Now()
		if err := h.run(ctx, text); err != nil {
			unable = err.Error()
			return 0, err
		}
		took := time.Since(began)
		_, _, err := h.reset(ctx)
		return took, err
	})
	if unable != "" && ctx.Err() == nil {
		return Cost{Work: work.Name, Unable: unable}, nil
	}
	cost.Work = work.Name
	return cost, err
}

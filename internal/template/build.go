package template

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
	"hemzo/internal/source"
)

// Event tells how a build goes on.
type Event struct {
	Waiting bool   // another process builds the same template
	Damaged string // a template that is not as it was made, and is made anew
	Step    string // that begins
	Number  int    // of the step, from 1
	Of      int
	Output  string // a line that a command printed, or the server
	Notice  string // what a user should know of a step
}

// Result tells what a build did.
type Result struct {
	Template engine.Entry
	From     int // the layer it began from
	Applied  []engine.StepFact
	Took     time.Duration
}

// Build makes the template of a layer, or finds it ready. Any number of
// processes may ask at once: one builds, the rest wait.
func (p *Plan) Build(ctx context.Context, s engine.Server, layer int, progress func(Event)) (*Result, error) {
	result, err := p.make(ctx, s, layer, progress)
	if err == nil {
		err = p.checkKeep(ctx, s, result.Template)
	}
	return result, err
}

// checkKeep fails where a table to keep is not there, or refers to one that a
// reset puts back: its rows would be left referring to nothing.
func (p *Plan) checkKeep(ctx context.Context, s engine.Server, e engine.Entry) error {
	if len(p.Database.Keep) == 0 {
		return nil
	}
	tables, err := s.Tables(ctx, e)
	if err != nil || tables == nil {
		return err
	}
	short := func(name string) string { return strings.ToLower(strings.TrimPrefix(name, "public.")) }
	wrong := func(next, format string, args ...any) error {
		f := fault.New(fault.Usage, next, "database %q: "+format, append([]any{p.Database.Name}, args...)...)
		f.Where = p.Database.At
		return f
	}
	leads := map[string][]string{}
	for table, to := range tables {
		leads[short(table)] = to
	}
	keep := map[string]bool{}
	for _, name := range p.Database.Keep {
		keep[short(name)] = true
		if _, there := leads[short(name)]; !there && len(p.Layers) == e.Facts.Layer+1 {
			return wrong("tables: "+strings.Join(slices.Sorted(maps.Keys(leads)), ", "), "keep: there is no table %q", name)
		}
	}
	for _, table := range slices.Sorted(maps.Keys(keep)) {
		for _, to := range leads[table] {
			if !keep[short(to)] {
				return wrong("keep "+to+" too, or take "+table+" out of  keep:",
					"the table to keep, %s, refers to %s, which a reset puts back", table, to)
			}
		}
	}
	return nil
}

func (p *Plan) make(ctx context.Context, s engine.Server, layer int, progress func(Event)) (*Result, error) {
	if progress == nil {
		progress = func(Event) {}
	}
	began := time.Now()
	if e, ok, err := p.ready(ctx, s, layer, progress); err != nil || ok {
		return &Result{Template: e, From: layer}, err
	}
	unlock, err := s.Lock(ctx, "build-"+p.Layers[layer][:12], func() { progress(Event{Waiting: true}) })
	if err != nil {
		return nil, err
	}
	defer unlock()
	if e, ok, err := p.ready(ctx, s, layer, progress); err != nil || ok {
		return &Result{Template: e, From: layer, Took: time.Since(began)}, err
	}
	b := &builder{Plan: p, server: s, layer: layer, progress: progress}
	result, err := b.build(ctx)
	if result != nil {
		result.Took = time.Since(began)
	}
	return result, err
}

// ready finds the template of a layer. One that is not as it was made is
// dropped.
func (p *Plan) ready(ctx context.Context, s engine.Server, layer int, progress func(Event)) (engine.Entry, bool,
	error) {
	id := engine.TemplateID(p.Layers[layer])
	e, err := s.Find(ctx, id)
	if errors.Is(err, engine.ErrNotFound) {
		return e, false, nil
	}
	if err != nil {
		return e, false, err
	}
	if e.Newer {
		return e, false, fault.New(fault.Refused, "use the newer Hemzo", "the template %s was made by a newer Hemzo",
			id)
	}
	whole, err := s.IsIntact(ctx, e)
	if err != nil {
		return e, false, err
	}
	if !whole || e.Facts.Fingerprint != p.Layers[layer] || e.Facts.Layer != layer {
		progress(Event{Damaged: id})
		return e, false, s.Drop(ctx, id)
	}
	return e, true, nil
}

// builder is one build under way.
type builder struct {
	*Plan
	server   engine.Server
	layer    int
	progress func(Event)

	work  string
	from  int // the layer that it began as
	owner engine.Owner
	open  engine.Database // the work, between steps that need it open
	done  []engine.StepFact
	kept  int64         // bytes of the layers kept by this build
	below int           // the layer that was kept last
	spent time.Duration // applying, since then
	cost  time.Duration // of keeping it
	anew  bool          // from scratch, and no layer is kept
}

func (b *builder) build(ctx context.Context) (result *Result, err error) {
	defer func() {
		b.close()
		if err != nil {
			err = errors.Join(err, b.server.Drop(context.WithoutCancel(ctx), b.work))
		}
	}()
	if err := b.apply(ctx); err != nil {
		return nil, err
	}
	if err := b.close(); err != nil {
		return nil, err
	}
	from, id := b.from, engine.TemplateID(b.Layers[b.layer])
	if err := b.server.Rename(ctx, b.work, id, b.facts(b.layer)); err != nil {
		return nil, err
	}
	e, err := b.server.Find(ctx, id)
	return &Result{Template: e, From: from, Applied: b.done[from:]}, err
}

// apply makes the work and brings it to its layer.
func (b *builder) apply(ctx context.Context) error {
	b.work = engine.NewID(engine.Work)
	lock, release, err := b.server.Own(ctx)
	if err != nil {
		return err
	}
	_ = release // held as long as this process may build again
	b.owner = engine.Owner{Lock: lock}
	if b.from, err = b.begin(ctx); err != nil {
		return err
	}
	for i := b.from; i < b.layer; i++ {
		if err := b.step(ctx, i); err != nil {
			return b.explain(err, i)
		}
		if i+1 < b.layer && !b.anew {
			if err := b.keep(ctx, i+1); err != nil {
				return err
			}
		}
	}
	return b.grant(ctx)
}

// begin makes the work from the highest layer that is ready, and returns
// which that is.
func (b *builder) begin(ctx context.Context) (int, error) {
	work := b.start()
	work.Owner = b.owner
	for i := b.layer - 1; i >= 0 && !b.anew; i-- {
		e, ok, err := b.ready(ctx, b.server, i, b.progress)
		if err != nil {
			return 0, err
		}
		if !ok {
			continue
		}
		err = b.server.Copy(ctx, e.ID, b.work, work)
		if errors.Is(err, engine.ErrNotFound) {
			continue // swept away since
		}
		b.done, b.below = b.known(e), i
		return i, err
	}
	return 0, b.server.Create(ctx, b.work, Spec(b.Database), work)
}

// known returns the facts of the steps up to a template, also where it names
// the last of them only.
func (b *builder) known(e engine.Entry) []engine.StepFact {
	steps := make([]engine.StepFact, 0, b.layer)
	for _, s := range b.Steps[:e.Facts.Layer-len(e.Facts.Steps)] {
		steps = append(steps, engine.StepFact{Name: s.Name, Hash: s.Hash})
	}
	return append(steps, e.Facts.Steps...)
}

// start is what the facts of all that a build makes begin with.
func (b *builder) start() engine.Facts {
	return engine.Facts{
		Format: engine.Format, Database: b.Database.Name, Engine: b.Engine.Name(), Role: b.Database.Role,
		Scope: b.Scope, Made: now(),
	}
}

func (b *builder) facts(layer int) engine.Facts {
	f := b.start()
	f.Fingerprint, f.Layer, f.Steps, f.Used = b.Layers[layer], layer, b.done[:layer], f.Made
	return f
}

func now() time.Time { return time.Now().UTC().Truncate(time.Millisecond) }

func (b *builder) database(ctx context.Context) (engine.Database, error) {
	if b.open == nil {
		session := SessionOf(b.Database, b.Database.Wait)
		session.Notice = func(text string) { b.progress(Event{Notice: text}) }
		session.Said = func(text string) { b.progress(Event{Output: text}) }
		d, err := b.server.Open(ctx, b.work, session)
		if err != nil {
			return nil, err
		}
		b.open = d
	}
	return b.open, nil
}

func (b *builder) close() error {
	if b.open == nil {
		return nil
	}
	d := b.open
	b.open = nil
	return d.Close()
}

// step applies step i.
func (b *builder) step(ctx context.Context, i int) error {
	step := b.Steps[i]
	b.progress(Event{Step: step.Name, Number: i + 1, Of: b.layer})
	began := time.Now()
	fact := engine.StepFact{Name: step.Name, Hash: step.Hash}
	var err error
	if step.Command != nil {
		fact.Inputs = step.Command.Inputs
		err = b.command(ctx, i)
	} else {
		var d engine.Database
		if d, err = b.database(ctx); err == nil {
			err = Apply(ctx, d, step)
		}
	}
	fact.Took = time.Since(began)
	b.done = append(b.done, fact)
	return err
}

// Apply runs a step that is no command on a database.
func Apply(ctx context.Context, d engine.Database, step source.Step) error {
	step, err := step.Load()
	if err != nil {
		return err
	}
	for _, s := range step.Scripts {
		if err := d.Apply(ctx, engine.Script{File: s.File, Text: s.Text, First: s.First,
			Dump: step.Kind == source.Dump}); err != nil {
			return err
		}
	}
	if t := step.Table; t != nil {
		rows := make([][]any, len(t.Rows))
		for i, row := range t.Rows {
			rows[i] = make([]any, len(row))
			for j, f := range row {
				if !f.Null {
					rows[i][j] = f.Text
				}
			}
		}
		return d.Load(ctx, engine.Table{File: t.File, Name: t.Name, Columns: t.Columns, Rows: rows, Lines: t.Lines})
	}
	return nil
}

// grant puts the project file's grants on the finished work.
func (b *builder) grant(ctx context.Context) error {
	if len(b.Database.Grants) == 0 {
		return nil
	}
	d, err := b.database(ctx)
	for _, g := range b.Database.Grants {
		if err == nil {
			err = d.Apply(ctx, engine.Script{File: "grants", Text: g, First: 1})
		}
	}
	return err
}

// explain says which step failed and what stays.
func (b *builder) explain(err error, i int) error {
	f := new(fault.Error)
	if !errors.As(err, &f) || f.Kind != fault.StepFailed {
		return err
	}
	told := *f
	where := fmt.Sprintf("this is step %d of %d", i+1, b.layer)
	if i > 0 {
		where += ", those below it stay ready"
	}
	if told.Next == "" {
		told.Next = "fix it and build again"
	}
	told.Next += " (" + where + ")"
	return &told
}

// costly is what keeping a layer may cost before it is weighed against what
// applying its steps again would.
const costly = 10 * time.Millisecond

// keepBytes bounds what the layers that one build keeps below its head may
// take together.
const keepBytes = 256 << 20

// keep makes a template of layer i below the head where the policy says so:
// the two next to the head always, of the others all of them where there are
// few, else every so many, within keepBytes.
func (b *builder) keep(ctx context.Context, i int) error {
	limit := b.Database.Layers
	if limit < 0 {
		limit = b.Engine.MaxLayers()
	}
	stride := 1
	if limit > 0 {
		stride = (b.layer + limit - 1) / limit
	}
	near := b.layer-i <= 2
	b.spent += b.done[i-1].Took
	// many are kept where a layer is cheap for good; else not worth it below what it saves many times over
	if b.cost > costly && limit < 32 {
		// Where a source ends is where steps will be added.
		near = b.layer-i == 1 || b.Steps[i-1].Last
		if !near && b.spent < 20*b.cost {
			return nil
		}
	}
	if limit == 0 || !near && (i%stride != 0 || b.kept > keepBytes) {
		return nil
	}
	if b.Steps[i-1].Always {
		return nil // it will never be found again
	}
	id := engine.TemplateID(b.Layers[i])
	if _, err := b.server.Find(ctx, id); err == nil {
		return nil
	}
	if err := b.close(); err != nil {
		return err
	}
	facts := b.facts(i)
	facts.Steps = facts.Steps[b.below:]
	began := time.Now()
	if err := b.server.Copy(ctx, b.work, id, facts); err != nil {
		return err
	}
	b.below, b.spent, b.cost = i, 0, time.Since(began)
	e, err := b.server.Find(ctx, id)
	b.kept += e.Size
	return err
}

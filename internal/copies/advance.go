package copies

import (
	"context"
	"time"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
	"hemzo/internal/template"
)

// Advance applies to a copy, as it is now, the steps up to a layer that it
// lacks. It returns what it applied, also where a later step fails.
func (s ScopedServer) Advance(ctx context.Context, e engine.Entry, plan *template.Plan, layer int,
	wait time.Duration) ([]engine.StepFact, error) {
	have := e.Facts.Steps
	for i, f := range have {
		if i >= plan.Head() || plan.Steps[i].Hash != f.Hash {
			return nil, fault.New(fault.Failed, "take a new copy",
				"the copy %q was made from other sources: its step %s is not among those of the project any more",
				e.Facts.Name, f.Name)
		}
	}
	if len(have) >= layer {
		return nil, nil
	}
	d, err := s.Server.Open(ctx, e.ID, template.SessionOf(plan.Database, wait))
	if err != nil {
		return nil, err
	}
	defer d.Close()
	var applied []engine.StepFact
	for _, step := range plan.Steps[len(have):layer] {
		began := time.Now()
		if step.Command != nil {
			return applied, fault.New(fault.Usage, "run it yourself on the copy's URL, then advance no further",
				"advance applies migrations and data; the next step is the command %s", step.Name)
		}
		if err := template.Apply(ctx, d, step); err != nil {
			return applied, err
		}
		fact := engine.StepFact{Name: step.Name, Hash: step.Hash, Took: time.Since(began)}
		if err := s.Server.UpdateFacts(ctx, e.ID,
			func(f *engine.Facts) { f.Steps, f.Layer = append(f.Steps, fact), f.Layer+1 }); err != nil {
			return applied, err
		}
		applied = append(applied, fact)
	}
	return applied, nil
}

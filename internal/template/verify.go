package template

import (
	"context"
	"errors"

	"hemzo/internal/engine"
)

// Verify builds a layer from nothing, beside its template, and compares the
// two. The template has to be ready.
func (p *Plan) Verify(ctx context.Context, s engine.Server, layer int, progress func(Event)) (all []engine.Difference,
	err error) {
	e, err := s.Find(ctx, engine.TemplateID(p.Layers[layer]))
	if err != nil {
		return nil, err
	}
	b := &builder{Plan: p, server: s, layer: layer, progress: progress, anew: true}
	copied := engine.NewID(engine.Work)
	defer func() {
		last := context.WithoutCancel(ctx)
		err = errors.Join(err, s.Drop(last, b.work), s.Drop(last, copied))
	}()
	if err := b.apply(ctx); err != nil {
		return nil, err
	}
	made, err := b.database(ctx)
	if err != nil {
		return nil, err
	}
	anew, err := made.Contents(ctx, false)
	if err = errors.Join(err, b.close()); err != nil {
		return nil, err
	}
	facts := b.start()
	facts.Owner = b.owner
	if err := s.Copy(ctx, e.ID, copied, facts); err != nil {
		return nil, err
	}
	d, err := s.Open(ctx, copied, engine.Session{})
	if err != nil {
		return nil, err
	}
	defer d.Close()
	ready, err := d.Contents(ctx, false)
	if err != nil {
		return nil, err
	}
	return engine.Differences(ready, anew), d.Close()
}

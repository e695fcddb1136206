package template

import (
	"context"
	"errors"

	"hemzo/internal/engine"
)

// Verified is what a comparison of a template with builds from scratch found.
type Verified struct {
	Differences []engine.Difference
	Left        []string // what differs from build to build, and was left out
}

// Verify builds a layer from scratch, beside its template, and compares the two.
// Where they differ it builds once more: what the two builds do not agree on is no
// function of the sources. The template has to be ready.
func (p *Plan) Verify(ctx context.Context, s engine.Server, layer int, progress func(Event)) (v Verified, err error) {
	e, err := s.Find(ctx, engine.TemplateID(p.Layers[layer]))
	if err != nil {
		return v, err
	}
	ready, err := p.contentsOf(ctx, s, e.ID)
	if err != nil {
		return v, err
	}
	one, err := p.fromScratch(ctx, s, layer, progress)
	if err != nil {
		return v, err
	}
	if v.Differences = engine.Differences(ready, one); v.Differences == nil {
		return v, nil
	}
	another, err := p.fromScratch(ctx, s, layer, progress)
	if err != nil {
		return v, err
	}
	has, _ := engine.Stable(ready, one, another)
	wanted, left := engine.Stable(one, one, another)
	return Verified{Differences: engine.Differences(has, wanted), Left: left}, nil
}

// fromScratch is what a build holds that begins with nothing.
func (p *Plan) fromScratch(ctx context.Context, s engine.Server, layer int,
	progress func(Event)) (all []engine.Content, err error) {
	b := &builder{Plan: p, server: s, layer: layer, progress: progress, anew: true}
	defer func() { err = errors.Join(err, b.close(), s.Drop(context.WithoutCancel(ctx), b.work)) }()
	if err := b.apply(ctx); err != nil {
		return nil, err
	}
	made, err := b.database(ctx)
	if err != nil {
		return nil, err
	}
	return made.Contents(ctx, false)
}

// contentsOf is what a template holds: nobody can connect to it, but to a copy.
func (p *Plan) contentsOf(ctx context.Context, s engine.Server, id string) (all []engine.Content, err error) {
	copied := engine.NewID(engine.Work)
	lock, _, err := s.Own(ctx)
	if err != nil {
		return nil, err
	}
	facts := (&builder{Plan: p}).start()
	facts.Owner = engine.Owner{Lock: lock}
	defer func() { err = errors.Join(err, s.Drop(context.WithoutCancel(ctx), copied)) }()
	if err := s.Copy(ctx, id, copied, facts); err != nil {
		return nil, err
	}
	d, err := s.Open(ctx, copied, engine.Session{})
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, d.Close()) }()
	return d.Contents(ctx, false)
}

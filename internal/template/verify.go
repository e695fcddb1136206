package template

import (
	"context"
	"errors"
	"slices"
	"strings"

	"hemzo/internal/engine"
)

// Difference is something in which a template is not what its sources give
// when they are applied from nothing.
type Difference struct {
	Kind  string `json:"kind"`
	Name  string `json:"name"`
	Ready string `json:"ready"` // in the template, "" where it is missing
	Anew  string `json:"anew"`  // built from nothing
}

// Verify builds a layer from nothing, beside its template, and compares the
// two. The template has to be ready.
func (p *Plan) Verify(ctx context.Context, s engine.Server, layer int, progress func(Event)) (all []Difference, err error) {
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
	anew, err := made.Contents(ctx)
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
	ready, err := d.Contents(ctx)
	if err != nil {
		return nil, err
	}
	return differences(ready, anew), d.Close()
}

func differences(ready, anew []engine.Content) (all []Difference) {
	type key struct{ kind, name string }
	sums := map[key]string{}
	for _, c := range ready {
		sums[key{c.Kind, c.Name}] = c.Sum
	}
	for _, c := range anew {
		k := key{c.Kind, c.Name}
		if sum, ok := sums[k]; !ok || sum != c.Sum {
			all = append(all, Difference{Kind: c.Kind, Name: c.Name, Ready: sum, Anew: or(c.Sum, "there")})
		}
		delete(sums, k)
	}
	for k, sum := range sums {
		all = append(all, Difference{Kind: k.kind, Name: k.name, Ready: or(sum, "there")})
	}
	slices.SortFunc(all, func(a, b Difference) int { return strings.Compare(a.Kind+"\x00"+a.Name, b.Kind+"\x00"+b.Name) })
	return all
}

func or(text, other string) string {
	if text == "" {
		return other
	}
	return text
}

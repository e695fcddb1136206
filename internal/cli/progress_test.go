package cli

import (
	"context"
	"io"
	"testing"

	"hemzo/internal/container"
	"hemzo/internal/template"
)

// TestBarsAfterCtrlC has steps and layers that go on for a moment after the
// context of the bars is done.
func TestBarsAfterCtrlC(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	a := &app{err: io.Discard, errTerm: true}
	b, p := a.building(ctx, "apiary"), a.pulling(ctx)
	p.event(container.Pulling{Image: "made-up", Layer: "first", Of: 10, Done: 1})
	cancel()
	b.box.Wait() // until then the bars may still be taken
	p.box.Wait()
	b.event(template.Event{Step: "001_hives.sql", Number: 1, Of: 2})
	b.event(template.Event{Step: "002_visits.sql", Number: 2, Of: 2})
	p.event(container.Pulling{Image: "made-up", Layer: "second", Of: 10, Done: 1})
	b.end()
	p.end()
}

package cli

import (
	"context"
	"io"
	"sync/atomic"
	"time"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"hemzo/internal/template"
)

// building shows how a build goes on: a bar on a terminal, and in any case
// the lines that a user should not miss.
type building struct {
	*app
	name string
	box  *mpb.Progress
	own  bool        // the box is this build's alone
	over atomic.Bool // no bar is drawn any more: the terminal is a command's
	bar  *mpb.Bar
	step atomic.Value // the name shown beside the bar
}

func (a *app) building(ctx context.Context, name string) *building {
	return &building{app: a, name: name, box: a.bars(ctx), own: true}
}

// bars is where bars are shown, several one below the other.
func (a *app) bars(ctx context.Context) *mpb.Progress {
	out := a.err
	if !a.errTerm || a.quiet {
		out = io.Discard
	}
	return mpb.NewWithContext(ctx, mpb.WithOutput(out), mpb.WithWidth(24), mpb.WithRefreshRate(80*time.Millisecond))
}

func (b *building) event(e template.Event) {
	switch {
	case e.Waiting:
		b.note("%s: another process is building this template, waiting for it", b.name)
	case e.Damaged != "":
		b.note("%s: the template %s was changed since it was built: building it again", b.name, e.Damaged)
	case e.Notice != "":
		b.note("%s: %s", b.name, e.Notice)
	case e.Output != "":
		if b.verbose {
			b.note("%s", e.Output)
		}
	case e.Step != "":
		b.begin(e)
	}
}

func (b *building) begin(e template.Event) {
	b.step.Store(e.Step)
	if b.verbose {
		b.note("%s: step %d of %d, %s", b.name, e.Number, e.Of, e.Step)
	}
	if b.over.Load() {
		return
	}
	if b.bar == nil {
		b.bar = addBar(b.box, int64(e.Of),
			mpb.PrependDecorators(decor.Name(b.name+"  ")),
			mpb.AppendDecorators(decor.CountersNoUnit(" %d of %d  "),
				decor.Any(func(decor.Statistics) string { return b.step.Load().(string) })),
			mpb.BarRemoveOnComplete())
	}
	if b.bar != nil {
		b.bar.SetCurrent(int64(e.Number - 1))
	}
}

// addBar adds a bar of a total; nil where the bars have ended, as they do by
// themselves once their context is done: Ctrl-C comes between any two steps.
func addBar(box *mpb.Progress, total int64, options ...mpb.BarOption) *mpb.Bar {
	style := mpb.BarStyle().Lbound("").Rbound("").Filler("▰").Tip("▰").Padding("▱")
	bar, err := box.Add(total, style.Build(), options...)
	if err != nil {
		return nil
	}
	return bar
}

// end takes the bar away.
func (b *building) end() {
	b.over.Store(true)
	if b.bar != nil {
		b.bar.Abort(true)
	}
	if b.own {
		b.box.Wait()
	}
}

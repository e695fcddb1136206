package cli

import (
	"context"
	"io"
	"sync/atomic"
	"time"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"hemzo/internal/container"
)

// pulling shows how an image is pulled: a bar for each layer on a terminal,
// elsewhere one line.
type pulling struct {
	*app
	ctx   context.Context
	box   *mpb.Progress
	bars  map[string]*layerBar
	began bool
}

type layerBar struct {
	bar    *mpb.Bar
	status atomic.Value
}

func (a *app) pulling(ctx context.Context) *pulling {
	return &pulling{app: a, ctx: ctx, bars: map[string]*layerBar{}}
}

func (p *pulling) event(e container.Pulling) {
	if !p.began {
		p.began = true
		p.note("pulling the image %s from %s", e.Image, container.Registry(e.Image))
	}
	if e.Layer == "" || e.Of == 0 || p.quiet {
		return
	}
	if p.box == nil {
		out := io.Discard
		if p.errTerm {
			out = p.err
		}
		p.box = mpb.NewWithContext(p.ctx, mpb.WithOutput(out), mpb.WithWidth(24),
			mpb.WithRefreshRate(80*time.Millisecond))
	}
	l := p.bars[e.Layer]
	if l == nil {
		l = &layerBar{}
		l.status.Store("")
		l.bar = addBar(p.box, e.Of,
			mpb.PrependDecorators(decor.Name("layer "+e.Layer+"  ")),
			mpb.AppendDecorators(decor.CountersKibiByte(" % .1f of % .1f  "),
				decor.Any(func(decor.Statistics) string { return l.status.Load().(string) })))
		if l.bar == nil {
			return
		}
		p.bars[e.Layer] = l
	}
	l.status.Store(e.Status)
	l.bar.SetTotal(e.Of, false)
	l.bar.SetCurrent(e.Done)
}

// end takes the bars away.
func (p *pulling) end() {
	if p.box == nil {
		return
	}
	for _, l := range p.bars {
		l.bar.Abort(true)
	}
	p.box.Wait()
}

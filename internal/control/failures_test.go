package control

import (
	"context"
	"errors"
	"net"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/copies"
	"hemzo/internal/engine"
	"hemzo/internal/template"
	"hemzo/internal/turn"
)

// TestOpenedAgain: a request that was given up while it opened the server is no
// reason for the next to fail.
func TestOpenedAgain(t *testing.T) {
	s := begin(t)
	open, fails := s.sources[0].Open, true
	s.sources[0].Open = func(ctx context.Context) (copies.ScopedServer, engine.Owner, error) {
		if fails {
			return copies.ScopedServer{}, engine.Owner{}, context.Canceled
		}
		return open(ctx)
	}
	_, err := s.Find(t.Context(), "")
	require.ErrorIs(t, err, context.Canceled)
	fails = false
	_, err = s.Find(t.Context(), "")
	require.NoError(t, err)
}

// TestOneSetForAWorker: who waited for a set that could not be filled gets the
// one that the next request gets too.
func TestOneSetForAWorker(t *testing.T) {
	s := begin(t)
	entered, release := make(chan struct{}), make(chan struct{})
	layer, calls := s.sources[0].Layer, atomic.Int32{}
	s.sources[0].Layer = func(p *template.Plan) (int, error) {
		if calls.Add(1) == 1 {
			close(entered)
			<-release
			return 0, errors.New("the first fails")
		}
		return layer(p)
	}
	first := make(chan error, 1)
	go func() {
		_, err := s.Find(t.Context(), "a")
		first <- err
	}()
	<-entered
	s.mu.Lock()
	orphan := s.sets["a"]
	s.mu.Unlock()
	gone, stop := context.WithCancel(t.Context())
	stop()
	_, err := s.Find(gone, "a")
	require.ErrorIs(t, err, context.Canceled, "who has gone does not wait")
	waiting := make(chan *Set, 1)
	go func() {
		set, err := s.Find(t.Context(), "a")
		assert.NoError(t, err)
		waiting <- set
	}()
	close(release)
	require.ErrorContains(t, <-first, "the first fails")
	got := <-waiting
	assert.NotSame(t, orphan, got)
	next, err := s.Find(t.Context(), "a")
	require.NoError(t, err)
	assert.Same(t, got, next)
	assert.Len(t, s.Sets(), 1)
	all, err := s.sources[0].Scoped.Copies(t.Context())
	require.NoError(t, err)
	assert.Len(t, all, 1)
}

// failing is a listener that fails some times before it takes a connection.
type failing struct {
	net.Listener
	times int
}

func (f *failing) Accept() (net.Conn, error) {
	if f.times > 0 {
		f.times--
		return nil, errors.New("too many open files")
	}
	return f.Listener.Accept()
}

// TestDoorsStayOpen: a connection that cannot be taken is no end of listening.
func TestDoorsStayOpen(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	told := make(chan error, 1)
	x := &Copy{busy: turn.New(), control: New(nil), source: &source{opening: turn.New(), Source: Source{
		Lazy: &Lazy{Failed: func(err error) { told <- err }},
		Open: func(context.Context) (copies.ScopedServer, engine.Owner, error) {
			return copies.ScopedServer{}, engine.Owner{}, errors.New("asked for")
		},
	}}}
	d := &doors{listeners: []net.Listener{l}}
	d.ctx, d.stop = context.WithCancel(t.Context())
	d.open.Go(func() { d.accept(&failing{l, 3}, x, 0) })
	conn, err := net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	defer conn.Close()
	require.ErrorContains(t, <-told, "asked for")
	assert.True(t, x.came.Load())
	d.stopAccepting()
	d.open.Wait()
}

// TestSpentIsBounded: what is remembered of many resets does not grow.
func TestSpentIsBounded(t *testing.T) {
	c := New(nil)
	for i := range 20_000 {
		c.note("apiary", "reset", time.Duration(i))
	}
	times, median, slowest := c.Stats("reset")
	assert.Equal(t, 20_000, times)
	assert.Equal(t, time.Duration(19_999), slowest)
	assert.InDelta(t, 10_000, int(median), 2_000)
	assert.Len(t, c.took["reset"].some, mostSpent)
	assert.LessOrEqual(t, len(c.busy.parts), mostParts)
}

// TestBusy: what is done side by side counts once, and so it does where only the sum of
// what was earlier is kept.
func TestBusy(t *testing.T) {
	at := func(ms int) time.Time { return time.Unix(1_800_000_000, 0).Add(time.Duration(ms) * time.Millisecond) }
	for _, c := range []struct {
		parts [][2]int
		want  int
	}{
		{nil, 0}, {[][2]int{{0, 5}, {7, 9}}, 7}, {[][2]int{{0, 5}, {5, 9}}, 9}, {[][2]int{{4, 5}, {7, 9}, {0, 10}}, 10},
		{[][2]int{{0, 1}, {3, 5}, {4, 9}, {8, 12}}, 10}, {[][2]int{{5, 5}}, 0}, {[][2]int{{0, 10}, {3, 10}}, 10},
	} {
		var b busy
		for _, p := range c.parts {
			b.add(part{at(p[0]), at(p[1])})
		}
		assert.Equal(t, time.Duration(c.want)*time.Millisecond, b.total(), "%v", c.parts)
	}
	var b busy
	for i := range 3 * mostParts {
		b.add(part{at(10 * i), at(10*i + 4)})
	}
	b.add(part{at(0), at(30 * mostParts)})
	assert.Len(t, b.parts, 1)
	assert.Equal(t, 4*2*mostParts+10*mostParts+6, int(b.total().Milliseconds()), "what is long ago is not filled up")
}

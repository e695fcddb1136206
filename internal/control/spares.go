package control

import (
	"context"
	"errors"
	"os"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"time"

	"hemzo/internal/copies"
	"hemzo/internal/engine"
)

// spares makes copies ahead of demand, in the background, and hands them out.
type spares struct {
	mu    sync.Mutex
	ready map[*source][]engine.Entry
	order map[*source]copies.Request // how to make more
	used  time.Time                  // when a copy was last asked for
	busy  func() bool                // reports whether the machine has enough to do already
	wake  chan struct{}
	stop  context.CancelFunc
	ended chan struct{}
}

func newSpares() *spares {
	ctx, stop := context.WithCancel(context.Background())
	s := &spares{ready: map[*source][]engine.Entry{}, order: map[*source]copies.Request{}, busy: busyMachine,
		wake: make(chan struct{}, 1), stop: stop, ended: make(chan struct{})}
	go s.fill(ctx)
	return s
}

// want has copies made ahead like the one that was just taken.
func (s *spares) want(source *source, r copies.Request) {
	if source.Spare == 0 {
		return
	}
	s.mu.Lock()
	r.Progress, r.Spare, r.ID, r.Name = nil, true, "", ""
	s.order[source] = r
	s.used = time.Now()
	s.mu.Unlock()
	s.poke()
}

func (s *spares) poke() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// pop hands out a copy that was made ahead, of the layer wanted: those of
// older sources are dropped.
func (s *spares) pop(ctx context.Context, source *source, fingerprint string) (e engine.Entry, ok bool) {
	s.mu.Lock()
	s.used = time.Now()
	var stale []engine.Entry
	for !ok && len(s.ready[source]) > 0 {
		e, s.ready[source] = s.ready[source][0], s.ready[source][1:]
		if ok = e.Facts.Fingerprint == fingerprint; !ok {
			stale = append(stale, e)
		}
	}
	s.mu.Unlock()
	for _, old := range stale {
		_ = source.Scoped.Drop(ctx, old, true)
	}
	if !ok {
		return e, false
	}
	s.poke()
	return e, true
}

// quiet is how long nobody must have asked for a copy before more are made.
const quiet = 50 * time.Millisecond

func (s *spares) fill(ctx context.Context) {
	defer close(s.ended)
	for {
		select {
		case <-ctx.Done():
			return
		case <-s.wake:
		}
		for s.one(ctx) {
		}
	}
}

// one makes one copy; false where there is enough.
func (s *spares) one(ctx context.Context) bool {
	s.mu.Lock()
	var source *source
	for x := range s.order {
		if len(s.ready[x]) < x.Spare {
			source = x
		}
	}
	r := s.order[source]
	since, busy := time.Since(s.used), s.busy
	s.mu.Unlock()
	if source == nil || ctx.Err() != nil || shortMemory() {
		return false
	}
	if since < quiet || busy() {
		select {
		case <-ctx.Done():
			return false
		case <-time.After(quiet):
		}
		return true
	}
	taken, err := source.Scoped.Take(ctx, r)
	if err != nil {
		// Without room, or without its template: no more are made.
		s.mu.Lock()
		delete(s.order, source)
		s.mu.Unlock()
		return true
	}
	s.mu.Lock()
	s.ready[source] = append(s.ready[source], taken.Copy)
	s.mu.Unlock()
	return true
}

// await waits a while until some of what is wanted is there.
func (s *spares) await(ctx context.Context, limit time.Duration) {
	for end := time.Now().Add(limit); time.Now().Before(end) && ctx.Err() == nil; time.Sleep(time.Millisecond) {
		s.mu.Lock()
		wanted, ready := len(s.order) > 0, false
		for _, all := range s.ready {
			ready = ready || len(all) > 0
		}
		s.mu.Unlock()
		if !wanted || ready {
			return
		}
	}
}

// giveUp drops what was made ahead, and makes no more; false where there was
// nothing.
func (s *spares) giveUp(ctx context.Context) bool {
	s.mu.Lock()
	ready := s.ready
	s.ready, s.order = map[*source][]engine.Entry{}, map[*source]copies.Request{}
	s.mu.Unlock()
	any := false
	for source, all := range ready {
		for _, e := range all {
			any = source.Scoped.Drop(ctx, e, true) == nil || any
		}
	}
	return any
}

// shortMemory reports whether less than a tenth of the machine's memory is
// free: copies of private servers are in it.
func shortMemory() bool {
	b, err := os.ReadFile("/proc/meminfo")
	if err != nil {
		return false
	}
	kilobytes := map[string]int64{}
	for line := range strings.Lines(string(b)) {
		if f := strings.Fields(line); len(f) > 1 {
			kilobytes[f[0]], _ = strconv.ParseInt(f[1], 10, 64)
		}
	}
	return kilobytes["MemAvailable:"]*10 < kilobytes["MemTotal:"]
}

// busyMachine reports whether more wants to run than there are processors for.
func busyMachine() bool {
	b, err := os.ReadFile("/proc/loadavg")
	if err != nil {
		return false
	}
	fields := strings.Fields(string(b))
	if len(fields) < 4 {
		return false
	}
	running, _, _ := strings.Cut(fields[3], "/")
	n, err := strconv.Atoi(running)
	return err == nil && n > 2*runtime.NumCPU()
}

// close ends the making and drops what was made.
func (s *spares) close(drop func(copies.ScopedServer, engine.Entry) error) error {
	s.stop()
	<-s.ended
	s.mu.Lock()
	defer s.mu.Unlock()
	var err error
	for source, all := range s.ready {
		for _, e := range all {
			err = errors.Join(err, drop(source.Scoped, e))
		}
	}
	s.ready = nil
	return err
}

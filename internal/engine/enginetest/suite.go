// Package enginetest holds what every engine has to do in every place where its
// servers can be. The oracle is the server's own programs: what they print of a
// copy after a reset is what they printed of it before.
package enginetest

import (
	"context"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/copies"
	"hemzo/internal/engine"
	"hemzo/internal/fault"
	"hemzo/internal/place"
)

// Subject is an engine in one place, and what the suite says to it.
type Subject struct {
	Engine engine.Engine
	Spec   engine.Spec
	Wanted place.Wanted // where its servers are
	Steps  []string     // scripts that build a start state, a layer each
	Broken string       // a script whose second line fails
	Work   []Work       // what tests do to a copy
	// Client runs a text on a copy as a test would, by the server's own program.
	Client func(t *testing.T, c engine.Connection, text string)
	// Dump is what the server's own program prints of a copy, without what is
	// another each time.
	Dump func(t *testing.T, c engine.Connection) string
	// Hold has a client of a copy stay connected until it is told to go; nil where
	// nobody can tell who is connected.
	Hold func(t *testing.T, c engine.Connection) (release func())
	// Shared are servers that others use too: what lost its owner stays a while.
	Shared bool
	// Commits are engines on which some statements commit by themselves: a gate refuses
	// them, or lets them through.
	Commits bool
	// Rewrites are engines that cannot compare some tables row by row, and write them anew.
	Rewrites bool
}

// Work is something that tests do.
type Work struct{ Name, Text string }

// Run runs the suite.
func Run(t *testing.T, s Subject) {
	k := &suite{Subject: s}
	k.server = k.openUntil(t, func(release func()) { k.close = release })
	t.Cleanup(func() { k.close() })
	for _, part := range []struct {
		name string
		run  func(*suite, *testing.T)
	}{
		{"layers", (*suite).layers}, {"copies", (*suite).copies}, {"broken steps", (*suite).brokenSteps},
		{"resets", (*suite).resets},
		{"ways", (*suite).ways}, {"rollback", (*suite).rollback},
		{"changes", (*suite).changes}, {"sessions", (*suite).sessions},
		{"snapshots", (*suite).snapshots}, {"owners", (*suite).owners}, {"names", (*suite).names},
		{"two at once", (*suite).twoAtOnce},
		{"callers that go", (*suite).callersThatGo}, {"what is left", (*suite).left},
	} {
		t.Run(part.name, func(t *testing.T) { part.run(k, t) })
	}
}

type suite struct {
	Subject
	server   engine.Server
	template string
	serial   int
	close    func() // of server, once
}

// open opens the servers as another process would.
func (k *suite) open(t *testing.T) engine.Server { return k.openUntil(t, t.Cleanup) }

func (k *suite) openUntil(t *testing.T, until func(func())) engine.Server {
	t.Helper()
	w := k.Wanted
	w.Database, w.Spec, w.Ready = "honey", k.Spec, time.Minute
	s, err := place.Open(t.Context(), k.Engine, w)
	require.NoError(t, err)
	until(sync.OnceFunc(func() { assert.NoError(t, s.Close()) }))
	return s
}

func (k *suite) facts(name string) engine.Facts {
	return engine.Facts{
		Format: engine.Format, Database: "honey", Engine: k.Engine.Name(), Name: name, Start: k.template,
		Fingerprint: strings.Repeat("0", 64),
		Scope:       engine.Scope{Machine: "hive", User: "keeper", Project: "/honey"},
		Made:        time.Now().UTC().Truncate(time.Second),
	}
}

func (k *suite) nextTemplate() string {
	k.serial++
	return engine.TemplateID(fmt.Sprintf("%012x", k.serial) + strings.Repeat("0", 52))
}

// take makes a copy of the template.
func (k *suite) take(t *testing.T, s engine.Server, name string) engine.Entry {
	t.Helper()
	id := engine.NewID(engine.Copy)
	require.NoError(t, s.Copy(t.Context(), k.template, id, k.facts(name)))
	return k.find(t, s, id)
}

func (k *suite) find(t *testing.T, s engine.Server, id string) engine.Entry {
	t.Helper()
	e, err := s.Find(t.Context(), id)
	require.NoError(t, err)
	return e
}

func (k *suite) connection(t *testing.T, e engine.Entry) engine.Connection {
	return k.server.Connection(e.ID, k.find(t, k.server, e.ID).Facts)
}

func (k *suite) dump(t *testing.T, e engine.Entry) string {
	t.Helper()
	return k.Dump(t, k.connection(t, e))
}

// reset puts a copy back to a state, as the reset of a command does.
func (k *suite) reset(t *testing.T, s engine.Server, e engine.Entry, to string) *engine.Report {
	t.Helper()
	return k.resetBy(t, s, e, to, "")
}

func (k *suite) resetBy(t *testing.T, s engine.Server, e engine.Entry, to string, way engine.Way) *engine.Report {
	t.Helper()
	now := k.find(t, s, e.ID)
	d, err := s.Open(t.Context(), e.ID, engine.Session{Wait: 5 * time.Second, Force: true})
	require.NoError(t, err)
	defer d.Close()
	r := engine.Reset{Way: way, Start: to, Last: now.Facts.BaselineState}
	if r.Last == "" {
		r.Last = now.Facts.Start
	}
	if to == r.Last {
		r.Baseline = now.Facts.Baseline
	}
	report, err := d.Reset(t.Context(), r)
	require.NoError(t, err)
	if report.Later != nil {
		base, err := report.Later(t.Context())
		require.NoError(t, err)
		if base != nil {
			report.Baseline = base
		}
	}
	require.NoError(t, s.UpdateFacts(t.Context(), e.ID,
		func(f *engine.Facts) { f.Baseline, f.BaselineState = report.Baseline, to }))
	return report
}

// createWork makes work that this test owns.
func (k *suite) createWork(t *testing.T) string {
	t.Helper()
	return CreateWork(t, k.server, k.Spec, k.facts(""))
}

// CreateWork makes work that a test owns: a guard drops what nobody owns within seconds.
func CreateWork(t testing.TB, s engine.Server, spec engine.Spec, facts engine.Facts) string {
	t.Helper()
	lock, release, err := s.Own(t.Context())
	require.NoError(t, err)
	t.Cleanup(release)
	id := engine.NewID(engine.Work)
	facts.Owner.Lock = lock
	require.NoError(t, s.Create(t.Context(), id, spec, facts))
	return id
}

// layers: a template is made from work, each layer kept below it, and none is
// seen before it is whole.
func (k *suite) layers(t *testing.T) {
	ctx, work := t.Context(), k.createWork(t)
	for i, text := range k.Steps {
		d, err := k.server.Open(ctx, work, engine.Session{})
		require.NoError(t, err)
		require.NoError(t, d.Apply(ctx, engine.Script{File: fmt.Sprint(i, ".sql"), Text: text, First: 1}))
		require.NoError(t, d.Close())
		k.template = k.nextTemplate()
		_, err = k.server.Find(ctx, k.template)
		require.ErrorIs(t, err, engine.ErrNotFound)
		if i < len(k.Steps)-1 {
			require.NoError(t, k.server.Copy(ctx, work, k.template, k.facts("")))
		} else {
			require.NoError(t, k.server.Rename(ctx, work, k.template, k.facts("")))
		}
		e := k.find(t, k.server, k.template)
		intact, err := k.server.IsIntact(ctx, e)
		require.NoError(t, err)
		assert.True(t, intact)
		assert.Equal(t, engine.Template, e.Kind)
	}
	_, err := k.server.Find(ctx, work)
	require.ErrorIs(t, err, engine.ErrNotFound, "it has become the template")
}

// copies: two never meet, and are alike at first; a copy of a copy has what that
// had.
func (k *suite) copies(t *testing.T) {
	a, b := k.take(t, k.server, "a"), k.take(t, k.server, "b")
	start := k.dump(t, a)
	assert.NotEmpty(t, start)
	assert.Equal(t, start, k.dump(t, b))
	k.Client(t, k.connection(t, a), k.Work[0].Text)
	assert.NotEqual(t, start, k.dump(t, a), "the first work changes something")
	assert.Equal(t, start, k.dump(t, b))
	other := engine.NewID(engine.Copy)
	require.NoError(t, k.server.Copy(t.Context(), a.ID, other, k.facts("c")))
	assert.Equal(t, k.dump(t, a), k.Dump(t, k.connection(t, engine.Entry{ID: other})))
	for _, id := range []string{a.ID, b.ID, other} {
		require.NoError(t, k.server.Drop(t.Context(), id))
		require.NoError(t, k.server.Drop(t.Context(), id), "what is not there is no error")
		_, err := k.server.Find(t.Context(), id)
		assert.True(t, err != nil || k.server.Connection(id, engine.Facts{}).File != "", "it is gone")
	}
}

// brokenSteps: an error names the file and the line, and nothing is made of it.
func (k *suite) brokenSteps(t *testing.T) {
	ctx, work := t.Context(), k.createWork(t)
	d, err := k.server.Open(ctx, work, engine.Session{})
	require.NoError(t, err)
	err = d.Apply(ctx, engine.Script{File: "broken.sql", Text: k.Broken, First: 7})
	require.NoError(t, d.Close())
	assert.Equal(t, fault.StepFailed, fault.KindOf(err))
	assert.ErrorContains(t, err, "broken.sql:8:")
	require.NoError(t, k.server.Drop(ctx, work))
	require.ErrorIs(t, k.server.Copy(ctx, k.nextTemplate(), engine.NewID(engine.Copy), k.facts("x")),
		engine.ErrNotFound)
}

// resets: whatever tests did, the server's own program prints what it printed
// before, for the copy that another process has opened too.
func (k *suite) resets(t *testing.T) {
	e := k.take(t, k.server, "reset")
	start := k.dump(t, e)
	other := k.open(t)
	for i, w := range k.Work {
		k.Client(t, k.connection(t, e), w.Text)
		k.reset(t, []engine.Server{k.server, other}[i%2], e, k.template)
		assert.Equal(t, start, k.dump(t, e), w.Name)
	}
	var all []string // one after another, without a reset between them, in the other order
	for _, w := range k.Work {
		all = append([]string{w.Text}, all...)
	}
	for _, text := range all {
		k.Client(t, k.connection(t, e), text)
	}
	k.reset(t, k.server, e, k.template)
	assert.Equal(t, start, k.dump(t, e), "all of it")
	r := k.reset(t, k.server, e, k.template)
	assert.True(t, k.Rewrites || r.Way == "" || len(r.Differing()) == 0, "nothing was touched: %v", r)
	require.NoError(t, k.server.Drop(t.Context(), e.ID))
}

// ways: each way that an engine knows is as exact, and one that it does not know
// is refused and changes nothing.
func (k *suite) ways(t *testing.T) {
	e := k.take(t, k.server, "ways")
	start := k.dump(t, e)
	for _, way := range []engine.Way{engine.Snapshot, engine.Truncation} {
		for _, w := range k.Work[:2] {
			k.Client(t, k.connection(t, e), w.Text)
			r := k.resetBy(t, k.server, e, k.template, way)
			assert.Equal(t, start, k.dump(t, e), "%s by %s", w.Name, way)
			assert.Contains(t, []engine.Way{way, "", engine.Snapshot}, r.Way)
		}
	}
	k.Client(t, k.connection(t, e), k.Work[0].Text)
	changed := k.dump(t, e)
	d, err := k.server.Open(t.Context(), e.ID, engine.Session{})
	require.NoError(t, err)
	defer d.Close()
	if k.Engine.Hosting().Gate == nil {
		_, err = d.Reset(t.Context(), engine.Reset{Way: engine.Rollback, Start: k.template})
		assert.Error(t, err, "rollback takes a gate")
		assert.Equal(t, changed, k.dump(t, e))
	}
	require.NoError(t, k.server.Drop(t.Context(), e.ID))
}

// rollback: whatever clients did through a gate, a reset takes it back.
func (k *suite) rollback(t *testing.T) {
	open := k.Engine.Hosting().Gate
	if open == nil {
		return
	}
	k.rollsBack(t, open, false)
	if k.Commits {
		k.rollsBack(t, open, true)
	}
}

func (k *suite) rollsBack(t *testing.T, open gateOpener, commits bool) {
	e := k.take(t, k.server, "rollback")
	start := k.dump(t, e)
	gate, err := open(t.Context(), place.Inner(k.server), e.ID, k.connection(t, e),
		engine.Session{Wait: time.Second, Commits: commits})
	require.NoError(t, err)
	at, release := Serve(t, gate)
	c := k.connection(t, e)
	c.URL, c.Socket = strings.Replace(c.URL, c.Host+":"+c.Port, at, 1), ""
	c.Host, c.Port, err = net.SplitHostPort(at)
	require.NoError(t, err)
	rolledBack := 0
	for _, w := range k.Work {
		k.Client(t, c, w.Text)
		r, err := gate.Reset(t.Context(), engine.Session{Wait: time.Second})
		require.NoError(t, err)
		if r.Way == engine.Rollback {
			rolledBack++
		} else {
			assert.True(t, k.Commits, "%s by %s", w.Name, r.Way) // it is refused, or has escaped
		}
		require.NoError(t, gate.Commit(t.Context(), false), "nothing was done: it waits until all is put back")
		assert.Equal(t, start, k.dump(t, e), w.Name)
	}
	assert.Greater(t, rolledBack, len(k.Work)/3)
	k.Client(t, c, k.Work[0].Text)
	release()
	require.NoError(t, gate.Close())
	assert.Equal(t, start, k.dump(t, e), "what nobody reset goes with the gate")
	require.NoError(t, k.server.Drop(t.Context(), e.ID))
}

// gateOpener opens the gate of a copy.
type gateOpener = func(context.Context, engine.Server, string, engine.Connection, engine.Session) (engine.Gate, error)

// Serve has a gate take the connections to an address, until they are released.
func Serve(t testing.TB, gate engine.Gate) (at string, release func()) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	var all sync.WaitGroup
	all.Go(func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			all.Go(func() {
				defer conn.Close()
				defer context.AfterFunc(ctx, func() { conn.Close() })()
				assert.NoError(t, gate.ServeConn(ctx, conn))
			})
		}
	})
	return l.Addr().String(), func() { stop(); l.Close(); all.Wait() }
}

// changes: what tests did is told, and nothing where nobody did anything.
func (k *suite) changes(t *testing.T) {
	e := k.take(t, k.server, "changes")
	defer func() { require.NoError(t, k.server.Drop(t.Context(), e.ID)) }()
	ask := func() (*engine.Changes, error) {
		d, err := k.server.Open(t.Context(), e.ID, engine.Session{})
		require.NoError(t, err)
		defer d.Close()
		f := k.find(t, k.server, e.ID).Facts
		return d.Changes(t.Context(), engine.Compare{Start: f.Start, Baseline: f.Baseline, Last: f.Start, Rows: 5})
	}
	count := func(c *engine.Changes) int { return len(c.Tables) + len(c.Sequences) + len(c.Schema) }
	none, err := ask()
	if fault.KindOf(err) == fault.Usage && err != nil {
		return // what such a system holds cannot be compared
	}
	require.NoError(t, err)
	assert.Zero(t, count(none))
	for _, w := range k.Work {
		k.Client(t, k.connection(t, e), w.Text)
	}
	some, err := ask()
	require.NoError(t, err)
	assert.NotZero(t, count(some))
	k.reset(t, k.server, e, k.template)
	none, err = ask()
	require.NoError(t, err)
	assert.Zero(t, count(none), "%+v", none)
}

// sessions: who is connected is told, and Hemzo itself is nobody.
func (k *suite) sessions(t *testing.T) {
	e := k.take(t, k.server, "sessions")
	clients := func() []engine.Client {
		all, err := k.server.Clients(t.Context(), e.ID)
		require.NoError(t, err)
		return all
	}
	d, err := k.server.Open(t.Context(), e.ID, engine.Session{})
	require.NoError(t, err)
	defer d.Close()
	_, err = d.Contents(t.Context(), false)
	require.NoError(t, err)
	require.Eventually(t, func() bool { return len(clients()) == 0 }, time.Minute, time.Millisecond)
	came, err := k.server.Watch(t.Context(), e.ID)
	require.NoError(t, err)
	k.Client(t, k.connection(t, e), k.Work[0].Text)
	who, err := came(time.Minute)
	require.NoError(t, err)
	assert.Equal(t, engine.Somebody, who, "a client was there")
	if k.Hold != nil {
		release := k.Hold(t, k.connection(t, e))
		require.Eventually(t, func() bool { return len(clients()) == 1 }, time.Minute, time.Millisecond)
		release()
		require.Eventually(t, func() bool { return len(clients()) == 0 }, time.Minute, time.Millisecond)
	}
	require.NoError(t, d.Close())
	require.NoError(t, k.server.Drop(t.Context(), e.ID))
}

// snapshots: a copy goes back to a state that was kept, and from there to its
// start.
func (k *suite) snapshots(t *testing.T) {
	e := k.take(t, k.server, "snapshot")
	start := k.dump(t, e)
	k.Client(t, k.connection(t, e), k.Work[0].Text)
	kept := k.dump(t, e)
	id := engine.NewID(engine.Kept)
	facts := k.facts("before the harvest")
	facts.Of = e.ID
	d, err := k.server.Open(t.Context(), e.ID, engine.Session{Wait: 5 * time.Second, Force: true})
	require.NoError(t, err)
	_, err = d.Snapshot(t.Context(), id, facts)
	require.NoError(t, err)
	require.NoError(t, d.Close())
	require.NoError(t, k.server.UpdateFacts(t.Context(), e.ID, func(f *engine.Facts) { f.Baseline = nil }))
	for range 2 {
		k.Client(t, k.connection(t, e), k.Work[len(k.Work)-1].Text)
		k.reset(t, k.server, e, id)
		assert.Equal(t, kept, k.dump(t, e))
		k.reset(t, k.server, e, k.template)
		assert.Equal(t, start, k.dump(t, e))
	}
	require.NoError(t, k.server.Drop(t.Context(), id))
	require.NoError(t, k.server.Drop(t.Context(), e.ID))
}

// owners: a copy stays as long as its owner lives, and goes with it.
func (k *suite) owners(t *testing.T) {
	ctx, other := t.Context(), k.open(t)
	lock, release, err := other.Own(ctx)
	require.NoError(t, err)
	assert.True(t, k.server.Owned(ctx, lock))
	e := k.take(t, k.server, "owned")
	require.NoError(t, k.server.UpdateFacts(ctx, e.ID, func(f *engine.Facts) { f.Owner.Lock = lock }))
	assert.True(t, place.OwnerAlive(ctx, k.server, k.find(t, k.server, e.ID).Facts.Owner))
	assert.True(t, copies.SweepGuarded(ctx, k.server), "it is needed")
	k.find(t, k.server, e.ID)
	release()
	require.Eventually(t, func() bool { return !k.server.Owned(ctx, lock) }, time.Minute, time.Millisecond)
	_ = copies.SweepGuarded(ctx, k.server)
	if k.Shared {
		assert.False(t, k.find(t, k.server, e.ID).Facts.Lost.IsZero(), "looked at once")
		k.abandoned(t, e)
	}
	_, err = k.server.Find(ctx, e.ID)
	assert.ErrorIs(t, err, engine.ErrNotFound)
}

// abandoned: a copy without an owner stays while a client is connected to it, as a machine
// without power seems to be for hours, but not for ever.
func (k *suite) abandoned(t *testing.T, e engine.Entry) {
	ctx, release := t.Context(), func() {}
	if k.Hold != nil {
		release = k.Hold(t, k.connection(t, e))
		var all []engine.Client
		var err error
		if !assert.Eventually(t, func() bool {
			all, err = k.server.Clients(ctx, e.ID)
			return err == nil && len(all) == 1
		}, time.Minute, time.Millisecond) {
			t.Fatalf("instead of one client: %+v, %v", all, err)
		}
	}
	defer func() { release() }()
	sweep := func(lost time.Duration) (there bool) {
		require.NoError(t, k.server.UpdateFacts(ctx, e.ID, func(f *engine.Facts) { f.Lost = time.Now().Add(-lost) }))
		_, err := copies.ScopedServer{Server: k.server}.Sweep(ctx, 0, false)
		require.NoError(t, err)
		_, err = k.server.Find(ctx, e.ID)
		return err == nil
	}
	assert.True(t, sweep(time.Minute), "it may come back")
	if k.Hold != nil {
		assert.True(t, sweep(44*time.Minute))
	}
	assert.False(t, sweep(46*time.Minute))
}

// names: what does not bear the mark is nobody's to drop, and names are told
// back as they were given.
func (k *suite) names(t *testing.T) {
	for _, id := range []string{"shop", "hemzo_x_0123456789ab", "hemzo_c_", "hemzo_c_0123456789'",
		"../hemzo_c_0123456789"} {
		assert.Equal(t, fault.Refused, fault.KindOf(k.server.Drop(t.Context(), id)), id)
		_, err := k.server.Find(t.Context(), id)
		assert.ErrorIs(t, err, engine.ErrNotFound, id)
	}
	const name = `the keeper's "bees"; \ --`
	e := k.take(t, k.server, name)
	assert.Equal(t, name, k.find(t, k.open(t), e.ID).Facts.Name)
	require.NoError(t, k.server.Drop(t.Context(), e.ID))
}

// twoAtOnce: takers, droppers and noters of several processes do not disturb
// each other, and who waits for a lock gets it.
func (k *suite) twoAtOnce(t *testing.T) {
	servers := []engine.Server{k.server, k.open(t)}
	shared := k.take(t, k.server, "shared")
	var all sync.WaitGroup
	var inside, crowded atomic.Int32
	for i := range 4 {
		s := servers[i%2]
		all.Go(func() {
			e := k.take(t, s, fmt.Sprint("taker ", i))
			unlock, err := s.Lock(t.Context(), "harvest", nil)
			if assert.NoError(t, err) {
				if inside.Add(1) > 1 {
					crowded.Add(1)
				}
				inside.Add(-1)
				unlock()
			}
			assert.NoError(t, s.UpdateFacts(t.Context(), shared.ID, func(f *engine.Facts) { f.Layer++ }))
			assert.NoError(t, s.Drop(t.Context(), e.ID))
		})
	}
	all.Wait()
	// One copy that two put back at once is put back, and neither fails.
	start := k.dump(t, shared)
	for range 3 {
		k.Client(t, k.connection(t, shared), k.Work[0].Text)
		for _, s := range servers {
			all.Go(func() { k.reset(t, s, shared, k.template) })
		}
		all.Wait()
		assert.Equal(t, start, k.dump(t, shared))
	}
	assert.Zero(t, crowded.Load(), "two had the lock")
	assert.Equal(t, 4, k.find(t, k.server, shared.ID).Facts.Layer)
	require.NoError(t, k.server.Drop(t.Context(), shared.ID))
}

// callersThatGo: a caller that has gone leaves nothing half made.
func (k *suite) callersThatGo(t *testing.T) {
	before, err := k.server.List(t.Context())
	require.NoError(t, err)
	ctx, stop := context.WithCancel(t.Context())
	stop()
	id := engine.NewID(engine.Copy)
	assert.Error(t, k.server.Copy(ctx, k.template, id, k.facts("never")))
	unlock, err := k.server.Lock(t.Context(), "gone", nil)
	require.NoError(t, err)
	waiting, stop := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer stop()
	_, err = k.server.Lock(waiting, "gone", nil)
	assert.ErrorIs(t, err, context.DeadlineExceeded)
	unlock()
	after, err := k.server.List(t.Context())
	require.NoError(t, err)
	assert.Len(t, after, len(before))
}

// left: what is dropped is gone, for all who look, and what was made beforehand
// goes with who made it.
func (k *suite) left(t *testing.T) {
	s := k.open(t)
	k.close()
	require.Eventually(t, func() bool {
		_ = copies.SweepGuarded(t.Context(), s)
		all, err := s.List(t.Context())
		return err == nil && !slices.ContainsFunc(all, func(e engine.Entry) bool { return e.Kind == engine.Work })
	}, time.Minute, 10*time.Millisecond)
	all, err := s.List(t.Context())
	require.NoError(t, err)
	for _, e := range all {
		assert.Contains(t, []engine.Kind{engine.Template, engine.Reference}, e.Kind, "%s %s", e.ID, e.Facts.Name)
		require.NoError(t, s.Drop(t.Context(), e.ID))
	}
	all, err = s.List(t.Context())
	require.NoError(t, err)
	assert.Empty(t, all)
	// The guard may be there for a moment.
	assert.Eventually(t, func() bool { return k.Shared || !copies.SweepGuarded(t.Context(), s) }, time.Minute,
		10*time.Millisecond, "nobody needs the server")
}

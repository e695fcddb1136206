package copies

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
	"hemzo/internal/engine/sqlite"
	"hemzo/internal/fault"
	"hemzo/internal/place"
	"hemzo/internal/project"
	"hemzo/internal/template"
)

var ctx = context.Background()

// scoped returns a server of its own.
func scoped(t *testing.T) ScopedServer {
	t.Helper()
	server, err := sqlite.Engine{}.Hosting().Embedded(ctx, filepath.Join(t.TempDir(), "sqlite"), engine.Spec{})
	require.NoError(t, err)
	t.Cleanup(func() { server.Close() })
	return ScopedServer{Server: server}
}

// plan writes a project of n migrations and returns its plan and its scoped.
func plan(t *testing.T, s ScopedServer, n int, keys string) (*template.Plan, ScopedServer) {
	t.Helper()
	root := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(root, "m"), 0o755))
	for i := range n {
		text := fmt.Sprintf("CREATE TABLE hive_%d (id INTEGER PRIMARY KEY);", i)
		require.NoError(t, os.WriteFile(filepath.Join(root, "m", fmt.Sprintf("%d.sql", i)), []byte(text), 0o644))
	}
	file := filepath.Join(root, "hemzo.yaml")
	require.NoError(t, os.WriteFile(file,
		[]byte("databases: { apiary: { engine: sqlite, from: [ { migrations: m } ]"+keys+" } }"), 0o644))
	p, err := project.Read(file, "", os.LookupEnv)
	require.NoError(t, err)
	s.Scope = ScopeOf(p.Root)
	read, err := template.Read(ctx, p, &p.Databases[0], sqlite.Engine{}, s.Scope)
	require.NoError(t, err)
	return read, s
}

func kinds(t *testing.T, s ScopedServer) map[engine.Kind]int {
	t.Helper()
	all, err := s.Server.List(ctx)
	require.NoError(t, err)
	n := map[engine.Kind]int{}
	for _, e := range all {
		n[e.Kind]++
	}
	return n
}

func TestLayersKept(t *testing.T) {
	for _, c := range []struct {
		keys  string
		steps int
		want  int
	}{
		{"", 10, 10}, {"", 200, 52}, {", limits: { layers: 0 }", 10, 1}, {", limits: { layers: 4 }", 20, 6},
	} {
		p, s := plan(t, scoped(t), c.steps, c.keys)
		result, err := p.Build(ctx, s.Server, p.Head(), nil)
		require.NoError(t, err)
		assert.Len(t, result.Applied, c.steps)
		assert.Equal(t, c.want, kinds(t, s)[engine.Template], "%d steps%s", c.steps, c.keys)
		states, err := p.Look(ctx, s.Server)
		require.NoError(t, err)
		for _, st := range states {
			assert.True(t, st.Ready)
			assert.Positive(t, st.Took, st.Name)
		}
		taken, err := s.Take(ctx, Request{Plan: p, Layer: c.steps - 1})
		require.NoError(t, err)
		assert.Len(t, taken.Copy.Facts.Steps, c.steps-1, "a copy names all its steps")
	}
}

func TestTwoProjectsShareTemplatesAndNoCopies(t *testing.T) {
	server := scoped(t)
	one, a := plan(t, server, 2, "")
	two, b := plan(t, server, 2, "")
	first, err := a.Take(ctx, Request{Plan: one, Layer: 2, Name: "editor"})
	require.NoError(t, err)
	second, err := b.Take(ctx, Request{Plan: two, Layer: 2, Name: "editor"})
	require.NoError(t, err, "each project may have a copy of that name")
	assert.Empty(t, second.Build.Applied)
	assert.NotEqual(t, first.Copy.ID, second.Copy.ID)
	found, err := a.Find(ctx, "editor")
	require.NoError(t, err)
	assert.Equal(t, first.Copy.ID, found.ID)
	byAddress, err := a.Find(ctx, b.Server.Connection(second.Copy.ID, second.Copy.Facts).URL)
	require.NoError(t, err)
	assert.Equal(t, second.Copy.ID, byAddress.ID)
	_, err = a.Find(ctx, "/etc/passwd")
	assert.Equal(t, fault.Refused, fault.KindOf(err))
}

func TestOwners(t *testing.T) {
	p, s := plan(t, scoped(t), 1, "")
	sleep := exec.Command("sleep", "100")
	require.NoError(t, sleep.Start())
	other, ok := place.Running(sleep.Process.Pid)
	require.True(t, ok)
	lock, release, err := s.Server.Own(ctx)
	require.NoError(t, err)
	owners := map[string]engine.Owner{
		"nobody": {}, "lock": {Lock: lock}, "process": {Process: other}, "child": {Lock: "owner-gone", Child: other},
		"past": {Until: time.Now().Add(-time.Second)}, "future": {Until: time.Now().Add(time.Hour)},
		"gone":   {Lock: "owner-gone"},
		"either": {Process: other, Until: time.Now().Add(-time.Second)},
	}
	for name, o := range owners {
		_, err := s.Take(ctx, Request{Plan: p, Layer: 1, Name: name, Owner: o})
		require.NoError(t, err)
	}
	there := func() map[string]bool {
		_, err := s.Sweep(ctx, 0, false)
		require.NoError(t, err)
		all, err := s.Copies(ctx)
		require.NoError(t, err)
		out := map[string]bool{}
		for _, e := range all {
			out[e.Facts.Name] = true
		}
		return out
	}
	assert.Equal(t, map[string]bool{"nobody": true, "lock": true, "process": true, "child": true, "future": true},
		there())
	e, err := s.Find(ctx, "process")
	require.NoError(t, err)
	assert.Equal(t, fault.Refused, fault.KindOf(s.Drop(ctx, e, false)))
	require.NoError(t, sleep.Process.Kill())
	_ = sleep.Wait()
	release()
	assert.Equal(t, map[string]bool{"nobody": true, "future": true}, there())
}

func TestSweepClears(t *testing.T) {
	p, s := plan(t, scoped(t), 3, "")
	taken, err := s.Take(ctx, Request{Plan: p, Layer: 3})
	require.NoError(t, err)
	folder := s.Server.About().Address
	dead := filepath.Join(folder, "hemzo_w_0123456789ab.db")
	require.NoError(t, os.WriteFile(dead, []byte("half a file"), 0o600))
	kept := filepath.Join(folder, "hemzo_s_0123456789.db")
	require.NoError(t, s.Server.Copy(ctx, taken.Copy.Facts.Start, "hemzo_s_0123456789",
		engine.Facts{Format: engine.Format, Of: "hemzo_c_0000000000"}))
	own := filepath.Join(folder, "own.db")
	require.NoError(t, os.WriteFile(own, []byte("not Hemzo's"), 0o600))
	newer := filepath.Join(folder, "hemzo_c_ffffffffff.json")
	require.NoError(t, os.WriteFile(newer, []byte(`{"format": 99, "owner": {"lock": "owner-gone"}}`), 0o600))
	gone, err := s.Sweep(ctx, 1, false)
	require.NoError(t, err)
	assert.NoFileExists(t, dead)
	assert.NoFileExists(t, kept, "a snapshot whose copy is gone")
	assert.FileExists(t, own)
	assert.FileExists(t, newer, "facts of a newer format are left alone")
	assert.Len(t, gone, 3, "two layers and the snapshot; the start state of a copy stays")
	assert.Equal(t, 1, kinds(t, s)[engine.Template])
	assert.Error(t, s.Server.Drop(ctx, "own"))
}

// TestSideBySide: takes, sweeps and drops at once in many goroutines over
// several servers on one folder, as several processes would do them.
func TestSideBySide(t *testing.T) {
	first := scoped(t)
	p, _ := plan(t, first, 12, "")
	var wg sync.WaitGroup
	for range 8 {
		server, err := sqlite.Engine{}.Hosting().Embedded(ctx, first.Server.About().Address, engine.Spec{})
		require.NoError(t, err)
		s := ScopedServer{Server: server, Scope: p.Scope}
		wg.Go(func() {
			defer server.Close()
			for i := range 12 {
				taken, err := s.Take(ctx, Request{Plan: p, Layer: p.Head() - i%3})
				if !assert.NoError(t, err) {
					return
				}
				_, err = s.Sweep(ctx, 0, false)
				assert.NoError(t, err)
				assert.NoError(t, s.Drop(ctx, taken.Copy, false))
			}
		})
	}
	wg.Wait()
	assert.Equal(t, map[engine.Kind]int{engine.Template: 12}, kinds(t, first))
}

func TestNames(t *testing.T) {
	for _, name := range []string{"", "a/b", "-a", ".", "a b", "é", string(make([]byte, 300))} {
		assert.Error(t, CheckName(name), name)
	}
	for _, name := range []string{"a", "editor-1", "A.b_c", "7"} {
		assert.NoError(t, CheckName(name), name)
	}
	p, _ := plan(t, scoped(t), 12, "")
	for name, want := range map[string]int{"0.sql": 1, "0": 1, "3": 4, "11.sql": 12, "10": 11} {
		got, err := p.Layer(name)
		require.NoError(t, err)
		assert.Equal(t, want, got, name)
	}
}

// TestSweptMeanwhile: a template that was found unused stays where a copy was made
// from it since; and whoever meets the mark of a sweep that was killed goes on.
func TestSweptMeanwhile(t *testing.T) {
	p, s := plan(t, scoped(t), 1, "")
	taken, err := s.Take(ctx, Request{Plan: p, Layer: 1})
	require.NoError(t, err)
	template, err := s.Server.Find(ctx, taken.Copy.Facts.Start)
	require.NoError(t, err)
	gone, err := s.sweepTemplates(ctx, []engine.Entry{template}, nil)
	require.NoError(t, err)
	assert.Empty(t, gone)
	template, err = s.Server.Find(ctx, template.ID)
	require.NoError(t, err)
	assert.False(t, template.Facts.Swept)

	require.NoError(t, s.Server.UpdateFacts(ctx, template.ID, func(f *engine.Facts) { f.Swept = true }))
	_, err = s.Take(ctx, Request{Plan: p, Layer: 1})
	require.NoError(t, err)
	template, err = s.Server.Find(ctx, template.ID)
	require.NoError(t, err)
	assert.False(t, template.Facts.Swept)
	assert.Equal(t, 2, kinds(t, s)[engine.Copy], "the one that was made from it while it was marked is gone")

	require.NoError(t, s.Server.Drop(ctx, taken.Copy.ID))
	all, err := s.Copies(ctx)
	require.NoError(t, err)
	require.NoError(t, s.Server.Drop(ctx, all[0].ID))
	gone, err = s.Sweep(ctx, 1, false)
	require.NoError(t, err)
	assert.NotEmpty(t, gone)
	assert.Zero(t, kinds(t, s)[engine.Template])
}

// elsewhere is a server that other machines use too, whose clock is not this machine's.
type elsewhere struct {
	engine.Server
	ahead time.Duration
}

func (s elsewhere) Shared(context.Context) (time.Time, bool, error) {
	return time.Now().UTC().Add(s.ahead), true, nil
}

// TestClocks: machines whose clocks differ from each other's, and from the server's, agree on when
// a copy goes; a process of another machine is not taken for dead.
func TestClocks(t *testing.T) {
	p, s := plan(t, scoped(t), 1, "")
	for _, ahead := range []time.Duration{-20 * time.Minute, 0, 20 * time.Minute} {
		s := ScopedServer{Server: elsewhere{s.Server, ahead}, Scope: s.Scope}
		take := func(o engine.Owner) engine.Entry {
			taken, err := s.Take(ctx, Request{Plan: p, Layer: 1, Owner: o})
			require.NoError(t, err)
			return taken.Copy
		}
		left := func(e engine.Entry) time.Duration {
			return e.Facts.Owner.Until.Sub(place.Now(ctx, s.Server)).Round(time.Minute)
		}
		short := take(engine.Owner{Until: time.Now().Add(10 * time.Minute)})
		assert.Equal(t, 10*time.Minute, left(short), "%v", ahead)
		assert.False(t, place.OwnerLost(ctx, s.Server, short.Facts.Owner))
		over := ScopedServer{Server: elsewhere{s.Server, ahead + 11*time.Minute}}
		assert.True(t, place.OwnerLost(ctx, over.Server, short.Facts.Owner), "its time is over")

		dead := engine.Process{PID: 1 << 22, Started: "never"}
		far := take(engine.Owner{Process: dead, Machine: "another-machine"})
		assert.Equal(t, 24*time.Hour, left(far))
		assert.False(t, place.OwnerLost(ctx, s.Server, far.Facts.Owner), "nobody here can tell")
		near := take(engine.Owner{Process: dead, Machine: place.Machine()})
		assert.True(t, place.OwnerLost(ctx, s.Server, near.Facts.Owner))
	}
}

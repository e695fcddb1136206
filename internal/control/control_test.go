package control

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/copies"
	"hemzo/internal/engine"
	"hemzo/internal/engine/sqlite"
	"hemzo/internal/project"
	"hemzo/internal/template"
)

// suite is a Control with an endpoint, on a project in a folder of its own.
type suite struct {
	*testing.T
	*Control
	root   string
	server engine.Server
	at     string
	socket string
}

func begin(t *testing.T) *suite {
	t.Helper()
	s := &suite{T: t, root: t.TempDir()}
	s.put("hemzo.yaml", "databases: { apiary: { engine: sqlite, from: [ { migrations: m } ] } }")
	s.put("m/1.sql", "CREATE TABLE hive (label TEXT); INSERT INTO hive VALUES ('first')")
	server, err := sqlite.Engine{}.Hosting().Embedded(t.Context(), filepath.Join(t.TempDir(), "sqlite"), engine.Spec{})
	require.NoError(t, err)
	s.server = server
	lock, _, err := server.Own(t.Context())
	require.NoError(t, err)
	s.Control = New([]Source{{
		Name: "apiary", Spare: 2, Wait: time.Second,
		Open: func(context.Context) (copies.ScopedServer, engine.Owner, error) {
			return copies.ScopedServer{Server: server, Scope: engine.Scope{Project: s.root}}, engine.Owner{Lock: lock},
				nil
		},
		Plan: func(ctx context.Context) (*template.Plan, error) {
			p, err := project.Read(filepath.Join(s.root, "hemzo.yaml"), "", os.LookupEnv)
			if err != nil {
				return nil, err
			}
			return template.Read(ctx, p, &p.Databases[0], sqlite.Engine{}, engine.Scope{Project: s.root})
		},
		Layer: func(p *template.Plan) (int, error) { return p.Head(), nil },
	}})
	s.spares.mu.Lock()
	s.spares.busy = func() bool { return false } // whatever else runs here
	s.spares.mu.Unlock()
	socket, err := Socket(filepath.Join(t.TempDir(), "s"))
	require.NoError(t, err)
	e, err := Listen(s.Control, "127.0.0.1:0", socket, "", func(all []*Copy, form string) (string, error) {
		return form + " " + all[0].Entry().Facts.Name, nil
	})
	require.NoError(t, err)
	s.at, s.socket = e.URL, socket
	t.Cleanup(func() {
		assert.NoError(t, e.Close())
		assert.NoError(t, s.Close(context.Background(),
			func(s copies.ScopedServer, e engine.Entry) error { return s.Drop(context.Background(), e, true) }, nil))
		left, err := server.List(context.Background())
		assert.NoError(t, err)
		for _, e := range left {
			assert.True(t, e.Kind != engine.Copy || e.Facts.Held, "%s %s is left", e.Kind, e.Facts.Name)
		}
		assert.NoError(t, server.Close())
	})
	return s
}

func (s *suite) put(name, text string) {
	path := filepath.Join(s.root, name)
	require.NoError(s, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(s, os.WriteFile(path, []byte(text), 0o644))
}

// ask sends a request and returns the status and the answer.
func (s *suite) ask(method, path string) (int, string) {
	s.Helper()
	r, err := http.NewRequest(method, s.at+path, nil)
	require.NoError(s, err)
	response, err := http.DefaultClient.Do(r)
	require.NoError(s, err)
	defer response.Body.Close()
	b, err := io.ReadAll(response.Body)
	require.NoError(s, err)
	return response.StatusCode, string(b)
}

// sql runs SQL on a worker's copy.
func (s *suite) sql(worker, text string) (rows [][]any) {
	s.Helper()
	set, err := s.Find(s.Context(), worker)
	require.NoError(s, err)
	d, err := s.server.Open(s.Context(), set.Copies()[0].Entry().ID, engine.Session{Wait: time.Second})
	require.NoError(s, err)
	defer d.Close()
	require.NoError(s, d.Query(s.Context(), text,
		engine.Sink{Row: func(r []any) error { rows = append(rows, r); return nil }}))
	return rows
}

func TestRequests(t *testing.T) {
	s := begin(t)
	code, said := s.ask("GET", "/")
	assert.Equal(t, 200, code)
	assert.Contains(t, said, `"database":"apiary"`)
	assert.Contains(t, said, `"url":"sqlite://`)

	s.sql("", "INSERT INTO hive VALUES ('second')")
	code, said = s.ask("GET", "/changes?rows=5")
	assert.Equal(t, 200, code)
	assert.Contains(t, said, `"added":1`)
	code, _ = s.ask("POST", "/snapshot?as=two")
	assert.Equal(t, 200, code)
	code, said = s.ask("POST", "/reset")
	assert.Equal(t, 200, code)
	assert.Contains(t, said, `"tables":[{"name":"hive"`)
	assert.Equal(t, [][]any{{int64(1)}}, s.sql("", "SELECT count(*) FROM hive"))
	code, said = s.ask("POST", "/reset")
	assert.Equal(t, 200, code)
	assert.Contains(t, said, `"way":""`, "nothing was touched since")
	code, _ = s.ask("POST", "/reset?to=two")
	assert.Equal(t, 200, code)
	assert.Equal(t, [][]any{{int64(2)}}, s.sql("", "SELECT count(*) FROM hive"))

	// Set aside as it is, fresh in its place, at the same address.
	set, err := s.Only(t.Context())
	require.NoError(t, err)
	before := set.Copies()[0].Entry().ID
	code, said = s.ask("POST", "/hold?as=broken")
	assert.Equal(t, 200, code, said)
	assert.Equal(t, [][]any{{int64(1)}}, s.sql("", "SELECT count(*) FROM hive"))
	assert.Equal(t, before, set.Copies()[0].Entry().ID)
	all, err := s.sources[0].Scoped.Copies(t.Context())
	require.NoError(t, err)
	var held []string
	for _, e := range all {
		if e.Facts.Held {
			held = append(held, e.Facts.Name)
		}
	}
	assert.Equal(t, []string{"broken"}, held)

	code, said = s.ask("GET", "/connection?form=env")
	assert.Equal(t, 200, code)
	assert.Regexp(t, "^env apiary-", said)

	// Copies by name, beside the sets: again the same one, or a new one where
	// the sources changed.
	_, one := s.ask("POST", "/take?as=editor")
	_, two := s.ask("POST", "/take?as=editor")
	assert.Equal(t, one, two)
	s.put("m/2.sql", "CREATE TABLE jar (grams INT)")
	_, three := s.ask("POST", "/take?as=editor")
	assert.Contains(t, three, `"replaced":true`)
	code, _ = s.ask("POST", "/drop?copy=editor")
	assert.Equal(t, 200, code)
}

// TestWrongRequests: each is answered with problem details that say what to do.
func TestWrongRequests(t *testing.T) {
	s := begin(t)
	for request, want := range map[string]int{
		"POST /reset?by=magic": 400, "POST /reset?to=nothing": 400, "POST /reset?database=x": 400,
		"POST /snapshot": 400, "GET /changes?rows=x": 400,
		"POST /hold?as=a&for=x": 400, "POST /take?database=x": 400, "POST /drop?copy=x": 400, "GET /w/...bad": 400,
		"GET /reset": 405, "GET /nowhere": 404,
	} {
		method, path, _ := strings.Cut(request, " ")
		code, said := s.ask(method, path)
		assert.Equal(t, want, code, request)
		if want == 400 {
			assert.Contains(t, said, `"detail":"`, request)
		}
	}
	// With several sets a bare reset touches none, and says which there are.
	_, _ = s.ask("GET", "/w/left")
	_, _ = s.ask("GET", "/w/right")
	code, said := s.ask("POST", "/reset")
	assert.Equal(t, 409, code)
	assert.Contains(t, said, `"left","right"]`)
	code, _ = s.ask("POST", "/w/left/reset")
	assert.Equal(t, 200, code)
}

// TestOnlyWhoMay: without the secret nothing is learned; pages in a browser
// are turned away; large and slow requests do not keep others waiting.
func TestOnlyWhoMay(t *testing.T) {
	s := begin(t)
	base, _, _ := strings.Cut(strings.TrimPrefix(s.at, "http://"), "/")
	try := func(path string, change func(*http.Request)) (int, string) {
		r, err := http.NewRequest("POST", "http://"+base+path, nil)
		require.NoError(t, err)
		change(r)
		response, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer response.Body.Close()
		b, _ := io.ReadAll(response.Body)
		return response.StatusCode, strings.TrimSpace(string(b))
	}
	secret := strings.TrimPrefix(s.at, "http://"+base)
	for name, request := range map[string]struct {
		path   string
		change func(*http.Request)
		want   int
	}{
		"right":        {secret + "/reset", func(*http.Request) {}, 200},
		"no secret":    {"/reset", func(*http.Request) {}, 404},
		"wrong secret": {"/" + strings.Repeat("A", 26) + "/reset", func(*http.Request) {}, 404},
		"a page": {secret + "/reset",
			func(r *http.Request) { r.Header.Set("Origin", "https://bees.example.org") }, 403},
		"another name":  {secret + "/reset", func(r *http.Request) { r.Host = "bees.example.org" }, 403},
		"local by name": {secret + "/reset", func(r *http.Request) { r.Host = "localhost:1" }, 200},
	} {
		code, said := try(request.path, request.change)
		assert.Equal(t, request.want, code, name)
		if request.want != 200 {
			assert.Empty(t, said, name)
		}
	}
	slow, err := net.Dial("tcp", base)
	require.NoError(t, err)
	defer slow.Close()
	fmt.Fprintf(slow, "POST %s/reset HTTP/1.1\r\nHost: localhost\r\nContent-Length: 1000000\r\n\r\n", secret)
	code, _ := s.ask("POST", "/reset")
	assert.Equal(t, 200, code)
	_, err = Listen(s.Control, "0.0.0.0:0", "", "", nil)
	assert.ErrorContains(t, err, "listens on loopback alone")
}

// TestShortOfRoom: what was made ahead goes before a take fails.
func TestShortOfRoom(t *testing.T) {
	s := begin(t)
	for _, name := range []string{"a", "b"} {
		_, err := s.Find(t.Context(), name)
		require.NoError(t, err)
	}
	there := func() (n int) {
		all, err := s.server.List(t.Context())
		require.NoError(t, err)
		for _, e := range all {
			if e.Kind == engine.Copy && e.Facts.Spare {
				n++
			}
		}
		return n
	}
	require.Eventually(t, func() bool { return there() == 2 }, 20*time.Second, time.Millisecond)
	// One that was being made just then comes to the others a moment later.
	require.Eventually(t, func() bool { s.spares.giveUp(t.Context()); return there() == 0 }, 20*time.Second,
		time.Millisecond)
	assert.False(t, s.spares.giveUp(t.Context()))
}

// TestWorkers: eight workers write, look and reset side by side, and each
// sees its own rows only.
func TestWorkers(t *testing.T) {
	s := begin(t)
	var all sync.WaitGroup
	for i := range 8 {
		all.Go(func() {
			name := fmt.Sprint("worker-", i)
			for range 10 {
				s.sql(name, fmt.Sprintf("INSERT INTO hive VALUES ('%s')", name))
				assert.Equal(t, [][]any{{"first"}, {name}}, s.sql(name, "SELECT label FROM hive ORDER BY rowid"))
				code, said := s.ask("POST", "/w/"+name+"/reset")
				assert.Equal(t, 200, code, said)
				assert.Len(t, s.sql(name, "SELECT * FROM hive"), 1)
			}
		})
	}
	all.Wait()
	times, median, _ := s.Stats("reset")
	assert.Equal(t, 80, times)
	assert.Positive(t, median)
}

// TestSpares: copies are made ahead, handed out once each, and those of older
// sources are not handed out.
func TestSpares(t *testing.T) {
	s := begin(t)
	for _, name := range []string{"a", "a2"} {
		_, err := s.Find(t.Context(), name)
		require.NoError(t, err)
	}
	ready := func() int {
		s.spares.mu.Lock()
		defer s.spares.mu.Unlock()
		return len(s.spares.ready[s.sources[0]])
	}
	require.Eventually(t, func() bool { return ready() == 2 }, 20*time.Second, time.Millisecond)
	seen := map[string]bool{}
	for i := range 4 {
		set, err := s.Find(t.Context(), fmt.Sprint("b", i))
		require.NoError(t, err)
		seen[set.Copies()[0].Entry().ID] = true
	}
	assert.Len(t, seen, 4)
	require.Eventually(t, func() bool { return ready() == 2 }, 20*time.Second, time.Millisecond)
	s.put("m/3.sql", "CREATE TABLE newer (x)")
	assert.Empty(t, s.sql("c", "SELECT * FROM newer"))
}

// TestDescription holds the description of the endpoint against its routes.
func TestDescription(t *testing.T) {
	var doc struct {
		OpenAPI string `json:"openapi"`
		Paths   map[string]map[string]struct {
			Parameters []struct{ Name, In string }
			Responses  map[string]any
		}
	}
	require.NoError(t, json.Unmarshal(OpenAPI(), &doc))
	assert.Equal(t, "3.1.0", doc.OpenAPI)
	s := begin(t)
	code, said := s.ask("GET", "/openapi.json")
	assert.Equal(t, 200, code)
	assert.JSONEq(t, string(OpenAPI()), said)
	described := 0
	for path, methods := range doc.Paths {
		for method, op := range methods {
			described++
			code, _ := s.ask(strings.ToUpper(method), strings.Replace(path, "{worker}", "x", 1))
			assert.NotContains(t, []int{404, 405}, code, "%s %s is described and not there", method, path)
			assert.Contains(t, op.Responses, "200", path)
			other := map[string]string{"get": "POST", "post": "GET"}[method]
			code, _ = s.ask(other, strings.Replace(path, "{worker}", "x", 1))
			assert.Equal(t, 405, code, "%s %s is there and not described", other, path)
		}
	}
	want := 1
	for _, t := range routes(nil) {
		if want++; t.set {
			want++
		}
	}
	assert.Equal(t, want, described, "all routes are described")
}

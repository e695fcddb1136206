package control

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	_ "embed"
	"encoding/json"
	"errors"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
)

//go:embed openapi.json
var openapi []byte

// OpenAPI is the description of the endpoint (OpenAPI 3.1).
func OpenAPI() []byte { return openapi }

// Endpoint serves a Control over HTTP, on loopback alone.
type Endpoint struct {
	URL    string // with the part that nobody can guess
	server *http.Server
}

// Forms renders the connections of copies in a form.
type Forms func(all []*Copy, form string) (string, error)

// Listen serves a Control at an address of this machine, ":0" for a free
// port, and where socket is not "" on that path too, which is to lie in a
// folder of the user's alone. secret is the unguessable part of the URL, ""
// for a new one.
func Listen(c *Control, address, socket, secret string, forms Forms) (*Endpoint, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, fault.New(fault.Usage, "as in  listen: 127.0.0.1:7070", "%q is no address", address)
	}
	if host == "" {
		host = "127.0.0.1"
	}
	if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return nil, fault.New(fault.Refused, "leave the host out",
			"the control endpoint listens on loopback alone, not on %s", host)
	}
	l, err := net.Listen("tcp", net.JoinHostPort(host, port))
	if err != nil {
		return nil, fault.New(fault.Lacking, "choose another port", "the control endpoint cannot listen on %s: %v",
			address, err)
	}
	if secret == "" {
		secret = rand.Text()
	}
	e := &Endpoint{URL: "http://" + l.Addr().String() + "/" + secret}
	e.server = &http.Server{
		Handler: guarded(c.handler(forms), secret), ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 20 * time.Second,
		IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 16 << 10,
	}
	go func() { _ = e.server.Serve(l) }()
	if socket != "" {
		private, err := listenAt(socket)
		if err != nil {
			return nil, errors.Join(err, e.Close())
		}
		go func() { _ = e.server.Serve(private) }()
	}
	return e, nil
}

// Close ends the endpoint; requests that are being answered have a second.
func (e *Endpoint) Close() error {
	ctx, stop := context.WithTimeout(context.Background(), time.Second)
	defer stop()
	if err := e.server.Shutdown(ctx); err != nil {
		return e.server.Close()
	}
	return nil
}

// guarded lets in only who knows the secret, and no page in a browser: that
// sends an Origin, or another Host by a name that leads here.
func guarded(next http.Handler, secret string) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host, _, err := net.SplitHostPort(r.Host)
		if err != nil {
			host = r.Host
		}
		ip := net.ParseIP(strings.Trim(host, "[]"))
		if r.Header.Get("Origin") != "" || host != "localhost" && (ip == nil || !ip.IsLoopback()) {
			http.Error(w, "", http.StatusForbidden)
			return
		}
		given, rest, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
		if subtle.ConstantTimeCompare([]byte(given), []byte(secret)) != 1 {
			http.Error(w, "", http.StatusNotFound)
			return
		}
		r = r.Clone(r.Context())
		r.URL.Path = "/" + rest
		r.Body = http.MaxBytesReader(w, r.Body, 1<<16)
		next.ServeHTTP(w, r)
	})
}

// route is one thing that can be asked.
type route struct {
	method, path string
	answer       func(c *Control, s *Set, r *http.Request) (any, error)
}

// routes of a set: at the top they mean the run's only one.
var routes = []route{
	{"GET", "/", status},
	{"POST", "/reset", func(c *Control, s *Set, r *http.Request) (any, error) {
		q := r.URL.Query()
		return c.Reset(r.Context(), s,
			Reset{Database: q.Get("database"), Way: engine.Way(q.Get("by")), To: q.Get("to"),
				InPlace: q.Has("in-place"), After: q.Get("after")})
	}},
	{"POST", "/snapshot", func(c *Control, s *Set, r *http.Request) (any, error) {
		q := r.URL.Query()
		return c.Snapshot(r.Context(), s, q.Get("database"), q.Get("as"), q.Has("force"))
	}},
	{"GET", "/changes", func(c *Control, s *Set, r *http.Request) (any, error) {
		rows, err := number(r.URL.Query().Get("rows"), 0)
		if err != nil {
			return nil, err
		}
		return c.Changes(r.Context(), s, r.URL.Query().Get("database"), rows)
	}},
	{"POST", "/hold", func(c *Control, s *Set, r *http.Request) (any, error) {
		q := r.URL.Query()
		keep, err := span(q.Get("for"), 24*time.Hour)
		if err != nil {
			return nil, err
		}
		return c.Hold(r.Context(), s, q.Get("database"), q.Get("as"), keep)
	}},
}

func number(text string, preset int) (int, error) {
	if text == "" {
		return preset, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 {
		return 0, fault.New(fault.Usage, "", "%q is no number", text)
	}
	return n, nil
}

func span(text string, preset time.Duration) (time.Duration, error) {
	if text == "" {
		return preset, nil
	}
	d, err := time.ParseDuration(text)
	if err != nil || d <= 0 {
		return 0, fault.New(fault.Usage, "as in  for=2h", "%q is no time", text)
	}
	return d, nil
}

// handed is a copy as the endpoint describes it.
type handed struct {
	Database   string            `json:"database"`
	Copy       string            `json:"copy"`
	Connection engine.Connection `json:"connection"`
	Replaced   bool              `json:"replaced,omitempty"` // one from older sources
}

func describe(x *Copy) handed {
	return handed{Database: x.source.Name, Copy: x.Entry().Facts.Name, Connection: x.Connection(), Replaced: x.Stale}
}

func status(_ *Control, s *Set, _ *http.Request) (any, error) {
	out := struct {
		Worker string   `json:"worker"`
		Copies []handed `json:"copies"`
	}{Worker: s.Name, Copies: []handed{}}
	for _, x := range s.Copies() {
		out.Copies = append(out.Copies, describe(x))
	}
	return out, nil
}

func (c *Control) handler(forms Forms) http.Handler {
	mux := http.NewServeMux()
	handle := func(method, path string, set func(*http.Request) (*Set, error),
		answer func(*Control, *Set, *http.Request) (any, error)) {
		if path == "/" {
			path = "/{$}"
		}
		path = strings.Replace(path, "/w/{worker}/{$}", "/w/{worker}", 1)
		mux.HandleFunc(method+" "+path, func(w http.ResponseWriter, r *http.Request) {
			s, err := set(r)
			var said any
			if err == nil {
				said, err = answer(c, s, r)
			}
			reply(w, said, err)
		})
	}
	only := func(r *http.Request) (*Set, error) { return c.Only(r.Context()) }
	worker := func(r *http.Request) (*Set, error) { return c.Find(r.Context(), r.PathValue("worker")) }
	connection := route{"GET", "/connection", func(_ *Control, s *Set, r *http.Request) (any, error) {
		chosen, err := s.pick(r.URL.Query().Get("database"))
		if err != nil {
			return nil, err
		}
		text, err := forms(chosen, r.URL.Query().Get("form"))
		return plain(text), err
	}}
	for _, t := range append([]route{connection}, routes...) {
		handle(t.method, t.path, only, t.answer)
		handle(t.method, "/w/{worker}"+strings.TrimSuffix(t.path, "/"), worker, t.answer)
	}
	none := func(*http.Request) (*Set, error) { return nil, nil }
	handle("POST", "/take", none, func(c *Control, _ *Set, r *http.Request) (any, error) {
		x, err := c.Take(r.Context(), r.URL.Query().Get("database"), r.URL.Query().Get("as"))
		if err != nil {
			return nil, err
		}
		return describe(x), nil
	})
	handle("POST", "/drop", none, func(c *Control, _ *Set, r *http.Request) (any, error) {
		return struct{}{}, c.Drop(r.Context(), r.URL.Query().Get("copy"))
	})
	mux.HandleFunc("GET /openapi.json", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		_, _ = w.Write(openapi)
	})
	return mux
}

// plain is an answer that is not JSON.
type plain string

func reply(w http.ResponseWriter, said any, err error) {
	w.Header().Set("Cache-Control", "no-store")
	if err != nil {
		problem(w, err)
		return
	}
	if text, ok := said.(plain); ok {
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		_, _ = w.Write([]byte(text + "\n"))
		return
	}
	w.Header().Set("Content-Type", "application/json")
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	_ = e.Encode(said)
}

// problem writes an error as problem details (RFC 9457).
func problem(w http.ResponseWriter, err error) {
	p := struct {
		Title  string   `json:"title"`
		Status int      `json:"status"`
		Detail string   `json:"detail"`
		Next   string   `json:"next,omitempty"`
		Sets   []string `json:"sets,omitempty"`
	}{Title: "it failed", Status: http.StatusInternalServerError, Detail: err.Error()}
	if f, ok := errors.AsType[*fault.Error](err); ok {
		p.Next = f.Next
		switch f.Kind {
		case fault.Usage:
			p.Title, p.Status = "the request is wrong", http.StatusBadRequest
		case fault.Refused:
			p.Title, p.Status = "refused for safety", http.StatusForbidden
		case fault.Lacking:
			p.Title, p.Status = "something is missing", http.StatusServiceUnavailable
		case fault.StepFailed:
			p.Title = "a step failed"
		}
	}
	if several, ok := errors.AsType[errSeveral](err); ok {
		p.Title, p.Status, p.Sets = "several sets of copies", http.StatusConflict, several.names
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(p.Status)
	_ = json.NewEncoder(w).Encode(p)
}

// Ask sends a request to an endpoint and returns its answer, or the error
// that it tells of.
func Ask(ctx context.Context, endpoint, method, path string, query url.Values) ([]byte, error) {
	r, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(endpoint, "/")+path+"?"+query.Encode(), nil)
	if err != nil {
		return nil, err
	}
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		return nil, fault.New(fault.Failed, "is the run over?", "the control endpoint does not answer")
	}
	defer response.Body.Close()
	var b json.RawMessage
	if err := json.NewDecoder(response.Body).Decode(&b); err != nil && response.StatusCode/100 == 2 {
		return nil, err
	}
	if response.StatusCode/100 == 2 {
		return b, nil
	}
	var p struct{ Detail, Next string }
	_ = json.Unmarshal(b, &p)
	return nil, fault.New(fault.Failed, p.Next, "%s", p.Detail)
}

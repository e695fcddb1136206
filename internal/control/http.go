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
	"strings"
	"time"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
)

// Endpoint serves a Control over HTTP, on loopback alone.
type Endpoint struct {
	URL     string // with the part that nobody can guess
	server  *http.Server
	private *http.Server // at the private socket; nil where there is none
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
		return nil, fault.New(fault.Usage, "as in  listen: 127.0.0.1:7070", "%q is not an address", address)
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
	e.server = bounded(guarded(c.handler(forms), secret))
	go func() { _ = e.server.Serve(l) }()
	if socket != "" {
		private, err := listenAt(socket)
		if err != nil {
			return nil, errors.Join(err, e.Close())
		}
		// Who may open it is this user, from whom the secret is none.
		e.private = bounded(unlocked(c.handler(forms), secret))
		go func() { _ = e.private.Serve(private) }()
	}
	return e, nil
}

// bounded is a server for a handler, on which nobody stays for nothing.
func bounded(h http.Handler) *http.Server {
	return &http.Server{Handler: h, ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 20 * time.Second,
		IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 16 << 10}
}

// Close ends the endpoint; requests that are being answered have a second.
func (e *Endpoint) Close() error {
	ctx, stop := context.WithTimeout(context.Background(), time.Second)
	defer stop()
	var failed error
	for _, s := range []*http.Server{e.server, e.private} {
		if s == nil {
			continue
		}
		if err := s.Shutdown(ctx); err != nil {
			failed = errors.Join(failed, s.Close())
		}
	}
	return failed
}

// unlocked lets everybody in, with the secret in the path or without it.
func unlocked(next http.Handler, secret string) http.Handler {
	with := guarded(next, secret)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/"+secret) {
			with.ServeHTTP(w, r)
			return
		}
		r.Body = http.MaxBytesReader(w, r.Body, 1<<16)
		next.ServeHTTP(w, r)
	})
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

func (c *Control) handler(forms Forms) http.Handler {
	mux := http.NewServeMux()
	methods := map[string][]string{}
	handle := func(path string, t route, set func(*http.Request) (*Set, error)) {
		methods[path] = append(methods[path], t.method)
		mux.HandleFunc(t.method+" "+path, func(w http.ResponseWriter, r *http.Request) {
			q, err := t.read(r)
			var s *Set
			if err == nil {
				s, err = set(r)
			}
			var said any
			if err == nil {
				said, err = t.answer(r.Context(), c, s, q)
			}
			reply(w, said, err)
		})
	}
	only := func(r *http.Request) (*Set, error) { return c.Only(r.Context()) }
	worker := func(r *http.Request) (*Set, error) { return c.Find(r.Context(), r.PathValue("worker")) }
	none := func(*http.Request) (*Set, error) { return nil, nil }
	for _, t := range routes(forms) {
		path := strings.TrimSuffix(t.path, "/")
		switch {
		case !t.set:
			handle(t.path, t, none)
		case path == "":
			handle("/{$}", t, only)
			handle("/w/{worker}", t, worker)
		default:
			handle(path, t, only)
			handle("/w/{worker}"+path, t, worker)
		}
	}
	handle("/openapi.json", route{method: "GET", answer: func(context.Context, *Control, *Set, query) (any, error) {
		return json.RawMessage(OpenAPI()), nil
	}}, none)
	for path, allowed := range methods {
		mux.HandleFunc(path, func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Allow", strings.Join(allowed, ", "))
			writeProblem(w, problem{Title: "the request is wrong", Status: http.StatusMethodNotAllowed,
				Detail: "there is no " + r.Method + " " + r.URL.Path, Next: "use " + strings.Join(allowed, " or ")})
		})
	}
	mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		writeProblem(w, problem{Title: "the request is wrong", Status: http.StatusNotFound,
			Detail: "there is no " + r.URL.Path + " here", Next: "GET /openapi.json describes what there is"})
	})
	return mux
}

// plain is an answer that is not JSON.
type plain string

func reply(w http.ResponseWriter, said any, err error) {
	w.Header().Set("Cache-Control", "no-store")
	if err != nil {
		writeProblem(w, problemOf(err))
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

// problem is problem details (RFC 9457).
type problem struct {
	Title     string          `json:"title"`
	Status    int             `json:"status"`
	Detail    string          `json:"detail"`
	Next      string          `json:"next,omitempty"`
	Sets      []string        `json:"sets,omitempty"`
	Databases []string        `json:"databases,omitempty"`
	BlockedBy []engine.Client `json:"blocked_by,omitempty"`
}

// asParameters turns the flags that advice names into parameters of a request.
var asParameters = strings.NewReplacer("--in-place", "?in-place", "--force", "?force=1", "--wait", "?wait=30s", "--by",
	"?by")

// problemOf describes an error.
func problemOf(err error) problem {
	p := problem{Title: "it failed", Status: http.StatusInternalServerError, Detail: err.Error()}
	if f, ok := errors.AsType[*fault.Error](err); ok {
		p.Next = asParameters.Replace(f.Next)
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
	if b, ok := errors.AsType[*engine.Blocked](err); ok {
		p.Title, p.Status, p.BlockedBy = "sessions are in the way", http.StatusConflict, b.Sessions
	}
	if several, ok := errors.AsType[errSeveral](err); ok {
		p.Title, p.Status, p.Sets = "several sets of copies", http.StatusConflict, several.names
	}
	if several, ok := errors.AsType[errDatabases](err); ok {
		p.Title, p.Status, p.Databases = "several databases", http.StatusConflict, several.names
	}
	return p
}

func writeProblem(w http.ResponseWriter, p problem) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(p.Status)
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	_ = e.Encode(p)
}

// overSocket begins the address of an endpoint that is asked by its private socket.
const overSocket = "unix:"

// AtSocket is the address, for Ask, of the endpoint at a private socket.
func AtSocket(path string) string { return overSocket + path }

// Ask sends a request to an endpoint and returns its answer, or the error
// that it tells of.
func Ask(ctx context.Context, endpoint, method, path string, query url.Values) ([]byte, error) {
	client := http.DefaultClient
	if socket, ok := strings.CutPrefix(endpoint, overSocket); ok {
		way := &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "unix", socket)
		}}
		defer way.CloseIdleConnections()
		client, endpoint = &http.Client{Transport: way}, "http://localhost"
	}
	r, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(endpoint, "/")+path+"?"+query.Encode(), nil)
	if err != nil {
		return nil, err
	}
	response, err := client.Do(r)
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

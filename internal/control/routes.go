package control

import (
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
	"hemzo/internal/project"
)

// param is a parameter of a route.
type param struct {
	name, doc string
	flag      bool // true, false, 1, 0, or nothing for true
	required  bool
}

// route is one thing that can be asked.
type route struct {
	method, path string
	summary      string
	params       []param
	set          bool // of one set of copies: at the top the run's only one
	answer       func(ctx context.Context, c *Control, s *Set, q query) (any, error)
}

var oneDatabase = param{name: "database", doc: "one database; all of the set where it is left out"}

// routes are all that can be asked, but for the description of it.
func routes(forms Forms) []route {
	return []route{
		{"GET", "/", "The copies of the set and how they are reached", nil, true, status},
		{"GET", "/connection", "How a copy is reached, as text", []param{oneDatabase,
			{name: "form", doc: "url, jdbc, conninfo, file, env, dotenv, json, or a text with {key} in it; default url"},
		}, true, func(_ context.Context, _ *Control, s *Set, q query) (any, error) {
			return s.connection(forms, q)
		}},
		{"POST", "/reset", "Put the copies back", []param{oneDatabase,
			{name: "by", doc: "truncation, rollback or snapshot"},
			{name: "to", doc: "a snapshot's name instead of the start state"},
			{name: "next", doc: "truncation or snapshot: on copies that are reset by rollback clients commit until then"},
			{name: "after", doc: "the name of the test that has ended"},
			{name: "in-place", doc: "fail rather than end the clients' connections", flag: true},
			{name: "force", doc: "end the sessions that hold locks on what is to be put back", flag: true},
			{name: "wait", doc: "how long to wait for locks, as in 500ms; default: the project file's"},
		}, true, resetAsked},
		{"POST", "/snapshot", "Keep the present state of the copies under a name", []param{oneDatabase,
			{name: "as", doc: "the snapshot's name", required: true},
			{name: "replace", doc: "in the place of one of that name", flag: true},
			{name: "force", doc: "end the sessions that are in the way", flag: true},
		}, true, func(ctx context.Context, c *Control, s *Set, q query) (any, error) {
			return c.Snapshot(ctx, s, q.Get("database"), q.Get("as"), q.is("replace"), q.is("force"))
		}},
		{"GET", "/changes", "How the copies differ from their start state", []param{oneDatabase,
			{name: "rows", doc: "how many rows of each table to show; default none"},
		}, true, func(ctx context.Context, c *Control, s *Set, q query) (any, error) {
			rows, err := q.number("rows")
			if err != nil {
				return nil, err
			}
			return c.Changes(ctx, s, q.Get("database"), rows)
		}},
		{"GET", "/sessions", "Who is connected to the copies, running what", []param{oneDatabase}, true, sessionsAsked},
		{"POST", "/hold", "Set the copies aside as they are, and put them back", []param{oneDatabase,
			{name: "as", doc: "what they are then called, for one: the name of the test", required: true},
			{name: "for", doc: "how long they are kept, as in 2h or 2d; default 24h"},
		}, true, func(ctx context.Context, c *Control, s *Set, q query) (any, error) {
			keep, err := q.span("for", 24*time.Hour)
			if err != nil {
				return nil, err
			}
			return c.Hold(ctx, s, q.Get("database"), q.Get("as"), keep)
		}},
		{"POST", "/take", "Take one more copy, beside the sets", []param{
			{name: "database", doc: "which; the only one where it is left out"},
			{name: "as", doc: "its name: the same name gives the same copy, at its start state"},
		}, false, func(ctx context.Context, c *Control, _ *Set, q query) (any, error) {
			x, err := c.Take(ctx, q.Get("database"), q.Get("as"))
			if err != nil {
				return nil, err
			}
			return describe(x), nil
		}},
		{"POST", "/drop", "Drop a copy that was taken", []param{{name: "copy", doc: "its name", required: true}}, false,
			func(ctx context.Context, c *Control, _ *Set, q query) (any, error) {
				return struct{}{}, c.Drop(ctx, q.Get("copy"))
			}},
	}
}

func sessionsAsked(ctx context.Context, c *Control, s *Set, q query) (any, error) {
	return c.Sessions(ctx, s, q.Get("database"))
}

func resetAsked(ctx context.Context, c *Control, s *Set, q query) (any, error) {
	r := Reset{Database: q.Get("database"), Way: engine.Way(q.Get("by")), To: q.Get("to"),
		Next: engine.Way(q.Get("next")), After: q.Get("after"), InPlace: q.is("in-place"), Force: q.is("force")}
	if q.Has("wait") {
		wait, err := q.span("wait", 0)
		if err != nil {
			return nil, err
		}
		r.Wait = &wait
	}
	return c.Reset(ctx, s, r)
}

// query is the parameters of a request, which are those of its route.
type query struct{ url.Values }

// read takes the parameters of a request, from its address and from a form in
// its body.
func (t route) read(r *http.Request) (q query, err error) {
	if err := r.ParseForm(); err != nil {
		return q, fault.New(fault.Usage, "", "the parameters cannot be read: %v", err)
	}
	q.Values = r.Form
	if err := noOtherBody(r); err != nil {
		return q, err
	}
	var known []string
	for _, p := range t.params {
		known = append(known, p.name)
		if p.required && q.Get(p.name) == "" {
			return q, fault.New(fault.Usage, "as in  "+t.path+"?"+p.name+"=NAME", "%s %s needs the parameter %q", t.method,
				t.path, p.name)
		}
		if _, err := strconv.ParseBool(q.Get(p.name)); p.flag && q.Get(p.name) != "" && err != nil {
			return q, fault.New(fault.Usage, "1 or 0", "the parameter %q cannot be %q", p.name, q.Get(p.name))
		}
	}
	for name, values := range q.Values {
		if !slices.Contains(known, name) {
			next := t.method + " " + t.path + " has no parameters"
			if known != nil {
				next = "parameters of " + t.path + ": " + strings.Join(known, ", ")
			}
			return q, fault.New(fault.Usage, next, "there is no parameter %q", name)
		}
		if len(values) > 1 {
			return q, fault.New(fault.Usage, "", "the parameter %q is there %d times", name, len(values))
		}
	}
	return q, nil
}

// noOtherBody refuses parameters that would not be seen: clients send an empty
// object where they are given none.
func noOtherBody(r *http.Request) error {
	if strings.HasPrefix(r.Header.Get("Content-Type"), "application/x-www-form-urlencoded") {
		return nil
	}
	var body json.RawMessage
	err := json.NewDecoder(r.Body).Decode(&body)
	if text := string(body); text == "" && err != nil && err.Error() == "EOF" || text == "{}" || text == "null" {
		return nil
	}
	return fault.New(fault.Usage, "as in  ?database=NAME", "parameters stand in the address, or in a form, not in a body "+
		"like this")
}

func (q query) is(flag string) bool {
	yes, _ := strconv.ParseBool(q.Get(flag))
	return yes || q.Has(flag) && q.Get(flag) == ""
}

func (q query) number(name string) (int, error) {
	if !q.Has(name) {
		return 0, nil
	}
	n, err := strconv.Atoi(q.Get(name))
	if err != nil || n < 0 {
		return 0, fault.New(fault.Usage, "", "%q is not a number", q.Get(name))
	}
	return n, nil
}

func (q query) span(name string, preset time.Duration) (time.Duration, error) {
	if !q.Has(name) {
		return preset, nil
	}
	d, err := project.ParseDuration(q.Get(name))
	if err != nil || name == "for" && d == 0 {
		return 0, fault.New(fault.Usage, "as in  "+name+"=2h", "%q is not a time", q.Get(name))
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

func status(_ context.Context, _ *Control, s *Set, _ query) (any, error) {
	out := struct {
		Worker string   `json:"worker"`
		Copies []handed `json:"copies"`
	}{Worker: s.Name, Copies: []handed{}}
	for _, x := range s.Copies() {
		out.Copies = append(out.Copies, describe(x))
	}
	return out, nil
}

// connection is how the copies of a set are reached. What several have each is no
// answer where a form stands for one.
func (s *Set) connection(forms Forms, q query) (any, error) {
	chosen, err := s.pick(q.Get("database"))
	if err != nil {
		return nil, err
	}
	if form := q.Get("form"); len(chosen) > 1 && form != "env" && form != "dotenv" && form != "json" {
		e := errDatabases{}
		for _, x := range chosen {
			e.names = append(e.names, x.source.Name)
		}
		return nil, e
	}
	text, err := forms(chosen, q.Get("form"))
	return plain(text), err
}

// OpenAPI is the description of the endpoint (OpenAPI 3.1).
func OpenAPI() []byte {
	paths := map[string]map[string]any{}
	describe := func(path string, t route, params []any) {
		for _, p := range t.params {
			schema := map[string]any{"type": "string"}
			if p.flag {
				schema = map[string]any{"type": "boolean"}
			}
			params = append(params, map[string]any{"name": p.name, "in": "query", "required": p.required,
				"description": p.doc, "schema": schema, "allowEmptyValue": p.flag})
		}
		responses := map[string]any{"200": map[string]any{"description": "what was done, or asked for"}}
		for _, code := range []string{"400", "409", "500", "503"} {
			responses[code] = map[string]any{"description": "problem details", "content": map[string]any{
				"application/problem+json": map[string]any{"schema": map[string]any{"$ref": "#/components/schemas/Problem"}}}}
		}
		if paths[path] == nil {
			paths[path] = map[string]any{}
		}
		paths[path][strings.ToLower(t.method)] = map[string]any{"summary": t.summary,
			"parameters": append([]any{}, params...), "responses": responses}
	}
	for _, t := range routes(nil) {
		describe(t.path, t, nil)
		if t.set {
			describe("/w/{worker}"+strings.TrimSuffix(t.path, "/"), t, []any{map[string]any{"name": "worker", "in": "path",
				"required": true, "description": "a worker's name; its set is made at first use",
				"schema": map[string]any{"type": "string"}}})
		}
	}
	describe("/openapi.json", route{method: "GET", summary: "This description"}, nil)
	b, _ := json.MarshalIndent(map[string]any{ // of texts
		"openapi": "3.1.0",
		"info": map[string]any{"title": "Hemzo's control endpoint", "version": "1",
			"description": "What a suite asks between its tests. The server's address, with its unguessable part, is in " +
				"HEMZO_CONTROL. Requests for one copy run in order, for different copies side by side. At the top, paths " +
				"mean the run's only set of copies; where there are several, 409 names them."},
		"servers": []any{map[string]any{"url": "{HEMZO_CONTROL}", "variables": map[string]any{
			"HEMZO_CONTROL": map[string]any{"default": "http://127.0.0.1:7070/secret"}}}},
		"paths": paths,
		"components": map[string]any{"schemas": map[string]any{"Problem": map[string]any{
			"type": "object", "required": []string{"title", "status", "detail"}, "properties": problemSchema()}}},
	}, "", " ")
	return b
}

func problemSchema() map[string]any {
	text := map[string]any{"type": "string"}
	texts := map[string]any{"type": "array", "items": text}
	return map[string]any{"title": text, "status": map[string]any{"type": "integer"}, "detail": text,
		"next": map[string]any{"type": "string", "description": "what to do"}, "sets": texts, "databases": texts,
		"blocked_by": map[string]any{"type": "array", "description": "the sessions in the way",
			"items": map[string]any{"type": "object"}}}
}

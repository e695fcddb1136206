// Package service is the engine for any other system: each copy is a
// container of its own, of an image that the project file names.
package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"hemzo/internal/engine"
	"hemzo/internal/engine/percopy"
	"hemzo/internal/fault"
	"hemzo/internal/source"
)

// Engine is any service.
type Engine struct{}

// Name returns "service".
func (Engine) Name() string { return "service" }

// Language is none: a service has no sources.
func (Engine) Language() source.Language { return source.Language{} }

// Traces are none: a service is named by its image alone.
func (Engine) Traces() engine.Traces { return engine.Traces{} }

// Hosting: each copy is a container of its own.
func (e Engine) Hosting() engine.Hosting {
	return engine.Hosting{Container: e, PerCopy: open, Foretold: &engine.Foretold{
		Ports: func(spec engine.Spec) []int { return spec.Service.Ports },
		Connection: func(spec engine.Spec, at engine.Endpoint, _ string, _ engine.Facts) engine.Connection {
			return connection(spec.Service.Ports, at.At)
		},
	}}
}

// Check reports what of a Spec cannot be.
func (Engine) Check(s engine.Spec) error {
	switch {
	case s.Image == "":
		return fault.New(fault.Usage, "say which, as in  image: registry.example.org/search:8",
			"a service needs an image")
	case len(s.Service.Ports) == 0:
		return fault.New(fault.Usage, "say which, as in  service: { ports: [9200] }",
			"the service %s needs the ports that it listens on", s.Image)
	}
	for _, way := range []string{s.Service.Ready, s.Service.Forget} {
		if _, err := parseWay(way); err != nil {
			return err
		}
	}
	return nil
}

// Fingerprint lists what a fresh service depends on.
func (Engine) Fingerprint(s engine.Spec) []string {
	return []string{"service", s.Image,
		fmt.Sprintf("%q %q %v", s.Service.Variables, s.Service.Command, s.Service.Ports)}
}

// MaxLayers is none: what a service holds is not copied.
func (Engine) MaxLayers() int { return 0 }

// Needs reports nothing: doctor looks at the container engine itself.
func (Engine) Needs(context.Context, engine.Spec) []engine.Need { return nil }

// open opens the services of a user.
func open(_ context.Context, fleet engine.Fleet, spec engine.Spec) (engine.Server, error) {
	return percopy.Open(fleet, percopy.Kind{
		Connection: func(at engine.Endpoint,
			_ string) engine.Connection {
			return connection(spec.Service.Ports, at.At)
		},
		Open: func(_ context.Context, s *percopy.Server, e engine.Entry, _ engine.Session) (engine.Database, error) {
			return &copied{server: s, spec: spec, entry: e}, nil
		},
	})
}

// Image is the one that the project file names.
func (Engine) Image(spec engine.Spec) engine.Image {
	return engine.Image{Name: spec.Image, Ports: spec.Service.Ports, Args: spec.Service.Command,
		Env: spec.Service.Variables}
}

// Probe asks a service whether it is ready, in the way that the project file says.
func (Engine) Probe(ctx context.Context, spec engine.Spec, c engine.Candidate) (json.RawMessage, error) {
	asked, err := parseWay(spec.Service.Ready)
	if err != nil {
		return nil, err
	}
	at := c.Address(spec.Service.Ports[0])
	switch {
	case asked.says != "" && c.Printed(asked.says), asked == way{} && listens(ctx, c, at):
		return nil, nil
	case asked.method != "":
		return nil, call(ctx, asked, at)
	}
	return nil, engine.ErrNotReady
}

// way is how something is asked of a service: an HTTP request to its first
// port, or a text that it prints.
type way struct{ method, path, says string }

func parseWay(text string) (way, error) {
	first, rest, ok := strings.Cut(text, " ")
	switch {
	case text == "":
		return way{}, nil
	case ok && first == "says":
		return way{says: rest}, nil
	case ok && strings.HasPrefix(rest, "/") && slices.Contains([]string{"GET", "HEAD", "POST", "PUT", "DELETE"}, first):
		return way{method: first, path: rest}, nil
	}
	return way{}, fault.New(fault.Usage, `as in  "GET /health"  or  "says listening"`, "%q is not a way to ask a service",
		text)
}

func connection(ports []int, at map[int]string) engine.Connection {
	c := engine.Connection{Ports: map[int]string{}}
	for i, port := range ports {
		host, number, err := net.SplitHostPort(at[port])
		if err != nil {
			continue
		}
		c.Ports[port] = number
		if i == 0 {
			c.Host, c.Port, c.URL = host, number, "http://"+at[port]
		}
	}
	return c
}

// direct asks a service where it is published: no proxy of the environment's
// knows the way there.
var direct = &http.Client{Transport: &http.Transport{DisableKeepAlives: true}}

// call sends a request; an answer of 200 to 299 is a yes.
func call(ctx context.Context, w way, at string) error {
	ctx, stop := context.WithTimeout(ctx, 10*time.Second)
	defer stop()
	request, err := http.NewRequestWithContext(ctx, w.method, "http://"+at+w.path, nil)
	if err != nil {
		return err
	}
	response, err := direct.Do(request)
	if err != nil {
		return err
	}
	response.Body.Close()
	if response.StatusCode/100 != 2 {
		return fmt.Errorf("it answers %s", response.Status)
	}
	return nil
}

// listens reports whether a service that says of itself nothing accepts
// connections. While a container that has just ended is taken apart, the proxy
// before it holds connections to nobody open for a moment: so its state is
// asked as well, and then a second connection has to hold.
func listens(ctx context.Context, c engine.Candidate, at string) bool {
	return accepts(at) && c.Running(ctx) && accepts(at)
}

// accepts reports whether a server holds a connection open: one that is
// closed at once was accepted by a proxy before a server that is not there.
func accepts(at string) bool {
	conn, err := net.DialTimeout("tcp", at, time.Second)
	if err != nil {
		return false
	}
	defer conn.Close()
	_ = conn.SetReadDeadline(time.Now().Add(100 * time.Millisecond))
	_, err = conn.Read(make([]byte, 1))
	var timeout net.Error
	return err == nil || errors.As(err, &timeout) && timeout.Timeout()
}

// copied is one service.
type copied struct {
	percopy.Rowless
	server *percopy.Server
	spec   engine.Spec
	entry  engine.Entry
}

var errNoSQL = fault.New(fault.Usage, "speak to it at its address", "a service has no SQL")

func (*copied) Apply(context.Context, engine.Script) error               { return errNoSQL }
func (*copied) Query(context.Context, string, engine.Sink) error         { return errNoSQL }
func (*copied) Contents(context.Context, bool) ([]engine.Content, error) { return nil, nil }
func (*copied) Snapshot(context.Context, string, engine.Facts) (json.RawMessage, error) {
	return nil, errNoState
}

var errNoState = fault.New(fault.Usage, "", "the data of a service cannot be kept, only forgotten")

// Reset has the service forget, in its own way where the project file names
// one, else by a fresh container in its place.
func (c *copied) Reset(ctx context.Context, r engine.Reset) (*engine.Report, error) {
	report := &engine.Report{Way: engine.Snapshot, Tables: []engine.TableReport{}}
	forget, err := parseWay(c.spec.Service.Forget)
	if err != nil {
		return nil, err
	}
	if forget.method != "" {
		at := c.server.Connection(c.entry.ID, c.entry.Facts)
		if err := call(ctx, forget, net.JoinHostPort(at.Host, at.Port)); err != nil {
			return nil, fault.New(fault.Failed, "", "asking the service to forget (%s): %v", c.spec.Service.Forget, err)
		}
		report.Why = "it was asked to: " + c.spec.Service.Forget
		return report, nil
	}
	if r.Begin != nil {
		if err := r.Begin(); err != nil {
			return nil, err
		}
	}
	at, err := c.server.Restart(ctx, c.entry.ID, r.Start) // the container before it goes first
	if err != nil {
		return nil, err
	}
	report.Why, report.Reconnect = "a fresh container, at another address: "+at.At[c.spec.Service.Ports[0]], true
	return report, nil
}

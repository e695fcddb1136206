// Package fake is an engine for tests of what all engines have in common, and
// an example of one: a key-value server of a few lines, one for each copy, each
// a process on a port of its own.
package fake

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"iter"
	"maps"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"hemzo/internal/engine"
	"hemzo/internal/engine/percopy"
	"hemzo/internal/fault"
	"hemzo/internal/source"
)

// Engine is the fake.
type Engine struct{}

// What it is asks for nothing and is the same for every Spec.
func (Engine) Name() string                                     { return "fake" }
func (Engine) Check(engine.Spec) error                          { return nil }
func (Engine) Fingerprint(engine.Spec) []string                 { return []string{"fake"} }
func (Engine) MaxLayers() int                                   { return 8 }
func (Engine) Needs(context.Context, engine.Spec) []engine.Need { return nil }
func (Engine) Traces() engine.Traces                            { return engine.Traces{} }
func (Engine) Identity(engine.Spec) (string, error)             { return "fake-0", nil }
func (Engine) Room(engine.Spec, string) int64                   { return 1 << 20 }
func (Engine) Clean(string) error                               { return nil }

// Hosting: a process for each copy.
func (e Engine) Hosting() engine.Hosting { return engine.Hosting{Process: e, PerCopy: open} }

// Language is lines of "SET key value" and "DEL key".
func (Engine) Language() source.Language {
	return source.Language{Name: "fake", Ext: []string{".fake"}, Statements: func(text string) iter.Seq[string] {
		return strings.FieldsFuncSeq(text, func(r rune) bool { return r == '\n' })
	}}
}

// ServerCommand is the argument by which a test's program is the server.
const ServerCommand = "fake-server"

// Launch runs this program as a server.
func (Engine) Launch(home engine.Home, _ engine.Spec) (func(context.Context, error) (*engine.Program, error), error) {
	return func(_ context.Context, failed error) (*engine.Program, error) {
		if failed != nil {
			return nil, failed
		}
		self, err := os.Executable()
		return &engine.Program{
			Path: self, Args: []string{ServerCommand, home.Folder, home.From},
			Env:    []string{"FAKE_PASSWORD=" + home.Password},
			Folder: home.Folder, Stop: syscall.SIGTERM, Kill: syscall.SIGKILL,
			Probe: func(ctx context.Context) (json.RawMessage, error) {
				at, err := os.Readlink(filepath.Join(home.Folder, "address"))
				if err != nil {
					return nil, fmt.Errorf("%w: %w", engine.ErrNotReady, err)
				}
				address, _ := json.Marshal(at + " " + home.Password)
				_, err = ask(ctx, engine.Endpoint{Address: address}, "ALL")
				return address, err
			},
			Ended: func(code int) error { return fmt.Errorf("the fake server ended (exit code %d)", code) },
		}, err
	}, nil
}

// Serve is the server: it answers lines until it is ended.
func Serve(folder, from string) error {
	data := map[string]string{}
	b, _ := os.ReadFile(filepath.Join(from, "data"))
	_ = json.Unmarshal(b, &data) // as it was saved
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	// In one step: a probe reads it whole or not at all.
	err = os.Symlink(l.Addr().String(), filepath.Join(folder, "address"))
	for err == nil {
		var conn net.Conn
		if conn, err = l.Accept(); err == nil {
			answer(conn, data)
		}
	}
	return err
}

// answer takes a password, then one request.
func answer(conn net.Conn, data map[string]string) {
	defer conn.Close()
	in := bufio.NewScanner(conn)
	if !in.Scan() || in.Text() != os.Getenv("FAKE_PASSWORD") || !in.Scan() {
		return
	}
	words := strings.SplitN(in.Text(), " ", 3)
	switch {
	case words[0] == "SET" && len(words) == 3:
		data[words[1]] = words[2]
	case words[0] == "DEL" && len(words) == 2:
		delete(data, words[1])
	case words[0] != "ALL":
		fmt.Fprintln(conn, `"no such request"`)
		return
	}
	_ = json.NewEncoder(conn).Encode(data)
}

func addressOf(at engine.Endpoint) (host, password string) {
	var address string
	_ = json.Unmarshal(at.Address, &address) // as Launch wrote it
	words := strings.Fields(address + " - -")
	return words[0], words[1]
}

// ask sends one request and returns all that the server then has.
func ask(ctx context.Context, at engine.Endpoint, request string) (data map[string]string, err error) {
	host, password := addressOf(at)
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", host)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	fmt.Fprintf(conn, "%s\n%s\n", password, request)
	return data, json.NewDecoder(conn).Decode(&data)
}

func open(_ context.Context, fleet engine.Fleet, _ engine.Spec) (engine.Server, error) {
	return percopy.Open(fleet, percopy.Kind{
		Save: func(ctx context.Context, at engine.Endpoint, to string) error {
			data, err := ask(ctx, at, "ALL")
			if err != nil {
				return err
			}
			b, _ := json.Marshal(data)
			return os.WriteFile(filepath.Join(to, "data"), b, 0o600)
		},
		Connection: func(at engine.Endpoint, id string) engine.Connection {
			host, password := addressOf(at)
			return engine.Connection{URL: "fake://" + host + "/" + id, Host: host, Password: password}
		},
		Open: func(_ context.Context, s *percopy.Server, e engine.Entry, _ engine.Session) (engine.Database, error) {
			return &database{server: s, id: e.ID, at: s.At(e.Facts)}, nil
		},
	})
}

// database is one server, opened.
type database struct {
	percopy.Rowless
	server *percopy.Server
	id     string
	at     engine.Endpoint
}

func (d *database) Apply(ctx context.Context, s engine.Script) error {
	for i, line := range strings.Split(s.Text, "\n") {
		if _, err := ask(ctx, d.at, line); err != nil && strings.TrimSpace(line) != "" {
			f := fault.New(fault.StepFailed, "", "the line is not a request")
			f.Where = fault.Position{File: s.File, Line: s.First + i, Column: 1}
			return f
		}
	}
	return nil
}

func (d *database) Query(ctx context.Context, text string, _ engine.Sink) error {
	return d.Apply(ctx, engine.Script{Text: text, First: 1})
}

func (d *database) Contents(ctx context.Context, _ bool) (all []engine.Content, err error) {
	data, err := ask(ctx, d.at, "ALL")
	for _, key := range slices.Sorted(maps.Keys(data)) {
		all = append(all, engine.Content{Kind: "key", Name: key, Sum: data[key]})
	}
	return all, err
}

func (d *database) Snapshot(ctx context.Context, to string, facts engine.Facts) (json.RawMessage, error) {
	return nil, d.server.Copy(ctx, d.id, to, facts)
}

func (d *database) Reset(ctx context.Context, r engine.Reset) (_ *engine.Report, err error) {
	if r.Way == engine.Rollback {
		return nil, fault.New(fault.Lacking, "", "the fake has no transactions")
	}
	d.at, err = d.server.Restart(ctx, d.id, r.Start)
	return &engine.Report{Way: engine.Snapshot, Why: "it has no other way", Reconnect: true,
		Tables: []engine.TableReport{}}, err
}

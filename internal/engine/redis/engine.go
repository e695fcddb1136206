// Package redis is the engine for Redis and Valkey. Each copy is a server of its own, in
// memory or in a container: whatever clients do, FLUSHALL included, stays in it. On a server
// that is there already a copy is one of its numbered databases.
package redis

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"hemzo/internal/engine"
	"hemzo/internal/engine/launch"
	"hemzo/internal/engine/percopy"
	"hemzo/internal/fault"
	"hemzo/internal/pattern"
	"hemzo/internal/source"
)

// Engine is Redis, which Valkey is as well.
type Engine struct{}

// Name returns "redis".
func (Engine) Name() string { return "redis" }

// Language is commands: lines of words, RESP, or a whole RDB file.
func (Engine) Language() source.Language {
	return source.Language{Name: "command", Ext: extensions, Binary: binaryExtensions, Lines: true,
		Statements: normalized}
}

var (
	extensions       = []string{".redis", ".valkey", ".resp", ".rdb"}
	binaryExtensions = []string{".resp", ".rdb"}
)

// Traces are the files that are its own; an RDB file may be what a server has left.
func (Engine) Traces() engine.Traces {
	return engine.Traces{Files: []string{".redis", ".valkey", ".resp"}, Version: "7"}
}

// Hosting: a server for each copy.
func (e Engine) Hosting() engine.Hosting {
	return engine.Hosting{Process: e, Container: e, PerCopy: open, Existing: e,
		Foretold: &engine.Foretold{Ports: func(engine.Spec) []int { return []int{serverPort} }, Move: move},
		Trial:    imitation()}
}

// MaxLayers is few: a layer is all that a server holds.
func (Engine) MaxLayers() int { return 4 }

// reserved are settings that Hemzo needs as it sets them.
var reserved = []string{"port", "bind", "unixsocket", "unixsocketperm", "dir", "dbfilename", "save", "appendonly",
	"daemonize", "logfile", "user", "aclfile", "requirepass", "enable-debug-command", "rename-command", "include",
	"supervised", "pidfile", "replicaof", "slaveof", "cluster-enabled", "masterauth", "masteruser",
	"protected-mode", "syslog-enabled"}

var plainName = pattern.Lazy(`^[a-z][a-z0-9-]*$`)

var versionWanted = pattern.Lazy(`^[0-9]+(\.[0-9]+)?$`)

// superuser is the role whose tests may do anything to their server.
const superuser = "superuser"

// Check reports what of a Spec Redis cannot give.
func (e Engine) Check(s engine.Spec) error {
	if s.Version != "" && !versionWanted().MatchString(s.Version) {
		return fault.New(fault.Usage, "as in  version: 7", "redis: %q is not a version", s.Version)
	}
	for _, set := range s.Settings {
		if !plainName().MatchString(set.Name) || strings.ContainsAny(set.Value, "\r\n") {
			return fault.New(fault.Usage, "", "redis: %q is not a setting", set.Name)
		}
		if strings.HasPrefix(set.Name, "tls-") {
			return fault.New(fault.Usage, "leave it out, and have tests connect to the address that they are given",
				"redis: TLS is not spoken: the server listens on this machine alone (%s)", set.Name)
		}
		if slices.Contains(reserved, set.Name) {
			return fault.New(fault.Usage, "leave it out", "redis: the setting %s is Hemzo's to choose", set.Name)
		}
	}
	for key, set := range map[string]bool{"extensions": len(s.Extensions) > 0,
		"roles": len(s.Roles) > 0} {
		if set {
			return fault.New(fault.Usage, "leave out  "+key+":", "redis has no %s", key)
		}
	}
	if role, _, _ := strings.Cut(s.SourceRole, " "); role != "" && role != "owner" && role != superuser {
		return fault.New(fault.Usage, "leave out  role:, or write  role: superuser  for tests that change the server itself",
			"redis: there is no role %q", role)
	}
	return nil
}

// unlimited reports whether tests may do anything to their server.
func unlimited(s engine.Spec) bool {
	role, _, _ := strings.Cut(s.SourceRole, " ")
	return role == superuser
}

// Fingerprint lists what the state before the first step depends on. Of servers of this
// machine each program has templates of its own, see Identity.
func (e Engine) Fingerprint(s engine.Spec) []string {
	out := []string{"redis 1", s.Version, s.Image, fmt.Sprint(unlimited(s))}
	for _, set := range sorted(s.Settings) {
		out = append(out, set.Name+"="+set.Value)
	}
	return out
}

func sorted(all []engine.Setting) []engine.Setting {
	all = slices.Clone(all)
	slices.SortStableFunc(all, func(a, b engine.Setting) int { return strings.Compare(a.Name, b.Name) })
	return all
}

// Needs reports the server of this machine that would be started.
func (Engine) Needs(_ context.Context, spec engine.Spec) []engine.Need {
	n := engine.Need{What: "Redis or Valkey server"}
	b, err := find(spec.Version)
	if err != nil {
		n.Lacks, n.Next = err.Error(), advice
		return []engine.Need{n}
	}
	n.Has = fmt.Sprintf("%s %s, %s", b.title(), b.version, b.server)
	return []engine.Need{n}
}

// open opens the copies, each of which has a server of its own.
func open(_ context.Context, fleet engine.Fleet, spec engine.Spec) (engine.Server, error) {
	version := ""
	if fleet.About().Where == "memory" {
		b, err := find(spec.Version)
		if err != nil {
			return nil, err
		}
		version = b.version
	}
	return percopy.Open(fleet, percopy.Kind{
		Version: version, Save: save, Connection: connection, Clients: clients, Watch: watch, InPlace: true,
		Open: func(_ context.Context, s *percopy.Server, e engine.Entry, session engine.Session) (engine.Database,
			error) {
			return openDatabase(separate{s}, e, session), nil
		},
	})
}

// holder are the servers of copies, or the one that holds them all.
type holder interface {
	engine.Server
	// locate tells where a copy is.
	locate(e engine.Entry) address
	// relocate changes what is known of that.
	relocate(ctx context.Context, id string, change func(*address)) error
	// aboutState and state read a template or snapshot.
	aboutState(ctx context.Context, id string) (about, error)
	state(ctx context.Context, id string) (*state, error)
	// layFile puts the file of a state where the server of a copy reads it, until release is
	// called; done is false where that cannot be.
	layFile(ctx context.Context, d *database, id string) (done bool, release func(), err error)
	// renew starts a server that begins with a state in the place of a copy's.
	renew(ctx context.Context, id, from string) (address, error)
}

func openDatabase(h holder, e engine.Entry, session engine.Session) *database {
	return &database{server: h, entry: e, session: session, at: h.locate(e), states: map[string]*state{}}
}

// separate are servers of which each copy has one.
type separate struct{ *percopy.Server }

func (s separate) locate(e engine.Entry) address { return addressOf(s.At(e.Facts)) }

func (s separate) relocate(ctx context.Context, id string, change func(*address)) error {
	return s.UpdateFacts(ctx, id, func(f *engine.Facts) {
		at := s.At(*f)
		a := addressOf(at)
		change(&a)
		at.Address, _ = json.Marshal(a) // of texts and numbers
		*f = s.WithEndpoint(*f, at)
	})
}

func (s separate) aboutState(_ context.Context, id string) (about, error) {
	return readAbout(s.Files(id))
}

func (s separate) state(_ context.Context, id string) (*state, error) { return readState(s.Files(id)) }

func (s separate) layFile(ctx context.Context, d *database, id string) (bool, func(), error) {
	if d.at.Folder == "" {
		return d.at.Saved && d.at.Began == id, func() {}, nil
	}
	// Of two at once each is to find its own file there.
	unlock, err := s.Lock(ctx, "data-"+d.entry.ID, nil)
	if err != nil {
		return false, nil, err
	}
	if d.laid.is(id, d.at.Folder) {
		return true, unlock, nil
	}
	if err := putData(s.Files(id), d.at.Folder, launch.ServerUser("redis", "valkey")); err != nil {
		unlock()
		return false, nil, err
	}
	d.laid.id = id
	d.laid.file, _ = os.Stat(filepath.Join(d.at.Folder, dataFile))
	return true, unlock, nil
}

// laidFile is the file that was put into a server's folder last.
type laidFile struct {
	id   string
	file os.FileInfo
}

// is reports whether it is still there, and holds a state.
func (l laidFile) is(id, folder string) bool {
	now, err := os.Stat(filepath.Join(folder, dataFile))
	return err == nil && l.id == id && l.file != nil && os.SameFile(now, l.file) && now.Size() == l.file.Size() &&
		now.ModTime().Equal(l.file.ModTime())
}

func (s separate) renew(ctx context.Context, id, from string) (address, error) {
	at, err := s.Restart(ctx, id, from)
	return addressOf(at), err
}

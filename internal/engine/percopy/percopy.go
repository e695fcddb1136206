// Package percopy is what engines have in common each of whose copies has a
// server of its own: facts and templates lie in a folder of the fleet that
// starts and ends the servers. ID.json holds the facts of ID, the folder ID the
// files that a server begins with.
package percopy

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"hemzo/internal/engine"
	"hemzo/internal/engine/folder"
	"hemzo/internal/fault"
)

// Kind is what one engine says of its servers.
type Kind struct {
	// Save writes the files that a server has by now to a folder, which is there
	// and empty. nil for servers that begin with nothing: templates are then
	// their facts alone.
	Save func(ctx context.Context, at engine.Endpoint, to string) error
	// Version is that of the servers, where the project file need not say; "" else.
	Version string
	// Connection tells how a server is reached by tests.
	Connection func(at engine.Endpoint, id string) engine.Connection
	// Open opens a server for work.
	Open func(ctx context.Context, s *Server, e engine.Entry, session engine.Session) (engine.Database, error)
	// Tables tells the tables of a template by the folder of its files, as engine.Server
	// does; nil where there are none.
	Tables func(folder string) (map[string][]string, error)
	// InPlace reports that a reset can put back what was touched alone.
	InPlace bool
	// Watch tells, as engine.Server does, who comes to a server; nil where that is not known.
	Watch func(ctx context.Context, at engine.Endpoint) (func(time.Duration) (engine.Visitor, error), error)
	// Clients lists who is connected to a server; nil where that cannot be told.
	Clients func(ctx context.Context, at engine.Endpoint) ([]engine.Client, error)
}

// Rowless is what a Database cannot do that holds no tables; it is embedded.
type Rowless struct{}

var errRowless = fault.New(fault.Usage, "", "this system has no tables")

// Load refuses rows.
func (Rowless) Load(context.Context, engine.Table) error { return errRowless }

// Changes refuses to tell what differs.
func (Rowless) Changes(context.Context, engine.Compare) (*engine.Changes, error) {
	return nil, errRowless
}

// Close has nothing to close.
func (Rowless) Close() error { return nil }

// Server holds the servers of copies as one. It is an engine.Server.
type Server struct {
	*folder.Folder
	fleet engine.Fleet
	kind  Kind
}

// Open opens what a fleet holds.
func Open(fleet engine.Fleet, kind Kind) (*Server, error) {
	s := &Server{fleet: fleet, kind: kind}
	f, err := folder.Make(fleet.Folder(), s.there)
	s.Folder = f
	return s, err
}

// there reports whether what facts describe is there: templates and snapshots
// are their files.
func (s *Server) there(id string) (size int64, there bool) {
	kind, _ := engine.KindOf(id)
	if s.kind.Save == nil || kind == engine.Copy || kind == engine.Work {
		return 0, true
	}
	err := filepath.WalkDir(s.Files(id), func(_ string, d os.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			if info, failed := d.Info(); failed == nil {
				size += info.Size()
			}
		}
		return err
	})
	return size, err == nil
}

// Files is the folder with the files of a template or snapshot.
func (s *Server) Files(id string) string { return filepath.Join(s.Path, id) }

// About describes the fleet.
func (s *Server) About() engine.About {
	about := s.fleet.About()
	about.InPlace = s.kind.InPlace
	if s.kind.Version != "" {
		about.Version = s.kind.Version
	}
	return about
}

// At is where the server of a copy is, by its facts.
func (s *Server) At(f engine.Facts) (at engine.Endpoint) {
	_ = json.Unmarshal(f.Private, &at)
	return at
}

// WithEndpoint returns facts that say where a server is.
func (s *Server) WithEndpoint(f engine.Facts, at engine.Endpoint) engine.Facts {
	f.Private, _ = json.Marshal(at) // of texts
	return f
}

// Connection tells how a copy is reached.
func (s *Server) Connection(id string, facts engine.Facts) engine.Connection {
	return s.kind.Connection(s.At(facts), id)
}

// Create starts an empty server, for work.
func (s *Server) Create(ctx context.Context, id string, _ engine.Spec, facts engine.Facts) error {
	if s.kind.Save == nil {
		return s.Write(id, facts)
	}
	return s.start(ctx, id, "", facts)
}

// start starts a server, in the place of one of its name, and writes its facts.
func (s *Server) start(ctx context.Context, id, from string, facts engine.Facts) error {
	// The facts come first: a server without them is a leftover.
	if err := s.Write(id, facts); err != nil {
		return err
	}
	at, err := s.fleet.Start(ctx, id, from)
	if err == nil {
		err = s.Write(id, s.WithEndpoint(facts, at))
	}
	if err != nil {
		return errors.Join(err, s.Drop(context.WithoutCancel(ctx), id))
	}
	return nil
}

// Restart puts a server that begins with the files of a template or snapshot in
// the place of a copy's. Its address is another.
func (s *Server) Restart(ctx context.Context, id, from string) (engine.Endpoint, error) {
	if s.kind.Save != nil {
		from = s.Files(from)
	} else {
		from = ""
	}
	// Of two at once the facts are to name the later one's server.
	unlock, err := s.Lock(ctx, "server-"+id, nil)
	if err != nil {
		return engine.Endpoint{}, err
	}
	defer unlock()
	at, err := s.fleet.Start(ctx, id, from)
	if err != nil {
		return at, err
	}
	err = s.UpdateFacts(ctx, id, func(f *engine.Facts) { *f = s.WithEndpoint(*f, at) })
	if errors.Is(err, engine.ErrNotFound) { // it was dropped meanwhile
		err = errors.Join(err, s.fleet.Stop(context.WithoutCancel(ctx), id))
	}
	return at, err
}

// Copy makes a copy, a template or a snapshot.
func (s *Server) Copy(ctx context.Context, from, to string, facts engine.Facts) error {
	e, err := s.Find(ctx, from)
	if err != nil {
		return err
	}
	kind, _ := engine.KindOf(to)
	runs := kind == engine.Copy || kind == engine.Work
	if s.kind.Save == nil {
		if runs {
			return s.start(ctx, to, "", facts)
		}
		return s.Write(to, facts)
	}
	source := s.Files(from)
	if e.Kind == engine.Copy || e.Kind == engine.Work {
		if !runs {
			return s.save(ctx, e, to, facts)
		}
		source = s.Files(engine.NewID(engine.Work))
		defer os.RemoveAll(source)
		if err := s.saveTo(ctx, e, source); err != nil {
			return err
		}
	}
	return s.start(ctx, to, source, facts)
}

// save keeps the files of a server under another name, in one step.
func (s *Server) save(ctx context.Context, e engine.Entry, to string, facts engine.Facts) error {
	work := s.Files(engine.NewID(engine.Work))
	defer os.RemoveAll(work)
	if err := s.saveTo(ctx, e, work); err != nil {
		return err
	}
	facts.Private = nil
	if err := s.Write(to, facts); err != nil {
		return err
	}
	if err := os.Rename(work, s.Files(to)); err != nil {
		return s.NoRoom(err, "naming "+to)
	}
	return nil
}

func (s *Server) saveTo(ctx context.Context, e engine.Entry, dir string) error {
	if err := os.Mkdir(dir, 0o700); err != nil {
		return s.NoRoom(err, "saving "+e.ID)
	}
	return s.NoRoom(s.kind.Save(ctx, s.At(e.Facts), dir), "saving "+e.ID)
}

// Rename makes finished work a template: its server is not needed any more.
func (s *Server) Rename(ctx context.Context, from, to string, facts engine.Facts) error {
	if err := s.Copy(ctx, from, to, facts); err != nil {
		return err
	}
	return s.Drop(ctx, from)
}

// Drop removes one, and ends its server.
func (s *Server) Drop(ctx context.Context, id string) error {
	kind, ok := engine.KindOf(id)
	if !ok {
		return fault.New(fault.Refused, "", "%s does not bear Hemzo's mark", id)
	}
	if kind == engine.Copy || kind == engine.Work && s.kind.Save != nil {
		if err := s.fleet.Stop(ctx, id); err != nil {
			return err
		}
	}
	if err := os.Remove(s.Facts(id)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("dropping %s: %w", id, err)
	}
	return os.RemoveAll(s.Files(id))
}

// Clear removes work whose maker is gone, and files without facts.
func (s *Server) Clear(ctx context.Context) error {
	all, err := s.List(ctx)
	if err != nil {
		return err
	}
	known := map[string]bool{}
	for _, e := range all {
		known[e.ID] = true
		if e.Kind == engine.Work && !e.Newer && !s.Owned(ctx, e.Facts.Owner.Lock) {
			if err := s.Drop(ctx, e.ID); err != nil {
				return err
			}
		}
	}
	names, err := os.ReadDir(s.Path)
	if err != nil {
		return err
	}
	for _, n := range names {
		if _, ours := engine.KindOf(n.Name()); ours && n.IsDir() && !known[n.Name()] && folder.Older(n, time.Minute) {
			os.RemoveAll(s.Files(n.Name()))
		}
	}
	return s.Sweep()
}

// IsIntact reports whether a template can be read.
func (s *Server) IsIntact(_ context.Context, e engine.Entry) (bool, error) { return !e.Bad, nil }

// Tables tells the tables of a template, where its files tell.
func (s *Server) Tables(_ context.Context, e engine.Entry) (map[string][]string, error) {
	if s.kind.Tables == nil {
		return nil, nil
	}
	return s.kind.Tables(s.Files(e.ID))
}

// Clients lists who is connected to the server of a copy, or to any.
func (s *Server) Clients(ctx context.Context, id string) (clients []engine.Client, err error) {
	if s.kind.Clients == nil {
		return nil, nil
	}
	all, err := s.List(ctx, engine.Copy)
	for _, e := range all {
		if id == "" || id == e.ID {
			some, failed := s.kind.Clients(ctx, s.At(e.Facts))
			clients, err = append(clients, some...), errors.Join(err, failed)
		}
	}
	return clients, err
}

// Watch tells who comes to a server: where nothing is known of that, somebody.
func (s *Server) Watch(ctx context.Context, id string) (func(time.Duration) (engine.Visitor, error), error) {
	if s.kind.Watch != nil {
		e, err := s.Find(ctx, id)
		if err != nil {
			return nil, err
		}
		return s.kind.Watch(ctx, s.At(e.Facts))
	}
	return func(time.Duration) (engine.Visitor, error) { return engine.Somebody, nil }, nil
}

// Open opens a server for work.
func (s *Server) Open(ctx context.Context, id string, session engine.Session) (engine.Database, error) {
	e, err := s.Find(ctx, id)
	if err != nil {
		return nil, err
	}
	return s.kind.Open(ctx, s, e, session)
}

// Close lets go of the fleet.
func (s *Server) Close() error {
	s.Release()
	return s.fleet.Close()
}

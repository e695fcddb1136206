package place

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"hemzo/internal/container"
	"hemzo/internal/engine"
	"hemzo/internal/engine/folder"
	"hemzo/internal/fault"
)

// fleetFolder is where the facts and templates lie of servers of which each copy
// has one.
func fleetFolder(state, identity string) string { return filepath.Join(state, "fleets", identity) }

func aboutFleet(r record) engine.About {
	return engine.About{Engine: r.Engine, Version: r.Spec.Version, Where: r.Where, Address: r.Folder}
}

// guardedFleet has a guard start and end the servers of copies.
type guardedFleet struct {
	state string
	path  string // of the guard's record
}

func (f *guardedFleet) record() record {
	r, _ := readRecord(f.path)
	return r
}

// Folder returns the folder for facts and templates.
func (f *guardedFleet) Folder() string { return fleetFolder(f.state, identityOf(f.path)) }

// About tells where the servers run.
func (f *guardedFleet) About() engine.About { return aboutFleet(f.record()) }

// Start starts the server of a copy.
func (f *guardedFleet) Start(ctx context.Context, id, from string) (engine.Endpoint, error) {
	out, err := f.record().ask(ctx, request{Do: askStart, ID: id, From: from})
	return out.Member.endpoint(), err
}

// Stop ends one. Without a guard none runs.
func (f *guardedFleet) Stop(ctx context.Context, id string) error {
	r := f.record()
	if !Alive(r.Guard) {
		return nil
	}
	_, err := r.ask(ctx, request{Do: askStop, ID: id})
	return err
}

// Close has nothing to close.
func (f *guardedFleet) Close() error { return nil }

// containers is a fleet each of whose servers is a container without a guard:
// what is left of it is swept by whoever comes next.
type containers struct {
	docker *container.Engine
	how    engine.ContainerHost
	name   string
	state  string
	folder string
	spec   engine.Spec
}

// openContainers opens the copies of an engine each of which is a container.
func openContainers(ctx context.Context, e engine.Engine, w Wanted) (engine.Server, error) {
	state, err := StateFolder()
	if err != nil {
		return nil, err
	}
	if err := prepare(ctx, w, imageOf(e.Hosting().Container.Image(w.Spec), w.Spec)); err != nil {
		return nil, err
	}
	return connectContainers(ctx, e, w, state, containersOf(state, e, w))
}

// lookAtContainers opens the copies that there are; nil where there are none.
func lookAtContainers(ctx context.Context, e engine.Engine, w Wanted) (engine.Server, error) {
	state, err := StateFolder()
	if err != nil {
		return nil, err
	}
	if _, err := os.Stat(containersOf(state, e, w)); err != nil {
		return nil, nil
	}
	return connectContainers(ctx, e, w, state, containersOf(state, e, w))
}

// containersOf is the folder with the facts of copies. What is run in another way
// is another server, with copies of its own.
func containersOf(state string, e engine.Engine, w Wanted) string {
	return filepath.Join(containersFolder(state),
		digest12(fmt.Appendf(nil, "%q %+v", e.Fingerprint(w.Spec), w.Spec.Service)))
}

// connectContainers opens the copies whose facts lie in a folder.
func connectContainers(ctx context.Context, e engine.Engine, w Wanted, state, dir string) (engine.Server, error) {
	h := e.Hosting()
	docker, err := container.Find(ctx)
	if err != nil {
		return nil, err
	}
	s, err := h.PerCopy(ctx, &containers{
		docker: docker, how: h.Container, name: e.Name(), state: state,
		folder: dir, spec: w.Spec,
	}, w.Spec)
	if err != nil {
		docker.Close()
		return nil, err
	}
	return s, nil
}

// containersFolder holds the facts of copies that are containers.
func containersFolder(state string) string { return filepath.Join(state, "services") }

// containerFolders lists the folders with such facts.
func containerFolders(state string) []string {
	found, _ := filepath.Glob(filepath.Join(containersFolder(state), "*"))
	return found
}

// containerFacts lists the files with the facts of copies that are containers.
func containerFacts(state string) []string {
	found, _ := filepath.Glob(filepath.Join(containersFolder(state), "*", "hemzo_c_*.json"))
	return found
}

// copyContainer is the name of a copy's container.
func copyContainer(state, id string) string {
	return "hemzo_" + ContainerScope(state) + "_" + strings.TrimPrefix(id, "hemzo_")
}

// Folder returns the folder for facts.
func (f *containers) Folder() string { return f.folder }

// About tells which container engine has them.
func (f *containers) About() engine.About {
	return engine.About{Engine: f.name, Version: cmp.Or(f.spec.Version, f.spec.Image), Where: "container",
		Address: f.docker.Endpoint}
}

// Start starts a container, in the place of one of its name, and returns when
// its server is ready.
func (f *containers) Start(ctx context.Context, id, from string) (engine.Endpoint, error) {
	ctx, stop := context.WithTimeout(ctx, cmp.Or(f.spec.Service.Within, startTime))
	defer stop()
	said := &tail{}
	image := f.how.Image(f.spec)
	password, err := Secret(f.state, "server "+id)
	if err != nil {
		return engine.Endpoint{}, err
	}
	run, err := f.docker.Start(ctx, container.Request{
		Files: filesOf(image, password),
		Name:  copyContainer(f.state, id), Scope: ContainerScope(f.state), Image: imageOf(image, f.spec),
		Args: image.Args, Env: environ(image.Env),
		Ports: image.Ports, Memory: f.spec.Memory, CPUs: f.spec.CPUs, Public: true, Log: said, Stop: image.Stop,
	})
	if err != nil {
		return engine.Endpoint{}, err
	}
	address, err := probeContainer(ctx, f.docker, f.how, f.spec, run, said, engine.Home{From: from, Password: password})
	if err != nil {
		_ = f.Stop(context.WithoutCancel(ctx), id) // else it is swept
		why := fault.New(fault.Lacking, "", "the %s %s did not start: %v", f.name, imageOf(image, f.spec), err)
		if told, ok := errors.AsType[*fault.Error](err); ok {
			why.Next = told.Next
		}
		why.Lines = fault.LastLines(said.String(), 50)
		return engine.Endpoint{}, why
	}
	at := map[int]string{}
	for _, p := range image.Ports {
		at[p] = run.Address(p)
	}
	return engine.Endpoint{At: at, Address: address}, nil
}

// filesOf are the files that an image's server begins with.
func filesOf(image engine.Image, password string) map[string][]byte {
	if image.Files == nil {
		return nil
	}
	return image.Files(password)
}

// Stop removes a container.
func (f *containers) Stop(ctx context.Context, id string) error {
	return f.docker.Remove(ctx, copyContainer(f.state, id))
}

// Close closes the connection to the container engine.
func (f *containers) Close() error { return f.docker.Close() }

// stopContainers removes the containers that are copies. One with a living
// owner is not removed unless force says so.
func stopContainers(ctx context.Context, state string, force bool) (gone []string, err error) {
	files := containerFacts(state)
	if files == nil {
		return nil, nil
	}
	docker, err := container.Find(ctx)
	if err != nil {
		return nil, err
	}
	defer docker.Close()
	for _, path := range files {
		f, err := folder.Make(filepath.Dir(path), func(string) (int64, bool) { return 0, true })
		if err != nil {
			return gone, err
		}
		id := identityOf(path)
		e, err := f.Find(ctx, id)
		if errors.Is(err, engine.ErrNotFound) {
			continue
		}
		if err != nil {
			return gone, err
		}
		if !force && OwnerAlive(ctx, f, e.Facts.Owner) {
			return gone, fault.New(fault.Refused, "--force ends it all the same",
				"the copy %q has an owner that is still running", e.Facts.Name)
		}
		if err := errors.Join(docker.Remove(ctx, copyContainer(state, id)), os.Remove(path)); err != nil {
			return gone, err
		}
		gone = append(gone, e.Facts.Name)
	}
	return gone, nil
}

package place

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"hemzo/internal/container"
	"hemzo/internal/engine"
	"hemzo/internal/fault"
)

// inContainer hosts servers that are containers, each tied to its guard.
type inContainer struct {
	engine engine.Engine
	how    engine.ContainerHost
	state  string
}

// prepare gets an image before anything is started: a pull takes long, and is
// shown.
func prepare(ctx context.Context, w Wanted, image string) error {
	docker, err := container.Find(ctx)
	if err != nil {
		return err
	}
	defer docker.Close()
	if host, local := docker.Host(); !local && !slices.Contains(w.AllowHosts, host) {
		return fault.New(fault.Refused, "add it to the project file:  allow_hosts: ["+host+"]",
			"the container engine is on another machine (%s): its ports would be open to others there", host)
	}
	progress := w.Pulling
	if progress == nil {
		progress = func(container.Pulling) {}
	}
	return docker.Have(ctx, image, progress)
}

func (inContainer) where() string { return "container" }

// identity names the server that a Spec wants: its image, its settings and
// the container engine.
func (c inContainer) identity(s engine.Spec) (string, error) {
	image := c.how.Image(s)
	sum := digest12(fmt.Appendf(nil, "%d %s %s %d %d %d\n%q\n",
		engine.Format, imageOf(image, s), container.Named(), s.Room, s.Memory, s.CPUs, image.Args))
	return c.engine.Name() + "-container-" + sum, nil
}

// digest12 is the beginning of a hash, for names.
func digest12(of []byte) string {
	sum := sha256.Sum256(of)
	return hex.EncodeToString(sum[:])[:12]
}

func imageOf(image engine.Image, s engine.Spec) string {
	if s.Image != "" {
		return s.Image
	}
	return image.Name
}

// clean has nothing to do: a container is removed whole.
func (inContainer) clean(string) error { return nil }

func environ(settings []engine.Setting) (env []string) {
	for _, s := range settings {
		env = append(env, s.Name+"="+s.Value)
	}
	return env
}

// ContainerScope is whose containers are, of all that an engine runs: those of
// this machine, this user, and the state folder in which their guards are.
func ContainerScope(state string) string {
	machine, _ := os.Hostname()
	return digest12([]byte(fmt.Sprint(machine, "\x00", os.Getuid(), "\x00", state)))
}

// containerName is the name of a server's container, and of the volume with
// its templates.
func containerName(state, identity string) string {
	return "hemzo_" + ContainerScope(state) + "_" + strings.TrimPrefix(identity[strings.LastIndex(identity, "-"):], "-")
}

// start starts the server in a container and returns when it has answered a
// query at the address that is handed out.
func (c inContainer) start(ctx context.Context, home engine.Home, spec engine.Spec) (*supervised, error) {
	docker, err := container.Find(ctx)
	if err != nil {
		return nil, err
	}
	identity, err := c.identity(spec)
	if err != nil {
		return nil, err
	}
	name := containerName(c.state, identity)
	for try := 0; ; try++ {
		s, seeded, err := c.try(ctx, docker, name, home, spec)
		if err == nil {
			return s, nil
		}
		if !seeded || try > 0 || ctx.Err() != nil {
			return nil, err
		}
		// What an earlier one kept does not start: from nothing, then.
		if err := docker.Forget(context.WithoutCancel(ctx), name); err != nil {
			return nil, err
		}
	}
}

// passwordFile is where a container finds the password of its server.
const passwordFile = "/hemzo/password"

func (c inContainer) try(ctx context.Context, docker *container.Engine, name string, home engine.Home,
	spec engine.Spec) (_ *supervised, seeded bool, err error) {
	image := c.how.Image(spec)
	run, err := docker.Start(ctx, container.Request{
		Name: name, Scope: ContainerScope(c.state), Image: imageOf(image, spec), Args: image.Args,
		Env:   append(environ(image.Env), image.Password+"="+passwordFile),
		Files: map[string][]byte{passwordFile: []byte(home.Password)},
		Data:  image.Data, Folder: image.Folder, Size: spec.Room, Stop: image.Stop, Ports: image.Ports,
		Memory: spec.Memory, CPUs: spec.CPUs, Tied: true, Public: true, Log: home.Log,
	})
	if err != nil {
		return nil, false, err
	}
	remove := func() { _ = docker.Remove(context.WithoutCancel(ctx), run.ID) }
	defer func() {
		if err != nil && !run.Seeded { // the volume is as new as the container
			_ = docker.Forget(context.WithoutCancel(ctx), name)
		}
	}()
	address, err := probeContainer(ctx, docker, c.how, spec, run, &tail{}, home)
	if prune := c.engine.Hosting().Prune; err == nil && run.Seeded && prune != nil {
		// A guard that was killed could not prune it.
		err = prune(ctx, address)
	}
	if err != nil {
		remove()
		return nil, run.Seeded, err
	}
	s := &supervised{address: address, stop: run.Stop, kill: func() error { remove(); return nil }}
	s.watch(func() error {
		<-run.Ended()
		return errors.Join(run.Outcome(), docker.Gone(context.Background(), run.ID))
	})
	return s, run.Seeded, nil
}

// reachTime is how long after the server listens its address may refuse
// connections.
const reachTime = 3 * time.Second

// probeContainer waits until a server has answered its probe, its container
// ends, time is up, or it is clear that its address cannot be reached from here.
func probeContainer(
	ctx context.Context, docker *container.Engine, how engine.ContainerHost, spec engine.Spec, run *container.Running,
	said *tail, home engine.Home,
) (json.RawMessage, error) {
	candidate := engine.Candidate{
		Address: run.Address, Direct: run.Direct, Password: home.Password, Kept: home.Kept, From: home.From,
		Printed: said.holds,
		Running: func(ctx context.Context) bool {
			state, err := docker.State(ctx, run.Name)
			return err == nil && state == "running"
		},
	}
	port := how.Image(spec).Ports[0]
	var listening time.Time
	look := time.Now().Add(time.Second)
	for {
		asking, stop := context.WithTimeout(ctx, probeTime)
		address, err := how.Probe(asking, spec, candidate)
		stop()
		if err == nil {
			return address, nil
		}
		if errors.Is(err, engine.ErrUnfit) {
			return nil, err
		}
		select {
		case <-run.Ended():
			return nil, endedWhileStarting(run)
		case <-ctx.Done():
			if errors.Is(ctx.Err(), context.DeadlineExceeded) {
				return nil, fault.New(fault.Lacking, "see what it printed, or give more time with  ready_within:",
					"the container %s was not ready in time: %v", run.Name, err)
			}
			return nil, fmt.Errorf("waiting for the container %s: %w", run.Name, ctx.Err())
		case <-time.After(5 * time.Millisecond):
		}
		if !unreached(err) {
			listening = time.Time{}
			continue
		}
		if time.Now().After(look) {
			look = time.Now().Add(500 * time.Millisecond)
			if !run.Listening(ctx, port) {
				continue
			}
			if listening.IsZero() {
				listening = time.Now()
			} else if time.Since(listening) > reachTime-time.Second {
				return nil, fault.New(fault.Lacking,
					"run Hemzo where the engine runs, on the host's network, or in a container of that engine",
					"the server in the container %s is ready, and cannot be reached from here (tried %s)", run.Name,
					run.Address(port))
			}
		}
	}
}

// probeTime is what one probe may take.
const probeTime = 10 * time.Second

func endedWhileStarting(run *container.Running) error {
	err := run.Outcome()
	switch {
	case fault.KindOf(err) == fault.Lacking && err != nil:
		return err
	case err != nil:
		return fault.New(fault.Lacking, "see what it printed; is it an image of this engine?", "%v while it started",
			err)
	}
	return fault.New(fault.Lacking, "", "the container %s ended while it started", run.Name)
}

// tail keeps the end of what a container prints.
type tail struct {
	mu   sync.Mutex // for what follows
	text []byte
}

// Write takes more.
func (t *tail) Write(b []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.text = append(t.text, b...)
	if n := len(t.text); n > 1<<16 {
		t.text = append([]byte{}, t.text[n-1<<15:]...)
	}
	return len(b), nil
}

func (t *tail) holds(text string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return bytes.Contains(t.text, []byte(text))
}

// String is what it has.
func (t *tail) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return string(t.text)
}

// unreached reports whether an error means that nothing at all answered.
func unreached(err error) bool {
	var timeout net.Error
	return errors.Is(err, syscall.ECONNREFUSED) || errors.Is(err, syscall.EHOSTUNREACH) ||
		errors.Is(err, syscall.ENETUNREACH) || errors.As(err, &timeout) && timeout.Timeout()
}

// removeContainer removes the container that a guard has left.
func removeContainer(ctx context.Context, name string) error {
	docker, err := container.Find(ctx)
	if err != nil {
		return nil // without its engine it does not run
	}
	defer docker.Close()
	return docker.Remove(ctx, name)
}

// checkPaused says that a server's container is checkPaused, where that is why it does
// not answer.
func checkPaused(ctx context.Context, name string) error {
	docker, err := container.Find(ctx)
	if err != nil {
		return nil
	}
	defer docker.Close()
	if state, _ := docker.State(ctx, name); state == "paused" {
		return fault.New(fault.Lacking, "docker unpause "+name+", or end it with  hemzo stop --force",
			"the container %s is paused", name)
	}
	return nil
}

// Forget removes what is kept for the next starts of servers that do not run.
func Forget(ctx context.Context) error {
	kept, err := keptFolder()
	if err != nil {
		return err
	}
	_, err = SweepContainers(ctx, true)
	for _, name := range []string{"fresh-*", "saved-*"} {
		found, _ := filepath.Glob(filepath.Join(kept, "*", name))
		for _, path := range found {
			err = errors.Join(err, os.RemoveAll(path))
		}
	}
	return errors.Join(err, forgetFleets())
}

// forgetFleets removes the templates of servers of which each copy has one, and that no
// guard keeps, and of containers of which none is there.
func forgetFleets() error {
	state, err := StateFolder()
	if err != nil {
		return err
	}
	found, err := filepath.Glob(filepath.Join(fleetFolder(state, "*"), "hemzo_t_*"))
	for _, dir := range containerFolders(state) {
		if copied, failed := filepath.Glob(filepath.Join(dir, "hemzo_[cw]_*.json")); failed == nil && copied == nil {
			templates, _ := filepath.Glob(filepath.Join(dir, "hemzo_[ts]_*"))
			found = append(found, templates...)
		}
	}
	for _, path := range found {
		identity := filepath.Base(filepath.Dir(path))
		info, failed := os.Stat(path)
		running := slices.ContainsFunc(recordFiles(state), func(r string) bool { return identityOf(r) == identity })
		if failed != nil || !info.IsDir() || running {
			continue
		}
		err = errors.Join(err, os.Remove(path+".json"), os.RemoveAll(path))
	}
	return err
}

// SweepContainers removes the containers of this user that no guard keeps,
// and with templates also the volumes of those that do not run.
func SweepContainers(ctx context.Context, templates bool) (gone []string, err error) {
	state, err := StateFolder()
	if err != nil {
		return nil, err
	}
	docker, err := container.Find(ctx)
	if err != nil {
		return nil, nil // no engine, no containers
	}
	defer docker.Close()
	all, kept, err := docker.List(ctx, ContainerScope(state))
	if err != nil {
		return nil, err
	}
	living := map[string]bool{}
	for _, path := range recordFiles(state) {
		if r, err := readRecord(path); err == nil && r.Container != "" && Alive(r.Guard) {
			living[r.Container] = true
		}
	}
	for _, path := range containerFacts(state) {
		living[copyContainer(state, identityOf(path))] = true
	}
	for _, c := range all {
		if living[c.Name] {
			continue
		}
		if err := docker.Remove(ctx, c.Name); err != nil {
			return gone, err
		}
		gone = append(gone, c.Name)
	}
	for _, v := range kept {
		if !templates || living[v] {
			continue
		}
		if err := docker.Forget(ctx, v); err != nil {
			return gone, err
		}
		gone = append(gone, "volume "+v)
	}
	return gone, nil
}

package place

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"hemzo/internal/container"
	"hemzo/internal/engine"
	"hemzo/internal/engine/folder"
	"hemzo/internal/engine/service"
	"hemzo/internal/fault"
)

// inContainer starts the servers of an engine in containers.
type inContainer struct{ engine.Contained }

// openAlone opens the copies of an engine that are containers each.
func openAlone(ctx context.Context, e engine.Alone, w Wanted) (engine.Server, error) {
	state, err := StateFolder()
	if err != nil {
		return nil, err
	}
	if err := prepare(ctx, w, w.Spec.Image); err != nil {
		return nil, err
	}
	// What is run in another way is another server, with copies of its own.
	sum := sha256.Sum256(fmt.Appendf(nil, "%q %+v", e.Base(w.Spec), w.Spec.Service))
	return e.InContainers(ctx, filepath.Join(aloneFolder(state), hex.EncodeToString(sum[:])[:12]), ContainerScope(state), w.Spec)
}

// aloneFolder holds the facts of containers that are copies.
func aloneFolder(state string) string { return filepath.Join(state, "services") }

// prepare gets an image before anything is started: a pull takes long, and is
// shown.
func prepare(ctx context.Context, w Wanted, image string) error {
	docker, err := container.Find(ctx)
	if err != nil {
		return err
	}
	defer docker.Close()
	if host, local := docker.Host(); !local && !slices.Contains(w.AllowHosts, host) {
		return fault.New(fault.Refused, "add it to the project file:  allow_hosts: ["+host+"]", "the container engine is on another machine (%s): its ports would be open to others there", host)
	}
	progress := w.Pulling
	if progress == nil {
		progress = func(container.Pulling) {}
	}
	return docker.Have(ctx, image, progress)
}

// Identity names the server that a Spec wants: its image, its settings and
// the container engine.
func (c inContainer) Identity(s engine.Spec) (string, error) {
	sum := sha256.New()
	image := c.Image(s)
	fmt.Fprintf(sum, "%d %s %s %d %d %d\n%q\n", engine.Format, imageOf(image, s), container.Named(), s.Room, s.Memory, s.CPUs, image.Args)
	return c.Name() + "-container-" + hex.EncodeToString(sum.Sum(nil))[:12], nil
}

func imageOf(image engine.Image, s engine.Spec) string {
	if s.Image != "" {
		return s.Image
	}
	return image.Name
}

// Clean has nothing to do: a container is removed whole.
func (inContainer) Clean(string) error { return nil }

// Room is the container engine's to find.
func (inContainer) Room(engine.Spec, string) int64 { return 0 }

// ContainerScope is whose containers are, of all that an engine runs: those of
// this machine, this user, and the state folder in which their guards are.
func ContainerScope(state string) string {
	machine, _ := os.Hostname()
	sum := sha256.Sum256([]byte(fmt.Sprint(machine, "\x00", os.Getuid(), "\x00", state)))
	return hex.EncodeToString(sum[:])[:12]
}

// containerName is the name of a server's container, and of the volume with
// its templates.
func containerName(state, identity string) string {
	return "hemzo_" + ContainerScope(state) + "_" + strings.TrimPrefix(identity[strings.LastIndex(identity, "-"):], "-")
}

// secret is what the passwords of this user's containers are derived from: a
// server that begins with the data of an earlier one has its password.
func secret(state string) ([]byte, error) {
	path := filepath.Join(state, "secret")
	b, err := os.ReadFile(path)
	if err == nil && len(b) >= 26 {
		return b, nil
	}
	f, err := os.CreateTemp(state, ".secret")
	if err != nil {
		return nil, fmt.Errorf("making a secret: %w", err)
	}
	_, err = f.WriteString(rand.Text())
	if err = errors.Join(err, f.Close()); err == nil {
		err = os.Link(f.Name(), path) // whoever is first makes it
	}
	os.Remove(f.Name())
	if err != nil && !errors.Is(err, os.ErrExist) {
		return nil, fmt.Errorf("making a secret: %w", err)
	}
	return os.ReadFile(path)
}

// Secret derives a secret for a name from the one that this user keeps: the
// same each time, and nobody else's.
func Secret(state, name string) (string, error) {
	key, err := secret(state)
	if err != nil {
		return "", err
	}
	h := hmac.New(sha256.New, key)
	h.Write([]byte(name))
	return base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(h.Sum(nil))[:26], nil
}

// Password is the password of this user's private servers: it is known before
// they run.
func Password() (string, error) {
	state, err := StateFolder()
	if err != nil {
		return "", err
	}
	return Secret(state, "servers")
}

// Start starts the server in a container and returns when it has answered a
// query at the address that is handed out.
func (c inContainer) Start(ctx context.Context, home engine.Home, spec engine.Spec) (*engine.Started, error) {
	docker, err := container.Find(ctx)
	if err != nil {
		return nil, err
	}
	identity, err := c.Identity(spec)
	if err != nil {
		return nil, err
	}
	name := containerName(home.State, identity)
	for try := 0; ; try++ {
		started, seeded, err := c.start(ctx, docker, name, home, spec)
		if err == nil {
			return started, nil
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

func (c inContainer) start(ctx context.Context, docker *container.Engine, name string, home engine.Home, spec engine.Spec) (_ *engine.Started, seeded bool, err error) {
	image := c.Image(spec)
	const passwordFile = "/hemzo/password"
	r := container.Request{
		Name: name, Scope: ContainerScope(home.State), Image: imageOf(image, spec), Args: image.Args, Files: map[string][]byte{passwordFile: []byte(home.Password)},
		Data: image.Data, Folder: image.Folder, Size: spec.Room, Stop: image.Stop, Ports: []int{image.Port},
		Memory: spec.Memory, CPUs: spec.CPUs, Tied: true, Public: true, Log: home.Log,
	}
	for _, s := range image.Env {
		r.Env = append(r.Env, s.Name+"="+s.Value)
	}
	r.Env = append(r.Env, image.Password+"="+passwordFile)
	run, err := docker.Start(ctx, r)
	if err != nil {
		return nil, false, err
	}
	remove := func() { _ = docker.Remove(context.WithoutCancel(ctx), run.ID) }
	defer func() {
		if err != nil && !run.Seeded { // the volume is as new as the container
			_ = docker.Forget(context.WithoutCancel(ctx), name)
		}
	}()
	address, err := c.ready(ctx, run, image.Port, home.Password)
	if err == nil && run.Seeded {
		// A guard that was killed could not tidy up.
		err = c.Tidy(ctx, address)
	}
	if err != nil {
		remove()
		return nil, run.Seeded, err
	}
	return &engine.Started{
		Address: address,
		Wait: func() error {
			<-run.Ended()
			return errors.Join(run.Outcome(), docker.Gone(context.Background(), run.ID))
		},
		Stop: run.Stop,
		Kill: func() error { remove(); return nil },
		Tidy: func(ctx context.Context) error { return c.Tidy(ctx, address) },
	}, run.Seeded, nil
}

// reachTime is how long after the server listens its address may refuse
// connections.
const reachTime = 3 * time.Second

// ready waits until the server answers a query, or the container ends, or it
// is clear that its address cannot be reached from here.
func (c inContainer) ready(ctx context.Context, run *container.Running, port int, word string) (json.RawMessage, error) {
	at := run.Address(port)
	host, number, _ := net.SplitHostPort(at)
	n, _ := strconv.Atoi(number)
	var listening time.Time
	look := time.Now().Add(time.Second)
	for {
		asking, stop := context.WithTimeout(ctx, 2*time.Second)
		address, err := c.Enter(asking, host, n, word)
		stop()
		if err == nil {
			return address, nil
		}
		select {
		case <-run.Ended():
			if err := run.Outcome(); fault.KindOf(err) == fault.Lacking {
				return nil, err
			} else if err != nil {
				return nil, fault.New(fault.Lacking, "see what it printed; is it an image of this engine?", "%v while it started", err)
			}
			return nil, fault.New(fault.Lacking, "", "the container %s ended while it started", run.Name)
		case <-ctx.Done():
			return nil, fmt.Errorf("waiting for the container %s: %w", run.Name, err)
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
				return nil, fault.New(fault.Lacking, "run Hemzo where the engine runs, on the host's network, or in a container of that engine", "the server in the container %s is ready, and cannot be reached from here (tried %s)", run.Name, at)
			}
		}
	}
}

// unreached reports whether an error means that nothing at all answered.
func unreached(err error) bool {
	var timeout net.Error
	return errors.Is(err, syscall.ECONNREFUSED) || errors.Is(err, syscall.EHOSTUNREACH) || errors.Is(err, syscall.ENETUNREACH) || errors.As(err, &timeout) && timeout.Timeout()
}

// clearContainer removes the container that a guard has left.
func clearContainer(ctx context.Context, name string) error {
	docker, err := container.Find(ctx)
	if err != nil {
		return nil // without its engine it does not run
	}
	defer docker.Close()
	return docker.Remove(ctx, name)
}

// paused says that a server's container is paused, where that is why it does
// not answer.
func paused(ctx context.Context, name string) error {
	docker, err := container.Find(ctx)
	if err != nil {
		return nil
	}
	defer docker.Close()
	if state, _ := docker.State(ctx, name); state == "paused" {
		return fault.New(fault.Lacking, "docker unpause "+name+", or end it with  hemzo stop --force", "the container %s is paused", name)
	}
	return nil
}

// stopAlone removes the containers that are copies. One with a living owner
// is not removed unless force says so.
func stopAlone(ctx context.Context, state string, force bool) (gone []string, err error) {
	files, _ := filepath.Glob(filepath.Join(aloneFolder(state), "*", "hemzo_c_*.json"))
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
		id := strings.TrimSuffix(filepath.Base(path), ".json")
		e, err := f.Find(ctx, id)
		if errors.Is(err, engine.ErrNotFound) {
			continue
		}
		if err != nil {
			return gone, err
		}
		if !force && Keeps(ctx, f, e.Facts.Owner) {
			return gone, fault.New(fault.Refused, "--force ends it all the same", "the copy %q has an owner that is still running", e.Facts.Name)
		}
		if err := errors.Join(docker.Remove(ctx, service.ContainerName(ContainerScope(state), id)), os.Remove(path)); err != nil {
			return gone, err
		}
		gone = append(gone, e.Facts.Name)
	}
	return gone, nil
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
	records, _ := filepath.Glob(filepath.Join(state, "servers", "*.json"))
	for _, path := range records {
		if r, err := readRecord(path); err == nil && r.Container != "" && Alive(r.Guard) {
			living[r.Container] = true
		}
	}
	copied, _ := filepath.Glob(filepath.Join(aloneFolder(state), "*", "hemzo_c_*.json"))
	for _, path := range copied {
		living[service.ContainerName(ContainerScope(state), strings.TrimSuffix(filepath.Base(path), ".json"))] = true
	}
	for _, c := range all {
		if living[c.Name] {
			continue
		}
		if err := docker.Remove(ctx, c.Name); err != nil {
			return gone, err
		}
		gone = append(gone, "container "+c.Name)
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

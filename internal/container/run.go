package container

import (
	"archive/tar"
	"bytes"
	"context"
	_ "embed"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/containerd/errdefs"
	"github.com/moby/moby/api/pkg/stdcopy"
	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/api/types/network"
	"github.com/moby/moby/client"

	"hemzo/internal/fault"
	"hemzo/internal/pattern"
)

// Label marks what Hemzo has made; its value is whose it is.
const Label = "hemzo.scope"

// Request asks for a container.
type Request struct {
	Name  string // of the container: two cannot have the same
	Scope string // whose it is
	Image string
	Args  []string
	Env   []string          // NAME=value
	Files map[string][]byte // put in before the start, by absolute path, readable by all in it
	// the variable of the image that names the data folder, which is to be in memory; "" for none
	Data   string
	Folder string // the data folder where the image does not name it
	Size   int64  // of the data folder, in bytes; 0 for the engine's own limit
	Stop   string // the signal that ends the server cleanly: "INT"
	Ports  []int
	Memory int64 // bytes; 0 for no limit
	CPUs   int
	Tied   bool      // it ends with this process, and keeps its data for the next start
	Public bool      // its ports may be reached from other machines
	Log    io.Writer // takes what it prints
}

// Running is a container that was started.
type Running struct {
	ID     string
	Name   string
	Seeded bool // it began with data that an earlier one kept
	engine *Engine
	attach *client.ContainerAttachResult
	ports  map[int]string
	direct map[int]string
	ended  chan struct{}
	code   int64
	oom    atomic.Bool
}

// seedFolder is where the data is kept from one start to the next.
const seedFolder = "/hemzo/seed"

//go:embed tie.sh
var tie string

// Start starts a container. A leftover of the same name is removed.
func (e *Engine) Start(ctx context.Context, r Request) (*Running, error) {
	have, err := e.have(ctx, r.Image, func(Pulling) {})
	if err != nil {
		return nil, err
	}
	own, networkName := e.self(ctx)
	config := &container.Config{Image: r.Image, Env: r.Env, Cmd: r.Args, Labels: map[string]string{Label: r.Scope},
		ExposedPorts: network.PortSet{}}
	host := &container.HostConfig{AutoRemove: true, PortBindings: network.PortMap{},
		Resources: container.Resources{Memory: r.Memory, MemorySwap: r.Memory, NanoCPUs: int64(r.CPUs) * 1e9}}
	for _, p := range r.Ports {
		port := network.MustParsePort(strconv.Itoa(p) + "/tcp")
		config.ExposedPorts[port] = struct{}{}
		if own == "" {
			host.PortBindings[port] = []network.PortBinding{{HostIP: e.bind(r.Public)}}
		}
	}
	if own != "" {
		host.NetworkMode = container.NetworkMode(networkName)
	}
	run := &Running{Name: r.Name, engine: e, ended: make(chan struct{}), ports: map[int]string{}, direct: map[int]string{}}
	if r.Data != "" || r.Folder != "" {
		folder, mount := dataFolder(r, have.Config.Env, have.Config.Volumes)
		options := "rw,exec,nosuid"
		if r.Size > 0 {
			options += ",size=" + strconv.FormatInt(r.Size, 10)
		}
		host.Tmpfs = map[string]string{mount: options}
		if r.Tied {
			config.Env = append(slices.Clone(r.Env), "HEMZO_DATA="+folder, "HEMZO_STOP="+r.Stop)
			host.Binds = []string{r.Name + ":" + seedFolder}
		}
	}
	if r.Tied {
		_, err := e.client.VolumeInspect(ctx, r.Name, client.VolumeInspectOptions{})
		run.Seeded = err == nil
		if _, err := e.client.VolumeCreate(ctx,
			client.VolumeCreateOptions{Name: r.Name, Labels: config.Labels}); err != nil {
			return nil, fmt.Errorf("making the volume that keeps templates: %w", err)
		}
		config.OpenStdin, config.StdinOnce = true, true
		config.Entrypoint = append([]string{"sh", "-c", tie, "hemzo"}, have.Config.Entrypoint...)
		if len(r.Args) == 0 {
			config.Cmd = have.Config.Cmd
		}
	}
	config.AttachStdin, config.AttachStdout, config.AttachStderr = r.Tied, true, true
	if err := e.create(ctx, run, config, host); err != nil {
		return nil, err
	}
	if err := e.begin(ctx, run, r, own, networkName); err != nil {
		_ = e.Remove(context.WithoutCancel(ctx), run.ID)
		return nil, err
	}
	return run, nil
}

// bind is the address that a port is published on.
func (e *Engine) bind(public bool) netip.Addr {
	if _, local := e.Host(); !local && public {
		return netip.IPv4Unspecified()
	}
	return netip.AddrFrom4([4]byte{127, 0, 0, 1})
}

// dataFolder returns the data folder of an image and what has to be mounted
// for it to be in memory: newer images keep it below their volume.
func dataFolder(r Request, env []string, volumes map[string]struct{}) (folder, mount string) {
	folder = r.Folder
	for _, v := range env {
		if value, ok := strings.CutPrefix(v, r.Data+"="); ok && r.Data != "" {
			folder = value
		}
	}
	mount = folder
	for v := range volumes {
		if folder == v || strings.HasPrefix(folder, v+"/") {
			mount = v
		}
	}
	return folder, mount
}

// create makes the container; one of the same name is a leftover.
func (e *Engine) create(ctx context.Context, run *Running, config *container.Config, host *container.HostConfig) error {
	for try := 0; ; try++ {
		made, err := e.client.ContainerCreate(ctx,
			client.ContainerCreateOptions{Name: run.Name, Config: config, HostConfig: host})
		if err == nil {
			run.ID = made.ID
			return nil
		}
		if !errdefs.IsConflict(err) || try == 20 {
			return fmt.Errorf("making the container %s: %w", run.Name, err)
		}
		if err := e.Remove(ctx, run.Name); err != nil {
			return err
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// begin attaches to a container, watches for its end, and starts it, in this
// order: of one that ends at once nothing would be heard otherwise.
func (e *Engine) begin(ctx context.Context, run *Running, r Request, own, networkName string) error {
	if len(r.Files) > 0 {
		if _, err := e.client.CopyToContainer(ctx, run.ID,
			client.CopyToContainerOptions{DestinationPath: "/", Content: archive(r.Files)}); err != nil {
			return fmt.Errorf("putting files into the container %s: %w", r.Name, err)
		}
	}
	// Both outlive the start.
	life := context.WithoutCancel(ctx)
	attached, err := e.client.ContainerAttach(life, run.ID,
		client.ContainerAttachOptions{Stream: true, Stdin: r.Tied, Stdout: true, Stderr: true})
	if err != nil {
		return fmt.Errorf("attaching to the container %s: %w", r.Name, err)
	}
	run.attach = &attached
	printed := make(chan struct{})
	go func() {
		_, _ = stdcopy.StdCopy(r.Log, r.Log, attached.Reader)
		close(printed)
	}()
	e.watch(life, run, r, printed)
	if _, err := e.client.ContainerStart(ctx, run.ID, client.ContainerStartOptions{}); err != nil {
		return fmt.Errorf("starting the container %s: %w", r.Name, err)
	}
	found, err := e.client.ContainerInspect(ctx, run.ID, client.ContainerInspectOptions{})
	if errdefs.IsNotFound(err) {
		return nil // it has ended already: Wait tells how
	}
	if err != nil {
		return fmt.Errorf("looking at the container %s: %w", r.Name, err)
	}
	run.reach(r, found.Container.NetworkSettings, own, networkName)
	return nil
}

// watch notes how a container ends, and closes run.ended then. printed is closed
// when all that it says was read.
func (e *Engine) watch(life context.Context, run *Running, r Request, printed <-chan struct{}) {
	watching, stop := context.WithCancel(life)
	// From the first moment on that the engine remembers: asking takes a while.
	events := e.client.Events(watching,
		client.EventsListOptions{Since: "1", Filters: client.Filters{}.Add("container", run.ID).Add("event", "oom")})
	heard := make(chan struct{})
	go func() {
		defer close(heard)
		select {
		case <-events.Messages:
			run.oom.Store(true)
		case <-events.Err:
		}
	}()
	wait := e.client.ContainerWait(life, run.ID,
		client.ContainerWaitOptions{Condition: container.WaitConditionNextExit})
	go func() {
		select {
		case w := <-wait.Result:
			run.code = w.StatusCode
		case <-wait.Error:
			run.code = -1 // the engine itself has gone
		}
		select {
		case <-printed:
		case <-time.After(2 * time.Second):
		}
		if run.code == killed && r.Memory > 0 {
			// That it was killed for its memory is told beside its end, before it or after.
			select {
			case <-heard:
			case <-time.After(5 * time.Second):
			}
		}
		stop()
		run.attach.Close()
		close(run.ended)
	}()
}

// reach notes where the ports are reached.
func (run *Running) reach(r Request, n *container.NetworkSettings, own, networkName string) {
	host, _ := run.engine.Host()
	if n == nil {
		return
	}
	for _, p := range r.Ports {
		if own != "" {
			if at := n.Networks[networkName]; at != nil {
				run.ports[p] = net.JoinHostPort(at.IPAddress.String(), strconv.Itoa(p))
			}
			continue
		}
		for _, b := range n.Ports[network.MustParsePort(strconv.Itoa(p)+"/tcp")] {
			run.ports[p] = net.JoinHostPort(host, b.HostPort)
		}
		for _, at := range n.Networks {
			if loopback := net.ParseIP(host); loopback != nil && loopback.IsLoopback() && onThisMachine(at.IPAddress.String()) {
				run.direct[p] = net.JoinHostPort(at.IPAddress.String(), strconv.Itoa(p))
			}
		}
	}
}

// onThisMachine reports whether an address lies in a network that a bridge of this
// machine leads to: one that it is itself in.
func onThisMachine(address string) bool {
	ip := net.ParseIP(address)
	all, err := net.Interfaces()
	if ip == nil || err != nil {
		return false
	}
	for _, i := range all {
		if _, err := os.Stat(filepath.Join("/sys/class/net", i.Name, "bridge")); err != nil {
			continue
		}
		addresses, _ := i.Addrs()
		for _, a := range addresses {
			if network, ok := a.(*net.IPNet); ok && network.Contains(ip) {
				return true
			}
		}
	}
	return false
}

func archive(files map[string][]byte) io.Reader {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for path, text := range files {
		_ = w.WriteHeader(&tar.Header{Name: strings.TrimPrefix(path, "/"), Mode: 0o444, Size: int64(len(text))})
		_, _ = w.Write(text)
	}
	_ = w.Close()
	return &b
}

var ownHostname = pattern.Lazy(`/containers/([0-9a-f]{64})/hostname`)

// self returns the container of this engine that this process runs in, and
// the network to join; "" where it runs in none.
func (e *Engine) self(ctx context.Context) (id, networkName string) {
	b, err := os.ReadFile("/proc/self/mountinfo")
	if err != nil {
		return "", ""
	}
	m := ownHostname().FindSubmatch(b)
	if m == nil {
		return "", ""
	}
	found, err := e.client.ContainerInspect(ctx, string(m[1]), client.ContainerInspectOptions{})
	if err != nil || found.Container.NetworkSettings == nil {
		return "", ""
	}
	for name := range found.Container.NetworkSettings.Networks {
		if name != "none" && name != "host" {
			return found.Container.ID, name
		}
	}
	return "", "" // on the host's own network: as if outside
}

// Address is where a port of the container is reached: "127.0.0.1:32768".
func (run *Running) Address(port int) string { return run.ports[port] }

// Direct is where it is reached without the engine's proxy in between, from this
// machine alone: "172.17.0.2:5432"; "" where that is not known. Nobody else
// should be told: it is another at each start.
func (run *Running) Direct(port int) string { return run.direct[port] }

// Ended is closed when the container has ended.
func (run *Running) Ended() <-chan struct{} { return run.ended }

// killed is the code of what ended by SIGKILL.
const killed = 128 + 9

// Outcome says how an ended container ended.
func (run *Running) Outcome() error {
	switch {
	case run.oom.Load():
		return fault.New(fault.Lacking, "give it more with  limits: { memory: ... }",
			"the container %s was killed: it ran out of memory", run.Name)
	case run.code < 0:
		return errors.New("the container engine has gone")
	case run.code != 0:
		return fmt.Errorf("the container %s ended with code %d", run.Name, run.code)
	}
	return nil
}

// Stop asks a tied container to end cleanly and to keep its data.
func (run *Running) Stop() error { return run.attach.CloseWrite() }

// Listening reports whether a server in the container listens on a port for
// others than itself.
func (run *Running) Listening(ctx context.Context, port int) bool {
	made, err := run.engine.client.ExecCreate(ctx, run.ID,
		client.ExecCreateOptions{AttachStdout: true, Cmd: []string{"cat", "/proc/net/tcp", "/proc/net/tcp6"}})
	if err != nil {
		return false
	}
	out, err := run.engine.client.ExecAttach(ctx, made.ID, client.ExecAttachOptions{})
	if err != nil {
		return false
	}
	defer out.Close()
	var text bytes.Buffer
	_, _ = stdcopy.StdCopy(&text, io.Discard, out.Reader)
	// Address and port in hexadecimal, then the other end, then 0A: listening.
	return regexp.MustCompile(fmt.Sprintf(`(?m): 0+:%04X \S+ 0A `, port)).Match(text.Bytes())
}

// State is the state of a container, by its name or identifier: "running",
// "paused", ...; "" where there is none.
func (e *Engine) State(ctx context.Context, name string) (string, error) {
	found, err := e.client.ContainerInspect(ctx, name, client.ContainerInspectOptions{})
	if errdefs.IsNotFound(err) {
		return "", nil
	}
	if err != nil || found.Container.State == nil {
		return "", fmt.Errorf("looking at the container %s: %w", name, err)
	}
	return string(found.Container.State.Status), nil
}

// Remove removes a container, whatever its state is, and returns when it is
// gone. What is not there is no error.
func (e *Engine) Remove(ctx context.Context, name string) error {
	_, err := e.client.ContainerRemove(ctx, name, client.ContainerRemoveOptions{Force: true, RemoveVolumes: true})
	if err != nil && !errdefs.IsNotFound(err) && !errdefs.IsConflict(err) {
		return fmt.Errorf("removing the container %s: %w", name, err)
	}
	return e.Gone(ctx, name)
}

// Gone returns when there is no container of a name any more.
func (e *Engine) Gone(ctx context.Context, name string) error {
	for end := time.Now().Add(30 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		state, err := e.State(ctx, name)
		if err != nil || state == "" || time.Now().After(end) {
			return err
		}
	}
}

// Forget removes what containers of a name have kept.
func (e *Engine) Forget(ctx context.Context, name string) error {
	_, err := e.client.VolumeRemove(ctx, name, client.VolumeRemoveOptions{Force: true})
	if err != nil && !errdefs.IsNotFound(err) {
		return fmt.Errorf("removing the volume %s: %w", name, err)
	}
	return nil
}

// Found is a container of Hemzo's.
type Found struct{ Name, State string }

// List lists the containers of a scope, and the volumes in which they keep
// data.
func (e *Engine) List(ctx context.Context, scope string) (all []Found, kept []string, err error) {
	ours := client.Filters{}.Add("label", Label+"="+scope)
	found, err := e.client.ContainerList(ctx, client.ContainerListOptions{All: true, Filters: ours})
	if err != nil {
		return nil, nil, fmt.Errorf("listing containers: %w", err)
	}
	for _, c := range found.Items {
		if len(c.Names) > 0 {
			all = append(all, Found{Name: strings.TrimPrefix(c.Names[0], "/"), State: string(c.State)})
		}
	}
	volumes, err := e.client.VolumeList(ctx, client.VolumeListOptions{Filters: ours})
	if err != nil {
		return nil, nil, fmt.Errorf("listing volumes: %w", err)
	}
	for _, v := range volumes.Items {
		kept = append(kept, v.Name)
	}
	return all, kept, nil
}

// Has reports whether an image is there.
func (e *Engine) Has(ctx context.Context, image string) bool {
	_, err := e.client.ImageInspect(ctx, image)
	return err == nil
}

package redis

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"hemzo/internal/engine"
	"hemzo/internal/engine/launch"
	"hemzo/internal/engine/redis/resp"
	"hemzo/internal/fault"
)

// Identity names the servers for a Spec: their program and settings.
func (Engine) Identity(s engine.Spec) (string, error) {
	b, err := find(s.Version)
	if err != nil {
		return "", err
	}
	sum := sha256.New()
	fmt.Fprintf(sum, "%d %s %s %v\n", engine.Format, b.server, b.stamp, unlimited(s))
	for _, set := range sorted(s.Settings) {
		fmt.Fprintf(sum, "%s=%s\n", set.Name, set.Value)
	}
	return "redis-" + b.major + "-" + hex.EncodeToString(sum.Sum(nil))[:12], nil
}

// Room estimates what a server's data takes at its start.
func (Engine) Room(engine.Spec, string) int64 { return 4 << 20 }

// Clean finds nothing: what a killed server leaves lies in its folder.
func (Engine) Clean(string) error { return nil }

// layout is a folder of data and the server on it.
type layout struct {
	installation
	home  engine.Home
	spec  engine.Spec
	owner *engine.User
	ports int
	began about // of the state that it begins with
}

// Launch starts a server: loopback and a private socket alone, a free port.
func (Engine) Launch(home engine.Home, spec engine.Spec) (func(context.Context, error) (*engine.Program, error),
	error) {
	b, err := find(spec.Version)
	if err != nil {
		return nil, err
	}
	l := &layout{installation: b, home: home, spec: spec, owner: launch.ServerUser("redis", "valkey")}
	return l.next, nil
}

var errPort = errors.New("the port is taken")

// portTries is how often a port is chosen: another program may take it between its choice
// and its use.
const portTries = 5

func (l *layout) next(_ context.Context, failed error) (*engine.Program, error) {
	if failed != nil && (!errors.Is(failed, errPort) || l.ports >= portTries) {
		return nil, failed
	}
	if failed == nil {
		if err := l.prepare(); err != nil {
			return nil, err
		}
	}
	return l.program()
}

func (l *layout) log() string { return filepath.Join(l.home.Folder, "log") }

func (l *layout) data() string { return filepath.Join(l.home.Folder, "data") }

// prepare lays out the data: those that the server begins with, or none.
func (l *layout) prepare() error {
	if err := launch.Enter(l.home.Folder, l.owner, l.title()); err != nil {
		return err
	}
	if err := errors.Join(os.Mkdir(l.data(), 0o700), launch.Chown(l.data(), l.owner)); err != nil {
		return launch.NoRoom(err, "making a folder")
	}
	if l.home.From == "" {
		return nil
	}
	var err error
	if l.began, err = readAbout(l.home.From); err != nil {
		return err
	}
	return putData(l.home.From, l.data(), l.owner)
}

// putData puts the RDB file of a state in a server's folder, in one step.
func putData(from, data string, owner *engine.User) error {
	work := filepath.Join(data, "next.rdb")
	os.Remove(work)
	err := launch.CopyFile(filepath.Join(from, dataFile), work)
	err = errors.Join(err, launch.Chown(work, owner))
	if err == nil {
		err = os.Rename(work, filepath.Join(data, dataFile))
	}
	return launch.NoRoom(err, "copying the keys of a state")
}

// forTests are the rights of tests' clients: all but what is about the server itself. They
// may ask it.
const forTests = "+@all -@admin -debug -migrate -restore-asking -pfdebug +config|get +client|list +client|id " +
	"+client|getname +client|setname +client|tracking +client|caching +client|getredir +client|reply +client|unblock"

// rightsOf are the rights of tests, as a server of this version knows them, where they may
// not do anything.
func (a address) rightsOf(unlimited bool) []string {
	rights := []string{"reset", "on", fmt.Sprintf("#%x", sha256.Sum256([]byte(a.Password))), "~*"}
	if a.atLeast(6, 2) {
		rights = append(rights, "&*")
	}
	if unlimited {
		return append(rights, "+@all")
	}
	rights = append(rights, strings.Fields(forTests)...)
	if a.atLeast(6, 2) {
		rights = append(rights, "+client|info", "+client|trackinginfo")
	}
	if a.atLeast(7, 0) {
		rights = append(rights, "+client|no-evict")
	}
	if a.atLeast(7, 2) {
		rights = append(rights, "+client|setinfo", "+client|no-touch")
	}
	return rights
}

// settings are the lines of the server's settings that hold wherever it is. Nobody but Hemzo
// comes in before it is ready. Passwords are hashed: a file of a container can be read in it.
func settings(spec engine.Spec, a address) []string {
	lines := []string{
		fmt.Sprintf("user %s on #%x ~* +@all", admin, sha256.Sum256([]byte(a.Admin))), "user " + tests + " off",
		`save ""`, "appendonly no", "daemonize no", `logfile ""`, "dbfilename " + dataFile, "repl-diskless-sync-delay 0",
		"always-show-logo no",
	}
	for _, s := range spec.Settings {
		lines = append(lines, s.Name+" "+strconv.Quote(s.Value))
	}
	return lines
}

// program is the server on its folder.
func (l *layout) program() (*engine.Program, error) {
	port, err := launch.Port(l.home.Folder, l.ports)
	if err != nil {
		return nil, err
	}
	l.ports++
	a := address{Socket: launch.Socket(l.home.Folder), Host: "127.0.0.1", Port: port, Product: l.product,
		Version: l.version, Admin: engine.Derive([]byte(l.home.Password), admin),
		Password: engine.Derive([]byte(l.home.Password), tests), Folder: l.data()}
	lines := append(settings(l.spec, a), "port "+strconv.Itoa(port), "bind 127.0.0.1", "dir "+l.data())
	if a.Socket != "" {
		lines = append(lines, "unixsocket "+a.Socket, "unixsocketperm 700")
	}
	if a.atLeast(7, 0) {
		lines = append(lines, "enable-debug-command local")
	}
	path := filepath.Join(l.home.Folder, "server.conf")
	os.Remove(path)
	err = os.WriteFile(path, []byte(strings.Join(lines, "\n")+"\n"), 0o600)
	if err = errors.Join(err, launch.Chown(path, l.owner)); err != nil {
		return nil, launch.NoRoom(err, "writing the server's settings")
	}
	return &engine.Program{
		Path: l.server, Args: []string{path}, Env: []string{"LC_ALL=C", "TZ=UTC"}, Folder: l.home.Folder, User: l.owner,
		Stop: syscall.SIGTERM, Kill: syscall.SIGKILL, Prints: l.log(),
		Probe: func(ctx context.Context) (json.RawMessage, error) { return l.probe(ctx, a) },
		Ended: func(code int) error {
			if launch.PortInUse(port) {
				return errPort
			}
			e := fault.New(fault.Lacking, "are all  settings:  those of this version?",
				"%s %s ended while it started (exit code %d)", l.title(), l.version, code)
			said, _ := os.ReadFile(l.log())
			e.Lines = fault.LastLines(string(said), 6)
			return e
		},
	}, nil
}

// probe asks the server at its socket and at its port, and has it begin with all that an
// RDB file does not hold.
func (l *layout) probe(ctx context.Context, a address) (json.RawMessage, error) {
	c, err := a.dial(ctx)
	if err == nil {
		defer c.Close()
		_, err = c.do(ctx, "PING")
	}
	if err != nil {
		return nil, notReady(err)
	}
	a.Saved, a.Unlimited = l.home.From != "", unlimited(l.spec)
	if a, err = begin(ctx, c, a, l.home.From, l.began); err != nil {
		return nil, err
	}
	return json.Marshal(a)
}

// notReady is the error of a server that does not answer yet: it says LOADING as long as it
// reads its file.
func notReady(err error) error {
	if e, ok := errors.AsType[resp.ReplyError](err); ok && e.Code() != "LOADING" {
		return err
	}
	return fmt.Errorf("waiting for the server: %w: %w", engine.ErrNotReady, err)
}

// begin has a server that holds the keys of a state begin with it: spans of time begin now,
// scripts are in its cache, and tests may come in, which is tried.
func begin(ctx context.Context, c *conn, a address, from string, s about) (address, error) {
	h, err := a.askHarmless(ctx, c)
	if err != nil {
		return a, fmt.Errorf("asking for the server's commands: %w", err)
	}
	epoch, err := serverTime(ctx, c)
	if err != nil {
		return a, err
	}
	a.Scripts = s.Scripts
	if from != "" {
		a.Began = filepath.Base(from)
	}
	f := a.filler()
	if s.Expiring > 0 {
		whole, err := readState(from)
		if err != nil {
			return a, err
		}
		f.expiring(whole, epoch)
	}
	for _, text := range s.Scripts {
		f.add("SCRIPT", "LOAD", text)
	}
	f.add(append([]string{"ACL", "SETUSER", tests}, a.rightsOf(a.Unlimited)...)...)
	if err := f.run(ctx, c); err != nil {
		return a, err
	}
	user, err := a.dialAsTests(ctx)
	if err != nil {
		return a, err
	}
	if err := user.Close(); err != nil {
		return a, err
	}
	if a.Counts, err = a.count(ctx, c, h); err != nil {
		return a, err
	}
	a.Counts.Epoch = epoch
	return a, nil
}

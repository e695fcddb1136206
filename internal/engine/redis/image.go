package redis

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"hemzo/internal/engine"
	"hemzo/internal/pattern"
)

// serverPort is where a server listens inside its container.
const serverPort = 6379

// settingsFile is where a container finds its server's settings: the public images take an
// argument that ends so for a file of them.
const settingsFile = "/hemzo/server.conf"

// Image runs the usual image of Redis, of the version wanted; that of Valkey where the project
// file names it.
func (Engine) Image(spec engine.Spec) engine.Image {
	version := spec.Version
	if version == "" {
		version = "latest"
	}
	return engine.Image{Name: "redis:" + version, Ports: []int{serverPort}, Args: []string{settingsFile}, Stop: "TERM",
		Files: func(password string) map[string][]byte {
			a := inImage(spec, password)
			lines := append(settings(spec, a), fmt.Sprint("port ", serverPort), "protected-mode no", "dir /data")
			if a.atLeast(7, 0) {
				lines = append(lines, "enable-debug-command yes")
			}
			return map[string][]byte{settingsFile: []byte(strings.Join(lines, "\n") + "\n")}
		}}
}

// taggedVersion is the version that an image's tag tells.
var taggedVersion = pattern.Lazy(`:v?([0-9]+(?:\.[0-9]+)?)[^:/]*$`)

// inImage is the server of a container before it has said what it is: settings of 7.0 and
// later end the start of an older one.
func inImage(spec engine.Spec, password string) address {
	a := address{Product: "redis", Version: spec.Version, Admin: engine.Derive([]byte(password), admin),
		Password: engine.Derive([]byte(password), tests)}
	if m := taggedVersion().FindStringSubmatch(spec.Image); m != nil && a.Version == "" {
		a.Version = m[1]
	}
	if a.Version == "" {
		a.Version = "7"
	}
	return a
}

// Probe asks the server of a container who it is, and has it begin with a state.
func (Engine) Probe(ctx context.Context, spec engine.Spec, at engine.Candidate) (json.RawMessage, error) {
	a := inImage(spec, at.Password)
	a.moveTo(at.Address(serverPort))
	c, err := a.dial(ctx)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	if err := a.identify(ctx, c); err != nil {
		return nil, err
	}
	var s about
	a.Unlimited = unlimited(spec)
	if at.From != "" {
		if s, err = readAbout(at.From); err == nil {
			err = a.fill(ctx, c, at.From)
		}
	}
	if err == nil {
		a, err = begin(ctx, c, a, at.From, s)
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %w", engine.ErrUnfit, err)
	}
	return json.Marshal(a)
}

// identify asks a server what it is.
func (a *address) identify(ctx context.Context, c *conn) error {
	v, err := c.do(ctx, "INFO", "server")
	if err != nil {
		return fmt.Errorf("asking the server who it is: %w", err)
	}
	fields := map[string]string{}
	for line := range strings.Lines(v.Text) {
		name, value, _ := strings.Cut(strings.TrimRight(line, "\r\n"), ":")
		fields[name] = value
	}
	a.Product, a.Version = "redis", fields["redis_version"]
	if n := fields["valkey_version"]; n != "" {
		a.Product, a.Version = "valkey", n
	}
	return nil
}

// fill puts the keys of a state into an empty server, which then keeps a file of them.
func (a *address) fill(ctx context.Context, c *conn, from string) error {
	s, err := readState(from)
	if err != nil {
		return err
	}
	epoch, err := serverTime(ctx, c)
	if err != nil {
		return err
	}
	f := a.filler()
	f.whole(s, epoch)
	if err := f.run(ctx, c); err != nil {
		return err
	}
	// A server of a container may be without room for files: it is put back by commands then.
	_, err = c.do(ctx, "SAVE")
	a.Saved = err == nil
	return nil
}

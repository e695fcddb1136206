// Package container speaks to a container engine: it finds one, gets images,
// starts containers whose life is tied to this process, and removes them. It
// knows no database system.
package container

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/moby/moby/client"

	"hemzo/internal/fault"
)

// Engine is a container engine that answered.
type Engine struct {
	client   *client.Client
	Endpoint string // as it was found: "unix:///var/run/docker.sock"
	From     string // what named it: "DOCKER_HOST", "the default socket"
	Version  string
	API      string
}

// endpoint is where an engine may be, and what says so.
type endpoint struct{ host, from, certs string }

// An engine may take this long to accept a connection, and to say who it is: a
// busy one takes its time.
const (
	acceptTime = 3 * time.Second
	answerTime = 20 * time.Second
)

// Find finds the engine to use: the one that DOCKER_HOST names, the one of
// the context that DOCKER_CONTEXT or the configuration file names, else the
// first that answers of the usual sockets.
func Find(ctx context.Context) (*Engine, error) {
	named, err := named()
	if err != nil {
		return nil, err
	}
	if named != nil {
		return open(ctx, *named)
	}
	var first error // of those that are there, and could not be asked
	var tried []string
	for _, e := range usual() {
		engine, err := open(ctx, e)
		if err == nil {
			return engine, nil
		}
		tried = append(tried, strings.TrimPrefix(e.host, "unix://"))
		if first == nil && !absent(err) {
			first = err
		}
	}
	if first != nil {
		return nil, first
	}
	return nil, fault.New(fault.Lacking, "start the container engine, or name it with DOCKER_HOST",
		"no container engine answers (tried %s)", strings.Join(tried, ", "))
}

// absent reports whether nothing listens at an endpoint.
func absent(err error) bool {
	return errors.Is(err, syscall.ENOENT) || errors.Is(err, syscall.ECONNREFUSED) || errors.Is(err, syscall.ENOTDIR)
}

// usual lists the sockets that engines usually listen on.
func usual() []endpoint {
	sockets := []endpoint{{host: "unix:///var/run/docker.sock", from: "the default socket"}}
	if dir := os.Getenv("XDG_RUNTIME_DIR"); dir != "" {
		sockets = append(sockets,
			endpoint{host: "unix://" + filepath.Join(dir, "docker.sock"), from: "the user's own socket"},
			endpoint{host: "unix://" + filepath.Join(dir, "podman", "podman.sock"),
				from: "the user's compatible socket"})
	}
	if home, err := os.UserHomeDir(); err == nil {
		for _, path := range []string{".docker/run/docker.sock", ".colima/default/docker.sock", ".rd/docker.sock"} {
			sockets = append(sockets, endpoint{host: "unix://" + filepath.Join(home, path),
				from: "the user's own socket"})
		}
	}
	return append(sockets, endpoint{host: "unix:///run/podman/podman.sock", from: "the compatible socket"})
}

// named returns the endpoint that the environment or the configuration file
// names, nil where neither does.
func named() (*endpoint, error) {
	if host := os.Getenv("DOCKER_HOST"); host != "" {
		e := &endpoint{host: host, from: "DOCKER_HOST"}
		if os.Getenv("DOCKER_TLS_VERIFY") != "" {
			e.certs = cmp.Or(os.Getenv("DOCKER_CERT_PATH"), configFolder())
		}
		return e, nil
	}
	name, from := os.Getenv("DOCKER_CONTEXT"), "DOCKER_CONTEXT"
	if name == "" {
		name, from = configuration().CurrentContext, "the current context"
	}
	if name == "" || name == "default" {
		return nil, nil
	}
	sum := sha256.Sum256([]byte(name))
	path := filepath.Join(configFolder(), "contexts", "meta", hex.EncodeToString(sum[:]), "meta.json")
	var meta struct {
		Endpoints map[string]struct{ Host string }
	}
	b, err := os.ReadFile(path)
	if err == nil {
		err = json.Unmarshal(b, &meta)
	}
	if err != nil || meta.Endpoints["docker"].Host == "" {
		return nil, fault.New(fault.Lacking, "choose another context, or name the engine with DOCKER_HOST",
			"%s is %q, of which %s says nothing", from, name, path)
	}
	e := &endpoint{host: meta.Endpoints["docker"].Host, from: fmt.Sprintf("the context %q", name)}
	certs := filepath.Join(configFolder(), "contexts", "tls", hex.EncodeToString(sum[:]), "docker")
	if _, err := os.Stat(filepath.Join(certs, "cert.pem")); err == nil {
		e.certs = certs
	}
	return e, nil
}

// Named is what names the engine to use, without asking it anything: it is the
// same for all that use the same engine.
func Named() string {
	if e, err := named(); err == nil && e != nil {
		return e.host
	}
	return "the first that answers"
}

func configFolder() string {
	if dir := os.Getenv("DOCKER_CONFIG"); dir != "" {
		return dir
	}
	home, _ := os.UserHomeDir()
	return filepath.Join(home, ".docker")
}

// config is what Hemzo reads of the engine's own configuration file.
type config struct {
	CurrentContext string `json:"currentContext"`
	Auths          map[string]struct {
		Auth          string `json:"auth"`
		IdentityToken string `json:"identitytoken"`
	} `json:"auths"`
	CredsStore  string            `json:"credsStore"`
	CredHelpers map[string]string `json:"credHelpers"`
}

func configuration() (c config) {
	if b, err := os.ReadFile(filepath.Join(configFolder(), "config.json")); err == nil {
		_ = json.Unmarshal(b, &c)
	}
	return c
}

// open connects to an engine. The socket is dialled first: what the client's
// own errors say of a socket does not tell why.
func open(ctx context.Context, e endpoint) (*Engine, error) {
	u, err := url.Parse(e.host)
	if err != nil || u.Scheme == "" {
		return nil, fault.New(fault.Usage, "as in  unix:///var/run/docker.sock  or  tcp://host:2375",
			"%s is not an address of a container engine: %s", e.from, e.host)
	}
	options := []client.Opt{client.WithUserAgent("hemzo"), client.WithHost(e.host)}
	switch u.Scheme {
	case "unix":
		err = tryDial(ctx, e, "unix", u.Path)
	case "tcp", "http", "https":
		err = tryDial(ctx, e, "tcp", u.Host)
	case "ssh":
		_, err = sshCommand(u)
		options = []client.Opt{client.WithUserAgent("hemzo"), client.WithHost("http://engine.invalid"),
			client.WithDialContext(func(context.Context, string, string) (net.Conn, error) { return dialSSH(u) })}
	default:
		err = fault.New(fault.Lacking, "forward its socket, and name that with DOCKER_HOST",
			"%s (%s) cannot be reached: Hemzo knows unix, tcp and ssh", e.from, e.host)
	}
	if err != nil {
		return nil, err
	}
	if e.certs != "" {
		options = append(options, client.WithTLSClientConfig(filepath.Join(e.certs, "ca.pem"),
			filepath.Join(e.certs, "cert.pem"), filepath.Join(e.certs, "key.pem")))
	}
	c, err := client.New(options...)
	if err != nil {
		return nil, fmt.Errorf("opening the container engine: %w", err)
	}
	asking, stop := context.WithTimeout(ctx, answerTime)
	defer stop()
	version, err := c.ServerVersion(asking, client.ServerVersionOptions{})
	if err != nil {
		return nil, fault.New(fault.Lacking, "is it a container engine?", "what listens at %s (%s) does not answer: %v",
			e.host, e.from, err)
	}
	return &Engine{client: c, Endpoint: e.host, From: e.from, Version: version.Version, API: version.APIVersion}, nil
}

// tryDial connects once.
func tryDial(ctx context.Context, e endpoint, network, address string) error {
	ctx, stop := context.WithTimeout(ctx, acceptTime)
	defer stop()
	conn, err := (&net.Dialer{}).DialContext(ctx, network, address)
	if err != nil {
		return unreachable(e, address, err)
	}
	return conn.Close()
}

func unreachable(e endpoint, address string, err error) error {
	f := &fault.Error{Kind: fault.Lacking, Reason: err}
	switch {
	case errors.Is(err, syscall.EACCES):
		f.What = fmt.Sprintf("the container engine's socket %s is closed to this user", address)
		f.Next = "have yourself added to the group of the socket" + groupOf(address) +
			" and log in again, or name another engine with DOCKER_HOST"
	case absent(err):
		f.What = fmt.Sprintf("no container engine answers at %s (%s)", e.host, e.from)
		f.Next = "start it, or name another with DOCKER_HOST"
	default:
		f.What, f.Said = fmt.Sprintf("cannot reach the container engine at %s (%s)", e.host, e.from), err.Error()
		f.Next = "name another with DOCKER_HOST"
	}
	return f
}

func groupOf(path string) string {
	info, err := os.Stat(path)
	if err != nil {
		return ""
	}
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return " (" + strconv.Itoa(int(st.Gid)) + ", see ls -l " + path + ")"
	}
	return ""
}

// Host is the machine that the engine's published ports are on, and whether
// that is this machine.
func (e *Engine) Host() (name string, local bool) {
	u, err := url.Parse(e.Endpoint)
	if err != nil || u.Scheme == "unix" {
		return "127.0.0.1", true
	}
	host := u.Hostname()
	ip := net.ParseIP(host)
	return host, host == "localhost" || ip != nil && ip.IsLoopback()
}

// Close closes the connections to the engine.
func (e *Engine) Close() error { return e.client.Close() }

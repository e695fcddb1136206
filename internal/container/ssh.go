package container

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"os/exec"
	"strings"
	"sync"
	"time"

	"hemzo/internal/fault"
)

// sshCommand is how an engine on another machine is reached by ssh, as its own client does
// it: a command there passes on what it reads to the engine, and back.
func sshCommand(u *url.URL) ([]string, error) {
	host := u.Hostname()
	if host == "" || strings.HasPrefix(host, "-") || strings.HasPrefix(u.User.Username(), "-") || u.RawQuery != "" {
		return nil, fault.New(fault.Usage, "as in  ssh://user@host:22", "%s is not an address of a container engine",
			u.Redacted())
	}
	args := []string{"ssh", "-T", "-o", "ConnectTimeout=10"}
	if name := u.User.Username(); name != "" {
		args = append(args, "-l", name)
	}
	if port := u.Port(); port != "" {
		args = append(args, "-p", port)
	}
	args = append(args, "--", host, "docker")
	if socket := strings.TrimSuffix(u.Path, "/"); socket != "" {
		args = append(args, "--host", "unix://"+socket)
	}
	return append(args, "system", "dial-stdio"), nil
}

// sshConn is a connection through such a command.
type sshConn struct {
	io.Reader
	io.WriteCloser
	cmd    *exec.Cmd
	said   bytes.Buffer // what it writes to stderr, once it has ended
	ending sync.Once
}

func dialSSH(u *url.URL) (net.Conn, error) {
	args, err := sshCommand(u)
	if err != nil {
		return nil, err
	}
	c := &sshConn{cmd: exec.Command(args[0], args[1:]...)}
	c.cmd.Stderr = &c.said
	if c.WriteCloser, err = c.cmd.StdinPipe(); err == nil {
		c.Reader, err = c.cmd.StdoutPipe()
	}
	if err == nil {
		err = c.cmd.Start()
	}
	if err != nil {
		return nil, fmt.Errorf("running ssh: %w", err)
	}
	return c, nil
}

// Read reads. Where the command has ended, its last words tell why.
func (c *sshConn) Read(b []byte) (int, error) {
	n, err := c.Reader.Read(b)
	if n == 0 && err != nil {
		c.end()
		if said := strings.TrimSpace(c.said.String()); said != "" && !c.cmd.ProcessState.Success() {
			err = errors.New(said)
		}
	}
	return n, err
}

// Close ends the command.
func (c *sshConn) Close() error {
	err := c.WriteCloser.Close()
	_ = c.cmd.Process.Kill()
	c.end()
	return err
}

func (c *sshConn) end() { c.ending.Do(func() { _ = c.cmd.Wait() }) }

// Addresses and deadlines of a connection that has none.

func (c *sshConn) LocalAddr() net.Addr              { return &net.UnixAddr{Name: "ssh", Net: "unix"} }
func (c *sshConn) RemoteAddr() net.Addr             { return c.LocalAddr() }
func (c *sshConn) SetDeadline(time.Time) error      { return nil }
func (c *sshConn) SetReadDeadline(time.Time) error  { return nil }
func (c *sshConn) SetWriteDeadline(time.Time) error { return nil }

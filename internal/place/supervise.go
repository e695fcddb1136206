package place

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"syscall"
	"time"

	"hemzo/internal/engine"
)

// supervised is a server that a guard has started.
type supervised struct {
	process engine.Process // where it is one of this machine
	address json.RawMessage
	ended   chan struct{}          // closed when it has ended
	outcome error                  // how it ended; to be read after that
	stop    func() error           // asks it to end cleanly
	kill    func() error           // ends it in any case
	save    func() (string, error) // keeps its data after a clean end; nil for nothing
}

// watch waits for a server's end.
func (s *supervised) watch(wait func() error) {
	s.ended = make(chan struct{})
	go func() {
		s.outcome = wait()
		close(s.ended)
	}()
}

// end ends a server: cleanly, and where that takes too long by force. It
// reports whether it ended cleanly.
func (s *supervised) end() bool {
	_ = s.stop()
	select {
	case <-s.ended:
		return s.outcome == nil
	case <-time.After(endTime):
		_ = s.kill()
		<-s.ended
		return false
	}
}

// endTime is what a server has to end cleanly, and in a container to keep its
// templates.
const endTime = 20 * time.Second

// host starts the servers of an engine in one kind of place.
type host interface {
	// identity names the server that a Spec wants.
	identity(engine.Spec) (string, error)
	// start starts one and returns when it has answered its probe.
	start(ctx context.Context, home engine.Home, spec engine.Spec) (*supervised, error)
	// clean ends and removes what a killed server left in a folder of data.
	clean(folder string) error
	where() string
}

// starter starts a command. The kernel tells a process of the death of the
// thread that started it, so a guard uses one thread for that alone.
type starter func(*exec.Cmd) error

// processes hosts servers that are processes of this machine.
type processes struct {
	engine.ProcessHost
	begin starter
}

func (processes) where() string                               { return "memory" }
func (p processes) identity(spec engine.Spec) (string, error) { return p.Identity(spec) }
func (p processes) clean(folder string) error                 { return p.Clean(folder) }

func (p processes) start(ctx context.Context, home engine.Home, spec engine.Spec) (*supervised, error) {
	next, err := p.Launch(home, spec)
	var failed error
	for err == nil {
		var program *engine.Program
		if program, err = next(ctx, failed); err != nil {
			break
		}
		var s *supervised
		if s, failed = p.try(ctx, program, home); failed == nil {
			return s, nil
		}
		err = ctx.Err()
	}
	if err == context.Canceled || err == context.DeadlineExceeded {
		err = errors.Join(err, failed)
	}
	return nil, err
}

// try runs a program once, until it has answered its probe or ended.
func (p processes) try(ctx context.Context, program *engine.Program, home engine.Home) (*supervised, error) {
	// Not bound to ctx: the guard ends it, in its own way.
	cmd := exec.Command(program.Path, program.Args...)
	cmd.Dir, cmd.Env = program.Folder, append(os.Environ(), program.Env...)
	cmd.Stdout, cmd.Stderr = home.Log, home.Log
	if program.Prints != "" {
		out, err := os.OpenFile(program.Prints, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
		if err != nil {
			return nil, fmt.Errorf("starting %s: %w", program.Path, err)
		}
		defer out.Close()
		cmd.Stdout, cmd.Stderr = out, out
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if u := program.User; u != nil {
		cmd.SysProcAttr.Credential = &syscall.Credential{Uid: u.UID, Gid: u.GID}
	}
	dieWithParent(cmd.SysProcAttr, program.Kill)
	if err := p.begin(cmd); err != nil {
		return nil, fmt.Errorf("starting %s: %w", program.Path, err)
	}
	s := &supervised{
		stop: func() error { return cmd.Process.Signal(program.Stop) },
		kill: func() error { return cmd.Process.Signal(program.Kill) },
		save: program.Save,
	}
	s.process, _ = Running(cmd.Process.Pid)
	s.watch(cmd.Wait)
	err := s.probe(ctx, program, cmd)
	if err != nil {
		_ = s.kill()
		<-s.ended
		return nil, err
	}
	return s, nil
}

// probe asks a server its first query until it answers.
func (s *supervised) probe(ctx context.Context, program *engine.Program, cmd *exec.Cmd) (err error) {
	for {
		if s.address, err = program.Probe(ctx); err == nil || !errors.Is(err, engine.ErrNotReady) || ctx.Err() != nil {
			return err
		}
		select {
		case <-s.ended:
			return program.Ended(cmd.ProcessState.ExitCode())
		case <-ctx.Done():
		case <-time.After(2 * time.Millisecond):
		}
	}
}

// Started is a server that this process has started itself, without a guard.
type Started struct {
	PID     int
	Address json.RawMessage // what its probe gave
	ended   <-chan struct{}
}

// Wait returns when the server has ended.
func (s *Started) Wait() { <-s.ended }

// Start starts a server without a guard: it ends with the thread that calls this.
func Start(ctx context.Context, h engine.ProcessHost, home engine.Home, spec engine.Spec) (*Started, error) {
	s, err := processes{h, (*exec.Cmd).Start}.start(ctx, home, spec)
	if err != nil {
		return nil, err
	}
	return &Started{PID: s.process.PID, Address: s.address, ended: s.ended}, nil
}

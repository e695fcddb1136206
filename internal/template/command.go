package template

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"slices"
	"strings"
	"syscall"
	"time"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
	"hemzo/internal/handover"
)

// command runs step i, a command of the project, on the work.
func (b *builder) command(ctx context.Context, i int) error {
	step := b.Steps[i]
	if step.Command.Continues && !b.anew {
		if err := b.older(ctx, i); err != nil {
			return err
		}
	}
	if err := b.close(); err != nil {
		return err
	}
	came, err := b.server.Watch(ctx, b.work)
	if err != nil {
		return err
	}
	work, err := b.server.Find(ctx, b.work) // its facts say where its server is
	if err != nil {
		return fmt.Errorf("finding the work: %w", err)
	}
	env := handover.Environment(b.Project,
		[]handover.Copy{{Database: b.Database.Name, Name: b.work, Connection: b.server.Connection(b.work, work.Facts)}})
	limited, stop := ctx, func() {}
	if w := step.Command.Within; w > 0 {
		limited, stop = context.WithTimeout(ctx, w)
	}
	defer stop()
	tail, err := runCommand(limited, b.Project.Root, step.Command.Args, env,
		func(line string) { b.progress(Event{Output: line}) })
	if ctx.Err() != nil {
		return ctx.Err()
	}
	failed := func(next, what string, args ...any) error {
		e := fault.New(fault.StepFailed, next, what, args...)
		e.Where.File, e.Lines = step.Name, tail
		return e
	}
	if limited.Err() != nil {
		return failed("give it more time with  within:", "the command did not end within %s", step.Command.Within)
	}
	if exit := new(exec.ExitError); errors.As(err, &exit) {
		return failed("", "the command failed: %s", exit)
	}
	if err != nil {
		return failed("", "the command cannot be run: %v", err)
	}
	who, err := came(time.Second)
	if err != nil {
		return err
	}
	if who == engine.Nobody {
		var names []string
		for _, s := range env {
			names = append(names, s.Name)
		}
		return failed("it was handed "+strings.Join(names, ", ")+
			": does another setting win, or does it read another variable? (env: in the project file names them)",
			"the command ended well and never connected to its database")
	}
	return nil
}

// older replaces the work by an older result of the same command, made on the
// same layer from a part of the present inputs, where there is one.
func (b *builder) older(ctx context.Context, i int) error {
	all, err := b.server.List(ctx, engine.Template)
	if err != nil {
		return err
	}
	var best engine.Entry
	for _, e := range all {
		if e.Facts.Layer != i+1 || len(e.Facts.Steps) != i+1 || e.Newer || e.Bad ||
			!b.continues(e.Facts.Steps, i) {
			continue
		}
		if whole, err := b.server.IsIntact(ctx, e); err != nil || !whole {
			continue
		}
		if len(e.Facts.Steps[i].Inputs) > len(bestInputs(best, i)) {
			best = e
		}
	}
	if best.ID == "" {
		return nil
	}
	if err := b.close(); err != nil {
		return err
	}
	work, err := b.server.Find(ctx, b.work)
	if err != nil {
		return err
	}
	if err := b.server.Drop(ctx, b.work); err != nil {
		return err
	}
	return b.server.Copy(ctx, best.ID, b.work, work.Facts)
}

func bestInputs(e engine.Entry, i int) map[string]string {
	if e.ID == "" {
		return nil
	}
	return e.Facts.Steps[i].Inputs
}

// continues reports whether applied steps are those below step i, and then an
// older run of step i whose inputs are all there still, unchanged.
func (b *builder) continues(applied []engine.StepFact, i int) bool {
	same := slices.EqualFunc(applied[:i], b.done[:i], func(x, y engine.StepFact) bool { return x.Hash == y.Hash })
	if !same || applied[i].Name != b.Steps[i].Name {
		return false
	}
	for file, sum := range applied[i].Inputs {
		if b.Steps[i].Command.Inputs[file] != sum {
			return false
		}
	}
	return true
}

// tailLines is how much of a command's output an error shows.
const tailLines = 30

// runCommand runs a command to its end and returns its last lines. When ctx
// ends, the command is told to end, and killed ten seconds later.
func runCommand(ctx context.Context, dir string, args []string, env []engine.Setting, line func(string)) ([]string,
	error) {
	cmd := exec.CommandContext(ctx, args[0], args[1:]...)
	if strings.Contains(args[0], "/") && !strings.HasPrefix(args[0], "/") {
		cmd.Path = dir + "/" + args[0]
		cmd.Err = nil
	}
	cmd.Dir = dir
	cmd.Env = handover.List(os.Environ(), env)
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
	cmd.WaitDelay = 10 * time.Second
	out, in, err := os.Pipe()
	if err != nil {
		return nil, fmt.Errorf("making a pipe: %w", err)
	}
	defer out.Close()
	cmd.Stdout, cmd.Stderr = in, in
	err = cmd.Start()
	in.Close()
	if err != nil {
		return nil, err
	}
	lines := make(chan []string)
	go func() { lines <- collect(out, line) }()
	err = cmd.Wait()
	select {
	case tail := <-lines:
		return tail, err
	case <-time.After(time.Second): // a process it left behind holds the pipe
		out.Close()
		return <-lines, err
	}
}

func collect(r io.Reader, line func(string)) (tail []string) {
	lines := bufio.NewReaderSize(r, longestLine)
	for {
		text, more, err := lines.ReadLine()
		if err != nil {
			return tail
		}
		said := string(text)
		for ; more && err == nil; _, more, err = lines.ReadLine() {
			said = said[:min(len(said), longestLine-3)] + "..." // the rest is read, and let go
		}
		line(said)
		if tail = append(tail, said); len(tail) > tailLines {
			tail = tail[1:]
		}
	}
}

// longestLine bounds what is kept of one line, in bytes.
const longestLine = 64 << 10

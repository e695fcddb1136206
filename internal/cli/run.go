package cli

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"os/exec"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"hemzo/internal/copies"
	"hemzo/internal/engine"
	"hemzo/internal/engine/all"
	"hemzo/internal/fault"
	"hemzo/internal/handover"
	"hemzo/internal/place"
	"hemzo/internal/project"
)

// keptFor is how long a copy stays that --keep-failed has kept.
const keptFor = 24 * time.Hour

// runFlags are the flags of run.
type runFlags struct {
	takeFlags
	databases  []string
	keepFailed bool
	report     string
}

func (a *app) runCommand() *cobra.Command {
	var flags runFlags
	c := &cobra.Command{
		Use:   "run [FLAGS] [--] CMD [ARGS...]",
		Short: "Take copies, run a command with the connections in its environment, drop them",
		Long: `Run takes a copy of each declared database, runs the command with the
variables of env: and the files of files: in place, and drops the copies when
it ends, however it ends. It exits with the command's code, 128+n where a
signal ended it, 126 and 127 where it cannot be executed or found, and 125
where Hemzo itself fails (its own code is then in --report FILE).`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			r := &runner{app: a, flags: flags, args: args, signals: make(chan os.Signal, 8)}
			began := time.Now()
			code, err := r.run(c.Context())
			if flags.report != "" {
				err = errors.Join(err, r.writeReport(code, err, time.Since(began)))
			}
			if err != nil {
				return err
			}
			return exit(code)
		},
	}
	c.Flags().SetInterspersed(false)
	flags.add(c)
	c.Flags().StringSliceVar(&flags.databases, "database", nil, "a `DATABASE` to take (default: all that are declared)")
	c.Flags().BoolVar(&flags.keepFailed, "keep-failed", false, "keep the copies where the command fails, for "+span(keptFor))
	c.Flags().StringVar(&flags.report, "report", "", "write what happened to `FILE`, as JSON")
	_ = c.RegisterFlagCompletionFunc("database", a.databaseNames)
	return c
}

// runner is one run of a command.
type runner struct {
	*app
	flags   runFlags
	args    []string
	signals chan os.Signal
	taken   []runCopy
	session *session
}

type runCopy struct {
	shelf copies.Shelf
	entry engine.Entry
}

func (r *runner) run(ctx context.Context) (code int, err error) {
	signal.Notify(r.signals, syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGQUIT, syscall.SIGUSR1, syscall.SIGUSR2)
	defer signal.Stop(r.signals)
	if r.session, err = r.begin(); err != nil {
		return 0, err
	}
	defer r.session.close()
	chosen, err := r.session.project.Choose(r.flags.databases...)
	if err != nil {
		return 0, err
	}
	if err := r.session.project.OneWriter(chosen); err != nil {
		return 0, err
	}
	program, code := find(r.args[0])
	if code != 0 {
		r.note("%s: %s", r.args[0], map[int]string{126: "it cannot be executed", 127: "there is no such command"}[code])
		return code, nil
	}
	// Whatever ends this function, the copies are dropped or kept.
	last := context.WithoutCancel(ctx)
	defer func() { err = errors.Join(err, r.finish(last, code != 0 && err == nil)) }()
	for _, d := range chosen {
		if err := r.take(ctx, d); err != nil {
			if ctx.Err() != nil {
				return r.stopped(), nil
			}
			return 0, err
		}
	}
	var handedOver []handover.Copy
	for _, c := range r.taken {
		handedOver = append(handedOver, handed(c.shelf, c.entry))
	}
	state, err := place.StateFolder()
	if err != nil {
		return 0, err
	}
	self, _ := place.Running(os.Getpid())
	remove, err := handover.Render(r.session.project, state, handedOver, self)
	if err != nil {
		return 0, err
	}
	defer remove()
	if ctx.Err() != nil {
		return r.stopped(), nil
	}
	return r.child(last, program, handover.Environment(r.session.project, handedOver))
}

// stopped is the exit code for a signal that came before the command began.
func (r *runner) stopped() int {
	select {
	case s := <-r.signals:
		return 128 + int(s.(syscall.Signal))
	default:
		return 130
	}
}

func (r *runner) take(ctx context.Context, d *project.Database) error {
	shelf, err := r.session.shelf(ctx, d)
	if err != nil {
		return err
	}
	lock, _, err := shelf.Server.Own(ctx)
	if err != nil {
		return err
	}
	taken, _, err := r.session.take(ctx, d, r.flags.takeFlags, engine.Owner{Lock: lock, Command: shorten(strings.Join(r.args, " "), 60)})
	if err != nil {
		return err
	}
	r.taken = append(r.taken, runCopy{shelf, taken.Copy})
	return nil
}

func shorten(s string, most int) string {
	if r := []rune(s); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return s
}

// find finds a program; a code above zero says why there is none.
func find(name string) (path string, code int) {
	path, err := exec.LookPath(name)
	switch {
	case err == nil || errors.Is(err, exec.ErrDot):
		return path, 0
	case errors.Is(err, fs.ErrPermission):
		return "", 126
	}
	return "", 127
}

// child runs the command to its end and returns its exit code.
func (r *runner) child(ctx context.Context, program string, env []engine.Setting) (int, error) {
	cmd := exec.Command(program, r.args[1:]...)
	cmd.Args[0] = r.args[0]
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	if self, err := os.Executable(); err == nil {
		env = append(env, engine.Setting{Name: "HEMZO_PROGRAM", Value: self})
	}
	cmd.Env = handover.List(os.Environ(), env)
	if err := cmd.Start(); err != nil {
		r.note("%s: %v", r.args[0], errors.Unwrap(err))
		if errors.Is(err, fs.ErrNotExist) {
			return 127, nil
		}
		return 126, nil
	}
	// A command that outlives a killed Hemzo keeps its databases.
	if p, ok := place.Running(cmd.Process.Pid); ok {
		for _, c := range r.taken {
			_ = c.shelf.Server.Note(ctx, c.entry.ID, func(f *engine.Facts) { f.Owner.Child = p })
		}
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	fromTerminal := term.IsTerminal(int(os.Stdin.Fd()))
	interrupts := 0
	for {
		select {
		case s := <-r.signals:
			if s == syscall.SIGINT || s == syscall.SIGQUIT {
				interrupts++
				// A terminal has sent it to the command as well.
				if fromTerminal && interrupts == 1 {
					continue
				}
			}
			if interrupts > 2 {
				s = syscall.SIGKILL
			}
			_ = cmd.Process.Signal(s)
		case <-ended:
			status := cmd.ProcessState.Sys().(syscall.WaitStatus)
			if status.Signaled() {
				return 128 + int(status.Signal()), nil
			}
			return status.ExitStatus(), nil
		}
	}
}

// finish drops the copies, or keeps them where the command failed and
// --keep-failed was given.
func (r *runner) finish(ctx context.Context, failed bool) error {
	var first error
	for _, c := range r.taken {
		if failed && r.flags.keepFailed {
			err := c.shelf.Server.Note(ctx, c.entry.ID, func(f *engine.Facts) {
				f.Failed, f.Owner = true, engine.Owner{Until: time.Now().Add(keptFor).UTC()}
			})
			name := c.entry.Facts.Name
			r.note("kept %s as the command left it, for %s; to look at it and to be rid of it:", name, span(keptFor))
			r.note("  hemzo changes %s --rows", name)
			r.note("  hemzo sql --on %s", name)
			r.note("  hemzo drop %s", name)
			first = errors.Join(first, err)
			continue
		}
		first = errors.Join(first, c.shelf.Drop(ctx, c.entry, true))
	}
	if os.Getenv("CI") != "" {
		// The job may end with this command, and its machine with the job: what
		// is kept for the next one has to be whole by then.
		r.session.close()
		first = errors.Join(first, place.StopIdle(ctx, all.Engines()))
	}
	return first
}

func (r *runner) writeReport(code int, err error, took time.Duration) error {
	report := struct {
		Exit      int           `json:"exit"`
		HemzoCode int           `json:"hemzo_code,omitempty"`
		Reason    string        `json:"reason,omitempty"`
		Command   []string      `json:"command"`
		Copies    []string      `json:"copies"`
		Took      time.Duration `json:"took"`
	}{Exit: code, Command: r.args, Copies: []string{}, Took: took}
	if err != nil {
		report.Exit, report.HemzoCode, report.Reason = 125, int(fault.KindOf(err)), err.Error()
	}
	for _, c := range r.taken {
		report.Copies = append(report.Copies, c.entry.Facts.Name)
	}
	b, failed := json.MarshalIndent(report, "", "  ")
	if failed == nil {
		failed = os.WriteFile(r.flags.report, append(b, '\n'), 0o644)
	}
	if failed != nil {
		return fault.New(fault.Failed, "", "cannot write the report: %v", failed)
	}
	return nil
}

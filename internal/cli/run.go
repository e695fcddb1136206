package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"os/signal"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"hemzo/internal/control"
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
	copies     int
	first      int
	must       bool
	checkLeft  bool
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
		Args: cobra.MinimumNArgs(1), DisableFlagsInUseLine: true,
		RunE: func(c *cobra.Command, args []string) error {
			r := &runner{app: a, flags: flags, args: args, signals: make(chan os.Signal, 8)}
			if err := r.openReport(); err != nil {
				return err
			}
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
	flags.add(a, c)
	flags.lazyFlag(c)
	c.Flags().StringSliceVar(&flags.databases, "database", nil, "a `DATABASE` to take (default: all that are declared)")
	c.Flags().BoolVar(&flags.keepFailed, "keep-failed", false,
		"keep the copies where the command fails, for "+span(keptFor))
	c.Flags().IntVar(&flags.copies, "copies", 1,
		"the `NUMBER` of sets of copies: their variables end in _1, _2 ...; without an ending they are the first's")
	c.Flags().IntVar(&flags.first, "first", 1, "the `NUMBER` of the first set")
	c.Flags().BoolVar(&flags.must, "must-connect", false,
		"fail where the command ends well and never connected to a database")
	c.Flags().BoolVar(&flags.checkLeft, "check-left", false,
		"fail where a reset through the control endpoint found that a test had left something behind")
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
	report  *os.File // nil where none is wanted
	session *session
	control *control.Control
	sets    []*control.Set
	// spent tells where the time went: before the command, first in handing out copies
	// alone, for a build, and while the command ran
	spent struct{ before, first, build, command time.Duration }
	time  suiteTime
}

func (r *runner) run(ctx context.Context) (code int, err error) {
	started := time.Now()
	signal.Notify(r.signals, syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGQUIT, syscall.SIGUSR1,
		syscall.SIGUSR2)
	defer signal.Stop(r.signals)
	if r.session, err = r.begin(); err != nil {
		return 0, err
	}
	defer r.session.close()
	chosen, err := r.choose()
	if err != nil {
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
	if err := r.take(ctx, chosen); err != nil {
		if ctx.Err() != nil {
			return r.stopped(), nil
		}
		return 0, err
	}
	env, remove, err := r.handOver()
	if err != nil {
		return 0, err
	}
	defer func() {
		for _, path := range remove() {
			r.note("%s was edited while the command ran: it stays, and the next run overwrites it", short(path))
		}
	}()
	endpoint, named, err := r.listen()
	if err != nil {
		return 0, err
	}
	defer endpoint.Close()
	env = append(env, named...)
	if ctx.Err() != nil {
		return r.stopped(), nil
	}
	began := time.Now()
	r.spent.before = began.Sub(started)
	r.spent.first, _ = r.control.Spent()
	code, err = r.child(last, program, env)
	r.spent.command = time.Since(began)
	r.time = r.measureTime(last)
	if err == nil {
		if code = r.conclude(last, code); code == 0 && r.session.lastError != nil {
			code = 125 // it has been reported
		}
	}
	return code, err
}

// choose returns the databases to take, when all that can be checked beforehand
// was found right.
func (r *runner) choose() ([]*project.Database, error) {
	if r.flags.copies < 1 || r.flags.copies > 999 {
		return nil, fault.New(fault.Usage, "", "--copies %d: from 1 to 999", r.flags.copies)
	}
	p := r.session.project
	chosen, err := p.Choose(r.flags.databases...)
	if err == nil {
		err = p.OneWriter(chosen)
	}
	if err == nil {
		err = handover.CheckFiles(p)
	}
	return chosen, err
}

// listen opens the control endpoint. named are the variables that lead to it.
func (r *runner) listen() (endpoint *control.Endpoint, named []engine.Setting, err error) {
	socket, err := socket()
	if err != nil {
		return nil, nil, err
	}
	if endpoint, err = control.Listen(r.control, "127.0.0.1:0", socket, "", r.session.forms); err != nil {
		return nil, nil, err
	}
	named = append(named, engine.Setting{Name: "HEMZO_CONTROL", Value: endpoint.URL})
	if socket != "" {
		named = append(named, engine.Setting{Name: "HEMZO_CONTROL_SOCKET", Value: socket})
	}
	return endpoint, named, nil
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

// take takes the sets of copies, the databases side by side.
func (r *runner) take(ctx context.Context, chosen []*project.Database) error {
	if err := r.flags.checkable(chosen); err != nil {
		return err
	}
	box := r.bars(ctx)
	sources, err := r.session.sources(ctx, chosen, r.flags.takeFlags,
		engine.Owner{Command: "hemzo run " + shorten(strings.Join(r.args, " "), 60)}, box)
	if err != nil {
		return err
	}
	r.control = control.New(sources)
	r.control.CheckLeft, r.control.Watch = r.flags.checkLeft, true
	for i := range r.flags.copies {
		name := ""
		if r.flags.copies > 1 {
			name = strconv.Itoa(r.flags.first + i)
		}
		set, err := r.control.Find(ctx, name)
		if err != nil {
			return err
		}
		r.sets = append(r.sets, set)
	}
	for _, b := range r.session.builds {
		b.end()
	}
	box.Wait()
	r.control.Watch = r.flags.must // else sets that come later count as used
	for _, x := range r.sets[0].Copies() {
		r.ready(x)
	}
	return nil
}

// checkable refuses to tell what tests left where that cannot be told.
func (f runFlags) checkable(chosen []*project.Database) error {
	for _, d := range chosen {
		e, err := all.Named(d.Engine)
		way := engine.Way(cmp.Or(f.by, d.Reset))
		if err == nil && f.checkLeft && e.Hosting().Gate != nil && way == engine.Rollback {
			return fault.New(fault.Usage, "add  --by truncation",
				"%s is reset by rollback, which does not tell what a test left", d.Name)
		}
	}
	return nil
}

// ready says in a line that a database is there.
func (r *runner) ready(x *control.Copy) {
	if !x.Made() {
		r.note("%s: made when somebody first connects", x.Database())
		return
	}
	if x.Build != nil && len(x.Build.Applied) > 0 {
		r.spent.build = max(r.spent.build, x.Build.Took)
	}
	made := "copy in " + span(x.Took)
	if n := len(r.sets); n > 1 {
		made = fmt.Sprintf("%d copies, the first in %s", n, span(x.Took))
	}
	r.note("%s", readyWords(x.Scoped(), &copies.Taken{Copy: x.Entry(), Build: x.Build}, made))
}

// readyWords says where a database is and what its template took.
func readyWords(scoped copies.ScopedServer, t *copies.Taken, made string) string {
	about := scoped.Server.About()
	if e, err := all.Named(about.Engine); err == nil && e.Language().Name == "" {
		return fmt.Sprintf("%s: %s in %s, %s", t.Copy.Facts.Database, about.Version, about.Where, made)
	}
	text := "template ready"
	if t.Build != nil && len(t.Build.Applied) > 0 {
		text = fmt.Sprintf("%s applied in %s", count(len(t.Build.Applied), "step"), span(t.Build.Took))
	}
	return fmt.Sprintf("%s: %s %s in %s, %s, %s", t.Copy.Facts.Database, about.Engine, about.Version, about.Where, text,
		made)
}

// handOver gives the variables for all sets, and writes the files.
func (r *runner) handOver() (env []engine.Setting, remove func() []string, err error) {
	state, err := place.StateFolder()
	if err != nil {
		return nil, nil, err
	}
	for i, set := range r.sets {
		var all []handover.Copy
		for _, x := range set.Copies() {
			all = append(all, handedBy(x))
		}
		for _, v := range handover.Environment(r.session.project, all) {
			if i == 0 {
				env = append(env, v)
			}
			if len(r.sets) > 1 {
				env = append(env, engine.Setting{Name: v.Name + "_" + set.Name, Value: v.Value})
			}
		}
		if i == 0 {
			self, _ := place.Running(os.Getpid())
			if remove, err = handover.Render(r.session.project, state, all, self); err != nil {
				return nil, nil, err
			}
		}
	}
	return env, remove, nil
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
		r.control.Child(ctx, p)
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
	var err error
	if r.control != nil {
		err = r.session.finish(ctx, r.control, func(x *control.Copy) bool {
			return failed && r.flags.keepFailed && r.keep(ctx, x) == nil
		})
	}
	if os.Getenv("CI") != "" {
		// The job may end with this command, and its machine with the job: what
		// is kept for the next one has to be whole by then.
		r.session.close()
		err = errors.Join(err, place.StopIdle(ctx, all.Engines(), copies.SweepGuarded))
	}
	return err
}

// keep keeps a copy as the command left it.
func (r *runner) keep(ctx context.Context, x *control.Copy) error {
	until := place.Now(ctx, x.Scoped().Server).Add(keptFor)
	err := x.Scoped().Server.UpdateFacts(ctx, x.Entry().ID, func(f *engine.Facts) {
		f.Failed, f.Owner = true, engine.Owner{Until: until}
	})
	if err != nil {
		return err
	}
	name := x.Entry().Facts.Name
	r.note("kept %s as the command left it, for %s; to look at it, and to drop it:", name, span(keptFor))
	r.note("  hemzo changes %s --rows", name)
	r.note("  hemzo sql --on %s", name)
	r.note("  hemzo drop %s", name)
	return nil
}

package cli

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"hemzo/examples/apiary"
	"hemzo/internal/engine"
	"hemzo/internal/engine/all"
	"hemzo/internal/fault"
	"hemzo/internal/handover"
	"hemzo/internal/pattern"
	"hemzo/internal/place"
)

func (a *app) demoCommand() *cobra.Command {
	var keep, name, where, image string
	c := &cobra.Command{
		Use:   "demo",
		Short: "The whole tour on the demo project",
		Long: `Demo runs the whole tour on the demo project that this program holds: steps,
build, take, a small suite twice, what it left, reset, drop. It works from any
folder, touches nothing of yours and leaves nothing behind.`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, args []string) error {
			if !slices.Contains(demoEngines(), name) {
				return fault.New(fault.Usage, "engines: "+strings.Join(demoEngines(), ", "),
					"there is no demo project for %q", name)
			}
			if where == "container" && !c.Flags().Changed("engine") {
				name = demoEngine(func(e engine.Engine) bool {
					return e.Hosting().Container != nil && !e.Hosting().Separate("container")
				})
			}
			if keep != "" {
				return unpack(name, keep)
			}
			t, err := a.newTour(name)
			if err == nil && where != "" {
				err = t.move(where, image)
			}
			if t != nil {
				defer t.remove()
			}
			if err != nil {
				return err
			}
			return t.run(c.Context())
		},
	}
	c.Flags().StringVar(&name, "engine", demoEngine(func(e engine.Engine) bool { return e.Traces().Fallback }),
		"the `ENGINE` to show: "+strings.Join(demoEngines(), ", "))
	c.Flags().StringVar(&where, "where", "", "`memory` or container, for the engines that know both")
	c.Flags().StringVar(&image, "image", "", "with --where container: the `IMAGE`")
	_ = c.RegisterFlagCompletionFunc("engine",
		cobra.FixedCompletions(demoEngines(), cobra.ShellCompDirectiveNoFileComp))
	c.Flags().StringVar(&keep, "unpack", "", "write the demo project to `FOLDER` and stop")
	return c
}

// demoEngines are the engines that have a demo project.
func demoEngines() []string {
	return slices.DeleteFunc(all.Names(), func(name string) bool { return !slices.Contains(apiary.Engines(), name) })
}

// demoEngine is the first engine that has a demo project and that fits.
func demoEngine(fits func(engine.Engine) bool) string {
	for _, e := range all.Engines() {
		if slices.Contains(apiary.Engines(), e.Name()) && fits(e) {
			return e.Name()
		}
	}
	return ""
}

// unpack writes the demo project for an engine to a new folder.
func unpack(engine, folder string) error {
	if _, err := os.Stat(folder); err == nil {
		return fault.New(fault.Refused, "name a folder that is not there yet", "%s is there already", folder)
	}
	return apiary.Unpack(engine, folder)
}

// tour is one run of the demo. All it makes lies in folders of its own.
type tour struct {
	*app
	self    string
	engine  string
	folder  string // the project
	memory  string // the data, in memory where the machine has room
	env     []string
	table   *grid
	p       paint
	copy    string
	another string
}

func (a *app) newTour(name string) (t *tour, err error) {
	t = &tour{app: a, engine: name, p: a.paintFor(a.outTerm), table: &grid{right: map[int]bool{1: true}}}
	if t.self, err = os.Executable(); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			t.remove()
		}
	}()
	if t.folder, err = os.MkdirTemp("", "hemzo-demo-"); err != nil {
		return nil, err
	}
	data, err := place.DataFolder(place.Room)
	if err != nil {
		return nil, err
	}
	os.Remove(data.Path) // where looking for it has made it
	if t.memory, err = os.MkdirTemp(filepath.Dir(data.Path), "hemzo-demo-"); err != nil {
		return nil, err
	}
	// Where root runs it, a server runs as another user.
	if err := os.Chmod(t.memory, 0o711); err != nil {
		return nil, err
	}
	if err := unpack(name, filepath.Join(t.folder, "apiary")); err != nil {
		return nil, err
	}
	t.env = handover.List(os.Environ(), []engine.Setting{
		{Name: "HEMZO_MEMORY_DIR", Value: t.memory},
		{Name: "XDG_STATE_HOME", Value: filepath.Join(t.folder, "state")},
		{Name: "XDG_CACHE_HOME", Value: filepath.Join(t.folder, "cache")},
		{Name: "HEMZO_PROGRAM", Value: t.self},
		{Name: "HEMZO_PROFILE", Value: ""},
		{Name: "HEMZO_RUN", Value: ""},
	})
	return t, nil
}

// move has the demo's server run in another place.
func (t *tour) move(where, image string) error {
	file := filepath.Join(t.folder, "apiary", "hemzo.yaml")
	b, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	to := "where: " + where
	if image != "" {
		to += "\n    image: " + image
	}
	for _, place := range []string{"memory", "container"} {
		b = bytes.Replace(b, []byte("where: "+place+"\n"), []byte(to+"\n"), 1)
	}
	return os.WriteFile(file, b, 0o644)
}

func (t *tour) remove() {
	if t.env != nil { // a server that a tour cut short has left
		cmd := exec.Command(t.self, "stop", "--force", "--templates")
		cmd.Env = t.env
		_ = cmd.Run()
	}
	for _, dir := range []string{t.folder, t.memory} {
		if dir != "" {
			os.RemoveAll(dir)
		}
	}
}

// step is one command of the tour.
type step struct {
	what  string   // for the table at the end
	say   string   // before the command
	args  []string // of hemzo; "COPY" and "ANOTHER" stand for the two copies
	suite bool     // the demo's suite, on the copy, rather than hemzo
	fails bool     // it is meant to fail
	into  *string  // takes the output
	reset bool     // what it says of a reset's own time is for the table
}

func (t *tour) run(ctx context.Context) error {
	began := time.Now()
	tour := []step{
		{what: "steps", say: "A project file names the migrations and the reference data. Nothing is built yet.",
			args: []string{"steps"}},
		{what: "build", say: "Applied once; layers are kept as templates.", args: []string{"build"}},
		{what: "build, nothing to do", say: "From now on there is nothing to apply.", args: []string{"build"}},
		{what: "take a copy", say: "A copy of one's own is a file copy away.", args: []string{"take", "--as", "first"},
			into: &t.copy},
		{what: "take another", say: "Two copies never meet.", args: []string{"take", "--as", "second"},
			into: &t.another},
		{what: "suite, fresh copy", say: "A small suite on the first copy: two of its cases leave something behind.",
			suite: true},
		{what: "suite, leftovers", say: "The same suite again, on the same copy: now the leftovers break it.",
			suite: true, fails: true},
		{what: "changes", say: "What did it leave behind?", args: []string{"changes", "first"}},
		{what: "reset by truncation", say: "Back to the start state: what was touched, exactly, and nothing else.",
			args: []string{"reset", "first"}, reset: true},
		{what: "reset, untouched", say: "The second copy was never touched, so there is nothing to pay.",
			args: []string{"reset", "second"}, reset: true},
		{what: "suite, after reset", say: "The suite passes again.", suite: true},
		{what: "run", say: "In daily use one command does it all: take, run, drop.",
			args: []string{"run", "--", "sh", "suite/run.sh"}},
		{what: "list", say: "What is there now:", args: []string{"list"}},
		{what: "drop", say: "And gone.", args: []string{"drop", "--all"}},
	}
	if e, err := all.Named(t.engine); err == nil && e.Hosting().Gate != nil {
		at := slices.IndexFunc(tour, func(s step) bool { return s.what == "list" })
		tour = slices.Insert(tour, at,
			step{what: "reset by snapshot", say: "A reset may also replace the copy: clients connect again.",
				args: []string{"reset", "second", "--by", "snapshot"}, reset: true},
			step{what: "run, by rollback", say: "Or all that the suite does is one transaction, which is rolled back.",
				args: []string{"run", "--by", "rollback", "--", "sh", "-c",
					`sh suite/run.sh; "$HEMZO_PROGRAM" reset "$DATABASE_URL"; sh suite/run.sh`}, reset: true})
	}
	if e, err := all.Named(t.engine); err == nil && e.Hosting().Process != nil {
		tour = append(tour, step{what: "stop", say: "The server too; its templates are kept for the next start.",
			args: []string{"stop"}})
	}
	for _, s := range tour {
		if err := t.step(ctx, s); err != nil {
			return err
		}
	}
	t.say("")
	t.say("%s", t.p.strong("What took how long"))
	t.print(t.table, "  ")
	t.say("")
	t.say("The whole tour took %s, each line above being a program started and ended. It left nothing behind.",
		span(time.Since(began)))
	t.say("See its files with  hemzo demo --unpack FOLDER, or begin in your own project with  hemzo init")
	return nil
}

// ownTime is what a reset says it took.
var ownTime = pattern.Lazy(`\(([\d.]+ (?:ms|s|µs))\)`)

func (t *tour) step(ctx context.Context, s step) error {
	args := append([]string{}, s.args...)
	name, shown := t.self, "hemzo "+strings.Join(args, " ")
	if last := len(args) - 1; last >= 0 && strings.Contains(args[last], " ") {
		shown = "hemzo " + strings.Join(args[:last], " ") + " '" + args[last] + "'"
	}
	if s.suite {
		name, args, shown = "sh", []string{"suite/run.sh", t.copy}, "sh suite/run.sh first"
	} else if !t.outTerm || t.noColor {
		args = append([]string{"--no-color"}, args...)
	}
	t.say("")
	t.say("%s", t.p.dim(s.say))
	t.say("%s %s", t.p.honey("▸"), t.p.strong(shown))
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Dir, cmd.Env = filepath.Join(t.folder, "apiary"), t.env
	var out bytes.Buffer
	cmd.Stdout = io.MultiWriter(&out, &indented{w: t.out})
	if s.into == nil && t.outTerm && !s.suite && !s.reset {
		// The command sees the terminal, and so uses its colours.
		cmd.Stdout = t.out
	}
	cmd.Stderr = &indented{w: t.err}
	began := time.Now()
	err := cmd.Run()
	took := time.Since(began)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if failed := err != nil; failed != s.fails {
		return fmt.Errorf("demo: %s: %v", shown, err)
	}
	if s.into != nil {
		*s.into = strings.TrimSpace(out.String())
	}
	result := ""
	if s.fails {
		result = t.p.dim("failed, as it should")
	}
	if m := ownTime().FindStringSubmatch(out.String()); m != nil && s.reset {
		result = "the reset itself " + m[1]
	}
	t.table.add(s.what, span(took), result)
	return nil
}

// indented writes lines behind two blanks.
type indented struct {
	w      io.Writer
	inLine bool
}

func (i *indented) Write(b []byte) (int, error) {
	for line := range bytes.Lines(b) {
		if !i.inLine && len(line) > 1 {
			if _, err := io.WriteString(i.w, "  "); err != nil {
				return 0, err
			}
		}
		if _, err := i.w.Write(line); err != nil {
			return 0, err
		}
		i.inLine = !bytes.HasSuffix(line, []byte("\n"))
	}
	return len(b), nil
}

// Package cli is Hemzo's command line: commands, flags, tables and progress.
// It is the only package that prints.
package cli

import (
	"context"
	"errors"
	"io"
	"os"
	"os/signal"
	"syscall"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"hemzo/internal/fault"
)

// Build tells which program this is.
type Build struct{ Version, Commit string }

// app is what all commands share: where they print, and the flags that all
// have.
type app struct {
	build    Build
	in       *os.File
	out, err io.Writer
	outTerm  bool
	errTerm  bool

	project string
	profile string
	json    bool
	noColor bool
	verbose bool
	quiet   bool
}

// exit ends the program with a code; what there was to say has been said.
type exit int

func (e exit) Error() string { return "exit" }

// Command is the whole command line, for those who describe it.
func Command(build Build) *cobra.Command {
	a := &app{build: build, in: os.Stdin, out: os.Stdout, err: os.Stderr}
	root := a.root()
	root.InitDefaultHelpCmd()
	return root
}

// Main runs one command line and returns the exit code.
func Main(args []string, build Build) int {
	a := &app{
		build: build, in: os.Stdin, out: os.Stdout, err: os.Stderr,
		outTerm: term.IsTerminal(int(os.Stdout.Fd())), errTerm: term.IsTerminal(int(os.Stderr.Fd())),
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	root := a.root()
	root.SetArgs(args)
	cmd, err := root.ExecuteContextC(ctx)
	code := a.code(ctx, err)
	if err != nil && cmd.Name() == "run" && code != 0 {
		if _, ok := errors.AsType[exit](err); !ok {
			return 125
		}
	}
	return code
}

// code reports an error to the user and returns the exit code for it.
func (a *app) code(ctx context.Context, err error) int {
	if err == nil {
		return 0
	}
	if e, ok := errors.AsType[exit](err); ok {
		return int(e)
	}
	if ctx.Err() != nil && errors.Is(err, context.Canceled) {
		a.note("stopped; nothing unfinished was left")
		return 130
	}
	a.report(err)
	return int(fault.KindOf(err))
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "hemzo",
		Short: "Real databases for test suites: built once, copied in milliseconds, reset between tests",
		Long: `Hemzo gives a test suite real databases: built once from the project's own
migrations, handed out as isolated copies in milliseconds, brought back to
their start state between tests, and gone afterwards.

  hemzo init                write hemzo.yaml from what the folder holds
  hemzo run -- make test    run a suite on a copy of its own
  hemzo demo                see the whole tour on a project that Hemzo brings`,
		SilenceErrors: true, SilenceUsage: true, SuggestionsMinimumDistance: 3,
		Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
		CompletionOptions: cobra.CompletionOptions{DisableDefaultCmd: true},
	}
	root.SetOut(a.out)
	root.SetErr(a.err)
	f := root.PersistentFlags()
	f.StringVar(&a.project, "project", "", "the project file, or its folder (default: the nearest hemzo.yaml)")
	f.StringVar(&a.profile, "profile", os.Getenv("HEMZO_PROFILE"), "a profile of the project file")
	f.BoolVar(&a.json, "json", false, "the same facts as JSON")
	f.BoolVar(&a.noColor, "no-color", os.Getenv("NO_COLOR") != "", "no colours")
	f.BoolVarP(&a.verbose, "verbose", "v", false, "more detail")
	f.BoolVarP(&a.quiet, "quiet", "q", false, "errors only")
	_ = root.RegisterFlagCompletionFunc("profile", a.profileNames)
	root.SetFlagErrorFunc(flagError)
	root.Version = a.build.Version
	root.SetVersionTemplate(a.versionLine() + "\n")
	root.Flags().Bool("version", false, "which Hemzo this is")
	root.AddGroup(
		&cobra.Group{ID: "project", Title: "The project:"},
		&cobra.Group{ID: "copies", Title: "Copies:"},
		&cobra.Group{ID: "house", Title: "Housekeeping:"},
	)
	add := func(group string, commands ...*cobra.Command) {
		for _, c := range commands {
			c.GroupID = group
			root.AddCommand(c)
		}
	}
	add("project", a.initCommand(), a.doctorCommand(), a.stepsCommand(), a.buildCommand(), a.demoCommand())
	add("copies", a.takeCommand(), a.runCommand(), a.serveCommand(), a.resetCommand(), a.snapshotCommand(),
		a.holdCommand(), a.changesCommand(), a.advanceCommand(), a.sessionsCommand(), a.sqlCommand(),
		a.compareCommand())
	add("house", a.showCommand(), a.listCommand(), a.dropCommand(), a.sweepCommand(), a.stopCommand(),
		a.versionCommand(), a.completionCommand(root))
	root.AddCommand(a.guardCommand())
	root.SetHelpCommand(helpCommand(root))
	root.SetHelpCommandGroupID("house")
	for _, c := range append(root.Commands(), root) {
		checkUsage(c)
	}
	return root
}

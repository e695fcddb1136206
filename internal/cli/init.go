package cli

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"hemzo/examples/hooks"
	"hemzo/internal/fault"
	"hemzo/internal/project"
)

func (a *app) initCommand() *cobra.Command {
	var (
		schema     bool
		engineName string
	)
	c := &cobra.Command{
		Use:   "init [FOLDER]",
		Short: "Write hemzo.yaml from what a folder holds",
		Long: `Init looks for folders of migrations and of reference data, for files that
undo others, and for the traces of an engine, and writes hemzo.yaml from what
it finds. It never overwrites one.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if schema {
				e := json.NewEncoder(a.out)
				e.SetIndent("", "  ")
				return e.Encode(project.Schema())
			}
			dir := "."
			if len(args) == 1 {
				dir = args[0]
			}
			return a.init(dir, engineName)
		},
	}
	c.Flags().BoolVar(&schema, "schema", false, "print the JSON Schema of the project file instead")
	c.Flags().StringVar(&engineName, "engine", "", "the engine, where the one that is found is wrong")
	return c
}

func (a *app) init(dir, engineName string) error {
	abs, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	file := filepath.Join(abs, project.FileName)
	if _, err := os.Stat(file); err == nil {
		return fault.New(fault.Refused, "edit it, or remove it first", "%s is there already", file)
	}
	s, err := survey(abs)
	if err != nil {
		return err
	}
	if engineName != "" {
		s.engine, s.because = engineName, ""
	}
	name := databaseName(abs)
	text := s.file(name)
	// Not by a plain write: another init may be at it.
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return fault.New(fault.Failed, "", "cannot write %s: %v", file, errors.Unwrap(err))
	}
	_, err = f.WriteString(text)
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	if _, err := project.Read(file, "", os.LookupEnv); err != nil {
		os.Remove(file)
		return err
	}
	language, hook := hooks.For(abs)
	if a.json {
		return a.printJSON(map[string]any{"file": file, "database": name, "engine": s.engine,
			"migrations": append([]string{}, s.migrations...), "undo": append([]string{}, s.undo...), "dump": s.dump,
			"data": append([]string{}, s.data...), "skipped": append([]string{}, s.skipped...),
			"language": language, "hook": hook})
	}
	a.showSurvey(file, name, s, language, hook)
	return nil
}

// showSurvey says what was found, what was skipped, and what comes next.
func (a *app) showSurvey(file, name string, s *surveyed, language, hook string) {
	a.say("wrote %s", file)
	g := &grid{}
	g.add("  database", name)
	g.add("  engine", strings.TrimSpace(s.engine+"  "+s.because))
	for _, m := range s.migrations {
		g.add("  migrations", m)
	}
	for _, u := range s.undo {
		g.add("", "undone by "+u)
	}
	if s.dump != "" {
		g.add("  dump", s.dump)
	}
	for _, d := range s.data {
		g.add("  data", d)
	}
	if s.migrations == nil && s.dump == "" {
		g.add("  migrations", "none found: add their folder to the file")
	}
	for _, skipped := range s.skipped {
		g.add("  skipped", skipped)
	}
	a.print(g, "")
	a.say("next: hemzo steps")
	if hook == "" || a.quiet {
		return
	}
	a.say("\nbetween two tests (%s), under  hemzo run -- COMMAND:\n", language)
	for line := range strings.Lines(hook) {
		a.say("    %s", strings.TrimRight(line, "\n"))
	}
}

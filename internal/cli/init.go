package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"hemzo/internal/engine/all"
	"hemzo/internal/fault"
	"hemzo/internal/project"
	"hemzo/internal/source"
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
	c.Flags().StringVar(&engineName, "engine", "", "the engine, where the folder's traces mislead")
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
	text := s.file(databaseName(abs))
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
	if a.json {
		return a.printJSON(map[string]any{"file": file, "engine": s.engine, "migrations": s.migrations, "undo": s.undo,
			"data": s.data})
	}
	a.say("wrote %s", file)
	g := &grid{}
	g.add("  engine", s.engine, s.because)
	for i, m := range s.migrations {
		undo := ""
		if s.undo[i] != "" {
			undo = "undone by " + s.undo[i]
		}
		g.add("  migrations", m, undo)
	}
	for _, d := range s.data {
		g.add("  data", d, "")
	}
	if s.migrations == nil {
		g.add("  migrations", "none found", "add their folder to the file")
	}
	a.print(g, "")
	a.say("next: hemzo plan")
	return nil
}

func databaseName(dir string) string {
	name := strings.ToLower(filepath.Base(dir))
	name = strings.Trim(regexp.MustCompile(`[^a-z0-9]+`).ReplaceAllString(name, "-"), "-")
	if name == "" || name[0] < 'a' {
		name = strings.Trim("db-"+name, "-")
	}
	return name[:min(len(name), 40)]
}

// surveyed is what a folder holds.
type surveyed struct {
	engine     string
	because    string
	migrations []string
	undo       []string // a pattern for each, "" for none
	data       []string
	traces     map[string]int
	reasons    map[string]string
}

// passedOver are folders that hold other people's files.
var passedOver = []string{"node_modules", "vendor", "target", "dist", "build", "venv", "testdata"}

func survey(root string) (*surveyed, error) {
	s := &surveyed{traces: map[string]int{}, reasons: map[string]string{}}
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil // what cannot be read is not described
		}
		rel, _ := filepath.Rel(root, path)
		if d.IsDir() {
			if rel != "." && (strings.HasPrefix(d.Name(), ".") || slices.Contains(passedOver, d.Name()) ||
				strings.Count(rel, string(filepath.Separator)) > 4) {
				return fs.SkipDir
			}
			return s.folder(path, rel)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	most := 0
	for _, k := range all.Kinds() {
		switch found := s.traces[k.Name]; {
		case found > most:
			most, s.engine, s.because = found, k.Name, "because of "+s.reasons[k.Name]
		case most == 0 && k.Traces.Fallback:
			s.engine, s.because = k.Name, "no trace of another engine"
		}
	}
	return s, nil
}

var dataNames = []string{"seed", "seeds", "reference", "data", "fixtures"}

// folder looks at one folder.
func (s *surveyed) folder(path, rel string) error {
	listed, err := os.ReadDir(path)
	if err != nil {
		return nil
	}
	var scripts, tables []string
	numbered := 0
	for _, f := range listed {
		switch ext := strings.ToLower(filepath.Ext(f.Name())); {
		case f.IsDir():
		case ext == ".sql":
			scripts = append(scripts, f.Name())
			if c := f.Name()[0]; '0' <= c && c <= '9' {
				numbered++
			}
			s.trace(filepath.Join(path, f.Name()), filepath.Join(rel, f.Name()))
		case ext == ".csv":
			tables = append(tables, f.Name())
		default:
			for _, k := range all.Kinds() {
				if slices.Contains(k.Traces.Files, ext) {
					s.found(k.Name, filepath.Join(rel, f.Name()), 2)
				}
			}
		}
	}
	base := strings.ToLower(filepath.Base(path))
	switch {
	case rel == ".":
	case numbered > 1 || len(scripts) > 0 && strings.HasPrefix(base, "migrat"):
		s.migrations = append(s.migrations, filepath.ToSlash(rel))
		s.undo = append(s.undo, source.UndoPattern(scripts))
	case len(scripts)+len(tables) > 0 && slices.Contains(dataNames, base):
		s.data = append(s.data, filepath.ToSlash(rel))
	}
	return nil
}

func (s *surveyed) trace(path, rel string) {
	text, err := os.ReadFile(path)
	if err != nil {
		return
	}
	for _, k := range all.Kinds() {
		if k.Traces.Words == nil {
			continue
		}
		if word := k.Traces.Words.Find(text[:min(len(text), 1<<20)]); word != nil {
			s.found(k.Name, fmt.Sprintf("%s in %s", strings.Join(strings.Fields(string(word)), " "), rel), 1)
		}
	}
}

func (s *surveyed) found(engine, what string, weight int) {
	s.traces[engine] += weight
	if s.reasons[engine] == "" {
		s.reasons[engine] = what
	}
}

// file writes the project file.
func (s *surveyed) file(name string) string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("# What this project's test databases are made from. All keys: hemzo init --schema")
	line("databases:")
	line("  %s:", name)
	line("    engine: %-26s # %s", s.engine, or(s.because, "as asked for"))
	for _, k := range all.Kinds() {
		if k.Name == s.engine && k.Traces.Version != "" {
			line("    # version: %-23s # the major version that production runs", k.Traces.Version)
		}
	}
	line("    from:                              # in this order")
	if s.migrations == nil {
		line("      # - migrations: db/migrations    # a folder of numbered SQL files")
	}
	for i, m := range s.migrations {
		line("      - migrations: %q", m)
		if s.undo[i] != "" {
			line("        undo: %-26q # files that undo, never applied", s.undo[i])
		}
	}
	for _, d := range s.data {
		line("      - data: %-26q # SQL and CSV files; a CSV is named after its table", d)
	}
	line("    # keep: [mail_outbox]              # tables that a reset leaves as they are")
	line("    env:                               # what a command under hemzo run gets")
	line("      DATABASE_URL: \"{url}\"")
	return b.String()
}

func or(s, other string) string {
	if s == "" {
		return other
	}
	return s
}

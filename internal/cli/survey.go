package cli

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"hemzo/internal/engine/all"
	"hemzo/internal/source"
)

// plainNames are names of folders that say nothing of what is in them.
var plainNames = []string{"app", "src", "code", "repo", "work", "workspace", "project", "build", "main", "master",
	"backend", "server", "api", "tmp", "test", "source", "checkout", "db"}

// databaseName is what the database is called: after the repository, where its name
// says something and needs no change.
func databaseName(dir string) string {
	name := filepath.Base(dir)
	if !regexp.MustCompile(`^[a-z][a-z0-9-]{1,30}$`).MatchString(name) || slices.Contains(plainNames, name) {
		return "app"
	}
	return name
}

// surveyed is what a folder holds.
type surveyed struct {
	engine     string
	because    string
	migrations []string // folders, merged into one order
	undo       []string // patterns of files that undo
	dump       string   // a schema, where there are no migrations
	data       []string
	skipped    []string // in words
	scripts    []string // folders with SQL that are none of these
	dumps      []string
	traces     map[string]int
	reasons    map[string]string
}

// passedOver are folders that hold other people's files.
var passedOver = []string{"node_modules", "vendor", "target", "dist", "build", "venv", "testdata"}

func survey(root string) (*surveyed, error) {
	s := &surveyed{traces: map[string]int{}, reasons: map[string]string{}}
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.IsDir() {
			return nil // what cannot be read is not described
		}
		rel, _ := filepath.Rel(root, path)
		if rel != "." && (strings.HasPrefix(d.Name(), ".") || slices.Contains(passedOver, d.Name()) ||
			strings.Count(rel, string(filepath.Separator)) > 4) {
			return fs.SkipDir
		}
		if s.folder(path, filepath.ToSlash(rel)) {
			return fs.SkipDir // what is below was read with it
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	s.settle()
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

// settle decides what is used of what was found: without migrations a schema, and
// without that whatever SQL there is.
func (s *surveyed) settle() {
	slices.Sort(s.undo)
	s.undo = slices.Compact(s.undo)
	for _, file := range s.dumps {
		if s.migrations == nil && s.dump == "" {
			s.dump = file
			continue
		}
		s.skipped = append(s.skipped, file+": the migrations make the schema")
	}
	for _, folder := range s.scripts {
		if s.migrations == nil && s.dump == "" {
			s.migrations = append(s.migrations, folder)
			continue
		}
		s.skipped = append(s.skipped, folder+": its SQL files are neither numbered nor called migrations or data")
	}
}

var (
	dataNames = []string{"seed", "seeds", "reference", "data", "fixtures"}
	dumpNames = []string{"schema.sql", "structure.sql", "dump.sql", "init.sql"}
	// undoNames are folders with the files that undo those of the folder beside them.
	undoNames = map[string]string{"down": "up", "undo": "do", "revert": "apply", "rollback": "up", "backward": "forward"}
)

// folder looks at one folder; true where what is below it belongs to it.
func (s *surveyed) folder(path, rel string) (whole bool) {
	listed, err := os.ReadDir(path)
	if err != nil {
		return false
	}
	var scripts, tables, others, nested []string
	numbered := 0
	for _, f := range listed {
		name, ext := f.Name(), strings.ToLower(filepath.Ext(f.Name()))
		counted := '0' <= name[0] && name[0] <= '9'
		switch {
		case f.IsDir():
			if inside, _ := filepath.Glob(filepath.Join(path, name, "*.sql")); counted && inside != nil {
				nested = append(nested, name)
			}
		case ext == ".sql":
			s.trace(filepath.Join(path, name), filepath.Join(rel, name))
			if slices.Contains(dumpNames, strings.ToLower(name)) {
				s.dumps = append(s.dumps, joined(rel, name))
				continue
			}
			scripts = append(scripts, name)
			if counted {
				numbered++
			}
		case ext == ".csv":
			tables = append(tables, name)
		default:
			if counted {
				others = append(others, name)
			}
			for _, k := range all.Kinds() {
				if slices.Contains(k.Traces.Files, ext) {
					s.found(k.Name, filepath.Join(rel, name), 2)
				}
			}
		}
	}
	base := strings.ToLower(filepath.Base(path))
	if beside := undoNames[base]; beside != "" && len(scripts) > 0 {
		if info, err := os.Stat(filepath.Join(filepath.Dir(path), beside)); err == nil && info.IsDir() {
			s.skipped = append(s.skipped, rel+": it undoes what is in "+beside)
			return true
		}
	}
	switch {
	case rel == ".":
	case numbered > 1 || len(nested) > 0 || len(scripts) > 0 && strings.HasPrefix(base, "migrat"):
		s.migrationsIn(path, rel, scripts, others, nested)
		return len(nested) > 0
	case len(scripts)+len(tables) > 0 && slices.Contains(dataNames, base):
		s.data = append(s.data, rel)
	case len(scripts) > 0:
		s.scripts = append(s.scripts, rel)
	}
	return false
}

// joined is the path of a file in a folder, "." being the top.
func joined(folder, name string) string { return filepath.ToSlash(filepath.Join(folder, name)) }

// migrationsIn takes a folder for one of migrations; nested are those that are
// folders themselves.
func (s *surveyed) migrationsIn(path, rel string, scripts, others, nested []string) {
	s.migrations = append(s.migrations, rel)
	names := [][]string{scripts}
	for _, n := range nested {
		var inside []string
		found, _ := filepath.Glob(filepath.Join(path, n, "*.sql"))
		for _, f := range found {
			inside = append(inside, filepath.Base(f))
			s.trace(f, joined(rel, filepath.Join(n, filepath.Base(f))))
		}
		names = append(names, inside)
	}
	for _, some := range names {
		if pattern := source.UndoPattern(some); pattern != "" {
			s.undo = append(s.undo, pattern)
		}
	}
	for _, o := range others {
		s.skipped = append(s.skipped, joined(rel, o)+": no SQL; where it changes the schema, run it as a source:  run:")
	}
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
		if word := k.Traces.Words().Find(text[:min(len(text), 1<<20)]); word != nil {
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
	switch {
	case len(s.migrations) == 1:
		line("      - migrations: %q", s.migrations[0])
	case len(s.migrations) > 1:
		line("      - migrations:                    # merged into one order, by their numbers")
		for _, m := range s.migrations {
			line("          - %q", m)
		}
	case s.dump == "":
		line("      # - migrations: db/migrations    # a folder of numbered SQL files")
	}
	if len(s.undo) == 1 {
		line("        undo: %-26q # files that undo, never applied", s.undo[0])
	} else if len(s.undo) > 1 {
		line("        undo: [%s] # files that undo, never applied", quotedList(s.undo))
	}
	if s.dump != "" {
		line("      - dump: %-26q # the schema", s.dump)
	}
	for _, d := range s.data {
		line("      - data: %-26q # SQL and CSV files; a CSV is named after its table", d)
	}
	line("    # keep: [mail_outbox]              # tables that a reset leaves as they are")
	line("    env:                               # what a command under hemzo run gets")
	line("      DATABASE_URL: \"{url}\"")
	return b.String()
}

func quotedList(all []string) string {
	quoted := make([]string, len(all))
	for i, text := range all {
		quoted[i] = fmt.Sprintf("%q", text)
	}
	return strings.Join(quoted, ", ")
}

func or(s, other string) string {
	if s == "" {
		return other
	}
	return s
}

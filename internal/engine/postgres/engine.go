// Package postgres is the engine PostgreSQL: templates, copies and snapshots
// are databases of one server, their facts JSON in each database's comment.
package postgres

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
	"hemzo/internal/source"
	"hemzo/internal/sqltext"
)

// Engine is PostgreSQL.
type Engine struct{}

// Name returns "postgres".
func (Engine) Name() string { return "postgres" }

var dialect = sqltext.Dialect{NestedComments: true, DollarQuotes: true, EscapeStrings: true, Routines: true,
	Dumps: true}

// Language is PostgreSQL's SQL.
func (Engine) Language() source.Language { return source.SQL(dialect) }

// Traces are PostgreSQL's own words.
func (Engine) Traces() engine.Traces { return engine.Traces{Words: ownWords, Version: "15"} }

var ownWords = regexp.MustCompile(
	`(?i)\b(BIGSERIAL|SERIAL|JSONB|TIMESTAMPTZ|PLPGSQL|GENERATED\s+(ALWAYS|BY\s+DEFAULT)\s+AS\s+IDENTITY|` +
		`CREATE\s+EXTENSION|CREATE\s+TYPE)\b|\$\$`)

// Hosting: one server holds all copies.
func (e Engine) Hosting() engine.Hosting {
	return engine.Hosting{
		Process: e, Container: e, Existing: e, Connect: connect, Prune: prune,
		Foretold: &engine.Foretold{
			Ports:      func(engine.Spec) []int { return []int{serverPort} },
			Connection: foretell,
		},
	}
}

// MaxLayers is few: a layer takes 8 MB and as many milliseconds, empty.
func (Engine) MaxLayers() int { return 8 }

var plainName = regexp.MustCompile(`^[a-z_][a-z0-9_.]*$`)

// Check reports what of a Spec PostgreSQL cannot give.
func (Engine) Check(s engine.Spec) error {
	if s.Version != "" {
		if _, err := strconv.Atoi(major(s.Version)); err != nil {
			return fault.New(fault.Usage, "say the major version, as in  version: 15", "postgres: %q is no version",
				s.Version)
		}
	}
	for _, set := range s.Settings {
		if !plainName.MatchString(set.Name) {
			return fault.New(fault.Usage, "", "postgres: %q is no name of a setting", set.Name)
		}
		if slices.Contains(fixed, set.Name) {
			return fault.New(fault.Usage, "leave it out", "postgres: the setting %s is Hemzo's to choose", set.Name)
		}
	}
	return nil
}

// fixed are the settings that Hemzo needs as it sets them.
var fixed = []string{"port", "listen_addresses", "unix_socket_directories", "hba_file", "data_directory",
	"dynamic_shared_memory_type"}

func major(version string) string {
	m, _, _ := strings.Cut(version, ".")
	return m
}

// Fingerprint lists what an empty database depends on.
func (Engine) Fingerprint(s engine.Spec) []string {
	version := major(s.Version)
	if version == "" {
		if b, err := find(""); err == nil && s.Image == "" {
			version = b.major
		} else {
			version = s.Image
		}
	}
	// Who owns the objects of a template owns those of its copies.
	role, _, _ := strings.Cut(s.SourceRole, " ")
	base := []string{"postgres", version, s.Encoding, s.Locale, s.SourceRole, ownerOf(s.Database, role)}
	base = append(base, slices.Sorted(slices.Values(s.Extensions))...)
	var settings []string
	for _, set := range s.Settings {
		settings = append(settings, set.Name+"="+set.Value)
	}
	return append(base, slices.Sorted(slices.Values(settings))...)
}

// Needs reports the servers of this machine.
func (Engine) Needs(context.Context) []engine.Need {
	n := engine.Need{What: "PostgreSQL server", Next: advice}
	for _, b := range binaries() {
		if n.Has != "" {
			n.Has += "; "
		}
		n.Has += b.version() + " in " + b.folder
	}
	return []engine.Need{n}
}

const advice = "install it (on Debian: apt-get install postgresql), put the folder of its programs on PATH, or use " +
	" where: container"

// installation is a PostgreSQL installation.
type installation struct {
	folder string
	major  string
	stamp  string // changes when another is installed in its place
}

// version asks the program which it is: "15.18". It costs a process, so it is
// not asked where the major will do.
func (i installation) version() string {
	out, err := exec.Command(filepath.Join(i.folder, "postgres"), "--version").Output()
	if m := versionLine.FindStringSubmatch(string(out)); err == nil && m != nil {
		return m[1] + m[2]
	}
	return ""
}

// inPath is how distributions and package managers write the major version
// into the path.
var inPath = regexp.MustCompile(`(?:postgresql|pgsql|Versions)[-@/]?([0-9]{1,2})(?:/|$)`)

var versionLine = regexp.MustCompile(`\(PostgreSQL\) ([0-9]+)(\.[0-9]+)?`)

// binaries lists the installations of this machine, the highest version
// first: on PATH, and where distributions and package managers put them.
func binaries() []installation {
	var folders []string
	folders = append(folders, filepath.SplitList(os.Getenv("PATH"))...)
	for _, pattern := range []string{
		"/usr/lib/postgresql/*/bin", "/usr/pgsql-*/bin", "/usr/lib/postgresql*/bin", "/usr/libexec/postgresql*",
		"/usr/local/pgsql/bin",
		"/opt/homebrew/opt/postgresql*/bin", "/usr/local/opt/postgresql*/bin", "/opt/local/lib/postgresql*/bin",
		"/Applications/Postgres.app/Contents/Versions/*/bin",
	} {
		found, _ := filepath.Glob(pattern)
		folders = append(folders, found...)
	}
	var all []installation
	for _, dir := range folders {
		program := filepath.Join(dir, "postgres")
		if real, err := filepath.EvalSymlinks(program); err == nil {
			program = real
		} else {
			continue
		}
		dir = filepath.Dir(program)
		if _, err := os.Stat(filepath.Join(dir, "initdb")); err != nil ||
			slices.ContainsFunc(all, func(b installation) bool { return b.folder == dir }) {
			continue
		}
		info, err := os.Stat(program)
		if err != nil {
			continue
		}
		i := installation{folder: dir, stamp: info.ModTime().UTC().Format("20060102150405")}
		if m := inPath.FindStringSubmatch(dir); m != nil {
			i.major = m[1]
		} else if i.major = major(i.version()); i.major == "" {
			continue
		}
		all = append(all, i)
	}
	slices.SortStableFunc(all, func(a, b installation) int {
		x, _ := strconv.Atoi(a.major)
		y, _ := strconv.Atoi(b.major)
		return y - x
	})
	return all
}

// find finds the installation of a version, the highest for "".
func find(version string) (installation, error) {
	all := binaries()
	var have []string
	for _, b := range all {
		if version == "" || b.major == major(version) {
			return b, nil
		}
		have = append(have, b.major)
	}
	if version == "" {
		return installation{}, fault.New(fault.Lacking, advice, "this machine has no PostgreSQL server")
	}
	what := "none at all"
	if have != nil {
		what = strings.Join(have, ", ")
	}
	return installation{}, fault.New(fault.Lacking, advice, "this machine has no PostgreSQL %s, but %s", version, what)
}

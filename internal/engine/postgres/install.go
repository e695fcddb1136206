package postgres

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"hemzo/internal/fault"
	"hemzo/internal/pattern"
)

const advice = "install it (on Debian: apt-get install postgresql), or put the folder of its programs on PATH"

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
	if m := versionLine().FindStringSubmatch(string(out)); err == nil && m != nil {
		return m[1] + m[2]
	}
	return ""
}

// inPath is how distributions and package managers write the major version
// into the path.
var inPath = pattern.Lazy(`(?:postgresql|pgsql|Versions)[-@/]?([0-9]{1,2})(?:/|$)`)

var versionLine = pattern.Lazy(`\(PostgreSQL\) ([0-9]+)(\.[0-9]+)?`)

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
		if m := inPath().FindStringSubmatch(dir); m != nil {
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

// Package mariadb is the engine for MariaDB. In memory each copy is a server process of
// its own, started from the files of its template: nothing is rewritten, and its counters,
// users and settings are its own.
package mariadb

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"hemzo/internal/engine"
	"hemzo/internal/engine/percopy"
	"hemzo/internal/fault"
	"hemzo/internal/source"
	"hemzo/internal/sqltext"
)

// Engine is MariaDB.
type Engine struct{}

// dialect are the lexical rules of MariaDB's SQL, as the modes of sql_mode have them by
// default.
var dialect = sqltext.Dialect{Backtick: true, Backslashes: true, HashComments: true, Conditional: true,
	Delimiters: true, Programs: true}

// Name returns "mariadb".
func (Engine) Name() string { return "mariadb" }

// Language is MariaDB's SQL.
func (Engine) Language() source.Language { return source.SQL(dialect) }

// Traces are MariaDB's own words.
func (Engine) Traces() engine.Traces { return engine.Traces{Words: ownWords, Version: "10.11"} }

var ownWords = regexp.MustCompile(`(?i)\b(AUTO_INCREMENT|ENGINE\s*=\s*\w+|UNSIGNED|TINYINT)\b`)

// Hosting: a process for each copy.
func (e Engine) Hosting() engine.Hosting { return engine.Hosting{Process: e, PerCopy: open} }

// MaxLayers is few: a layer is a whole data folder.
func (Engine) MaxLayers() int { return 4 }

var plainName = regexp.MustCompile(`^[a-z_][a-z0-9_-]*$`)

// reservedSettings are those that Hemzo needs as it sets them.
var reservedSettings = []string{"port", "socket", "datadir", "bind_address", "pid_file", "user", "init_file",
	"innodb_stats_auto_recalc", "innodb_stats_persistent", "userstat", "skip_grant_tables", "tmpdir", "log_bin",
	"lower_case_table_names"}

// Check reports what of a Spec MariaDB cannot give.
func (Engine) Check(s engine.Spec) error {
	if s.Version != "" && !versionWanted.MatchString(s.Version) {
		return fault.New(fault.Usage, "as in  version: 10.11", "mariadb: %q is not a version", s.Version)
	}
	for _, set := range s.Settings {
		if !plainName.MatchString(set.Name) {
			return fault.New(fault.Usage, "", "mariadb: %q is not a setting's name", set.Name)
		}
		if slices.Contains(reservedSettings, strings.ReplaceAll(set.Name, "-", "_")) {
			return fault.New(fault.Usage, "leave it out", "mariadb: the setting %s is Hemzo's to choose", set.Name)
		}
	}
	switch {
	case !plainName.MatchString(charsetOf(s)):
		return fault.New(fault.Usage, "as in  encoding: utf8mb4", "mariadb: %q is not a character set", s.Encoding)
	case collationOf(s) != "" && !plainName.MatchString(collationOf(s)):
		return fault.New(fault.Usage, "as in  locale: utf8mb4_unicode_ci", "mariadb: %q is not a collation", s.Locale)
	case len(s.Extensions) > 0:
		return fault.New(fault.Usage, "leave out  extensions:", "mariadb has no extensions")
	case len(s.Roles) > 0:
		return fault.New(fault.Usage, "leave out  roles:", "mariadb: roles are not made for sources yet")
	case s.SourceRole != "" && s.SourceRole != "owner":
		return fault.New(fault.Usage, "leave out  role:", "mariadb: the only role is owner")
	}
	return nil
}

var versionWanted = regexp.MustCompile(`^[0-9]+(\.[0-9]+)?$`)

// Fingerprint lists what the state before the first step depends on.
func (Engine) Fingerprint(s engine.Spec) []string {
	b, err := find(s.Version)
	version := s.Version
	if err == nil {
		version = b.major
	}
	out := []string{"mariadb 2", version, charsetOf(s), collationOf(s), schemaName(s)}
	for _, set := range sorted(s.Settings) {
		out = append(out, set.Name+"="+set.Value)
	}
	return out
}

func sorted(all []engine.Setting) []engine.Setting {
	all = slices.Clone(all)
	slices.SortFunc(all, func(a, b engine.Setting) int { return strings.Compare(a.Name, b.Name) })
	return all
}

// Needs reports the server of this machine that would be started.
func (Engine) Needs(_ context.Context, spec engine.Spec) []engine.Need {
	n := engine.Need{What: "MariaDB server"}
	b, err := find(spec.Version)
	if err != nil {
		n.Lacks, n.Next = err.Error(), advice
		return []engine.Need{n}
	}
	n.Has = fmt.Sprintf("%s, %s", b.version, b.server)
	return []engine.Need{n}
}

var notInNames = regexp.MustCompile(`[^a-z0-9_]+`)

// schemaName is what the database is called on its server: as in the project file.
func schemaName(s engine.Spec) string {
	name := notInNames.ReplaceAllString(strings.ToLower(s.Database), "_")
	if name == "" || slices.Contains(systemSchemas, name) {
		name = "hemzo_" + name
	}
	return name[:min(len(name), 40)]
}

var systemSchemas = []string{"mysql", "information_schema", "performance_schema", "sys"}

func open(_ context.Context, fleet engine.Fleet, spec engine.Spec) (engine.Server, error) {
	b, err := find(spec.Version)
	if err != nil {
		return nil, err
	}
	return percopy.Open(fleet, percopy.Kind{
		Version: b.version, Save: save, Connection: connection, Clients: clients,
		Open: func(ctx context.Context, s *percopy.Server, e engine.Entry, session engine.Session) (engine.Database,
			error) {
			return openDatabase(ctx, s, e, session)
		},
	})
}

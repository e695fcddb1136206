// Package mariadb is the engine for MariaDB and MySQL. In memory each copy is a server
// process of its own, started from the files of its template: nothing is rewritten, and its
// counters, users and settings are its own. In a container and on a server that is there
// already all are schemas of one server, made from each other by statements.
package mariadb

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"hemzo/internal/engine"
	"hemzo/internal/engine/percopy"
	"hemzo/internal/fault"
	"hemzo/internal/pattern"
	"hemzo/internal/source"
	"hemzo/internal/sqltext"
)

// Engine is MariaDB, or MySQL.
type Engine struct{ MySQL bool }

// dialect are the lexical rules of MariaDB's SQL, as the modes of sql_mode have them by
// default.
var dialect = sqltext.Dialect{Backtick: true, Backslashes: true, HashComments: true, Conditional: true,
	Delimiters: true, Programs: true, Modes: true}

// Name returns "mariadb" or "mysql".
func (e Engine) Name() string {
	if e.MySQL {
		return "mysql"
	}
	return "mariadb"
}

// product is what the server is called.
func (e Engine) product() string {
	if e.MySQL {
		return "MySQL"
	}
	return "MariaDB"
}

// Language is MariaDB's SQL.
func (Engine) Language() source.Language { return source.SQL(dialect) }

// Traces are the words of both. Who says nothing else gets MariaDB.
func (e Engine) Traces() engine.Traces {
	if e.MySQL {
		return engine.Traces{Version: "9"}
	}
	return engine.Traces{Words: ownWords, Version: "10.11"}
}

var ownWords = pattern.Lazy(`(?i)\b(AUTO_INCREMENT|ENGINE\s*=\s*\w+|UNSIGNED|TINYINT)\b`)

// Hosting: a process for each copy, or one server for all.
func (e Engine) Hosting() engine.Hosting {
	h := engine.Hosting{Process: e, Container: e, Connect: e.connect, Prune: e.prune, Existing: e, Gate: openGate,
		Foretold: &engine.Foretold{Ports: func(engine.Spec) []int { return []int{serverPort} }, Move: e.move},
		Trial:    imitation()}
	if !e.MySQL { // a server of which takes four times the memory, and the time to start
		h.PerCopy = open
	}
	return h
}

// MaxLayers is few: a layer is a whole data folder, or a schema with all rows.
func (Engine) MaxLayers() int { return 4 }

var plainName = pattern.Lazy(`^[a-z_][a-z0-9_-]*$`)

// reservedSettings are those that Hemzo needs as it sets them.
var reservedSettings = []string{"port", "socket", "datadir", "bind_address", "pid_file", "user", "init_file",
	"innodb_stats_auto_recalc", "innodb_stats_persistent", "userstat", "skip_grant_tables", "tmpdir", "log_bin",
	"lower_case_table_names"}

// Check reports what of a Spec MariaDB cannot give.
func (e Engine) Check(s engine.Spec) error {
	if s.Version != "" && !versionWanted().MatchString(s.Version) {
		return fault.New(fault.Usage, "as in  version: 10.11", "%s: %q is not a version", e.Name(), s.Version)
	}
	for _, set := range s.Settings {
		if !plainName().MatchString(set.Name) {
			return fault.New(fault.Usage, "", "%s: %q is not a setting's name", e.Name(), set.Name)
		}
		if slices.Contains(reservedSettings, strings.ReplaceAll(set.Name, "-", "_")) {
			return fault.New(fault.Usage, "leave it out", "%s: the setting %s is Hemzo's to choose", e.Name(), set.Name)
		}
		if strings.EqualFold(set.Name, "sql_mode") && readsOtherwise().MatchString(set.Value) {
			return fault.New(fault.Usage, "SET sql_mode  in the sources that are written in it",
				"%s: sql_mode = %s would have all sources read in another way", e.Name(), set.Value)
		}
	}
	switch {
	case !plainName().MatchString(charsetOf(s)):
		return fault.New(fault.Usage, "as in  encoding: utf8mb4", "%s: %q is not a character set", e.Name(), s.Encoding)
	case collationOf(s) != "" && !plainName().MatchString(collationOf(s)):
		return fault.New(fault.Usage, "as in  locale: utf8mb4_unicode_ci", "%s: %q is not a collation", e.Name(), s.Locale)
	case len(s.Extensions) > 0:
		return fault.New(fault.Usage, "leave out  extensions:", "%s has no extensions", e.Name())
	}
	// On a server that is there already the account of its url follows.
	if role, _, _ := strings.Cut(s.SourceRole, " "); role != "" && role != "owner" {
		return fault.New(fault.Usage, "leave out  role:", "%s: the only role is owner", e.Name())
	}
	return nil
}

// readsOtherwise are modes in which quotes or backslashes mean something else.
var readsOtherwise = pattern.Lazy(`(?i)ANSI|NO_BACKSLASH_ESCAPES|ORACLE|MSSQL|DB2|MAXDB|POSTGRESQL`)

var versionWanted = pattern.Lazy(`^[0-9]+(\.[0-9]+)?$`)

// Fingerprint lists what the state before the first step depends on.
func (e Engine) Fingerprint(s engine.Spec) []string {
	version := s.Version
	if b, err := e.find(s.Version); err == nil && !e.MySQL {
		version = b.major
	}
	out := []string{e.Name() + " 3", version, charsetOf(s), collationOf(s), schemaName(s)}
	for _, set := range sorted(s.Settings) {
		out = append(out, set.Name+"="+set.Value)
	}
	if _, account, ok := strings.Cut(s.SourceRole, " "); ok {
		out = append(out, "account "+account)
	}
	if len(s.Roles) > 0 {
		out = append(out, "roles "+strings.Join(rolesOf(s), " "))
	}
	return out
}

func sorted(all []engine.Setting) []engine.Setting {
	all = slices.Clone(all)
	slices.SortFunc(all, func(a, b engine.Setting) int { return strings.Compare(a.Name, b.Name) })
	return all
}

// Needs reports the server of this machine that would be started.
func (e Engine) Needs(_ context.Context, spec engine.Spec) []engine.Need {
	n := engine.Need{What: e.product() + " server"}
	b, err := e.find(spec.Version)
	if err != nil {
		n.Lacks, n.Next = err.Error(), advice
		if e.MySQL {
			n.Next = mysqlAdvice
		}
		return []engine.Need{n}
	}
	n.Has = fmt.Sprintf("%s, %s", b.version, b.server)
	return []engine.Need{n}
}

var notInNames = pattern.Lazy(`[^a-z0-9_]+`)

// schemaName is what the database is called on its server: as in the project file.
func schemaName(s engine.Spec) string {
	name := notInNames().ReplaceAllString(strings.ToLower(s.Database), "_")
	if name == "" || slices.Contains(systemSchemas, name) {
		name = "hemzo_" + name
	}
	return name[:min(len(name), 40)]
}

var systemSchemas = []string{"mysql", "information_schema", "performance_schema", "sys"}

// open opens the copies where each has a server of its own.
func open(_ context.Context, fleet engine.Fleet, spec engine.Spec) (engine.Server, error) {
	b, err := Engine{}.find(spec.Version)
	if err != nil {
		return nil, err
	}
	return percopy.Open(fleet, percopy.Kind{
		Version: b.version, Save: save, Connection: connection, Clients: clients,
		Tables: func(folder string) (map[string][]string, error) {
			s, err := readState(folder)
			if err != nil {
				return nil, err
			}
			return s.leads(), nil
		},
		Open: func(_ context.Context, s *percopy.Server, e engine.Entry, session engine.Session) (engine.Database,
			error) {
			return openDatabase(separate{s}, e, session)
		},
	})
}

// separate are servers of which each copy has one.
type separate struct{ *percopy.Server }

func (s separate) locate(e engine.Entry) address { return addressOf(s.At(e.Facts)) }

func (s separate) start(_ context.Context, id string) (*state, error) { return readState(s.Files(id)) }

// renew starts a server from the files of a state in the place of a copy's.
func (s separate) renew(ctx context.Context, d *database, from string) (json.RawMessage, bool, error) {
	at, err := s.Restart(ctx, d.entry.ID, from)
	if err == nil {
		d.at = addressOf(at)
	}
	return nil, true, err
}

// Package postgres is the engine PostgreSQL: templates, copies and snapshots
// are databases of one server, their facts JSON in each database's comment.
package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/witness"
	"hemzo/internal/fault"
	"hemzo/internal/pattern"
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

var ownWords = pattern.Lazy(
	`(?i)\b(BIGSERIAL|SERIAL|JSONB|TIMESTAMPTZ|PLPGSQL|GENERATED\s+(ALWAYS|BY\s+DEFAULT)\s+AS\s+IDENTITY|` +
		`CREATE\s+EXTENSION|CREATE\s+TYPE)\b|\$\$`)

// Hosting: one server holds all copies.
func (e Engine) Hosting() engine.Hosting {
	return engine.Hosting{
		Process: e, Container: e, Existing: e, Connect: connect, Prune: prune, Gate: openGate,
		Trial: imitation(),
		Foretold: &engine.Foretold{
			Ports:      func(engine.Spec) []int { return []int{serverPort} },
			Connection: foretell, Move: move,
		},
	}
}

// MaxLayers is few: a layer takes 8 MB and as many milliseconds, empty.
func (Engine) MaxLayers() int { return 8 }

var plainName = pattern.Lazy(`^[a-z_][a-z0-9_.]*$`)

// Check reports what of a Spec PostgreSQL cannot give.
func (Engine) Check(s engine.Spec) error {
	if s.Version != "" {
		if _, err := strconv.Atoi(major(s.Version)); err != nil {
			return fault.New(fault.Usage, "say the major version, as in  version: 15", "postgres: %q is not a version",
				s.Version)
		}
	}
	for _, set := range s.Settings {
		if !plainName().MatchString(set.Name) {
			return fault.New(fault.Usage, "", "postgres: %q is not a setting's name", set.Name)
		}
		if slices.Contains(reservedSettings, set.Name) {
			return fault.New(fault.Usage, "leave it out", "postgres: the setting %s is Hemzo's to choose", set.Name)
		}
	}
	return nil
}

// reservedSettings are the settings that Hemzo needs as it sets them.
var reservedSettings = []string{"port", "listen_addresses", "unix_socket_directories", "hba_file", "data_directory",
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
	// Without a baseline that can be read every reset would replace the copy.
	base = append(base, fmt.Sprintf("baselines %d", witness.Form))
	base = append(base, slices.Sorted(slices.Values(s.Extensions))...)
	var settings []string
	for _, set := range s.Settings {
		settings = append(settings, set.Name+"="+set.Value)
	}
	return append(base, slices.Sorted(slices.Values(settings))...)
}

// Needs reports the server of this machine that would be started.
func (Engine) Needs(_ context.Context, spec engine.Spec) []engine.Need {
	n := engine.Need{What: strings.Join(strings.Fields("PostgreSQL "+major(spec.Version)+" server"), " ")}
	b, err := find(spec.Version)
	if f, ok := errors.AsType[*fault.Error](err); ok {
		n.Lacks, n.Next = f.What, f.Next
		return []engine.Need{n}
	}
	n.Has = b.version() + " in " + b.folder
	return []engine.Need{n}
}

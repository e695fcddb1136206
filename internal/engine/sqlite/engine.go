// Package sqlite is the engine SQLite: templates and copies are files in one
// private folder, their facts in a file beside each.
package sqlite

import (
	"context"
	"os"
	"slices"
	"strings"

	"modernc.org/libc"
	lite "modernc.org/sqlite/lib"

	"hemzo/internal/engine"
	"hemzo/internal/engine/folder"
	"hemzo/internal/fault"
	"hemzo/internal/pattern"
	"hemzo/internal/source"
	"hemzo/internal/sqltext"
)

// Engine is SQLite as a part of this program.
type Engine struct{}

// Name returns "sqlite".
func (Engine) Name() string { return "sqlite" }

var dialect = sqltext.Dialect{Backtick: true, Bracket: true, OpenComment: true, TriggerBody: true}

// Language is SQLite's SQL.
func (Engine) Language() source.Language { return source.SQL(dialect) }

// Traces are SQLite's own words, and files of databases. Without a trace of any
// engine SQLite is taken: it needs nothing.
func (Engine) Traces() engine.Traces {
	return engine.Traces{Words: ownWords, Files: []string{".sqlite", ".sqlite3"}, Fallback: true}
}

var ownWords = pattern.Lazy(`(?i)\b(AUTOINCREMENT|PRAGMA|WITHOUT\s+ROWID|\)\s*STRICT)\b`)

// Hosting: SQLite is a part of this program.
func (Engine) Hosting() engine.Hosting { return engine.Hosting{Embedded: open, Trial: imitation()} }

func version() string { return libc.GoString(lite.Xsqlite3_libversion(libc.NewTLS())) }

// settings are the settings that a project file may give, with the values
// that each takes; nil for a whole number.
var settings = map[string][]string{
	"page_size":      {"512", "1024", "2048", "4096", "8192", "16384", "32768", "65536"},
	"auto_vacuum":    {"none", "full", "incremental"},
	"journal_mode":   {"delete", "wal"},
	"foreign_keys":   {"on", "off"},
	"application_id": nil,
}

// Check reports what of a Spec SQLite cannot give.
func (Engine) Check(s engine.Spec) error {
	bad := func(next, format string, args ...any) error { return fault.New(fault.Usage, next, format, args...) }
	if s.Version != "" && s.Version != "3" && !strings.HasPrefix(version()+".", s.Version+".") {
		return bad("leave version out, or say  version: 3", "sqlite: version %q is wanted, this program has %s",
			s.Version, version())
	}
	if _, ok := encodings[strings.ToUpper(s.Encoding)]; !ok {
		return bad("say UTF-8, UTF-16le or UTF-16be", "sqlite: it has no encoding %q", s.Encoding)
	}
	if s.Locale != "" && s.Locale != "C" {
		return bad("leave locale out", "sqlite: it has no locales")
	}
	if len(s.Extensions) > 0 {
		return bad("leave extensions out", "sqlite: extensions are loaded by the application, Hemzo cannot load %s",
			s.Extensions[0])
	}
	for _, set := range s.Settings {
		values, ok := settings[set.Name]
		if !ok {
			known := make([]string, 0, len(settings))
			for name := range settings {
				known = append(known, name)
			}
			slices.Sort(known)
			return bad("known settings: "+strings.Join(known, ", "), "sqlite: a file keeps no setting %q", set.Name)
		}
		if values != nil && !slices.Contains(values, strings.ToLower(set.Value)) {
			return bad("one of "+strings.Join(values, ", "), "sqlite: setting %s cannot be %q", set.Name, set.Value)
		}
		if values == nil && strings.Trim(set.Value, "0123456789") != "" {
			return bad("a whole number", "sqlite: setting %s cannot be %q", set.Name, set.Value)
		}
	}
	return nil
}

var encodings = map[string]string{"": "UTF-8", "UTF-8": "UTF-8", "UTF8": "UTF-8", "UTF-16": "UTF-16le",
	"UTF-16LE": "UTF-16le", "UTF-16BE": "UTF-16be"}

// Fingerprint lists what an empty SQLite file depends on. The library's minor
// version is not part of it: the file format has been one since 3.0.
func (Engine) Fingerprint(s engine.Spec) []string {
	base := []string{"sqlite", "3", encodings[strings.ToUpper(s.Encoding)]}
	for _, set := range s.Settings {
		base = append(base, set.Name+"="+strings.ToLower(set.Value))
	}
	slices.Sort(base[3:])
	return base
}

// MaxLayers is many: a layer is a file copy, and small.
func (Engine) MaxLayers() int { return 64 }

// Needs reports that SQLite needs nothing but this program.
func (Engine) Needs(context.Context, engine.Spec) []engine.Need {
	return []engine.Need{{What: "SQLite", Has: version() + ", part of this program"}}
}

// open opens the server in a folder.
func open(_ context.Context, path string, _ engine.Spec) (engine.Server, error) {
	s := &server{}
	f, err := folder.Make(path, func(id string) (int64, bool) {
		info, err := os.Stat(s.file(id))
		if err != nil {
			return 0, false
		}
		return info.Size(), true
	})
	s.Folder = f
	return s, err
}

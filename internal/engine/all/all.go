// Package all lists the engines.
package all

import (
	"slices"
	"strings"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres"
	"hemzo/internal/engine/service"
	"hemzo/internal/engine/sqlite"
	"hemzo/internal/fault"
)

// Named returns the engine of a name in a project file.
func Named(name string) (engine.Engine, error) {
	for _, e := range Engines() {
		if e.Name() == name {
			return e, nil
		}
	}
	return nil, fault.New(fault.Lacking, "this version has sqlite, postgres and service", "the engine %s is not part of this version", name)
}

// ForURL returns the engine whose servers have such URLs.
func ForURL(url string) (engine.Remote, error) {
	scheme, _, _ := strings.Cut(url, ":")
	var known []string
	for _, e := range Engines() {
		if r, ok := e.(engine.Remote); ok {
			if slices.Contains(r.Schemes(), scheme) {
				return r, nil
			}
			known = append(known, r.Schemes()...)
		}
	}
	return nil, fault.New(fault.Usage, "URLs begin with "+strings.Join(known, ", "), "no engine has a server at %q...", scheme)
}

// Engines returns all engines of this version.
func Engines() []engine.Engine {
	return []engine.Engine{sqlite.Engine{}, postgres.Engine{}, service.Engine{}}
}

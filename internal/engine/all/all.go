// Package all is the registry of engines: the one place that lists them.
package all

import (
	"slices"
	"strings"

	"hemzo/internal/engine"
	"hemzo/internal/engine/mariadb"
	"hemzo/internal/engine/postgres"
	"hemzo/internal/engine/redis"
	"hemzo/internal/engine/service"
	"hemzo/internal/engine/sqlite"
	"hemzo/internal/fault"
)

// Engines returns all engines of this version.
func Engines() []engine.Engine {
	return []engine.Engine{
		sqlite.Engine{},
		postgres.Engine{},
		mariadb.Engine{},
		mariadb.Engine{MySQL: true},
		redis.Engine{},
		service.Engine{},
	}
}

// Kind is an engine by its name in a project file, and by its traces in the
// files of a project.
type Kind struct {
	Name   string
	Traces engine.Traces
}

// Kinds returns all engines that a project may name.
func Kinds() (all []Kind) {
	for _, e := range Engines() {
		all = append(all, Kind{e.Name(), e.Traces()})
	}
	return all
}

// Names returns the names of Kinds.
func Names() (names []string) {
	for _, k := range Kinds() {
		names = append(names, k.Name)
	}
	return names
}

// Named returns the engine of a name in a project file.
func Named(name string) (engine.Engine, error) {
	var known []string
	for _, e := range Engines() {
		if e.Name() == name {
			return e, nil
		}
		known = append(known, e.Name())
	}
	last := len(known) - 1
	return nil, fault.New(fault.Lacking, "this version has "+strings.Join(known[:last], ", ")+" and "+known[last],
		"the engine %s is not part of this version", name)
}

// ForURL returns the engine whose servers have such URLs.
func ForURL(url string) (engine.Engine, error) {
	scheme, _, _ := strings.Cut(url, ":")
	var known []string
	for _, e := range Engines() {
		if r := e.Hosting().Existing; r != nil {
			if slices.Contains(r.Schemes(), scheme) {
				return e, nil
			}
			known = append(known, r.Schemes()...)
		}
	}
	return nil, fault.New(fault.Usage, "URLs begin with "+strings.Join(known, ", "), "no engine has a server at %q...",
		scheme)
}

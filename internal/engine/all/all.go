// Package all lists the engines.
package all

import (
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

// Engines returns all engines of this version.
func Engines() []engine.Engine {
	return []engine.Engine{sqlite.Engine{}, postgres.Engine{}, service.Engine{}}
}

// Package engine holds the contract between Hemzo and the database systems it
// works on. Each system lives in a folder of its own below; no code outside
// asks which one it has, and what only some can do is a field of Hosting.
//
// A Server holds templates, copies and snapshots, told apart by their names,
// each with Facts kept beside or inside it. A Database is one of them, opened
// for work.
package engine

import (
	"context"
	"errors"
	"regexp"
	"time"

	"hemzo/internal/source"
)

// ErrNotFound is returned for a template, copy or snapshot that is not there.
var ErrNotFound = errors.New("not found")

// Engine is one database system. Its methods but Needs read and change nothing
// outside this process, and may be called from several goroutines at once.
type Engine interface {
	// Name is the engine's name in a project file.
	Name() string
	// Language tells which files hold steps for it, and how they are read.
	Language() source.Language
	// Check reports what of a Spec the engine cannot give: a *fault.Error of
	// kind Usage.
	Check(Spec) error
	// Fingerprint lists what the state before the first step depends on.
	Fingerprint(Spec) []string
	// MaxLayers is how many layers of one build are worth keeping where the
	// project file does not say; 0 where its copies are not made from templates.
	MaxLayers() int
	// Needs reports what the engine needs of this machine. It may start programs
	// to ask for their versions.
	Needs(context.Context, Spec) []Need
	// Traces tells how files show that a project uses this engine.
	Traces() Traces
	// Hosting tells where its servers can be.
	Hosting() Hosting
}

// Traces are how the files of a project show which engine it uses.
type Traces struct {
	Words    func() *regexp.Regexp // of its language, that no other engine knows; nil for none
	Files    []string              // extensions of files that it writes, with the dot
	Version  string                // an example of a version, for engines that come in several; "" else
	Fallback bool                  // taken where there is no trace of any
}

// Need is one thing an engine needs, for doctor.
type Need struct {
	What string // "SQLite library"
	Has  string // "3.54.1, part of this program"; "" where it is missing
	// Lacks says what is missing, and Next what to do, where it is missing.
	Lacks, Next string
}

// Spec is what a project file asks of an engine.
type Spec struct {
	Database   string // its name in the project file
	Version    string
	Encoding   string
	Locale     string
	Extensions []string
	Settings   []Setting
	SourceRole string   // whose rights the sources run with
	Image      string   // of a container
	Room       int64    // for the data of a container, in bytes; 0 for no limit
	Memory     int64    // of a container, in bytes; 0 for no limit
	CPUs       int      // of a container; 0 for no limit
	Service    Service  // of any other system
	Roles      []string // that the sources mention, made without login
}

// Service says how a system is run that Hemzo knows nothing of.
type Service struct {
	Ports     []int // that it listens on, the main one first
	Variables []Setting
	Command   []string // for the image's entry; nil for the image's own
	Ready     string   // when it counts as ready: "GET /path", "says TEXT", or "" when it accepts connections
	Forget    string   // the request that makes it forget everything; "" for a fresh container
	Within    time.Duration
}

// Setting is one setting of an engine.
type Setting struct{ Name, Value string }

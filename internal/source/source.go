// Package source turns what a project keeps in its repository (migrations,
// data files, dumps, commands) into steps in a fixed order, each with a hash
// of what it would do. It reads files and knows no server.
package source

import (
	"context"
	"fmt"
	"io/fs"
	"iter"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"hemzo/internal/fault"
	"hemzo/internal/sqltext"
)

// Item is one entry of a database's from: list. Exactly one of Migrations,
// Data, Dump and Command is set.
type Item struct {
	Migrations []string // folders, merged into one order
	Data       []string // files or folders of SQL and CSV files
	Dump       string   // a file
	Command    []string // the project's own command and its arguments

	Undo      []string // patterns of files that undo
	Only      []string // patterns of the only files to take
	Skip      []string // patterns of files to leave out
	ByName    bool     // order by name alone, numbers have no meaning
	Apply     string   // marker line before the part to apply, "" for none
	Back      string   // marker line before the part that undoes
	Inputs    []string // patterns of the files that a command's result depends on
	Always    bool     // the command runs at every build
	Continues bool     // the command does what is missing on an older result
	Within    time.Duration
}

// Kind says what a step is.
type Kind string

// The kinds of step.
const (
	Migration Kind = "migration"
	Data      Kind = "data"
	Dump      Kind = "dump"
	Command   Kind = "command"
)

// Script is one SQL file, or the part of it that is applied.
type Script struct {
	File  string // relative to the project's folder
	Text  string
	First int // the line of the file at which Text begins, from 1
}

// Step is one unit that a source applies.
type Step struct {
	Name    string
	Kind    Kind
	Scripts []Script // of a migration, a dump, or SQL data
	Table   *Table   // of CSV data
	Command *Run     // of a command
	Hash    string   // 64 hex digits over what it does, not over its name
	Sources string   // likewise, and the same each time also where Hash is not
	Always  bool     // its result is never found ready
	Last    bool     // no step of the same item comes after it

	files   []string // that it is made of, with the hash of what each holds
	digests []string
	load    func(file string) (content, error) // of one of them; nil where all has been read
}

// content is what one file holds.
type content struct {
	script Script
	table  *Table
	digest string
}

// Load returns the step with what its files hold, where that was not read for its hash. It
// is an error where they hold something else by now.
func (s Step) Load() (Step, error) {
	if s.load == nil {
		return s, nil
	}
	s.Scripts = nil
	for i, file := range s.files {
		c, err := s.load(file)
		if err != nil {
			return s, err
		}
		if c.digest != s.digests[i] {
			e := fault.New(fault.Failed, "run it again", "it was changed while the sources were read")
			e.Where.File = file
			return s, e
		}
		s.hold(c)
	}
	s.load = nil
	return s, nil
}

func (s *Step) hold(c content) {
	if c.table != nil {
		s.Table = c.table
	} else {
		s.Scripts = append(s.Scripts, c.script)
	}
}

// Run is a command step.
type Run struct {
	Args      []string
	Inputs    map[string]string // the files found by the patterns, with a hash each
	Continues bool
	Within    time.Duration // it may take; 0 for any
}

// Plan holds the steps of one database in order.
type Plan struct {
	Steps []Step
	Notes []string // what a user should know and need not mend
	seen  []sight
	fixed bool // a later reading finds the same where all that was seen is as it was
}

// Language says which files hold steps for an engine, and how they are read.
type Language struct {
	Name   string   // of what is in a script, for messages: "SQL"
	Ext    []string // extensions of scripts, in lower case, with the dot
	Tables bool     // CSV files are tables
	Lines  bool     // a statement is a line
	Binary []string // extensions of scripts that need not be text
	// Statements returns what of a script counts: two scripts with the same
	// statements do the same.
	Statements func(text string) iter.Seq[string]
}

// SQL is the language of engines that read a dialect of SQL.
func SQL(d sqltext.Dialect) Language {
	return Language{Name: "SQL", Ext: []string{".sql"}, Tables: true, Statements: func(text string) iter.Seq[string] {
		return func(yield func(string) bool) {
			for p := range sqltext.Statements(d, text) {
				if !yield(text[p.Start:p.End]) {
					return
				}
			}
		}
	}}
}

// IsScript reports whether a file of this name holds a script.
func (l Language) IsScript(name string) bool {
	return slices.Contains(l.Ext, strings.ToLower(filepath.Ext(name)))
}

// kinds names the kinds of files, for messages.
func (l Language) kinds() string {
	if l.Tables {
		return l.Name + " or CSV"
	}
	return l.Name
}

// isTable reports whether a file of this name holds the rows of a table.
func (l Language) isTable(name string) bool {
	return l.Tables && strings.EqualFold(filepath.Ext(name), ".csv")
}

// Read finds, orders and hashes the steps of a database. Paths in items are
// relative to root; errors name files the same way.
func Read(ctx context.Context, root string, items []Item, l Language) (*Plan, error) {
	return Memory{}.Read(ctx, root, items, l)
}

func (r *reader) plan(ctx context.Context, items []Item) (*Plan, error) {
	for _, item := range items {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if err := r.item(item); err != nil {
			return nil, err
		}
		if n := len(r.steps); n > 0 {
			r.steps[n-1].Last = true
		}
	}
	return &Plan{Steps: r.steps, Notes: r.notes, seen: r.seen, fixed: r.fixed}, nil
}

type reader struct {
	root     string
	language Language
	steps    []Step
	notes    []string
	seen     []sight
	fixed    bool
	known    *records        // nil for none
	undone   map[string]bool // the patterns of files that undo that some file matched
}

func (r *reader) item(item Item) error {
	switch {
	case len(item.Migrations) > 0:
		return r.migrations(item)
	case len(item.Data) > 0:
		return r.data(item)
	case item.Dump != "":
		return r.addFiles(Step{Name: filepath.Base(item.Dump), Kind: Dump}, Item{}, item.Dump)
	}
	return r.command(item)
}

// add hashes a step and appends it.
func (r *reader) add(s Step) {
	s.Hash, s.Sources = hashStep(s)
	r.steps = append(r.steps, s)
}

func (r *reader) migrations(item Item) error {
	var all []entry
	r.undone = map[string]bool{}
	for _, folder := range item.Migrations {
		found, err := r.folder(folder, item, true)
		if err != nil {
			return err
		}
		all = append(all, found...)
	}
	for _, p := range item.Undo {
		if !r.undone[p] {
			return fault.New(fault.Usage, "correct the pattern, or leave it out", "undo: no file in %s matches %q",
				strings.Join(item.Migrations, ", "), p)
		}
	}
	if len(all) == 0 {
		return fault.New(fault.Usage, "put the first migration there, or correct the folder in the project file",
			"no migration in %s", strings.Join(item.Migrations, ", "))
	}
	order(all, item.ByName)
	if err := noTwins(all, item); err != nil {
		return err
	}
	if n := unnumbered(all); n > 0 && n < len(all) && !item.ByName {
		r.notes = append(r.notes, fmt.Sprintf("%s without a number in the name: applied last, by name",
			count(n, "migration")))
	}
	for _, e := range all {
		if err := r.addFiles(Step{Name: e.name, Kind: Migration}, item, e.files...); err != nil {
			return err
		}
	}
	return nil
}

// addFiles appends a step of files, which are read where it is not known what they hold.
func (r *reader) addFiles(s Step, item Item, files ...string) error {
	s.files, s.digests = files, make([]string, len(files))
	load := func(file string) (content, error) {
		again := &reader{root: r.root, language: r.language}
		return again.content(file, s.Kind, item)
	}
	how := fmt.Sprintf("%s %s %q %q", r.language.Name, s.Kind, item.Apply, item.Back)
	for i, file := range files {
		at, err := r.lookAt(file)
		if err != nil {
			return reading(file, err)
		}
		if digest, ok := r.known.find(at, how); ok {
			s.digests[i], s.load = digest, load
			continue
		}
		c, err := load(file)
		if err != nil {
			return err
		}
		s.digests[i] = c.digest
		s.hold(c)
		r.known.note(at, how, s.digests[i])
	}
	r.add(s)
	return nil
}

// content reads a file.
func (r *reader) content(file string, kind Kind, item Item) (c content, err error) {
	text, err := r.read(file)
	if err != nil {
		return c, err
	}
	if name := filepath.Base(file); kind == Data && r.language.isTable(name) {
		if c.table, err = readTable(file, tableName(name), text); err == nil {
			c.digest = c.table.digest()
		}
		return c, err
	}
	c.script = Script{File: file, Text: text, First: 1}
	if kind == Migration {
		c.script, err = part(c.script, item)
	}
	c.digest = c.script.digest(r.language)
	return c, err
}

func (r *reader) data(item Item) error {
	var all []entry
	for _, path := range item.Data {
		info, err := r.look(path)
		if err != nil {
			return reading(path, err)
		}
		if !info.IsDir() {
			all = append(all, entry{name: filepath.Base(path), files: []string{path}})
			continue
		}
		found, err := r.folder(path, item, false)
		if err != nil {
			return err
		}
		if len(found) == 0 {
			return fault.New(fault.Usage, "put "+r.language.kinds()+
				" files there, or correct the folder in the project file",
				"no data file in %s", path)
		}
		order(found, item.ByName)
		all = append(all, found...)
	}
	for _, e := range all {
		if err := r.addFiles(Step{Name: e.name, Kind: Data}, item, e.files[0]); err != nil {
			return err
		}
	}
	return nil
}

func (r *reader) command(item Item) error {
	r.fixed = false
	inputs, err := r.inputs(item.Inputs)
	if err != nil {
		return err
	}
	r.add(Step{
		Name: strings.Join(item.Command, " "), Kind: Command, Always: item.Always,
		Command: &Run{Args: item.Command, Inputs: inputs, Continues: item.Continues, Within: item.Within},
	})
	return nil
}

func (r *reader) path(name string) string {
	if filepath.IsAbs(name) {
		return name
	}
	return filepath.Join(r.root, name)
}

// reading returns the error for a file or folder that cannot be read.
func reading(path string, err error) error {
	e := fault.New(fault.Usage, "", "cannot read it")
	e.Where, e.Said, e.Reason = fault.Position{File: path}, cause(err), err
	return e
}

// cause drops the path from a file system's error: it is in the position.
func cause(err error) string {
	if p, ok := err.(*fs.PathError); ok {
		return p.Err.Error()
	}
	return err.Error()
}

// count returns "1 migration", "2 migrations".
func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

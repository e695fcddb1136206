package source

import (
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"

	"hemzo/internal/fault"
	"hemzo/internal/sqltext"
)

// entry is a migration or a data file as it was found in a folder.
type entry struct {
	name  string // of the file or the numbered folder
	path  string
	files []string
}

// folder lists what one folder holds. Hidden names, files that undo and what
// only and skip leave out are not in it; nor is any file that is no script
// (and, for data, no table). In a folder of migrations a numbered folder is one entry.
func (r *reader) folder(folder string, item Item, migrations bool) ([]entry, error) {
	_, err := r.look(folder)
	if err != nil {
		return nil, reading(folder, err)
	}
	listed, err := os.ReadDir(r.path(folder))
	if err != nil {
		return nil, reading(folder, err)
	}
	var found []entry
	for _, f := range listed {
		name := f.Name()
		where := filepath.Join(folder, name)
		for _, p := range item.Undo {
			if matches([]string{p}, name) {
				r.undone[p] = true
			}
		}
		if strings.HasPrefix(name, ".") || !wanted(name, item) {
			continue
		}
		// A link counts as what it leads to.
		info, err := os.Stat(r.path(where))
		if err != nil {
			return nil, reading(where, err)
		}
		switch {
		case !info.IsDir() && r.isText(name, migrations):
			found = append(found, entry{name: name, path: where, files: []string{where}})
		case info.IsDir() && migrations && len(place(name)) > 0:
			inside, err := r.folder(where, item, false)
			if err != nil {
				return nil, err
			}
			if err := noTwins(inside, item); err != nil {
				return nil, err
			}
			order(inside, item.ByName)
			e := entry{name: name, path: where}
			for _, in := range inside {
				if r.language.IsScript(in.name) {
					e.files = append(e.files, in.files...)
				}
			}
			if len(e.files) == 0 {
				return nil, fault.New(fault.Usage, "a numbered folder is one migration: put its "+r.language.Name+
					" files there, or leave it out with skip", "no %s file in %s", r.language.Name, where)
			}
			found = append(found, e)
		case info.IsDir():
			r.notes = append(r.notes, where+" is a folder without a number: not read")
		}
	}
	return found, nil
}

// wanted applies the patterns of undo, only and skip to a name.
func wanted(name string, item Item) bool {
	if matches(item.Undo, name) || matches(item.Skip, name) {
		return false
	}
	return len(item.Only) == 0 || matches(item.Only, name)
}

func matches(patterns []string, name string) bool {
	return slices.ContainsFunc(patterns, func(p string) bool {
		ok, err := path.Match(p, name)
		return ok && err == nil
	})
}

func (r *reader) isText(name string, scriptsAlone bool) bool {
	return r.language.IsScript(name) || !scriptsAlone && r.language.isTable(name)
}

// read returns a file's text, without a byte order mark.
func (r *reader) read(file string) (string, error) {
	_, err := r.look(file)
	if err != nil {
		return "", reading(file, err)
	}
	b, err := os.ReadFile(r.path(file))
	if err != nil {
		return "", reading(file, err)
	}
	if slices.Contains(r.language.Binary, strings.ToLower(filepath.Ext(file))) {
		return string(b), nil
	}
	text := strings.TrimPrefix(string(b), "\ufeff")
	if at := strings.IndexByte(text, 0); at >= 0 {
		return "", badText(file, text, at, "it is not text: it holds a zero byte (a binary file, or UTF-16)")
	}
	if !utf8.ValidString(text) {
		at := 0
		for {
			c, n := utf8.DecodeRuneInString(text[at:])
			if c == utf8.RuneError && n == 1 {
				break
			}
			at += n
		}
		return "", badText(file, text, at, "it is not valid UTF-8")
	}
	return text, nil
}

func badText(file, text string, at int, what string) error {
	line, column := sqltext.Position(text, at)
	e := fault.New(fault.Usage, "save the file as UTF-8, or leave it out with skip", "%s", what)
	e.Where = fault.Position{File: file, Line: line, Column: column}
	return e
}

// part cuts out what is applied of a file that holds both directions.
func part(s Script, item Item) (Script, error) {
	if item.Apply == "" {
		return s, nil
	}
	at, line := 0, 0
	begin, end := -1, len(s.Text)
	for text := range strings.Lines(s.Text) {
		line++
		switch strings.TrimSpace(text) {
		case item.Apply:
			if begin >= 0 {
				e := fault.New(fault.Usage, "a file has one part to apply", "the marker line %q comes twice",
					item.Apply)
				e.Where = fault.Position{File: s.File, Line: line, Column: 1}
				return s, e
			}
			begin, s.First = at+len(text), line+1
			end = len(s.Text)
		case item.Back:
			end = at
			if begin >= 0 {
				s.Text = s.Text[begin:end]
				return s, nil
			}
		}
		at += len(text)
	}
	if begin >= 0 {
		s.Text = s.Text[begin:]
		return s, nil
	}
	s.Text = s.Text[:end] // no marker for what is applied: all that stands before the undoing part
	return s, nil
}

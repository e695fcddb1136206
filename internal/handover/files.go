package handover

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"hemzo/internal/engine"
	"hemzo/internal/engine/folder"
	"hemzo/internal/fault"
	"hemzo/internal/place"
	"hemzo/internal/project"
)

// rendered is the record of a file that Hemzo wrote, in the state folder: by
// it the file is known as Hemzo's when its writer is gone.
type rendered struct {
	Path  string         `json:"path"`
	Text  []byte         `json:"text"`
	Owner engine.Process `json:"owner"`
	// Edited is what the file held when its run was over, where that was changed:
	// as long as it holds that it is known as Hemzo's.
	Edited []byte `json:"edited,omitempty"`
}

// wrote reports whether what a file holds is what its writer wrote, or the
// beginning of it: the writer may have been killed half-way.
func (r rendered) wrote(b []byte) bool {
	return bytes.HasPrefix(r.Text, b) || r.Edited != nil && bytes.Equal(b, r.Edited)
}

// Render writes a project's files for a set of copies. The returned function
// removes them, and returns those that were edited and stay. A file that is there
// and not Hemzo's is not overwritten.
func Render(p *project.Project, state string, all []Copy, owner engine.Process) (remove func() []string, err error) {
	var done []string
	remove = func() (edited []string) {
		for _, record := range done {
			if path := forget(record); path != "" {
				edited = append(edited, path)
			}
		}
		return edited
	}
	var own *Copy
	if len(all) == 1 {
		own = &all[0]
	}
	for _, f := range p.Files {
		record, err := render(p, state, f, own, all, owner)
		if err != nil {
			remove()
			return nil, err
		}
		done = append(done, record)
	}
	return remove, nil
}

func render(p *project.Project, state string, f project.Rendered, own *Copy, all []Copy, owner engine.Process) (string,
	error) {
	text, err := readTemplate(p, f)
	if err != nil {
		return "", err
	}
	to := join(p.Root, f.To)
	content := []byte(Expand(text, own, all))
	record := recordOf(state, to)
	if err := free(record, to, f); err != nil {
		return "", err
	}
	if err := os.MkdirAll(filepath.Dir(record), 0o700); err != nil {
		return "", fmt.Errorf("recording %s: %w", f.To, err)
	}
	b, err := json.Marshal(rendered{Path: to, Text: content, Owner: owner})
	if err == nil {
		err = os.WriteFile(record, b, 0o600)
	}
	if err == nil {
		err = writeNew(to, content)
	}
	if err != nil {
		return "", fmt.Errorf("writing %s: %w", f.To, err)
	}
	return record, nil
}

// CheckFiles reads the files that are to be rendered, and says what is wrong with
// them before anything is made.
func CheckFiles(p *project.Project) error {
	for _, f := range p.Files {
		if _, err := readTemplate(p, f); err != nil {
			return err
		}
	}
	return nil
}

// readTemplate reads a file that is to be rendered. The user's own links are
// followed.
func readTemplate(p *project.Project, f project.Rendered) (string, error) {
	from, err := filepath.EvalSymlinks(join(p.Root, f.From))
	var text []byte
	if err == nil {
		text, err = readFile(from)
	}
	if err != nil {
		return "", fmt.Errorf("rendering %s: %w", f.From, err)
	}
	return string(text), p.CheckFile(f.From, string(text))
}

// free checks that a path is free to be written: nothing is there, or a file
// that a dead Hemzo left.
func free(record, to string, f project.Rendered) error {
	info, err := os.Lstat(to)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err == nil && !info.Mode().IsRegular() {
		e := fault.New(fault.Refused, "name the file itself",
			"%s is there and is not a file (%s): Hemzo writes through no link", f.To, kindOf(info.Mode()))
		e.Where = f.At
		return e
	}
	now, err := readFile(to)
	old, known := read(record)
	switch {
	case known && place.Alive(old.Owner):
		e := fault.New(fault.Failed, "wait for it, or run this suite from another checkout",
			"%s is in use by another run (process %d)", f.To, old.Owner.PID)
		e.Where = f.At
		return e
	case err == nil && known && old.wrote(now):
		return os.Remove(to)
	}
	e := fault.New(fault.Refused, "remove it (and list it among the files that version control ignores), or name "+
		"another file", "%s is there and was not written by Hemzo", f.To)
	e.Where = f.At
	return e
}

// writeNew writes a file that is not there: what has come meanwhile, a link
// too, is not written to.
func writeNew(path string, content []byte) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL|syscall.O_NOFOLLOW, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	return errors.Join(err, f.Close())
}

// readFile reads a regular file, not what a link leads to where the link is the
// last of the path, and nothing that would wait for a writer.
func readFile(path string) ([]byte, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return nil, errors.Join(err, fmt.Errorf("%s is not a regular file", path))
	}
	return io.ReadAll(f)
}

func kindOf(m os.FileMode) string {
	switch {
	case m&os.ModeSymlink != 0:
		return "a symbolic link"
	case m.IsDir():
		return "a folder"
	}
	return "a pipe or a device"
}

func recordOf(state, path string) string {
	return filepath.Join(state, "files", sum([]byte(path))[:16]+".json")
}

func read(record string) (r rendered, ok bool) {
	b, err := os.ReadFile(record)
	return r, err == nil && json.Unmarshal(b, &r) == nil
}

// forget removes a file as Hemzo wrote it, and its record. One that was edited since
// stays, with its record: it is returned, and the next run may write it anew.
func forget(record string) (edited string) {
	r, ok := read(record)
	if !ok {
		return ""
	}
	b, err := readFile(r.Path)
	switch {
	case err == nil && r.Edited != nil:
		return "" // said already
	case err == nil && !r.wrote(b):
		r.Edited = b
		if text, err := json.Marshal(r); err == nil && folder.Replace(record, text) == nil {
			return r.Path
		}
	case err == nil:
		os.Remove(r.Path)
	}
	os.Remove(record)
	return ""
}

// SweepFiles removes the files that dead runs left, and returns their paths.
func SweepFiles(state string) []string {
	records, _ := filepath.Glob(filepath.Join(state, "files", "*.json"))
	var gone []string
	for _, record := range records {
		if r, ok := read(record); ok && !place.Alive(r.Owner) && r.Edited == nil && forget(record) == "" {
			gone = append(gone, r.Path)
		}
	}
	return gone
}

func sum(b []byte) string {
	s := sha256.Sum256(b)
	return hex.EncodeToString(s[:])
}

func join(root, path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(root, strings.TrimPrefix(path, "./"))
}

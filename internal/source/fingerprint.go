package source

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"hash"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"

	"github.com/bmatcuk/doublestar/v4"

	"hemzo/internal/fault"
)

// digest hashes a list of texts so that no two lists hash alike.
type digest struct{ h hash.Hash }

func newDigest() digest { return digest{sha256.New()} }

func (d digest) add(text string) {
	d.h.Write(strconv.AppendInt(nil, int64(len(text)), 10))
	d.h.Write([]byte{':'})
	d.h.Write([]byte(text))
}

func (d digest) sum() string { return hex.EncodeToString(d.h.Sum(nil)) }

// digest is the hash over the statements of a script.
func (s Script) digest(l Language) string {
	d := newDigest()
	d.add("script")
	for statement := range l.Statements(s.Text) {
		d.add(statement)
	}
	return d.sum()
}

// digest is the hash over the rows of a table.
func (t *Table) digest() string {
	d := newDigest()
	d.add("table")
	d.add(t.Name)
	for _, c := range t.Columns {
		d.add(c)
	}
	for _, row := range t.Rows {
		for _, f := range row {
			d.add(strconv.FormatBool(f.Null))
			d.add(f.Text)
		}
	}
	return d.sum()
}

// hashStep is the hash over what a step does. Comments and blank space between
// statements are no part of it, nor is the step's name. sources is the same where
// the sources are, also of a command that runs at every build.
func hashStep(s Step) (hash, sources string) {
	d := newDigest()
	d.add(string(s.Kind))
	for _, digest := range s.digests {
		d.add(digest)
	}
	if c := s.Command; c != nil {
		for _, arg := range c.Args {
			d.add(arg)
		}
		for _, file := range slices.Sorted(maps.Keys(c.Inputs)) {
			d.add(file)
			d.add(c.Inputs[file])
		}
	}
	sources = d.sum()
	if s.Always {
		d.add(rand.Text()) // no two runs of it are taken for the same
	}
	return d.sum(), sources
}

// inputs finds the files that patterns name and hashes each, byte by byte. ** stands for any number of
// folders; a folder that matches stands for all files below it.
func (r *reader) inputs(patterns []string) (map[string]string, error) {
	var all []string
	for _, pattern := range patterns {
		found, err := doublestar.FilepathGlob(r.path(pattern))
		if err != nil {
			return nil, fault.New(fault.Usage, "", "inputs: %q is not a pattern", pattern)
		}
		before := len(all)
		for _, path := range found {
			files, err := below(path)
			if err != nil {
				return nil, err
			}
			all = append(all, files...)
		}
		if len(all) == before {
			return nil, fault.New(fault.Usage, "correct the pattern, or say  inputs: always",
				"inputs: no file matches %q below %s", pattern, r.root)
		}
	}
	hashes := map[string]string{}
	for _, path := range all {
		digest, err := r.bytes(path)
		if err != nil {
			return nil, err
		}
		if rel, err := filepath.Rel(r.root, path); err == nil {
			path = filepath.ToSlash(rel)
		}
		hashes[path] = digest
	}
	return hashes, nil
}

// bytes is the hash over all that a file holds.
func (r *reader) bytes(path string) (digest string, err error) {
	at, err := r.lookAt(path)
	if err != nil {
		return "", reading(path, err)
	}
	if digest, ok := r.known.find(at, "bytes"); ok {
		return digest, nil
	}
	b, err := os.ReadFile(path)
	if err != nil {
		return "", reading(path, err)
	}
	sum := sha256.Sum256(b)
	digest = hex.EncodeToString(sum[:])
	r.known.note(at, "bytes", digest)
	return digest, nil
}

func below(path string) (files []string, err error) {
	err = filepath.WalkDir(path, func(p string, d os.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			files = append(files, p)
		}
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("reading inputs: %w", err)
	}
	return files, nil
}

// Chain returns the fingerprint of each layer: layer 0 is the database
// before any step, layer i the state after step i.
func Chain(base []string, steps []Step) []string {
	return chain(base, steps, func(s Step) string { return s.Hash })
}

// Key stands for the sources: it is that of the highest layer, and the same each
// time where the sources are.
func Key(base []string, steps []Step) string {
	return chain(base, steps, func(s Step) string { return s.Sources })[len(steps)]
}

func chain(base []string, steps []Step, of func(Step) string) []string {
	d := newDigest()
	for _, text := range base {
		d.add(text)
	}
	layers := []string{d.sum()}
	for i, s := range steps {
		d := newDigest()
		d.add(layers[i])
		d.add(of(s))
		layers = append(layers, d.sum())
	}
	return layers
}

// Package folder keeps facts and locks in a folder, for engines whose
// databases have no place for them: ID.json holds the facts of ID.
package folder

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
)

// Folder is such a folder. Its methods may be called from several goroutines.
type Folder struct {
	Path string
	// There tells whether what the facts describe is there, and its size in
	// bytes. A copy that is gone is found all the same: its facts say what it
	// was.
	There func(id string) (size int64, there bool)

	mu  sync.Mutex
	own *lockFile // held until Release, once asked for
}

// Make makes the folder, readable by its user alone.
func Make(path string, there func(id string) (int64, bool)) (*Folder, error) {
	for _, dir := range []string{path, filepath.Join(path, "locks")} {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return nil, fault.New(fault.Lacking, "", "cannot make %s: %v", dir, errors.Unwrap(err))
		}
	}
	return &Folder{Path: path, There: there}, nil
}

// Facts is the file with the facts of id.
func (f *Folder) Facts(id string) string { return filepath.Join(f.Path, id+".json") }

// List returns all of some kinds, or of every one, that has facts here.
func (f *Folder) List(ctx context.Context, kinds ...engine.Kind) ([]engine.Entry, error) {
	names, err := os.ReadDir(f.Path)
	if err != nil {
		return nil, fmt.Errorf("listing the databases: %w", err)
	}
	var all []engine.Entry
	for _, n := range names {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		id, ok := strings.CutSuffix(n.Name(), ".json")
		if kind, _ := engine.KindOf(id); !ok || !kind.In(kinds) {
			continue
		}
		e, err := f.Find(ctx, id)
		if errors.Is(err, engine.ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, err
		}
		all = append(all, e)
	}
	return all, nil
}

// Find returns one, or ErrNotFound.
func (f *Folder) Find(_ context.Context, id string) (engine.Entry, error) {
	kind, ok := engine.KindOf(id)
	if !ok {
		return engine.Entry{}, engine.ErrNotFound
	}
	b, err := os.ReadFile(f.Facts(id))
	if errors.Is(err, os.ErrNotExist) {
		return engine.Entry{}, engine.ErrNotFound
	}
	if err != nil {
		return engine.Entry{}, fmt.Errorf("reading the facts of %s: %w", id, err)
	}
	e := engine.Entry{ID: id, Kind: kind}
	e.Bad = json.Unmarshal(b, &e.Facts) != nil || !e.Facts.Sound()
	e.Newer = e.Facts.Format > engine.Format
	size, there := f.There(id)
	if e.Size = size; !there && kind != engine.Copy {
		return engine.Entry{}, engine.ErrNotFound
	}
	return e, nil
}

// Write writes facts in one step.
func (f *Folder) Write(id string, facts engine.Facts) error {
	b, err := json.Marshal(facts)
	if err != nil {
		return err
	}
	return f.NoRoom(Replace(f.Facts(id), b), "writing the facts of "+id)
}

// partial is how the names begin of files that Replace has not finished.
const partial = ".facts"

// Replace writes a file in one step: others read what was there or what is.
func Replace(path string, text []byte) error {
	file, err := os.CreateTemp(filepath.Dir(path), partial)
	if err != nil {
		return err
	}
	defer os.Remove(file.Name())
	_, err = file.Write(text)
	if err = errors.Join(err, file.Close()); err == nil {
		err = os.Rename(file.Name(), path)
	}
	return err
}

// Note changes the facts of one.
func (f *Folder) UpdateFacts(ctx context.Context, id string, change func(*engine.Facts)) error {
	unlock, err := f.Lock(ctx, "facts-"+id, nil)
	if err != nil {
		return err
	}
	defer unlock()
	e, err := f.Find(ctx, id)
	if err != nil {
		return err
	}
	facts, err := e.Change(change)
	if err != nil {
		return err
	}
	return f.Write(id, facts)
}

func (f *Folder) lock(name string) string { return filepath.Join(f.Path, "locks", name+".lock") }

// Lock takes a lock that no other process has.
func (f *Folder) Lock(ctx context.Context, name string, waiting func()) (func(), error) {
	l, err := lockPath(ctx, f.lock(name), waiting)
	if err != nil {
		return nil, f.NoRoom(err, "taking the lock "+name)
	}
	return l.release, nil
}

// Own takes a lock that lives as long as this process.
func (f *Folder) Own(ctx context.Context) (string, func(), error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.own == nil {
		name := "owner-" + strings.TrimPrefix(engine.NewID(engine.Work), "hemzo_w_")
		l, err := lockPath(ctx, f.lock(name), nil)
		if err != nil {
			return "", nil, f.NoRoom(err, "taking a lock")
		}
		f.own = l
	}
	return strings.TrimSuffix(filepath.Base(f.own.path), ".lock"), f.Release, nil
}

// Release gives the lock of Own back.
func (f *Folder) Release() {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.own != nil {
		f.own.release()
		f.own = nil
	}
}

// Owned reports whether some process holds such a lock.
func (f *Folder) Owned(_ context.Context, lock string) bool { return held(f.lock(filepath.Base(lock))) }

// Sweep removes what crashes left of facts and locks.
func (f *Folder) Sweep() error {
	names, err := os.ReadDir(f.Path)
	if err != nil {
		return err
	}
	for _, n := range names {
		if strings.HasPrefix(n.Name(), partial) && Older(n, time.Minute) {
			os.Remove(filepath.Join(f.Path, n.Name()))
		}
	}
	locks, err := os.ReadDir(filepath.Join(f.Path, "locks"))
	if err != nil {
		return err
	}
	for _, n := range locks {
		if Older(n, time.Minute) {
			held(filepath.Join(f.Path, "locks", n.Name())) // removes it where nobody holds it
		}
	}
	return nil
}

// Older reports whether a file was not changed for some time.
func Older(n os.DirEntry, age time.Duration) bool {
	info, err := n.Info()
	return err == nil && time.Since(info.ModTime()) > age
}

// Clients lists nobody: who uses what is here is not known.
func (f *Folder) Clients(context.Context, string) ([]engine.Client, error) { return nil, nil }

// Shared reports that the folder is this user's alone.
func (f *Folder) Shared(context.Context) (time.Time, bool, error) { return time.Now(), false, nil }

// NoRoom turns "no space left" into an error that says what to do.
func (f *Folder) NoRoom(err error, doing string) error {
	if err == nil {
		return nil
	}
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
		e := fault.New(fault.Lacking, "drop copies (hemzo drop --all), remove old templates (hemzo sweep "+
			"--templates), or set HEMZO_MEMORY_DIR to a folder with more room",
			"%s: no room left in %s", doing, f.Path)
		e.Reason = err
		return e
	}
	if e := new(fault.Error); errors.As(err, &e) {
		return err
	}
	return fmt.Errorf("%s: %w", doing, err)
}

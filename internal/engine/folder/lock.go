package folder

import (
	"context"
	"os"

	"github.com/gofrs/flock"

	"hemzo/internal/filelock"
)

// lockFile is a held lock. Its file goes with it.
type lockFile struct {
	path string
	lock *flock.Flock
}

// lockPath takes the lock of a path, waiting for it; waiting is called once
// if another process has it.
func lockPath(ctx context.Context, path string, waiting func()) (*lockFile, error) {
	for {
		l := flock.New(path)
		ok, err := l.TryLock()
		if err == nil && !ok {
			if waiting != nil {
				waiting()
				waiting = nil
			}
			if err := filelock.Wait(ctx, l); err != nil {
				return nil, err
			}
			ok = true
		}
		if err != nil {
			l.Close()
			return nil, err
		}
		// The holder before removes the file: a lock on a file that has no
		// name any more is none.
		if ok && named(l) {
			return &lockFile{path: path, lock: l}, nil
		}
		l.Close()
	}
}

func named(l *flock.Flock) bool {
	mine, err := l.Stat()
	if err != nil {
		return false
	}
	there, err := os.Stat(l.Path())
	return err == nil && os.SameFile(mine, there)
}

func (l *lockFile) release() {
	os.Remove(l.path)
	l.lock.Close()
}

// held reports whether a process holds the lock of a path; one that nobody
// holds is removed.
func held(path string) bool {
	if _, err := os.Stat(path); err != nil {
		return false
	}
	l := flock.New(path)
	ok, err := l.TryLock()
	if err != nil {
		return true
	}
	if !ok {
		l.Close()
		return true
	}
	if named(l) {
		os.Remove(path)
	}
	l.Close()
	return false
}

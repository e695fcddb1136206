package place

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"github.com/gofrs/flock"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
	"hemzo/internal/filelock"
)

// clearAway ends servers and removes what they left. Their guard is given the
// time that saving takes; h may be nil, where nothing is known of them.
func clearAway(ctx context.Context, path string, h host) error {
	r, err := readRecord(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err == nil && Alive(r.Guard) {
		if err := r.endGuard(ctx, path); err != nil {
			return err
		}
		if now, err := readRecord(path); err == nil && now.Guard != r.Guard {
			return nil // by now it is another server's
		}
	}
	for _, m := range r.Servers {
		killLeft(m.Server)
	}
	if err == nil && r.Container != "" {
		if err := removeContainer(ctx, r.Container); err != nil {
			return err
		}
	}
	if err == nil && r.Folder != "" {
		if err := r.clearFolder(ctx, h); err != nil {
			return err
		}
	}
	os.Remove(r.Socket)
	if err := os.Remove(path); !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}

// killLeft ends a server whose guard was killed.
func killLeft(p engine.Process) {
	if !Alive(p) {
		return
	}
	_ = syscall.Kill(p.PID, syscall.SIGQUIT)
	for end := time.Now().Add(endTime / 2); Alive(p); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(end) {
			_ = syscall.Kill(p.PID, syscall.SIGKILL)
		}
	}
}

// guardEndTime is what a guard has to say that it ends.
const guardEndTime = time.Minute

// endGuard has a guard end its server, and waits. One that neither ends it nor
// says that it does is killed.
func (r record) endGuard(ctx context.Context, path string) error {
	if conn, err := r.tell(request{Do: askEnd}); err == nil {
		defer conn.Close()
	} else {
		_ = syscall.Kill(r.Guard.PID, syscall.SIGTERM)
	}
	for end := time.Now().Add(guardEndTime); Alive(r.Guard); {
		if now, err := readRecord(path); time.Now().After(end) && (err != nil || !now.Ending) {
			_ = syscall.Kill(r.Guard.PID, syscall.SIGKILL)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(5 * time.Millisecond):
		}
	}
	return nil
}

// clearFolder removes the data folder of servers whose guard is gone, with
// what they left beside it. One that another guard has is left alone.
func (r record) clearFolder(ctx context.Context, h host) error {
	lock, err := lockFolder(ctx, r.Folder)
	if err != nil {
		return err
	}
	defer lock.Close()
	if h != nil {
		for name := range r.Servers {
			if err := h.clean(filepath.Join(r.Folder, name)); err != nil {
				return fmt.Errorf("ending what a server left: %w", err)
			}
		}
		if err := h.clean(r.Folder); err != nil {
			return fmt.Errorf("ending what a server left: %w", err)
		}
	}
	if err := os.RemoveAll(r.Folder); err != nil {
		return fmt.Errorf("removing what a server left: %w", err)
	}
	return nil
}

// folderTime is how long the lock of a data folder is waited for.
const folderTime = 5 * time.Second

// lockFolder takes the lock of a data folder: it is a guard's as long as that lives.
// A folder that is not there has none to take.
func lockFolder(ctx context.Context, folder string) (*flock.Flock, error) {
	lock := flock.New(filepath.Join(folder, "guard.lock"))
	if _, err := os.Stat(folder); errors.Is(err, os.ErrNotExist) {
		return lock, nil
	}
	// A guard that was killed counts as gone a moment before its last thread has
	// let go.
	limited, stop := context.WithTimeout(ctx, folderTime)
	defer stop()
	err := filelock.Wait(limited, lock)
	if errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil {
		return nil, fault.New(fault.Refused, "is there another state folder by this name, on another file system?",
			"another guard has its server in %s", folder)
	}
	if err != nil {
		return nil, fmt.Errorf("waiting for the folder %s: %w", folder, err)
	}
	return lock, nil
}

func keptFolder() (string, error) {
	cache, err := os.UserCacheDir()
	if err != nil {
		return "", fault.New(fault.Lacking, "set HOME, or XDG_CACHE_HOME",
			"there is no folder for what makes starts faster: %v", err)
	}
	return filepath.Join(cache, "hemzo"), nil
}

// StopIdle ends the private servers of this user that have neither copies nor
// clients, and that no Hemzo works on, and returns when what is kept of them is
// whole. The caller has closed its own.
func StopIdle(ctx context.Context, engines []engine.Engine, sweep Sweeper) error {
	state, err := StateFolder()
	if err != nil {
		return err
	}
	for _, path := range recordFiles(state) {
		r, err := readRecord(path)
		if err != nil || !r.Ready || !Alive(r.Guard) {
			continue
		}
		if o := r.opener(engines, state, path); o != nil {
			if err := o.stopIdle(ctx, sweep); err != nil {
				return err
			}
		}
	}
	return nil
}

// opener connects to the servers of a record; nil where nothing is known of
// them.
func (r record) opener(engines []engine.Engine, state, path string) *opener {
	e, h := r.hosted(engines, state, nil)
	if h == nil {
		return nil
	}
	return &opener{engine: e, host: h, state: state, path: path, wanted: Wanted{Spec: r.Spec}}
}

func (o *opener) stopIdle(ctx context.Context, sweep Sweeper) error {
	use := useOf(o.path)
	ok, err := use.TryLock()
	defer use.Close()
	if err != nil || !ok || o.stillNeeded(ctx, sweep) {
		return err
	}
	return clearAway(ctx, o.path, o.host)
}

// stillNeeded asks several times: it may have been the guard that was there.
func (o *opener) stillNeeded(ctx context.Context, sweep Sweeper) bool {
	ctx, stop := context.WithTimeout(ctx, 10*time.Second)
	defer stop()
	for range 3 {
		s, err := o.connect(ctx)
		if err != nil {
			return true
		}
		needed := sweep(ctx, s)
		s.Close()
		if !needed {
			return false
		}
		time.Sleep(50 * time.Millisecond)
	}
	return true
}

// Stop ends the private servers of this user and returns what ended. One
// with a copy whose owner is alive, or that a Hemzo works on or starts just now,
// is not ended unless force says so.
func Stop(ctx context.Context, engines []engine.Engine, force bool) ([]string, error) {
	state, err := StateFolder()
	if err != nil {
		return nil, err
	}
	var gone []string
	for _, path := range recordFiles(state) {
		if ctx.Err() != nil {
			return gone, ctx.Err()
		}
		ended, err := stop(ctx, path, state, engines, force)
		if err != nil {
			return gone, err
		}
		if ended {
			gone = append(gone, identityOf(path))
		}
	}
	alone, err := stopContainers(ctx, state, force)
	return append(gone, alone...), err
}

// stop ends one server; false where somebody else has ended it.
func stop(ctx context.Context, path, state string, engines []engine.Engine, force bool) (bool, error) {
	r, err := readRecord(path)
	if errors.Is(err, os.ErrNotExist) {
		return false, nil
	}
	var o *opener
	var h host
	if err == nil {
		if o = r.opener(engines, state, path); o != nil {
			h = o.host
		}
	}
	name := identityOf(path)
	if !force {
		if owned := o.owned(ctx); owned != "" {
			return false, fault.New(fault.Refused, "--force ends it all the same",
				"the copy %q on %s has an owner that is still running", owned, name)
		}
		use := useOf(path)
		ok, err := use.TryLock()
		if err == nil && !ok {
			err = fault.New(fault.Refused, "wait for it, or end it all the same with --force",
				"another hemzo works on %s, or starts it", name)
		}
		defer use.Close()
		if err != nil {
			return false, err
		}
		if _, err := os.Stat(path); errors.Is(err, os.ErrNotExist) {
			return false, nil
		}
	}
	return true, clearAway(ctx, path, h)
}

// owned returns the name of a copy with a living owner, "" where there is
// none or the server does not answer.
func (o *opener) owned(ctx context.Context) string {
	if o == nil {
		return ""
	}
	r, err := readRecord(o.path)
	if err != nil || !Alive(r.Guard) {
		return ""
	}
	out, err := r.ask(ctx, request{Do: askOwners})
	if err != nil {
		s, err := o.connect(ctx)
		if err != nil {
			return ""
		}
		defer s.Close()
		out.Owned, _ = ownedOn(ctx, s)
	}
	if len(out.Owned) == 0 {
		return ""
	}
	return out.Owned[0]
}

// Package place says how a server comes to be: in which folder of a memory
// file system, where this machine's state is kept, and which processes live.
package place

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"hemzo/internal/container"
	"hemzo/internal/engine"
	"hemzo/internal/fault"
)

// Room is the space, in bytes, that a memory file system has to have free
// before Hemzo takes it for the first time.
const Room = 32 << 20

// Folder is where private servers keep their data.
type Folder struct {
	Path   string
	Memory bool   // it lies on a memory file system
	Why    string // where it does not, why
}

// DataFolder finds the folder for private servers: on the first of
// HEMZO_MEMORY_DIR, XDG_RUNTIME_DIR, /dev/shm and the temporary folder that is
// a memory file system with room, in bytes, or where Hemzo already has data
// and a server of this process's own needs no more; else on disk. A folder on disk that
// HEMZO_MEMORY_DIR names is taken. It is made, readable by its user alone.
func DataFolder(room int64) (Folder, error) {
	own := "hemzo-" + strconv.Itoa(os.Getuid())
	if dir := os.Getenv("HEMZO_MEMORY_DIR"); dir != "" {
		if info, err := os.Stat(dir); err != nil || !info.IsDir() {
			return Folder{}, fault.New(fault.Lacking, "make the folder, or unset HEMZO_MEMORY_DIR",
				"HEMZO_MEMORY_DIR names no folder: %s", dir)
		}
	}
	var tried []string
	for _, dir := range []string{os.Getenv("HEMZO_MEMORY_DIR"), os.Getenv("XDG_RUNTIME_DIR"), "/dev/shm",
		os.TempDir()} {
		if dir == "" {
			continue
		}
		path := filepath.Join(dir, own)
		memory, free, err := fileSystem(dir)
		switch {
		case err != nil:
			tried = append(tried, dir+": "+cause(err))
			continue
		case !memory && dir == os.Getenv("HEMZO_MEMORY_DIR"): // the user's own choice
			return Folder{Path: path, Why: "HEMZO_MEMORY_DIR is on disk"}, makePrivate(path)
		case !memory:
			tried = append(tried, dir+" is on disk")
			continue
		}
		if _, err := os.Lstat(path); (err != nil || room > Room) && free < room {
			tried = append(tried, fmt.Sprintf("%s has %d MB free of the %d needed", dir, free>>20, room>>20))
			continue
		}
		if err := makePrivate(path); err != nil {
			tried = append(tried, err.Error())
			continue
		}
		return Folder{Path: path, Memory: true}, nil
	}
	path, err := diskFolder(own)
	if err != nil {
		return Folder{}, err
	}
	why := "no memory file system with room"
	for i, t := range tried {
		why += map[bool]string{true: " (", false: "; "}[i == 0] + t
	}
	if tried != nil {
		why += ")"
	}
	return Folder{Path: path, Why: why}, nil
}

func diskFolder(own string) (string, error) {
	path := filepath.Join("/var/tmp", own) // of root: its servers run as another user, who cannot pass through its home
	if os.Getuid() != 0 {
		cache, err := os.UserCacheDir()
		if err != nil {
			return "", fault.New(fault.Lacking, "set HOME, or HEMZO_MEMORY_DIR to a folder of your own",
				"there is no folder for the data of private servers: %v", err)
		}
		path = filepath.Join(cache, "hemzo", "data")
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return "", fault.New(fault.Lacking, "make it writable, or set HEMZO_MEMORY_DIR", "cannot make %s: %s",
			filepath.Dir(path), cause(err))
	}
	return path, makePrivate(path)
}

// makePrivate makes a folder that is this user's alone, or checks that it is.
func makePrivate(path string) error {
	if err := os.Mkdir(path, 0o700); err != nil && !os.IsExist(err) {
		return fault.New(fault.Lacking, "make the folder above it writable", "cannot make %s: %s", path, cause(err))
	}
	info, err := os.Lstat(path)
	if err != nil {
		return fault.New(fault.Lacking, "", "cannot look at %s: %s", path, cause(err))
	}
	if !info.IsDir() {
		return fault.New(fault.Lacking, "remove it", "%s is not a folder", path)
	}
	if st, ok := info.Sys().(*syscall.Stat_t); ok && int(st.Uid) != os.Getuid() {
		return fault.New(fault.Lacking, "remove it, or name another place", "%s belongs to another user (uid %d)", path,
			st.Uid)
	}
	if info.Mode().Perm()&0o077 != 0 {
		if err := os.Chmod(path, 0o700); err != nil {
			return fault.New(fault.Lacking, "", "cannot make %s private: %s", path, cause(err))
		}
	}
	return nil
}

// StateFolder returns the folder for what belongs to this machine and user,
// made and checked: hemzo in XDG_STATE_HOME or in ~/.local/state.
func StateFolder() (string, error) {
	above := os.Getenv("XDG_STATE_HOME")
	if above == "" {
		home := os.Getenv("HOME")
		if home == "" {
			return "", fault.New(fault.Lacking, "set HOME, or XDG_STATE_HOME",
				"HOME is not set, so there is no place for Hemzo's state")
		}
		above = filepath.Join(home, ".local", "state")
	}
	path := filepath.Join(above, "hemzo")
	if err := os.MkdirAll(above, 0o700); err != nil {
		return "", fault.New(fault.Lacking, "make it writable, or set XDG_STATE_HOME",
			"cannot make the state folder %s: %s", path, cause(err))
	}
	if err := makePrivate(path); err != nil {
		return "", err
	}
	probe, err := os.CreateTemp(path, "probe")
	if err != nil {
		return "", fault.New(fault.Lacking, "make it writable, or set XDG_STATE_HOME",
			"the state folder %s is not writable: %s", path, cause(err))
	}
	probe.Close()
	return path, os.Remove(probe.Name())
}

// Wanted is what a database of the project file asks of a place.
type Wanted struct {
	Database   string
	Where      []string
	Required   bool     // disk will not do
	URL        string   // of an existing server
	AllowHosts []string // other machines that may be used
	Spec       engine.Spec
	Ready      time.Duration           // how long a server may take until it answers
	Wait       time.Duration           // how long one without a free connection is waited for
	Run        bool                    // it is for a run, which may have to wait for room
	Idle       time.Duration           // how long a server stays when nobody needs it
	Say        func(string)            // for what a user is told once
	Pulling    func(container.Pulling) // how the pull of an image goes on; may be nil
}

func (w Wanted) patience() engine.Patience {
	return engine.Patience{Wait: w.Wait, Say: w.Say, Run: w.Run}
}

// Open opens the server that a database wants, starting it where needed.
func Open(ctx context.Context, e engine.Engine, w Wanted) (engine.Server, error) {
	if err := e.Check(w.Spec); err != nil {
		return nil, err
	}
	var tried []string
	var failed []*fault.Error
	for _, where := range w.Where {
		s, known, err := w.open(ctx, e, where)
		if !known {
			continue
		}
		// The next wish counts where this machine lacks what this one needs.
		f, lacking := errors.AsType[*fault.Error](err)
		if err == nil || !lacking || f.Kind != fault.Lacking {
			return s, err
		}
		tried, failed = append(tried, where), append(failed, f)
	}
	switch len(failed) {
	case 0:
		return nil, fault.New(fault.Usage, "say  where: memory", "database %q: %s cannot run in %q", w.Database, e.Name(),
			w.Where)
	case 1:
		return nil, w.orElsewhere(e, failed[0])
	}
	all := fault.New(fault.Lacking, "", "database %q: no place that it may be in can be used", w.Database)
	for i, f := range failed {
		all.Lines = append(all.Lines, tried[i]+": "+f.Error())
		all.Lines = append(all.Lines, f.Lines...)
		if f.Next != "" {
			all.Next = strings.TrimPrefix(all.Next+"; or "+f.Next, "; or ")
		}
	}
	return nil, all
}

// orElsewhere adds the place to the advice that was not tried.
func (w Wanted) orElsewhere(e engine.Engine, f *fault.Error) *fault.Error {
	h := e.Hosting()
	can := map[string]bool{"memory": h.Process != nil || h.Embedded != nil, "container": h.Container != nil}
	for _, where := range []string{"memory", "container"} {
		if can[where] && !slices.Contains(w.Where, where) && !slices.Contains(w.Where, "existing") && f.Next != "" {
			told := *f
			told.Next += ", or use  where: " + where
			return &told
		}
	}
	return f
}

// open opens a server in one place; known is false where the engine cannot be
// there.
func (w Wanted) open(ctx context.Context, e engine.Engine, where string) (s engine.Server, known bool, err error) {
	h := e.Hosting()
	switch {
	case where == "existing" && h.Existing != nil:
		s, err = openExisting(ctx, h.Existing, w)
	case where == "memory" && h.Embedded != nil:
		s, err = openEmbedded(ctx, e, w)
	case where == "container" && h.Container != nil && h.Separate(where):
		s, err = openContainers(ctx, e, w)
	case where == "memory" && h.Process != nil, where == "container" && h.Container != nil:
		var state string
		if state, err = StateFolder(); err == nil {
			s, err = ensure(ctx, e, hostOf(e, where, state, nil), w, state)
		}
	default:
		return nil, false, nil
	}
	return s, true, err
}

// openExisting opens a server that is there already. One on another machine
// needs its host to be allowed.
func openExisting(ctx context.Context, e engine.Remote, w Wanted) (engine.Server, error) {
	hosts, err := e.Hosts(w.URL)
	if err != nil {
		return nil, err
	}
	for _, h := range hosts {
		ip := net.ParseIP(h)
		if h == "localhost" || ip != nil && ip.IsLoopback() || slices.Contains(w.AllowHosts, h) {
			continue
		}
		return nil, fault.New(fault.Refused, "add it to the project file:  allow_hosts: ["+h+"]",
			"database %q: the server %s is on another machine", w.Database, h)
	}
	return e.Open(ctx, w.URL, w.Spec, w.patience())
}

// ErrNotRunning is what Look returns where no server runs.
var ErrNotRunning = errors.New("no server runs")

// Look connects to the server that Open would open, where one runs. It starts
// nothing and pulls nothing.
func Look(ctx context.Context, e engine.Engine, w Wanted) (engine.Server, error) {
	if err := e.Check(w.Spec); err != nil {
		return nil, err
	}
	h := e.Hosting()
	for _, where := range w.Where {
		switch {
		case where == "existing" && h.Existing != nil, where == "memory" && h.Embedded != nil:
			s, _, err := w.open(ctx, e, where)
			return s, err
		case where == "container" && h.Container != nil && h.Separate(where):
			if s, err := lookAtContainers(ctx, e, w); s != nil || err != nil {
				return s, err
			}
		default:
			state, err := StateFolder()
			if err != nil {
				return nil, err
			}
			if host := hostOf(e, where, state, nil); host != nil {
				if s, err := lookAt(ctx, e, host, w, state); s != nil || err != nil {
					return s, err
				}
			}
		}
	}
	return nil, ErrNotRunning
}

// Elsewhere looks at all servers that run for this user, whatever project they
// are for: those of guards, and the files of engines that are a part of this
// program.
func Elsewhere(ctx context.Context, engines []engine.Engine) (all []engine.Server, err error) {
	state, err := StateFolder()
	if err != nil {
		return nil, err
	}
	for _, e := range engines {
		if e.Hosting().Embedded != nil {
			s, err := openEmbedded(ctx, e, Wanted{})
			if err != nil {
				return all, err
			}
			all = append(all, s)
		}
	}
	for _, path := range recordFiles(state) {
		r, err := readRecord(path)
		if err != nil {
			continue
		}
		if o := r.opener(engines, state, path); o != nil {
			s, err := o.look(ctx)
			if err != nil {
				return all, err
			}
			if s != nil {
				all = append(all, s)
			}
		}
	}
	for _, dir := range containerFolders(state) {
		for _, e := range engines {
			if h := e.Hosting(); h.Container == nil || !h.Separate("container") {
				continue
			}
			s, err := connectContainers(ctx, e, Wanted{}, state, dir)
			if err != nil && fault.KindOf(err) == fault.Lacking {
				continue // without a container engine none of them runs
			}
			if err != nil {
				return all, err
			}
			all = append(all, s)
		}
	}
	return all, nil
}

func openEmbedded(ctx context.Context, e engine.Engine, w Wanted) (engine.Server, error) {
	state, err := StateFolder()
	if err != nil {
		return nil, err
	}
	folder, err := w.folder(state, Room)
	if err != nil {
		return nil, err
	}
	return e.Hosting().Embedded(ctx, filepath.Join(folder.Path, e.Name()), w.Spec)
}

// folder finds the data folder, and says once where it is not in memory.
func (w Wanted) folder(state string, room int64) (Folder, error) {
	folder, err := DataFolder(room)
	if err != nil || folder.Memory {
		return folder, err
	}
	if w.Required {
		return folder, fault.New(fault.Lacking, "free some room, set HEMZO_MEMORY_DIR, or leave out  memory: required",
			"database %q wants memory: %s", w.Database, folder.Why)
	}
	if w.Say != nil && firstTime(state, "disk "+folder.Path) {
		w.Say(fmt.Sprintf("%s: data is kept on disk, in %s", folder.Why, folder.Path))
	}
	return folder, nil
}

func cause(err error) string {
	if p, ok := err.(*os.PathError); ok {
		return p.Err.Error()
	}
	return err.Error()
}

package source

import (
	"io/fs"
	"os"
	"syscall"
	"time"
)

// sight is a file or folder as it was just before it was read.
type sight struct {
	path    string
	info    fs.FileInfo
	changed time.Time // when its content, name or rights last changed
	when    time.Time
}

// look notes what a file or folder is like; it is to be read after that.
func (r *reader) look(path string) (fs.FileInfo, error) {
	now := time.Now()
	info, err := os.Stat(r.path(path))
	if err == nil {
		r.seen = append(r.seen, sight{path: r.path(path), info: info, changed: changed(info), when: now})
	}
	return info, err
}

// changed is the time that only the system sets.
func changed(info fs.FileInfo) time.Time {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return changeTime(st)
	}
	return info.ModTime()
}

// grain is how far apart two changes of a file have to be to show in its
// times on any file system in use.
const grain = 2 * time.Second

// Fresh reports whether reading the sources again would find the same: all
// that was read then is as it was. It may say no where it is so.
func (p *Plan) Fresh() bool {
	if !p.fixed {
		return false
	}
	for _, s := range p.seen {
		// What changed as it was being read may have changed once more in the
		// same moment.
		if s.when.Sub(s.changed) < grain {
			return false
		}
		info, err := os.Stat(s.path)
		if err != nil || !os.SameFile(info, s.info) || info.Size() != s.info.Size() || !changed(info).Equal(s.changed) {
			return false
		}
	}
	return true
}

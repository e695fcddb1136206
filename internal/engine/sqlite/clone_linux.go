package sqlite

import (
	"os"
	"path/filepath"
	"strconv"

	"golang.org/x/sys/unix"
)

// newFile makes a locked file that has no name before publish gives it one:
// whoever dies before that leaves nothing.
func newFile(path string, mode os.FileMode) (f *os.File, publish func() error, err error) {
	fd, err := unix.Open(filepath.Dir(path), unix.O_TMPFILE|unix.O_RDWR|unix.O_CLOEXEC, uint32(mode.Perm()))
	if err != nil { // the file system has no such files
		return namedFile(path, mode)
	}
	f = os.NewFile(uintptr(fd), path)
	if err := unix.Flock(fd, unix.LOCK_EX|unix.LOCK_NB); err != nil {
		f.Close()
		return nil, nil, err
	}
	return f, func() error {
		return unix.Linkat(unix.AT_FDCWD, "/proc/self/fd/"+strconv.Itoa(fd), unix.AT_FDCWD, path,
			unix.AT_SYMLINK_FOLLOW)
	}, nil
}

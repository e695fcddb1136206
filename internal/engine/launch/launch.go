// Package launch is what engines have in common that lay out the data of a server and
// start its program: as another user where this process is root, at a port that is free.
package launch

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
)

// ServerUser is the user that a server runs as where this process is root: the first of
// some that is there; nil for this process's own.
func ServerUser(names ...string) *engine.User {
	if os.Getuid() != 0 {
		return nil
	}
	for _, name := range append(names, "nobody") {
		if u, err := user.Lookup(name); err == nil {
			uid, _ := strconv.ParseUint(u.Uid, 10, 32)
			gid, _ := strconv.ParseUint(u.Gid, 10, 32)
			return &engine.User{UID: uint32(uid), GID: uint32(gid)}
		}
	}
	return &engine.User{UID: 65534, GID: 65534}
}

// Closed returns the folder on a path that others cannot pass through.
func Closed(path string) string {
	for ; path != filepath.Dir(path); path = filepath.Dir(path) {
		if info, err := os.Stat(path); err == nil && info.Mode().Perm()&0o001 == 0 {
			return path
		}
	}
	return ""
}

// PortInUse reports whether a port of loopback is taken.
func PortInUse(port int) bool {
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if err != nil {
		return true
	}
	l.Close()
	return false
}

// MemoryLimit is the memory, in bytes, that the control groups above this
// process allow; 0 for no limit.
func MemoryLimit() (least int64) {
	own, _ := os.ReadFile("/proc/self/cgroup")
	files := []string{"/sys/fs/cgroup/memory/memory.limit_in_bytes"}
	for line := range strings.Lines(string(own)) {
		if path, ok := strings.CutPrefix(strings.TrimSpace(line), "0::"); ok {
			for ; ; path = filepath.Dir(path) {
				files = append(files, filepath.Join("/sys/fs/cgroup", path, "memory.max"))
				if path == "/" || path == "." {
					break
				}
			}
		}
	}
	for _, file := range files {
		b, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		n, err := strconv.ParseInt(strings.TrimSpace(string(b)), 10, 64)
		if err == nil && n < 1<<50 && (least == 0 || n < least) {
			least = n
		}
	}
	return least
}

// CopyTree copies a folder of files and folders; its files are the owner's.
func CopyTree(from, to string, owner *engine.User) error {
	var files errgroup.Group
	files.SetLimit(4)
	err := filepath.WalkDir(from, func(path string, d os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(from, path)
		if err != nil {
			return err
		}
		target := filepath.Join(to, rel)
		switch {
		case d.IsDir():
			return errors.Join(os.Mkdir(target, 0o700), Chown(target, owner))
		case d.Type().IsRegular():
			files.Go(func() error { return errors.Join(CopyFile(path, target), Chown(target, owner)) })
			return nil
		}
		return fmt.Errorf("%s is neither file nor folder", path)
	})
	return errors.Join(err, files.Wait())
}

// Chown gives a file to the server's user; nil for nobody.
func Chown(path string, owner *engine.User) error {
	if owner == nil {
		return nil
	}
	return os.Chown(path, int(owner.UID), int(owner.GID))
}

// CopyFile leaves the copying to the kernel where that can do it. Holes stay holes, on
// systems that tell of them: what servers lay out in advance is not written.
func CopyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	return errors.Join(copyParts(in, out), out.Close())
}

// copyParts copies what of a file is no hole.
func copyParts(in, out *os.File) error {
	info, err := in.Stat()
	if err != nil {
		return err
	}
	for at := int64(0); at < info.Size(); {
		begin, err := in.Seek(at, unix.SEEK_DATA)
		if errors.Is(err, unix.ENXIO) { // there is nothing behind it
			break
		}
		if err != nil { // a file system that does not tell
			_, err = in.Seek(0, io.SeekStart)
			if err == nil {
				_, err = io.Copy(out, in)
			}
			return err
		}
		end, err := in.Seek(begin, unix.SEEK_HOLE)
		if err != nil {
			return err
		}
		if _, err = in.Seek(begin, io.SeekStart); err == nil {
			_, err = out.Seek(begin, io.SeekStart)
		}
		if err == nil {
			_, err = io.CopyN(out, in, end-begin)
		}
		if err != nil {
			return err
		}
		at = end
	}
	return out.Truncate(info.Size())
}

// block is the least that Thin makes a hole of, in bytes.
const block = 64 << 10

// Thin makes holes of the blocks of a folder's files that hold nothing but zeros.
func Thin(dir string) error {
	return filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		info, err := d.Info()
		if err != nil || info.Size() < 2*block {
			return err
		}
		return thin(path, info.Size())
	})
}

// thin writes a file anew without its blocks of zeros.
func thin(path string, size int64) error {
	in, err := os.Open(path)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(path+".thin", os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	buffer, nothing := make([]byte, block), make([]byte, block)
	for at := int64(0); at < size && err == nil; at += block {
		n, failed := io.ReadFull(in, buffer)
		if failed != nil && !errors.Is(failed, io.ErrUnexpectedEOF) {
			err = failed
		} else if !bytes.Equal(buffer[:n], nothing[:n]) {
			_, err = out.WriteAt(buffer[:n], at)
		}
	}
	if err == nil {
		err = out.Truncate(size)
	}
	err = errors.Join(err, out.Close())
	if err == nil {
		err = os.Rename(path+".thin", path)
	}
	if err != nil {
		os.Remove(path + ".thin")
	}
	return err
}

// TreeSize is the size of the files of a folder, in bytes.
func TreeSize(dir string) (size int64, err error) {
	err = filepath.WalkDir(dir, func(_ string, d os.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			info, failed := d.Info()
			if failed != nil {
				return failed
			}
			size += info.Size()
		}
		return err
	})
	return size, err
}

// FreePort is a port of loopback that nobody had a moment ago.
func FreePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, fault.New(fault.Lacking, "", "there is no free port: %v", err)
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// Package launch is what engines have in common that lay out the data of a server and
// start its program: as another user where this process is root, at a port that is free.
package launch

import (
	"bytes"
	"crypto/sha256"
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
	if Cloned(out, in) {
		return out.Close()
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

// portsFrom and portsTo bound the ports of servers: below those that systems give to
// clients.
const portsFrom, portsTo = 20000, 32000

// Port is one for the server with its data in a folder, other ones where those before were
// taken between their choice and their use: where the server is started anew it is the
// same, so that what tests were told leads there.
func Port(folder string, before int) (int, error) {
	sum := sha256.Sum256([]byte(filepath.Base(folder)))
	first := int(sum[0])<<8 | int(sum[1])
	for i := range 64 {
		port := portsFrom + (first+i*97+before)%(portsTo-portsFrom)
		if !PortInUse(port) {
			return port, nil
		}
	}
	return FreePort()
}

// Enter gives the folder of a server to the user that it runs as, who has to be able to
// pass through those above it; what is the server's name in messages.
func Enter(folder string, owner *engine.User, what string) error {
	if err := Chown(folder, owner); err != nil {
		return fmt.Errorf("giving %s to the server's user: %w", folder, err)
	}
	if owner == nil {
		return nil
	}
	// The folder of all these servers is Hemzo's own: others may pass through it, and see
	// nothing.
	if err := os.Chmod(filepath.Dir(folder), 0o711); err != nil {
		return fmt.Errorf("letting the server's user pass: %w", err)
	}
	if dir := Closed(filepath.Dir(folder)); dir != "" {
		return fault.New(fault.Lacking, "chmod o+x it, or set HEMZO_MEMORY_DIR to another folder",
			"run by root, %s runs as another user (uid %d), who cannot pass through %s", what, owner.UID, dir)
	}
	return nil
}

// leastRoom is, in bytes, with how much a server can still begin.
const leastRoom = 64 << 10

// Full says that the file system of a server's folder is full, where it is: some servers
// wait then rather than end.
func Full(folder string) error {
	var s unix.Statfs_t
	if unix.Statfs(folder, &s) != nil || s.Bavail*uint64(s.Bsize) >= leastRoom {
		return nil
	}
	return fault.New(fault.Lacking, "free some room, or set HEMZO_MEMORY_DIR to another folder", "the server has no room")
}

// LongestSocket is the longest path of a socket, in bytes, that every system
// takes.
const LongestSocket = 103

// Socket is the path of a server's socket in its folder, "" where that would be too long:
// then it is reached at its port alone.
func Socket(folder string) string {
	if path := filepath.Join(folder, "sock"); len(path) <= LongestSocket {
		return path
	}
	return ""
}

// TooLong says what to do where a folder's path leaves no room for a socket's name.
func TooLong(folder string) error {
	return fault.New(fault.Lacking, "set HEMZO_MEMORY_DIR to a folder with a shorter path",
		"the path of %s is too long for a socket in it", folder)
}

// NoRoom says what to do where a file system is full.
func NoRoom(err error, doing string) error {
	if errors.Is(err, unix.ENOSPC) {
		return fault.New(fault.Lacking, "free some room, or set HEMZO_MEMORY_DIR to another folder", "%s: %v", doing, err)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", doing, err)
	}
	return nil
}

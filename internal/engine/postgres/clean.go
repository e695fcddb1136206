package postgres

import (
	"errors"
	"hemzo/internal/engine/launch"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Clean ends what runs on the data folder of a server that was killed, and
// removes its segment of shared memory, which postmaster.pid names.
func (Engine) Clean(folder string) error {
	data := filepath.Join(folder, "data")
	segment, named := segmentOf(data)
	// A server process that lost its parent ends by itself once it has time to
	// look; one that is busy is told to, and then made to. The program that
	// lays out a new server ends by itself.
	patience := 500 * time.Millisecond
	if _, err := os.Stat(filepath.Join(data, "postmaster.opts")); err != nil {
		patience = 10 * time.Second
	}
	for i, s := range []syscall.Signal{0, syscall.SIGQUIT, syscall.SIGKILL} {
		end := time.Now().Add([]time.Duration{patience, 2 * time.Second, 10 * time.Second}[i])
		for {
			left := workingIn(folder, data)
			if len(left) == 0 {
				break
			}
			for _, pid := range left {
				if s != 0 {
					_ = syscall.Kill(pid, s)
				}
			}
			if time.Now().After(end) {
				break
			}
			time.Sleep(10 * time.Millisecond)
		}
	}
	if left := workingIn(folder, data); len(left) > 0 {
		return errors.New("server processes do not end: " + strconv.Itoa(left[0]))
	}
	if named {
		removeSegment(segment)
	}
	return nil
}

// segmentOf reads which segment a server has; the line is "KEY ID" (the
// seventh of postmaster.pid, see PostgreSQL's miscadmin.h).
func segmentOf(data string) (id int, ok bool) {
	b, err := os.ReadFile(filepath.Join(data, "postmaster.pid"))
	lines := strings.Split(string(b), "\n")
	if err != nil || len(lines) < 7 {
		return 0, false
	}
	fields := strings.Fields(lines[6])
	if len(fields) != 2 {
		return 0, false
	}
	id, err = strconv.Atoi(fields[1])
	return id, err == nil
}

// removeSegment removes a segment that nobody has any more. A test that may write
// files could have named another in postmaster.pid: it has to be the server's
// user's.
func removeSegment(id int) {
	uid := uint32(os.Getuid())
	if u := launch.ServerUser("postgres"); u != nil {
		uid = u.UID
	}
	var d unix.SysvShmDesc
	// a process that ends lets go of it last
	for end := time.Now().Add(5 * time.Second); ; time.Sleep(5 * time.Millisecond) {
		if _, err := unix.SysvShmCtl(id, unix.IPC_STAT, &d); err != nil || d.Nattch == 0 || time.Now().After(end) {
			break
		}
	}
	if _, err := unix.SysvShmCtl(id, unix.IPC_STAT, &d); err == nil && d.Nattch == 0 && d.Perm.Uid == uid &&
		d.Perm.Cuid == uid {
		_, _ = unix.SysvShmCtl(id, unix.IPC_RMID, nil)
	}
}

// workingIn lists the processes of PostgreSQL's programs whose working folder is
// one of some, as that of all of a server's is; none where the system does not
// tell. Whoever else is there, to look at it, is not touched.
func workingIn(folders ...string) (pids []int) {
	processes, _ := filepath.Glob("/proc/[0-9]*/cwd")
	for _, link := range processes {
		program, _ := os.Readlink(filepath.Join(filepath.Dir(link), "exe"))
		if name := strings.TrimSuffix(filepath.Base(program), " (deleted)"); name != "postgres" && name != "initdb" {
			continue
		}
		if at, err := os.Readlink(link); err == nil && slices.Contains(folders, strings.TrimSuffix(at, " (deleted)")) {
			if pid, err := strconv.Atoi(filepath.Base(filepath.Dir(link))); err == nil {
				pids = append(pids, pid)
			}
		}
	}
	return pids
}

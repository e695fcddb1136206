package place

import (
	"fmt"

	"golang.org/x/sys/unix"

	"hemzo/internal/engine"
)

// fileSystem reports whether a folder lies in memory, and the bytes free.
func fileSystem(dir string) (memory bool, free int64, err error) {
	var st unix.Statfs_t
	if err := unix.Statfs(dir, &st); err != nil {
		return false, 0, err
	}
	return unix.ByteSliceToString(st.Fstypename[:]) == "tmpfs", int64(st.Bavail) * int64(st.Bsize), nil
}

// Running returns the process of a number; false where there is none. A
// zombie counts as gone.
func Running(pid int) (engine.Process, bool) {
	info, err := unix.SysctlKinfoProc("kern.proc.pid", pid)
	const zombie = 5 // SZOMB in sys/proc.h
	if err != nil || info.Proc.P_pid != int32(pid) || info.Proc.P_stat == zombie {
		return engine.Process{}, false
	}
	at := info.Proc.P_starttime
	return engine.Process{PID: pid, Started: fmt.Sprintf("%d.%06d", at.Sec, at.Usec)}, true
}

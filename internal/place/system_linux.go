package place

import (
	"bytes"
	"os"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"hemzo/internal/engine"
)

// fileSystem reports whether a folder lies in memory, and the bytes free.
func fileSystem(dir string) (memory bool, free int64, err error) {
	var st unix.Statfs_t
	if err := unix.Statfs(dir, &st); err != nil {
		return false, 0, err
	}
	memory = st.Type == unix.TMPFS_MAGIC || st.Type == unix.RAMFS_MAGIC
	return memory, int64(st.Bavail) * st.Bsize, nil
}

// Running returns the process of a number; false where there is none. A
// zombie counts as gone.
func Running(pid int) (engine.Process, bool) {
	b, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/stat")
	if err != nil {
		return engine.Process{}, false
	}
	// The second field is a name in brackets that may hold anything.
	fields := strings.Fields(string(b[bytes.LastIndexByte(b, ')')+1:]))
	if len(fields) < 20 || fields[0] == "Z" || fields[0] == "X" {
		return engine.Process{}, false
	}
	boot, _ := os.ReadFile("/proc/sys/kernel/random/boot_id")
	return engine.Process{PID: pid, Started: fields[19] + "@" + strings.TrimSpace(string(boot))}, true
}

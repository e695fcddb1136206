package sqlite

import (
	"bytes"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"hemzo/internal/engine"
)

// holders names the other processes that hold locks on a database's files, as
// far as the system tells (Linux: proc_locks(5)).
func holders(path string) []engine.Client {
	listed, err := os.ReadFile("/proc/locks")
	if err != nil {
		return nil
	}
	wanted := map[string]bool{}
	for _, name := range []string{path, path + "-wal", path + "-shm"} {
		var st unix.Stat_t
		if unix.Stat(name, &st) == nil {
			wanted[fmt.Sprintf("%02x:%02x:%d", unix.Major(uint64(st.Dev)), unix.Minor(uint64(st.Dev)), st.Ino)] = true
		}
	}
	var found []engine.Client
	for line := range strings.Lines(string(listed)) {
		// 1: POSIX  ADVISORY  WRITE 4711 00:2a:17 1073741824 1073742335
		f := strings.Fields(line)
		if len(f) < 6 || f[1] != "POSIX" || !wanted[f[5]] {
			continue
		}
		pid, err := strconv.Atoi(f[4])
		if err != nil || pid <= 0 || pid == os.Getpid() {
			continue
		}
		command, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
		c := engine.Client{PID: pid, State: "holds a lock",
			Application: string(bytes.TrimSpace(bytes.ReplaceAll(command, []byte{0}, []byte{' '})))}
		if !slices.ContainsFunc(found, func(f engine.Client) bool { return f.PID == pid }) {
			found = append(found, c)
		}
	}
	return found
}

package control

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"hemzo/internal/fault"
)

// longestSocket is the longest path of a socket, in bytes, that every system
// takes.
const longestSocket = 103

// Socket returns the path for this process's private socket in a folder, which
// it makes; "" where the path would be too long.
func Socket(folder string) (string, error) {
	path := SocketOf(folder, os.Getpid())
	if len(path) > longestSocket {
		return "", nil
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return "", fmt.Errorf("making the folder for sockets: %w", err)
	}
	return path, nil
}

// SocketOf is the path of a process's private socket in a folder.
func SocketOf(folder string, pid int) string { return filepath.Join(folder, strconv.Itoa(pid)+".sock") }

// SweepSockets removes the sockets of processes that are gone.
func SweepSockets(folder string) {
	all, _ := filepath.Glob(filepath.Join(folder, "*.sock"))
	for _, path := range all {
		pid, err := strconv.Atoi(strings.TrimSuffix(filepath.Base(path), ".sock"))
		if err == nil && syscall.Kill(pid, 0) == syscall.ESRCH {
			os.Remove(path)
		}
	}
}

// listenAt listens on a private socket. One of that name is an earlier
// process's, which had this one's number.
func listenAt(path string) (net.Listener, error) {
	os.Remove(path)
	l, err := net.Listen("unix", path)
	if err != nil {
		return nil, fault.New(fault.Lacking, "", "the control endpoint cannot listen on %s: %v", path, err)
	}
	return l, nil
}

package place

import "syscall"

// dieWithParent makes the kernel send a signal when the thread that starts
// the process ends: the guard starts it from a thread that lives as long as
// the guard.
func dieWithParent(a *syscall.SysProcAttr, s syscall.Signal) { a.Pdeathsig = s }

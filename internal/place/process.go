package place

import "hemzo/internal/engine"

// Alive reports whether a process, and not another that got its number
// since, is running on this machine.
func Alive(p engine.Process) bool {
	now, ok := Running(p.PID)
	return ok && now == p
}

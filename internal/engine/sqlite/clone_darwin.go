package sqlite

import "os"

// cloned reports false: here a clone is made by name, of a file that is not
// there yet, and would lack the lock.
func cloned(out, in *os.File) bool { return false }

// newFile makes a locked file; here it has its name from the beginning.
func newFile(path string, mode os.FileMode) (*os.File, func() error, error) {
	return namedFile(path, mode)
}

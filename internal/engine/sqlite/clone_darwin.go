package sqlite

import "os"

// newFile makes a locked file; here it has its name from the beginning.
func newFile(path string, mode os.FileMode) (*os.File, func() error, error) {
	return namedFile(path, mode)
}

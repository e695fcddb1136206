package launch

import (
	"os"

	"golang.org/x/sys/unix"

	"hemzo/internal/fault"
)

// Clones reports whether files in a folder can share blocks.
func Clones(folder string) bool {
	in, err := os.CreateTemp(folder, "clone-")
	if err != nil {
		return false
	}
	defer os.Remove(in.Name())
	defer in.Close()
	out, err := os.CreateTemp(folder, "clone-")
	if err != nil {
		return false
	}
	defer os.Remove(out.Name())
	defer out.Close()
	if _, err := in.WriteString("hemzo"); err != nil {
		return false
	}
	return Cloned(out, in)
}

// little is up to which size, in bytes, nobody looks whether there is room: the copy is
// made sooner than that.
const little = 32 << 20

// RoomFor fails where a folder has no room for so many bytes, of which none are shared.
func RoomFor(folder string, bytes int64, doing string) error {
	var s unix.Statfs_t
	if bytes < little || unix.Statfs(folder, &s) != nil {
		return nil
	}
	free := int64(s.Bavail) * int64(s.Bsize)
	if free >= bytes || Clones(folder) {
		return nil
	}
	return fault.New(fault.Lacking, "free some room, or set HEMZO_MEMORY_DIR to another folder",
		"%s: it takes %d MB, and %d MB are free", doing, bytes>>20, free>>20)
}

package launch

import (
	"os"

	"golang.org/x/sys/unix"
)

// Cloned makes out share in's blocks, where the file system can: that takes no time and no
// room.
func Cloned(out, in *os.File) bool {
	return unix.IoctlFileClone(int(out.Fd()), int(in.Fd())) == nil
}

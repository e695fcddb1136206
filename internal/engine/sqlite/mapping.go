package sqlite

import (
	"fmt"
	"os"

	"golang.org/x/sys/unix"
)

// mapping is a file open for reading, with its bytes in memory as they are at
// any moment.
type mapping struct {
	file *os.File
	b    []byte
}

func (m *mapping) open(path string) (err error) {
	m.file, err = os.Open(path)
	return err
}

// refresh makes the mapping as long as the file is now. Nobody may make the
// file shorter while the bytes are read: the caller holds a lock on it.
func (m *mapping) refresh() error {
	info, err := m.file.Stat()
	if err != nil {
		return fmt.Errorf("mapping a file: %w", err)
	}
	length := int(info.Size())
	if len(m.b) == length {
		return nil
	}
	m.unmap()
	if length == 0 {
		return nil
	}
	m.b, err = unix.Mmap(int(m.file.Fd()), 0, length, unix.PROT_READ, unix.MAP_SHARED)
	if err != nil {
		return fmt.Errorf("mapping a file: %w", err)
	}
	return nil
}

func (m *mapping) unmap() {
	if m.b != nil {
		_ = unix.Munmap(m.b)
		m.b = nil
	}
}

func (m *mapping) close() {
	m.unmap()
	if m.file != nil {
		m.file.Close()
		m.file = nil
	}
}

package relay

import (
	"bufio"
	"errors"
	"fmt"
	"io"
)

// ErrWriting says that it was the writer that failed.
var ErrWriting = errors.New("the client takes nothing")

// CopyTo copies through the writer's own buffer; what goes wrong with the writer is an
// ErrWriting.
func CopyTo(out *bufio.Writer, in io.Reader) error {
	for {
		if out.Available() == 0 {
			if err := out.Flush(); err != nil {
				return fmt.Errorf("%w: %w", ErrWriting, err)
			}
		}
		room := out.AvailableBuffer()[:out.Available()]
		n, err := in.Read(room)
		if _, failed := out.Write(room[:n]); failed != nil {
			return fmt.Errorf("%w: %w", ErrWriting, failed)
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

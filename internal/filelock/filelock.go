// Package filelock waits for locks of files that other processes hold.
package filelock

import (
	"context"
	"errors"
	"syscall"

	"github.com/gofrs/flock"
)

// Wait takes a lock, and waits for it as long as ctx lasts. The system wakes
// the one that waits: many that asked again and again would keep the holder
// from its work. After an error the lock is not held, and not to be used.
func Wait(ctx context.Context, l *flock.Flock) error { return wait(ctx, l, l.Lock) }

// WaitShared is Wait for a lock that many may hold at once.
func WaitShared(ctx context.Context, l *flock.Flock) error { return wait(ctx, l, l.RLock) }

func wait(ctx context.Context, l *flock.Flock, take func() error) error {
	got := make(chan error, 1)
	go func() {
		err := take()
		for errors.Is(err, syscall.EINTR) {
			err = take()
		}
		got <- err
	}()
	select {
	case err := <-got:
		return err
	case <-ctx.Done():
		// The system's call cannot be ended: what it still gets is let go at once.
		go func() {
			<-got
			l.Close()
		}()
		return ctx.Err()
	}
}

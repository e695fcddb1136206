// Package turn is a lock whose waits obey a context: who has gone does not
// wait, and is not waited for.
package turn

import "context"

// Turn is a lock for one at a time. Use New.
type Turn chan struct{}

// New returns a free lock.
func New() Turn { return make(Turn, 1) }

// Take waits for the lock as long as ctx lasts. After an error it is not held.
func (t Turn) Take(ctx context.Context) error {
	select { // what is free is taken, whatever ctx says
	case t <- struct{}{}:
		return nil
	default:
	}
	select {
	case t <- struct{}{}:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Give frees the lock.
func (t Turn) Give() { <-t }

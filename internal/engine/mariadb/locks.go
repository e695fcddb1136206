package mariadb

import (
	"context"
	"crypto/sha256"
	"encoding/hex"

	"hemzo/internal/engine/sessionlock"
)

// lockName is a lock's name on the server, which bounds them (64 characters, section
// "Locking Functions" of the manual).
func lockName(name string) string {
	sum := sha256.Sum256([]byte("hemzo " + name))
	return "hemzo " + hex.EncodeToString(sum[:16])
}

// newLocks are the locks of the server's own session.
func newLocks(s *shared) *sessionlock.Locks[*conn] {
	return sessionlock.New(sessionlock.Session[*conn]{
		With: s.ask,
		Last: func(ctx context.Context, work func(context.Context, *conn)) {
			if s.turn.Take(ctx) == nil {
				defer s.turn.Give()
				work(ctx, s.conn)
			}
		},
		Take: func(ctx context.Context, c *conn, name string) (bool, error) {
			rows, err := c.rows(ctx, "SELECT GET_LOCK(?, 0)", lockName(name))
			return err == nil && rows[0][0] == "1", err
		},
		Free: func(ctx context.Context, c *conn, name string) {
			if c != nil { // with the session it has gone
				_, _ = c.rows(ctx, "SELECT RELEASE_LOCK(?)", lockName(name))
			}
		},
		Ping: func(ctx context.Context, c *conn) error { return c.PingContext(ctx) },
	})
}

// Lock takes a lock of the server's own session.
func (s *shared) Lock(ctx context.Context, name string, waiting func()) (func(), error) {
	return s.locks.Lock(ctx, name, waiting)
}

// Own takes a lock that lives as long as this process.
func (s *shared) Own(ctx context.Context) (string, func(), error) { return s.locks.Own(ctx) }

// Owned reports whether some process holds a lock.
func (s *shared) Owned(ctx context.Context, lock string) bool {
	held := true // what cannot be asked is not taken for gone
	_ = s.ask(ctx, func(ctx context.Context, c *conn) error {
		rows, err := c.rows(ctx, "SELECT IS_USED_LOCK(?) IS NOT NULL", lockName(lock))
		if err == nil {
			held = rows[0][0] == "1"
		}
		return err
	})
	return held
}

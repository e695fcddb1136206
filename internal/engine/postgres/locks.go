package postgres

import (
	"context"
	"crypto/sha256"
	"encoding/binary"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine/sessionlock"
)

// key is the number of an advisory lock.
func key(name string) int64 {
	sum := sha256.Sum256([]byte("hemzo " + name))
	return int64(binary.BigEndian.Uint64(sum[:8]))
}

// newLocks are the advisory locks of the server's own session.
func newLocks(s *server) *sessionlock.Locks[*pgx.Conn] {
	return sessionlock.New(sessionlock.Session[*pgx.Conn]{
		With: s.readRetrying,
		Last: func(ctx context.Context, work func(context.Context, *pgx.Conn)) {
			if s.turn.Take(ctx) == nil {
				defer s.turn.Give()
				work(ctx, s.conn)
			}
		},
		Take: func(ctx context.Context, conn *pgx.Conn, name string) (ok bool, err error) {
			err = conn.QueryRow(ctx, "SELECT pg_try_advisory_lock($1)", key(name)).Scan(&ok)
			return ok, err
		},
		Free: func(ctx context.Context, conn *pgx.Conn, name string) {
			_, _ = conn.Exec(ctx, "SELECT pg_advisory_unlock($1)", key(name))
		},
		Ping:      func(ctx context.Context, conn *pgx.Conn) error { return conn.Ping(ctx) },
		Elsewhere: s.heldElsewhere,
	})
}

// Lock takes an advisory lock of the server's own session.
func (s *server) Lock(ctx context.Context, name string, waiting func()) (func(), error) {
	return s.locks.Lock(ctx, name, waiting)
}

// Own takes a lock that lives as long as this process.
func (s *server) Own(ctx context.Context) (string, func(), error) { return s.locks.Own(ctx) }

// holding counts the sessions of all databases that hold a lock.
const holding = "SELECT count(*) FROM pg_locks WHERE locktype = 'advisory' AND classid = " +
	"$1::bigint::oid AND objid = $2::bigint::oid AND objsubid = 1"

// lockKey is what holding asks for.
func lockKey(name string) []any {
	k := uint64(key(name))
	return []any{int64(k >> 32), int64(k & 0xffffffff)}
}

// Owned reports whether some process holds a lock, in whatever database.
func (s *server) Owned(ctx context.Context, lock string) bool {
	n, err := s.queryInt(ctx, holding, lockKey(lock)...)
	return err != nil || n > 0 // what cannot be asked is not taken for gone
}

package postgres

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
)

// reacquireLocks takes the locks again that a break has cost. The server may not have
// noticed yet that the session which held one is gone: then it is tried again
// later.
func (s *server) reacquireLocks(ctx context.Context) {
	for name, held := range s.heldLocks {
		if held {
			continue
		}
		var ok bool
		if err := s.conn.QueryRow(ctx, "SELECT pg_try_advisory_lock($1)", key(name)).Scan(&ok); err != nil {
			return
		}
		s.heldLocks[name] = ok
	}
}

// key is the number of an advisory lock.
func key(name string) int64 {
	sum := sha256.Sum256([]byte("hemzo " + name))
	return int64(binary.BigEndian.Uint64(sum[:8]))
}

// Lock takes an advisory lock of the server's own session. Within one session
// such locks do not exclude one another, so the names are counted here too.
func (s *server) Lock(ctx context.Context, name string, waiting func()) (func(), error) {
	// Many may wait for one that builds: they must not keep it from its work.
	for again := time.Millisecond; ; again = min(again*3/2, 50*time.Millisecond) {
		ok, err := s.try(ctx, name)
		if err != nil {
			return nil, fmt.Errorf("taking the lock %q: %w", name, err)
		}
		if ok {
			return func() { s.unlock(name) }, nil
		}
		if waiting != nil {
			waiting()
			waiting = nil
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(again):
		}
	}
}

func (s *server) try(ctx context.Context, name string) (ok bool, err error) {
	err = s.readRetrying(ctx, func(ctx context.Context, conn *pgx.Conn) error {
		if _, there := s.heldLocks[name]; there {
			return nil
		}
		err := conn.QueryRow(ctx, "SELECT pg_try_advisory_lock($1)", key(name)).Scan(&ok)
		if ok {
			s.heldLocks[name] = true
		}
		return err
	})
	return ok, err
}

func (s *server) unlock(name string) {
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	defer stop()
	if s.turn.Take(ctx) != nil {
		return
	}
	defer s.turn.Give()
	delete(s.heldLocks, name)
	_, _ = s.conn.Exec(ctx, "SELECT pg_advisory_unlock($1)", key(name))
}

func (s *server) Own(ctx context.Context) (string, func(), error) {
	if err := s.owning.Take(ctx); err != nil {
		return "", nil, err
	}
	defer s.owning.Give()
	if s.own == "" {
		name := "owner-" + strings.TrimPrefix(engine.NewID(engine.Work), "hemzo_w_")
		if ok, err := s.try(ctx, name); err != nil || !ok {
			return "", nil, fmt.Errorf("taking a lock: %w", err)
		}
		s.own = name
		s.keepConnection()
	}
	name := s.own
	return name, func() {
		if s.owning.Take(context.Background()) != nil {
			return
		}
		defer s.owning.Give()
		s.unlock(name)
		if s.own == name {
			s.own = ""
		}
	}, nil
}

// lookAfter is how often an owner looks whether its connection holds: well
// below the time after which others sweep what has lost its owner.
const lookAfter = 5 * time.Second

// keepConnection opens the connection again, and takes its locks again, when
// it breaks while this process waits for something else.
func (s *server) keepConnection() {
	if s.stop != nil {
		return
	}
	ctx, stop := context.WithCancel(context.Background())
	s.stop = stop
	go func() {
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(lookAfter):
			}
			look, done := context.WithTimeout(ctx, 3*lookAfter)
			_ = s.readRetrying(look, func(ctx context.Context, conn *pgx.Conn) error {
				s.reacquireLocks(ctx)
				return conn.Ping(ctx)
			})
			done()
		}
	}()
}

func (s *server) Owned(ctx context.Context, lock string) bool {
	k := uint64(key(lock))
	n, err := s.queryInt(ctx, "SELECT count(*) FROM pg_locks WHERE locktype = 'advisory' AND classid = "+
		"$1::bigint::oid AND objid = $2::bigint::oid AND objsubid = 1",
		int64(k>>32), int64(k&0xffffffff))
	return err != nil || n > 0 // what cannot be asked is not taken for gone
}

package postgres

import (
	"context"
	"fmt"
	"math/rand/v2"
	"time"

	"github.com/jackc/pgx/v5"
)

// What a run on a server of others counts for: Hemzo's own two connections (the keeper's, which
// holds the run's locks, and the one that puts back; one for the locks alone where few are
// free), one more for a moment, and those of its tests.
const connectionsOfRun = 4

// room is how many of a server's connections are in use, of those that clients can have.
type room struct{ used, all int }

// runs is how many runs a server with so many connections carries at once: a tenth is left
// for what comes and goes.
func (r room) runs() int { return max(r.all*9/10/connectionsOfRun, 1) }

// words says how many those are.
func (r room) words() string {
	if n := r.runs(); n > 1 {
		return fmt.Sprintf("%d runs", n)
	}
	return "1 run"
}

// full reports whether nobody should come who can wait: a quarter is for the tests of those
// that are there.
func (r room) full() bool { return r.used*4 > r.all*3 }

func (s *server) room(ctx context.Context) (r room, err error) {
	err = s.readRetrying(ctx, func(ctx context.Context, conn *pgx.Conn) error {
		return conn.QueryRow(ctx, `SELECT (SELECT count(*) FROM pg_stat_get_activity(NULL) WHERE usesysid IS NOT NULL),
			current_setting('max_connections')::int - current_setting('superuser_reserved_connections')::int
			- coalesce(current_setting('reserved_connections', true)::int, 0)`).Scan(&r.used, &r.all)
	})
	return r, err
}

// admit waits until the server has room for one run more, and takes its slot, which lasts
// as long as this process's session. Whoever waits has no connection meanwhile.
func (s *server) admit(ctx context.Context) error {
	for said := false; ; {
		r, err := s.room(ctx)
		if err != nil {
			return fmt.Errorf("asking for room on the server: %w", err)
		}
		if !r.full() {
			if ok, err := s.takeSlot(ctx, r.runs()); ok || err != nil {
				return err
			}
		}
		if !said && s.patience.Say != nil {
			s.patience.Say(fmt.Sprintf("PostgreSQL carries %s at once (%d connections, %d in use): waiting for one to end",
				r.words(), r.all, r.used))
		}
		said = true
		s.leave(ctx)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200*time.Millisecond + rand.N(400*time.Millisecond)):
		}
	}
}

// slotPrefix begins the names of the locks that are slots.
const slotPrefix = "slot "

// takeSlot takes one of so many slots; false where none is free.
func (s *server) takeSlot(ctx context.Context, slots int) (bool, error) {
	first := rand.IntN(slots)
	for i := range slots {
		name := fmt.Sprint(slotPrefix, (first+i)%slots)
		ok, err := s.locks.Try(ctx, name)
		if err != nil {
			return false, err
		}
		if !ok {
			continue
		}
		taken, err := s.elsewhere(ctx, name)
		if err == nil && !taken {
			return true, nil
		}
		s.locks.Unlock(name)
		if err != nil {
			return false, err
		}
	}
	return false, nil
}

// leave closes the server's own connection, where it holds no lock; it is opened again at
// need.
func (s *server) leave(ctx context.Context) {
	if s.turn.Take(ctx) != nil {
		return
	}
	defer s.turn.Give()
	if !s.locks.Any() {
		_ = s.conn.Close(ctx)
	}
}

package postgres

import (
	"context"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine/postgres/pg"
)

// On a server that others use connections are few. A run whose copy is kept has two, the
// keeper's and the one that puts back: the keeper's session takes the run's locks too, in its
// own database, where everybody can see them (pg_locks), and the server's own session is closed
// once nobody has used it for a moment. It is opened again at need, and before the keeper goes.

// takeTime is how long handing locks over may take: a server that has no connection free has one
// once the keeper has gone.
const takeTime = time.Second

// setHolder has the keeper's session of a database hold the locks, where none does.
func (s *server) setHolder(ctx context.Context, d *database) {
	_ = s.withConn(ctx, func(context.Context, *pgx.Conn) error { // who cannot use it is told at the next need
		if s.holder == nil {
			s.holder = d
		}
		return nil
	})
}

// dropHolder has the server's own session hold the locks before the keeper of a database goes.
func (s *server) dropHolder(ctx context.Context, d *database) {
	ctx, stop := context.WithTimeout(context.WithoutCancel(ctx), takeTime)
	defer stop()
	if s.turn.Take(ctx) != nil {
		return
	}
	defer s.turn.Give()
	if s.holder != d {
		return
	}
	s.holder = nil
	if s.conn.IsClosed() {
		_ = s.begin(ctx) // else it is opened at the next need, or look of the owner
	}
}

// leaveSoon closes the server's own session where nobody uses it any more, while a keeper's holds
// the locks. The session is the caller's.
func (s *server) leaveSoon() {
	if s.holder == nil {
		return
	}
	s.ownUses++
	n := s.ownUses
	time.AfterFunc(idleShort, func() { s.leaveTo(n) })
}

func (s *server) leaveTo(uses int) {
	ctx, stop := context.WithTimeout(context.Background(), takeTime)
	defer stop()
	if s.turn.Take(ctx) != nil {
		return
	}
	defer s.turn.Give()
	if s.holder == nil || s.ownUses != uses || s.conn.IsClosed() {
		return
	}
	names, whole := s.locks.Held()
	for _, name := range names { // others are somebody's who works
		whole = whole && (s.locks.IsOwn(name) || strings.HasPrefix(name, slotPrefix))
	}
	if !whole || !s.holder.takeLocks(ctx, names) {
		s.leaveSoon()
		return
	}
	s.away.Store(true)
	_ = s.conn.Close(ctx)
}

// takeLocks has the keeper's session hold locks; false where it cannot now.
func (d *database) takeLocks(ctx context.Context, names []string) bool {
	d.uses.Lock()
	defer d.uses.Unlock()
	if d.using > 0 || d.keeper == nil || d.keeper.IsClosed() {
		return false
	}
	for _, name := range names {
		if d.holds[name] {
			continue
		}
		ok := false
		err := d.keeper.QueryRow(ctx, "SELECT pg_catalog.pg_try_advisory_lock($1)", pgx.QueryExecModeSimpleProtocol,
			key(name)).Scan(&ok)
		if err != nil || !ok {
			return false
		}
		if d.holds == nil {
			d.holds = map[string]bool{}
		}
		d.holds[name] = true
	}
	return true
}

// heldElsewhere reports whether a keeper's session, which lives, holds the locks alone.
func (s *server) heldElsewhere(ctx context.Context) bool {
	if s.turn.Take(ctx) != nil {
		return false
	}
	defer s.turn.Give()
	return s.holder != nil && s.conn.IsClosed() && s.holder.keeperLives(ctx)
}

func (d *database) keeperLives(ctx context.Context) bool {
	d.uses.Lock()
	defer d.uses.Unlock()
	return d.using > 0 || d.keeper != nil && d.keeper.Ping(ctx) == nil
}

// asking is how something is read that is the server's.
type asking func(ctx context.Context, work func(context.Context, *pgx.Conn) error) error

// ask reads what is the server's: through the keeper's session where the own is closed.
func (d *database) ask(ctx context.Context, work func(context.Context, *pgx.Conn) error) error {
	if !d.server.away.Load() || d.keeper == nil || d.keeper.IsClosed() {
		return d.server.readRetrying(ctx, work)
	}
	err := d.askKeeper(ctx, work)
	if err != nil && d.keeper.IsClosed() && ctx.Err() == nil { // somebody has ended it
		err = d.server.readRetrying(ctx, work)
	}
	return err
}

func (d *database) askKeeper(ctx context.Context, work func(context.Context, *pgx.Conn) error) error {
	if d.keeperIdle {
		return work(ctx, d.keeper)
	}
	if _, err := d.keeper.Exec(ctx, statsAnew, pgx.QueryExecModeSimpleProtocol); err != nil {
		return err
	}
	return d.lookInside(ctx, func(conn *pgx.Conn) error { return work(ctx, conn) })
}

// askInt returns the first column of a query's only row.
func (d *database) askInt(ctx context.Context, sql string, args ...any) (n int64, err error) {
	err = d.ask(ctx, func(ctx context.Context, conn *pgx.Conn) error {
		return conn.QueryRow(ctx, sql, args...).Scan(&n)
	})
	return n, err
}

// elsewhere reports whether a session in another database holds a lock.
func (s *server) elsewhere(ctx context.Context, name string) (bool, error) {
	n, err := s.queryInt(ctx, holding+" AND database <> (SELECT oid FROM pg_database WHERE datname = "+
		pg.Literal(s.config.Database)+")", lockKey(name)...)
	return n > 0, err
}

package postgres

import (
	"context"
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine/postgres/pg"
)

// graceTime is what a quick statement gets to end in when its caller has gone:
// ending it at once would close the connection, and with it give back the
// locks of everybody in this process.
const graceTime = 5 * time.Second

// withGrace is ctx with its end put off by grace. The caller calls stop.
func withGrace(ctx context.Context) (later context.Context, stop func()) {
	later, end := context.WithCancel(context.WithoutCancel(ctx))
	watching := context.AfterFunc(ctx, func() {
		select {
		case <-later.Done():
		case <-time.After(graceTime):
			end()
		}
	})
	return later, func() { watching(); end() }
}

// withConn works on the server's own connection, which holds its locks, opened
// again where it broke while nobody used it. It is for what takes no time:
// everybody else waits meanwhile, as long as their contexts last.
func (s *server) withConn(ctx context.Context, work func(context.Context, *pgx.Conn) error) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if err := s.turn.Take(ctx); err != nil {
		return err
	}
	defer s.turn.Give()
	ctx, stop := withGrace(ctx)
	defer stop()
	if s.conn.IsClosed() {
		if err := s.begin(ctx); err != nil {
			return err
		}
	}
	defer s.leaveSoon()
	return work(ctx, s.conn)
}

// readRetrying is with for what changes nothing: where the connection breaks under
// it, it is done again.
func (s *server) readRetrying(ctx context.Context, work func(context.Context, *pgx.Conn) error) error {
	broken := false
	err := s.withConn(ctx, func(ctx context.Context, conn *pgx.Conn) error {
		err := work(ctx, conn)
		broken = err != nil && conn.IsClosed() && ctx.Err() == nil
		return err
	})
	if broken {
		return s.withConn(ctx, work)
	}
	return err
}

// exec runs statements that take no time. What of them was left open by an
// error is undone before anybody else has the connection.
func (s *server) exec(ctx context.Context, sql string, args ...any) error {
	return s.withConn(ctx, func(ctx context.Context, conn *pgx.Conn) error { return pg.Run(ctx, conn, sql, args...) })
}

// maxBackground is how many statements that take long run side by side.
const maxBackground = 4

// backgroundConns are connections for what takes long: making, dropping and renaming
// databases, each of which may wait for somebody's session to end. A caller
// that goes has its statement ended on the server.
type backgroundConns struct {
	room chan struct{}
	mu   sync.Mutex // for what follows
	idle []*pgx.Conn
}

func newBackgroundConns() *backgroundConns {
	return &backgroundConns{room: make(chan struct{}, maxBackground)}
}

// pop returns one that is open and idle; nil where there is none.
func (l *backgroundConns) pop() (conn *pgx.Conn) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for conn == nil && len(l.idle) > 0 {
		last := len(l.idle) - 1
		if conn, l.idle = l.idle[last], l.idle[:last]; conn.IsClosed() {
			conn = nil
		}
	}
	return conn
}

// How long one stays open for the next: on a server that others use too
// connections are few.
const (
	idleShort = 200 * time.Millisecond
	idleLong  = 2 * time.Second
)

func (l *backgroundConns) push(conn *pgx.Conn, idle time.Duration) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.idle = append(l.idle, conn)
	time.AfterFunc(idle, func() { l.retire(conn) })
}

// retire closes one that nobody has used since.
func (l *backgroundConns) retire(conn *pgx.Conn) {
	l.mu.Lock()
	defer l.mu.Unlock()
	at := slices.Index(l.idle, conn)
	if at < 0 {
		return
	}
	l.idle = slices.Delete(l.idle, at, at+1)
	ctx, stop := context.WithTimeout(context.Background(), time.Second)
	defer stop()
	_ = conn.Close(ctx)
}

// inBackground works on one of the background connections.
func (s *server) inBackground(ctx context.Context, work func(context.Context, *pgx.Conn) error) (err error) {
	select {
	case s.background.room <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() { <-s.background.room }()
	conn := s.background.pop()
	if conn == nil {
		if conn, err = s.dial(ctx, s.config.Database, ""); err != nil {
			return err
		}
	}
	idle := idleShort
	if s.private {
		idle = idleLong
	}
	defer s.background.push(conn, idle)
	return work(ctx, conn)
}

// execInBackground runs statements on one of the background connections.
func (s *server) execInBackground(ctx context.Context, sql string, args ...any) error {
	return s.inBackground(ctx, func(ctx context.Context,
		conn *pgx.Conn) error {
		return pg.Run(ctx, conn, sql, args...)
	})
}

// closeBackground closes those that nobody uses.
func (s *server) closeBackground(ctx context.Context) {
	for conn := s.background.pop(); conn != nil; conn = s.background.pop() {
		_ = conn.Close(ctx)
	}
}

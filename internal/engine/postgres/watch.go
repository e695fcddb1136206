package postgres

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
)

// visits counts the sessions that this process has opened, by database.
type visits struct {
	mu      sync.Mutex
	opened  map[string]int64
	watched map[string]bool // this process itself counts them
}

func (v *visits) add(database string) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.opened == nil {
		v.opened = map[string]int64{}
	}
	v.opened[database]++
}

func (v *visits) of(database string) int64 {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.opened[database]
}

// seen is what the server says of the sessions of a database.
type seen struct {
	number       uint32 // of the database: another one where it was replaced
	ended        int64  // and some of those that are there
	ours, others int64  // that are there now
}

func (s *server) seen(ctx context.Context, id string) (n seen, err error) {
	sql := `SELECT d.oid, coalesce((SELECT ` + s.sessionsEnded() + ` FROM pg_stat_database s WHERE s.datid = d.oid), 0),
		(SELECT count(*) FROM pg_stat_activity a WHERE a.datid = d.oid AND a.application_name = 'hemzo'),
		(SELECT count(*) FROM pg_stat_activity a WHERE a.datid = d.oid AND coalesce(a.application_name, '') <> 'hemzo'
			AND ` + pg.OfClient + `)
		FROM pg_database d WHERE d.datname = $1`
	err = s.readRetrying(ctx, func(ctx context.Context, conn *pgx.Conn) error {
		if _, err := conn.Exec(ctx, "SELECT pg_stat_clear_snapshot()"); err != nil {
			return err
		}
		return conn.QueryRow(ctx, sql, id).Scan(&n.number, &n.ended, &n.ours, &n.others)
	})
	if errors.Is(err, pgx.ErrNoRows) {
		return n, engine.ErrNotFound
	}
	if err != nil {
		return n, fmt.Errorf("watching %s: %w", id, err)
	}
	return n, nil
}

// sessionsEnded is an expression for how many sessions a database has had; before 14
// nobody counts them, but their transactions.
func (s *server) sessionsEnded() string {
	if s.countsSessions() {
		return "sessions"
	}
	return "xact_commit + xact_rollback"
}

func (s *server) countsSessions() bool { return atLeast(s.about.Version, 14) }

// Watch counts the sessions that a database has had, but for Hemzo's own: those
// of this process are known, those of other commands stand in the facts.
func (s *server) Watch(ctx context.Context, id string) (func(time.Duration) (engine.Visitor, error), error) {
	before, err := s.seen(ctx, id)
	if err != nil {
		return nil, err
	}
	own := s.visits.of(id)
	s.visits.mu.Lock()
	defer s.visits.mu.Unlock()
	if s.visits.watched == nil {
		s.visits.watched = map[string]bool{}
	}
	s.visits.watched[id] = true
	return func(wait time.Duration) (engine.Visitor, error) {
		for end := time.Now().Add(wait); ; time.Sleep(2 * time.Millisecond) {
			now, err := s.seen(ctx, id)
			if err != nil {
				return engine.Nobody, err
			}
			if now.others > 0 || now.number != before.number { // only what somebody changed is replaced
				return engine.Somebody, nil
			}
			e, err := s.Find(ctx, id)
			if err != nil {
				return engine.Nobody, err
			}
			// A session is counted when it has ended, before the list of those that
			// are there loses it.
			all := now.ended - before.ended
			ours := s.visits.of(id) - own + privateOf(e.Facts).Visits
			// Of transactions it is not known whose they are.
			if now.ours == 0 && all > ours && (ours == 0 || s.countsSessions()) {
				return engine.Somebody, nil
			}
			if !s.countsSessions() && ours > 0 {
				return engine.Somebody, nil // nobody is blamed for what cannot be told
			}
			if time.Now().After(end) {
				return visitor(now.ours > 0, privateOf(e.Facts).Visits > 0), nil
			}
		}
	}, nil
}

// visitor is who came, where no client was seen: nobody is blamed for what cannot be
// told.
func visitor(unknown, commands bool) engine.Visitor {
	switch {
	case unknown:
		return engine.Somebody
	case commands:
		return engine.Hemzo
	}
	return engine.Nobody
}

// tellOwn notes in the facts of copies that a run has how many sessions this
// process had in them.
func (s *server) tellOwn(ctx context.Context) {
	s.visits.mu.Lock()
	opened := maps.Clone(s.visits.opened)
	maps.DeleteFunc(opened, func(id string, _ int64) bool { return s.visits.watched[id] })
	s.visits.mu.Unlock()
	for id, n := range opened {
		if kind, ok := engine.KindOf(id); !ok || kind != engine.Copy {
			continue
		}
		e, err := s.Find(ctx, id)
		if err != nil || e.Facts.Owner.Lock == "" || s.locks.IsOwn(e.Facts.Owner.Lock) {
			continue
		}
		// What is not told counts as somebody's who came.
		_ = s.UpdateFacts(ctx, id, func(f *engine.Facts) { changePrivate(f, func(p *private) { p.Visits += n }) })
	}
}

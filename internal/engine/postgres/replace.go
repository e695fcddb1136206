package postgres

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
)

// replaced are the facts of a copy in whose place a copy of a start state was
// put.
func replaced(f engine.Facts, start engine.Entry) engine.Facts {
	f.Baseline, f.BaselineState, f.Also, f.Resetting = nil, start.ID, nil, false
	changePrivate(&f, func(p *private) { *p = private{Carry: privateOf(start.Facts).Carry, Source: start.Facts.Made} })
	return f
}

// replace puts a copy of from in the place of a database that has facts, and
// returns how to drop the old one. The new one is whole before the old one
// goes, and takes its place in one step.
func (s *server) replace(ctx context.Context, from, id string, facts engine.Facts) (drop func(context.Context) error,
	err error) {
	old := engine.NewID(engine.Work)
	made, err := s.takeSpare(ctx, from, s.owner(facts))
	if err != nil {
		return nil, err
	}
	drop = func(ctx context.Context) error {
		made.unlock(ctx)
		return s.dropDatabase(ctx, old)
	}
	if made.of == id {
		// It has its facts already, unless those of the copy were changed since. A
		// client that comes just then is not waited for.
		err = s.exec(ctx, "BEGIN; SET LOCAL statement_timeout = 100; "+made.same+"; "+renames(id, old, made.work)+
			"; COMMIT")
		if state := pg.State(err); err == nil || state == "" {
			return drop, s.exchanged(ctx, id, made, err)
		}
	}
	err = s.replaceSlowly(ctx, from, id, old, &made)
	return drop, s.exchanged(ctx, id, made, err)
}

// replaceSlowly is replace where nothing was made beforehand, or somebody is
// connected. The facts are those that the copy has by then.
func (s *server) replaceSlowly(ctx context.Context, from, id, old string, made *spare) error {
	start, err := s.Find(ctx, from)
	if err != nil {
		return err
	}
	e, err := s.Find(ctx, id)
	if err != nil {
		return err
	}
	if made.work == "" {
		if *made, err = s.reserve(ctx); err != nil {
			return err
		}
		if err := s.copyForReplacement(ctx, start, made.work, e); err != nil {
			return fmt.Errorf("copying the start state: %w", err)
		}
	}
	unlock, err := s.Lock(ctx, "facts "+id, nil)
	if err != nil {
		return err
	}
	defer unlock()
	if e, _, err = s.find(ctx, id); err != nil {
		return err
	}
	text, err := s.noting(made.work, replaced(e.Facts, start))
	if err != nil {
		return err
	}
	return s.exchange(ctx, id, old, made.work, text)
}

// exchange gives a database's name to another, with a statement in the same
// transaction. Refuse connections, end sessions, both renames in one
// transaction: in any other order a client that connects again gets in between. All is one
// message, which the server does to its end also where this process is killed.
func (s *server) exchange(ctx context.Context, id, old, work, within string) error {
	refuse := fmt.Sprintf("ALTER DATABASE %s ALLOW_CONNECTIONS false", pg.Ident(id))
	awaitGone := fmt.Sprintf("DO $do$ BEGIN FOR i IN 1..50 LOOP PERFORM pg_stat_clear_snapshot(); EXIT WHEN (%s) = 0; "+
		"PERFORM pg_sleep(0.002); END LOOP; END $do$", endingSessions(id))
	steps := strings.Join([]string{"BEGIN", refuse, "COMMIT", awaitGone, "BEGIN", within, renames(id, old, work),
		"COMMIT"}, "; ")
	return s.retryWhileInUse(ctx, func() error { return s.execInBackground(ctx, steps) })
}

// endingSessions is a query that ends the sessions of a database, and counts them.
func endingSessions(id string) string {
	return fmt.Sprintf("SELECT count(pg_terminate_backend(pid)) FROM pg_stat_get_activity(NULL) WHERE usesysid IS NOT "+
		"NULL AND datid = (SELECT oid FROM pg_database WHERE datname = %s)", pg.Literal(id))
}

// endSessions ends those of a database, and waits a while until they are gone: a statement
// that needs it to itself (RENAME, DROP) looks again only each 0.1 s.
func (s *server) endSessions(ctx context.Context, id string) error {
	end := endingSessions(id)
	for pause := time.Millisecond; pause < 100*time.Millisecond; pause += pause / 2 {
		n, err := s.queryInt(ctx, end)
		if err != nil || n == 0 {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
	}
	return nil
}

// renames gives the name of one database to another, and marks the first as
// work, which it is from then on.
func renames(id, old, work string) string {
	return fmt.Sprintf("ALTER DATABASE %s RENAME TO %s; ALTER DATABASE %s CONNECTION LIMIT %d; ALTER DATABASE %s "+
		"RENAME TO %s", pg.Ident(id), pg.Ident(old), pg.Ident(old), workLimit(old), pg.Ident(work), pg.Ident(id))
}

// exchanged ends a replacement: where it failed the copy stays as it was.
func (s *server) exchanged(ctx context.Context, id string, made spare, err error) error {
	if err == nil {
		return nil
	}
	last := context.WithoutCancel(ctx)
	defer made.unlock(last)
	_ = s.execInBackground(last, fmt.Sprintf("ALTER DATABASE %s ALLOW_CONNECTIONS true", pg.Ident(id)))
	err = fmt.Errorf("putting the copy in place: %w", err)
	if made.work != "" {
		err = errors.Join(err, s.Drop(last, made.work))
	}
	return err
}

// copyForReplacement makes a copy of a start state to put in the place of e, with the limit
// of connections that this is to have. That limit is no mark of work any more: the
// facts of e come with it, in one transaction.
func (s *server) copyForReplacement(ctx context.Context, start engine.Entry, work string, e engine.Entry) error {
	facts := replaced(e.Facts, start)
	if err := s.duplicate(ctx, start, work, facts); err != nil {
		return err
	}
	text, err := s.noting(work, facts)
	if err != nil {
		return err
	}
	return s.exec(ctx, fmt.Sprintf("BEGIN; %s; ALTER DATABASE %s CONNECTION LIMIT %d; COMMIT", text, pg.Ident(work),
		limitOf(privateOf(facts).Carry)))
}

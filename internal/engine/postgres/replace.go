package postgres

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"hemzo/internal/engine"
)

// replaced are the facts of a copy in whose place a copy of a start state was
// put.
func replaced(f engine.Facts, start string) engine.Facts {
	f.Baseline, f.At, f.Also, f.Born, f.Resetting = nil, start, nil, "", false
	return f
}

// replace puts a copy of from in the place of a database that has facts, and
// returns how to drop the old one. The new one is whole before the old one
// goes, and takes its place in one step.
func (s *server) replace(ctx context.Context, from, id string, facts engine.Facts) (drop func(context.Context) error, err error) {
	old := engine.NewID(engine.Work)
	made := s.takeSpare(from, s.owner(facts))
	drop = func(ctx context.Context) error {
		made.unlock()
		return s.aside(ctx, "DROP DATABASE IF EXISTS "+ident(old)+" WITH (FORCE)")
	}
	if made.of == id {
		// It has its facts already, unless those of the copy were changed since. A
		// client that comes just then is not waited for.
		err = s.swap(ctx, "BEGIN; SET LOCAL statement_timeout = 100; "+made.same, renames(id, old, made.work), "COMMIT")
		if state := sqlState(err); err == nil || state == "" {
			return drop, s.exchanged(ctx, id, made, err)
		}
	}
	e, err := s.Find(ctx, id)
	if err != nil {
		return nil, s.exchanged(ctx, id, made, err)
	}
	if made.work == "" {
		made.work = engine.NewID(engine.Work)
		if made.unlock, err = s.Lock(ctx, made.work, nil); err != nil {
			return nil, err
		}
		if err := s.fresh(ctx, from, made.work, e, s.do); err != nil {
			return nil, s.exchanged(ctx, id, made, fmt.Errorf("copying the start state: %w", err))
		}
	}
	text, err := comment(made.work, replaced(e.Facts, from))
	if err == nil {
		err = s.exchange(ctx, id, old, made.work, text)
	}
	return drop, s.exchanged(ctx, id, made, err)
}

// exchange gives a database's name to another, with a statement in the same
// transaction. Refuse connections, end sessions, both renames in one
// transaction: in any other order a client that connects again gets in between.
func (s *server) exchange(ctx context.Context, id, old, work, within string) error {
	end := fmt.Sprintf("SELECT pg_terminate_backend(pid) FROM pg_stat_get_activity(NULL) WHERE datid = (SELECT oid FROM pg_database WHERE datname = %s)", literal(id))
	return s.busy(ctx, func() error {
		return s.swap(ctx, fmt.Sprintf("BEGIN; ALTER DATABASE %s ALLOW_CONNECTIONS false; COMMIT", ident(id)), end, "BEGIN", within, renames(id, old, work), "COMMIT")
	})
}

func renames(id, old, work string) string {
	return fmt.Sprintf("ALTER DATABASE %s RENAME TO %s; ALTER DATABASE %s RENAME TO %s", ident(id), ident(old), ident(work), ident(id))
}

// swap runs statements, all of which are undone that were not committed where
// one fails.
func (s *server) swap(ctx context.Context, statements ...string) error {
	err := s.do(ctx, strings.Join(statements, "; "))
	if err != nil {
		_ = s.do(context.WithoutCancel(ctx), "ROLLBACK")
	}
	return err
}

// exchanged ends a replacement: where it failed the copy stays as it was.
func (s *server) exchanged(ctx context.Context, id string, made spare, err error) error {
	if err == nil {
		return nil
	}
	if made.unlock != nil {
		defer made.unlock()
	}
	last := context.WithoutCancel(ctx)
	_ = s.do(last, fmt.Sprintf("ALTER DATABASE %s ALLOW_CONNECTIONS true", ident(id)))
	err = fmt.Errorf("putting the copy in place: %w", err)
	if made.work != "" {
		err = errors.Join(err, s.Drop(last, made.work))
	}
	return err
}

// fresh makes a copy of a start state to put in the place of e.
func (s *server) fresh(ctx context.Context, from, work string, e engine.Entry, do func(context.Context, string, ...any) error) error {
	strategy := ""
	if s.fileCopies(e.Facts.Size) {
		strategy = " STRATEGY file_copy"
	}
	err := s.busy(ctx, func() error {
		return do(ctx, fmt.Sprintf("CREATE DATABASE %s TEMPLATE %s OWNER %s%s", ident(work), ident(from), ident(s.owner(e.Facts)), strategy))
	})
	if err == nil {
		err = s.bring(ctx, work, engine.Entry{ID: from, Kind: engine.Copy, Facts: e.Facts})
	}
	return err
}

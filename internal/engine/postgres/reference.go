package postgres

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
)

// A start state's rows are read from its reference: a copy of it that all runs of all
// machines share, as nobody can connect to a template itself, and one that somebody is
// connected to cannot be copied. It is made at the first need, no role but a superuser's
// can connect to it, and it goes with what it is a copy of.

// referenceID is the name of the reference of a template or snapshot.
func referenceID(start string) string {
	return engine.Reference.Prefix() + start[strings.LastIndex(start, "_")+1:]
}

// referenceTries is how often a reference is looked for that others drop meanwhile.
const referenceTries = 5

// dialReference opens a session on the reference of a start state.
func (s *server) dialReference(ctx context.Context, start string) (conn *pgx.Conn, err error) {
	for range referenceTries {
		e, err := s.Find(ctx, start)
		if err != nil {
			return nil, err
		}
		id, err := s.reference(ctx, e)
		if errors.Is(err, engine.ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("making a copy to read from: %w", err)
		}
		config := s.ownSettings(id)
		config.RuntimeParams["default_transaction_read_only"] = "on"
		conn, err = s.dialRetrying(ctx, config)
		if err == nil && !s.isSuperuser { // values go from here as texts
			if _, err = conn.Exec(ctx, writtenAlike); err != nil {
				conn.Close(ctx)
			}
		}
		if pg.State(err) != pg.InvalidCatalog {
			return conn, err
		}
	}
	return nil, fmt.Errorf("opening what rows are read from: %w", engine.ErrNotFound)
}

// reference makes that of a start state, or finds it there.
func (s *server) reference(ctx context.Context, start engine.Entry) (id string, err error) {
	id = referenceID(start.ID)
	whole := func() bool {
		e, err := s.Find(ctx, id)
		return err == nil && !e.Bad && e.Facts.Of == start.ID && privateOf(e.Facts).Source.Equal(start.Facts.Made)
	}
	if whole() {
		return id, nil
	}
	unlock, err := s.Lock(ctx, id, nil)
	if err != nil {
		return "", err
	}
	defer unlock()
	if whole() {
		return id, nil
	}
	if err := s.Drop(ctx, id); err != nil {
		return "", err
	}
	facts := start.Facts
	facts.Of, facts.Made, facts.Owner, facts.Baseline = start.ID, time.Now().UTC(), engine.Owner{}, nil
	changePrivate(&facts, func(p *private) { *p = private{Carry: p.Carry, Source: start.Facts.Made} })
	err = s.createAndPublish(ctx, id, facts, func(work string) error { return s.duplicate(ctx, start, work, facts) })
	if pg.State(err) == pg.InvalidCatalog {
		return "", engine.ErrNotFound
	}
	return id, err
}

// dropReference drops the reference of a start state.
func (s *server) dropReference(ctx context.Context, start string) error {
	return s.Drop(ctx, referenceID(start))
}

// isOrphan reports whether an entry is a reference of what is not there any more.
func (s *server) isOrphan(ctx context.Context, e engine.Entry) bool {
	if e.Kind != engine.Reference {
		return false
	}
	start, err := s.Find(ctx, e.Facts.Of)
	return errors.Is(err, engine.ErrNotFound) ||
		err == nil && !e.Bad && !privateOf(e.Facts).Source.Equal(start.Facts.Made)
}

// referenceLimit is how many sessions may be connected to a reference: superusers, whom no
// limit holds, and nobody else; any where Hemzo's role is none.
func (s *server) referenceLimit() int32 {
	if s.isSuperuser {
		return 0
	}
	return -1
}

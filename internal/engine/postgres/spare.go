package postgres

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
)

// spare is a copy that was made beforehand, to be put in the place of another.
type spare struct {
	work  string // what it is called meanwhile; "" where there is none
	free  func() // ends the lock that tells that somebody needs it
	ended func(context.Context)
	of    string // the copy that its facts are for
	same  string // the statement of same for that copy as it was then, prepared
}

// unlock tells that nobody needs the spare under its name of work any more.
func (made spare) unlock(ctx context.Context) {
	if made.free != nil {
		made.free()
	}
	if made.ended != nil {
		made.ended(ctx)
	}
}

// reserve takes a name of work, and the lock that keeps it.
func (s *server) reserve(ctx context.Context) (spare, error) {
	work := engine.NewID(engine.Work)
	free, err := s.Lock(ctx, work, nil)
	if err != nil {
		return spare{}, err
	}
	return spare{work: work, free: free}, nil
}

// prepareSpare makes the copy that is put in the place of a copy of a start state by
// the next replacement. It goes with this process. Of several that ask at once
// one makes it.
func (s *server) prepareSpare(ctx context.Context, from, id string) error {
	same, err := s.same(ctx, id)
	if err != nil {
		return err
	}
	e, err := s.Find(ctx, id)
	if err != nil {
		return err
	}
	start, err := s.Find(ctx, from)
	if err != nil {
		return err
	}
	key := spareFor(from, s.owner(e.Facts))
	if mine, err := s.claimSpare(ctx, key); err != nil || !mine {
		return err
	}
	made, err := s.reserve(ctx)
	if err == nil {
		err = s.prepared(ctx, &made, start, e, same)
	}
	if err != nil {
		last := context.WithoutCancel(ctx)
		if made.work != "" {
			_ = s.Drop(last, made.work)
		}
		made.unlock(last)
		made = spare{}
	}
	s.placeSpare(key, made)
	return err
}

// prepared makes a spare for a copy.
func (s *server) prepared(ctx context.Context, made *spare, start, e engine.Entry, same string) error {
	if err := s.copyForReplacement(ctx, start, made.work, e); err != nil {
		return err
	}
	made.ended = func(ctx context.Context) { _ = s.exec(ctx, "DEALLOCATE "+pg.Ident(made.work)) }
	// The check would take as long as the renames, were it planned with them: that
	// is done here, by the EXPLAIN. In another session there is no such statement,
	// and the replacement goes the longer way.
	made.of, made.same = e.ID, "EXECUTE "+pg.Ident(made.work)
	return s.exec(ctx, fmt.Sprintf("PREPARE %s AS %s; EXPLAIN EXECUTE %s", pg.Ident(made.work), same,
		pg.Ident(made.work)))
}

func spareFor(from, owner string) string { return from + " " + owner }

// same returns a statement that fails with 22012 unless nobody is connected to
// a database, and unless it and its facts are as they are now.
func (s *server) same(ctx context.Context, id string) (sql string, err error) {
	where, row := "pg_db_role_setting WHERE setdatabase = (SELECT oid FROM pg_database WHERE datname = %s) AND "+
		"setrole = (SELECT oid FROM pg_roles WHERE rolname = current_user)", [2]uint32{}
	if !s.hasOwnerRoles() {
		where = "pg_shdescription WHERE objoid = (SELECT oid FROM pg_database WHERE datname = %s) AND classoid = " +
			"'pg_database'::regclass"
	}
	where = fmt.Sprintf(where, pg.Literal(id))
	err = s.readRetrying(ctx, func(ctx context.Context, conn *pgx.Conn) error {
		return conn.QueryRow(ctx, "SELECT (SELECT oid FROM pg_database WHERE datname = "+pg.Literal(id)+"), xmin FROM "+
			where).Scan(&row[0], &row[1])
	})
	return fmt.Sprintf("SELECT 1 / count(*) FROM %s AND xmin = '%d'::xid AND pg_stat_get_db_numbackends(%d) = 0", where,
		row[1], row[0]), err
}

// claimSpare reports whether there is no spare for a key, nor one being made:
// then the caller makes it, and calls placeSpare.
func (s *server) claimSpare(ctx context.Context, key string) (bool, error) {
	if err := s.spareTurn.Take(ctx); err != nil {
		return false, err
	}
	defer s.spareTurn.Give()
	if _, there := s.spares[key]; there || s.closed {
		return false, nil
	}
	if s.spares == nil {
		s.spares = map[string]spare{}
	}
	s.spares[key] = spare{}
	return true, nil
}

// placeSpare puts a spare where it was claimed; one that could not be made, or
// that nobody will ask for any more, leaves nothing there.
func (s *server) placeSpare(key string, made spare) {
	ctx := context.Background()
	_ = s.spareTurn.Take(ctx)
	closed := s.closed
	if made.work == "" || closed {
		delete(s.spares, key)
	} else {
		s.spares[key] = made
	}
	s.spareTurn.Give()
	if closed && made.work != "" {
		_ = s.Drop(ctx, made.work)
		made.unlock(ctx)
	}
}

// takeSpare returns a copy that was made beforehand; one without a name where
// there is none.
func (s *server) takeSpare(ctx context.Context, from, owner string) (spare, error) {
	if err := s.spareTurn.Take(ctx); err != nil {
		return spare{}, err
	}
	defer s.spareTurn.Give()
	key := spareFor(from, owner)
	made := s.spares[key]
	if made.work != "" { // else one may be under way
		delete(s.spares, key)
	}
	return made, nil
}

// dropSpares drops what prepareSpare has made.
func (s *server) dropSpares(ctx context.Context) {
	if s.spareTurn.Take(ctx) != nil {
		return
	}
	s.closed = true
	spares := s.spares
	s.spares = nil
	s.spareTurn.Give()
	for _, made := range spares {
		if made.work != "" {
			_ = s.Drop(ctx, made.work)
			made.unlock(ctx)
		}
	}
}

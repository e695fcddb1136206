package postgres

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
)

// twin opens a copy of a start state from which rows are read: nobody can
// connect to a template itself. It is made at the first need, and goes with
// this process.
func (s *server) twin(ctx context.Context, start string) (*pgx.Conn, error) {
	s.twins.Lock()
	defer s.twins.Unlock()
	if id := s.twinOf[start]; id != "" {
		if conn, err := s.dial(ctx, id, ""); err == nil {
			return conn, nil
		}
		delete(s.twinOf, start)
	}
	lock, _, err := s.Own(ctx)
	if err != nil {
		return nil, err
	}
	e, err := s.Find(ctx, start)
	if err != nil {
		return nil, err
	}
	id := engine.NewID(engine.Work)
	facts := e.Facts
	facts.Owner, facts.Baseline = engine.Owner{Lock: lock}, nil
	if err := s.Copy(ctx, start, id, facts); err != nil {
		return nil, fmt.Errorf("making a copy to read from: %w", err)
	}
	if s.twinOf == nil {
		s.twinOf = map[string]string{}
	}
	s.twinOf[start] = id
	return s.dial(ctx, id, "")
}

// spare is a copy that was made beforehand, to be put in the place of another.
type spare struct {
	work   string // what it is called meanwhile
	unlock func() // ends the lock that tells that somebody needs it
	of     string // the copy that its facts are for
	same   string // the statement of same for that copy as it was then, prepared
}

// prepare makes the copy that is put in the place of a copy of a start state by
// the next replacement. It goes with this process.
func (s *server) prepare(ctx context.Context, from, id string) error {
	same, err := s.same(ctx, id)
	if err != nil {
		return err
	}
	e, err := s.Find(ctx, id)
	if err != nil {
		return err
	}
	key := spareFor(from, s.owner(e.Facts))
	s.twins.Lock()
	_, there := s.spares[key]
	s.twins.Unlock()
	if there {
		return nil
	}
	work := engine.NewID(engine.Work)
	free, err := s.Lock(ctx, work, nil)
	if err != nil {
		return err
	}
	unlock := func() {
		free()
		_ = s.do(context.WithoutCancel(ctx), "DEALLOCATE "+ident(work))
	}
	text, err := comment(work, replaced(e.Facts, from))
	if err == nil {
		err = s.fresh(ctx, from, work, e, s.aside)
	}
	if err == nil {
		// The check would take as long as the renames, were it planned with them: that
		// is done here, by the EXPLAIN. In another session there is no such statement,
		// and the replacement goes the longer way.
		err = s.do(ctx, fmt.Sprintf("%s; PREPARE %s AS %s; EXPLAIN EXECUTE %s", text, ident(work), same, ident(work)))
	}
	if err != nil {
		unlock()
		return err
	}
	s.twins.Lock()
	defer s.twins.Unlock()
	if s.spares == nil {
		s.spares = map[string]spare{}
	}
	s.spares[key] = spare{work: work, unlock: unlock, of: id, same: "EXECUTE " + ident(work)}
	return nil
}

func spareFor(from, owner string) string { return from + " " + owner }

// same returns a statement that fails with 22012 unless nobody is connected to
// a database, and unless it and its facts are as they are now.
func (s *server) same(ctx context.Context, id string) (sql string, err error) {
	var oid, row uint32
	err = s.ask(ctx, func(conn *pgx.Conn) error {
		return conn.QueryRow(ctx, "SELECT d.oid, c.xmin FROM pg_database d JOIN pg_shdescription c ON c.objoid = d.oid AND c.classoid = 'pg_database'::regclass WHERE d.datname = $1", id).Scan(&oid, &row)
	})
	return fmt.Sprintf("SELECT 1 / count(*) FROM pg_shdescription WHERE objoid = (SELECT oid FROM pg_database WHERE datname = %s) AND classoid = 'pg_database'::regclass AND xmin = '%d'::xid AND pg_stat_get_db_numbackends(%d) = 0", literal(id), row, oid), err
}

// takeSpare returns a copy that was made beforehand; one without a name where
// there is none.
func (s *server) takeSpare(from, owner string) spare {
	s.twins.Lock()
	defer s.twins.Unlock()
	key := spareFor(from, owner)
	made := s.spares[key]
	delete(s.spares, key)
	return made
}

// dropTwins drops what twin and prepare have made.
func (s *server) dropTwins(ctx context.Context) {
	s.twins.Lock()
	defer s.twins.Unlock()
	for _, id := range s.twinOf {
		_ = s.Drop(ctx, id)
	}
	for _, made := range s.spares {
		_ = s.Drop(ctx, made.work)
		made.unlock()
	}
	s.twinOf, s.spares = nil, nil
}

package postgres

import (
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/fault"
)

// The size is the one noted when a database was made: asking for it reads
// the folder, file by file. Whose setting is believed: that of this role, where
// it is not the tests' too, else of a superuser, or of another administrator;
// a comment is, where the owner may make databases and is no superuser.
//
//go:embed sql/entries.sql
var entriesSQL string

// Where facts lie: in a setting of Hemzo's role in the database that they
// describe (ALTER ROLE ... IN DATABASE ... SET), which only that role and a
// superuser can write, and which goes with the database. A superuser may use
// a name of its own for it; others have to take a setting that exists, and
// Hemzo's sessions say their application's name themselves. Where Hemzo's role
// is the one that tests log in as, nothing is out of their reach, and the
// setting would be theirs too: there facts are the database's comment.
const (
	factsSetting = "hemzo.facts"
	plainSetting = "application_name"
)

// invalid is the connection limit of a database whose DROP was interrupted
// (DATCONNLIMIT_INVALID_DB in PostgreSQL's catalog/pg_database.h).
const invalid = -2

// workLimit is the connection limit that marks a database as work of Hemzo's:
// a number that its name gives. It is there from the statement on that makes
// the database, which can bear no other mark.
func workLimit(id string) int32 { return 1_000_000_000 + int32(uint64(key(id))%1_000_000_000) }

// listed is a database as the server lists it.
type listed struct {
	Name, Text string
	Limit      int32
}

func (s *server) listed(ctx context.Context, which wanted) (all []listed, err error) {
	err = s.readRetrying(ctx, func(ctx context.Context, conn *pgx.Conn) error {
		// Planning it takes longer than running it: the session keeps the plan, one for all.
		rows, err := conn.Query(ctx, fmt.Sprintf(entriesSQL, s.hasOwnerRoles()), pgx.QueryExecModeCacheStatement,
			which.id, which.like, which.broken)
		if err == nil {
			all, err = pgx.CollectRows(rows, pgx.RowToStructByPos[listed])
		}
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("listing the databases: %w", err)
	}
	return all, nil
}

// wanted is which databases are listed.
type wanted struct {
	id     string   // that one alone, where it is not ""
	like   []string // those that are like one of these; nil for all
	broken bool     // and those that an interrupted DROP has left
}

// entries lists what bears Hemzo's mark. What an interrupted DROP has left is
// not among it: nobody can use it any more.
func (s *server) entries(ctx context.Context, which wanted) ([]engine.Entry, error) {
	found, err := s.listed(ctx, which)
	if err != nil {
		return nil, err
	}
	var all []engine.Entry
	for _, r := range found {
		if e, ours := s.entry(ctx, r); ours && r.Limit != invalid {
			all = append(all, e)
		}
	}
	return all, nil
}

// entry reads what the server lists; false where it is not Hemzo's: a name
// alone is no mark, but on a server that is Hemzo's own.
func (s *server) entry(ctx context.Context, r listed) (e engine.Entry, ours bool) {
	e.ID = r.Name
	if e.Kind, ours = engine.KindOf(e.ID); !ours {
		return e, false
	}
	e.Facts, e.Bad = s.facts(r.Name, r.Text)
	if e.Bad && e.Kind != engine.Work && r.Limit != invalid {
		e = s.recalled(ctx, e)
	}
	e.Newer = e.Facts.Format > engine.Format
	e.Size = e.Facts.Size
	if e.Kind == engine.Work {
		return e, !e.Bad || r.Limit == workLimit(e.ID) || r.Limit == invalid || s.private
	}
	return e, !e.Bad || s.private
}

// hasOwnerRoles reports whether Hemzo's role is another than that of the tests.
func (s *server) hasOwnerRoles() bool { return s.isSuperuser || s.roles }

// recalled puts facts back that somebody has overwritten, where this process
// has read or written them: that can be where tests log in as Hemzo's role.
func (s *server) recalled(ctx context.Context, e engine.Entry) engine.Entry {
	s.reads.Lock()
	last, known := s.read[e.ID]
	s.reads.Unlock()
	if !known {
		return e
	}
	if sql, err := s.noting(e.ID, last.facts); err == nil && s.exec(ctx, sql) == nil {
		e.Facts, e.Bad = last.facts, false
		if s.patience.Say != nil {
			s.patience.Say(fmt.Sprintf("%s: somebody has overwritten what Hemzo notes of this copy (the database's "+
				"comment); it was put back", last.facts.Name))
		}
	}
	return e
}

// facts reads those of a database, once as long as they stay the same.
func (s *server) facts(id, text string) (f engine.Facts, bad bool) {
	s.reads.Lock()
	defer s.reads.Unlock()
	if last := s.read[id]; last.text == text && text != "" {
		return last.facts, false
	}
	if json.Unmarshal([]byte(text), &f) != nil || !f.Sound() {
		return f, true
	}
	if s.read == nil || len(s.read) > 1000 {
		s.read = map[string]readFacts{}
	}
	s.read[id] = readFacts{text, f}
	return f, false
}

// readFacts are facts with the text that they were read from.
type readFacts struct {
	text  string
	facts engine.Facts
}

// List returns all of some kinds, or of every one.
func (s *server) List(ctx context.Context, kinds ...engine.Kind) ([]engine.Entry, error) {
	var which wanted
	for _, k := range kinds {
		which.like = append(which.like, strings.ReplaceAll(k.Prefix(), "_", `\_`)+"%")
	}
	return s.entries(ctx, which)
}

// Find returns one. What an interrupted DROP has left is dropped: it is to be
// made anew, and its name is wanted.
func (s *server) Find(ctx context.Context, id string) (engine.Entry, error) {
	e, broken, err := s.find(ctx, id)
	if broken {
		err = errors.Join(s.Drop(ctx, id), err)
	}
	return e, err
}

// find is Find for those that hold the lock of its facts; broken is true of what
// nobody can use any more.
func (s *server) find(ctx context.Context, id string) (e engine.Entry, broken bool, err error) {
	found, err := s.listed(ctx, wanted{id: id})
	if err != nil {
		return e, false, err
	}
	if len(found) == 0 {
		return e, false, engine.ErrNotFound
	}
	e, ours := s.entry(ctx, found[0])
	if broken = ours && found[0].Limit == invalid; broken || !ours {
		return engine.Entry{}, broken, engine.ErrNotFound
	}
	return e, false, nil
}

// Note changes the facts of one.
func (s *server) UpdateFacts(ctx context.Context, id string, change func(*engine.Facts)) error {
	unlock, err := s.Lock(ctx, "facts "+id, nil)
	if err != nil {
		return err
	}
	defer unlock()
	e, _, err := s.find(ctx, id)
	if err != nil {
		return err
	}
	facts, err := e.Change(change)
	if err != nil {
		return err
	}
	sql, err := s.noting(id, facts)
	if err == nil {
		err = s.exec(ctx, sql)
	}
	if goneMeanwhile(err) {
		return engine.ErrNotFound
	}
	return err
}

// goneMeanwhile reports whether an error says that what a statement names was
// dropped by somebody else while it ran.
func goneMeanwhile(err error) bool {
	state := pg.State(err)
	return state == pg.InvalidCatalog || state == pg.UndefinedObject || state == pg.InternalError &&
		strings.Contains(pg.Message(err), "tuple concurrently deleted")
}

// noting is the statement that writes facts.
func (s *server) noting(id string, f engine.Facts) (string, error) {
	b, err := json.Marshal(f)
	if err != nil {
		return "", fmt.Errorf("writing the facts of %s: %w", id, err)
	}
	name := plainSetting
	switch {
	case !s.hasOwnerRoles():
		return fmt.Sprintf("COMMENT ON DATABASE %s IS %s", pg.Ident(id), pg.Literal(string(b))), nil
	case s.isSuperuser:
		name = factsSetting
	}
	return fmt.Sprintf("ALTER ROLE CURRENT_USER IN DATABASE %s SET %s TO %s", pg.Ident(id), name,
		pg.Literal(string(b))), nil
}

// errForeign says that a name is taken by what Hemzo did not make.
func errForeign(what, name, next string) error {
	return fault.New(fault.Refused, next, "there is a %s %s that Hemzo did not make", what, name)
}

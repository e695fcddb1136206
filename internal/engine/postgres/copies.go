package postgres

import (
	"context"
	"fmt"
	"path/filepath"
	"time"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
	"hemzo/internal/engine/launch"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/fault"
)

// noLogin are the options of a role that sources mention.
const noLogin = "NOLOGIN"

func (s *server) Create(ctx context.Context, id string, spec engine.Spec, facts engine.Facts) error {
	s.takeInherited(id)
	if err := s.ensureOwner(ctx, facts); err != nil {
		return fmt.Errorf("making the owner's role: %w", err)
	}
	for _, name := range spec.Roles {
		if err := s.makeRole(ctx, name, noLogin); err != nil {
			return fmt.Errorf("making the role %s: %w", name, err)
		}
	}
	return s.createAndPublish(ctx, id, facts, func(work string) error {
		err := s.execInBackground(ctx, fmt.Sprintf(
			"CREATE DATABASE %s TEMPLATE template0 OWNER %s ENCODING %s LOCALE %s CONNECTION LIMIT %d",
			pg.Ident(work), pg.Ident(s.owner(facts)), pg.Literal(spec.Encoding), pg.Literal(spec.Locale),
			workLimit(work)))
		if err != nil || len(spec.Extensions) == 0 {
			return err
		}
		conn, err := s.dial(ctx, work, s.config.User) // extensions go where objects of users' go
		if err != nil {
			return err
		}
		defer conn.Close(ctx)
		for _, x := range spec.Extensions {
			if _, err := conn.Exec(ctx, "CREATE EXTENSION "+pg.Ident(x)); err != nil {
				e := fault.New(fault.Lacking, "install it on the server, or leave it out of extensions:",
					"the extension %s cannot be made", x)
				e.Said, e.Reason = pg.Message(err), err
				return e
			}
		}
		return nil
	})
}

// From these sizes on copying files beats writing a log. On a server of others it forces
// checkpoints, which all wait for.
const (
	strategyLimit       = 1 << 20
	strategyLimitShared = 200 << 20
)

func (s *server) Copy(ctx context.Context, from, to string, facts engine.Facts) error {
	e, err := s.Find(ctx, from)
	if err != nil {
		return err
	}
	if err := s.ensureOwner(ctx, facts); err != nil {
		return fmt.Errorf("making the owner's role: %w", err)
	}
	if login := s.login(to, facts); login == ownLogin(to) {
		// From here until the copy is there the login is nobody's to clear away.
		unlock, err := s.Lock(ctx, "login "+login, nil)
		if err != nil {
			return err
		}
		defer unlock()
	}
	if err := s.ensureLogin(ctx, to, facts); err != nil {
		return err
	}
	if facts.Size = e.Size; e.Kind != engine.Template {
		if facts.Size, err = s.queryInt(ctx, "SELECT pg_database_size($1::name)", from); err != nil {
			return fmt.Errorf("copying %s: %w", from, err)
		}
	}
	if s.socket != "" {
		if err := launch.RoomFor(filepath.Join(s.socket, "data"), facts.Size, "copying "+from); err != nil {
			return err
		}
	}
	carry, err := s.carriedFrom(ctx, e, to)
	if err != nil {
		return err
	}
	changePrivate(&facts, func(p *private) { p.Carry, p.Source = carry, e.Facts.Made })
	err = s.createAndPublish(ctx, to, facts, func(work string) error { return s.duplicate(ctx, e, work, facts) })
	if pg.State(err) == pg.InvalidCatalog {
		return engine.ErrNotFound
	}
	if kind, _ := engine.KindOf(to); err == nil && kind == engine.Work {
		s.rememberInherited(to, e)
	}
	return s.explainDiskFull(err, "copying "+from)
}

// duplicate makes a copy of a database, with the owner that facts name, under
// a name of work.
func (s *server) duplicate(ctx context.Context, from engine.Entry, work string, facts engine.Facts) error {
	strategy := ""
	if s.fileCopies(facts.Size) {
		strategy = " STRATEGY file_copy"
	}
	err := s.retryWhileInUse(ctx, func() error {
		return s.execInBackground(ctx, fmt.Sprintf("CREATE DATABASE %s TEMPLATE %s OWNER %s CONNECTION LIMIT %d%s",
			pg.Ident(work),
			pg.Ident(from.ID), pg.Ident(s.owner(facts)), workLimit(work), strategy))
	})
	if err != nil {
		return err
	}
	return s.applyCarry(ctx, work, from, facts)
}

// fileCopies reports whether a database of a size is best copied file by file.
func (s *server) fileCopies(size int64) bool {
	limit := int64(strategyLimit)
	if !s.private {
		limit = strategyLimitShared
	}
	return size > limit && atLeast(s.about.Version, 15)
}

// createAndPublish makes a database under a name of work, then gives it its own name and
// its facts in one transaction. While it is work a lock of its name tells
// that somebody is at it.
func (s *server) createAndPublish(ctx context.Context, id string, facts engine.Facts,
	create func(work string) error) error {
	work := engine.NewID(engine.Work)
	unlock, err := s.Lock(ctx, work, nil)
	if err != nil {
		return err
	}
	defer unlock()
	if err = create(work); err == nil {
		err = s.publish(ctx, work, id, facts)
	}
	if err != nil {
		_ = s.dropDatabase(context.WithoutCancel(ctx), work)
	}
	return err
}

// publish gives a database its final publish and its facts. Templates and snapshots
// become Hemzo's own role's: no test can open, change or drop them.
func (s *server) publish(ctx context.Context, from, to string, facts engine.Facts) error {
	kind, _ := engine.KindOf(to)
	sql := ""
	switch kind {
	case engine.Template, engine.Kept:
		sql = fmt.Sprintf("ALTER DATABASE %s ALLOW_CONNECTIONS false; ALTER DATABASE %s OWNER TO CURRENT_USER; ",
			pg.Ident(from), pg.Ident(from))
	case engine.Reference:
		// Its tables are the tests' role's, which is not to come in and write to them.
		sql = fmt.Sprintf("ALTER DATABASE %s OWNER TO CURRENT_USER; REVOKE ALL ON DATABASE %s FROM PUBLIC; "+
			"ALTER DATABASE %s CONNECTION LIMIT %d; ", pg.Ident(from), pg.Ident(from), pg.Ident(from), s.referenceLimit())
	}
	if kind != engine.Work && kind != engine.Reference {
		sql += fmt.Sprintf("ALTER DATABASE %s CONNECTION LIMIT %d; ", pg.Ident(from), limitOf(privateOf(facts).Carry))
	}
	sql += fmt.Sprintf("ALTER DATABASE %s RENAME TO %s", pg.Ident(from), pg.Ident(to))
	if kind == engine.Work {
		sql += fmt.Sprintf("; ALTER DATABASE %s CONNECTION LIMIT %d", pg.Ident(to), workLimit(to))
	}
	err := s.retryWhileInUse(ctx, func() error {
		return s.inBackground(ctx, func(ctx context.Context, conn *pgx.Conn) error {
			err := s.publishIn(ctx, conn, from, kind, facts, sql)
			if err != nil && !conn.IsClosed() {
				_, _ = conn.Exec(context.WithoutCancel(ctx), "ROLLBACK")
			}
			return err
		})
	})
	if pg.State(err) == pg.DuplicateDatabase {
		if e, failed := s.Find(ctx, to); failed == nil && !e.Bad {
			return s.execInBackground(ctx, "DROP DATABASE "+pg.Ident(from)) // made by another meanwhile
		}
		return errForeign("database", to, "rename or drop it yourself")
	}
	return err
}

// publishIn writes the facts and runs what gives the name, in one transaction.
func (s *server) publishIn(ctx context.Context, conn *pgx.Conn, from string, kind engine.Kind, facts engine.Facts,
	sql string) error {
	if _, err := conn.Exec(ctx, "BEGIN"); err != nil {
		return err
	}
	birth := ""
	if kind == engine.Copy {
		if err := conn.QueryRow(ctx, "SELECT concat_ws(' ', pg_current_xact_id(), oid, "+
			"pg_current_wal_insert_lsn()) FROM pg_database WHERE datname = $1", from).Scan(&birth); err != nil {
			return err
		}
	}
	changePrivate(&facts, func(p *private) { p.Birth = birth })
	text, err := s.noting(from, facts)
	if err == nil {
		_, err = conn.Exec(ctx, text+"; "+sql+"; COMMIT")
	}
	return err
}

// retryWhileInUse tries again while the server says that somebody is connected: a
// session that has just ended is counted for a moment still.
func (s *server) retryWhileInUse(ctx context.Context, f func() error) error {
	end := time.Now().Add(2 * time.Second)
	for {
		err := f()
		if pg.State(err) != pg.ObjectInUse || time.Now().After(end) || ctx.Err() != nil {
			return err
		}
		select {
		case <-ctx.Done():
		case <-time.After(5 * time.Millisecond):
		}
	}
}

func (s *server) Rename(ctx context.Context, from, to string, facts engine.Facts) error {
	size, err := s.queryInt(ctx, "SELECT pg_database_size($1::name)", from)
	if err != nil {
		return err
	}
	facts.Size = size
	if kind, _ := engine.KindOf(to); kind == engine.Template {
		carry, base, err := s.freezeTemplate(ctx, from)
		if err != nil {
			return err
		}
		facts.Baseline = base
		changePrivate(&facts, func(p *private) { p.Carry = carry })
	}
	return s.publish(ctx, from, to, facts)
}

// Drop removes one. Two that want the same gone both succeed: the second waits
// for the first, and finds nothing.
func (s *server) Drop(ctx context.Context, id string) error {
	kind, ok := engine.KindOf(id)
	if !ok {
		return fault.New(fault.Refused, "", "%s does not bear Hemzo's mark", id)
	}
	s.takeInherited(id)
	if kind == engine.Template || kind == engine.Kept {
		if err := s.dropReference(ctx, id); err != nil {
			return err
		}
	}
	unlock, err := s.Lock(ctx, "facts "+id, nil)
	if err != nil {
		return err
	}
	defer unlock()
	found, err := s.listed(ctx, wanted{id: id})
	if err != nil {
		return err
	}
	login := true
	if len(found) > 0 {
		e, ours := s.entry(ctx, found[0])
		if !ours {
			return nil // a name alone
		}
		login = e.Bad || e.Facts.Role == "own"
		_ = s.endSessions(ctx, id) // whose role may not is told by the statement itself
		err = s.dropDatabase(ctx, id)
	}
	if pg.State(err) == pg.InsufficientPrivilege {
		return fault.New(fault.Refused, "drop it as the role that made it", "%s belongs to another role", id)
	}
	if err != nil && !goneMeanwhile(err) {
		return fmt.Errorf("dropping %s: %w", id, err)
	}
	if kind != engine.Copy || !s.roles || !login {
		return nil
	}
	if err := s.dropLogin(ctx, ownLogin(id)); err != nil {
		return fmt.Errorf("dropping the login of %s: %w", id, err)
	}
	return nil
}

// dropDatabase drops one with the sessions in it. A role that is no superuser is refused
// that where autovacuum works there, which the server itself ends for one that is free of
// others.
func (s *server) dropDatabase(ctx context.Context, id string) error {
	drop := "DROP DATABASE IF EXISTS " + pg.Ident(id)
	err := s.execInBackground(ctx, drop+" WITH (FORCE)")
	if pg.State(err) != pg.InsufficientPrivilege || s.isSuperuser {
		return err
	}
	if again := s.execInBackground(ctx, drop); pg.State(again) != pg.ObjectInUse {
		return again
	}
	return err
}

// Clear removes databases of work whose maker is gone, references of what is gone, what
// interrupted drops have left, and logins of copies that are gone.
func (s *server) Clear(ctx context.Context) error {
	found, err := s.listed(ctx, wanted{like: []string{`hemzo\_w%`, `hemzo\_r%`}, broken: true})
	if err != nil {
		return err
	}
	for _, r := range found {
		e, ours := s.entry(ctx, r)
		if e.Kind == engine.Reference && r.Limit != invalid && !s.isOrphan(ctx, e) {
			continue
		}
		if !ours || e.Newer || s.Owned(ctx, e.ID) || e.Kind == engine.Work && e.Facts.Owner.Lock != "" &&
			s.Owned(ctx, e.Facts.Owner.Lock) {
			continue
		}
		if err := s.Drop(ctx, e.ID); err != nil && fault.KindOf(err) != fault.Refused {
			return err
		}
	}
	return s.clearLogins(ctx)
}

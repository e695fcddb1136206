package postgres

import (
	"context"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/fault"
)

// Names of roles. No database of a project file has a name that begins with an
// underscore, so none of these is the owner of one.
const (
	superRole  = "hemzo__super"  // owns what tests want to own as superuser
	secretRole = "hemzo__secret" // nobody's: its verifier is what passwords are derived from
	ownPrefix  = "hemzo__u_"     // begins the names of logins that belong to one copy
	handPrefix = "hemzo__h_"     // of those that put rows back for an owner
)

// roleMark is the comment of roles that Hemzo made. Behind it may stand what
// tells a password that was derived from another secret.
const roleMark = "made by Hemzo"

// ownerOf is the role that owns everything of a database of the project file.
func ownerOf(database, role string) string {
	if role == "superuser" {
		return superRole
	}
	name := "hemzo_" + strings.ReplaceAll(database, "-", "_")
	if len(name) > 52 { // the server cuts off what is longer than 63 bytes, with a prefix
		sum := sha256.Sum256([]byte(name))
		name = name[:43] + "_" + hex.EncodeToString(sum[:4])
	}
	return name
}

// owner is the role that owns everything of a database: one for each database
// of the project file, or the connection's where that may make none.
func (s *server) owner(f engine.Facts) string {
	if !s.roles {
		return s.config.User
	}
	return ownerOf(f.Database, f.Role)
}

// login is the role that tests connect as.
func (s *server) login(id string, f engine.Facts) string {
	kind, _ := engine.KindOf(id)
	switch f.Role {
	case "", "owner", "superuser":
	case "own":
		if kind == engine.Copy && s.roles {
			return ownLogin(id)
		}
	default:
		if kind == engine.Copy {
			return f.Role
		}
	}
	return s.owner(f)
}

// ownLogin is the login that belongs to one copy.
func ownLogin(id string) string { return ownPrefix + strings.TrimPrefix(id, "hemzo_c_") }

// restoreRole is the role whose sessions put rows back for an owner, with no more
// rights than the owner has: functions of the tests' run in them.
func restoreRole(owner string) string { return handPrefix + strings.TrimPrefix(owner, "hemzo_") }

// password is that of a role of Hemzo's.
func (s *server) password(role string) string {
	if role == s.config.User {
		return s.config.Password
	}
	s.keys.Lock()
	defer s.keys.Unlock()
	return derived(s.key, role)
}

// keyMark tells, without giving it away, from which secret passwords were
// derived; "" where they are set at each start.
func (s *server) keyMark() string {
	if s.private {
		return ""
	}
	s.keys.Lock()
	sum := sha256.Sum256([]byte("mark " + s.key))
	s.keys.Unlock()
	mark := ", key " + hex.EncodeToString(sum[:4])
	if !s.isSuperuser {
		mark += " of " + s.config.User
	}
	return mark
}

// fromPassword is the secret of a server whose administrator is no superuser:
// every machine that knows the URL has it. It takes long to guess from what
// tests are given.
func fromPassword(password string) (string, error) {
	b, err := pbkdf2.Key(sha256.New, password, []byte("hemzo"), 4096, sha256.Size)
	return hex.EncodeToString(b), err
}

// findKey finds what passwords are derived from on a server that is there
// already. Without any secret no login with rights is made: Hemzo's own role is
// owner and login then.
func (s *server) findKey(ctx context.Context) (err error) {
	switch {
	case s.isSuperuser:
		s.key, err = s.storedKey(ctx)
	case s.config.Password != "":
		s.key, err = fromPassword(s.config.Password)
	case s.roles:
		s.roles = false
		s.about.Notes = append(s.about.Notes, "the url: has no password from which those of logins could be derived: "+
			s.config.User+" is owner and login itself")
	}
	return err
}

// storedKey reads the secret that superusers share; "" where there is none yet.
func (s *server) storedKey(ctx context.Context) (string, error) {
	var secret, mark string
	err := s.readRetrying(ctx, func(ctx context.Context, conn *pgx.Conn) error {
		return conn.QueryRow(ctx, "SELECT coalesce(rolpassword, ''), coalesce(shobj_description(oid, 'pg_authid'), "+
			"'') FROM pg_authid WHERE rolname = $1", secretRole).Scan(&secret, &mark)
	})
	switch {
	case errors.Is(err, pgx.ErrNoRows):
		return "", nil
	case err != nil:
		return "", fmt.Errorf("reading the secret of this server: %w", err)
	case !strings.HasPrefix(mark, roleMark) || secret == "":
		return "", errForeign("role", secretRole, "rename or drop it yourself")
	}
	return secret, nil
}

// makeKey makes the secret where there is none yet: the verifier of a password
// that nobody knows, of a role that cannot log in. Only superusers read it.
func (s *server) makeKey(ctx context.Context) error {
	s.keys.Lock()
	known := s.key != ""
	s.keys.Unlock()
	if known {
		return nil
	}
	unlock, err := s.Lock(ctx, "role "+secretRole, nil)
	if err != nil {
		return err
	}
	defer unlock()
	key, err := s.storedKey(ctx)
	if err == nil && key == "" {
		verifier, failed := scram(rand.Text())
		if failed != nil {
			return failed
		}
		err = s.exec(ctx, fmt.Sprintf("CREATE ROLE %s NOLOGIN PASSWORD '%s'; COMMENT ON ROLE %s IS '%s'", secretRole,
			verifier, secretRole, roleMark+": the passwords of its roles are derived from this"))
		if err == nil {
			key, err = s.storedKey(ctx)
		}
	}
	s.keys.Lock()
	defer s.keys.Unlock()
	s.key = key
	return err
}

// ensureOwner makes the role that owns a database's objects, and the one that
// puts rows back for it.
func (s *server) ensureOwner(ctx context.Context, f engine.Facts) error {
	if f.Role == "superuser" && !s.isSuperuser {
		return fault.New(fault.Lacking, "use another role:, or a superuser's url:",
			"role: superuser needs a superuser, and %s is none", s.config.User)
	}
	if !s.roles {
		return nil
	}
	name := s.owner(f)
	if _, err := s.fits(ctx, name); err != nil {
		return err
	}
	if err := s.makeKey(ctx); err != nil {
		return err
	}
	options := ""
	if f.Role == "superuser" {
		options = " SUPERUSER"
	}
	after := ""
	if !s.isSuperuser { // to make databases for a role takes being a member of it
		after = "; GRANT " + pg.Ident(name) + " TO CURRENT_USER"
	}
	if err := s.ensureRole(ctx, name, options, after); err != nil || !s.isSuperuser || f.Role == "superuser" {
		return err
	}
	// What this role's sessions begin with is set by a superuser, and cannot be
	// had by the owner's own.
	return s.ensureRole(ctx, restoreRole(name), " BYPASSRLS IN ROLE "+pg.Ident(name),
		fmt.Sprintf("; ALTER ROLE %s SET session_replication_role = replica", pg.Ident(restoreRole(name))))
}

// ensureRole makes a login of Hemzo's with a derived password, or gives it the
// present one. One of that name which Hemzo did not make is refused.
func (s *server) ensureRole(ctx context.Context, name, options, after string) error {
	if ok, err := s.fits(ctx, name); err != nil || ok {
		return err
	}
	unlock, err := s.Lock(ctx, "role "+name, nil)
	if err != nil {
		return err
	}
	defer unlock()
	if ok, err := s.fits(ctx, name); err != nil || ok { // made meanwhile
		return err
	}
	_, there, err := s.markOf(ctx, name)
	if err != nil {
		return err
	}
	verifier, err := scram(s.password(name))
	if err != nil {
		return err
	}
	sql := fmt.Sprintf("CREATE ROLE %s LOGIN PASSWORD '%s'%s", pg.Ident(name), verifier, options)
	if there { // its administrator has another password now, or it is of an older Hemzo
		sql, after = fmt.Sprintf("ALTER ROLE %s LOGIN PASSWORD '%s'", pg.Ident(name), verifier), ""
	}
	if err := s.exec(ctx, fmt.Sprintf("%s%s; COMMENT ON ROLE %s IS %s", sql, after, pg.Ident(name),
		pg.Literal(roleMark+s.keyMark()))); err != nil {
		return err
	}
	s.noteSure(name)
	return nil
}

// fits reports whether a login of Hemzo's is there with the password that it
// is to have.
func (s *server) fits(ctx context.Context, name string) (bool, error) {
	if s.sure(name) {
		return true, nil
	}
	mark, there, err := s.markOf(ctx, name)
	switch {
	case err != nil || !there:
		return false, err
	case !strings.HasPrefix(mark, roleMark):
		return false, errForeign("role", name, "give the database another name in the project file, or rename the role")
	case s.private || mark == roleMark+s.keyMark():
		s.noteSure(name)
		return true, nil
	case !s.isSuperuser && !strings.HasSuffix(mark, " of "+s.config.User):
		return false, fault.New(fault.Refused, "use that administrator's url:, or give the database another name",
			"the role %s was made through another administrator than %s, and has a password that this one cannot know",
			name, s.config.User)
	}
	return false, nil
}

// sure reports whether a role was looked at already.
func (s *server) sure(name string) bool {
	s.keys.Lock()
	defer s.keys.Unlock()
	return s.ensured[name]
}

func (s *server) noteSure(name string) {
	s.keys.Lock()
	defer s.keys.Unlock()
	if s.ensured == nil {
		s.ensured = map[string]bool{}
	}
	s.ensured[name] = true
}

// markOf returns the comment of a role, and whether there is such a role.
func (s *server) markOf(ctx context.Context, name string) (mark string, there bool, err error) {
	err = s.readRetrying(ctx, func(ctx context.Context, conn *pgx.Conn) error {
		return conn.QueryRow(ctx, "SELECT coalesce(shobj_description(oid, 'pg_authid'), '') FROM pg_roles WHERE "+
			"rolname = $1", name).Scan(&mark)
	})
	if errors.Is(err, pgx.ErrNoRows) {
		return "", false, nil
	}
	return mark, err == nil, err
}

// ensureLogin makes the role that tests connect as, where it is not the owner.
func (s *server) ensureLogin(ctx context.Context, id string, f engine.Facts) error {
	name := s.login(id, f)
	if name == s.owner(f) {
		return nil
	}
	if f.Role != "own" {
		return s.enableLogin(ctx, name)
	}
	// What it makes is the owner's, as everything else.
	return s.ensureRole(ctx, name, " IN ROLE "+pg.Ident(s.owner(f)),
		fmt.Sprintf("; ALTER ROLE %s SET role = %s", pg.Ident(name), pg.Literal(s.owner(f))))
}

// enableLogin lets tests in as a role of the sources. One that Hemzo did not make
// keeps its password, which Hemzo does not know.
func (s *server) enableLogin(ctx context.Context, name string) error {
	mark, there, err := s.markOf(ctx, name)
	switch {
	case err != nil:
		return fmt.Errorf("looking for the role %s: %w", name, err)
	case !there:
		return fault.New(fault.Usage, "add it to  roles:  or make it in a migration",
			"role: %s names no role of the server", name)
	case !strings.HasPrefix(mark, roleMark):
		return fault.New(fault.Refused, "use  role: own, or a role that the sources make",
			"the role %s is not one that Hemzo made: its password is not to be changed", name)
	case s.sure("login " + name):
		return nil
	}
	unlock, err := s.Lock(ctx, "role "+name, nil)
	if err != nil {
		return err
	}
	defer unlock()
	n, err := s.queryInt(ctx, "SELECT count(*) FROM pg_roles WHERE rolname = $1 AND rolcanlogin AND "+
		"shobj_description(oid, 'pg_authid') = $2", name, roleMark+s.keyMark())
	if err == nil && n == 0 {
		var verifier string
		if verifier, err = scram(s.password(name)); err == nil {
			err = s.exec(ctx, fmt.Sprintf("ALTER ROLE %s LOGIN PASSWORD '%s'; COMMENT ON ROLE %s IS %s", pg.Ident(name),
				verifier, pg.Ident(name), pg.Literal(roleMark+s.keyMark())))
		}
	}
	if err == nil {
		s.noteSure("login " + name)
	}
	return err
}

// makeRole makes a role that sources mention, with Hemzo's mark and no login,
// unless there is one of that name.
func (s *server) makeRole(ctx context.Context, name, options string) error {
	if _, there, err := s.markOf(ctx, name); err != nil || there {
		return err
	}
	unlock, err := s.Lock(ctx, "role "+name, nil)
	if err != nil {
		return err
	}
	defer unlock()
	if _, there, err := s.markOf(ctx, name); err != nil || there {
		return err
	}
	err = s.exec(ctx, fmt.Sprintf("CREATE ROLE %s %s; COMMENT ON ROLE %s IS '%s'", pg.Ident(name), options,
		pg.Ident(name),
		roleMark))
	if pg.State(err) == pg.DuplicateObject || pg.State(err) == pg.UniqueViolation { // made by somebody else meanwhile
		return nil
	}
	return err
}

// dropLogin drops the login of a copy that is gone, unless somebody is making
// that copy.
func (s *server) dropLogin(ctx context.Context, name string) error {
	ok, err := s.locks.Try(ctx, "login "+name)
	if err != nil || !ok {
		return err
	}
	defer s.locks.Unlock("login " + name)
	id := "hemzo_c_" + strings.TrimPrefix(name, ownPrefix)
	n, err := s.queryInt(ctx, "SELECT count(*) FROM pg_database WHERE datname = $1", id)
	if err != nil || n > 0 {
		return err
	}
	s.keys.Lock()
	delete(s.ensured, name)
	s.keys.Unlock()
	err = s.exec(ctx, "DROP ROLE IF EXISTS "+pg.Ident(name))
	if goneMeanwhile(err) || pg.State(err) == pg.DependentObjects { // something elsewhere is still given to it
		return nil
	}
	return err
}

// clearLogins drops the logins of copies that are gone.
func (s *server) clearLogins(ctx context.Context) error {
	if !s.roles {
		return nil
	}
	var names []string
	err := s.readRetrying(ctx, func(ctx context.Context, conn *pgx.Conn) error {
		rows, err := conn.Query(ctx, `SELECT rolname FROM pg_roles r WHERE rolname LIKE 'hemzo\_\_u\_%'
		AND shobj_description(oid, 'pg_authid') LIKE 'made by Hemzo%'
			AND NOT EXISTS (SELECT FROM pg_database d WHERE d.datname = 'hemzo_c_' || substr(r.rolname, 10))`)
		if err == nil {
			names, err = pgx.CollectRows(rows, pgx.RowTo[string])
		}
		return err
	})
	for _, name := range names {
		if err == nil {
			err = s.dropLogin(ctx, name)
		}
	}
	if err != nil {
		return fmt.Errorf("dropping logins of copies that are gone: %w", err)
	}
	return nil
}

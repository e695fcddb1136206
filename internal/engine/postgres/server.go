package postgres

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/engine/postgres/witness"
	"hemzo/internal/fault"
	"hemzo/internal/turn"
)

// server is a PostgreSQL server, seen through one connection to one fixed
// database, as advisory locks hold within one database only, and through a few
// more for what takes long.
type server struct {
	config        *pgx.ConnConfig
	about         engine.About
	host          string // that is handed out
	socket        string // the folder of a private server's socket
	private       bool
	asked         bool // the next three are known
	roles         bool // the connection may make roles: each database has an owner of its own
	isSuperuser   bool // it may do anything
	autovacuumOff bool // nobody vacuums but who says so, and it is counted

	patience engine.Patience
	said     atomic.Bool       // that it is waited for
	twins    turn.Turn         // for the next two
	twinOf   map[string]string // copies of start states to read rows from, by start state
	spares   map[string]spare  // copies made beforehand, by start state and owner; without a name while they are made
	closed   bool              // no more are made

	works     sync.Mutex                  // for what follows
	inherited map[string]witness.Baseline // of the templates below works, by work

	witness witness.Server

	reads sync.Mutex // for what follows
	read  map[string]readFacts

	keys    sync.Mutex // for what follows
	key     string     // what passwords are derived from; "" where there is no such secret yet
	ensured map[string]bool

	lanes  *lanes
	owning turn.Turn // for what follows
	own    string    // the owner lock, once asked for
	stop   func()    // ends what keeps the connection

	turn turn.Turn // for what follows
	conn *pgx.Conn
	// locks of this process, by name; false for one that a break has cost, and that is to be taken again
	heldLocks map[string]bool
}

func newServer(config *pgx.ConnConfig, host string, p engine.Patience) *server {
	s := &server{config: config, host: host, patience: p, twins: turn.New(), owning: turn.New(), turn: turn.New(),
		lanes: newLanes(), heldLocks: map[string]bool{}}
	s.witness.Exact = s.exact
	s.witness.Super = func() bool { return s.isSuperuser }
	s.witness.Socket = func() string { return s.socket }
	return s
}

func (s *server) About() engine.About { return s.about }

func (s *server) Connection(id string, facts engine.Facts) engine.Connection {
	user := s.login(id, facts)
	password := s.password(user)
	host, port := s.host, strconv.Itoa(int(s.config.Port))
	c := engine.Connection{
		Host: host, Port: port, User: user, Password: password, Database: id, Socket: s.socket,
		ConnInfo: fmt.Sprintf("host=%s port=%s user=%s password=%s dbname=%s", host, port, user, password, id),
		Env: []engine.Setting{{Name: "PGHOST", Value: host}, {Name: "PGPORT", Value: port},
			{Name: "PGUSER", Value: user}, {Name: "PGPASSWORD", Value: password}, {Name: "PGDATABASE", Value: id}},
	}
	u := url.URL{Scheme: "postgresql", User: url.UserPassword(user, password), Path: "/" + id}
	if strings.HasPrefix(host, "/") { // a socket's folder: only a parameter can name it
		c.Socket = host
		u.RawQuery = url.Values{"host": {host}, "port": {port}}.Encode()
		c.Params = u.RawQuery
	} else {
		u.Host = net.JoinHostPort(host, port)
		c.JDBC = fmt.Sprintf("jdbc:postgresql://%s/%s", u.Host, id)
		c.JDBCFull = fmt.Sprintf("%s?user=%s&password=%s", c.JDBC, url.QueryEscape(user), url.QueryEscape(password))
	}
	c.URL = u.String()
	return c
}

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
		conn, err := s.dial(ctx, work, "")
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

// strategyLimit is the size from which copying files beats writing a log.
const strategyLimit = 1 << 20

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
	return size > strategyLimit && s.private && atLeast(s.about.Version, 15)
}

func atLeast(version string, want int) bool {
	n, err := strconv.Atoi(major(version))
	return err == nil && n >= want
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
		_ = s.execInBackground(context.WithoutCancel(ctx), "DROP DATABASE IF EXISTS "+pg.Ident(work)+" WITH (FORCE)")
	}
	return err
}

// publish gives a database its final publish and its facts. Templates and snapshots
// become Hemzo's own role's: no test can open, change or drop them.
func (s *server) publish(ctx context.Context, from, to string, facts engine.Facts) error {
	kind, _ := engine.KindOf(to)
	sql, mine := "", kind == engine.Template || kind == engine.Kept
	if mine {
		sql = fmt.Sprintf("ALTER DATABASE %s ALLOW_CONNECTIONS false; ALTER DATABASE %s OWNER TO CURRENT_USER; ",
			pg.Ident(from), pg.Ident(from))
	}
	if kind != engine.Work {
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

// rememberInherited remembers the baseline of the template that a work was copied from: what
// is not written to meanwhile need not be counted again.
func (s *server) rememberInherited(work string, from engine.Entry) {
	s.works.Lock()
	defer s.works.Unlock()
	delete(s.inherited, work)
	var b witness.Baseline
	if from.Facts.Baseline == nil || json.Unmarshal(from.Facts.Baseline, &b) != nil || b.Form != witness.Form {
		return
	}
	if s.inherited == nil {
		s.inherited = map[string]witness.Baseline{}
	}
	s.inherited[work] = b
}

// takeInherited returns what grow remembers, and forgets it.
func (s *server) takeInherited(work string) (below witness.Baseline, ok bool) {
	s.works.Lock()
	defer s.works.Unlock()
	below, ok = s.inherited[work]
	delete(s.inherited, work)
	return below, ok
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

// freezeTemplate marks every page of a finished template as seen by all, and counts
// its rows: copies of it need neither.
func (s *server) freezeTemplate(ctx context.Context, id string) (carry, base json.RawMessage, err error) {
	conn, err := s.dial(ctx, id, "")
	if err != nil {
		return nil, nil, fmt.Errorf("settling %s: %w", id, err)
	}
	defer conn.Close(ctx)
	var known map[uint32]int64
	below, ok := s.takeInherited(id)
	if ok && s.exact() {
		known = witness.Unwritten(ctx, conn, below)
	}
	err = s.vacuumTemplate(ctx, conn, id)
	if err == nil {
		if _, err = conn.Exec(ctx, "SET row_security = off"); err == nil {
			var b witness.Baseline
			if b, err = s.witness.Take(ctx, conn, s.exact(), known); err == nil {
				base, err = b.ForCopies()
			}
		}
		// rows that this role may not see: what is touched cannot be told
		if pg.State(err) == pg.InsufficientPrivilege {
			base, err = nil, nil
		}
	}
	if err != nil {
		return nil, nil, fmt.Errorf("settling %s: %w", id, err)
	}
	items, err := s.level(ctx, conn, pg.Literal(id))
	if err != nil {
		return nil, base, err
	}
	c := carryOf(items)
	if c.Unlogged, err = filledUnlogged(ctx, conn); err != nil || c.empty() {
		return nil, base, err
	}
	carry, err = json.Marshal(c)
	return carry, base, err
}

func (s *server) vacuumTemplate(ctx context.Context, conn *pgx.Conn, id string) error {
	// What came with the layer below has been settled there.
	const fresh = `SELECT format('%I.%I', n.nspname, c.relname) FROM pg_class c JOIN pg_namespace n ON n.oid
		= c.relnamespace
		WHERE c.relkind IN ('r', 'm') AND c.relpersistence <> 't' AND n.nspname NOT IN ('pg_catalog',
			'information_schema', 'pg_toast')
		AND (c.reltuples < 0 OR pg_stat_get_tuples_inserted(c.oid) + pg_stat_get_tuples_updated(c.oid)
			+ pg_stat_get_tuples_deleted(c.oid) > 0)
		ORDER BY pg_stat_get_tuples_inserted(c.oid) DESC, c.oid`
	rows, err := conn.Query(ctx, fresh)
	if err != nil {
		return err
	}
	tables, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return err
	}
	all, ctx := errgroup.WithContext(ctx)
	for i, part := range splitForTwo(tables) {
		all.Go(func() error {
			if i == 0 {
				return witness.Vacuum(ctx, conn, part)
			}
			other, err := s.dial(ctx, id, "")
			if err != nil {
				return err
			}
			defer other.Close(ctx)
			return witness.Vacuum(ctx, other, part)
		})
	}
	return all.Wait()
}

// splitForTwo deals many tables out to two sessions, few to one.
func splitForTwo(tables []string) [][]string {
	if len(tables) < 8 {
		return [][]string{tables}
	}
	parts := make([][]string, 2)
	for i, t := range tables {
		parts[i%2] = append(parts[i%2], t)
	}
	return parts
}

// Clients lists who else is connected to a database, or to any.
func (s *server) Clients(ctx context.Context, id string) ([]engine.Client, error) {
	const clients = `SELECT pid, coalesce(usename, ''), coalesce(application_name, ''),
		coalesce(client_addr::text, 'socket'),
		coalesce(state, ''), backend_start, coalesce(left(query, 200), '') FROM pg_stat_activity
		WHERE (datname = $1 OR $1 = '') AND backend_type = 'client backend' AND pid <> pg_backend_pid() ORDER BY pid`
	var all []engine.Client
	err := s.readRetrying(ctx, func(ctx context.Context, conn *pgx.Conn) (err error) {
		rows, err := conn.Query(ctx, clients, id)
		if err == nil {
			all, err = pgx.CollectRows(rows, pgx.RowToStructByPos[engine.Client])
		}
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("listing the sessions of %s: %w", id, err)
	}
	return all, nil
}

// Shared reports whether the server is somebody else's.
func (s *server) Shared(ctx context.Context) (now time.Time, shared bool, err error) {
	if s.private {
		return now, false, nil
	}
	err = s.readRetrying(ctx, func(ctx context.Context,
		conn *pgx.Conn) error {
		return conn.QueryRow(ctx, "SELECT now()").Scan(&now)
	})
	return now.UTC(), true, err
}

// Drop removes one. Two that want the same gone both succeed: the second waits
// for the first, and finds nothing.
func (s *server) Drop(ctx context.Context, id string) error {
	if _, ok := engine.KindOf(id); !ok {
		return fault.New(fault.Refused, "", "%s does not bear Hemzo's mark", id)
	}
	s.takeInherited(id)
	unlock, err := s.Lock(ctx, "facts "+id, nil)
	if err != nil {
		return err
	}
	defer unlock()
	found, err := s.listed(ctx, "AND d.datname = $1", id)
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
		err = s.execInBackground(ctx, "DROP DATABASE IF EXISTS "+pg.Ident(id)+" WITH (FORCE)")
	}
	if pg.State(err) == pg.InsufficientPrivilege {
		return fault.New(fault.Refused, "drop it as the role that made it", "%s belongs to another role", id)
	}
	if err != nil && !goneMeanwhile(err) {
		return fmt.Errorf("dropping %s: %w", id, err)
	}
	if kind, _ := engine.KindOf(id); kind != engine.Copy || !s.roles || !login {
		return nil
	}
	if err := s.dropLogin(ctx, ownLogin(id)); err != nil {
		return fmt.Errorf("dropping the login of %s: %w", id, err)
	}
	return nil
}

// Clear removes databases of work whose maker is gone, what interrupted drops
// have left, and logins of copies that are gone.
func (s *server) Clear(ctx context.Context) error {
	found, err := s.listed(ctx, `AND (d.datname LIKE 'hemzo\_w%' OR d.datconnlimit = -2)`)
	if err != nil {
		return err
	}
	for _, r := range found {
		e, ours := s.entry(ctx, r)
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

// Whole reports whether facts can be believed; nobody can connect to a
// template and change it.
func (s *server) IsIntact(_ context.Context, e engine.Entry) (bool, error) { return !e.Bad, nil }

// References reads the foreign keys from the baseline.
func (s *server) References(_ context.Context, e engine.Entry) (map[string][]string, error) {
	var b witness.Baseline
	if e.Facts.Baseline == nil || json.Unmarshal(e.Facts.Baseline, &b) != nil {
		return nil, nil
	}
	all := map[string][]string{}
	for _, m := range b.Tables {
		if m.Leads != nil {
			all[pg.ShortName(m.Name)] = m.Leads
		}
	}
	return all, nil
}

// Watch counts the sessions that a database has had.
func (s *server) Watch(ctx context.Context, id string) (func(time.Duration) (bool, error), error) {
	const sessions = "SELECT coalesce(max(sessions), 0) FROM pg_stat_database WHERE datname = $1"
	before, err := s.queryInt(ctx, sessions, id)
	if err != nil {
		return nil, fmt.Errorf("watching %s: %w", id, err)
	}
	return func(wait time.Duration) (bool, error) {
		// A session is counted when it has ended, before the list of those that
		// are there loses it.
		const there = "SELECT count(*) FROM pg_stat_activity WHERE datname = $1"
		for end := time.Now().Add(wait); ; {
			now, err := s.queryInt(ctx, there, id)
			if err != nil || now > 0 {
				return err == nil, err
			}
			after, err := s.queryInt(ctx, sessions, id)
			if err != nil {
				return false, fmt.Errorf("watching %s: %w", id, err)
			}
			if after > before {
				return true, nil
			}
			if time.Now().After(end) {
				return false, nil
			}
			time.Sleep(2 * time.Millisecond)
			_ = s.exec(ctx, "SELECT pg_stat_clear_snapshot()")
		}
	}, nil
}

func (s *server) Open(ctx context.Context, id string, session engine.Session) (engine.Database, error) {
	e, err := s.Find(ctx, id)
	if err != nil {
		return nil, err
	}
	return s.database(e, session), nil
}

func (s *server) Close() error {
	ctx, end := context.WithTimeout(context.Background(), 5*time.Second)
	defer end()
	if !s.private { // there the guard clears them away
		s.dropTwins(ctx)
	}
	s.closeLanes(ctx)
	if s.owning.Take(ctx) == nil {
		if s.stop != nil {
			s.stop()
		}
		s.owning.Give()
	}
	if err := s.turn.Take(ctx); err != nil {
		return err
	}
	defer s.turn.Give()
	return s.conn.Close(ctx)
}

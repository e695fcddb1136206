package postgres

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/engine/postgres/witness"
	"hemzo/internal/engine/sessionlock"
	"hemzo/internal/turn"
)

// server is a PostgreSQL server, seen through one connection to one fixed
// database, as advisory locks hold within one database only, and through a few
// more for what takes long.
type server struct {
	config        *pgx.ConnConfig
	about         engine.About
	host          string // that is handed out
	port          int    // likewise
	socket        string // the folder of a private server's socket
	private       bool
	asked         bool // the next three are known
	roles         bool // the connection may make roles: each database has an owner of its own
	isSuperuser   bool // it may do anything
	autovacuumOff bool // nobody vacuums but who says so, and it is counted
	trust         witness.Trust

	crowded  atomic.Bool // it had few connections free, when last asked
	levelled atomic.Bool // what belongs to a database itself was asked for before

	patience  engine.Patience
	said      atomic.Bool // that it is waited for
	spareTurn turn.Turn   // for the next
	// copies made beforehand, by start state and owner; without a name while they are made
	spares map[string]spare
	closed bool // no more are made

	works     sync.Mutex                  // for what follows
	inherited map[string]witness.Baseline // of the templates below works, by work

	witness witness.Server

	reads sync.Mutex // for what follows
	read  map[string]readFacts

	visits visits

	keys    sync.Mutex // for what follows
	key     string     // what passwords are derived from; "" where there is no such secret yet
	ensured map[string]bool

	background *backgroundConns
	locks      *sessionlock.Locks[*pgx.Conn]

	away atomic.Bool // conn is closed, as the keeper's session of holder holds its locks

	turn    turn.Turn // for what follows
	conn    *pgx.Conn
	holder  *database // whose keeper's session holds the locks too; nil where none does
	ownUses int       // of conn, since there is a holder
}

func newServer(config *pgx.ConnConfig, host string, p engine.Patience) *server {
	s := &server{config: config, host: host, port: int(config.Port), patience: p,
		spareTurn: turn.New(), turn: turn.New(), background: newBackgroundConns()}
	s.locks = newLocks(s)
	s.witness.Trust = s.trusted
	s.witness.Major = func() string { return major(s.about.Version) }
	s.witness.Super = func() bool { return s.isSuperuser }
	s.witness.Socket = func() string { return s.socket }
	return s
}

func (s *server) About() engine.About {
	about := s.about
	about.InPlace = s.isSuperuser
	return about
}

func (s *server) Connection(id string, facts engine.Facts) engine.Connection {
	user := s.login(id, facts)
	return connectionTo(s.host, strconv.Itoa(s.port), s.socket, user, s.password(user), id)
}

// connectionTo tells a connection in all its forms.
func connectionTo(host, port, socket, user, password, id string) engine.Connection {
	c := engine.Connection{
		Host: host, Port: port, User: user, Password: password, Database: id, Socket: socket,
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

func atLeast(version string, want int) bool {
	n, err := strconv.Atoi(major(version))
	return err == nil && n >= want
}

// Clients lists who else is connected to a database, or to any.
func (s *server) Clients(ctx context.Context, id string) ([]engine.Client, error) {
	const clients = `SELECT pid, coalesce(usename, ''), coalesce(application_name, ''),
		coalesce(client_addr::text, 'socket'),
		coalesce(state, ''), coalesce(backend_start, now()), xact_start, pg_blocking_pids(pid),
		coalesce(left(query, 200), '') FROM pg_stat_activity
		WHERE (datname = $1 OR $1 = '') AND ` + pg.OfClient + ` AND pid <> pg_backend_pid() ORDER BY pid`
	var all []engine.Client
	err := s.readRetrying(ctx, func(ctx context.Context, conn *pgx.Conn) (err error) {
		rows, err := conn.Query(ctx, clients, id)
		if err == nil {
			all, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (c engine.Client, err error) {
				var began *time.Time
				err = row.Scan(&c.PID, &c.User, &c.Application, &c.Address, &c.State, &c.Since, &began, &c.WaitsFor, &c.Query)
				if began != nil {
					c.Began = *began
				}
				return c, err
			})
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

func (s *server) Open(ctx context.Context, id string, session engine.Session) (engine.Database, error) {
	e, err := s.Find(ctx, id)
	if err != nil {
		return nil, err
	}
	d := s.database(e, session)
	if session.Fresh {
		if err := d.keepFresh(ctx); err != nil {
			return nil, errors.Join(err, d.Close())
		}
	}
	return d, nil
}

func (s *server) Close() error {
	ctx, end := context.WithTimeout(context.Background(), 5*time.Second)
	defer end()
	if !s.private { // there the guard clears them away
		s.dropSpares(ctx)
	}
	s.tellOwn(ctx)
	s.closeBackground(ctx)
	s.locks.Close(ctx)
	if err := s.turn.Take(ctx); err != nil {
		return err
	}
	defer s.turn.Give()
	return s.conn.Close(ctx)
}

package postgres

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgconn/ctxwatch"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/fault"
)

// keepAlive notices within half a minute that the other end is gone.
var keepAlive = net.KeepAliveConfig{Enable: true, Idle: 10 * time.Second, Interval: 5 * time.Second, Count: 3}

// dial opens a connection in the simple protocol: what Hemzo runs itself is
// run once.
func dial(ctx context.Context, a address, database string) (*pgx.Conn, error) {
	config, err := a.config()
	if err != nil {
		return nil, err
	}
	config.Database = database
	return pgx.ConnectConfig(ctx, config)
}

// inside is the address for Hemzo's own sessions.
func (a address) inside() address {
	if a.Socket != "" {
		a.Host = a.Socket
	} else if host, port, err := net.SplitHostPort(a.Direct); err == nil {
		a.Host = host
		a.Port, _ = strconv.Atoi(port)
	}
	return a
}

func (a address) config() (*pgx.ConnConfig, error) {
	config, err := pgx.ParseConfig("sslmode=disable")
	if err != nil {
		return nil, err
	}
	config.Host, config.Port, config.User, config.Password, config.Database = a.Host, uint16(a.Port), a.User,
		a.Password, a.Database
	config.Fallbacks, config.RuntimeParams = nil, map[string]string{}
	if a.Direct != "" && a.Socket == "" {
		config.RequireAuth = "scram-sha-256" // a password is shown to nobody
	}
	// What accepts may be a proxy before a server that does not answer; at a socket
	// it is the server, which may have much to do.
	config.ConnectTimeout = 5 * time.Second
	if strings.HasPrefix(a.Host, "/") {
		config.ConnectTimeout = 15 * time.Second
	}
	plain(config)
	return config, nil
}

func plain(config *pgx.ConnConfig) {
	config.RuntimeParams["application_name"] = "hemzo"
	config.RuntimeParams["client_encoding"] = "UTF8"
	config.DefaultQueryExecMode = pgx.QueryExecModeSimpleProtocol
	config.DialFunc = (&net.Dialer{KeepAliveConfig: keepAlive}).DialContext
	qualify(config)
	// A statement whose caller has gone ends on the server too.
	config.BuildContextWatcherHandler = func(conn *pgconn.PgConn) ctxwatch.Handler {
		return &pgconn.CancelRequestContextWatcherHandler{Conn: conn, DeadlineDelay: graceTime}
	}
}

// ownSession has a session of Hemzo's own find functions and operators of PostgreSQL's alone:
// the owner of a database can set where names are looked for, and how texts are written. One
// whose client is gone, its power or network, must not hold its locks for hours.
const ownSession = "SET search_path = pg_catalog; SET standard_conforming_strings = on; " + askForClient

// askForClient has the server notice within half a minute that the other end is gone.
const askForClient = "SET tcp_keepalives_idle = 10; SET tcp_keepalives_interval = 5; SET tcp_keepalives_count = 3"

func qualify(config *pgx.ConnConfig) {
	config.AfterConnect = func(ctx context.Context, conn *pgconn.PgConn) error {
		_, err := conn.Exec(ctx, ownSession).ReadAll()
		return err
	}
}

// dial opens another connection: as a role that is named, with all that the database is
// set to, else one of Hemzo's own.
func (s *server) dial(ctx context.Context, database, user string) (*pgx.Conn, error) {
	return s.dialWithNotices(ctx, database, user, nil)
}

// settings are those of a connection of clients' to a database.
func (s *server) settings(database string) *pgx.ConnConfig {
	config := s.config.Copy()
	config.Database, config.AfterConnect = database, nil
	return config
}

// ownSettings are those of a connection of Hemzo's own.
func (s *server) ownSettings(database string) *pgx.ConnConfig {
	config := s.settings(database)
	qualify(config)
	return config
}

// dialWithNotices is dial with somebody who takes the server's notices; may be nil.
func (s *server) dialWithNotices(ctx context.Context, database, user string, said func(string)) (*pgx.Conn, error) {
	config := s.settings(database)
	if user == "" {
		config = s.ownSettings(database)
	}
	if said != nil {
		config.OnNotice = func(_ *pgconn.PgConn, n *pgconn.Notice) { said(n.Severity + ": " + n.Message) }
	}
	if user != "" && user != config.User {
		config.User, config.Password = user, s.password(user)
	}
	return s.dialRetrying(ctx, config)
}

// dialRetrying connects, waiting for a server that has no connection free, or that
// recovers from a crash.
func (s *server) dialRetrying(ctx context.Context, config *pgx.ConnConfig) (*pgx.Conn, error) {
	end, exchanged := time.Now().Add(s.patience.Wait), time.Now().Add(exchangeTime)
	for renamed := 0; ; {
		conn, err := pgx.ConnectConfig(ctx, config)
		if pg.State(err) == pg.InvalidCatalog && renamed < renameTries && s.exists(ctx, config.Database) {
			renamed++
			continue
		}
		if pg.State(err) == pg.NotInPrerequisite && isCopy(config.Database) && time.Now().Before(exchanged) &&
			ctx.Err() == nil {
			time.Sleep(2 * time.Millisecond) // another process puts another in its place
			continue
		}
		if state := pg.State(err); state != pg.TooManyConnections && state != pg.CannotConnectNow ||
			time.Now().After(end) {
			if err == nil {
				s.visits.add(config.Database)
			}
			return conn, unanswered(ctx, err, config)
		}
		if s.patience.Say != nil && !s.said.Swap(true) {
			why := "has no connection free"
			if pg.State(err) == pg.CannotConnectNow {
				why = "is recovering or starting up"
			}
			s.patience.Say(fmt.Sprintf("PostgreSQL %s (%s): waiting", why, pg.Message(err)))
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// exchangeTime is how long a copy may refuse connections while another is put in its place.
const exchangeTime = 3 * time.Second

func isCopy(database string) bool {
	kind, ok := engine.KindOf(database)
	return ok && kind == engine.Copy
}

// renameTries is how often a connection is tried that the server refuses because its
// database was given its name while the session began.
const renameTries = 20

// exists reports whether there is a database of a name, other than the one that the
// server's own connection is in.
func (s *server) exists(ctx context.Context, name string) bool {
	if name == s.config.Database {
		return false
	}
	n, err := s.queryInt(ctx, "SELECT count(*) FROM pg_database WHERE datname = $1", name)
	return err == nil && n > 0
}

// unanswered says in plain words that a server did not answer; other errors
// are returned as they are.
func unanswered(ctx context.Context, err error, config *pgx.ConnConfig) error {
	if err == nil || ctx.Err() != nil || !pgconn.Timeout(err) {
		return err
	}
	f := fault.New(fault.Lacking, "is the machine, or the server, busy with something else?",
		"PostgreSQL at %s did not answer within %s", net.JoinHostPort(config.Host, fmt.Sprint(config.Port)),
		config.ConnectTimeout)
	f.Reason = err
	return f
}

// Connect opens the server at an address that Start gave.
func connect(ctx context.Context, at json.RawMessage, p engine.Patience) (engine.Server, error) {
	var a address
	if err := json.Unmarshal(at, &a); err != nil {
		return nil, fmt.Errorf("reading a server's address: %w", err)
	}
	config, err := a.inside().config()
	if err != nil {
		return nil, err
	}
	s := newServer(config, a.Host, p)
	if a.Direct != "" && a.Socket == "" { // from elsewhere it is reached as everybody reaches it
		config.Fallbacks = []*pgconn.FallbackConfig{{Host: a.Host, Port: uint16(a.Port)}}
	}
	s.port = a.Port
	s.socket, s.private, s.key, s.trust = a.Socket, true, a.Password, a.Trust
	s.about = engine.About{Engine: "postgres", Version: a.Version, Where: a.Where,
		Address: net.JoinHostPort(a.Host, fmt.Sprint(a.Port))}
	err = s.begin(ctx)
	s.about.Notes = append(s.about.Notes, touchedWords(s.trusted()))
	return s, err
}

// begin opens the server's own connection, again where it was broken. What
// this role may do is asked once.
func (s *server) begin(ctx context.Context) error {
	conn, err := s.dialRetrying(ctx, s.config)
	if err != nil {
		return fmt.Errorf("connecting to PostgreSQL: %w", err)
	}
	// What Hemzo itself writes has to be on disk before a VACUUM can mark it.
	const usual = "SET synchronous_commit = on; SET plan_cache_mode = force_generic_plan; SET statement_timeout = " +
		"0; SET lock_timeout = 0"
	if s.asked {
		_, err = conn.Exec(ctx, usual)
	} else {
		err = s.learn(ctx, conn, usual)
	}
	if err != nil {
		conn.Close(ctx)
		return fmt.Errorf("connecting to PostgreSQL: %w", err)
	}
	s.conn = conn
	s.away.Store(false)
	s.locks.Lost()
	s.locks.Reacquire(ctx, conn)
	return nil
}

// stopAsking has further connections come without TLS where that may be and the server has
// none: each would cost it two processes, one to say so.
func stopAsking(config *pgx.ConnConfig, conn *pgx.Conn) {
	_, secured := conn.PgConn().Conn().(*tls.Conn)
	if !secured && config.TLSConfig != nil && len(config.Fallbacks) == 1 && config.Fallbacks[0].TLSConfig == nil &&
		config.Fallbacks[0].Host == config.Host && config.Fallbacks[0].Port == config.Port {
		config.TLSConfig, config.Fallbacks = nil, nil
	}
}

// learn asks what this role may do, and how the server vacuums.
func (s *server) learn(ctx context.Context, conn *pgx.Conn, usual string) error {
	s.isSuperuser = conn.PgConn().ParameterStatus("is_superuser") == "on"
	stopAsking(s.config, conn)
	roles := "true"
	if !s.isSuperuser { // asking costs more than all else here
		roles = "(SELECT rolcreaterole FROM pg_roles WHERE rolname = current_user)"
	}
	results, err := conn.PgConn().Exec(ctx,
		usual+"; SELECT "+roles+", current_setting('autovacuum') = 'off' AND current_setting('track_counts') = "+
			"'on'").ReadAll()
	if err != nil {
		return err
	}
	row := results[len(results)-1].Rows[0]
	s.roles, s.autovacuumOff, s.asked = string(row[0]) == "t", string(row[1]) == "t", true
	return nil
}

// queryInt returns the first column of a query's only row.
func (s *server) queryInt(ctx context.Context, sql string, args ...any) (n int64, err error) {
	err = s.readRetrying(ctx, func(ctx context.Context,
		conn *pgx.Conn) error {
		return conn.QueryRow(ctx, sql, args...).Scan(&n)
	})
	return n, err
}

package mariadb

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-sql-driver/mysql"

	"hemzo/internal/engine"
)

// conn is one session.
type conn struct {
	*sql.Conn
	db    *sql.DB
	mysql bool // the server is MySQL
	// relayed says that it passes a gate: the server's own transaction is everybody's
	relayed bool
	narrow  bool   // the account sees nothing of the server's own tables
	login   string // Hemzo's account
	// own are the numbers of sessions of this process's, where tests use the account of
	// Hemzo's; nil else
	own *sync.Map
	// libraries reports that the server has programs of another language in libraries
	libraries bool
}

func (c *conn) close() error { return errors.Join(c.Conn.Close(), c.db.Close()) }

// counting is the table of what InnoDB counts.
func (c *conn) counting() string {
	if c.mysql {
		return "information_schema.INNODB_TABLESTATS"
	}
	return "information_schema.INNODB_SYS_TABLESTATS"
}

// generated tells of a column whether its values are computed.
func (c *conn) generated() string {
	if c.mysql {
		return "GENERATION_EXPRESSION <> ''"
	}
	return "IS_GENERATED = 'ALWAYS'"
}

func (a address) product() string { return Engine{MySQL: a.MySQL}.product() }

// hash is 60 bits of a sum over a text, as a number. Newer servers have no MD5.
func (c *conn) hash(of string) string {
	sum := "MD5(" + of + ")"
	if c.mysql {
		sum = "SHA2(" + of + ", 256)"
	}
	return "CAST(CONV(LEFT(" + sum + ", 15), 16, 10) AS DECIMAL(30))"
}

// login is the name of Hemzo's account.
func (a address) login() string {
	if a.Login != "" {
		return a.Login
	}
	return admin
}

// account is the name of the tests' account.
func (a address) account() string {
	if a.Account != "" {
		return a.Account
	}
	return ownerOf(a.Schema)
}

// dial opens a session of Hemzo's account; dialAsTests one of the tests', as which sources
// run.
func (a address) dial(ctx context.Context) (*conn, error) { return a.open(ctx, a.login(), a.Admin) }

func (a address) dialAsTests(ctx context.Context) (*conn, error) {
	return a.open(ctx, a.account(), a.Password)
}

// config is how the driver connects.
func (a address) config(user, password string) *mysql.Config {
	config := mysql.NewConfig()
	config.User, config.Passwd, config.DBName = user, password, a.Schema
	if config.Net, config.Addr = "unix", a.Socket; a.Socket == "" {
		config.Net, config.Addr, config.TLSConfig = "tcp", a.hostPort(), a.TLS
	}
	config.Timeout = 5 * time.Second
	config.Logger = log.New(io.Discard, "", 0) // what it has to say it returns
	return config
}

func (a address) open(ctx context.Context, user, password string) (*conn, error) {
	config := a.config(user, password)
	config.InterpolateParams = true // a trip where preparing takes three
	config.MultiStatements = true
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return nil, err
	}
	db := sql.OpenDB(connector)
	c, err := db.Conn(ctx)
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	out := &conn{Conn: c, db: db, mysql: a.MySQL, narrow: a.Narrow, login: a.login(), own: a.own,
		libraries: a.MySQL && atLeast(a.Version, 9, 2)}
	if a.own == nil {
		return out, nil
	}
	rows, err := out.rows(ctx, "SELECT CONNECTION_ID()")
	if err != nil {
		return nil, errors.Join(err, out.close())
	}
	a.own.Store(rows[0][0], true)
	return out, nil
}

// atLeast reports whether a version is another one or later.
func atLeast(version string, major, minor int) bool {
	var has, hasMinor int
	_, err := fmt.Sscanf(version, "%d.%d", &has, &hasMinor)
	return err == nil && (has > major || has == major && hasMinor >= minor)
}

func (a address) hostPort() string { return net.JoinHostPort(a.Host, strconv.Itoa(a.Port)) }

// rows asks for rows of texts; NULL is "".
func (c *conn) rows(ctx context.Context, query string, args ...any) (all [][]string, err error) {
	err = c.each(ctx, query, args, func(row []sql.RawBytes) error {
		texts := make([]string, len(row))
		for i, v := range row {
			texts[i] = string(v)
		}
		all = append(all, texts)
		return nil
	})
	return all, err
}

// each passes on each row of a query; its values are only good until it returns.
func (c *conn) each(ctx context.Context, query string, args []any, row func([]sql.RawBytes) error) error {
	rows, err := c.QueryContext(ctx, query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return err
	}
	values, at := make([]sql.RawBytes, len(names)), make([]any, len(names))
	for i := range at {
		at[i] = &values[i]
	}
	for rows.Next() {
		if err := rows.Scan(at...); err != nil {
			return err
		}
		if err := row(values); err != nil {
			return err
		}
	}
	return rows.Err()
}

func (c *conn) do(ctx context.Context, statements ...string) error {
	for _, s := range statements {
		if _, err := c.ExecContext(ctx, s); err != nil {
			return fmt.Errorf("%w: %s", err, shortened(s))
		}
	}
	return nil
}

// shortened is a statement in a line, for a message.
func shortened(s string) string {
	s = strings.Join(strings.Fields(s), " ")
	return s[:min(len(s), 60)]
}

// addressOf is what a probe told of a server.
func addressOf(at engine.Endpoint) (a address) {
	_ = json.Unmarshal(at.Address, &a)
	return a
}

// connection tells a copy's connection in all its forms.
func connection(at engine.Endpoint, _ string) engine.Connection { return addressOf(at).connection() }

// move tells a connection with another address, which is a port's.
func (e Engine) move(c engine.Connection, at map[int]string) engine.Connection {
	host, port, _ := net.SplitHostPort(at[serverPort])
	number, _ := strconv.Atoi(port)
	return address{Host: host, Port: number, Schema: c.Database, Account: c.User, Password: c.Password,
		MySQL: e.MySQL}.connection()
}

func (a address) connection() engine.Connection {
	user, port, host, scheme := a.account(), strconv.Itoa(a.Port), a.Host, "mariadb"
	if host == "" {
		host = "127.0.0.1"
	}
	if a.MySQL {
		scheme = "mysql"
	}
	place := net.JoinHostPort(host, port)
	c := engine.Connection{
		Host: host, Port: port, User: user, Password: a.Password, Database: a.Schema, Socket: a.Socket,
		URL: (&url.URL{Scheme: scheme, User: url.UserPassword(user, a.Password), Host: place, Path: "/" +
			a.Schema}).String(),
		JDBC: fmt.Sprintf("jdbc:%s://%s/%s", scheme, place, a.Schema),
		ConnInfo: fmt.Sprintf("database=%s;host=%s;port=%s;user=%s;password=%s", a.Schema, host, port, user,
			a.Password),
		Env: []engine.Setting{{Name: "MYSQL_HOST", Value: host}, {Name: "MYSQL_TCP_PORT", Value: port},
			{Name: "MYSQL_PWD", Value: a.Password}},
	}
	if a.Socket != "" {
		c.Env = append(c.Env, engine.Setting{Name: "MYSQL_UNIX_PORT", Value: a.Socket})
	}
	c.JDBCFull = fmt.Sprintf("%s?user=%s&password=%s", c.JDBC, url.QueryEscape(user), url.QueryEscape(a.Password))
	return c
}

// clients lists who is connected to a server, but for Hemzo.
func clients(ctx context.Context, at engine.Endpoint) ([]engine.Client, error) {
	c, err := addressOf(at).dial(ctx)
	if err != nil {
		return nil, fmt.Errorf("asking who is connected: %w", err)
	}
	defer c.close()
	return sessions(ctx, c, "")
}

// code is the number of a server's error; 0 where it is none.
func code(err error) uint16 {
	if e, ok := errors.AsType[*mysql.MySQLError](err); ok {
		return e.Number
	}
	return 0
}

// Errors that are looked for, by their numbers.
const (
	lockWaitTimeout = 1205
	duplicateKey    = 1062
	wrongPassword   = 1045
	noSuchDatabase  = 1049
	noSuchTable     = 1146
	noSavepoint     = 1305
	emptyQuery      = 1065
	errorOnWrite    = 3
	diskFull        = 1021
	outOfResources  = 1041
	tableFull       = 1114
	accessDenied    = 1227
	schemaDenied    = 1044
	commandDenied   = 1142
)

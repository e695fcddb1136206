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

	"github.com/go-sql-driver/mysql"

	"hemzo/internal/engine"
)

// conn is one session.
type conn struct {
	*sql.Conn
	db *sql.DB
}

func (c *conn) close() error { return errors.Join(c.Conn.Close(), c.db.Close()) }

// dial opens a session at the socket, as Hemzo's account or as the owner's.
func (a address) dial(ctx context.Context, user string) (*conn, error) {
	config := mysql.NewConfig()
	config.User, config.Passwd = user, a.Password
	if user == admin {
		config.Passwd = a.Admin
	}
	config.Net, config.Addr, config.DBName = "unix", a.Socket, a.Schema
	config.InterpolateParams = true // a trip where preparing takes three
	config.MultiStatements = true
	config.Logger = log.New(io.Discard, "", 0) // what it has to say it returns
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return nil, err
	}
	db := sql.OpenDB(connector)
	c, err := db.Conn(ctx)
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	return &conn{c, db}, nil
}

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
func connection(at engine.Endpoint, _ string) engine.Connection {
	a := addressOf(at)
	user, port := ownerOf(a.Schema), strconv.Itoa(a.Port)
	host := net.JoinHostPort("127.0.0.1", port)
	c := engine.Connection{
		Host: "127.0.0.1", Port: port, User: user, Password: a.Password, Database: a.Schema, Socket: a.Socket,
		URL: (&url.URL{Scheme: "mariadb", User: url.UserPassword(user, a.Password), Host: host, Path: "/" +
			a.Schema}).String(),
		JDBC:     fmt.Sprintf("jdbc:mariadb://%s/%s", host, a.Schema),
		ConnInfo: fmt.Sprintf("database=%s;host=127.0.0.1;port=%s;user=%s;password=%s", a.Schema, port, user, a.Password),
		Env: []engine.Setting{{Name: "MYSQL_HOST", Value: "127.0.0.1"}, {Name: "MYSQL_TCP_PORT", Value: port},
			{Name: "MYSQL_PWD", Value: a.Password}, {Name: "MYSQL_UNIX_PORT", Value: a.Socket}},
	}
	c.JDBCFull = fmt.Sprintf("%s?user=%s&password=%s", c.JDBC, user, a.Password)
	return c
}

// clients lists who is connected to a server, but for Hemzo.
func clients(ctx context.Context, at engine.Endpoint) ([]engine.Client, error) {
	c, err := addressOf(at).dial(ctx, admin)
	if err != nil {
		return nil, fmt.Errorf("asking who is connected: %w", err)
	}
	defer c.close()
	return sessions(ctx, c)
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
	accessDenied    = 1227
	schemaDenied    = 1044
	commandDenied   = 1142
)

package mariadb_test

import (
	"context"
	"database/sql"
	"io"
	"log"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
	"hemzo/internal/place"
)

// gated is a copy behind its gate, with an address that clients connect to.
type gated struct {
	engine.Gate
	*held
	at string
}

// beginGated makes a copy with a gate; a connection that fails fails the test.
func beginGated(t *testing.T, k kind, w place.Wanted, session engine.Session) *gated {
	h := begin(t, k, w)
	gate, err := k.engine.Hosting().Gate(t.Context(), place.Inner(h.server), h.copied.ID, h.connection(t, h.copied), session)
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	var all sync.WaitGroup
	all.Go(func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			all.Go(func() {
				defer conn.Close()
				defer context.AfterFunc(ctx, func() { conn.Close() })()
				assert.NoError(t, gate.ServeConn(ctx, conn))
			})
		}
	})
	t.Cleanup(func() {
		stop()
		l.Close()
		all.Wait()
		assert.NoError(t, gate.Close())
	})
	return &gated{Gate: gate, held: h, at: l.Addr().String()}
}

// through opens a session through the gate.
func (g *gated) through(t *testing.T, change func(*mysql.Config)) *sql.Conn {
	c := g.connection(t, g.copied)
	config := mysql.NewConfig()
	config.User, config.Passwd, config.Net, config.Addr, config.DBName = c.User, c.Password, "tcp", g.at, c.Database
	config.Logger = log.New(io.Discard, "", 0)
	if change != nil {
		change(config)
	}
	connector, err := mysql.NewConnector(config)
	require.NoError(t, err)
	db := sql.OpenDB(connector)
	db.SetMaxIdleConns(0)
	t.Cleanup(func() { db.Close() })
	conn, err := db.Conn(t.Context())
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	return conn
}

// back resets, and waits until all is put back: what is compared is read beside the gate.
func (g *gated) back(t *testing.T) *engine.Report {
	r, err := g.Reset(t.Context(), engine.Session{Wait: time.Second})
	require.NoError(t, err)
	require.NoError(t, g.Commit(t.Context(), false))
	return r
}

func do(t *testing.T, c *sql.Conn, statements ...string) {
	for _, s := range statements {
		_, err := c.ExecContext(t.Context(), s)
		require.NoError(t, err, s)
	}
}

func ask(t *testing.T, c *sql.Conn, query string, args ...any) (text string) {
	require.NoError(t, c.QueryRowContext(t.Context(), query, args...).Scan(&text), query)
	return text
}

// TestGateModes: transactions, prepared statements, several in a message, files.
func TestGateModes(t *testing.T) {
	g := beginGated(t, here(), place.Wanted{Where: []string{"memory"}}, engine.Session{Wait: time.Second})
	c := g.through(t, nil)
	require.Equal(t, "3", ask(t, c, "SELECT COUNT(*) FROM hive"))
	do(t, c, "INSERT INTO hive (type) VALUES ('LAN')")
	require.Equal(t, "4", ask(t, c, "SELECT COUNT(*) FROM hive WHERE id > ?", 0))
	require.Equal(t, engine.Rollback, g.back(t).Way)
	require.Equal(t, "3", ask(t, c, "SELECT COUNT(*) FROM hive"))
}

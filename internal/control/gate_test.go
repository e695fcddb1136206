package control

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/copies"
	"hemzo/internal/engine"
)

// counting is a gate that takes lines and tells how many came since its last
// reset.
type counting struct {
	mu     sync.Mutex
	lines  int
	closed bool
}

func (g *counting) ServeConn(_ context.Context, client net.Conn) error {
	for in := bufio.NewScanner(client); in.Scan(); {
		g.mu.Lock()
		g.lines++
		fmt.Fprintln(client, g.lines)
		g.mu.Unlock()
	}
	return nil
}

func (g *counting) Clients() []engine.Client { return []engine.Client{{PID: g.lines}} }

func (g *counting) Remarks() []engine.Remark { return []engine.Remark{{Text: "it counts"}} }

func (g *counting) Reset(context.Context, engine.Session) (*engine.Report, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.lines = 0
	return &engine.Report{Way: engine.Rollback, Tables: []engine.TableReport{}}, nil
}

func (g *counting) Commit(context.Context, bool) error { return nil }

func (g *counting) Release(ctx context.Context) error {
	_, err := g.Reset(ctx, engine.Session{})
	return err
}

func (g *counting) Close() error {
	g.closed = true
	return nil
}

// TestGate: connections to a copy with a gate go to it, and so do resets by
// rollback; clients stay connected. Other resets go to the copy.
func TestGate(t *testing.T) {
	s := begin(t)
	gate, opened := &counting{}, 0
	x := s.sources[0]
	x.Way = engine.Rollback
	x.Lazy = &Lazy{
		Ports: []int{1},
		Foretell: func(at map[int]string, _ string) engine.Connection {
			return engine.Connection{URL: at[1]}
		},
		Gate: func(_ context.Context, server engine.Server, id string, _ engine.Connection) (engine.Gate, error) {
			opened++
			_, err := server.Find(t.Context(), id)
			return gate, err
		},
		Made:   func(copies.ScopedServer, *copies.Taken) {},
		Failed: func(err error) { assert.NoError(t, err) },
	}
	set, err := s.Find(t.Context(), "")
	require.NoError(t, err)
	copied := set.Copies()[0]
	require.False(t, copied.Made())
	var clients []*bufio.ReadWriter
	for range 2 {
		conn, err := net.Dial("tcp", copied.Connection().URL)
		require.NoError(t, err)
		defer conn.Close()
		clients = append(clients, bufio.NewReadWriter(bufio.NewReader(conn), bufio.NewWriter(conn)))
	}
	say := func(i int) string {
		fmt.Fprintln(clients[i], "honey")
		require.NoError(t, clients[i].Flush())
		answer, err := clients[i].ReadString('\n')
		require.NoError(t, err)
		return answer
	}
	assert.Equal(t, "1\n", say(0))
	assert.Equal(t, "2\n", say(1))
	done, err := s.Reset(t.Context(), set, Reset{})
	require.NoError(t, err)
	assert.Equal(t, engine.Rollback, done[0].Reset.Way)
	assert.Equal(t, "1\n", say(1))
	assert.Equal(t, "2\n", say(0))
	done, err = s.Reset(t.Context(), set, Reset{Way: engine.Snapshot})
	require.NoError(t, err)
	assert.NotEqual(t, engine.Rollback, done[0].Reset.Way)
	assert.Equal(t, "1\n", say(0), "the gate has let go of the copy")
	assert.Equal(t, 1, opened)
	require.NoError(t, s.Close(context.Background(), func(s copies.ScopedServer, e engine.Entry) error {
		return s.Drop(context.Background(), e, true)
	}, nil))
	assert.True(t, gate.closed)
}

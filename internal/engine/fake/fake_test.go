package fake_test

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
	"hemzo/internal/engine/enginetest"
	"hemzo/internal/engine/fake"
	"hemzo/internal/place"
)

// TestMain: this program is the fake's server too.
func TestMain(m *testing.M) {
	if len(os.Args) == 4 && os.Args[1] == fake.ServerCommand {
		fmt.Fprintln(os.Stderr, fake.Serve(os.Args[2], os.Args[3]))
		os.Exit(1)
	}
	enginetest.Main(m, fake.Engine{})
}

func send(t *testing.T, c engine.Connection, line string) (all map[string]string) {
	t.Helper()
	conn, err := net.Dial("tcp", c.Host)
	require.NoError(t, err)
	defer conn.Close()
	fmt.Fprintf(conn, "%s\n%s\n", c.Password, line)
	require.NoError(t, json.NewDecoder(conn).Decode(&all))
	return all
}

func TestSuite(t *testing.T) {
	enginetest.Home(t, fake.Engine{})
	enginetest.Run(t, enginetest.Subject{
		Engine: fake.Engine{}, Wanted: place.Wanted{Where: []string{"memory"}},
		Steps: []string{"SET hives 3", "SET jars 40\nSET label honey of May"}, Broken: "SET a b\nBURN all",
		Work:   []enginetest.Work{{Name: "set", Text: "SET jars 41"}, {Name: "delete", Text: "DEL hives"}},
		Client: func(t *testing.T, c engine.Connection, text string) { send(t, c, text) },
		Dump:   func(t *testing.T, c engine.Connection) string { return fmt.Sprint(send(t, c, "ALL")) },
	})
}

// TestKilled: a copy whose server was killed, or whose guard was, is there by
// its facts, and a reset starts its server anew; the other copies stay.
func TestKilled(t *testing.T) {
	enginetest.Home(t, fake.Engine{})
	open := func() engine.Server {
		s, err := place.Open(t.Context(), fake.Engine{}, place.Wanted{Database: "honey", Where: []string{"memory"}})
		require.NoError(t, err)
		return s
	}
	s := open()
	work, template := engine.NewID(engine.Work), "hemzo_t_0123456789ab"
	facts := engine.Facts{Format: engine.Format, Database: "honey", Start: template}
	require.NoError(t, s.Create(t.Context(), work, engine.Spec{}, facts))
	d, err := s.Open(t.Context(), work, engine.Session{})
	require.NoError(t, err)
	require.NoError(t, d.Apply(t.Context(), engine.Script{Text: "SET jars 40", First: 1}))
	require.NoError(t, s.Rename(t.Context(), work, template, facts))
	ids := []string{engine.NewID(engine.Copy), engine.NewID(engine.Copy)}
	for _, id := range ids {
		require.NoError(t, s.Copy(t.Context(), template, id, facts))
	}
	at := func(id string) engine.Connection {
		e, err := s.Find(t.Context(), id)
		require.NoError(t, err)
		return s.Connection(id, e.Facts)
	}
	reset := func(id string) {
		d, err := s.Open(t.Context(), id, engine.Session{})
		require.NoError(t, err)
		_, err = d.Reset(t.Context(), engine.Reset{Start: template})
		require.NoError(t, err)
		require.Equal(t, map[string]string{"jars": "40"}, send(t, at(id), "ALL"))
	}
	for _, id := range ids {
		send(t, at(id), "SET jars 41")
	}
	r := record(t)
	require.NoError(t, syscall.Kill(r.Servers[ids[0]].Server.PID, syscall.SIGKILL))
	require.Eventually(t, func() bool { return len(record(t).Servers) == 1 }, time.Minute, time.Millisecond)
	require.Equal(t, "41", send(t, at(ids[1]), "ALL")["jars"])
	for range 20 { // the end of one server is never taken for that of the next
		reset(ids[0])
	}
	require.Len(t, record(t).Servers, 2)
	require.Equal(t, "41", send(t, at(ids[1]), "ALL")["jars"])

	require.NoError(t, s.Close())
	require.NoError(t, syscall.Kill(r.Guard.PID, syscall.SIGKILL))
	require.Eventually(t, func() bool { return !place.Alive(r.Guard) }, time.Minute, time.Millisecond)
	s = open()
	defer func() { require.NoError(t, s.Close()) }()
	require.False(t, place.Alive(r.Servers[ids[1]].Server), "it went with its guard")
	for _, id := range ids {
		reset(id)
		require.NoError(t, s.Drop(t.Context(), id))
	}
}

// guarded is what of a guard's record is looked at.
type guarded struct {
	Guard   engine.Process
	Servers map[string]struct{ Server engine.Process }
}

func record(t *testing.T) (r guarded) {
	t.Helper()
	b, err := os.ReadFile(filepath.Join(os.Getenv("XDG_STATE_HOME"), "hemzo", "servers", "fake-0.json"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(b, &r))
	return r
}

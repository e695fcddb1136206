package fake_test

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"testing"

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

func TestSuite(t *testing.T) {
	enginetest.Home(t, fake.Engine{})
	send := func(t *testing.T, c engine.Connection, line string) (all map[string]string) {
		conn, err := net.Dial("tcp", c.Host)
		require.NoError(t, err)
		defer conn.Close()
		fmt.Fprintf(conn, "%s\n%s\n", c.Password, line)
		require.NoError(t, json.NewDecoder(conn).Decode(&all))
		return all
	}
	enginetest.Run(t, enginetest.Subject{
		Engine: fake.Engine{}, Wanted: place.Wanted{Where: []string{"memory"}},
		Steps: []string{"SET hives 3", "SET jars 40\nSET label honey of May"}, Broken: "SET a b\nBURN all",
		Work:   []enginetest.Work{{Name: "set", Text: "SET jars 41"}, {Name: "delete", Text: "DEL hives"}},
		Client: func(t *testing.T, c engine.Connection, text string) { send(t, c, text) },
		Dump:   func(t *testing.T, c engine.Connection) string { return fmt.Sprint(send(t, c, "ALL")) },
	})
}

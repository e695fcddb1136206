package postgres

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"hemzo/internal/engine"
)

// Image runs the usual image of PostgreSQL, of the version wanted, with the
// settings that private servers have.
func (Engine) Image(spec engine.Spec) engine.Image {
	version := spec.Version
	if version == "" {
		version = "latest"
	}
	args := []string{"postgres"}
	settings := append(slices.Clone(testSettings), engine.Setting{Name: "shared_buffers", Value: buffers(spec.Memory)})
	if spec.Room > 0 { // a log without room is the end of the server, a table without room an error
		settings = append(settings, engine.Setting{Name: "max_wal_size",
			Value: fmt.Sprintf("%dMB", max(spec.Room>>22, 2))})
	}
	for _, s := range append(settings, spec.Settings...) {
		args = append(args, "-c", s.Name+"="+s.Value)
	}
	return engine.Image{
		Name: "postgres:" + version, Ports: []int{serverPort}, Args: args,
		Env: []engine.Setting{{Name: "POSTGRES_USER", Value: admin}, {Name: "POSTGRES_DB", Value: "postgres"},
			{Name: "POSTGRES_INITDB_ARGS", Value: "--no-sync --wal-segsize=1"}},
		Password: "POSTGRES_PASSWORD_FILE", Data: "PGDATA", Folder: "/var/lib/postgresql/data", Stop: "INT",
	}
}

// foretell tells how a copy on a private server will be reached.
func foretell(_ engine.Spec, at engine.Endpoint, id string, facts engine.Facts) engine.Connection {
	host, port, _ := net.SplitHostPort(at.At[serverPort])
	number, _ := strconv.Atoi(port)
	config, err := address{Host: host, Port: number, User: admin, Password: at.Password}.config()
	if err != nil { // of a constant
		return engine.Connection{}
	}
	s := newServer(config, host, engine.Patience{})
	s.roles, s.isSuperuser, s.private, s.key = true, true, true, at.Password
	return s.Connection(id, facts)
}

// move tells a connection with another address, which is a port's.
func move(c engine.Connection, at map[int]string) engine.Connection {
	host, port, _ := net.SplitHostPort(at[serverPort])
	return connectionTo(host, port, "", c.User, c.Password, c.Database)
}

// serverPort is where a server listens inside its container.
const serverPort = 5432

// Probe asks the server of a container who it is. Its first, temporary server
// listens on no port, so what answers is the final one.
func (Engine) Probe(ctx context.Context, _ engine.Spec, c engine.Candidate) (json.RawMessage, error) {
	host, number, _ := net.SplitHostPort(c.Address(serverPort))
	port, _ := strconv.Atoi(number)
	password := c.Password
	// Where nothing answers it says so soon, whatever time there is.
	whole := ctx
	ctx, stop := context.WithTimeout(ctx, 2*time.Second)
	defer stop()
	a := address{Host: host, Port: port, User: admin, Password: password, Database: "postgres", Private: true,
		Where: "container"}
	conn, err := dial(ctx, a, a.Database)
	if err != nil {
		return nil, err
	}
	defer conn.Close(ctx)
	if err := conn.QueryRow(ctx, "SHOW server_version").Scan(&a.Version); err != nil {
		return nil, err
	}
	a.Version, _, _ = strings.Cut(a.Version, " ")
	// Each of Hemzo's commands connects: the password is random, and need not
	// be made slow to guess.
	verifier, err := scramRounds(password, 1)
	if err == nil {
		_, err = conn.Exec(ctx, fmt.Sprintf("SET log_statement = none; ALTER ROLE %s PASSWORD '%s'", admin, verifier))
	}
	if err != nil {
		return nil, fmt.Errorf("setting the password: %w", err)
	}
	if direct := c.Direct(serverPort); direct != "" {
		near := a
		near.Direct = direct
		// Who answers there and knows the password, which is not sent, is this server.
		if conn, err := dial(ctx, near.inside(), a.Database); err == nil {
			a.Direct = direct
			conn.Close(ctx)
		}
	}
	if a.Trust, err = trustBuild(whole, conn, a, c.Kept, io.Discard); err != nil {
		return nil, err
	}
	return json.Marshal(a)
}

package postgres

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
	"hemzo/internal/engine/launch"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/engine/postgres/witness"
	"hemzo/internal/fault"
)

// admin is the superuser of private servers.
const admin = "hemzo"

// address is how a server is reached by Hemzo itself.
type address struct {
	Host     string `json:"host"`
	Port     int    `json:"port"`
	Socket   string `json:"socket,omitempty"` // the folder that it lies in
	Direct   string `json:"direct,omitempty"` // host and port without a proxy in between, on this machine alone
	User     string `json:"user"`
	Password string `json:"password"`
	Database string `json:"database"`
	Private  bool   `json:"private"`
	Where    string `json:"where"`
	Version  string `json:"version,omitempty"`
	// Trust is what the self-test of the server's build found.
	Trust witness.Trust `json:"trust"`
}

// Identity names the private server for a Spec: its version and settings.
func (Engine) Identity(s engine.Spec) (string, error) {
	b, err := find(s.Version)
	if err != nil {
		return "", err
	}
	sum := sha256.New()
	fmt.Fprintf(sum, "%d %s %s\n", engine.Format, b.folder, b.stamp)
	for _, set := range sorted(s.Settings) {
		fmt.Fprintf(sum, "%s=%s\n", set.Name, set.Value)
	}
	return "postgres-" + b.major + "-" + hex.EncodeToString(sum.Sum(nil))[:12], nil
}

func sorted(all []engine.Setting) []engine.Setting {
	all = slices.Clone(all)
	slices.SortFunc(all, func(a, b engine.Setting) int { return strings.Compare(a.Name, b.Name) })
	return all
}

// testSettings are settings that trade safety after a crash of the machine, which
// a test database does not need, for speed. Autovacuum is off because the
// witness of resets needs quiet tables.
var testSettings = []engine.Setting{
	{Name: "fsync", Value: "off"}, {Name: "synchronous_commit", Value: "off"}, {Name: "full_page_writes", Value: "off"},
	{Name: "wal_level", Value: "minimal"}, {Name: "max_wal_senders", Value: "0"}, {Name: "autovacuum", Value: "off"},
	{Name: "max_connections", Value: "200"}, {Name: "max_wal_size", Value: "256MB"},
	{Name: "min_wal_size", Value: "2MB"}, {Name: "checkpoint_timeout", Value: "1d"},
	{Name: "log_checkpoints", Value: "off"}, {Name: "timezone", Value: "UTC"},
}

// longestSocket is the longest path of a socket that PostgreSQL takes on Linux, in bytes.
const longestSocket = 107

// Room estimates what the server's data takes at its start: a fresh folder or
// the kept one, and as much again as a first build may write.
func (e Engine) Room(spec engine.Spec, kept string) int64 {
	const fresh, build = 40 << 20, 64 << 20
	identity, err := e.Identity(spec)
	if err != nil {
		return fresh + build
	}
	size, err := launch.TreeSize(filepath.Join(kept, "saved-"+identity))
	if err != nil || size < fresh {
		size = fresh
	}
	return size + build
}

// buffers fits shared_buffers to what the process may use: the data is in
// memory already, and in a small container it counts twice.
func buffers(limit int64) string {
	mb := int64(64)
	if limit > 0 {
		mb = min(max(limit>>20/16, 8), mb)
	}
	return fmt.Sprintf("%dMB", mb)
}

// Launch starts a private server: loopback and a private socket alone, a free
// port, the user's own password.
func (e Engine) Launch(home engine.Home, spec engine.Spec) (func(context.Context, error) (*engine.Program, error),
	error) {
	if len(home.Folder)+len("/.s.PGSQL.65535") > longestSocket {
		return nil, launch.TooLong(home.Folder)
	}
	b, err := find(spec.Version)
	if err != nil {
		return nil, err
	}
	identity, err := e.Identity(spec)
	if err != nil {
		return nil, err
	}
	c := &cluster{
		installation: b, identity: identity, home: home, spec: spec, data: filepath.Join(home.Folder, "data"),
		owner: launch.ServerUser("postgres"),
	}
	return c.next, nil
}

// portTries is how often a port is chosen: another program may take it between
// its choice and its use.
const portTries = 5

// next gives the server to be run: with the data that an earlier one left, and
// where there are none, or they do not start, from scratch.
func (c *cluster) next(ctx context.Context, failed error) (*engine.Program, error) {
	switch {
	case failed == nil:
		if err := c.prepare(); err != nil {
			return nil, err
		}
	case errors.Is(failed, errPort) && c.ports < portTries:
		return c.program()
	case c.resumed == 0 || fault.KindOf(failed) == fault.Lacking:
		return nil, failed
	default:
		if err := c.giveUp(failed); err != nil {
			return nil, err
		}
	}
	c.ports = 0
	taken, err := c.copyKept(c.saved())
	if err != nil {
		return nil, err
	}
	if taken {
		c.resumed++
		return c.program()
	}
	c.resumed = 0
	if err := c.initialize(ctx); err != nil {
		return nil, err
	}
	return c.program()
}

// giveUp takes away kept data with which the server failed. Data with which it
// fails twice, though they are as they were kept, are set aside: that may be for
// another reason.
func (c *cluster) giveUp(failed error) error {
	fmt.Fprintf(c.home.Log, "hemzo: the server did not start with the kept data in %s: %v\n", c.saved(), failed)
	// It may have been killed: what it left is named in these data.
	if err := errors.Join(Engine{}.Clean(c.home.Folder), os.RemoveAll(c.data)); err != nil {
		return fmt.Errorf("removing a data folder: %w", err)
	}
	if c.resumed < 2 {
		return nil
	}
	aside := filepath.Join(c.home.Kept, "refused-"+c.identity)
	fmt.Fprintf(c.home.Log, "hemzo: they are set aside in %s, and the server starts from scratch\n", aside)
	if err := errors.Join(os.RemoveAll(aside), os.Rename(c.saved(), aside)); err != nil {
		return fmt.Errorf("setting a data folder aside: %w", err)
	}
	return nil
}

var errPort = errors.New("the port is taken")

// cluster is a data folder and the server on it.
type cluster struct {
	installation
	home     engine.Home
	spec     engine.Spec
	identity string
	data     string
	owner    *engine.User // nil for this process's own
	resumed  int          // how often the kept data was tried
	ports    int          // how many ports were tried with this data
}

// command is a program of this installation, run as the server's user.
func (c *cluster) command(ctx context.Context, name string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, filepath.Join(c.folder, name), args...)
	cmd.Dir = c.home.Folder
	cmd.Env = append(os.Environ(), serverEnv...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if c.owner != nil {
		cmd.SysProcAttr.Credential = &syscall.Credential{Uid: c.owner.UID, Gid: c.owner.GID}
	}
	return cmd
}

// own gives a folder to the server's user.
func (c *cluster) own(path string) error { return launch.Chown(path, c.owner) }

// prepare gives the server's folder to its user.
func (c *cluster) prepare() error {
	if err := c.own(c.home.Folder); err != nil {
		return fmt.Errorf("giving %s to the server's user: %w", c.home.Folder, err)
	}
	if c.owner != nil {
		if dir := launch.Closed(filepath.Dir(c.home.Folder)); dir != "" {
			return fault.New(fault.Lacking, "chmod o+x it, or set HEMZO_MEMORY_DIR to another folder",
				"run by root, PostgreSQL runs as another user (uid %d), who cannot pass through %s", c.owner.UID, dir)
		}
	}
	return nil
}

// initialize lays out the data folder: a copy of a fresh one kept from before, or a
// fresh one, which is then kept.
func (c *cluster) initialize(ctx context.Context) error {
	kept := filepath.Join(c.home.Kept, "fresh-"+c.major+"-"+c.stamp)
	if taken, err := c.copyKept(kept); err != nil || taken {
		return err
	}
	// It is let finish, whoever has gone meanwhile: ended half-way it takes the
	// files away from a server of its own, which then leaves its shared memory.
	limited, stop := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
	defer stop()
	cmd := c.command(limited, "initdb", "--pgdata="+c.data, "--username="+admin, "--auth=trust", "--encoding=UTF8",
		"--locale=C", "--no-sync", "--wal-segsize=1")
	if out, err := cmd.CombinedOutput(); err != nil {
		e := fault.New(fault.Lacking, "", "initdb failed: %v", err)
		e.Lines = fault.LastLines(string(out), 6)
		if strings.Contains(string(out), noSpace) {
			e.Said, e.Next = noSpace, noRoomFor
		}
		return e
	}
	_ = c.keep(kept) // that it cannot be kept is no reason not to start
	return ctx.Err()
}

// configure writes the server's settings. They are a file of its own, in the
// place of the one that initdb wrote: the data folder says nothing of ports,
// sockets and who may come in.
func (c *cluster) configure(port int) (config string, err error) {
	hba := filepath.Join(c.home.Folder, "access.conf")
	// Who may open the socket's private folder may read the data as well, and
	// needs no password: Hemzo's own sessions save the time that one takes.
	if err := c.write(hba, "local all all trust\nhost all all 127.0.0.1/32 scram-sha-256\n"); err != nil {
		return "", err
	}
	settings := append(slices.Clone(testSettings),
		engine.Setting{Name: "shared_buffers", Value: buffers(launch.MemoryLimit())})
	settings = append(settings, c.spec.Settings...)
	settings = append(settings,
		engine.Setting{Name: "listen_addresses", Value: "127.0.0.1"},
		engine.Setting{Name: "unix_socket_directories", Value: c.home.Folder},
		engine.Setting{Name: "hba_file", Value: hba},
		// Before 14 md5 is the default, with which nobody would be let in.
		engine.Setting{Name: "password_encryption", Value: "scram-sha-256"},
		engine.Setting{Name: "dynamic_shared_memory_type", Value: "mmap"},
		engine.Setting{Name: "port", Value: strconv.Itoa(port)})
	if atLeast(c.major, 18) && launch.Clones(c.home.Folder) { // copies share their files' blocks
		settings = append(settings, engine.Setting{Name: "file_copy_method", Value: "clone"})
	}
	var text strings.Builder
	for _, s := range settings {
		fmt.Fprintf(&text, "%s = '%s'\n", s.Name, strings.ReplaceAll(s.Value, "'", "''"))
	}
	config = filepath.Join(c.home.Folder, "server.conf")
	return config, c.write(config, text.String())
}

// program is the server on the data folder, at another port each time.
func (c *cluster) program() (*engine.Program, error) {
	port, err := launch.FreePort()
	if err != nil {
		return nil, err
	}
	config, err := c.configure(port)
	if err != nil {
		return nil, err
	}
	c.ports++
	cmd := c.command(context.Background(), "postgres", "-D", c.data, "-c", "config_file="+config)
	return &engine.Program{
		Path: cmd.Path, Args: cmd.Args[1:], Env: serverEnv, Folder: cmd.Dir, User: c.owner, Stop: syscall.SIGINT,
		Kill:  syscall.SIGQUIT,
		Probe: func(ctx context.Context) (json.RawMessage, error) { return c.probe(ctx, port) },
		Ended: func(code int) error {
			if launch.PortInUse(port) {
				return errPort
			}
			return fmt.Errorf("PostgreSQL ended while it started (exit code %d)", code)
		},
		Save: func() (string, error) { return c.saved(), c.save(context.Background()) },
	}, nil
}

var serverEnv = []string{"LC_ALL=C", "TZ=UTC"}

// probe asks the server at its socket, and sets the passwords: until then nobody
// comes in but by the socket.
func (c *cluster) probe(ctx context.Context, port int) (json.RawMessage, error) {
	a := address{Host: c.home.Folder, Port: port, User: admin, Database: "postgres", Private: true, Where: "memory"}
	conn, err := dial(ctx, a, "postgres")
	if err != nil {
		if state := pg.State(err); state == "" || state == pg.CannotConnectNow { // it is still starting
			err = fmt.Errorf("%w: %w", engine.ErrNotReady, err)
		}
		return nil, fmt.Errorf("waiting for PostgreSQL: %w", err)
	}
	defer conn.Close(context.WithoutCancel(ctx))
	a.Host, a.Socket, a.Version = "127.0.0.1", c.home.Folder, c.version()
	if a.Password, err = c.secure(ctx, conn, a); err != nil {
		return nil, err
	}
	if a.Trust, err = trustBuild(ctx, conn, a, c.home.Kept, c.home.Log); err != nil {
		return nil, err
	}
	return json.Marshal(a)
}

func (c *cluster) write(path, text string) error {
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		return fmt.Errorf("writing the server's access rules: %w", err)
	}
	return c.own(path)
}

// secure sets the passwords: until then nobody comes in but by the socket.
func (c *cluster) secure(ctx context.Context, conn *pgx.Conn, a address) (string, error) {
	password := c.home.Password
	verifier, err := scram(password)
	if err != nil {
		return "", err
	}
	sql := fmt.Sprintf("ALTER ROLE %s PASSWORD '%s';", admin, verifier)
	// A kept data folder holds the passwords of another life.
	rows, err := conn.Query(ctx, `SELECT rolname FROM pg_roles WHERE rolcanlogin AND (rolname LIKE 'hemzo\_%'
		OR shobj_description(oid, 'pg_authid') LIKE 'made by Hemzo%')`)
	if err != nil {
		return "", fmt.Errorf("setting the passwords: %w", err)
	}
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	for _, name := range names {
		if err == nil {
			verifier, err = scram(derived(password, name))
			sql += fmt.Sprintf(" ALTER ROLE %s PASSWORD '%s';", pg.Ident(name), verifier)
		}
	}
	if err == nil {
		_, err = conn.Exec(ctx, sql)
	}
	if err != nil {
		return "", fmt.Errorf("setting the passwords: %w", err)
	}
	// Ready means: a query was answered on the address that is handed out.
	a.Password = password
	for {
		over, err := dial(ctx, a, "postgres")
		if err == nil {
			return password, over.Close(ctx)
		}
		if ctx.Err() != nil {
			return "", fmt.Errorf("waiting for PostgreSQL: %w", err)
		}
		time.Sleep(time.Millisecond)
	}
}

package postgres

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/fault"
)

// admin is the superuser of private servers.
const admin = "hemzo"

// address is how a server is reached by Hemzo itself.
type address struct {
	Host     string `json:"host"`
	Port     int    `json:"port"`
	Socket   string `json:"socket,omitempty"` // the folder that it lies in
	User     string `json:"user"`
	Password string `json:"password"`
	Database string `json:"database"`
	Private  bool   `json:"private"`
	Where    string `json:"where"`
	Version  string `json:"version,omitempty"`
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

// forTests are settings that trade safety after a crash of the machine, which
// a test database does not need, for speed. Autovacuum is off because the
// witness of resets needs quiet tables.
var forTests = []engine.Setting{
	{Name: "fsync", Value: "off"}, {Name: "synchronous_commit", Value: "off"}, {Name: "full_page_writes", Value: "off"},
	{Name: "wal_level", Value: "minimal"}, {Name: "max_wal_senders", Value: "0"}, {Name: "autovacuum", Value: "off"},
	{Name: "max_connections", Value: "200"}, {Name: "max_wal_size", Value: "256MB"},
	{Name: "min_wal_size", Value: "2MB"}, {Name: "checkpoint_timeout", Value: "1d"},
	{Name: "log_checkpoints", Value: "off"}, {Name: "timezone", Value: "UTC"},
}

// Room estimates what the server's data takes at its start: a fresh folder or
// the kept one, and as much again as a first build may write.
func (e Engine) Room(spec engine.Spec, kept string) int64 {
	const fresh, build = 40 << 20, 64 << 20
	identity, err := e.Identity(spec)
	if err != nil {
		return fresh + build
	}
	size, err := treeSize(filepath.Join(kept, "saved-"+identity))
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

// memoryLimit is the memory, in bytes, that the control groups above this
// process allow; 0 for no limit.
func memoryLimit() (least int64) {
	own, _ := os.ReadFile("/proc/self/cgroup")
	files := []string{"/sys/fs/cgroup/memory/memory.limit_in_bytes"}
	for line := range strings.Lines(string(own)) {
		if path, ok := strings.CutPrefix(strings.TrimSpace(line), "0::"); ok {
			for ; ; path = filepath.Dir(path) {
				files = append(files, filepath.Join("/sys/fs/cgroup", path, "memory.max"))
				if path == "/" || path == "." {
					break
				}
			}
		}
	}
	for _, file := range files {
		b, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		n, err := strconv.ParseInt(strings.TrimSpace(string(b)), 10, 64)
		if err == nil && n < 1<<50 && (least == 0 || n < least) {
			least = n
		}
	}
	return least
}

// Launch starts a private server: loopback and a private socket alone, a free
// port, the user's own password.
func (e Engine) Launch(home engine.Home, spec engine.Spec) (func(context.Context, error) (*engine.Program, error),
	error) {
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
		owner: serverUser(),
	}
	return c.next, nil
}

// portTries is how often a port is chosen: another program may take it between
// its choice and its use.
const portTries = 5

// next gives the server to be run: with the data that an earlier one left, and
// where there are none, or they do not start, from nothing.
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
	taken, err := c.take(c.saved())
	if err != nil {
		return nil, err
	}
	if taken {
		c.resumed++
		return c.program()
	}
	c.resumed = 0
	if err := c.lay(ctx); err != nil {
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
	fmt.Fprintf(c.home.Log, "hemzo: they are set aside in %s, and the server starts from nothing\n", aside)
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

// serverUser is the user that a server runs as where this process is root, as
// whom PostgreSQL does not run.
func serverUser() *engine.User {
	if os.Getuid() != 0 {
		return nil
	}
	for _, name := range []string{"postgres", "nobody"} {
		if u, err := user.Lookup(name); err == nil {
			uid, _ := strconv.ParseUint(u.Uid, 10, 32)
			gid, _ := strconv.ParseUint(u.Gid, 10, 32)
			return &engine.User{UID: uint32(uid), GID: uint32(gid)}
		}
	}
	return &engine.User{UID: 65534, GID: 65534}
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
func (c *cluster) own(path string) error { return chown(path, c.owner) }

// prepare gives the server's folder to its user.
func (c *cluster) prepare() error {
	if err := c.own(c.home.Folder); err != nil {
		return fmt.Errorf("giving %s to the server's user: %w", c.home.Folder, err)
	}
	if c.owner != nil {
		if dir := closed(filepath.Dir(c.home.Folder)); dir != "" {
			return fault.New(fault.Lacking, "chmod o+x it, or set HEMZO_MEMORY_DIR to another folder",
				"run by root, PostgreSQL runs as another user (uid %d), who cannot pass through %s", c.owner.UID, dir)
		}
	}
	return nil
}

// lay lays out the data folder: a copy of a fresh one kept from before, or a
// fresh one, which is then kept.
func (c *cluster) lay(ctx context.Context) error {
	kept := filepath.Join(c.home.Kept, "fresh-"+c.major+"-"+c.stamp)
	if taken, err := c.take(kept); err != nil || taken {
		return err
	}
	// It is let finish, whoever has gone meanwhile: ended half-way it takes the
	// files away from a server of its own, which then leaves its shared memory.
	limited, stop := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
	defer stop()
	cmd := c.command(limited, "initdb", "--pgdata="+c.data, "--username="+admin, "--auth=trust", "--encoding=UTF8",
		"--locale=C", "--no-sync", "--no-instructions", "--wal-segsize=1")
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

// saved is where the data folder is kept when the server has ended cleanly:
// its templates then need no building. It is named after the server's folder,
// and so after its version and settings.
func (c *cluster) saved() string {
	return filepath.Join(c.home.Kept, "saved-"+c.identity)
}

// noRoomFor is what to do where the data of a server finds no room.
const noRoomFor = "free some room, or set HEMZO_MEMORY_DIR to a folder with more"

// take copies a kept data folder; false where there is none that is whole. One
// that was looked at and found broken is removed; where the copy fails for
// another reason it stays, and that is the error.
func (c *cluster) take(from string) (bool, error) {
	// The mark is written last: a folder without it is half a folder.
	mark, err := os.ReadFile(filepath.Join(from, "whole"))
	of, size, _ := strings.Cut(string(mark), "\n")
	if err != nil || of != c.major+" "+c.stamp {
		return false, nil
	}
	err = copyTree(filepath.Join(from, "data"), c.data, c.owner)
	if err == nil {
		_ = os.Chtimes(filepath.Join(from, "whole"), time.Time{}, time.Now()) // used
		return true, nil
	}
	_ = os.RemoveAll(c.data)
	if now, failed := sizeOf(filepath.Join(from, "data")); failed != nil || now != size {
		return false, os.RemoveAll(from)
	}
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
		f := fault.New(fault.Lacking, noRoomFor, "copying the kept data folder: no room left in %s", c.home.Folder)
		f.Reason = err
		return false, f
	}
	return false, fmt.Errorf("copying the kept data folder: %w", err)
}

// sizeOf tells how many files a kept folder has, and how large they are: each
// is read to its end.
func sizeOf(dir string) (string, error) {
	var files, size int64
	err := filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		defer f.Close()
		n, err := io.Copy(io.Discard, f)
		files, size = files+1, size+n
		return err
	})
	return fmt.Sprintf("%d files, %d bytes", files, size), err
}

// keepLimit bounds what one kept data folder may take, keptLimit what all of
// them may take together, in bytes.
const (
	keepLimit = 1 << 30
	keptLimit = 4 << 30
)

// keep keeps the data folder of a server that is not running. It replaces
// what was kept before in one step; of two at once the later one stays.
func (c *cluster) keep(to string) error {
	if c.home.Kept == "" {
		return nil
	}
	if err := os.MkdirAll(c.home.Kept, 0o700); err != nil {
		return fmt.Errorf("keeping the data folder: %w", err)
	}
	if size, err := treeSize(c.data); err != nil || size > keepLimit {
		return err
	}
	work, err := os.MkdirTemp(c.home.Kept, "work-")
	if err != nil {
		return fmt.Errorf("keeping the data folder: %w", err)
	}
	defer os.RemoveAll(work)
	err = copyTree(c.data, filepath.Join(work, "data"), nil)
	var size string
	if err == nil {
		size, err = sizeOf(filepath.Join(work, "data"))
	}
	if err == nil {
		err = os.WriteFile(filepath.Join(work, "whole"), []byte(c.major+" "+c.stamp+"\n"+size), 0o600)
	}
	if err != nil {
		return fmt.Errorf("keeping the data folder: %w", err)
	}
	old := work + "-old"
	if err := os.Rename(to, old); err != nil && !errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("keeping the data folder: %w", err)
	}
	defer os.RemoveAll(old)
	if err := os.Rename(work, to); err != nil && !errors.Is(err, syscall.ENOTEMPTY) && !errors.Is(err, os.ErrExist) {
		return fmt.Errorf("keeping the data folder: %w", err)
	}
	return pruneKept(c.home.Kept, to, keptLimit)
}

// pruneKept removes the kept folders that were not used for the longest time,
// but for one, until the rest takes no more than limit.
func pruneKept(kept, but string, limit int64) error {
	type folder struct {
		path string
		size int64
		used time.Time
	}
	marks, _ := filepath.Glob(filepath.Join(kept, "*", "whole"))
	var all []folder
	for _, m := range marks {
		info, err := os.Stat(m)
		if err != nil {
			continue // another process removes it
		}
		f := folder{path: filepath.Dir(m), used: info.ModTime()}
		if f.size, err = treeSize(f.path); err == nil {
			all = append(all, f)
			limit -= f.size
		}
	}
	slices.SortFunc(all, func(a, b folder) int { return a.used.Compare(b.used) })
	for _, f := range all {
		if limit >= 0 {
			break
		}
		if f.path == but {
			continue
		}
		// Without its mark first: half a folder is none.
		if err := errors.Join(os.Remove(filepath.Join(f.path, "whole")), os.RemoveAll(f.path)); err != nil {
			return fmt.Errorf("removing an old data folder: %w", err)
		}
		limit += f.size
	}
	return nil
}

func treeSize(dir string) (size int64, err error) {
	err = filepath.WalkDir(dir, func(_ string, d os.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			info, failed := d.Info()
			if failed != nil {
				return failed
			}
			size += info.Size()
		}
		return err
	})
	return size, err
}

// prune drops what does not outlive the server, and leaves as little log as
// can be.
func prune(ctx context.Context, address json.RawMessage) error {
	s, err := connect(ctx, address, engine.Patience{})
	if err != nil {
		return err
	}
	defer s.Close()
	all, err := s.List(ctx)
	if err != nil {
		return err
	}
	// The templates used last stay, as many as there is room for.
	slices.SortFunc(all, func(a, b engine.Entry) int { return b.Facts.Used.Compare(a.Facts.Used) })
	room := int64(keepLimit - 64<<20)
	for _, e := range all {
		if e.Kind == engine.Template && !e.Bad && e.Size <= room {
			room -= e.Size
			continue
		}
		if err := s.Drop(ctx, e.ID); err != nil {
			return err
		}
	}
	return s.(*server).prune(ctx)
}

// prune drops what tests have made beside the databases that Hemzo made, and
// brings the log to an end.
func (s *server) prune(ctx context.Context) error {
	var names []string
	err := s.readRetrying(ctx, func(ctx context.Context, conn *pgx.Conn) error {
		rows, err := conn.Query(ctx, `SELECT datname FROM pg_database WHERE datname NOT IN ('postgres',
		'template0', 'template1') AND datname NOT LIKE 'hemzo\_t\_%'`)
		if err == nil {
			names, err = pgx.CollectRows(rows, pgx.RowTo[string])
		}
		return err
	})
	for _, name := range names {
		if err == nil {
			err = s.execInBackground(ctx, fmt.Sprintf(
				"ALTER DATABASE %s IS_TEMPLATE false; DROP DATABASE %s WITH (FORCE)",
				pg.Ident(name), pg.Ident(name)))
		}
	}
	if err == nil {
		err = s.clearLogins(ctx)
	}
	if err != nil {
		return fmt.Errorf("dropping what does not outlive the server: %w", err)
	}
	return s.execInBackground(ctx, "CHECKPOINT")
}

// save keeps the data folder of a server that has ended.
func (c *cluster) save(ctx context.Context) error {
	out, err := c.command(ctx, "pg_controldata", "-D", c.data).Output()
	if err != nil || !shutDown.Match(out) {
		return nil // not cleanly: not worth keeping
	}
	return c.keep(c.saved())
}

var shutDown = regexp.MustCompile(`(?m)^Database cluster state: +shut down$`)

// closed returns the folder on a path that others cannot pass through.
func closed(path string) string {
	for ; path != filepath.Dir(path); path = filepath.Dir(path) {
		if info, err := os.Stat(path); err == nil && info.Mode().Perm()&0o001 == 0 {
			return path
		}
	}
	return ""
}

// copyTree copies a folder of files and folders; its files are the owner's.
func copyTree(from, to string, owner *engine.User) error {
	var files errgroup.Group
	files.SetLimit(4)
	err := filepath.WalkDir(from, func(path string, d os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(from, path)
		if err != nil {
			return err
		}
		target := filepath.Join(to, rel)
		switch {
		case d.IsDir():
			return errors.Join(os.Mkdir(target, 0o700), chown(target, owner))
		case d.Type().IsRegular():
			files.Go(func() error { return errors.Join(copyFile(path, target), chown(target, owner)) })
			return nil
		}
		return fmt.Errorf("%s is neither file nor folder", path)
	})
	return errors.Join(err, files.Wait())
}

func chown(path string, owner *engine.User) error {
	if owner == nil {
		return nil
	}
	return os.Chown(path, int(owner.UID), int(owner.GID))
}

// copyFile leaves the copying to the kernel where that can do it.
func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
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
	settings := append(slices.Clone(forTests), engine.Setting{Name: "shared_buffers", Value: buffers(memoryLimit())})
	settings = append(settings, c.spec.Settings...)
	settings = append(settings,
		engine.Setting{Name: "listen_addresses", Value: "127.0.0.1"},
		engine.Setting{Name: "unix_socket_directories", Value: c.home.Folder},
		engine.Setting{Name: "hba_file", Value: hba},
		engine.Setting{Name: "dynamic_shared_memory_type", Value: "mmap"},
		engine.Setting{Name: "port", Value: strconv.Itoa(port)})
	var text strings.Builder
	for _, s := range settings {
		fmt.Fprintf(&text, "%s = '%s'\n", s.Name, strings.ReplaceAll(s.Value, "'", "''"))
	}
	config = filepath.Join(c.home.Folder, "server.conf")
	return config, c.write(config, text.String())
}

// program is the server on the data folder, at another port each time.
func (c *cluster) program() (*engine.Program, error) {
	port, err := freePort()
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
			if taken(port) {
				return errPort
			}
			return fmt.Errorf("PostgreSQL ended while it started (exit code %d)", code)
		},
		Save: func() error { return c.save(context.Background()) },
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
	if err := conn.Close(ctx); err != nil {
		return nil, fmt.Errorf("asking PostgreSQL: %w", err)
	}
	a.Host, a.Socket, a.Version = "127.0.0.1", c.home.Folder, c.version()
	if a.Password, err = c.secure(ctx, a); err != nil {
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

func taken(port int) bool {
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if err != nil {
		return true
	}
	l.Close()
	return false
}

// secure sets the passwords: until then nobody comes in but by the socket.
func (c *cluster) secure(ctx context.Context, a address) (string, error) {
	conn, err := dial(ctx, a.inside(), "postgres")
	if err != nil {
		return "", err
	}
	defer conn.Close(ctx)
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

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, fault.New(fault.Lacking, "", "there is no free port: %v", err)
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

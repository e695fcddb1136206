package mariadb

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"hemzo/internal/engine"
	"hemzo/internal/engine/launch"
	"hemzo/internal/fault"
)

// Identity names the servers for a Spec: their version and settings.
func (e Engine) Identity(s engine.Spec) (string, error) {
	b, err := e.find(s.Version)
	if err != nil {
		return "", err
	}
	sum := sha256.New()
	if e.MySQL { // one server holds all
		fmt.Fprintf(sum, "%d %s %s\n", engine.Format, b.server, b.stamp)
	} else {
		fmt.Fprintf(sum, "%d %s %s %s %s %s\n", engine.Format, b.server, b.stamp, s.Encoding, s.Locale, schemaName(s))
	}
	for _, set := range sorted(s.Settings) {
		fmt.Fprintf(sum, "%s=%s\n", set.Name, set.Value)
	}
	return e.Name() + "-" + b.major + "-" + hex.EncodeToString(sum.Sum(nil))[:12], nil
}

// Room estimates what a server's data takes at its start, and what a build may write.
func (e Engine) Room(engine.Spec, string) int64 {
	if e.MySQL {
		return 256 << 20
	}
	return 64 << 20
}

// Clean finds nothing: what a killed server leaves lies in its folder.
func (Engine) Clean(string) error { return nil }

// testSettings trade safety after a crash of the machine, which a test database does not
// need, for speed; files stay small, as they are copied. Statistics are not gathered
// anew while tests run: the witness of resets counts what they count.
var testSettings = []engine.Setting{
	{Name: "innodb_flush_method", Value: "nosync"}, {Name: "innodb_doublewrite", Value: "0"},
	{Name: "innodb_flush_log_at_trx_commit", Value: "2"}, {Name: "sync_binlog", Value: "0"},
	{Name: "innodb_buffer_pool_size", Value: "64M"}, {Name: "innodb_buffer_pool_dump_at_shutdown", Value: "0"},
	{Name: "innodb_buffer_pool_load_at_startup", Value: "0"}, {Name: "performance_schema", Value: "0"},
	{Name: "innodb_stats_auto_recalc", Value: "0"}, {Name: "innodb_stats_persistent", Value: "1"},
	{Name: "table_definition_cache", Value: "20000"}, {Name: "table_open_cache", Value: "4000"},
	{Name: "max_connections", Value: "200"}, {Name: "key_buffer_size", Value: "1M"},
	{Name: "aria_pagecache_buffer_size", Value: "8M"},
}

// fixedSettings cannot be another thing once a folder is laid out.
var fixedSettings = []engine.Setting{
	{Name: "innodb_log_file_size", Value: "8M"}, {Name: "innodb_data_file_path", Value: "ibdata1:4M:autoextend"},
	{Name: "innodb_temp_data_file_path", Value: "ibtmp1:2M:autoextend"}, {Name: "innodb_autoextend_increment",
		Value: "1"},
}

// layout is a data folder and the server on it.
type layout struct {
	installation
	home  engine.Home
	spec  engine.Spec
	data  string
	owner *engine.User
	ports int
	first []string // statements that the server runs before anybody comes in
}

// Launch starts a server: loopback and a private socket alone, a free port.
func (e Engine) Launch(home engine.Home, spec engine.Spec) (func(context.Context, error) (*engine.Program, error),
	error) {
	b, err := e.find(spec.Version)
	if err != nil {
		return nil, err
	}
	l := &layout{installation: b, home: home, spec: spec, data: filepath.Join(home.Folder, "data"),
		owner: launch.ServerUser("mysql")}
	return l.next, nil
}

var errPort = errors.New("the port is taken")

// portTries is how often a port is chosen: another program may take it between its choice
// and its use.
const portTries = 5

func (l *layout) next(ctx context.Context, failed error) (*engine.Program, error) {
	if failed != nil && (!errors.Is(failed, errPort) || l.ports >= portTries) {
		return nil, failed
	}
	if failed == nil {
		if err := l.prepare(ctx); err != nil {
			return nil, err
		}
	}
	return l.program()
}

// prepare lays out the data: those that the server begins with, or fresh ones.
func (l *layout) prepare(ctx context.Context) error {
	if err := launch.Enter(l.home.Folder, l.owner, "MariaDB"); err != nil {
		return err
	}
	from := filepath.Join(l.home.From, dataFolder)
	if l.home.From == "" {
		from = filepath.Join(l.home.Kept, "fresh-"+l.stamp)
		if _, err := os.Stat(from); err != nil {
			if err := l.initialize(ctx, from); err != nil {
				return err
			}
		}
	}
	if err := launch.CopyTree(from, l.data, l.owner); err != nil {
		return launch.NoRoom(err, "copying the data of a server")
	}
	if l.home.From == "" {
		return nil
	}
	return l.fillMemory()
}

// fillMemory has the server begin with the rows of tables that are not in its files:
// those of the engine MEMORY.
func (l *layout) fillMemory() error {
	s, err := readState(l.home.From)
	if err != nil {
		return err
	}
	for _, t := range s.Tables {
		if t.Engine != "MEMORY" || t.Rows == 0 {
			continue
		}
		path := filepath.Join(l.home.Folder, "rows-"+strconv.Itoa(t.File))
		if err := errors.Join(launch.CopyFile(s.rowsFile(t), path), launch.Chown(path, l.owner)); err != nil {
			return launch.NoRoom(err, "copying the rows of "+t.Name)
		}
		l.first = append(l.first, fmt.Sprintf("LOAD DATA INFILE %s INTO TABLE %s.%s%s (%s)", text(path), quote(s.Schema),
			quote(t.Name), fields, quoteAll(t.stored())))
	}
	return nil
}

// dataFolder is the name of the data's folder in a template.
const dataFolder = "data"

// initialize lays out a fresh data folder, and keeps it.
func (l *layout) initialize(ctx context.Context, kept string) error {
	work := kept + "-" + rand.Text()[:8]
	defer os.RemoveAll(work)
	if err := os.MkdirAll(filepath.Dir(kept), 0o700); err != nil {
		return err
	}
	fresh := filepath.Join(l.home.Folder, "fresh")
	defer os.RemoveAll(fresh)
	if err := errors.Join(os.Mkdir(fresh, 0o700), launch.Chown(fresh, l.owner)); err != nil {
		return err
	}
	limited, stop := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
	defer stop()
	args := []string{"--no-defaults", "--datadir=" + fresh, "--auth-root-authentication-method=normal",
		"--skip-test-db",
		"--skip-name-resolve", "--tmpdir=" + l.home.Folder}
	settings := append(fixedSettings, testSettings...)
	if l.mysql {
		args = []string{"--no-defaults", "--initialize-insecure", "--datadir=" + fresh, "--tmpdir=" + l.home.Folder,
			"--secure-file-priv=NULL"}
		settings = mysqlFixed
	}
	for _, s := range settings {
		args = append(args, option(s))
	}
	cmd := exec.CommandContext(limited, l.layout, args...)
	cmd.Dir = l.home.Folder
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if l.owner != nil {
		cmd.SysProcAttr.Credential = &syscall.Credential{Uid: l.owner.UID, Gid: l.owner.GID}
	}
	if out, err := cmd.CombinedOutput(); err != nil {
		e := fault.New(fault.Lacking, "", "%s failed: %v", filepath.Base(l.layout), err)
		e.Lines = fault.LastLines(string(out), 6)
		return e
	}
	if err := launch.CopyTree(fresh, work, nil); err != nil {
		return launch.NoRoom(err, "keeping a fresh data folder")
	}
	if err := os.Rename(work, kept); err != nil && !errors.Is(err, os.ErrExist) && !errors.Is(err, syscall.ENOTEMPTY) {
		return err
	}
	return ctx.Err()
}

func option(s engine.Setting) string {
	return "--" + strings.ReplaceAll(s.Name, "_", "-") + "=" + s.Value
}

// admin is Hemzo's own account on a server; ownerOf that of tests and sources.
const admin = "hemzo"

func ownerOf(schema string) string { return "hemzo_" + schema }

// accounts are the statements that the server runs before anybody comes in: those of
// another life know other passwords.
func (l *layout) accounts() string {
	schema := schemaName(l.spec)
	owner := ownerOf(schema)
	charset := " CHARACTER SET " + charsetOf(l.spec)
	if collation := collationOf(l.spec); collation != "" {
		charset += " COLLATE " + collation
	}
	all := []string{
		fmt.Sprintf("CREATE OR REPLACE USER '%s'@'%%' IDENTIFIED BY '%s'", admin,
			engine.Derive([]byte(l.home.Password), admin)),
		fmt.Sprintf("GRANT ALL ON *.* TO '%s'@'%%' WITH GRANT OPTION", admin),
		fmt.Sprintf("CREATE OR REPLACE USER '%s'@'%%' IDENTIFIED BY '%s'", owner,
			engine.Derive([]byte(l.home.Password), owner)),
		fmt.Sprintf("GRANT ALL ON `%s`.* TO '%s'@'%%'", strings.ReplaceAll(schema, "_", `\_`), owner),
		"DROP USER IF EXISTS ''@'localhost', ''@'" + hostname() + "', 'root'@'localhost', 'root'@'127.0.0.1', " +
			"'root'@'::1', 'root'@'" +
			hostname() + "'",
	}
	if l.home.From == "" {
		all = append(all, fmt.Sprintf("CREATE DATABASE IF NOT EXISTS `%s`%s", schema, charset))
	}
	return strings.Join(append(all, l.first...), ";\n") + ";\n"
}

// charsetOf is a database's character set: the project file's  encoding.
func charsetOf(s engine.Spec) string {
	if s.Encoding == "" || strings.EqualFold(s.Encoding, "UTF-8") || strings.EqualFold(s.Encoding, "UTF8") {
		return "utf8mb4"
	}
	return strings.ToLower(s.Encoding)
}

// collationOf is a database's collation: the project file's  locale; "" for the
// character set's own.
func collationOf(s engine.Spec) string {
	if s.Locale == "C" {
		return ""
	}
	return strings.ToLower(s.Locale)
}

// socket is where the server's socket lies: it has one in any case, and its path counts
// from the data folder.
func (a address) socket() string { return cmp.Or(a.Socket, "../sock") }

func hostname() string {
	name, _ := os.Hostname()
	return strings.NewReplacer("'", "", `\`, "").Replace(strings.ToLower(name))
}

// address is how a server is reached by Hemzo itself, and told to tests.
type address struct {
	Socket   string    `json:"socket,omitempty"`
	Host     string    `json:"host,omitempty"` // "" for this machine
	Port     int       `json:"port"`
	Schema   string    `json:"schema"`
	Login    string    `json:"login,omitempty"`   // Hemzo's account; "" for the usual one
	Admin    string    `json:"admin"`             // its password
	Account  string    `json:"account,omitempty"` // the tests' account; "" for one named after the schema
	Password string    `json:"password"`
	Folder   string    `json:"folder,omitempty"`
	Life     string    `json:"life"`             // another one at each start: what is counted begins anew
	Server   string    `json:"server,omitempty"` // its program
	Done     done      `json:"done"`             // what was executed when it began
	Where    string    `json:"where,omitempty"`  // it runs; "" in a container
	Version  string    `json:"version,omitempty"`
	Shared   bool      `json:"shared,omitempty"` // other copies are on the same server
	own      *sync.Map // see conn
	// Untrusted is what the witness does not see on this build of the server; "" where it
	// sees all.
	Untrusted string `json:"untrusted,omitempty"`
	Uncounted bool   `json:"uncounted,omitempty"` // what InnoDB counts is not exact there, or not to be seen
	MySQL     bool   `json:"mysql,omitempty"`
	TLS       string `json:"tls,omitempty"`    // how the driver is to use it
	Narrow    bool   `json:"narrow,omitempty"` // Hemzo's account sees nothing of the server's own tables
}

// program is the server on the data folder.
func (l *layout) program() (*engine.Program, error) {
	port, err := launch.Port(l.home.Folder, l.ports)
	if err != nil {
		return nil, err
	}
	l.ports++
	if l.mysql {
		return l.mysqlProgram(port)
	}
	first := filepath.Join(l.home.Folder, "accounts.sql")
	if err := errors.Join(os.WriteFile(first, []byte(l.accounts()), 0o600), launch.Chown(first, l.owner)); err != nil {
		return nil, fmt.Errorf("writing the server's accounts: %w", err)
	}
	schema := schemaName(l.spec)
	a := address{Socket: launch.Socket(l.home.Folder), Port: port, Schema: schema,
		Admin:    engine.Derive([]byte(l.home.Password), admin),
		Password: engine.Derive([]byte(l.home.Password), ownerOf(schema)), Folder: l.data,
		Life: rand.Text(), Server: l.server, Version: l.version}
	args := []string{"--no-defaults", "--datadir=" + l.data, "--socket=" + a.socket(), "--port=" + strconv.Itoa(port),
		"--bind-address=127.0.0.1", "--pid-file=" + filepath.Join(l.home.Folder, "pid"), "--tmpdir=" + l.home.Folder,
		"--init-file=" + first, "--skip-name-resolve", "--local-infile=1", "--secure-file-priv=", "--userstat=1",
		"--default-time-zone=+00:00"}
	for _, s := range append(append(append([]engine.Setting{}, testSettings...), l.spec.Settings...),
		fixedSettings...) {
		args = append(args, option(s))
	}
	secured, err := l.certificate()
	if err != nil {
		return nil, err
	}
	args = append(args, secured...)
	return &engine.Program{
		Path: l.server, Args: args, Env: []string{"LC_ALL=C", "TZ=UTC"}, Folder: l.home.Folder, User: l.owner,
		Stop: syscall.SIGTERM, Kill: syscall.SIGKILL,
		Probe: func(ctx context.Context) (json.RawMessage, error) { return l.probe(ctx, a, first) },
		Ended: func(code int) error {
			if launch.PortInUse(port) {
				return errPort
			}
			return cmp.Or(launch.Full(l.home.Folder),
				fmt.Errorf("MariaDB ended while it started (exit code %d)", code))
		},
	}, nil
}

// probe asks the server at its socket and at its port.
func (l *layout) probe(ctx context.Context, a address, first string) (json.RawMessage, error) {
	conn, err := a.dial(ctx)
	if err != nil {
		return nil, cmp.Or(launch.Full(l.home.Folder), fmt.Errorf("waiting for MariaDB: %w: %w", engine.ErrNotReady, err))
	}
	defer conn.close()
	os.Remove(first) // it holds passwords
	if err := plain(ctx, conn); err != nil {
		return nil, err
	}
	if a.Untrusted, err = trustBuild(ctx, conn, l.home.Kept, false); err != nil {
		return nil, err
	}
	a.Uncounted = a.Untrusted != ""
	if a.Done, err = statements(ctx, conn); err != nil {
		return nil, err
	}
	return json.Marshal(a)
}

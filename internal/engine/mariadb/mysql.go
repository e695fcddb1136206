package mariadb

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"hemzo/internal/engine"
	"hemzo/internal/engine/launch"
)

// mysqlFixed are settings of MySQL that cannot be another thing once a folder is laid out.
var mysqlFixed = []engine.Setting{{Name: "innodb_redo_log_capacity", Value: "16M"},
	{Name: "innodb_data_file_path", Value: "ibdata1:12M:autoextend"}, {Name: "innodb_temp_data_file_path",
		Value: "ibtmp1:12M:autoextend"}}

// mysqlProgram is a MySQL server on the data folder, which holds all copies: one for each
// would take four times MariaDB's memory, and its time to start. What it holds goes with it.
func (l *layout) mysqlProgram(port int) (*engine.Program, error) {
	first := filepath.Join(l.home.Folder, "accounts.sql")
	password := engine.Derive([]byte(l.home.Password), admin)
	accounts := strings.Join([]string{
		fmt.Sprintf("CREATE USER IF NOT EXISTS '%s'@'%%' IDENTIFIED BY '%s';", admin, password),
		fmt.Sprintf("GRANT ALL ON *.* TO '%s'@'%%' WITH GRANT OPTION;", admin),
		"ALTER USER 'root'@'localhost' ACCOUNT LOCK;"}, "\n")
	if err := errors.Join(os.WriteFile(first, []byte(accounts+"\n"), 0o600), launch.Chown(first, l.owner)); err != nil {
		return nil, fmt.Errorf("writing the server's accounts: %w", err)
	}
	a := address{Socket: launch.Socket(l.home.Folder), Host: "127.0.0.1", Port: port, Admin: password,
		MySQL: true, Version: l.version, Where: "memory"}
	args := []string{"--no-defaults", "--datadir=" + l.data, "--socket=" + a.socket(), "--port=" + strconv.Itoa(port),
		"--bind-address=127.0.0.1", "--pid-file=" + filepath.Join(l.home.Folder, "pid"), "--tmpdir=" + l.home.Folder,
		"--init-file=" + first, "--secure-file-priv=NULL", "--innodb-buffer-pool-size=64M"}
	settings := append(Engine{MySQL: true}.sharedSettings(), l.spec.Settings...)
	for _, s := range append(settings, mysqlFixed...) {
		args = append(args, strings.TrimSuffix(option(s), "="))
	}
	return &engine.Program{
		Path: l.server, Args: args, Env: []string{"LC_ALL=C", "TZ=UTC"}, Folder: l.home.Folder, User: l.owner,
		Stop: syscall.SIGKILL, Kill: syscall.SIGKILL,
		Probe: func(ctx context.Context) (json.RawMessage, error) { return a.probeShared(ctx, first, l.home.Kept) },
		Ended: func(code int) error {
			if launch.PortInUse(port) {
				return errPort
			}
			return fmt.Errorf("MySQL ended while it started (exit code %d)", code)
		},
	}, nil
}

func (a address) probeShared(ctx context.Context, first, kept string) (json.RawMessage, error) {
	conn, err := a.dial(ctx)
	if err != nil {
		return nil, fmt.Errorf("waiting for MySQL: %w: %w", engine.ErrNotReady, err)
	}
	os.Remove(first) // it holds a password
	err = plain(ctx, conn)
	if err == nil {
		a.Untrusted, err = trustBuild(ctx, conn, kept, true)
	}
	if err = errors.Join(err, conn.close()); err != nil {
		return nil, err
	}
	a.Uncounted = a.Untrusted != ""
	return json.Marshal(a)
}

package mariadb

import (
	"context"
	"crypto/rand"
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

	"hemzo/internal/engine"
	"hemzo/internal/engine/launch"
	"hemzo/internal/fault"
)

// state is what is known of a template or snapshot beside its data.
type state struct {
	Schema  string   `json:"schema"`
	Tables  []*table `json:"tables"`
	Objects []object `json:"objects"`
	// Script makes the schema again on the same server; Life is the server's, where some of
	// the rows last no longer.
	Script []definition `json:"script,omitempty"`
	Life   string       `json:"life,omitempty"`
	folder string       // that it lies in; "" for a schema of the same server
}

// leads tells of each table where its foreign keys lead.
func (s *state) leads() map[string][]string {
	all := map[string][]string{}
	for _, t := range s.Tables {
		if t.Kind != "SEQUENCE" {
			all[t.Name] = t.Leads
		}
	}
	return all
}

const stateFile = "state.json"

func readState(folder string) (*state, error) {
	b, err := os.ReadFile(filepath.Join(folder, stateFile))
	if err != nil {
		return nil, fmt.Errorf("reading what is known of a state: %w", err)
	}
	s := &state{folder: folder}
	if err := json.Unmarshal(b, s); err != nil {
		return nil, fmt.Errorf("reading what is known of a state: %w", err)
	}
	return s, nil
}

// table is one of the state's; nil where there is none of that name.
func (s *state) table(name string) *table {
	for _, t := range s.Tables {
		if t.Name == name {
			return t
		}
	}
	return nil
}

// rowsFile is the file with the rows of a table.
func (s *state) rowsFile(t *table) string {
	return filepath.Join(s.folder, "rows", strconv.Itoa(t.File))
}

// save keeps the committed state of a server: its data, from which others start, its rows
// in files of their own, to put them back by, and what defines it.
func save(ctx context.Context, at engine.Endpoint, to string) (err error) {
	a := addressOf(at)
	c, err := a.dial(ctx)
	if err != nil {
		return err
	}
	defer c.close()
	work := filepath.Join(filepath.Dir(a.Folder), "save-"+rand.Text()[:8])
	owner := launch.ServerUser("mysql")
	defer os.RemoveAll(work)
	if err := errors.Join(os.Mkdir(work, 0o700), launch.Chown(work, owner)); err != nil {
		return launch.NoRoom(err, "making a folder")
	}
	s := &state{Schema: a.Schema}
	if s.Tables, err = tables(ctx, c, a.Schema); err != nil {
		return err
	}
	if s.Objects, err = definitions(ctx, c, a.Schema, nil); err != nil {
		return err
	}
	if err := plain(ctx, c); err != nil {
		return err
	}
	if err := s.writeRows(ctx, c, filepath.Join(work, "rows"), owner); err != nil {
		return err
	}
	if err := freeze(ctx, c, a, s, filepath.Join(work, dataFolder), owner); err != nil {
		return err
	}
	if err := goOver(ctx, a, filepath.Join(work, dataFolder), owner); err != nil {
		return err
	}
	b, err := json.Marshal(s)
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(to, stateFile), b, 0o600); err != nil {
		return launch.NoRoom(err, "writing a state")
	}
	if err := launch.Thin(filepath.Join(work, dataFolder)); err != nil {
		return launch.NoRoom(err, "thinning the data of a server")
	}
	for _, part := range []string{"rows", dataFolder} {
		if err := launch.CopyTree(filepath.Join(work, part), filepath.Join(to, part), nil); err != nil {
			return launch.NoRoom(err, "keeping the data of a server")
		}
	}
	return nil
}

// plain has a session of Hemzo's write and read rows as they are.
func plain(ctx context.Context, c *conn) error {
	own := "check_constraint_checks = 0"
	if c.mysql {
		own = "information_schema_stats_expiry = 0"
	}
	return c.do(ctx, "SET SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO', foreign_key_checks = 0, unique_checks = 1, "+own+
		", time_zone = '+00:00', character_set_results = NULL, lock_wait_timeout = 10, "+
		"innodb_lock_wait_timeout = 10, autocommit = 1")
}

// fields is how rows are written in files.
const fields = ` CHARACTER SET binary FIELDS TERMINATED BY '\t' ESCAPED BY '\\' LINES TERMINATED BY '\n'`

// writeRows has the server write the rows of each table to a file, and counts them.
func (s *state) writeRows(ctx context.Context, c *conn, folder string, owner *engine.User) error {
	if err := errors.Join(os.Mkdir(folder, 0o700), launch.Chown(folder, owner)); err != nil {
		return launch.NoRoom(err, "making a folder")
	}
	now, err := counters(ctx, c, s.Schema, nil)
	if err != nil {
		return err
	}
	called, err := bases(ctx, c, s.Schema)
	if err != nil {
		return err
	}
	file := 0
	for _, t := range s.Tables {
		t.Base = called[t.Name]
		t.IDs = now[t.Base].IDs
		if t.Kind == "SEQUENCE" {
			rows, err := c.rows(ctx, "SELECT * FROM "+quote(t.Name))
			if err != nil {
				return fmt.Errorf("reading the sequence %s: %w", t.Name, err)
			}
			t.Counter = rows[0]
			continue
		}
		if t.Kind == "SYSTEM VERSIONED" {
			t.History = historySum(ctx, c, t)
		}
		path := filepath.Join(folder, strconv.Itoa(file+1))
		query := "SELECT " + strings.Join(t.written(), ", ") + " INTO OUTFILE " + text(path) + fields + " FROM " +
			quote(t.Name)
		if t.Key != nil {
			query += " ORDER BY " + quoteAll(t.Key)
		}
		done, err := c.ExecContext(ctx, query)
		if err != nil {
			return fmt.Errorf("writing the rows of %s: %w", t.Name, err)
		}
		if t.Rows, err = done.RowsAffected(); err != nil {
			return err
		}
		if t.Rows == 0 {
			os.Remove(path)
			continue
		}
		file++
		t.File = file
	}
	return nil
}

// written are what is written of each stored column: of a number that is written in few
// digits, all of them.
func (t *table) written() (all []string) {
	for _, c := range t.Columns {
		switch {
		case c.Generated:
		case c.Type == "float":
			all = append(all, quote(c.Name)+" + 0e0")
		default:
			all = append(all, quote(c.Name))
		}
	}
	return all
}

// freeze copies the data of a server that stands still meanwhile. What was not committed
// is rolled back when a server starts on the copy.
func freeze(ctx context.Context, c *conn, a address, s *state, to string, owner *engine.User) error {
	for _, t := range s.Tables {
		if t.Engine != "InnoDB" { // its changes have to be in its files
			if err := c.do(ctx, "FLUSH TABLES WITH READ LOCK"); err != nil {
				return fmt.Errorf("holding the tables: %w", err)
			}
			defer func() { _ = c.do(context.WithoutCancel(ctx), "UNLOCK TABLES") }()
			break
		}
	}
	b, err := os.ReadFile(filepath.Join(filepath.Dir(a.Folder), "pid"))
	if err != nil {
		return fmt.Errorf("finding the server's process: %w", err)
	}
	pid, err := strconv.Atoi(strings.TrimSpace(string(b)))
	if err != nil || pid <= 1 {
		return fmt.Errorf("finding the server's process: %q is no number of one", b)
	}
	called, err := continueLater(pid, longestFreeze)
	if err != nil {
		return err
	}
	defer called()
	if err := syscall.Kill(pid, syscall.SIGSTOP); err != nil {
		return fmt.Errorf("holding the server: %w", err)
	}
	defer func() { _ = syscall.Kill(pid, syscall.SIGCONT) }()
	if err := stopped(ctx, pid); err != nil {
		return err
	}
	if err := launch.CopyTree(a.Folder, to, owner); err != nil {
		return launch.NoRoom(err, "copying the data of a server")
	}
	os.Remove(filepath.Join(to, "ibtmp1")) // it begins anew
	return nil
}

// longestFreeze is after how long a server that stands still goes on in any case.
const longestFreeze = 30 * time.Second

// continueLater has a process of its own let another go on after some time: this one may be
// killed while that stands still. The returned function ends it.
func continueLater(pid int, after time.Duration) (end func(), err error) {
	cmd := exec.Command("sh", "-c", fmt.Sprintf("sleep %.1f; kill -CONT %d", after.Seconds(), pid))
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("making sure that the server goes on: %w", err)
	}
	return func() {
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
		_ = cmd.Wait()
	}, nil
}

// stopped waits until all of a process stands still.
func stopped(ctx context.Context, pid int) error {
	for {
		tasks, err := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/stat", pid))
		if err != nil || len(tasks) == 0 { // a system without it: it has had its signal
			return err
		}
		if !slices.ContainsFunc(tasks, running) {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Microsecond):
		}
	}
}

// running reports whether a task does not stand still, by its file.
func running(file string) bool {
	b, err := os.ReadFile(file)
	i := strings.LastIndexByte(string(b), ')')
	return err == nil && i > 0 && !strings.HasPrefix(string(b)[i:], ") T")
}

// goOver has a server go over frozen data, so that others start on them as on data of a
// server that was ended.
func goOver(ctx context.Context, a address, data string, owner *engine.User) error {
	args := []string{"--no-defaults", "--bootstrap", "--datadir=" + data, "--tmpdir=" + filepath.Dir(data),
		"--skip-name-resolve", "--innodb-fast-shutdown=1"}
	for _, s := range append(append([]engine.Setting{}, testSettings...), fixedSettings...) {
		args = append(args, option(s))
	}
	cmd := exec.CommandContext(ctx, a.Server, args...)
	cmd.Dir = filepath.Dir(data)
	cmd.Stdin = strings.NewReader("SELECT 1;\n")
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if owner != nil {
		cmd.SysProcAttr.Credential = &syscall.Credential{Uid: owner.UID, Gid: owner.GID}
	}
	if out, err := cmd.CombinedOutput(); err != nil {
		e := fault.New(fault.Failed, "", "the server did not take the data that were copied: %v", err)
		e.Lines = fault.LastLines(string(out), 6)
		return e
	}
	return nil
}

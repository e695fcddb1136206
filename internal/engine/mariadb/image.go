package mariadb

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"

	"hemzo/internal/engine"
)

// serverPort is where a server listens inside its container.
const serverPort = 3306

// sharedSettings are those of a server with many copies, beside those of all.
func (e Engine) sharedSettings() []engine.Setting {
	all := []engine.Setting{{Name: "skip_log_bin", Value: ""}, {Name: "skip_name_resolve", Value: ""},
		{Name: "event_scheduler", Value: "OFF"}, {Name: "local_infile", Value: "ON"}, {Name: "innodb_doublewrite",
			Value: "0"}, {Name: "innodb_flush_log_at_trx_commit", Value: "2"}, {Name: "innodb_stats_auto_recalc", Value: "0"},
		{Name: "innodb_stats_persistent", Value: "1"},
		{Name: "table_definition_cache", Value: "20000"}, {Name: "table_open_cache", Value: "4000"},
		{Name: "max_connections", Value: "300"}, {Name: "innodb_buffer_pool_dump_at_shutdown", Value: "0"},
		{Name: "innodb_buffer_pool_load_at_startup", Value: "0"}, {Name: "default_time_zone", Value: "+00:00"}}
	if !e.MySQL {
		return append(all, engine.Setting{Name: "performance_schema", Value: "0"},
			engine.Setting{Name: "innodb_flush_method", Value: "nosync"})
	}
	all = append(all, engine.Setting{Name: "mysqlx", Value: "0"}, engine.Setting{Name: "innodb_flush_method",
		Value: "O_DIRECT_NO_FSYNC"}, engine.Setting{Name: "performance_schema", Value: "1"})
	for _, name := range ungathered {
		all = append(all, engine.Setting{Name: "performance_schema_" + name, Value: "0"})
	}
	return all
}

// ungathered are what MySQL's performance schema keeps, in 250 MB. Without any of it, in 30,
// it still tells who waits for whom.
var ungathered = []string{"accounts_size", "digests_size", "events_stages_history_long_size",
	"events_stages_history_size", "events_statements_history_long_size", "events_statements_history_size",
	"events_transactions_history_long_size", "events_transactions_history_size", "events_waits_history_long_size",
	"events_waits_history_size", "hosts_size", "users_size", "max_cond_instances", "max_file_instances",
	"max_index_stat", "max_memory_classes", "max_mutex_instances", "max_prepared_statements_instances",
	"max_program_instances", "max_rwlock_instances", "max_socket_instances", "max_table_handles",
	"max_table_instances", "max_table_lock_stat", "max_metadata_locks", "session_connect_attrs_size",
	"setup_actors_size", "setup_objects_size", "max_statement_classes", "max_stage_classes"}

// Image runs the usual image of the server, of the version wanted.
func (e Engine) Image(spec engine.Spec) engine.Image {
	version := spec.Version
	if version == "" {
		version = "latest"
	}
	args := []string{}
	for _, s := range append(e.sharedSettings(), spec.Settings...) {
		args = append(args, strings.TrimSuffix(option(s), "="))
	}
	password := "MARIADB_ROOT_PASSWORD_FILE"
	if e.MySQL {
		password = "MYSQL_ROOT_PASSWORD_FILE"
	}
	return engine.Image{Name: e.Name() + ":" + version, Ports: []int{serverPort}, Args: args, Password: password,
		Folder: "/var/lib/mysql", Stop: "TERM"}
}

// Probe asks the server of a container who it is. Its first, temporary server listens on no
// port, so what answers is the final one.
func (e Engine) Probe(ctx context.Context, _ engine.Spec, c engine.Candidate) (json.RawMessage, error) {
	host, number, _ := net.SplitHostPort(c.Address(serverPort))
	port, _ := strconv.Atoi(number)
	// Where nothing answers it says so soon, whatever time there is.
	whole := ctx
	ctx, stop := context.WithTimeout(ctx, 2*time.Second)
	defer stop()
	a := address{Host: host, Port: port, Login: "root", Admin: c.Password, MySQL: e.MySQL}
	conn, err := a.dial(ctx)
	if err != nil {
		return nil, err
	}
	defer conn.close()
	rows, err := conn.rows(ctx, "SELECT VERSION()")
	if err != nil {
		return nil, err
	}
	a.Version, _, _ = strings.Cut(rows[0][0], "-")
	if isMariaDB := strings.Contains(rows[0][0], "MariaDB"); isMariaDB == e.MySQL {
		return nil, fmt.Errorf("the server of the image is not %s: %s", e.product(), rows[0][0])
	}
	err = plain(whole, conn)
	if err == nil {
		a.Untrusted, err = trustBuild(whole, conn, c.Kept, true)
	}
	if err != nil {
		return nil, err
	}
	a.Uncounted = a.Untrusted != ""
	return json.Marshal(a)
}

// connect opens a server that holds all copies.
func (e Engine) connect(ctx context.Context, at json.RawMessage, p engine.Patience) (engine.Server, error) {
	var a address
	if err := json.Unmarshal(at, &a); err != nil {
		return nil, fmt.Errorf("reading a server's address: %w", err)
	}
	s := newShared(a, p)
	s.private, s.accounts = true, true
	s.about = engine.About{Engine: e.Name(), Version: a.Version, Where: cmp.Or(a.Where, "container"),
		Address: a.hostPort()}
	if a.Untrusted != "" {
		s.about.Notes = append(s.about.Notes, "what tables count is not exact on this server ("+a.Untrusted+"): rows are "+
			"read instead, and resets take longer")
	}
	if err := s.begin(ctx); err != nil {
		_ = s.Close()
		return nil, fmt.Errorf("connecting to %s: %w", e.product(), err)
	}
	return s, nil
}

// prune drops all but templates from a server whose data are kept.
func (e Engine) prune(ctx context.Context, at json.RawMessage) error {
	s, err := e.connect(ctx, at, engine.Patience{})
	if err != nil {
		return err
	}
	defer s.Close()
	if s.About().Where == "memory" { // all of it goes
		return nil
	}
	all, err := s.List(ctx, engine.Copy, engine.Kept, engine.Work)
	if err != nil {
		return err
	}
	for _, x := range all {
		if err := s.Drop(ctx, x.ID); err != nil {
			return fmt.Errorf("dropping what is not kept: %w", err)
		}
	}
	return s.Clear(ctx)
}

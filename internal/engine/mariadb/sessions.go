package mariadb

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"hemzo/internal/engine"
)

// among is the schema whose sessions are a copy's; "" where all of its server are.
func (a address) among() string {
	if a.Shared {
		return a.Schema
	}
	return ""
}

// transactionsKept is a little more than how long InnoDB shows the same transactions and
// waits: it looks at them anew where nobody has read them for 0.1 s ("The INFORMATION_SCHEMA
// INNODB_TRX Table" of MySQL's manual). Who asks again and again waits so long between.
const transactionsKept = 120 * time.Millisecond

// sessions lists who is connected to a server, or to one schema of it, but for Hemzo.
func sessions(ctx context.Context, c *conn, schema string) ([]engine.Client, error) {
	seconds := "p.TIME_MS / 1000"
	if c.mysql {
		seconds = "p.TIME"
	}
	began := "0"
	if !c.narrow {
		began = "IFNULL((SELECT UNIX_TIMESTAMP(MIN(t.trx_started)) FROM information_schema.INNODB_TRX t WHERE " +
			"t.trx_mysql_thread_id = p.ID), 0)"
	}
	rows, err := processes(ctx, c, schema, "p.ID, p.USER, p.HOST, p.COMMAND, IFNULL(p.INFO, ''), "+seconds+", "+began,
		"ORDER BY p.ID")
	if err != nil {
		return nil, err
	}
	waits, err := waiting(ctx, c)
	if err != nil {
		return nil, err
	}
	all := []engine.Client{}
	for _, r := range rows {
		pid, _ := strconv.Atoi(r[0])
		since, _ := strconv.ParseFloat(r[5], 64)
		began, _ := strconv.ParseFloat(r[6], 64)
		x := engine.Client{PID: pid, User: r[1], Address: r[2], Query: r[4], State: strings.ToLower(r[3]),
			Since: time.Now().Add(-time.Duration(since * float64(time.Second))), WaitsFor: waits[r[0]]}
		if r[3] == "Sleep" {
			x.State = "idle"
		}
		if began > 0 {
			x.Began = time.Unix(int64(began), 0)
			if x.State == "idle" {
				x.State = "idle in transaction"
			}
		}
		all = append(all, x)
	}
	return all, nil
}

// processes asks of the sessions of a server, or of one schema of it, but for Hemzo's. The
// first that is asked for is the session's number.
func processes(ctx context.Context, c *conn, schema, what, which string) ([][]string, error) {
	query := "SELECT " + what + " FROM information_schema.PROCESSLIST p WHERE p.ID <> CONNECTION_ID() AND p.USER NOT IN " +
		"(?, 'system user', 'event_scheduler')"
	args := []any{c.login}
	if c.own != nil { // the tests' too
		args[0] = ""
	}
	if schema != "" {
		query, args = query+" AND (p.DB = ? OR p.USER = ?)", append(args, schema, schema)
	}
	rows, err := c.rows(ctx, query+" "+which, args...)
	if err != nil {
		return nil, fmt.Errorf("asking who is connected: %w", err)
	}
	if c.own != nil {
		rows = slices.DeleteFunc(rows, func(r []string) bool {
			_, hemzo := c.own.Load(r[0])
			return hemzo
		})
	}
	return rows, nil
}

// runningStatements lists the sessions that run a statement, with no more of each than that.
func runningStatements(ctx context.Context, c *conn, schema string) (all []engine.Client, err error) {
	rows, err := processes(ctx, c, schema, "p.ID, p.USER, p.HOST, IFNULL(p.INFO, '')",
		"AND p.COMMAND NOT IN ('Sleep', 'Daemon', 'Connect', 'Binlog Dump', 'Binlog Dump GTID')")
	for _, r := range rows {
		pid, _ := strconv.Atoi(r[0])
		all = append(all, engine.Client{PID: pid, User: r[1], Address: r[2], Query: r[3], State: "query"})
	}
	return all, err
}

// waiting tells of sessions that wait for locks on rows who holds them.
func waiting(ctx context.Context, c *conn) (map[string][]int, error) {
	if c.narrow {
		return nil, nil
	}
	query := "SELECT r.trx_mysql_thread_id, b.trx_mysql_thread_id FROM information_schema.INNODB_LOCK_WAITS w " +
		"JOIN information_schema.INNODB_TRX r ON r.trx_id = w.requesting_trx_id JOIN information_schema.INNODB_TRX b ON " +
		"b.trx_id = w.blocking_trx_id"
	if c.mysql {
		query = "SELECT r.trx_mysql_thread_id, b.trx_mysql_thread_id FROM performance_schema.data_lock_waits w JOIN " +
			"information_schema.INNODB_TRX r ON r.trx_id = w.REQUESTING_ENGINE_TRANSACTION_ID JOIN " +
			"information_schema.INNODB_TRX b ON b.trx_id = w.BLOCKING_ENGINE_TRANSACTION_ID"
	}
	rows, err := c.rows(ctx, query)
	if err != nil {
		return nil, fmt.Errorf("asking who waits for whom: %w", err)
	}
	all := map[string][]int{}
	for _, r := range rows {
		by, _ := strconv.Atoi(r[1])
		all[r[0]] = append(all[r[0]], by)
	}
	return all, nil
}

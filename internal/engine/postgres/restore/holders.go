package restore

import (
	"context"
	"fmt"
	"hemzo/internal/engine/postgres/pg"

	"github.com/jackc/pgx/v5"
)

// holders are the sessions that hold locks on some tables which a reset has to
// wait for: not those that read.
const holders = `FROM pg_locks l JOIN pg_stat_activity a ON a.pid = l.pid
	WHERE l.granted AND a.pid <> pg_backend_pid() AND l.database = (SELECT oid FROM pg_database WHERE datname
		= current_database()) AND l.relation = ANY (%s::regclass[]) AND l.mode NOT IN ('AccessShareLock',
		'RowShareLock')`

// EndHolders ends the sessions that are in the way.
func EndHolders(ctx context.Context, conn *pgx.Conn, tables []string) error {
	_, err := conn.Exec(ctx, "SELECT pg_terminate_backend(pid) FROM (SELECT DISTINCT a.pid "+
		fmt.Sprintf(holders, pg.Array(tables))+") AS h")
	if err != nil {
		return fmt.Errorf("ending the sessions that are in the way: %w", err)
	}
	return nil
}

// Holders lists the pids of the sessions that are in the way.
func Holders(ctx context.Context, conn *pgx.Conn, tables []string) ([]int, error) {
	rows, err := conn.Query(ctx, "SELECT DISTINCT a.pid "+fmt.Sprintf(holders, pg.Array(tables)))
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[int])
}

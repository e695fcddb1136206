package witness

import (
	"context"
	"strings"

	"github.com/jackc/pgx/v5"
)

// flushCommits brings what others have committed to disk, where this role may: a
// commit that is waited for, of something, brings all before it there. VACUUM
// marks no page that holds anything younger.
func flushCommits(ctx context.Context, conn *pgx.Conn) {
	if _, err := conn.Exec(ctx, "SET synchronous_commit = on"); err == nil {
		_, _ = conn.Exec(ctx, "SELECT pg_logical_emit_message(true, '', '')")
	}
}

// VacuumBeside marks the pages of tables that tests may be using by now. Tables are not made
// shorter: while a VACUUM tries to, which it does for 5 seconds, it keeps everybody waiting
// who wants the table to himself, as the next test's TRUNCATE does ("TRUNCATE" under VACUUM
// in PostgreSQL's manual).
func VacuumBeside(ctx context.Context, conn *pgx.Conn, tables []string) error {
	if len(tables) == 0 {
		return nil
	}
	flushCommits(ctx, conn)
	_, err := conn.Exec(ctx, "VACUUM (INDEX_CLEANUP on, TRUNCATE off) "+strings.Join(tables, ", "),
		pgx.QueryExecModeSimpleProtocol)
	return err
}

// Vacuum settles tables: every page is marked as visible to all, and frozen.
// Without the cleaning of indexes a page keeps the places of a few dead rows, and
// is then not marked.
func Vacuum(ctx context.Context, conn *pgx.Conn, tables []string) error {
	if len(tables) == 0 {
		return nil
	}
	flushCommits(ctx, conn)
	_, err := conn.Exec(ctx, "VACUUM (FREEZE, ANALYZE, INDEX_CLEANUP on) "+strings.Join(tables, ", "))
	return err
}

package postgres

import (
	"context"
	"fmt"
	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/engine/postgres/restore"
	"hemzo/internal/engine/postgres/witness"
	"hemzo/internal/fault"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// kept reports whether a table is one of those to keep, named with or
// without its schema.
func kept(name string, keep []string) bool {
	_, short, _ := strings.Cut(name, ".")
	return slices.Contains(keep, name) || slices.Contains(keep, short)
}

// openRestore opens the session that puts back, and keeps it. In replica mode no
// foreign key and no ordinary trigger is in the way. It has the owner's rights
// and no more: checks, defaults and generated columns of the tests' run in it.
func (d *database) openRestore(ctx context.Context) (*pgx.Conn, error) {
	if err := d.freeRestore(ctx); err != nil {
		d.restoreConn.Close(ctx)
	}
	if d.restoreConn != nil && !d.restoreConn.IsClosed() {
		return d.restoreConn, d.limitWaits(ctx, d.restoreConn)
	}
	owner, user := d.server.owner(d.facts), d.server.config.User
	switch {
	case !d.server.isSuperuser:
		user = owner
	case owner != superRole:
		user = restoreRole(owner)
	}
	conn, err := d.dialHand(ctx, user)
	if state := pg.State(err); state == pg.InvalidAuthorization || state == pg.InvalidPassword {
		return nil, witness.Cannot{Why: fmt.Sprintf("the server does not let %s in, which puts rows back (%s)", user,
			pg.Message(err))}
	}
	if err != nil {
		return nil, fmt.Errorf("connecting to %s: %w", d.id, err)
	}
	// Rows that are put back have to be on disk for VACUUM to mark them.
	sql := fmt.Sprintf(askForClient+"; SET synchronous_commit = on; SET lock_timeout = %d",
		max(d.session.Wait.Milliseconds(), 1))
	switch {
	case !d.server.isSuperuser:
		sql += "; SET search_path = pg_catalog; SET row_security = off; " + onePlan + "; " + writtenAlike
	case owner == superRole:
		sql += "; SET session_replication_role = replica"
	}
	if _, err = conn.Exec(ctx, sql); err == nil {
		err = d.limitWaits(ctx, conn)
	}
	if err != nil {
		conn.Close(ctx)
		return nil, fmt.Errorf("connecting to %s: %w", d.id, err)
	}
	d.restoreConn = conn
	return conn, nil
}

// dialHand connects as the role that puts back.
func (d *database) dialHand(ctx context.Context, user string) (*pgx.Conn, error) {
	config := d.server.settings(d.id)
	if user != config.User {
		config.User, config.Password = user, d.server.password(user)
	}
	if !d.server.isSuperuser { // it looks, too
		config.DefaultQueryExecMode = pgx.QueryExecModeCacheStatement
	}
	config.OnNotice = func(_ *pgconn.PgConn, n *pgconn.Notice) { d.heed(n.Severity) }
	return d.server.dialRetrying(ctx, config)
}

// writtenAlike has two sessions write values as the same texts, which each reads back, as
// pg_dump does.
const writtenAlike = "SET standard_conforming_strings = on; SET datestyle = 'ISO, YMD'; " +
	"SET intervalstyle = postgres; SET extra_float_digits = 3; " +
	"SET bytea_output = hex; SET timezone = 'UTC'; SET lc_monetary = 'C'; " +
	"SET xmloption = content; SET xmlbinary = base64"

// dropReference drops the reference that rows are read from; the next is made anew.
func (d *database) dropReference(ctx context.Context, start string) {
	if d.referenceConn != nil {
		d.referenceConn.Close(ctx)
	}
	_ = d.server.dropReference(ctx, start)
}

// openReference opens a session on the reference of a start state, and keeps it.
func (d *database) openReference(ctx context.Context, start string) (*pgx.Conn, error) {
	if d.referenceConn != nil && !d.referenceConn.IsClosed() && d.referenceOf == start {
		return d.referenceConn, nil
	}
	if d.referenceConn != nil {
		d.referenceConn.Close(ctx)
	}
	var err error
	d.referenceConn, err = d.server.dialReference(ctx, start)
	d.referenceOf = start
	return d.referenceConn, err
}

// blocked says which sessions hold locks on tables that are to be put back.
func (d *database) blocked(ctx context.Context, tables []string, err error) error {
	if pg.State(err) != pg.LockNotAvailable {
		return fmt.Errorf("locking the touched tables: %w", err)
	}
	var pids []int
	if conn, err := d.openWitness(ctx); err == nil {
		pids, _ = restore.Holders(ctx, conn, tables)
	}
	return d.inTheWay(ctx, pids, "a session holds a lock on what is to be put back")
}

// inTheWay is the error about sessions that were in the way for too long.
func (d *database) inTheWay(ctx context.Context, pids []int, what string) *fault.Error {
	all, _ := d.server.Clients(ctx, d.id)
	all = slices.DeleteFunc(all, func(c engine.Client) bool { return !slices.Contains(pids, c.PID) })
	return engine.InTheWay(all, d.session.Wait,
		"end its transaction, give more time with --wait, or end the session with --force", what)
}

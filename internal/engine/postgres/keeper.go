package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/engine/postgres/witness"
)

// On a server that others use autovacuum is on: it marks pages as visible to all whenever
// it likes, and the visibility map cannot be believed. It does so for nothing that a
// transaction wrote whose number is not lower than that of every transaction under way in
// the database (GetOldestNonRemovableTransactionId in PostgreSQL's procarray.c). So an open
// transaction that has a number, the keeper, makes the map exact for all that is written
// after it began. Between its looks it has no snapshot, and no lock but its own number's.
//
// A reset puts rows back, whose pages a VACUUM marks only once no keeper is older than they
// are. There is always one. The keeper's session looks, in its transaction; the rows are put
// back. The session that did so begins a transaction of its own, from then on the keeper; a
// last look tells what was written before that; the first session ends its transaction, and
// vacuums. At the next reset it begins one again before it looks.
//
// While a test runs the keeper's transaction is one in which nothing was ever looked at: CREATE
// INDEX CONCURRENTLY waits for the end of every transaction that had a snapshot, or the lock of
// a table, when it asked.

// A look of the keeper's begins at a savepoint. Its locks, snapshots and open results go with
// what is undone.
const (
	beginNumbered = "BEGIN ISOLATION LEVEL READ COMMITTED READ WRITE; SELECT pg_catalog.pg_current_xact_id()"
	beginKeeping  = beginNumbered + "; SAVEPOINT hemzo_look"
	lookEnd       = "ROLLBACK TO SAVEPOINT hemzo_look"
	// within a transaction the sessions that were there at the first look are there for ever
	// ("Viewing Statistics" in PostgreSQL's manual)
	statsAnew = "SELECT pg_catalog.pg_stat_clear_snapshot()"
)

// keeperSQL asks whether nobody can be made to wait by a keeper, and whether the server has
// more connections free than it has in use.
const keeperSQL = `SELECT current_setting('wal_level') <> 'logical'
	AND coalesce(current_setting('old_snapshot_threshold', true), '-1') = '-1',
	(SELECT count(*) FROM pg_stat_get_activity(NULL) WHERE usesysid IS NOT NULL) * 2 <
		current_setting('max_connections')::int`

// mayKeep reports whether a keeper is worth its connection, and in nobody's way: a logical
// replication slot is made only when every transaction has ended that was under way.
func (s *server) mayKeep(ctx context.Context, ask asking) bool {
	if s.private || !atLeast(s.about.Version, 15) {
		return false
	}
	may, room := false, false
	err := ask(ctx, func(ctx context.Context, conn *pgx.Conn) error {
		return conn.QueryRow(ctx, keeperSQL).Scan(&may, &room)
	})
	s.crowded.Store(err != nil || !room)
	return err == nil && may && room
}

// believed reports whether the map tells what was written to.
func (d *database) believed() bool { return d.keeper != nil || d.server.exact() }

// keepers are the sessions that hold a transaction's number for the map alone.
func (d *database) keepers() (pids []uint32) {
	if d.keeper != nil {
		pids = append(pids, d.keeper.PgConn().PID())
	}
	if d.restoreKeeps {
		pids = append(pids, d.restoreConn.PgConn().PID())
	}
	return pids
}

// keepFresh begins to keep a database that nobody has come to since it was made, where that
// can be: else resets read rows.
func (d *database) keepFresh(ctx context.Context) error {
	defer d.use()()
	if !d.server.mayKeep(ctx, d.ask) {
		return nil
	}
	start := d.facts.Start
	base, err := d.base(ctx, engine.Reset{Start: start, Last: start})
	if err != nil {
		return onlyCannot(err)
	}
	if d.fresh, err = d.keep(ctx, base, nil); d.fresh != nil {
		d.freshOf = start
		d.ready(ctx)
	}
	return err
}

// readyTime is how long getting ready may take.
const readyTime = 5 * time.Second

// ready has the session that puts back connect while the first test runs.
func (d *database) ready(ctx context.Context) {
	if d.server.crowded.Load() {
		return
	}
	done, ready := d.beginUse(), make(chan struct{})
	d.readying = ready
	go func() {
		defer close(ready)
		defer done()
		ctx, stop := context.WithTimeout(context.WithoutCancel(ctx), readyTime)
		defer stop()
		_, _ = d.openRestore(ctx) // a reset tries again, and says why it cannot be
	}()
}

// awaitReady waits for it.
func (d *database) awaitReady() {
	if d.readying != nil {
		<-d.readying
		d.readying = nil
	}
}

// keepAgain begins to keep a database that was put back: its rows are read under the keeper.
func (d *database) keepAgain(ctx context.Context, base witness.Baseline) (json.RawMessage, error) {
	if d.keeper != nil || !d.server.mayKeep(ctx, d.ask) {
		return nil, nil
	}
	return d.keep(ctx, base, func(conn *pgx.Conn) (bool, error) {
		if err := yieldLocks(ctx, conn); err != nil {
			return false, err
		}
		t, err := d.look.ByRows(ctx, conn, base)
		if pg.State(err) == pg.LockNotAvailable {
			return false, nil
		}
		return err == nil && t.Nothing(), err
	})
}

// yieldLocks has a transaction fail rather than wait for a test: while it holds the locks of
// some tables, and waits for another's, a TRUNCATE could be in a deadlock with it.
func yieldLocks(ctx context.Context, conn *pgx.Conn) error {
	_, err := conn.Exec(ctx, "SET LOCAL lock_timeout = 10")
	return err
}

// onlyCannot is an error that is more than that something cannot be told.
func onlyCannot(err error) error {
	if cannot := (witness.Cannot{}); errors.As(err, &cannot) {
		return nil
	}
	return err
}

// keep begins a keeper, and takes it where the database is then as a baseline tells, which
// same finds out; nil where nobody can have been there.
func (d *database) keep(ctx context.Context, base witness.Baseline,
	same func(*pgx.Conn) (bool, error)) (json.RawMessage, error) {
	if d.look.Noted && !base.HasLarge() {
		return nil, nil // reading rows takes no longer
	}
	conn, err := d.openKeeper(ctx)
	if err != nil {
		return nil, onlyCannot(err)
	}
	d.keeper = conn
	kept, err := d.observeKept(ctx, base, same)
	if err == nil && kept != nil {
		var raw json.RawMessage
		if raw, err = json.Marshal(kept); err == nil {
			d.setBaseline(*kept, raw)
			d.server.setHolder(ctx, d)
			return raw, nil
		}
	}
	d.endKeeper(ctx)
	return nil, onlyCannot(err)
}

// untimed has the transactions of a session last as long as they like.
func (s *server) untimed() string {
	sql := "SET idle_in_transaction_session_timeout = 0; "
	if atLeast(s.about.Version, 17) {
		sql += "SET transaction_timeout = 0; "
	}
	return sql
}

// openKeeper opens a session of Hemzo's own in the database that can look. What that wrote to
// catalogs is vacuumed, so that they are not looked at each time.
func (d *database) openKeeper(ctx context.Context) (*pgx.Conn, error) {
	config := d.server.ownSettings(d.id)
	config.DefaultQueryExecMode = pgx.QueryExecModeCacheStatement
	config.OnNotice = func(_ *pgconn.PgConn, n *pgconn.Notice) { d.heed(n.Severity) }
	conn, err := d.server.dialRetrying(ctx, config)
	if err != nil {
		return nil, err
	}
	sql := fmt.Sprintf(d.server.untimed()+"SET row_security = off; SET statement_timeout = 0; "+
		"SET default_transaction_read_only = off; SET default_transaction_isolation = 'read committed'; "+
		"SET synchronous_commit = on; "+onePlan+"; SET lock_timeout = %d", max(d.session.Wait.Milliseconds(), 1))
	_, err = conn.Exec(ctx, sql, pgx.QueryExecModeSimpleProtocol)
	if err == nil {
		err = d.look.Prepare(ctx, conn)
	}
	if err == nil && !d.look.Noted {
		_, err = conn.Exec(ctx, "VACUUM (INDEX_CLEANUP on, TRUNCATE off) pg_catalog.pg_proc, pg_catalog.pg_depend, "+
			"pg_catalog.pg_namespace", pgx.QueryExecModeSimpleProtocol)
	}
	if err != nil {
		conn.Close(ctx)
		d.look.NewSession()
		return nil, fmt.Errorf("keeping %s: %w", d.id, err)
	}
	return conn, nil
}

// observeKept begins the keeper's transaction and takes the baseline under it; nil where
// others were writing before it.
func (d *database) observeKept(ctx context.Context, base witness.Baseline,
	same func(*pgx.Conn) (bool, error)) (*witness.Baseline, error) {
	if same != nil { // the pages of what was put back were not marked since
		var names []string
		for _, m := range base.Tables {
			if m.Since != "" {
				names = append(names, m.Name)
			}
		}
		if err := witness.VacuumBeside(ctx, d.keeper, names); err != nil {
			return nil, err
		}
	}
	if err := d.note(ctx, d.keeper, base); err != nil {
		return nil, err
	}
	if _, err := d.keeper.Exec(ctx, beginKeeping, pgx.QueryExecModeSimpleProtocol); err != nil {
		return nil, err
	}
	if older, err := d.olderWriters(ctx); err != nil || older {
		return nil, err
	}
	kept := &base
	err := d.lookInside(ctx, func(conn *pgx.Conn) (err error) {
		if same != nil {
			if ok, err := same(conn); err != nil || !ok {
				kept = nil
				return err
			}
		}
		*kept, err = d.look.Observe(ctx, conn, base)
		return err
	})
	return kept, err
}

// olderWriters reports whether a transaction that is none of the keepers' has a number in
// this database: it may be lower than that of a keeper that has just begun.
func (d *database) olderWriters(ctx context.Context) (bool, error) {
	if !d.server.isSuperuser {
		n, err := d.countWriters(ctx)
		return n > 0, err
	}
	n, err := d.askInt(ctx, `SELECT (SELECT count(*) FROM pg_stat_get_activity(NULL) a
		WHERE a.datid = d.oid AND a.backend_xid IS NOT NULL AND a.backend_type <> 'autovacuum worker'
		AND a.pid <> ALL ($2)) + (SELECT count(*) FROM pg_prepared_xact() p WHERE p.dbid = d.oid)
		FROM pg_database d WHERE d.datname = $1`, d.id, d.keepers())
	return n > 0, err
}

// lookInside looks in the keeper's transaction, which it leaves as it was.
func (d *database) lookInside(ctx context.Context, look func(*pgx.Conn) error) error {
	err := look(d.keeper)
	_, failed := d.keeper.Exec(context.WithoutCancel(ctx), lookEnd, pgx.QueryExecModeSimpleProtocol)
	return errors.Join(err, failed)
}

// lookKept is the look at a database that is kept; false where it is kept no more.
func (d *database) lookKept(ctx context.Context, base witness.Baseline) (t witness.Touched, ok bool) {
	if d.keeper == nil {
		return t, false
	}
	err := d.limitWaits(ctx, d.keeper)
	if err == nil && d.look.Noted {
		err = d.noteForLook(ctx, base)
	}
	if err == nil {
		begin := statsAnew
		if d.keeperIdle {
			begin = beginKeeping
		}
		_, err = d.keeper.Exec(ctx, begin, pgx.QueryExecModeSimpleProtocol)
		d.keeperIdle = false
	}
	if err == nil && d.restoreKeeps { // once the other has begun: there is no moment without one
		err = d.restoreConn.Ping(ctx)
	}
	if err == nil {
		d.look.Keepers = d.keepers()
		err = d.lookInside(ctx, func(conn *pgx.Conn) (err error) {
			t, err = d.look.Compare(ctx, conn, base)
			return err
		})
	}
	if err != nil { // what it was is found out by reading rows
		d.endKeeper(ctx)
	}
	return t, err == nil
}

// note has the server note what the map says, for a role that may not ask it.
func (d *database) note(ctx context.Context, conn *pgx.Conn, base witness.Baseline) error {
	if !d.look.Noted || !base.HasLarge() {
		return nil
	}
	d.warned.Store(false)
	err := d.look.Note(ctx, conn, base)
	if err == nil && d.warned.Load() {
		err = witness.Cannot{Why: "not every table could be vacuumed"}
	}
	return err
}

// heed takes what the server says to a session that vacuums: a table that it may not vacuum
// it leaves out, with a warning.
func (d *database) heed(said string) {
	if strings.HasPrefix(said, "WARNING") {
		d.warned.Store(true)
	}
}

// noteForLook notes the map on a session that is in no transaction.
func (d *database) noteForLook(ctx context.Context, base witness.Baseline) (err error) {
	conn := d.keeper
	if d.restoreKeeps {
		err = d.idleKeeper(ctx)
	} else {
		conn, err = d.openRestore(ctx)
	}
	if err != nil {
		return err
	}
	return d.note(ctx, conn, base)
}

// idleKeeper ends the transaction of the keeper's session where the other's keeps the map
// exact.
func (d *database) idleKeeper(ctx context.Context) error {
	if d.keeper == nil || !d.restoreKeeps || d.keeperIdle {
		return nil
	}
	_, err := d.keeper.Exec(ctx, "ROLLBACK", pgx.QueryExecModeSimpleProtocol)
	d.keeperIdle = err == nil
	return err
}

// endKeeper gives the keeper up: from here on nothing is believed of the map.
func (d *database) endKeeper(ctx context.Context) {
	if d.keeper == nil {
		return
	}
	ctx = context.WithoutCancel(ctx)
	d.server.dropHolder(ctx, d)
	_ = d.keeper.Close(ctx)
	d.keeperIdle, d.holds = false, nil
	_ = d.freeRestore(ctx)
	d.keeper, d.look.Keepers, d.fresh, d.freshOf = nil, nil, nil, ""
	d.look.NewSession()
}

// freeRestore ends the transaction in which the session that puts back keeps the map exact:
// the other's does after a look at which nobody else was writing.
func (d *database) freeRestore(ctx context.Context) error {
	if !d.restoreKeeps {
		return nil
	}
	if d.keeperIdle { // nothing keeps it from here on
		d.restoreKeeps = false
		d.endKeeper(ctx)
		return errNotKept
	}
	d.restoreKeeps = false
	_, err := d.restoreConn.Exec(ctx, "ROLLBACK")
	return err
}

// settleKept makes the next look at a database that is kept cheap. Where that cannot be, as
// somebody is writing already, what was put back stays marked as touched.
func (d *database) settleKept(ctx context.Context, p witness.Put) (fresh witness.Baseline, err error) {
	if !d.server.mayKeep(ctx, d.ask) {
		return fresh, errNotKept
	}
	hand, err := d.openRestore(ctx)
	if err != nil {
		return fresh, err
	}
	if _, err := hand.Exec(ctx, d.server.untimed()+beginNumbered); err != nil {
		return fresh, err
	}
	d.restoreKeeps = true
	older, err := d.olderWriters(ctx)
	if err != nil {
		return fresh, err
	}
	if older {
		return touchedStill(p.Base, p.Tables), d.freeRestore(ctx)
	}
	// Nothing could be hidden so far: what others have written to since the reset's look, but
	// for what was put back, is told now.
	others, err := d.writtenBeside(ctx, p.Base, p.Tables)
	if err != nil {
		return fresh, err
	}
	if err = d.idleKeeper(ctx); err != nil {
		return fresh, err
	}
	if p.Switched && p.Alone {
		if err := d.look.StampTriggers(ctx, d.keeper, &p); err != nil {
			return fresh, err
		}
	}
	d.look.Keepers = d.keepers()
	if fresh, err = d.look.Settle(ctx, d.keeper, p); err != nil {
		return fresh, err
	}
	d.look.Adopt()
	return touchedStill(fresh, others), nil
}

// writtenBeside lists the tables of a baseline, by their places, that were written to, but
// for some.
func (d *database) writtenBeside(ctx context.Context, base witness.Baseline, but []int) (others []int, err error) {
	if d.look.Noted { // both sessions keep now
		conn, err := d.openWitness(ctx)
		if err == nil {
			err = d.note(ctx, conn, base)
		}
		if err != nil {
			return nil, err
		}
	}
	err = d.lookInside(ctx, func(conn *pgx.Conn) error {
		hidden, err := d.look.Hidden(ctx, conn, base)
		for _, i := range hidden {
			if !slices.Contains(but, i-1) {
				others = append(others, i-1)
			}
		}
		return err
	})
	return others, err
}

// errNotKept says that a database is to be kept no more.
var errNotKept = errors.New("the database is not kept any more")

// touchedStill is a baseline of which some tables are taken for touched by every look.
func touchedStill(base witness.Baseline, tables []int) witness.Baseline {
	base.Tables = slices.Clone(base.Tables)
	for _, at := range tables {
		base.Tables[at].Vacuums = -1
	}
	return base
}

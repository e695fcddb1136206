package postgres

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"hemzo/internal/engine"
	"hemzo/internal/engine/gating"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/engine/postgres/restore"
	"hemzo/internal/engine/postgres/witness"
	"hemzo/internal/fault"
)

// Reset puts the database back: nothing where nothing was touched, rows in
// place where rows were, else by a copy of the start state in its place.
func (d *database) Reset(ctx context.Context, r engine.Reset) (*engine.Report, error) {
	defer d.use()()
	d.end = time.Now().Add(d.session.Wait)
	report, err := d.reset(ctx, r)
	d.end = time.Time{}
	if err != nil {
		return nil, d.server.explainDiskFull(err, "putting the copy back")
	}
	return report, nil
}

func (d *database) reset(ctx context.Context, r engine.Reset) (*engine.Report, error) {
	if r.Way == engine.Rollback {
		return nil, gating.NotBehind()
	}
	why := "it was asked for"
	if r.Way != engine.Snapshot || r.InPlace {
		report, err := d.inPlace(ctx, r)
		if errors.Is(err, witness.ErrGone) { // by another process: what is known is of the one before
			err = witness.Cannot{Why: err.Error()}
		}
		reason := witness.Cannot{}
		if err == nil || !errors.As(err, &reason) {
			return report, err
		}
		why = reason.Why
	}
	if len(r.Keep) > 0 && r.Way != engine.Snapshot {
		why += "; tables to keep were put back too"
	}
	if r.InPlace {
		return nil, d.inPlaceOnly(ctx, r, why)
	}
	if err := d.Close(); err != nil {
		return nil, err
	}
	changePrivate(&d.facts, func(p *private) { p.Birth, p.Source = "", time.Time{} })
	drop, err := d.server.replace(ctx, r.Start, d.id, d.facts)
	if err != nil {
		return nil, err
	}
	d.look.Replaced()
	report := &engine.Report{Way: engine.Snapshot, Why: why, Reconnect: true, Noted: true,
		Tables: []engine.TableReport{}}
	report.Later = func(ctx context.Context) (json.RawMessage, error) {
		defer d.use()()
		err := drop(ctx)
		if err == nil && r.Ahead {
			err = d.server.prepareSpare(ctx, r.Start, d.id)
		}
		if err != nil || !d.server.mayKeep(ctx, d.ask) {
			return nil, err
		}
		base, err := d.base(ctx, engine.Reset{Start: r.Start, Last: r.Start})
		if err != nil {
			return nil, nil // rows are read as before
		}
		return d.keepAgain(ctx, base)
	}
	return report, nil
}

// inPlaceOnly is the refusal where a copy would have to be replaced, with
// what of the schema is in the way.
func (d *database) inPlaceOnly(ctx context.Context, r engine.Reset, why string) error {
	e := fault.New(fault.Failed, "reset without --in-place: clients must then connect again",
		"the copy cannot be put back in place: %s", why)
	changes, err := d.Changes(ctx, engine.Compare{Start: r.Start})
	if err != nil {
		return e
	}
	for _, c := range changes.Schema {
		e.Lines = append(e.Lines, c.String())
	}
	return e
}

// base is the baseline of the start state: the database's own, where a reset
// has left one, else its template's.
func (d *database) base(ctx context.Context, r engine.Reset) (b witness.Baseline, err error) {
	raw := r.Baseline
	if raw == nil && r.Last == r.Start && r.Start == d.freshOf {
		raw = d.fresh
	}
	if raw == nil {
		if r.Last != r.Start {
			return b, witness.Cannot{Why: "nothing is noted of its start state"}
		}
		if d.startOf != r.Start {
			start, err := d.server.Find(ctx, r.Start)
			if err != nil {
				return b, err
			}
			if from := privateOf(d.facts).Source; !from.IsZero() && !start.Facts.Made.Equal(from) {
				return b, witness.Cannot{Why: "its template was built again since"}
			}
			d.startOf, d.start = r.Start, start.Facts.Baseline
		}
		raw = d.start
	}
	// A suite asks thousands of times: the text is read once.
	if raw == nil || !bytes.Equal(raw, d.readOf) {
		if raw == nil || json.Unmarshal(raw, &b) != nil || b.Form != witness.Form || !b.Safe() {
			return b, witness.Cannot{Why: "the server cannot tell what was touched"}
		}
		d.setBaseline(b, raw)
		d.look.DropPending()
	}
	d.look.FromStart = r.Baseline == nil
	b = d.read
	b.Exact = b.Exact && d.believed()
	return b, nil
}

// setBaseline takes a baseline as the one that was read last.
func (d *database) setBaseline(b witness.Baseline, raw json.RawMessage) {
	d.read, d.readOf = b, raw
	d.look.NewBaseline()
}

// openWitness opens a session that can tell what was touched, and keeps it.
func (d *database) openWitness(ctx context.Context) (*pgx.Conn, error) {
	if d.witnessConn != nil && !d.witnessConn.IsClosed() {
		return d.witnessConn, d.limitWaits(ctx, d.witnessConn)
	}
	config := d.server.ownSettings(d.id)
	config.DefaultQueryExecMode = pgx.QueryExecModeCacheStatement // it is asked the same again and again
	config.OnNotice = func(_ *pgconn.PgConn, n *pgconn.Notice) { d.heed(n.Severity) }
	conn, err := d.server.dialRetrying(ctx, config)
	if err != nil {
		return nil, fmt.Errorf("connecting to %s: %w", d.id, err)
	}
	// Rows that this session may not see are to be an error.
	_, err = conn.Exec(ctx, fmt.Sprintf("SET row_security = off; SET synchronous_commit = on; "+onePlan+
		"; SET lock_timeout = %d", max(d.session.Wait.Milliseconds(), 1)), pgx.QueryExecModeSimpleProtocol)
	if err == nil {
		err = d.limitWaits(ctx, conn)
	}
	if err != nil {
		conn.Close(ctx)
		return nil, fmt.Errorf("connecting to %s: %w", d.id, err)
	}
	d.witnessConn, d.lookConn = conn, conn
	d.look.NewSession()
	return conn, nil
}

// openLook opens a session that can tell what was touched: where it has no more rights than
// the one that puts back, that one.
func (d *database) openLook(ctx context.Context) (*pgx.Conn, error) {
	if d.server.isSuperuser || d.restoreKeeps {
		return d.openWitness(ctx)
	}
	conn, err := d.openRestore(ctx)
	if err == nil && conn != d.lookConn {
		d.lookConn = conn
		d.look.NewSession()
	}
	return conn, err
}

// onePlan has a session plan once what it asks again and again.
const onePlan = "SET plan_cache_mode = force_generic_plan"

// exact reports whether the visibility map can be believed.
func (s *server) exact() bool { return s.trusted().Map }

// trusted tells what of the server can be believed: what the self-test of its
// build found, and nothing where others vacuum.
func (s *server) trusted() witness.Trust {
	switch {
	case !s.private:
		return witness.Trust{Why: "it is an existing server"}
	case !s.isSuperuser || !s.autovacuumOff:
		return witness.Trust{Why: "autovacuum is on"}
	}
	return s.trust
}

// compareRetrying looks. That nothing happened since another look is not that nothing did
// since a reset: what the database itself has may differ since before the other one.
func (d *database) compareRetrying(ctx context.Context, base witness.Baseline) (t witness.Touched, err error) {
	due := d.levelDue
	d.levelDue = true
	t, err = d.compare(ctx, base)
	if err == nil && t.Idle {
		d.levelDue, t.Idle = due, !due
	}
	return t, err
}

// compare asks what was touched, once more on a new session where Hemzo's own was ended
// while nobody used it: to make a snapshot, for one.
func (d *database) compare(ctx context.Context, base witness.Baseline) (t witness.Touched, err error) {
	if t, ok := d.lookKept(ctx, base); ok {
		return t, nil
	}
	if d.looks++; d.looks == 1 && d.witnessConn == nil { // often the only one, and nothing was touched
		told := false
		err := d.server.readRetrying(ctx, func(ctx context.Context, conn *pgx.Conn) (err error) {
			t, told, err = d.look.Quick(ctx, conn, false, base)
			return err
		})
		if err != nil || told {
			return t, err
		}
	}
	base.Exact = base.Exact && d.believed() // it may be kept no more
	for try := 0; ; try++ {
		conn, err := d.openLook(ctx)
		if err != nil {
			return witness.Touched{}, err
		}
		t, err = d.look.Compare(ctx, conn, base)
		if pg.State(err) == pg.DeadlockDetected && try == 0 { // with a statement that goes on now
			continue
		}
		if pg.State(err) == pg.LockNotAvailable { // a session has a table to itself
			names := witness.Names(base.Tables)
			if !d.session.Force || try > 0 {
				return t, d.blocked(ctx, names, err)
			}
			if err := restore.EndHolders(ctx, conn, names); err != nil {
				return t, err
			}
			d.end = time.Now().Add(ownTime) // they are gone in a moment
			continue
		}
		if err == nil || !conn.IsClosed() || ctx.Err() != nil || try > 0 {
			if pg.State(err) == pg.InsufficientPrivilege {
				err = witness.Cannot{Why: "on this server what was touched cannot be told: " + pg.Message(err)}
			}
			return t, err
		}
	}
}

// inPlace puts back what was touched, all in one transaction; connections
// stay open.
func (d *database) inPlace(ctx context.Context, r engine.Reset) (*engine.Report, error) {
	base, err := d.base(ctx, r)
	if err != nil {
		return nil, err
	}
	report := &engine.Report{Tables: []engine.TableReport{}, Baseline: r.Baseline}
	t, err := d.lookWhenQuiet(ctx, base)
	mended := errors.Is(err, witness.ErrSchema)
	if mended {
		if base, err = d.repairSchema(ctx, r.Start, base, report); err == nil {
			t, err = d.compareRetrying(ctx, base)
		}
	}
	if err != nil {
		return nil, err
	}
	if !t.Idle {
		settings, err := d.level(ctx, r.Start)
		if err != nil {
			return nil, err
		}
		report.Settings = append(report.Settings, settings...)
	}
	work, err := d.plan(base, t, r, report)
	if err != nil {
		return nil, err
	}
	if len(work.Tables)+len(work.Views)+len(work.Counters)+len(report.Settings) > 0 || report.Schema {
		report.Way, report.Sequences = engine.Truncation, len(work.Counters)
	}
	if len(work.Tables)+len(work.Views)+len(work.Counters) > 0 {
		if err := d.restore.PutBack(ctx, &work); err != nil {
			return nil, err
		}
		work.Put.Tables = append(work.Put.Tables, work.Views...)
	}
	report.Worth = t.Far
	if len(work.Tables)+len(work.Catalogs)+len(work.Counters) > 0 || mended || t.Moved || t.Far {
		report.Later = func(ctx context.Context) (json.RawMessage, error) { return d.settle(ctx, work.Put) }
		return report, nil
	}
	if err := d.idleKeeper(ctx); err != nil {
		d.endKeeper(ctx)
	}
	return report, nil
}

// plan is what a reset puts back of what was touched.
func (d *database) plan(base witness.Baseline, t witness.Touched, r engine.Reset, report *engine.Report) (restore.Plan,
	error) {
	work := restore.Plan{Put: witness.Put{Base: base, At: t.At}, Start: r.Start, Report: report}
	for _, i := range t.Tables {
		m := base.Tables[i-1]
		if kept(m.Name, r.Keep) {
			report.Kept = append(report.Kept, m.Name)
			continue
		}
		if m.View {
			work.Views = append(work.Views, i-1)
			continue
		}
		if m.Fires && !d.restore.Bound { // there triggers are switched off one by one, and rules looked for
			return work, witness.Cannot{Why: "a trigger or rule of " + pg.ShortName(m.Name) + " fires always"}
		}
		work.Tables = append(work.Tables, i-1)
	}
	for _, i := range t.Counters {
		if c := base.Counters[i-1]; c.Table == "" || !kept(c.Table, r.Keep) {
			work.Counters = append(work.Counters, c)
		}
	}
	work.Catalogs = t.Catalogs
	return work, nil
}

// settle makes the next look cheap, and returns the baseline for it.
func (d *database) settle(ctx context.Context, p witness.Put) (json.RawMessage, error) {
	defer d.use()()
	if d.keeper != nil {
		fresh, err := d.settleKept(ctx, p)
		if err == nil {
			return d.noteBaseline(fresh)
		}
		d.endKeeper(ctx)
	}
	p.Base.Exact = p.Base.Exact && d.believed()
	conn, err := d.openLook(ctx)
	if err != nil {
		return nil, err
	}
	fresh, err := d.look.Settle(ctx, conn, p)
	if err != nil {
		return nil, err
	}
	if raw, err := d.keepAgain(ctx, fresh); raw != nil || err != nil {
		return raw, err
	}
	return d.noteBaseline(fresh)
}

// noteBaseline takes a baseline as the one that was read last, and writes it for the facts.
func (d *database) noteBaseline(b witness.Baseline) (json.RawMessage, error) {
	raw, err := json.Marshal(b)
	if err == nil {
		d.read, d.readOf = b, raw
	}
	return raw, err
}

// level puts back what belongs to the database itself, and names what differed.
func (d *database) level(ctx context.Context, start string) (changed []string, err error) {
	e, err := d.startEntry(ctx, start)
	if err != nil {
		return nil, err
	}
	items, err := d.server.putLevel(ctx, d.ask, d.id, d.facts, privateOf(e.Facts).Carry)
	d.levelDue = err != nil
	for _, i := range items {
		kind, name := i.words()
		if text := strings.TrimSpace(kind + " " + name); !slices.Contains(changed, text) {
			changed = append(changed, text)
		}
	}
	return changed, err
}

// startEntry finds a start state, once: it stays as it is.
func (d *database) startEntry(ctx context.Context, id string) (engine.Entry, error) {
	if d.foundStart.ID == id {
		return d.foundStart, nil
	}
	e, err := d.server.Find(ctx, id)
	if err == nil {
		d.foundStart = e
	}
	return e, err
}

// lookWhenQuiet is asked once no transaction that has written is under way in
// the database, and no statement that began before: it could be committed after the
// reset, also where its client has gone. Who has one is waited for, or ended where that
// is wanted.
func (d *database) lookWhenQuiet(ctx context.Context, base witness.Baseline) (t witness.Touched, err error) {
	waited, end := false, d.endOfWaits()
	for pause := time.Millisecond; ; pause = min(pause*2, 50*time.Millisecond) {
		d.look.Writers, d.look.Running = 0, 0
		t, err = d.compareRetrying(ctx, base)
		if err != nil && !errors.Is(err, witness.ErrSchema) {
			return t, err
		}
		switch {
		case d.look.Running > 0 && !waited:
			waited = true
			if err := d.awaitStatements(ctx); err != nil {
				return t, err
			}
			continue
		case d.look.Writers == 0:
			return t, err
		case time.Now().After(end):
			return t, d.describeWriters(ctx)
		case d.session.Force:
			pids := d.server.witness.Writing(ofClients, d.oidText())
			if err := d.server.exec(ctx, "SELECT pg_terminate_backend(p) FROM unnest("+pids+") p"); err != nil {
				return t, fmt.Errorf("ending the sessions that have written: %w", err)
			}
		}
		select {
		case <-ctx.Done():
			return t, ctx.Err()
		case <-time.After(pause):
		}
	}
}

// ofClients are the numbers of sessions that may be ended: those of another process of
// Hemzo's, which puts the same copy back, end what they do by themselves.
const ofClients = "array_agg(a.pid) FILTER (WHERE coalesce(a.application_name, '') <> 'hemzo')"

// ownTime is how long another process of Hemzo's is waited for where all others are ended.
const ownTime = 10 * time.Second

// endOfWaits is until when sessions are waited for.
func (d *database) endOfWaits() time.Time {
	if d.session.Force {
		return time.Now().Add(ownTime)
	}
	return d.end
}

// awaitStatements waits until each session that runs a statement has ended that one, or
// ends the sessions where that is wanted. Those that begin meanwhile are not waited for.
func (d *database) awaitStatements(ctx context.Context) error {
	running := func(what string) string {
		return "coalesce(" + d.server.witness.Running(what, d.oidText()) + ", '{}')"
	}
	query := "SELECT " + running("array_agg(a.pid)") + ", " + running(ofClients)
	var before []int
	end := d.endOfWaits()
	for pause := time.Millisecond; ; pause = min(pause*2, 50*time.Millisecond) {
		var now, clients []int
		err := d.server.readRetrying(ctx, func(ctx context.Context, conn *pgx.Conn) error {
			return conn.QueryRow(ctx, query).Scan(&now, &clients)
		})
		if err != nil {
			return fmt.Errorf("asking which statements run: %w", err)
		}
		if before == nil {
			before = now
		}
		before = slices.DeleteFunc(before, func(pid int) bool { return !slices.Contains(now, pid) })
		clients = slices.DeleteFunc(clients, func(pid int) bool { return !slices.Contains(before, pid) })
		switch {
		case len(before) == 0:
			return nil
		case d.session.Force && len(clients) > 0:
			err := d.server.exec(ctx, "SELECT pg_terminate_backend(p) FROM unnest($1::int[]) p", clients)
			if err != nil {
				return fmt.Errorf("ending the sessions that run a statement: %w", err)
			}
			if d.session.Ended != nil {
				d.session.Ended()
			}
		case time.Now().After(end):
			return d.inTheWay(ctx, before, "a statement is running that may write")
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
	}
}

func (d *database) oidText() string { return strconv.FormatUint(uint64(d.look.OID), 10) }

// describeWriters names the sessions with transactions that have written.
func (d *database) describeWriters(ctx context.Context) error {
	var pids []int
	who := d.server.witness.Writing("array_agg(a.pid)", d.oidText(), d.keepers()...)
	_ = d.server.readRetrying(ctx, func(ctx context.Context, conn *pgx.Conn) error {
		return conn.QueryRow(ctx, "SELECT coalesce("+who+", '{}')").Scan(&pids)
	})
	e := d.inTheWay(ctx, pids, "a transaction is under way that has written")
	if len(e.Lines) == 0 {
		e.Lines = []string{"a prepared transaction, or one that has ended by now"}
	}
	return e
}

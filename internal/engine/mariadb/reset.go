package mariadb

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"hemzo/internal/engine"
	"hemzo/internal/engine/gating"
	"hemzo/internal/fault"
)

func number(s string) uint64 {
	n, _ := strconv.ParseUint(s, 10, 64)
	return n
}

// state reads what is known of a template or snapshot, once.
func (d *database) state(ctx context.Context, id string) (*state, error) {
	if d.known != nil && d.knownID == id {
		return d.known, nil
	}
	s, err := d.holder.start(ctx, id)
	if err == nil {
		d.known, d.knownID = s, id
	}
	return s, err
}

// Reset puts the copy back: rows in place, and by a server started from the state's files
// where definitions changed, or where that is asked for.
func (d *database) Reset(ctx context.Context, r engine.Reset) (*engine.Report, error) {
	for tries := 0; ; tries++ {
		report, err := d.reset(ctx, r)
		if tries < 10 && errors.Is(err, errEnded) {
			continue
		}
		return report, explainFull(err)
	}
}

// errEnded says that sessions were ended, which may have changed something until then: what
// was touched has to be looked at anew.
var errEnded = errors.New("sessions that were ended come again and again")

func (d *database) reset(ctx context.Context, r engine.Reset) (*engine.Report, error) {
	if r.Way == engine.Rollback {
		return nil, gating.NotBehind()
	}
	s, err := d.state(ctx, r.Start)
	if err != nil {
		return nil, err
	}
	// Of two at once the second begins when the first is done.
	unlock, err := d.holder.Lock(ctx, "reset-"+d.entry.ID, nil)
	if err != nil {
		return nil, err
	}
	defer unlock()
	if err := d.refresh(ctx); err != nil {
		return nil, err
	}
	if r.Way == engine.Snapshot {
		return d.replace(ctx, r, "it was asked for", false)
	}
	if r.Last != r.Start {
		return d.replace(ctx, r, "it is another state than the last one", false)
	}
	c, err := d.admin(ctx)
	var running []engine.Client
	if err == nil {
		running, err = runningStatements(ctx, c, d.at.among())
	}
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if code(err) == noSuchDatabase {
			return d.replace(ctx, r, "its database was dropped", true)
		}
		return d.replace(ctx, r, "its server did not answer", false)
	}
	if err := d.awaitStatements(ctx, c, running); err != nil {
		return nil, err
	}
	return d.putBack(ctx, r, c, s)
}

// putBack puts back what was touched, in place where that can be.
func (d *database) putBack(ctx context.Context, r engine.Reset, c *conn, s *state) (*engine.Report, error) {
	x, err := d.suspect(ctx, c, s, r.Baseline)
	if err != nil {
		return nil, err
	}
	if x.defined {
		differ, err := x.others(ctx, c, d.at, s)
		if err != nil {
			return nil, err
		}
		if len(differ) > 0 {
			return d.replace(ctx, r, "the schema was changed: "+few(differ), true)
		}
	}
	touched := slices.DeleteFunc(x.names(s), func(t *table) bool { return slices.Contains(r.Keep, t.Name) })
	for _, t := range touched {
		if t.Kind == "SYSTEM VERSIONED" && (t.History == "" || historySum(ctx, c, t) != t.History) {
			return d.replace(ctx, r, "the history of "+t.Name+" cannot be put back by statements", false)
		}
	}
	touched = slices.DeleteFunc(touched, func(t *table) bool { return t.Kind == "SYSTEM VERSIONED" })
	p := &putBack{database: d, c: c, state: s, suspicion: x, report: &engine.Report{Tables: []engine.TableReport{}}}
	return p.do(ctx, r, touched)
}

// awaitStatements waits until sessions have ended the statements that they run, or ends the
// sessions where that is wanted: what they are about to write is counted by nobody yet, and
// the server goes on also where the client has gone.
func (d *database) awaitStatements(ctx context.Context, c *conn, running []engine.Client) error {
	end := time.Now().Add(d.session.Wait)
	for pause := time.Millisecond; len(running) > 0; pause = min(pause*2, 50*time.Millisecond) {
		switch {
		case d.session.Force:
			kill(ctx, c, running)
			if d.session.Ended != nil {
				d.session.Ended()
			}
		case time.Now().After(end):
			all, err := sessions(ctx, c, d.at.among())
			if err != nil {
				return err
			}
			all = slices.DeleteFunc(all, func(x engine.Client) bool { return !contains(running, x.PID) })
			return engine.InTheWay(all, d.session.Wait,
				"let them end, give more time with  --wait, or end the sessions with  --force",
				"statements are running that may write")
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
		now, err := runningStatements(ctx, c, d.at.among())
		if err != nil {
			return err
		}
		running = slices.DeleteFunc(running, func(r engine.Client) bool { return !contains(now, r.PID) })
	}
	return nil
}

// kill ends sessions; one may have gone already.
func kill(ctx context.Context, c *conn, all []engine.Client) {
	for _, x := range all {
		_ = c.do(ctx, fmt.Sprintf("KILL CONNECTION %d", x.PID))
	}
}

func contains(all []engine.Client, pid int) bool {
	return slices.ContainsFunc(all, func(x engine.Client) bool { return x.PID == pid })
}

// refresh finds the copy's server anew: another process may have put one in its place.
func (d *database) refresh(ctx context.Context) error {
	if d.hand != nil {
		if d.hand.PingContext(ctx) == nil {
			return nil
		}
		_ = d.leave(&d.hand)
	}
	if d.at.Shared { // it is made anew where it is
		return nil
	}
	e, err := d.holder.Find(ctx, d.entry.ID)
	if err != nil {
		return err
	}
	at := d.holder.locate(e)
	if at.Life == d.at.Life {
		return nil
	}
	err = d.Close()
	d.at = at
	return err
}

// few joins the first of many names.
func few(names []string) string {
	if len(names) > 4 {
		return strings.Join(names[:4], ", ") + fmt.Sprintf(" and %d more", len(names)-4)
	}
	return strings.Join(names, ", ")
}

// replace puts a server that begins with the files of the state in the place of this one.
func (d *database) replace(ctx context.Context, r engine.Reset, why string, schema bool) (*engine.Report, error) {
	if r.InPlace {
		return nil, fault.New(fault.Failed, "leave out --in-place", "the copy cannot be put back in place: %s", why)
	}
	if len(r.Keep) > 0 && r.Way != engine.Snapshot {
		return nil, fault.New(fault.Failed, "take a new copy", "tables cannot be kept: %s", why)
	}
	if err := d.Close(); err != nil {
		return nil, err
	}
	if r.Begin != nil { // it may be ended halfway
		if err := r.Begin(); err != nil {
			return nil, err
		}
	}
	base, reconnect, err := d.holder.renew(ctx, d, r.Start)
	if err != nil {
		return nil, err
	}
	return &engine.Report{Way: engine.Snapshot, Why: why, Schema: schema, Reconnect: reconnect, Baseline: base,
		Tables: []engine.TableReport{}}, nil
}

// putBack is one reset in place.
type putBack struct {
	*database
	c      *conn
	state  *state
	report *engine.Report
	*suspicion
	begin   func() error
	beside  map[string]beside // where the state's rows are, by tables whose rows are compared one by one
	moved   bool              // an AUTO_INCREMENT was put back
	altered map[string]bool   // tables that statements of Hemzo's own have altered
	defined uint64            // statements of Hemzo's own that are counted as such that define something
}

// beside is a table with the rows that another had in a state.
type beside struct {
	from string // as a statement names it
	ref  string // as its columns are named
}

// rowsOf is the table of a state that lies on the same server.
func (s *state) rowsOf(t *table) beside {
	name := fmt.Sprintf("hemzo__start_%d", t.File) // locks want one of its own for each
	return beside{quote(s.Schema) + "." + quote(t.Name) + " AS " + name, name}
}

// there reports whether the rows of the state are on the same server.
func (s *state) there() bool { return s.folder == "" }

// define runs a statement that is counted as one that defines something.
func (p *putBack) define(ctx context.Context, t *table, statement string) error {
	p.defined++
	p.altered[t.Name] = true
	return p.c.do(ctx, statement)
}

// change is called before the first change.
func (p *putBack) change() error {
	if p.begin == nil {
		return nil
	}
	begin := p.begin
	p.begin = nil
	return begin()
}

func (p *putBack) do(ctx context.Context, r engine.Reset, touched []*table) (*engine.Report, error) {
	p.begin = r.Begin
	var sequences []*table // what was taken of one within its cache cannot be seen
	for _, t := range p.state.Tables {
		if t.Kind == "SEQUENCE" && !slices.Contains(r.Keep, t.Name) {
			sequences = append(sequences, t)
		}
	}
	next := p.now
	if len(touched)+len(sequences) > 0 {
		after, err := p.tables(ctx, touched, sequences)
		if err != nil {
			return nil, err
		}
		for base, k := range after {
			next.Tables[base] = k
		}
	}
	for _, name := range r.Keep { // they are looked at each time
		if t := p.state.table(name); t != nil && !p.same {
			next.Tables[t.Base] = counter{}
		}
	}
	if !p.same {
		next.Sum, next.Made = sumOf(next.Tables), p.now.Made
	}
	next.Done.Defined += p.defined
	p.report.Baseline = r.Baseline
	if p.at.Uncounted {
		p.report.Baseline = nil
	} else if !p.same {
		var err error
		if p.report.Baseline, err = json.Marshal(next); err != nil {
			return nil, err
		}
		p.noted, p.notedBase = p.report.Baseline, next
	}
	if p.at.Uncounted { // all were looked at: what was touched is what differed
		p.report.Tables = slices.DeleteFunc(p.report.Tables,
			func(t engine.TableReport) bool { return t.Removed+t.PutBack == 0 })
		touched = touched[:len(p.report.Tables)]
	}
	if len(touched) > 0 || p.report.Sequences > 0 || p.moved {
		p.report.Way = engine.Truncation
	}
	return p.report, nil
}

// sequences puts back sequences.
func (p *putBack) sequences(ctx context.Context, all []*table) error {
	for _, t := range all {
		now, err := p.c.rows(ctx, "SELECT * FROM "+quote(t.Name))
		if err != nil {
			return fmt.Errorf("reading the sequence %s: %w", t.Name, err)
		}
		if !slices.Equal(now[0], t.Counter) {
			p.report.Sequences++
			if err := p.change(); err != nil {
				return err
			}
		}
		if err := p.c.do(ctx, "INSERT INTO "+quote(t.Name)+" VALUES ("+strings.Join(t.Counter, ", ")+")"); err != nil {
			return fmt.Errorf("putting back the sequence %s: %w", t.Name, err)
		}
	}
	return nil
}

// tables puts the rows of tables back while nobody else can write to them, and returns
// what they count then.
func (p *putBack) tables(ctx context.Context, touched, sequences []*table) (map[string]counter, error) {
	p.beside, p.altered = map[string]beside{}, map[string]bool{}
	defer func() {
		for _, b := range p.beside {
			if !p.state.there() {
				_ = p.c.do(context.WithoutCancel(ctx), "DROP TEMPORARY TABLE IF EXISTS "+b.from)
			}
		}
	}()
	if err := p.layAll(ctx, touched); err != nil {
		return nil, err
	}
	if err := p.lock(ctx, slices.Concat(touched, sequences)); err != nil {
		return nil, err
	}
	defer func() { _ = p.c.do(context.WithoutCancel(ctx), "UNLOCK TABLES") }()
	if err := p.sequences(ctx, sequences); err != nil {
		return nil, err
	}
	if len(touched) == 0 {
		return nil, nil
	}
	if err := p.change(); err != nil {
		return nil, err
	}
	if err := p.all(ctx, touched); err != nil {
		return nil, err
	}
	looked := slices.Concat(touched, sequences)
	after, err := p.counters(ctx, looked)
	if err != nil {
		return nil, err
	}
	for _, t := range touched {
		if err := p.position(ctx, t, after[t.Base]); err != nil {
			return nil, fmt.Errorf("putting back the counter of %s: %w", t.Name, err)
		}
	}
	if p.moved {
		after, err = p.counters(ctx, looked)
	}
	if err == nil && p.at.Shared && !p.at.Uncounted && len(p.altered) > 0 {
		err = p.noteMade(ctx)
	}
	return after, err
}

// counters are what tables count; nothing where that is not looked at.
func (p *putBack) counters(ctx context.Context, some []*table) (map[string]counter, error) {
	if p.at.Uncounted {
		return map[string]counter{}, nil
	}
	return counters(ctx, p.c, p.at.Schema, some)
}

// noteMade notes of what Hemzo has altered itself when that was.
func (p *putBack) noteMade(ctx context.Context) error {
	now, err := made(ctx, p.c, p.at.Schema, slices.Collect(maps.Keys(p.altered))...)
	if err != nil {
		return err
	}
	p.now.Made = maps.Clone(p.now.Made)
	for name := range p.altered {
		p.now.Made[name] = now[name]
	}
	return nil
}

// lock has nobody else write to some tables. Who is in the way is named, or with force
// ended.
func (p *putBack) lock(ctx context.Context, touched []*table) error {
	var locks []string
	for _, t := range touched {
		locks = append(locks, quote(t.Name)+" WRITE")
		if p.state.there() && t.Rows > 0 { // each is locked by each name that it has in a statement
			locks = append(locks, p.state.rowsOf(t).from+" READ")
		}
	}
	wait := int(math.Ceil(p.session.Wait.Seconds()))
	if p.session.Force {
		wait = 0
	}
	statement := fmt.Sprintf("SET lock_wait_timeout = %d, innodb_lock_wait_timeout = %d; LOCK TABLES %s", wait, wait,
		strings.Join(locks, ", "))
	for tries := 0; ; tries++ {
		err := p.c.do(ctx, statement)
		if code(err) != lockWaitTimeout {
			if err != nil {
				return fmt.Errorf("locking the tables: %w", err)
			}
			// From here on only the server's own threads are waited for.
			return p.c.do(ctx, "SET lock_wait_timeout = 10, innodb_lock_wait_timeout = 10")
		}
		blocking, failed := p.inTheWay(ctx)
		if failed != nil {
			return failed
		}
		if !p.session.Force || tries == 10 {
			return engine.InTheWay(blocking, p.session.Wait, "end these sessions, or have them ended with  --force",
				"sessions hold locks on what is to be put back")
		}
		kill(ctx, p.c, blocking)
		if len(blocking) > 0 && p.session.Ended != nil {
			p.session.Ended()
		}
		if err := p.awaitEnd(ctx, blocking); err != nil {
			return err
		}
		if len(blocking) > 0 {
			return errEnded
		}
	}
}

// awaitEnd waits a while until sessions that were told to end are there no more. What waited
// for one of them may go on for a moment.
func (p *putBack) awaitEnd(ctx context.Context, ended []engine.Client) error {
	for range 20 {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(transactionsKept):
		}
		now, err := sessions(ctx, p.c, p.at.among())
		if err != nil {
			return err
		}
		if !slices.ContainsFunc(now, func(x engine.Client) bool { return contains(ended, x.PID) }) {
			return nil
		}
	}
	return nil
}

// inTheWay are the sessions that may hold locks: those with a transaction, or that run
// something.
func (p *putBack) inTheWay(ctx context.Context) (all []engine.Client, err error) {
	everybody, err := sessions(ctx, p.c, p.at.among())
	for _, x := range everybody {
		if x.State != "idle" {
			all = append(all, x)
		}
	}
	if len(all) == 0 { // one that has only read, or has locked tables
		all = everybody
	}
	return all, err
}

// fewRows is up to how many rows are deleted one by one rather than with their table.
const fewRows = 500

// all puts the rows of tables back. Those to be emptied by making them anew go together.
func (p *putBack) all(ctx context.Context, touched []*table) error {
	has, err := p.ask(ctx, "SELECT COUNT(*) FROM %s", touched)
	if err != nil {
		return fmt.Errorf("counting rows: %w", err)
	}
	var empty strings.Builder
	var others []*table
	for _, t := range touched {
		// A table that is made anew counts from 1 again, too.
		moved := t.Next == "1" && p.now.Tables[t.Base].Next > 1
		switch rows := has[t.Name]; {
		case t.Rows > 0 || rows > 0 && rows <= fewRows && len(t.Trigger) == 0 && !t.Words && !moved:
			others = append(others, t)
			continue
		case rows > 0 || moved:
			p.altered[t.Name] = true
			empty.WriteString("TRUNCATE TABLE " + quote(t.Name) + ";")
		}
		p.report.Tables = append(p.report.Tables, engine.TableReport{Name: t.Name, Removed: has[t.Name]})
	}
	if empty.Len() > 0 {
		if err := p.c.do(ctx, empty.String()); err != nil {
			return fmt.Errorf("emptying tables: %w", err)
		}
	}
	for _, t := range others {
		if err := p.table(ctx, t, has[t.Name]); err != nil {
			return fmt.Errorf("putting back the table %s: %w", t.Name, err)
		}
	}
	slices.SortFunc(p.report.Tables, func(a, b engine.TableReport) int { return strings.Compare(a.Name, b.Name) })
	return nil
}

// ask asks the same of several tables, with a number for an answer.
func (p *putBack) ask(ctx context.Context, query string, some []*table) (map[string]int64, error) {
	all := map[string]int64{}
	for part := range slices.Chunk(some, 50) {
		parts := make([]string, len(part))
		for i, t := range part {
			parts[i] = "(" + strings.Replace(query, "%s", quote(t.Name), 1) + ")"
		}
		query := "SELECT " + strings.Join(parts, ", ")
		if !p.at.MySQL {
			query = "SET STATEMENT lock_wait_timeout = 0 FOR " + query
		}
		rows, err := p.c.rows(ctx, query)
		if err != nil {
			return nil, err
		}
		for i, t := range part {
			all[t.Name] = int64(number(rows[0][i]))
		}
	}
	return all, nil
}

// table puts the rows of a table back.
func (p *putBack) table(ctx context.Context, t *table, has int64) error {
	r := engine.TableReport{Name: t.Name}
	defer func() { p.report.Tables = append(p.report.Tables, r) }()
	same, err := p.sameRows(ctx, t, has)
	// Of words that were deleted and put back a fulltext index may know nothing.
	if err != nil || same && !t.Words {
		return err
	}
	again, err := p.dropTriggers(ctx, t)
	if err != nil {
		return err
	}
	switch {
	case t.Rows == 0:
		r.Removed, err = p.changed(ctx, "DELETE FROM "+quote(t.Name))
	default:
		r.Removed, r.PutBack, err = p.rows(ctx, t, has)
	}
	if same {
		r.Removed, r.PutBack = 0, 0
	}
	if err != nil {
		return err
	}
	return again()
}

func (p *putBack) changed(ctx context.Context, statement string) (int64, error) {
	done, err := p.c.ExecContext(ctx, statement)
	if err != nil {
		return 0, err
	}
	return done.RowsAffected()
}

// layAll lays beside tables the rows that they had; one without any row is filled at once.
func (p *putBack) layAll(ctx context.Context, touched []*table) error {
	var filled []*table
	for _, t := range touched {
		if t.Rows > 0 {
			filled = append(filled, t)
		}
	}
	var empty map[string]int64
	if !p.state.there() {
		var err error // who has locked one is found out when all are locked
		empty, err = p.ask(ctx, "SELECT COUNT(*) = 0 FROM (SELECT 1 FROM %s LIMIT 1) a", filled)
		if err != nil && code(err) != lockWaitTimeout {
			return fmt.Errorf("looking for rows: %w", err)
		}
	}
	for _, t := range filled {
		if empty[t.Name] == 1 {
			continue
		}
		if err := p.lay(ctx, t); err != nil {
			return fmt.Errorf("laying the rows of %s beside it: %w", t.Name, err)
		}
	}
	return nil
}

// lay puts the rows of the state into a temporary table, where they can be compared one
// by one: such a table is made before others are locked, as what fails then lets them go.
func (p *putBack) lay(ctx context.Context, t *table) error {
	if t.Rows == 0 || t.Key == nil || t.Words {
		return nil
	}
	if p.state.there() {
		p.beside[t.Name] = p.state.rowsOf(t)
		return nil
	}
	name := quote("hemzo__start_" + strconv.Itoa(t.File))
	if err := p.c.do(ctx, "DROP TEMPORARY TABLE IF EXISTS "+name); err != nil {
		return err
	}
	if p.c.do(ctx, "SET STATEMENT lock_wait_timeout = 0 FOR "+bare(t, name, true)) != nil {
		return nil // its key is one of the beginnings of texts, say, or somebody has locked it
	}
	p.beside[t.Name] = beside{name, name}
	return p.load(ctx, t, name)
}

// bare makes a temporary table of the stored columns of another, with its key and without
// all else.
func bare(t *table, name string, keyed bool) string {
	key := ""
	if keyed {
		key = " (PRIMARY KEY (" + quoteAll(t.Key) + "))"
	}
	return fmt.Sprintf("CREATE TEMPORARY TABLE %s%s ENGINE=InnoDB AS SELECT %s FROM %s WHERE FALSE", name, key,
		quoteAll(t.stored()), quote(t.Name))
}

// rows puts back the rows that differ; where that cannot be told one by one, all.
func (p *putBack) rows(ctx context.Context, t *table, has int64) (removed, putBack int64, err error) {
	beside, laid := p.beside[t.Name]
	if !laid {
		// Of what was deleted and put back one by one a fulltext index may know nothing.
		if t.Words || has > fewRows {
			err = p.truncate(ctx, t)
		} else {
			err = p.c.do(ctx, "DELETE FROM "+quote(t.Name))
		}
		if err != nil {
			return 0, 0, err
		}
		return has, t.Rows, p.load(ctx, t, quote(t.Name))
	}
	// A locked table can be named once in a statement, and by no other name.
	name, on, same := quote(t.Name), make([]string, len(t.Key)), []string{}
	for i, k := range t.Key {
		on[i] = fmt.Sprintf("%s.%s = %s.%s", name, quote(k), beside.ref, quote(k))
	}
	for _, c := range t.stored() {
		same = append(same, fmt.Sprintf("BINARY %s.%s <=> BINARY %s.%s", name, quote(c), beside.ref, quote(c)))
	}
	removed, err = p.changed(ctx, fmt.Sprintf("DELETE %s FROM %s LEFT JOIN %s ON %s AND %s WHERE %s.%s IS NULL", name,
		name, beside.from, strings.Join(on, " AND "), strings.Join(same, " AND "), beside.ref, quote(t.Key[0])))
	if err != nil {
		return 0, 0, err
	}
	columns := quoteAll(t.stored())
	if p.state.there() {
		// What is left is as it was, and is passed over: a second name of the table would keep
		// it from being altered.
		putBack, err = p.changed(ctx, fmt.Sprintf("INSERT IGNORE INTO %s (%s) SELECT %s FROM %s", name, columns, columns,
			beside.from))
		if err == nil && has-removed+putBack != t.Rows {
			err = fmt.Errorf("of %d rows the start state has %d", t.Rows, has-removed+putBack)
		}
		return removed, putBack, err
	}
	// What is left is as it was: the others are put back.
	if _, err := p.changed(ctx, fmt.Sprintf("DELETE %s FROM %s JOIN %s ON %s", beside.ref, beside.from, name,
		strings.Join(on, " AND "))); err != nil {
		return 0, 0, err
	}
	putBack, err = p.changed(ctx, fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM %s", name, columns, columns,
		beside.from))
	return removed, putBack, err
}

// sameRows reports whether a table holds what the start state on the same server does, where
// its rows cannot be compared one by one: then there are sums over both.
func (p *putBack) sameRows(ctx context.Context, t *table, has int64) (bool, error) {
	_, laid := p.beside[t.Name]
	if !p.state.there() || laid || has != t.Rows { // in files there are no sums
		return false, nil
	}
	now, err := summed(ctx, p.c, t)
	if err != nil {
		return false, err
	}
	was, err := summedIn(ctx, p.c, t, p.state.rowsOf(t).from)
	return err == nil && now.Sum == was.Sum, err
}

// truncate empties a table by making it anew.
func (p *putBack) truncate(ctx context.Context, t *table) error {
	p.altered[t.Name] = true
	return p.c.do(ctx, "TRUNCATE TABLE "+quote(t.Name))
}

// load puts the rows of a state into a table.
func (p *putBack) load(ctx context.Context, t *table, into string) error {
	if p.state.there() {
		n, err := p.changed(ctx, fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM %s", into, quoteAll(t.stored()),
			quoteAll(t.stored()), p.state.rowsOf(t).from))
		if err == nil && n != t.Rows {
			err = fmt.Errorf("of %d rows the start state has %d", t.Rows, n)
		}
		return err
	}
	f, err := os.Open(p.state.rowsFile(t))
	if err != nil {
		return err
	}
	defer f.Close() // the driver has closed it, unless the server refused the statement
	name := "hemzo-" + rand.Text()
	mysql.RegisterReaderHandler(name, func() io.Reader { return f })
	defer mysql.DeregisterReaderHandler(name)
	n, err := p.changed(ctx, fmt.Sprintf("LOAD DATA LOCAL INFILE 'Reader::%s' INTO TABLE %s%s (%s)", name, into, fields,
		quoteAll(t.stored())))
	if err == nil && n != t.Rows {
		err = fmt.Errorf("of %d rows the server took %d", t.Rows, n)
	}
	return err
}

// dropTriggers has none fire; the returned function makes them again, in their order.
func (p *putBack) dropTriggers(ctx context.Context, t *table) (again func() error, err error) {
	var statements []string
	for _, name := range t.Trigger {
		rows, err := p.c.rows(ctx, "SHOW CREATE TRIGGER "+quote(name))
		if err != nil {
			return nil, err
		}
		r := rows[0]
		statements = append(statements, fmt.Sprintf("SET sql_mode = %s, character_set_client = %s, "+
			"collation_connection = %s",
			text(r[1]), r[3], r[4]), r[2])
	}
	for _, name := range t.Trigger {
		if err := p.define(ctx, t, "DROP TRIGGER "+quote(name)); err != nil {
			return nil, err
		}
	}
	return func() error {
		if statements == nil {
			return nil
		}
		for i, s := range statements {
			if i%2 == 1 {
				p.defined++
			}
			if err := p.c.do(ctx, s); err != nil {
				return fmt.Errorf("making its triggers again: %w", err)
			}
		}
		return p.c.do(ctx, "SET sql_mode = 'NO_AUTO_VALUE_ON_ZERO', character_set_client = utf8mb4, "+
			"collation_connection = utf8mb4_general_ci")
	}, nil
}

// position puts AUTO_INCREMENT back.
func (p *putBack) position(ctx context.Context, t *table, now counter) error {
	if t.Next == "" || t.transacted() && now.Next == number(t.Next) && !p.at.Uncounted {
		return nil
	}
	if !t.transacted() || now.Next == 0 { // it is not open, or not to be seen
		rows, err := p.c.rows(ctx, "SELECT AUTO_INCREMENT FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? AND "+
			"TABLE_NAME = ?", p.at.Schema, t.Name)
		if err != nil || len(rows) == 0 || rows[0][0] == t.Next {
			return err
		}
	}
	p.moved = true
	return p.define(ctx, t, fmt.Sprintf("ALTER TABLE %s AUTO_INCREMENT = %s", quote(t.Name), t.Next))
}

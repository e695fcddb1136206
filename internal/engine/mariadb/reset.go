package mariadb

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
)

func number(s string) uint64 {
	n, _ := strconv.ParseUint(s, 10, 64)
	return n
}

// state reads what is known of a template or snapshot, once.
func (d *database) state(id string) (*state, error) {
	if d.start != nil && d.startID == id {
		return d.start, nil
	}
	s, err := readState(d.server.Files(id))
	if err == nil {
		d.start, d.startID = s, id
	}
	return s, err
}

// Reset puts the copy back: rows in place, and by a server started from the state's files
// where definitions changed, or where that is asked for.
func (d *database) Reset(ctx context.Context, r engine.Reset) (*engine.Report, error) {
	if r.Way == engine.Rollback {
		return nil, fault.New(fault.Lacking, "use truncation or snapshot", "mariadb knows no reset by rollback yet")
	}
	s, err := d.state(r.Start)
	if err != nil {
		return nil, err
	}
	// Of two at once the second begins when the first is done.
	unlock, err := d.server.Lock(ctx, "reset-"+d.entry.ID, nil)
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
	if err == nil {
		err = c.PingContext(ctx)
	}
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return d.replace(ctx, r, "its server did not answer", false)
	}
	x, err := suspect(ctx, c, d.at, s, r.Baseline)
	if err != nil {
		return nil, err
	}
	if x.defined {
		differ, err := others(ctx, c, d.at, s)
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

// refresh finds the copy's server anew: another process may have put one in its place.
func (d *database) refresh(ctx context.Context) error {
	if d.hand != nil && d.hand.PingContext(ctx) == nil {
		return nil
	}
	e, err := d.server.Find(ctx, d.entry.ID)
	if err != nil {
		return err
	}
	at := addressOf(d.server.At(e.Facts))
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
	at, err := d.server.Restart(ctx, d.entry.ID, r.Start)
	if err != nil {
		return nil, err
	}
	d.at = addressOf(at)
	return &engine.Report{Way: engine.Snapshot, Why: why, Schema: schema, Reconnect: true,
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
	beside  map[string]string // the temporary tables with the state's rows, by their tables
	defined uint64            // statements of Hemzo's own that are counted as such that define something
}

// define runs a statement that is counted as one that defines something.
func (p *putBack) define(ctx context.Context, statement string) error {
	p.defined++
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
		next.Sum = sumOf(next.Tables)
	}
	next.Done.Defined += p.defined
	p.report.Baseline = r.Baseline
	if !p.same {
		var err error
		if p.report.Baseline, err = json.Marshal(next); err != nil {
			return nil, err
		}
	}
	if len(touched) > 0 || p.report.Sequences > 0 {
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
	p.beside = map[string]string{}
	defer func() {
		for _, name := range p.beside {
			_ = p.c.do(context.WithoutCancel(ctx), "DROP TEMPORARY TABLE IF EXISTS "+name)
		}
	}()
	for _, t := range touched {
		if err := p.lay(ctx, t); err != nil {
			return nil, fmt.Errorf("laying the rows of %s beside it: %w", t.Name, err)
		}
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
	for _, t := range touched {
		if err := p.table(ctx, t); err != nil {
			return nil, fmt.Errorf("putting back the table %s: %w", t.Name, err)
		}
	}
	looked := slices.Concat(touched, sequences)
	after, err := counters(ctx, p.c, p.at.Schema, looked)
	if err != nil {
		return nil, err
	}
	moved := false
	for _, t := range touched {
		if err := p.position(ctx, t, after[t.Base], &moved); err != nil {
			return nil, fmt.Errorf("putting back the counter of %s: %w", t.Name, err)
		}
	}
	if moved {
		return counters(ctx, p.c, p.at.Schema, looked)
	}
	return after, nil
}

// lock has nobody else write to some tables. Who is in the way is named, or with force
// ended.
func (p *putBack) lock(ctx context.Context, touched []*table) error {
	locks := make([]string, len(touched))
	for i, t := range touched {
		locks[i] = quote(t.Name) + " WRITE"
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
		if !p.session.Force || tries == 50 {
			return engine.InTheWay(blocking, p.session.Wait, "end these sessions, or have them ended with  --force",
				"sessions hold locks on what is to be put back")
		}
		for _, b := range blocking {
			_ = p.c.do(ctx, fmt.Sprintf("KILL CONNECTION %d", b.PID)) // it may have gone
		}
		if len(blocking) > 0 && p.session.Ended != nil {
			p.session.Ended()
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// inTheWay are the sessions that may hold locks: those with a transaction, or that run
// something.
func (p *putBack) inTheWay(ctx context.Context) (all []engine.Client, err error) {
	everybody, err := sessions(ctx, p.c)
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

// table puts the rows of a table back.
func (p *putBack) table(ctx context.Context, t *table) error {
	counted, err := p.c.rows(ctx, "SELECT COUNT(*) FROM "+quote(t.Name))
	if err != nil {
		return err
	}
	has := int64(number(counted[0][0]))
	r := engine.TableReport{Name: t.Name}
	defer func() { p.report.Tables = append(p.report.Tables, r) }()
	// A table that is made anew counts from 1 again, too.
	moved := t.Next == "1" && p.now.Tables[t.Base].Next > 1
	if has == 0 && t.Rows == 0 && !moved {
		return nil
	}
	if t.Rows == 0 && (has > fewRows || len(t.Trigger) > 0 || t.Words || moved) {
		r.Removed = has
		return p.c.do(ctx, "TRUNCATE TABLE "+quote(t.Name))
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

// lay puts the rows of the state into a temporary table, where they can be compared one
// by one: such a table is made before others are locked, as what fails then lets them go.
func (p *putBack) lay(ctx context.Context, t *table) error {
	if t.Rows == 0 || t.Key == nil || t.Words {
		return nil
	}
	name := quote("hemzo__start_" + strconv.Itoa(t.File))
	if err := p.c.do(ctx, "DROP TEMPORARY TABLE IF EXISTS "+name); err != nil {
		return err
	}
	if p.c.do(ctx, bare(t, name, true)) != nil {
		return nil // its key is one of the beginnings of texts, say
	}
	p.beside[t.Name] = name
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
			err = p.c.do(ctx, "TRUNCATE TABLE "+quote(t.Name))
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
		on[i] = fmt.Sprintf("%s.%s = %s.%s", name, quote(k), beside, quote(k))
	}
	for _, c := range t.stored() {
		same = append(same, fmt.Sprintf("BINARY %s.%s <=> BINARY %s.%s", name, quote(c), beside, quote(c)))
	}
	removed, err = p.changed(ctx, fmt.Sprintf("DELETE %s FROM %s LEFT JOIN %s ON %s AND %s WHERE %s.%s IS NULL", name,
		name,
		beside, strings.Join(on, " AND "), strings.Join(same, " AND "), beside, quote(t.Key[0])))
	if err != nil {
		return 0, 0, err
	}
	// What is left is as it was: the others are put back.
	if _, err := p.changed(ctx, fmt.Sprintf("DELETE %s FROM %s JOIN %s ON %s", beside, beside, name,
		strings.Join(on, " AND "))); err != nil {
		return 0, 0, err
	}
	columns := quoteAll(t.stored())
	putBack, err = p.changed(ctx, fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM %s", name, columns, columns, beside))
	return removed, putBack, err
}

// load puts the rows of a state into a table.
func (p *putBack) load(ctx context.Context, t *table, into string) error {
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
		if err := p.define(ctx, "DROP TRIGGER "+quote(name)); err != nil {
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
func (p *putBack) position(ctx context.Context, t *table, now counter, moved *bool) error {
	if t.Next == "" || t.transacted() && now.Next == number(t.Next) {
		return nil
	}
	if !t.transacted() || now.Next == 0 { // it is not open
		rows, err := p.c.rows(ctx, "SELECT AUTO_INCREMENT FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? AND "+
			"TABLE_NAME = ?", p.at.Schema, t.Name)
		if err != nil || len(rows) == 0 || rows[0][0] == t.Next {
			return err
		}
	}
	*moved = true
	return p.define(ctx, fmt.Sprintf("ALTER TABLE %s AUTO_INCREMENT = %s", quote(t.Name), t.Next))
}

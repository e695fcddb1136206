package main

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"hemzo/internal/engine"
)

// rollback measures resets by rollback beside the two statements alone, and what the relay
// costs between them beside a plain pass-through.
func (m mariadbBench) rollback(ctx context.Context, e engine.Engine, copied engine.Entry) (err error) {
	now, err := m.scoped.Server.Find(ctx, copied.ID)
	if err != nil {
		return err
	}
	r, err := relays(ctx, e, m.scoped.Server, now)
	if err != nil {
		return err
	}
	defer r.end()
	var both [2]*sql.DB
	for i, at := range []string{r.relay, r.direct} {
		c := m.scoped.Server.Connection(now.ID, now.Facts)
		c.Socket = ""
		if c.Host, c.Port, err = net.SplitHostPort(at); err != nil {
			return err
		}
		if both[i], err = opened(c); err != nil {
			return err
		}
		defer both[i].Close()
	}
	if err := m.rollbackResets(ctx, r, both[0], both[1]); err != nil {
		return err
	}
	if _, err := both[1].Exec("ROLLBACK"); err != nil {
		return err
	}
	if err := m.relayLatencies(ctx, both[0], both[1]); err != nil {
		return err
	}
	return m.relayBulk(ctx, both[0], both[1])
}

func (m mariadbBench) rollbackResets(ctx context.Context, r *relayed, relay, direct *sql.DB) error {
	for _, work := range []struct {
		name   string
		tables int
	}{{m.name + ": reset by rollback, nothing touched", 0}, {m.name + ": reset by rollback, 5 of 170 touched", 5}} {
		touch := func(db *sql.DB) error {
			for i := range work.tables {
				if _, err := db.Exec(fmt.Sprintf("INSERT INTO hive_%d (label) VALUES ('new'), ('newer')", 3*i+1)); err != nil {
					return err
				}
			}
			return nil
		}
		if _, err := direct.Exec("BEGIN"); err != nil {
			return err
		}
		bare, err := median(200, func() (time.Duration, error) {
			if err := touch(direct); err != nil {
				return 0, err
			}
			return timed(func() error { _, err := direct.Exec("ROLLBACK; BEGIN"); return err })
		})
		if _, failed := direct.Exec("ROLLBACK"); err != nil || failed != nil {
			return errors.Join(err, failed)
		}
		with := engine.Session{Wait: time.Second}
		var nexts []time.Duration
		took, err := median(200, func() (time.Duration, error) {
			if err := touch(relay); err != nil {
				return 0, err
			}
			began := time.Now()
			took, err := timed(func() error { _, err := r.gate.Reset(ctx, with); return err })
			if err == nil {
				_, err = relay.Exec("SELECT 1")
			}
			nexts = append(nexts, time.Since(began))
			return took, err
		})
		if err != nil {
			return err
		}
		line(work.name, took, "ROLLBACK; BEGIN", bare, "<= 1 ms", took <= time.Millisecond)
		line("and the answer of the next statement", middle(nexts), "the reset alone", took, "-", true)
	}
	return nil
}

func (m mariadbBench) relayLatencies(ctx context.Context, relay, direct *sql.DB) error {
	statements := map[*sql.DB]*sql.Stmt{}
	for _, db := range []*sql.DB{relay, direct} {
		s, err := db.Prepare("SELECT label FROM hive_3 WHERE id = ?")
		if err != nil {
			return err
		}
		defer s.Close()
		statements[db] = s
	}
	var label string
	for _, work := range []struct {
		name string
		do   func(*sql.DB) error
	}{
		{"a prepared SELECT of one row", func(db *sql.DB) error { return statements[db].QueryRow(7).Scan(&label) }},
		{"BEGIN, SELECT, COMMIT", func(db *sql.DB) error {
			tx, err := db.BeginTx(ctx, nil)
			if err != nil {
				return err
			}
			err = tx.QueryRow("SELECT label FROM hive_3 LIMIT 1").Scan(&label)
			return errors.Join(err, tx.Commit())
		}},
	} {
		var got, base []time.Duration
		for range 3000 {
			for db, all := range map[*sql.DB]*[]time.Duration{relay: &got, direct: &base} {
				d, err := timed(func() error { return work.do(db) })
				if err != nil {
					return fmt.Errorf("%s: %w", work.name, err)
				}
				*all = append(*all, d)
			}
		}
		g, d := middle(got), middle(base)
		line(m.name+": "+work.name+", relayed", g, "a plain pass-through", d, "<= 1.5 x", float64(g) <= 1.5*float64(d))
	}
	return nil
}

// relayBulk measures much data through both.
func (m mariadbBench) relayBulk(ctx context.Context, relay, direct *sql.DB) error {
	file := strings.Repeat("a label that is not long\n", 200000)
	mysql.RegisterReaderHandler("labels", func() io.Reader { return strings.NewReader(file) })
	defer mysql.DeregisterReaderHandler("labels")
	for _, work := range []struct {
		name string
		do   func(*sql.DB) error
	}{
		{"SELECT of 1,000,000 rows", func(db *sql.DB) error {
			rows, err := db.QueryContext(ctx, "WITH RECURSIVE d AS (SELECT 1 AS n UNION ALL SELECT n + 1 FROM d WHERE n < "+
				"1000) SELECT a.n, CONCAT('hive ', b.n) FROM d a, d b")
			if err != nil {
				return err
			}
			defer rows.Close()
			n := 0
			for rows.Next() {
				n++
			}
			if n != 1000000 {
				return fmt.Errorf("%d rows", n)
			}
			return rows.Err()
		}},
		{"LOAD DATA LOCAL of 200,000 rows", func(db *sql.DB) error {
			tx, err := db.BeginTx(ctx, nil)
			if err != nil {
				return err
			}
			table := map[bool]string{true: "hive_1", false: "hive_4"}[db == relay] // locks stay until a reset
			_, err = tx.Exec("LOAD DATA LOCAL INFILE 'Reader::labels' INTO TABLE " + table + " (label)")
			return errors.Join(err, tx.Rollback())
		}},
	} {
		var got, base []time.Duration
		for range 3 {
			for db, all := range map[*sql.DB]*[]time.Duration{relay: &got, direct: &base} {
				d, err := timed(func() error { return work.do(db) })
				if err != nil {
					return fmt.Errorf("%s: %w", work.name, err)
				}
				*all = append(*all, d)
			}
		}
		line(m.name+": "+work.name+", relayed", middle(got), "a plain pass-through", middle(base), "-", true)
	}
	return nil
}

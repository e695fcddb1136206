package mariadb

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"hemzo/internal/engine"
)

// trial is a kind of work that the witness has to see, and the tables that it changes.
type trial struct {
	work    []string
	touches []string
}

// layTrials makes the tables of the trials.
var layTrials = []string{
	"CREATE TABLE a (id int AUTO_INCREMENT PRIMARY KEY, v varchar(20), UNIQUE KEY (v)) ENGINE=InnoDB",
	"CREATE TABLE b (id int PRIMARY KEY, a int, CONSTRAINT bk FOREIGN KEY (a) REFERENCES a (id) ON DELETE CASCADE ON " +
		"UPDATE CASCADE) ENGINE=InnoDB",
	"CREATE TABLE p (x int) ENGINE=InnoDB PARTITION BY RANGE (x) (PARTITION p0 VALUES LESS THAN (10), PARTITION p1 " +
		"VALUES LESS THAN MAXVALUE)",
	"CREATE TABLE w (id int PRIMARY KEY, t text, FULLTEXT KEY (t)) ENGINE=InnoDB",
	"CREATE TABLE log (what varchar(20)) ENGINE=InnoDB",
	"INSERT INTO a (v) VALUES ('one'), ('two'), ('three')", "INSERT INTO b VALUES (1, 1), (2, 2)",
	"INSERT INTO p VALUES (1), (20)", "INSERT INTO w VALUES (1, 'linden honey')",
	"CREATE TRIGGER told AFTER UPDATE ON w FOR EACH ROW INSERT INTO log VALUES ('told')",
	"CREATE PROCEDURE work() INSERT INTO log VALUES ('proc')",
}

// trials are what tests do to rows. Each begins where the one before it ended.
var trials = []trial{
	{[]string{"INSERT INTO a (v) VALUES ('four')"}, []string{"a"}},
	{[]string{"UPDATE a SET v = 'FOUR' WHERE v = 'four'"}, []string{"a"}},
	{[]string{"DELETE FROM a WHERE v = 'FOUR'"}, []string{"a"}},
	{[]string{"BEGIN", "INSERT INTO a (v) VALUES ('x')", "ROLLBACK"}, []string{"a"}},
	{[]string{"BEGIN", "DELETE FROM p", "ROLLBACK"}, []string{"p"}},
	{[]string{"BEGIN", "SAVEPOINT s", "INSERT INTO log VALUES ('x')", "ROLLBACK TO s", "COMMIT"}, []string{"log"}},
	{[]string{"INSERT IGNORE INTO a (v) VALUES ('one')"}, []string{"a"}},
	{[]string{"REPLACE INTO a (id, v) VALUES (3, 'three')"}, []string{"a"}},
	{[]string{"INSERT INTO a (id, v) VALUES (3, 'x') ON DUPLICATE KEY UPDATE v = 'drei'"}, []string{"a"}},
	{[]string{"UPDATE a SET id = 12 WHERE id = 1"}, []string{"a", "b"}},
	{[]string{"DELETE FROM a WHERE id = 2"}, []string{"a", "b"}},
	{[]string{"UPDATE p SET x = 30 WHERE x = 1"}, []string{"p"}},
	{[]string{"INSERT INTO p SELECT x + 1 FROM p"}, []string{"p"}},
	{[]string{"UPDATE w SET t = 'heather'"}, []string{"w", "log"}}, {[]string{"CALL work()"}, []string{"log"}},
	{[]string{"UPDATE a JOIN b ON b.a = a.id SET a.v = 'join', b.id = 40"}, []string{"a", "b"}},
	{[]string{"DELETE FROM log"}, []string{"log"}}, {[]string{"TRUNCATE TABLE log"}, []string{"log"}},
	{[]string{"ALTER TABLE p TRUNCATE PARTITION p1"}, []string{"p"}},
	{[]string{"DELETE FROM w", "ANALYZE TABLE w"}, []string{"w"}},
	{[]string{"DELETE FROM a WHERE id = 3", "ALTER TABLE a AUTO_INCREMENT = 100"}, []string{"a"}},
	{[]string{"ALTER TABLE p ADD COLUMN y int"}, []string{"p"}},
	{[]string{"DROP TABLE b"}, []string{"b"}}, {[]string{"CREATE TABLE b (id int PRIMARY KEY)"}, []string{"b"}},
	{[]string{"RENAME TABLE log TO log2, p TO log, log2 TO p"}, []string{"log", "p"}},
}

// alterings are what tests do to definitions, # being a table of the statement's own.
var alterings = []string{"ALTER TABLE # COMMENT = 'x'", "ALTER TABLE # ALTER v SET DEFAULT 5",
	"CREATE INDEX k ON # (v)", "DROP INDEX kv ON #", "ALTER TABLE # ADD COLUMN y int",
	"ALTER TABLE # RENAME COLUMN v TO w", "ALTER TABLE # ADD CONSTRAINT c CHECK (v > 0)",
	"ALTER TABLE # ADD FOREIGN KEY (v) REFERENCES a (id)", "ALTER TABLE # RENAME INDEX kv TO kw",
	"ALTER TABLE # CONVERT TO CHARACTER SET utf8mb4", "ALTER TABLE # AUTO_INCREMENT = 70", "ALTER TABLE # FORCE",
	"ALTER TABLE # DROP COLUMN s", "ALTER TABLE # STATS_AUTO_RECALC = 1", "ALTER TABLE # MODIFY v bigint",
	"ALTER TABLE # ROW_FORMAT = COMPACT", "ALTER TABLE # DROP PRIMARY KEY, ADD PRIMARY KEY (id, v)",
	"ALTER TABLE # MODIFY s varchar(9) FIRST"}

// testAlterings reports the first that does not show as a new time of a table. Times are
// told to the second: the tables are made in one and altered in later ones.
func testAlterings(ctx context.Context, c *conn, schema string) (problem string, err error) {
	for i := range alterings {
		err := c.do(ctx, fmt.Sprintf("CREATE TABLE d%d (id int AUTO_INCREMENT, v int DEFAULT 1, s varchar(9), "+
			"PRIMARY KEY (id), KEY kv (v)) ENGINE=InnoDB", i))
		if err != nil {
			return "", fmt.Errorf("testing the witness: %w", err)
		}
	}
	select {
	case <-ctx.Done():
		return "", ctx.Err()
	case <-time.After(1100 * time.Millisecond):
	}
	before, err := noted(ctx, c, address{Schema: schema, MySQL: c.mysql})
	if err != nil {
		return "", err
	}
	for i, statement := range alterings {
		if err := c.do(ctx, strings.Replace(statement, "#", fmt.Sprintf("d%d", i), 1)); err != nil {
			return "", fmt.Errorf("testing the witness: %w", err)
		}
	}
	after, err := noted(ctx, c, address{Schema: schema, MySQL: c.mysql})
	if err != nil {
		return "", err
	}
	for i, statement := range alterings {
		name := fmt.Sprintf("d%d", i)
		if after.Made[name] < before.Noted || after.Made[name] == before.Made[name] {
			return fmt.Sprintf("of %q the time of the table does not tell", statement), nil
		}
	}
	return "", nil
}

// selfTest does each kind of work in a schema of its own and reports the first that the
// witness does not see; "" where it sees all. c is a session of an account that may do that. Times
// of tables are asked for on servers alone that several copies share.
func selfTest(ctx context.Context, c *conn, all []trial, shared bool) (problem string, err error) {
	schema := engine.NewID(engine.Work)
	if err := c.do(ctx, "CREATE DATABASE "+quote(schema), "USE "+quote(schema)); err != nil {
		return "", fmt.Errorf("testing the witness: %w", err)
	}
	defer func() { err = errors.Join(err, c.do(context.WithoutCancel(ctx), "DROP DATABASE "+quote(schema))) }()
	if err := c.do(ctx, append([]string{"SET foreign_key_checks = 1"}, layTrials...)...); err != nil {
		return "", fmt.Errorf("testing the witness: %w", err)
	}
	defer func() { err = errors.Join(err, plain(context.WithoutCancel(ctx), c)) }()
	a := address{Schema: schema, MySQL: c.mysql}
	for _, t := range all {
		before, err := noted(ctx, c, a)
		if err != nil {
			return "", err
		}
		for _, s := range t.work {
			if err := c.do(ctx, s); err != nil {
				return "", fmt.Errorf("testing the witness: %w", err)
			}
		}
		after, err := noted(ctx, c, a)
		if err != nil {
			return "", err
		}
		for _, name := range t.touches {
			if _, counted := before.Tables[name]; !counted && c.mysql && name == "p" {
				continue // it is known to tell nothing of partitions: they are always looked at
			}
			if !before.tells(after, name) {
				return fmt.Sprintf("of %q it does not see that the table %s was changed", t.work, name), nil
			}
		}
	}
	if !shared {
		return "", nil
	}
	return testAlterings(ctx, c, schema)
}

// noted is all that the witness reads.
func noted(ctx context.Context, c *conn, a address) (b baseline, err error) {
	rows, err := c.rows(ctx, "SELECT NOW()")
	if err != nil {
		return b, err
	}
	if b, err = look(ctx, c, a); err != nil {
		return b, err
	}
	b.Noted = rows[0][0]
	if b.Tables, err = counters(ctx, c, a.Schema, nil); err != nil {
		return b, err
	}
	b.Made, err = made(ctx, c, a.Schema)
	return b, err
}

// tells reports whether a later reading has a table suspected, alone or with all others.
func (b baseline) tells(after baseline, name string) bool {
	if b.Sum == after.Sum && b.Done == after.Done { // no more would be asked
		return false
	}
	if after.Done.Cleared != b.Done.Cleared || !b.Tables[name].same(after.Tables[name]) {
		return true
	}
	// What else was executed has those looked at that may have been altered since.
	return b.Done != after.Done && (after.Made[name] != b.Made[name] || after.Made[name] >= b.Noted)
}

// tested is what is remembered of a self-test.
type tested struct {
	Build   string `json:"build"`
	Problem string `json:"problem"` // "" where the witness sees all
}

// trustBuild tests the witness at the first start of a build of a server, and remembers what
// came of it in a folder; "" keeps nothing.
func trustBuild(ctx context.Context, c *conn, kept string, shared bool) (problem string, err error) {
	rows, err := c.rows(ctx, "SELECT CONCAT_WS(' ', VERSION(), @@version_comment, @@version_compile_machine)")
	if err != nil {
		return "", fmt.Errorf("asking the server who it is: %w", err)
	}
	build := rows[0][0]
	if shared {
		build += " shared"
	}
	sum := objectOf("build", build, build).Sum
	path := filepath.Join(kept, "tested-"+sum+".json")
	var t tested
	if b, err := os.ReadFile(path); kept != "" && err == nil && json.Unmarshal(b, &t) == nil && t.Build == build {
		return t.Problem, nil
	}
	if t.Problem, err = selfTest(ctx, c, trials, shared); err != nil {
		return "", err
	}
	if kept == "" {
		return t.Problem, nil
	}
	t.Build = build
	b, err := json.Marshal(t)
	if err != nil {
		return "", err
	}
	work := path + "-" + lockName(engine.NewID(engine.Work))[6:]
	if os.MkdirAll(kept, 0o700) == nil && os.WriteFile(work, b, 0o600) == nil && os.Rename(work, path) != nil {
		os.Remove(work)
	}
	return t.Problem, nil
}

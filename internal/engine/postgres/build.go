package postgres

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
	"hemzo/internal/engine/folder"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/engine/postgres/witness"
)

// buildSQL says which build a server is, and what else of it decides on what its
// log and its files tell.
const buildSQL = `SELECT current_setting('server_version_num')::int / 10000, concat_ws(', ', version(),
	current_setting('block_size'), current_setting('wal_block_size'), current_setting('data_checksums'),
	current_setting('wal_level'), current_setting('full_page_writes'), current_setting('wal_log_hints'))`

// tested is what a self-test found, as it is remembered.
type tested struct {
	Build string        `json:"build"`
	Form  int           `json:"form"` // of baselines, and of the test
	Trust witness.Trust `json:"trust"`
}

// trustBuild tells what of a private server can be believed: what was found when
// its build was first started, else what a self-test finds now. That is kept in a
// folder, beside the fresh data. A test that cannot be done is told in the log,
// and nothing is believed then.
func trustBuild(ctx context.Context, conn *pgx.Conn, a address, kept string, log io.Writer) (witness.Trust, error) {
	var number int
	now := tested{Form: witness.Form}
	if err := conn.QueryRow(ctx, buildSQL).Scan(&number, &now.Build); err != nil {
		return witness.Trust{}, fmt.Errorf("asking for the build of PostgreSQL: %w", err)
	}
	sum := sha256.Sum256([]byte(strconv.Itoa(now.Form) + now.Build))
	file := filepath.Join(kept, "tested-"+hex.EncodeToString(sum[:8])+".json")
	var then tested
	if text, err := os.ReadFile(file); err == nil && json.Unmarshal(text, &then) == nil && then.Build == now.Build &&
		then.Form == now.Form {
		return then.Trust, nil
	}
	var err error
	now.Trust, err = testBuild(ctx, conn, a, number)
	if ctx.Err() != nil {
		return now.Trust, ctx.Err()
	}
	if err != nil {
		fmt.Fprintf(log, "hemzo: %v\n", err)
		return witness.Trust{Why: pg.Message(err)}, nil
	}
	if kept != "" { // that it cannot be kept is no reason not to start
		if text, err := json.Marshal(now); err == nil && os.MkdirAll(kept, 0o700) == nil {
			_ = folder.Replace(file, text)
		}
	}
	return now.Trust, nil
}

// touchedWords says how a reset learns what was touched, and why not sooner.
func touchedWords(t witness.Trust) string {
	from := "every row"
	switch {
	case t.Map && t.Log:
		return "a reset learns what was touched from the write-ahead log and the visibility map"
	case t.Log:
		from = "the write-ahead log, and where that cannot tell from every row"
	case t.Map:
		from = "the visibility map"
	}
	return "a reset learns what was touched from " + from + ": " + t.Why
}

// testBuild does the self-test, in a database of its own.
func testBuild(ctx context.Context, conn *pgx.Conn, a address, number int) (found witness.Trust, err error) {
	name := pg.Ident("hemzo_selftest_" + engine.NewID(engine.Copy))
	if _, err := conn.Exec(ctx, "CREATE DATABASE "+name+" TEMPLATE template0"); err != nil {
		return found, fmt.Errorf("making a database for the self-test: %w", err)
	}
	defer func() {
		_, failed := conn.Exec(context.WithoutCancel(ctx), "DROP DATABASE "+name+" WITH (FORCE)")
		if err == nil && failed != nil {
			err = fmt.Errorf("removing the database of the self-test: %w", failed)
		}
	}()
	test := witness.SelfTest{Major: number, Socket: a.Socket, Dial: func(ctx context.Context) (*pgx.Conn, error) {
		config, err := a.inside().config()
		if err != nil {
			return nil, err
		}
		config.Database = name[1 : len(name)-1]
		config.DefaultQueryExecMode = pgx.QueryExecModeCacheStatement
		config.AfterConnect = nil // it makes tables
		return pgx.ConnectConfig(ctx, config)
	}}
	return test.Run(ctx)
}

package cli_test

import (
	"context"
	"database/sql"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	_ "github.com/jackc/pgx/v5/stdlib" // the driver "pgx" of database/sql
	"github.com/stretchr/testify/require"
)

// TestGoDrivers: pgx, its pool and database/sql keep their connections and
// statements over resets in place, and get over a copy that was replaced. The
// drivers of other languages are in drivers.txtar.
func TestGoDrivers(t *testing.T) {
	dir, data := t.TempDir(), memory(t)
	require.NoError(t, os.Chmod(data, 0o711)) // a server of root's runs as another user
	env := environment(data, t.TempDir())
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	write("hemzo.yaml", "databases: { apiary: { engine: postgres, from: [ { migrations: db } ] } }\n")
	write("db/1_hives.sql", "CREATE TABLE hive (id int PRIMARY KEY, label text); INSERT INTO hive VALUES (1, 'linden');")
	hemzo := func(args ...string) string {
		cmd := exec.Command(program, args...)
		cmd.Dir, cmd.Env = dir, env
		out, err := cmd.Output()
		require.NoError(t, err, "%v", args)
		return strings.TrimSpace(string(out))
	}
	t.Cleanup(func() { hemzo("stop", "--force") })
	ctx := t.Context()
	for _, form := range []string{"url", "conninfo"} {
		at := hemzo("take", "-q", "--as", form, "--form", form)
		conn, err := pgx.Connect(ctx, at)
		require.NoError(t, err)
		pool, err := pgxpool.New(ctx, at)
		require.NoError(t, err)
		db, err := sql.Open("pgx", at)
		require.NoError(t, err)
		statement, err := db.Prepare("SELECT count(*) FROM hive WHERE id > $1")
		require.NoError(t, err)
		count := func() []error {
			var n [3]int
			const query = "SELECT count(*) FROM hive WHERE id > $1"
			errs := []error{conn.QueryRow(ctx, query, 0).Scan(&n[0]), pool.QueryRow(ctx, query, 0).Scan(&n[1]),
				statement.QueryRow(0).Scan(&n[2])}
			for i, err := range errs {
				if err == nil {
					require.Equal(t, 1, n[i])
				}
			}
			return errs
		}
		for range 10 {
			_, err := conn.Exec(ctx, "INSERT INTO hive VALUES ($1, $2)", 2, "clover")
			require.NoError(t, err)
			hemzo("reset", "-q", form)
			require.Equal(t, []error{nil, nil, nil}, count())
		}
		hemzo("reset", "-q", "--by", "snapshot", form)
		first := count()
		require.Error(t, first[0], "a single connection is dead")
		require.Equal(t, []error{nil, nil}, count()[1:], "pools lose what fails; at first: %v", first)
		require.NoError(t, conn.Close(context.Background()))
		pool.Close()
		require.NoError(t, db.Close())
	}
}

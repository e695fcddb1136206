package postgres

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine/postgres/wal"
	"hemzo/internal/engine/postgres/witness"
)

// TestBuilds: a build is tested once, when it is first started, and what was found
// is what the commands go by. What is remembered of another build, or broken, is
// not believed.
func TestBuilds(t *testing.T) {
	s, _, _ := begin(t, true)
	number, err := strconv.Atoi(major(s.about.Version))
	require.NoError(t, err)
	_, known := wal.Formats[major(s.about.Version)]
	want := witness.Trust{Map: number >= 15, Log: known}
	assert.Equal(t, want, s.trust, "begin forgets the reason")
	kept := t.TempDir()
	a := address{Host: s.socket, Socket: s.socket, Port: int(s.config.Port), User: admin}
	found := func() witness.Trust {
		trust, err := trustBuild(t.Context(), s.conn, a, kept, io.Discard)
		require.NoError(t, err)
		return trust
	}
	first := found()
	assert.Equal(t, want, witness.Trust{Map: first.Map, Log: first.Log})
	assert.Equal(t, want != whole, first.Why != "", first.Why)
	files, err := filepath.Glob(filepath.Join(kept, "tested-*"))
	require.NoError(t, err)
	require.Len(t, files, 1)
	text, err := os.ReadFile(files[0])
	require.NoError(t, err)
	write := func(text string) { require.NoError(t, os.WriteFile(files[0], []byte(text), 0o600)) }
	less := strings.Replace(string(text), `"log":true`, `"log":false`, 1)
	write(less)
	assert.False(t, found().Log, "it is remembered")
	for _, bad := range []string{strings.Replace(less, `"build":"`, `"build":"another `, 1), less[:20], ""} {
		write(bad)
		assert.Equal(t, known, found().Log, bad)
	}
	n, err := s.queryInt(t.Context(), "SELECT count(*) FROM pg_database WHERE datname LIKE 'hemzo_selftest%'")
	require.NoError(t, err)
	assert.Zero(t, n)
}

// TestSelfTestFails: what the server does not tell is missed, whichever kind of
// work it is.
func TestSelfTestFails(t *testing.T) {
	s, _, _ := begin(t, true)
	number, _ := strconv.Atoi(major(s.about.Version))
	for i, kind := range []string{"inserted", "updated_vacuumed", "emptied", "inserted_frozen", "counted",
		"being_written"} {
		name := "tried_" + strconv.Itoa(i)
		require.NoError(t, s.exec(t.Context(), "CREATE DATABASE "+name+" TEMPLATE template0"))
		test := witness.SelfTest{Major: number, Socket: s.socket, Hidden: kind,
			Dial: func(ctx context.Context) (*pgx.Conn, error) {
				config := s.settings(name)
				config.DefaultQueryExecMode = pgx.QueryExecModeCacheStatement
				return pgx.ConnectConfig(ctx, config)
			}}
		found, err := test.Run(t.Context())
		require.NoError(t, err)
		assert.False(t, found.Map, kind)
		// A new file is written down in pg_class, too, as is a table that was vacuumed.
		assert.False(t, found.Log && s.trust.Log && kind != "emptied", kind)
		assert.Contains(t, found.Why, strings.ReplaceAll(kind, "_", " "))
		require.NoError(t, s.exec(t.Context(), "DROP DATABASE "+name+" WITH (FORCE)"))
	}
}

package source

import (
	"bytes"
	"os"
	"path/filepath"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/sqltext"
)

// TestMemory: a file that is as it was is not read, and its step is the same; one that is too
// young, has changed, or is read in another way is.
func TestMemory(t *testing.T) {
	root, m := t.TempDir(), Memory{Folder: filepath.Join(t.TempDir(), "sources")}
	put := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text), 0o644))
	}
	put("m/1.sql", "-- forth\nSELECT 1;\n-- back\nSELECT 2;")
	put("m/2_both/a.sql", "SELECT 2;")
	put("m/2_both/b.sql", "SELECT 3;")
	put("d/hive.csv", "id\n1\n")
	put("all.sql", "SELECT 4;")
	put("app/in.txt", "x")
	items := []Item{{Migrations: []string{"m"}}, {Data: []string{"d"}}, {Dump: "all.sql"},
		{Command: []string{"true"}, Inputs: []string{"app/*"}}}
	language := SQL(sqltext.Dialect{})
	read := func(with Memory) []Step {
		p, err := with.Read(t.Context(), root, items, language)
		require.NoError(t, err)
		return p.Steps
	}
	waiting := func(steps []Step) (n int) {
		for _, s := range steps {
			if s.load != nil {
				n++
			}
		}
		return n
	}
	read(m)
	assert.Zero(t, waiting(read(m)), "they were written a moment ago")
	time.Sleep(grain + 10*time.Millisecond)
	put("m/2_both/b.sql", "SELECT 3, 3;")
	read(m)
	again, plain := read(m), read(Memory{})
	assert.Equal(t, 4, waiting(again), "a step of one young file and one old waits for the old one")
	for i, s := range again {
		loaded, err := s.Load()
		require.NoError(t, err)
		loaded.digests, plain[i].digests = nil, nil
		assert.Equal(t, plain[i], loaded)
	}
	before := again[0].Hash
	items[0].Apply, items[0].Back = "-- forth", "-- back"
	marked := read(m)
	assert.NotEqual(t, before, marked[0].Hash)
	items[0].Apply, items[0].Back = "", ""

	put("m/1.sql", "SELECT 5;")
	_, err := again[0].Load()
	assert.ErrorContains(t, err, "m/1.sql: it was changed while the sources were read")
	assert.NotEqual(t, before, read(m)[0].Hash)
	require.NoError(t, os.Remove(filepath.Join(root, "d", "hive.csv")))
	_, err = m.Read(t.Context(), root, items, language)
	assert.ErrorContains(t, err, "no data file in d")
	put("d/hive.csv", "id\n1\n")

	// What is remembered is cut, is none, or lies.
	files, err := filepath.Glob(filepath.Join(m.Folder, "*"))
	require.NoError(t, err)
	require.NotEmpty(t, files)
	hashes := read(Memory{})
	for _, spoil := range []func([]byte) []byte{
		func(b []byte) []byte { return b[:len(b)/2] }, func([]byte) []byte { return nil },
		func(b []byte) []byte { return append(b, "x 1 2 y 3 z\n\x00\n"...) },
	} {
		for _, f := range files {
			b, err := os.ReadFile(f)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(f, spoil(b), 0o600))
		}
		for i, s := range read(m) {
			assert.Equal(t, hashes[i].Hash, s.Hash)
		}
	}
	read(m)
	for _, f := range files {
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		lie := regexp.MustCompile(`[0-9a-f]{60}\n`).ReplaceAll(b, append(bytes.Repeat([]byte("0"), 60), '\n'))
		require.NoError(t, os.WriteFile(f, lie, 0o600))
	}
	for _, s := range read(m) {
		if s.load != nil {
			_, err := s.Load()
			assert.ErrorContains(t, err, "it was changed while the sources were read")
		}
	}
}

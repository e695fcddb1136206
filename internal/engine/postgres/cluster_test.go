package postgres

import (
	"hemzo/internal/engine/launch"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestPrune: of the kept folders the one that was not used for the longest
// time goes first, and never the one that was just kept.
func TestPrune(t *testing.T) {
	kept := t.TempDir()
	for i, name := range []string{"oldest", "older", "newest"} {
		dir := filepath.Join(kept, name)
		require.NoError(t, os.Mkdir(dir, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "data"), make([]byte, 1000), 0o644))
		mark := filepath.Join(dir, "whole")
		require.NoError(t, os.WriteFile(mark, nil, 0o644))
		require.NoError(t, os.Chtimes(mark, time.Time{}, time.Unix(int64(1000*i+1000), 0)))
	}
	left := func() (names []string) {
		found, err := os.ReadDir(kept)
		require.NoError(t, err)
		for _, f := range found {
			names = append(names, f.Name())
		}
		return names
	}
	require.NoError(t, pruneKept(kept, filepath.Join(kept, "oldest"), 3000))
	assert.Len(t, left(), 3, "there is room for all")
	require.NoError(t, pruneKept(kept, filepath.Join(kept, "oldest"), 2000))
	assert.Equal(t, []string{"newest", "oldest"}, left())
	require.NoError(t, pruneKept(kept, filepath.Join(kept, "newest"), 0))
	assert.Equal(t, []string{"newest"}, left())
}

func TestBuffers(t *testing.T) {
	for limit, want := range map[int64]string{0: "64MB", 64 << 20: "8MB", 512 << 20: "32MB", 8 << 30: "64MB"} {
		assert.Equal(t, want, buffers(limit))
	}
	assert.GreaterOrEqual(t, launch.MemoryLimit(), int64(0))
}

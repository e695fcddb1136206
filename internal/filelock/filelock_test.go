package filelock

import (
	"context"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/gofrs/flock"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWait: one holder at a time, and one that gave up never keeps the lock
// from the others.
func TestWait(t *testing.T) {
	path := filepath.Join(t.TempDir(), "hive.lock")
	first := flock.New(path)
	require.NoError(t, Wait(t.Context(), first))
	given, stop := context.WithTimeout(t.Context(), 10*time.Millisecond)
	defer stop()
	assert.ErrorIs(t, Wait(given, flock.New(path)), context.DeadlineExceeded)
	var wg sync.WaitGroup
	var inside atomic.Int32
	for range 20 {
		wg.Go(func() {
			l := flock.New(path)
			if assert.NoError(t, Wait(t.Context(), l)) {
				assert.Equal(t, int32(1), inside.Add(1))
				inside.Add(-1)
				assert.NoError(t, l.Close())
			}
		})
	}
	require.NoError(t, first.Close())
	wg.Wait()
}

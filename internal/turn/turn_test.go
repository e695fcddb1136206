package turn

import (
	"context"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTurn(t *testing.T) {
	turn, n := New(), 0
	var all sync.WaitGroup
	for range 100 {
		all.Go(func() {
			if assert.NoError(t, turn.Take(t.Context())) {
				n++
				turn.Give()
			}
		})
	}
	all.Wait()
	assert.Equal(t, 100, n)
	gone, stop := context.WithCancel(t.Context())
	stop()
	require.NoError(t, turn.Take(gone), "it is free")
	require.ErrorIs(t, turn.Take(gone), context.Canceled)
	turn.Give()
	require.NoError(t, turn.Take(t.Context()), "who had gone does not hold it")
}

package sessionlock_test

import (
	"context"
	"errors"
	"runtime"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine/sessionlock"
)

// server holds locks for sessions, which are numbers.
type server struct {
	mu    sync.Mutex
	locks map[string]int
	fails bool
}

func (s *server) take(_ context.Context, session int, name string) (bool, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.fails {
		return false, errors.New("the line is down")
	}
	if by, held := s.locks[name]; held && by != session {
		return false, nil
	}
	s.locks[name] = session
	return true, nil
}

func (s *server) free(_ context.Context, session int, name string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.locks[name] == session {
		delete(s.locks, name)
	}
}

// end is the end of a session, which costs its locks.
func (s *server) end(session int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for name, by := range s.locks {
		if by == session {
			delete(s.locks, name)
		}
	}
}

// process is one process with a session.
func process(s *server, session *int) *sessionlock.Locks[int] {
	var one sync.Mutex
	return sessionlock.New(sessionlock.Session[int]{
		With: func(ctx context.Context, work func(context.Context, int) error) error {
			one.Lock()
			defer one.Unlock()
			return work(ctx, *session)
		},
		Last: func(ctx context.Context, work func(context.Context, int)) {
			one.Lock()
			defer one.Unlock()
			work(ctx, *session)
		},
		Take: s.take, Free: s.free, Ping: func(context.Context, int) error { return nil },
	})
}

// TestLocks: one at a time has a lock, in one process and among several, also after a
// session has broken.
func TestLocks(t *testing.T) {
	s := &server{locks: map[string]int{}}
	first, second := 1, 2
	a, b := process(s, &first), process(s, &second)
	var all sync.WaitGroup
	inside, most := 0, 0
	var count sync.Mutex
	for _, l := range []*sessionlock.Locks[int]{a, a, b, b, b} {
		all.Go(func() {
			for range 20 {
				unlock, err := l.Lock(t.Context(), "hive", nil)
				if !assert.NoError(t, err) {
					return
				}
				count.Lock()
				inside++
				most = max(most, inside)
				count.Unlock()
				runtime.Gosched()
				count.Lock()
				inside--
				count.Unlock()
				unlock()
			}
		})
	}
	all.Wait()
	assert.Equal(t, 1, most)

	name, release, err := a.Own(t.Context())
	require.NoError(t, err)
	again, _, err := a.Own(t.Context())
	require.NoError(t, err)
	assert.Equal(t, name, again)
	assert.True(t, a.IsOwn(name))
	ok, err := b.Try(t.Context(), name)
	require.NoError(t, err)
	assert.False(t, ok)

	// The session breaks, and another has the lock before it is taken again.
	s.end(first)
	first = 3
	a.Lost()
	ok, err = b.Try(t.Context(), name)
	require.NoError(t, err)
	assert.True(t, ok)
	a.Reacquire(t.Context(), first)
	assert.Equal(t, second, s.locks[name])
	b.Unlock(name)
	a.Reacquire(t.Context(), first)
	assert.Equal(t, first, s.locks[name])
	release()
	assert.Empty(t, s.locks)
	assert.False(t, a.IsOwn(name))

	// Who goes does not wait, and who cannot ask is told.
	unlock, err := a.Lock(t.Context(), "comb", nil)
	require.NoError(t, err)
	limited, stop := context.WithTimeout(t.Context(), 10*time.Millisecond)
	defer stop()
	waited := 0
	_, err = b.Lock(limited, "comb", func() { waited++ })
	require.ErrorIs(t, err, context.DeadlineExceeded)
	assert.Equal(t, 1, waited)
	unlock()
	s.fails = true
	_, err = b.Lock(t.Context(), "comb", nil)
	assert.ErrorContains(t, err, "the line is down")
	a.Close(t.Context())
}

package redis_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
	"hemzo/internal/engine/redis"
	"hemzo/internal/place"
	"hemzo/internal/reset"
)

var inMemory = place.Wanted{Where: []string{"memory"}}

// watched is a copy whose keys the server tells of.
func watched(t testing.TB, k kind, settings ...engine.Setting) (h *held, start string) {
	h = begin(t, k, inMemory, settings...)
	start = h.holds(t, h.fresh)
	h.reset(t, reset.Options{Way: engine.Snapshot})
	return h, start
}

// do runs commands of a client, none of which fails.
func do(t testing.TB, c *redis.Client, lines ...string) {
	t.Helper()
	for _, line := range lines {
		_, err := c.Ask(t.Context(), strings.Fields(line)...)
		require.NoError(t, err, line)
	}
}

// TestUntouched: reading, and what fails, touches nothing.
func TestUntouched(t *testing.T) {
	h, _ := watched(t, kind{})
	c := h.client(t)
	defer c.Close()
	do(t, c, "GET hive:1", "HGETALL label", "XRANGE log - +", "SELECT 3", "KEYS *", "SCAN 0", "PUBLISH a b", "INFO",
		"CONFIG GET *", "MULTI", "GET hive:1", "EXEC", "WATCH hive:1", "UNWATCH", "OBJECT ENCODING letters", "TTL letters",
		"CLIENT SETNAME x", "DBSIZE")
	for _, line := range []string{"CONFIG SET save 1", "SHUTDOWN", "DEBUG SLEEP 1", "SAVE", "REPLICAOF NO ONE", "ACL LIST",
		"CLIENT KILL TYPE normal", "CLIENT PAUSE 100000", "MIGRATE 127.0.0.1 1 x 0 1", "MONITOR", "MODULE LIST",
		"CONFIG RESETSTAT"} {
		_, err := c.Ask(t.Context(), strings.Fields(line)...)
		require.ErrorContains(t, err, "NOPERM", line)
	}
	r := h.reset(t, reset.Options{})
	assert.Equal(t, engine.Way(""), r.Way)
	do(t, c, "SELECT 0", "SET hive:1 x")
	r = h.reset(t, reset.Options{})
	assert.Equal(t, []engine.TableReport{{Name: "db0", Removed: 0, PutBack: 1}, {Name: "db3", PutBack: 1}}, r.Tables,
		"of a name in two databases both are put back")
}

// TestWriters: what clients have been answered is put back, however many write at once; who
// goes on is waited for, then named, or ended where that is asked for.
func TestWriters(t *testing.T) {
	t.Run("one thread", func(t *testing.T) { writers(t) })
	t.Run("threads", func(t *testing.T) { writers(t, engine.Setting{Name: "io-threads", Value: "4"}) })
}

func writers(t *testing.T, settings ...engine.Setting) {
	h, start := watched(t, kind{}, settings...)
	ctx := t.Context()
	for round := range 100 {
		var all sync.WaitGroup
		for i := range 4 {
			c := h.client(t)
			all.Go(func() {
				defer c.Close()
				for n := range 1 + rand.IntN(40) {
					_, err := c.Ask(ctx, "APPEND", fmt.Sprint("key:", i, ":", n%7), "x")
					assert.NoError(t, err)
				}
				_, err := c.Ask(ctx, "SET", "hive:1", "x")
				assert.NoError(t, err)
			})
		}
		all.Wait()
		r := h.reset(t, reset.Options{})
		assert.Equal(t, engine.Truncation, r.Way)
		require.Equal(t, start, h.holds(t, h.copied), "round %d", round)
	}
	ended := make(chan struct{})
	c := h.client(t)
	many := slices.Repeat([][]string{{"INCR", "counted"}}, 500)
	go func() {
		defer close(ended)
		for { // until its connection is ended
			if _, err := c.Do(context.Background(), many...); err != nil {
				return
			}
		}
	}()
	defer c.Close()
	require.NoError(t, h.session.Close())
	e, err := h.server.Find(ctx, h.copied.ID)
	require.NoError(t, err)
	once := func(o reset.Options) error {
		_, err := reset.Do(ctx, h.server, e, o)
		return err
	}
	// Between two of its messages a reset may be done without it.
	require.Eventually(t, func() bool {
		err = once(reset.Options{Wait: time.Millisecond})
		return err != nil
	}, time.Minute, time.Millisecond)
	blocked, ok := errors.AsType[*engine.Blocked](err)
	if assert.True(t, ok, "%v", err) && assert.Len(t, blocked.Sessions, 1) {
		assert.Equal(t, "INCR", blocked.Sessions[0].Query)
	}
	require.Eventually(t, func() bool {
		assert.NoError(t, once(reset.Options{Force: true, Wait: time.Second}))
		select {
		case <-ended:
			return true
		default:
			return false
		}
	}, time.Minute, time.Millisecond)
	require.NoError(t, once(reset.Options{}))
	assert.Equal(t, start, h.holds(t, h.copied))
	h.session = nil
	h.open(t)
}

// TestWaiting: clients that wait for a key, and subscriptions, stay; where one takes what is
// put back it is named.
func TestWaiting(t *testing.T) {
	h, start := watched(t, kind{})
	waiting := func(key string) (*redis.Client, chan error) {
		c, got := h.client(t), make(chan error, 1)
		go func() {
			_, err := c.Ask(context.Background(), "BLPOP", key, "0")
			got <- err
		}()
		require.Eventually(t, func() bool {
			all, err := h.server.Clients(t.Context(), h.copied.ID)
			assert.NoError(t, err)
			for _, x := range all {
				if x.State == "waits for a key" {
					return true
				}
			}
			return false
		}, time.Minute, time.Millisecond)
		return c, got
	}
	c, got := waiting("nothing")
	writer := h.client(t)
	defer writer.Close()
	do(t, writer, "SET hive:1 x")
	h.reset(t, reset.Options{})
	do(t, writer, "RPUSH nothing a")
	require.NoError(t, <-got, "it still waited")
	require.NoError(t, c.Close())
	h.reset(t, reset.Options{})
	do(t, writer, "DEL queue")
	c, got = waiting("queue")
	h.reset(t, reset.Options{}) // it gets an element of the queue, which is put back then
	require.NoError(t, <-got)
	require.NoError(t, c.Close())
	assert.Equal(t, start, h.holds(t, h.copied))
	do(t, writer, "DEL queue")
	c, got = waiting("queue")
	h.reset(t, reset.Options{Way: engine.Snapshot})
	require.NoError(t, <-got)
	require.NoError(t, c.Close())
	assert.Equal(t, start, h.holds(t, h.copied))
}

// TestExpired: what went by itself comes again, and has its whole time.
func TestExpired(t *testing.T) {
	k := kind{more: "SET soon x PX 1500\nHSET label more x\nSET later y PX 600000"}
	h, _ := watched(t, k)
	c := h.client(t)
	defer c.Close()
	left := func(key string) int64 {
		v, err := c.Ask(t.Context(), "PTTL", key)
		require.NoError(t, err)
		return v.Int
	}
	for range 2 {
		require.Eventually(t, func() bool { return left("soon") < 0 }, time.Minute, time.Millisecond)
		h.reset(t, reset.Options{})
		assert.Positive(t, left("soon"))
		assert.Greater(t, left("later"), int64(598500), "all spans begin anew with the shortest")
	}
	id := engine.NewID(engine.Copy)
	require.NoError(t, h.server.Copy(t.Context(), h.template, id, h.fresh.Facts))
	defer func() { require.NoError(t, h.server.Drop(context.Background(), id)) }()
	assert.Contains(t, h.holds(t, engine.Entry{ID: id}), "0 soon string", "also in copies of later on")
}

// TestServerEnds: another takes its place, at the same address.
func TestServerEnds(t *testing.T) {
	h, start := watched(t, kind{role: "superuser"})
	at := h.connection(t, h.copied).URL
	for _, way := range []string{"SHUTDOWN NOSAVE", "DEBUG SEGFAULT", "REPLICAOF 127.0.0.1 1", "CONFIG SET maxmemory 2mb",
		"ACL SETUSER default -@all", "CONFIG RESETSTAT"} {
		c := h.client(t)
		do(t, c, "SET hive:1 x")
		_, _ = c.Ask(t.Context(), strings.Fields(way)...) // it may answer nothing
		require.NoError(t, c.Close())
		r := h.reset(t, reset.Options{})
		assert.True(t, r.Reconnect, way)
		assert.Equal(t, at, h.connection(t, h.copied).URL)
		assert.Equal(t, start, h.holds(t, h.copied), way)
	}
	// Hemzo's own session ended: it opens another.
	c := h.client(t)
	defer c.Close()
	do(t, c, "SET hive:1 x", "CLIENT KILL TYPE normal SKIPME yes")
	r := h.reset(t, reset.Options{})
	assert.False(t, r.Reconnect)
	assert.Equal(t, start, h.holds(t, h.copied))
	_, err := h.session.Do(t.Context(), reset.Options{InPlace: true})
	require.NoError(t, err)
}

// TestRunsOn: a script that does not end is said, or its server ended.
func TestRunsOn(t *testing.T) {
	h, start := watched(t, kind{})
	c := h.client(t)
	go func() { _, _ = c.Ask(context.Background(), "EVAL", "redis.call('SET', 'a', 1) while true do end", "0") }()
	var err error
	require.Eventually(t, func() bool { // it may not have begun
		_, err = h.session.Do(t.Context(), reset.Options{})
		return err != nil
	}, time.Minute, time.Millisecond)
	require.ErrorContains(t, err, "runs on, and the server answers nobody")
	require.NoError(t, h.session.Close())
	e, err := h.server.Find(t.Context(), h.copied.ID)
	require.NoError(t, err)
	r, err := reset.Do(t.Context(), h.server, e, reset.Options{Force: true, Wait: time.Second})
	require.NoError(t, err)
	assert.True(t, r.Reconnect)
	require.NoError(t, c.Close())
	assert.Equal(t, start, h.holds(t, h.copied))
	h.session = nil
	h.open(t)
}

// TestMemory: a server that is full is put back all the same.
func TestMemory(t *testing.T) {
	h, start := watched(t, kind{}, engine.Setting{Name: "maxmemory", Value: "6mb"})
	c := h.client(t)
	defer c.Close()
	for i := 0; ; i++ {
		if _, err := c.Ask(t.Context(), "SET", fmt.Sprint("fill:", i), strings.Repeat("honey", 2000)); err != nil {
			require.ErrorContains(t, err, "OOM")
			break
		}
	}
	do(t, c, "DEL queue")
	h.reset(t, reset.Options{})
	assert.Equal(t, start, h.holds(t, h.copied))
	big := h.client(t)
	defer big.Close()
	for i := 0; ; i++ { // few keys, and little room to put others back
		if _, err := big.Ask(t.Context(), "APPEND", "big", strings.Repeat("honey", 20000)); err != nil {
			break
		}
	}
	do(t, c, "DEL queue hive:1 label")
	h.reset(t, reset.Options{})
	assert.Equal(t, start, h.holds(t, h.copied))
}

// TestEvicted: keys that the server itself removed come again.
func TestEvicted(t *testing.T) {
	h, start := watched(t, kind{}, engine.Setting{Name: "maxmemory", Value: "6mb"},
		engine.Setting{Name: "maxmemory-policy", Value: "allkeys-random"})
	c := h.client(t)
	defer c.Close()
	for i := range 2000 {
		_, err := c.Ask(t.Context(), "SET", fmt.Sprint("fill:", i%1200), strings.Repeat("honey", 2000))
		require.NoError(t, err)
	}
	h.reset(t, reset.Options{})
	assert.Equal(t, start, h.holds(t, h.copied))
}

// TestKeep: keys to keep stay, however the rest is put back.
func TestKeep(t *testing.T) {
	h, start := watched(t, kind{})
	c := h.client(t)
	defer c.Close()
	for _, before := range []string{"SET x y", "FLUSHALL"} {
		do(t, c, before, "SET mail:1/a sent", "RPUSH queue z")
		r := h.reset(t, reset.Options{Keep: []string{"mail:*"}})
		assert.Equal(t, []string{"mail:*"}, r.Kept)
		v, err := c.Ask(t.Context(), "GET", "mail:1/a")
		require.NoError(t, err)
		assert.Equal(t, "sent", v.Text)
		do(t, c, "DEL mail:1/a")
		assert.Equal(t, start, h.holds(t, h.copied))
	}
}

// TestSecrets: no password stands in a list of processes, nor in a file of settings.
func TestSecrets(t *testing.T) {
	h, _ := watched(t, kind{})
	c := h.connection(t, h.copied)
	out, err := exec.Command("ps", "axeww").CombinedOutput()
	require.NoError(t, err)
	assert.Contains(t, string(out), ":"+c.Port)
	assert.NotContains(t, string(out), c.Password)
}

package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/redis/go-redis/v9"

	"hemzo/internal/copies"
	"hemzo/internal/engine"
	"hemzo/internal/engine/all"
	"hemzo/internal/place"
	"hemzo/internal/project"
	"hemzo/internal/reset"
	"hemzo/internal/template"
)

// keys is a project of so many keys, strings and small hashes.
func (b bench) keys(root string, n int) error {
	var text strings.Builder
	for i := range n {
		if i%4 == 0 {
			fmt.Fprintf(&text, "HSET hive:%d label 'by the linden' weight %d.5 state strong\n", i, i)
		} else {
			fmt.Fprintf(&text, "SET hive:%d '%s'\n", i, strings.Repeat("honey ", 8))
		}
	}
	if err := os.MkdirAll(root, 0o755); err != nil {
		return err
	}
	return errors.Join(
		os.WriteFile(filepath.Join(root, "keys.redis"), []byte(text.String()), 0o644),
		os.WriteFile(filepath.Join(root, project.FileName),
			[]byte("databases: { cache: { engine: redis, where: memory, from: [ { data: keys.redis } ] } }\n"), 0o644))
}

// redis measures takes and resets of copies of 1,000 and of 100,000 keys, a bare server and
// bare commands beside them.
func (b bench) redis() error {
	os.Setenv("HEMZO_PROGRAM", b.program)
	few, err := b.redisOf(1000, 0)
	if err != nil {
		return err
	}
	_, err = b.redisOf(100_000, few)
	return err
}

// keyBench is a project whose copies are measured.
type keyBench struct {
	n      int
	scoped copies.ScopedServer
	plan   *template.Plan
	client *redis.Client
	entry  engine.Entry
}

// redisOf measures a project of n keys; few is what the reset of 5 of few keys took, 0 where
// this is that one.
func (b bench) redisOf(n int, few time.Duration) (five time.Duration, err error) {
	ctx, root := context.Background(), filepath.Join(b.dir, fmt.Sprint("keys", n))
	if err := b.keys(root, n); err != nil {
		return 0, err
	}
	defer func() { _, _ = place.Stop(ctx, all.Engines(), true) }()
	p, err := project.Read(filepath.Join(root, project.FileName), "", os.LookupEnv)
	if err != nil {
		return 0, err
	}
	e, err := all.Named(p.Databases[0].Engine)
	if err != nil {
		return 0, err
	}
	k := &keyBench{n: n}
	k.scoped.Scope = copies.ScopeOf(p.Root)
	if k.plan, err = template.Read(ctx, p, &p.Databases[0], e, k.scoped.Scope); err != nil {
		return 0, err
	}
	k.scoped.Server, err = place.Open(ctx, e, place.Wanted{Database: "cache", Where: []string{"memory"},
		Spec: template.Spec(&p.Databases[0])})
	if err != nil {
		return 0, err
	}
	defer k.scoped.Server.Close()
	taken, err := k.scoped.Take(ctx, copies.Request{Plan: k.plan, Layer: k.plan.Head()})
	if err != nil {
		return 0, err
	}
	k.entry = taken.Copy
	c := k.scoped.Server.Connection(k.entry.ID, k.entry.Facts)
	k.client = redis.NewClient(&redis.Options{Addr: c.Host + ":" + c.Port, Password: c.Password, PoolSize: 1})
	defer k.client.Close()
	if n == 1000 {
		if err := errors.Join(k.takes(ctx), b.spareKeys(root), k.sets(ctx)); err != nil {
			return 0, err
		}
	}
	if five, err = k.resets(ctx, few); err != nil {
		return 0, err
	}
	return five, k.scoped.Drop(ctx, k.entry, true)
}

// takes measures a copy beside the bare start of a server.
func (k *keyBench) takes(ctx context.Context) error {
	took, err := median(15, func() (time.Duration, error) {
		began := time.Now()
		t, err := k.scoped.Take(ctx, copies.Request{Plan: k.plan, Layer: k.plan.Head()})
		if err != nil {
			return 0, err
		}
		spent := time.Since(began)
		return spent, k.scoped.Drop(ctx, t.Copy, true)
	})
	if err != nil {
		return err
	}
	bare, err := median(15, bareServer)
	line("Redis: take, 1,000 keys", took, "a bare server until it answers", bare, "<= 1.5 x",
		float64(took) <= 1.5*float64(bare))
	return err
}

// bareServer starts a server without keys, and returns how long it was until it answered.
func bareServer() (time.Duration, error) {
	dir, err := os.MkdirTemp("/dev/shm", "hemzo-bench-")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(dir)
	socket := filepath.Join(dir, "s")
	began := time.Now()
	cmd := exec.Command("redis-server", "--port", "0", "--unixsocket", socket, "--dir", dir, "--save", "")
	if err := cmd.Start(); err != nil {
		return 0, err
	}
	defer func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }()
	c := redis.NewClient(&redis.Options{Network: "unix", Addr: socket, MaxRetries: -1, PoolSize: 1,
		DialerRetries: 1, DisableIdentity: true})
	defer c.Close()
	for time.Since(began) < 5*time.Second {
		if _, err := os.Stat(socket); err == nil && c.Ping(context.Background()).Err() == nil {
			return time.Since(began), nil
		}
		time.Sleep(time.Millisecond)
	}
	return 0, errors.New("the bare server does not answer")
}

// spareKeys measures takes of copies that were made ahead.
func (b bench) spareKeys(root string) error {
	at, _, end, err := b.serve(root)
	if err != nil {
		return err
	}
	return errors.Join(b.fromSpares(at), end())
}

// sets measures what it costs a test's own commands that the server tells of keys.
func (k *keyBench) sets(ctx context.Context) error {
	work := func() (time.Duration, error) {
		return timed(func() error {
			for i := range 2000 {
				if err := k.client.Set(ctx, "hive:"+strconv.Itoa(i%500*4+1), "honey", 0).Err(); err != nil {
					return err
				}
			}
			return nil
		})
	}
	bare, err := median(9, work)
	if err != nil {
		return err
	}
	s, err := reset.Open(ctx, k.scoped.Server, k.entry, 10*time.Second)
	if err != nil {
		return err
	}
	defer s.Close()
	if _, err := s.Do(ctx, reset.Options{}); err != nil { // from now on it is told
		return err
	}
	watched, err := median(9, work)
	line("Redis: 2,000 SETs, one at a time, watched", watched, "the same, not watched", bare, "<= 1.2 x",
		float64(watched) <= 1.2*float64(bare))
	if err == nil {
		_, err = s.Do(ctx, reset.Options{})
	}
	return err
}

func (k *keyBench) resets(ctx context.Context, few time.Duration) (five time.Duration, err error) {
	now, err := k.scoped.Server.Find(ctx, k.entry.ID)
	if err != nil {
		return 0, err
	}
	s, err := reset.Open(ctx, k.scoped.Server, now, 10*time.Second)
	if err != nil {
		return 0, err
	}
	defer s.Close()
	if _, err := s.Do(ctx, reset.Options{Way: engine.Snapshot}); err != nil {
		return 0, err
	}
	again := func(touch func() error) (time.Duration, error) {
		return median(40, func() (time.Duration, error) {
			if err := touch(); err != nil {
				return 0, err
			}
			return timed(func() error { _, err := s.Do(ctx, reset.Options{InPlace: true}); return err })
		})
	}
	ping, err := median(200, func() (time.Duration, error) {
		return timed(func() error { return k.client.Ping(ctx).Err() })
	})
	if err != nil {
		return 0, err
	}
	name := fmt.Sprintf("Redis, %d keys: reset, ", k.n)
	nothing, err := again(func() error { return k.client.Get(ctx, "hive:1").Err() })
	if err != nil {
		return 0, err
	}
	line(name+"nothing touched", nothing, "PING", ping, "<= 0.3 ms", nothing <= 300*time.Microsecond)
	five, err = again(func() error {
		return k.client.MSet(ctx, "hive:1", "a", "hive:2", "b", "hive:3", "c", "new:1", "d", "new:2", "e").Err()
	})
	if err != nil {
		return 0, err
	}
	if few == 0 {
		line(name+"5 touched", five, "PING", ping, "<= 1.5 ms", five <= 1500*time.Microsecond)
	} else {
		line(name+"5 touched", five, "5 of 1,000", few, "<= 1.5 x", float64(five) <= 1.5*float64(few))
	}
	return five, k.all(ctx, s, name)
}

// all measures a reset after all keys were changed, beside removing and loading them.
func (k *keyBench) all(ctx context.Context, s *reset.Session, name string) error {
	var back, bare []time.Duration
	for range 5 {
		load := k.client.Pipeline()
		load.FlushAll(ctx)
		for i := range k.n { // what the start state holds
			if key := fmt.Sprint("hive:", i); i%4 == 0 {
				load.HSet(ctx, key, "label", "by the linden", "weight", "1.5", "state", "strong")
			} else {
				load.Set(ctx, key, strings.Repeat("honey ", 8), 0)
			}
		}
		d, err := timed(func() error { _, err := load.Exec(ctx); return err })
		if err != nil {
			return err
		}
		bare = append(bare, d)
		if d, err = timed(func() error { _, err := s.Do(ctx, reset.Options{InPlace: true}); return err }); err != nil {
			return err
		}
		back = append(back, d)
	}
	took, raw := middle(back), middle(bare)
	line(name+"all changed", took, "FLUSHALL and loading by commands", raw, "<= 1.0 x", took <= raw)
	return nil
}

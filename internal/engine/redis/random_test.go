package redis_test

import (
	"context"
	"crypto/sha1"
	"flag"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
	"hemzo/internal/engine/enginetest"
	"hemzo/internal/engine/redis"
	"hemzo/internal/place"
	"hemzo/internal/reset"
)

var (
	seed   = flag.Uint64("seed", 0, "of the random work; 0 for another each time")
	rounds = flag.Int("rounds", 60, "of random work")
	shared = flag.Int("shared-rounds", 20, "of random work in containers of each version")
)

// held is a copy of a template, held open for resets, and a fresh one beside it.
type held struct {
	server        engine.Server
	copied, fresh engine.Entry
	template      string
	kind          kind
	session       *reset.Session
}

func begin(t testing.TB, k kind, w place.Wanted, settings ...engine.Setting) *held {
	enginetest.Home(t, redis.Engine{})
	s := k.subject(w)
	s.Spec.Settings, s.Spec.SourceRole = settings, k.role
	m := enginetest.NewTemplate(t, s)
	h := &held{kind: k, server: m.Server, template: m.ID}
	h.copied, h.fresh = m.Take(t), m.Take(t)
	h.open(t)
	t.Cleanup(func() { require.NoError(t, h.session.Close()) })
	return h
}

// open opens the copy as another process would.
func (h *held) open(t testing.TB) {
	if h.session != nil {
		require.NoError(t, h.session.Close())
	}
	e, err := h.server.Find(t.Context(), h.copied.ID)
	require.NoError(t, err)
	h.session, err = reset.Open(t.Context(), h.server, e, time.Second)
	require.NoError(t, err)
}

func (h *held) connection(t testing.TB, e engine.Entry) engine.Connection {
	now, err := h.server.Find(t.Context(), e.ID)
	require.NoError(t, err)
	return h.server.Connection(e.ID, now.Facts)
}

func (h *held) client(t testing.TB) *redis.Client {
	c, err := redis.DialClient(t.Context(), h.connection(t, h.copied))
	require.NoError(t, err)
	return c
}

// reset puts the copy back.
func (h *held) reset(t testing.TB, o reset.Options) *reset.Report {
	r, err := h.session.Do(t.Context(), o)
	require.NoError(t, err)
	return r
}

// exact is what a copy holds: of each key its value, and when it goes, counted from the time
// at which one of the first keys does. What has an order of its own in memory is sorted, all
// else is as DUMP gives it.
const exact = `
local out = {}
redis.call('SELECT', 0)
local t = redis.call('TIME')
local now = t[1] * 1000 + math.floor(t[2] / 1000)
local from = now + redis.call('PTTL', 'hive:2')
for db = 0, 15 do
  redis.call('SELECT', db)
  local keys = redis.call('KEYS', '*')
  table.sort(keys)
  for _, k in ipairs(keys) do
    local kind, left = redis.call('TYPE', k).ok, redis.call('PTTL', k)
    local v = ''
    if kind == 'set' then
      v = redis.call('SMEMBERS', k) table.sort(v) v = table.concat(v, ',')
    elseif kind == 'hash' then
      local h, all = redis.call('HGETALL', k), {}
      if k == 'watch' then
        for i = 1, #h, 2 do
          local goes = redis.call('HPTTL', k, 'FIELDS', 1, h[i])[1]
          if goes > 0 then goes = math.floor((now + goes - from) / 1000 + 0.5) end
          h[i + 1] = h[i + 1] .. ' goes ' .. goes
        end
      end
      for i = 1, #h, 2 do all[#all + 1] = h[i] .. '=' .. h[i + 1] end
      table.sort(all)
      v = table.concat(all, ',')
    elseif kind == 'zset' then v = table.concat(redis.call('ZRANGE', k, 0, -1, 'WITHSCORES'), ',')
    else v = redis.sha1hex(redis.call('DUMP', k)) end
    if left > 0 then left = 'goes ' .. math.floor((now + left - from) / 1000 + 0.5) end
    out[#out + 1] = db .. ' ' .. k .. ' ' .. kind .. ' ' .. left .. ' ' .. v
  end
end
redis.call('SELECT', 0)
return out`

func (h *held) holds(t testing.TB, e engine.Entry) string {
	c, err := redis.DialClient(t.Context(), h.connection(t, e))
	require.NoError(t, err)
	defer c.Close()
	v, err := c.Ask(t.Context(), "EVAL", exact, "0")
	require.NoError(t, err)
	var lines []string
	for _, item := range v.Items {
		lines = append(lines, fmt.Sprintf("%q", item.Text))
	}
	if v, err = c.Ask(t.Context(), "FUNCTION", "LIST"); err == nil {
		lines = append(lines, fmt.Sprintf("functions %v", v.Items))
	}
	ask := []string{"SCRIPT", "EXISTS", fmt.Sprintf("%x", sha1.Sum([]byte("return redis.call('GET', KEYS[1])")))}
	for i := range 6 {
		ask = append(ask, fmt.Sprintf("%x", sha1.Sum(fmt.Appendf(nil, "return %d", i))))
	}
	v, err = c.Ask(t.Context(), ask...)
	require.NoError(t, err)
	lines = append(lines, fmt.Sprintf("scripts %v", v.Items))
	return strings.Join(lines, "\n")
}

// forms are commands that write: K is a key, N a number, W a word, I an entry of a stream. Those that
// are not here get some of them.
const forms = `
set K W
set K W EX 1N
set K W PX N
set K W KEEPTTL
setex K 1N W
psetex K 1N W
mset K W K W
msetnx K W K W
setrange K 1N W
setbit K N 1
bitfield K SET u8 N N
bitop OR K K K
incrby K N
decrby K N
incrbyfloat K N
getex K EX 1N
getex K PERSIST
expire K 1N
expire K -1
pexpire K N
pexpire K 1
expireat K 17N
expireat K 2000000000
pexpireat K 2000000000000
linsert K BEFORE W W
lset K N W
lrem K 0 W
ltrim K 0 1
lmove K K LEFT RIGHT
blmove K K LEFT RIGHT 0.02
lmpop 1 K LEFT
blmpop 0.02 1 K LEFT
blpop K 0.02
brpop K 0.02
brpoplpush K K 0.02
bzpopmin K 0.02
bzpopmax K 0.02
bzmpop 0.02 1 K MIN
zmpop 1 K MIN
smove K K W
zadd K N W
zadd K INCR N W
zincrby K N W
zremrangebyrank K 0 0
zremrangebyscore K 0 N
zremrangebylex K - +
zunionstore K 2 K K
zinterstore K 2 K K
zdiffstore K 2 K K
zrangestore K K 0 1
hset K W W
hmset K W W
hsetnx K W W
hincrby K W N
hincrbyfloat K W N
hexpire K 1N FIELDS 1 W
hpexpire K N FIELDS 1 ann
hpexpire K 1 FIELDS 1 ann
hpersist K FIELDS 1 ann
hexpireat K 2000000000 FIELDS 1 ann
hpexpireat K 2000000000000 FIELDS 1 ann
hgetdel K FIELDS 1 ann
hgetex K EX 1N FIELDS 1 ann
hsetex K EX 1N FIELDS 1 W W
geoadd K 1N 1N W
georadius K 1 1 1N km STORE K
georadiusbymember K W 1N km STORE K
geosearchstore K K FROMLONLAT 1 1 BYRADIUS 1N km
xadd K * W W
xadd K NOMKSTREAM * W W
xtrim K MAXLEN N
xdel K I
xack K readers I
xsetid K 9N-1
xgroup|create K W 0
xgroup|create K W $ MKSTREAM
xgroup|destroy K W
xgroup|destroy K readers
xgroup|setid K readers 0
xgroup|createconsumer K readers W
xgroup|delconsumer K readers ann
xgroup CREATE K W 0
xgroup DESTROY K readers
xgroup CREATE K W $ MKSTREAM
xgroup DELCONSUMER K readers ann
xreadgroup GROUP readers W STREAMS K >
xreadgroup GROUP readers ann STREAMS K 0
xclaim K readers W 0 I
xclaim K readers W 0 I JUSTID
xautoclaim K readers W 0 0
xackdel K readers IDS 1 I
xdelex K IDS 1 I
pfmerge K K K
pfadd K W
copy K K
copy K K DB N REPLACE
move K N
rename K K
renamenx K K
swapdb 0 N
sort K ALPHA STORE K
delifeq K W
setnx K W
append K W
getset K W
lpush K W
rpush K W W
lpushx K W
rpushx K W
sadd K W
srem K W
zrem K W
hdel K W
rpoplpush K K
sunionstore K K K
sinterstore K K K
sdiffstore K K K
function|load REPLACE FUNCTION
function|delete mine
vadd K VALUES 2 N N W
vrem K W
vsetattr K W W
msetex 1 K W EX 1N
flushall
flushdb
function|flush
`

// beside are not in the category of what writes, and change something all the same.
var beside = []string{"pfcount K", "select 0", "select 3", "select N", "multi", "exec", "discard", "eval SCRIPT 0",
	"script|load SCRIPT", "script|flush", "evalwrite 1 K", "evalquiet 1 K", "get K", "hgetall K", "publish W W"}

// unlike are not for clients, or would end the test itself.
var unlike = []string{"restore", "restore-asking", "migrate", "function|restore", "function", "pfdebug", "debug"}

type worker struct {
	r     *rand.Rand
	names []string // of commands that write
	forms map[string][]string
	log   []string
}

// next is a command made up.
func (w *worker) next() []string {
	var text string
	if w.r.IntN(4) == 0 {
		text = beside[w.r.IntN(len(beside))]
	} else {
		name := w.names[w.r.IntN(len(w.names))]
		if strings.HasPrefix(name, "flush") && w.r.IntN(3) > 0 || name == "swapdb" { // all is touched then
			name = "del"
		}
		known := w.forms[name]
		if known == nil {
			for _, words := range []string{"K", "K W", "K N", "K W W", "K K"} {
				known = append(known, name+" "+words)
			}
		}
		text = known[w.r.IntN(len(known))]
	}
	var words []string
	for _, word := range strings.Fields(strings.Replace(text, "|", " ", 1)) {
		words = append(words, w.word(word))
	}
	switch words[0] {
	case "evalwrite":
		words = []string{"eval", "return redis.call('APPEND', KEYS[1], 'e')", "1", words[2]}
	case "evalquiet":
		words = []string{"eval", "redis.set_repl(redis.REPL_NONE) return redis.call('SET', KEYS[1], 'q')", "1", words[2]}
	}
	return words
}

func (w *worker) word(word string) string {
	pick := func(of ...string) string { return of[w.r.IntN(len(of))] }
	number := fmt.Sprint(w.r.IntN(6))
	switch word {
	case "K":
		return pick("hive:1", "hive:2", "hive é", "flags", "visitors", "label", "queue", "members", "numbers", "scores",
			"places", "log", "empty", "counter", "letters", "watch", "new:"+number)
	case "W":
		return pick("a", "b", "ann", "bob", "linden", number, strings.Repeat("honey", 30))
	case "I":
		return pick("1-1", "2-1", "3-1")
	case "FUNCTION":
		return "#!lua name=mine\nredis.register_function('f', function() return " + number + " end)"
	case "SCRIPT":
		return "return " + number
	}
	return strings.ReplaceAll(word, "N", number)
}

// writing lists the commands that a server says that they write.
func (h *held) writing(t testing.TB) (names []string) {
	c := h.client(t)
	defer c.Close()
	v, err := c.Ask(t.Context(), "COMMAND")
	require.NoError(t, err)
	for _, item := range v.Items {
		for _, flag := range item.Items[2].Items {
			if flag.Text == "write" {
				names = append(names, item.Items[0].Text)
			}
		}
		if len(item.Items) > 9 {
			for _, part := range item.Items[9].Items {
				for _, flag := range part.Items[2].Items {
					if flag.Text == "write" {
						names = append(names, part.Items[0].Text)
					}
				}
			}
		}
	}
	names = slices.DeleteFunc(names, func(n string) bool { return slices.Contains(unlike, n) })
	slices.Sort(names)
	require.Greater(t, len(names), 70)
	return names
}

// work has a few clients do something, one after the other.
func (h *held) work(t testing.TB, w *worker, clients []*redis.Client) {
	w.log = nil
	for range 1 + w.r.IntN(12) {
		i := w.r.IntN(len(clients))
		command := w.next()
		w.log = append(w.log, fmt.Sprintf("%d: %q", i, command))
		limited, stop := context.WithTimeout(t.Context(), 20*time.Second)
		_, err := clients[i].Do(limited, command)
		if stop(); err != nil {
			t.Fatalf("%v: %q", err, w.log)
		}
	}
}

// randomWork: whatever clients do, the copy is as a fresh one after a reset, key by key.
func randomWork(t *testing.T, k kind, w place.Wanted, rounds int) {
	h := begin(t, k, w)
	s := *seed
	if s == 0 {
		s = uint64(time.Now().UnixNano())
	}
	t.Logf("seed %d", s)
	work := &worker{r: rand.New(rand.NewPCG(s, 1)), names: h.writing(t), forms: map[string][]string{}}
	for line := range strings.Lines(forms) {
		name, _, _ := strings.Cut(strings.TrimSpace(line), " ")
		work.forms[name] = append(work.forms[name], strings.TrimSpace(line))
	}
	start := h.holds(t, h.fresh)
	require.Equal(t, start, h.holds(t, h.copied))
	h.reset(t, reset.Options{Way: engine.Snapshot})
	clients := []*redis.Client{h.client(t), h.client(t), h.client(t)}
	ways := map[engine.Way]int{}
	for round := range rounds {
		h.work(t, work, clients)
		r := h.reset(t, reset.Options{})
		ways[r.Way]++
		require.False(t, r.Reconnect, "round %d: %s", round, r.Why)
		if now := h.holds(t, h.copied); now != start {
			t.Fatalf("round %d, %s %q:\n%s\n%s", round, r.Way, r.Why, strings.Join(work.log, "\n"),
				firstDifference(start, now))
		}
		if again := h.reset(t, reset.Options{}); again.Differed() { // holds called EVAL: that counts
			t.Fatalf("round %d: nothing was touched, and %+v", round, again)
		}
		for _, c := range clients { // in MULTI is who was left there
			_, err := c.Do(t.Context(), []string{"DISCARD"}, []string{"SELECT", "0"})
			require.NoError(t, err)
		}
		if work.r.IntN(10) == 0 { // another process
			h.open(t)
			ways[engine.Way("anew")]++
			h.reset(t, reset.Options{Way: engine.Snapshot})
		}
	}
	t.Log(ways)
	assert.Greater(t, ways[engine.Truncation], rounds/3)
	for _, c := range clients {
		require.NoError(t, c.Close())
	}
}

func firstDifference(a, b string) string {
	x, y := strings.Split(a, "\n"), strings.Split(b, "\n")
	for i := range max(len(x), len(y)) {
		if i >= len(x) || i >= len(y) || x[i] != y[i] {
			return fmt.Sprintf("wanted %q\nhas    %q", x[min(i, len(x)-1)], y[min(i, len(y)-1)])
		}
	}
	return "none"
}

// TestRandomWorkInContainers: on all versions.
func TestRandomWorkInContainers(t *testing.T) {
	enginetest.Containers(t)
	for _, image := range images {
		t.Run(strings.TrimPrefix(image, "hemzo-test/"), func(t *testing.T) {
			randomWork(t, kind{image: image}, place.Wanted{Where: []string{"container"}}, *shared)
		})
	}
}

// TestRandomWork: on the server of this machine, in memory.
func TestRandomWork(t *testing.T) {
	randomWork(t, kind{}, place.Wanted{Where: []string{"memory"}}, *rounds)
}

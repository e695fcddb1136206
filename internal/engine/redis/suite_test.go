package redis_test

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	driver "github.com/redis/go-redis/v9"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
	"hemzo/internal/engine/enginetest"
	"hemzo/internal/engine/redis"
	"hemzo/internal/place"
	"hemzo/internal/reset"
)

func TestMain(m *testing.M) { enginetest.Main(m, redis.Engine{}) }

// steps build a state with all types of values, several databases, and what expires.
var steps = []string{`
# the hives
SET hive:1 "by the linden"
SET hive:2 "" EX 100000
SET "hive é" "\x00\xff binary"
SETBIT flags 100 1
PFADD visitors ann bob
HSET label 1 linden 2 'the old one'
RPUSH queue a b c
SADD members ann bob 1 2 3
SADD numbers 1 2 3
ZADD scores 1 a 2.5 b
GEOADD places 13.361389 38.115556 here
`, `
XADD log 1-1 what swarm
XADD log 2-1 what harvest
XGROUP CREATE log readers 0
XREADGROUP GROUP readers ann COUNT 1 STREAMS log >
XGROUP CREATE empty readers $ MKSTREAM
SCRIPT LOAD "return redis.call('GET', KEYS[1])"
SELECT 3
SET hive:1 "another one of that name"
RPUSH letters x
PEXPIRE letters 90000000
MULTI
INCR counter
INCR counter
EXEC
`}

// fields is a step for servers on which fields of hashes expire.
const fields = `
HSET watch ann 1 bob 2
HPEXPIRE watch 80000000 FIELDS 1 ann
`

var work = []enginetest.Work{
	{Name: "values", Text: "SET hive:1 burnt\nSET new 1\nAPPEND hive:2 x\nDEL label"},
	{Name: "elements", Text: "LPOP queue\nSREM members ann\nZINCRBY scores 5 a\nHSET label 3 new\nSETBIT flags 3 1\n" +
		"PFADD visitors cy\nGEOADD places 1 1 there"},
	{Name: "another database", Text: "SELECT 3\nDEL hive:1\nSELECT 5\nSET x y\nSELECT 0\nMOVE hive:1 7"},
	{Name: "flush", Text: "FLUSHDB"},
	{Name: "flush all", Text: "SET x y\nFLUSHALL"},
	{Name: "swapped", Text: "SWAPDB 0 3"},
	{Name: "names", Text: "RENAME hive:1 hive:9\nCOPY hive:2 hive:3\nRENAME queue hive:1"},
	{Name: "times", Text: "PERSIST hive:2\nEXPIRE hive:1 1000\nSELECT 3\nEXPIRE letters 5"},
	{Name: "expired", Text: "SET short x PX 1\nPEXPIRE hive:1 1\nBLPOP nothing 0.05\nGET hive:1\nGET short"},
	{Name: "in a transaction", Text: "MULTI\nSET hive:1 m\nRPUSH queue m\nEXEC"},
	{Name: "in a script", Text: "EVAL \"redis.call('SET', 'hive:1', 's') redis.call('SET', 'made', 's')\" 0"},
	{Name: "scripts", Text: "SCRIPT FLUSH\nSCRIPT LOAD \"return 7\""},
	{Name: "group reading", Text: "XREADGROUP GROUP readers bob COUNT 1 STREAMS log >"},
	{Name: "acknowledged", Text: "XACK log readers 1-1"},
	{Name: "groups", Text: "XGROUP CREATE log others 0\nXGROUP DESTROY empty readers\n" +
		"XGROUP DELCONSUMER log readers ann"},
	{Name: "stream", Text: "XADD log 3-1 what x\nXTRIM log MAXLEN 1\nXSETID empty 9-9"},
	{Name: "claimed", Text: "XCLAIM log readers dan 0 1-1 JUSTID"},
	{Name: "read again", Text: "XREADGROUP GROUP readers ann STREAMS log 0"},
	{Name: "counted", Text: "PFCOUNT visitors"},
	{Name: "made and removed", Text: "SET x 1\nDEL x\nLPUSH y 1\nLPOP y"},
	{Name: "functions", Text: "FUNCTION LOAD \"#!lua name=mine\\nredis.register_function('f', function() return 1 end)\""},
	{Name: "many", Text: "EVAL \"for i = 1, 3000 do redis.call('SET', 'k' .. i, i) end\" 0"},
}

// cli runs a program of the server's on a copy, where it is.
func (k kind) cli(t testing.TB, c engine.Connection, text string, args ...string) string {
	t.Helper()
	args = append([]string{"-h", c.Host, "-p", c.Port, "-n", c.Database, "--user", c.User, "--no-auth-warning"}, args...)
	cmd := exec.Command(program(), args...)
	cmd.Env = append(os.Environ(), "REDISCLI_AUTH="+c.Password, "VALKEYCLI_AUTH="+c.Password)
	cmd.Stdin = strings.NewReader(text)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	return string(out)
}

// program is the server's own client: that of either speaks to both.
func program() string {
	if _, err := exec.LookPath("redis-cli"); err != nil {
		return "valkey-cli"
	}
	return "redis-cli"
}

// everything is a script that prints all that a server holds. Of what is without order it
// sorts; of times to live it tells whether there is one, and whether it is long.
const everything = `
local out = {}
for db = 0, 15 do
  redis.call('SELECT', db)
  local keys = redis.call('KEYS', '*')
  table.sort(keys)
  for _, k in ipairs(keys) do
    local kind, left = redis.call('TYPE', k).ok, redis.call('PTTL', k)
    local v
    if kind == 'string' then v = redis.call('GET', k)
    elseif kind == 'list' then v = redis.call('LRANGE', k, 0, -1)
    elseif kind == 'set' then v = redis.call('SMEMBERS', k) table.sort(v)
    elseif kind == 'zset' then v = redis.call('ZRANGE', k, 0, -1, 'WITHSCORES')
    elseif kind == 'stream' then v = redis.call('XINFO', 'STREAM', k, 'FULL')
    elseif kind == 'hash' then
      v = {}
      local h = redis.call('HGETALL', k)
      if k == 'watch' then
        for i = 1, #h, 2 do
          local goes = redis.call('HPTTL', k, 'FIELDS', 1, h[i])[1]
          if goes > 0 then goes = math.floor(goes / 10000000 + 0.5) end
          h[i + 1] = h[i + 1] .. ' goes ' .. goes
        end
      end
      for i = 1, #h, 2 do v[#v + 1] = h[i] .. '=' .. h[i + 1] end
      table.sort(v)
    end
    if left > 0 then left = math.floor(left / 10000000 + 0.5) end
    out[#out + 1] = db .. ' ' .. k .. ' ' .. kind .. ' ' .. left .. ' ' .. cjson.encode(v)
  end
end
redis.call('SELECT', 0)
return out`

var times = regexp.MustCompile(`"(seen-time|active-time|idle|inactive|radix-tree-keys|radix-tree-nodes)",-?[0-9]+`)

func (k kind) dump(t *testing.T, c engine.Connection) string {
	script := everything
	if k.one {
		script = strings.NewReplacer("db = 0, 15", "db = 0, 0", "redis.call('SELECT', db)", "",
			"redis.call('SELECT', 0)", "").Replace(script)
	}
	text := times.ReplaceAllString(k.cli(t, c, "", "EVAL", script, "0"), "")
	if k.old() || k.one {
		return text
	}
	return text + k.cli(t, c, "FUNCTION LIST\n")
}

// kind is a server that the suite runs on.
type kind struct {
	image string
	role  string
	more  string // another step
	one   bool   // a copy is one database of a server
}

// times reports whether fields of hashes expire there.
func (k kind) times() bool {
	image := k.image + os.Getenv(enginetest.Inside)
	return strings.HasSuffix(image, "redis:8") || strings.HasSuffix(image, "valkey:9")
}

func (k kind) old() bool {
	return strings.HasSuffix(k.image, "redis:6") || strings.Contains(os.Getenv(enginetest.Inside), "redis:6")
}

func (k kind) subject(w place.Wanted) enginetest.Subject {
	s := enginetest.Subject{
		Engine: redis.Engine{}, Spec: engine.Spec{Database: "honey", Image: k.image}, Wanted: w, Steps: steps,
		Broken: "SET a b\nSETT a b",
		Client: func(t *testing.T, c engine.Connection, text string) { k.cli(t, c, text) },
		Hold: func(t *testing.T, c engine.Connection) func() {
			cmd := exec.Command(program(), "-h", c.Host, "-p", c.Port, "--user", c.User, "SUBSCRIBE", "x")
			cmd.Env = append(os.Environ(), "REDISCLI_AUTH="+c.Password, "VALKEYCLI_AUTH="+c.Password)
			require.NoError(t, cmd.Start())
			return func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }
		},
		Dump: k.dump,
	}
	if k.more != "" {
		s.Steps = append(slices.Clone(s.Steps), k.more)
	}
	if k.one {
		s.Rewrites, s.Shared = true, true
		before, _, _ := strings.Cut(steps[1], "SELECT 3")
		s.Steps = []string{steps[0], before}
	}
	for _, w := range work {
		if !k.old() || !strings.Contains(w.Text, "FUNCTION") {
			s.Work = append(s.Work, w)
		}
	}
	if k.times() {
		s.Steps = append(slices.Clone(s.Steps), fields)
		s.Work = append(s.Work, enginetest.Work{Name: "times of fields",
			Text: "HPERSIST watch FIELDS 1 ann\nHPEXPIRE watch 1 FIELDS 1 ann\nHSET watch bob 3\nBLPOP nothing 0.02"})
	}
	return s
}

// TestSuite: what every engine has to do, in memory.
func TestSuite(t *testing.T) {
	enginetest.Home(t, redis.Engine{})
	enginetest.Run(t, kind{}.subject(place.Wanted{Where: []string{"memory"}}))
}

// there starts a server that is there already, and returns its URL. The account plain may
// make no others.
func there(t testing.TB, more ...string) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := fmt.Sprint(l.Addr().(*net.TCPAddr).Port)
	require.NoError(t, l.Close())
	server := "redis-server"
	if _, err := exec.LookPath(server); err != nil {
		server = "valkey-server"
	}
	args := append([]string{"--port", port, "--save", "", "--dir", t.TempDir(), "--requirepass", "hive"}, more...)
	cmd := exec.Command(server, args...)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	root := redisAt(":" + port)
	require.Eventually(t, func() bool {
		c, err := redis.DialClient(t.Context(), root)
		if err == nil {
			_, err = c.Ask(t.Context(), "ACL", "SETUSER", "plain", "on", ">hive", "~*", "+@all", "-acl")
			assert.NoError(t, c.Close())
		}
		return err == nil
	}, time.Minute, time.Millisecond)
	return "redis://:hive@127.0.0.1:" + port
}

// TestSuiteExisting: each copy is one database of a server that others use too.
func TestSuiteExisting(t *testing.T) {
	enginetest.Home(t, redis.Engine{})
	enginetest.Run(t, kind{one: true}.subject(place.Wanted{Where: []string{"existing"}, URL: there(t)}))
}

// TestExisting: what a server that is there already has to be; and tests stay in their own
// database.
func TestExisting(t *testing.T) {
	enginetest.Home(t, redis.Engine{})
	url := there(t)
	open := func(url string) (engine.Server, error) {
		return redis.Engine{}.Open(t.Context(), url, engine.Spec{}, engine.Patience{})
	}
	for wrong, what := range map[string]string{
		strings.Replace(url, ":hive@", "plain:hive@", 1): "make other accounts, which keep tests in their database",
		strings.Replace(url, "hive@", "bees@", 1):        "WRONGPASS",
		url + "/99": "has 16 databases",
		url + "/x":  "no number of a database",
		strings.Replace(url, "redis:", "rediss:", 1): "TLS to a server of Redis is not spoken",
		"redis://127.0.0.1:1":                        "cannot connect to Redis at 127.0.0.1:1",
	} {
		_, err := open(wrong)
		assert.ErrorContains(t, err, what, wrong)
	}
	root := redisAt(url)
	s, err := open(url)
	require.NoError(t, err)
	id := engine.NewID(engine.Copy)
	require.NoError(t, s.Create(t.Context(), id, engine.Spec{}, engine.Facts{Format: engine.Format}))
	e, err := s.Find(t.Context(), id)
	require.NoError(t, err)
	c, err := redis.DialClient(t.Context(), s.Connection(id, e.Facts))
	require.NoError(t, err)
	own := s.Connection(id, e.Facts).Database
	for _, line := range []string{"SELECT 15", "SELECT 0", "FLUSHALL", "SWAPDB 0 1", "MOVE a 3", "COPY a b DB 3",
		"SCRIPT FLUSH", "FUNCTION FLUSH", "CONFIG SET save 1", "ACL LIST", "CLIENT LIST", "SHUTDOWN"} {
		_, err := c.Ask(t.Context(), strings.Fields(line)...)
		assert.ErrorContains(t, err, "NOPERM", line)
	}
	_, err = c.Ask(t.Context(), "EVAL", "return redis.call('SELECT', '15')", "0")
	assert.ErrorContains(t, err, "can't run this command")
	_, err = c.Ask(t.Context(), "SELECT", own)
	require.NoError(t, err)
	require.NoError(t, c.Close())
	require.NoError(t, s.Drop(t.Context(), id))
	admin, err := redis.DialClient(t.Context(), root)
	require.NoError(t, err)
	defer admin.Close()
	v, err := admin.Ask(t.Context(), "ACL", "USERS")
	require.NoError(t, err)
	assert.Len(t, v.Items, 2, "default and plain")
	require.NoError(t, s.Close())
}

// TestExistingOthers: what others have is not touched, and where they have it nobody is let in.
func TestExistingOthers(t *testing.T) {
	enginetest.Home(t, redis.Engine{})
	url := there(t)
	open := func(url string) (engine.Server, error) {
		return redis.Engine{}.Open(t.Context(), url, engine.Spec{}, engine.Patience{})
	}
	s, err := open(url)
	require.NoError(t, err)
	admin, err := redis.DialClient(t.Context(), redisAt(url))
	require.NoError(t, err)
	defer admin.Close()
	do(t, admin, "SELECT 15", "EXISTS hemzo:facts", "SELECT 7", "SET theirs 1", "SELECT 14", "SET theirs 1")
	var taken []string
	for range 13 {
		id := engine.NewID(engine.Copy)
		if err = s.Create(t.Context(), id, engine.Spec{}, engine.Facts{Format: engine.Format}); err != nil {
			break
		}
		taken = append(taken, id)
	}
	assert.ErrorContains(t, err, "all 16 databases of the server")
	assert.Len(t, taken, 12)
	for _, id := range taken {
		require.NoError(t, s.Drop(t.Context(), id))
	}
	require.NoError(t, s.Close())
	_, err = open(url + "/14")
	assert.ErrorContains(t, err, "database 14 of the server")
	do(t, admin, "SELECT 7", "DEL theirs", "SELECT 14", "DEL theirs", "SELECT 0", "SET theirs 1")
	_, err = open(url)
	assert.ErrorContains(t, err, "database 0 of the server")
	do(t, admin, "DEL theirs", "REPLICAOF 127.0.0.1 1")
	_, err = open(url)
	assert.ErrorContains(t, err, "is a replica")
}

// redisAt is how the URL of there is reached.
func redisAt(url string) engine.Connection {
	port := url[strings.LastIndex(url, ":")+1:]
	return engine.Connection{Host: "127.0.0.1", Port: port, User: "default", Password: "hive", Database: "0"}
}

// TestCluster: a server of a cluster is refused.
func TestCluster(t *testing.T) {
	url := there(t, "--cluster-enabled", "yes")
	_, err := redis.Engine{}.Open(t.Context(), url, engine.Spec{}, engine.Patience{})
	assert.ErrorContains(t, err, "is one of a cluster")
}

// TestGoRedis: Go's own driver, over resets in place, with a subscription.
func TestGoRedis(t *testing.T) {
	h := begin(t, kind{}, place.Wanted{Where: []string{"memory"}})
	start := h.holds(t, h.fresh)
	at, err := driver.ParseURL(h.connection(t, h.copied).URL)
	require.NoError(t, err)
	c := driver.NewClient(at)
	defer c.Close()
	listening := c.Subscribe(t.Context(), "honey")
	defer listening.Close()
	_, err = listening.Receive(t.Context())
	require.NoError(t, err)
	for range 5 {
		_, err := c.TxPipelined(t.Context(), func(p driver.Pipeliner) error {
			p.Incr(t.Context(), "counted")
			p.LPush(t.Context(), "queue", "x")
			return nil
		})
		require.NoError(t, err)
		r := h.reset(t, reset.Options{})
		assert.False(t, r.Reconnect)
		assert.Equal(t, start, h.holds(t, h.copied))
	}
	require.NoError(t, c.Publish(t.Context(), "honey", "linden").Err())
	m, err := listening.ReceiveMessage(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "linden", m.Payload)
}

var images = []string{"hemzo-test/redis:6", "hemzo-test/redis:7", "hemzo-test/redis:8", "hemzo-test/valkey:8",
	"hemzo-test/valkey:9"}

// TestSuiteInContainers: a container for each copy.
func TestSuiteInContainers(t *testing.T) {
	enginetest.Containers(t)
	for _, image := range images {
		t.Run(strings.TrimPrefix(image, "hemzo-test/"), func(t *testing.T) {
			enginetest.Home(t, redis.Engine{})
			enginetest.Run(t, kind{image: image}.subject(place.Wanted{Where: []string{"container"}}))
		})
	}
}

// TestOtherVersions runs the tests of servers in memory on other versions.
func TestOtherVersions(t *testing.T) {
	others := slices.DeleteFunc(slices.Clone(images), func(image string) bool {
		return image == "hemzo-test/redis:7" // this machine's
	})
	enginetest.InImages(t, others, func(string) []string {
		return []string{"-test.run", "TestSuite$|TestSuiteExisting$|TestRandomWork$"}
	})
}

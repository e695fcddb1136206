package rdb

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// values have a server keep something of each type, short and long.
const values = `
for i = 1, 600 do
  redis.call('RPUSH', 'list', i) redis.call('SADD', 'set', 's' .. i) redis.call('SADD', 'numbers', i)
  redis.call('ZADD', 'zset', i / 3, i) redis.call('HSET', 'hash', i, i) redis.call('XADD', 'stream', i .. '-1', 'k', i)
end
redis.call('SADD', 'short set', 'a') redis.call('ZADD', 'short zset', '-inf', 'a', '+inf', 'b')
redis.call('HSET', 'short hash', 'a', 1)
redis.call('SADD', 'short numbers', 1, 2, 70000)
redis.call('RPUSH', 'long list', string.rep('honey', 10000))
redis.call('SET', 'text', 'x') redis.call('SET', 'byte', 7) redis.call('SET', 'word', -3000)
redis.call('SET', 'int', 100000)
redis.call('SET', 'big', 123456789012) redis.call('SET', 'packed', string.rep('a', 5000))
redis.call('SET', 12345, 'by a number')
redis.call('SET', string.rep('key', 2000), 'goes') redis.call('PEXPIREAT', string.rep('key', 2000), 4000000000123)
redis.call('XGROUP', 'CREATE', 'stream', 'readers', 0)
redis.call('XREADGROUP', 'GROUP', 'readers', 'ann', 'COUNT', 70, 'STREAMS', 'stream', '>')
redis.call('PFADD', 'hll', 'a') redis.call('GEOADD', 'geo', 1, 1, 'a')
redis.call('SELECT', 9) redis.call('SET', 'other', 1)`

// saved is a file of a server's.
func saved(t testing.TB) (path string, dump func(key string) string) {
	dir := t.TempDir()
	socket := filepath.Join(dir, "s")
	cmd := exec.Command("redis-server", "--port", "0", "--unixsocket", socket, "--dir", dir, "--save", "")
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	cli := func(args ...string) string {
		out, err := exec.Command("redis-cli", append([]string{"-s", socket}, args...)...).CombinedOutput()
		require.NoError(t, err, string(out))
		return string(out)
	}
	require.Eventually(t, func() bool {
		return exec.Command("redis-cli", "-s", socket, "ping").Run() == nil
	}, time.Minute, time.Millisecond)
	require.NotContains(t, cli("EVAL", values, "0"), "ERR")
	cli("FUNCTION", "LOAD", "#!lua name=mine\nredis.register_function('f', function() return 1 end)")
	require.Contains(t, cli("SAVE"), "OK")
	return filepath.Join(dir, "dump.rdb"), func(key string) string { return cli("--raw", "DUMP", key) }
}

// TestFile: each value is what DUMP gives of it, and what is written is read as before.
func TestFile(t *testing.T) {
	path, dump := saved(t)
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	f, err := ReadAll(bytes.NewReader(b))
	require.NoError(t, err)
	require.Len(t, f.Entries, 22)
	for _, e := range f.Entries {
		if e.DB == 0 {
			assert.Equal(t, dump(e.Key), string(f.Payload(e))+"\n", e.Key)
		} else {
			assert.Equal(t, Entry{DB: 9, Key: "other", Type: 0, Value: []byte{0xc0, 1}}, e)
		}
		assert.Equal(t, strings.HasPrefix(e.Key, "keykey"), e.Expires == 4000000000123, e.Key)
	}
	again, err := Functions(f.FunctionPayload())
	require.NoError(t, err)
	assert.Equal(t, f.Functions, again)
	require.Len(t, again, 1)
	var out bytes.Buffer
	require.NoError(t, f.Write(&out))
	written, err := ReadAll(&out)
	require.NoError(t, err)
	assert.Equal(t, f, written)
	// Cut anywhere, or with another byte anywhere, it is refused.
	for i := range len(b) {
		if i%7 == 0 || i < 200 || i > len(b)-200 {
			_, err := ReadAll(bytes.NewReader(b[:i]))
			require.ErrorIs(t, err, ErrCut, "cut at %d", i)
			broken := bytes.Clone(b)
			broken[i] ^= 0x55
			_, err = ReadAll(bytes.NewReader(broken))
			require.Error(t, err, "broken at %d", i)
		}
	}
}

// FuzzRead: whatever a file holds, it is read or refused, in memory in proportion to it.
func FuzzRead(f *testing.F) {
	if path, _ := saved(f); path != "" {
		b, err := os.ReadFile(path)
		require.NoError(f, err)
		f.Add(b)
	}
	f.Add([]byte("REDIS0011\xfa\x03abc\x03def\xfe\x00\x00\x01a\x01b\xff\x00\x00\x00\x00\x00\x00\x00\x00"))
	f.Add([]byte("VALKEY080\xfe\x00\x16\x01h\x01\x01a\x01b\x00\x00\x00\x00\x00\x00\x00\x00\xff" +
		"\x00\x00\x00\x00\x00\x00\x00\x00"))
	f.Fuzz(func(t *testing.T, b []byte) {
		file, err := ReadAll(bytes.NewReader(b))
		if err != nil {
			return
		}
		var out bytes.Buffer
		require.NoError(t, file.Write(&out))
		again, err := ReadAll(&out)
		require.NoError(t, err)
		assert.Equal(t, len(file.Entries), len(again.Entries))
	})
}

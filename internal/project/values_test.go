package project

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestSizes(t *testing.T) {
	for text, want := range map[string]int64{"0": 0, "12": 12, "12B": 12, "4k": 4096, "64MB": 64 << 20,
		"1 GiB": 1 << 30, "2TB": 2 << 40} {
		got, err := parseSize(text)
		assert.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"", "MB", "-1MB", "1.5GB", "1XB", "9999999999999GB", "1 0"} {
		_, err := parseSize(text)
		assert.Error(t, err, text)
	}
}

func TestNearest(t *testing.T) {
	known := []string{"engine", "env", "encoding", "extensions", "version"}
	for word, want := range map[string]string{
		"engin": "engine", "enigne": "engine", "evn": "env", "extension": "extensions", "Version": "version",
		"encodings": "encoding",
	} {
		assert.Equal(t, `did you mean "`+want+`"?`, nearestOf(word, known), word)
	}
	assert.Equal(t, "known here: encoding, engine, env, extensions, version", nearestOf("completely_other", known))
	assert.Equal(t, []string{"engine", "env", "encoding", "extensions", "version"}, known,
		"the list of the caller stays as it was")
	assert.Equal(t, 0, distance("a", "a"))
	assert.Equal(t, 1, distance("ab", "ba"))
	assert.Equal(t, 3, distance("", "abc"))
}

func TestPlaceholders(t *testing.T) {
	for text, want := range map[string][]string{
		"{url}": {"url"}, "{honey-log.file}x{url}": {"honey-log.file", "url"}, `{"a": 1}`: nil, "{A}": nil, "{}": nil,
		"{ url }": nil, "{a.b.c}": nil,
	} {
		var got []string
		for _, m := range Placeholder().FindAllStringSubmatch(text, -1) {
			got = append(got, m[1])
		}
		assert.Equal(t, want, got, text)
	}
}

func TestMergingReplacesListsAndValues(t *testing.T) {
	file := write(t, `
databases:
  apiary: { engine: sqlite, keep: [a, b], env: { ONE: "1", TWO: "2" }, wait: 1s }
profiles:
  ci: { databases: { apiary: { keep: [c], env: { TWO: "two" } }, extra: { engine: sqlite } } }
  broken: { databases: { more: { version: 3 } } }
`)
	p, err := Read(file, "ci", environment())
	assert.NoError(t, err)
	a := p.Database("apiary")
	assert.Equal(t, []string{"c"}, a.Keep)
	assert.Equal(t, "1s", a.Wait.String())
	assert.Equal(t, []string{"1", "two"}, []string{a.Env[0].Value, a.Env[1].Value})
	assert.NotNil(t, p.Database("extra"), "a profile may add a database")
	_, err = Read(file, "broken", environment())
	assert.ErrorContains(t, err, `database "more" lacks the key "engine"`)
}

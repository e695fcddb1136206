package project

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/fault"
)

var update = flag.Bool("update", false, "write the page of keys anew")

func write(t *testing.T, text string) string {
	t.Helper()
	root := t.TempDir()
	for _, dir := range []string{"db/migrations", "db/reference", "config"} {
		require.NoError(t, os.MkdirAll(filepath.Join(root, dir), 0o755))
	}
	for _, f := range []string{"db/legacy.sql", "config/test.properties.in"} {
		require.NoError(t, os.WriteFile(filepath.Join(root, f), nil, 0o644))
	}
	file := filepath.Join(root, FileName)
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	return file
}

func environment(pairs ...string) func(string) (string, bool) {
	return func(name string) (string, bool) {
		for i := 0; i < len(pairs); i += 2 {
			if pairs[i] == name {
				return pairs[i+1], true
			}
		}
		return "", false
	}
}

const whole_ = `
databases:
  apiary:
    engine: postgres
    version: 15
    where: [memory, container]
    from:
      - migrations: db/migrations
        undo: "*.down.sql"
      - data: db/reference
      - dump: db/legacy.sql
      - run: [bin/app, migrate]
        inputs: ["app/**/migrations/*"]
        continues: true
    keep: [mail_outbox]
    reset: truncation
    role: owner
    roles: [app_reader]
    extensions: [pg_trgm]
    settings: { max_connections: 300, timezone: UTC }
    limits: { layers: 8 }
    wait: 2s
    env:
      DATABASE_URL: "{url}"
  cache: { engine: redis }
env: { SUITE: "{apiary.jdbc} {cache.url}" }
files:
  - { from: config/test.properties.in, to: config/test.properties }
profiles:
  ci: { allow_hosts: [db.internal], databases: { apiary: { where: existing, url: "${CI_DATABASE_URL}" } } }
`

func TestRead(t *testing.T) {
	file := write(t, whole_)
	p, err := Read(file, "", environment())
	require.NoError(t, err, "an unset variable of a profile that is not chosen is no error")
	a := p.Database("apiary")
	assert.Equal(t, "15", a.Version)
	assert.Equal(t, []string{"memory", "container"}, a.Where)
	assert.Equal(t, []string{"*.down.sql"}, a.From[0].Undo)
	assert.Equal(t, []string{"bin/app", "migrate"}, a.From[3].Run)
	assert.True(t, a.From[3].Continues)
	assert.Equal(t, 8, a.Layers)
	assert.Equal(t, 2*time.Second, a.Wait)
	assert.Equal(t, "300", a.Settings[0].Value)
	assert.Equal(t, "CACHE_URL", p.Database("cache").Env[0].Name)

	p, err = Read(file, "ci", environment("CI_DATABASE_URL", "postgres://db.internal"))
	require.NoError(t, err)
	a = p.Database("apiary")
	assert.Equal(t, []string{"existing"}, a.Where)
	assert.Equal(t, "postgres://db.internal", a.URL)
	assert.Equal(t, []string{"db.internal"}, p.AllowHosts)
	assert.Len(t, a.From, 4, "what the profile leaves out stays")
}

// TestRunnersServer: of several servers a runner uses the one of its number, or always the
// same one.
func TestRunnersServer(t *testing.T) {
	file := write(t, "databases: { a: { engine: postgres, where: existing, url: [ 'postgresql://one', '${TWO}' ] } }")
	read := func(runner string) string {
		p, err := Read(file, "", environment("TWO", "postgresql://two", "HEMZO_RUNNER", runner))
		require.NoError(t, err)
		return p.Databases[0].URL
	}
	assert.Equal(t, "postgresql://one", read("0"))
	assert.Equal(t, "postgresql://two", read("7"))
	assert.Equal(t, read("comb-a"), read("comb-a"))
	used := map[string]bool{}
	for i := range 20 {
		used[read(fmt.Sprint("comb-", i))] = true
	}
	assert.Len(t, used, 2)
	assert.NotEmpty(t, read(""))
}

func TestVariables(t *testing.T) {
	file := write(t, "databases: { a: { engine: sqlite, version: '${V:-3}', env: { X: '$${Y} ${Z}' } } }")
	p, err := Read(file, "", environment("Z", "z"))
	require.NoError(t, err)
	assert.Equal(t, "3", p.Databases[0].Version)
	assert.Equal(t, "${Y} z", p.Databases[0].Env[0].Value)
}

func TestWhatIsWrong(t *testing.T) {
	const d = "databases:\n  apiary:\n    engine: sqlite\n"
	for _, c := range []struct{ name, text, profile, want, next string }{
		{"no YAML", "a: [", "", "hemzo.yaml:1:4: this is not YAML", ""},
		{"key twice", d + "    engine: redis\n", "", "hemzo.yaml:4:5: this is not YAML", ""},
		{"empty", "", "", "hemzo.yaml:1:1: the project file declares no database", "hemzo init"},
		{"unknown key", d + "    form: []\n", "", `hemzo.yaml:4:5: unknown key "form" in database "apiary"`,
			`did you mean "from"?`},
		{"unknown top key", "database: {}\n", "", `hemzo.yaml:1:1: unknown key "database"`, `"databases"`},
		{"unknown engine", "databases:\n  a: { engine: sqlight }\n", "",
			`hemzo.yaml:2:16: engine: expected sqlite, postgres, mariadb, mysql, redis, service, got "sqlight"`,
			`"sqlite"`},
		{"no engine", "databases:\n  a: { version: 3 }\n", "", `hemzo.yaml:2:8: database "a" lacks the key "engine"`,
			""},
		{"bad name", "databases:\n  A/b: { engine: sqlite }\n", "", `hemzo.yaml:2:3: databases: the name "A/b"`, ""},
		{"list for a word", d + "    reset: [truncation]\n", "",
			"hemzo.yaml:4:12: reset: expected word, got a list", ""},
		{"text for a number", d + "    spare: many\n", "", "hemzo.yaml:4:12: spare: expected a whole number", ""},
		{"text for a duration", d + "    wait: soon\n", "", "hemzo.yaml:4:11: wait: expected a duration", ""},
		{"text for a size", d + "    tmpfs: -1MB\n", "", "hemzo.yaml:4:12: tmpfs: expected a size", ""},
		{"missing folder", d + "    from:\n      - migrations: db/migration\n", "",
			"hemzo.yaml:5:21: migrations: there is no db/migration", ""},
		{"two in one item", d + "    from:\n      - migrations: db/migrations\n        data: db/reference\n", "",
			"hemzo.yaml:5:9: an item of from holds one of", ""},
		{"no meaning", d + "    from:\n      - data: db/reference\n        undo: x\n", "",
			"hemzo.yaml:6:9: undo has no meaning beside data", ""},
		{"no inputs", d + "    from:\n      - run: [x]\n", "", "hemzo.yaml:5:9: Hemzo has to know", "inputs: always"},
		{"bad pattern", d + "    from:\n      - migrations: db/migrations\n        skip: '[a'\n", "",
			`hemzo.yaml:6:15: skip: "[a" is not a pattern`, ""},
		{"unset variable", d + "    version: ${V}\n", "", "hemzo.yaml:4:14: the environment has no V", "${V:-default}"},
		{"no variable", d + "    version: '${V-x}'\n", "", "hemzo.yaml:4:14: ${V-x} is no variable", ""},
		{"unset in the profile", d + "profiles:\n  ci: { listen: '${V}' }\n", "ci",
			"hemzo.yaml:5:17: the environment has no V", ""},
		{"unknown profile", d + "profiles:\n  ci: {}\n", "cl", `there is no profile "cl"`, `"ci"`},
		{"unknown key in another profile", d + "profiles:\n  ci: { databases: { apiary: { urll: x } } }\n", "",
			`hemzo.yaml:5:32: unknown key "urll"`, `"url"`},
		{"existing without url", d + "    where: existing\n", "",
			"hemzo.yaml:4:12: database \"apiary\": where: existing needs a url", ""},
		{"unknown part", d + "    env: { X: '{urll}' }\n", "", `hemzo.yaml:4:12: {urll}: a connection has no "urll"`,
			`"url"`},
		{"unknown database in env", d + "env: { X: '{apiry.url}' }\n", "",
			`hemzo.yaml:4:8: {apiry.url}: there is no database "apiry"`, `"apiary"`},
		{"whose url", d + "env: { X: '{url}' }\n", "", "does not say which", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := Read(write(t, c.text), c.profile, environment())
			require.Error(t, err)
			assert.Equal(t, fault.Usage, fault.KindOf(err))
			assert.Contains(t, err.Error(), c.want)
			f := new(fault.Error)
			require.ErrorAs(t, err, &f)
			assert.Contains(t, f.Next, c.next)
		})
	}
}

func TestOneWriter(t *testing.T) {
	p, err := Read(write(t, "databases:\n  a: { engine: sqlite, env: { U: '{url}' } }\n  b: { engine: sqlite, env: "+
		"{ U: '{url}' } }\n"), "", environment())
	require.NoError(t, err)
	all, err := p.Choose()
	require.NoError(t, err)
	assert.ErrorContains(t, p.OneWriter(all), "hemzo.yaml:3:31: U is set by a and by b")
	one, err := p.Choose("b")
	require.NoError(t, err)
	assert.NoError(t, p.OneWriter(one), "two databases may set one variable where no command takes both")
	_, err = p.Choose("c")
	assert.ErrorContains(t, err, `declares no database "c"`)
}

func TestFind(t *testing.T) {
	file := write(t, "")
	found, err := Find(filepath.Join(filepath.Dir(file), "db", "migrations"), "")
	require.NoError(t, err)
	assert.Equal(t, file, found)
	_, err = Find(t.TempDir(), "")
	assert.ErrorContains(t, err, "no hemzo.yaml in")
	_, err = Find(".", "nowhere.yaml")
	assert.ErrorContains(t, err, "there is no project file")
}

// TestPage holds the page of keys against the reader: it lists what the
// reader knows.
func TestPage(t *testing.T) {
	const file, begin, end = "../../docs/project-file.md", "<!-- keys -->\n", "<!-- end of keys -->"
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	head, rest, ok := strings.Cut(string(b), begin)
	require.True(t, ok)
	table, tail, ok := strings.Cut(rest, end)
	require.True(t, ok)
	if *update {
		require.NoError(t, os.WriteFile(file, []byte(head+begin+Page()+end+tail), 0o644))
		return
	}
	assert.Equal(t, Page(), table, "go test ./internal/project -update writes it anew")
}

// TestSchema holds the schema against the reader: a value of each key's type
// in the schema is one that the reader takes, and none is left out.
func TestSchema(t *testing.T) {
	b, err := json.Marshal(Schema())
	require.NoError(t, err)
	var schema map[string]any
	require.NoError(t, json.Unmarshal(b, &schema))
	tried := 0
	var try func(s map[string]any, keys []key, wrap func(string) string)
	try = func(s map[string]any, keys []key, wrap func(string) string) {
		properties := s["properties"].(map[string]any)
		require.Len(t, properties, len(keys))
		for _, k := range keys {
			p, ok := properties[k.name].(map[string]any)
			require.True(t, ok, k.name)
			if k.keys != nil && k.name != "profiles" {
				inner := p
				open, shut := "{", "}"
				if v, ok := p["additionalProperties"].(map[string]any); ok {
					inner, open, shut = v, "{x: {", "}}"
				} else if v, ok := p["items"].(map[string]any); ok {
					inner, open, shut = v, "[{", "}]"
				}
				try(inner, k.keys, func(in string) string {
					return wrap(fmt.Sprintf("%s: %s%s%s", k.name, open, in, shut))
				})
				continue
			}
			tried++
			n, err := parse("f", []byte("{"+wrap(k.name+": "+sample(p))+"}"))
			require.NoError(t, err)
			root := filepath.Dir(write(t, ""))
			err = checker{root, environment()}.object(n, topKeys, "the file")
			if err != nil { // types that JSON Schema does not know
				assert.Regexp(t, "expected (a size|a duration|a port)|there is no", err.Error(), k.name)
			}
		}
	}
	try(schema, topKeys, func(in string) string { return in })
	assert.Greater(t, tried, 40)
}

func sample(schema map[string]any) string {
	if either, ok := schema["anyOf"].([]any); ok {
		return sample(either[0].(map[string]any))
	}
	if values, ok := schema["enum"].([]any); ok {
		return values[0].(string)
	}
	switch kind := schema["type"]; kind {
	case "boolean":
		return "true"
	case "integer":
		return "3"
	case "object":
		return "{}"
	}
	return "word"
}

func FuzzRead(f *testing.F) {
	f.Add(whole_)
	f.Add("databases: &x { a: *x }")
	f.Fuzz(func(t *testing.T, text string) {
		n, err := parse("f", []byte(text))
		if err == nil {
			_, _ = checked(n, ".", "", environment())
		}
	})
}

// TestWhoseFile: a file found above the working folder is obeyed only where
// this user or root has written it, and nobody else may put one there.
func TestWhoseFile(t *testing.T) {
	if os.Getuid() != 0 {
		t.Log("only root can give files away: the tests of root show this")
		return
	}
	root := t.TempDir()
	below := filepath.Join(root, "a", "b")
	require.NoError(t, os.MkdirAll(below, 0o755))
	file := filepath.Join(root, FileName)
	require.NoError(t, os.WriteFile(file, []byte("databases: {}"), 0o644))
	for _, theirs := range []string{file, root} {
		require.NoError(t, os.Chown(theirs, 4711, -1))
		_, err := Find(below, "")
		assert.Equal(t, fault.Refused, fault.KindOf(err), theirs)
		assert.ErrorContains(t, err, "belongs to uid 4711")
		found, err := Find(below, file)
		require.NoError(t, err, "named, it is trusted")
		assert.Equal(t, file, found)
		require.NoError(t, os.Chown(theirs, 0, -1))
	}
	_, err := Find(below, "")
	require.NoError(t, err)
}

// TestHostileFiles: what is no file, too large, too deep or names itself many
// times is an error, at once.
func TestHostileFiles(t *testing.T) {
	dir := t.TempDir()
	pipe := filepath.Join(dir, "pipe")
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	_, err := Read(pipe, "", os.LookupEnv)
	assert.ErrorContains(t, err, "not a regular file")
	names := "a0: &a0 [x, x, x, x, x, x, x, x, x, x]\n"
	for i := range 9 {
		names += fmt.Sprintf("a%d: &a%d [%s]\n", i+1, i+1,
			strings.Repeat(fmt.Sprintf("*a%d, ", i), 9)+fmt.Sprintf("*a%d", i))
	}
	for text, want := range map[string]string{
		"a: " + strings.Repeat("[", 20_000): "100 deep", strings.Repeat("- ", 20_000): "100 deep",
		strings.Repeat("{a: ", 20_000):       "100 deep",
		strings.Repeat("# honey\n", 200_000): "more than", names: "too large",
	} {
		file := filepath.Join(dir, FileName)
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		_, err := Read(file, "", os.LookupEnv)
		assert.Equal(t, fault.Usage, fault.KindOf(err))
		assert.ErrorContains(t, err, want)
	}
}

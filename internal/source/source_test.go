package source

import (
	"context"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/fault"
	"hemzo/internal/sqltext"
)

// folder writes files, given as "path: text", and returns where.
func folder(t *testing.T, files ...string) string {
	t.Helper()
	root := t.TempDir()
	for _, f := range files {
		name, text, _ := strings.Cut(f, ": ")
		path := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	return root
}

func read(root string, items ...Item) (*Plan, error) {
	return Read(context.Background(), root, items, SQL(sqltext.Dialect{}))
}

func names(t *testing.T, root string, item Item) (out []string) {
	t.Helper()
	plan, err := read(root, item)
	require.NoError(t, err)
	for _, s := range plan.Steps {
		out = append(out, s.Name)
	}
	return out
}

func TestOrder(t *testing.T) {
	for _, c := range []struct {
		name  string
		files []string
		item  Item
		want  []string
	}{
		{"part by part", []string{"m/1.10_b.sql: x", "m/1.9_a.sql: x", "m/10.sql: x", "m/9.sql: x"}, Item{},
			[]string{"1.9_a.sql", "1.10_b.sql", "9.sql", "10.sql"}},
		{"dates", []string{"m/2024-01-10_b.sql: x", "m/2024-01-05_a.sql: x", "m/2024_01_07_c.sql: x"}, Item{},
			[]string{"2024-01-05_a.sql", "2024_01_07_c.sql", "2024-01-10_b.sql"}},
		{"a number within a name is no part", []string{"m/1_2nd_hive.sql: x", "m/1_1.sql: x"}, Item{},
			[]string{"1_2nd_hive.sql", "1_1.sql"}},
		{"numbers longer than a machine's",
			[]string{"m/99999999999999999999999.sql: x", "m/100000000000000000000000.sql: x"}, Item{},
			[]string{"99999999999999999999999.sql", "100000000000000000000000.sql"}},
		{"without a number last", []string{"m/views.sql: x", "m/1_a.sql: x"}, Item{}, []string{"1_a.sql", "views.sql"}},
		{"by name", []string{"m/9_a.sql: x", "m/10_b.sql: x"}, Item{ByName: true}, []string{"10_b.sql", "9_a.sql"}},
		{"undo set aside, others passed over",
			[]string{"m/1_a.up.sql: x", "m/1_a.down.sql: x", "m/.2_b.sql: x", "m/README.md: x"},
			Item{Undo: []string{"*.down.sql"}}, []string{"1_a.up.sql"}},
		{"only and skip", []string{"m/1_a.sql: x", "m/2_b.sql: x", "m/3_a.sql: x"},
			Item{Only: []string{"*_a.sql"}, Skip: []string{"3*"}}, []string{"1_a.sql"}},
		{"a numbered folder is one", []string{"m/2/10.sql: x", "m/2/9.sql: x", "m/1_a.sql: x", "m/notes/1.sql: x"},
			Item{},
			[]string{"1_a.sql", "2"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			c.item.Migrations = []string{"m"}
			assert.Equal(t, c.want, names(t, folder(t, c.files...), c.item))
		})
	}
}

func TestFoldersAreMergedIntoOneOrder(t *testing.T) {
	root := folder(t, "a/1_x.sql: x", "a/3_x.sql: x", "b/2_y.sql: y")
	assert.Equal(t, []string{"1_x.sql", "2_y.sql", "3_x.sql"}, names(t, root, Item{Migrations: []string{"a", "b"}}))
}

func TestWhatCannotBeRead(t *testing.T) {
	for _, c := range []struct {
		name  string
		files []string
		item  Item
		want  []string // parts of the error
	}{
		{"same place and name", []string{"m/0003_x.sql: a", "m/3_x.sql: b"}, Item{Migrations: []string{"m"}},
			[]string{"same place and name", "m/0003_x.sql", "m/3_x.sql"}},
		{"do and undo", []string{"m/1_x.up.sql: a", "m/1_x.down.sql: b"}, Item{Migrations: []string{"m"}},
			[]string{"m/1_x.down.sql looks like the file that undoes m/1_x.up.sql", `undo: "*.down.sql"`}},
		{"plain and undo", []string{"m/1_x.sql: a", "m/1_x_undo.sql: b"}, Item{Migrations: []string{"m"}},
			[]string{`undo: "*_undo.sql"`}},
		{"empty folder", []string{"m/README: a"}, Item{Migrations: []string{"m"}}, []string{"no migration in m"}},
		{"missing folder", nil, Item{Migrations: []string{"m"}}, []string{"m: cannot read it"}},
		{"empty numbered folder", []string{"m/1/x.txt: a"}, Item{Migrations: []string{"m"}},
			[]string{"no SQL file in m/1"}},
		{"binary", []string{"m/1.sql: ab\nc\x00d"}, Item{Migrations: []string{"m"}},
			[]string{"m/1.sql:2:2", "zero byte"}},
		{"not UTF-8", []string{"m/1.sql: ab\nč\xff"}, Item{Migrations: []string{"m"}},
			[]string{"m/1.sql:2:2", "UTF-8"}},
		{"marker twice", []string{"m/1.sql: -- do\na\n-- do\n"},
			Item{Migrations: []string{"m"}, Apply: "-- do", Back: "-- undo"}, []string{"m/1.sql:3:1", "twice"}},
		{"ragged row", []string{"d/h.csv: a,b\n1,2\n3\n"}, Item{Data: []string{"d"}},
			[]string{"d/h.csv:3:1", "1 field, the header 2 columns"}},
		{"column twice", []string{"d/h.csv: a,a\n"}, Item{Data: []string{"d"}}, []string{"d/h.csv:1:1", `"a"`}},
		{"open quote", []string{"d/h.csv: a\n\"x\n"}, Item{Data: []string{"d"}},
			[]string{"d/h.csv:2:1", "never closed"}},
		{"quote inside", []string{"d/h.csv: a\nx\"y\n"}, Item{Data: []string{"d"}}, []string{"d/h.csv:2:2"}},
		{"empty CSV", []string{"d/h.csv: "}, Item{Data: []string{"d"}}, []string{"d/h.csv:1:1", "empty"}},
		{"pattern without a file", nil, Item{Command: []string{"x"}, Inputs: []string{"app/**/*.rb"}},
			[]string{"app/**/*.rb", "no file"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := read(folder(t, c.files...), c.item)
			require.Error(t, err)
			assert.Equal(t, fault.Usage, fault.KindOf(err))
			text := err.Error()
			if f := new(fault.Error); assert.ErrorAs(t, err, &f) {
				text += " " + f.Next
			}
			for _, part := range c.want {
				assert.Contains(t, text, part)
			}
		})
	}
}

func TestMarkers(t *testing.T) {
	item := Item{Migrations: []string{"m"}, Apply: "-- forth", Back: "-- back"}
	for text, want := range map[string]Script{
		"-- c\n-- forth\ncreate;\n-- back\ndrop;\n": {Text: "create;\n", First: 3},
		"-- back\ndrop;\n-- forth\ncreate;\n":       {Text: "create;\n", First: 4},
		"create;\n-- back\ndrop;\n":                 {Text: "create;\n", First: 1},
		"create;\n":                                 {Text: "create;\n", First: 1},
	} {
		plan, err := read(folder(t, "m/1.sql: "+text), item)
		require.NoError(t, err)
		want.File = "m/1.sql"
		assert.Equal(t, want, plan.Steps[0].Scripts[0], text)
	}
}

func TestTable(t *testing.T) {
	table, err := readTable("d/02_hive_types.csv", tableName("02_hive_types.csv"),
		"id,name\r\n1,\"a,\"\"b\"\"\nc\"\r\n\n2,\n3,\"\"")
	require.NoError(t, err)
	assert.Equal(t, &Table{
		File: "d/02_hive_types.csv", Name: "hive_types", Columns: []string{"id", "name"},
		Rows:  [][]Field{{{Text: "1"}, {Text: "a,\"b\"\nc"}}, {{Text: "2"}, {Null: true}}, {{Text: "3"}, {}}},
		Lines: []int{2, 5, 6},
	}, table)
}

func FuzzTable(f *testing.F) {
	f.Add("a,b\n1,\"x\"\"\n\"\r\n")
	f.Fuzz(func(t *testing.T, text string) {
		table, err := readTable("f.csv", "f", text)
		if err != nil {
			return
		}
		for _, row := range table.Rows {
			if len(row) != len(table.Columns) {
				t.Fatalf("%q gives a ragged row", text)
			}
		}
	})
}

// layers returns the fingerprints of the layers of a folder's migrations.
func layers(t *testing.T, files ...string) []string {
	t.Helper()
	plan, err := read(folder(t, files...), Item{Migrations: []string{"m"}})
	require.NoError(t, err)
	return Chain([]string{"sqlite", "3"}, plan.Steps)
}

func TestFingerprints(t *testing.T) {
	old := layers(t, "m/1_a.sql: create table a(x); insert into a values(1);", "m/2_b.sql: b", "m/3_c.sql: c")
	assert.Equal(t, old, layers(t, "m/1_a.sql: -- new words\n\ncreate table a(x);;\n\n insert into a values(1)\n",
		"m/2_b.sql: b;", "m/3_c.sql: c"),
		"comments and blank space between statements change nothing")
	inside := layers(t, "m/1_a.sql: create table a(x) ; insert into  a values(1);", "m/2_b.sql: b", "m/3_c.sql: c")
	assert.Equal(t, old[0], inside[0])
	assert.NotEqual(t, old[1], inside[1], "inside a statement they count")
	edited := layers(t, "m/1_a.sql: create table a(x); insert into a values(1);", "m/2_b.sql: B", "m/3_c.sql: c")
	assert.Equal(t, old[:2], edited[:2])
	assert.NotEqual(t, old[3], edited[3], "what stands on an edited layer is another")
	joined := layers(t, "m/1_a.sql: create table a(x)", "m/1_b.sql: insert into a values(1)", "m/2_b.sql: b",
		"m/3_c.sql: c")
	assert.NotContains(t, joined[1:], old[1], "two steps are not one")
}

func TestCommandInputs(t *testing.T) {
	root := folder(t, "app/x/migrations/1.py: a", "app/y/migrations/2.py: b", "app/other.py: c")
	item := Item{Command: []string{"bin/app", "migrate"}, Inputs: []string{"app/**/migrations/*"}}
	before, err := read(root, item)
	require.NoError(t, err)
	assert.Equal(t, []string{"app/x/migrations/1.py", "app/y/migrations/2.py"},
		slices.Sorted(maps.Keys(before.Steps[0].Command.Inputs)))
	require.NoError(t, os.WriteFile(filepath.Join(root, "app/other.py"), []byte("C"), 0o644))
	same, err := read(root, item)
	require.NoError(t, err)
	assert.Equal(t, before.Steps[0].Hash, same.Steps[0].Hash)
	require.NoError(t, os.WriteFile(filepath.Join(root, "app/x/migrations/1.py"), []byte("a "), 0o644))
	after, err := read(root, item)
	require.NoError(t, err)
	assert.NotEqual(t, before.Steps[0].Hash, after.Steps[0].Hash)
}

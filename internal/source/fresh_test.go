package source

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/sqltext"
)

// TestFresh: sources need not be read again as long as nothing that was read
// has changed; what is too young to tell counts as changed.
func TestFresh(t *testing.T) {
	root := t.TempDir()
	put := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text), 0o644))
	}
	put("m/1.sql", "SELECT 1;")
	put("m/2_numbered/a.sql", "SELECT 2;")
	put("d/hive.csv", "id\n1\n")
	items := []Item{{Migrations: []string{"m"}}, {Data: []string{"d"}}}
	read := func(items []Item) *Plan {
		p, err := Read(t.Context(), root, items, SQL(sqltext.Dialect{}))
		require.NoError(t, err)
		assert.False(t, p.Fresh(), "written a moment ago")
		for i := range p.seen { // read an hour later
			p.seen[i].when = p.seen[i].when.Add(time.Hour)
		}
		return p
	}
	for _, change := range []func(){
		func() { put("m/1.sql", "SELECT 3;") },
		func() { put("m/3.sql", "SELECT 4;") },
		func() { put("m/2_numbered/b.sql", "SELECT 5;") },
		func() { put("d/hive.csv", "id\n2\n") },
		func() { require.NoError(t, os.Remove(filepath.Join(root, "m", "3.sql"))) },
		func() { require.NoError(t, os.Rename(filepath.Join(root, "d"), filepath.Join(root, "elsewhere"))) },
	} {
		p := read(items)
		assert.True(t, p.Fresh())
		change()
		assert.False(t, p.Fresh())
	}
	put("app/in.txt", "x")
	assert.False(t, read([]Item{{Command: []string{"true"}, Inputs: []string{"app/*"}}}).Fresh(),
		"a command's inputs are looked for each time")
}

// Package rules holds the rules of this repository's own code: who may import
// whom, how long lines and functions are, and that nothing outside an engine's
// folder knows it by name.
package rules

import (
	"bytes"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// layers are the packages from the bottom up: each may import those of lower
// layers alone. What is not listed is at the top.
var layers = [][]string{
	{"pattern"},
	{"fault", "turn", "filelock", "sqltext"},
	{"source", "container", "relay"},
	{"relay/pgwire", "relay/mywire"},
	{"engine"},
	{"engine/redis/resp", "engine/redis/rdb"},
	{"engine/folder", "engine/launch", "engine/sessionlock", "engine/postgres/pg", "engine/postgres/wal"},
	{"engine/percopy", "engine/postgres/schema", "engine/gating"},
	{"engine/postgres/witness"},
	{"engine/postgres/restore"},
	{"engine/postgres", "engine/sqlite", "engine/mariadb", "engine/redis", "engine/service", "engine/fake"},
	{"engine/all"},
	{"place", "project"},
	{"handover", "reset"},
	{"template"},
	{"copies"},
	{"control", "engine/enginetest"},
	{"compare"},
	{"cli", "bench"},
}

// long are the functions that may be longer than lineLimit lines, with why.
var long = map[string]string{
	"bench.containers": "one measurement after another", "bench.reset": "one measurement after another",
	"bench.postgres": "one measurement after another", "bench.resets": "one measurement after another",
	"bench.inPlace": "one measurement after another", "bench.takesBeside": "one measurement after another",
	"cli.resetCommand": "the texts of its flags", "cli.takeCommand": "the texts of its flags",
	"sqltext.split": "one scan over the text, a case for each state", "project.value": "a case for each kind of value",
}

const (
	lineLimit   = 60  // of a function
	columnLimit = 120 // of a line
)

// file is one file of Go.
type file struct {
	path, folder string // folder below internal, "" elsewhere
	text         []byte
	tree         *ast.File
	set          *token.FileSet
}

func files(t *testing.T) (all []file) {
	t.Helper()
	root := filepath.Join("..", "..")
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() && strings.HasPrefix(d.Name(), ".") && len(d.Name()) > 2 {
			return errorOr(err, fs.SkipDir)
		}
		if filepath.Ext(path) != ".go" {
			return nil
		}
		f := file{path: path, set: token.NewFileSet()}
		if below, ok := strings.CutPrefix(filepath.ToSlash(filepath.Dir(path)), "../../internal/"); ok {
			f.folder = below
		}
		if f.text, err = os.ReadFile(path); err != nil {
			return err
		}
		f.tree, err = parser.ParseFile(f.set, path, f.text, parser.ParseComments)
		all = append(all, f)
		return err
	})
	require.NoError(t, err)
	require.Greater(t, len(all), 100)
	return all
}

func errorOr(err, other error) error {
	if err != nil {
		return err
	}
	return other
}

func (f file) isTest() bool { return strings.HasSuffix(f.path, "_test.go") }

func layer(folder string) int {
	for i, names := range layers {
		if slices.Contains(names, folder) {
			return i
		}
	}
	return len(layers)
}

// TestImports: imports point downwards.
func TestImports(t *testing.T) {
	for _, f := range files(t) {
		if f.isTest() {
			continue
		}
		for _, i := range f.tree.Imports {
			path, _ := strconv.Unquote(i.Path.Value)
			if below, ok := strings.CutPrefix(path, "hemzo/internal/"); ok {
				assert.Less(t, layer(below), layer(f.folder), "%s imports %s", f.path, path)
			}
		}
	}
}

// TestEngines: outside an engine's folder no code names it, and what only some
// engines can do is asked of Hosting alone.
func TestEngines(t *testing.T) {
	names := []string{`"postgres"`, `"sqlite"`, `"mariadb"`, `"redis"`, `"service"`, `"fake"`}
	for _, f := range files(t) {
		if f.isTest() || f.folder == "" || f.folder == "bench" || strings.HasPrefix(f.folder, "engine") {
			continue
		}
		ast.Inspect(f.tree, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.BasicLit:
				// the key of that name
				known := slices.Contains(names, n.Value) && f.folder+n.Value != `project"service"`
				assert.False(t, known, "%s names the engine %s", f.set.Position(n.Pos()), n.Value)
			case *ast.TypeAssertExpr:
				if s, ok := n.Type.(*ast.SelectorExpr); ok {
					if x, ok := s.X.(*ast.Ident); ok {
						assert.NotEqual(t, "engine", x.Name, "%s asserts engine.%s", f.set.Position(n.Pos()),
							s.Sel.Name)
					}
				}
			}
			return true
		})
	}
}

// TestSize: lines and functions can be read at once.
func TestSize(t *testing.T) {
	found := map[string]bool{}
	for _, f := range files(t) {
		n := 0
		for line := range bytes.Lines(f.text) {
			n++
			width := len([]rune(strings.TrimRight(string(line), "\n")))
			assert.LessOrEqual(t, width, columnLimit, "%s:%d", f.path, n)
		}
		for _, d := range f.tree.Decls {
			fn, ok := d.(*ast.FuncDecl)
			if !ok || f.isTest() {
				continue
			}
			size := f.set.Position(fn.End()).Line - f.set.Position(fn.Pos()).Line + 1
			name := filepath.Base(filepath.Dir(f.path)) + "." + fn.Name.Name
			if long[name] != "" {
				found[name] = found[name] || size > lineLimit
				continue
			}
			assert.LessOrEqual(t, size, lineLimit, "%s %s", f.path, fn.Name.Name)
		}
	}
	for name := range long {
		assert.True(t, found[name], "%s is not long any more", name)
	}
}

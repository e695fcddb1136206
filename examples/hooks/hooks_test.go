package hooks

import (
	"go/format"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestFor: each language is known by its files, and what is printed for Go is Go.
func TestFor(t *testing.T) {
	for file, want := range map[string]string{"go.mod": "go", "pytest.ini": "python", "pom.xml": "java",
		"package.json": "node"} {
		folder := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(folder, file), nil, 0o644))
		language, lines := For(folder)
		assert.Equal(t, want, language)
		assert.Contains(t, lines, "/reset?after=")
		if language == "go" {
			formatted, err := format.Source([]byte(lines))
			require.NoError(t, err)
			assert.Equal(t, lines, string(formatted))
		}
	}
	language, lines := For(t.TempDir())
	assert.Empty(t, language+lines)
}

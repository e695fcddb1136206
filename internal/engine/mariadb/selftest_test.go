package mariadb_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
	"hemzo/internal/engine/enginetest"
	"hemzo/internal/engine/mariadb"
	"hemzo/internal/place"
)

// TestSelfTest: the witness sees all kinds of work; one that it does not see is named. What
// came of it is remembered.
func TestSelfTest(t *testing.T) {
	e := here().engine
	enginetest.Home(t, e)
	spec := engine.Spec{Database: "honey"}
	s, err := place.Open(t.Context(), e, place.Wanted{Database: "honey", Where: []string{"memory"}, Spec: spec,
		Ready: time.Minute})
	require.NoError(t, err)
	defer s.Close()
	work := engine.NewID(engine.Work)
	lock, release, err := s.Own(t.Context())
	require.NoError(t, err)
	defer release()
	owned := engine.Facts{Format: engine.Format, Owner: engine.Owner{Lock: lock}}
	require.NoError(t, s.Create(t.Context(), work, spec, owned))
	defer func() { require.NoError(t, s.Drop(t.Context(), work)) }()
	found, err := s.Find(t.Context(), work)
	require.NoError(t, err)
	c, err := mariadb.WitnessOf(t.Context(), place.Inner(s), found)
	require.NoError(t, err)
	defer c.Close()
	require.Empty(t, c.Untrusted)
	problem, err := c.SelfTest(t.Context(), nil, nil)
	require.NoError(t, err)
	require.Empty(t, problem)
	for work, touches := range map[string]string{"SELECT * FROM a": "a", "INSERT INTO log VALUES ('x')": "w"} {
		problem, err = c.SelfTest(t.Context(), []string{work}, []string{touches})
		require.NoError(t, err)
		require.Contains(t, problem, "the table "+touches)
	}
	kept := t.TempDir()
	for range 2 {
		problem, err = c.TrustBuild(t.Context(), kept)
		require.NoError(t, err)
		require.Empty(t, problem)
	}
	files, err := filepath.Glob(filepath.Join(kept, "tested-*.json"))
	require.NoError(t, err)
	require.Len(t, files, 1)
	b, err := os.ReadFile(files[0])
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(files[0], []byte(strings.Replace(string(b), `"problem":""`, `"problem":"swarms"`, 1)),
		0o600))
	problem, err = c.TrustBuild(t.Context(), kept)
	require.NoError(t, err)
	require.Equal(t, "swarms", problem)
	require.NoError(t, os.WriteFile(files[0], []byte("{"), 0o600)) // cut short
	problem, err = c.TrustBuild(t.Context(), kept)
	require.NoError(t, err)
	require.Empty(t, problem)
}

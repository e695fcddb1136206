package postgres

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hemzo/internal/reset"
)

// TestNewFile: a table that a reset gave another file is watched in that one.
func TestNewFile(t *testing.T) {
	s, copied, fresh := beginWith(t, whole, `CREATE TABLE jar (id serial PRIMARY KEY, label text);
		INSERT INTO jar (label) SELECT 'linden' FROM generate_series(1, 50)`)
	want := contents(t, s, fresh.ID)
	o, err := reset.Open(t.Context(), s, copied, 5*time.Second)
	require.NoError(t, err)
	defer o.Close()
	c, err := dialTest(t.Context(), s, copied.ID, s.owner(copied.Facts))
	require.NoError(t, err)
	defer c.Close(context.Background())
	for range 6 {
		for _, sql := range []string{
			"INSERT INTO jar (label) SELECT repeat('x', 1000) FROM generate_series(1, 1000)",
			"UPDATE jar SET label = 'late' WHERE id = 3", "INSERT INTO jar (label) VALUES ('late')",
		} {
			_, err = c.Exec(t.Context(), sql)
			require.NoError(t, err)
			_, err = o.Do(t.Context(), reset.Options{})
			require.NoError(t, err)
			require.Equal(t, want, contents(t, s, copied.ID))
		}
	}
}

package postgres

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
)

// rowsOf reads all rows of a table: how often each is there, by its key, and
// without a key by itself.
func rowsOf(t *testing.T, conn *pgx.Conn, name string, key []string) map[string][]string {
	t.Helper()
	of := "t::text"
	if key != nil {
		of = "ROW(" + strings.Join(key, ", ") + ")::text"
	}
	rows, err := conn.Query(t.Context(), "SELECT "+of+", t::text FROM "+name+" t")
	require.NoError(t, err)
	all := map[string][]string{}
	var k, whole string
	_, err = pgx.ForEachRow(rows, []any{&k, &whole}, func() error {
		all[k] = append(all[k], whole)
		return nil
	})
	require.NoError(t, err)
	return all
}

// TestChangesByAnyKey: whatever tells rows apart, and in whatever order the
// server would sort it, what was added, removed and altered is told as
// comparing all rows tells it.
func TestChangesByAnyKey(t *testing.T) {
	tables := map[string][]string{"by_number": {"id"}, "by_text": {"code"}, "by_two": {"at", "label"},
		"by_nothing": nil, "by_big": {"id"}}
	s, copied, _ := beginWith(t, whole, `
		CREATE TABLE by_number (id int PRIMARY KEY, v text); INSERT INTO by_number SELECT g, md5(g::text)
			FROM generate_series(-300, 300) g;
		CREATE TABLE by_text (code text PRIMARY KEY, v int); INSERT INTO by_text SELECT chr(32 + g % 90) ||
			CASE g % 3 WHEN 0 THEN 'É' WHEN 1 THEN 'e ' ELSE 'Z' END || g, g FROM generate_series(1, 400) g;
		CREATE TABLE by_two (label text, at int, v text, PRIMARY KEY (at,
			label)); INSERT INTO by_two SELECT 'l' || g % 7, g % 50, NULL FROM generate_series(1, 340) g
			ON CONFLICT DO NOTHING;
		CREATE TABLE by_nothing (a int, b text); INSERT INTO by_nothing SELECT g % 5, CASE WHEN g % 2 = 0
			THEN 'x,"y' END FROM generate_series(1, 300) g;
		CREATE TABLE by_big (v text, id bigint PRIMARY KEY); INSERT INTO by_big SELECT '', g * 10000000000
			FROM generate_series(1, 200) g;`)
	seed := rand.Uint64()
	random := rand.New(rand.NewPCG(seed, 1))
	conn, err := dialTest(t.Context(), s, copied.ID, s.owner(copied.Facts))
	require.NoError(t, err)
	defer conn.Close(context.Background())
	before := map[string]map[string][]string{}
	for name, key := range tables {
		before[name] = rowsOf(t, conn, name, key)
	}
	for range 6 {
		n := random.IntN(300)
		for _, sql := range []string{
			fmt.Sprintf("DELETE FROM by_number WHERE id %% 13 = %d; UPDATE by_number SET v = 'u' WHERE id %% 17 = "+
				"%d; INSERT INTO by_number VALUES (%d, 'new') ON CONFLICT DO NOTHING", n%13, n%17, n*7),
			fmt.Sprintf("DELETE FROM by_text WHERE v = %d; UPDATE by_text SET v = -v WHERE v %% 11 = %d; UPDATE "+
				"by_text SET code = code || 'ß' WHERE v = %d", n, n%11, n+1),
			fmt.Sprintf("DELETE FROM by_two WHERE at = %d; UPDATE by_two SET v = 'x' WHERE at %% 9 = %d; INSERT "+
				"INTO by_two VALUES ('L%d', 7) ON CONFLICT DO NOTHING", n%50, n%9, n%20),
			fmt.Sprintf("DELETE FROM by_nothing WHERE ctid = (SELECT ctid FROM by_nothing WHERE a = %d LIMIT 1); "+
				"INSERT INTO by_nothing VALUES (%d, 'x,\"y'), (NULL, NULL); "+
				"UPDATE by_nothing SET b = '' WHERE a = %d",
				n%5, n%5, n%7),
			fmt.Sprintf("UPDATE by_big SET v = 'b' WHERE id / 10000000000 = %d; INSERT INTO by_big VALUES ('n', "+
				"%d) ON CONFLICT DO NOTHING", n%200, n),
		} {
			_, err := conn.Exec(t.Context(), sql, pgx.QueryExecModeSimpleProtocol)
			require.NoError(t, err, sql)
		}
		d, err := s.Open(t.Context(), copied.ID, engine.Session{})
		require.NoError(t, err)
		changes, err := d.Changes(t.Context(), engine.Compare{Start: copied.Facts.Start, Rows: 3})
		require.NoError(t, err)
		require.NoError(t, d.Close())
		told := map[string]engine.TableChange{}
		for _, c := range changes.Tables {
			assert.LessOrEqual(t, len(c.Rows), 3)
			told[c.Name] = engine.TableChange{Added: c.Added, Removed: c.Removed, Altered: c.Altered}
		}
		for name, key := range tables {
			assert.Equal(t, compared(before[name], rowsOf(t, conn, name, key)), told[name], "%s, seed %d", name, seed)
		}
	}
}

// compared counts how rows differ, each with its key.
func compared(before, after map[string][]string) (c engine.TableChange) {
	for key, was := range before {
		now := after[key]
		for i := range max(len(was), len(now)) {
			switch {
			case i >= len(now):
				c.Removed++
			case i >= len(was):
				c.Added++
			case was[i] != now[i]:
				c.Altered++
			}
		}
	}
	for key, now := range after {
		if before[key] == nil {
			c.Added += int64(len(now))
		}
	}
	return c
}

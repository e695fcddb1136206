package reset

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
	"hemzo/internal/engine/sqlite"
)

var ctx = context.Background()

// desk is a server with a copy on it.
type desk struct {
	*testing.T
	server engine.Server
	id     string
}

func newDesk(t *testing.T) *desk {
	t.Helper()
	server, err := sqlite.Engine{}.Hosting().Embedded(ctx, filepath.Join(t.TempDir(), "sqlite"), engine.Spec{})
	require.NoError(t, err)
	t.Cleanup(func() { server.Close() })
	work, template := engine.NewID(engine.Work), engine.TemplateID("0123456789abcdef")
	facts := engine.Facts{Format: engine.Format, Name: "editor", Start: template}
	require.NoError(t, server.Create(ctx, work, engine.Spec{}, facts))
	d := &desk{T: t, server: server, id: work}
	d.sql("CREATE TABLE hive (id INTEGER PRIMARY KEY, label); CREATE TABLE outbox (x); INSERT INTO hive VALUES (1, " +
		"'a')")
	require.NoError(t, server.Rename(ctx, work, template, facts))
	d.id = engine.NewID(engine.Copy)
	require.NoError(t, server.Copy(ctx, template, d.id, facts))
	return d
}

func (d *desk) sql(text string) (first any) {
	d.Helper()
	db, err := d.server.Open(ctx, d.id, engine.Session{Wait: time.Second})
	require.NoError(d, err)
	defer db.Close()
	require.NoError(d, db.Query(ctx, text, engine.Sink{Row: func(r []any) error { first = r[0]; return nil }}))
	return first
}

func (d *desk) entry() engine.Entry {
	d.Helper()
	e, err := d.server.Find(ctx, d.id)
	require.NoError(d, err)
	return e
}

func (d *desk) reset(o Options) *Report {
	d.Helper()
	o.Wait = time.Second
	r, err := Do(ctx, d.server, d.entry(), o)
	require.NoError(d, err)
	return r
}

// TestBaselinesStandForOneState: that nobody wrote since a reset to one state
// says nothing of another.
func TestBaselinesStandForOneState(t *testing.T) {
	d := newDesk(t)
	assert.Empty(t, d.reset(Options{}).Way, "a new copy is untouched")
	d.sql("INSERT INTO hive VALUES (2, 'b'); INSERT INTO outbox VALUES ('mail')")
	kept, err := Snapshot(ctx, d.server, d.entry(), "seeded", engine.Session{Wait: time.Second})
	require.NoError(t, err)

	assert.NotEmpty(t, d.reset(Options{To: kept.ID}).Way, "that a copy equals a snapshot was not noted")
	assert.Empty(t, d.reset(Options{To: kept.ID}).Way)
	changes, err := Changes(ctx, d.server, d.entry(), 0, time.Second)
	require.NoError(t, err)
	assert.Len(t, changes.Tables, 2, "untouched since the snapshot is not untouched since the start")

	keep := Options{Keep: []string{"outbox"}}
	assert.Equal(t, []string{"outbox"}, d.reset(keep).Kept)
	assert.Empty(t, d.reset(keep).Way)
	assert.Equal(t, int64(1), d.sql("SELECT count(*) FROM outbox"))
	assert.NotEmpty(t, d.reset(Options{Keep: []string{"other"}}).Way, "other tables to keep, another state")
	assert.Equal(t, int64(0), d.sql("SELECT count(*) FROM outbox"))
	d.sql("INSERT INTO outbox VALUES ('mail')")
	d.reset(keep)
	assert.NotEmpty(t, d.reset(Options{Way: engine.Snapshot, Keep: keep.Keep}).Way, "a snapshot keeps nothing")
	assert.Equal(t, int64(0), d.sql("SELECT count(*) FROM outbox"))
}

// TestUnfinished: a copy whose reset was begun and not finished is looked at
// whatever was noted before.
func TestUnfinished(t *testing.T) {
	d := newDesk(t)
	require.NoError(t, d.server.UpdateFacts(ctx, d.id, func(f *engine.Facts) { f.Resetting = true }))
	d.reset(Options{})
	assert.False(t, d.entry().Facts.Resetting)
	assert.Empty(t, d.reset(Options{}).Way)
}

// TestOpened: a copy held open for many resets; each is exact.
func TestOpened(t *testing.T) {
	d := newDesk(t)
	o, err := Open(ctx, d.server, d.entry(), time.Second)
	require.NoError(t, err)
	defer o.Close()
	for i := range 20 {
		way := []engine.Way{engine.Truncation, engine.Snapshot}[i%2]
		d.sql("DELETE FROM hive; INSERT INTO hive VALUES (9, 'z')")
		r, err := o.Do(ctx, Options{Way: way})
		require.NoError(t, err)
		assert.Equal(t, way, r.Way)
		assert.Equal(t, "a", d.sql("SELECT label FROM hive"))
		r, err = o.Do(ctx, Options{Way: way})
		require.NoError(t, err)
		assert.Empty(t, r.Way)
		assert.Empty(t, d.reset(Options{Way: way}).Way, "other processes see what this one knows")
	}
}

func TestStartStateChanged(t *testing.T) {
	d := newDesk(t)
	start := d.server.Connection(d.entry().Facts.Start, engine.Facts{}).File
	require.NoError(t, os.Chmod(start, 0o600))
	f, err := os.OpenFile(start, os.O_WRONLY|os.O_APPEND, 0)
	require.NoError(t, err)
	_, err = f.WriteString("x")
	require.NoError(t, err)
	require.NoError(t, f.Close())
	_, err = Do(ctx, d.server, d.entry(), Options{})
	assert.ErrorContains(t, err, "is not as it was made: somebody changed it")
	require.NoError(t, d.server.Drop(ctx, d.entry().Facts.Start))
	_, err = Do(ctx, d.server, d.entry(), Options{})
	assert.ErrorContains(t, err, "is gone")
	_, err = Changes(ctx, d.server, d.entry(), 0, 0)
	assert.ErrorContains(t, err, "is gone")
}

package witness

import (
	"context"
	"errors"
	"fmt"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/engine/postgres/wal"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"golang.org/x/sys/unix"
)

// ErrSchema says that a look found the schema changed.
var ErrSchema = Cannot{Why: "the schema was changed"}

// isUndefinedObject reports whether an error says that something of the baseline is not
// there any more.
func isUndefinedObject(err error) bool {
	told, ok := errors.AsType[*pgconn.PgError](err)
	return ok && slices.Contains([]string{pg.InternalError, pg.UndefinedTable, pg.UndefinedColumn, pg.InvalidSchema,
		pg.WrongObjectType}, told.Code)
}

// Touched is what differs from a baseline, by its place there.
type Touched struct {
	Tables   []int
	Counters []int
	Catalogs []int        // that were written to, by their places, though the schema is the same
	Idle     bool         // no transaction has been here
	Moved    bool         // something has another file, which the log is not understood without
	Far      bool         // the log has become too long, or its files are gone: the next look needs another mark
	At       wal.Position // in the log, of the moment that this is true of; 0 where there is none
}

// Nothing reports whether no table and no counter differs.
func (t Touched) Nothing() bool { return len(t.Tables)+len(t.Counters) == 0 }

// Compare asks what differs from a baseline. It fails with a Cannot where
// that cannot be told, or is more than rows and counters.
func (l *Look) Compare(ctx context.Context, conn *pgx.Conn, base Baseline) (t Touched, err error) {
	t, ok, err := l.Quick(ctx, conn, true, base)
	switch {
	case ok || err != nil:
		return t, err
	case base.Exact:
		t, err = l.AskMap(ctx, conn, base)
	default:
		t, err = l.readRows(ctx, conn, base)
	}
	if isUndefinedObject(err) {
		err = ErrSchema
	}
	if err != nil {
		return t, err
	}
	return l.recordResult(t, base)
}

// Quick is Compare as far as the numbers of transactions and the log tell,
// which takes no session inside the database; false where they do not. The
// moment that it is true of is noted, also where it cannot tell more.
func (l *Look) Quick(ctx context.Context, conn *pgx.Conn, inside bool, base Baseline) (t Touched, ok bool,
	err error) {
	id := l.ID
	if inside && l.known {
		id = "" // the session is in that database, whatever it is called now
	}
	m, err := l.Server.Moment(ctx, conn, id, l.OID, l.Keepers...)
	if err == nil && id != "" && (m.OID == 0 || l.OID != 0 && m.OID != l.OID) {
		err = ErrGone
	}
	if err != nil {
		return t, false, err
	}
	if id != "" {
		l.OID, l.known = m.OID, inside
	}
	l.Writers, l.Running = m.Writers, m.Running
	// No transaction has been here since the last look, or since it was made, and
	// none is under way: the next number is that behind the last one that ended.
	birth, _, _ := strings.Cut(l.Birth, " ")
	if base.Quiet && m.Writers == 0 &&
		(m.Next == l.cleanXID || m.Oldest == m.Next && l.FromStart && birth == strconv.FormatInt(m.Next-1, 10)) {
		return Touched{Idle: true}, true, nil
	}
	l.now, l.far = m, false
	if l.Server.Trust().Log {
		var took int64
		t, took, ok, err = l.logged(ctx, conn, inside, base, m)
		if took == m.Next && m.Oldest == m.Next {
			l.now.Next, l.now.Oldest = took+1, took+1 // it was to learn this
		}
	}
	if !ok || err != nil {
		return Touched{}, false, err
	}
	t, err = l.recordResult(t, base)
	return t, true, err
}

// recordResult notes of which moment it is true what was touched. Large objects
// cannot be put back row by row.
func (l *Look) recordResult(t Touched, base Baseline) (Touched, error) {
	t.At, t.Far = l.now.At, l.far
	if slices.ContainsFunc(t.Tables, func(i int) bool { return base.Tables[i-1].Name == largeObjects }) {
		return t, Cannot{Why: "large objects were changed"}
	}
	// What was noted of the map is of a moment before this look's.
	if !t.Nothing() || len(t.Catalogs) > 0 || t.Moved || l.Noted && base.Exact {
		return t, nil
	}
	l.clean = l.now.At
	// Nothing is written without a transaction's number, and none is under way
	// that had one before.
	if l.now.Oldest == l.now.Next && l.now.Writers == 0 {
		l.cleanXID = l.now.Next
	}
	return t, nil
}

// installMapFunction gives the session the function that asks the visibility map.
func (l *Look) installMapFunction(ctx context.Context, conn *pgx.Conn) error {
	if l.installed || l.Noted {
		return nil
	}
	if _, err := conn.Exec(ctx, mapFunction); err != nil {
		return Cannot{Why: "the server lacks the extension pg_visibility"}
	}
	l.installed = true
	return nil
}

// AskMap asks the visibility map of every table, and of the catalogs.
func (l *Look) AskMap(ctx context.Context, conn *pgx.Conn, base Baseline) (t Touched, err error) {
	if l.Noted {
		return l.readRows(ctx, conn, base)
	}
	if t, err = l.shown(ctx, conn, base); err == nil {
		err = l.movedCounters(ctx, conn, base, &t)
	}
	if err != nil {
		return t, err
	}
	return t, l.sameCatalogs(ctx, conn, base, t)
}

// sameCatalogs fails with ErrSchema where the catalogs that were written to say something
// else than they did. Functions of sessions' own, and what was rolled back, are written too.
func (l *Look) sameCatalogs(ctx context.Context, conn *pgx.Conn, base Baseline, t Touched) error {
	if len(t.Catalogs) == 0 {
		return nil
	}
	same, err := l.Server.Same(ctx, conn, base, t.Catalogs)
	if err == nil && !same {
		err = ErrSchema
	}
	return err
}

// shown lists the tables and catalogs that the map, and the sizes of files, say
// were written to.
func (l *Look) shown(ctx context.Context, conn *pgx.Conn, base Baseline) (t Touched, err error) {
	if err := l.installMapFunction(ctx, conn); err != nil {
		return t, err
	}
	all := slices.Concat(base.Tables, base.Catalogs)
	// Where this process sees the files it learns their sizes sooner.
	look, files := resized, l.Files()
	if files != "" {
		look = differing
	}
	places, err := Ask(ctx, conn, look, columns(all)...)
	if err != nil {
		return t, err
	}
	if files != "" {
		for _, p := range grown(files, all) {
			if !slices.Contains(places, p) {
				places = append(places, p)
			}
		}
	}
	slices.Sort(places)
	for _, p := range places {
		if p > len(base.Tables) {
			t.Catalogs = append(t.Catalogs, p-len(base.Tables)-1)
			continue
		}
		t.Tables = append(t.Tables, p)
	}
	return t, nil
}

// Files is the folder with the files of the database, where this process can
// look at them.
func (l *Look) Files() string {
	if l.Server.Socket() == "" || l.OID == 0 {
		return ""
	}
	folder := filepath.Join(l.Server.Socket(), "data", "base", strconv.FormatUint(uint64(l.OID), 10))
	if l.folder != folder {
		l.folder = folder
		_, err := os.Stat(folder)
		l.folderSeen = err == nil
	}
	if !l.folderSeen {
		return ""
	}
	return folder
}

// grown lists, by their places, the tables whose files are not as long as
// noted, or not there. A table that is longer than one file has them numbered.
func grown(folder string, all []Mark) (places []int) {
	const page, file = 8192, 1 << 30
	path := make([]byte, 0, len(folder)+24)
	for i, m := range all {
		path = strconv.AppendInt(append(append(path[:0], folder...), '/'), m.File, 10)
		want := m.Pages * page
		if want >= file {
			path = strconv.AppendInt(append(path, '.'), want/file, 10)
			want %= file
		}
		var st unix.Stat_t
		if unix.Stat(string(path), &st) != nil || st.Size != want {
			places = append(places, i+1)
		}
	}
	return places
}

// LargerThan reports whether a table has more than so many pages, or other
// files than noted.
func LargerThan(folder string, m Mark, pages int64) bool {
	var st unix.Stat_t
	err := unix.Stat(filepath.Join(folder, strconv.FormatInt(m.File, 10)), &st)
	return err != nil || st.Size > pages*8192
}

// readRows reads every row: those that a transaction since then wrote, and how
// many there are, tell what was touched where the map cannot be believed. Of large tables
// what was noted of the map is believed, where that can be.
func (l *Look) readRows(ctx context.Context, conn *pgx.Conn, base Baseline) (t Touched, err error) {
	if l.Server.Trust().Log {
		now, err := filed(ctx, conn, base)
		if err != nil {
			return t, err
		}
		t.Moved = !sameFiles(base, now)
	}
	same, err := l.Server.Same(ctx, conn, base, nil)
	if err == nil && !same {
		err = ErrSchema
	}
	if err != nil {
		return t, err
	}
	var objects int64
	if err := conn.QueryRow(ctx, "SELECT count(*) FROM pg_largeobject_metadata").Scan(&objects); err != nil ||
		objects > 0 {
		return t, errors.Join(err, Cannot{Why: "large objects may have been changed"})
	}
	if t.Tables, err = l.differ(ctx, conn, base); err == nil {
		err = l.movedCounters(ctx, conn, base, &t)
	}
	return t, err
}

func (l *Look) differ(ctx context.Context, conn *pgx.Conn, base Baseline) (places []int, err error) {
	if !base.Exact || !l.Noted {
		return Differ(ctx, conn, base.Tables, base.Next)
	}
	if places, err = l.largeDiffering(ctx, conn, base); err != nil {
		return nil, err
	}
	var small []Mark
	var at []int
	for i, m := range base.Tables {
		if !m.large() {
			small, at = append(small, m), append(at, i)
		}
	}
	others, err := Differ(ctx, conn, small, base.Next)
	for _, i := range others {
		places = append(places, at[i-1]+1)
	}
	slices.Sort(places)
	return places, err
}

// largeDiffering lists the large tables of which what was noted of the map is not what the
// baseline tells, by their places from 1 on.
func (l *Look) largeDiffering(ctx context.Context, conn *pgx.Conn, base Baseline) (places []int, err error) {
	var all []Mark
	var at []int
	for i, m := range base.Tables {
		if m.large() {
			all, at = append(all, m), append(at, i)
		}
	}
	if all == nil {
		return nil, nil
	}
	asked, err := Ask(ctx, conn, differingNoted, columns(all)...)
	for _, i := range asked {
		places = append(places, at[i-1]+1)
	}
	return places, err
}

// Hidden lists the tables that are not as a baseline tells, by their places from 1 on, of
// which a VACUUM could hide that once no keeper is as old as what wrote to them.
func (l *Look) Hidden(ctx context.Context, conn *pgx.Conn, base Baseline) ([]int, error) {
	if l.Noted {
		return l.largeDiffering(ctx, conn, base)
	}
	t, err := l.AskMap(ctx, conn, base)
	return t.Tables, err
}

// movedCounters asks which counters have moved.
func (l *Look) movedCounters(ctx context.Context, conn *pgx.Conn, base Baseline, t *Touched) (err error) {
	if q := l.movedQuery(base); q != "" {
		t.Counters, err = Ask(ctx, conn, q)
	}
	return err
}

// movedQuery is Moved, kept: the text is long, and the same as long as the start
// state is.
func (l *Look) movedQuery(base Baseline) string {
	if !slices.Equal(l.countersOf, base.Counters) {
		l.countersOf, l.countersText = base.Counters, Moved(base.Counters)
	}
	return l.countersText
}

// Prepare readies a session for looks: it is another than the one before.
func (l *Look) Prepare(ctx context.Context, conn *pgx.Conn) error {
	l.NewSession()
	return l.installMapFunction(ctx, conn)
}

// Adopt says that another session looks from now on, which Prepare was called for.
func (l *Look) Adopt() {
	l.NewSession()
	l.installed = true
}

// Observe returns a baseline with what the map says now of a database that is as the
// baseline tells. It is worth something as long as nobody marks pages that are written
// after this.
func (l *Look) Observe(ctx context.Context, conn *pgx.Conn, base Baseline) (Baseline, error) {
	if l.Noted {
		now, err := observeBy(ctx, conn, marksNoted, base.Tables)
		if err != nil {
			return base, fmt.Errorf("asking what was noted of the map: %w", err)
		}
		if len(now) != len(base.Tables) {
			return base, ErrSchema
		}
		for i, m := range base.Tables {
			if !m.large() {
				now[i].Vacuums = m.Vacuums
			}
		}
		base.Tables, base.Exact, base.At = now, true, ""
		return base, nil
	}
	for _, all := range []*[]Mark{&base.Tables, &base.Catalogs} {
		now, err := observe(ctx, conn, *all)
		if err != nil {
			return base, fmt.Errorf("asking the map: %w", err)
		}
		if len(now) != len(*all) {
			return base, ErrSchema
		}
		*all = now
	}
	base.Exact, base.At = true, ""
	return base, nil
}

// Note has the server note of each large table of a baseline how many of its pages the map
// says to be visible to all: VACUUM marks what it may, which is nothing that was written since
// the oldest keeper's number, and notes that ("pg_class" in PostgreSQL's manual). It cannot be
// in a transaction. What it warns of was not vacuumed.
func (l *Look) Note(ctx context.Context, conn *pgx.Conn, base Baseline) error {
	var names []string
	for _, m := range base.Tables {
		if m.large() {
			names = append(names, m.Name)
		}
	}
	if len(names) == 0 {
		return nil
	}
	flushCommits(ctx, conn)
	_, err := conn.Exec(ctx, "VACUUM (TRUNCATE off, INDEX_CLEANUP off, PROCESS_TOAST off) "+strings.Join(names, ", "),
		pgx.QueryExecModeSimpleProtocol)
	if err != nil {
		return fmt.Errorf("noting the map: %w", err)
	}
	return nil
}

// ByRows is Compare by reading every row.
func (l *Look) ByRows(ctx context.Context, conn *pgx.Conn, base Baseline) (Touched, error) {
	return l.readRows(ctx, conn, base)
}

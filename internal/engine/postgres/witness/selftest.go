package witness

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/engine/postgres/wal"
)

// mapSince is the first major version whose vacuum counters are current at once:
// before it a VACUUM can hide a write for half a second.
const mapSince = 15

// SelfTest finds out what of a server can be believed: it does work of every kind
// in a database of its own and looks whether all of it is seen, and nothing else.
// It is a gate, not a proof: a log is believed only where its format is one of
// wal.Formats, and a map from a major version on.
type SelfTest struct {
	Major  int
	Socket string // as Server.Socket
	// Dial opens a session of a superuser in a new database in which nobody else is.
	Dial func(context.Context) (*pgx.Conn, error)

	// Hidden names a kind of work that is passed over, as if the server said nothing
	// of it: what a test of this test is to notice.
	Hidden string

	look   Look
	base   Baseline
	conn   *pgx.Conn
	second *pgx.Conn
	told   []told // by the log, of each kind, and at last of the catalogs

	passedOver told // by a log without the records of the first
}

// told is what the log tells of some work.
type told struct {
	Touched
	ok bool // it could be read
}

// Run does it. What is not seen as it is is no error but the Why of what it returns.
func (s *SelfTest) Run(ctx context.Context) (found Trust, err error) {
	_, known := wal.Formats[fmt.Sprint(s.Major)]
	found = Trust{Map: s.Major >= mapSince, Log: known}
	if !found.Map && !found.Log {
		found.Why = "nothing is known of this version's log and map"
		return found, nil
	}
	defer func() {
		if err != nil {
			err = fmt.Errorf("testing what the server tells of writes: %w", err)
		}
	}()
	for _, conn := range []**pgx.Conn{&s.conn, &s.second} {
		if *conn, err = s.Dial(ctx); err != nil {
			return found, err
		}
		defer (*conn).Close(context.WithoutCancel(ctx))
	}
	if err := s.begin(ctx, known); err != nil {
		return found, err
	}
	if err := s.work(ctx, known); err != nil {
		return found, err
	}
	var why []string
	if found.Map && !s.base.Exact {
		found.Map = false
		why = append(why, "the server lacks the extension pg_visibility")
	}
	if found.Map {
		missed, err := s.mapMisses(ctx)
		if err != nil {
			return found, err
		}
		if found.Map = missed == ""; !found.Map {
			why = append(why, "the visibility map "+missed)
		}
	}
	if found.Log {
		missed := s.logMisses()
		if found.Log = missed == ""; !found.Log {
			why = append(why, "the log "+missed)
		}
	} else {
		why = append(why, "nothing is known of this version's log")
	}
	if s.Major < mapSince {
		why = append(why, "nothing is known of this version's visibility map")
	}
	found.Why = strings.Join(why, "; ")
	return found, nil
}

// begin makes the tables, and takes the baseline.
func (s *SelfTest) begin(ctx context.Context, log bool) error {
	server := &Server{
		Trust: func() Trust { return Trust{Map: true, Log: log} }, Super: func() bool { return true },
		Socket: func() string { return s.Socket }, Major: func() string { return fmt.Sprint(s.Major) },
	}
	s.look = Look{Server: server}
	sql := []string{"SET synchronous_commit = on"}
	for _, k := range kindsOfWork {
		made := k.made
		if made == "" {
			made = makeUsual
		}
		sql = append(sql, fmt.Sprintf(made, k.name))
	}
	sql = append(sql, extras)
	_, err := s.conn.Exec(ctx, strings.Join(sql, ";\n"), pgx.QueryExecModeSimpleProtocol)
	if err == nil {
		_, err = s.conn.Exec(ctx, "VACUUM (INDEX_CLEANUP on)", pgx.QueryExecModeSimpleProtocol)
	}
	if err == nil {
		s.base, err = server.Take(ctx, s.conn, true, nil)
	}
	if err == nil {
		err = s.conn.QueryRow(ctx, "SELECT oid FROM pg_database WHERE datname = current_database()").Scan(&s.look.OID)
	}
	return err
}

// allKinds are those of tables, then those of counters.
func allKinds() []kindOfWork { return slices.Concat(kindsOfWork, kindsOfCounting) }

// work does the work of every kind, and at last writes to every catalog. The log
// is read at once where it is to be: a checkpoint may remove it.
func (s *SelfTest) work(ctx context.Context, log bool) error {
	at := func() (p wal.Position, err error) {
		err = s.conn.QueryRow(ctx, "SELECT (pg_current_wal_insert_lsn() - '0/0')::bigint",
			pgx.QueryExecModeSimpleProtocol).Scan(&p)
		return p, err
	}
	last, err := at()
	if err != nil {
		return err
	}
	step := func(conn *pgx.Conn, statements ...string) error {
		for _, sql := range statements {
			if _, err := conn.Exec(ctx, sql, pgx.QueryExecModeSimpleProtocol); err != nil {
				return err
			}
		}
		to, err := at()
		if err == nil && log {
			err = s.listen(ctx, last, to)
		}
		last = to
		return err
	}
	for _, k := range allKinds() {
		conn := s.conn
		if k.other {
			conn = s.second
		}
		sql := make([]string, len(k.work))
		for i, text := range k.work {
			sql[i] = text
			if strings.Contains(text, "%[1]s") {
				sql[i] = fmt.Sprintf(text, k.name)
			}
		}
		if err := step(conn, sql...); err != nil {
			return fmt.Errorf("%s: %w", k.name, err)
		}
	}
	quoted := make([]string, len(s.base.Catalogs))
	for i, m := range s.base.Catalogs {
		quoted[i] = pg.Literal(m.Name)
	}
	return step(s.conn, "VACUUM being_written_vacuumed",
		strings.Replace(touchEveryCatalog, "$1::text[]", "ARRAY["+strings.Join(quoted, ", ")+"]", 1))
}

// mapMisses says what the map does not show as it is; "" for nothing.
func (s *SelfTest) mapMisses(ctx context.Context) (string, error) {
	sql := "SELECT count(*) FROM " + strings.Join(names(kindsOfWork), "; SELECT count(*) FROM ")
	if _, err := s.conn.Exec(ctx, sql, pgx.QueryExecModeSimpleProtocol); err != nil { // reading hides nothing
		return "", err
	}
	t, err := s.look.shown(ctx, s.conn, s.base)
	if err == nil {
		err = s.look.movedCounters(ctx, s.conn, s.base, &t)
	}
	if err != nil {
		return "", err
	}
	for _, k := range allKinds() {
		if missed := k.misses(s.sees(t, k) && k.name != s.Hidden); missed != "" {
			return missed, nil
		}
	}
	return s.catalogMissed(t), nil
}

func names(all []kindOfWork) []string {
	names := make([]string, len(all))
	for i, k := range all {
		names[i] = k.name
	}
	return names
}

// misses says what is wrong where a kind of work was seen, or not; "" for nothing.
func (k kindOfWork) misses(seen bool) string {
	kind := strings.ReplaceAll(k.name, "_", " ")
	switch {
	case k.want == change && !seen:
		return "does not show a write of the kind: " + kind
	case k.want == quiet && seen:
		return "shows a write where there was none: " + kind
	}
	return ""
}

// sees reports whether the table or counter of a kind is among what was touched.
func (s *SelfTest) sees(t Touched, k kindOfWork) bool {
	return slices.ContainsFunc(t.Tables, func(i int) bool { return s.base.Tables[i-1].Name == "public."+k.name }) ||
		slices.ContainsFunc(t.Counters, func(i int) bool { return s.base.Counters[i-1].Name == "public."+k.name })
}

// catalogMissed names a catalog that was written to and is not seen.
func (s *SelfTest) catalogMissed(t Touched) string {
	for i, m := range s.base.Catalogs {
		if m.Count > 0 && !slices.Contains(t.Catalogs, i) {
			return "does not show a write to " + m.Name
		}
	}
	return ""
}

// listen reads what the log tells of the next kind.
func (s *SelfTest) listen(ctx context.Context, from, to wal.Position) error {
	if _, err := Flush(ctx, s.conn); err != nil {
		return err
	}
	if err := s.look.findLog(ctx, s.conn); err != nil {
		return err
	}
	kind := ""
	if n := len(s.told); n < len(allKinds()) {
		kind = allKinds()[n].name
	}
	writes := func(hide bool) func(r *wal.Record) bool {
		return func(r *wal.Record) bool { return !hide && r.Writes() }
	}
	t, ok := s.look.writtenBy(s.base, from, to, writes(kind != "" && s.Hidden == kind))
	if s.told = append(s.told, told{t, ok}); len(s.told) == 1 {
		t, ok := s.look.writtenBy(s.base, from, to, writes(true))
		s.passedOver = told{t, ok}
	}
	return nil
}

// logMisses says what the log does not tell as it is; "" for nothing. Of
// unlogged tables nothing is expected.
func (s *SelfTest) logMisses() string {
	for i, k := range allKinds() {
		if k.name == "unlogged" {
			continue
		}
		t := s.told[i]
		if !t.ok && i == 0 {
			return "cannot be read"
		}
		// Where it cannot be read, or pg_class was written to, as it is where a table
		// has a new file, everything is looked at.
		seen := !t.ok || s.sees(t.Touched, k) || k.want == change && len(t.Catalogs) > 0
		if missed := k.misses(seen); missed != "" {
			return missed
		}
	}
	if t := s.told[len(s.told)-1]; !t.ok || s.catalogMissed(t.Touched) != "" {
		return s.catalogMissed(t.Touched)
	}
	// The test itself: what is not there has to be missed.
	if t := s.passedOver; !t.ok || kindsOfWork[0].misses(s.sees(t.Touched, kindsOfWork[0])) == "" {
		return "shows what was passed over"
	}
	return ""
}

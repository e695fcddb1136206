package witness

import (
	"context"
	"errors"
	"fmt"
	"hemzo/internal/engine/postgres/wal"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"
)

// Settle makes the next look cheap, and returns the baseline for it: the
// pages of what was put back are marked as visible to all. A write that came
// in between would be hidden by that: such a table stays marked as touched.
func (l *Look) Settle(ctx context.Context, conn *pgx.Conn, p Put) (fresh Baseline, err error) {
	fresh = p.Base
	fresh.Tables = slices.Clone(p.Base.Tables)
	l.cleanXID = 0
	later := false
	if p.Base.Exact {
		if later, err = l.postponed(ctx, conn, p, &fresh); err == nil && !later {
			err = l.vacuumed(ctx, conn, p, &fresh)
		}
	} else {
		err = l.stamped(ctx, conn, p, &fresh)
	}
	if err != nil {
		return fresh, fmt.Errorf("settling what was put back: %w", err)
	}
	owners := l.fileOwners
	if l.NewBaseline(); later { // no file is another
		l.fileOwners = owners
	}
	return fresh, nil
}

// stamped notes what was put back where rows tell it, not the map, and for the log
// which files are read from now on. Who gives a table another file writes to
// pg_class, which the log shows from the position on that is noted with them.
func (l *Look) stamped(ctx context.Context, conn *pgx.Conn, p Put, fresh *Baseline) error {
	for _, at := range p.Tables {
		p.Stamp(&fresh.Tables[at])
	}
	if p.Switched && p.Alone {
		if err := l.StampTriggers(ctx, conn, &p); err != nil {
			return err
		}
		fresh.Catalogs = p.Base.Catalogs
	}
	if !l.Server.Trust().Log {
		return nil
	}
	now, err := filed(ctx, conn, *fresh)
	if err != nil {
		return err
	}
	to, err := l.cleanPositionAfter(ctx, conn, p)
	if now.At = ""; to > 0 {
		now.At = formatLogMark(l.OID, to)
	}
	*fresh = now
	return err
}

// StampTriggers notes that the rows of triggers which were written since the baseline are a
// reset's own, where they are.
func (l *Look) StampTriggers(ctx context.Context, conn *pgx.Conn, p *Put) error {
	at := slices.IndexFunc(p.Base.Catalogs, func(m Mark) bool { return m.Name == "pg_trigger" })
	all, err := l.Server.Catalogs.List(ctx, conn)
	if at < 0 || err != nil || len(all) != len(p.Base.Catalogs) {
		return err
	}
	var others int64
	err = conn.QueryRow(ctx, fmt.Sprintf("SELECT count(*) FROM pg_trigger WHERE %s AND xmin <> '%s'::xid",
		p.Base.Catalogs[at].Newer(p.Base.Next), p.XID)).Scan(&others)
	if err == nil && others == 0 {
		p.Base.Catalogs = slices.Clone(p.Base.Catalogs)
		p.Base.Catalogs[at].Since = p.XID
	}
	return err
}

// vacuumEvery is after how many resets in a row the tables that were put back are
// vacuumed, which takes longer than putting them back.
const vacuumEvery = 16

// postponed reports whether the log alone tells what comes after a reset: then
// the tables that were put back need not be vacuumed each time. For the map
// they stay touched.
func (l *Look) postponed(ctx context.Context, conn *pgx.Conn, p Put, fresh *Baseline) (bool, error) {
	if l.resets++; l.resets%vacuumEvery == 1 || !p.Alone || len(p.Catalogs) > 0 || p.At == 0 {
		return false, nil
	}
	if slices.ContainsFunc(p.Tables, func(at int) bool { return doubtful(p.Base.Tables[at]) }) {
		return false, nil // no longer, once it is vacuumed
	}
	to, err := l.cleanPositionAfter(ctx, conn, p)
	if err != nil || to == p.At {
		return false, err
	}
	fresh.At = formatLogMark(l.OID, to)
	for _, at := range p.Tables {
		p.Stamp(&fresh.Tables[at])
		if !slices.Contains(l.pendingVacuum, at) {
			l.pendingVacuum = append(l.pendingVacuum, at)
		}
	}
	return true, nil
}

// vacuumed has the map believed again of what was put back, and of what earlier
// resets have put off.
func (l *Look) vacuumed(ctx context.Context, conn *pgx.Conn, p Put, fresh *Baseline) error {
	if l.Noted { // rows tell of the others
		for _, at := range p.Tables {
			p.Stamp(&fresh.Tables[at])
		}
		p.Tables = slices.DeleteFunc(slices.Clone(p.Tables), func(at int) bool { return !p.Base.Tables[at].large() })
		p.Catalogs = nil
	}
	tables := slices.Clone(p.Tables)
	for _, at := range l.pendingVacuum {
		if !slices.Contains(tables, at) {
			tables = append(tables, at)
		}
	}
	l.pendingVacuum = nil
	if err := vacuum(ctx, conn, p, tables); err != nil {
		return err
	}
	to, err := l.cleanPositionAfter(ctx, conn, p)
	if err != nil {
		return err
	}
	if fresh.At = ""; to > 0 {
		fresh.At = formatLogMark(l.OID, to)
	}
	if len(p.Catalogs) > 0 {
		if same, err := l.remarkCatalogs(ctx, conn, p, fresh); err != nil || !same {
			return err // the next look will say so
		}
	}
	if len(tables) == 0 {
		return nil
	}
	return remarkTables(ctx, conn, p, tables, fresh)
}

// muchLonger is by how many pages a table has to have become longer to be shortened.
const muchLonger = 1024

// vacuum vacuums tables and the catalogs that were written to. Only those tables are made
// shorter that have become much longer.
func vacuum(ctx context.Context, conn *pgx.Conn, p Put, tables []int) error {
	var list []string
	for _, at := range tables {
		list = append(list, p.Base.Tables[at].Name)
	}
	for _, at := range p.Catalogs {
		list = append(list, "pg_catalog."+p.Base.Catalogs[at].Name)
	}
	if err := VacuumBeside(ctx, conn, list); err != nil || len(list) == 0 {
		return err
	}
	long, err := longer(ctx, conn, p, tables)
	if err == nil && len(long) > 0 {
		_, err = conn.Exec(ctx, "VACUUM (INDEX_CLEANUP on) "+strings.Join(long, ", "), pgx.QueryExecModeSimpleProtocol)
	}
	return err
}

// longer names the tables that have become much longer than they were.
func longer(ctx context.Context, conn *pgx.Conn, p Put, tables []int) (names []string, err error) {
	oids := make([]uint32, len(tables))
	for i, at := range tables {
		oids[i] = p.Base.Tables[at].OID
	}
	var pages []int64
	err = conn.QueryRow(ctx, "SELECT coalesce(array_agg(coalesce(pg_relation_size(o), 0) / "+
		"current_setting('block_size')::int ORDER BY i), '{}') FROM unnest($1::oid[]) WITH ORDINALITY t(o, i)",
		oids).Scan(&pages)
	if err != nil {
		return nil, fmt.Errorf("asking how long tables are: %w", err)
	}
	for i, at := range tables {
		if m := p.Base.Tables[at]; pages[i] > m.Pages+muchLonger {
			names = append(names, m.Name)
		}
	}
	return names, nil
}

// remarkCatalogs notes the catalogs that were written to, as they are now; false
// where what they say is not the same any more.
func (l *Look) remarkCatalogs(ctx context.Context, conn *pgx.Conn, p Put, fresh *Baseline) (same bool, err error) {
	if err := l.installMapFunction(ctx, conn); err != nil {
		return false, err
	}
	if fresh.Counters, err = refiled(ctx, conn, fresh.Counters); err != nil {
		return false, err
	}
	now, err := observe(ctx, conn, p.Base.Catalogs)
	if err != nil {
		return false, err
	}
	if same, err = l.Server.Same(ctx, conn, p.Base, p.Catalogs); err != nil || !same {
		return false, err
	}
	fresh.Catalogs = slices.Clone(fresh.Catalogs)
	for _, at := range p.Catalogs {
		fresh.Catalogs[at] = now[at]
	}
	return true, nil
}

// remarkTables notes tables as they are now, the first of which were just put
// back. One with rows that were written meanwhile stays touched.
func remarkTables(ctx context.Context, conn *pgx.Conn, p Put, tables []int, fresh *Baseline) error {
	var put []Mark
	for i, at := range tables {
		m := p.Base.Tables[at]
		if i < len(p.Tables) {
			p.Stamp(&m)
		}
		put = append(put, m)
	}
	now, err := measure(ctx, conn, put)
	if err != nil {
		return err
	}
	// Only now: what is written after this shows in the map, and what was not
	// committed so far has kept its page out of it. One by one: who holds the lock of
	// one table and waits for another's can be in a deadlock with the next test's TRUNCATE.
	for i, at := range tables {
		var place int
		var count, newer int64
		sql, args := rowsSince(put[i:i+1], "")
		err := conn.QueryRow(ctx, sql, args...).Scan(&place, &count, &newer)
		if err != nil && !errors.Is(err, pgx.ErrNoRows) {
			return err
		}
		if err == nil && (newer > 0 || count != put[i].Count || put[i].Older) {
			now[i].Vacuums = -1
		}
		// Of one that grows meanwhile, or could not be shortened, the next reset makes a new file.
		if now[i].Pages > put[i].Pages+muchLonger {
			now[i].Pages = put[i].Pages
		}
		fresh.Tables[at] = now[i]
	}
	return nil
}

// cleanPositionAfter is the position up to which the log tells nothing but what a reset
// has looked at, and done. Where anything else was written to since the look,
// that is where the look was.
func (l *Look) cleanPositionAfter(ctx context.Context, conn *pgx.Conn, p Put) (wal.Position, error) {
	if p.At == 0 || len(p.Catalogs) > 0 {
		return p.At, nil
	}
	if err := l.findLog(ctx, conn); err != nil || l.log.Fetch == nil {
		return p.At, err
	}
	m, err := l.Server.Moment(ctx, conn, "", l.OID)
	if err == nil && m.Flushed < m.At {
		_, err = Flush(ctx, conn)
	}
	if err != nil || m.At-p.At > l.readable() {
		return p.At, err
	}
	files, own := l.filesOfBase(p.Base), number(p.XID)
	done, others := false, false
	err = l.log.Read(p.At, m.At, func(r *wal.Record) {
		done = done || r.Commits(own)
		others = others || r.Remaps() || r.Writes() && slices.ContainsFunc(r.Blocks, func(b wal.Block) bool {
			if b.Database != l.OID || b.Fork != 0 {
				return false
			}
			at := files[b.File]
			put := at.kind == ofTable && slices.Contains(p.Tables, at.index)
			// A check of a table may write to others; a catalog tells that a table has another file.
			if r.Transaction == own {
				return at.kind == ofCatalog || at.kind == ofTable && !put
			}
			// What was put back was locked until it was done.
			return at.kind != ofNone && (done || !put)
		})
	})
	if err != nil || others {
		return p.At, nil
	}
	return m.At, nil
}

// number reads a transaction's; 0 for none.
func number(xid string) uint32 {
	n, _ := strconv.ParseUint(xid, 10, 32)
	return uint32(n)
}

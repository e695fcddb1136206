package postgres

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine/postgres/wal"
)

// settle makes the next look cheap, and returns the baseline for it: the
// pages of what was put back are marked as visible to all. A write that came
// in between would be hidden by that: such a table stays marked as touched.
func (d *database) settle(ctx context.Context, p putting) (json.RawMessage, error) {
	fresh := p.base
	fresh.Tables = slices.Clone(p.base.Tables)
	conn, err := d.witness(ctx)
	if err != nil {
		return nil, err
	}
	d.seen = 0
	later := false
	if p.base.Exact {
		if later, err = d.postponed(ctx, conn, p, &fresh); err == nil && !later {
			err = d.vacuumed(ctx, conn, p, &fresh)
		}
	} else {
		for _, at := range p.tables {
			p.stamp(&fresh.Tables[at])
		}
	}
	if err != nil {
		return nil, fmt.Errorf("settling what was put back: %w", err)
	}
	raw, err := json.Marshal(fresh)
	if err == nil {
		files := d.filedOf
		if d.adopt(fresh, raw); later {
			d.filedOf = files
		}
	}
	return raw, err
}

// every is after how many resets in a row the tables that were put back are
// vacuumed, which takes longer than putting them back.
const every = 16

// postponed reports whether the log alone tells what comes after a reset: then
// the tables that were put back need not be vacuumed each time. For the map
// they stay touched.
func (d *database) postponed(ctx context.Context, conn *pgx.Conn, p putting, fresh *baseline) (bool, error) {
	if d.resets++; d.resets%every == 1 || !p.alone || len(p.catalogs) > 0 || p.at == 0 {
		return false, nil
	}
	if slices.ContainsFunc(p.tables, func(at int) bool { return doubtful(p.base.Tables[at]) }) {
		return false, nil // no longer, once it is vacuumed
	}
	to, err := d.heard(ctx, conn, p)
	if err != nil || to == p.at {
		return false, err
	}
	fresh.At = formatLogMark(d.oid, to)
	for _, at := range p.tables {
		p.stamp(&fresh.Tables[at])
		if !slices.Contains(d.owed, at) {
			d.owed = append(d.owed, at)
		}
	}
	return true, nil
}

func (d *database) vacuumed(ctx context.Context, conn *pgx.Conn, p putting, fresh *baseline) error {
	var list []string
	tables := slices.Clone(p.tables)
	for _, at := range d.owed {
		if !slices.Contains(tables, at) {
			tables = append(tables, at)
		}
	}
	d.owed = nil
	for _, at := range tables {
		list = append(list, p.base.Tables[at].Name)
	}
	for _, at := range p.catalogs {
		list = append(list, "pg_catalog."+p.base.Catalogs[at].Name)
	}
	if len(list) > 0 {
		flush(ctx, conn)
		if _, err := conn.Exec(ctx, "VACUUM (INDEX_CLEANUP on) "+strings.Join(list, ", "),
			pgx.QueryExecModeSimpleProtocol); err != nil {
			return err
		}
	}
	to, err := d.heard(ctx, conn, p)
	if err != nil {
		return err
	}
	if fresh.At = ""; to > 0 {
		fresh.At = formatLogMark(d.oid, to)
	}
	if len(p.catalogs) > 0 {
		if err := d.sight(ctx, conn); err != nil {
			return err
		}
		if fresh.Counters, err = refiled(ctx, conn, fresh.Counters); err != nil {
			return err
		}
		now, err := observe(ctx, conn, p.base.Catalogs)
		if err != nil {
			return err
		}
		if same, err := d.server.sameSchema(ctx, conn, p.base, p.catalogs); err != nil || !same {
			return err // the next look will say so
		}
		fresh.Catalogs = slices.Clone(fresh.Catalogs)
		for _, at := range p.catalogs {
			fresh.Catalogs[at] = now[at]
		}
	}
	if len(tables) == 0 {
		return nil
	}
	var put []mark
	for i, at := range tables {
		m := p.base.Tables[at]
		if i < len(p.tables) {
			p.stamp(&m)
		}
		put = append(put, m)
	}
	now, err := measure(ctx, conn, put)
	if err != nil {
		return err
	}
	// Only now: what is written after this shows in the map, and what was not
	// committed so far has kept its page out of it.
	rows, err := conn.Query(ctx, rowsSince(put, ""), pgx.QueryExecModeSimpleProtocol)
	if err != nil {
		return err
	}
	var i int
	var count, newer int64
	_, err = pgx.ForEachRow(rows, []any{&i, &count, &newer}, func() error {
		if newer > 0 || count != put[i-1].Count || put[i-1].Older {
			now[i-1].Vacuums = -1
		}
		return nil
	})
	for i, at := range tables {
		fresh.Tables[at] = now[i]
	}
	return err
}

// heard is the position up to which the log tells nothing but what a reset
// has looked at, and done. Where anything else was written to since the look,
// that is where the look was.
func (d *database) heard(ctx context.Context, conn *pgx.Conn, p putting) (wal.Position, error) {
	if d.log.Folder == "" || p.at == 0 || len(p.catalogs) > 0 {
		return p.at, nil
	}
	m, err := d.server.moment(ctx, conn, "", d.oid)
	if err == nil && m.flushed < m.at {
		_, err = flushed(ctx, conn)
	}
	if err != nil || m.at-p.at > readable {
		return p.at, err
	}
	files, own := d.filesOfBase(p.base), number(p.xid)
	done, others := false, false
	err = d.log.Read(p.at, m.at, func(r *wal.Record) {
		done = done || r.Commits(own)
		others = others || r.Remaps() || r.Writes() && slices.ContainsFunc(r.Blocks, func(b wal.Block) bool {
			if b.Database != d.oid || b.Fork != 0 {
				return false
			}
			at := files[b.File]
			put := at.kind == ofTable && slices.Contains(p.tables, at.index)
			if r.Transaction == own { // a check of a table may write to others
				return at.kind == ofTable && !put
			}
			// What was put back was locked until it was done.
			return at.kind != ofNone && (done || !put)
		})
	})
	if err != nil || others {
		return p.at, nil
	}
	return m.at, nil
}

// number reads a transaction's; 0 for none.
func number(xid string) uint32 {
	n, _ := strconv.ParseUint(xid, 10, 32)
	return uint32(n)
}

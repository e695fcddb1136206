package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/engine/postgres/schema"
	"hemzo/internal/engine/postgres/witness"
)

// repairSchema brings a schema that was changed back without replacing the database,
// where only objects were added, or the schema public was dropped, renamed or
// made anew: clients stay connected. It reports what was dropped, and returns
// the baseline that then holds. Otherwise it fails with witness.ErrSchema.
func (d *database) repairSchema(ctx context.Context, start string, base witness.Baseline,
	report *engine.Report) (now witness.Baseline,
	err error) {
	if base.Tables == nil || !d.server.isSuperuser {
		return base, witness.ErrSchema
	}
	reference, err := d.openReference(ctx, start)
	if err != nil {
		return base, err
	}
	if d.schemaFor != start {
		if d.schema, err = schema.Read(ctx, reference); err != nil {
			return base, err
		}
		d.schemaFor = start
	}
	conn, err := d.openWitness(ctx)
	if err != nil {
		return base, err
	}
	after, err := schema.Read(ctx, conn)
	if err != nil {
		return base, err
	}
	for n, old := range d.schema {
		if now, there := after[n]; n != schema.Public && (!there || now.Definition != old.Definition) {
			return base, witness.ErrSchema
		}
	}
	sql, known, dropped := schema.Drops(after, d.schema)
	common := 0
	for n := range after {
		if _, old := d.schema[n]; old {
			common++
		}
	}
	if known < len(after)-common {
		return base, witness.ErrSchema
	}
	if sql != "" {
		if err := d.drop(ctx, sql); err != nil {
			return base, err
		}
	}
	if old, there := d.schema[schema.Public]; there && after[schema.Public].Definition != old.Definition {
		if err := d.repairPublic(ctx, conn, reference); err != nil {
			return base, err
		}
		report.Settings = []string{"schema public"}
	}
	report.Dropped, report.Schema = dropped, len(dropped)+len(report.Settings) > 0 // else it is as it was again
	return d.sameAsReference(ctx, conn, reference, base)
}

// drop runs the statements that drop what was added, with the owner's rights.
func (d *database) drop(ctx context.Context, sql string) error {
	conn, err := d.openRestore(ctx)
	if err != nil {
		return err
	}
	err = pg.Run(ctx, conn, "BEGIN; "+sql+"; COMMIT")
	switch {
	case err == nil || ctx.Err() != nil:
		return err
	case pg.State(err) == pg.LockNotAvailable:
		return d.blocked(ctx, nil, err)
	}
	return witness.ErrSchema
}

// repairPublic gives the schema public its owner, rights and comment back, and
// makes it where it is not there.
func (d *database) repairPublic(ctx context.Context, conn, reference *pgx.Conn) error {
	const statements = `SELECT format('ALTER SCHEMA public OWNER TO %I', pg_get_userbyid(nspowner))
		FROM pg_namespace WHERE nspname = 'public'
		UNION ALL SELECT format('GRANT %s ON SCHEMA public TO %s%s', a.privilege_type, CASE a.grantee WHEN 0
			THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(a.grantee)) END, CASE WHEN a.is_grantable
			AND a.grantee <> 0 AND a.grantee <> n.nspowner THEN ' WITH GRANT OPTION' ELSE '' END)
			FROM pg_namespace n, aclexplode(coalesce(n.nspacl, acldefault('n', n.nspowner))) a WHERE n.nspname
				= 'public'
		UNION ALL SELECT format('COMMENT ON SCHEMA public IS %L', obj_description(oid, 'pg_namespace'))
			FROM pg_namespace WHERE nspname = 'public'`
	rows, err := reference.Query(ctx, statements)
	if err != nil {
		return err
	}
	give, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return err
	}
	rows, err = conn.Query(ctx, "SELECT DISTINCT CASE a.grantee WHEN 0 THEN 'PUBLIC' ELSE "+
		"quote_ident(pg_get_userbyid(a.grantee)) END FROM pg_namespace n, aclexplode(n.nspacl) a WHERE n.nspname = "+
		"'public'")
	if err != nil {
		return err
	}
	takers, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return err
	}
	// The owner comes first: rights are given in its name.
	sql := []string{"BEGIN", "CREATE SCHEMA IF NOT EXISTS public", give[0],
		"REVOKE ALL ON SCHEMA public FROM PUBLIC, CURRENT_USER"}
	for _, who := range takers {
		sql = append(sql, "REVOKE ALL ON SCHEMA public FROM "+who)
	}
	sql = append(append(sql, give[1:]...), "COMMIT")
	if err := pg.Run(ctx, conn, strings.Join(sql, "; "), pgx.QueryExecModeSimpleProtocol); err != nil {
		return witness.ErrSchema
	}
	return nil
}

// sameAsReference compares the catalogs that were written to with those of the start
// state, row by row, and returns the baseline that they are those of again.
func (d *database) sameAsReference(ctx context.Context, conn, reference *pgx.Conn,
	base witness.Baseline) (witness.Baseline,
	error) {
	all, err := d.server.witness.Catalogs.List(ctx, conn)
	if err != nil {
		return base, err
	}
	if len(all) != len(base.Catalogs) {
		return base, witness.ErrSchema
	}
	// Of what others do meanwhile nothing may be taken for looked at.
	var xid, alone string
	err = pg.Run(ctx, conn, "BEGIN ISOLATION LEVEL REPEATABLE READ", pgx.QueryExecModeSimpleProtocol)
	if err != nil {
		return base, err
	}
	defer func() { _, _ = conn.Exec(context.WithoutCancel(ctx), "ROLLBACK", pgx.QueryExecModeSimpleProtocol) }()
	err = conn.QueryRow(ctx, "SELECT pg_current_xact_id()::xid::text, (pg_snapshot_xmin(pg_current_snapshot()) >= "+
		"pg_current_xact_id())::text").Scan(&xid, &alone)
	if err != nil {
		return base, err
	}
	which, err := d.server.witness.Rewritten(ctx, conn, base)
	if err != nil {
		return base, err
	}
	now, err := d.server.witness.Catalogs.Sums(ctx, conn, which)
	if err != nil {
		return base, err
	}
	want, err := d.server.witness.Catalogs.Sums(ctx, reference, which)
	if err != nil {
		return base, err
	}
	for _, at := range which {
		if at != 0 && now[at] != want[at] {
			return base, witness.ErrSchema
		}
	}
	if now[0] != base.Relations {
		return base, witness.ErrSchema
	}
	if alone != "true" {
		n, err := d.server.queryInt(ctx, "SELECT "+d.server.witness.Writing("count(*)", fmt.Sprint(d.look.OID))+" - 1")
		if err != nil {
			return base, err
		}
		if n > 0 { // not counting this session: what they write may look older
			return base, witness.ErrSchema
		}
	}
	base.Catalogs = slices.Clone(base.Catalogs)
	for at := range base.Catalogs {
		base.Catalogs[at].Since = xid
	}
	return base, nil
}

package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
)

// dropOrder is the order in which objects that were added are dropped: what
// hangs on a table before the table. Kinds that are not here are left to a
// replacement.
var dropOrder = []string{
	"event trigger", "publication", "policy", "rule", "trigger", "constraint", "statistics", "materialized view",
	"view", "table", "index",
	"aggregate", "procedure", "function", "sequence", "type", "collation", "extension", "schema",
}

// schemaPublic is an object that tests drop and make anew to empty a database.
var schemaPublic = objectName{"schema", "public"}

// mend brings a schema that was changed back without replacing the database,
// where only objects were added, or the schema public was dropped, renamed or
// made anew: clients stay connected. It reports what was dropped, and returns
// the baseline that then holds. Otherwise it fails with errSchema.
func (d *database) mend(ctx context.Context, start string, base baseline, report *engine.Report) (now baseline,
	err error) {
	if base.Tables == nil || !d.server.super {
		return base, errSchema
	}
	twin, err := d.reading(ctx, start)
	if err != nil {
		return base, err
	}
	if d.schemaFor != start {
		if d.schema, err = schemaOf(ctx, twin); err != nil {
			return base, err
		}
		d.schemaFor = start
	}
	conn, err := d.witness(ctx)
	if err != nil {
		return base, err
	}
	after, err := schemaOf(ctx, conn)
	if err != nil {
		return base, err
	}
	for n, old := range d.schema {
		if now, there := after[n]; n != schemaPublic && (!there || now.Definition != old.Definition) {
			return base, errSchema
		}
	}
	sql, known, dropped := droppings(after, d.schema)
	common := 0
	for n := range after {
		if _, old := d.schema[n]; old {
			common++
		}
	}
	if known < len(after)-common {
		return base, errSchema
	}
	if sql != "" {
		if err := d.drop(ctx, sql); err != nil {
			return base, err
		}
	}
	if old, there := d.schema[schemaPublic]; there && after[schemaPublic].Definition != old.Definition {
		if err := d.makePublic(ctx, conn, twin); err != nil {
			return base, err
		}
		report.Settings = []string{"schema public"}
	}
	report.Dropped, report.Schema = dropped, len(dropped)+len(report.Settings) > 0 // else it is as it was again
	return d.sameAsTwin(ctx, conn, twin, base)
}

// drop runs the statements that drop what was added, with the owner's rights.
func (d *database) drop(ctx context.Context, sql string) error {
	conn, err := d.hands(ctx)
	if err != nil {
		return err
	}
	err = run(ctx, conn, "BEGIN; "+sql+"; COMMIT")
	switch {
	case err == nil || ctx.Err() != nil:
		return err
	case sqlState(err) == "55P03":
		return d.blocked(ctx, nil, err)
	}
	return errSchema
}

// makePublic gives the schema public its owner, rights and comment back, and
// makes it where it is not there.
func (d *database) makePublic(ctx context.Context, conn, twin *pgx.Conn) error {
	const statements = `SELECT format('ALTER SCHEMA public OWNER TO %I', pg_get_userbyid(nspowner)) FROM pg_namespace WHERE nspname = 'public'
		UNION ALL SELECT format('GRANT %s ON SCHEMA public TO %s%s', a.privilege_type, CASE a.grantee WHEN 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(a.grantee)) END, CASE WHEN a.is_grantable AND a.grantee <> 0 AND a.grantee <> n.nspowner THEN ' WITH GRANT OPTION' ELSE '' END)
			FROM pg_namespace n, aclexplode(coalesce(n.nspacl, acldefault('n', n.nspowner))) a WHERE n.nspname = 'public'
		UNION ALL SELECT format('COMMENT ON SCHEMA public IS %L', obj_description(oid, 'pg_namespace')) FROM pg_namespace WHERE nspname = 'public'`
	rows, err := twin.Query(ctx, statements)
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
	if err := run(ctx, conn, strings.Join(sql, "; "), pgx.QueryExecModeSimpleProtocol); err != nil {
		return errSchema
	}
	return nil
}

// sameAsTwin compares the catalogs that were written to with those of the start
// state, row by row, and returns the baseline that they are those of again.
func (d *database) sameAsTwin(ctx context.Context, conn, twin *pgx.Conn, base baseline) (baseline, error) {
	all, err := d.server.catalogs(ctx, conn)
	if err != nil {
		return base, err
	}
	if len(all) != len(base.Catalogs) {
		return base, errSchema
	}
	// Of what others do meanwhile nothing may be taken for looked at.
	var xid, alone string
	err = run(ctx, conn, "BEGIN ISOLATION LEVEL REPEATABLE READ", pgx.QueryExecModeSimpleProtocol)
	if err != nil {
		return base, err
	}
	defer func() { _, _ = conn.Exec(context.WithoutCancel(ctx), "ROLLBACK", pgx.QueryExecModeSimpleProtocol) }()
	err = conn.QueryRow(ctx, "SELECT pg_current_xact_id()::xid::text, (pg_snapshot_xmin(pg_current_snapshot()) >= "+
		"pg_current_xact_id())::text").Scan(&xid, &alone)
	if err != nil {
		return base, err
	}
	which, err := d.server.rewritten(ctx, conn, base)
	if err != nil {
		return base, err
	}
	now, err := d.server.catalogSums(ctx, conn, which)
	if err != nil {
		return base, err
	}
	want, err := d.server.catalogSums(ctx, twin, which)
	if err != nil {
		return base, err
	}
	for _, at := range which {
		if at != 0 && now[at] != want[at] {
			return base, errSchema
		}
	}
	if now[0] != base.Relations {
		return base, errSchema
	}
	if alone != "true" {
		n, err := d.server.number(ctx, "SELECT "+d.server.writing("count(*)", fmt.Sprint(d.oid))+" - 1")
		if err != nil {
			return base, err
		}
		if n > 0 { // not counting this session: what they write may look older
			return base, errSchema
		}
	}
	base.Catalogs = slices.Clone(base.Catalogs)
	for at := range base.Catalogs {
		base.Catalogs[at].Since = xid
	}
	return base, nil
}

// droppings are the statements that drop what is in now and not in before, how
// many objects those are, and their names but for parts of others. The
// statements come whole from the server, which quotes all names.
func droppings(now, before schema) (sql string, known int, what []string) {
	var all []string
	for _, kind := range dropOrder {
		var names []objectName
		for n := range now {
			if _, old := before[n]; !old && n.kind == kind && now[n].Drop != "" {
				names = append(names, n)
			}
		}
		slices.SortFunc(names, func(a, b objectName) int { return strings.Compare(a.name, b.name) })
		for _, n := range names {
			known++
			if !partOf(now[n], now, before) {
				what = append(what, kind+" "+now[n].short())
			}
			all = append(all, now[n].Drop)
		}
	}
	return strings.Join(all, "; "), known, what
}

// schemaOf reads the definitions of all objects, by name.
func schemaOf(ctx context.Context, conn *pgx.Conn) (schema, error) {
	if conn.PgConn().TxStatus() == 'I' {
		if _, err := conn.Exec(ctx, "BEGIN READ ONLY", pgx.QueryExecModeSimpleProtocol); err != nil {
			return nil, err
		}
		defer func() { _, _ = conn.Exec(ctx, "COMMIT", pgx.QueryExecModeSimpleProtocol) }()
	}
	all, err := objects(ctx, conn)
	if err != nil {
		return nil, err
	}
	out := schema{}
	for _, o := range all {
		out[objectName{o.Kind, o.Name}] = o
	}
	return out, nil
}

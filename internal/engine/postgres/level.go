package postgres

import (
	"context"
	_ "embed"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
	"hemzo/internal/engine/postgres/pg"
	"hemzo/internal/engine/postgres/witness"
)

// levelItemsSQL lists what belongs to a database d itself: who owns it, who may
// do what with it, with what its sessions begin. Hemzo's own notes are left
// out, a comment where notes lie there.
//
//go:embed sql/level_items.sql
var levelItemsSQL string

// carry is what CREATE DATABASE ... TEMPLATE does not copy, and what a crash
// of the server takes from a template.
type carry struct {
	Settings []roleSetting `json:"settings,omitempty"` // of the database itself
	Grants   []grant       `json:"grants,omitempty"`   // on the database itself, where they are not the usual ones
	Limit    *int32        `json:"limit,omitempty"`    // of connections
	Comment  string        `json:"comment,omitempty"`
	Unlogged []tableName   `json:"unlogged,omitempty"` // unlogged tables that have rows
}

// roleSetting is what sessions of a role begin with in one database.
type roleSetting struct {
	Role  string `json:"role,omitempty"` // "" for everybody
	Name  string `json:"name"`
	Value string `json:"value"`
}

// grant is one right on a database.
type grant struct {
	Role  string `json:"role,omitempty"` // "" for everybody
	Owner bool   `json:"owner,omitempty"`
	Right string `json:"right"`
	Pass  bool   `json:"pass,omitempty"` // may be passed on
}

type tableName struct {
	Schema string `json:"s"`
	Name   string `json:"n"`
}

func (t tableName) String() string { return pgx.Identifier{t.Schema, t.Name}.Sanitize() }

// usual are the rights on a database that nobody has changed.
var usual = []grant{
	{Owner: true, Right: "CONNECT"}, {Owner: true, Right: "CREATE"}, {Owner: true, Right: "TEMPORARY"},
	{Right: "CONNECT"}, {Right: "TEMPORARY"},
}

func (c carry) empty() bool {
	return c.Settings == nil && c.Grants == nil && c.Unlogged == nil && c.Limit == nil && c.Comment == ""
}

// readCarry reads the carry of facts; none is the usual state.
func readCarry(raw json.RawMessage) (c carry, err error) {
	if raw != nil {
		err = json.Unmarshal(raw, &c)
	}
	return c, err
}

// limitOf is how many may connect to a database with a carry; -1 for no limit.
func limitOf(raw json.RawMessage) int32 {
	if c, err := readCarry(raw); err == nil && c.Limit != nil {
		return *c.Limit
	}
	return -1
}

// levelItem is one of them.
type levelItem struct{ Kind, Role, Name, Value string }

// words say what an item is of.
func (i levelItem) words() (kind, name string) {
	switch i.Kind {
	case "setting":
		if name = i.Name; i.Role != "" {
			name += " of " + i.Role
		}
		return "database setting", name
	case "right", "owner right":
		who := i.Role
		if who == "" {
			who = map[string]string{"right": "everybody", "owner right": "the owner"}[i.Kind]
		}
		return "database right", i.Name + " of " + who
	}
	return "database " + i.Kind, i.Name
}

// levelSQL lists the items of a database.
func (s *server) levelSQL(database string) string {
	return fmt.Sprintf("SELECT l.kind, l.role, l.name, l.value FROM pg_database d CROSS JOIN LATERAL ("+levelItemsSQL+
		") l WHERE d.datname = %s ORDER BY 1, 2, 3", s.hasOwnerRoles(), database)
}

// level reads them.
func (s *server) level(ctx context.Context, conn *pgx.Conn, database string, args ...any) ([]levelItem, error) {
	rows, err := conn.Query(ctx, s.levelSQL(database), args...)
	if err != nil {
		return nil, fmt.Errorf("reading the settings of %s: %w", database, err)
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[levelItem])
}

// items are those of a database with a carry and an owner.
func (c carry) items(owner string, comments bool) []levelItem {
	limit, grants := int32(-1), c.Grants
	if c.Limit != nil {
		limit = *c.Limit
	}
	if grants == nil {
		grants = usual
	}
	all := []levelItem{{Kind: "owner", Value: owner}, {Kind: "limit", Value: fmt.Sprint(limit)},
		{Kind: "template", Value: "false"}}
	for _, g := range grants {
		i := levelItem{Kind: "right", Role: g.Role, Name: g.Right, Value: fmt.Sprint(g.Pass)}
		if g.Owner {
			i.Kind = "owner right"
		}
		all = append(all, i)
	}
	for _, set := range c.Settings {
		all = append(all, levelItem{Kind: "setting", Role: set.Role, Name: set.Name, Value: set.Value})
	}
	if c.Comment != "" && comments {
		all = append(all, levelItem{Kind: "comment", Value: c.Comment})
	}
	return all
}

// differItems lists the items that only one of two lists has.
func differItems(a, b []levelItem) (all []levelItem) {
	for _, i := range a {
		if !slices.Contains(b, i) {
			all = append(all, i)
		}
	}
	for _, i := range b {
		if !slices.Contains(a, i) {
			all = append(all, i)
		}
	}
	return all
}

// carryOf reads out of items what copies of a database are to be given.
func carryOf(items []levelItem) (c carry) {
	var grants []grant
	for _, i := range items {
		switch i.Kind {
		case "limit":
			if n := int32(0); i.Value != "-1" {
				if _, err := fmt.Sscan(i.Value, &n); err == nil && n < 1_000_000_000 {
					c.Limit = &n
				}
			}
		case "comment":
			c.Comment = i.Value
		case "setting":
			c.Settings = append(c.Settings, roleSetting{i.Role, i.Name, i.Value})
		case "right", "owner right":
			grants = append(grants, grant{Role: i.Role, Owner: i.Kind == "owner right", Right: i.Name,
				Pass: i.Value == "true"})
		}
	}
	same := len(grants) == len(usual)
	for _, g := range grants {
		same = same && slices.Contains(usual, g)
	}
	if !same {
		c.Grants = grants
	}
	return c
}

// carriedFrom is what a copy of a database is given beside its files. Of work
// and of copies it is what they have by now.
func (s *server) carriedFrom(ctx context.Context, from engine.Entry, to string) (json.RawMessage, error) {
	if from.Kind == engine.Template || from.Kind == engine.Kept {
		return privateOf(from.Facts).Carry, nil
	}
	var items []levelItem
	err := s.readRetrying(ctx, func(ctx context.Context, conn *pgx.Conn) (err error) {
		items, err = s.level(ctx, conn, pg.Literal(from.ID))
		return err
	})
	if err != nil {
		return nil, err
	}
	c := carryOf(items)
	if kind, _ := engine.KindOf(to); kind == engine.Template {
		conn, err := s.dial(ctx, from.ID, "")
		if err != nil {
			return nil, fmt.Errorf("looking at %s: %w", from.ID, err)
		}
		c.Unlogged, err = filledUnlogged(ctx, conn)
		if err = errors.Join(err, conn.Close(ctx)); err != nil {
			return nil, fmt.Errorf("looking at %s: %w", from.ID, err)
		}
	}
	if c.empty() {
		return nil, nil
	}
	return json.Marshal(c)
}

// filledUnlogged lists the unlogged tables that have rows.
func filledUnlogged(ctx context.Context, conn *pgx.Conn) (filled []tableName, err error) {
	rows, err := conn.Query(ctx, "SELECT n.nspname, c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = "+
		"c.relnamespace WHERE c.relkind = 'r' AND c.relpersistence = 'u'")
	if err != nil {
		return nil, err
	}
	all, err := pgx.CollectRows(rows, pgx.RowToStructByPos[tableName])
	for _, t := range all {
		if hasRows(ctx, conn, t) {
			filled = append(filled, t)
		}
	}
	return filled, err
}

func hasRows(ctx context.Context, conn *pgx.Conn, t tableName) (yes bool) {
	_ = conn.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM "+t.String()+")").Scan(&yes)
	return yes
}

// applyCarry puts on a fresh copy what it is given beside its files. A template
// that a crash has emptied is dropped: it is to be built again.
func (s *server) applyCarry(ctx context.Context, id string, from engine.Entry, f engine.Facts) error {
	c, err := readCarry(privateOf(f).Carry)
	if err != nil {
		return fmt.Errorf("reading the facts of %s: %w", from.ID, err)
	}
	if sql := c.statements(id, s.owner(f), s.hasOwnerRoles()); sql != "" {
		if err := s.exec(ctx, sql); err != nil {
			return fmt.Errorf("putting settings and grants on a copy: %w", err)
		}
	}
	if len(c.Unlogged) == 0 {
		return nil
	}
	conn, err := s.dial(ctx, id, "")
	if err != nil {
		return fmt.Errorf("looking at a copy: %w", err)
	}
	defer conn.Close(ctx)
	for _, t := range c.Unlogged {
		if !hasRows(ctx, conn, t) && from.Kind == engine.Template {
			conn.Close(ctx)
			if err := s.Drop(ctx, from.ID); err != nil {
				return err
			}
			return engine.ErrNotFound
		}
	}
	return nil
}

// setting quotes a setting's value as the catalog holds it. Some are lists of
// names there, each to be quoted by itself.
func setting(name, value string) string {
	if !slices.Contains([]string{"search_path", "temp_tablespaces", "local_preload_libraries",
		"session_preload_libraries"}, name) || value == "" {
		return pg.Literal(value)
	}
	r := csv.NewReader(strings.NewReader(value))
	r.TrimLeadingSpace = true
	parts, err := r.Read()
	if err != nil {
		return pg.Literal(value)
	}
	for i, p := range parts {
		parts[i] = pg.Literal(p)
	}
	return strings.Join(parts, ", ")
}

// rights are those that there are on a database: what reads otherwise is none.
var rights = []string{"CONNECT", "CREATE", "TEMPORARY"}

// statements put a carry on a database that has nothing of its own.
func (c carry) statements(id, owner string, comments bool) string {
	var b strings.Builder
	for _, set := range c.Settings {
		whose := "DATABASE " + pg.Ident(id)
		if set.Role != "" {
			whose = "ROLE " + pg.Ident(set.Role) + " IN DATABASE " + pg.Ident(id)
		}
		fmt.Fprintf(&b, "ALTER %s SET %s = %s;", whose, pgx.Identifier(strings.Split(set.Name, ".")).Sanitize(),
			setting(set.Name, set.Value))
	}
	if c.Comment != "" && comments {
		fmt.Fprintf(&b, "COMMENT ON DATABASE %s IS %s;", pg.Ident(id), pg.Literal(c.Comment))
	}
	if c.Grants != nil {
		b.WriteString(c.granting(id, owner))
	}
	return b.String()
}

// granting gives all rights on a database anew.
func (c carry) granting(id, owner string) string {
	grants := c.Grants
	if grants == nil {
		grants = usual
	}
	var b strings.Builder
	fmt.Fprintf(&b, "REVOKE ALL ON DATABASE %s FROM PUBLIC, %s;", pg.Ident(id), pg.Ident(owner))
	for _, g := range grants {
		if !slices.Contains(rights, g.Right) {
			continue
		}
		role, pass := pg.Ident(g.Role), ""
		switch {
		case g.Owner:
			role = pg.Ident(owner)
		case g.Role == "":
			role = "PUBLIC"
		case g.Pass:
			pass = " WITH GRANT OPTION"
		}
		fmt.Fprintf(&b, "GRANT %s ON DATABASE %s TO %s%s;", g.Right, pg.Ident(id), role, pass)
	}
	return b.String()
}

// errLevel says that what belongs to a database itself cannot be put back.
var errLevel = witness.Cannot{Why: "settings or rights of the database itself were changed"}

// putLevel gives a copy back what belongs to the database itself, where that
// is not what its start state carries, and returns what was not. Connections
// stay open; sessions keep the settings that they began with.
func (s *server) putLevel(
	ctx context.Context, ask asking, id string, f engine.Facts, given json.RawMessage,
) (changed []levelItem, err error) {
	c, err := readCarry(given)
	if err != nil {
		return nil, errLevel
	}
	want := c.items(s.owner(f), s.hasOwnerRoles())
	args := []any{id}
	if s.levelled.Swap(true) { // planning takes longer than asking: from the second time on the session keeps it
		args = []any{pgx.QueryExecModeCacheStatement, id}
	}
	err = ask(ctx, func(ctx context.Context, conn *pgx.Conn) error {
		now, err := s.level(ctx, conn, "$1", args...)
		if err != nil {
			return err
		}
		changed = differItems(now, want)
		return nil
	})
	if err != nil || len(changed) == 0 {
		return nil, err
	}
	if !s.hasOwnerRoles() {
		return changed, errLevel // what tests may do, they may do again meanwhile
	}
	err = s.withConn(ctx, func(ctx context.Context, conn *pgx.Conn) error {
		now, err := s.level(ctx, conn, pg.Literal(id))
		if err == nil {
			err = pg.Run(ctx, conn, "BEGIN; "+c.levelling(id, s.owner(f), changed, now)+"; COMMIT")
		}
		if err != nil {
			return errLevel
		}
		now, err = s.level(ctx, conn, pg.Literal(id))
		if err == nil && len(differItems(now, want)) > 0 {
			err = errLevel
		}
		return err
	})
	return changed, err
}

// levelling are the statements that put back, of a database's own settings,
// rights and comment, those kinds of which something was changed.
func (c carry) levelling(id, owner string, changed, now []levelItem) string {
	db, kinds := pg.Ident(id), map[string]bool{}
	for _, i := range changed {
		kinds[strings.TrimPrefix(i.Kind, "owner ")] = true
	}
	var sql []string
	if kinds["owner"] {
		sql = append(sql, fmt.Sprintf("ALTER DATABASE %s OWNER TO %s", db, pg.Ident(owner)))
	}
	if kinds["limit"] {
		limit := int32(-1)
		if c.Limit != nil {
			limit = *c.Limit
		}
		sql = append(sql, fmt.Sprintf("ALTER DATABASE %s CONNECTION LIMIT %d", db, limit))
	}
	if kinds["template"] {
		sql = append(sql, fmt.Sprintf("ALTER DATABASE %s IS_TEMPLATE false", db))
	}
	if kinds["comment"] {
		sql = append(sql, fmt.Sprintf("COMMENT ON DATABASE %s IS NULL", db))
	}
	if kinds["setting"] {
		sql = append(sql, fmt.Sprintf("ALTER DATABASE %s RESET ALL", db))
	}
	for _, i := range now {
		switch {
		case kinds["setting"] && i.Kind == "setting" && i.Role != "":
			sql = append(sql, fmt.Sprintf("ALTER ROLE %s IN DATABASE %s RESET %s", pg.Ident(i.Role), db,
				pgx.Identifier(strings.Split(i.Name, ".")).Sanitize()))
		case kinds["right"] && i.Kind == "right" && i.Role != "":
			sql = append(sql, fmt.Sprintf("REVOKE ALL ON DATABASE %s FROM %s", db, pg.Ident(i.Role)))
		}
	}
	if kinds["right"] || kinds["owner"] {
		sql = append(sql, c.granting(id, owner))
	}
	c.Grants = nil // given by now
	if !kinds["setting"] {
		c.Settings = nil
	}
	return strings.Join(append(sql, c.statements(id, owner, kinds["comment"])), "; ")
}

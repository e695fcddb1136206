package postgres

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"hemzo/internal/engine"
)

// carry is what CREATE DATABASE ... TEMPLATE does not copy, and what a crash
// of the server takes from a template.
type carry struct {
	Settings []string `json:"settings,omitempty"` // NAME=VALUE, of the database itself
	Grants   []grant  `json:"grants,omitempty"`   // on the database itself
	Unlogged []string `json:"unlogged,omitempty"` // unlogged tables that have rows
}

// grant is one right on a database.
type grant struct {
	Role  string `json:"role"` // "" for everybody
	Right string `json:"right"`
	Pass  bool   `json:"pass,omitempty"` // may be passed on
}

func (c carry) empty() bool { return c.Settings == nil && c.Grants == nil && c.Unlogged == nil }

// carried reads what the copies of a database need beside its files.
func carried(ctx context.Context, conn *pgx.Conn) (c carry, err error) {
	read := func(sql string) []string {
		if err != nil {
			return nil
		}
		var rows pgx.Rows
		if rows, err = conn.Query(ctx, sql); err != nil {
			return nil
		}
		var all []string
		all, err = pgx.CollectRows(rows, pgx.RowTo[string])
		if len(all) == 0 {
			return nil
		}
		return all
	}
	const own = "(SELECT oid FROM pg_database WHERE datname = current_database())"
	c.Settings = read("SELECT unnest(setconfig) FROM pg_db_role_setting WHERE setrole = 0 AND setdatabase = " + own)
	for _, row := range read(`SELECT json_build_object('role', coalesce(r.rolname, ''), 'right', a.privilege_type, 'pass', a.is_grantable)::text
		FROM pg_database d, aclexplode(d.datacl) a LEFT JOIN pg_roles r ON r.oid = a.grantee
		WHERE d.datname = current_database() AND a.grantee <> d.datdba ORDER BY 1`) {
		var g grant
		if err == nil {
			err = json.Unmarshal([]byte(row), &g)
		}
		c.Grants = append(c.Grants, g)
	}
	for _, table := range read("SELECT format('%I.%I', n.nspname, c.relname) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind = 'r' AND c.relpersistence = 'u'") {
		if some(ctx, conn, table) {
			c.Unlogged = append(c.Unlogged, table)
		}
	}
	if err != nil {
		return c, fmt.Errorf("reading what copies need: %w", err)
	}
	return c, nil
}

func some(ctx context.Context, conn *pgx.Conn, table string) (yes bool) {
	_ = conn.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM "+table+")").Scan(&yes)
	return yes
}

// bring puts on a fresh copy what its source carries. A template that a crash
// has emptied is dropped: it is to be built again.
func (s *server) bring(ctx context.Context, id string, from engine.Entry) error {
	if from.Facts.Carry == nil {
		return nil
	}
	var c carry
	if err := json.Unmarshal(from.Facts.Carry, &c); err != nil {
		return fmt.Errorf("reading the facts of %s: %w", from.ID, err)
	}
	if sql := c.statements(id); sql != "" {
		if err := s.do(ctx, sql); err != nil {
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
	for _, table := range c.Unlogged {
		if some(ctx, conn, table) {
			continue
		}
		if from.Kind == engine.Template {
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
	if !slices.Contains([]string{"search_path", "temp_tablespaces", "local_preload_libraries", "session_preload_libraries"}, name) || value == "" {
		return literal(value)
	}
	r := csv.NewReader(strings.NewReader(value))
	r.TrimLeadingSpace = true
	parts, err := r.Read()
	if err != nil {
		return literal(value)
	}
	for i, p := range parts {
		parts[i] = literal(p)
	}
	return strings.Join(parts, ", ")
}

func (c carry) statements(id string) string {
	var b strings.Builder
	for _, set := range c.Settings {
		name, value, _ := strings.Cut(set, "=")
		fmt.Fprintf(&b, "ALTER DATABASE %s SET %s = %s;", ident(id), pgx.Identifier(strings.Split(name, ".")).Sanitize(), setting(name, value))
	}
	if c.Grants == nil {
		return b.String()
	}
	fmt.Fprintf(&b, "REVOKE ALL ON DATABASE %s FROM PUBLIC;", ident(id))
	for _, g := range c.Grants {
		role, pass := "PUBLIC", ""
		if g.Role != "" {
			role = ident(g.Role)
		}
		if g.Pass {
			pass = " WITH GRANT OPTION"
		}
		fmt.Fprintf(&b, "GRANT %s ON DATABASE %s TO %s%s;", g.Right, ident(id), role, pass)
	}
	return b.String()
}

package cli

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"hemzo/internal/engine"
	"hemzo/internal/reset"
)

func (a *app) changesCommand() *cobra.Command {
	var (
		rows  bool
		limit = 20
		wait  time.Duration
	)
	c := &cobra.Command{
		Use:   "changes [COPY]",
		Short: "What differs from the start state: what a test left behind",
		Args:  cobra.MaximumNArgs(1), ValidArgsFunction: a.oneCopy,
		RunE: a.onCopy(func(c *cobra.Command, s *session, f found, args []string) error {
			if !rows {
				limit = 0
			}
			changes, err := f.changes(c.Context(), limit, wait)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(changes)
			}
			a.showChanges(f.entry, changes)
			return nil
		}),
	}
	c.Flags().BoolVar(&rows, "rows", false, "show the rows too")
	c.Flags().Var(&numberFlag{&limit}, "limit", "how many rows of a table to show (default 20)")
	waitFlag(c, &wait)
	return c
}

// changes compares a copy with its start state, by its owner where that alone can.
func (f found) changes(ctx context.Context, rows int, wait time.Duration) (*engine.Changes, error) {
	done, err := f.throughOwner(ctx, "GET", "/changes", url.Values{"rows": {strconv.Itoa(rows)}})
	if err == nil {
		return done.Changes, nil
	}
	if !errors.Is(err, errNotThere) {
		return nil, err
	}
	if err := f.standsAlone(ctx); err != nil {
		return nil, err
	}
	return reset.Changes(ctx, f.scoped.Server, f.entry, rows, f.wait(wait))
}

func (a *app) showChanges(e engine.Entry, c *engine.Changes) {
	p := a.paintFor(a.outTerm)
	if len(c.Tables)+len(c.Sequences)+len(c.Schema) == 0 {
		a.say("%s is at its start state", p.strong(e.Facts.Name))
		return
	}
	var parts []string
	if n := len(c.Tables); n > 0 {
		_, table := units(c.Unit)
		parts = append(parts, count(n, table))
	}
	if n := len(c.Sequences); n > 0 {
		parts = append(parts, count(n, "counter"))
	}
	if n := len(c.Schema); n > 0 {
		parts = append(parts, count(n, "schema change"))
	}
	a.say("%s differs from its start state in %s", p.strong(e.Facts.Name), strings.Join(parts, ", "))
	if len(c.Schema) > 0 {
		a.say("")
		g := &grid{}
		for _, s := range c.Schema {
			g.add(p.honey(s.What), s.Kind, s.Name)
			for _, d := range s.Details {
				g.add("", "", "  "+d)
			}
		}
		a.print(g, "  ")
	}
	for _, t := range c.Tables {
		a.showTable(p, t)
	}
	if len(c.Sequences) > 0 {
		a.say("")
		g := &grid{right: map[int]bool{1: true, 3: true}}
		for _, s := range c.Sequences {
			g.add("counter of "+p.strong(s.Name), s.Before, p.dim("now"), p.honey(s.After))
		}
		a.print(g, "  ")
	}
}

func (a *app) showTable(p paint, t engine.TableChange) {
	var parts []string
	for _, n := range []struct {
		n    int64
		text string
	}{{t.Added, p.good("added")}, {t.Removed, p.bad("removed")}, {t.Altered, p.honey("altered")}} {
		if n.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n.n, n.text))
		}
	}
	a.say("")
	a.say("  %s  %s", p.strong(t.Name), strings.Join(parts, ", "))
	if len(t.Rows) == 0 {
		return
	}
	g := &grid{}
	head := []string{""}
	for _, c := range t.Columns {
		head = append(head, p.dim(c))
	}
	g.add(head...)
	for _, r := range t.Rows {
		var cells []string
		switch {
		case r.Before == nil:
			cells = append([]string{p.good("added")}, texts(r.After)...)
		case r.After == nil:
			cells = append([]string{p.bad("removed")}, texts(r.Before)...)
		default:
			cells = []string{p.honey("altered")}
			for i := range r.Before {
				was, is := cell(r.Before[i]), cell(r.After[i])
				if fmt.Sprintf("%#v", r.Before[i]) != fmt.Sprintf("%#v", r.After[i]) {
					is = p.honey(was + " → " + is)
				}
				cells = append(cells, is)
			}
		}
		g.add(cells...)
	}
	a.print(g, "    ")
	if all := t.Added + t.Removed + t.Altered; all > int64(len(t.Rows)) {
		a.say("    %s", p.dim(fmt.Sprintf("and %d more (--limit)", all-int64(len(t.Rows)))))
	}
}

func texts(values []any) []string {
	out := make([]string, len(values))
	for i, v := range values {
		out[i] = cell(v)
	}
	return out
}

// cell writes a value for a table: short, on one line.
func cell(v any) string {
	text := plain(v)
	text = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return '·'
		}
		return r
	}, text)
	const most = 32
	if utf8.RuneCountInString(text) <= most {
		return text
	}
	return string([]rune(text)[:most-1]) + "…"
}

// plain writes a value in full.
func plain(v any) string {
	switch v := v.(type) {
	case nil:
		return "NULL"
	case []byte:
		return "x'" + hex.EncodeToString(v) + "'"
	case float64:
		return strconv.FormatFloat(v, 'g', -1, 64)
	}
	return fmt.Sprint(v)
}

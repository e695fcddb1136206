package cli

import (
	"context"
	"errors"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"hemzo/internal/engine"
)

// clients lists who is connected: to the gate of a copy that is reset by rollback, as its
// run tells, where this is a command of that run.
func (f found) clients(ctx context.Context) ([]engine.Client, error) {
	done, err := f.throughOwner(ctx, "GET", "/sessions", url.Values{})
	if err == nil {
		return done.Sessions, nil
	}
	if !errors.Is(err, errNotThere) {
		return nil, err
	}
	return f.scoped.Server.Clients(ctx, f.entry.ID)
}

func (a *app) sessionsCommand() *cobra.Command {
	return &cobra.Command{
		Use: "sessions [COPY]", Short: "Who is connected to a copy, running what",
		Args: cobra.MaximumNArgs(1), ValidArgsFunction: a.oneCopy,
		RunE: a.onCopy(func(c *cobra.Command, s *session, f found, _ []string) error {
			all, err := f.clients(c.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(append([]engine.Client{}, all...))
			}
			p := a.paintFor(a.outTerm)
			if len(all) == 0 {
				a.say("nobody is connected to %s, as far as its engine tells", p.strong(f.entry.Facts.Name))
				return nil
			}
			g := &grid{right: map[int]bool{0: true}, drop: []int{3, 5, 1}, whole: map[int]bool{0: true, 6: true}}
			waiting := false
			g.add(p.dim("pid"), p.dim("user"), p.dim("application"), p.dim("from"), p.dim("state"), p.dim("connected"),
				p.dim("waits for"), p.dim("query"))
			for _, x := range all {
				var waits []string
				for _, pid := range x.WaitsFor {
					waiting = true
					waits = append(waits, "pid "+strconv.Itoa(pid))
				}
				g.add(strconv.Itoa(x.PID), x.User, x.Application, x.Address, x.State, ago(x.Since),
					p.bad(strings.Join(waits, ", ")), cell(x.Query))
			}
			if !waiting {
				g.empty(6)
			}
			a.print(g, "  ")
			return nil
		}),
	}
}

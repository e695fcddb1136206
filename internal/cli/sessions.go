package cli

import (
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"hemzo/internal/engine"
)

func (a *app) sessionsCommand() *cobra.Command {
	return &cobra.Command{
		Use: "sessions [COPY]", Short: "Who is connected to a copy, running what",
		Args: cobra.MaximumNArgs(1), ValidArgsFunction: a.oneCopy,
		RunE: a.onCopy(func(c *cobra.Command, s *session, f found, _ []string) error {
			all, err := f.scoped.Server.Clients(c.Context(), f.entry.ID)
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

package cli

import (
	"strconv"

	"github.com/spf13/cobra"
)

func (a *app) sessionsCommand() *cobra.Command {
	return &cobra.Command{
		Use: "sessions [COPY]", Short: "Who is connected to a copy, running what",
		Args: cobra.MaximumNArgs(1), ValidArgsFunction: a.copyNames,
		RunE: a.onCopy(func(c *cobra.Command, s *session, f found, _ []string) error {
			all, err := f.scoped.Server.Clients(c.Context(), f.entry.ID)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(all)
			}
			p := a.paintFor(a.outTerm)
			if len(all) == 0 {
				a.say("nobody is connected to %s, as far as its engine tells", p.strong(f.entry.Facts.Name))
				return nil
			}
			g := &grid{right: map[int]bool{0: true}}
			g.add(p.dim("pid"), p.dim("user"), p.dim("application"), p.dim("from"), p.dim("state"), p.dim("since"),
				p.dim("query"))
			for _, x := range all {
				g.add(strconv.Itoa(x.PID), x.User, x.Application, x.Address, x.State, ago(x.Since), cell(x.Query))
			}
			a.print(g, "  ")
			return nil
		}),
	}
}

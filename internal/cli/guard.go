package cli

import (
	"github.com/spf13/cobra"

	"hemzo/internal/copies"
	"hemzo/internal/engine/all"
	"hemzo/internal/place"
)

// guardCommand is what a guard runs as; Hemzo starts it itself.
func (a *app) guardCommand() *cobra.Command {
	return &cobra.Command{
		Use: place.GuardCommand + " RECORD", Hidden: true, Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			return place.Guard(args[0], all.Engines(), copies.SweepGuarded)
		},
	}
}

func (a *app) stopCommand() *cobra.Command {
	var force, templates bool
	c := &cobra.Command{
		Use: "stop", Short: "End the servers that Hemzo started", Args: cobra.NoArgs,
		Long: `Stop ends the private servers of this user, with all their copies. Their
templates are kept for the next start, unless --templates says otherwise.`,
		RunE: func(c *cobra.Command, _ []string) error {
			gone, err := place.Stop(c.Context(), all.Engines(), force)
			if err != nil {
				return err
			}
			if templates {
				if err := place.Forget(c.Context()); err != nil {
					return err
				}
			}
			if a.json {
				return a.printJSON(append([]string{}, gone...))
			}
			if !a.quiet {
				a.say("%s ended", count(len(gone), "server"))
			}
			return nil
		},
	}
	c.Flags().BoolVar(&force, "force", false, "also those with a copy whose owner is still running")
	c.Flags().BoolVar(&templates, "templates", false, "and remove what is kept of their templates for the next start")
	return c
}

package cli

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"hemzo/internal/place"
	"hemzo/internal/project"
)

// completion is how the values of a flag or an argument are completed.
type completion func(c *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective)

// completing completes from a project's session; what cannot be asked completes
// nothing. Nothing is started for it.
func (a *app) completing(list func(c *cobra.Command, s *session, args []string) []string) completion {
	return func(c *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		s, err := a.begin()
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		defer s.close()
		names := slices.DeleteFunc(list(c, s, args), func(n string) bool { return slices.Contains(args, n) })
		return names, cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveKeepOrder
	}
}

// databaseNames completes names of databases.
func (a *app) databaseNames(c *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
	return a.completing(func(_ *cobra.Command, s *session, _ []string) (names []string) {
		for _, d := range s.project.Databases {
			names = append(names, d.Name)
		}
		return names
	})(c, args, begun)
}

// copyNames completes names of copies.
func (a *app) copyNames(c *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
	return a.completing(func(c *cobra.Command, s *session, _ []string) (names []string) {
		scopedServers, _ := s.scopedServers(c.Context(), place.Look)
		for _, scoped := range scopedServers {
			copies, _ := scoped.Copies(c.Context())
			for _, e := range copies {
				names = append(names, e.Facts.Name)
			}
		}
		return names
	})(c, args, begun)
}

// oneCopy completes the one copy of a command that takes no other.
func (a *app) oneCopy(c *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return a.copyNames(c, args, begun)
}

// snapshotNames completes names of the snapshots of the copy that is named, or of
// the only one.
func (a *app) snapshotNames(c *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
	return a.completing(func(c *cobra.Command, s *session, args []string) (names []string) {
		f, err := s.find(c.Context(), first(args))
		if err != nil {
			return nil
		}
		all, _ := f.scoped.Snapshots(c.Context(), f.entry)
		for _, e := range all {
			names = append(names, e.Facts.Name)
		}
		return names
	})(c, args, begun)
}

// copyAndSnapshot completes a copy, then one of its snapshots.
func (a *app) copyAndSnapshot(c *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
	switch len(args) {
	case 0:
		return a.copyNames(c, args, begun)
	case 1:
		return a.snapshotNames(c, args, begun)
	}
	return nil, cobra.ShellCompDirectiveNoFileComp
}

// stepNames completes the steps of the database that is named, or of all.
func (a *app) stepNames(c *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
	return a.completing(func(c *cobra.Command, s *session, args []string) (names []string) {
		chosen, err := s.project.Choose(args...)
		if err != nil { // the argument is a copy
			chosen, _ = s.project.Choose()
		}
		for _, d := range chosen {
			plan, err := s.plan(c.Context(), d)
			if err != nil {
				continue
			}
			for _, step := range plan.Steps {
				names = append(names, step.Name)
			}
		}
		return names
	})(c, args, begun)
}

// profileNames completes the profiles of the project file.
func (a *app) profileNames(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	file, err := project.Find(".", a.project)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return project.Profiles(file), cobra.ShellCompDirectiveNoFileComp
}

// completionCommand prints the script by which a shell completes what is typed.
func (a *app) completionCommand(root *cobra.Command) *cobra.Command {
	shells := []string{"bash", "zsh", "fish"}
	return &cobra.Command{
		Use: "completion " + strings.Join(shells, "|"), Short: "The completion script for a shell",
		Long: `Completion prints the script by which a shell completes commands, flags, copies,
snapshots and steps. For the running shell:

  source <(hemzo completion bash)
  source <(hemzo completion zsh)
  hemzo completion fish | source`,
		Args: cobra.MatchAll(cobra.ExactArgs(1), cobra.OnlyValidArgs), ValidArgs: shells,
		RunE: func(_ *cobra.Command, args []string) error {
			switch args[0] {
			case "bash":
				return root.GenBashCompletionV2(a.out, true)
			case "zsh":
				return root.GenZshCompletion(a.out)
			}
			return root.GenFishCompletion(a.out, true)
		},
	}
}

// ways completes the ways to reset.
func ways(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return []string{"truncation", "rollback", "snapshot"}, cobra.ShellCompDirectiveNoFileComp
}

package cli

import (
	"fmt"
	"runtime"

	"github.com/spf13/cobra"
)

func (a *app) versionCommand() *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Which Hemzo this is", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if a.json {
				return a.printJSON(map[string]string{
					"version": a.build.Version, "commit": a.build.Commit,
					"go": runtime.Version(), "system": runtime.GOOS + "/" + runtime.GOARCH,
				})
			}
			a.say("%s", a.versionLine())
			return nil
		},
	}
}

func (a *app) versionLine() string {
	return fmt.Sprintf("hemzo %s (commit %s, %s, %s/%s)", a.build.Version, a.build.Commit, runtime.Version(),
		runtime.GOOS, runtime.GOARCH)
}

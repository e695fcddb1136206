package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"hemzo/internal/fault"
)

// exclusively is the annotation with the flags of which one may be given.
const exclusively = "exclusively"

// oneOf lets a command take one of some flags.
func oneOf(c *cobra.Command, flags ...string) {
	if c.Annotations == nil {
		c.Annotations = map[string]string{}
	}
	c.Annotations[exclusively] += strings.Join(flags, " ") + ";"
}

// checkUsage says in Hemzo's words what is wrong with a command's arguments.
func checkUsage(c *cobra.Command) {
	check := c.Args
	c.Args = func(c *cobra.Command, args []string) error {
		usage := "usage: " + c.UseLine()
		if check != nil && check(c, args) != nil {
			if c.HasSubCommands() && len(args) > 0 {
				return noCommand(c, args[0])
			}
			if len(args) == 0 {
				return fault.New(fault.Usage, usage, "an argument is missing")
			}
			return fault.New(fault.Usage, usage, "these arguments do not fit: %s", strings.Join(args, " "))
		}
		for _, group := range strings.Split(strings.TrimSuffix(c.Annotations[exclusively], ";"), ";") {
			given := slices.DeleteFunc(strings.Fields(group), func(name string) bool { return !c.Flags().Changed(name) })
			if len(given) > 1 {
				return fault.New(fault.Usage, usage, "--%s and --%s exclude one another", given[0], given[1])
			}
		}
		return nil
	}
}

// noCommand is the error about a command that is not there.
func noCommand(above *cobra.Command, name string) error {
	next := above.CommandPath() + " --help lists the commands"
	if near := above.SuggestionsFor(name); len(near) > 0 {
		next = "did you mean  " + above.CommandPath() + " " + strings.Join(near, "  or  "+above.CommandPath()+" ") + " ?"
	}
	return fault.New(fault.Usage, next, "there is no command %q", name)
}

// flagError says in Hemzo's words what is wrong with a flag.
func flagError(c *cobra.Command, err error) error {
	next := c.CommandPath() + " --help lists the flags"
	if e, ok := errors.AsType[*pflag.NotExistError](err); ok {
		name := "--" + e.GetSpecifiedName()
		if e.GetSpecifiedShortnames() != "" {
			name = "-" + e.GetSpecifiedName()
		}
		return fault.New(fault.Usage, next, "%s has no flag %s", c.CommandPath(), name)
	}
	if e, ok := errors.AsType[*pflag.ValueRequiredError](err); ok {
		return fault.New(fault.Usage, next, "--%s needs a value", e.GetFlag().Name)
	}
	if e, ok := errors.AsType[*pflag.InvalidValueError](err); ok {
		wanted := map[string]string{"bool": "is neither true nor false", "int": "is not a whole number",
			"duration": "is not a duration, as 90s, 30m, 2h or 7d are", "number": "is not a whole number, zero or more"}
		kind := e.GetFlag().Value.Type()
		if wanted[kind] == "" {
			wanted[kind] = "does not fit"
		}
		return fault.New(fault.Usage, next, "--%s: %q %s", e.GetFlag().Name, e.GetValue(), wanted[kind])
	}
	return fault.New(fault.Usage, next, "these flags cannot be read")
}

// helpCommand shows what --help does, for the command that is named.
func helpCommand(root *cobra.Command) *cobra.Command {
	return &cobra.Command{
		Use: "help [COMMAND]", Short: "Help on a command",
		ValidArgsFunction: func(_ *cobra.Command, args []string, _ string) (names []string, _ cobra.ShellCompDirective) {
			if len(args) == 0 {
				for _, c := range root.Commands() {
					if c.IsAvailableCommand() {
						names = append(names, fmt.Sprintf("%s\t%s", c.Name(), c.Short))
					}
				}
			}
			return names, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, args []string) error {
			c, rest, err := root.Find(args)
			if err != nil || len(rest) > 0 {
				return noCommand(root, args[0])
			}
			c.InitDefaultHelpFlag()
			return c.Help()
		},
	}
}

package cli

import (
	"context"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
)

// completing is how long the shell waits for what could stand here.
const completing = 2 * time.Second

// byReference are commands whose first argument is a reference, and those whose is a drawer.
var (
	byReference = []string{"read", "check", "put", "history", "sample", "exposure", "describe"}
	byDrawer    = []string{"list", "export", "import"}
)

// complete lets the shell complete references and drawers, as far as whoever is signed in may list them.
func (a *app) complete(root *cobra.Command) {
	for _, command := range root.Commands() {
		switch {
		case slices.Contains(byReference, command.Name()):
			command.ValidArgsFunction = a.references
		case slices.Contains(byDrawer, command.Name()):
			command.ValidArgsFunction = a.drawers
		}
	}
}

func (a *app) drawers(cmd *cobra.Command, arguments []string, begun string) ([]string, cobra.ShellCompDirective) {
	if len(arguments) > 0 {
		return nil, cobra.ShellCompDirectiveDefault
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(cmd.Context()), completing)
	defer cancel()
	c, err := a.connected()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	drawers, err := c.Drawers(ctx)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var names []string
	for _, d := range drawers {
		if strings.HasPrefix(d.Name, begun) {
			names = append(names, d.Name)
		}
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

func (a *app) references(cmd *cobra.Command, arguments []string, begun string) ([]string, cobra.ShellCompDirective) {
	if len(arguments) > 0 {
		return nil, cobra.ShellCompDirectiveDefault
	}
	drawer, item, inside := strings.Cut(begun, "/")
	if !inside {
		names, directive := a.drawers(cmd, arguments, begun)
		for i := range names {
			names[i] += "/"
		}
		return names, directive | cobra.ShellCompDirectiveNoSpace
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(cmd.Context()), completing)
	defer cancel()
	c, err := a.connected()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	contents, err := c.Drawer(ctx, drawer)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var names []string
	for _, i := range contents.Items {
		if _, name, _ := strings.Cut(i.Reference, "/"); strings.HasPrefix(name, item) {
			names = append(names, i.Reference)
		}
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

package cli

import (
	"context"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/core/access"
	"tansu/internal/core/reference"
)

// completing is how long the shell waits for what could stand here.
const completing = 2 * time.Second

// completer lists the completions of a text, limited to what the signed-in identity may know of.
type completer func(ctx context.Context, begun string) []string

// complete lets the shell complete whatever has a name: each argument by the word that the usage of its command has for it, and the
// options that name something.
func (a *app) complete(root *cobra.Command) {
	for _, command := range root.Commands() {
		a.complete(command)
		words := argumentWords(command)
		if len(words) > 0 {
			command.ValidArgsFunction = func(cmd *cobra.Command, arguments []string, begun string) ([]string, cobra.ShellCompDirective) {
				if len(arguments) >= len(words) {
					return nil, cobra.ShellCompDirectiveDefault
				}
				return a.offer(cmd, a.completerOf(command, words[len(arguments)]), begun)
			}
		}
		for flag, word := range map[string]string{"owner": "SUBJECT", "as": "SUBJECT", "subject": "SUBJECT", "drawer": "DRAWER", "in": "IN",
			"target": "DRAWER/ITEM", "same-as": "DRAWER/ITEM", "app": "APP", "custodian": "SUBJECT", "action": "ACTION"} {
			if command.Flags().Lookup(flag) != nil {
				_ = command.RegisterFlagCompletionFunc(flag, func(cmd *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
					return a.offer(cmd, a.completerOf(command, word), begun)
				})
			}
		}
	}
	if !root.HasParent() {
		_ = root.RegisterFlagCompletionFunc("profile", func(cmd *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
			return a.offer(cmd, a.profileNames, begun)
		})
	}
}

// argumentWords are the words of a command's usage that stand for arguments.
func argumentWords(command *cobra.Command) (words []string) {
	for _, word := range strings.Fields(command.Use)[1:] {
		if word = strings.Trim(word, "[]"); word == "" || strings.ToUpper(word) != word || strings.HasPrefix(word, "(") || word[0] == '-' {
			break
		}
		words = append(words, word)
	}
	return words
}

func (a *app) offer(cmd *cobra.Command, list completer, begun string) ([]string, cobra.ShellCompDirective) {
	if list == nil {
		return nil, cobra.ShellCompDirectiveDefault
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(cmd.Context()), completing)
	defer cancel()
	names := slices.DeleteFunc(list(ctx, begun), func(name string) bool { return !strings.HasPrefix(name, begun) })
	directive := cobra.ShellCompDirectiveNoFileComp
	if len(names) > 0 && strings.HasSuffix(names[0], "/") {
		directive |= cobra.ShellCompDirectiveNoSpace
	}
	return names, directive
}

// completerOf is what completes a word of a command's usage; nil for nothing that has a name.
func (a *app) completerOf(command *cobra.Command, word string) completer {
	group := ""
	if command.HasParent() {
		group = command.Parent().Name()
	}
	switch word {
	case "DRAWER":
		return a.drawers("")
	case "SCOPE":
		return a.drawers("/**")
	case "SUBJECT", "FROM", "TO":
		return a.subjects("")
	case "APP":
		return a.subjects(reference.App + ":")
	case "TEAM":
		return a.subjects(reference.Team + ":")
	case "ROLE":
		return a.roles
	case "ACTION":
		return func(context.Context, string) []string { return access.AllActions.Names() }
	case "GRANT":
		return a.grants
	case "IN":
		return a.environments(command)
	case "NAME":
		switch group {
		case reference.App, reference.Person, reference.Team:
			return a.subjects(group + ":")
		case "drawer":
			return a.drawers("")
		case "role":
			return a.roles
		case "profile":
			return a.profileNames
		}
	}
	if strings.HasPrefix(word, "DRAWER/ITEM") || strings.HasPrefix(word, "DRAWER[/ITEM") || word == "REFERENCE" || word == "TARGET" {
		return a.references
	}
	return nil
}

// known asks the chest that one is connected to, and offers nothing when it does not answer.
func known[T any](a *app, ask func(*client.Client) ([]T, error), name func(T) string) (names []string) {
	c, err := a.connected()
	if err != nil {
		return nil
	}
	list, err := ask(c)
	if err != nil {
		return nil
	}
	for _, one := range list {
		names = append(names, name(one))
	}
	return names
}

func (a *app) drawers(ending string) completer {
	return func(ctx context.Context, _ string) []string {
		return known(a, func(c *client.Client) ([]client.Drawer, error) { return c.Drawers(ctx) },
			func(d client.Drawer) string { return d.Name + ending })
	}
}

// subjects completes those of a kind without it, or all with theirs.
func (a *app) subjects(kind string) completer {
	return func(ctx context.Context, _ string) []string {
		names := known(a, func(c *client.Client) ([]client.Identity, error) { return c.Identities(ctx) },
			func(i client.Identity) string { return i.Subject })
		names = slices.DeleteFunc(names, func(name string) bool { return !strings.HasPrefix(name, kind) })
		for i := range names {
			names[i] = strings.TrimPrefix(names[i], kind)
		}
		return names
	}
}

func (a *app) roles(ctx context.Context, _ string) []string {
	return known(a, func(c *client.Client) ([]client.Role, error) { return c.Roles(ctx) }, func(r client.Role) string { return r.Name })
}

func (a *app) grants(ctx context.Context, _ string) []string {
	return known(a, func(c *client.Client) ([]client.Grant, error) { return c.Grants(ctx, "") }, func(g client.Grant) string {
		return g.ID + "\t" + g.Subject + " " + g.Role + " " + g.Scope
	})
}

func (a *app) profileNames(context.Context, string) (names []string) {
	all, err := loadProfiles()
	if err != nil {
		return nil
	}
	for name := range all.Profiles {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// environments completes those of the manifest that a command works with.
func (a *app) environments(command *cobra.Command) completer {
	return func(context.Context, string) []string {
		o := needsOptions{file: command.Flags().Lookup("manifest").Value.String()}
		m, err := o.read()
		if err != nil {
			return nil
		}
		return m.Environments()
	}
}

// references completes the items of a drawer once its name is there, and before that the drawers.
func (a *app) references(ctx context.Context, begun string) []string {
	drawer, _, inside := strings.Cut(begun, "/")
	if !inside {
		return a.drawers("/")(ctx, begun)
	}
	return known(a, func(c *client.Client) ([]client.Item, error) {
		contents, err := c.Drawer(ctx, drawer)
		return contents.Items, err
	}, func(it client.Item) string { return it.Reference })
}

// meant are the words that people try first for some commands.
var meant = map[string][]string{
	"read": {"get", "fetch", "cat", "view", "reveal", "retrieve"}, "list": {"ls", "items"}, "put": {"set", "write", "store", "create"},
	"describe": {"edit", "update", "label"}, "sign-in": {"login", "signin", "auth"}, "sign-out": {"logout", "signout"},
	"import": {"load"}, "history": {"versions", "log"}, "trail": {"audit", "logs", "entries"}, "run": {"exec", "env"},
	"grant": {"allow", "permit", "access"}, "search": {"find", "grep"}, "init": {"found", "setup"},
	"serve": {"server", "start", "daemon"}, "person": {"user", "users", "people"}, "app": {"application", "client", "service"},
	"team": {"group", "groups"}, "drawer": {"folder", "project"}, "password": {"passwd"}, "rules": {"rule"},
	"item": {"secret", "delete", "remove", "rm", "rotate", "mv", "rename"}, "role": {"permissions"}, "leaks": {"scan"},
}

// suggest lets those words lead to the command.
func suggest(root *cobra.Command) {
	for _, command := range root.Commands() {
		command.SuggestFor = meant[command.Name()]
	}
}

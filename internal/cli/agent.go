package cli

import (
	"fmt"
	"log/slog"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/agent"
	"tansu/internal/core/reference"
	"tansu/internal/server"
)

func (a *app) agentCommand() *cobra.Command {
	var host string
	command := &cobra.Command{
		Use:   "agent FILE",
		Short: "Serve values to the users of this host, whom the kernel vouches for",
		Long: `Runs the one process on a host that has to do with the chest. It listens on a Unix socket; the kernel says which user
asks, and the rules in FILE say as which app that user reads:

  agent: 1
  socket: /run/tansu/agent.sock
  journal: /var/lib/tansu-agent/reads
  serves:
    - user: gate
      profile: gate-controller
      references: ["harbour-gates-prod/**"]

A profile is made on the host with tansu --profile gate-controller connect and enrol. Programs then use the socket as they
would use the chest: tansu connect unix:/run/tansu/agent.sock.

Where a rule of a drawer lets hosts keep values (tansu rules set DRAWER --host-keeps 4h), they are kept, encrypted in memory, and
served while the chest is away. Every read that the chest has not recorded is in the journal before the answer leaves, and
reported.`,
		Example: "  tansu agent /etc/tansu/agent.yaml",
		Args:    exactly("FILE"),
		RunE: func(cmd *cobra.Command, arguments []string) error {
			config, err := agent.LoadConfig(arguments[0])
			if err != nil {
				return usagef("%s: %s", arguments[0], strings.ReplaceAll(err.Error(), "\n", "\n  "))
			}
			if host == "" {
				host = hostName()
			}
			if err := server.HideMemory(); err != nil {
				return err
			}
			running, err := agent.Start(agent.Options{Config: config, Host: host, Connect: agentProfile,
				Log: slog.New(slog.NewTextHandler(a.Err, nil))})
			if err != nil {
				return err
			}
			a.say("Serving at %s.", config.Socket)
			err = running.Wait(cmd.Context())
			if stopped := running.Stop(); err == nil {
				err = stopped
			}
			return err
		},
	}
	command.Flags().StringVar(&host, "host", "", "what the trail calls this host; its own `name` when left out")
	return command
}

// agentProfile connects as an app that signs in by itself.
func agentProfile(name string) (*client.Client, error) {
	all, err := loadProfiles()
	if err != nil {
		return nil, err
	}
	p := all.Profiles[name]
	if p == nil {
		return nil, fmt.Errorf("there is none on this host: tansu --profile %s connect ADDRESS, then tansu --profile %s enrol", name, name)
	}
	if p.App == "" {
		return nil, fmt.Errorf("it is not signed in as an app with a key of its own: tansu --profile %s enrol, with a code of tansu app "+
			"host-code", name)
	}
	return p.client("", nil)
}

// hostName is the host's name as the trail has names.
func hostName() string {
	name, err := os.Hostname()
	name = strings.ToLower(strings.Trim(name, "."))
	if err != nil || reference.CheckName(name) != nil {
		return "unnamed-host"
	}
	return name
}

package cli

import (
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"tansu/internal/core/secretvalue"
	"tansu/internal/opening"
	"tansu/internal/service"
	"tansu/internal/store"
)

func (a *app) examineCommand() *cobra.Command {
	var dir, keyFile string
	command := &cobra.Command{
		Use:   "examine",
		Short: "Check everything in the data directory, and report what is not as it was stored",
		Long: `Looks at every row that decides access, every value, the whole trail with its archives, the database file itself, and the files beside it,
and names what is damaged or was changed by anything other than Tansu. With --dir it does the same in a data directory that no service
runs on. The exit code is 0 only when everything was looked at and nothing is wrong; otherwise it is 1.`,
		Example: "  tansu examine\n  tansu examine --dir /var/lib/tansu --key-file /root/tansu.key",
		Args:    exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if dir != "" {
				return a.offline(dir, keyFile, func(records *store.Store, material secretvalue.Value) error {
					s, err := service.New(records, service.Options{})
					if err != nil {
						return err
					}
					wrong, err := s.ExamineStopped(cmd.Context(), material)
					if err != nil {
						return err
					}
					return a.tellWrong(wrong)
				})
			}
			c, err := a.connected()
			if err != nil {
				return err
			}
			wrong, err := c.Examine(cmd.Context())
			if err != nil {
				return err
			}
			return a.tellWrong(wrong)
		},
	}
	a.offlineFlags(command, &dir, &keyFile)
	return command
}

func (a *app) renewCertificateCommand() *cobra.Command {
	var dir, keyFile string
	var hosts []string
	command := &cobra.Command{
		Use:   "renew-certificate --dir DIR [--key-file FILE]",
		Short: "Renew the service's certificate and its key, in a data directory that no service runs on",
		Long: `For when server.key, server.crt or authority.crt is lost, or somebody else may have had server.key. The authority stays
the same, so nothing changes for clients. The service replaces a certificate that is about to end by itself.`,
		Args: exactly(),
		RunE: func(*cobra.Command, []string) error {
			return a.offline(dir, keyFile, func(records *store.Store, material secretvalue.Value) error {
				if err := opening.RenewStopped(records, material, serverHosts(hosts), time.Now()); err != nil {
					return err
				}
				return a.show(map[string]string{"dir": dir}, func() { fmt.Fprintln(a.Out, "The certificate and its key are renewed.") })
			})
		},
	}
	a.offlineFlags(command, &dir, &keyFile)
	command.Flags().StringSliceVar(&hosts, "host", nil, "a further `name` that clients use; can be repeated")
	return command
}

func (a *app) tellWrong(wrong []string) error {
	err := a.show(map[string]any{"touched": append([]string{}, wrong...)}, func() {
		for _, sentence := range wrong {
			fmt.Fprintln(a.Out, printable(sentence))
		}
		if len(wrong) == 0 {
			fmt.Fprintln(a.Out, "Everything was looked at, and is as it was stored: rows, values, the trail, its archives, the file, certificates.")
		}
	})
	if err == nil && len(wrong) > 0 {
		err = errors.New("not everything is as it was stored, or could be looked at")
	}
	return err
}

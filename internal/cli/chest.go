package cli

import (
	"fmt"
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tansu/internal/chest"
	"tansu/internal/core/envelope"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/datadir"
	"tansu/internal/opening"
	"tansu/internal/server"
	"tansu/internal/store"
	"tansu/internal/web"
	"tansu/internal/witness"
)

// DefaultListen is where a chest listens: loopback, and a port that spells TANS on a telephone.
const DefaultListen = "127.0.0.1:8267"

func (a *app) initCommand() *cobra.Command {
	var dir, keyFile string
	var hosts []string
	command := &cobra.Command{
		Use:   "init --dir DIR [--key-file FILE]",
		Short: "Create a chest in an empty directory",
		Long: `Creates a chest: its database, its root key, its certificate authority, and its founding person, the steward.

The root key is opened by a passphrase, asked for without showing it (or read as one line from standard input when
that is not a terminal), or by a key file that is made now. Without them nobody can open the chest: keep a copy apart.

The steward's enrolment code is printed once. It ends after 72 hours.`,
		Example: `  tansu init --dir /var/lib/tansu
  tansu init --dir /var/lib/tansu --key-file /root/tansu.key --host chest.ferries.example`,
		Args: exactly(),
		RunE: func(*cobra.Command, []string) error { return a.found(dir, keyFile, hosts) },
	}
	command.Flags().StringVar(&dir, "dir", "", "the data `directory` to make")
	command.Flags().StringVar(&keyFile, "key-file", "", "make this unlock key `file` instead of asking for a passphrase")
	command.Flags().StringSliceVar(&hosts, "host", nil, "a `name` or address that clients will use, besides localhost; can be repeated")
	_ = command.MarkFlagRequired("dir")
	return command
}

func (a *app) found(dir, keyFile string, hosts []string) error {
	if err := datadir.Vacant(dir); err != nil {
		return err
	}
	founding := opening.Founding{Method: envelope.MethodPassphrase, Hosts: serverHosts(hosts)}
	if err := a.chooseMaterial(&founding, keyFile); err != nil {
		return err
	}
	defer founding.Material.Wipe()
	records, err := store.Create(dir)
	if err != nil {
		return err
	}
	founded, err := foundIn(records, founding, keyFile)
	if err != nil {
		records.Discard()
		return err
	}
	if err := records.Close(); err != nil {
		return err
	}
	address := "https://" + DefaultListen
	return a.show(map[string]string{"chest": founded.Chest, "authority": records.AuthorityPath(), "fingerprint": founded.Fingerprint,
		"person": chest.Founder, "enrolment_code": string(founded.Enrolment.Reveal())}, func() {
		fmt.Fprintf(a.Out, "Chest %s is created in %s.\n\n", founded.Chest, dir)
		fields(a.Out, "authority", records.AuthorityPath(), "fingerprint", founded.Fingerprint,
			"founding person", chest.Founder, "enrolment code", string(founded.Enrolment.Reveal()))
		unlock := ""
		if keyFile != "" {
			unlock = " --key-file " + keyFile
		}
		fmt.Fprintf(a.Out, "\nThe code is shown only now and ends in 72 hours. Next:\n")
		fmt.Fprintf(a.Out, "  tansu serve --dir %s\n", dir)
		fmt.Fprintf(a.Out, "  tansu connect %s --authority %s\n", address, records.AuthorityPath())
		fmt.Fprintf(a.Out, "  tansu unlock%s\n  tansu enrol\n", unlock)
	})
}

// chooseMaterial asks for a passphrase, or makes the content of a key file.
func (a *app) chooseMaterial(founding *opening.Founding, keyFile string) (err error) {
	if keyFile != "" {
		founding.Method, founding.Material = envelope.MethodKeyFile, envelope.NewKeyFile(envelope.MethodKeyFile)
		return nil
	}
	if founding.Material, err = a.askNew("passphrase"); err != nil {
		return err
	}
	if err := envelope.CheckPassphrase(founding.Material); err != nil {
		return usageError{err}
	}
	a.say("Measuring this machine so that a wrong guess costs about half a second …")
	founding.Costs = opening.Costs()
	return nil
}

// foundIn stores the key file first, so that no chest exists that nothing can open.
func foundIn(records *store.Store, founding opening.Founding, keyFile string) (founded opening.Founded, err error) {
	if keyFile == "" {
		return opening.Found(records, founding)
	}
	if err := writeNew(keyFile, founding.Material); err != nil {
		return founded, err
	}
	founded, err = opening.Found(records, founding)
	if err != nil {
		_ = os.Remove(keyFile)
	}
	return founded, err
}

// writeNew writes a file that must not exist yet, for its owner only.
func writeNew(path string, content secretvalue.Value) error {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("make the key file: %w", err)
	}
	_, err = file.Write(content.Reveal())
	for _, step := range []func() error{file.Sync, file.Close} {
		if stepErr := step(); err == nil {
			err = stepErr
		}
	}
	if err != nil {
		_ = os.Remove(path)
		return fmt.Errorf("write the key file: %w", err)
	}
	return nil
}

func serverHosts(more []string) []string {
	hosts := opening.LocalHosts()
	for _, host := range more {
		if !slices.Contains(hosts, host) {
			hosts = append(hosts, host)
		}
	}
	return hosts
}

func (a *app) serveCommand() *cobra.Command {
	o := server.Options{Version: Version}
	var plain bool
	var logFormat string
	var witnesses, networks, tokens []string
	var archiveAfter string
	var backups backupFlags
	command := &cobra.Command{
		Use:   "serve --dir DIR",
		Short: "Run the chest until it is told to stop",
		Long: `Runs the chest: the API under /api and the console, over TLS with the chest's own authority. It starts locked unless
--key-file is given. Ctrl-C or SIGTERM lets running requests finish, makes durable what they did, and ends.

A witness is a file on another disk, an https address or a syslog server (syslog://HOST:PORT) that is told each checkpoint of
the trail. At each unlock the trail must begin with what the witness saw last: an older copy of the database, or one with
entries cut off, is not unlocked.

An outlet gets each entry a moment after it is recorded: a file (one JSON object to a line, put aside when it is full), a syslog
server over TLS (RFC 5424), or an https address (CloudEvents, signed by RFC 9421). One that was away gets what it missed later.`,
		Example: `  tansu serve --dir /var/lib/tansu
  tansu serve --dir /var/lib/tansu --listen 0.0.0.0:8267 --host chest.ferries.example --key-file /run/credentials/tansu.key
  tansu serve --dir /var/lib/tansu --outlet file:/var/log/tansu/trail.jsonl --outlet syslog://logs.ferries.example:6514
  tansu serve --dir /var/lib/tansu --backup-to /mnt/backup --backup-recipient /etc/tansu/backup.key.pub
  tansu serve --dir /var/lib/tansu --witness /mnt/audit/tansu.checkpoints --witness https://witness.ferries.example/tansu`,
		Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			if plain {
				o.Transport = server.PlainHTTP
			}
			if o.Log, err = a.logger(logFormat); err != nil {
				return err
			}
			if o.Console, err = web.Handler(); err != nil {
				return err
			}
			if archiveAfter != "" {
				if o.ArchiveAfter, err = duration(archiveAfter); err != nil || o.ArchiveAfter < 24*time.Hour {
					return usagef("--archive-after is a length of time of a day or more, such as 400d")
				}
			}
			for _, text := range networks {
				network, err := netip.ParsePrefix(text)
				if err != nil {
					return usagef("--issuer-network: %.60q is not a network, such as 10.20.0.0/16", text)
				}
				o.IssuerNetworks = append(o.IssuerNetworks, network.Masked())
			}
			for _, text := range tokens {
				name, uri, _ := strings.Cut(text, "=")
				if reference.CheckName(name) != nil || !strings.HasPrefix(uri, "pkcs11:") || o.Tokens[name] != "" {
					return usagef("--pkcs11-token is NAME=URI, such as yard=pkcs11:token=…, and each name stands for one token")
				}
				if o.Tokens == nil {
					o.Tokens = map[string]string{}
				}
				o.Tokens[name] = uri
			}
			for _, name := range witnesses {
				w, err := witness.Open(name, o.Dir)
				if err != nil {
					return usageError{err}
				}
				o.Witnesses = append(o.Witnesses, w)
			}
			if o.Backup, err = backups.read(o.Dir); err != nil {
				return err
			}
			return a.serve(cmd, o)
		},
	}
	backups.add(command)
	command.Flags().StringArrayVar(&networks, "issuer-network", nil,
		"a `network` (10.20.0.0/16), besides the public Internet, in which issuers whose word is taken may be; may be repeated")
	command.Flags().StringVar(&o.ACMEResolver, "acme-resolver", "",
		"the DNS `server`, as HOST:PORT, that is asked when an ACME client proves a name (that of this machine)")
	command.Flags().IntVar(&o.ACMEHTTPPort, "acme-http-port", 0, "the `port` at which names are proved by http-01 (80)")
	command.Flags().IntVar(&o.ACMETLSPort, "acme-tls-port", 0, "the `port` at which names are proved by tls-alpn-01 (443)")
	command.Flags().StringArrayVar(&tokens, "pkcs11-token", nil,
		"a token that seals master keys, by a name: `NAME=pkcs11:…` (RFC 7512, with module-path and pin-source); can be repeated")
	command.Flags().StringArrayVar(&witnesses, "witness", nil,
		"send each checkpoint to this `file`, https address or syslog server, and check the trail against what it has; can be repeated")
	command.Flags().StringArrayVar(&o.Outlets, "outlet", nil,
		"pass the trail on to `file:PATH`, syslog://HOST:PORT or an https address; can be repeated")
	command.Flags().StringVar(&archiveAfter, "archive-after", "",
		"move entries older than this `time`, such as 400d, from the database into compressed files in DIR/archive")
	command.Flags().BoolVar(&o.Restored, "restored", false,
		"unlock although the trail is an older one, because the database comes from a backup")
	command.Flags().BoolVar(&o.TrustClock, "trust-clock", false,
		"trust this machine's clock although the last entry has a later time")
	command.Flags().StringVar(&o.Dir, "dir", "", "the chest's data `directory`")
	command.Flags().StringVar(&o.Listen, "listen", DefaultListen, "the `address` to listen on")
	command.Flags().StringVar(&o.KeyFile, "key-file", "", "unlock at start with this key `file`")
	command.Flags().StringSliceVar(&o.Hosts, "host", nil,
		"a further `name` that clients use, or localhost:PORT where a tunnel to it ends; can be repeated")
	command.Flags().BoolVar(&plain, "plain-http", false, "serve without TLS; only on loopback")
	command.Flags().StringVar(&logFormat, "log", "text", "the log's `format`: text or json")
	_ = command.MarkFlagRequired("dir")
	return command
}

func (a *app) logger(format string) (*slog.Logger, error) {
	switch format {
	case "text":
		return slog.New(slog.NewTextHandler(a.Err, nil)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(a.Err, nil)), nil
	}
	return nil, usagef(`--log is %q; allowed: text, json`, format)
}

func (a *app) serve(cmd *cobra.Command, o server.Options) error {
	server.Tune()
	if err := server.Harden(); err != nil {
		return err
	}
	started := time.Now()
	s, err := server.Start(o)
	if err != nil {
		return err
	}
	state := "locked"
	if s.Service.Status().Unlocked {
		state = "unlocked"
	}
	o.Log.Info("serving", "address", s.URL(), "dir", filepath.Clean(o.Dir), "state", state, "after",
		time.Since(started).Round(time.Millisecond).String())
	err = s.Wait(cmd.Context())
	o.Log.Info("stopping")
	if stopErr := s.Stop(); err == nil {
		err = stopErr
	}
	if err == nil {
		o.Log.Info("stopped")
	}
	return err
}

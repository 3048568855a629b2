package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/core/secretvalue"
	"tansu/internal/demo"
	"tansu/internal/issuer"
	"tansu/internal/server"
	"tansu/internal/web"
)

// demoDays is how far back the made-up history goes.
const demoDays = 90 * 24 * time.Hour

func (a *app) demoCommand() *cobra.Command {
	var story bool
	var dir, listen string
	command := &cobra.Command{
		Use:   "demo [--story]",
		Short: "Look around in a chest with made-up data, or watch the whole story",
		Long: `Creates a chest for an island ferry operator that does not exist, with 90 days of made-up history, serves it on loopback
and prints how to come in. Ctrl-C ends it and removes what it made.

With --story it asks nothing and shows nothing of that: it creates an empty chest, goes through the life of one secret
over the network (create, fill, register, grant, fetch, be refused, look it up in the trail), prints what came back at
each step, and exits 0 only if every step did what it says.`,
		Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := server.Harden(); err != nil {
				return err
			}
			made, err := demoDir(dir)
			if err != nil {
				return err
			}
			defer func() { _ = os.RemoveAll(made) }()
			if story {
				return a.tellStory(cmd.Context(), made)
			}
			return a.runDemo(cmd.Context(), made, listen)
		},
	}
	command.Flags().BoolVar(&story, "story", false, "tell the whole story without a question, and check it")
	command.Flags().StringVar(&dir, "dir", "", "put it into this `directory`, which must not exist or be empty (default: a temporary one)")
	command.Flags().StringVar(&listen, "listen", DefaultListen, "the loopback `address` to serve on")
	return command
}

func demoDir(dir string) (string, error) {
	if dir == "" {
		made, err := os.MkdirTemp("", "tansu-demo-")
		if err != nil {
			return "", fmt.Errorf("make the demo's directory: %w", err)
		}
		return made, nil
	}
	entries, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("look into the demo's directory: %w", err)
	}
	if len(entries) > 0 {
		return "", usagef("%s is not empty, and the demo removes its directory when it ends: choose another one", dir)
	}
	return dir, nil
}

func (a *app) tellStory(ctx context.Context, dir string) error {
	chest, err := demo.Start(demo.Options{Dir: dir, Listen: "127.0.0.1:0", Version: Version}, &demo.Clock{})
	if err != nil {
		return err
	}
	defer func() { _ = chest.Stop() }()
	fmt.Fprintf(a.Out, "A new chest serves at %s, over TLS with its own authority.\n\n", chest.URL())
	return demo.Tell(ctx, chest, a.Out)
}

func (a *app) runDemo(ctx context.Context, dir, listen string) error {
	console, err := web.Handler()
	if err != nil {
		return err
	}
	if listen == DefaultListen && taken(listen) {
		listen = "127.0.0.1:0" // somebody has a chest there already; the demo takes what is free
	}
	clock := &demo.Clock{}
	clock.Set(demoDays)
	chest, err := demo.Start(demo.Options{Dir: dir, Listen: listen, Transport: server.PlainHTTP, Console: console, Version: Version,
		Backups: true, Log: slog.New(slog.NewTextHandler(a.Err, &slog.HandlerOptions{Level: slog.LevelWarn}))}, clock)
	if err != nil {
		return err
	}
	a.say("Making up 90 days of a ferry operator's history …")
	pipeline, err := startPipeline()
	if err != nil {
		return errors.Join(err, chest.Stop())
	}
	defer func() { _ = pipeline.Close() }()
	password, secrets, err := demo.Fill(chest, pipeline.Address)
	if err == nil {
		err = writeDemoProfiles(ctx, chest, password, secrets)
	}
	if err == nil {
		err = pipeline.writeToken(filepath.Join(chest.Dir, demoToken))
	}
	if err != nil {
		return errors.Join(err, chest.Stop())
	}
	a.welcome(chest, password)
	err = chest.Wait(ctx)
	a.say("\nEnding the demo and removing %s.", dir)
	return errors.Join(err, chest.Stop())
}

// pipeline stands in for the operator's pipeline system: it publishes its keys on loopback, and has given a job a token.
type pipeline struct {
	*issuer.StandIn
	*http.Server
}

func startPipeline() (*pipeline, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, fmt.Errorf("start the pipeline system: %w", err)
	}
	standIn, err := issuer.NewStandIn("http://" + listener.Addr().String())
	if err != nil {
		return nil, errors.Join(err, listener.Close())
	}
	p := &pipeline{standIn, &http.Server{Handler: standIn, ReadHeaderTimeout: 10 * time.Second}}
	go func() { _ = p.Serve(listener) }()
	return p, nil
}

// demoToken is the file with the token of a job, as a pipeline system would hand it over.
const demoToken = "job.token"

func (p *pipeline) writeToken(path string) error {
	claims := map[string]any{"aud": demo.JobAudience}
	for name, value := range demo.JobClaims {
		claims[name] = value
	}
	token, err := p.Token(claims, 12*time.Hour)
	if err != nil {
		return err
	}
	return os.WriteFile(path, []byte(token), 0o600)
}

func taken(address string) bool {
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return true
	}
	_ = listener.Close()
	return false
}

// Profiles that the demo signs in, so that commands can be tried at once.
var demoPersons = []string{"security-duty", "ticketing-lead", "audit-desk"}

const demoApp = "ticket-api"

// demoJob is an app that has no secret, and no token yet.
const demoJob = "nightly-ledger"

func writeDemoProfiles(ctx context.Context, chest *demo.Chest, password secretvalue.Value, secrets map[string]secretvalue.Value) error {
	all := &profiles{Current: demoApp, Profiles: map[string]*profile{}, path: filepath.Join(chest.Dir, "profiles.json")}
	c, err := client.New(client.Options{Address: chest.URL()})
	if err != nil {
		return err
	}
	for _, name := range demoPersons {
		session, err := c.SignIn(ctx, name, string(password.Reveal()), "")
		if err != nil {
			return err
		}
		p := &profile{Address: chest.URL()}
		p.signedIn(session)
		all.Profiles[name] = p
	}
	token, life, err := c.AppToken(ctx, demoApp, string(secrets[demoApp].Reveal()))
	if err != nil {
		return err
	}
	p := &profile{Address: chest.URL()}
	p.signedIn(client.Session{Subject: "app:" + demoApp, Token: token, Ends: time.Now().Add(life)})
	all.Profiles[demoApp], all.Profiles[demoJob] = p, &profile{Address: chest.URL()}
	return all.save()
}

func (a *app) welcome(chest *demo.Chest, password secretvalue.Value) {
	program, err := os.Executable()
	if err != nil {
		program = "tansu"
	}
	fmt.Fprintf(a.Out, `
The chest of a ferry operator that does not exist is open.

  Console    %s
  Sign in as security-duty   who may do nearly everything, but read no value
          or ticketing-lead  who sees the ticketing drawers, and reads staging only
  Password   %s

In another terminal:

  export TANSU_HOME=%s; alias tansu=%s

  tansu check ticketing-prod/db-password                    # as app:ticket-api: it works
  tansu check fuel-billing-prod/ledger-db-password          # as app:ticket-api: refused, and told why
  tansu --profile audit-desk trail --subject app:ticket-api # the auditor sees both

  A job of the pipeline has no secret: the pipeline system, which the demo stands in for, says who it is.

  tansu --profile nightly-ledger sign-in app:nightly-ledger --token-file $TANSU_HOME/%s
  tansu --profile nightly-ledger check fuel-billing-prod/ledger-db-password

Ctrl-C ends the demo and removes everything it made.
`, chest.URL(), password.Reveal(), chest.Dir, program, demoToken)
}

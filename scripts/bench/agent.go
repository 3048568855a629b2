package main

import (
	"context"
	"encoding/base64"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tansu/client"
	"tansu/internal/agent"
)

// agentFetch measures how long a read takes through the agent of a host, which keeps the value and writes each read to its journal,
// next to one from the chest on the same machine.
func agentFetch(result map[string]any) error {
	b, err := newBench()
	if err != nil {
		return err
	}
	defer b.stop()
	ctx := context.Background()
	contents, err := b.auditor.Drawer(ctx, "ticketing-prod")
	if err != nil {
		return err
	}
	if _, err := b.auditor.SetDrawerRules(ctx, "ticketing-prod", contents.Drawer.Revision,
		client.NewRules{Rules: client.Rules{HostKeeps: "1h"}}); err != nil {
		return err
	}
	private, public, err := client.NewKey()
	if err != nil {
		return err
	}
	if _, err := b.auditor.IssueCredential(ctx, "app:ticket-api", client.NewCredential{Kind: "key", PublicKey: public}); err != nil {
		return err
	}
	connect := func(string) (*client.Client, error) {
		return client.New(client.Options{Address: b.service, App: "ticket-api", Key: private})
	}
	config, err := agent.ReadConfig(fmt.Appendf(nil,
		"agent: 1\nsocket: %s\njournal: %s\nserves: [{ user: %q, profile: p, references: ['**'] }]\n",
		filepath.Join(b.dir, "agent.sock"), filepath.Join(b.dir, "reads"), fmt.Sprint(os.Getuid())))
	if err != nil {
		return err
	}
	running, err := agent.Start(agent.Options{Config: config, Connect: connect, Host: "bench"})
	if err != nil {
		return err
	}
	defer func() { _ = running.Stop() }()
	local, err := client.New(client.Options{Address: "unix:" + config.Socket})
	if err != nil {
		return err
	}
	for kept, tries := false, 0; !kept; tries++ {
		v, err := local.ReadValue(ctx, reference)
		if err != nil || tries > 100_000 {
			return fmt.Errorf("the agent keeps nothing: %w", err)
		}
		kept = v.Kept
	}
	direct, err := connect("")
	if err != nil {
		return err
	}
	times := func(c *client.Client) (time.Duration, error) {
		var list []time.Duration
		for range 3000 {
			started := time.Now()
			v, err := c.ReadValue(ctx, reference)
			if err != nil {
				return 0, err
			}
			list = append(list, time.Since(started))
			if text, err := base64.StdEncoding.DecodeString(v.Value); err != nil || !strings.HasPrefix(string(text), "a value") {
				return 0, fmt.Errorf("something else was served")
			}
		}
		slices.Sort(list)
		return list[len(list)/2], nil
	}
	through, err := times(local)
	if err != nil {
		return err
	}
	plain, err := times(direct)
	if err != nil {
		return err
	}
	sync, err := syncTime(b.dir)
	if err != nil {
		return err
	}
	result["agent_fetch_us"], result["chest_fetch_us"] = through.Microseconds(), plain.Microseconds()
	fmt.Printf("%-28s %10d  (%d from the chest; one sync of the disk takes %s)\n", "agent_fetch_us", through.Microseconds(),
		plain.Microseconds(), sync)
	return nil
}

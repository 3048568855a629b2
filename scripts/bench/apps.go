package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"time"

	"tansu/client"
)

// corpusSize is how many bytes the text of the leak benchmarks has.
const corpusSize = 8 << 20

// apps adds what applications and pipelines feel: how fast output is masked and files are looked through, next to grep, and
// how much longer a program takes to start with twenty values.
func apps(result map[string]any) error {
	ns, err := benchmarks("Mask20|Find1000|Fingerprints1000|Grep1000", "./internal/core/leak")
	if err != nil {
		return err
	}
	for name, key := range map[string]string{"Mask20": "mask_mb_s", "Find1000": "leak_check_mb_s",
		"Fingerprints1000": "fingerprint_check_mb_s", "Grep1000": "grep_fixed_mb_s"} {
		if ns[name] == 0 {
			return fmt.Errorf("the benchmarks say nothing of %s", name)
		}
		result[key] = round(corpusSize / ns[name] * 1e3)
		fmt.Printf("%-28s %10.0f\n", key, result[key])
	}
	return startWith20(result)
}

// startWith20 compares starting a program that does nothing with and without twenty values.
func startWith20(result map[string]any) error {
	b, err := newBench()
	if err != nil {
		return err
	}
	defer b.stop()
	ctx := context.Background()
	manifest := "manifest: 1\ndrawers: { production: ticketing-prod }\nneeds:\n"
	for n := range 20 {
		name := fmt.Sprint("value-", n)
		item := client.NewItem{Name: name, Version: client.Content(fmt.Appendf(nil, "a value of some thirty characters %d", n))}
		if _, err := b.auditor.CreateItem(ctx, "ticketing-prod", item); err != nil {
			return err
		}
		manifest += fmt.Sprintf("  - { variable: VALUE_%d, reference: %s }\n", n, name)
	}
	if err := os.WriteFile(filepath.Join(b.dir, "tansu.yaml"), []byte(manifest), 0o600); err != nil {
		return err
	}
	registered, err := b.auditor.IssueCredential(ctx, "app:ticket-api", client.NewCredential{})
	if err != nil {
		return err
	}
	program, err := filepath.Abs("bin/tansu")
	if err != nil {
		return err
	}
	tansu := func(stdin string, arguments ...string) *exec.Cmd {
		command := exec.Command(program, arguments...)
		command.Dir, command.Env = b.dir, append(os.Environ(), "TANSU_HOME="+filepath.Join(b.dir, "home"))
		if stdin != "" {
			in, _ := command.StdinPipe()
			go func() { _, _ = fmt.Fprintln(in, stdin); _ = in.Close() }()
		}
		return command
	}
	for _, command := range []*exec.Cmd{tansu("", "connect", b.service), tansu(registered.Secret, "sign-in", "app:ticket-api")} {
		if out, err := command.CombinedOutput(); err != nil {
			return fmt.Errorf("%v: %w: %s", command.Args, err, out)
		}
	}
	var with, plain []time.Duration
	for range 30 {
		for _, one := range []struct {
			command *exec.Cmd
			to      *[]time.Duration
		}{{tansu("", "run", "--", "true"), &with}, {exec.Command("true"), &plain}} {
			started := time.Now()
			if out, err := one.command.CombinedOutput(); err != nil {
				return fmt.Errorf("%v: %w: %s", one.command.Args, err, out)
			}
			*one.to = append(*one.to, time.Since(started))
		}
	}
	slices.Sort(with)
	slices.Sort(plain)
	result["run_with_20_overhead_ms"] = round(float64((with[15] - plain[15]).Microseconds()) / 1000)
	fmt.Printf("%-28s %10.1f  (%s, and %s plain)\n", "run_with_20_overhead_ms", result["run_with_20_overhead_ms"], with[15], plain[15])
	return nil
}

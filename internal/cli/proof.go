package cli

import (
	"compress/gzip"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/core/trail"
)

func (a *app) trailKeyCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "key",
		Short: "Print the key that checkpoints are verified with",
		Long: `Prints the public half of the key that signs checkpoints, as one line. Keep it, and give it to auditors, before you need
it: a key that is asked of a chest later proves only that the chest agrees with itself.`,
		Example: "  tansu trail key > chest.key",
		Args:    exactly(),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			key, err := c.VerifierKey(ctx)
			if err != nil {
				return err
			}
			return a.show(map[string]string{"verifier_key": key}, func() { fmt.Fprintln(a.Out, key) })
		}),
	}
}

func (a *app) checkpointCommand() *cobra.Command {
	var list bool
	command := &cobra.Command{
		Use:   "checkpoint",
		Short: "Sign what the trail is now, and print it: keep it elsewhere",
		Long: `Signs how many entries the trail has and the root of the Merkle tree over them, and prints it as a signed note. Whoever
keeps it can prove later that nothing up to it was changed, removed or put in. The chest signs one by itself every ten seconds
in which something is recorded, when it is locked, and when it stops; --list shows them.`,
		Example: "  tansu trail checkpoint > 2026-11-23.checkpoint\n  tansu trail checkpoint --list",
		Args:    exactly(),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			if !list {
				p, err := c.MakeCheckpoint(ctx)
				if err != nil {
					return err
				}
				return a.show(p, func() { fmt.Fprint(a.Out, p.Note) })
			}
			points, err := c.Checkpoints(ctx, 0)
			if err != nil {
				return err
			}
			return a.show(points, func() {
				t := table{head: []string{"ENTRIES", "SIGNED", "ROOT"}}
				for _, p := range points {
					t.add(strconv.FormatUint(p.Size, 10), stamp(p.At)+", "+relative(p.At, time.Now()), base64.StdEncoding.EncodeToString(p.Root))
				}
				a.printTable(t, "None was signed yet.")
			})
		}),
	}
	command.Flags().BoolVar(&list, "list", false, "show those that were signed, newest first")
	return command
}

func (a *app) trailExportCommand() *cobra.Command {
	var out, key string
	command := &cobra.Command{
		Use:   "export --out FILE",
		Short: "Write all of the trail to a file, with a checkpoint that covers it",
		Long: `Writes each entry's bytes as they were recorded, one to a line, to FILE, and a checkpoint that covers them to
FILE.checkpoint. It takes the right to read all of the trail.`,
		Example: "  tansu trail export --out trail.jsonl --key chest.key",
		Args:    exactly(),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			if out == "" {
				return usagef("--out FILE is needed: where to write it")
			}
			file, err := os.OpenFile(out, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
			if err != nil {
				return fmt.Errorf("write %s: %w", out, errors.Unwrap(err))
			}
			size, err := c.ExportTrail(ctx, 1, file)
			if err := errors.Join(err, file.Close()); err != nil {
				_ = os.Remove(out)
				return err
			}
			points, err := c.Checkpoints(ctx, size)
			if err != nil || len(points) == 0 || points[0].Size != size {
				return errors.Join(errors.New("the checkpoint of the export is not there"), err)
			}
			if err := writePrivate(out+".checkpoint", []byte(points[0].Note)); err != nil {
				return err
			}
			if key != "" {
				line, err := c.VerifierKey(ctx)
				if err != nil {
					return err
				}
				if err := writePrivate(key, []byte(line+"\n")); err != nil {
					return err
				}
			}
			a.say("%s: %s, and a checkpoint that covers them in %s.checkpoint.", out, plural(int(size), "entry"), out)
			return nil
		}),
	}
	command.Flags().StringVar(&out, "out", "", "write the entries to this new `file`")
	command.Flags().StringVar(&key, "key", "", "write the verifier key to this new `file`, too")
	return command
}

// readKey reads a verifier key: the line itself, or a file that has it.
func readKey(text string) (string, error) {
	if text == "" {
		return "", usagef("--key FILE is needed: where the key that tansu trail key printed was kept")
	}
	content, err := os.ReadFile(text)
	if err != nil {
		return "", fmt.Errorf("read the verifier key: %w", err)
	}
	return strings.TrimSpace(string(content)), nil
}

// readCheckpoints reads and verifies the signed notes in files.
func readCheckpoints(files []string, key string) (points []trail.Checkpoint, err error) {
	for _, name := range files {
		content, err := os.ReadFile(name)
		if err != nil {
			return nil, fmt.Errorf("read checkpoints: %w", err)
		}
		notes := trail.SplitNotes(string(content))
		if len(notes) == 0 {
			return nil, fmt.Errorf("%s has no checkpoint in it", name)
		}
		for _, note := range notes {
			p, err := trail.OpenCheckpoint(note, key)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", name, err)
			}
			points = append(points, p)
		}
	}
	return points, nil
}

// Verified is what the verifier says.
type Verified struct {
	Entries  uint64    `json:"entries"`
	Root     []byte    `json:"root"`
	Covered  uint64    `json:"covered"` // entries up to the newest checkpoint that matches
	At       time.Time `json:"at,omitzero"`
	Matched  int       `json:"matched"` // checkpoints
	Problems []string  `json:"problems"`
	Notes    []string  `json:"notes"` // what is not there any more because the chest was restored
}

func (a *app) trailVerifyCommand() *cobra.Command {
	var key string
	var files []string
	command := &cobra.Command{
		Use:   "verify FILE...",
		Short: "Verify an exported trail against checkpoints, without a chest",
		Long: `Reads exported entries (several files follow each other; .gz ones are unpacked), builds the Merkle tree over them, and
compares it with every checkpoint that you give: nothing up to the newest may be changed, removed, put in or in another order.
It needs no chest and no network. The exit code is 0 when all is as the checkpoints say, and 1 when it is not.`,
		Example: "  tansu trail verify trail.jsonl --key chest.key --checkpoint trail.jsonl.checkpoint --checkpoint /mnt/audit/tansu.checkpoints",
		Args:    upTo(-1, "FILE"),
		RunE: func(_ *cobra.Command, names []string) error {
			line, err := readKey(key)
			if err != nil {
				return err
			}
			if len(files) == 0 {
				return usagef("--checkpoint FILE is needed: a checkpoint that was kept elsewhere")
			}
			points, err := readCheckpoints(files, line)
			if err != nil {
				return err
			}
			parts, closeAll, err := openTrail(names)
			if err != nil {
				return err
			}
			defer closeAll()
			report, err := trail.Verify(parts, points, a.counting("entries verified"))
			if err != nil {
				return err
			}
			v := Verified{Entries: report.Size, Root: report.Root[:], Covered: report.Covered.Size, At: report.Covered.At, Matched: report.Matched,
				Problems: append([]string{}, report.Problems...), Notes: append([]string{}, report.Notes...)}
			if err := a.show(v, func() { a.printVerified(v, len(points)) }); err != nil {
				return err
			}
			if len(v.Problems) > 0 {
				return failedQuietly{}
			}
			return nil
		},
	}
	command.Flags().StringVar(&key, "key", "", "the `file` in which the verifier key was kept")
	command.Flags().StringArrayVar(&files, "checkpoint", nil, "a `file` with one checkpoint or more; can be repeated")
	return command
}

func (a *app) printVerified(v Verified, points int) {
	for _, p := range v.Problems {
		fmt.Fprintf(a.Out, "✗ %s\n", p)
	}
	for _, n := range v.Notes {
		fmt.Fprintf(a.Out, "! %s\n", n)
	}
	if v.Covered > 0 {
		fmt.Fprintf(a.Out, "✓ entries 1 to %d are what they were at %s: nothing was changed, removed or put in\n", v.Covered,
			v.At.UTC().Format(time.RFC3339))
	}
	fmt.Fprintf(a.Out, "%s, %d of %d checkpoints match.\n", plural(int(v.Entries), "entry"), v.Matched, points)
	if len(v.Problems) == 0 && v.Entries > v.Covered {
		fmt.Fprintf(a.Out, "Entries %d to %d came after the newest checkpoint, and are not verified.\n", v.Covered+1, v.Entries)
	}
}

// openTrail opens files that follow each other as one.
func openTrail(names []string) (all io.Reader, closeAll func(), err error) {
	var files []*os.File
	closeAll = func() {
		for _, f := range files {
			_ = f.Close()
		}
	}
	var parts []io.Reader
	for _, name := range names {
		f, err := os.Open(name)
		if err != nil {
			closeAll()
			return nil, nil, fmt.Errorf("read the trail: %w", err)
		}
		files = append(files, f)
		var part io.Reader = f
		if strings.HasSuffix(name, ".gz") {
			if part, err = gzip.NewReader(f); err != nil {
				closeAll()
				return nil, nil, fmt.Errorf("read %s: %w", name, err)
			}
		}
		parts = append(parts, part)
	}
	return io.MultiReader(parts...), closeAll, nil
}

// failedQuietly is a failure of which everything has been printed.
type failedQuietly struct{}

func (failedQuietly) Error() string { return "" }

func (a *app) proveCommand() *cobra.Command {
	var out string
	command := &cobra.Command{
		Use:   "prove NUMBER",
		Short: "Prove that one entry is in the trail, without handing out the others",
		Long: `Writes the entry's bytes, a checkpoint, and the hashes that lead from one to the other: whoever has the verifier key checks
it with tansu trail check, or with a program of their own (RFC 9162), and sees no other entry.`,
		Example: "  tansu trail prove 1024 --out entry-1024.proof",
		Args:    exactly("NUMBER"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			seq, err := strconv.ParseUint(arguments[0], 10, 62)
			if err != nil {
				return usagef("an entry is named by its number, such as 1024, not %q", arguments[0])
			}
			p, err := c.Prove(ctx, seq)
			if err != nil {
				return err
			}
			text, err := json.MarshalIndent(p, "", "  ")
			if err != nil {
				return err
			}
			if out == "" {
				_, err = fmt.Fprintln(a.Out, string(text))
				return err
			}
			return writePrivate(out, append(text, '\n'))
		}),
	}
	command.Flags().StringVar(&out, "out", "", "write it to this new `file`; standard output when it is left out")
	return command
}

func (a *app) checkProofCommand() *cobra.Command {
	var key string
	command := &cobra.Command{
		Use:     "check PROOF",
		Short:   "Check the proof of one entry, without a chest",
		Example: "  tansu trail check entry-1024.proof --key chest.key",
		Args:    exactly("PROOF"),
		RunE: func(_ *cobra.Command, arguments []string) error {
			line, err := readKey(key)
			if err != nil {
				return err
			}
			content, err := os.ReadFile(arguments[0])
			if err != nil {
				return fmt.Errorf("read the proof: %w", err)
			}
			var p client.Proof
			if err := json.Unmarshal(content, &p); err != nil {
				return fmt.Errorf("%s is not a proof: %w", arguments[0], err)
			}
			e, point, err := trail.Proof{Seq: p.Seq, Entry: p.Entry, Checkpoint: p.Checkpoint, Hashes: p.Hashes}.Check(line)
			if err != nil {
				return err
			}
			return a.show(p, func() {
				fields(a.Out, "entry", strconv.FormatUint(e.Seq, 10), "time", stamp(e.At), "subject", e.Subject, "action", e.Action, "target",
					e.Target, "outcome", string(e.Outcome), "reason", e.Reason)
				fmt.Fprintf(a.Out, "✓ it is in the trail as it was at %s, with %d entries, signed by %s\n", point.At.UTC().Format(time.RFC3339),
					point.Size, point.Origin)
			})
		},
	}
	command.Flags().StringVar(&key, "key", "", "the `file` in which the verifier key was kept")
	return command
}

func (a *app) archivesCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "archives",
		Short: "List the files with entries that are not in the database any more",
		Long: `Lists the archives of the trail, which tansu serve --archive-after makes. Look into one with --archive NAME; an export has
what is in them, too, and tansu trail verify takes them as they are.`,
		Example: "  tansu trail archives\n  tansu trail --archive trail-000000000001-000000040960.jsonl.gz outcome:refused",
		Args:    exactly(),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			list, err := c.Archives(ctx)
			if err != nil {
				return err
			}
			return a.show(list, func() {
				t := table{head: []string{"NAME", "FIRST", "LAST"}}
				for _, one := range list {
					t.add(one.Name, strconv.FormatUint(one.First, 10), strconv.FormatUint(one.Last, 10))
				}
				a.printTable(t, "None: all entries are in the database.")
			})
		}),
	}
}

func (a *app) upkeepCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "upkeep",
		Short: "Show how far the witnesses and outlets of the trail are",
		Long: `Shows how many entries the trail has and, for each witness and outlet, how far it has been told and since when it has been
failing. The exit code is 5 when one of them is failing, for whoever monitors the chest. To see whether the chest can record at
all, ask for its status.`,
		Args: exactly(),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			u, err := c.Upkeep(ctx)
			if err != nil {
				return err
			}
			wrong := false
			t := table{head: []string{"WHO", "ENTRIES", "BEHIND", "LAST", "STATE"}}
			for _, f := range slices.Concat(u.Witnesses, u.Outlets) {
				state := "up to date"
				if !f.Failing.IsZero() {
					wrong, state = true, "fails since "+stamp(f.Failing)+": "+f.Problem
				}
				if f.Rejected > 0 {
					state += fmt.Sprintf(", rejected %d", f.Rejected)
				}
				last := ""
				if !f.At.IsZero() {
					last = stamp(f.At)
				}
				t.add(f.Name, strconv.FormatUint(f.Position, 10), strconv.FormatUint(u.Entries-min(u.Entries, f.Position), 10), last, state)
			}
			err = a.show(u, func() {
				fmt.Fprintf(a.Out, "The trail has %d entries.\n\n", u.Entries)
				a.printTable(t, "No witness and no outlet: tansu serve takes --witness and --outlet.")
			})
			if err == nil && wrong {
				return foundSomething{}
			}
			return err
		}),
	}
}

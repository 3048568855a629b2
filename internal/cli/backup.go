package cli

import (
	"bufio"
	"cmp"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/backup"
	"tansu/internal/chest"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/recipient"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/trail"
	"tansu/internal/opening"
	"tansu/internal/recovery"
	"tansu/internal/service"
	"tansu/internal/store"
)

// backupFlags are those by which a service makes backups by itself.
type backupFlags struct {
	to, every, fullEvery, rehearse string
	recipients                     []string
	options                        recovery.Options
}

func (b *backupFlags) add(command *cobra.Command) {
	command.Flags().StringVar(&b.to, "backup-to", "", "back up to this `directory`, on another disk, or address (https; PUT, GET, DELETE)")
	command.Flags().StringArrayVar(&b.recipients, "backup-recipient", nil,
		"encrypt backups to the public key in this `file` (tansu recipient); can be repeated")
	command.Flags().StringVar(&b.every, "backup-every", "1d", "how `often` to make a backup; 0 for only on request")
	command.Flags().StringVar(&b.fullEvery, "backup-full-every", "7d", "how `often` to make a full one; those in between are incremental")
	command.Flags().IntVar(&b.options.Keep, "backup-keep", 8, "how `many` full backups to keep, with their incremental ones; 0 for all")
	command.Flags().StringVar(&b.rehearse, "rehearse-every", "30d", "how `often` to rehearse restoring; 0 for only on request")
	command.Flags().StringVar(&b.options.Scratch, "rehearse-in", "",
		"rehearse in this `directory`; the system's for temporary files, if left out")
}

func (b *backupFlags) read(dir string) (o recovery.Options, err error) {
	if b.to == "" {
		if len(b.recipients) > 0 {
			return o, usagef("--backup-recipient needs --backup-to, which says where backups go")
		}
		return o, nil
	}
	o = b.options
	if o.To, err = backup.To(b.to, dir); err != nil {
		return o, usageError{err}
	}
	if o.Recipients, err = readRecipients(b.recipients); err != nil {
		return o, err
	}
	type span struct {
		text string
		into *time.Duration
	}
	for flag, span := range map[string]span{"--backup-every": {b.every, &o.Every}, "--backup-full-every": {b.fullEvery, &o.FullEvery},
		"--rehearse-every": {b.rehearse, &o.Rehearse}} {
		parsed, err := lifecycle.ParseSpan(span.text)
		if err != nil && span.text != "0" {
			return o, usagef("%s is %q; allowed: a length of time such as 12h or 7d, or 0", flag, span.text)
		}
		*span.into = time.Duration(parsed)
	}
	return o, nil
}

func readRecipients(files []string) (list backup.Recipients, err error) {
	if len(files) == 0 {
		return nil, usagef("--backup-recipient FILE.pub is needed: who can open the backups (tansu recipient FILE makes a key pair)")
	}
	for _, name := range files {
		key, err := readPublicKey(name)
		if err != nil {
			return nil, err
		}
		list = append(list, *key)
	}
	return list, nil
}

func (a *app) backupCommand() *cobra.Command {
	command := &cobra.Command{Use: "backup", Short: "Make backups, see which there are, and rehearse restoring them", RunE: noSubcommand}
	var full bool
	now := &cobra.Command{
		Use:   "now",
		Short: "Let the service make a backup now",
		Long: `The service makes a backup, to the place that tansu serve --backup-to names, and goes on serving meanwhile. It adds to
the last one (it is incremental), unless a full one is due or asked for.`,
		Args: exactly(),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			b, err := c.BackUp(ctx, full)
			if err != nil {
				return err
			}
			return a.show(b, func() {
				fmt.Fprintf(a.Out, "%s: %s up to entry %d, in %s.\n", b.Name, sizeText(b.Size), b.Last, seconds(b.Seconds))
			})
		}),
	}
	now.Flags().BoolVar(&full, "full", false, "a full one")
	list := &cobra.Command{
		Use:   "list",
		Short: "List backups and rehearsals, newest first",
		Args:  exactly(),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, _ []string) error {
			o, err := c.Backups(ctx)
			if err != nil {
				return err
			}
			return a.show(o, func() { a.printBackups(o) })
		}),
	}
	rehearse := &cobra.Command{
		Use:   "rehearse [NUMBER]",
		Short: "Restore a backup, look at all that is in it, and remove it again",
		Long: `The service restores a backup, the newest if none is named, into a directory of its own, and looks at every row, the whole trail
and every value, which nobody sees. The exit code is 1 when anything is wrong with it.`,
		Args: upTo(1),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			number := 0
			if len(arguments) > 0 {
				var err error
				if number, err = strconv.Atoi(arguments[0]); err != nil || number < 1 {
					return usagef("%.20q is not the number of a backup: tansu backup list shows them", arguments[0])
				}
			}
			r, err := c.Rehearse(ctx, number)
			if err != nil {
				return err
			}
			if err := a.show(r, func() { a.printRehearsal(r) }); err != nil {
				return err
			}
			if len(r.Problems) > 0 {
				return failedQuietly{}
			}
			return nil
		}),
	}
	command.AddCommand(now, list, rehearse, a.backupMakeCommand(), a.takeOutCommand())
	return command
}

func (a *app) printBackups(o client.Backups) {
	if o.To == "" {
		fmt.Fprintln(a.Out, "This service makes no backups. Start it with: tansu serve --backup-to DIR --backup-recipient FILE.pub")
		return
	}
	fields(a.Out, "to", o.To, "every", cmp.Or(o.Every, "only on request"), "full one every", o.FullEvery, "rehearsed every",
		cmp.Or(o.Rehearse, "only on request"), "next", endText(o.Next), "now", o.Now)
	fmt.Fprintln(a.Out)
	t := table{head: []string{"NO", "MADE", "KIND", "UP TO ENTRY", "SIZE", "TOOK", "NAME"}}
	for _, b := range o.Backups[:min(len(o.Backups), mostListed)] {
		kind := "full"
		if b.AddsTo != "" {
			kind = "incremental"
		}
		if b.Problem != "" {
			t.add(strconv.Itoa(b.Number), relative(b.Made, time.Now()), "✗ failed", "-", "-", seconds(b.Seconds), b.Problem)
			continue
		}
		t.add(strconv.Itoa(b.Number), relative(b.Made, time.Now()), kind, strconv.FormatUint(b.Last, 10), sizeText(b.Size), seconds(b.Seconds),
			b.Name)
	}
	a.printTable(t, "No backup was made yet.")
	if more := len(o.Backups) - mostListed; more > 0 {
		a.say("%d older ones are not shown: -o json has them all.", more)
	}
	for _, r := range o.Rehearsals[:min(len(o.Rehearsals), 3)] {
		fmt.Fprintln(a.Out)
		a.printRehearsal(r)
	}
}

// mostListed is how many backups are listed for people: with one every five minutes there are thousands.
const mostListed = 50

func (a *app) printRehearsal(r client.Rehearsal) {
	mark := "✓"
	if len(r.Problems) > 0 {
		mark = "✗"
	}
	fmt.Fprintf(a.Out, "%s backup %d was restored %s, in %s: %d entries verified, %s opened; entries after it: %d.\n", mark, r.Number,
		relative(r.At, time.Now()), seconds(r.Seconds), r.Entries, plural(r.Values, "value"), r.Lost)
	for _, p := range r.Problems {
		fmt.Fprintf(a.Out, "  %s\n", printable(p))
	}
}

func seconds(s float64) string {
	return time.Duration(s * float64(time.Second)).Round(time.Millisecond).String()
}

func sizeText(n int64) string {
	switch {
	case n >= 1<<30:
		return fmt.Sprintf("%.1f GiB", float64(n)/(1<<30))
	case n >= 1<<20:
		return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20))
	}
	return fmt.Sprintf("%d KiB", (n+1023)>>10)
}

func (a *app) backupMakeCommand() *cobra.Command {
	var dir, out string
	var recipients []string
	command := &cobra.Command{
		Use:   "make --dir DIR --backup-recipient FILE.pub --out FILE",
		Short: "Make a full backup on the machine itself, with or without a service",
		Long: `Makes a full backup of a data directory, whether or not a service is running on it. "-" is standard output. Nothing that opens the
chest is needed.`,
		Example: `  tansu backup make --dir /var/lib/tansu --backup-recipient backup.key.pub --out /mnt/backup/today.tansu-backup
  tansu backup make --dir /var/lib/tansu --backup-recipient backup.key.pub --out - | ssh keep.ferries.example 'cat > chest.tansu-backup'`,
		Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if dir == "" || out == "" {
				return usagef("--dir DIR and --out FILE are needed: what to back up, and where to")
			}
			list, err := readRecipients(recipients)
			if err != nil {
				return err
			}
			var file io.WriteCloser = nopCloser{a.Out}
			if out != "-" {
				if file, err = os.OpenFile(out, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600); err != nil {
					return fmt.Errorf("write the backup: %w", err)
				}
			}
			now := time.Now()
			made, err := backup.Make(cmd.Context(), backup.Order{Dir: dir, Number: 1, Recipients: list, Now: now},
				func(backup.Header) (io.Writer, error) { return file, nil })
			if f, is := file.(*os.File); is && err == nil {
				err = f.Sync()
			}
			if err = errors.Join(err, file.Close()); err != nil {
				if out != "-" {
					_ = os.Remove(out)
				}
				return err
			}
			a.say("%s up to entry %d, in %s.", sizeText(made.Size), made.Header.Last, time.Since(now).Round(time.Millisecond))
			return nil
		},
	}
	command.Flags().StringVar(&dir, "dir", "", "the chest's data `directory`")
	command.Flags().StringVar(&out, "out", "", "write it to this new `file`; - for standard output")
	command.Flags().StringArrayVar(&recipients, "backup-recipient", nil, "encrypt it to the public key in this `file`; can be repeated")
	return command
}

type nopCloser struct{ io.Writer }

func (nopCloser) Close() error { return nil }

func (a *app) restoreCommand() *cobra.Command {
	var dir, keyFile, until, later string
	var witnesses []string
	var after uint64
	command := &cobra.Command{
		Use:   "restore FROM … --key FILE --dir NEWDIR",
		Short: "Restore a data directory from a backup",
		Long: `Makes a new data directory of the newest backup in a directory or at an address, or of the files that are named: a full
one and all that add to it. It takes the private key of a recipient,
and nothing that opens the chest: that is asked for when it is unlocked.

The chest knows that it was restored. Its trail goes on in another epoch, and the numbers of entries that are lost are not used again: if
there are witnesses, name them, and give the highest number that a receiver of the trail has seen. All sessions and tokens end with
the first unlock. With --later-trail, an export or the file of an outlet from after the backup, what it says was ended is ended again by
that unlock: suspended people and apps, grants, credentials, memberships, suspended, retired and shredded items and versions (which are
suspended until somebody shreds them again). What else was changed is listed.`,
		Example: `  tansu restore /mnt/backup --key backup.key --dir /var/lib/tansu --witness /mnt/audit/tansu.checkpoints
  tansu restore /mnt/backup --key backup.key --dir /var/lib/tansu --until 2026-11-28T00:00:00Z --later-trail /var/log/tansu/trail.jsonl`,
		Args: upTo(-1, "FROM"),
		RunE: func(cmd *cobra.Command, arguments []string) error {
			ctx := cmd.Context()
			if dir == "" || keyFile == "" {
				return usagef("--key FILE and --dir NEWDIR are needed: what opens the backup, and where to restore it")
			}
			key, err := readPrivateKey(keyFile)
			if err != nil {
				return err
			}
			at, err := past("--until", until)
			if err != nil {
				return err
			}
			chain, err := a.findBackups(ctx, arguments, at)
			if err != nil {
				return err
			}
			known, err := knownNumbers(witnesses, after)
			if err != nil {
				return err
			}
			return a.restore(dir, chain, key, known, later)
		},
	}
	command.Flags().StringVar(&dir, "dir", "", "the data `directory` to make")
	command.Flags().StringVar(&keyFile, "key", "", "the private key of a recipient, in this `file`")
	command.Flags().StringVar(&until, "until", "", "the newest backup that is not later than this `time`")
	command.Flags().StringArrayVar(&witnesses, "witness", nil, "a `file` with checkpoints that a witness has; can be repeated")
	command.Flags().Uint64Var(&after, "after", 0, "the highest `number` of an entry that a receiver of the trail has seen")
	command.Flags().StringVar(&later, "later-trail", "",
		"keep ended what this `file` with later entries of the trail says was ended, and list what else is to be done again")
	return command
}

// findBackups finds the backups that lead to the one that is wanted.
func (a *app) findBackups(ctx context.Context, names []string, until time.Time) ([]backup.Source, error) {
	var all []backup.Source
	for _, name := range names {
		list, unreadable, err := backup.From(ctx, name)
		if err != nil {
			return nil, err
		}
		for _, text := range unreadable {
			a.say("note: %s", text)
		}
		all = append(all, list...)
	}
	chests := map[string]bool{}
	for _, s := range all {
		chests[s.Header.Chest] = true
	}
	if len(chests) > 1 {
		return nil, usagef("there are backups of %d chests: name the files of one", len(chests))
	}
	wanted, err := backup.Newest(all, until)
	if err != nil {
		return nil, err
	}
	return backup.Chain(all, wanted)
}

// knownNumbers are the numbers of entries that somebody outside has seen. Whether a checkpoint is signed is seen when the chest is
// unlocked.
func knownNumbers(witnesses []string, after uint64) (known []uint64, err error) {
	known = []uint64{after}
	for _, name := range witnesses {
		content, err := os.ReadFile(name)
		if err != nil {
			return nil, fmt.Errorf("read what a witness has: %w", err)
		}
		for _, note := range trail.SplitNotes(string(content)) {
			if point, err := trail.ReadUnverified(note); err == nil {
				known = append(known, point.Size)
			}
		}
	}
	return known, nil
}

func (a *app) takeOutCommand() *cobra.Command {
	var keyFile, unlockFile, until string
	var names []string
	var staged bool
	command := &cobra.Command{
		Use:   "take-out FROM … --key FILE --item DRAWER/ITEM",
		Short: "Restore single items or drawers from a backup, as new versions",
		Long: `Opens a backup on this machine, with a recipient's key and with what unlocks the chest, and puts the items that you name into the
chest you are connected to, as you: a new version where the item exists, a new item where it does not. Nothing else of the backup
is used, no value is shown, and the trail has it like any other version that you put.`,
		Example: `  tansu backup take-out /mnt/backup --key backup.key --item ticketing-prod/db-password --until 2d
  tansu backup take-out /mnt/backup --key backup.key --item ticketing-prod --staged`,
		Args: upTo(-1, "FROM"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, arguments []string) error {
			if keyFile == "" || len(names) == 0 {
				return usagef("--key FILE and --item DRAWER/ITEM are needed; --item DRAWER is everything in a drawer")
			}
			at, err := past("--until", until)
			if err != nil {
				return err
			}
			chain, err := a.findBackups(ctx, arguments, at)
			if err != nil {
				return err
			}
			taken, err := a.takeOut(chain, keyFile, unlockFile, names)
			if err != nil {
				return err
			}
			return a.bringBack(ctx, c, taken, chain[len(chain)-1].Header.Made, staged)
		}),
	}
	command.Flags().StringVar(&keyFile, "key", "", "the private key of a recipient, in this `file`")
	command.Flags().StringVar(&unlockFile, "key-file", "", "the unlock key `file`; the passphrase is asked for without it")
	command.Flags().StringVar(&until, "until", "", "out of the newest backup that is not later than this `time`")
	command.Flags().StringArrayVar(&names, "item", nil, "what to bring back: an `item`, DRAWER/ITEM@VERSION, or a drawer; can be repeated")
	command.Flags().BoolVar(&staged, "staged", false, "let the versions wait until somebody promotes them")
	return a.withReason(command)
}

// takeOut unpacks a backup for as long as it takes to read from it.
func (a *app) takeOut(chain []backup.Source, keyFile, unlockFile string, names []string) (taken []opening.Taken, err error) {
	key, err := readPrivateKey(keyFile)
	if err != nil {
		return nil, err
	}
	material, err := a.unlockMaterial(unlockFile)
	if err != nil {
		return nil, err
	}
	defer material.Wipe()
	scratch, err := os.MkdirTemp("", "tansu-take-out-")
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(scratch)) }()
	var manifest backup.Manifest
	dir := filepath.Join(scratch, "chest")
	if err := backup.Unpack(dir, chain, func(h backup.Header) (backup.Key, error) { return h.KeyFor(key) }, &manifest); err != nil {
		return nil, err
	}
	records, err := store.Open(dir)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, records.Close()) }()
	s, err := service.New(records, service.Options{})
	if err != nil {
		return nil, err
	}
	taken, err = s.TakeOut(material, names)
	var answer *chest.Error
	if errors.As(err, &answer) {
		return nil, fmt.Errorf("in the backup: %s", answer.Detail)
	}
	return taken, err
}

// Brought is what became of one item.
type Brought struct {
	From    string `json:"from"`    // in the backup
	Version int    `json:"version"` // that it has become; 0 when it could not be brought back
	Problem string `json:"problem,omitempty"`
}

// bringBack puts what was taken out of a backup into the chest, one after the other. What could not be is said, and is not 0.
func (a *app) bringBack(ctx context.Context, c *client.Client, taken []opening.Taken, made time.Time, staged bool) error {
	list, failed := []Brought{}, 0
	for _, one := range taken {
		b := Brought{From: one.Reference.String()}
		stored, err := bringOne(ctx, c, one, client.NewVersion{Note: "out of the backup of " + stamp(made), Staged: staged})
		if err != nil {
			b.Problem = err.Error()
			failed++
		}
		b.Version = stored.Version.Version
		list = append(list, b)
	}
	err := a.show(list, func() {
		for _, b := range list {
			name, _, _ := strings.Cut(b.From, "@")
			if b.Problem != "" {
				fmt.Fprintf(a.Out, "✗ %s: %s\n", b.From, printable(b.Problem))
			} else {
				fmt.Fprintf(a.Out, "✓ %s is %s@%d now\n", b.From, name, b.Version)
			}
		}
	})
	if err == nil && failed > 0 {
		err = fmt.Errorf("%d of %d could not be brought back", failed, len(list))
	}
	return err
}

func bringOne(ctx context.Context, c *client.Client, one opening.Taken, v client.NewVersion) (client.Stored, error) {
	encoded := func(value secretvalue.Value) string { return base64.StdEncoding.EncodeToString(value.Reveal()) }
	if v.Encoding = "base64"; one.Shape == secretvalue.Text {
		v.Value = encoded(one.Content)
	}
	for _, f := range one.Fields {
		v.Fields = append(v.Fields, client.NewField{Name: f.Name, Value: encoded(f.Value)})
	}
	ref := one.Reference
	_, err := c.History(ctx, ref.Drawer, ref.Item)
	var problem *client.Problem
	if errors.As(err, &problem) && problem.Code == "not_found" {
		return c.CreateItem(ctx, ref.Drawer, client.NewItem{Name: ref.Item, Shape: string(one.Shape), Description: one.Description, Version: v})
	}
	return c.AddVersion(ctx, ref.Drawer, ref.Item, 0, v) // who may not see it may still put a version
}

// RestoredChest is what came of restoring.
type RestoredChest struct {
	Dir     string   `json:"dir"`
	Made    string   `json:"made"` // of when the backup is
	Last    uint64   `json:"last"` // the newest entry in it
	Next    uint64   `json:"next"` // the number after those that are not used again
	Backups []string `json:"backups"`
	Ended   int      `json:"ended"` // what was ended after the backup, and is ended again with the next unlock
	Again   []string `json:"again"` // what is to be done again, in words
}

func (a *app) restore(dir string, chain []backup.Source, key recipient.Private, known []uint64, later string) error {
	began := time.Now()
	header := chain[len(chain)-1].Header
	since := lasting{again: []string{}}
	if later != "" {
		var err error
		if since, err = doneSince(later, header); err != nil {
			return err
		}
		known = append(known, since.last)
	}
	done, err := backup.Restore(dir, chain, func(h backup.Header) (backup.Key, error) { return h.KeyFor(key) },
		backup.Outside{Numbers: known, Ends: since.ends, Shared: since.shared}, time.Now())
	if err != nil {
		return err
	}
	if later != "" && since.shared == "" {
		a.say("note: the later trail begins after the backup, so that nothing shows that it is of this chest")
	}
	r := RestoredChest{Dir: dir, Made: stamp(header.Made), Last: done.Manifest.Last, Next: done.Mended.Last + 1, Ended: len(since.ends),
		Again: since.again}
	for _, s := range chain {
		r.Backups = append(r.Backups, filepath.Base(s.Name))
	}
	return a.show(r, func() {
		fmt.Fprintf(a.Out, "Restored to %s in %s, of %s.\n\n", dir, time.Since(began).Round(time.Millisecond), plural(len(chain), "backup"))
		fields(a.Out, "as it was at", r.Made+", "+relative(header.Made, time.Now()), "entries kept", strconv.FormatUint(r.Last, 10),
			"the next entry is", strconv.FormatUint(r.Next, 10))
		if r.Ended > 0 {
			fmt.Fprintf(a.Out, "\n%s after the backup: ended again when it is unlocked, with an entry for each.\n",
				plural(r.Ended, "thing")+" ended")
		}
		if len(r.Again) > 0 {
			fmt.Fprintf(a.Out, "\nTo be done again, as the later trail says:\n")
			for _, line := range r.Again {
				fmt.Fprintf(a.Out, "  %s\n", printable(line))
			}
		}
		fmt.Fprintf(a.Out, "\nNext:\n  tansu serve --dir %s\n  tansu unlock\n", dir)
		fmt.Fprintln(a.Out, "All sessions and tokens end with that. What was put in after the backup is lost.")
		if later == "" {
			fmt.Fprintln(a.Out, "Access that was ended and values that were shredded after it are back: end them again. With --later-trail, the")
			fmt.Fprintln(a.Out, "unlock would end them, as far as an export or the file of an outlet knows of them.")
		}
	})
}

// looked are actions that change nothing that a backup has.
var looked = map[string]bool{"read_value": true, "list": true, "see_metadata": true, "read_trail": true,
	"encrypt": true, "decrypt": true, "sign": true, "verify": true,
	"issue_token": true, "sign_in": true, "sign_out": true, "compare_value": true, "examine": true, "unlock": true, "lock": true,
	"host_key":     true,
	"report_reads": true, "tighten": true, "see_receipt": true, "back_up": true, "rehearse_restore": true, "archive_trail": true,
	"clock_behind": true, "make_checkpoint": true, "export_trail": true, "preflight": true, "ask_access": true}

// lasting collects what a later trail says happened after the backup.
type lasting struct {
	last   uint64      // the newest entry
	shared string      // the newest of those that the backup has as well; empty for none
	ends   []trail.End // what was ended, and is ended again by the unlock
	again  []string    // what else was changed, in words
}

// doneSince reads what was changed after a backup, as later entries of the trail say: it is not in the backup.
func doneSince(file string, header backup.Header) (l lasting, err error) {
	l.again = []string{}
	in, closeAll, err := openTrail([]string{file})
	if err != nil {
		return l, err
	}
	defer closeAll()
	var since trail.Since
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, 1<<20)
	for n := 1; lines.Scan(); n++ {
		e, err := trail.Decode(lines.Bytes())
		if err != nil {
			return l, fmt.Errorf("%s, line %d: %w", file, n, err)
		}
		if l.last = max(l.last, e.Seq); e.Seq <= header.Last {
			l.shared = lines.Text()
			continue
		}
		if e.Outcome != trail.Allowed {
			continue
		}
		ended := since.Add(&e)
		kind, _, _ := strings.Cut(e.Action, "_")
		if ended && kind != "shred" || looked[e.Action] || kind == "list" || kind == "read" || kind == "see" {
			continue
		}
		text := fmt.Sprintf("entry %d, %s: %s %s", e.Seq, stamp(e.At), e.Subject, e.Action)
		for _, part := range []string{e.Target, e.Given, e.InWords()} {
			if part != "" && !strings.Contains(text, part) {
				text += " " + part
			}
		}
		if ended {
			text += ": it is suspended until you shred it again"
		}
		l.again = append(l.again, text)
	}
	l.ends = since.Ends()
	return l, lines.Err()
}

// past reads a time that has been, or how long ago it was.
func past(flag, text string) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	for _, layout := range []string{time.RFC3339, time.DateOnly} {
		if t, err := time.Parse(layout, text); err == nil {
			return t, nil
		}
	}
	ago, err := duration(text)
	if err != nil {
		return time.Time{}, usagef("%s is %q; allowed: a time such as 2026-11-28T00:00:00Z, a day such as 2026-11-28, or how long ago, "+
			"such as 12h", flag, text)
	}
	return time.Now().Add(-ago), nil
}

package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/core/leak"
	"tansu/internal/core/manifest"
	"tansu/internal/server"
	"tansu/internal/sift"
)

func (a *app) leaksCommand() *cobra.Command {
	var o needsOptions
	var drawers []string
	var history bool
	var sarif, marks, ignore string
	command := a.withReason(&cobra.Command{
		Use:   "leaks [PATH …]",
		Short: "Find values where they should not be: in files, archives, a repository's history or standard input",
		Long: `Reads values, those of the manifest or all that you may read in drawers, and looks for them: as they are, in base64, in
hexadecimal, escaped for URLs, JSON and shells, in UTF-16, and line by line. It says where they are and never what they are.
Every version that is still served is looked for, not the current one alone. Archives (zip, tar, gzip, bzip2, xz, zstd, zlib)
and the streams of PDF documents are searched, up to eight levels deep. "-" is standard input, and --history is every version of
everything in a Git repository, also on branches that are gone.

The exit code is 0 when everything was looked at and nothing found, 5 when something is found, and 7 when nothing is found
and something could not be looked at: it was unreadable, encrypted, packed in an unknown way or too deep, or a value is too
short to be looked for. What is known and in order goes into an ignore list, tansu-leaks.yaml, with reasons:
  places: [{what: "testdata/*", reason: made-up values}]
  values: [{what: harbour-gates-prod/gate-pin, reason: four digits are everywhere}]
Each value that is looked for is a read, in the trail.

With --fingerprints, a file that tansu fingerprints has written is what is looked for: no chest is asked and no value is there.`,
		Example: `  tansu leaks build/
  tansu leaks --drawer ticketing-prod --history .
  zcat build.log.gz | tansu leaks --in production -
  tansu leaks --fingerprints tansu.fingerprints dist/
  tansu leaks --sarif leaks.sarif dist/ logs/`,
		RunE: func(c *cobra.Command, paths []string) error {
			ctx := c.Context()
			if len(paths) == 0 {
				paths = []string{"."}
			}
			ignored, err := readIgnore(ignore, c.Flags().Changed("ignore"))
			if err != nil {
				return err
			}
			l := leaksReport{Findings: []sift.Finding{}, NotLookedAt: []notLookedAt{}, ignore: ignored}
			matcher, err := a.matcherFor(ctx, marks, &o, drawers, &l)
			if err != nil {
				return err
			}
			s := &sift.Sieve{Matcher: matcher, Visit: l.visit, Skipped: l.skipped}
			for _, path := range paths {
				switch {
				case path == "-":
					err = s.Reader("standard input", a.In)
				case history:
					err = s.History(ctx, path)
				default:
					err = s.Path(path)
				}
				if err != nil {
					return fmt.Errorf("look through %s: %w", path, reasonOf(err))
				}
			}
			l.Bytes = s.Bytes
			if sarif != "" {
				if err := writeSARIF(sarif, l.Findings); err != nil {
					return err
				}
			}
			if err := a.show(l, func() { a.printLeaks(l) }); err != nil {
				return err
			}
			switch {
			case len(l.Findings) > 0:
				return foundSomething{}
			case len(l.NotLookedAt) > 0:
				return notAll{}
			}
			return nil
		},
	})
	o.add(command)
	command.Flags().StringArrayVar(&drawers, "drawer", nil,
		"look for every value in this `drawer` that you may read, instead of those of the manifest; can be repeated")
	command.Flags().BoolVar(&history, "history", false, "look through the history of Git repositories")
	command.Flags().StringVar(&sarif, "sarif", "", "write what is found to this `file` too, in SARIF 2.1.0, for pipelines")
	command.Flags().StringVar(&marks, "fingerprints", "", "look for what this `file` of tansu fingerprints says, without a chest")
	command.Flags().StringVar(&ignore, "ignore", leak.IgnoreName, "the ignore list, a `file`; none when it is not there")
	command.MarkFlagsMutuallyExclusive("fingerprints", "drawer")
	return command
}

// notAll says that a check found nothing and did not look at everything.
type notAll struct{}

func (notAll) Error() string { return "not everything was looked at" }

// leaksReport is what came of looking for leaks.
type leaksReport struct {
	Findings    []sift.Finding `json:"findings"`
	NotLookedAt []notLookedAt  `json:"not_looked_at"`
	Ignored     int            `json:"ignored"` // findings and places, for the reasons in the ignore list
	Values      int            `json:"values"`
	Bytes       int64          `json:"bytes"`

	ignore leak.Ignore
}

// notLookedAt is a place that was not looked through whole, or a value that was not looked for, and why.
type notLookedAt struct {
	What string `json:"what"`
	Why  string `json:"why"`
}

func (l *leaksReport) visit(f sift.Finding) {
	if l.ignore.Place(f.Place) || l.ignore.Value(f.Reference) {
		l.Ignored++
		return
	}
	l.Findings = append(l.Findings, f)
}

func (l *leaksReport) skipped(place string, err error) {
	if l.ignore.Place(place) {
		l.Ignored++
		return
	}
	l.NotLookedAt = append(l.NotLookedAt, notLookedAt{place, reasonOf(err).Error()})
}

// tooShort notes values that are not looked for.
func (l *leaksReport) tooShort(names []string) {
	for _, name := range names {
		if l.ignore.Value(name) {
			l.Ignored++
		} else {
			l.NotLookedAt = append(l.NotLookedAt, notLookedAt{name, "it is too short: it would be found everywhere"})
		}
	}
}

// readIgnore reads an ignore list, which has to be there when it was asked for.
func readIgnore(file string, asked bool) (leak.Ignore, error) {
	content, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) && !asked {
		return leak.Ignore{}, nil
	}
	if err != nil {
		return leak.Ignore{}, usagef("%s: %v", file, reasonOf(err))
	}
	list, err := leak.ReadIgnore(content)
	if err != nil {
		return list, usagef("%s: %v", file, err)
	}
	return list, nil
}

// matcherFor finds the values themselves or, in a file that has none, their fingerprints.
func (a *app) matcherFor(ctx context.Context, marks string, o *needsOptions, drawers []string, l *leaksReport) (sift.Matcher, error) {
	if marks != "" {
		content, err := os.ReadFile(marks)
		if err != nil {
			return nil, fmt.Errorf("read %s: %w", marks, reasonOf(err))
		}
		f, err := leak.ReadFingerprints(content)
		if err != nil {
			return nil, usagef("%s: %v", marks, err)
		}
		l.Values = f.Values()
		return f, nil
	}
	secrets, err := a.readToLookFor(ctx, o, drawers)
	if err != nil {
		return nil, err
	}
	matcher, tooSmall := leak.NewMatcher(secrets)
	l.Values = len(secrets)
	l.tooShort(tooSmall)
	return matcher, nil
}

// readToLookFor is [app.toLookFor] for whoever is signed in, in memory that stays in this process.
func (a *app) readToLookFor(ctx context.Context, o *needsOptions, drawers []string) ([]leak.Secret, error) {
	c, err := a.connected()
	if err != nil {
		return nil, err
	}
	if err := server.HideMemory(); err != nil {
		return nil, err
	}
	return a.toLookFor(ctx, c, o, drawers)
}

func (a *app) fingerprintsCommand() *cobra.Command {
	var o needsOptions
	var drawers []string
	var out string
	command := a.withReason(&cobra.Command{
		Use:   "fingerprints",
		Short: "Write a file by which a pipeline finds values that it may not read",
		Long: `Reads values, those of the manifest or all that you may read in drawers, and writes a file from which nobody can get them, but
by which tansu leaks --fingerprints finds them: of each form of a value a salted check, its size, and the reference.

Whoever has such a file can check guesses, as with anything that tells whether a text is the value. So values that somebody could
guess are left out, and it is said which: run tansu leaks for those, as somebody who may read them. The file is made anew after
a rotation. Each value is a read, in the trail.`,
		Example: `  tansu fingerprints --drawer ticketing-prod --out tansu.fingerprints
  tansu leaks --fingerprints tansu.fingerprints build/`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			secrets, err := a.readToLookFor(c.Context(), &o, drawers)
			if err != nil {
				return err
			}
			f, leftOut := leak.NewFingerprints(secrets)
			for _, name := range leftOut {
				a.say("%s is left out: it is short, or could be guessed. Look for it with tansu leaks.", name)
			}
			if f.Values() == 0 {
				return errors.New("there is no value of which fingerprints could be made")
			}
			content, err := json.Marshal(f)
			if err != nil {
				return err
			}
			content = append(content, '\n')
			if out == "" {
				_, err = a.Out.Write(content)
				return err
			}
			if err := os.WriteFile(out, content, 0o644); err != nil {
				return fmt.Errorf("write %s: %w", out, reasonOf(err))
			}
			a.say("Fingerprints of %s are in %s.", plural(f.Values(), "value"), out)
			return nil
		},
	})
	o.add(command)
	command.Flags().StringArrayVar(&drawers, "drawer", nil,
		"of every value in this `drawer` that you may read, instead of those of the manifest; can be repeated")
	command.Flags().StringVar(&out, "out", "", "write to this `file` instead of standard output")
	return command
}

// reasonOf leaves out the path that messages around it have.
func reasonOf(err error) error {
	var path *os.PathError
	if errors.As(err, &path) {
		return path.Err
	}
	return err
}

// toLookFor reads the values: of the manifest all, and of drawers what may be read, in all versions that are served.
func (a *app) toLookFor(ctx context.Context, c *client.Client, o *needsOptions, drawers []string) (secrets []leak.Secret, err error) {
	if len(drawers) == 0 {
		_, needs, err := o.load()
		if err != nil {
			return nil, err
		}
		references, err := allVersions(ctx, c, needs)
		if err != nil {
			return nil, err
		}
		values, err := a.fetchServed(ctx, c, references, "of the manifest")
		return secretsOf(values), err
	}
	for _, drawer := range drawers {
		contents, err := c.Drawer(ctx, drawer)
		if err != nil {
			return nil, err
		}
		var references []string
		for _, it := range contents.Items {
			for number := 1; number <= max(1, it.Versions); number++ {
				references = append(references, fmt.Sprintf("%s/%s@%d", drawer, it.Name, number))
			}
		}
		values, err := a.fetchServed(ctx, c, references, "in "+drawer)
		if err != nil {
			return nil, err
		}
		secrets = append(secrets, secretsOf(values)...)
	}
	if len(secrets) == 0 {
		return nil, errors.New("there is no value to look for")
	}
	return secrets, nil
}

// allVersions are the references of every version of what is needed, up to the one that is served. What is needed and not served is an
// error; nothing is read yet.
func allVersions(ctx context.Context, c *client.Client, needs []manifest.Resolved) (references []string, err error) {
	checks, err := checkAll(ctx, c, client.Preflight{}, needs)
	if err != nil {
		return nil, err
	}
	var not missing
	known := map[string]bool{}
	for i, ch := range checks {
		if fails(needs[i], ch) {
			not.list = append(not.list, client.Outcome{Reference: ch.Reference, Problem: &client.Problem{Code: ch.Reason, Detail: ch.Detail}})
		}
		ref := needs[i].Reference
		for ref.Version = 1; ref.Version <= ch.Version; ref.Version++ {
			if text := ref.String(); !known[text] {
				known[text] = true
				references = append(references, text)
			}
		}
	}
	if len(not.list) > 0 {
		return nil, not
	}
	return references, nil
}

// fetchServed reads what is served of some versions, and says how many are not: those have ended, or may not be read.
func (a *app) fetchServed(ctx context.Context, c *client.Client, references []string, where string) ([]fetched, error) {
	values, err := fetchAll(ctx, c, references)
	var some missing
	if errors.As(err, &some) {
		a.say("%d of %s %s are not served to you any more, and not looked for: those that have ended, and those you may not read.",
			len(some.list), plural(len(references), "version"), where)
		err = nil
	}
	return values, err
}

func secretsOf(values []fetched) (list []leak.Secret) {
	for _, v := range values {
		list = append(list, leak.Secret{Name: v.reference, Value: v.content})
	}
	return list
}

func (a *app) printLeaks(l leaksReport) {
	if len(l.Findings) > 0 {
		t := table{head: []string{"PLACE", "VALUE", "FORM"}}
		for _, f := range l.Findings {
			t.add(fmt.Sprintf("%s:%d:%d", f.Place, f.Line, f.Column), f.Reference, f.Form)
		}
		a.printTable(t, "")
		fmt.Fprintln(a.Out)
	}
	if len(l.NotLookedAt) > 0 {
		t := table{head: []string{"NOT LOOKED AT", "BECAUSE"}}
		for _, n := range l.NotLookedAt {
			t.add(n.What, n.Why)
		}
		a.printTable(t, "")
		fmt.Fprintln(a.Out)
	}
	ignored := ""
	if l.Ignored > 0 {
		ignored = fmt.Sprintf(" %d ignored, for the reasons in the ignore list.", l.Ignored)
	}
	switch {
	case len(l.Findings) > 0:
		fmt.Fprintf(a.Out, "%d found.%s Replace these values: whoever could read these places has them. tansu exposure says what follows "+
			"from each.\n", len(l.Findings), ignored)
	case len(l.NotLookedAt) > 0:
		fmt.Fprintf(a.Out, "Nothing found in what was looked at: %s in %s.%s Not everything was: see above.\n", plural(l.Values, "value"),
			bytesText(int(l.Bytes)), ignored)
	default:
		fmt.Fprintf(a.Out, "Nothing found: %s in %s.%s\n", plural(l.Values, "value"), bytesText(int(l.Bytes)), ignored)
	}
}

// writeSARIF writes findings in the Static Analysis Results Interchange Format (OASIS, version 2.1.0).
func writeSARIF(path string, findings []sift.Finding) error {
	type object = map[string]any
	results := []any{}
	for _, f := range findings {
		results = append(results, object{"ruleId": "value-found", "level": "error",
			"message": object{"text": fmt.Sprintf("The value of %s is here (%s).", f.Reference, f.Form)},
			"locations": []any{object{"physicalLocation": object{"artifactLocation": object{"uri": f.Place},
				"region": object{"startLine": f.Line, "startColumn": f.Column}}}}})
	}
	log := object{"version": "2.1.0", "$schema": "https://json.schemastore.org/sarif-2.1.0.json", "runs": []any{object{
		"tool": object{"driver": object{"name": "tansu leaks", "version": Version,
			"rules": []any{object{"id": "value-found", "shortDescription": object{"text": "A secret value stands where it should not."}}}}},
		"results": results}}}
	content, err := json.MarshalIndent(log, "", "  ")
	if err != nil {
		return err
	}
	if err := os.WriteFile(path, append(content, '\n'), 0o644); err != nil {
		return fmt.Errorf("write %s: %w", path, err)
	}
	return nil
}

package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/core/leak"
	"tansu/internal/server"
	"tansu/internal/sift"
)

func (a *app) leaksCommand() *cobra.Command {
	var o needsOptions
	var drawers []string
	var history bool
	var sarif, marks string
	command := a.withReason(&cobra.Command{
		Use:   "leaks [PATH …]",
		Short: "Find values where they should not be: in files, archives, a repository's history or standard input",
		Long: `Reads values, those of the manifest or all that you may read in drawers, and looks for them: as they are, in base64, in
hexadecimal, escaped for URLs, JSON and shells, in UTF-16, and line by line. It says where they are and never what they are.
Archives (zip, tar, gzip) are looked into. "-" is standard input, and --history is every version of everything in a Git
repository, also on branches that are gone.

The exit code is 0 when nothing is found and 5 when something is. Each value that is looked for is a read, in the trail.

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
			matcher, values, err := a.matcherFor(ctx, marks, &o, drawers)
			if err != nil {
				return err
			}
			findings := []sift.Finding{}
			s := &sift.Sieve{Matcher: matcher, Visit: func(f sift.Finding) { findings = append(findings, f) },
				Skipped: func(place string, err error) { a.say("%s was not looked through whole: %v", place, reasonOf(err)) }}
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
			if sarif != "" {
				if err := writeSARIF(sarif, findings); err != nil {
					return err
				}
			}
			if err := a.show(findings, func() { a.printLeaks(findings, values, s.Bytes) }); err != nil || len(findings) == 0 {
				return err
			}
			return foundSomething{}
		},
	})
	o.add(command)
	command.Flags().StringArrayVar(&drawers, "drawer", nil,
		"look for every value in this `drawer` that you may read, instead of those of the manifest; can be repeated")
	command.Flags().BoolVar(&history, "history", false, "look through the history of Git repositories")
	command.Flags().StringVar(&sarif, "sarif", "", "write what is found to this `file` too, in SARIF 2.1.0, for pipelines")
	command.Flags().StringVar(&marks, "fingerprints", "", "look for what this `file` of tansu fingerprints says, without a chest")
	command.MarkFlagsMutuallyExclusive("fingerprints", "drawer")
	return command
}

// matcherFor finds the values themselves or, in a file that has none, their fingerprints; and says how many they are.
func (a *app) matcherFor(ctx context.Context, marks string, o *needsOptions, drawers []string) (sift.Matcher, int, error) {
	if marks != "" {
		content, err := os.ReadFile(marks)
		if err != nil {
			return nil, 0, fmt.Errorf("read %s: %w", marks, reasonOf(err))
		}
		f, err := leak.ReadFingerprints(content)
		if err != nil {
			return nil, 0, usagef("%s: %v", marks, err)
		}
		return f, f.Values(), nil
	}
	secrets, err := a.readToLookFor(ctx, o, drawers)
	if err != nil {
		return nil, 0, err
	}
	matcher, tooSmall := leak.NewMatcher(secrets)
	for _, name := range tooSmall {
		a.say("%s is too short to be looked for: it would be found everywhere.", name)
	}
	return matcher, len(secrets), nil
}

// readToLookFor is [app.toLookFor] for who is signed in, in memory that stays in this process.
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
guess are left out, and it is said which: look for these with tansu leaks as who may read them. The file is made anew after
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
		references, _ := referencesOf(needs)
		values, err := fetchAll(ctx, c, references)
		if err != nil {
			return nil, err
		}
		return secretsOf(values), nil
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
		values, err := fetchAll(ctx, c, references)
		var some missing
		if errors.As(err, &some) { // what may not be read, or is not served any more, is not looked for
			a.say("%d of %d versions in %s are not served to you, and not looked for.", len(some.list), len(references), drawer)
			err = nil
		}
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

func secretsOf(values []fetched) (list []leak.Secret) {
	for _, v := range values {
		list = append(list, leak.Secret{Name: v.reference, Value: v.content})
	}
	return list
}

func (a *app) printLeaks(findings []sift.Finding, values int, looked int64) {
	t := table{head: []string{"PLACE", "VALUE", "FORM"}}
	for _, f := range findings {
		t.add(fmt.Sprintf("%s:%d:%d", f.Place, f.Line, f.Column), f.Reference, f.Form)
	}
	if len(findings) > 0 {
		a.printTable(t, "")
		fmt.Fprintf(a.Out, "\n%d found. Replace these values: who could read the places could read them. tansu exposure tells what each one "+
			"means.\n", len(findings))
		return
	}
	fmt.Fprintf(a.Out, "Nothing found: %s in %s.\n", plural(values, "value"), bytesText(int(looked)))
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

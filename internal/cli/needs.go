package cli

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/core/manifest"
	"tansu/internal/core/reference"
)

// needsOptions are the options of commands that work with a manifest.
type needsOptions struct {
	file, environment string
}

func (o *needsOptions) add(command *cobra.Command) {
	command.Flags().StringVar(&o.file, "manifest", manifest.FileName, "the `file` that lists what is needed")
	command.Flags().StringVar(&o.environment, "in", os.Getenv("TANSU_IN"),
		"the `environment` of the manifest; that of TANSU_IN, or the only one, when left out")
}

// read reads the manifest.
func (o *needsOptions) read() (m manifest.Manifest, err error) {
	content, err := os.ReadFile(o.file)
	if errors.Is(err, fs.ErrNotExist) {
		return m, usagef("there is no manifest %s here: tansu adopt makes one of a dotenv file", o.file)
	}
	if err != nil {
		return m, fmt.Errorf("read the manifest: %w", err)
	}
	if m, err = manifest.Read(content); err != nil {
		return m, usagef("%s: %s", o.file, strings.ReplaceAll(err.Error(), "\n", "\n  "))
	}
	return m, nil
}

// load reads the manifest and resolves its needs. Then o.environment is the one that they are of.
func (o *needsOptions) load() (m manifest.Manifest, needs []manifest.Resolved, err error) {
	if m, err = o.read(); err != nil {
		return m, nil, err
	}
	if needs, err = m.For(o.environment); err != nil {
		return m, nil, usagef("%s: %s", o.file, err)
	}
	o.environment, err = m.Environment(o.environment)
	return m, needs, err
}

// pinned says which needs are held to a version by number: a rotation does not reach them.
func (a *app) pinned(needs []manifest.Resolved) {
	var list []string
	for _, n := range needs {
		if n.Reference.Version != 0 {
			list = append(list, n.Reference.String())
		}
	}
	if len(list) > 0 {
		a.say("note: pinned to a version by number, so that a new version does not reach this program: %s", strings.Join(list, ", "))
	}
}

// mostAtOnce is how many references one call takes.
const mostAtOnce = 100

// fetched is a value that was read.
type fetched struct {
	reference string // with the version that was served
	content   []byte
}

// version is the number of the version that was served.
func (f fetched) version() int {
	ref, err := reference.Parse(f.reference)
	if err != nil {
		return 0
	}
	return ref.Version
}

// missing says which values are not served, and why.
type missing struct{ list []client.Outcome }

func (m missing) Error() string {
	var text strings.Builder
	fmt.Fprintf(&text, "%d of the values are not served:", len(m.list))
	for _, o := range m.list {
		fmt.Fprintf(&text, "\n  ✗ %s: %s", o.Reference, o.Problem.Detail)
		if o.Problem.Receipt != "" {
			fmt.Fprintf(&text, " (receipt %s)", o.Problem.Receipt)
		}
	}
	return text.String()
}

// fetchNeeds reads what needs name. What is optional and not there is left out of the needs that it returns.
func fetchNeeds(ctx context.Context, c *client.Client, needs []manifest.Resolved) (has []manifest.Resolved, values []fetched, at []int,
	err error) {
	references, _ := referencesOf(needs)
	values, err = fetchAll(ctx, c, references)
	var some missing
	if errors.As(err, &some) {
		gone := map[string]bool{}
		for _, o := range some.list {
			gone[o.Reference] = o.Problem.Code == "not_found"
		}
		var has []manifest.Resolved
		for _, n := range needs {
			switch absent, failed := gone[n.Reference.String()]; {
			case !failed:
				has = append(has, n)
			case !absent || !n.Optional:
				return nil, nil, nil, err
			}
		}
		needs, err = has, nil
	}
	_, at = referencesOf(needs)
	return needs, values, at, err
}

// fetchAll reads values in the order of the references. When some are not served, the error is [missing], and the others are
// returned without them.
func fetchAll(ctx context.Context, c *client.Client, references []string) (values []fetched, err error) {
	var bad []client.Outcome
	for len(references) > 0 {
		n := min(len(references), mostAtOnce)
		outcomes, err := c.ReadValues(ctx, references[:n]...)
		if err != nil {
			return nil, err
		}
		served := 0
		for _, o := range outcomes {
			if o.Problem != nil && o.Problem.Code == "too_large" && served > 0 {
				break // the answer is full: the rest is asked for again
			}
			served++
			if o.Problem != nil {
				bad = append(bad, o)
				continue
			}
			content, err := base64.StdEncoding.DecodeString(o.Value.Value)
			if err != nil {
				return nil, errors.New("the chest's answer is damaged")
			}
			o.Value.Value = ""
			values = append(values, fetched{o.Value.Reference, content})
		}
		references = references[served:]
	}
	if len(bad) > 0 {
		return values, missing{bad}
	}
	return values, nil
}

// referencesOf lists the references of needs, each once, and where each need's is.
func referencesOf(needs []manifest.Resolved) (list []string, at []int) {
	known := map[reference.Reference]int{}
	for _, n := range needs {
		i, found := known[n.Reference]
		if !found {
			i = len(list)
			known[n.Reference], list = i, append(list, n.Reference.String())
		}
		at = append(at, i)
	}
	return list, at
}

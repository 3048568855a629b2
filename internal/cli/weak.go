package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tansu/client"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/server"
)

// weakValue is what is wrong with the value of an item.
type weakValue struct {
	Reference string   `json:"reference"`
	Hints     []string `json:"hints"`
}

// weakReport is what came of looking at values.
type weakReport struct {
	Weak        []weakValue   `json:"weak"`
	NotLookedAt []notLookedAt `json:"not_looked_at"`
	Looked      int           `json:"looked"`
}

func (a *app) weakCommand() *cobra.Command {
	return a.withReason(&cobra.Command{
		Use:   "weak DRAWER …",
		Short: "Find values that are easy to guess, or the same in several items",
		Long: `Reads the current values in drawers, as far as you may, and says which are easy to guess, look like
placeholders, or are the same in several items. No value is shown. Each is a read, in the trail. The exit code is 0 when all were
looked at and none stands out, 5 when one does, and 7 when none does and some could not be looked at.`,
		Example: "  tansu weak ticketing-staging ticketing-prod",
		Args:    upTo(-1, "DRAWER"),
		RunE: a.withClient(func(ctx context.Context, c *client.Client, drawers []string) error {
			if err := server.HideMemory(); err != nil {
				return err
			}
			r := weakReport{Weak: []weakValue{}, NotLookedAt: []notLookedAt{}}
			same := map[string][]string{}
			for _, drawer := range drawers {
				if err := r.look(ctx, c, drawer, same); err != nil {
					return err
				}
			}
			r.repeated(same)
			if err := a.show(r, func() { a.printWeak(r) }); err != nil {
				return err
			}
			switch {
			case len(r.Weak) > 0:
				return foundSomething{}
			case len(r.NotLookedAt) > 0:
				return notAll{}
			}
			return nil
		}),
	})
}

// look reads what is served in a drawer, and notes what stands out and which items have the same value.
func (r *weakReport) look(ctx context.Context, c *client.Client, drawer string, same map[string][]string) error {
	contents, err := c.Drawer(ctx, drawer)
	if err != nil {
		return err
	}
	var references []string
	shapes := map[string]string{}
	for _, it := range contents.Items {
		references = append(references, it.Reference)
		shapes[it.Reference] = it.Shape
	}
	values, err := fetchAll(ctx, c, references)
	var some missing
	if errors.As(err, &some) {
		for _, o := range some.list {
			r.NotLookedAt = append(r.NotLookedAt, notLookedAt{o.Reference, o.Problem.Detail})
		}
		err = nil
	}
	if err != nil {
		return err
	}
	for _, v := range values {
		r.Looked++
		name, _, _ := strings.Cut(v.reference, "@")
		text := strings.TrimRight(string(v.content), "\r\n")
		same[text] = append(same[text], name)
		if shape := shapes[name]; shape != "" && shape != string(secretvalue.Text) {
			continue // a whole of several fields is no value that somebody chose
		}
		ref, err := reference.Parse(name)
		if err != nil {
			return err
		}
		if hints := secretvalue.Hints(secretvalue.New(v.content), ref.Drawer, ref.Item); len(hints) > 0 {
			r.Weak = append(r.Weak, weakValue{name, hints})
		}
	}
	return nil
}

// repeated adds what is the same in several items.
func (r *weakReport) repeated(same map[string][]string) {
	for _, names := range same {
		if len(names) < 2 {
			continue
		}
		slices.Sort(names)
		for _, name := range names {
			others := slices.DeleteFunc(slices.Clone(names), func(other string) bool { return other == name })
			hint := "the same value is in " + strings.Join(others, ", ")
			if at := slices.IndexFunc(r.Weak, func(w weakValue) bool { return w.Reference == name }); at >= 0 {
				r.Weak[at].Hints = append(r.Weak[at].Hints, hint)
			} else {
				r.Weak = append(r.Weak, weakValue{name, []string{hint}})
			}
		}
	}
	slices.SortFunc(r.Weak, func(x, y weakValue) int { return strings.Compare(x.Reference, y.Reference) })
}

func (a *app) printWeak(r weakReport) {
	t := table{head: []string{"ITEM", "WHAT STANDS OUT"}}
	for _, w := range r.Weak {
		t.add(w.Reference, strings.Join(w.Hints, "; "))
	}
	if len(r.Weak) > 0 {
		a.printTable(t, "")
	}
	if len(r.NotLookedAt) > 0 {
		not := table{head: []string{"NOT LOOKED AT", "BECAUSE"}}
		for _, n := range r.NotLookedAt {
			not.add(n.What, n.Why)
		}
		fmt.Fprintln(a.Out)
		a.printTable(not, "")
	}
	fmt.Fprintf(a.Out, "\n%s looked at, %d stand out. None was shown.\n", plural(r.Looked, "value"), len(r.Weak))
}

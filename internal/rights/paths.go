package rights

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/policytext"
	"tansu/internal/entity"
	"tansu/internal/powers"
	"tansu/internal/store"
)

// Paths says who could come to do an action on a drawer or an item, in how many steps, and by whose help, for whoever may ask who can now.
func (s *Rights) Paths(c chest.Caller, actionName, targetText string) (p powers.Paths, err error) {
	request, err := Question{Action: actionName, Target: targetText}.parse(s.heart.Now())
	if err != nil {
		return p, err
	}
	if len(request.Target.Names) == 0 {
		return p, chest.Invalid("target", "paths lead to a drawer or an item: name one")
	}
	a := s.heart.Attempt(c, chest.AskAccess, strings.Join(request.Target.Names, "/"))
	if err := a.AllowAsk("", request.Target.Names); err != nil {
		return p, err
	}
	a.Entry.Detail = "paths to " + request.Action.String()
	if spot := a.St.At(request.Target.Names...); spot.Asked == nil || len(request.Target.Names) == 2 && spot.Item == nil {
		return p, a.Fail(chest.Missing(targetText, ""))
	}
	if p, err = powers.Search(c.Ctx(), a.St, request.Action, request.Target.Names, a.Entry.At); err != nil {
		return p, a.Fail(chest.Gone(err))
	}
	return chest.Reply(a, p)
}

// aloneFailures are the expectations about who could gain access alone that do not hold in a state. Items that no grant and no rule
// tells apart are looked at once.
func aloneFailures(ctx context.Context, st *chest.Snapshot, doc *policytext.Document, now time.Time) (list []policytext.Failure,
	err error) {
	for _, e := range doc.Expectations {
		if e.Alone == nil {
			continue
		}
		action, _ := access.ParseAction(e.Can) // checked when it was read
		scope, err := access.ParseScope(e.Scope)
		if err != nil {
			continue
		}
		why, err := comesAlone(ctx, st, e, action, scope, now)
		if err != nil {
			return nil, err
		}
		if why != "" {
			list = append(list, policytext.Failure{Expectation: e, Why: why})
		}
	}
	return list, nil
}

func comesAlone(ctx context.Context, st *chest.Snapshot, e policytext.Expectation, action access.Action, scope access.Scope,
	now time.Time) (why string, err error) {
	for _, d := range st.Drawers() {
		if !scope.Touches(d.Row.Name) {
			continue
		}
		var reaching []access.Scope
		st.Given(func(g entity.Grant) bool {
			if parsed, err := access.ParseScope(g.Scope); err == nil && parsed.Touches(d.Row.Name) {
				reaching = append(reaching, parsed)
			}
			return true
		})
		kinds := map[string]bool{}
		var problem error
		err := st.Each(d, store.ItemFilter{}, func(it *chest.Item) bool {
			target := it.Target(d)
			if !scope.Matches(target) {
				return ctx.Err() == nil
			}
			kind := it.Labels.String() + " " + it.ApprovalOf(d)
			for i, g := range reaching {
				if g.Matches(target) {
					kind += fmt.Sprint(" ", i)
				}
			}
			if kinds[kind] {
				return ctx.Err() == nil
			}
			kinds[kind] = true
			p, err := powers.Search(ctx, st, action, target.Names, now)
			if problem = err; err != nil {
				return false
			}
			why = notExpected(e, p, strings.Join(target.Names, "/"))
			return why == ""
		})
		if problem != nil {
			err = problem
		}
		if err != nil || why != "" {
			return why, err
		}
	}
	return "", ctx.Err()
}

// notExpected names who could gain access alone and should not.
func notExpected(e policytext.Expectation, p powers.Paths, target string) string {
	for _, w := range p.Alone {
		for _, who := range append([]string{w.Who}, w.Alike...) {
			if !slices.Contains(e.Alone, who) {
				var steps []string
				for _, step := range w.Steps {
					steps = append(steps, step.By+" "+step.Does)
				}
				return fmt.Sprintf("%s could come to %s: %s", who, target, strings.Join(steps, "; "))
			}
		}
	}
	if p.Cut {
		return "there are too many ways to " + target + " to look at all of them"
	}
	return ""
}

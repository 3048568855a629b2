package httpapi

import (
	"net/http"
	"time"

	"tansu/client"
	"tansu/internal/chest"
	"tansu/internal/core/lifecycle"
	"tansu/internal/shelf"
	"tansu/internal/wire"
)

// rulesOf reads rules as the API has them.
func rulesOf(body client.Rules) (r lifecycle.Rules, err error) {
	r = lifecycle.Rules{NeedsEnd: body.NeedsEnd, Keep: body.Keep, Owner: body.Owner, Recipe: body.Recipe, TwoToShred: body.TwoToShred}
	for _, span := range []struct {
		field, text string
		to          *lifecycle.Span
	}{{"max_age", body.MaxAge, &r.MaxAge}, {"warn", body.Warn, &r.Warn}, {"grace", body.Grace, &r.Grace}, {"idle", body.Idle, &r.Idle},
		{"retire_for", body.RetireFor, &r.RetireFor}, {"host_keeps", body.HostKeeps, &r.HostKeeps}} {
		if span.text == "" {
			continue
		}
		if *span.to, err = lifecycle.ParseSpan(span.text); err != nil {
			return r, &chest.Error{Code: chest.InvalidInput, Field: "rules." + span.field, Detail: err.Error()}
		}
	}
	return r, nil
}

// newRules reads rules that are to be set. They are there: a body without them would take all rules away.
func (a *api) newRules(c *call) (n shelf.NewRules, err error) {
	var body struct {
		Rules         *client.Rules `json:"rules"`
		From          time.Time     `json:"from"`
		AllowRefusals bool          `json:"allow_refusals"`
		AllowAgain    bool          `json:"allow_again"`
		Preview       bool          `json:"preview"`
	}
	if err := a.decode(c, smallBody, &body); err != nil {
		return n, err
	}
	if body.Rules == nil {
		return n, chest.Invalid("rules", "rules is missing: give all rules that are to apply, or {} for none")
	}
	n = shelf.NewRules{From: body.From, AllowRefusals: body.AllowRefusals, AllowAgain: body.AllowAgain, Preview: body.Preview}
	n.Rules, err = rulesOf(*body.Rules)
	return n, err
}

func (a *api) setDrawerRules(c *call) error {
	n, err := a.newRules(c)
	if err != nil {
		return err
	}
	revision, err := neededRevision(c)
	if err != nil {
		return err
	}
	r, err := a.service.SetDrawerRules(c.caller, c.param("drawer"), revision, n)
	if err != nil {
		return err
	}
	answer := client.RulesReport{Done: r.Done, Drawer: wire.Drawer(r.Drawer), Items: []client.RuledItem{}, More: r.More, Stops: r.Stops,
		Again: r.Again}
	for _, it := range r.Items {
		answer.Items = append(answer.Items, client.RuledItem{Reference: it.Reference, Stops: it.Stops, Because: string(it.Because), Due: it.Due,
			Surplus: it.Surplus, Again: it.Again, NoEnd: it.NoEnd, Ownerless: it.Ownerless})
	}
	setETag(c, r.Revision)
	return c.JSON(http.StatusOK, answer)
}

func (a *api) setItemRules(c *call) error {
	n, err := a.newRules(c)
	if err != nil {
		return err
	}
	ref, err := itemReference(c.param("drawer"), c.param("item"))
	if err != nil {
		return err
	}
	revision, err := neededRevision(c)
	if err != nil {
		return err
	}
	it, err := a.service.SetItemRules(c.caller, ref, revision, n)
	if err != nil {
		return err
	}
	setETag(c, it.Revision)
	return c.JSON(http.StatusOK, wire.Item(it))
}

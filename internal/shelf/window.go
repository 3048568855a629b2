package shelf

import (
	"slices"
	"time"

	"tansu/internal/certrow"
	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/horizon"
)

// SetWindow changes when a version begins and ends to be served, without touching its value; of the current one when the reference has no
// version. A version that is refused now is served again by it only when that is meant.
func (s *Shelf) SetWindow(c chest.Caller, ref reference.Reference, w lifecycle.Window, allowAgain bool) (it Item, versions []Version,
	err error) {
	now := s.heart.Now()
	if err := w.Check(); err != nil {
		return it, nil, chest.Invalid("not_after", "%s", err)
	}
	if !w.NotAfter.IsZero() && !w.NotAfter.After(now) {
		return it, nil, chest.Invalid("not_after", "not_after has passed: to stop serving it at once, suspend it (tansu item suspend)")
	}
	err = s.heart.Try(func() error {
		a, err := s.heart.Allow(c, access.ChangeItem, ref.Drawer, ref.Item)
		if err != nil {
			return err
		}
		a.Entry.Action, a.Entry.Version = "set_window", ref.Version
		d, found, err := a.St.ItemOf(ref)
		if err != nil {
			return a.Fail(a.St.Hint(c, ref, err, a.Entry.At))
		}
		if err := setWindow(a, d, found, ref, w, allowAgain); err != nil {
			return a.Fail(err)
		}
		if err := a.Commit("item " + ref.String()); err != nil {
			return err
		}
		if d, found, err = a.After().ItemOf(ref); err != nil {
			return err
		}
		it, versions = Describe(d, found, a.Entry.At), history(found, a.Entry.At)
		return nil
	})
	return it, versions, err
}

// setWindow puts another window of a version into an attempt's change.
func setWindow(a *chest.Attempt, d *chest.Drawer, it *chest.Item, ref reference.Reference, w lifecycle.Window, allowAgain bool) error {
	now, number := a.Entry.At, ref.Version
	var err error
	if number == 0 {
		if number, err = it.Life.Current(now); err != nil {
			return &chest.Error{Code: chest.NotPossible, Field: "version", Detail: "no version is served now: name one (" +
				ref.String() + "@1)"}
		}
	}
	if number > len(it.Versions) || it.Life.Versions[number-1].Shredded {
		return chest.Missing("version "+ref.String(), "")
	}
	if w.NotBefore, w.NotAfter, err = certrow.Of(it.Versions[number-1].Facts).Window(w.NotBefore, w.NotAfter, now); err != nil {
		return err
	}
	if it.Life.Rules.At(now).NeedsEnd && w.NotAfter.IsZero() {
		return chest.Invalid("not_after", "the rules of %s require an end", d.Row.Name)
	}
	after := it.Life
	after.Versions = slices.Clone(after.Versions)
	after.Versions[number-1].Window = w
	before, then := it.Life.Servable(number, now), after.Servable(number, now)
	switch {
	case before == nil && then != nil:
		return chest.Invalid("not_before", "it is served now, and would not be any more: to stop that, suspend it (tansu item suspend)")
	case before != nil && then == nil && !allowAgain:
		return &chest.Error{Code: chest.NotPossible, Field: "allow_again",
			Detail: "it is refused now, and would be served again: add a new version instead, or say that this is meant (allow_again)"}
	}
	a.Entry.Version, a.Entry.Detail = number, "ends "+ending(w.NotAfter)
	if !w.NotBefore.IsZero() {
		a.Entry.Detail = "begins " + w.NotBefore.UTC().Format(time.RFC3339) + ", " + a.Entry.Detail
	}
	versions := slices.Clone(it.Versions)
	versions[number-1].NotBefore, versions[number-1].NotAfter = chest.Micros(w.NotBefore), chest.Micros(w.NotAfter)
	a.Change.Update(it.Row, horizon.Of(it.Row, versions, now))
	a.Change.Update(it.Versions[number-1], versions[number-1])
	return nil
}

func ending(at time.Time) string {
	if at.IsZero() {
		return "never"
	}
	return at.UTC().Format(time.RFC3339)
}

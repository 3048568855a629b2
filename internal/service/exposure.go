package service

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/trail"
	"tansu/internal/store"
)

// Exposure is what follows when one version's value got to where it should not be.
type Exposure struct {
	Reference string    // with the version
	Since     time.Time // from when on it counts as exposed
	Reason    string
	Marked    bool // whether it is in the trail as exposed, and not only looked at

	CreatedAt time.Time // when the version was put in
	CreatedBy string
	Current   bool // whether it is the version that is served
	Serves    bool // whether it is served at all, if asked for

	Readers []ExposedReader // who read it, ever; those after it was exposed first
	Holders []ExposedHolder // who could have, at some time since
	Replace []Replacement   // what to replace, in this order
	Partly  bool            // there were more reads than were looked at
}

// ExposedReader is somebody who read the version.
type ExposedReader struct {
	Subject string
	Count   int
	First   time.Time
	Last    time.Time
	After   int // of them, how many since it was exposed
	Addrs   []string
}

// ExposedHolder is somebody who could have read the version since it was exposed.
type ExposedHolder struct {
	Subject string
	State   string // of the identity
	Still   bool   // can now
	Did     bool   // did, since then
	Grants  []Grant
}

// Replacement is something to replace.
type Replacement struct {
	Reference string
	Why       string
	Command   string
}

// mostExposed bounds how many reads a report looks at.
const mostExposed = 200_000

// markExposed is the action of an entry that marks a version.
const markExposed = "mark_exposed"

// ReportExposure says who could read a version since it was exposed, who did, and what to replace. If mark is set, the trail
// says from then on that it is exposed. It takes the right to read the trail of the item; about other items it says what the
// caller may know of them.
func (s *Service) ReportExposure(c Caller, ref reference.Reference, since time.Time, reason string, mark bool) (x Exposure, err error) {
	if ref.Version == 0 {
		return x, invalid("reference", "say which version: %s@3", ref)
	}
	if reason != "" {
		if err := CheckReason(reason); err != nil {
			return x, err
		}
	}
	a, err := s.allow(c, access.ReadTrail, ref.Drawer, ref.Item)
	if err != nil {
		return x, err
	}
	a.entry.Action, a.entry.Version = "report_exposure", ref.Version
	if since.After(a.entry.At) {
		return x, a.fail(invalid("since", "since is in the future"))
	}
	ref.Field = ""
	x = Exposure{Reference: ref.String(), Since: since.UTC(), Reason: reason, Marked: mark}
	var names []string // all under which it was read
	err = s.view(func(st *state) error {
		d, it, err := st.readItem(ref)
		if err != nil {
			return s.hint(st, c, ref, err, a.entry.At)
		}
		if ref.Version > len(it.versions) {
			return notFound("version "+ref.String(), "")
		}
		row := it.versions[ref.Version-1]
		x.CreatedAt, x.CreatedBy = fromMicros(row.CreatedAt), row.CreatedBy
		current, currentErr := it.life.Current(a.entry.At)
		x.Current, x.Serves = currentErr == nil && current == ref.Version, it.life.Servable(ref.Version, a.entry.At) == nil
		names = append(names, d.row.Name+"/"+it.row.Name)
		for _, alias := range st.aliasesOf(it, a.entry.At) {
			names = append(names, alias.Reference)
		}
		return nil
	})
	if err != nil {
		return x, a.fail(err)
	}
	if x.Since.IsZero() {
		x.Since = x.CreatedAt
	}
	if err := s.exposedReaders(&x, names, ref.Version); err != nil {
		return x, a.fail(err)
	}
	if err := s.exposedHolders(c, &x, names[0], a.entry.At); err != nil {
		return x, a.fail(err)
	}
	if err := s.replacements(c, a, &x, names[0]); err != nil {
		return x, a.fail(err)
	}
	if mark {
		a.entry.Action, a.entry.Detail = markExposed, "since "+x.Since.Format(time.RFC3339)
		if reason != "" {
			a.entry.Stated = reason
		}
	}
	return answer(a, x)
}

func (s *Service) exposedReaders(x *Exposure, names []string, version int) error {
	found, looked := map[string]*ExposedReader{}, 0
	for _, name := range names {
		err := s.records.Entries(store.Filter{Target: name, Action: access.ReadValue.String(), Outcome: string(trail.Allowed), Since: x.CreatedAt}, func(e trail.Entry) bool {
			if looked++; looked > mostExposed {
				x.Partly = true
				return false
			}
			if e.Version != version {
				return true
			}
			r := found[e.Subject]
			if r == nil {
				r = &ExposedReader{Subject: e.Subject, Last: e.At}
				found[e.Subject] = r
			}
			r.Count++
			r.First = e.At
			if e.At.After(r.Last) {
				r.Last = e.At
			}
			if !e.At.Before(x.Since) {
				r.After++
			}
			if len(r.Addrs) < 10 && !slices.Contains(r.Addrs, e.Addr) {
				r.Addrs = append(r.Addrs, e.Addr)
			}
			return true
		})
		if err != nil {
			return err
		}
	}
	for _, r := range found {
		x.Readers = append(x.Readers, *r)
	}
	slices.SortFunc(x.Readers, func(p, q ExposedReader) int {
		return cmp.Or(cmp.Compare(q.After, p.After), cmp.Compare(q.Count, p.Count), strings.Compare(p.Subject, q.Subject))
	})
	return nil
}

// exposedHolders works out who could at some time since: by the grants of now and those that ended meanwhile, without the
// denials that came meanwhile. Teams count with the members that they have now.
func (s *Service) exposedHolders(c Caller, x *Exposure, name string, now time.Time) error {
	then, err := s.copied()
	if err != nil {
		return err
	}
	for _, row := range then.grants {
		was := row
		switch {
		case row.Effect == string(access.Deny) && fromMicros(row.CreatedAt).After(x.Since):
			was.EndedAt = micros(now)
		case row.Effect == string(access.Allow) && row.EndedAt != 0 && fromMicros(row.EndedAt).After(x.Since):
			was.EndedAt = 0
		}
		if was.EndedAt != row.EndedAt {
			if err := then.putGrant(was); err != nil {
				return err
			}
		}
	}
	return s.view(func(st *state) error {
		target := then.target(targetOf(name)...)
		still := map[string]bool{}
		for _, h := range st.policy.Holders(access.ReadValue, target, now) {
			still[h.Subject] = true
		}
		for _, h := range then.policy.Holders(access.ReadValue, target, x.Since) {
			row := st.identities[h.Subject]
			holder := ExposedHolder{Subject: subjectOf(row), State: row.State, Still: still[h.Subject], Grants: st.describeGrants(h.Grants, now)}
			holder.Did = slices.ContainsFunc(x.Readers, func(r ExposedReader) bool { return r.Subject == holder.Subject && r.After > 0 })
			x.Holders = append(x.Holders, holder)
		}
		slices.SortFunc(x.Holders, func(p, q ExposedHolder) int {
			return cmp.Or(btoi(q.Did)-btoi(p.Did), btoi(q.Still)-btoi(p.Still), strings.Compare(p.Subject, q.Subject))
		})
		return nil
	})
}

// replacements lists what to replace: the version itself, then what has the same value, then what else was read since by who
// read it since, because whatever let one value out may have let out the others.
func (s *Service) replacements(c Caller, a *attempt, x *Exposure, name string) error {
	uses, err := s.records.Uses(store.UseFilter{Kind: useRead, Since: micros(x.Since), By: exposedTo(x)})
	if err != nil {
		return err
	}
	type candidate struct {
		Replacement
		production bool
		order      int
	}
	var list []candidate
	err = s.view(func(st *state) error {
		add := func(d *drawer, item, why string, order int) {
			target := d.row.Name + "/" + item
			if target == name || slices.ContainsFunc(list, func(c candidate) bool { return c.Reference == target }) {
				return
			}
			list = append(list, candidate{Replacement{target, why, "tansu put " + target + " --generate characters:32"}, d.row.Environment == "production", order})
		}
		for _, same := range s.sameAs(st, c, a, x) {
			add(same.d, same.it.row.Name, "it has the same value", 1)
		}
		for _, use := range uses {
			names := targetOf(use.Key)
			if len(names) != 2 || st.drawers[names[0]] == nil {
				continue
			}
			d := st.drawers[names[0]]
			if !st.decide(c.id, access.ReadTrail, c.context(a.entry.At), names...).Allowed {
				continue
			}
			if it, err := st.find(d, names[1]); err != nil || it == nil || !it.life.RetiredAt.IsZero() {
				continue
			}
			add(d, names[1], "read since then by "+use.Other+", who read what is exposed", 2)
		}
		return nil
	})
	if err != nil {
		return err
	}
	slices.SortStableFunc(list, func(p, q candidate) int {
		return cmp.Or(cmp.Compare(p.order, q.order), btoi(q.production)-btoi(p.production), strings.Compare(p.Reference, q.Reference))
	})
	switch {
	case x.Current:
		x.Replace = append(x.Replace, Replacement{name, "it is exposed, and it is what everybody gets now", "tansu put " + name + " --generate characters:32"},
			Replacement{x.Reference, "when the new one is in use: nobody may get it any more", "tansu item suspend " + x.Reference})
	case x.Serves:
		x.Replace = append(x.Replace, Replacement{x.Reference, "it is exposed, and it is served to who asks for it by its number", "tansu item suspend " + x.Reference})
	}
	for _, c := range list {
		x.Replace = append(x.Replace, c.Replacement)
	}
	return nil
}

// exposedTo are those who read the version since it was exposed; not nil, because nil is everybody.
func exposedTo(x *Exposure) []string {
	subjects := []string{}
	for _, r := range x.Readers {
		if r.After > 0 {
			subjects = append(subjects, r.Subject)
		}
	}
	return subjects
}

// sameAs lists other items that hold the exposed value, among those whose trail the caller may read. Nothing is shown.
func (s *Service) sameAs(st *state, c Caller, a *attempt, x *Exposure) (list []holding) {
	ref, err := reference.Parse(x.Reference)
	if err != nil {
		return nil
	}
	d, it, err := st.readItem(ref)
	if err != nil || it.versions[ref.Version-1].Fields != "" || it.life.Versions[ref.Version-1].Shredded {
		return nil
	}
	content, err := s.openVersion(d, it, ref.Version)
	if err != nil {
		return nil
	}
	defer clear(content)
	for _, h := range s.holding(st, c, a, access.ReadTrail, it.row.ID, secretvalue.New(content), mostAlike) {
		if h.it.life.Servable(h.number, a.entry.At) == nil {
			list = append(list, h)
			a.comparedEqual(h, x.Reference+", which is exposed")
		}
	}
	return list
}

package record

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"tansu/internal/certrow"
	"tansu/internal/chest"
	"tansu/internal/usage"

	"tansu/internal/core/access"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/trail"
	"tansu/internal/entity"
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
	Used    bool            // of a key that stays in the chest: readers are those who used it
	// Uncompared says what could not be compared with the version, because a drawer is closed; empty for nothing.
	Uncompared string
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
	Grants  []chest.GrantInfo
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
func (s *Record) ReportExposure(c chest.Caller, ref reference.Reference, since time.Time, reason string, mark bool) (x Exposure,
	err error) {
	if ref.Version == 0 {
		return x, chest.Invalid("reference", "say which version: %s@3", ref)
	}
	if reason != "" {
		if err := chest.CheckReason(reason); err != nil {
			return x, err
		}
	}
	a, err := s.heart.Allow(c, access.ReadTrail, ref.Drawer, ref.Item)
	if err != nil {
		return x, err
	}
	a.Entry.Action, a.Entry.Version = "report_exposure", ref.Version
	if since.After(a.Entry.At) {
		return x, a.Fail(chest.Invalid("since", "since is in the future"))
	}
	ref.Field = ""
	x = Exposure{Reference: ref.String(), Since: since.UTC(), Reason: reason, Marked: mark}
	d, it, err := a.St.ReadItem(ref)
	if err != nil {
		return x, a.Fail(a.St.Hint(c, ref, err, a.Entry.At))
	}
	if ref.Version > len(it.Versions) {
		return x, a.Fail(chest.Missing("version "+ref.String(), ""))
	}
	if _, err := a.Guess(""); err != nil { // it says what has the same value, and who may write chooses what that is
		return x, err
	}
	row, name := it.Versions[ref.Version-1], d.Row.Name+"/"+it.Row.Name
	x.CreatedAt, x.CreatedBy = chest.FromMicros(row.CreatedAt), row.CreatedBy
	current, currentErr := it.Life.Current(a.Entry.At)
	x.Current, x.Serves = currentErr == nil && current == ref.Version, it.Life.Servable(ref.Version, a.Entry.At) == nil
	if x.Since.Before(x.CreatedAt) { // a value cannot have been seen before it was there
		x.Since = x.CreatedAt
	}
	actions, used := exposing(it)
	x.Used = used
	err = s.exposedReaders(a, &x, it, namesEver(a.St, d, it), ref.Version, actions)
	if err == nil {
		err = exposedHolders(a, &x, name, actions)
	}
	if err == nil {
		err = s.replacements(a, &x, name)
	}
	if err != nil {
		return x, a.Fail(err)
	}
	if mark {
		a.Entry.Action, a.Entry.Detail = markExposed, "since "+x.Since.Format(time.RFC3339)
		if reason != "" {
			a.Entry.Stated = reason
		}
	}
	return chest.Reply(a, x)
}

// namesEver are the names under which an item is known to have been read: the one that it has, and the old ones, also those that do not
// work any more. Reads that have the item's id are found by that, whatever it was called.
func namesEver(st *chest.Snapshot, d *chest.Drawer, it *chest.Item) []string {
	names := []string{d.Row.Name + "/" + it.Row.Name}
	for _, alias := range st.AliasesOf(it.Row.ID) {
		if in := st.DrawerByID(alias.Drawer); in != nil {
			names = append(names, in.Row.Name+"/"+alias.Name)
		}
	}
	return names
}

// exposedReaders finds to whom the version got, ever, by what exposes it: by the item's id, and by its names where entries have no ids yet;
// in the database and in archives.
func (s *Record) exposedReaders(a *chest.Attempt, x *Exposure, it *chest.Item, names []string, version int, actions []access.Action) error {
	r := readersOf{x: x, ctx: a.Caller.Ctx(), item: it.Row.ID, names: names, version: version, found: map[string]*ExposedReader{}}
	f := store.Filter{Outcome: string(trail.Allowed), Since: x.CreatedAt}
	var exposing []string
	for _, action := range actions {
		exposing = append(exposing, action.String())
	}
	for _, action := range exposing {
		byID := f
		byID.Action, byID.Item = action, it.Row.ID
		if err := s.records.Entries(byID, r.take); err != nil {
			return err
		}
		for _, name := range names {
			byName := f
			byName.Action, byName.Target = action, name
			if err := s.records.Entries(byName, func(e trail.Entry) bool { return e.ItemID != "" || r.take(e) }); err != nil {
				return err
			}
		}
	}
	archives, err := s.records.Archives()
	if err != nil {
		return err
	}
	for _, archive := range archives {
		err := s.records.Archived(archive.Name, func(e trail.Entry) bool {
			return !f.Selects(e) || !slices.Contains(exposing, e.Action) || !r.same(e) || r.take(e)
		})
		if err != nil {
			return err
		}
	}
	for _, reader := range r.found {
		x.Readers = append(x.Readers, *reader)
	}
	slices.SortFunc(x.Readers, func(p, q ExposedReader) int {
		return cmp.Or(cmp.Compare(q.After, p.After), cmp.Compare(q.Count, p.Count), strings.Compare(p.Subject, q.Subject))
	})
	return r.ctx.Err()
}

// readersOf gathers who read a version.
type readersOf struct {
	x       *Exposure
	ctx     context.Context
	item    string
	names   []string
	version int
	looked  int
	found   map[string]*ExposedReader
}

// same reports whether an entry is about the item.
func (r *readersOf) same(e trail.Entry) bool {
	return e.ItemID == r.item || e.ItemID == "" && slices.Contains(r.names, e.Target)
}

// take counts an entry about the item; it returns false when enough was looked at.
func (r *readersOf) take(e trail.Entry) bool {
	if r.looked++; r.looked > mostExposed {
		r.x.Partly = true
		return false
	}
	if e.Version != r.version {
		return r.ctx.Err() == nil
	}
	one := r.found[e.Subject]
	if one == nil {
		one = &ExposedReader{Subject: e.Subject, First: e.At, Last: e.At}
		r.found[e.Subject] = one
	}
	one.Count++
	if e.At.Before(one.First) {
		one.First = e.At
	}
	if e.At.After(one.Last) {
		one.Last = e.At
	}
	if !e.At.Before(r.x.Since) {
		one.After++
	}
	if len(one.Addrs) < 10 && !slices.Contains(one.Addrs, e.Addr) {
		one.Addrs = append(one.Addrs, e.Addr)
	}
	return r.ctx.Err() == nil
}

// exposedHolders works out who could at some time since: by the grants of now and those that ended meanwhile, without the
// denials that came meanwhile. Teams count with the members that they have now.
func exposedHolders(a *chest.Attempt, x *Exposure, name string, actions []access.Action) error {
	now := a.Entry.At
	var was store.Change
	a.St.Grants("", func(row entity.Grant) bool {
		then := row
		switch {
		case row.Effect == string(access.Deny) && chest.FromMicros(row.CreatedAt).After(x.Since):
			then.EndedAt = chest.Micros(now)
		case row.Effect == string(access.Allow) && row.EndedAt != 0 && chest.FromMicros(row.EndedAt).After(x.Since):
			then.EndedAt = 0
		}
		if then.EndedAt != row.EndedAt {
			was.Update(row, then)
		}
		return true
	})
	then := a.St.Trial()
	if err := then.Apply(&was); err != nil {
		return err
	}
	target := a.St.Target(chest.TargetOf(name)...)
	still, listed := map[string]bool{}, map[string]bool{}
	var could []access.Holder
	for _, action := range actions {
		for _, h := range a.St.Policy.Holders(action, target, now) {
			still[h.Subject] = true
		}
		could = append(could, then.Policy.Holders(action, target, x.Since)...)
	}
	for _, h := range could {
		if listed[h.Subject] {
			continue
		}
		listed[h.Subject] = true
		row := a.St.Identity(h.Subject)
		holder := ExposedHolder{Subject: chest.SubjectOf(row), State: row.State, Still: still[h.Subject],
			Grants: a.St.DescribeGrants(h.Grants, now)}
		holder.Did = slices.ContainsFunc(x.Readers, func(r ExposedReader) bool { return r.Subject == holder.Subject && r.After > 0 })
		x.Holders = append(x.Holders, holder)
	}
	slices.SortFunc(x.Holders, func(p, q ExposedHolder) int {
		return cmp.Or(btoi(q.Did)-btoi(p.Did), btoi(q.Still)-btoi(p.Still), strings.Compare(p.Subject, q.Subject))
	})
	return nil
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// replacements lists what to replace: the version itself, then what has the same value, then what else was read since by who
// read it since, because whatever let one value out may have let out the others.
func (s *Record) replacements(a *chest.Attempt, x *Exposure, name string) error {
	uses, err := s.records.Uses(store.UseFilter{Kind: usage.Read, Since: chest.Micros(x.Since), By: exposedTo(x)})
	if err != nil {
		return err
	}
	if x.Used { // who used a key has not seen it
		uses = nil
	}
	type candidate struct {
		Replacement
		production bool
		order      int
	}
	var list []candidate
	listed := map[string]bool{name: true}
	add := func(d *chest.Drawer, it *chest.Item, why string, order int) {
		target := d.Row.Name + "/" + it.Row.Name
		if listed[target] {
			return
		}
		listed[target] = true
		list = append(list, candidate{Replacement{target, why, replacing(target, it, a.Entry.At)}, d.Row.Environment == "production", order})
	}
	for _, same := range s.sameAs(a, x) {
		add(same.Drawer, same.Item, "it has the same value", 1)
	}
	for _, use := range uses {
		names := chest.TargetOf(use.Key)
		if len(names) != 2 || a.St.Drawer(names[0]) == nil ||
			!a.St.Decide(a.Caller.ID, access.ReadTrail, a.Caller.Context(a.Entry.At), names...).Allowed {
			continue
		}
		d := a.St.Drawer(names[0])
		it, err := a.St.Find(d, names[1])
		if err != nil || it == nil || !it.Life.RetiredAt.IsZero() {
			continue
		}
		add(d, it, "read since then by "+use.Other+", who read what is exposed", 2)
	}
	slices.SortStableFunc(list, func(p, q candidate) int {
		return cmp.Or(cmp.Compare(p.order, q.order), btoi(q.production)-btoi(p.production), strings.Compare(p.Reference, q.Reference))
	})
	ref, err := reference.Parse(x.Reference)
	if err != nil {
		return err
	}
	_, it, err := a.St.ItemOf(reference.Reference{Drawer: chest.TargetOf(name)[0], Item: chest.TargetOf(name)[1]})
	authority := err == nil && it.Row.Kind == entity.KindAuthority
	switch {
	case x.Current && err == nil && !authority:
		x.Replace = append(x.Replace, Replacement{name, "it is exposed, and it is what everybody gets now", replacing(name, it, a.Entry.At)},
			Replacement{x.Reference, "when the new one is in use: nobody may get it any more", "tansu item suspend " + x.Reference})
	case x.Serves && !authority:
		x.Replace = append(x.Replace, Replacement{x.Reference, "it is exposed, and it is still served when it is pinned by its number",
			"tansu item suspend " + x.Reference})
	}
	if err == nil {
		x.Replace = append(x.Replace, certified(a, it, name, ref.Version)...)
	}
	for _, c := range list {
		x.Replace = append(x.Replace, c.Replacement)
	}
	return nil
}

// replacing is the command that puts a new value in the place of an item's. It makes one up only where a rule says how: a key that somebody
// else issues, or a password of another system, is replaced there first.
func replacing(name string, it *chest.Item, now time.Time) string {
	if it.Row.KeyType != "" {
		return "tansu key rotate " + name
	}
	command := "tansu put " + name + " --new-version"
	switch shape := secretvalue.Shape(it.Row.Shape); shape {
	case "", secretvalue.Text:
		if it.Life.Rules.At(now).Recipe != "" {
			return command + " --generate rule"
		}
		return command
	case secretvalue.File:
		return command + " --field-file content=FILE"
	case secretvalue.SSHKey:
		return command + " --field-file private=FILE"
	}
	if len(it.Versions) == 0 {
		return command
	}
	newest := it.Versions[len(it.Versions)-1]
	if facts := certrow.Of(newest.Facts); it.Row.Kind == entity.KindCertificate && facts != nil && facts.Made != "" {
		return "tansu cert renew " + name
	}
	for _, field := range strings.Fields(newest.Fields) {
		parts := strings.Split(field, ":")
		secret := len(parts) == 2 // the others are said to be plain
		if shape := secretvalue.Shape(it.Row.Shape); shape == secretvalue.Login || shape == secretvalue.Connection {
			secret = parts[0] == "password"
		}
		if secret {
			command += " --field " + parts[0]
		}
	}
	return command
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

// sameAs lists other items that hold the exposed value and serve it, among those whose trail the caller may read. Nothing is shown.
func (s *Record) sameAs(a *chest.Attempt, x *Exposure) (list []chest.Serving) {
	ref, err := reference.Parse(x.Reference)
	if err != nil {
		return nil
	}
	d, it, err := a.St.ReadItem(ref)
	if err != nil || it.Versions[ref.Version-1].Fields != "" || it.Life.Versions[ref.Version-1].Shredded {
		return nil
	}
	content, err := a.St.Content(d, it, ref.Version)
	if err != nil {
		x.Uncompared = "what else has the same value was not looked for, because the version cannot be opened"
		return nil
	}
	defer clear(content)
	list, closed := s.alike.SameValue(a, access.ReadTrail, it.Row.ID, secretvalue.New(content), mostAlike, x.Reference+", which is exposed")
	if closed > 0 {
		x.Uncompared = reference.Counted(closed, "item") + " may have the same value, and could not be compared: master keys are away"
	}
	return list
}

// mostAlike bounds how many items with the same value a report names.
const mostAlike = 500

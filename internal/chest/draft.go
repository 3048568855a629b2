package chest

import (
	"fmt"

	"tansu/internal/core/access"
	"tansu/internal/core/envelope"
	"tansu/internal/core/reference"
	"tansu/internal/entity"
	"tansu/internal/store"
)

// Draft is a snapshot that is being made from another one by the rows of changes: by the writer, from what was just written, or by
// whoever wants to know what a change would do. What it becomes follows from the rows alone. It is used by one goroutine.
type Draft struct {
	*Snapshot
	policy  *access.Draft
	touched []store.Mark
	retired []*envelope.Key // keys that nothing is under any more
	gone    []string        // master keys that were withdrawn or destroyed
	items   []itemChange    // in the order in which they were written
	problem error           // the first row that could not be read
}

// itemChange is what a change did to one item and its versions.
type itemChange struct {
	id       string
	before   *entity.Item // nil for a new one
	after    *entity.Item // nil when only versions changed
	versions []entity.Version
}

// draft begins a change of a snapshot.
func (st *Snapshot) draft() *Draft {
	next := *st
	next.identities, next.bySubject, next.owned, next.looks = st.identities.copied(), st.bySubject.copied(), st.owned.copied(),
		st.looks.copied()
	next.members, next.memberships = st.members.copied(), st.memberships.copied()
	next.credentials, next.byHash, next.byHolder = st.credentials.copied(), st.byHash.copied(), st.byHolder.copied()
	next.tokens, next.sessions, next.tokensFor = st.tokens.copied(), st.sessions.copied(), st.tokensFor.copied()
	next.grants, next.given, next.past, next.inRole = st.grants.copied(), st.given.copied(), st.past.copied(), st.inRole.copied()
	next.roles, next.requests, next.asked = st.roles.copied(), st.requests.copied(), st.asked.copied()
	next.answers, next.approved = st.answers.copied(), st.approved.copied()
	next.drawers, next.drawersByID = st.drawers.copied(), st.drawersByID.copied()
	next.aliases, next.aliasesOf = st.aliases.copied(), st.aliasesOf.copied()
	next.calendars, next.calendarsOf = st.calendars.copied(), st.calendarsOf.copied()
	next.slots, next.shares, next.issued = st.slots.copied(), st.shares.copied(), st.issued.copied()
	next.masters = st.masters.copied()
	d := &Draft{Snapshot: &next, policy: st.Policy.Draft()}
	next.Policy = d.policy.Policy
	return d
}

// Trial is a draft on which a change can be tried; the snapshot stays as it is. Items that it changes are looked at as it would
// make them.
func (st *Snapshot) Trial() *Draft {
	trial := st.drafting()
	trial.tried = map[itemKey]*Item{}
	for k, it := range st.tried {
		trial.tried[k] = it
	}
	return trial
}

// drafting is draft by somebody who is not the writer: several may begin at the same time.
func (st *Snapshot) drafting() *Draft {
	st.chest.memory.drafting.Lock()
	defer st.chest.memory.drafting.Unlock()
	return st.draft()
}

// Apply makes a change in a trial.
func (d *Draft) Apply(c *store.Change) error {
	for _, row := range c.Rows {
		d.put(row.Before, row.After)
	}
	return d.problem
}

// finish is the snapshot that the draft has become.
func (d *Draft) finish() *Snapshot { return d.Snapshot }

func (d *Draft) touch(what store.MarkKind, id string) {
	d.touched = append(d.touched, store.Mark{What: what, ID: id})
}

func (d *Draft) fail(err error) {
	if d.problem == nil {
		d.problem = err
	}
}

// put follows one row: a new one, one in the place of another, or one that is removed.
func (d *Draft) put(before, after entity.Row) {
	row := after
	if row == nil {
		row = before
	}
	switch row := row.(type) {
	case entity.Identity:
		d.putIdentity(before, row)
	case entity.Member:
		d.putMember(row, after == nil)
	case entity.Credential:
		d.putCredential(row, after == nil)
	case entity.Token:
		d.putToken(row, after == nil)
	case entity.Grant:
		d.failed(d.putGrant(row))
	case entity.Role:
		d.failed(d.putRole(row, after == nil))
	case entity.Request:
		d.putRequest(row, after == nil)
	case entity.Drawer:
		d.failed(d.putDrawer(row))
	case entity.DrawerKey:
		d.failed(d.putDrawerKey(row))
	case entity.Alias:
		d.putAlias(row, after == nil)
	case entity.Calendar:
		d.putCalendar(row, after == nil)
	case entity.Slot:
		d.slots.put(row.ID, &row, after == nil)
	case entity.Share:
		d.shares.put(row.ID, &row, after == nil)
	case entity.MasterKey:
		d.failed(d.putMaster(row, after == nil))
	case entity.Issued:
		d.issued.put(row.ID, &row, after == nil)
	case entity.Item:
		d.putItem(before, row)
	case entity.Version:
		d.putVersion(row)
	default:
		d.fail(fmt.Errorf("memory knows no rows of type %T", row))
	}
}

func (d *Draft) failed(err error) {
	if err != nil {
		d.fail(err)
	}
}

func (d *Draft) putIdentity(before entity.Row, row entity.Identity) {
	if was, is := before.(entity.Identity); is && was.Owner != "" {
		d.owned.Delete(key(was.Owner, SubjectOf(was)))
	}
	d.identities.Set(row.ID, &row)
	d.bySubject.Set(SubjectOf(row), &row)
	d.looks.Set(key(row.Kind, reference.Skeleton(row.Name), row.Name), &row)
	if row.Owner != "" {
		d.owned.Set(key(row.Owner, SubjectOf(row)), &row)
	}
	d.touch(store.MarkAccess, "")
	d.touch(store.MarkSubject, row.ID)
}

// putMember follows a membership: the grants of the team, and of the teams that it is in, reach other holders then.
func (d *Draft) putMember(row entity.Member, removed bool) {
	if removed {
		d.members.Delete(key(row.Team, row.Identity))
		d.memberships.Delete(key(row.Identity, row.Team))
	} else {
		d.members.Set(key(row.Team, row.Identity), &row)
		d.memberships.Set(key(row.Identity, row.Team), &row)
	}
	teams := []string{row.Team}
	for _, m := range d.MembershipsOf(row.Team) {
		teams = append(teams, m.Team)
	}
	reached := []string{row.Identity}
	for _, m := range d.MembersOf(row.Identity) { // of a team that joins or leaves
		reached = append(reached, m.Identity)
	}
	for _, team := range teams {
		for _, g := range d.GivenTo(team) {
			made, err := d.GrantOf(g)
			if err != nil {
				d.fail(fmt.Errorf("grant %s: %w", g.ID, err))
				return
			}
			holders := d.Holders(team)
			for _, holder := range reached {
				d.place(made, holder, true, contains(holders, holder))
			}
		}
	}
	d.touch(store.MarkAccess, "")
	for _, holder := range reached {
		d.touch(store.MarkSubject, holder)
	}
}

// contains is slices.Contains for a list in order.
func contains(sorted []string, one string) bool {
	low, high := 0, len(sorted)
	for low < high {
		if middle := (low + high) / 2; sorted[middle] < one {
			low = middle + 1
		} else {
			high = middle
		}
	}
	return low < len(sorted) && sorted[low] == one
}

// place adds a grant to one of its holders or replaces it there, or removes it from somebody who no longer holds it.
func (d *Draft) place(made access.Grant, holder string, there, holds bool) {
	made.Subject = holder
	if there {
		d.policy.Remove(holder, made.ID)
	}
	if holds && d.Identity(holder).Kind != reference.Team {
		d.policy.Add(made)
	}
}

func (d *Draft) putCredential(row entity.Credential, removed bool) {
	if removed {
		d.credentials.Delete(row.ID)
		d.byHash.Delete(string(row.Hash))
		d.byHolder.Delete(key(row.Identity, row.ID))
		d.touch(store.MarkProof, row.ID)
	} else {
		d.credentials.Set(row.ID, &row)
		d.byHash.Set(string(row.Hash), &row)
		d.byHolder.Set(key(row.Identity, row.ID), &row)
		d.touch(store.MarkProof, row.ID) // its end may be another one
	}
	d.touch(store.MarkAccess, "")
}

func (d *Draft) putToken(row entity.Token, removed bool) {
	session := key(row.Identity, fmt.Sprintf("%020d", row.CreatedAt), row.ID)
	if removed {
		d.tokens.Delete(row.ID)
		d.sessions.Delete(session)
		d.tokensFor.Delete(key(row.Credential, row.ID))
		d.touch(store.MarkProof, row.ID)
		return
	}
	d.tokens.Set(row.ID, &row)
	d.sessions.Set(session, &row)
	if row.Credential != "" {
		d.tokensFor.Set(key(row.Credential, row.ID), &row)
	}
}

// putGrant brings the policy in line with a grant's row; an ended grant leaves it.
func (d *Draft) putGrant(row entity.Grant) error {
	holders := d.Holders(row.Subject)
	_, known := d.grants.Get(row.ID)
	d.keepGrant(row)
	made, err := d.GrantOf(row)
	if err != nil {
		return fmt.Errorf("grant %s: %w", row.ID, err)
	}
	for _, holder := range holders {
		d.place(made, holder, known, row.EndedAt == 0)
	}
	d.touch(store.MarkAccess, "")
	d.touchAll(holders)
	return nil
}

// keepGrant keeps a grant's row where it is looked for.
func (d *Draft) keepGrant(row entity.Grant) {
	at := key(row.Subject, row.ID)
	d.grants.Set(row.ID, &row)
	if row.EndedAt == 0 {
		d.given.Set(at, &row)
		d.inRole.Set(key(row.Role, row.ID), &row)
		return
	}
	d.past.Set(at, &row)
	d.given.Delete(at)
	d.inRole.Delete(key(row.Role, row.ID))
}

// placeAll is putGrant for all grants of a chest that is being opened.
func (d *Draft) placeAll(rows []entity.Grant) error {
	placed := map[string][]access.Grant{}
	for _, row := range rows {
		d.keepGrant(row)
		if row.EndedAt != 0 {
			continue
		}
		made, err := d.GrantOf(row)
		if err != nil {
			return fmt.Errorf("grant %s: %w", row.ID, err)
		}
		for _, holder := range d.Holders(row.Subject) {
			made.Subject = holder
			placed[holder] = append(placed[holder], made)
		}
	}
	for holder, grants := range placed {
		d.policy.Replace(holder, grants)
	}
	return nil
}

// mostNamed is how many subjects one change names one by one; beyond it, it touches all.
const mostNamed = 32

func (d *Draft) touchAll(subjects []string) {
	if len(subjects) > mostNamed {
		subjects = []string{""}
	}
	for _, subject := range subjects {
		d.touch(store.MarkSubject, subject)
	}
}

// putRole brings the policy in line with a custom role's row. One that goes has no grants.
func (d *Draft) putRole(row entity.Role, removed bool) error {
	d.touch(store.MarkAccess, "")
	if removed {
		d.roles.Delete(row.Name)
		return nil
	}
	d.roles.Set(row.Name, &row)
	for _, g := range d.InRole(row.Name) {
		if err := d.putGrant(g); err != nil {
			return err
		}
	}
	return nil
}

// putRequest keeps a request, and what it allows.
func (d *Draft) putRequest(row entity.Request, removed bool) {
	if removed { // one that nobody had answered
		d.requests.Delete(row.ID)
		d.asked.Delete(key(row.Asker, row.ID))
		return
	}
	d.requests.Set(row.ID, &row)
	if row.State == RequestOpen {
		d.asked.Set(key(row.Asker, row.ID), &row)
	} else {
		d.asked.Delete(key(row.Asker, row.ID))
	}
	asked := key(row.Subject, row.Action, row.Target)
	if row.AnsweredAt > d.answers.row(asked).AnsweredAt {
		d.answers.Set(asked, &row)
	}
	if row.Kind != RequestGrant && row.State == RequestAllowed && row.TargetID != "" { // what was agreed to by name counts no more
		agreed := key(row.Kind, row.Subject, row.TargetID)
		if row.Until > d.approved.row(agreed) {
			d.approved.Set(agreed, &row.Until)
		}
	}
	d.touch(store.MarkAccess, "")
	d.touch(store.MarkSubject, row.Subject)
}

// putDrawer follows a drawer's row; one that is shredded leaves its name free, and its keys are erased.
func (d *Draft) putDrawer(row entity.Drawer) error {
	before := d.DrawerByID(row.ID)
	d.touch(store.MarkAccess, "")
	d.touch(store.MarkDrawer, row.ID)
	if row.ShreddedAt != 0 {
		d.shredded = append(d.shredded[:len(d.shredded):len(d.shredded)], row)
		if before != nil {
			d.drawers.Delete(before.Row.Name)
			d.drawersByID.Delete(row.ID)
			d.retired = append(d.retired, before.Opened()...)
		}
		return nil
	}
	next, err := drawerOf(row, before)
	if err != nil {
		return err
	}
	d.keepDrawer(next)
	if before == nil {
		d.touch(store.MarkName, row.Name)
	}
	return nil
}

func (d *Draft) keepDrawer(next *Drawer) {
	d.drawers.Set(next.Row.Name, next)
	d.drawersByID.Set(next.Row.ID, next)
}

func (d *Draft) putDrawerKey(row entity.DrawerKey) error {
	before := d.DrawerByID(row.Drawer)
	if before == nil {
		return nil // it is shredded, and its key with it
	}
	next, destroyed := *before, (*envelope.Key)(nil)
	var err error
	if next.Set, destroyed, err = before.WithKey(d.root, d.master, row); err != nil {
		return err
	}
	if destroyed != nil {
		d.retired = append(d.retired, destroyed)
	}
	d.keepDrawer(&next)
	d.touch(store.MarkDrawer, row.Drawer)
	if row.Master != "" {
		d.touch(store.MarkName, masterMark(row.Master))
	}
	return nil
}

func (d *Draft) putAlias(row entity.Alias, removed bool) {
	if removed {
		d.aliases.Delete(key(row.Drawer, row.Name))
		d.aliasesOf.Delete(key(row.Item, row.ID))
	} else {
		d.aliases.Set(key(row.Drawer, row.Name), &row)
		d.aliasesOf.Set(key(row.Item, row.ID), &row)
	}
	d.touch(store.MarkAccess, "")
	d.touch(store.MarkName, key(row.Drawer, row.Name))
}

func (d *Draft) putCalendar(row entity.Calendar, removed bool) {
	if removed {
		d.calendars.Delete(string(row.Hash))
		d.calendarsOf.Delete(key(row.Identity, row.ID))
		return
	}
	d.calendars.Set(string(row.Hash), &row)
	d.calendarsOf.Set(key(row.Identity, row.ID), &row)
}

func (d *Draft) putItem(before entity.Row, row entity.Item) {
	change := d.changeOf(row.ID)
	if was, is := before.(entity.Item); is {
		if change.before == nil && change.after == nil {
			change.before = &was
		}
		if was.Name != row.Name || was.Drawer != row.Drawer {
			d.touch(store.MarkName, key(was.Drawer, was.Name))
			d.touch(store.MarkName, key(row.Drawer, row.Name))
		}
		if was.Labels != row.Labels {
			d.touch(store.MarkAccess, "")
		}
	} else {
		d.touch(store.MarkName, key(row.Drawer, row.Name))
	}
	change.after = &row
	d.touch(store.MarkItem, row.ID)
	if d.tried != nil {
		d.tryItem(row)
	}
}

func (d *Draft) putVersion(row entity.Version) {
	change := d.changeOf(row.Item)
	change.versions = append(change.versions, row)
	d.touch(store.MarkItem, row.Item)
}

// changeOf is what a draft does to an item. The rows of one item stand together.
func (d *Draft) changeOf(id string) *itemChange {
	if last := len(d.items) - 1; last >= 0 && d.items[last].id == id {
		return &d.items[last]
	}
	d.items = append(d.items, itemChange{id: id})
	return &d.items[len(d.items)-1]
}

// tryItem lets a trial be looked at with an item as its row would make it.
func (d *Draft) tryItem(row entity.Item) {
	drawer := d.DrawerByID(row.Drawer)
	if drawer == nil {
		return
	}
	var versions []entity.Version
	if it, err := d.Find(drawer, row.Name); err == nil && it != nil {
		versions = it.Versions
	}
	it, err := newItem(drawer, store.Shelved{Item: row, Versions: versions})
	if err != nil {
		d.fail(err)
		return
	}
	d.tried[itemKey{row.Drawer, row.Name}] = it
}

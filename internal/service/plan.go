package service

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/policytext"
	"tansu/internal/core/reference"
	"tansu/internal/store"
)

// builder works out the steps from an access state to a policy.
type builder struct {
	st       *state
	doc      *policytext.Document
	now      time.Time
	by       string
	p        *plan
	teams    map[string]string // ids of all teams by subject, new ones included
	touched  []touched
	problems policytext.Problems
}

// touched is something that a policy changes and that takes a right of its own.
type touched struct {
	action access.Action
	what   string
	names  []string // the target; none for the chest
}

func (b *builder) touch(action access.Action, what string, names ...string) {
	b.touched = append(b.touched, touched{action, what, names})
}

// build makes the steps in an order in which each is possible: what others need comes first, and goes last.
func (b *builder) build() {
	b.makeTeams()
	b.putRoles()
	b.changeMembers()
	kept := b.matchGrants()
	b.endGrants(kept)
	b.removeRoles()
	b.giveGrants(kept)
	b.changeDrawers()
}

func (b *builder) bad(at policytext.At, format string, arguments ...any) {
	b.problems = append(b.problems, policytext.Problem{At: at, Text: fmt.Sprintf(format, arguments...)})
}

func (b *builder) step(text string, row func(*store.Tx) error, apply func(*state) error) {
	b.p.steps = append(b.p.steps, step{text, row, apply})
}

// inserting, updating and deleting make the step of one row; apply is called with the row as it was stored.
func inserting[R store.Row](b *builder, text string, row R, apply func(*state, R) error) {
	b.step(text, func(tx *store.Tx) (err error) { row, err = store.Insert(tx, row); return err }, func(st *state) error { return apply(st, row) })
}

func updating[R store.Row](b *builder, text string, before, after R, apply func(*state, R) error) {
	b.step(text, func(tx *store.Tx) (err error) { after, err = store.Update(tx, before, after); return err }, func(st *state) error { return apply(st, after) })
}

func deleting[R store.Row](b *builder, text string, row R, apply func(*state, R) error) {
	b.step(text, func(tx *store.Tx) error { return store.Delete(tx, row) }, func(st *state) error { return apply(st, row) })
}

func putIdentity(st *state, row store.Identity) error { st.putIdentity(row); return nil }

func (b *builder) makeTeams() {
	for _, t := range b.doc.Teams {
		subject := reference.Team + ":" + t.Name
		row, known := b.st.identity(subject)
		switch {
		case !known:
			row = store.Identity{ID: newID("id_"), Kind: reference.Team, Name: t.Name, Description: t.Description, State: stateActive, CreatedAt: micros(b.now), CreatedBy: b.by}
			b.touch(access.Register, subject)
			inserting(b, "make "+subject, row, putIdentity)
		case row.Description != t.Description:
			after := row
			after.Description = t.Description
			b.touch(access.Register, subject)
			updating(b, "describe "+subject+" anew", row, after, putIdentity)
		}
		b.teams[subject] = row.ID
	}
}

func (b *builder) putRoles() {
	for _, r := range b.doc.Roles {
		checked, err := NewRole{Name: r.Name, Description: r.Description, Actions: r.Actions}.row()
		if err != nil {
			b.bad(r.At, "%s", err.(*Error).Detail)
			continue
		}
		before, known := b.st.roles[r.Name]
		after := before
		after.Name, after.Description, after.Actions = checked.Name, checked.Description, checked.Actions
		switch {
		case !known:
			after.ID, after.CreatedAt, after.CreatedBy = newID("ro_"), micros(b.now), b.by
			inserting(b, "make role "+r.Name+": "+after.Actions, after, (*state).putRole)
		case before.Actions != after.Actions || before.Description != after.Description:
			updating(b, "change role "+r.Name+": "+after.Actions, before, after, (*state).putRole)
		}
	}
}

func (b *builder) removeRoles() {
	for _, name := range sortedKeys(b.st.roles) {
		if !slices.ContainsFunc(b.doc.Roles, func(r policytext.Role) bool { return r.Name == name }) {
			deleting(b, "remove role "+name, b.st.roles[name], func(st *state, row store.Role) error { st.dropRole(row); return nil })
		}
	}
}

// changeMembers takes out who is not in the file before it puts in who is, so that teams can change places.
func (b *builder) changeMembers() {
	wanted := map[string]bool{}
	var joins []store.Member
	for _, t := range b.doc.Teams {
		team := b.teams[reference.Team+":"+t.Name]
		for _, member := range t.Members {
			id := b.subject(t.At, member)
			key := team + "/" + id
			if id == "" || wanted[key] {
				continue
			}
			wanted[key] = true
			if b.st.members[key].ID == "" {
				joins = append(joins, store.Member{ID: key, Team: team, Identity: id, CreatedAt: micros(b.now), CreatedBy: b.by})
			}
		}
	}
	for _, key := range sortedKeys(b.st.members) {
		if m := b.st.members[key]; !wanted[key] {
			b.touch(access.Register, subjectOf(b.st.identities[m.Team]))
			deleting(b, fmt.Sprintf("%s leaves %s", subjectOf(b.st.identities[m.Identity]), subjectOf(b.st.identities[m.Team])), m, (*state).leave)
		}
	}
	for _, m := range joins {
		b.touch(access.Register, b.nameOf(m.Team))
		inserting(b, fmt.Sprintf("%s joins %s", b.nameOf(m.Identity), b.nameOf(m.Team)), m, (*state).join)
	}
}

// subject finds the id of a subject that the file names.
func (b *builder) subject(at policytext.At, subject string) string {
	if id, isTeam := b.teams[subject]; isTeam {
		return id
	}
	row, known := b.st.identity(subject)
	if !known {
		hint := ""
		if near := reference.Nearest(subject, sortedKeys(b.st.subjects)); near != "" {
			hint = "; did you mean " + near + "?"
		}
		b.bad(at, "there is no %s in this chest%s", subject, hint)
		return ""
	}
	return row.ID
}

func (b *builder) nameOf(id string) string {
	for subject, team := range b.teams {
		if team == id {
			return subject
		}
	}
	return subjectOf(b.st.identities[id])
}

// matchGrants finds for each grant of the file the one in the chest that it is, if there is one: by its id, or by all
// that it says. It returns them by their place in the file.
func (b *builder) matchGrants() map[int]store.Grant {
	kept, taken := map[int]store.Grant{}, map[string]bool{}
	byContent := map[string][]store.Grant{}
	for _, id := range sortedKeys(b.st.grants) {
		if row := b.st.grants[id]; row.EndedAt == 0 {
			text := b.st.grantText(row)
			keys := []string{contentOf(text, text.Until)}
			if row.NotAfter != 0 { // a grant of the file without an end means one that has some end
				keys = append(keys, contentOf(text, ""))
			}
			for _, key := range keys {
				byContent[key] = append(byContent[key], row)
			}
		}
	}
	for i, g := range b.doc.Grants {
		row := b.st.grants[g.ID]
		if g.ID != "" && row.EndedAt == 0 && row.ID != "" && contentOf(b.st.grantText(row), b.st.grantText(row).Until) == contentOf(g, until(g)) {
			kept[i], taken[row.ID] = row, true
		}
	}
	for i, g := range b.doc.Grants {
		if _, matched := kept[i]; matched {
			continue // one with an id that says something else, or is ended, is looked for by what it says
		}
		for _, row := range byContent[contentOf(g, until(g))] {
			if !taken[row.ID] {
				kept[i], taken[row.ID] = row, true
				break
			}
		}
	}
	return kept
}

// until writes the end of a grant as the chest does, so that two ways to write a time are one.
func until(g policytext.Grant) string {
	if t, err := time.Parse(time.RFC3339, g.Until); err == nil {
		return fromMicros(micros(t)).Format(time.RFC3339Nano)
	}
	return g.Until
}

func contentOf(g policytext.Grant, end string) string {
	effect := g.Effect
	if effect == string(access.Allow) {
		effect = ""
	}
	return strings.Join([]string{g.Subject, effect, g.Role, canonical(g.Scope), strings.Join(g.From, " "), g.Hours, strings.Join(g.Via, " "), fmt.Sprint(g.NeedsReason), g.Reason, end}, "\x00")
}

// canonical writes a scope as the chest does; it was checked when it was read.
func canonical(scope string) string {
	parsed, _ := access.ParseScope(scope)
	return parsed.String()
}

// endGrants ends those in force that the file does not have any more.
func (b *builder) endGrants(kept map[int]store.Grant) {
	stay := map[string]bool{}
	for _, row := range kept {
		stay[row.ID] = true
	}
	for _, id := range sortedKeys(b.st.grants) {
		row := b.st.grants[id]
		if row.EndedAt != 0 || stay[id] || !describeGrant(b.st, row).inForce(b.now).InForce {
			continue
		}
		after := row
		after.EndedAt, after.EndedBy = micros(b.now), b.by
		updating(b, "end "+b.grantLine(id, b.st.grantText(row)), row, after, (*state).putGrant)
	}
}

func (b *builder) grantLine(id string, g policytext.Grant) string {
	effect := ""
	if g.Effect == string(access.Deny) {
		effect = "denied "
	}
	return fmt.Sprintf("grant %s: %s %s%s on %s", id, g.Subject, effect, g.Role, g.Scope)
}

func (b *builder) giveGrants(kept map[int]store.Grant) {
	for i, g := range b.doc.Grants {
		if _, matched := kept[i]; matched {
			continue
		}
		subject := b.subject(g.At, g.Subject)
		conditions := Conditions{Networks: g.From, Hours: g.Hours, Via: g.Via, NeedsReason: g.NeedsReason}
		if _, err := conditions.parse(); err != nil {
			b.bad(g.At, "%s", err.(*Error).Detail)
		}
		row := store.Grant{ID: newID("gr_"), Subject: subject, Effect: string(access.Allow), Role: g.Role, Scope: canonical(g.Scope), Reason: g.Reason,
			CreatedAt: micros(b.now), CreatedBy: b.by, Networks: strings.Join(g.From, " "), Hours: g.Hours, Via: strings.Join(g.Via, " "), NeedsReason: g.NeedsReason}
		if g.Effect != "" {
			row.Effect = g.Effect
		}
		switch end, err := time.Parse(time.RFC3339, g.Until); {
		case g.Until == "":
			row.NotAfter = micros(b.now.Add(grantLife).Truncate(time.Second))
		case err == nil && !end.After(b.now):
			b.bad(g.At, "until is not in the future")
		case err == nil:
			row.NotAfter = micros(end)
		}
		inserting(b, "give "+b.grantLine(row.ID, g), row, (*state).putGrant)
	}
}

func (b *builder) changeDrawers() {
	listed := map[string]policytext.Drawer{}
	for _, d := range b.doc.Drawers {
		listed[d.Name] = d
		if b.st.drawers[d.Name] == nil {
			b.bad(d.At, "there is no drawer %s%s", d.Name, b.st.nearScope(d.Name))
			continue
		}
		for _, it := range d.Items {
			if found, err := b.st.find(b.st.drawers[d.Name], it.Name); found == nil || err != nil {
				b.bad(it.At, "there is no item %s/%s", d.Name, it.Name)
			}
		}
	}
	for _, name := range sortedKeys(b.st.drawers) {
		b.changeDrawer(b.st.drawers[name], listed[name])
	}
}

func (b *builder) changeDrawer(d *drawer, text policytext.Drawer) {
	after := d.row
	after.Labels = labelText(text.Labels)
	after.ApprovalItems, after.ApprovalOf = "", ""
	if text.Approval != nil {
		after.ApprovalItems, after.ApprovalOf = approvalText(text.Approval)
	}
	if after.Labels != d.row.Labels || after.ApprovalItems != d.row.ApprovalItems || after.ApprovalOf != d.row.ApprovalOf {
		b.touch(access.ChangeRules, "drawer "+d.row.Name, d.row.Name)
		updating(b, fmt.Sprintf("drawer %s: labels [%s], approval [%s]", d.row.Name, after.Labels, strings.TrimSpace(after.ApprovalItems+" "+after.ApprovalOf)), d.row, after,
			func(st *state, row store.Drawer) error { return st.putDrawer(st.drawers[row.Name], row) })
	}
	labels := map[string]map[string]string{}
	for _, it := range text.Items {
		labels[it.Name] = it.Labels
	}
	b.eachLabelled(d, labels, func(before store.Item) {
		name, changed := before.Name, before
		changed.Labels = labelText(labels[name])
		if changed.Labels != before.Labels {
			b.touch(access.ChangeItem, "item "+d.row.Name+"/"+name, d.row.Name, name)
			updating(b, fmt.Sprintf("item %s/%s: labels [%s]", d.row.Name, name, changed.Labels), before, changed,
				func(st *state, row store.Item) error { return st.revise(st.drawers[d.row.Name], row) })
		}
	})
}

// eachLabelled visits the items of a drawer that have labels or are given some.
func (b *builder) eachLabelled(d *drawer, labels map[string]map[string]string, visit func(store.Item)) {
	rows := map[string]store.Item{}
	err := b.st.each(d, store.ItemFilter{Labelled: true}, func(it *item) bool { rows[it.row.Name] = it.row; return true })
	for name := range labels {
		it, problem := b.st.find(d, name)
		if it != nil {
			rows[name] = it.row
		}
		err = errors.Join(err, problem)
	}
	if err != nil {
		b.bad(policytext.At{}, "the items of %s cannot be read as they were stored", d.row.Name)
		return
	}
	for _, name := range sortedKeys(rows) {
		visit(rows[name])
	}
}

// labelText writes labels as rows hold them; they were checked when they were read.
func labelText(labels map[string]string) string {
	parsed, _ := reference.LabelsOf(labels)
	return parsed.String()
}

// approvalText writes a rule about approvals as rows hold it.
func approvalText(rule *policytext.Approval) (items, of string) {
	if len(rule.Items) == 0 {
		return "", ""
	}
	of = rule.Of
	if of == "" {
		of = policytext.OfEveryone
	}
	return strings.Join(rule.Items, " "), of
}

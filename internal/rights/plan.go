package rights

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"tansu/internal/chest"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/policytext"
	"tansu/internal/core/reference"
	"tansu/internal/entity"
	"tansu/internal/store"
)

// builder works out the change from an access state to a policy.
type builder struct {
	st       *chest.Snapshot
	change   *store.Change
	doc      *policytext.Document
	now      time.Time
	by       string
	steps    []string          // one line each
	teams    map[string]string // ids of all teams by subject, new ones included
	names    map[string]string // subjects of new teams by id
	touched  []touched
	lifts    []entity.Drawer // in which a rule that asks for a second person asks for less afterwards
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

func (b *builder) inserting(text string, row entity.Row) {
	b.steps = append(b.steps, text)
	b.change.Insert(row)
}

func (b *builder) updating(text string, before, after entity.Row) {
	b.steps = append(b.steps, text)
	b.change.Update(before, after)
}

func (b *builder) deleting(text string, row entity.Row) {
	b.steps = append(b.steps, text)
	b.change.Delete(row)
}

func (b *builder) makeTeams() {
	for _, t := range b.doc.Teams {
		subject := reference.Team + ":" + t.Name
		row, known := b.st.IdentityOf(subject)
		switch {
		case !known:
			row = entity.Identity{ID: chest.NewID("id_"), Kind: reference.Team, Name: t.Name, Description: t.Description, State: chest.Active,
				CreatedAt: chest.Micros(b.now), CreatedBy: b.by}
			b.touch(access.Register, subject)
			b.inserting("make "+subject, row)
			b.names[row.ID] = subject
		case row.Description != t.Description:
			after := row
			after.Description = t.Description
			b.touch(access.Register, subject)
			b.updating("describe "+subject+" anew", row, after)
		}
		b.teams[subject] = row.ID
	}
}

func (b *builder) putRoles() {
	for _, r := range b.doc.Roles {
		checked, err := NewRole{Name: r.Name, Description: r.Description, Actions: r.Actions}.row()
		if err != nil {
			b.bad(r.At, "%s", detailOf(err))
			continue
		}
		before, known := b.st.CustomRole(r.Name)
		after := before
		after.Name, after.Description, after.Actions = checked.Name, checked.Description, checked.Actions
		switch {
		case !known:
			after.ID, after.CreatedAt, after.CreatedBy = chest.NewID("ro_"), chest.Micros(b.now), b.by
			b.inserting("make role "+r.Name+": "+after.Actions, after)
		case chest.RoleOf(before).Actions != chest.RoleOf(after).Actions || before.Description != after.Description:
			b.updating("change role "+r.Name+": "+after.Actions, before, after)
		}
	}
}

// detailOf is the sentence of a [chest.Error].
func detailOf(err error) string {
	var known *chest.Error
	if errors.As(err, &known) {
		return known.Detail
	}
	return err.Error()
}

func (b *builder) removeRoles() {
	listed := map[string]bool{}
	for _, r := range b.doc.Roles {
		listed[r.Name] = true
	}
	for _, row := range b.st.CustomRoles() {
		if !listed[row.Name] {
			b.deleting("remove role "+row.Name, row)
		}
	}
}

// changeMembers takes out who is not in the file before it puts in who is, so that teams can change places.
func (b *builder) changeMembers() {
	wanted := map[string]bool{}
	var joins []entity.Member
	for _, t := range b.doc.Teams {
		team := b.teams[reference.Team+":"+t.Name]
		for _, member := range t.Members {
			id := b.subject(t.At, member)
			key := team + "/" + id
			if id == "" || wanted[key] {
				continue
			}
			wanted[key] = true
			if _, is := b.st.Member(team, id); !is {
				joins = append(joins, entity.Member{ID: key, Team: team, Identity: id, CreatedAt: chest.Micros(b.now), CreatedBy: b.by})
			}
		}
	}
	for _, m := range b.st.MembersOf("") {
		if !wanted[m.ID] {
			b.touch(access.Register, b.nameOf(m.Team))
			b.deleting(fmt.Sprintf("%s leaves %s", b.nameOf(m.Identity), b.nameOf(m.Team)), m)
		}
	}
	for _, m := range joins {
		b.touch(access.Register, b.nameOf(m.Team))
		b.inserting(fmt.Sprintf("%s joins %s", b.nameOf(m.Identity), b.nameOf(m.Team)), m)
	}
}

// subject finds the id of a subject that the file names.
func (b *builder) subject(at policytext.At, subject string) string {
	if id, isTeam := b.teams[subject]; isTeam {
		return id
	}
	row, known := b.st.IdentityOf(subject)
	if !known {
		hint := ""
		if near := b.st.NearestSubject(subject); near != "" {
			hint = "; did you mean " + near + "?"
		}
		b.bad(at, "there is no %s in this chest%s", subject, hint)
		return ""
	}
	return row.ID
}

func (b *builder) nameOf(id string) string {
	if subject, fresh := b.names[id]; fresh {
		return subject
	}
	return chest.SubjectOf(b.st.Identity(id))
}

// matchGrants finds the chest's grant for each grant of the file: by its id, or by its whole content. It returns them by their place
// in the file.
func (b *builder) matchGrants() map[int]entity.Grant {
	kept, taken := map[int]entity.Grant{}, map[string]bool{}
	for i, g := range b.doc.Grants {
		row := b.st.Grant(g.ID)
		if g.ID != "" && row.EndedAt == 0 && row.ID != "" && b.says(row, g) {
			kept[i], taken[row.ID] = row, true
		}
	}
	if len(kept) == len(b.doc.Grants) {
		return kept
	}
	byContent := b.byContent()
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

// byContent has the grants that nobody has ended by all that they say.
func (b *builder) byContent() map[string][]entity.Grant {
	found := map[string][]entity.Grant{}
	for _, row := range b.given() {
		text := grantText(b.st, row)
		keys := []string{contentOf(text, text.Until)}
		if row.NotAfter != 0 { // a grant of the file without an end means one that has some end
			keys = append(keys, contentOf(text, ""))
		}
		for _, key := range keys {
			found[key] = append(found[key], row)
		}
	}
	return found
}

// given lists the grants that nobody has ended, in the order of ids.
func (b *builder) given() (list []entity.Grant) {
	b.st.Given(func(row entity.Grant) bool { list = append(list, row); return true })
	slices.SortFunc(list, func(x, y entity.Grant) int { return strings.Compare(x.ID, y.ID) })
	return list
}

// says reports whether a grant of the chest says what one of the file does.
func (b *builder) says(row entity.Grant, g policytext.Grant) bool {
	text := grantText(b.st, row)
	return contentOf(text, text.Until) == contentOf(g, until(g))
}

// until writes the end of a grant as the chest does, so that two ways to write a time are one.
func until(g policytext.Grant) string {
	if t, err := time.Parse(time.RFC3339, g.Until); err == nil {
		return chest.FromMicros(chest.Micros(t)).Format(time.RFC3339Nano)
	}
	return g.Until
}

func contentOf(g policytext.Grant, end string) string {
	effect := g.Effect
	if effect == string(access.Allow) {
		effect = ""
	}
	return strings.Join([]string{g.Subject, effect, g.Role, canonical(g.Scope), strings.Join(g.From, " "), g.Hours, strings.Join(g.Via, " "),
		fmt.Sprint(g.NeedsReason), g.Reason, end}, "\x00")
}

// canonical writes a scope as the chest does; it was checked when it was read.
func canonical(scope string) string {
	parsed, _ := access.ParseScope(scope)
	return parsed.String()
}

// endGrants ends those in force that the file does not have any more.
func (b *builder) endGrants(kept map[int]entity.Grant) {
	stay := map[string]bool{}
	for _, row := range kept {
		stay[row.ID] = true
	}
	for _, row := range b.given() {
		if stay[row.ID] || !chest.InForce(row, b.now) {
			continue
		}
		after := row
		after.EndedAt, after.EndedBy = chest.Micros(b.now), b.by
		b.updating("end "+b.grantLine(row.ID, grantText(b.st, row)), row, after)
	}
}

func (b *builder) grantLine(id string, g policytext.Grant) string {
	effect := ""
	if g.Effect == string(access.Deny) {
		effect = "denied "
	}
	return fmt.Sprintf("grant %s: %s %s%s on %s", id, g.Subject, effect, g.Role, g.Scope)
}

func (b *builder) giveGrants(kept map[int]entity.Grant) {
	for i, g := range b.doc.Grants {
		if _, matched := kept[i]; matched {
			continue
		}
		subject := b.subject(g.At, g.Subject)
		conditions := chest.Conditions{Networks: g.From, Hours: g.Hours, Via: g.Via, NeedsReason: g.NeedsReason}
		if _, err := conditions.Parse(); err != nil {
			b.bad(g.At, "%s", detailOf(err))
		}
		row := entity.Grant{ID: chest.NewID("gr_"), Subject: subject, Effect: string(access.Allow), Role: g.Role, Scope: canonical(g.Scope),
			Reason:    g.Reason,
			CreatedAt: chest.Micros(b.now), CreatedBy: b.by, Networks: strings.Join(g.From, " "), Hours: g.Hours, Via: strings.Join(g.Via, " "),
			NeedsReason: g.NeedsReason}
		if g.Effect != "" {
			row.Effect = g.Effect
		}
		role, _ := b.doc.Find(g.Role) // which the chest may not have yet
		switch end, err := time.Parse(time.RFC3339, g.Until); {
		case g.Until == "" && lastsByItself(role, g.Scope, row.Effect):
		case g.Until == "":
			row.NotAfter = chest.Micros(b.now.Add(grantLife).Truncate(time.Second))
		case err == nil && !end.After(b.now):
			b.bad(g.At, "until is not in the future")
		case err == nil:
			row.NotAfter = chest.Micros(end)
		}
		b.inserting("give "+b.grantLine(row.ID, g), row)
	}
}

func (b *builder) changeDrawers() {
	listed := map[string]policytext.Drawer{}
	for _, d := range b.doc.Drawers {
		listed[d.Name] = d
		if b.st.Drawer(d.Name) == nil {
			b.bad(d.At, "there is no drawer %s%s", d.Name, nearScope(b.st, d.Name))
			continue
		}
		for _, it := range d.Items {
			if found, err := b.st.Find(b.st.Drawer(d.Name), it.Name); found == nil || err != nil {
				b.bad(it.At, "there is no item %s/%s", d.Name, it.Name)
			}
		}
	}
	for _, d := range b.st.Drawers() {
		b.changeDrawer(d, listed[d.Row.Name])
	}
}

func (b *builder) changeDrawer(d *chest.Drawer, text policytext.Drawer) {
	after := d.Row
	after.Labels = chest.LabelText(text.Labels)
	after.ApprovalItems, after.ApprovalOf = "", ""
	if text.Approval != nil {
		after.ApprovalItems, after.ApprovalOf = text.Approval.Rows()
	}
	if after.Labels != d.Row.Labels || after.ApprovalItems != d.Row.ApprovalItems || after.ApprovalOf != d.Row.ApprovalOf {
		b.touch(access.ChangeRules, "drawer "+d.Row.Name, d.Row.Name)
		if chest.ApprovalLoosened(d.Row, after) {
			b.lifts = append(b.lifts, d.Row)
		}
		b.updating(fmt.Sprintf("drawer %s: labels [%s], approval [%s]", d.Row.Name, after.Labels,
			strings.TrimSpace(after.ApprovalItems+" "+after.ApprovalOf)), d.Row, after)
	}
	labels := map[string]map[string]string{}
	for _, it := range text.Items {
		labels[it.Name] = it.Labels
	}
	b.eachLabelled(d, labels, func(before entity.Item) {
		name, changed := before.Name, before
		changed.Labels = chest.LabelText(labels[name])
		if changed.Labels != before.Labels {
			b.touch(access.ChangeItem, "item "+d.Row.Name+"/"+name, d.Row.Name, name)
			b.updating(fmt.Sprintf("item %s/%s: labels [%s]", d.Row.Name, name, changed.Labels), before, changed)
		}
	})
}

// eachLabelled visits the items of a drawer that have labels or are given some.
func (b *builder) eachLabelled(d *chest.Drawer, labels map[string]map[string]string, visit func(entity.Item)) {
	rows := map[string]entity.Item{}
	err := b.st.Each(d, store.ItemFilter{Labelled: true}, func(it *chest.Item) bool { rows[it.Row.Name] = it.Row; return true })
	for name := range labels {
		it, problem := b.st.Find(d, name)
		if it != nil {
			rows[name] = it.Row
		}
		err = errors.Join(err, problem)
	}
	if err != nil {
		b.bad(policytext.At{}, "the items of %s cannot be read as they were stored", d.Row.Name)
		return
	}
	for _, name := range slices.Sorted(maps.Keys(rows)) {
		visit(rows[name])
	}
}

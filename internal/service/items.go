package service

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/envelope"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/store"
)

// kindSecret is the one kind of item so far.
const kindSecret = "secret"

// Item is an item as others see it, without values.
type Item struct {
	Reference   string
	Name        string
	Kind        string
	Description string
	Owner       string
	Shape       secretvalue.Shape
	Labels      map[string]string // its own
	Approval    bool              // whether reading it needs a second person
	CreatedAt   time.Time
	CreatedBy   string
	Revision    int64
	Versions    int
	Current     int    // 0 when no version is usable
	State       string // usable, due, grace, or a state of lifecycle
	Held        int    // the version that is held as current; 0 for none
	Suspended   bool   // as a whole
	RetiredAt   time.Time
	ChangedAt   time.Time
	ChangedBy   string
	NotAfter    time.Time       // of the current version, or of the newest when none is usable; zero for none
	Ends        time.Time       // when that version stops being usable, by its window or by its age; zero for never
	Rules       lifecycle.Rules // those in force for it
	OwnRules    lifecycle.Rules // stricter ones of its own
	UseOnly     bool            // no person is ever shown its value
	Aliases     []Alias         // names under which it is served besides; only in its history
	Notes       []string        // what is unusual about what was just said about it
}

// Version is a version as others see it, without its value.
type Version struct {
	Number        int
	State         string // of lifecycle
	Current       bool
	Size          int // bytes; of all fields, when there are fields
	Fields        []FieldInfo
	EndsInNewline bool
	Note          string
	NotBefore     time.Time
	NotAfter      time.Time
	CreatedAt     time.Time
	CreatedBy     string
	Ends          time.Time // when it stops being usable, by its window or by its age; zero for never
	Notes         []string  // of a version that was just made: what is unusual about it
}

// NewItem is what is said about a new item.
type NewItem struct {
	Description string
	Owner       string
	Shape       secretvalue.Shape // empty for text
	UseOnly     bool              // no person is ever shown its value; this cannot be undone
}

// NewVersion is a new content.
type NewVersion struct {
	Content secretvalue.Value
	Recipe  secretvalue.Recipe // makes the content up instead
	Fields  []NewField         // instead of content, of an item that has fields
	Merge   bool               // fields that are not given stay as they are in the current version
	Note    string
	Window  lifecycle.Window
	Staged  bool // waits until somebody promotes it
}

func describeItem(d *drawer, it *item, now time.Time) Item {
	own, _ := reference.ParseLabels(it.row.Labels) // checked when it was stored
	r := Item{Reference: d.row.Name + "/" + it.row.Name, Name: it.row.Name, Kind: it.row.Kind, Description: it.row.Description, Owner: it.row.Owner,
		Shape: shapeOf(it.row), Labels: own.Map(), Approval: it.approval,
		CreatedAt: fromMicros(it.row.CreatedAt), CreatedBy: it.row.CreatedBy, Revision: it.row.Revision, Versions: len(it.versions)}
	r.Current, r.State = itemState(it.life, now)
	r.Held, r.Suspended, r.RetiredAt = it.row.Held, it.row.Suspended, it.life.RetiredAt
	if newest := len(it.versions); newest > 0 {
		r.ChangedAt, r.ChangedBy = fromMicros(it.versions[newest-1].CreatedAt), it.versions[newest-1].CreatedBy
	}
	if shown := cmp.Or(r.Current, len(it.life.Versions)); shown > 0 {
		r.NotAfter, r.Ends = it.life.Versions[shown-1].NotAfter, it.life.Ends(shown, now)
	}
	r.Rules, r.UseOnly = it.life.Rules.At(now), it.row.UseOnly
	r.OwnRules, _ = parseRules(it.row.Rules) // it was read with them
	return r
}

func describeVersion(it *item, number int, now time.Time) Version {
	v, w := it.versions[number-1], it.life.Versions[number-1]
	current, _ := itemState(it.life, now)
	return Version{Number: v.Number, State: string(it.life.VersionAt(number, now)), Ends: it.life.Ends(number, now), Current: current == v.Number, Size: v.Size, Fields: fieldInfos(v.Fields), EndsInNewline: v.EndsInNewline,
		Note: v.Note, NotBefore: w.NotBefore, NotAfter: w.NotAfter, CreatedAt: fromMicros(v.CreatedAt), CreatedBy: v.CreatedBy}
}

// check refuses content and windows that cannot be stored.
func (n NewVersion) check(now time.Time) error {
	if err := n.Window.Check(); err != nil {
		return invalid("not_before", "%s", err)
	}
	if !n.Window.NotAfter.IsZero() && !n.Window.NotAfter.After(now) {
		return invalid("not_after", "not_after is not in the future")
	}
	return checkText("note", n.Note, MaxNote)
}

// CreateItem adds an item with its first version.
func (s *Service) CreateItem(c Caller, ref reference.Reference, n NewItem, v NewVersion) (it Item, made Version, err error) {
	if n.Shape == "" {
		n.Shape = secretvalue.Text
	}
	if !slices.Contains(secretvalue.Shapes, n.Shape) {
		return it, made, invalid("shape", "shape is not one of %v", secretvalue.Shapes)
	}
	if err := checkText("description", n.Description, MaxDescription); err != nil {
		return it, made, err
	}
	if err := v.check(s.now()); err != nil {
		return it, made, err
	}
	if err := s.view(func(st *state) error {
		if d := st.drawers[ref.Drawer]; d != nil {
			v = v.cooked(d.schedule.At(s.now()))
		}
		return nil
	}); err != nil {
		return it, made, err
	}
	f, err := v.fill(n.Shape, nil)
	if err != nil {
		return it, made, err
	}
	if secretvalue.LooksLikeValue(n.Description) {
		f.notes = append(f.notes, "the description has something in it that looks like a value, and everybody who lists the item sees it")
	}
	a, err := s.allow(c, access.WriteVersion, ref.Drawer, ref.Item)
	if err != nil {
		return it, made, err
	}
	a.entry.Version, a.entry.Detail = 1, "create item"
	if err := s.checkOwner(Described{Owner: &n.Owner}); err != nil {
		return it, made, a.fail(err)
	}
	row := store.Item{ID: newID("it_"), Name: ref.Item, Kind: kindSecret, Description: n.Description, Owner: n.Owner,
		CreatedAt: micros(a.entry.At), CreatedBy: c.name, UseOnly: n.UseOnly}
	if n.Shape != secretvalue.Text {
		row.Shape = string(n.Shape)
	}
	s.keys.RLock()
	defer s.keys.RUnlock()
	var version store.Version
	var sealed envelope.SealedVersion
	err = s.view(func(st *state) error {
		d := st.drawers[ref.Drawer]
		if d == nil {
			return notFound("drawer "+ref.Drawer, s.nearestDrawer(st, c, ref.Drawer, a.entry.At))
		}
		existing, err := st.find(d, ref.Item)
		if err != nil {
			return err
		}
		if err := st.unused(d, ref.Item, a.entry.At); err != nil {
			return err
		}
		if existing != nil {
			if !existing.life.RetiredAt.IsZero() {
				return &Error{Code: Exists, Detail: "item " + ref.String() + " is retired; restore it, or shred it to use its name again"}
			}
			return &Error{Code: Exists, Detail: "item " + ref.String() + " exists already; to change it, add a version (tansu put --new-version)"}
		}
		if err := v.checkRules(d, lifecycle.Item{Rules: d.schedule}, a.entry.At); err != nil {
			return err
		}
		if err := checkOwned(d, row.Owner, a.entry.At); err != nil {
			return err
		}
		row.Drawer = d.row.ID
		version, sealed = s.seal(st, d, row, 1, v, f, a)
		f.notes = append(f.notes, s.alsoIn(st, c, a, row.ID, f.content, v)...)
		row = withHorizon(row, []store.Version{version}, a.entry.At)
		return nil
	})
	if err != nil {
		return it, made, a.fail(err)
	}
	change := func(tx *store.Tx) (err error) {
		if row, err = store.Insert(tx, row); err != nil {
			return err
		}
		version, err = insertVersion(tx, version, sealed)
		return err
	}
	err = a.change("item "+ref.String(), change, func(st *state) {
		d := st.drawers[ref.Drawer]
		added := st.keep(d, row, []store.Version{version})
		it, made = describeItem(d, added, a.entry.At), describeVersion(added, 1, a.entry.At)
		made.Notes = f.notes
	})
	return it, made, err
}

// seal encrypts a new version for its place.
func (s *Service) seal(st *state, d *drawer, row store.Item, number int, v NewVersion, f filled, a *attempt) (store.Version, envelope.SealedVersion) {
	sealed := envelope.SealVersion(d.key, s.place(d, row, number), f.content.Reveal())
	return store.Version{ID: fmt.Sprintf("%s/%d", row.ID, number), Item: row.ID, Number: number, Size: f.size,
		Likeness: st.root.Likeness(trimmed(f.content)), EndsInNewline: f.endsInNewline, Fields: f.infos, Note: v.Note, NotBefore: micros(v.Window.NotBefore), NotAfter: micros(v.Window.NotAfter),
		Staged: v.Staged, DrawerKey: d.keyNumber, WrappedKey: sealed.WrappedKey, CreatedAt: micros(a.entry.At), CreatedBy: a.entry.Subject}, sealed
}

func (s *Service) place(d *drawer, row store.Item, number int) envelope.Place {
	return envelope.Place{Chest: s.chest.ID, Drawer: d.row.ID, Item: row.ID, Kind: row.Kind, Number: number}
}

func insertVersion(tx *store.Tx, row store.Version, sealed envelope.SealedVersion) (store.Version, error) {
	stored, err := store.Insert(tx, row)
	if err != nil {
		return stored, err
	}
	return stored, tx.InsertContent(stored.ID, sealed.Ciphertext)
}

// AddVersion adds a version to an item. With a revision other than 0 the item must still have it; without, two writers
// at once both succeed, one after the other.
func (s *Service) AddVersion(c Caller, ref reference.Reference, revision int64, v NewVersion) (it Item, made Version, err error) {
	if err := v.check(s.now()); err != nil {
		return it, made, err
	}
	a, err := s.allow(c, access.WriteVersion, ref.Drawer, ref.Item)
	if err != nil {
		return it, made, err
	}
	a.entry.Detail = "add version"
	s.changing.Lock()
	defer s.changing.Unlock()
	var before, after store.Item
	var versions []store.Version
	var version store.Version
	var pruned pruning
	var sealed envelope.SealedVersion
	err = s.view(func(st *state) error {
		d, found, err := st.item(ref)
		if err != nil {
			return err
		}
		if found.life.Shredded || !found.life.RetiredAt.IsZero() {
			return &Error{Code: NotPossible, Detail: "item " + ref.String() + " is retired; restore it first"}
		}
		before = found.row
		if revision != 0 {
			if err := checkRevision("item "+ref.String(), before.Revision, revision); err != nil {
				return err
			}
		}
		var previous secretvalue.Fields
		if v.Merge && shapeOf(before) != secretvalue.Text {
			if previous, err = s.currentFields(d, found, a.entry.At); err != nil {
				return err
			}
		}
		if err := v.checkRules(d, found.life, a.entry.At); err != nil {
			return err
		}
		v = v.cooked(found.life.Rules.At(a.entry.At))
		f, err := v.fill(shapeOf(before), previous)
		if err != nil {
			return err
		}
		made.Notes = f.notes
		version, sealed = s.seal(st, d, before, len(found.versions)+1, v, f, a)
		made.Notes = append(made.Notes, s.alsoIn(st, c, a, before.ID, f.content, v)...)
		versions = append(slices.Clone(found.versions), version)
		pruned = prune(d, before, versions, a)
		after = withHorizon(before, versions, a.entry.At)
		return nil
	})
	if err != nil {
		return it, made, a.fail(err)
	}
	a.entry.Version = version.Number
	change := func(tx *store.Tx) (err error) {
		if after, err = store.Update(tx, before, after); err != nil {
			return err
		}
		version, err = insertVersion(tx, version, sealed)
		versions[version.Number-1] = version
		return errors.Join(err, pruned.rows(tx, versions))
	}
	err = a.change("item "+ref.String(), change, func(st *state) {
		d := st.drawers[ref.Drawer]
		found := st.keep(d, after, versions)
		pruned.forget(s)
		notes := made.Notes
		it, made = describeItem(d, found, a.entry.At), describeVersion(found, version.Number, a.entry.At)
		made.Notes = append(notes, pruned.notes()...)
	})
	pruned.forgetJournal(s, err)
	return it, made, err
}

// History describes an item and its versions, newest first.
func (s *Service) History(c Caller, ref reference.Reference) (it Item, versions []Version, err error) {
	a, err := s.allow(c, access.SeeMetadata, ref.Drawer, ref.Item)
	if err != nil {
		return it, nil, err
	}
	if err := s.countReads(); err != nil {
		return it, nil, a.fail(err)
	}
	err = s.view(func(st *state) error {
		d, found, err := st.readItem(ref)
		if err != nil {
			return s.hint(st, c, ref, err, a.entry.At)
		}
		it = describeItem(d, found, a.entry.At)
		it.Aliases = st.aliasesOf(found, a.entry.At)
		versions = found.history(a.entry.At)
		return nil
	})
	for i := range it.Aliases {
		if err == nil {
			it.Aliases[i].Users, err = s.readersOf(it.Aliases[i].Reference, a.entry.At.Add(-90*24*time.Hour))
		}
	}
	if err != nil {
		return it, nil, a.fail(err)
	}
	if err := a.done(); err != nil {
		return Item{}, nil, err
	}
	return it, versions, nil
}

// ChangeItem changes what is said about an item if it still has the revision that the caller read.
func (s *Service) ChangeItem(c Caller, ref reference.Reference, revision int64, changes Described) (it Item, err error) {
	if err := changes.check(); err != nil {
		return it, err
	}
	if changes.Approval != nil {
		return it, invalid("approval", "approval is a rule of a drawer, not of an item")
	}
	a, err := s.allow(c, access.ChangeItem, ref.Drawer, ref.Item)
	if err != nil {
		return it, err
	}
	a.entry.Detail = changes.detail()
	if err := s.checkOwner(changes); err != nil {
		return it, a.fail(err)
	}
	s.changing.Lock()
	defer s.changing.Unlock()
	var before store.Item
	var versions []store.Version
	err = s.view(func(st *state) error {
		_, found, err := st.item(ref)
		if err != nil {
			return err
		}
		before, versions = found.row, found.versions
		if changes.Owner != nil {
			if err := checkOwned(st.drawers[ref.Drawer], *changes.Owner, a.entry.At); err != nil {
				return err
			}
		}
		if changes.UseOnly != nil && !*changes.UseOnly && before.UseOnly {
			return &Error{Code: NotPossible, Field: "use_only", Detail: "an item that no person is ever shown stays so: otherwise who changes it could show it to themselves; make another one"}
		}
		return checkRevision("item "+ref.String(), before.Revision, revision)
	})
	if err != nil {
		return it, a.fail(err)
	}
	after := before
	after.Description, after.Owner = changes.apply(before.Description, before.Owner)
	if changes.Labels != nil {
		after.Labels = labelText(changes.Labels)
	}
	if changes.UseOnly != nil {
		after.UseOnly = *changes.UseOnly
	}
	if err := s.mayMove(c, a, changes, ref.String(), func(st *state) error {
		return st.revise(st.drawers[ref.Drawer], after)
	}); err != nil {
		return it, err
	}
	err = a.change("item "+ref.String(), func(tx *store.Tx) (err error) { after, err = store.Update(tx, before, after); return err },
		func(st *state) {
			d := st.drawers[ref.Drawer]
			it = describeItem(d, st.keep(d, after, versions), a.entry.At)
			it.Notes = changes.notes()
		})
	return it, err
}

// nearestDrawer is the nearest name among the drawers that the caller may see.
func (s *Service) nearestDrawer(st *state, c Caller, name string, now time.Time) string {
	var visible []string
	for candidate := range st.drawers {
		if st.reaches(c.id, access.List, candidate, c.context(now)).Allowed {
			visible = append(visible, candidate)
		}
	}
	return reference.Nearest(name, visible)
}

// hint adds the nearest reference that the caller may see to a NotFound.
func (s *Service) hint(st *state, c Caller, ref reference.Reference, err error, now time.Time) error {
	d := st.drawers[ref.Drawer]
	if d == nil {
		if near := s.nearestDrawer(st, c, ref.Drawer, now); near != "" {
			return notFound("drawer "+ref.Drawer, near)
		}
		return err
	}
	if near := st.nearestItem(c, d, ref.Item, now); near != "" {
		return notFound("item "+ref.Drawer+"/"+ref.Item, ref.Drawer+"/"+near)
	}
	return err
}

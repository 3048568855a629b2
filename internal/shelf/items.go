package shelf

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"tansu/internal/certrow"
	"tansu/internal/chest"
	"tansu/internal/content"

	"tansu/internal/core/access"
	"tansu/internal/core/envelope"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/entity"
	"tansu/internal/horizon"
	"tansu/internal/keyrow"
	"tansu/internal/store"
)

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
	Key         *keyrow.Facts   // of a key; nil for a secret
	DecryptFrom int             // of a key: the oldest version that decrypts; 0 for any
	ServedAt    string          // of an authority: the URL of the chest that its certificates name; empty for none
	Certificate *certrow.Facts  // of a certificate, an authority or a profile: what the version that is shown says; nil for another item
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
	PublicKey     string    // of a key: its public half as a JWK; empty for none
	Certificate   *certrow.Facts
	Notes         []string // of a version that was just made: what is unusual about it
}

// NewItem is what is said about a new item.
type NewItem struct {
	ID          string // chosen before, by [chest.NewID]; empty for another one
	Description string
	Owner       string
	Shape       secretvalue.Shape // empty for text
	UseOnly     bool              // no person is ever shown its value; this cannot be undone
	Key         *keyrow.Facts     // it is a key; nil for another item
	ServedAt    string            // of an authority: the URL of the chest that its certificates name; empty for none
}

// NewVersion is a new content, with its fields; FieldInfo is what is known of one of these without its value.
type (
	NewVersion = content.Version
	NewField   = content.Field
	FieldInfo  = content.Info
)

// kindOf is the kind of items of a shape.
func kindOf(shape secretvalue.Shape) string {
	switch shape {
	case secretvalue.Certificate, secretvalue.Authority, secretvalue.Profile:
		return string(shape)
	}
	return entity.KindSecret
}

// Describe tells about an item as it is at a moment.
func Describe(d *chest.Drawer, it *chest.Item, now time.Time) Item {
	own, _ := reference.ParseLabels(it.Row.Labels) // checked when it was stored
	r := Item{Reference: d.Row.Name + "/" + it.Row.Name, Name: it.Row.Name, Kind: it.Row.Kind, Description: it.Row.Description,
		Owner: it.Row.Owner,
		Shape: shapeOf(it.Row), Labels: own.Map(), Approval: it.Approval,
		CreatedAt: chest.FromMicros(it.Row.CreatedAt), CreatedBy: it.Row.CreatedBy, Revision: it.Row.Revision, Versions: len(it.Versions)}
	r.Current, r.State = itemState(it.Life, now)
	r.Held, r.Suspended, r.RetiredAt = it.Row.Held, it.Row.Suspended, it.Life.RetiredAt
	if newest := len(it.Versions); newest > 0 {
		r.ChangedAt, r.ChangedBy = chest.FromMicros(it.Versions[newest-1].CreatedAt), it.Versions[newest-1].CreatedBy
	}
	if shown := cmp.Or(r.Current, len(it.Life.Versions)); shown > 0 {
		r.NotAfter, r.Ends = it.Life.Versions[shown-1].NotAfter, it.Life.Ends(shown, now)
		r.Certificate = certrow.Of(it.Versions[shown-1].Facts)
	}
	r.Rules, r.UseOnly = it.Life.Rules.At(now), it.Row.UseOnly
	r.Key, r.DecryptFrom, r.ServedAt = keyrow.Of(it.Row), it.Row.DecryptFrom, it.Row.ServedAt
	r.OwnRules, _ = chest.ParseRules(it.Row.Rules) // it was read with them
	return r
}

func describeVersion(it *chest.Item, number, current int, now time.Time) Version {
	v, w := it.Versions[number-1], it.Life.Versions[number-1]
	return Version{Number: v.Number, State: string(it.Life.VersionAt(number, now)), Ends: it.Life.Ends(number, now),
		Current: current == v.Number,
		Size:    v.Size, Fields: content.Infos(v.Fields), EndsInNewline: v.EndsInNewline, Note: v.Note, NotBefore: w.NotBefore,
		NotAfter: w.NotAfter, CreatedAt: chest.FromMicros(v.CreatedAt), CreatedBy: v.CreatedBy, PublicKey: keyrow.Published(it.Row.ID, v),
		Certificate: certrow.Of(v.Facts)}
}

// check validates the description, owner, labels and shape of a new item.
func (n *NewItem) check() error {
	if n.Shape == "" {
		n.Shape = secretvalue.Text
	}
	if !slices.Contains(secretvalue.Shapes, n.Shape) {
		return chest.Invalid("shape", "shape is not one of %v", secretvalue.Shapes)
	}
	return chest.CheckText("description", n.Description, chest.MaxDescription)
}

// CreateItem adds an item with its first version.
func (s *Shelf) CreateItem(c chest.Caller, ref reference.Reference, n NewItem, v NewVersion) (it Item, made Version, err error) {
	if err := n.check(); err != nil {
		return it, made, err
	}
	if err := v.Check(s.heart.Now()); err != nil {
		return it, made, err
	}
	st, err := s.heart.Look()
	if err != nil {
		return it, made, err
	}
	if _, err := s.heart.Allow(c, access.WriteVersion, ref.Drawer, ref.Item); err != nil { // before anything is made, or looked into
		return it, made, err
	}
	if d := st.Drawer(ref.Drawer); d != nil {
		v = v.Cooked(d.Schedule.At(s.heart.Now()))
	}
	v.About, v.Key = []string{ref.Drawer, ref.Item}, n.Key
	if err := s.makeKey(c, &v); err != nil {
		return it, made, err
	}
	f, err := v.Fill(n.Shape, nil, s.heart.Now())
	if err != nil {
		return it, made, err
	}
	v.Window = f.Window
	if secretvalue.LooksLikeValue(n.Description) {
		f.Notes = append(f.Notes, "the description has something in it that looks like a value, and everybody who lists the item sees it")
	}
	err = s.heart.Try(func() error {
		a, err := s.heart.Allow(c, access.WriteVersion, ref.Drawer, ref.Item)
		if err != nil {
			return err
		}
		a.Entry.Version, a.Entry.Detail = 1, "create item"
		row := entity.Item{ID: cmp.Or(n.ID, chest.NewID("it_")), Name: ref.Item, Kind: kindOf(n.Shape), Description: n.Description,
			Owner: n.Owner, CreatedAt: chest.Micros(a.Entry.At), CreatedBy: c.Name, UseOnly: n.UseOnly, ServedAt: n.ServedAt}
		if n.Shape != secretvalue.Text {
			row.Shape = string(n.Shape)
		}
		n.Key.Into(&row)
		d, err := room(a, ref, row, v)
		if err != nil {
			return a.Fail(err)
		}
		if err := s.maySay(a, d, f.Facts); err != nil {
			return err
		}
		row.Drawer, a.Entry.ItemID = d.Row.ID, row.ID
		version, ciphertext := seal(a, d, row, 1, v, f)
		notes := append(slices.Clip(f.Notes), s.alsoIn(a, row.ID, f.Content, v)...)
		row = horizon.Of(row, []entity.Version{version}, a.Entry.At)
		a.Change.Insert(row)
		a.Change.Insert(version)
		a.Change.PutContent(version.ID, ciphertext)
		if err := a.Commit("item " + ref.String()); err != nil {
			return err
		}
		it, made, err = s.versionNow(a, ref, 1, notes)
		return err
	})
	return it, made, err
}

// room finds the drawer for a new item, and says why there is no room for it.
func room(a *chest.Attempt, ref reference.Reference, row entity.Item, v NewVersion) (*chest.Drawer, error) {
	st, now := a.St, a.Entry.At
	if err := st.KnownOwner(row.Owner); err != nil {
		return nil, err
	}
	d := st.Drawer(ref.Drawer)
	if d == nil {
		return nil, chest.Missing("drawer "+ref.Drawer, st.NearestDrawer(a.Caller, ref.Drawer, now))
	}
	existing, err := st.Find(d, ref.Item)
	if err != nil {
		return nil, err
	}
	if err := unused(st, d, ref.Item, now); err != nil {
		return nil, err
	}
	if existing != nil {
		if !existing.Life.RetiredAt.IsZero() {
			return nil, &chest.Error{Code: chest.Exists, Detail: "item " + ref.String() +
				" is retired; restore it, or shred it to use its name again"}
		}
		how := "add a version (tansu put --new-version)"
		if existing.Row.KeyType != "" {
			how = "rotate it (tansu key rotate)"
		}
		return nil, &chest.Error{Code: chest.Exists, Detail: "item " + ref.String() + " exists already; to change it, " + how}
	}
	if err := lookalike(st, d, ref.Item, "", now); err != nil {
		return nil, err
	}
	if err := checkRules(v, d, lifecycle.Item{Rules: chest.ScheduleFor(row, d.Schedule)}, now); err != nil {
		return nil, err
	}
	if _, err := st.OpenKey(d, d.KeyNumber); err != nil {
		return nil, err
	}
	return d, checkOwned(d, row.Owner, now)
}

// lookalike refuses a name that differs only in its separators from the name, or an old name that still works, of another item. An
// item that is renamed does not count as another.
func lookalike(st *chest.Snapshot, d *chest.Drawer, name, self string, now time.Time) error {
	for _, other := range reference.Lookalikes(name) {
		if alias, works := st.WorkingAlias(d, other, now); works && alias.Item != self {
			return unused(st, d, other, now)
		}
		switch it, err := st.Find(d, other); {
		case err != nil:
			return err
		case it != nil && it.Row.ID != self:
			return &chest.Error{Code: chest.Exists, Field: "name", Detail: fmt.Sprintf("%s/%s already exists, and people would confuse "+
				"them: names in a drawer must differ by more than -, _ and .", d.Row.Name, other)}
		}
	}
	return nil
}

// versionNow describes an item and one of its versions after a commit.
func (s *Shelf) versionNow(a *chest.Attempt, ref reference.Reference, number int, notes []string) (it Item, made Version, err error) {
	d, found, err := a.After().ItemOf(ref)
	if err != nil || number > len(found.Versions) {
		return it, made, &chest.Error{Code: chest.Stale, Detail: "item " + ref.String() +
			" was stored, and moved or shredded by somebody else at once", Err: err}
	}
	current, _ := itemState(found.Life, a.Entry.At)
	it, made = Describe(d, found, a.Entry.At), describeVersion(found, number, current, a.Entry.At)
	made.Notes = notes
	return it, made, nil
}

// seal encrypts a new version for its place, in a drawer whose key is open.
func seal(a *chest.Attempt, d *chest.Drawer, row entity.Item, number int, v NewVersion, f content.Filled) (entity.Version, []byte) {
	sealed := envelope.SealVersion(d.Key(), a.St.Place(d, row, number), f.Content.Reveal())
	likeness := 0
	if row.Kind == entity.KindSecret {
		likeness = a.St.Root().Likeness(trimmed(f.Content))
	}
	return entity.Version{ID: fmt.Sprintf("%s/%d", row.ID, number), Item: row.ID, Number: number, Size: f.Size,
		PublicKey: f.PublicKey, Facts: f.Facts.Text(), Likeness: likeness, EndsInNewline: f.EndsInNewline, Fields: f.Fields, Note: v.Note,
		NotBefore: chest.Micros(v.Window.NotBefore), NotAfter: chest.Micros(v.Window.NotAfter), Staged: v.Staged, DrawerKey: d.KeyNumber,
		WrappedKey: sealed.WrappedKey, CreatedAt: chest.Micros(a.Entry.At), CreatedBy: a.Entry.Subject}, sealed.Ciphertext
}

// makeKey makes a key that takes long, for somebody who may put it in, when it is their turn: others do not wait for it, as they would
// while a change is begun.
func (s *Shelf) makeKey(c chest.Caller, v *NewVersion) error {
	if v.Key == nil || !v.Makes() || !v.Key.Type.Slow() {
		return nil
	}
	done, err := s.making.Take(c.Ctx(), c.ID)
	if err != nil {
		return err
	}
	defer done()
	return v.MakeKey()
}

// AddVersion adds a version to an item. With a revision other than 0 the item must still have it; without, two writers
// at once both succeed, one after the other.
func (s *Shelf) AddVersion(c chest.Caller, ref reference.Reference, revision int64, v NewVersion) (it Item, made Version, err error) {
	if err := v.Check(s.heart.Now()); err != nil {
		return it, made, err
	}
	if v.Makes() { // of a key that takes long, before the change is begun
		a, err := s.heart.Allow(c, access.WriteVersion, ref.Drawer, ref.Item)
		if err != nil {
			return it, made, err
		}
		if _, found, _ := a.St.ItemOf(ref); found != nil {
			v.Key = keyrow.Of(found.Row)
		}
		if err := s.makeKey(c, &v); err != nil {
			return it, made, err
		}
	}
	pruned := false
	err = s.heart.Try(func() error {
		a, err := s.heart.Allow(c, access.WriteVersion, ref.Drawer, ref.Item)
		if err != nil {
			return err
		}
		a.Entry.Detail = "add version"
		number, notes, err := s.addVersion(a, ref, revision, v)
		if err != nil {
			return a.Fail(err)
		}
		a.Entry.Version, pruned = number, len(a.More) > 0
		if err := a.Commit("item " + ref.String()); err != nil {
			return err
		}
		it, made, err = s.versionNow(a, ref, number, notes)
		return err
	})
	if err == nil && pruned {
		s.forgetJournal()
	}
	return it, made, err
}

// addVersion puts a new version into an attempt's change.
func (s *Shelf) addVersion(a *chest.Attempt, ref reference.Reference, revision int64, v NewVersion) (number int, notes []string,
	err error) {
	d, found, err := a.St.ItemOf(ref)
	if err != nil {
		return 0, nil, err
	}
	if found.Life.Shredded || !found.Life.RetiredAt.IsZero() {
		return 0, nil, &chest.Error{Code: chest.NotPossible, Detail: "item " + ref.String() + " is retired; restore it first"}
	}
	if revision != 0 {
		if err := checkRevision("item "+ref.String(), found.Row.Revision, revision); err != nil {
			return 0, nil, err
		}
	}
	var previous secretvalue.Fields
	if v.Merge && !shapeOf(found.Row).Plain() {
		if previous, err = currentFields(a.St, d, found, a.Entry.At); err != nil {
			return 0, nil, err
		}
	}
	v = v.Cooked(found.Life.Rules.At(a.Entry.At))
	v.About, v.Key = []string{ref.Drawer, ref.Item}, keyrow.Of(found.Row)
	f, err := v.Fill(shapeOf(found.Row), previous, a.Entry.At)
	if v.Window = f.Window; err == nil {
		err = checkRules(v, d, found.Life, a.Entry.At)
	}
	if err != nil {
		return 0, nil, err
	}
	if err := certrow.Follows(found.Row, found.Versions, f.Facts); err != nil {
		return 0, nil, err
	}
	if found.Row.Kind == entity.KindAuthority {
		if _, err := s.heart.Allow(a.Caller, access.ChangeRules, d.Row.Name, found.Row.Name); err != nil {
			return 0, nil, err
		}
		a.RestOnAccess()
	}
	if err := s.maySay(a, d, f.Facts); err != nil {
		return 0, nil, err
	}
	if _, err := a.St.OpenKey(d, d.KeyNumber); err != nil {
		return 0, nil, err
	}
	number = len(found.Versions) + 1
	version, ciphertext := seal(a, d, found.Row, number, v, f)
	notes = append(f.Notes, s.alsoIn(a, found.Row.ID, f.Content, v)...)
	versions := append(slices.Clone(found.Versions), version)
	a.Change.Rows = append(a.Change.Rows, store.RowChange{}) // the item's, when it is known what rules shred
	a.Change.Insert(version)
	a.Change.PutContent(version.ID, ciphertext)
	notes = append(notes, prune(a, d, found.Row, versions)...)
	a.Change.Rows[0] = store.RowChange{Before: found.Row, After: horizon.Of(found.Row, versions, a.Entry.At)}
	return number, notes, nil
}

// History describes an item and its versions, newest first.
func (s *Shelf) History(c chest.Caller, ref reference.Reference) (it Item, versions []Version, err error) {
	a, err := s.heart.Allow(c, access.SeeMetadata, ref.Drawer, ref.Item)
	if err != nil {
		return it, nil, err
	}
	if err := a.CountReads(); err != nil {
		return it, nil, a.Fail(err)
	}
	d, found, err := a.St.ReadItem(ref)
	if err != nil {
		return it, nil, a.Fail(a.St.Hint(c, ref, err, a.Entry.At))
	}
	it = Describe(d, found, a.Entry.At)
	if it.Aliases, err = s.aliasesOf(a.St, found, a.Entry.At); err != nil {
		return Item{}, nil, a.Fail(err)
	}
	versions = history(found, a.Entry.At)
	if err := a.Done(); err != nil {
		return Item{}, nil, err
	}
	return it, versions, nil
}

// ChangeItem changes the description, owner or labels of an item if it still has the revision that the caller read.
func (s *Shelf) ChangeItem(c chest.Caller, ref reference.Reference, revision int64, changes Described) (it Item, err error) {
	if err := changes.check(); err != nil {
		return it, err
	}
	if changes.Approval != nil || changes.KeysOpen != nil {
		return it, chest.Invalid("approval", "approval and keys_open are said of a drawer, and not of an item")
	}
	err = s.heart.Try(func() error {
		a, err := s.heart.Allow(c, access.ChangeItem, ref.Drawer, ref.Item)
		if err != nil {
			return err
		}
		a.Entry.Detail = changes.detail()
		d, found, err := a.St.ItemOf(ref)
		if err == nil {
			err = changes.fits(a, d, found, revision)
		}
		if err != nil {
			return a.Fail(err)
		}
		after := found.Row
		after.Description, after.Owner = changes.apply(found.Row.Description, found.Row.Owner)
		if changes.Labels != nil {
			after.Labels = chest.LabelText(changes.Labels)
		}
		if changes.UseOnly != nil {
			after.UseOnly = *changes.UseOnly
		}
		if changes.DecryptFrom != nil {
			after.DecryptFrom = *changes.DecryptFrom
		}
		a.Change.Update(found.Row, after)
		if err := mayMove(a, changes, ref.String()); err != nil {
			return err
		}
		if err := a.Commit("item " + ref.String()); err != nil {
			return err
		}
		if d, found, err = a.After().ItemOf(ref); err != nil {
			return err
		}
		it = Describe(d, found, a.Entry.At)
		it.Notes = changes.notes()
		return nil
	})
	return it, err
}

// fits refuses changes that an item does not allow.
func (ch Described) fits(a *chest.Attempt, d *chest.Drawer, it *chest.Item, revision int64) error {
	row := it.Row
	if ch.Owner != nil {
		if err := checkOwned(d, *ch.Owner, a.Entry.At); err != nil {
			return err
		}
		if err := ch.checkOwner(a.St); err != nil {
			return err
		}
	}
	if from := ch.DecryptFrom; from != nil && (row.KeyType == "" || *from < 0 || *from > len(it.Versions)) {
		return chest.Invalid("decrypt_from", "decrypt_from is the number of a version of a key, or 0 for any")
	}
	if ch.UseOnly != nil && !*ch.UseOnly && row.UseOnly {
		return &chest.Error{Code: chest.NotPossible, Field: "use_only",
			Detail: "an item that no person is ever shown stays that way: otherwise whoever may change it could show it to themselves; make " +
				"another item"}
	}
	return checkRevision("item "+d.Row.Name+"/"+row.Name, row.Revision, revision)
}

package shelf

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"time"

	"tansu/internal/chest"
	"tansu/internal/content"

	"tansu/internal/core/access"
	"tansu/internal/core/importfile"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/trail"
	"tansu/internal/entity"
	"tansu/internal/horizon"
	"tansu/internal/store"
)

// NewImport is a plaintext file to be moved into a drawer.
type NewImport struct {
	Format  importfile.Format
	Content secretvalue.Value
	Window  lifecycle.Window // of every version that is put in
	Replace bool             // add a version to items that exist already; without it they are in the way
	Note    string
	Owner   string   // of items that are not there yet; empty for nobody
	Each    bool     // put in what can be, instead of nothing unless all can be
	Preview bool     // only say what would happen
	Except  []string // names in the file that are left where they are
}

// What becomes of an entry of a file.
const (
	ImportNew     = "new"     // an item that is not there yet
	ImportChanged = "changed" // a new version of one that is
	ImportSame    = "same"    // it has this value already; said only to whoever may read it
	ImportExists  = "exists"  // there is an item of this name, and nothing is replaced
	ImportInvalid = "invalid" // the name or the value cannot be stored
	ImportRefused = "refused" // no grant gives writing it
)

// Imported is what became, or would become, of one entry of a file.
type Imported struct {
	Line   int
	Name   string // in the file
	Item   string
	Result string
	Detail string
}

// ImportReport is what became of a file.
type ImportReport struct {
	Done    bool // whether anything was put in
	Items   []Imported
	Problem []importfile.Problem // what could not be read
}

// A file is put in in parts, each whole, in one transaction: when one cannot be stored, those before it stay, and the error says how
// many. A part has as many entries as took about partTime before, so that nobody waits long behind it, and at least some: a disk that is
// slow is not made faster by asking it more often.
const (
	leastPart = 128
	mostPart  = 1024
	partTime  = 15 * time.Millisecond
)

// nextPart is how many entries the next part has after one of a size that took a time.
func nextPart(size int, took time.Duration) int {
	fits := float64(size) * float64(partTime) / float64(max(took, time.Microsecond))
	return int(min(max(fits, leastPart), float64(size)*2, mostPart))
}

// Import moves the entries of a plaintext file into a drawer, each to an item of its name in lower case: nothing unless all can be put
// in, unless told otherwise.
func (s *Shelf) Import(c chest.Caller, drawer string, n NewImport) (report ImportReport, err error) {
	if err := chest.CheckName("drawer", drawer); err != nil {
		return report, err
	}
	if !slices.Contains(importfile.Formats, n.Format) {
		return report, chest.Invalid("format", "format is not one of %v", importfile.Formats)
	}
	if err := (NewVersion{Window: n.Window, Note: n.Note}).Check(s.heart.Now()); err != nil {
		return report, err
	}
	entries, problems := importfile.Read(n.Format, n.Content.Reveal())
	entries = slices.DeleteFunc(entries, func(e importfile.Entry) bool { return slices.Contains(n.Except, e.Name) })
	a := s.heart.Attempt(c, "import", drawer)
	if err := a.Err(); err != nil {
		return report, err
	}
	puts, err := s.importPlan(a, drawer, entries, n)
	if err != nil {
		return report, a.Fail(err)
	}
	report.Problem = problems
	blocked := len(problems) > 0
	var doing []importfile.Entry
	for i, p := range puts {
		report.Items = append(report.Items, p.Imported)
		blocked = blocked || p.blocks()
		if p.puts() {
			doing = append(doing, entries[i])
		}
	}
	a.Entry.Detail = fmt.Sprintf("%s, %d to put in", reference.Counted(len(entries), "entry"), len(doing))
	if n.Preview || len(doing) == 0 || blocked && !n.Each {
		a.Entry.Detail += ", nothing put in"
		return chest.Reply(a, report)
	}
	return report, s.importAll(c, drawer, doing, n, &report)
}

// importAll puts entries in, part by part. While one is written, the next one is made ready.
func (s *Shelf) importAll(c chest.Caller, drawer string, entries []importfile.Entry, n NewImport, report *ImportReport) error {
	ready := make(chan importPart, 1)
	makeReady := func(from, size int) importPart {
		return s.readyPart(c, drawer, entries, from, min(from+size, len(entries)), n)
	}
	ready <- makeReady(0, leastPart)
	pruned := false
	for done, size := 0, leastPart; done < len(entries); {
		part := <-ready
		to := part.to
		if to < len(entries) {
			next := size // of which this iteration makes another one below
			go func() { ready <- makeReady(to, next) }()
		}
		began := time.Now()
		err := s.heart.Try(func() error {
			if part.a == nil { // the one that was made ready was overtaken
				part = makeReady(done, to-done)
			}
			a := part.a
			part.a = nil
			if err := a.Err(); err != nil {
				return err
			}
			if part.err != nil {
				return a.Fail(part.err)
			}
			return a.Commit("the import")
		})
		if err != nil {
			if to < len(entries) {
				<-ready
			}
			return partly(err, done)
		}
		pruned = pruned || part.pruned
		report.Done = true
		size = nextPart(to-done, time.Since(began))
		done = to
	}
	if pruned {
		s.forgetJournal()
	}
	return nil
}

// partly says with an error how many entries were put in before it.
func partly(err error, done int) error {
	var known *chest.Error
	if done == 0 || !errors.As(err, &known) {
		return err
	}
	with := *known
	with.Detail = fmt.Sprintf("of the entries, the first %d were put in, and the others not: %s", done, known.Detail)
	return &with
}

// importPart is some entries of a file, ready to be put in.
type importPart struct {
	a      *chest.Attempt // with the change
	to     int            // the entry after the last one
	pruned bool           // a rule shreds versions along with it
	err    error          // it cannot be put in
}

// readyPart makes some entries ready.
func (s *Shelf) readyPart(c chest.Caller, drawer string, entries []importfile.Entry, from, to int, n NewImport) importPart {
	a := s.heart.Attempt(c, "import", drawer)
	a.Entry.Detail = reference.Counted(len(entries), "entry")
	if to-from < len(entries) {
		a.Entry.Detail = fmt.Sprintf("%s, from %d on", reference.Counted(len(entries), "entry"), from+1)
	}
	p := importPart{a: a, to: to}
	if a.Err() == nil {
		p.pruned, p.err = s.putAllIn(a, drawer, entries[from:to], n)
	}
	return p
}

// putAllIn puts entries into an attempt's change. It reports whether a rule shreds versions along with it.
func (s *Shelf) putAllIn(a *chest.Attempt, drawer string, entries []importfile.Entry, n NewImport) (pruned bool, err error) {
	puts, err := s.importPlan(a, drawer, entries, n)
	if err != nil {
		return false, err
	}
	d := a.St.Drawer(drawer)
	if d == nil {
		return false, chest.Missing("drawer "+drawer, "")
	}
	if _, err := a.St.OpenKey(d, d.KeyNumber); err != nil {
		return false, err
	}
	a.RestOnSpot(a.St.At(drawer))
	var items []store.RowChange
	newID := chest.NewIDs("it_")
	for i := range puts {
		p := &puts[i]
		if p.blocks() { // what could be put in a moment ago cannot be any more
			return false, &chest.Error{Code: chest.Stale, Detail: p.Item + " was changed by somebody else meanwhile: " + cmp.Or(p.Detail, p.Result)}
		}
		if p.puts() {
			before := len(a.More)
			items = append(items, putIn(a, d, p, n, newID))
			pruned = pruned || len(a.More) > before+1
		}
	}
	a.Change.Rows = append(items, a.Change.Rows...) // all items together, before their versions
	return pruned, nil
}

// putIn puts one entry, and what rules shred along with it, into an attempt's change, and returns that of the item.
func putIn(a *chest.Attempt, d *chest.Drawer, p *putting, n NewImport, newID func() string) store.RowChange {
	row, versions := entity.Item{Drawer: d.Row.ID, Name: p.Item, Kind: entity.KindSecret, Owner: n.Owner, CreatedAt: chest.Micros(a.Entry.At),
		CreatedBy: a.Caller.Name}, []entity.Version(nil)
	if p.item != nil {
		row, versions = p.item.Row, slices.Clone(p.item.Versions)
	} else {
		row.ID = newID()
	}
	version, ciphertext := seal(a, d, row, len(versions)+1, NewVersion{Window: n.Window, Note: n.Note}, p.filled)
	entry := a.Entry
	entry.Action, entry.Target, entry.Version, entry.Grant, entry.Detail = access.WriteVersion.String(), d.Row.Name+"/"+p.Item,
		version.Number, p.grant, "by import"
	entry.Outcome, entry.ItemID, entry.DrawerID = trail.Allowed, row.ID, d.Row.ID
	a.More = append(a.More, entry)
	a.Change.Insert(version)
	a.Change.PutContent(version.ID, ciphertext)
	versions = append(versions, version)
	prune(a, d, row, versions)
	change := store.RowChange{After: horizon.Of(row, versions, a.Entry.At)}
	if p.item != nil {
		change.Before = p.item.Row
	}
	return change
}

// putting is one entry on its way in.
type putting struct {
	Imported
	grant  string      // that allows it
	item   *chest.Item // that is there already; nil for a new one
	filled content.Filled
}

// blocks reports whether an entry prevents the whole import, and puts whether it is imported itself.
func (p putting) blocks() bool {
	return p.Result == ImportExists || p.Result == ImportInvalid || p.Result == ImportRefused
}

func (p putting) puts() bool { return p.Result == ImportNew || p.Result == ImportChanged }

// importPlan says what happens to each entry. If the drawer does not exist, a caller who could not write in it is refused item by
// item, as if it did.
func (s *Shelf) importPlan(a *chest.Attempt, drawer string, entries []importfile.Entry, n NewImport) (puts []putting, err error) {
	if err := a.St.KnownOwner(n.Owner); err != nil {
		return nil, err
	}
	d := a.St.Drawer(drawer)
	there := map[string]store.Shelved{}
	if d != nil {
		var names []string
		for _, e := range entries {
			name := importfile.ItemName(e.Name)
			names = append(append(names, name), reference.Lookalikes(name)...)
		}
		if there, err = s.records.ItemsNamed(d.Row.ID, names); err != nil {
			s.heart.Log().Error("items cannot be read", "drawer", drawer, "error", err)
			return nil, chest.ErrDamaged
		}
	}
	taken := map[string]int{}
	puts = make([]putting, len(entries))
	for i, e := range entries {
		p := &puts[i]
		p.Imported = Imported{Line: e.Line, Name: e.Name, Item: importfile.ItemName(e.Name)}
		for _, other := range reference.Lookalikes(p.Item) { // a name that differs only in separators: that item is meant
			if _, found := there[other]; found && there[p.Item].Item.ID == "" {
				p.Item = other
			}
		}
		if before, twice := taken[p.Item]; twice {
			p.Result, p.Detail = ImportInvalid, fmt.Sprintf("line %d is for the same item", before)
			continue
		}
		taken[p.Item] = e.Line
		if rows, found := there[p.Item]; found {
			if p.item, err = chest.ItemFrom(d, rows); err != nil {
				return nil, err
			}
		}
		importOne(a, d, drawer, e, n, p)
		if err := a.Caller.Ctx().Err(); err != nil {
			return nil, chest.Gone(err)
		}
	}
	return puts, nil
}

func importOne(a *chest.Attempt, d *chest.Drawer, drawer string, e importfile.Entry, n NewImport, p *putting) {
	v := NewVersion{Content: e.Value, Window: n.Window, Note: n.Note, About: []string{drawer, p.Item}}
	filled, err := v.Fill(secretvalue.Text, nil, a.Entry.At)
	if nameErr := reference.CheckName(p.Item); nameErr != nil {
		p.Result, p.Detail = ImportInvalid, nameErr.Error()
		return
	}
	var problem *chest.Error
	if errors.As(err, &problem) {
		p.Result, p.Detail = ImportInvalid, problem.Detail
		return
	}
	p.filled = filled
	ctx := a.Caller.Context(a.Entry.At)
	target := access.Target{Names: []string{drawer, p.Item}}
	if d != nil {
		target.Labels = d.Labels
	}
	if p.item != nil {
		target.Labels = p.item.Labels
	}
	decision := a.St.Policy.Decide(access.Request{Subject: a.Caller.ID, Action: access.WriteVersion, Target: target, Context: ctx})
	p.grant = decision.Grant
	switch {
	case !decision.Allowed:
		p.Result, p.Detail = ImportRefused, "you may not write "+drawer+"/"+p.Item
		return
	case d == nil:
		p.Result, p.Detail = ImportInvalid, "there is no drawer "+drawer
		return
	}
	if err := mayEnter(v, a.St, d, p.item, p.Item, n.Owner, a.Entry.At); err != nil {
		p.Result, p.Detail = ImportInvalid, err.Error()
		return
	}
	switch {
	case p.item == nil:
		p.Result = ImportNew
	case shapeOf(p.item.Row) != secretvalue.Text || !p.item.Life.RetiredAt.IsZero():
		p.Result, p.Detail = ImportInvalid, "the item that is there is retired, or has fields"
	case knows(a, reference.Reference{Drawer: drawer, Item: p.Item}) && sameValue(a, d, p.item, e.Value):
		p.Result = ImportSame
	case !n.Replace:
		p.Result, p.Detail = ImportExists, "add a version to it with --replace"
	default:
		p.Result = ImportChanged
	}
}

// mayEnter refuses a value for an item, or for one that is not there yet, that the drawer's rules or an old name do not allow.
func mayEnter(v NewVersion, st *chest.Snapshot, d *chest.Drawer, it *chest.Item, name, owner string, now time.Time) error {
	if it != nil {
		return checkRules(v, d, it.Life, now)
	}
	return errors.Join(unused(st, d, name, now), checkRules(v, d, lifecycle.Item{Rules: d.Schedule}, now), checkOwned(d, owner, now))
}

// sameValue reports whether the current version has a certain value.
func sameValue(a *chest.Attempt, d *chest.Drawer, it *chest.Item, value secretvalue.Value) bool {
	number, err := it.Life.Current(a.Entry.At)
	if err != nil {
		return false
	}
	content, err := a.St.Content(d, it, number)
	defer clear(content)
	return err == nil && secretvalue.New(content).Equal(value)
}

package shelf

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"tansu/internal/chest"
	"time"

	"tansu/internal/core/access"
	"tansu/internal/core/importfile"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/trail"
	"tansu/internal/store"
)

// NewImport is a plaintext file to be moved into a drawer.
type NewImport struct {
	Format  importfile.Format
	Content secretvalue.Value
	Window  lifecycle.Window // of every version that is put in
	Replace bool             // add a version to items that exist already; without it they are in the way
	Note    string
	Each    bool // put in what can be, instead of nothing unless all can be
	Preview bool // only say what would happen
}

// What becomes of an entry of a file.
const (
	ImportNew     = "new"     // an item that is not there yet
	ImportChanged = "changed" // a new version of one that is
	ImportSame    = "same"    // it has this value already; said only to who may read it
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

// inPart is how many entries are put in in one transaction: few enough that nobody waits long behind it. A file with more is put in in
// parts, each whole; when one cannot be stored, those before it stay, and the error says how many.
const inPart = 100

// Import moves the entries of a plaintext file into a drawer, each to an item of its name in lower case: nothing unless all can be put
// in, unless told otherwise.
func (s *Shelf) Import(c chest.Caller, drawer string, n NewImport) (report ImportReport, err error) {
	if err := chest.CheckName("drawer", drawer); err != nil {
		return report, err
	}
	if !slices.Contains(importfile.Formats, n.Format) {
		return report, chest.Invalid("format", "format is not one of %v", importfile.Formats)
	}
	if err := (NewVersion{Window: n.Window, Note: n.Note}).check(s.heart.Now()); err != nil {
		return report, err
	}
	entries, problems := importfile.Read(n.Format, n.Content.Reveal())
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
	a.Entry.Detail = fmt.Sprintf("%d entries, %d to put in", len(entries), len(doing))
	if n.Preview || len(doing) == 0 || blocked && !n.Each {
		a.Entry.Detail += ", nothing put in"
		return chest.Reply(a, report)
	}
	return report, s.importAll(c, drawer, doing, n, &report)
}

// importAll puts entries in, part by part.
func (s *Shelf) importAll(c chest.Caller, drawer string, entries []importfile.Entry, n NewImport, report *ImportReport) error {
	pruned, done := false, 0
	for part := range slices.Chunk(entries, inPart) {
		err := s.heart.Try(func() error {
			a := s.heart.Attempt(c, "import", drawer)
			a.Entry.Detail = fmt.Sprintf("%d entries", len(entries))
			if len(entries) > inPart {
				a.Entry.Detail = fmt.Sprintf("%d entries, from %d on", len(entries), done+1)
			}
			if err := a.Err(); err != nil {
				return err
			}
			more, err := s.importPart(a, drawer, part, n)
			pruned = pruned || more
			if err != nil {
				return a.Fail(err)
			}
			return a.Commit("the import")
		})
		if err != nil {
			return partly(err, done)
		}
		done += len(part)
		report.Done = true
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
	with.Detail = fmt.Sprintf("the first %d entries were put in, and the others not: %s", done, known.Detail)
	return &with
}

// importPart puts some entries into an attempt's change. It reports whether a rule shreds versions along with it.
func (s *Shelf) importPart(a *chest.Attempt, drawer string, entries []importfile.Entry, n NewImport) (pruned bool, err error) {
	puts, err := s.importPlan(a, drawer, entries, n)
	if err != nil {
		return false, err
	}
	d := a.St.Drawer(drawer)
	if d == nil {
		return false, chest.Missing("drawer "+drawer, "")
	}
	a.RestOnSpot(a.St.At(drawer))
	for i := range puts {
		p := &puts[i]
		if p.blocks() { // what could be put in a moment ago cannot be any more
			return false, &chest.Error{Code: chest.Stale, Detail: p.Item + " was changed by somebody else meanwhile: " + cmp.Or(p.Detail, p.Result)}
		}
		if p.puts() {
			before := len(a.More)
			putIn(a, d, p, n)
			pruned = pruned || len(a.More) > before+1
		}
	}
	return pruned, nil
}

// putIn puts one entry, and what rules shred along with it, into an attempt's change.
func putIn(a *chest.Attempt, d *chest.Drawer, p *putting, n NewImport) {
	row, versions := store.Item{ID: chest.NewID("it_"), Drawer: d.Row.ID, Name: p.Item, Kind: kindSecret, CreatedAt: chest.Micros(a.Entry.At),
		CreatedBy: a.Caller.Name}, []store.Version(nil)
	if p.item != nil {
		row, versions = p.item.Row, slices.Clone(p.item.Versions)
	}
	version, ciphertext := seal(a, d, row, len(versions)+1, NewVersion{Window: n.Window, Note: n.Note}, p.filled)
	entry := a.Entry
	entry.Action, entry.Target, entry.Version, entry.Grant, entry.Detail = access.WriteVersion.String(), d.Row.Name+"/"+p.Item,
		version.Number, p.grant, "by import"
	entry.Outcome, entry.ItemID, entry.DrawerID = trail.Allowed, row.ID, d.Row.ID
	a.More = append(a.More, entry)
	at := len(a.Change.Rows)
	a.Change.Rows = append(a.Change.Rows, store.RowChange{}) // the item's, when it is known what rules shred
	a.Change.Insert(version)
	a.Change.PutContent(version.ID, ciphertext)
	versions = append(versions, version)
	prune(a, d, row, versions)
	change := store.RowChange{After: withHorizon(row, versions, a.Entry.At)}
	if p.item != nil {
		change.Before = p.item.Row
	}
	a.Change.Rows[at] = change
}

// putting is one entry on its way in.
type putting struct {
	Imported
	grant  string      // that allows it
	item   *chest.Item // that is there already; nil for a new one
	filled filled
}

// blocks reports whether an entry keeps the others from being put in, and puts whether it is put in itself.
func (p putting) blocks() bool {
	return p.Result == ImportExists || p.Result == ImportInvalid || p.Result == ImportRefused
}

func (p putting) puts() bool { return p.Result == ImportNew || p.Result == ImportChanged }

// importPlan says what becomes of each entry. Who may write nothing in a drawer that is not there is refused item by item, as if it
// were.
func (s *Shelf) importPlan(a *chest.Attempt, drawer string, entries []importfile.Entry, n NewImport) (puts []putting, err error) {
	d := a.St.Drawer(drawer)
	there := map[string]store.Shelved{}
	if d != nil {
		names := make([]string, len(entries))
		for i, e := range entries {
			names[i] = importfile.ItemName(e.Name)
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
	v := NewVersion{Content: e.Value, Window: n.Window, Note: n.Note}
	filled, err := v.fill(secretvalue.Text, nil)
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
	if err := v.mayEnter(a.St, d, p.item, p.Item, a.Entry.At); err != nil {
		p.Result, p.Detail = ImportInvalid, err.Error()
		return
	}
	switch {
	case p.item == nil:
		p.Result = ImportNew
	case shapeOf(p.item.Row) != secretvalue.Text || !p.item.Life.RetiredAt.IsZero():
		p.Result, p.Detail = ImportInvalid, "the item that is there is retired, or has fields"
	case a.St.Decide(a.Caller.ID, access.ReadValue, ctx, drawer, p.Item).Allowed && sameValue(a, d, p.item, e.Value):
		p.Result = ImportSame
	case !n.Replace:
		p.Result, p.Detail = ImportExists, "add a version to it with --replace"
	default:
		p.Result = ImportChanged
	}
}

// mayEnter refuses a value for an item, or for one that is not there yet, that the drawer's rules or an old name do not allow.
func (v NewVersion) mayEnter(st *chest.Snapshot, d *chest.Drawer, it *chest.Item, name string, now time.Time) error {
	if it != nil {
		return v.checkRules(d, it.Life, now)
	}
	return errors.Join(unused(st, d, name, now), v.checkRules(d, lifecycle.Item{Rules: d.Schedule}, now), checkOwned(d, "", now))
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

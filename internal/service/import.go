package service

import (
	"errors"
	"fmt"
	"slices"
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

// Import moves the entries of a plaintext file into a drawer, each to an item of its name in lower case: all of them or
// none, unless told otherwise, in one transaction.
func (s *Service) Import(c Caller, drawer string, n NewImport) (report ImportReport, err error) {
	if err := checkName("drawer", drawer); err != nil {
		return report, err
	}
	if !slices.Contains(importfile.Formats, n.Format) {
		return report, invalid("format", "format is not one of %v", importfile.Formats)
	}
	if err := (NewVersion{Window: n.Window, Note: n.Note}).check(s.now()); err != nil {
		return report, err
	}
	entries, problems := importfile.Read(n.Format, n.Content.Reveal())
	report.Problem = problems
	a := s.attempt(c, "import", drawer)
	s.changing.Lock()
	defer s.changing.Unlock()
	var puts []putting
	err = s.view(func(st *state) error {
		d := st.drawers[drawer]
		if d == nil {
			// Who may write nothing there is refused item by item, as if the drawer were not there.
			d = &drawer0
		}
		puts, err = s.importPlan(st, c, a, d, drawer, entries, n)
		return err
	})
	if err != nil {
		return report, a.fail(err)
	}
	blocked := len(problems) > 0
	for _, p := range puts {
		report.Items = append(report.Items, p.Imported)
		blocked = blocked || p.blocks()
	}
	puts = slices.DeleteFunc(puts, func(p putting) bool { return p.version.ID == "" })
	a.entry.Detail = fmt.Sprintf("%d entries, %d to put in", len(entries), len(puts))
	if n.Preview || len(puts) == 0 || blocked && !n.Each {
		a.entry.Detail += ", nothing put in"
		return answer(a, report)
	}
	for _, p := range puts {
		entry := a.entry
		entry.Action, entry.Target, entry.Version, entry.Grant, entry.Detail, entry.Outcome = access.WriteVersion.String(), drawer+"/"+p.Item, p.version.Number, p.grant, "by import", trail.Allowed
		a.more = append(append(a.more, entry), p.more...)
	}
	err = a.change("the import", func(tx *store.Tx) error { return storeAll(tx, puts) }, func(st *state) {
		d := st.drawers[drawer]
		for _, p := range puts {
			st.items.forget(d, p.Item) // they are read again when somebody wants them
			p.pruned.forget(s)
		}
	})
	report.Done = err == nil
	var pruned pruning
	for _, p := range puts {
		pruned.becomes = append(pruned.becomes, p.pruned.becomes...)
	}
	pruned.forgetJournal(s, err)
	return report, err
}

// drawer0 stands for a drawer that is not there.
var drawer0 drawer

// putting is one entry on its way in: an item's row, new or as it was, and its next version.
type putting struct {
	Imported
	isNew   bool
	more    []trail.Entry // about what a rule shreds along with it
	grant   string        // that allows it
	before  store.Item
	row     store.Item
	version store.Version
	sealed  []byte
	rows    []store.Version // all versions of the item afterwards
	pruned  pruning         // those of them that a rule does not keep any more
}

// blocks reports whether an entry keeps the others from being put in.
func (p putting) blocks() bool {
	return p.Result == ImportExists || p.Result == ImportInvalid || p.Result == ImportRefused
}

func storeAll(tx *store.Tx, puts []putting) (err error) {
	for i := range puts {
		p := &puts[i]
		if p.isNew {
			p.row, err = store.Insert(tx, p.row)
		} else {
			p.row, err = store.Update(tx, p.before, p.row)
		}
		if err != nil {
			return err
		}
		if p.version, err = store.Insert(tx, p.version); err != nil {
			return err
		}
		if err := tx.InsertContent(p.version.ID, p.sealed); err != nil {
			return err
		}
		if err := p.pruned.rows(tx, p.rows); err != nil {
			return err
		}
	}
	return nil
}

// importPlan says what becomes of each entry, and seals what is to be put in.
func (s *Service) importPlan(st *state, c Caller, a *attempt, d *drawer, drawerName string, entries []importfile.Entry, n NewImport) (puts []putting, err error) {
	names := make([]string, len(entries))
	for i, e := range entries {
		names[i] = importfile.ItemName(e.Name)
	}
	there := map[string]store.Shelved{}
	if d != &drawer0 {
		if there, err = s.records.ItemsNamed(d.row.ID, names); err != nil {
			s.options.Log.Error("items cannot be read", "drawer", drawerName, "error", err)
			return nil, errDamaged
		}
	}
	taken := map[string]int{}
	for _, e := range entries {
		p := putting{Imported: Imported{Line: e.Line, Name: e.Name, Item: importfile.ItemName(e.Name)}}
		if before, twice := taken[p.Item]; twice {
			p.Result, p.Detail = ImportInvalid, fmt.Sprintf("line %d is for the same item", before)
		} else {
			taken[p.Item] = e.Line
			var it *item
			if rows, found := there[p.Item]; found {
				if it, err = newItem(d, rows); err != nil {
					return nil, err
				}
			}
			s.planOne(st, c, a, d, drawerName, it, e, n, &p)
		}
		puts = append(puts, p)
	}
	return puts, nil
}

func (s *Service) planOne(st *state, c Caller, a *attempt, d *drawer, drawerName string, it *item, e importfile.Entry, n NewImport, p *putting) {
	v := NewVersion{Content: e.Value, Window: n.Window, Note: n.Note}
	f, err := v.fill(secretvalue.Text, nil)
	if nameErr := reference.CheckName(p.Item); nameErr != nil {
		p.Result, p.Detail = ImportInvalid, nameErr.Error()
		return
	}
	if err != nil {
		p.Result, p.Detail = ImportInvalid, err.(*Error).Detail
		return
	}
	ctx := c.context(a.entry.At)
	target := access.Target{Names: []string{drawerName, p.Item}, Labels: d.labels}
	if it != nil {
		target.Labels = it.labels
	}
	decision := st.policy.Decide(access.Request{Subject: c.id, Action: access.WriteVersion, Target: target, Context: ctx})
	p.grant = decision.Grant
	if !decision.Allowed {
		p.Result, p.Detail = ImportRefused, "you may not write "+drawerName+"/"+p.Item
		return
	}
	if d == &drawer0 {
		p.Result, p.Detail = ImportInvalid, "there is no drawer "+drawerName
		return
	}
	if err := v.mayEnter(st, d, it, p.Item, a.entry.At); err != nil {
		p.Result, p.Detail = ImportInvalid, err.Error()
		return
	}
	switch {
	case it == nil:
		p.Result, p.isNew = ImportNew, true
		p.row = store.Item{ID: newID("it_"), Drawer: d.row.ID, Name: p.Item, Kind: kindSecret, CreatedAt: micros(a.entry.At), CreatedBy: c.name}
	case shapeOf(it.row) != secretvalue.Text || !it.life.RetiredAt.IsZero():
		p.Result, p.Detail = ImportInvalid, "the item that is there is retired, or has fields"
		return
	case st.decide(c.id, access.ReadValue, ctx, drawerName, p.Item).Allowed && s.sameValue(d, it, a, e.Value):
		p.Result = ImportSame
		return
	case !n.Replace:
		p.Result, p.Detail = ImportExists, "add a version to it with --replace"
		return
	default:
		p.Result, p.before, p.row = ImportChanged, it.row, it.row
	}
	var versions []store.Version
	if it != nil {
		versions = slices.Clone(it.versions)
	}
	version, sealed := s.seal(st, d, p.row, len(versions)+1, v, f, a)
	p.version, p.sealed = version, sealed.Ciphertext
	p.rows = append(versions, version)
	one := &attempt{s: s, entry: a.entry}
	one.entry.Target = drawerName + "/" + p.Item
	p.pruned = prune(d, p.row, p.rows, one)
	p.more = one.more
	p.row = withHorizon(p.row, p.rows, a.entry.At)
}

// mayEnter refuses a value for an item, or for one that is not there yet, that the drawer's rules or an old name do not allow.
func (v NewVersion) mayEnter(st *state, d *drawer, it *item, name string, now time.Time) error {
	if it != nil {
		return v.checkRules(d, it.life, now)
	}
	return errors.Join(st.unused(d, name, now), v.checkRules(d, lifecycle.Item{Rules: d.schedule}, now), checkOwned(d, "", now))
}

// sameValue reports whether the current version has a certain value.
func (s *Service) sameValue(d *drawer, it *item, a *attempt, value secretvalue.Value) bool {
	number, err := it.life.Current(a.entry.At)
	if err != nil {
		return false
	}
	content, err := s.openVersion(d, it, number)
	defer clear(content)
	return err == nil && secretvalue.New(content).Equal(value)
}

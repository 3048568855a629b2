package store

// Mark is one thing on which a decision can rest: it is touched by each change that could have made the decision another one.
type Mark struct {
	What MarkKind
	ID   string
}

// MarkKind says what a mark is of.
type MarkKind uint8

// The kinds of mark. Zero is none.
const (
	_          MarkKind = iota
	MarkAccess          // all that decides access to anything; without an id
	// what one identity may do, by its id: its state, its grants, its teams, what was agreed for it; without an id, all of them
	MarkSubject
	MarkProof  // a token or a credential, by its id: touched when it ends
	MarkDrawer // a drawer, by its id: its name, its rules, its keys
	MarkItem   // an item, by its id, with all its versions
	MarkName   // a name in a drawer, by the drawer's id and the name: touched when another item, or none, has it
)

// Basis is what a work was decided on: the position of memory, and what of it was looked at. The zero Basis rests on nothing.
type Basis struct {
	Position uint64 // of the snapshot; 0 for none
	Marks    []Mark
}

// RestOn adds a mark, unless it was added last.
func (b *Basis) RestOn(what MarkKind, id string) {
	for i := len(b.Marks) - 1; i >= 0 && i >= len(b.Marks)-4; i-- {
		if b.Marks[i] == (Mark{what, id}) {
			return
		}
	}
	b.Marks = append(b.Marks, Mark{what, id})
}

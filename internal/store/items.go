package store

import (
	"crypto/hmac"
	"database/sql"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"tansu/internal/entity"

	"github.com/jmoiron/sqlx"
)

// Shelved is an item with its versions, oldest first, so that element i is version i+1.
type Shelved struct {
	Item     entity.Item
	Versions []entity.Version
	ReadAt   int64 // when somebody last read it, if that was asked for; microseconds since 1970, 0 for never
}

// Always is the time until which an item is served that never stops by itself.
const Always = math.MaxInt64

// said is what can be said otherwise about an item.
func said(r entity.Item) [4]string { return [4]string{r.Name, r.Description, r.Owner, r.Labels} }

// ItemsNamed reads those of some items of a drawer that are there, by their names.
func (s *Store) ItemsNamed(drawer string, names []string) (found map[string]Shelved, err error) {
	found = map[string]Shelved{}
	for part := range slices.Chunk(names, pageSize) {
		where, arguments, err := sqlx.In("WHERE drawer = ? AND name IN (?) AND shredded_at = 0", drawer, part)
		if err != nil {
			return nil, fmt.Errorf("read items: %w", err)
		}
		list, err := s.shelved(where, arguments...)
		if err != nil {
			return nil, err
		}
		for _, it := range list {
			found[it.Item.Name] = it
		}
	}
	return found, nil
}

// mostKeys is the most keys of a drawer whose public halves are listed together.
const mostKeys = 1000

// KeyNames lists the names of a drawer's keys, in their order; at most 1 000.
func (s *Store) KeyNames(drawer string) (names []string, err error) {
	err = s.read.Select(&names, "SELECT name FROM items WHERE drawer = ? AND key_type <> '' AND shredded_at = 0 ORDER BY name LIMIT ?", drawer,
		mostKeys)
	if err != nil {
		return nil, fmt.Errorf("list keys: %w", err)
	}
	return names, nil
}

// Item reads an item that is not shredded by its drawer's id and its name; none is an Item without an id. A row that is
// not as it was stored is a [*TamperedError], and so is one whose bucket is not: one that was put back as it once was.
func (s *Store) Item(drawer, name string) (Shelved, error) {
	var items []entity.Item
	if err := s.prepared.item.Select(&items, drawer, name); err != nil {
		return Shelved{}, fmt.Errorf("read items: %w", err)
	}
	if len(items) == 0 {
		return Shelved{}, nil
	}
	var versions []entity.Version
	if err := s.prepared.versions.Select(&versions, items[0].ID); err != nil {
		return Shelved{}, fmt.Errorf("read versions: %w", err)
	}
	list, err := s.assemble(items, versions)
	if err == nil {
		err = s.inBucket(bucketOf(items[0]))
	}
	if err != nil {
		return Shelved{}, err
	}
	return list[0], nil
}

// prepareReads prepares what is asked again and again while many items are read that are not in memory, or that are not there:
// half of the time of such a question is its text.
func (s *Store) prepareReads() error {
	for statement, text := range map[**sqlx.Stmt]string{
		&s.prepared.item:     "SELECT " + itemColumns + " FROM items WHERE drawer = ? AND name = ? AND shredded_at = 0",
		&s.prepared.versions: "SELECT " + versionColumns + " FROM versions WHERE item = ? ORDER BY number",
		&s.prepared.content:  "SELECT ciphertext FROM contents WHERE version = ?",
	} {
		prepared, err := s.read.Preparex(text)
		if err != nil {
			return fmt.Errorf("prepare: %w", err)
		}
		*statement = prepared
	}
	return nil
}

// ItemFilter selects items of one drawer; empty fields select all that are not shredded.
type ItemFilter struct {
	Drawer   string // its id; needed
	ReadIn   string // its name, to be told when items were last read, as far as that is counted; empty for no matter
	After    string // only names that follow this one
	Shredded bool   // only those that are shredded
	Retired  bool   // only those that are retired
	Labelled bool   // only those with labels of their own
	Owner    string
	// Only those of which something stops being served by this time, or nothing is served, or of which the version that
	// is served was made by the other. Retired ones are not among them. Microseconds since 1970; when the first is 0,
	// it is no matter.
	ServedUntil int64
	ServedSince int64
	Said        []Said  // all of which hold
	Rows        []int64 // only some of those that Rare found; nil for no matter
}

// Said is something that is said about an item: a text with "*" for anything, and upper and lower case the same from A to
// Z, in one of some columns.
type Said struct {
	Columns []string // of name, description, owner, labels, shape and created_by
	Text    string
}

// Rare finds the items about which something is said that is said about few, by their drawers. It is not ok when it is
// said about many, or is too short to be looked up: then looking through them in order finds a page of them soon.
func (s *Store) Rare(said []Said) (rows map[string][]int64, ok bool, err error) {
	match := matchOf(said)
	if match == "" {
		return nil, false, nil
	}
	var found []struct {
		Row    int64  `db:"row"`
		Drawer string `db:"drawer"`
	}
	err = s.read.Select(&found, `SELECT rowid AS row, drawer FROM items WHERE rowid IN
		(SELECT rowid FROM items_words WHERE items_words MATCH ? LIMIT ?)`, match, mostRare+1)
	if err != nil {
		return nil, false, fmt.Errorf("look words up: %w", err)
	}
	rows = map[string][]int64{}
	for _, f := range found {
		rows[f.Drawer] = append(rows[f.Drawer], f.Row)
	}
	return rows, len(found) <= mostRare, nil
}

// mostRare is how many items are few.
const mostRare = 1000

// matchOf writes what is said as a query of FTS5 (SQLite's documentation, "Full-text Query Syntax"), as far as it can be
// looked up by three letters; the rest is left to whoever looks at what was found.
func matchOf(said []Said) string {
	var all []string
	for _, one := range said {
		longest := ""
		for _, run := range strings.Split(one.Text, "*") {
			if len(run) > len(longest) {
				longest = run
			}
		}
		if len(longest) >= 3 {
			all = append(all, "{"+strings.Join(one.Columns, " ")+`} : "`+strings.ReplaceAll(longest, `"`, `""`)+`"`)
		}
	}
	return strings.Join(all, " AND ")
}

// pageSize is how many items are read at once: enough to make a query's own cost small, and few to hold.
const pageSize = 500

// Items calls visit with items, in the order of names, until it returns false or none is left. No connection is held
// while visit runs, and each page is of its own moment: what is added or removed meanwhile may be seen or not.
func (s *Store) Items(f ItemFilter, visit func(Shelved) bool) error {
	if f.Rows != nil {
		return s.chosen(f, visit)
	}
	size := 60 // the first page is often all that is wanted
	for {
		where, arguments := f.where()
		page, err := s.shelved(fmt.Sprintf("WHERE rowid IN (SELECT rowid FROM items %s %s ORDER BY name LIMIT %d) ORDER BY name", f.index(),
			where, size), arguments...)
		if err != nil {
			return err
		}
		if err := s.addReadAt(f.ReadIn, page); err != nil {
			return err
		}
		for _, it := range page {
			if !visit(it) {
				return nil
			}
		}
		if len(page) < size {
			return nil
		}
		f.After, size = page[len(page)-1].Item.Name, min(4*size, pageSize)
	}
}

// chosen visits those of a filter's rows that it selects.
func (s *Store) chosen(f ItemFilter, visit func(Shelved) bool) error {
	where, arguments := f.where()
	in, rows, err := sqlx.In(" AND rowid IN (?) ORDER BY name", f.Rows)
	if err != nil {
		return fmt.Errorf("read items: %w", err)
	}
	list, err := s.shelved(where+in, append(arguments, rows...)...)
	if err == nil {
		err = s.addReadAt(f.ReadIn, list)
	}
	for i := 0; err == nil && i < len(list) && visit(list[i]); i++ {
	}
	return err
}

// ItemsDue calls visit with the items of all drawers of which something stops being served by a time, or nothing is, those of one drawer
// together, until it returns false. Retired ones are not among them. Microseconds since 1970.
func (s *Store) ItemsDue(until int64, visit func(Shelved) bool) error {
	after, size := int64(-1), 60
	for {
		var rows []int64
		if err := s.read.Select(&rows, `SELECT rowid FROM items INDEXED BY items_due
			WHERE retired_at = 0 AND shredded_at = 0 AND served_until <= ?
			AND rowid > ? ORDER BY rowid LIMIT ?`, until, after, size); err != nil {
			return fmt.Errorf("read items: %w", err)
		}
		if len(rows) == 0 {
			return nil
		}
		where, arguments, err := sqlx.In("WHERE rowid IN (?) ORDER BY rowid", rows)
		if err != nil {
			return fmt.Errorf("read items: %w", err)
		}
		page, err := s.shelved(where, arguments...)
		if err != nil {
			return err
		}
		for _, it := range page {
			if !visit(it) {
				return nil
			}
		}
		if len(rows) < size {
			return nil
		}
		after, size = rows[len(rows)-1], min(4*size, pageSize)
	}
}

// CountDrawer counts the items of a drawer that are not shredded, and those of them that are retired.
func (s *Store) CountDrawer(drawer string) (all, retired int, err error) {
	err = s.read.QueryRow("SELECT (SELECT count(*) FROM items INDEXED BY items_said WHERE drawer = ?1 AND shredded_at = 0), (SELECT "+
		"count(*) FROM items INDEXED BY items_retired WHERE drawer = ?1 AND retired_at != 0 AND shredded_at = 0)", drawer).Scan(&all, &retired)
	if err != nil {
		return 0, 0, fmt.Errorf("count items: %w", err)
	}
	return all, retired, nil
}

// CountItems counts what a filter selects.
func (s *Store) CountItems(f ItemFilter) (count int, err error) {
	where, arguments := f.where()
	if err := s.read.Get(&count, "SELECT count(*) FROM items "+f.index()+" "+where, arguments...); err != nil {
		return 0, fmt.Errorf("count items: %w", err)
	}
	return count, nil
}

// Names lists names of items that are not shredded near one in the order of names, at most so many before and after it.
func (s *Store) Names(drawer, near string, most int) (names []string, err error) {
	err = s.read.Select(&names, `SELECT name FROM (SELECT name FROM items WHERE drawer = ?1 AND name >= ?2 AND shredded_at = 0 ORDER BY name LIMIT ?3)
		UNION ALL SELECT name FROM (SELECT name FROM items WHERE drawer = ?1 AND name < ?2 AND shredded_at = 0 ORDER BY name DESC LIMIT ?3)`, drawer, near, most)
	if err != nil {
		return nil, fmt.Errorf("read names of items: %w", err)
	}
	return names, nil
}

// index says which one leads to what is selected without looking at much else.
func (f ItemFilter) index() string {
	switch {
	case f.ServedUntil != 0: // the rows are chosen by an index of their own
		return "NOT INDEXED"
	case f.Shredded:
		return "INDEXED BY items_shredded"
	case f.Retired:
		return "INDEXED BY items_retired"
	case f.Labelled:
		return "INDEXED BY items_labelled"
	case f.Owner != "":
		return "INDEXED BY items_owner"
	}
	return "INDEXED BY items_said"
}

func (f ItemFilter) where() (string, []any) {
	conditions, arguments := []string{"drawer = ?"}, []any{f.Drawer}
	add := func(condition string, values ...any) {
		conditions = append(conditions, condition)
		arguments = append(arguments, values...)
	}
	if f.Shredded {
		add("shredded_at != 0")
	} else {
		add("shredded_at = 0")
	}
	if f.After != "" {
		add("name > ?", f.After)
	}
	if f.Retired {
		add("retired_at != 0")
	}
	if f.Labelled {
		add("labels != ''")
	}
	if f.Owner != "" {
		add("owner = ?", f.Owner)
	}
	if f.ServedUntil != 0 {
		add(`rowid IN (SELECT rowid FROM items INDEXED BY items_served_until WHERE drawer = ? AND retired_at = 0 AND shredded_at = 0 AND served_until <= ?
			UNION SELECT rowid FROM items INDEXED BY items_served_since WHERE drawer = ? AND retired_at = 0 AND shredded_at = 0 AND served_since <= ?)`,
			f.Drawer, f.ServedUntil, f.Drawer, f.ServedSince)
	}
	for _, said := range f.Said {
		like := likeEscape.Replace(said.Text)
		var either []string
		var values []any
		for _, column := range said.Columns {
			either, values = append(either, column+` LIKE ? ESCAPE '\'`), append(values, like)
		}
		add("("+strings.Join(either, " OR ")+")", values...)
	}
	return "WHERE " + strings.Join(conditions, " AND "), arguments
}

var likeEscape = strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`, `*`, `%`)

var (
	itemColumns    = strings.Join(columns(entity.Item{}), ", ")
	versionColumns = strings.Join(columns(entity.Version{}), ", ")
)

// shelved reads and checks items with their versions.
func (s *Store) shelved(where string, arguments ...any) ([]Shelved, error) {
	var items []entity.Item
	if err := s.read.Select(&items, "SELECT "+itemColumns+" FROM items "+where, arguments...); err != nil {
		return nil, fmt.Errorf("read items: %w", err)
	}
	if len(items) == 0 {
		return nil, nil
	}
	ids := make([]string, len(items))
	for i, row := range items {
		ids[i] = row.ID
	}
	query, in, err := sqlx.In("SELECT "+versionColumns+" FROM versions WHERE item IN (?) ORDER BY item, number", ids)
	if err != nil {
		return nil, fmt.Errorf("read versions: %w", err)
	}
	var versions []entity.Version
	if err := s.read.Select(&versions, query, in...); err != nil {
		return nil, fmt.Errorf("read versions: %w", err)
	}
	return s.assemble(items, versions)
}

// assemble checks rows, and puts versions to their items; they are in the order of their numbers.
func (s *Store) assemble(items []entity.Item, versions []entity.Version) ([]Shelved, error) {
	list, position := make([]Shelved, len(items)), make(map[string]int, len(items))
	for i, row := range items {
		list[i].Item, position[row.ID] = row, i
	}
	for _, v := range versions {
		it := &list[position[v.Item]]
		if v.Number != len(it.Versions)+1 {
			return nil, fmt.Errorf("item %s has a gap before version %d", v.Item, v.Number)
		}
		it.Versions = append(it.Versions, v)
	}
	return list, s.verify(items, versions)
}

// verify checks rows that were read while the chest is unlocked.
func (s *Store) verify(items []entity.Item, versions []entity.Version) error {
	bound := s.bound.Load()
	if bound == nil {
		return ErrNotBound
	}
	sealer, touched := *bound, &TamperedError{}
	check := func(row entity.Row) {
		if mac := macOf(sealer, row, authenticated(row)); !hmac.Equal(mac[:], row.Stamp().MAC) {
			touched.Rows = append(touched.Rows, TouchedRow{row.Table(), idOf(row)})
		}
	}
	for _, row := range items {
		check(row)
	}
	for _, row := range versions {
		check(row)
	}
	if len(touched.Rows) > 0 {
		return touched
	}
	return nil
}

// ItemByID reads an item, also one that is shredded; none is an Item without an id.
func (s *Store) ItemByID(id string) (Shelved, error) {
	list, err := s.shelved("WHERE id = ?", id)
	if err == nil && len(list) > 0 {
		err = s.inBucket(bucketOfID(id))
	}
	if err != nil || len(list) == 0 {
		return Shelved{}, err
	}
	return list[0], nil
}

// AlikeItem is where an item is that has a version which looks like a value.
type AlikeItem struct {
	ID     string `db:"id"`
	Drawer string `db:"drawer"`
	Name   string `db:"name"`
}

// Alike lists items that have a version with a certain likeness and about as many bytes, the newest first, at most so many.
func (s *Store) Alike(likeness, size, most int) (items []AlikeItem, err error) {
	err = s.read.Select(&items, `SELECT DISTINCT items.id, items.drawer, items.name
		FROM versions INDEXED BY versions_likeness JOIN items ON items.id = versions.item
		WHERE likeness = ? AND likeness != 0 AND versions.shredded_at = 0 AND size BETWEEN ? AND ? AND items.shredded_at = 0
		ORDER BY versions.rowid DESC LIMIT ?`, likeness, size, size+2, most) // a line break at the end makes no other value of it
	if err != nil {
		return nil, fmt.Errorf("read versions: %w", err)
	}
	return items, nil
}

// WrappedUnder reads the versions of some items of a drawer whose data key is wrapped under one of its keys: of at most so many items,
// those that follow a name. Last is the name of the last of them; empty when none was left to look at.
func (s *Store) WrappedUnder(drawer string, key int, after string, most int) (list []Shelved, last string, err error) {
	var items []entity.Item
	var versions []entity.Version
	if err := s.read.Select(&items, "SELECT "+itemColumns+" FROM items WHERE drawer = ? AND name > ? ORDER BY name LIMIT ?", drawer, after,
		most); err != nil {
		return nil, "", fmt.Errorf("read items: %w", err)
	}
	if len(items) == 0 {
		return nil, "", nil
	}
	ids := make([]string, len(items))
	for i, it := range items {
		ids[i] = it.ID
	}
	query, arguments, err := sqlx.In("SELECT "+versionColumns+" FROM versions WHERE item IN (?) AND drawer_key = ? AND shredded_at = 0", ids,
		key)
	if err == nil {
		err = s.read.Select(&versions, query, arguments...)
	}
	if err != nil {
		return nil, "", fmt.Errorf("read versions: %w", err)
	}
	list = make([]Shelved, len(items))
	for i, it := range items {
		list[i].Item = it
		for _, v := range versions {
			if v.Item == it.ID {
				list[i].Versions = append(list[i].Versions, v)
			}
		}
	}
	return list, items[len(items)-1].Name, s.verify(items, versions)
}

// CountUnder counts the versions in a drawer whose data key is wrapped under one of its keys.
func (s *Store) CountUnder(drawer string, key int) (count int, err error) {
	const query = "SELECT count(*) FROM versions WHERE drawer_key = ? AND shredded_at = 0 AND item IN (SELECT id FROM items WHERE drawer = ?)"
	if err := s.read.Get(&count, query, key, drawer); err != nil {
		return 0, fmt.Errorf("count versions: %w", err)
	}
	return count, nil
}

// Content reads the ciphertext of a version.
func (s *Store) Content(version string) ([]byte, error) {
	var ciphertext []byte
	err := s.prepared.content.Get(&ciphertext, version)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, fmt.Errorf("version %s has no content", version)
	}
	if err != nil {
		return nil, fmt.Errorf("read content of %s: %w", version, err)
	}
	return ciphertext, nil
}

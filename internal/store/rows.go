package store

import (
	"bytes"
	"encoding/json"
	"reflect"
	"strings"

	"github.com/jmoiron/sqlx"
)

// Row is a stored row that decides access. Its content, its table and its revision are under a MAC, and it counts in
// the tally of all such rows, so that a row changed, added, removed or put back in the file is noticed at unlock.
//
// Rows are values: they are copied, never changed in place, once they are stored.
type Row interface {
	table() string
	seal() Seal
	withSeal(Seal) Row
}

// Seal is the part of a row that the store itself writes.
type Seal struct {
	Revision int64  `db:"revision" json:"revision"` // from 1, one more at each change
	MAC      []byte `db:"mac" json:"-"`
}

// Identity is a person, an app or a team. Names are never used again.
type Identity struct {
	ID          string `db:"id" json:"id"`
	Kind        string `db:"kind" json:"kind"` // a kind of package reference
	Name        string `db:"name" json:"name"`
	Description string `db:"description" json:"description"`
	Owner       string `db:"owner" json:"owner"` // a subject; empty for none
	State       string `db:"state" json:"state"` // "active", "suspended" or "set_aside"
	Password    string `db:"password" json:"password"`
	CreatedAt   int64  `db:"created_at" json:"created_at"`
	CreatedBy   string `db:"created_by" json:"created_by"`
	Purpose     string `db:"purpose" json:"purpose,omitempty"`         // of an app
	Environment string `db:"environment" json:"environment,omitempty"` // of an app; empty for any
	Unconfirmed bool   `db:"unconfirmed" json:"unconfirmed,omitempty"` // a person whom only who registered them has seen
	CodeBy      string `db:"code_by" json:"code_by,omitempty"`         // who issued the last enrolment code of a person
	Generation  int64  `db:"generation" json:"generation,omitempty"`   // how often all of its tokens were ended at once
	Seal
}

// Member says that an identity is in a team. ID is the two ids.
type Member struct {
	ID        string `db:"id" json:"id"`
	Team      string `db:"team" json:"team"`
	Identity  string `db:"identity" json:"identity"`
	CreatedAt int64  `db:"created_at" json:"created_at"`
	CreatedBy string `db:"created_by" json:"created_by"`
	Seal
}

// Credential is something an identity proves itself with: a secret or a code, of which only the hash is stored, or a public
// key, a certificate or an issuer that is trusted.
type Credential struct {
	ID        string `db:"id" json:"id"`
	Identity  string `db:"identity" json:"identity"`
	Kind      string `db:"kind" json:"kind"`               // a credential.Kind
	Hash      []byte `db:"hash" json:"hash"`               // by which it is found
	Detail    string `db:"detail" json:"detail,omitempty"` // as JSON; empty for a secret
	NotAfter  int64  `db:"not_after" json:"not_after"`     // 0 for none
	CreatedAt int64  `db:"created_at" json:"created_at"`
	CreatedBy string `db:"created_by" json:"created_by"`
	Seal
}

// Token is an access token or a session. ID is the hash in hex.
type Token struct {
	ID         string `db:"id" json:"id"`
	Identity   string `db:"identity" json:"identity"`
	Kind       string `db:"kind" json:"kind"`
	Via        string `db:"via" json:"via"`
	Credential string `db:"credential" json:"credential"` // the credential it was given for; empty for a person
	Bound      string `db:"bound" json:"bound,omitempty"` // the certificate it is bound to, SHA-256 in hex; empty for none
	NotAfter   int64  `db:"not_after" json:"not_after"`
	CreatedAt  int64  `db:"created_at" json:"created_at"`
	Generation int64  `db:"generation" json:"generation,omitempty"` // of the identity, when it was given; it is good in no later one
	Seal
}

// Grant is a stored access.Grant. An ended grant stays as history.
type Grant struct {
	ID        string `db:"id" json:"id"`
	Subject   string `db:"subject" json:"subject"`
	Effect    string `db:"effect" json:"effect"`
	Role      string `db:"role" json:"role"`
	Scope     string `db:"scope" json:"scope"`
	NotAfter  int64  `db:"not_after" json:"not_after"` // 0 for none
	Reason    string `db:"reason" json:"reason"`
	CreatedAt int64  `db:"created_at" json:"created_at"`
	CreatedBy string `db:"created_by" json:"created_by"`
	EndedAt   int64  `db:"ended_at" json:"ended_at"` // 0 while nobody has ended it
	EndedBy   string `db:"ended_by" json:"ended_by"`
	// Conditions, as text; networks and ways of proof are separated by spaces.
	Networks    string `db:"networks" json:"networks,omitempty"`
	Hours       string `db:"hours" json:"hours,omitempty"`
	Via         string `db:"via" json:"via,omitempty"`
	NeedsReason bool   `db:"needs_reason" json:"needs_reason,omitempty"`
	Seal
}

// Drawer is a named container.
type Drawer struct {
	ID          string `db:"id" json:"id"`
	Name        string `db:"name" json:"name"`
	Environment string `db:"environment" json:"environment"`
	Description string `db:"description" json:"description"`
	Owner       string `db:"owner" json:"owner"`
	CreatedAt   int64  `db:"created_at" json:"created_at"`
	CreatedBy   string `db:"created_by" json:"created_by"`
	Labels      string `db:"labels" json:"labels,omitempty"` // reference.Labels as text
	// Reading the items that one of these patterns, separated by spaces, selects needs a second person's approval;
	// whose reads is "everyone" or "persons".
	ApprovalItems string `db:"approval_items" json:"approval_items,omitempty"`
	ApprovalOf    string `db:"approval_of" json:"approval_of,omitempty"`
	Rules         string `db:"rules" json:"rules,omitempty"` // what it demands of its items, as JSON; empty for nothing
	// A shredded drawer keeps its row as history; its name is free again.
	ShreddedAt   int64  `db:"shredded_at" json:"shredded_at,omitempty"`
	ShreddedBy   string `db:"shredded_by" json:"shredded_by,omitempty"`
	ShreddedName string `db:"shredded_name" json:"shredded_name,omitempty"`
	Seal
}

// DrawerKey is one wrapped key of a drawer.
type DrawerKey struct {
	ID        string `db:"id" json:"id"`
	Drawer    string `db:"drawer" json:"drawer"`
	Number    int    `db:"number" json:"number"`
	Wrapped   []byte `db:"wrapped" json:"wrapped"`
	CreatedAt int64  `db:"created_at" json:"created_at"`
	Seal
}

// Item is what a drawer holds.
type Item struct {
	ID          string `db:"id" json:"id"`
	Drawer      string `db:"drawer" json:"drawer"`
	Name        string `db:"name" json:"name"`
	Kind        string `db:"kind" json:"kind"`
	Description string `db:"description" json:"description"`
	Owner       string `db:"owner" json:"owner"`
	CreatedAt   int64  `db:"created_at" json:"created_at"`
	CreatedBy   string `db:"created_by" json:"created_by"`
	Labels      string `db:"labels" json:"labels,omitempty"` // its own, as text
	Held        int    `db:"held" json:"held,omitempty"`     // the version that is held as current; 0 for none
	Suspended   bool   `db:"suspended" json:"suspended,omitempty"`
	RetiredAt   int64  `db:"retired_at" json:"retired_at,omitempty"` // 0 while it is not retired
	// A shredded item keeps its row as history; its name is free again.
	ShreddedAt   int64  `db:"shredded_at" json:"shredded_at,omitempty"`
	ShreddedBy   string `db:"shredded_by" json:"shredded_by,omitempty"`
	ShreddedName string `db:"shredded_name" json:"shredded_name,omitempty"`
	Shape        string `db:"shape" json:"shape,omitempty"` // a secretvalue.Shape; empty for text
	// Until when something is served if nobody does anything: Always, or 0 for nothing now; and when the oldest version
	// that is served until then was made.
	ServedUntil int64  `db:"served_until" json:"served_until,omitempty"`
	ServedSince int64  `db:"served_since" json:"served_since,omitempty"`
	Rules       string `db:"rules" json:"rules,omitempty"`       // stricter than its drawer's, as JSON; empty for none
	AwakeAt     int64  `db:"awake_at" json:"awake_at,omitempty"` // when it was resumed after it had been idle
	UseOnly     bool   `db:"use_only" json:"use_only,omitempty"` // no person is ever shown its value
	Seal
}

// Role is a custom role.
type Role struct {
	ID          string `db:"id" json:"id"`
	Name        string `db:"name" json:"name"`
	Description string `db:"description" json:"description"`
	Actions     string `db:"actions" json:"actions"` // names, separated by spaces
	CreatedAt   int64  `db:"created_at" json:"created_at"`
	CreatedBy   string `db:"created_by" json:"created_by"`
	Seal
}

// Request is what somebody asks somebody else to allow. An answered one stays as history.
type Request struct {
	ID         string `db:"id" json:"id"`
	Kind       string `db:"kind" json:"kind"` // "grant" or "read"
	Asker      string `db:"asker" json:"asker"`
	Subject    string `db:"subject" json:"subject"` // for whom
	Action     string `db:"action" json:"action"`
	Target     string `db:"target" json:"target"`
	Reason     string `db:"reason" json:"reason"`
	Receipt    string `db:"receipt" json:"receipt"`
	Proposal   string `db:"proposal" json:"proposal"` // the grant asked for, as JSON; empty for a read
	State      string `db:"state" json:"state"`       // "open", "allowed", "declined" or "withdrawn"
	Answer     string `db:"answer" json:"answer"`
	AnsweredAt int64  `db:"answered_at" json:"answered_at"`
	AnsweredBy string `db:"answered_by" json:"answered_by"`
	GrantID    string `db:"grant_id" json:"grant_id"` // the grant that was given
	Until      int64  `db:"until" json:"until"`       // how long a read is allowed
	CreatedAt  int64  `db:"created_at" json:"created_at"`
	TargetID   string `db:"target_id" json:"target_id,omitempty"` // of what is to be read, shredded or changed; empty for a grant
	Seal
}

// Version is what is known of one version without its content, which Store.Content reads.
type Version struct {
	ID            string `db:"id" json:"id"`
	Item          string `db:"item" json:"item"`
	Number        int    `db:"number" json:"number"`
	Size          int    `db:"size" json:"size"` // bytes
	EndsInNewline bool   `db:"ends_in_newline" json:"ends_in_newline"`
	Note          string `db:"note" json:"note"`
	NotBefore     int64  `db:"not_before" json:"not_before"` // 0 for none
	NotAfter      int64  `db:"not_after" json:"not_after"`   // 0 for none
	DrawerKey     int    `db:"drawer_key" json:"drawer_key"`
	WrappedKey    []byte `db:"wrapped_key" json:"wrapped_key"`
	CreatedAt     int64  `db:"created_at" json:"created_at"`
	CreatedBy     string `db:"created_by" json:"created_by"`
	Staged        bool   `db:"staged" json:"staged,omitempty"` // waits until somebody promotes it
	Suspended     bool   `db:"suspended" json:"suspended,omitempty"`
	ShreddedAt    int64  `db:"shredded_at" json:"shredded_at,omitempty"` // 0 while it is not; then there is no wrapped key
	Fields        string `db:"fields" json:"fields,omitempty"`           // names and sizes, without values
	Likeness      int    `db:"likeness" json:"likeness,omitempty"`       // ten bits of a keyed fingerprint, plus one; 0 for none
	Seal
}

// Alias is a name that an item had before, under which it is served until a time.
type Alias struct {
	ID        string `db:"id" json:"id"`
	Drawer    string `db:"drawer" json:"drawer"`
	Name      string `db:"name" json:"name"`
	Item      string `db:"item" json:"item"`
	NotAfter  int64  `db:"not_after" json:"not_after"`
	CreatedAt int64  `db:"created_at" json:"created_at"`
	CreatedBy string `db:"created_by" json:"created_by"`
	Seal
}

// Calendar is a private address of a calendar of what is due to somebody.
type Calendar struct {
	ID        string `db:"id" json:"id"`
	Identity  string `db:"identity" json:"identity"`
	Hash      []byte `db:"hash" json:"hash"`
	Note      string `db:"note" json:"note"`
	NotAfter  int64  `db:"not_after" json:"not_after"`
	CreatedAt int64  `db:"created_at" json:"created_at"`
	Seal
}

// Slot is a method of unlocking: the unlock key, under what somebody holds. It is read while the chest is locked, when its MAC means
// nothing yet.
type Slot struct {
	ID        string `db:"id" json:"id"`
	Name      string `db:"name" json:"name"`
	Method    string `db:"method" json:"method"` // of package envelope
	Salt      []byte `db:"salt" json:"salt"`
	Passes    uint32 `db:"passes" json:"passes"`
	Memory    uint32 `db:"memory_kib" json:"memory_kib"`
	Threads   uint8  `db:"threads" json:"threads"`
	Wrapped   []byte `db:"wrapped" json:"wrapped"`
	Shares    string `db:"shares" json:"shares"`       // a shares.Set as JSON; empty for none
	NotAfter  int64  `db:"not_after" json:"not_after"` // 0 for none
	UsedAt    int64  `db:"used_at" json:"used_at"`     // when it unlocked the chest last; 0 for never
	CreatedAt int64  `db:"created_at" json:"created_at"`
	CreatedBy string `db:"created_by" json:"created_by"`
	Seal
}

// Share is who holds a share of a slot's secret.
type Share struct {
	ID        string `db:"id" json:"id"`
	Slot      string `db:"slot" json:"slot"`
	Number    int    `db:"number" json:"number"`
	Holder    string `db:"holder" json:"holder"` // an identity
	Sealed    []byte `db:"sealed" json:"sealed"` // empty when the holder has taken it
	TakenAt   int64  `db:"taken_at" json:"taken_at"`
	CreatedAt int64  `db:"created_at" json:"created_at"`
	Seal
}

func (Identity) table() string   { return "identities" }
func (Member) table() string     { return "members" }
func (Credential) table() string { return "credentials" }
func (Token) table() string      { return "tokens" }
func (Grant) table() string      { return "grants" }
func (Drawer) table() string     { return "drawers" }
func (DrawerKey) table() string  { return "drawer_keys" }
func (Item) table() string       { return "items" }
func (Version) table() string    { return "versions" }
func (Role) table() string       { return "roles" }
func (Request) table() string    { return "requests" }
func (Alias) table() string      { return "aliases" }
func (Calendar) table() string   { return "calendars" }
func (Slot) table() string       { return "slots" }
func (Share) table() string      { return "shares" }

func (s Seal) seal() Seal { return s }

func (r Identity) withSeal(s Seal) Row   { r.Seal = s; return r }
func (r Member) withSeal(s Seal) Row     { r.Seal = s; return r }
func (r Credential) withSeal(s Seal) Row { r.Seal = s; return r }
func (r Token) withSeal(s Seal) Row      { r.Seal = s; return r }
func (r Grant) withSeal(s Seal) Row      { r.Seal = s; return r }
func (r Drawer) withSeal(s Seal) Row     { r.Seal = s; return r }
func (r DrawerKey) withSeal(s Seal) Row  { r.Seal = s; return r }
func (r Item) withSeal(s Seal) Row       { r.Seal = s; return r }
func (r Version) withSeal(s Seal) Row    { r.Seal = s; return r }
func (r Role) withSeal(s Seal) Row       { r.Seal = s; return r }
func (r Request) withSeal(s Seal) Row    { r.Seal = s; return r }
func (r Alias) withSeal(s Seal) Row      { r.Seal = s; return r }
func (r Calendar) withSeal(s Seal) Row   { r.Seal = s; return r }
func (r Slot) withSeal(s Seal) Row       { r.Seal = s; return r }
func (r Share) withSeal(s Seal) Row      { r.Seal = s; return r }

// authenticated is what the MAC covers: the table, and every column but the MAC. A column added by a later migration
// gets a json "omitempty", so that the MACs of rows from before stay good.
func authenticated(r Row) []byte {
	content, err := json.Marshal(r)
	if err != nil {
		panic(err) // the row types hold only strings, integers, booleans and bytes
	}
	return append([]byte(r.table()+"\x00"), content...)
}

// everyKind has one row of each type.
var everyKind = []Row{Identity{}, Member{}, Credential{}, Token{}, Grant{}, Drawer{}, DrawerKey{}, Item{}, Version{}, Role{}, Request{},
	Alias{}, Calendar{}, Slot{}, Share{}}

// columns lists the columns of a row type by its db tags.
func columns(r Row) []string {
	var names []string
	var walk func(t reflect.Type)
	walk = func(t reflect.Type) {
		for i := range t.NumField() {
			if field := t.Field(i); field.Anonymous {
				walk(field.Type)
			} else {
				names = append(names, field.Tag.Get("db"))
			}
		}
	}
	walk(reflect.TypeOf(r))
	return names
}

// changes are the writes of a row type.
type changes struct {
	insert, remove *sqlx.NamedStmt
	insertMany     *sqlx.Stmt // as many as are inserted at once
	columns        []string
	row            Row
	updates        map[string]*sqlx.NamedStmt // by the columns that they set
	wanted         []string                   // updates that were used and are not prepared yet
}

func prepare(db *sqlx.DB, r Row) (c *changes, err error) {
	c = &changes{row: r, columns: columns(r), updates: map[string]*sqlx.NamedStmt{}}
	for text, statement := range map[string]**sqlx.NamedStmt{
		"INSERT INTO " + r.table() + " (" + strings.Join(c.columns, ", ") + ") VALUES (:" + strings.Join(c.columns, ", :") + ")": &c.insert,
		"DELETE FROM " + r.table() + " WHERE id = :id AND revision = :revision":                                                  &c.remove,
	} {
		if *statement, err = db.PrepareNamed(text); err != nil {
			return c, err
		}
	}
	one := ", (?" + strings.Repeat(", ?", len(c.columns)-1) + ")"
	c.insertMany, err = db.Preparex("INSERT INTO " + r.table() + " (" + strings.Join(c.columns, ", ") + ") VALUES " +
		strings.Repeat(one, rowsTogether)[2:])
	return c, err
}

// arguments adds the values of a row in the order of its columns.
func (c *changes) arguments(to []any, row Row) []any {
	value := reflect.ValueOf(row)
	seal := value.NumField() - 1
	for i := range seal {
		to = append(to, value.Field(i).Interface())
	}
	return append(to, row.seal().Revision, row.seal().MAC)
}

// update is the statement that puts a row in the place of another. It sets what is another value only: SQLite enters a row anew into
// each index of which a column is set, whether or not it changes.
func (c *changes) update(tx *sqlx.Tx, before, after Row) (*sqlx.NamedStmt, error) {
	was, is := reflect.ValueOf(before), reflect.ValueOf(after)
	var set []string
	for i, name := range c.columns {
		if !sameField(was, is, i) {
			set = append(set, name+" = :"+name)
		}
	}
	text := strings.Join(set, ", ")
	if statement := c.updates[text]; statement != nil {
		return statement, nil
	}
	c.wanted = append(c.wanted, text) // one that is prepared in a transaction ends with it
	return tx.PrepareNamed(updateText(after, text))
}

func updateText(row Row, set string) string {
	return "UPDATE " + row.table() + " SET " + set + " WHERE id = :id AND revision = :revision - 1"
}

// keep prepares the updates that were used for the first time, when no transaction is under way.
func (c *changes) keep(db *sqlx.DB) {
	for _, text := range c.wanted {
		if statement, err := db.PrepareNamed(updateText(c.row, text)); err == nil { // else it is prepared each time
			c.updates[text] = statement
		}
	}
	c.wanted = nil
}

// sameField compares a field by its place among the columns; the last two are those of the seal, which always change.
func sameField(was, is reflect.Value, column int) bool {
	if column >= was.NumField()-1 {
		return false
	}
	a, b := was.Field(column), is.Field(column)
	if a.Kind() == reflect.Slice {
		return bytes.Equal(a.Bytes(), b.Bytes())
	}
	return a.Interface() == b.Interface()
}

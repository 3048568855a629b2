// Package entity is what a chest keeps: the rows that decide access, as they are stored, in memory and under MACs. Times are
// microseconds since 1970, 0 for none.
package entity

import "tansu/internal/core/reference"

// Row is a stored row that decides access. Its content, its table and its revision are under a MAC, and it counts in
// the tally of all such rows, so that a row changed, added, removed or put back in the file is noticed at unlock.
//
// Rows are values: they are copied, never changed in place, once they are stored.
type Row interface {
	Table() string
	Stamp() Seal
	WithSeal(Seal) Row
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
	KeysOpen     bool   `db:"keys_open" json:"keys_open,omitempty"` // anybody gets the public halves of its keys
	Seal
}

// DrawerKey is one wrapped key of a drawer.
type DrawerKey struct {
	ID        string `db:"id" json:"id"`
	Drawer    string `db:"drawer" json:"drawer"`
	Number    int    `db:"number" json:"number"`
	Wrapped   []byte `db:"wrapped" json:"wrapped"`
	CreatedAt int64  `db:"created_at" json:"created_at"`
	Master    string `db:"master" json:"master,omitempty"` // the id of the master key that it is under as well; empty for none
	Seal
}

// MasterKey is a key that drawers are under as well as under the root key.
type MasterKey struct {
	ID          string `db:"id" json:"id"`
	Name        string `db:"name" json:"name"`
	Origin      string `db:"origin" json:"origin"` // "made", "brought" or "token"
	Description string `db:"description" json:"description"`
	Owner       string `db:"owner" json:"owner"`             // may withdraw it and give it back
	Fingerprint string `db:"fingerprint" json:"fingerprint"` // of its material
	Sealed      []byte `db:"sealed" json:"sealed"`           // its material, or what a token opens; one zero byte when the chest keeps nothing
	Token       string `db:"token" json:"token"`             // the name of the token; empty for none
	InMemory    bool   `db:"in_memory" json:"in_memory"`     // it is never stored, and given again after each unlock
	CreatedAt   int64  `db:"created_at" json:"created_at"`
	CreatedBy   string `db:"created_by" json:"created_by"`
	WithdrawnAt int64  `db:"withdrawn_at" json:"withdrawn_at"` // 0 while it is not
	WithdrawnBy string `db:"withdrawn_by" json:"withdrawn_by"`
	GivenAt     int64  `db:"given_at" json:"given_at"` // when it was given back last; 0 for never
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
	// Of a key: its cryptokey.Type, its operations separated by spaces, whether it is ever given out, and the oldest version that decrypts.
	KeyType     string `db:"key_type" json:"key_type,omitempty"`
	KeyOps      string `db:"key_ops" json:"key_ops,omitempty"`
	GivenOut    bool   `db:"given_out" json:"given_out,omitempty"`
	DecryptFrom int    `db:"decrypt_from" json:"decrypt_from,omitempty"`
	ServedAt    string `db:"served_at" json:"served_at,omitempty"` // of an authority: the URL of the chest that its certificates name
	Seal
}

// The kinds of items.
const (
	KindSecret      = "secret"
	KindKey         = "key"
	KindCertificate = "certificate" // with its private key
	KindAuthority   = "authority"   // a certificate that signs others, in the chest
	KindProfile     = "profile"     // what an authority certifies
)

// Lasting reports whether an item is part of the chest's set-up, and no value that ages: rules about age, use and ends do not concern it.
func (r Item) Lasting() bool { return r.Kind == KindAuthority || r.Kind == KindProfile }

// Within is who uses a value in the chest, where nobody sees it.
const Within = "within"

// KeptFrom says why an item's value is not given to a kind of reader, whatever they may read: the reason, and the rest of a sentence that
// begins with the item. Both are empty where nothing keeps it from them.
func (r Item) KeptFrom(kind string) (reason, why string) {
	switch {
	case kind == Within:
	case r.Kind == KindAuthority:
		return "key_stays", "is an authority, whose key never leaves the chest: let it sign certificates there (tansu cert issue)"
	case r.KeyType != "" && !r.GivenOut:
		return "key_stays", "is a key that never leaves the chest: let it sign, encrypt or decrypt there (tansu key)"
	case r.UseOnly && kind != reference.App:
		return "use_only",
			"is for use by applications only, and shown to no person: compare it (tansu check --equals), or let an application use it"
	}
	return "", ""
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
	PublicKey     string `db:"public_key" json:"public_key,omitempty"`   // the public half of a key, as a JWK; empty for none
	Facts         string `db:"facts" json:"facts,omitempty"`             // of a certificate or a profile: what it says, as JSON
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

// Slot is an unlock method: the unlock key, under what somebody holds. It is read while the chest is locked, when its MAC means
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
	Sealed    []byte `db:"sealed" json:"sealed"` // one zero byte when the holder has taken it
	TakenAt   int64  `db:"taken_at" json:"taken_at"`
	CreatedAt int64  `db:"created_at" json:"created_at"`
	Seal
}

// Issued is a certificate that an authority of the chest has signed: what it says, and whether it is to be trusted. Whoever it was made for
// has the certificate itself. ID is the authority's and the serial number.
type Issued struct {
	ID          string `db:"id" json:"id"`
	Authority   string `db:"authority" json:"authority"` // the item
	Serial      string `db:"serial" json:"serial"`       // in hex
	Subject     string `db:"subject" json:"subject"`     // the common name; empty for none
	Names       string `db:"names" json:"names"`         // separated by spaces
	KeyType     string `db:"key_type" json:"key_type"`
	Fingerprint string `db:"fingerprint" json:"fingerprint"`
	NotBefore   int64  `db:"not_before" json:"not_before"`
	NotAfter    int64  `db:"not_after" json:"not_after"`
	Profile     string `db:"profile" json:"profile"` // the item; empty for an authority below
	Place       string `db:"place" json:"place"`     // the item that it was made for; empty for none of the chest's
	Holder      string `db:"holder" json:"holder"`   // the identity that it was given to
	CreatedAt   int64  `db:"created_at" json:"created_at"`
	CreatedBy   string `db:"created_by" json:"created_by"`
	RevokedAt   int64  `db:"revoked_at" json:"revoked_at"` // 0 while it is not
	RevokedBy   string `db:"revoked_by" json:"revoked_by"`
	Reason      string `db:"reason" json:"reason"` // a cert.Reasons
	Seal
}

func (Identity) Table() string   { return "identities" }
func (Member) Table() string     { return "members" }
func (Credential) Table() string { return "credentials" }
func (Token) Table() string      { return "tokens" }
func (Grant) Table() string      { return "grants" }
func (Drawer) Table() string     { return "drawers" }
func (DrawerKey) Table() string  { return "drawer_keys" }
func (Item) Table() string       { return "items" }
func (Version) Table() string    { return "versions" }
func (Role) Table() string       { return "roles" }
func (Request) Table() string    { return "requests" }
func (Alias) Table() string      { return "aliases" }
func (Calendar) Table() string   { return "calendars" }
func (Slot) Table() string       { return "slots" }
func (Share) Table() string      { return "shares" }
func (Issued) Table() string     { return "issued" }
func (MasterKey) Table() string  { return "master_keys" }

func (s Seal) Stamp() Seal { return s }

func (r Identity) WithSeal(s Seal) Row   { r.Seal = s; return r }
func (r Member) WithSeal(s Seal) Row     { r.Seal = s; return r }
func (r Credential) WithSeal(s Seal) Row { r.Seal = s; return r }
func (r Token) WithSeal(s Seal) Row      { r.Seal = s; return r }
func (r Grant) WithSeal(s Seal) Row      { r.Seal = s; return r }
func (r Drawer) WithSeal(s Seal) Row     { r.Seal = s; return r }
func (r DrawerKey) WithSeal(s Seal) Row  { r.Seal = s; return r }
func (r Item) WithSeal(s Seal) Row       { r.Seal = s; return r }
func (r Version) WithSeal(s Seal) Row    { r.Seal = s; return r }
func (r Role) WithSeal(s Seal) Row       { r.Seal = s; return r }
func (r Request) WithSeal(s Seal) Row    { r.Seal = s; return r }
func (r Alias) WithSeal(s Seal) Row      { r.Seal = s; return r }
func (r Calendar) WithSeal(s Seal) Row   { r.Seal = s; return r }
func (r Slot) WithSeal(s Seal) Row       { r.Seal = s; return r }
func (r Share) WithSeal(s Seal) Row      { r.Seal = s; return r }
func (r Issued) WithSeal(s Seal) Row     { r.Seal = s; return r }
func (r MasterKey) WithSeal(s Seal) Row  { r.Seal = s; return r }

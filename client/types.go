package client

import (
	"encoding/base64"
	"encoding/json"
	"time"
)

// The shapes of the API, as JSON. Times are RFC 3339 in UTC. docs: /api/openapi.yaml of any chest.

// Status is what anyone may know of a chest.
type Status struct {
	Chest    string    `json:"chest"`
	State    string    `json:"state"`   // "locked" or "unlocked"
	Methods  []string  `json:"methods"` // how it can be unlocked: "passphrase", "key_file", "shares"
	Version  string    `json:"version"`
	Records  bool      `json:"records"`  // false while nothing can be recorded, and so nothing is served
	Shares   []Handed  `json:"shares"`   // that were handed in, and are not enough yet
	Problems []Trouble `json:"problems"` // what is wrong with the chest as a whole
}

// Me is what callers may know of themselves.
type Me struct {
	Subject     string    `json:"subject"`
	Description string    `json:"description"`
	Via         string    `json:"via"`
	Steward     bool      `json:"steward"`
	Ends        time.Time `json:"ends"`
	// Operate says whether they may operate the chest, and SharesWaiting how many custodian's shares are waiting for them.
	Operate       bool    `json:"operate"`
	SharesWaiting int     `json:"shares_waiting"`
	MasterKeys    int     `json:"master_keys"` // that they may withdraw and give back
	Grants        []Grant `json:"grants"`
	May           May     `json:"may"`
}

// May says by names of actions what the caller may do on the chest as a whole, on anything at all, and on everything; and which apps and
// teams they answer for. Each act is decided when it is done.
type May struct {
	Chest      []string `json:"chest"`
	Somewhere  []string `json:"somewhere"`
	Everything []string `json:"everything"`
	Owns       []string `json:"owns"`
}

// There lists the actions that the caller may do on a drawer or an item. NeedReason are those that need a stated reason, NeedApproval
// those that a second person has to approve first, and Unmet those that one of the caller's grants would allow if its condition held.
type There struct {
	Target       string   `json:"target"`
	Actions      []string `json:"actions"`
	NeedReason   []string `json:"need_reason"`
	NeedApproval []string `json:"need_approval"`
	Unmet        []Unmet  `json:"unmet"`
	UseOnly      bool     `json:"use_only,omitempty"`  // the caller may read the item, and no person is ever shown its value
	Requested    string   `json:"requested,omitempty"` // an open request of the caller's about exactly this
}

// Unmet is an action, and in a sentence which condition does not hold.
type Unmet struct {
	Action string `json:"action"`
	Why    string `json:"why"`
}

// Found is something that has a name: a drawer, an item, a person, an app, a team or a role.
type Found struct {
	Kind        string `json:"kind"`
	Name        string `json:"name"` // a drawer's or role's name, an item's reference, or a subject
	Description string `json:"description"`
}

// Session is the answer to a sign-in that asked for a token.
type Session struct {
	Subject string    `json:"subject"`
	Ends    time.Time `json:"ends"`
	Token   string    `json:"token,omitempty"`  // left out when the session is a cookie
	Device  string    `json:"device,omitempty"` // shows at the next sign-in that it comes from a known device
}

// Drawer is a named container. Items, Due and Overdue count what the caller may list.
type Drawer struct {
	Name        string    `json:"name"`
	Environment string    `json:"environment"` // "production", "staging" or "development"
	Description string    `json:"description"`
	Owner       string    `json:"owner"`
	Labels      Labels    `json:"labels"`
	Approval    Approval  `json:"approval"`
	Rules       Rules     `json:"rules"`               // in force
	NextRules   *Rules    `json:"next_rules,omitzero"` // that take their place
	RulesFrom   time.Time `json:"rules_from,omitzero"` // then
	CreatedAt   time.Time `json:"created_at"`
	CreatedBy   string    `json:"created_by"`
	Revision    int64     `json:"revision"`
	Items       int       `json:"items"`
	Due         int       `json:"due"`
	Overdue     int       `json:"overdue"`
	Notes       []string  `json:"notes,omitempty"`      // what is unusual about what was just said about it
	KeysOpen    bool      `json:"keys_open,omitempty"`  // anybody gets the public halves of its keys
	MasterKey   string    `json:"master_key,omitempty"` // that its key is under as well as under the root key
	// "at_hand", "withdrawn" or "missing": nothing in it can be read or changed while it is not at hand.
	MasterKeyState string `json:"master_key_state,omitempty"`
}

// Labels are words about a drawer or an item, which scopes of grants can ask for.
type Labels = map[string]string

// Approval is the rule of a drawer that somebody else must agree before certain values are read. Without items there is
// none.
type Approval struct {
	Items []string `json:"items"` // patterns over item names
	Of    string   `json:"of"`    // whose reads: "everyone" or "persons"
}

// Rules are what a drawer demands of its items, or an item of itself. Spans are texts such as "90d" or "12h".
type Rules struct {
	MaxAge     string `json:"max_age,omitempty"`
	NeedsEnd   bool   `json:"needs_end,omitempty"`
	Warn       string `json:"warn,omitempty"`
	Grace      string `json:"grace,omitempty"`
	HostKeeps  string `json:"host_keeps,omitempty"`
	Idle       string `json:"idle,omitempty"`
	Keep       int    `json:"keep,omitempty"`
	Owner      string `json:"owner,omitempty"`
	Recipe     string `json:"recipe,omitempty"`
	RetireFor  string `json:"retire_for,omitempty"`
	TwoToShred bool   `json:"two_to_shred,omitempty"`
}

// OwnSession is a session or a token of the caller.
type OwnSession struct {
	ID      string    `json:"id"`
	Via     string    `json:"via"` // how it was proved: "console_session", "person_token", "app_key" and so on
	Begun   time.Time `json:"begun"`
	Ends    time.Time `json:"ends"`
	Current bool      `json:"current"` // whether this was asked with it
}

// NewRules are rules to be set, or to be tried.
type NewRules struct {
	Rules         Rules     `json:"rules"`
	From          time.Time `json:"from,omitzero"`            // when they begin; left out for at once
	AllowRefusals bool      `json:"allow_refusals,omitempty"` // also when something stops being served at once
	AllowAgain    bool      `json:"allow_again,omitempty"`    // also when something that is refused now would be served again
	Preview       bool      `json:"preview,omitempty"`        // only say what would happen
}

// RulesReport is what rules do, or would do.
type RulesReport struct {
	Done   bool        `json:"done"`
	Drawer Drawer      `json:"drawer"`
	Items  []RuledItem `json:"items"`
	More   int         `json:"more"`  // how many others there are
	Stops  int         `json:"stops"` // how many are not served any more at once
	Again  int         `json:"again"` // how many have a version that is refused now, and would be served again
}

// RuledItem is what rules do to one item.
type RuledItem struct {
	Reference string    `json:"reference"`
	Stops     time.Time `json:"stops,omitzero"`    // nothing is served from then on
	Because   string    `json:"because,omitempty"` // "ended" or "idle"
	Due       bool      `json:"due,omitempty"`     // it becomes due at once
	Surplus   []int     `json:"surplus,omitempty"` // versions that are shredded when the next one is added
	NoEnd     bool      `json:"no_end,omitempty"`  // the current version has no end, and the next one must have one
	Ownerless bool      `json:"ownerless,omitempty"`
	Again     []int     `json:"again,omitempty"` // versions that are refused now, and would be served again
}

// NewPlace is where an item goes.
type NewPlace struct {
	Drawer string `json:"drawer"`
	Name   string `json:"name"`
	Alias  string `json:"alias,omitempty"` // how long the old name goes on working: "30d"
}

// Moved is an item in its new place.
type Moved struct {
	Item    Item      `json:"item"`
	Old     string    `json:"old"`
	Until   time.Time `json:"until,omitzero"` // the old name works until then
	Readers []Reader  `json:"readers"`        // who read it under the old name lately
}

// Alias is a name that an item had before, under which it is still served.
type Alias struct {
	Reference string    `json:"reference"`
	Until     time.Time `json:"until"`
	By        string    `json:"by"`
	Users     []Reader  `json:"users"` // who reads it under that name
}

// NewExport says what is given out of a drawer, and to whom it is encrypted.
type NewExport struct {
	Format    string          `json:"format"`              // "dotenv" or "json"
	Recipient json.RawMessage `json:"recipient,omitempty"` // a public key as JWK
	Clear     bool            `json:"clear,omitempty"`
}

// Export is a file, in base64, and what is in it.
type Export struct {
	Content  string     `json:"content"`
	Encoding string     `json:"encoding"`
	Items    []Exported `json:"items"`
}

// Exported is what became of one item.
type Exported struct {
	Reference string `json:"reference"`
	Version   int    `json:"version"` // 0 when it is not in the file
	Why       string `json:"why"`     // it is not
}

// Calendar is a private address of a calendar of what is due to somebody.
type Calendar struct {
	ID        string    `json:"id"`
	Note      string    `json:"note"`
	NotAfter  time.Time `json:"not_after"`
	CreatedAt time.Time `json:"created_at"`
	Path      string    `json:"path,omitempty"` // shown once; whoever has it sees what is due
}

// Rotation is how far the change of a drawer's key has come.
type Rotation struct {
	Key  int  `json:"key"`  // the number of the key that new versions are under
	Left int  `json:"left"` // versions that are still under an older one
	Done bool `json:"done"`
}

// ShreddedDrawer is what is left of a drawer.
type ShreddedDrawer struct {
	Name   string    `json:"name"`
	At     time.Time `json:"at"`
	By     string    `json:"by"`
	Items  int       `json:"items"`
	Grants []string  `json:"grants"` // scopes of grants that still name it
	// OldNames are references in it that led to items in other drawers, and ended with it.
	OldNames []OldName `json:"old_names,omitempty"`
}

// OldName is a reference that worked after an item had gone to another place.
type OldName struct {
	Reference string `json:"reference"`
	Now       string `json:"now,omitempty"` // its own name, for whoever may list it
}

// Limits bound what is put in. Sizes are bytes.
type Limits struct {
	Name        int      `json:"name"`
	NamePattern string   `json:"name_pattern"`
	NameForm    string   `json:"name_form"` // the same in words
	Labels      int      `json:"labels"`
	Description int      `json:"description"`
	Note        int      `json:"note"`
	Value       int      `json:"value"`
	Fields      int      `json:"fields"`
	ImportFile  int      `json:"import_file"`
	Formats     []string `json:"import_formats"`
	Password    int      `json:"password"` // at least
}

// NewDrawer makes a drawer.
type NewDrawer struct {
	Name        string `json:"name"`
	Environment string `json:"environment"`
	Description string `json:"description,omitempty"`
	Owner       string `json:"owner,omitempty"`
	MasterKey   string `json:"master_key,omitempty"` // that its key is to be under as well
}

// DrawerContents is a drawer with its items.
type DrawerContents struct {
	Drawer     Drawer `json:"drawer"`
	Items      []Item `json:"items"`
	NextCursor string `json:"next_cursor"` // empty at the end
}

// Item is an item without values.
type Item struct {
	Reference   string    `json:"reference"`
	Name        string    `json:"name"`
	Kind        string    `json:"kind"`
	Description string    `json:"description"`
	Owner       string    `json:"owner"`
	Labels      Labels    `json:"labels"`    // its own
	Shape       string    `json:"shape"`     // "text", "login", "connection", "ssh_key", "fields" or "file"
	Approval    bool      `json:"approval"`  // whether reading it needs a second person
	State       string    `json:"state"`     // "usable", "due", "waiting", "ended", "staged", "suspended", "retired" or "shredded"
	Held        int       `json:"held"`      // the version that is held as current; 0 for none
	Suspended   bool      `json:"suspended"` // as a whole
	RetiredAt   time.Time `json:"retired_at,omitzero"`
	Current     int       `json:"current"`
	Versions    int       `json:"versions"`
	NotAfter    time.Time `json:"not_after,omitzero"`
	EndsAt      time.Time `json:"ends_at,omitzero"` // when what is served stops being usable, by its window or its age
	Rules       Rules     `json:"rules"`            // in force for it
	OwnRules    Rules     `json:"own_rules"`        // stricter ones of its own
	UseOnly     bool      `json:"use_only"`         // no person is ever shown its value
	Key         *KeyFacts `json:"key,omitempty"`    // of a key
	// Of a certificate, an authority or a profile of certificates: what the version that is served says, or the newest.
	Certificate *Certificate `json:"certificate,omitempty"`
	ServedAt    string       `json:"served_at,omitempty"` // of an authority: the URL of the chest that its certificates name
	Notes       []string     `json:"notes,omitempty"`     // what is unusual about what was just said about it
	ChangedAt   time.Time    `json:"changed_at"`
	ChangedBy   string       `json:"changed_by"`
	CreatedAt   time.Time    `json:"created_at"`
	CreatedBy   string       `json:"created_by"`
	Revision    int64        `json:"revision"`
}

// Version is one version without its value.
type Version struct {
	Version       int         `json:"version"`
	State         string      `json:"state"` // "usable", "waiting", "ended", "staged", "suspended" or "shredded"
	Current       bool        `json:"current"`
	Size          int         `json:"size"` // bytes; of all fields, when there are fields
	EndsInNewline bool        `json:"ends_in_newline"`
	Fields        []FieldInfo `json:"fields"`
	Notes         []string    `json:"notes,omitempty"` // of a version that was just made: what is unusual about it
	Note          string      `json:"note"`
	NotBefore     time.Time   `json:"not_before,omitzero"`
	NotAfter      time.Time   `json:"not_after,omitzero"`
	EndsAt        time.Time   `json:"ends_at,omitzero"` // by its window or its age
	CreatedAt     time.Time   `json:"created_at"`
	CreatedBy     string      `json:"created_by"`
	// PublicKey is the public half of a key, as a JWK (RFC 7517) whose kid names key and version; left out where there is none.
	PublicKey   json.RawMessage `json:"public_key,omitempty"`
	Certificate *Certificate    `json:"certificate,omitempty"`
}

// FieldInfo is what is known of a field without its value.
type FieldInfo struct {
	Name  string `json:"name"`
	Size  int    `json:"size"`
	Plain bool   `json:"plain"` // not sensitive
}

// NewField is a field of a new version: base64 of its value, or a recipe that makes one up.
type NewField struct {
	Name     string `json:"name"`
	Value    string `json:"value,omitempty"`
	Generate string `json:"generate,omitempty"`
	Plain    bool   `json:"plain,omitempty"` // of free fields
}

// FieldValue is a field as the API gives it.
type FieldValue struct {
	Name  string `json:"name"`
	Value string `json:"value"` // base64
	Plain bool   `json:"plain"`
}

// History is an item with its versions, newest first.
type History struct {
	Item     Item      `json:"item"`
	Versions []Version `json:"versions"`
	Aliases  []Alias   `json:"aliases"` // names under which it is served besides
}

// NewVersion is a new content. Value holds base64 of the standard alphabet, which protects nothing.
type NewVersion struct {
	Value     string     `json:"value,omitempty"`
	Encoding  string     `json:"encoding,omitempty"` // "base64"
	Generate  string     `json:"generate,omitempty"` // a recipe instead of a value: "characters:24", "bytes:32", "words:5", "uuid"
	Fields    []NewField `json:"fields,omitempty"`   // instead of a value, of an item that has fields
	Merge     bool       `json:"merge,omitempty"`    // fields that are not given stay as they are in the current version
	Note      string     `json:"note,omitempty"`
	NotBefore time.Time  `json:"not_before,omitzero"`
	NotAfter  time.Time  `json:"not_after,omitzero"`
	Staged    bool       `json:"staged,omitempty"`  // waits until somebody promotes it
	Brought   []byte     `json:"brought,omitempty"` // of a key: one that was made elsewhere, as PEM, PKCS #8 or a JWK; left out to make one
	// Of a key that was wrapped for its way: the RSA key of the chest that it was wrapped to, and the type of a symmetric one.
	BroughtUnder string `json:"brought_under,omitempty"`
	BroughtType  string `json:"brought_type,omitempty"`
}

// Act does something with an item, or with one of its versions. To shred, Name is the exact reference.
type Act struct {
	Act     string `json:"act"` // "suspend", "resume", "promote", "hold", "release", "retire", "restore" or "shred"
	Version int    `json:"version,omitempty"`
	Name    string `json:"name,omitempty"`
}

// NewWindow is when a version begins and ends to be served.
type NewWindow struct {
	Version    int       `json:"version,omitempty"`   // 0 for the current one
	NotBefore  time.Time `json:"not_before,omitzero"` // zero for at once
	NotAfter   time.Time `json:"not_after,omitzero"`
	NeverEnds  bool      `json:"never_ends,omitempty"`  // instead of NotAfter
	AllowAgain bool      `json:"allow_again,omitempty"` // also when it is refused now and would be served again
}

// Reader is who read an item's value, and which version last.
type Reader struct {
	Subject string    `json:"subject"`
	Version int       `json:"version"`
	Last    time.Time `json:"last"`
	Pinned  bool      `json:"pinned"` // asked for the version by its number
}

// SearchPage is a part of what was found, in the order of references. NextCursor is empty at the end.
type SearchPage struct {
	Items      []Item `json:"items"`
	NextCursor string `json:"next_cursor"`
}

// Due is an item that somebody has to look at.
type Due struct {
	Reference string    `json:"reference"`
	Owner     string    `json:"owner"`   // of the item, or else of its drawer
	State     string    `json:"state"`   // "due", "grace", or why nothing is served
	Version   int       `json:"version"` // that is served until NotAfter; 0 when none is
	NotAfter  time.Time `json:"not_after,omitzero"`
	Next      time.Time `json:"next,omitzero"` // when the next version begins by itself
}

// AccessEnd is something other than a value that ends, or has ended in the last two weeks: access, or what proves or opens something.
type AccessEnd struct {
	Kind     string    `json:"kind"` // "grant", "denial", "credential", "approval", "unlock_method" or "calendar"
	ID       string    `json:"id"`
	Subject  string    `json:"subject,omitempty"` // whose it is
	About    string    `json:"about"`             // "consumer on ticketing-prod/**", or a kind and a name
	NotAfter time.Time `json:"not_after"`
	Owner    string    `json:"owner,omitempty"` // who answers for the subject
	May      bool      `json:"may"`             // the caller may put another end to it
	Last     bool      `json:"last"`            // nobody could give access from then on
}

// Renewal is another end for a grant. Without any it is in 90 days, and for a denial, or what lets somebody give access to everything,
// there is none.
type Renewal struct {
	NotAfter  time.Time `json:"not_after,omitzero"`
	NeverEnds bool      `json:"never_ends,omitempty"`
}

// Shredded is what is left of an item.
type Shredded struct {
	Name     string    `json:"name"`
	At       time.Time `json:"at"`
	By       string    `json:"by"`
	Versions int       `json:"versions"`
}

// NewItem makes an item with its first version.
type NewItem struct {
	Name        string       `json:"name"`
	Shape       string       `json:"shape,omitempty"` // "text" when left out
	Description string       `json:"description,omitempty"`
	Owner       string       `json:"owner,omitempty"`
	UseOnly     bool         `json:"use_only,omitempty"` // no person is ever shown its value; this cannot be undone
	Key         *NewKeyFacts `json:"key,omitempty"`      // it is a key, which is used in the chest
	Version     NewVersion   `json:"version"`
}

// Stored is the answer to a new item or version.
type Stored struct {
	Item    Item    `json:"item"`
	Version Version `json:"version"`
}

// Described changes what is said about a drawer or an item; nil leaves as it is.
type Described struct {
	Description *string   `json:"description,omitempty"`
	Owner       *string   `json:"owner,omitempty"`
	Labels      Labels    `json:"labels,omitzero"`        // all of them
	Approval    *Approval `json:"approval,omitempty"`     // of a drawer
	UseOnly     *bool     `json:"use_only,omitempty"`     // of an item: true, and never false again
	KeysOpen    *bool     `json:"keys_open,omitempty"`    // of a drawer: anybody gets the public halves of its keys
	DecryptFrom *int      `json:"decrypt_from,omitempty"` // of a key: the oldest version that decrypts; 0 for any
}

// Identity is a person, an app or a team.
type Identity struct {
	Subject     string       `json:"subject"`
	Description string       `json:"description"`
	Owner       string       `json:"owner"`
	Purpose     string       `json:"purpose"`     // of an app
	Environment string       `json:"environment"` // of an app; empty for any
	State       string       `json:"state"`       // "active", "suspended" or "set_aside"
	Enrolled    bool         `json:"enrolled"`
	Confirmed   bool         `json:"confirmed"` // that a person is who they are said to be, by somebody who did not register them
	CreatedAt   time.Time    `json:"created_at"`
	CreatedBy   string       `json:"created_by"`
	Revision    int64        `json:"revision"`
	Credentials []Credential `json:"credentials"`
	Seen        Seen         `json:"seen"`
	Teams       []string     `json:"teams"`   // that a person or an app is in
	Members     []string     `json:"members"` // of a team
	// MayNotGive is why the caller may not give it access, though they give access to others; only when it is looked up alone.
	MayNotGive string `json:"may_not_give,omitempty"`
}

// Credential is what is known of one without its secret.
type Credential struct {
	ID        string    `json:"id"`
	Kind      string    `json:"kind"` // "appsecret", "key", "certificate", "issuer", "host" (a code for a host) or "enrol" (a person's)
	CreatedAt time.Time `json:"created_at"`
	CreatedBy string    `json:"created_by"`
	NotAfter  time.Time `json:"not_after,omitzero"`
	LastUsed  time.Time `json:"last_used,omitzero"` // of an app's
	// Of one that is no secret:
	Thumbprint string            `json:"thumbprint,omitempty"` // of a public key (RFC 7638) or a certificate, SHA-256 in hex
	Subject    string            `json:"subject,omitempty"`    // of a certificate
	Issuer     string            `json:"issuer,omitempty"`     // who else may say that it is the app,
	Audience   string            `json:"audience,omitempty"`   // to whom,
	Claims     map[string]string `json:"claims,omitempty"`     // and what
	Networks   []string          `json:"networks,omitempty"`   // from where a code may be used
	UsedAt     time.Time         `json:"used_at,omitzero"`     // of a code
	UsedFrom   string            `json:"used_from,omitempty"`
}

// NewCredential is one more thing that an identity proves itself with. Without a kind it is a secret for an app and an enrolment
// code for a person; the other kinds are as in [Credential].
type NewCredential struct {
	Kind        string            `json:"kind,omitempty"`
	NotAfter    time.Time         `json:"not_after,omitzero"`
	PublicKey   json.RawMessage   `json:"public_key,omitempty"` // of a key: a JSON Web Key
	Certificate string            `json:"certificate,omitempty"`
	Issuer      string            `json:"issuer,omitempty"`
	Audience    string            `json:"audience,omitempty"`
	Claims      map[string]string `json:"claims,omitempty"`
	Authority   string            `json:"authority,omitempty"` // PEM, of the issuer's TLS certificate
	Networks    []string          `json:"networks,omitempty"`  // of a code for a host
}

// Reading is one item that somebody reads.
type Reading struct {
	Reference string    `json:"reference"` // as it was asked for
	Version   int       `json:"version"`   // that was served last
	Pinned    bool      `json:"pinned"`    // whether it was pinned by its number
	Current   int       `json:"current"`   // that is served now to whoever asks for none; 0 when none is
	Count     int64     `json:"count"`
	First     time.Time `json:"first"`
	Last      time.Time `json:"last"`
}

// KeptRead is a read that an agent served from what it keeps, and that the chest has not recorded itself.
type KeptRead struct {
	Number    uint64    `json:"number"` // of the agent; one that comes twice is the same read
	Reference string    `json:"reference"`
	Version   int       `json:"version"`
	At        time.Time `json:"at"` // by the host's clock
	By        string    `json:"by"` // the user of the host, and the program
	Away      bool      `json:"away,omitempty"`
}

// KeptReads are those of one host; at most 500.
type KeptReads struct {
	Host  string     `json:"host"`
	Reads []KeptRead `json:"reads"`
}

// Sample is a program that reads a value.
type Sample struct {
	Language string `json:"language"`
	Title    string `json:"title"`
	File     string `json:"file"` // what it is called when it is put into a file
	Text     string `json:"text"`
}

// HostEnrolment exchanges a code for a key pair that was made on the host; [Client.EnrolHost] makes it.
type HostEnrolment struct {
	Code      string          `json:"code"`
	PublicKey json.RawMessage `json:"public_key"`
	Assertion string          `json:"assertion"`
}

// HostEnrolled says which app the host is from then on.
type HostEnrolled struct {
	Subject    string `json:"subject"`
	Credential string `json:"credential"`
}

// Seen is when, from where and how an identity was last there; nothing of it for one who never was.
type Seen struct {
	At   time.Time `json:"at,omitzero"`
	Addr string    `json:"addr,omitempty"`
	Via  string    `json:"via,omitempty"`
}

// IdentityChanges change an identity; nil leaves as it is. State stands alone.
type IdentityChanges struct {
	State       *string `json:"state,omitempty"`
	Description *string `json:"description,omitempty"`
	Owner       *string `json:"owner,omitempty"`
	Purpose     *string `json:"purpose,omitempty"`
	Environment *string `json:"environment,omitempty"`
	Confirmed   bool    `json:"confirmed,omitempty"`
}

// NewIdentity registers a person, an app or a team.
type NewIdentity struct {
	Kind        string `json:"kind"` // "person", "app" or "team"
	Name        string `json:"name"`
	Description string `json:"description,omitempty"`
	Owner       string `json:"owner,omitempty"`
	Purpose     string `json:"purpose,omitempty"`     // of an app
	Environment string `json:"environment,omitempty"` // of an app
	NoSecret    bool   `json:"no_secret,omitempty"`   // of an app that proves itself in another way
}

// Issued is a credential, shown once.
type Issued struct {
	ID       string    `json:"id"`
	Kind     string    `json:"kind"`
	Secret   string    `json:"secret"`
	NotAfter time.Time `json:"not_after,omitzero"`
}

// Registered is the answer to a registration.
type Registered struct {
	Identity   Identity `json:"identity"`
	Credential Issued   `json:"credential,omitzero"` // a team has none
	Notes      []string `json:"notes"`               // what is unusual about it
}

// Role is a named set of actions.
type Role struct {
	Name    string   `json:"name"`
	Summary string   `json:"summary"`
	Actions []string `json:"actions"`
	BuiltIn bool     `json:"built_in"`
	InUse   int      `json:"in_use"` // grants of it that are not ended
}

// Grant gives a subject the actions of a role on the targets of a scope.
type Grant struct {
	ID        string    `json:"id"`
	Subject   string    `json:"subject"`
	Effect    string    `json:"effect"` // "allow" or "deny"
	Role      string    `json:"role"`
	Scope     string    `json:"scope"`
	Reason    string    `json:"reason"`
	InForce   bool      `json:"in_force"`
	NotAfter  time.Time `json:"not_after,omitzero"`
	CreatedAt time.Time `json:"created_at"`
	CreatedBy string    `json:"created_by"`
	EndedAt   time.Time `json:"ended_at,omitzero"`
	EndedBy   string    `json:"ended_by"`
	MayEnd    bool      `json:"may_end,omitempty"`   // in lists: whether the caller may end it
	MayRenew  bool      `json:"may_renew,omitempty"` // in lists: whether the caller may let it last longer
	Conditions
}

// Conditions are what must hold besides a grant's subject, role and scope; empty ones always hold.
type Conditions struct {
	Networks []string `json:"networks,omitempty"` // CIDR
	Hours    string   `json:"hours,omitempty"`    // "mon-fri 08:00-18:00 Europe/Lisbon"
	// "app_token" (an app, in any way), "app_secret", "app_key", "app_certificate", "app_issuer", "app_acme", "person_token",
	// "console_session"
	Via         []string `json:"via,omitempty"`
	NeedsReason bool     `json:"needs_reason,omitempty"`
}

// NewGrant gives a grant; without NotAfter and NeverEnds it ends after 90 days.
type NewGrant struct {
	Subject   string    `json:"subject"`
	Effect    string    `json:"effect,omitempty"`
	Role      string    `json:"role"`
	Scope     string    `json:"scope"`
	Reason    string    `json:"reason,omitempty"`
	NotAfter  time.Time `json:"not_after,omitzero"`
	NeverEnds bool      `json:"never_ends,omitempty"`
	Replaces  string    `json:"replaces,omitempty"` // the id of a grant of the same subject that ends in the same instant
	Conditions
}

// Given is the answer to a new grant, which is in force from that moment.
type Given struct {
	Grant Grant    `json:"grant"`
	Notes []string `json:"notes"` // what is unusual about it
}

// Entry is one event of the trail.
type Entry struct {
	Seq       uint64    `json:"seq"`
	At        time.Time `json:"at"`
	Subject   string    `json:"subject"`
	Via       string    `json:"via"`
	Action    string    `json:"action"`
	Target    string    `json:"target"`
	Version   int       `json:"version,omitempty"`
	Outcome   string    `json:"outcome"` // "allowed", "refused" or "failed"
	Reason    string    `json:"reason"`
	Grant     string    `json:"grant"`
	Detail    string    `json:"detail"`
	Stated    string    `json:"stated"` // the reason that the subject stated
	RequestID string    `json:"request_id"`
	Receipt   string    `json:"receipt"`
	Addr      string    `json:"addr"`
	Count     int64     `json:"count,omitempty"` // how many more refusals like it the entry stands for

	// What it was, whatever it was called then; empty in entries from before ids were recorded.
	SubjectID  string `json:"subject_id,omitempty"`
	DrawerID   string `json:"drawer_id,omitempty"`
	ItemID     string `json:"item_id,omitempty"`
	Credential string `json:"credential,omitempty"` // that a token was given for, or that was issued or ended
	Given      string `json:"given,omitempty"`      // the grant that was given or ended
	// How a value was asked for; the detail says it in words.
	Pinned  bool   `json:"pinned,omitempty"`   // by the number of its version
	Grace   bool   `json:"grace,omitempty"`    // after its end, as a rule allows
	OldName bool   `json:"old_name,omitempty"` // by a name that it had before
	Field   string `json:"field,omitempty"`
	Host    string `json:"host,omitempty"` // by an agent on that host
}

// TrailPage is a part of the trail, newest first. NextCursor is empty at the end.
type TrailPage struct {
	Entries    []Entry `json:"entries"`
	NextCursor string  `json:"next_cursor"`
}

// Remedy is the smallest grant that would allow what was refused.
type Remedy struct {
	Subject string `json:"subject"`
	Role    string `json:"role"`
	Scope   string `json:"scope"`
	Command string `json:"command"`
}

// Receipt explains one refusal.
type Receipt struct {
	Entry       Entry   `json:"entry"`
	Description string  `json:"description"` // of who was refused
	Owner       string  `json:"owner"`       // who answers for them
	AllowedNow  bool    `json:"allowed_now"`
	GrantNow    string  `json:"grant_now"`
	Remedy      *Remedy `json:"remedy,omitempty"`
	// NeedsApproval says that a grant allows it, and that a second person has to agree.
	NeedsApproval bool   `json:"needs_approval"`
	Declined      string `json:"declined"` // the last answer, if it was a no
	// Considered are the subject's grants, nearest first, and what kept each from allowing it as it was asked.
	Considered []Considered `json:"considered"`
}

// Considered is a grant held against a question.
type Considered struct {
	Grant Grant  `json:"grant"`
	Miss  string `json:"miss"` // what did not fit, in a sentence; empty when it fits
}

// Verdict answers whether a subject may do something.
type Verdict struct {
	Allowed    bool         `json:"allowed"`
	Grant      string       `json:"grant"`
	Reason     string       `json:"reason"`
	Remedy     *Remedy      `json:"remedy,omitempty"`
	Considered []Considered `json:"considered"`
	Version    int          `json:"version,omitempty"`    // of an item's value that would be read: what is served
	NotServed  string       `json:"not_served,omitempty"` // why nothing is served, although it is allowed
}

// Holder is a subject that has an action on a target.
type Holder struct {
	Subject string  `json:"subject"`
	State   string  `json:"state"`
	Grants  []Grant `json:"grants"` // that give it; their conditions say when
	Unless  []Grant `json:"unless"` // that deny it under conditions
}

// Paths are the ways to an action on a target, the shortest first.
type Paths struct {
	Now      []string `json:"now"`      // who may do it now
	Alone    []Way    `json:"alone"`    // who could come to it by themselves
	Letting  []Way    `json:"letting"`  // who could let somebody else gain it
	Searched int      `json:"searched"` // how many states were looked at
	Cut      bool     `json:"cut"`      // there were too many to look at all of them
}

// Way is how somebody could come to it.
type Way struct {
	Who   string    `json:"who"`
	Alike []string  `json:"alike"` // others who could in the same way
	Steps []WayStep `json:"steps"`
}

// WayStep is one thing on a way, by whom.
type WayStep struct {
	By   string `json:"by"`
	Does string `json:"does"`
}

// Reach is what a subject may do on one target; the chest has an empty one.
type Reach struct {
	Target  string   `json:"target"`
	Actions []string `json:"actions"`
}

// RefusalGroup is one question that was refused, however often it was asked, and that would be refused now.
type RefusalGroup struct {
	Subject string    `json:"subject"`
	Owner   string    `json:"owner"`
	Action  string    `json:"action"`
	Target  string    `json:"target"`
	Reason  string    `json:"reason"`
	Count   int       `json:"count"`
	First   time.Time `json:"first"`
	Last    time.Time `json:"last"`
	Receipt string    `json:"receipt"` // of the newest one
	Remedy  *Remedy   `json:"remedy,omitempty"`
	MayGive bool      `json:"may_give"` // whether the caller may give the remedy
}

// Value is a value as the API gives it.
type Value struct {
	Reference string       `json:"reference"`
	Version   int          `json:"version"`
	Shape     string       `json:"shape"`
	Fields    []FieldValue `json:"fields,omitempty"` // all of them, when no one field was asked for
	Encoding  string       `json:"encoding"`         // "base64"
	Value     string       `json:"value"`
	Size      int          `json:"size"`
	CreatedAt time.Time    `json:"created_at"`
	NotAfter  time.Time    `json:"not_after,omitzero"`   // when the version stops being usable
	Until     time.Time    `json:"valid_until,omitzero"` // when the same question may have another answer by itself
	Access    time.Time    `json:"access_ends,omitzero"` // when what allows you to read it ends
	// for how many seconds an agent on a host may serve it while the chest is away; 0 for not at all
	KeepFor int  `json:"keep_for,omitempty"`
	Grace   bool `json:"grace,omitempty"` // it has ended, and a rule lets it be served for a while
	// Of a value that an agent served: whether it was from what it keeps, and whether the chest was away then.
	Kept bool `json:"kept,omitempty"`
	Away bool `json:"away,omitempty"`
}

// Field is what is in a field; nil if there is none of that name. The caller wipes it.
func (v Value) Field(name string) []byte {
	for _, f := range v.Fields {
		if content, err := base64.StdEncoding.DecodeString(f.Value); f.Name == name && err == nil {
			return content
		}
	}
	return nil
}

// Problem is an error as the API tells it (RFC 9457). It implements error.
type Problem struct {
	Type      string  `json:"type"`
	Title     string  `json:"title"`
	Status    int     `json:"status"`
	Detail    string  `json:"detail"`
	Code      string  `json:"code"` // stable
	RequestID string  `json:"request_id"`
	Field     string  `json:"field,omitempty"`
	Reason    string  `json:"reason,omitempty"`
	Receipt   string  `json:"receipt,omitempty"`
	Subject   string  `json:"subject,omitempty"`
	Action    string  `json:"action,omitempty"`
	Target    string  `json:"target,omitempty"`
	Remedy    *Remedy `json:"remedy,omitempty"`
	// RetryAfter is how long to wait before asking again; zero when the answer does not say.
	RetryAfter time.Duration `json:"-"`
}

func (p *Problem) Error() string {
	if p.Receipt != "" {
		return p.Detail + " (receipt " + p.Receipt + ")"
	}
	return p.Detail
}

// ManifestNeeds is what a manifest needs.
type ManifestNeeds struct {
	App          string             `json:"app,omitempty"`
	Environments []EnvironmentNeeds `json:"environments"`
}

// EnvironmentNeeds is what it needs in one environment; the name is empty in a manifest without environments.
type EnvironmentNeeds struct {
	Name  string         `json:"name"`
	Needs []ManifestNeed `json:"needs"`
}

// ManifestNeed is one value, and how it is handed over, in a few words.
type ManifestNeed struct {
	Reference string `json:"reference"`
	Delivery  string `json:"delivery"`
}

// HostKey is the key under which a host may keep values on its disk.
type HostKey struct {
	Key []byte `json:"key"` // 32 bytes
}

package client

import (
	"context"
	"net/http"
	"net/url"
	"time"
)

// The shapes and calls of roles, requests, the policy as text, and the reports about access.

// NewRole makes or changes a custom role.
type NewRole struct {
	Name        string   `json:"name"`
	Description string   `json:"description,omitempty"`
	Actions     []string `json:"actions"`
}

// RoleStored is the answer to a new or changed role.
type RoleStored struct {
	Role  Role     `json:"role"`
	Notes []string `json:"notes"`
}

// Proposal is a change of access to look at before it is made: one of its parts.
type Proposal struct {
	Give *NewGrant `json:"give,omitempty"`
	End  string    `json:"end,omitempty"` // the id of a grant
	Role *NewRole  `json:"role,omitempty"`
}

// Change is what becomes of one subject on some targets. "drawer/**" is a drawer with all that is in it, and an empty
// target is the chest.
type Change struct {
	Subject string   `json:"subject"`
	Gained  []string `json:"gained"`
	Lost    []string `json:"lost"`
	Altered []string `json:"altered"` // kept, under other conditions or until another end
	Targets []string `json:"targets"`
}

// Difference is what a change does to who may do what, on what exists now.
type Difference struct {
	Changes []Change `json:"changes"`
	Notes   []string `json:"notes"`
}

// PolicyDifference is what applying a policy would do, or did.
type PolicyDifference struct {
	Difference
	Mark     string              `json:"mark"`  // of the access state it was compared with; after applying, of the new one
	Stale    bool                `json:"stale"` // whether the file is based on another state
	Steps    []string            `json:"steps"`
	Lockout  bool                `json:"lockout"` // whether nobody could give access any more
	Failures []FailedExpectation `json:"failures"`
}

// FailedExpectation is an expectation of a policy that its own grants do not meet.
type FailedExpectation struct {
	Line        int    `json:"line"`
	Expectation string `json:"expectation"`
	Why         string `json:"why"`
}

// Applying is a policy to apply. Onto is the mark of the access state it is for; empty for the one that it names itself.
type Applying struct {
	Policy       string `json:"policy"`
	Onto         string `json:"onto,omitempty"`
	AllowLockout bool   `json:"allow_lockout,omitempty"`
}

// Request is what somebody asks somebody else to allow, and the answer.
type Request struct {
	ID         string    `json:"id"`
	Kind       string    `json:"kind"` // "grant" or "read"
	Asker      string    `json:"asker"`
	Subject    string    `json:"subject"` // for whom
	Action     string    `json:"action"`
	Target     string    `json:"target"`
	Reason     string    `json:"reason"`
	Receipt    string    `json:"receipt"`
	Grant      *NewGrant `json:"grant,omitempty"`
	State      string    `json:"state"` // "open", "allowed", "declined" or "withdrawn"
	Answer     string    `json:"answer"`
	AnsweredAt time.Time `json:"answered_at,omitzero"`
	AnsweredBy string    `json:"answered_by"`
	GrantID    string    `json:"grant_id"`       // the grant that was given
	Until      time.Time `json:"until,omitzero"` // how long a read is allowed
	CreatedAt  time.Time `json:"created_at"`
	// MayAnswer says whether the caller may say no to it, and MayAllow whether they may say yes; in lists.
	MayAnswer bool `json:"may_answer,omitempty"`
	MayAllow  bool `json:"may_allow,omitempty"`
}

// NewRequest asks for what a receipt says was refused, for a grant, or to read an item whose reads a second person has to agree to: one of
// the three.
type NewRequest struct {
	Receipt string    `json:"receipt,omitempty"`
	Grant   *NewGrant `json:"grant,omitempty"`
	Read    string    `json:"read,omitempty"` // an item, such as ticketing-prod/db-password
	Reason  string    `json:"reason"`
}

// Answer to a request. A no says why.
type Answer struct {
	Allow   bool      `json:"allow"`
	Because string    `json:"because,omitempty"`
	Until   time.Time `json:"until,omitzero"` // the end of the grant or of the read
}

// Finding is one thing that could be tighter, and what would make it so.
type Finding struct {
	ID       string    `json:"id"` // the same for the same finding and proposal in every list
	Kind     string    `json:"kind"`
	Subject  string    `json:"subject"`
	Target   string    `json:"target"`
	Grant    string    `json:"grant"`
	Detail   string    `json:"detail"`
	LastUsed time.Time `json:"last_used,omitzero"`
	End      bool      `json:"end"`               // proposed: end the grant
	Suspend  bool      `json:"suspend"`           // proposed: suspend the subject
	Instead  *NewGrant `json:"instead,omitempty"` // proposed: give this in the grant's place
	Command  string    `json:"command"`
}

// Owned is what somebody answers for.
type Owned struct {
	Apps    []string `json:"apps"` // and teams
	Drawers []string `json:"drawers"`
	Items   []string `json:"items"`
	// MasterKeys stay with an owner whose things are handed over by somebody who may not withdraw them.
	MasterKeys []string `json:"master_keys"`
	Grants     []Grant  `json:"grants"` // that they hold themselves
}

// Matrix is who may do what in which drawer.
type Matrix struct {
	Drawers    []string    `json:"drawers"`
	Rows       []MatrixRow `json:"rows"`
	NextCursor string      `json:"next_cursor"` // empty at the end
}

// MatrixRow is one person or app; its cells are in the order of the drawers.
type MatrixRow struct {
	Subject string       `json:"subject"`
	State   string       `json:"state"`
	Cells   []MatrixCell `json:"cells"`
}

// MatrixCell is what a subject may do on a drawer or on anything in it.
type MatrixCell struct {
	Actions    []string `json:"actions"`
	Conditions []string `json:"conditions"` // those given only under conditions or with approval
	Partial    []string `json:"partial"`    // those not given on everything in the drawer
}

// NewImport is a plaintext file to be moved into a drawer.
type NewImport struct {
	Format   string `json:"format"`  // "dotenv", "json", "yaml", "csv" or "properties"
	Content  string `json:"content"` // base64
	Encoding string `json:"encoding"`
	Replace  bool   `json:"replace,omitempty"` // add a version to items that exist already
	Each     bool   `json:"each,omitempty"`    // put in what can be, instead of nothing unless all can be
	Preview  bool   `json:"preview,omitempty"`

	Except []string `json:"except,omitempty"` // names in the file that are left where they are

	NotAfter time.Time `json:"not_after,omitzero"` // the end of every version that is put in
	Note     string    `json:"note,omitempty"`
	Owner    string    `json:"owner,omitempty"` // of items that are not there yet
}

// Imported is what became, or would become, of one entry of a file.
type Imported struct {
	Line   int    `json:"line"`
	Name   string `json:"name"` // in the file
	Item   string `json:"item"`
	Result string `json:"result"` // "new", "changed", "same", "exists", "invalid" or "refused"
	Detail string `json:"detail"`
}

// ImportReport is what became of a file.
type ImportReport struct {
	Done     bool            `json:"done"` // whether anything was put in
	Items    []Imported      `json:"items"`
	Problems []ImportProblem `json:"problems"`
}

// ImportProblem is something in a file that could not be read.
type ImportProblem struct {
	Line int    `json:"line"`
	Text string `json:"text"`
}

// Import moves a plaintext file into a drawer.
func (c *Client) Import(ctx context.Context, drawer string, n NewImport) (r ImportReport, err error) {
	return r, c.post(lengthy(ctx), "/api/drawers/"+url.PathEscape(drawer)+"/import", n, &r)
}

// AddRole makes a custom role.
func (c *Client) AddRole(ctx context.Context, n NewRole) (r RoleStored, err error) {
	return r, c.post(ctx, "/api/roles", n, &r)
}

// ChangeRole changes what a custom role can do, at once for everyone who has it.
func (c *Client) ChangeRole(ctx context.Context, n NewRole) (r RoleStored, err error) {
	return r, c.do(ctx, http.MethodPut, "/api/roles/"+url.PathEscape(n.Name), n, &r, nil)
}

// RemoveRole removes a custom role that no grant has any more.
func (c *Client) RemoveRole(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, "/api/roles/"+url.PathEscape(name), nil, nil, nil)
}

// Preview says what a change of access would do.
func (c *Client) Preview(ctx context.Context, p Proposal) (d Difference, err error) {
	return d, c.post(ctx, "/api/ask/difference", p, &d)
}

// Matrix asks who may do what in which drawer.
func (c *Client) Matrix(ctx context.Context) (m Matrix, err error) {
	return m, c.get(ctx, "/api/ask/matrix", &m)
}

// AskFor makes a request.
func (c *Client) AskFor(ctx context.Context, n NewRequest) (r Request, err error) {
	return r, c.post(ctx, "/api/requests", n, &r)
}

// Requests lists the requests that the caller made, is asked to answer, or that are about them.
func (c *Client) Requests(ctx context.Context) ([]Request, error) {
	return listOf[Request](ctx, c, "/api/requests", "requests")
}

// AnswerRequest allows or declines a request.
func (c *Client) AnswerRequest(ctx context.Context, id string, answer Answer) (r Request, err error) {
	return r, c.post(ctx, "/api/requests/"+url.PathEscape(id)+"/answer", answer, &r)
}

// Withdraw takes back a request of the caller's own.
func (c *Client) Withdraw(ctx context.Context, id string) (r Request, err error) {
	return r, c.do(ctx, http.MethodDelete, "/api/requests/"+url.PathEscape(id), nil, &r, nil)
}

// DeclineRefusal says no to what a receipt says was refused.
func (c *Client) DeclineRefusal(ctx context.Context, receipt, because string) (r Request, err error) {
	return r, c.post(ctx, "/api/receipts/"+url.PathEscape(receipt)+"/decline", map[string]string{"because": because}, &r)
}

// Policy exports the whole access state as YAML.
func (c *Client) Policy(ctx context.Context) (string, error) {
	return memberOf[string](ctx, c, http.MethodGet, "/api/policy", nil, "policy")
}

// DiffPolicy says what applying a policy would change.
func (c *Client) DiffPolicy(ctx context.Context, policy string) (d PolicyDifference, err error) {
	return d, c.post(lengthy(ctx), "/api/policy/difference", map[string]string{"policy": policy}, &d)
}

// ApplyPolicy makes the access state what a policy says, all of it or nothing.
func (c *Client) ApplyPolicy(ctx context.Context, p Applying) (d PolicyDifference, err error) {
	return d, c.do(lengthy(ctx), http.MethodPut, "/api/policy", p, &d, nil)
}

// Tighten lists what could be tighter, from what was used since a moment; a zero time means 30 days.
func (c *Client) Tighten(ctx context.Context, since time.Time) ([]Finding, error) {
	return listOf[Finding](lengthy(ctx), c, "/api/tighten?"+queryOf(nil, map[string]time.Time{"since": since}).Encode(), "findings")
}

// Owned lists what a subject answers for.
func (c *Client) Owned(ctx context.Context, subject string) (o Owned, err error) {
	return o, c.get(ctx, "/api/identities/"+url.PathEscape(subject)+"/owned", &o)
}

// HandOver gives everything that one subject owns to another.
func (c *Client) HandOver(ctx context.Context, from, to string) (o Owned, err error) {
	return o, c.post(lengthy(ctx), "/api/identities/"+url.PathEscape(from)+"/hand-over", map[string]string{"to": to}, &o)
}

// ChangeIdentity changes the description, owner, purpose or environment of an identity.
func (c *Client) ChangeIdentity(ctx context.Context, subject string, changes IdentityChanges) (i Identity, err error) {
	return i, c.do(ctx, http.MethodPatch, "/api/identities/"+url.PathEscape(subject), changes, &i, nil)
}

// SetStewardsAside ends the time of every steward; only the machine itself brings them back.
func (c *Client) SetStewardsAside(ctx context.Context) ([]string, error) {
	return memberOf[[]string](ctx, c, http.MethodPost, "/api/steward/set-aside", nil, "set_aside")
}

// Examine checks every row that decides access; it returns what was changed outside Tansu.
func (c *Client) Examine(ctx context.Context) ([]string, error) {
	return memberOf[[]string](lengthy(ctx), c, http.MethodPost, "/api/examine", nil, "touched")
}

// Preflight asks about up to 100 values that somebody needs, before anything runs.
type Preflight struct {
	Subject    string   `json:"subject,omitempty"` // empty for the caller
	References []string `json:"references"`
	Addr       string   `json:"addr,omitempty"` // circumstances, when it is about somebody else
	Via        string   `json:"via,omitempty"`
	Reason     string   `json:"reason,omitempty"`
}

// Check is what would come of reading one value now.
type Check struct {
	Reference string    `json:"reference"`
	Served    bool      `json:"served"`
	Reason    string    `json:"reason,omitempty"` // why not: a stable code
	Detail    string    `json:"detail,omitempty"`
	Remedy    *Remedy   `json:"remedy,omitempty"`
	Version   int       `json:"version,omitempty"`
	NotAfter  time.Time `json:"not_after,omitzero"`
	Until     time.Time `json:"valid_until,omitzero"`
	Access    time.Time `json:"access_ends,omitzero"` // when what allows it ends
	Warning   string    `json:"warning,omitempty"`    // what works now and will not for long
	Revoked   string    `json:"revoked,omitempty"`    // of a certificate: why its authority has revoked it

	Environment string `json:"environment,omitempty"` // that of the drawer it is in, when it would be served
}

// Check answers a preflight, in the order of its references. No value is opened for it.
func (c *Client) Check(ctx context.Context, p Preflight) ([]Check, error) {
	return memberOf[[]Check](ctx, c, http.MethodPost, "/api/preflight", p, "checks")
}

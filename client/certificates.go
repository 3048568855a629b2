package client

import (
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"strconv"
	"time"
)

// Certificate is what is known of a certificate, an authority or a profile without opening it.
type Certificate struct {
	Subject     string    `json:"subject"`     // the distinguished name
	CommonName  string    `json:"common_name"` // of the subject; empty for none
	Names       []string  `json:"names"`       // host names, addresses, URIs and mail addresses
	Issuer      string    `json:"issuer"`
	Serial      string    `json:"serial"` // in hex
	NotBefore   time.Time `json:"not_before,omitzero"`
	NotAfter    time.Time `json:"not_after,omitzero"`
	KeyType     string    `json:"key_type"`
	Usages      []string  `json:"usages"`      // server, client, code, mail
	Fingerprint string    `json:"fingerprint"` // SHA-256 of the certificate, in hex
	SelfSigned  bool      `json:"self_signed"`
	Renewable   bool      `json:"renewable"`         // it was issued here, by a profile
	Revoked     string    `json:"revoked,omitempty"` // the reason for which its authority has revoked it; empty for none
	Authority   bool      `json:"authority"`         // it may sign others
	PathLength  *int      `json:"path_length,omitempty"`
	Within      []string  `json:"within,omitempty"` // of an authority: the names and networks that it may sign for; empty for any
	// Request is the request (PKCS #10, in PEM) of a key that waits for its certificate; empty for none.
	Request string              `json:"request,omitempty"`
	Profile *CertificateProfile `json:"profile,omitempty"` // of a profile
}

// CertificateProfile says what an authority certifies. It is the value of an item of the shape profile, as JSON.
type CertificateProfile struct {
	Authority string   `json:"authority"`           // an item in the same drawer
	Names     []string `json:"names,omitempty"`     // patterns of host names: "*" is anything within a label
	Networks  []string `json:"networks,omitempty"`  // such as 10.1.0.0/16
	URIs      []string `json:"uris,omitempty"`      // patterns
	Mail      []string `json:"mail,omitempty"`      // patterns of mail addresses
	Subjects  []string `json:"subjects,omitempty"`  // patterns of common names that are none of the names
	Wildcards bool     `json:"wildcards,omitempty"` // whether a certificate may be for all names below one
	KeyTypes  []string `json:"key_types,omitempty"` // empty for all that are good
	Usages    []string `json:"usages,omitempty"`    // empty for server
	Longest   string   `json:"longest"`             // the longest life, such as 90d
	// Of certificates of SSH; see docs/certificates.md.
	SSH        string   `json:"ssh,omitempty"` // user or host; empty for X.509
	Principals []string `json:"principals,omitempty"`
	Extensions []string `json:"extensions,omitempty"`
	Command    string   `json:"command,omitempty"`
	// Of JSON Web Tokens; see docs/tokens.md.
	JWT *JWTProfile `json:"jwt,omitempty"`
}

// JWTProfile says which JSON Web Tokens (RFC 7519) a key signs.
type JWTProfile struct {
	Issuer    string                     `json:"issuer"`
	Audiences []string                   `json:"audiences"`           // patterns: "*" is anything
	Subjects  []string                   `json:"subjects,omitempty"`  // patterns; empty for whoever asks
	Type      string                     `json:"type,omitempty"`      // empty for JWT
	Algorithm string                     `json:"algorithm,omitempty"` // empty for the key's usual one
	Claims    map[string][]string        `json:"claims,omitempty"`    // what may be asked for, with patterns
	Always    map[string]json.RawMessage `json:"always,omitempty"`    // what each token has
}

// NewJWT is what a token is wanted for.
type NewJWT struct {
	Audiences []string            `json:"audiences"`
	Subject   string              `json:"subject,omitempty"` // empty for whoever asks
	Claims    map[string][]string `json:"claims,omitempty"`
	Life      string              `json:"life,omitempty"` // such as 5m; empty for the longest
}

// JWT is a token that was signed. It is a credential: keep it as a value is kept.
type JWT struct {
	Token    string    `json:"token"`
	ID       string    `json:"id"` // jti
	Subject  string    `json:"subject"`
	KeyID    string    `json:"key_id"`
	NotAfter time.Time `json:"not_after"`
}

// IssueJWT has the key of a profile sign a token.
func (c *Client) IssueJWT(ctx context.Context, drawer, profile string, n NewJWT) (made JWT, err error) {
	return made, c.post(ctx, "/api/drawers/"+url.PathEscape(drawer)+"/profiles/"+url.PathEscape(profile)+"/tokens", n, &made)
}

// NewAuthority is what is said of a new authority. One that is brought is Certificate, its chain in PEM, and Private, its key in PEM; then
// nothing is said from Subject to Under.
type NewAuthority struct {
	Name        string   `json:"name"`
	Description string   `json:"description,omitempty"`
	Owner       string   `json:"owner,omitempty"`
	ServedAt    string   `json:"served_at,omitempty"` // the URL of the chest for whoever checks its certificates
	Subject     string   `json:"subject,omitempty"`
	Life        string   `json:"life,omitempty"` // such as 3650d
	PathLength  *int     `json:"path_length,omitempty"`
	Within      []string `json:"within,omitempty"`
	KeyType     string   `json:"key_type,omitempty"`
	Under       string   `json:"under,omitempty"` // the authority that certifies it; empty for none
	Certificate string   `json:"certificate,omitempty"`
	Private     []byte   `json:"private,omitempty"`
}

// Authority is what is known of an authority.
type Authority struct {
	Item     Item        `json:"item"`
	Chain    string      `json:"chain"`  // in PEM, its own first
	Public   string      `json:"public"` // the path of what it says to anybody: below it are crl, ocsp and certificate
	Profiles []ProfileOf `json:"profiles"`
	Good     int         `json:"good"`   // certificates that are valid
	Ending   int         `json:"ending"` // of these, those that end within 30 days
	Ended    int         `json:"ended"`
	Revoked  int         `json:"revoked"`
}

// ProfileOf is a profile of an authority.
type ProfileOf struct {
	Reference   string             `json:"reference"`
	Description string             `json:"description"`
	Profile     CertificateProfile `json:"profile"`
}

// Order is what a certificate is wanted for: a request (PKCS #10, in PEM), or names for a key that is made in the chest and goes into an
// item.
type Order struct {
	Request     string   `json:"request,omitempty"`
	PublicKey   string   `json:"public_key,omitempty"` // of SSH: a line of authorized_keys, whose certificate is for the names as principals
	Names       []string `json:"names,omitempty"`
	Subject     string   `json:"subject,omitempty"` // the common name; empty for none
	KeyType     string   `json:"key_type,omitempty"`
	Life        string   `json:"life,omitempty"` // empty for the longest
	Into        string   `json:"into,omitempty"` // DRAWER/ITEM
	Description string   `json:"description,omitempty"`
	Owner       string   `json:"owner,omitempty"`
	Staged      bool     `json:"staged,omitempty"`
}

// MadeCertificate is a certificate that was made, and where it was put.
type MadeCertificate struct {
	Certificate string      `json:"certificate"` // with its chain, in PEM, or the line of SSH; empty while it was only requested
	Request     string      `json:"request,omitempty"`
	Facts       Certificate `json:"facts"`
	Item        *Item       `json:"item,omitempty"`
	Version     *Version    `json:"version,omitempty"`
}

// IssuedCertificate is a certificate that an authority has issued.
type IssuedCertificate struct {
	Serial      string    `json:"serial"`
	State       string    `json:"state"`   // good, ended or revoked
	Subject     string    `json:"subject"` // the common name
	Names       []string  `json:"names"`
	KeyType     string    `json:"key_type"`
	Fingerprint string    `json:"fingerprint"`
	NotBefore   time.Time `json:"not_before"`
	NotAfter    time.Time `json:"not_after"`
	Profile     string    `json:"profile,omitempty"` // by its name of today, for who may list it
	Place       string    `json:"place,omitempty"`   // the item that it was put into, for who may list it
	CreatedAt   time.Time `json:"created_at"`
	CreatedBy   string    `json:"created_by"`
	RevokedAt   time.Time `json:"revoked_at,omitzero"`
	RevokedBy   string    `json:"revoked_by,omitempty"`
	Reason      string    `json:"reason,omitempty"`
}

// IssuedFilter selects issued certificates. The zero value selects all.
type IssuedFilter struct {
	Search string // in names, the subject or the serial number
	State  string // good, ended or revoked
	Limit  int    // of one page; 0 for all of them
	Cursor string
}

func authorityPath(drawer, authority string) string {
	return "/api/drawers/" + url.PathEscape(drawer) + "/authorities/" + url.PathEscape(authority)
}

// CreateAuthority makes an authority, or takes one that is brought.
func (c *Client) CreateAuthority(ctx context.Context, drawer string, n NewAuthority) (stored Stored, err error) {
	err = c.do(ctx, http.MethodPost, "/api/drawers/"+url.PathEscape(drawer)+"/authorities", n, &stored, nil)
	return stored, err
}

// Authority tells about an authority.
func (c *Client) Authority(ctx context.Context, drawer, authority string) (answer Authority, err error) {
	err = c.do(ctx, http.MethodGet, authorityPath(drawer, authority), nil, &answer, nil)
	return answer, err
}

// RenewAuthority certifies an authority again, with the same key, for a life from now on (90d); under is the authority above it, if there
// is one.
func (c *Client) RenewAuthority(ctx context.Context, drawer, authority, life, under string) (stored Stored, err error) {
	err = c.do(ctx, http.MethodPost, authorityPath(drawer, authority)+"/renew", map[string]string{"life": life, "under": under}, &stored, nil)
	return stored, err
}

// Issued lists what an authority has issued, the newest first, and the cursor of the next page; empty at the end.
func (c *Client) Issued(ctx context.Context, drawer, authority string, f IssuedFilter) (list []IssuedCertificate, next string, err error) {
	query := url.Values{}
	for name, text := range map[string]string{"q": f.Search, "state": f.State, "cursor": f.Cursor} {
		if text != "" {
			query.Set(name, text)
		}
	}
	if f.Limit != 0 {
		query.Set("limit", strconv.Itoa(f.Limit))
	}
	path := authorityPath(drawer, authority) + "/certificates"
	if len(query) > 0 {
		path += "?" + query.Encode()
	}
	var answer struct {
		Certificates []IssuedCertificate `json:"certificates"`
		Next         string              `json:"next"`
	}
	err = c.do(ctx, http.MethodGet, path, nil, &answer, nil)
	return answer.Certificates, answer.Next, err
}

// RevokeCertificate says that a certificate is not to be trusted any more, and why: unspecified, key_compromise, affiliation_changed,
// superseded, cessation_of_operation or privilege_withdrawn.
func (c *Client) RevokeCertificate(ctx context.Context, drawer, authority, serial, reason string) (one IssuedCertificate, err error) {
	body := map[string]string{"serial": serial, "reason": reason}
	err = c.do(ctx, http.MethodPost, authorityPath(drawer, authority)+"/revoke", body, &one, nil)
	return one, err
}

// IssueCertificate has a certificate issued by a profile.
func (c *Client) IssueCertificate(ctx context.Context, drawer, profile string, o Order) (made MadeCertificate, err error) {
	path := "/api/drawers/" + url.PathEscape(drawer) + "/profiles/" + url.PathEscape(profile) + "/certificates"
	err = c.do(ctx, http.MethodPost, path, o, &made, nil)
	return made, err
}

func certificatePath(drawer, item, what string) string {
	return "/api/drawers/" + url.PathEscape(drawer) + "/certificates/" + url.PathEscape(item) + "/" + what
}

// RenewCertificate has a certificate issued again for a new key, by the profile that it was made by, as a new version of its item.
func (c *Client) RenewCertificate(ctx context.Context, drawer, item, life string, staged bool) (made MadeCertificate, err error) {
	err = c.do(ctx, http.MethodPost, certificatePath(drawer, item, "renew"), map[string]any{"life": life, "staged": staged}, &made, nil)
	return made, err
}

// SelfSigned makes a certificate that is signed by its own key, into an item.
func (c *Client) SelfSigned(ctx context.Context, drawer, item string, o Order) (made MadeCertificate, err error) {
	err = c.do(ctx, http.MethodPost, certificatePath(drawer, item, "self-signed"), o, &made, nil)
	return made, err
}

// RequestCertificate makes a key and a request for a certificate that somebody else signs.
func (c *Client) RequestCertificate(ctx context.Context, drawer, item string, o Order) (made MadeCertificate, err error) {
	err = c.do(ctx, http.MethodPost, certificatePath(drawer, item, "request"), o, &made, nil)
	return made, err
}

// AnswerCertificate puts the certificate that somebody else has signed, with its chain in PEM, beside the key that waits for it.
func (c *Client) AnswerCertificate(ctx context.Context, drawer, item, chain string, staged bool) (stored Stored, err error) {
	body := map[string]any{"certificate": chain, "staged": staged}
	err = c.do(ctx, http.MethodPost, certificatePath(drawer, item, "answer"), body, &stored, nil)
	return stored, err
}

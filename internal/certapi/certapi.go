// Package certapi is the part of the HTTP interface that is about certificates: a table of routes, which package httpapi serves with
// its own.
package certapi

import (
	"encoding/base64"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"tansu/client"
	"tansu/internal/certs"
	"tansu/internal/chest"
	"tansu/internal/core/cert"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/route"
	"tansu/internal/shelf"
	"tansu/internal/wire"
)

const (
	authorityPath   = "/api/drawers/:drawer/authorities/:authority"
	certificatePath = "/api/drawers/:drawer/certificates/:item/"
	publicPath      = certs.PublicPath + ":authority"
)

// Routes is the table.
var Routes = []route.Route[*certs.Certs]{
	route.New("POST", "/api/drawers/:drawer/authorities", "", createAuthority),
	route.New("GET", authorityPath, "", authority),
	route.New("POST", authorityPath+"/renew", "", renewAuthority),
	route.New("GET", authorityPath+"/certificates", "q state cursor limit", issued),
	route.New("POST", authorityPath+"/revoke", "", revoke),
	route.New("POST", "/api/drawers/:drawer/profiles/:profile/certificates", "", issue),
	route.New("POST", "/api/drawers/:drawer/profiles/:profile/tokens", "", issueJWT),
	route.New("POST", certificatePath+"renew", "", renew),
	route.New("POST", certificatePath+"self-signed", "", selfSigned),
	route.New("POST", certificatePath+"request", "", request),
	route.New("POST", certificatePath+"answer", "", answer),
	route.Open("GET", publicPath+certs.ListPath, "", list),
	route.Open("GET", publicPath+certs.CertificatePath, "", certificate),
	route.Open("POST", publicPath+certs.StatusPath, "", status),
	route.Open("GET", publicPath+certs.StatusPath+"/:question", "", status),
}

// Limits of bodies, in bytes.
const (
	body     = 512 << 10 // chains and requests
	question = 16 << 10  // about one certificate
)

func decode(c *route.Call, into any) error { return c.Decode(body, into) }

// named is the item that a path names.
func named(c *route.Call, what string) (ref reference.Reference, err error) {
	for _, name := range []string{"drawer", what} {
		if err := reference.CheckName(c.Path(name)); err != nil {
			return ref, chest.Invalid(name, "%s", err)
		}
	}
	return reference.Reference{Drawer: c.Path("drawer"), Item: c.Path(what)}, nil
}

// asked reads the item that a path names, and the body.
func asked(c *route.Call, what string, into any) (ref reference.Reference, err error) {
	if ref, err = named(c, what); err == nil {
		err = decode(c, into)
	}
	return ref, err
}

// itemIn reads DRAWER/ITEM in a member of a body; the zero value for nothing.
func itemIn(member, text string) (ref reference.Reference, err error) {
	if text == "" {
		return ref, nil
	}
	ref, err = reference.Parse(text)
	if err != nil || ref.Item == "" || ref.Version != 0 || ref.Field != "" {
		return ref, chest.Invalid(member, "%s is an item, such as harbour-gates-prod/gate-1", member)
	}
	return ref, nil
}

func lifeOf(text string) (time.Duration, error) {
	if text == "" {
		return 0, nil
	}
	span, err := lifecycle.ParseSpan(text)
	if err != nil {
		return 0, chest.Invalid("life", "%s", err)
	}
	return time.Duration(span), nil
}

func createAuthority(s *certs.Certs, c *route.Call) error {
	var in client.NewAuthority
	if err := decode(c, &in); err != nil {
		return err
	}
	if err := reference.CheckName(in.Name); err != nil {
		return chest.Invalid("name", "%s", err)
	}
	n := certs.NewAuthority{KeyType: in.KeyType, Description: in.Description, Owner: in.Owner, ServedAt: in.ServedAt,
		Certificate: []byte(in.Certificate), Private: secretvalue.New(in.Private),
		Below: cert.Below{Subject: in.Subject, PathLength: in.PathLength, Within: in.Within}}
	var err error
	if n.Under, err = itemIn("under", in.Under); err != nil {
		return err
	}
	if n.Life, err = lifeOf(in.Life); err != nil {
		return err
	}
	it, version, err := s.CreateAuthority(c.Caller, reference.Reference{Drawer: c.Path("drawer"), Item: in.Name}, n)
	return created(c, it, version, err)
}

func created(c *route.Call, it shelf.Item, version shelf.Version, err error) error {
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, client.Stored{Item: wire.Item(it), Version: wire.Version(version)})
}

func authority(s *certs.Certs, c *route.Call) error {
	ref, err := named(c, "authority")
	if err != nil {
		return err
	}
	a, err := s.Authority(c.Caller, ref)
	if err != nil {
		return err
	}
	answer := client.Authority{Item: wire.Item(a.Item), Chain: string(cert.PEM(a.Chain)), Public: a.Public, Profiles: []client.ProfileOf{},
		Good: a.Good, Ending: a.Ending, Ended: a.Ended, Revoked: a.Revoked}
	for _, p := range a.Profiles {
		answer.Profiles = append(answer.Profiles, client.ProfileOf{Reference: p.Reference, Description: p.Description,
			Profile: wire.Profile(&p.Profile)})
	}
	return c.JSON(http.StatusOK, answer)
}

func renewAuthority(s *certs.Certs, c *route.Call) error {
	var in struct {
		Life  string `json:"life"`
		Under string `json:"under"`
	}
	ref, err := asked(c, "authority", &in)
	if err != nil {
		return err
	}
	life, err := lifeOf(in.Life)
	if err != nil {
		return err
	}
	under, err := itemIn("under", in.Under)
	if err != nil {
		return err
	}
	it, version, err := s.RenewAuthority(c.Caller, ref, under, life)
	return created(c, it, version, err)
}

func issued(s *certs.Certs, c *route.Call) error {
	ref, err := named(c, "authority")
	if err != nil {
		return err
	}
	w := certs.Wanted{Search: c.QueryParam("q"), State: c.QueryParam("state"), Before: c.QueryParam("cursor")}
	if text := c.QueryParam("limit"); text != "" {
		if w.Most, err = strconv.Atoi(text); err != nil || w.Most < 1 || w.Most > 1000 {
			return chest.Invalid("limit", "limit is between 1 and 1000")
		}
	}
	rows, more, err := s.IssuedBy(c.Caller, ref, w)
	if err != nil {
		return err
	}
	var page struct {
		Certificates []client.IssuedCertificate `json:"certificates"`
		Next         string                     `json:"next"`
	}
	page.Certificates = []client.IssuedCertificate{}
	for _, row := range rows {
		page.Certificates = append(page.Certificates, issuedJSON(row))
	}
	if more {
		page.Next = rows[len(rows)-1].Serial
	}
	return c.JSON(http.StatusOK, page)
}

func issuedJSON(r certs.Issued) client.IssuedCertificate {
	answer := client.IssuedCertificate{Serial: r.Serial, State: r.State, Subject: r.Subject, Names: strings.Fields(r.Names),
		KeyType: r.KeyType, Fingerprint: r.Fingerprint, NotBefore: chest.FromMicros(r.NotBefore), NotAfter: chest.FromMicros(r.NotAfter),
		Profile: r.Profile, Place: r.Place, CreatedAt: chest.FromMicros(r.CreatedAt), CreatedBy: r.CreatedBy, RevokedBy: r.RevokedBy,
		Reason: r.Reason}
	if r.RevokedAt != 0 {
		answer.RevokedAt = chest.FromMicros(r.RevokedAt)
	}
	return answer
}

func revoke(s *certs.Certs, c *route.Call) error {
	var in struct {
		Serial string `json:"serial"`
		Reason string `json:"reason"`
	}
	ref, err := asked(c, "authority", &in)
	if err != nil {
		return err
	}
	r, err := s.Revoke(c.Caller, ref, in.Serial, in.Reason)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, issuedJSON(r))
}

// order reads what a certificate is wanted for.
func order(c *route.Call) (in client.Order, o certs.Order, err error) {
	if err := decode(c, &in); err != nil {
		return in, o, err
	}
	o = certs.Order{Names: in.Names, Subject: in.Subject, KeyType: in.KeyType, Description: in.Description, Owner: in.Owner, Staged: in.Staged}
	if in.Request != "" {
		o.Request = []byte(in.Request)
	}
	if o.Life, err = lifeOf(in.Life); err != nil {
		return in, o, err
	}
	o.Into, err = itemIn("into", in.Into)
	return in, o, err
}

func issue(s *certs.Certs, c *route.Call) error {
	ref, err := named(c, "profile")
	if err != nil {
		return err
	}
	in, o, err := order(c)
	if err != nil {
		return err
	}
	if in.PublicKey != "" {
		return issueSSH(s, c, ref, in, o)
	}
	made, err := s.Issue(c.Caller, ref, o)
	return madeJSON(c, made, err)
}

// issueSSH has a certificate of SSH issued: the names are its principals.
func issueSSH(s *certs.Certs, c *route.Call, ref reference.Reference, in client.Order, o certs.Order) error {
	if in.Request != "" || in.Into != "" || in.Subject != "" || in.KeyType != "" || in.Staged || in.Description != "" || in.Owner != "" {
		return chest.Invalid("public_key", "a certificate of SSH is for a public key, names and a life, and goes into no item")
	}
	made, err := s.IssueSSH(c.Caller, ref, cert.SSHRequest{Public: []byte(in.PublicKey), Principals: in.Names, Life: o.Life})
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, client.MadeCertificate{Certificate: string(ssh.MarshalAuthorizedKey(made)), Facts: client.Certificate{
		Subject: made.KeyId, CommonName: made.KeyId, Names: made.ValidPrincipals, Serial: fmt.Sprintf("%032x", made.Serial), Usages: []string{},
		NotBefore: time.Unix(int64(made.ValidAfter), 0).UTC(), NotAfter: time.Unix(int64(made.ValidBefore), 0).UTC(), KeyType: made.Key.Type(),
		Issuer: ssh.FingerprintSHA256(made.SignatureKey), Fingerprint: ssh.FingerprintSHA256(made.Key)}})
}

func issueJWT(s *certs.Certs, c *route.Call) error {
	var in client.NewJWT
	ref, err := asked(c, "profile", &in)
	if err != nil {
		return err
	}
	r := cert.JWTRequest{Subject: in.Subject, Audiences: in.Audiences, Claims: in.Claims}
	if r.Life, err = lifeOf(in.Life); err != nil {
		return err
	}
	made, err := s.IssueJWT(c.Caller, ref, r)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, client.JWT{Token: made.Token, ID: made.ID, Subject: made.Subject, KeyID: made.KeyID,
		NotAfter: made.NotAfter.UTC()})
}

func madeJSON(c *route.Call, m certs.Made, err error) error {
	if err != nil {
		return err
	}
	answer := client.MadeCertificate{Certificate: string(cert.PEM(m.Chain)), Facts: wire.CertificateFacts(m.Facts)}
	if m.Item != nil {
		it, version := wire.Item(*m.Item), wire.Version(*m.Version)
		answer.Item, answer.Version = &it, &version
	}
	return c.JSON(http.StatusCreated, answer)
}

func renew(s *certs.Certs, c *route.Call) error {
	var in struct {
		Life   string `json:"life"`
		Staged bool   `json:"staged"`
	}
	ref, err := asked(c, "item", &in)
	if err != nil {
		return err
	}
	life, err := lifeOf(in.Life)
	if err != nil {
		return err
	}
	made, err := s.Renew(c.Caller, ref, life, in.Staged)
	return madeJSON(c, made, err)
}

// ordered reads an order for the item that the path names.
func ordered(c *route.Call) (o certs.Order, err error) {
	ref, err := named(c, "item")
	if err != nil {
		return o, err
	}
	in, o, err := order(c)
	if err != nil {
		return o, err
	}
	if in.PublicKey != "" || o.Request != nil || o.Into.Item != "" {
		return o, chest.Invalid("request", "the path names where it goes, and the key is made in the chest: give no request, and no into")
	}
	o.Into = ref
	return o, nil
}

func selfSigned(s *certs.Certs, c *route.Call) error {
	o, err := ordered(c)
	if err != nil {
		return err
	}
	made, err := s.SelfSigned(c.Caller, o)
	return madeJSON(c, made, err)
}

func request(s *certs.Certs, c *route.Call) error {
	o, err := ordered(c)
	if err != nil {
		return err
	}
	text, it, version, err := s.Request(c.Caller, o)
	if err != nil {
		return err
	}
	item, made := wire.Item(it), wire.Version(version)
	answer := client.MadeCertificate{Request: string(text), Item: &item, Version: &made}
	if made.Certificate != nil {
		answer.Facts = *made.Certificate
	}
	return c.JSON(http.StatusCreated, answer)
}

func answer(s *certs.Certs, c *route.Call) error {
	var in struct {
		Certificate string `json:"certificate"`
		Staged      bool   `json:"staged"`
	}
	ref, err := asked(c, "item", &in)
	if err != nil {
		return err
	}
	it, version, err := s.Answer(c.Caller, ref, []byte(in.Certificate), in.Staged)
	return created(c, it, version, err)
}

// What an authority says to anybody. It may be kept on the way, but not so long that a revocation is not heard of.

func list(s *certs.Certs, c *route.Call) error {
	der, made, err := s.List(c.Path("authority"))
	if err != nil {
		return err
	}
	return public(c, cert.ListType, der, made, time.Hour)
}

func certificate(s *certs.Certs, c *route.Call) error {
	der, err := s.Certificate(c.Path("authority"))
	if err != nil {
		return err
	}
	return public(c, cert.CertificateType, der, time.Time{}, time.Hour)
}

func status(s *certs.Certs, c *route.Call) error {
	var asked []byte
	var err error
	if text := c.Path("question"); text != "" { // RFC 6960, appendix A.1
		asked, err = base64.StdEncoding.DecodeString(text)
	} else {
		asked, err = io.ReadAll(http.MaxBytesReader(c.Response(), c.Request().Body, question))
	}
	if err != nil {
		asked = nil // which is no question
	}
	der, made, err := s.Status(c.Path("authority"), asked)
	if err != nil {
		return err
	}
	return public(c, cert.StatusType, der, made, 5*time.Minute)
}

func public(c *route.Call, kind string, der []byte, made time.Time, keep time.Duration) error {
	if header := c.Response().Header(); !made.IsZero() {
		header.Set("Last-Modified", made.UTC().Format(http.TimeFormat))
	}
	c.Response().Header().Set("Cache-Control", "public, max-age="+strconv.Itoa(int(keep.Seconds())))
	return c.Blob(http.StatusOK, kind, der)
}

package people

import (
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"tansu/internal/chest"
	"time"

	"github.com/go-jose/go-jose/v4"

	"tansu/internal/core/access"
	"tansu/internal/core/assertion"
	"tansu/internal/core/credential"
	"tansu/internal/core/reference"
	"tansu/internal/core/throttle"
	"tansu/internal/entity"
	"tansu/internal/powers"
)

// NewCredential is one more thing that an identity proves itself with. Without a kind it is a secret for an app and an
// enrolment code for a person.
type NewCredential struct {
	Kind        string
	NotAfter    time.Time       // zero for no end; of a code for a host, half an hour
	PublicKey   json.RawMessage // of a key: a JSON Web Key
	Certificate string          // PEM
	Issuer      string          // who else may say that it is the app,
	Audience    string          // to whom,
	Claims      map[string]string
	Authority   string   // PEM of the authority of the issuer's TLS certificate; empty for those that the system knows
	Networks    []string // from where a code for a host may be used; none for anywhere
}

// How many of a kind an app has at once.
const (
	mostSecrets = 2 // the one in use and the one that takes its place
	mostProofs  = 10
)

// Lives of codes for hosts.
const (
	hostCodeLife    = 30 * time.Minute
	longestHostCode = 7 * 24 * time.Hour
)

// IssueCredential gives an identity one more credential: an app a second secret, so that replacing one needs no outage, or a
// proof that is no secret; a person a code to set a new password with. What is secret is in the answer, once.
func (s *People) IssueCredential(c chest.Caller, subject string, n NewCredential) (issued Issued, err error) {
	if !n.NotAfter.IsZero() && !n.NotAfter.After(s.heart.Now()) {
		return issued, chest.Invalid("not_after", "not_after is not in the future")
	}
	err = s.heart.Try(func() error {
		a, row, err := s.toHandle(c, subject, "issue credential")
		if err != nil {
			return err
		}
		if err := mayIssue(a, row); err != nil {
			return err
		}
		if address, err := url.Parse(n.Issuer); err == nil && s.options.IssuerHosts != nil && !s.options.IssuerHosts(address.Hostname()) {
			return a.Fail(chest.Invalid("issuer", "issuers in that network are not contacted unless whoever starts the service allows it "+
				"(tansu serve --issuer-network)"))
		}
		made, cr, err := n.make(row, a.Entry.At, c.Name)
		if err != nil {
			return a.Fail(err)
		}
		if cr.Kind == kindACME {
			made.acme(a.St, &cr)
		}
		issued = made
		a.Entry.Credential, a.Entry.Detail = cr.ID, "issue credential "+cr.ID+", "+kindWords[cr.Kind]
		ended, err := roomFor(a.St, row, cr, a.Entry.At)
		if err != nil {
			return a.Fail(err)
		}
		for _, old := range ended {
			a.Change.Delete(old)
		}
		if coded := powers.Coded(a.St, c, row, a.Entry.At); coded.CodeBy != row.CodeBy || coded.Unconfirmed != row.Unconfirmed {
			a.Change.Update(row, coded)
		}
		a.Change.Insert(cr)
		return a.Commit("credential")
	})
	if err != nil {
		return Issued{}, err
	}
	s.issuers.forget()
	return issued, nil
}

// kindWords are what entries call the kinds.
var kindWords = map[string]string{kindAppSecret: "a secret", kindEnrolment: "an enrolment code", kindHostCode: "a code for a host",
	kindKey: "a public key", kindCert: "a certificate", kindIssuer: "an issuer", kindACME: "a key for ACME accounts",
	kindAccount: "an ACME account"}

// roomFor finds what has ended and makes room for a credential; the error says why there is none.
func roomFor(st *chest.Snapshot, row entity.Identity, cr entity.Credential, now time.Time) (ended []entity.Credential, err error) {
	usable := 0
	for _, other := range st.CredentialsOf(row.ID) {
		if other.Kind != cr.Kind {
			continue
		}
		if other.NotAfter != 0 && other.NotAfter <= chest.Micros(now) {
			ended = append(ended, other)
		} else {
			usable++
		}
	}
	most := mostProofs
	if cr.Kind == kindAppSecret {
		most = mostSecrets
	}
	taken := st.CredentialWith(cr.Hash)
	switch {
	case row.Kind == reference.App && usable >= most && most == mostSecrets:
		return nil, &chest.Error{Code: chest.Exists, Detail: chest.SubjectOf(row) +
			" has two secrets already: end the one that is not used any more (tansu app show " + row.Name + ")"}
	case row.Kind == reference.App && usable >= most:
		return nil, &chest.Error{Code: chest.Exists, Detail: chest.SubjectOf(row) +
			" has ten of that kind already: end those that are not used any more (tansu app show " + row.Name + ")"}
	case taken.ID != "" && !slices.ContainsFunc(ended, func(e entity.Credential) bool { return e.ID == taken.ID }):
		return nil, &chest.Error{Code: chest.Exists, Detail: "it is already a credential, of this app or of another one: each credential " +
			"belongs to one app"}
	}
	return ended, nil
}

// make checks what was given and makes the row.
func (n NewCredential) make(row entity.Identity, now time.Time, by string) (issued Issued, cr entity.Credential, err error) {
	switch {
	case row.Kind == reference.Team:
		return issued, cr, chest.Invalid("subject", "a team has no credentials: its members have their own")
	case row.Kind == reference.Person && n.Kind != "" && n.Kind != kindEnrolment, row.Kind == reference.App && n.Kind == kindEnrolment:
		return issued, cr, chest.Invalid("kind", "a person enrols with a code and signs in with a password; the other kinds are for apps")
	case row.Kind == reference.Person && !n.NotAfter.IsZero():
		return issued, cr, chest.Invalid("not_after", "an enrolment code ends after 72 hours")
	case len(n.Networks) > 0 && n.Kind != kindHostCode:
		return issued, cr, chest.Invalid("networks", "networks are for codes for hosts; from where an app may read is a matter of its grants")
	}
	if n.Kind == "" || n.Kind == kindAppSecret || n.Kind == kindEnrolment {
		issued, cr = newCredential(row, now, n.NotAfter, by)
		return issued, cr, nil
	}
	cr = entity.Credential{ID: chest.NewID("cr_"), Identity: row.ID, Kind: n.Kind, NotAfter: chest.Micros(n.NotAfter),
		CreatedAt: chest.Micros(now), CreatedBy: by}
	issued = Issued{ID: cr.ID, Kind: cr.Kind, NotAfter: n.NotAfter}
	var detail proofDetail
	switch n.Kind {
	case kindKey:
		cr.Hash, detail, err = n.key()
	case kindCert:
		cr.Hash, detail, err = n.certificate(now, &cr)
		issued.NotAfter = chest.FromMicros(cr.NotAfter)
	case kindIssuer:
		cr.Hash, detail, err = n.issuer(row)
	case kindHostCode:
		err = n.hostCode(now, &issued, &cr, &detail)
	case kindACME: // which is made of what it is called
	default:
		err = chest.Invalid("kind", "kind must be one of %q, %q, %q, %q, %q and %q", kindAppSecret, kindKey, kindCert, kindIssuer, kindHostCode,
			kindACME)
	}
	cr.Detail = detail.text()
	return issued, cr, err
}

func (n NewCredential) key() (hash []byte, detail proofDetail, err error) {
	key, thumbprint, err := assertion.PublicKey(n.PublicKey)
	if err != nil {
		return nil, detail, chest.Invalid("public_key", "public_key: %v", err)
	}
	if detail.Key, err = key.MarshalJSON(); err != nil {
		return nil, detail, chest.Invalid("public_key", "public_key cannot be encoded")
	}
	return thumbprint[:], detail, nil
}

func (n NewCredential) certificate(now time.Time, cr *entity.Credential) (hash []byte, detail proofDetail, err error) {
	block, rest := pem.Decode([]byte(n.Certificate))
	if block == nil || block.Type != "CERTIFICATE" || len(strings.TrimSpace(string(rest))) > 0 {
		return nil, detail, chest.Invalid("certificate", "certificate is not one certificate in PEM form (RFC 7468)")
	}
	parsed, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return nil, detail, chest.Invalid("certificate", "certificate cannot be read")
	}
	if !now.Before(parsed.NotAfter) || now.Before(parsed.NotBefore) {
		return nil, detail, chest.Invalid("certificate", "the certificate is good from %s to %s, and not now",
			parsed.NotBefore.UTC().Format(time.RFC3339), parsed.NotAfter.UTC().Format(time.RFC3339))
	}
	if end := chest.Micros(parsed.NotAfter); cr.NotAfter == 0 || end < cr.NotAfter {
		cr.NotAfter = end
	}
	sum := sha256.Sum256(block.Bytes)
	detail.Subject, detail.IssuedBy = firstRunes(parsed.Subject.String(), 200), parsed.RawIssuer
	return sum[:], detail, nil
}

// firstRunes cuts a text that others wrote, and leaves out what is no plain character.
func firstRunes(text string, most int) string {
	runes := []rune(strings.Map(func(r rune) rune {
		if r < 0x20 || r > 0x7e {
			return '?'
		}
		return r
	}, text))
	return string(runes[:min(len(runes), most)])
}

var claimName = regexp.MustCompile(`^[A-Za-z0-9_.:/-]{1,100}$`)

// whoItIs are claims that tell one job or workload of an issuer from another; without any of them, every token of the issuer for this
// audience would be accepted.
const whoItIs = "sub"

func (n NewCredential) issuer(row entity.Identity) (hash []byte, detail proofDetail, err error) {
	address, err := url.Parse(n.Issuer)
	loopback := err == nil && address.Scheme == "http" && isLoopback(address.Hostname())
	if err != nil || len(n.Issuer) > 300 || address.Host == "" || address.Scheme != "https" && !loopback || address.User != nil ||
		address.RawQuery != "" || address.Fragment != "" {
		return nil, detail, chest.Invalid("issuer", "issuer is the issuer's address, as its tokens have it: https, without query and fragment")
	}
	if n.Audience == "" || len(n.Audience) > 300 {
		return nil, detail, chest.Invalid("audience", "audience is what the issuer's tokens must have as theirs: 1 to 300 bytes")
	}
	if len(n.Claims) == 0 || len(n.Claims) > 20 {
		return nil, detail, chest.Invalid("claims", "claims are 1 to 20, such as %s: without any, every token of the issuer would be this app's",
			whoItIs)
	}
	for name, value := range n.Claims {
		if !claimName.MatchString(name) || value == "" || len(value) > 300 {
			return nil, detail, chest.Invalid("claims", "claims: %.60q is not a claim with a value of 1 to 300 bytes", name)
		}
	}
	if n.Authority != "" && !x509.NewCertPool().AppendCertsFromPEM([]byte(n.Authority)) || len(n.Authority) > 16<<10 {
		return nil, detail, chest.Invalid("authority", "authority is not a certificate in PEM form")
	}
	detail.Issuer = &issuerDetail{Issuer: n.Issuer, Audience: n.Audience, Claims: n.Claims, Authority: n.Authority}
	sum := sha256.Sum256([]byte(row.ID + "\x00" + detail.text()))
	return sum[:], detail, nil
}

func isLoopback(host string) bool {
	addr, err := netip.ParseAddr(host)
	return host == "localhost" || err == nil && addr.IsLoopback()
}

func (n NewCredential) hostCode(now time.Time, issued *Issued, cr *entity.Credential, detail *proofDetail) error {
	if _, err := access.ParseNetworks(n.Networks); err != nil {
		return chest.Invalid("networks", "networks: %v", err)
	}
	end := n.NotAfter
	if end.IsZero() {
		end = now.Add(hostCodeLife)
	}
	if end.Sub(now) > longestHostCode {
		return chest.Invalid("not_after", "a code for a host ends after 7 days at most")
	}
	secret, hash := credential.New(credential.HostCode)
	issued.Secret, issued.NotAfter = secret, end
	cr.Hash, cr.NotAfter, detail.Networks = hash[:], chest.Micros(end), n.Networks
	return nil
}

// HostProof is what a host presents to use a code: the public half of a key pair that was made there, and an assertion signed with the
// private half, with this chest as its audience and the code's SHA-256 in base64 (RFC 4648, section 5, without padding) as its id.
type HostProof struct {
	Code      string
	PublicKey json.RawMessage
	Assertion string
}

// EnrolHost exchanges a code for a key: from then on the app on that host proves itself with it. A code is good once; its second
// use is an alarm, because one of the two who used it is not who should have.
func (s *People) EnrolHost(origin chest.Origin, p HostProof) (subject, id string, err error) {
	a := s.heart.Attempt(chest.Anonymous(origin, "host_code"), "enrol_host", "")
	if err := a.Err(); err != nil {
		return "", "", err
	}
	limits := []throttle.Limit{{Key: "addr " + throttle.Neighbours(origin.Addr), Most: 20, Window: 10 * time.Minute}}
	if err := a.Take(limits); err != nil {
		return "", "", err
	}
	if _, _, err := s.hostCode(a, p.Code); err != nil { // before anything that costs more than that
		return "", "", err
	}
	key, thumbprint, err := assertion.PublicKey(p.PublicKey)
	if err != nil {
		return "", "", chest.Invalid("public_key", "public_key: %v", err)
	}
	encoded, err := key.MarshalJSON()
	if err != nil {
		return "", "", a.Fail(chest.Invalid("public_key", "public_key cannot be encoded"))
	}
	t, err := s.ownAssertion(a, p.Assertion)
	if err == nil {
		_, err = t.SignedBy([]jose.JSONWebKey{key})
	}
	if sum := sha256.Sum256([]byte(p.Code)); err != nil || t.Claims.ID != base64.RawURLEncoding.EncodeToString(sum[:]) {
		return "", "", a.Refuse(&chest.Error{Code: chest.SignInFailed, Reason: "enrolment_failed",
			Detail: problemText(err, "the assertion is not signed with the key, or not for this code")})
	}
	made := entity.Credential{ID: chest.NewID("cr_"), Kind: kindKey, Hash: thumbprint[:], Detail: proofDetail{Key: encoded}.text()}
	err = s.heart.Try(func() error {
		a := s.heart.Attempt(chest.Anonymous(origin, "host_code"), "enrol_host", "")
		if err := a.Err(); err != nil {
			return err
		}
		before, row, err := s.hostCode(a, p.Code)
		if err != nil {
			return err
		}
		subject, id = chest.SubjectOf(row), made.ID
		made.Identity, made.CreatedAt = row.ID, chest.Micros(a.Entry.At)
		made.CreatedBy = before.CreatedBy // who issued the code could have used it
		after, detail := before, detailOf(before)
		detail.UsedAt, detail.UsedFrom, detail.UsedFor = chest.Micros(a.Entry.At), origin.Addr, made.ID
		after.Detail = detail.text()
		ended, err := roomFor(a.St, row, made, a.Entry.At)
		if err != nil {
			return a.Fail(err)
		}
		a.Refund(limits)
		a.RestOnSubject(row.ID)
		a.RestOnProof(before.ID)
		a.Entry.Credential, a.Entry.Detail = made.ID, "key "+made.ID+" for code "+before.ID
		for _, old := range ended {
			a.RestOnProof(old.ID)
			a.Change.Delete(old)
		}
		a.Change.Update(before, after)
		a.Change.Insert(made)
		return a.Commit("credential")
	})
	return subject, id, err
}

// hostCode finds a code that may be used now, from here.
func (s *People) hostCode(a *chest.Attempt, text string) (used entity.Credential, row entity.Identity, problem error) {
	hash, malformed := credential.Parse(credential.HostCode, strings.TrimSpace(text))
	err := a.Look(func(st *chest.Snapshot) error {
		if malformed == nil {
			used = st.CredentialBy(kindHostCode, hash)
			row = st.Identity(used.Identity)
		}
		return nil
	})
	if err != nil {
		return used, row, err
	}
	if used.ID == "" {
		return used, row, a.Refuse(&chest.Error{Code: chest.SignInFailed, Detail: "the code is wrong", Reason: "enrolment_failed"})
	}
	a.Entry.Subject, a.Entry.SubjectID = chest.SubjectOf(row), row.ID
	detail := detailOf(used)
	switch {
	case detail.UsedAt != 0:
		a.Entry.Detail = "code " + used.ID + " was used from " + detail.UsedFrom + " for " + detail.UsedFor
		s.heart.Log().Warn("a code for a host was used twice", "app", chest.SubjectOf(row), "code", used.ID, "first_from", detail.UsedFrom,
			"now_from", a.Entry.Addr)
		return used, row, a.Refuse(&chest.Error{Code: chest.SignInFailed, Reason: "code_used_twice",
			Detail: "the code was used before, at " + chest.FromMicros(detail.UsedAt).Format(time.RFC3339) +
				": if that was not you, somebody else has the key of " + chest.SubjectOf(row) + " now; tell who runs the chest"})
	case used.NotAfter <= chest.Micros(a.Entry.At) || row.State != chest.Active:
		return used, row, a.Refuse(&chest.Error{Code: chest.SignInFailed, Detail: "the code has ended", Reason: "enrolment_failed"})
	case len(detail.Networks) > 0 && !within(detail.Networks, a.Entry.Addr):
		return used, row, a.Refuse(&chest.Error{Code: chest.SignInFailed, Detail: "the code is not for use from " + a.Entry.Addr,
			Reason: "enrolment_network"})
	}
	return used, row, nil
}

func within(networks []string, addr string) bool {
	parsed, err := netip.ParseAddr(addr)
	prefixes, bad := access.ParseNetworks(networks)
	return err == nil && bad == nil && slices.ContainsFunc(prefixes, func(p netip.Prefix) bool { return p.Contains(parsed.Unmap()) })
}

func problemText(err error, otherwise string) string {
	if problem, is := err.(*assertion.Problem); is {
		return problem.Text
	}
	return otherwise
}

// CertificateID is how an [chest.Origin] names a certificate: the SHA-256 of its DER form, in hex.
func CertificateID(der []byte) string {
	sum := sha256.Sum256(der)
	return hex.EncodeToString(sum[:])
}

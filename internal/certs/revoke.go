package certs

import (
	"crypto"
	"crypto/x509"
	"fmt"
	"math/big"
	"strings"
	"sync"
	"time"

	"tansu/internal/certrow"
	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/cert"
	"tansu/internal/core/reference"
	"tansu/internal/entity"
)

// revokeCertificate is what revoking is called in the trail.
const revokeCertificate = "revoke_certificate"

// Revoke says that a certificate is not to be trusted any more. It takes the right to change the authority; whoever it was given to needs
// none. One that is revoked stays so, with its first reason.
func (s *Certs) Revoke(c chest.Caller, ref reference.Reference, serial, reason string) (r Issued, err error) {
	if reason == "" {
		reason = "unspecified"
	}
	if _, known := cert.Reasons[reason]; !known {
		return r, chest.Invalid("reason", "%.40q is not a reason; they are %s", reason, strings.Join(cert.ReasonNames(), ", "))
	}
	number, err := cert.ParseSerial(serial)
	if err != nil {
		return r, certrow.Told(err)
	}
	err = s.heart.Try(func() error {
		a := s.heart.Attempt(c, revokeCertificate, ref.Drawer+"/"+ref.Item)
		if err := a.Err(); err != nil {
			return err
		}
		row, known := entity.Issued{}, false
		spot := a.St.At(ref.Drawer, ref.Item)
		if spot.Item != nil {
			row, known = a.St.IssuedAs(spot.Item.Row.ID, cert.Serial(number))
		}
		if known && row.Holder == c.ID {
			a.RestOnSpot(spot)
			a.RestOnSubject(c.ID)
		} else if _, err := a.Decide(access.ChangeItem, ref.Drawer, ref.Item); err != nil {
			return err
		}
		if !known {
			return a.Fail(chest.Missing("certificate "+cert.Serial(number)+" of "+ref.String(), ""))
		}
		a.Entry.Detail = row.Serial + " of " + row.Names + ": " + reason
		if spot.Item.Row.Kind == entity.KindKey {
			return a.Fail(&chest.Error{Code: chest.NotPossible, Detail: "a certificate of SSH is not revoked, but short: end the grant by which " +
				"it is had, and take the key out of what the servers trust if it cannot wait"})
		}
		if row.RevokedAt != 0 {
			return a.Fail(&chest.Error{Code: chest.NotPossible, Detail: fmt.Sprintf("it was revoked on %s (%s)",
				chest.FromMicros(row.RevokedAt).Format(time.RFC3339), row.Reason)})
		}
		if err := s.revoke(a, row, reason); err != nil {
			return err
		}
		after, _ := a.After().IssuedAs(row.Authority, row.Serial)
		r = describe(a, after, map[string]string{})
		return nil
	})
	return r, err
}

func (s *Certs) revoke(a *chest.Attempt, row entity.Issued, reason string) error {
	after := row
	after.RevokedAt, after.RevokedBy, after.Reason = chest.Micros(a.Entry.At), a.Caller.Name, reason
	a.Change.Update(row, after)
	markRevoked(a, row, reason)
	return a.Commit("certificate " + row.Serial)
}

// markRevoked says of the version that has a certificate that it was revoked, so that whoever sees the item knows.
func markRevoked(a *chest.Attempt, row entity.Issued, reason string) {
	spot, _, is := certrow.Where(a.St, row.Place)
	if !is {
		return
	}
	a.RestBeside(spot)
	for _, v := range spot.Item.Versions {
		if f := certrow.Of(v.Facts); f != nil && f.Serial == row.Serial {
			after := v
			f.Revoked = reason
			after.Facts = f.Text()
			a.Change.Update(v, after)
		}
	}
}

// list is an authority's list of revoked certificates, as it was signed last.
type list struct {
	mu      sync.Mutex
	der     []byte
	made    time.Time
	count   int
	version int
	seen    uint64 // the position of the snapshot that it was compared with last
}

// relist is after how long a list is signed again although nothing was revoked. It is good for longer ([cert.ListFresh]).
const relist = time.Hour

// public finds an authority for somebody who need not be known, also one that is suspended or retired: what it has signed is trusted all
// the same, and so it goes on to say what is not. That is public, and is no use of the key that anybody decides on: it is kept and said
// again, and is not in the trail.
func (s *Certs) public(id string) (*chest.Snapshot, *authority, time.Time, error) {
	now := s.heart.Now()
	st, err := s.heart.Look()
	if err != nil {
		return nil, nil, now, err
	}
	missing := chest.Missing("authority at this address", "") // whatever there is of that id
	spot, _, is := certrow.Where(st, id)
	if !is || spot.Item.Row.Kind != entity.KindAuthority {
		return nil, nil, now, missing
	}
	it := spot.Item
	number, err := it.Life.Current(now)
	for n := len(it.Versions); err != nil && n > 0 && number == 0; n-- {
		if it.Versions[n-1].ShreddedAt == 0 && !it.Versions[n-1].Staged {
			number = n
		}
	}
	if number == 0 {
		return nil, nil, now, missing
	}
	if _, err := st.OpenKey(spot.Home, it.Versions[number-1].DrawerKey); err != nil { // whose drawer that is does not concern strangers
		return nil, nil, now, &chest.Error{Code: chest.Locked, Detail: "nothing is said of this authority for now: its key is away"}
	}
	by, err := open(st, spot.Home, it, number)
	return st, by, now, err
}

// Certificate is an authority's certificate, in DER.
func (s *Certs) Certificate(id string) ([]byte, error) {
	_, by, _, err := s.public(id)
	if err != nil {
		return nil, err
	}
	return by.Chain[0].Raw, nil
}

// List is an authority's list of revoked certificates, in DER. Those that have ended are not on it.
func (s *Certs) List(id string) (der []byte, made time.Time, err error) {
	st, by, now, err := s.public(id)
	if err != nil {
		return nil, now, err
	}
	s.mu.Lock()
	one := s.lists[id]
	if one == nil {
		one = &list{}
		s.lists[id] = one
	}
	s.mu.Unlock()
	one.mu.Lock()
	defer one.mu.Unlock()
	fresh := one.der != nil && one.version == by.number && now.Sub(one.made) < relist && !now.Before(one.made)
	if fresh && one.seen == st.Position() {
		return one.der, one.made, nil
	}
	var revoked []cert.Revoked
	for _, row := range st.IssuedBy(id) {
		if row.RevokedAt == 0 || !now.Before(chest.FromMicros(row.NotAfter)) {
			continue
		}
		number, err := cert.ParseSerial(row.Serial)
		if err != nil {
			return nil, now, err
		}
		revoked = append(revoked, cert.Revoked{Serial: number, At: chest.FromMicros(row.RevokedAt), Reason: row.Reason})
	}
	one.seen = st.Position()
	if fresh && one.count == len(revoked) {
		return one.der, one.made, nil
	}
	if der, err = by.Issuer.List(revoked, now); err != nil {
		return nil, now, err
	}
	one.der, one.made, one.count, one.version = der, now, len(revoked), by.number
	return der, now, nil
}

// status is what was said of one certificate.
type status struct {
	der     []byte
	made    time.Time
	revoked bool
}

// Of answers about single certificates, at most so many are kept.
const mostStatuses = 50_000

// Status answers an OCSP request, in DER. About a serial number that the authority has not issued nothing is said and nothing signed, so
// that nobody fills the memory, or has the key work, by asking about all there could be (RFC 6960, section 2.3: unauthorized).
func (s *Certs) Status(id string, question []byte) (der []byte, made time.Time, err error) {
	st, by, now, err := s.public(id)
	if err != nil {
		return nil, now, err
	}
	number, hash, err := by.ReadQuestion(question)
	if err != nil {
		return cert.Malformed(), now, nil
	}
	row, known := st.IssuedAs(id, cert.Serial(number))
	if !known {
		return cert.Unauthorized(), now, nil
	}
	key := row.ID + " " + hash.String()
	s.mu.Lock()
	said, is := s.statuses[key]
	s.mu.Unlock()
	if is && said.revoked == (row.RevokedAt != 0) && now.Sub(said.made) < cert.StatusFresh/2 && !now.Before(said.made) {
		return said.der, said.made, nil
	}
	if der, err = answerAbout(by, row, number, hash, now); err != nil {
		return nil, now, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.statuses) >= mostStatuses {
		clear(s.statuses)
	}
	s.statuses[key] = status{der, now, row.RevokedAt != 0}
	return der, now, nil
}

func answerAbout(by *authority, row entity.Issued, number *big.Int, hash crypto.Hash, now time.Time) ([]byte, error) {
	about := cert.Status{Known: true}
	if row.RevokedAt != 0 {
		about.Revoked = &cert.Revoked{Serial: number, At: chest.FromMicros(row.RevokedAt), Reason: row.Reason}
	}
	return by.Answer(number, hash, about, now)
}

// byProfile finds what an authority has issued by a profile's name; whoever asks has the certificate, or its serial number of 126 random
// bits.
func (s *Certs) byProfile(ref reference.Reference, serial string) (st *chest.Snapshot, row entity.Issued, err error) {
	if st, err = s.heart.Look(); err != nil {
		return nil, row, err
	}
	missing := chest.Missing("such certificate", "")
	spot := st.At(ref.Drawer, ref.Item)
	if spot.Item == nil || spot.Item.Row.Kind != entity.KindProfile {
		return nil, row, missing
	}
	facts := newest(spot.Item)
	if facts == nil {
		return nil, row, missing
	}
	row, known := st.IssuedAs(facts.Signer, serial)
	if !known {
		return nil, row, missing
	}
	return st, row, nil
}

// RevokeThis revokes a certificate that is shown, for whoever it was issued to, or, where a key is given, for whoever has its key, which
// signed the request: they need no account.
func (s *Certs) RevokeThis(c chest.Caller, ref reference.Reference, der []byte, reason string, key crypto.PublicKey) error {
	shown, err := x509.ParseCertificate(der)
	if err != nil {
		return chest.Invalid("certificate", "the certificate cannot be read")
	}
	st, row, err := s.byProfile(ref, cert.Serial(shown.SerialNumber))
	if err != nil {
		return err
	}
	if row.Fingerprint != cert.Fingerprint(der) {
		return chest.Missing("such certificate", "")
	}
	if key != nil {
		if !cert.SameKey(shown.PublicKey, key) {
			return &chest.Error{Code: chest.Refused, Detail: "the request is not signed by the key of the certificate"}
		}
		c.ID, c.Name, c.Proof = row.Holder, chest.SubjectOf(st.Identity(row.Holder)), viaKey
	}
	_, authority, is := certrow.Where(st, row.Authority)
	if !is {
		return chest.Missing("such certificate", "")
	}
	_, err = s.Revoke(c, authority, row.Serial, reason)
	return err
}

// viaKey is how somebody is proved who has the key of a certificate.
const viaKey = "certificate_key"

// RenewWindow is when a certificate is best renewed: from after two thirds of its life on, or now when it is revoked.
func (s *Certs) RenewWindow(ref reference.Reference, serial []byte) (from, until time.Time, err error) {
	_, row, err := s.byProfile(ref, cert.Serial(new(big.Int).SetBytes(serial)))
	if err != nil {
		return from, until, err
	}
	if row.RevokedAt != 0 {
		at := chest.FromMicros(row.RevokedAt)
		return at.Add(-time.Minute), at, nil
	}
	f := cert.Facts{NotBefore: chest.FromMicros(row.NotBefore), NotAfter: chest.FromMicros(row.NotAfter)}
	return f.RenewAt(1), f.RenewAt(0), nil
}

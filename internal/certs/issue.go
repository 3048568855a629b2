package certs

import (
	"crypto"
	"crypto/x509"
	"slices"
	"time"

	"tansu/internal/certrow"
	"tansu/internal/chest"
	"tansu/internal/content"
	"tansu/internal/core/access"
	"tansu/internal/core/cert"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/entity"
	"tansu/internal/shelf"
)

type signer = crypto.Signer

// Order is what somebody wants a certificate for: what a request says, whose key is elsewhere; or names, for a key that is made here and
// put with its certificate into an item.
type Order struct {
	Request []byte // PKCS #10, in PEM or DER; nil for none
	Names   []string
	Subject string // the common name; empty for none
	KeyType string // empty for a good one
	Life    time.Duration

	Into        reference.Reference // an item; the zero value for none
	Description string              // of an item that is new
	Owner       string
	Staged      bool // the new version waits until somebody promotes it
}

// Made is a certificate that was signed, with where it was put.
type Made struct {
	Chain     []*x509.Certificate // the certificate, and those of the authorities but for the one that stands by itself
	Facts     cert.Facts
	Authority string      // the item's id
	Item      *shelf.Item // nil when it was put nowhere
	Version   *shelf.Version
}

// Issue has the authority of a profile certify what is ordered.
func (s *Certs) Issue(c chest.Caller, ref reference.Reference, o Order) (m Made, err error) {
	var request cert.Request
	if o.Request != nil {
		if len(o.Names) > 0 || o.Subject != "" || o.KeyType != "" || o.Into.Item != "" {
			return m, chest.Invalid("request", "a request says for which names and which key it is: give no names, subject, key_type or into")
		}
		request, err = cert.ReadRequest(o.Request)
		if err != nil {
			return m, certrow.Told(err)
		}
		m, _, err = s.sign(c, ref, request, o, "")
		return m, err
	}
	if o.Into.Item == "" {
		return m, chest.Invalid("into", "give a request (PKCS #10), or an item that the new key and its certificate go into")
	}
	if request.Names, err = cert.ReadNames(o.Names); err != nil {
		return m, certrow.Told(err)
	}
	exists, place, err := s.mayPut(c, o)
	if err != nil {
		return m, err
	}
	key, err := s.newKey(c, o.KeyType)
	if err != nil {
		return m, err
	}
	request.Public, request.Subject = key.Public(), o.Subject
	if request.KeyType, err = cert.KeyType(request.Public); err != nil {
		return m, certrow.Told(err)
	}
	m, profile, err := s.sign(c, ref, request, o, place)
	if err != nil {
		return m, err
	}
	it, version, err := s.put(c, o, exists, place, secretvalue.Certificate, m.Chain, key, profile.row.ID)
	if err != nil { // nobody has got it
		s.takeBack(c, ref.String(), m.Authority, m.Facts.Serial)
		return Made{}, err
	}
	m.Item, m.Version = &it, &version
	return m, nil
}

// sign decides, checks and signs, and records it.
func (s *Certs) sign(c chest.Caller, ref reference.Reference, r cert.Request, o Order, place string) (m Made, p *profile, err error) {
	err = s.heart.Try(func() error {
		a, found, err := s.begin(c, ref)
		if err != nil {
			return err
		}
		p = found
		if err := p.Check(r); err != nil {
			return a.Fail(certrow.Told(err))
		}
		by, err := signerOf(a, p)
		if err != nil {
			return a.Fail(err)
		}
		var made *x509.Certificate
		if err := s.inTurn(c, by.kind(), func() error {
			made, err = by.Issue(p.Profile, r, o.Life, a.Entry.At)
			return err
		}); err != nil {
			return a.Fail(certrow.Told(err))
		}
		m = Made{Chain: served(append([]*x509.Certificate{made}, by.Chain...)), Facts: cert.Describe(made), Authority: by.item.Row.ID}
		a.Entry.Detail = about(m.Facts)
		a.Change.Insert(rowOf(a, by, m.Facts, p.row.ID, place))
		return a.Commit("certificate " + m.Facts.Serial)
	})
	return m, p, err
}

// served is a chain as TLS sends it: without the authority that stands by itself, which whoever trusts it has, unless that is the only one:
// some programs want one at least.
func served(chain []*x509.Certificate) []*x509.Certificate {
	if last := chain[len(chain)-1]; len(chain) > 2 && string(last.RawIssuer) == string(last.RawSubject) {
		return slices.Clone(chain[:len(chain)-1])
	}
	return chain
}

// mayPut refuses, before anything is signed, what could not be put where it is to go, and says which item is there, or will
// be.
func (s *Certs) mayPut(c chest.Caller, o Order) (exists bool, id string, err error) {
	a, err := s.heart.Allow(c, access.WriteVersion, o.Into.Drawer, o.Into.Item)
	if err != nil {
		return false, "", err
	}
	d, it, err := a.St.ItemOf(o.Into)
	switch {
	case d == nil:
		return false, "", a.Fail(err)
	case it == nil:
		return false, chest.NewID("it_"), nil
	case it.Row.Kind != entity.KindCertificate:
		return false, "", a.Fail(chest.Invalid("into", "%s is a %s, and no certificate", o.Into, it.Row.Kind))
	case o.Description != "" || o.Owner != "":
		return false, "", a.Fail(chest.Invalid("into", "%s exists: a description and an owner are said of a new item", o.Into))
	}
	return true, it.Row.ID, nil
}

// put puts a certificate and its key into an item.
func (s *Certs) put(c chest.Caller, o Order, exists bool, id string, shape secretvalue.Shape, chain []*x509.Certificate, key signer,
	profile string) (it shelf.Item, made shelf.Version, err error) {
	private, err := cert.WritePrivate(key)
	if err != nil {
		return it, made, err
	}
	version := content.Version{Staged: o.Staged, Made: profile, Fields: []content.Field{
		{Name: "certificate", Value: secretvalue.New(cert.PEM(chain))}, {Name: "private", Value: secretvalue.New(private)}}}
	if exists {
		return s.shelf.AddVersion(c, o.Into, 0, version)
	}
	return s.shelf.CreateItem(c, o.Into, shelf.NewItem{ID: id, Description: o.Description, Owner: o.Owner, Shape: shape}, version)
}

// takeBack revokes what could not be put anywhere.
func (s *Certs) takeBack(c chest.Caller, from, authority, serial string) {
	err := s.heart.Try(func() error {
		a := s.heart.Attempt(c, revokeCertificate, from)
		if err := a.Err(); err != nil {
			return err
		}
		row, known := a.St.IssuedAs(authority, serial)
		if !known {
			return nil
		}
		a.Entry.ItemID, a.Entry.Detail = authority, serial+": it could not be put where it was to go"
		return s.revoke(a, row, "cessation_of_operation")
	})
	if err != nil {
		s.heart.Log().Warn("a certificate that nobody has got was not revoked", "serial", serial, "error", err)
	}
}

// Renew has a certificate signed again for the same names and a new key, as the profile that it was made by says, and puts it into the same
// item as a new version. It takes what issuing it takes.
func (s *Certs) Renew(c chest.Caller, ref reference.Reference, life time.Duration, staged bool) (m Made, err error) {
	a, err := s.heart.Allow(c, access.WriteVersion, ref.Drawer, ref.Item)
	if err != nil {
		return m, err
	}
	_, it, err := a.St.ItemOf(ref)
	if err != nil {
		return m, a.Fail(err)
	}
	if it.Row.Kind != entity.KindCertificate {
		return m, a.Fail(chest.Invalid("reference", "%s is a %s, and no certificate", ref, it.Row.Kind))
	}
	facts := newest(it)
	if facts == nil || facts.Made == "" {
		return m, a.Fail(&chest.Error{Code: chest.NotPossible, Detail: ref.String() + " was not issued by an authority of this chest: put the " +
			"new certificate in as a version, or have one issued (tansu cert issue)"})
	}
	name := a.St.NameOf(facts.Made)
	by, err := reference.Parse(name)
	if name == "" || err != nil {
		return m, a.Fail(&chest.Error{Code: chest.NotPossible, Detail: "the profile that issued it does not exist any more: name another one " +
			"(tansu cert issue)"})
	}
	return s.Issue(c, by, Order{Names: facts.Names, Subject: facts.CommonName, KeyType: facts.KeyType, Life: life, Into: ref, Staged: staged})
}

// newest is what is known of the newest version that has a certificate.
func newest(it *chest.Item) *certrow.Facts {
	for i := len(it.Versions); i > 0; i-- {
		if f := certrow.Of(it.Versions[i-1].Facts); f != nil && !f.Waits() && it.Versions[i-1].ShreddedAt == 0 {
			return f
		}
	}
	return nil
}

// SelfSigned makes a key and a certificate that is signed by it, and puts both into an item.
func (s *Certs) SelfSigned(c chest.Caller, o Order) (m Made, err error) {
	names, exists, key, err := s.prepare(c, o)
	if err != nil {
		return m, err
	}
	made, err := cert.SelfSigned(key, o.Subject, names, o.Life, s.heart.Now())
	if err != nil {
		return m, certrow.Told(err)
	}
	m = Made{Chain: []*x509.Certificate{made}, Facts: cert.Describe(made)}
	it, version, err := s.put(c, o, exists, "", secretvalue.Certificate, m.Chain, key, "")
	m.Item, m.Version = &it, &version
	return m, err
}

// prepare makes a key for what is to be put into an item.
func (s *Certs) prepare(c chest.Caller, o Order) (names cert.Names, exists bool, key signer, err error) {
	if names, err = cert.ReadNames(o.Names); err != nil {
		return names, false, nil, certrow.Told(err)
	}
	if names.Empty() && o.Subject == "" {
		return names, false, nil, chest.Invalid("names", "give the names that the certificate is for")
	}
	if exists, _, err = s.mayPut(c, o); err == nil {
		key, err = s.newKey(c, o.KeyType)
	}
	return names, exists, key, err
}

// Request makes a key and a request for a certificate that somebody else signs. Both wait in a staged version for the answer.
func (s *Certs) Request(c chest.Caller, o Order) (request []byte, it shelf.Item, made shelf.Version, err error) {
	names, exists, key, err := s.prepare(c, o)
	if err != nil {
		return nil, it, made, err
	}
	if request, err = cert.NewRequest(key, o.Subject, names); err != nil {
		return nil, it, made, err
	}
	private, err := cert.WritePrivate(key)
	if err != nil {
		return nil, it, made, err
	}
	version := content.Version{Staged: true, Fields: []content.Field{{Name: "request", Value: secretvalue.New(request)},
		{Name: "private", Value: secretvalue.New(private)}}}
	if exists {
		it, made, err = s.shelf.AddVersion(c, o.Into, 0, version)
	} else {
		it, made, err = s.shelf.CreateItem(c, o.Into, shelf.NewItem{Description: o.Description, Owner: o.Owner,
			Shape: secretvalue.Certificate}, version)
	}
	return request, it, made, err
}

// Answer puts the certificate that somebody else has signed beside the key that waits for it, as a new version.
func (s *Certs) Answer(c chest.Caller, ref reference.Reference, chain []byte, staged bool) (it shelf.Item, made shelf.Version, err error) {
	a, err := s.heart.Allow(c, access.WriteVersion, ref.Drawer, ref.Item)
	if err != nil {
		return it, made, err
	}
	list, _, err := cert.ReadChain(chain, nil)
	if err != nil {
		return it, made, a.Fail(certrow.Told(err))
	}
	d, found, err := a.St.ItemOf(ref)
	if err != nil {
		return it, made, a.Fail(err)
	}
	if found.Row.Kind != entity.KindCertificate {
		return it, made, a.Fail(chest.Invalid("reference", "%s is a %s, and no certificate", ref, found.Row.Kind))
	}
	private, err := waitingFor(a, d, found, list[0])
	if err != nil {
		return it, made, a.Fail(err)
	}
	return s.shelf.AddVersion(c, ref, 0, content.Version{Staged: staged, Fields: []content.Field{
		{Name: "certificate", Value: secretvalue.New(cert.PEM(list))}, {Name: "private", Value: private}}})
}

// waitingFor is the key that waits for a certificate.
func waitingFor(a *chest.Attempt, d *chest.Drawer, it *chest.Item, answer *x509.Certificate) (private secretvalue.Value, err error) {
	waits := false
	for number := len(it.Versions); number > 0; number-- {
		v := it.Versions[number-1]
		facts := certrow.Of(v.Facts)
		if !facts.Waits() || v.ShreddedAt != 0 {
			continue
		}
		waits = true
		asked, err := cert.ReadRequest([]byte(facts.Request))
		if err != nil || !cert.SameKey(asked.Public, answer.PublicKey) {
			continue
		}
		stored, err := a.St.Content(d, it, number)
		if err != nil {
			return private, err
		}
		fields, err := secretvalue.Decode(stored)
		if err != nil {
			return private, err
		}
		key, _ := fields.Find("private")
		return key.Value, nil
	}
	if !waits {
		return private, &chest.Error{Code: chest.NotPossible, Detail: "no key of this item waits for a certificate: ask for one first (tansu " +
			"cert request)"}
	}
	return private, chest.Invalid("certificate", "the certificate is for another key than those that wait for one here")
}

// MayIssue decides whether somebody may have certificates of a profile, and whether it gives some names. A no is recorded.
func (s *Certs) MayIssue(c chest.Caller, ref reference.Reference, names []string) error {
	read, err := cert.ReadNames(names)
	if err != nil {
		return certrow.Told(err)
	}
	a, p, err := s.begin(c, ref)
	if err != nil {
		return err
	}
	if err := p.CheckNames(read); err != nil {
		return a.Fail(certrow.Told(err))
	}
	by, err := signerOf(a, p)
	if err == nil {
		err = certrow.Told(by.Usable(a.Entry.At))
	}
	if err != nil {
		return a.Fail(err)
	}
	return nil
}

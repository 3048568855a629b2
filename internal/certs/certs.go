// Package certs is the room for certificates: the authorities of a chest sign them as profiles say, for whoever may ask for one, and tell
// anybody which of them are revoked. The keys of authorities never leave the chest. It stands on the room for what is kept, since what it
// makes is put there.
package certs

import (
	"fmt"
	"strings"
	"sync"
	"time"

	"tansu/internal/certrow"
	"tansu/internal/chest"
	"tansu/internal/core/access"
	"tansu/internal/core/cert"
	"tansu/internal/core/cryptokey"
	"tansu/internal/core/lifecycle"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/entity"
	"tansu/internal/keyrow"
	"tansu/internal/shelf"
	"tansu/internal/turns"
)

// Certs is the room. Its methods are safe for concurrent use.
type Certs struct {
	heart *chest.Chest
	shelf *shelf.Shelf
	// Whoever uses a key that takes long, or makes one, waits for a turn.
	using, making *turns.Turns

	mu       sync.Mutex
	lists    map[string]*list  // by authority
	statuses map[string]status // by authority, serial number and hash
}

// New opens the room over a heart and what it keeps.
func New(heart *chest.Chest, shelf *shelf.Shelf, using, making *turns.Turns) *Certs {
	return &Certs{heart: heart, shelf: shelf, using: using, making: making, lists: map[string]*list{},
		statuses: map[string]status{}}
}

// authority is one that can sign.
type authority struct {
	*cert.Issuer
	drawer *chest.Drawer
	item   *chest.Item
	number int
}

// kind is the type of its key.
func (o *authority) kind() cryptokey.Type {
	kind, _ := cert.KeyType(o.Key.Public()) // which was looked at when it came
	return cryptokey.Type(kind)
}

func (o *authority) name() string { return o.drawer.Row.Name + "/" + o.item.Row.Name }

// Beneath an authority's address stand what it says to anybody, whoever that is.
const (
	PublicPath      = "/authorities/"
	ListPath        = "/crl"
	StatusPath      = "/ocsp"
	CertificatePath = "/certificate"
)

// authorityAt opens the authority at a spot.
func authorityAt(st *chest.Snapshot, spot chest.Spot, ref reference.Reference, now time.Time) (*authority, error) {
	found, err := spot.Serving(entity.Within, ref, now)
	if err != nil {
		return nil, err
	}
	return open(st, found.Drawer, found.Item, found.Number)
}

func open(st *chest.Snapshot, d *chest.Drawer, it *chest.Item, number int) (*authority, error) {
	if it.Row.Kind != entity.KindAuthority {
		return nil, chest.Invalid("reference", "%s/%s is a %s, and no authority", d.Row.Name, it.Row.Name, it.Row.Kind)
	}
	made, err := st.Made(d, it, number, func(stored []byte) (any, error) {
		fields, err := secretvalue.Decode(stored)
		if err != nil {
			return nil, err
		}
		private, _ := fields.Find("private")
		certificate, _ := fields.Find("certificate")
		issuer := &cert.Issuer{}
		if issuer.Key, err = cert.ReadPrivate(private.Value.Reveal()); err != nil {
			return nil, err
		}
		if issuer.Chain, _, err = cert.ReadChain(certificate.Value.Reveal(), issuer.Key.Public()); err != nil {
			return nil, err
		}
		if at := it.Row.ServedAt; at != "" {
			base := at + PublicPath + it.Row.ID
			issuer.ListURL, issuer.StatusURL, issuer.CertificateURL = base+ListPath, base+StatusPath, base+CertificatePath
		}
		return issuer, nil
	})
	if err != nil {
		return nil, err
	}
	return &authority{made.(*cert.Issuer), d, it, number}, nil
}

// profile is one that certificates are issued by.
type profile struct {
	*cert.Profile
	row    entity.Item
	signer string // what signs for it, by its item's id
}

// begin decides whether somebody may have certificates of a profile, and finds it.
func (s *Certs) begin(c chest.Caller, ref reference.Reference) (a *chest.Attempt, p *profile, err error) {
	a = s.heart.Attempt(c, access.Issue.String(), ref.Drawer+"/"+ref.Item)
	spot, err := a.Decide(access.Issue, ref.Drawer, ref.Item)
	if err != nil {
		return nil, nil, err
	}
	a.RestOnAccess()
	found, err := spot.Serving(entity.Within, ref, a.Entry.At)
	if err != nil {
		return nil, nil, a.Fail(a.St.Hint(c, ref, err, a.Entry.At))
	}
	a.Entry.OldName = found.Home != ""
	if err := a.DeniedNow(access.Issue, found.Home); err != nil {
		return nil, nil, err
	}
	facts := certrow.Of(found.Item.Versions[found.Number-1].Facts)
	if facts == nil || facts.Profile == nil {
		return nil, nil, a.Fail(chest.Invalid("profile", "%s is a %s, and no profile", ref, found.Item.Row.Kind))
	}
	if err := latest(found, ref, a.Entry.At); err != nil {
		return nil, nil, a.Fail(err)
	}
	return a, &profile{facts.Profile, found.Item.Row, facts.Signer}, nil
}

// latest refuses a version of a profile in the place of a later one that is suspended, or has ended: it may give more, and who may change
// the item could bring it back without the right to say what an authority signs.
func latest(found chest.Serving, ref reference.Reference, now time.Time) error {
	for number := len(found.Item.Versions); number > found.Number; number-- {
		switch state := found.Item.Life.VersionAt(number, now); state {
		case lifecycle.Staged, lifecycle.Waiting:
		default:
			return &chest.Error{Code: chest.NotServable, Reason: string(state), Detail: fmt.Sprintf("%s: version %d is %s, and an older one "+
				"does not take its place: put in a new one", ref, number, state)}
		}
	}
	return nil
}

// signerOf opens the authority of a profile, wherever it is now.
func signerOf(a *chest.Attempt, p *profile) (*authority, error) {
	spot, ref, is := certrow.Where(a.St, p.signer)
	if !is {
		return nil, &chest.Error{Code: chest.NotPossible, Field: "authority", Detail: "the authority does not exist any more"}
	}
	a.RestBeside(spot)
	return authorityAt(a.St, spot, ref, a.Entry.At)
}

// beginWith is begin for what a key signs, which it opens.
func (s *Certs) beginWith(c chest.Caller, ref reference.Reference, gives cert.Gives) (a *chest.Attempt, p *profile, found chest.Serving,
	key *cryptokey.Key, err error) {
	if a, p, err = s.begin(c, ref); err != nil {
		return a, p, found, nil, err
	}
	if err = certrow.Told(p.Give(gives)); err == nil {
		found, key, err = keyOf(a, p)
	}
	if err != nil {
		err = a.Fail(err)
	}
	return a, p, found, key, err
}

// keyOf opens the key that signs for a profile, wherever it is now.
func keyOf(a *chest.Attempt, p *profile) (found chest.Serving, key *cryptokey.Key, err error) {
	spot, ref, is := certrow.Where(a.St, p.signer)
	if !is {
		return found, nil, &chest.Error{Code: chest.NotPossible, Field: "authority", Detail: "the key that signs does not exist any more"}
	}
	a.RestBeside(spot)
	if found, err = spot.Serving(entity.Within, ref, a.Entry.At); err != nil {
		return found, nil, err
	}
	facts := keyrow.Of(found.Item.Row) // which it has for good
	opened, err := a.St.Made(found.Drawer, found.Item, found.Number, func(stored []byte) (any, error) {
		return cryptokey.Open(facts.Type, facts.Operations, stored)
	})
	if err != nil {
		return found, nil, err
	}
	return found, opened.(*cryptokey.Key), nil
}

// inTurn signs by a key of a type: as soon as it is the caller's turn, if that takes long.
func (s *Certs) inTurn(c chest.Caller, kind cryptokey.Type, sign func() error) error {
	if kind.Slow() {
		done, err := s.using.Take(c.Ctx(), c.ID)
		if err != nil {
			return err
		}
		defer done()
	}
	return sign()
}

// newKey makes a key, when it is the caller's turn.
func (s *Certs) newKey(c chest.Caller, kind string) (key signer, err error) {
	done, err := s.making.Take(c.Ctx(), c.ID)
	if err != nil {
		return nil, err
	}
	defer done()
	key, err = cert.NewKey(kind)
	return key, certrow.Told(err)
}

// rowOf is what is kept of a certificate that was signed.
func rowOf(a *chest.Attempt, by *authority, facts cert.Facts, profile, place string) entity.Issued {
	return entity.Issued{ID: by.item.Row.ID + "/" + facts.Serial, Authority: by.item.Row.ID, Serial: facts.Serial, Subject: facts.CommonName,
		Names: strings.Join(facts.Names, " "), KeyType: facts.KeyType, Fingerprint: facts.Fingerprint,
		NotBefore: chest.Micros(facts.NotBefore), NotAfter: chest.Micros(facts.NotAfter), Profile: profile, Place: place,
		Holder: a.Caller.ID, CreatedAt: chest.Micros(a.Entry.At), CreatedBy: a.Caller.Name}
}

// about says what was signed, for the trail.
func about(f cert.Facts) string {
	what := strings.Join(f.Names, " ")
	if what == "" {
		what = f.Subject
	}
	return fmt.Sprintf("certificate %s of %.200s until %s", f.Serial, what, f.NotAfter.Format(time.RFC3339))
}

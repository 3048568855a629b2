package certs

import (
	"cmp"
	"crypto/x509"
	"net/url"
	"slices"
	"strings"
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
	"tansu/internal/store"
)

// issueAuthority is what certifying another authority is called in the trail.
const issueAuthority = "issue_authority"

// NewAuthority is what is said of a new authority. Its key is made here, or brought.
type NewAuthority struct {
	cert.Below
	Under       reference.Reference // the authority that certifies it; the zero value for none: it stands by itself
	KeyType     string
	Description string
	Owner       string
	ServedAt    string // the URL of the chest that certificates name, for lists of those that are revoked; empty for none
	// Of one that is brought: its chain and key, in PEM; then nothing is said of a subject, a life and bounds.
	Certificate []byte
	Private     secretvalue.Value
}

func (n *NewAuthority) check() error {
	if n.ServedAt != "" {
		at, err := url.Parse(n.ServedAt)
		if err != nil || at.Scheme != "http" && at.Scheme != "https" || at.Host == "" || at.User != nil || at.RawQuery != "" {
			return chest.Invalid("served_at", "served_at is the URL of this chest for whoever checks a certificate, such as "+
				"http://vault.harbour.example:7733")
		}
		n.ServedAt = strings.TrimRight(n.ServedAt, "/")
	}
	brought := n.Private.Len() > 0 || len(n.Certificate) > 0
	if brought && (n.Subject != "" || n.Life != 0 || n.PathLength != nil || len(n.Within) > 0 || n.Under.Item != "" || n.KeyType != "") {
		return chest.Invalid("certificate", "an authority that is brought says its name, life and bounds itself")
	}
	if brought && (n.Private.Len() == 0 || len(n.Certificate) == 0) {
		return chest.Invalid("private", "an authority that is brought is its certificate and its private key")
	}
	return nil
}

// CreateAuthority makes an authority, or takes one that is brought, and puts it into a new item.
func (s *Certs) CreateAuthority(c chest.Caller, ref reference.Reference, n NewAuthority) (it shelf.Item, made shelf.Version, err error) {
	if err := n.check(); err != nil {
		return it, made, err
	}
	item := shelf.NewItem{Description: n.Description, Owner: n.Owner, Shape: secretvalue.Authority, ServedAt: n.ServedAt}
	if n.Private.Len() > 0 {
		return s.shelf.CreateItem(c, ref, item, content.Version{Fields: []content.Field{
			{Name: "certificate", Value: secretvalue.New(n.Certificate)}, {Name: "private", Value: n.Private}}})
	}
	if _, err := s.heart.Allow(c, access.WriteVersion, ref.Drawer, ref.Item); err != nil {
		return it, made, err
	}
	key, err := s.newKey(c, n.KeyType)
	if err != nil {
		return it, made, err
	}
	var chain []*x509.Certificate
	var by string
	if n.Under.Item == "" {
		own, err := cert.NewAuthority(nil, key, n.Below, s.heart.Now())
		if err != nil {
			return it, made, certrow.Told(err)
		}
		chain = []*x509.Certificate{own}
	} else if chain, by, err = s.below(c, n.Under, key, n.Below, ""); err != nil {
		return it, made, err
	}
	private, err := cert.WritePrivate(key)
	if err != nil {
		return it, made, err
	}
	it, made, err = s.shelf.CreateItem(c, ref, item, content.Version{Fields: []content.Field{
		{Name: "certificate", Value: secretvalue.New(cert.PEM(chain))}, {Name: "private", Value: secretvalue.New(private)}}})
	if err != nil && n.Under.Item != "" {
		s.takeBack(c, n.Under.String(), by, cert.Describe(chain[0]).Serial)
	}
	return it, made, err
}

// below has an authority certify another one, and returns its chain. It says what the authority stands for, as a profile does, and takes
// what that takes: the right to change its rules.
func (s *Certs) below(c chest.Caller, under reference.Reference, key signer, b cert.Below, place string) (chain []*x509.Certificate,
	signer string, err error) {
	err = s.heart.Try(func() error {
		a := s.heart.Attempt(c, issueAuthority, under.Drawer+"/"+under.Item)
		spot, err := a.Decide(access.ChangeRules, under.Drawer, under.Item)
		if err != nil {
			return err
		}
		a.RestOnAccess()
		by, err := authorityAt(a.St, spot, under, a.Entry.At)
		if err != nil {
			return a.Fail(a.St.Hint(c, under, err, a.Entry.At))
		}
		if by.name() != under.Drawer+"/"+under.Item {
			if err := a.DeniedNow(access.ChangeRules, by.name()); err != nil {
				return err
			}
		}
		made, err := cert.NewAuthority(by.Issuer, key, b, a.Entry.At)
		if err != nil {
			return a.Fail(certrow.Told(err))
		}
		chain, signer = append([]*x509.Certificate{made}, by.Chain...), by.item.Row.ID
		facts := cert.Describe(made)
		a.Entry.Detail = about(facts)
		a.Change.Insert(rowOf(a, by, facts, "", place))
		return a.Commit("certificate " + facts.Serial)
	})
	return chain, signer, err
}

// RenewAuthority certifies an authority again, with its key, its name and its bounds, for a life from now on: by itself, or by the one
// above it, for which it takes the right to change that one's rules. What it has signed stays good.
func (s *Certs) RenewAuthority(c chest.Caller, ref, under reference.Reference, life time.Duration) (it shelf.Item, made shelf.Version,
	err error) {
	a, err := s.heart.Allow(c, access.WriteVersion, ref.Drawer, ref.Item)
	if err != nil {
		return it, made, err
	}
	d, found, err := a.St.ItemOf(ref)
	if err != nil {
		return it, made, a.Fail(err)
	}
	if len(found.Versions) == 0 || newest(found) == nil {
		return it, made, a.Fail(chest.Invalid("reference", "%s is no authority", ref))
	}
	own, err := open(a.St, d, found, len(found.Versions))
	if err != nil {
		return it, made, a.Fail(err)
	}
	b := cert.BelowOf(own.Chain[0], life)
	var chain []*x509.Certificate
	switch self := string(own.Chain[0].RawIssuer) == string(own.Chain[0].RawSubject); {
	case self && under.Item != "":
		return it, made, a.Fail(chest.Invalid("under", "%s stands by itself: no other authority certifies it", ref))
	case self:
		again, err := cert.NewAuthority(nil, own.Key, b, a.Entry.At)
		if err != nil {
			return it, made, a.Fail(certrow.Told(err))
		}
		chain = []*x509.Certificate{again}
	case under.Item == "":
		return it, made, a.Fail(chest.Invalid("under", "%s is certified by another authority: name it (under)", ref))
	default:
		if chain, _, err = s.below(c, under, own.Key, b, found.Row.ID); err != nil {
			return it, made, err
		}
	}
	return s.shelf.AddVersion(c, ref, 0, content.Version{Merge: true, Fields: []content.Field{
		{Name: "certificate", Value: secretvalue.New(cert.PEM(chain))}}})
}

// Authority is what is known of an authority.
type Authority struct {
	shelf.Item
	Chain    []*x509.Certificate // empty for a key that signs by profiles, as is what follows
	Public   string              // the path under which it says what anybody may know
	Profiles []ProfileOf         // in the same drawer
	Good     int                 // certificates that are valid
	Ending   int                 // of these, those that end within 30 days
	Ended    int
	Revoked  int
}

// ProfileOf is a profile of an authority that the caller may list.
type ProfileOf struct {
	Reference   string
	Description string
	cert.Profile
}

// ending is when a certificate counts as ending.
const ending = 30 * 24 * time.Hour

// Authority tells about an authority, or about a key that signs by profiles.
func (s *Certs) Authority(c chest.Caller, ref reference.Reference) (r Authority, err error) {
	a, err := s.heart.Allow(c, access.SeeMetadata, ref.Drawer, ref.Item)
	if err != nil {
		return r, err
	}
	d, it, err := a.St.ReadItem(ref)
	if err != nil {
		return r, a.Fail(a.St.Hint(c, ref, err, a.Entry.At))
	}
	r = Authority{Item: shelf.Describe(d, it, a.Entry.At)}
	switch {
	case it.Row.Kind == entity.KindKey: // which signs for SSH, and tokens
	case it.Row.Kind == entity.KindAuthority && len(it.Versions) > 0:
		own, err := open(a.St, d, it, cmp.Or(r.Current, len(it.Versions)))
		if err != nil {
			return r, a.Fail(err)
		}
		r.Chain, r.Public = own.Chain, PublicPath+it.Row.ID
	default:
		return r, a.Fail(chest.Invalid("reference", "%s is a %s, and no authority", ref, it.Row.Kind))
	}
	for _, row := range a.St.IssuedBy(it.Row.ID) {
		switch state := stateOf(row, a.Entry.At); {
		case state == Revoked:
			r.Revoked++
		case state == Ended:
			r.Ended++
		default:
			r.Good++
			if chest.FromMicros(row.NotAfter).Before(a.Entry.At.Add(ending)) {
				r.Ending++
			}
		}
	}
	err = a.St.Each(d, store.ItemFilter{Said: []store.Said{{Columns: []string{"shape"}, Text: string(secretvalue.Profile)}}},
		func(p *chest.Item) bool {
			if facts := newest(p); facts != nil && facts.Signer == it.Row.ID && a.St.MayList(c, d, p, a.Entry.At) {
				r.Profiles = append(r.Profiles, ProfileOf{d.Row.Name + "/" + p.Row.Name, p.Row.Description, *facts.Profile})
			}
			return true
		})
	if err != nil {
		return r, a.Fail(err)
	}
	return chest.Reply(a, r)
}

// The states of a certificate that was issued.
const (
	Good    = "good"
	Ended   = "ended"
	Revoked = "revoked"
)

func stateOf(row entity.Issued, now time.Time) string {
	switch {
	case row.RevokedAt != 0:
		return Revoked
	case !now.Before(chest.FromMicros(row.NotAfter)):
		return Ended
	}
	return Good
}

// Issued is a certificate that was issued.
type Issued struct {
	entity.Issued
	State   string
	Profile string // by its name of today; empty for an authority below, and where the caller may not list it
	Place   string // the item that it was made for; likewise
}

// describe tells about a row. Names are those that were found before, by the items' ids.
func describe(a *chest.Attempt, row entity.Issued, names map[string]string) Issued {
	listed := func(id string) string {
		if _, known := names[id]; !known {
			spot, ref, is := certrow.Where(a.St, id)
			if names[id] = ""; is && a.St.MayList(a.Caller, spot.Home, spot.Item, a.Entry.At) {
				names[id] = ref.String()
			}
		}
		return names[id]
	}
	return Issued{Issued: row, State: stateOf(row, a.Entry.At), Profile: listed(row.Profile), Place: listed(row.Place)}
}

// Wanted selects certificates that were issued.
type Wanted struct {
	Search string // in a name, the subject or the serial number
	State  string // good, ended or revoked; empty for all
	Before string // the id of the last one of the part before
	Most   int    // 0 for all
}

// IssuedBy lists what an authority has issued, the newest first.
func (s *Certs) IssuedBy(c chest.Caller, ref reference.Reference, w Wanted) (list []Issued, more bool, err error) {
	if w.State != "" && w.State != Good && w.State != Ended && w.State != Revoked {
		return nil, false, chest.Invalid("state", "state is good, ended or revoked")
	}
	a, err := s.heart.Allow(c, access.SeeMetadata, ref.Drawer, ref.Item)
	if err != nil {
		return nil, false, err
	}
	_, it, err := a.St.ReadItem(ref)
	if err != nil {
		return nil, false, a.Fail(a.St.Hint(c, ref, err, a.Entry.At))
	}
	if it.Row.Kind != entity.KindAuthority && it.Row.Kind != entity.KindKey { // which signs certificates of SSH
		return nil, false, a.Fail(chest.Invalid("reference", "%s is a %s, and no authority", ref, it.Row.Kind))
	}
	search := strings.ToLower(w.Search)
	serial := strings.ReplaceAll(search, ":", "")
	rows := slices.DeleteFunc(a.St.IssuedBy(it.Row.ID), func(row entity.Issued) bool {
		return w.State != "" && stateOf(row, a.Entry.At) != w.State || search != "" && !strings.Contains(strings.ToLower(row.Names), search) &&
			!strings.Contains(strings.ToLower(row.Subject), search) && !strings.Contains(row.Serial, serial)
	})
	slices.SortFunc(rows, func(x, y entity.Issued) int {
		return cmp.Or(-cmp.Compare(x.CreatedAt, y.CreatedAt), cmp.Compare(x.ID, y.ID))
	})
	if w.Before != "" {
		at := slices.IndexFunc(rows, func(row entity.Issued) bool { return row.Serial == w.Before })
		if at < 0 {
			return nil, false, a.Fail(chest.Invalid("cursor", "what this cursor leads on from is not in the list any more: begin without a cursor"))
		}
		rows = rows[at+1:]
	}
	if w.Most > 0 && len(rows) > w.Most {
		rows, more = rows[:w.Most], true
	}
	names := map[string]string{}
	for _, row := range rows {
		list = append(list, describe(a, row, names))
	}
	if err := a.Done(); err != nil {
		return nil, false, err
	}
	return list, more, nil
}

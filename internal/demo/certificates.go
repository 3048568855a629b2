package demo

import (
	"time"

	"tansu/internal/certs"
	"tansu/internal/core/cert"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/shelf"
)

func gate(item string) reference.Reference {
	return reference.Reference{Drawer: "harbour-gates-prod", Item: item}
}

// certificateSeeds are what happened about the certificates of the harbour gates, and how long ago.
var certificateSeeds = map[time.Duration]func(f *filler) error{
	57 * day: (*filler).makeAuthority,
	50 * day: func(f *filler) error { return f.issueFor("gate-north", "Panel of the north gate") },
	40 * day: (*filler).loseGate,
	30 * day: func(f *filler) error { return f.renew("gate-north") },
	24 * day: func(f *filler) error {
		return f.issueFor("gate-south", "Panel of the south gate; nobody has set its agent up yet")
	},
	10 * day: func(f *filler) error { return f.renew("gate-north") },
}

// makeCertificates does what was done on a day.
func (f *filler) makeCertificates(ago time.Duration) error {
	if do := certificateSeeds[ago]; do != nil {
		return do(f)
	}
	return nil
}

func (f *filler) makeAuthority() error {
	duty, err := f.as("security-duty")
	if err != nil {
		return err
	}
	none := 0
	for _, one := range []struct {
		item string
		n    certs.NewAuthority
	}{
		{"gate-root", certs.NewAuthority{Below: cert.Below{Subject: "Ferry harbours root", Life: 7300 * day,
			Within: []string{"harbour.example"}}, Description: "What gates and panels trust", Owner: "person:harbour-master"}},
		{"gate-authority", certs.NewAuthority{Below: cert.Below{Subject: "Harbour gates", Life: 730 * day, PathLength: &none},
			Under: gate("gate-root"), Description: "Signs the certificates of gates", Owner: "person:harbour-master"}},
	} {
		one.n.ServedAt = f.url
		if _, _, err := f.s.Certs.CreateAuthority(duty, gate(one.item), one.n); err != nil {
			return err
		}
	}
	profile := `{"authority":"gate-authority","names":["*.harbour.example"],"usages":["server","client"],"longest":"30d"}`
	_, _, err = f.s.CreateItem(duty, gate("gate-panel"), shelf.NewItem{Shape: secretvalue.Profile, Owner: "person:harbour-master",
		Description: "Certificates of the panels beside the gates"}, shelf.NewVersion{Content: secretvalue.FromString(profile)})
	return err
}

func (f *filler) issueFor(item, description string) error {
	app, err := f.app("gate-controller", ship)
	if err != nil {
		return err
	}
	_, err = f.s.Certs.Issue(app, gate("gate-panel"), certs.Order{Names: []string{item + ".harbour.example"}, Into: gate(item),
		Description: description, Owner: "person:harbour-master"})
	return err
}

func (f *filler) renew(item string) error {
	app, err := f.app("gate-controller", ship)
	if err != nil {
		return err
	}
	_, err = f.s.Certs.Renew(app, gate(item), 0, false)
	return err
}

// loseGate has a certificate issued for a key on a panel that is stolen a little later.
func (f *filler) loseGate() error {
	app, err := f.app("gate-controller", ship)
	if err != nil {
		return err
	}
	key, err := cert.NewKey("")
	if err != nil {
		return err
	}
	names, err := cert.ReadNames([]string{"gate-east.harbour.example"})
	if err != nil {
		return err
	}
	request, err := cert.NewRequest(key, "", names)
	if err != nil {
		return err
	}
	made, err := f.s.Certs.Issue(app, gate("gate-panel"), certs.Order{Request: request})
	if err != nil {
		return err
	}
	duty, err := f.as("security-duty")
	if err != nil {
		return err
	}
	duty.Reason = "the panel of the east gate was stolen"
	_, err = f.s.Certs.Revoke(duty, gate("gate-authority"), made.Facts.Serial, "key_compromise")
	return err
}

package demo

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"time"

	"tansu/internal/core/cert"
	"tansu/internal/core/cryptokey"
	"tansu/internal/core/reference"
	"tansu/internal/core/secretvalue"
	"tansu/internal/keyrow"
	"tansu/internal/keys"
	"tansu/internal/shelf"
)

// keySeeds are the keys that stay in the chest: when each was made and rotated.
var keySeeds = []struct {
	ref         reference.Reference
	facts       keyrow.Facts
	brought     bool
	description string
	owner       string
	ago         []time.Duration
}{
	{reference.Reference{Drawer: "ticketing-prod", Item: "boarding-pass-key"}, keyrow.Facts{Type: cryptokey.Ed25519}, false,
		"Signs boarding passes; gates check them by the public half", "person:ticketing-lead", []time.Duration{58 * day, 9 * day}},
	{reference.Reference{Drawer: "ticketing-prod", Item: "passenger-data-key"}, keyrow.Facts{Type: cryptokey.AES256}, false,
		"Encrypts what passengers tell us, booking by booking", "person:ticketing-lead", []time.Duration{58 * day, 12 * day}},
	{reference.Reference{Drawer: "fleet-telemetry-prod", Item: "voyage-log-key"}, keyrow.Facts{Operations: cryptokey.Encryption}, true,
		"Opens voyage logs, which ships encrypt to its public half; made on the old log server", "person:platform-oncall",
		[]time.Duration{57 * day}},
	{gate("gate-ssh-key"), keyrow.Facts{Type: cryptokey.Ed25519}, false, "Certifies logins to the gates, for SSH", "person:harbour-master",
		[]time.Duration{57 * day}},
}

// makeKeys makes and rotates the keys whose day it is.
func (f *filler) makeKeys(ago time.Duration) error {
	for _, seed := range keySeeds {
		for i, made := range seed.ago {
			if made != ago {
				continue
			}
			duty, err := f.as("security-duty")
			if err != nil {
				return err
			}
			v := shelf.NewVersion{Note: "rotated"}
			if i > 0 {
				if _, _, err = f.s.AddVersion(duty, seed.ref, 0, v); err != nil {
					return err
				}
				continue
			}
			v.Note = "first"
			if seed.brought {
				if v.Brought, err = elsewhere(); err != nil {
					return err
				}
			}
			facts := seed.facts
			n := shelf.NewItem{Description: seed.description, Owner: seed.owner, Key: &facts}
			if _, _, err = f.s.CreateItem(duty, seed.ref, n, v); err != nil {
				return err
			}
		}
	}
	return nil
}

// deckPass is the profile by which the ticket shop has passes signed that gates check without asking anybody.
var deckPass = reference.Reference{Drawer: "ticketing-prod", Item: "car-deck-pass"}

// makeProfiles says what keys sign for others, and lets gates have the public halves.
func (f *filler) makeProfiles(ago time.Duration) error {
	if ago != 56*day {
		return nil
	}
	duty, err := f.as("security-duty")
	if err != nil {
		return err
	}
	d, err := f.s.Drawer(duty, deckPass.Drawer, shelf.WithoutRetired, "", 1)
	if err != nil {
		return err
	}
	open := true
	if _, err := f.s.ChangeDrawer(duty, deckPass.Drawer, d.Revision, shelf.Described{KeysOpen: &open}); err != nil {
		return err
	}
	for _, one := range []struct {
		ref                         reference.Reference
		profile, description, owner string
	}{
		{deckPass, `{"authority":"boarding-pass-key","longest":"15m","jwt":{"issuer":"https://tickets.example","audiences":["gate-*"],` +
			`"claims":{"deck":["car","foot"]}}}`, "Passes that gates check by themselves", "person:ticketing-lead"},
		{gate("gate-login"), `{"authority":"gate-ssh-key","ssh":"user","principals":["deploy"],"extensions":["permit-pty"],"longest":"8h"}`,
			"Logins of whoever repairs a gate", "person:harbour-master"},
	} {
		n := shelf.NewItem{Shape: secretvalue.Profile, Owner: one.owner, Description: one.description}
		if _, _, err := f.s.CreateItem(duty, one.ref, n, shelf.NewVersion{Content: secretvalue.FromString(one.profile)}); err != nil {
			return err
		}
	}
	return nil
}

// elsewhere is a key that was made on another machine.
func elsewhere() (secretvalue.Value, error) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		return secretvalue.Value{}, err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	return secretvalue.New(der), err
}

// useKeys is an ordinary day of the ticket shop: boarding passes are signed, and passengers' data encrypted and looked at. One booking is
// from before the key was rotated.
func (f *filler) useKeys(ago time.Duration) error {
	if ago >= keySeeds[0].ago[0] {
		return nil
	}
	shop, err := f.app("ticket-api", office)
	if err != nil {
		return err
	}
	use := func(ref reference.Reference, uses ...keys.Use) ([]keys.Result, error) {
		results, err := f.s.Use(shop, ref, uses)
		for _, r := range results {
			if err == nil {
				err = r.Err
			}
		}
		return results, err
	}
	if _, err := use(keySeeds[0].ref, keys.Use{Op: keys.Sign, Message: []byte("line 4, car deck, 07:10")},
		keys.Use{Op: keys.Sign, Message: []byte("line 4, on foot, 07:10")}); err != nil {
		return err
	}
	booking := []byte("booking " + random(6))
	sealed, err := use(keySeeds[1].ref, keys.Use{Op: keys.Encrypt, Message: []byte(`{"passport":"made up"}`), Associated: booking})
	if err != nil {
		return err
	}
	if f.oldest == nil {
		f.oldest, f.oldestBooking = sealed[0].Ciphertext, booking
	}
	if ago < 56*day {
		pass := cert.JWTRequest{Audiences: []string{"gate-north"}, Claims: map[string][]string{"deck": {"car"}}}
		if _, err := f.s.Certs.IssueJWT(shop, deckPass, pass); err != nil {
			return err
		}
	}
	_, err = use(keySeeds[1].ref, keys.Use{Op: keys.Decrypt, Ciphertext: sealed[0].Ciphertext, Associated: booking},
		keys.Use{Op: keys.Decrypt, Ciphertext: f.oldest, Associated: f.oldestBooking})
	return err
}

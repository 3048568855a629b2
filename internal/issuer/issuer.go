// Package issuer finds the keys with which outside issuers sign (OpenID Connect Discovery 1.0, section 4; RFC 7517), and has a
// small issuer of its own that stands in for a pipeline system in the demo and in tests.
//
// The addresses are those that somebody who may register identities has registered, never what a token says, and lead to the public
// Internet or to networks that whoever starts the service has named: a chest is no way for somebody else into the network that it is in.
// What is checked is the address that is dialled, after its name was looked up. What an issuer answers is bounded in time and size, and
// kept: one that hangs, grows or is down costs a caller a few seconds once a minute,
// and keys that were seen before stay good for a day.
package issuer

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// Bounds.
const (
	patience  = 5 * time.Second
	maxAnswer = 256 << 10
	maxKeys   = 100
	fresh     = 10 * time.Minute // keys are not asked for again unless one is missing
	kept      = 24 * time.Hour   // keys stay good for so long while the issuer does not answer
	pause     = time.Minute      // between two questions about a key that is missing, or after one that was not answered
)

const wellKnown = "/.well-known/openid-configuration"

// Known is the issuers whose keys were asked for. It is safe for concurrent use.
type Known struct {
	Now      func() time.Time
	Patience time.Duration  // with an issuer that does not answer
	Networks []netip.Prefix // besides those of the public Internet, in which issuers may be

	mu      sync.Mutex
	issuers map[[sha256.Size]byte]*issuer
}

type issuer struct {
	mu    sync.Mutex // one question at a time
	keys  []jose.JSONWebKey
	at    time.Time // when they were got
	asked time.Time // when they were asked for last
	err   error     // what came of that
}

// New knows none yet.
func New() *Known {
	return &Known{Now: time.Now, Patience: patience, issuers: map[[sha256.Size]byte]*issuer{}}
}

// Keys returns the public keys that an issuer signs with. The authority is that of its TLS certificate, PEM; empty for those that
// the system knows. When a key of that id is not among those that are kept, they are asked for again, at most once a minute.
func (k *Known) Keys(ctx context.Context, address, authority, keyID string) ([]jose.JSONWebKey, error) {
	i := k.issuer(address, authority)
	i.mu.Lock()
	defer i.mu.Unlock()
	now := k.Now()
	has := keyID == "" || slices.ContainsFunc(i.keys, func(key jose.JSONWebKey) bool { return key.KeyID == keyID })
	age := now.Sub(i.at)
	if i.keys != nil && has && age < fresh || now.Sub(i.asked) < pause {
		return i.good(now)
	}
	i.asked = now
	// Who asked first may be gone before the answer is there, which is for others, too.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), k.Patience)
	defer cancel()
	keys, err := k.fetch(ctx, address, authority)
	if i.err = err; err == nil {
		i.keys, i.at = keys, now
	}
	return i.good(now)
}

// good are the keys that are not too old.
func (i *issuer) good(now time.Time) ([]jose.JSONWebKey, error) {
	if i.keys != nil && now.Sub(i.at) < kept {
		return i.keys, nil
	}
	if i.err == nil {
		i.err = errors.New("its keys are not known")
	}
	return nil, i.err
}

// mostKnown bounds how many issuers are kept; registrations are few.
const mostKnown = 1000

func (k *Known) issuer(address, authority string) *issuer {
	key := sha256.Sum256([]byte(address + "\x00" + authority))
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.issuers[key] == nil {
		if len(k.issuers) >= mostKnown {
			clear(k.issuers)
		}
		k.issuers[key] = &issuer{}
	}
	return k.issuers[key]
}

func (k *Known) fetch(ctx context.Context, address, authority string) ([]jose.JSONWebKey, error) {
	c, err := k.clientFor(authority)
	if err != nil {
		return nil, err
	}
	defer c.CloseIdleConnections()
	var about struct {
		Issuer string `json:"issuer"`
		Keys   string `json:"jwks_uri"`
	}
	if err := get(ctx, c, strings.TrimSuffix(address, "/")+wellKnown, &about); err != nil {
		return nil, err
	}
	if about.Issuer != address { // section 4.3
		return nil, fmt.Errorf("it calls itself %.200q", about.Issuer)
	}
	if !sameHost(address, about.Keys) {
		return nil, fmt.Errorf("it says that its keys are elsewhere: %.200q", about.Keys)
	}
	var set struct {
		Keys []json.RawMessage `json:"keys"`
	}
	if err := get(ctx, c, about.Keys, &set); err != nil {
		return nil, err
	}
	keys := []jose.JSONWebKey{}
	for _, encoded := range set.Keys[:min(len(set.Keys), maxKeys)] {
		var key jose.JSONWebKey
		if key.UnmarshalJSON(encoded) == nil && key.IsPublic() && key.Valid() { // kinds that nobody here knows are left out (RFC 7517, section 5)
			keys = append(keys, key)
		}
	}
	return keys, nil
}

// sameHost reports whether two addresses have one scheme, host and port.
func sameHost(address, other string) bool {
	x, err := url.Parse(address)
	y, err2 := url.Parse(other)
	return err == nil && err2 == nil && x.Scheme == y.Scheme && x.Host == y.Host
}

// nowhere are networks that are not of the public Internet, besides those that package netip tells: shared address space, protocol
// assignments, benchmarks, documentation and what is reserved (IANA's special-purpose address registries, RFC 6890).
var nowhere = func() (list []netip.Prefix) {
	for _, text := range []string{"0.0.0.0/8", "100.64.0.0/10", "192.0.0.0/24", "192.0.2.0/24", "198.18.0.0/15", "198.51.100.0/24",
		"203.0.113.0/24",
		"240.0.0.0/4", "64:ff9b::/96", "64:ff9b:1::/48", "100::/64", "2001::/23", "2001:db8::/32", "2002::/16", "fec0::/10"} {
		list = append(list, netip.MustParsePrefix(text))
	}
	return list
}()

// Allows reports whether an issuer may be at an address.
func (k *Known) Allows(addr netip.Addr) bool {
	addr = addr.Unmap().WithZone("")
	within := func(p netip.Prefix) bool { return p.Contains(addr) }
	if slices.ContainsFunc(k.Networks, within) {
		return true
	}
	return addr.IsGlobalUnicast() && !addr.IsPrivate() && !slices.ContainsFunc(nowhere, within)
}

// AllowsHost is Allows for what is written in a URL: a name is looked up when it is dialled, and only an address can be refused before.
func (k *Known) AllowsHost(host string) bool {
	if host == "localhost" {
		host = "127.0.0.1"
	}
	addr, err := netip.ParseAddr(host)
	return err != nil || k.Allows(addr)
}

// dialled refuses a connection before it is made, by the address that it would be to (package net calls it Control).
func (k *Known) dialled(_, address string, _ syscall.RawConn) error {
	to, err := netip.ParseAddrPort(address)
	if err != nil || !k.Allows(to.Addr()) {
		return errors.New("it is in a network in which issuers are not contacted (tansu serve --issuer-network)")
	}
	return nil
}

func (k *Known) clientFor(authority string) (*http.Client, error) {
	settings := &tls.Config{MinVersion: tls.VersionTLS12}
	if authority != "" {
		settings.RootCAs = x509.NewCertPool()
		if !settings.RootCAs.AppendCertsFromPEM([]byte(authority)) {
			return nil, errors.New("its authority is not a certificate")
		}
	}
	return &http.Client{
		Transport: &http.Transport{TLSClientConfig: settings, DialContext: (&net.Dialer{Timeout: patience, Control: k.dialled}).DialContext,
			MaxResponseHeaderBytes: 16 << 10},
		CheckRedirect: func(*http.Request, []*http.Request) error { return errors.New("it points elsewhere") },
	}, nil
}

func get(ctx context.Context, c *http.Client, address string, into any) error {
	parsed, err := url.Parse(address)
	if err != nil || parsed.Scheme != "https" && (parsed.Scheme != "http" || !loopback(parsed.Hostname())) {
		return errors.New("its addresses are not all https")
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return errors.New("its address cannot be asked")
	}
	response, err := c.Do(request)
	if err != nil {
		return err
	}
	defer func() { _ = response.Body.Close() }()
	if response.StatusCode != http.StatusOK {
		return fmt.Errorf("it answers %s", response.Status)
	}
	body, err := io.ReadAll(io.LimitReader(response.Body, maxAnswer+1))
	if err != nil {
		return err
	}
	if len(body) > maxAnswer {
		return fmt.Errorf("it answers with more than %d bytes", maxAnswer)
	}
	if err := json.Unmarshal(body, into); err != nil {
		return errors.New("it answers with something else")
	}
	return nil
}

func loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

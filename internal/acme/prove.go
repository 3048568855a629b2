package acme

import (
	"bytes"
	"context"
	"crypto"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/tls"
	"crypto/x509"
	"encoding/asn1"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// The ways in which a name is proved (RFC 8555, section 8, and RFC 8737).
const (
	byHTTP = "http-01"
	byDNS  = "dns-01"
	byTLS  = "tls-alpn-01"
)

// waysFor are those that are good for a name. What stands for all names below one is proved by DNS alone, and an address has no DNS.
func waysFor(name string) []string {
	switch {
	case strings.HasPrefix(name, "*."):
		return []string{byDNS}
	case net.ParseIP(name) != nil:
		return []string{byHTTP, byTLS}
	}
	return []string{byHTTP, byTLS, byDNS}
}

// thumbprint is that of a public key (RFC 7638).
func thumbprint(key jose.JSONWebKey) string {
	sum, err := key.Thumbprint(crypto.SHA256)
	if err != nil {
		return ""
	}
	return base64.RawURLEncoding.EncodeToString(sum)
}

// prover looks whether names show what they are to show. It connects to names that a profile gives, and to nothing else: it follows no
// redirections and goes through no proxy.
type prover struct {
	resolver  *net.Resolver
	http, tls string // ports
	slots     chan struct{}
}

func (p *prover) prove(ctx context.Context, way, name, token, shown string) error {
	select {
	case p.slots <- struct{}{}:
		defer func() { <-p.slots }()
	case <-ctx.Done():
		return errors.New("too many names are being looked at")
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	switch way {
	case byHTTP:
		return p.byHTTP(ctx, name, token, shown)
	case byTLS:
		return p.byTLS(ctx, name, shown)
	}
	return p.byDNS(ctx, strings.TrimPrefix(name, "*."), shown)
}

func (p *prover) dialer() *net.Dialer {
	return &net.Dialer{Timeout: 5 * time.Second, Resolver: p.resolver}
}

func (p *prover) byHTTP(ctx context.Context, name, token, shown string) error {
	transport := &http.Transport{DialContext: p.dialer().DialContext, DisableKeepAlives: true, MaxResponseHeaderBytes: 16 << 10}
	asks := http.Client{Transport: transport, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	address := "http://" + net.JoinHostPort(name, p.http) + "/.well-known/acme-challenge/" + token
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return err
	}
	if request.Host = name; p.http != "80" {
		request.Host = net.JoinHostPort(name, p.http)
	}
	response, err := asks.Do(request)
	if err != nil {
		return fmt.Errorf("no answer from port %s of %s", p.http, name)
	}
	defer func() { _ = response.Body.Close() }()
	text, err := io.ReadAll(io.LimitReader(response.Body, 1<<10))
	if err != nil || response.StatusCode != http.StatusOK {
		return fmt.Errorf("port %s of %s answers with status %d at /.well-known/acme-challenge/", p.http, name, response.StatusCode)
	}
	if subtle.ConstantTimeCompare(bytes.TrimSpace(text), []byte(shown)) != 1 {
		return fmt.Errorf("port %s of %s shows something else than what was asked for", p.http, name)
	}
	return nil
}

// oidShown is the extension of a certificate that shows what was asked for (RFC 8737, section 3).
var oidShown = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 1, 31}

func (p *prover) byTLS(ctx context.Context, name, shown string) error {
	server := name
	if ip := net.ParseIP(name); ip != nil {
		server = reverse(ip) // RFC 8738, section 6
	}
	dialer := &tls.Dialer{NetDialer: p.dialer(), Config: &tls.Config{ServerName: server, NextProtos: []string{"acme-tls/1"},
		MinVersion:         tls.VersionTLS12,
		InsecureSkipVerify: true}} // it shows a certificate of its own, in which the proof is
	connection, err := dialer.DialContext(ctx, "tcp", net.JoinHostPort(name, p.tls))
	if err != nil {
		return fmt.Errorf("port %s of %s does not speak acme-tls/1", p.tls, name)
	}
	defer func() { _ = connection.Close() }()
	state := connection.(*tls.Conn).ConnectionState()
	if state.NegotiatedProtocol != "acme-tls/1" || len(state.PeerCertificates) == 0 {
		return fmt.Errorf("port %s of %s does not speak acme-tls/1", p.tls, name)
	}
	leaf := state.PeerCertificates[0]
	if !onlyFor(leaf, name) {
		return fmt.Errorf("the certificate at port %s of %s is not for that name alone", p.tls, name)
	}
	want := sha256.Sum256([]byte(shown))
	for _, e := range leaf.Extensions {
		var sum []byte
		if !e.Id.Equal(oidShown) || !e.Critical {
			continue
		}
		if rest, err := asn1.Unmarshal(e.Value, &sum); err == nil && len(rest) == 0 && subtle.ConstantTimeCompare(sum, want[:]) == 1 {
			return nil
		}
	}
	return fmt.Errorf("port %s of %s shows something else than what was asked for", p.tls, name)
}

// onlyFor reports whether a certificate has one name.
func onlyFor(leaf *x509.Certificate, name string) bool {
	if ip := net.ParseIP(name); ip != nil {
		return len(leaf.DNSNames) == 0 && len(leaf.IPAddresses) == 1 && leaf.IPAddresses[0].Equal(ip)
	}
	return len(leaf.IPAddresses) == 0 && len(leaf.DNSNames) == 1 && strings.EqualFold(leaf.DNSNames[0], name)
}

// reverse is an address as DNS has it backwards (RFC 1035, section 3.5, and RFC 3596, section 2.5).
func reverse(ip net.IP) string {
	var labels []string
	if four := ip.To4(); four != nil {
		for _, b := range four {
			labels = append(labels, fmt.Sprint(b))
		}
		slices.Reverse(labels)
		return strings.Join(labels, ".") + ".in-addr.arpa"
	}
	for _, b := range ip.To16() {
		labels = append(labels, fmt.Sprintf("%x", b>>4), fmt.Sprintf("%x", b&15))
	}
	slices.Reverse(labels)
	return strings.Join(labels, ".") + ".ip6.arpa"
}

func (p *prover) byDNS(ctx context.Context, name, shown string) error {
	records, err := p.resolver.LookupTXT(ctx, "_acme-challenge."+name+".")
	if err != nil {
		return fmt.Errorf("there is no TXT record _acme-challenge.%s", name)
	}
	sum := sha256.Sum256([]byte(shown))
	want := base64.RawURLEncoding.EncodeToString(sum[:])
	for _, text := range records {
		if subtle.ConstantTimeCompare([]byte(text), []byte(want)) == 1 {
			return nil
		}
	}
	return fmt.Errorf("the TXT record _acme-challenge.%s has something else than what was asked for", name)
}

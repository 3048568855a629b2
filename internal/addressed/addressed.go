// Package addressed is how a service reaches an address that its operator named: whose certificate it takes, and what it proves itself
// with there. Both are files, named in the address's query and never sent:
//
//	https://keep.ferries.example/chests?ca=/etc/tansu/keep.crt&token-file=/etc/tansu/keep.token
package addressed

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"time"
)

// Names in the query of an address that are the service's own.
const (
	authorityFile = "ca"         // the certificate of the authority that the other side's is of
	tokenFile     = "token-file" // a bearer token (RFC 6750), read for each request, so that it can be changed
)

// Address is one that can be reached. It is safe for concurrent use.
type Address struct {
	URL   url.URL // without what is not sent
	http  http.Client
	token string // the file; empty for none
}

// To reads what an address names. A request takes no longer than a while, and is never sent on to another address.
func To(named *url.URL, longest time.Duration) (*Address, error) {
	roots, err := Authority(named)
	if err != nil {
		return nil, err
	}
	a := &Address{URL: *named, token: named.Query().Get(tokenFile)}
	query := named.Query()
	query.Del(authorityFile)
	query.Del(tokenFile)
	a.URL.RawQuery = query.Encode()
	if a.token != "" {
		if _, err := readToken(a.token); err != nil {
			return nil, err
		}
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.TLSClientConfig = &tls.Config{MinVersion: tls.VersionTLS12, RootCAs: roots}
	a.http = http.Client{Timeout: longest, Transport: transport,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	return a, nil
}

// Do sends a request.
func (a *Address) Do(r *http.Request) (*http.Response, error) {
	if a.token != "" {
		token, err := readToken(a.token)
		if err != nil {
			return nil, err
		}
		r.Header.Set("Authorization", "Bearer "+token)
	}
	return a.http.Do(r)
}

// CloseIdle closes connections that nobody uses.
func (a *Address) CloseIdle() { a.http.CloseIdleConnections() }

// Authority reads the certificate of the authority that an address names; nil for those that the system knows.
func Authority(named *url.URL) (*x509.CertPool, error) {
	file := named.Query().Get(authorityFile)
	if file == "" {
		return nil, nil
	}
	pem, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	roots := x509.NewCertPool()
	if !roots.AppendCertsFromPEM(pem) {
		return nil, fmt.Errorf("%s has no certificate in it", file)
	}
	return roots, nil
}

func readToken(file string) (string, error) {
	content, err := os.ReadFile(file)
	if err != nil {
		return "", fmt.Errorf("read the token for an address: %w", err)
	}
	content = bytes.TrimSpace(content)
	if len(content) == 0 || bytes.ContainsFunc(content, func(r rune) bool { return r <= ' ' || r > '~' }) {
		return "", errors.New(file + " does not have a token in it: one line of printable characters")
	}
	return string(content), nil
}

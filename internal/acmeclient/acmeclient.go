// Package acmeclient has certificates from authorities outside the chest that speak ACME (RFC 8555). The key of the certificate and that of
// the account stay in the chest: the one asks there (PKCS #10), the other signs there. The names are proved from this machine.
package acmeclient

import (
	"context"
	"crypto/ecdsa"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/acme"

	"tansu/client"
	"tansu/internal/core/reference"
)

// Order says from where a certificate comes, and how its names are proved; one of the four ways.
type Order struct {
	From    string   `yaml:"from"`                     // the URL of the directory (section 7.1.1)
	Trust   string   `yaml:"authority_file,omitempty"` // what the authority's own certificate leads to; empty for what this machine trusts
	Account string   `yaml:"account"`                  // DRAWER/KEY, of the account: ECDSA or RSA
	Binding string   `yaml:"binding,omitempty"`        // DRAWER/LOGIN, of external account binding: the key's ID, and the key
	Contact []string `yaml:"contact,omitempty"`        // addresses of mail
	Terms   bool     `yaml:"accept_terms,omitempty"`   // the authority's terms were read, and are accepted
	KeyType string   `yaml:"key_type,omitempty"`       // of the certificate; empty for a good one

	Webroot string `yaml:"webroot,omitempty"` // http-01, by the directory from which a web server at the name serves files
	HTTP    string `yaml:"http_on,omitempty"` // http-01, at an address of this machine such as :80
	TLS     string `yaml:"tls_on,omitempty"`  // tls-alpn-01 (RFC 8737), at an address such as :443
	// dns-01, by a program that is run with "set" or "remove", the name of a TXT record, and its text.
	DNS []string `yaml:"dns_command,omitempty"`
}

// Check says what is wrong with it.
func (o *Order) Check() error {
	at, err := url.Parse(o.From)
	switch {
	case err != nil || at.Host == "" || at.User != nil || at.Scheme != "https" && !(at.Scheme == "http" && onLoopback(at.Hostname())):
		return fmt.Errorf("%.200q is not the URL of an authority's directory: https://…", o.From)
	case !isItem(o.Account):
		return fmt.Errorf("account %.100q is not of the form DRAWER/KEY: make one with tansu key create DRAWER/KEY --type ecdsa-p256", o.Account)
	case o.Binding != "" && !isItem(o.Binding):
		return fmt.Errorf("binding %.100q is not of the form DRAWER/LOGIN", o.Binding)
	case o.Webroot != "" && !filepath.IsAbs(o.Webroot):
		return fmt.Errorf("webroot %.100q is not an absolute path", o.Webroot)
	case o.ways() != 1:
		return errors.New("say how the names are proved, in one way: webroot, http_on, tls_on or dns_command")
	}
	return nil
}

func (o *Order) ways() (n int) {
	for _, said := range []bool{o.Webroot != "", o.HTTP != "", o.TLS != "", len(o.DNS) > 0} {
		if said {
			n++
		}
	}
	return n
}

func isItem(text string) bool {
	ref, err := reference.Parse(text)
	return err == nil && ref.Item != "" && ref.Field == ""
}

func onLoopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// patience is how long one answer of an authority may take, and wait how long it may take until names are proved.
const (
	patience = 30 * time.Second
	wait     = 5 * time.Minute
)

// Obtain has a certificate for names, and puts it with its key into an item as the version that is served. What was begun and not finished
// before is gone on with: a key that waits in the item for a certificate of the same names is used.
func (o *Order) Obtain(ctx context.Context, chest *client.Client, certificate string, names []string) (stored client.Stored, err error) {
	ref, err := reference.Parse(certificate)
	if err != nil {
		return stored, err
	}
	ctx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	c, err := o.account(ctx, chest)
	if err != nil {
		return stored, err
	}
	order, err := c.AuthorizeOrder(ctx, identifiers(names))
	if err != nil {
		return stored, fmt.Errorf("order a certificate: %w", err)
	}
	for _, at := range order.AuthzURLs {
		if err := o.prove(ctx, c, at, names); err != nil {
			return stored, err
		}
	}
	order, err = c.WaitOrder(ctx, order.URI)
	if err != nil {
		return stored, fmt.Errorf("wait for the order: %w", err)
	}
	request, err := o.request(ctx, chest, ref, names)
	if err != nil {
		return stored, err
	}
	der, _, err := c.CreateCertFromOrder(ctx, order, request, true)
	if err != nil {
		return stored, fmt.Errorf("have the certificate signed: %w", err)
	}
	var chain strings.Builder
	for _, one := range der {
		_ = pem.Encode(&chain, &pem.Block{Type: "CERTIFICATE", Bytes: one}) // a builder takes everything
	}
	return chest.AnswerCertificate(ctx, ref.Drawer, ref.Item, chain.String(), false)
}

// account registers the account, or finds the one of the same key.
func (o *Order) account(ctx context.Context, chest *client.Client) (*acme.Client, error) {
	signer, err := chest.Signer(ctx, o.Account)
	if err != nil {
		return nil, fmt.Errorf("the key of the account: %w", err)
	}
	switch signer.Public().(type) {
	case *ecdsa.PublicKey, *rsa.PublicKey:
	default:
		return nil, fmt.Errorf("the account's key %s is neither ECDSA nor RSA, which ACME takes: tansu key create DRAWER/KEY --type ecdsa-p256",
			o.Account)
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	if o.Trust != "" {
		text, err := os.ReadFile(o.Trust)
		if err != nil {
			return nil, err
		}
		roots := x509.NewCertPool()
		if !roots.AppendCertsFromPEM(text) {
			return nil, fmt.Errorf("there is no certificate in PEM in %s", o.Trust)
		}
		transport.TLSClientConfig = &tls.Config{RootCAs: roots}
	}
	c := &acme.Client{Key: signer, DirectoryURL: o.From, UserAgent: "tansu", HTTPClient: &http.Client{Transport: transport, Timeout: patience}}
	directory, err := c.Discover(ctx)
	if err != nil {
		return nil, fmt.Errorf("ask %s: %w", o.From, err)
	}
	account := &acme.Account{}
	for _, address := range o.Contact {
		account.Contact = append(account.Contact, "mailto:"+address)
	}
	if account.ExternalAccountBinding, err = o.binding(ctx, chest, directory.ExternalAccountRequired); err != nil {
		return nil, err
	}
	if directory.Terms != "" && !o.Terms {
		return nil, fmt.Errorf("the authority has terms, at %s: read them, and say that you accept them", directory.Terms)
	}
	_, err = c.Register(ctx, account, acme.AcceptTOS)
	if err != nil && !errors.Is(err, acme.ErrAccountAlreadyExists) {
		return nil, fmt.Errorf("register the account: %w", err)
	}
	return c, nil
}

// binding reads what binds the account to one that somebody has with the authority (section 7.3.4).
func (o *Order) binding(ctx context.Context, chest *client.Client, needed bool) (*acme.ExternalAccountBinding, error) {
	if o.Binding == "" {
		if needed {
			return nil, errors.New("the authority wants the account bound to one that you have with it: put its key ID and its key into a login, " +
				"and name that as the binding")
		}
		return nil, nil
	}
	value, err := chest.ReadValue(ctx, o.Binding)
	if err != nil {
		return nil, fmt.Errorf("the binding: %w", err)
	}
	id, text := string(value.Field("user")), strings.TrimRight(strings.TrimSpace(string(value.Field("password"))), "=")
	key, err := base64.RawURLEncoding.DecodeString(text)
	if err != nil || id == "" || len(key) == 0 {
		return nil, fmt.Errorf("%s is no binding: a login whose user is the key's ID, and whose password is the key in base64url", o.Binding)
	}
	return &acme.ExternalAccountBinding{KID: id, Key: key}, nil
}

func identifiers(names []string) (list []acme.AuthzID) {
	for _, name := range names {
		if net.ParseIP(name) != nil {
			list = append(list, acme.IPIDs(name)...)
		} else {
			list = append(list, acme.DomainIDs(name)...)
		}
	}
	return list
}

// request is the request of a key in the chest: one that waits, or a new one.
func (o *Order) request(ctx context.Context, chest *client.Client, ref reference.Reference, names []string) ([]byte, error) {
	text, err := o.waiting(ctx, chest, ref, names)
	if err != nil {
		return nil, err
	}
	if text == "" {
		made, err := chest.RequestCertificate(ctx, ref.Drawer, ref.Item, client.Order{Names: names, KeyType: o.KeyType})
		if err != nil {
			return nil, err
		}
		text = made.Request
	}
	block, _ := pem.Decode([]byte(text))
	if block == nil {
		return nil, fmt.Errorf("%s has no request in PEM", ref)
	}
	return block.Bytes, nil
}

// waiting is the request of a key that waits for a certificate of the names; empty for none, or none that may be seen.
func (o *Order) waiting(ctx context.Context, chest *client.Client, ref reference.Reference, names []string) (string, error) {
	there, err := chest.MayThere(ctx, ref.String())
	if err != nil || !slices.Contains(there.Actions, "see_metadata") {
		return "", err
	}
	history, err := chest.History(ctx, ref.Drawer, ref.Item)
	var problem *client.Problem
	if errors.As(err, &problem) && problem.Code == "not_found" {
		return "", nil
	}
	for _, v := range history.Versions { // the newest first
		facts := v.Certificate
		switch {
		case facts == nil || v.State == "shredded":
			continue
		case facts.Request == "": // it was answered since
			return "", err
		case same(facts.Names, names) && (o.KeyType == "" || facts.KeyType == o.KeyType):
			return facts.Request, nil
		}
	}
	return "", err
}

func same(list, other []string) bool {
	lower := func(of []string) (sorted []string) {
		for _, text := range of {
			sorted = append(sorted, strings.ToLower(text))
		}
		slices.Sort(sorted)
		return slices.Compact(sorted)
	}
	return slices.Equal(lower(list), lower(other))
}

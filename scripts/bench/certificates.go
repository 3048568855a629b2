package main

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"io"
	"net/http"
	"sync"
	"time"

	"golang.org/x/crypto/acme"
	"golang.org/x/sync/errgroup"

	"tansu/client"
	"tansu/internal/nameserver"
)

// So many certificates one authority issues, so many clients at once ask for them, and so many orders they place by ACME.
const (
	manyCertificates = 10_000
	certificateUsers = 8
	acmeOrders       = 400
)

// certificates measures whether issuing stays as fast as it was when an authority has issued many, how long a list takes on which all of
// them are, and ACME orders from their begin to the certificate, with a name that is proved by DNS.
func certificates(result map[string]any) error {
	names, err := nameserver.Start()
	if err != nil {
		return err
	}
	defer names.Stop()
	b, err := newBench("--acme-resolver", names.Address())
	if err != nil {
		return err
	}
	defer b.stop()
	ctx := context.Background()
	if err := b.makeAuthority(ctx); err != nil {
		return err
	}
	before, err := b.entries()
	if err != nil {
		return err
	}
	first, last, serials, err := b.issueMany(ctx)
	if err != nil {
		return err
	}
	after, err := b.entries()
	if err != nil {
		return err
	}
	result["certificates_per_second"] = round(manyCertificates / 10 / last.Seconds())
	result["certificates_last_1000_over_first_1000"] = round(first.Seconds() / last.Seconds())
	fmt.Printf("%d certificates: the first thousand in %s, the last in %s (%.2f of the speed); %d entries in the trail\n", manyCertificates,
		first.Round(time.Millisecond), last.Round(time.Millisecond), first.Seconds()/last.Seconds(), after-before)
	if after-before < manyCertificates {
		return fmt.Errorf("there are certificates without an entry")
	}
	list, length, err := b.revokeAll(ctx, serials)
	if err != nil {
		return err
	}
	result["crl_of_10000_ms"] = round(float64(list.Microseconds()) / 1000)
	fmt.Printf("all of them revoked: a new list of %d bytes in %s\n", length, list.Round(time.Millisecond))
	rate, err := b.acmeOrders(ctx, names)
	if err != nil {
		return err
	}
	result["acme_orders_per_second"] = round(rate)
	fmt.Printf("ACME: %.1f orders per second, each of eight requests\n", rate)
	return nil
}

func (b *bench) makeAuthority(ctx context.Context) error {
	if _, err := b.auditor.CreateAuthority(ctx, "ticketing-prod", client.NewAuthority{Name: "authority", Subject: "Ferries",
		Life: "3650d", ServedAt: b.service}); err != nil {
		return err
	}
	profile := base64.StdEncoding.EncodeToString([]byte(`{"authority":"authority","names":["*.ferries.example"],"longest":"90d"}`))
	if _, err := b.auditor.CreateItem(ctx, "ticketing-prod", client.NewItem{Name: "server", Shape: "profile",
		Version: client.NewVersion{Value: profile, Encoding: "base64"}}); err != nil {
		return err
	}
	for _, subject := range []string{"person:steward", "app:ticket-api"} {
		if _, err := b.auditor.Give(ctx, client.NewGrant{Subject: subject, Role: "subscriber", Scope: "ticketing-prod/server"}); err != nil {
			return err
		}
	}
	return nil
}

// issueMany has certificates issued for the same request, by several clients, and says how long the first and the last thousand took.
func (b *bench) issueMany(ctx context.Context) (first, last time.Duration, serials []string, err error) {
	request, err := requestFor("quay.ferries.example")
	if err != nil {
		return 0, 0, nil, err
	}
	order := client.Order{Request: string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: request}))}
	var mu sync.Mutex
	for thousand := range manyCertificates / 1000 {
		started := time.Now()
		group, ctx := errgroup.WithContext(ctx)
		group.SetLimit(certificateUsers)
		for range 1000 {
			group.Go(func() error {
				made, err := b.auditor.IssueCertificate(ctx, "ticketing-prod", "server", order)
				mu.Lock()
				defer mu.Unlock()
				serials = append(serials, made.Facts.Serial)
				return err
			})
		}
		if err := group.Wait(); err != nil {
			return 0, 0, nil, err
		}
		if last = time.Since(started); thousand == 0 {
			first = last
		}
	}
	return first, last, serials, nil
}

func requestFor(name string) ([]byte, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	return x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{DNSNames: []string{name}}, key)
}

// revokeAll revokes certificates, and says how long the list takes that has them all.
func (b *bench) revokeAll(ctx context.Context, serials []string) (took time.Duration, length int, err error) {
	group, ctxGroup := errgroup.WithContext(ctx)
	group.SetLimit(certificateUsers)
	for _, serial := range serials {
		group.Go(func() error {
			_, err := b.auditor.RevokeCertificate(ctxGroup, "ticketing-prod", "authority", serial, "superseded")
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return 0, 0, err
	}
	about, err := b.auditor.Authority(ctx, "ticketing-prod", "authority")
	if err != nil {
		return 0, 0, err
	}
	started := time.Now()
	response, err := http.Get(b.service + about.Public + "/crl")
	if err != nil {
		return 0, 0, err
	}
	defer func() { _ = response.Body.Close() }()
	text, err := io.ReadAll(response.Body)
	took = time.Since(started)
	if err != nil {
		return 0, 0, err
	}
	list, err := x509.ParseRevocationList(text)
	if err == nil && len(list.RevokedCertificateEntries) != len(serials) {
		err = fmt.Errorf("%d are on the list, and not %d", len(list.RevokedCertificateEntries), len(serials))
	}
	return took, len(text), err
}

// acmeOrders places orders one after the other in each of several clients, and says how many are done in a second.
func (b *bench) acmeOrders(ctx context.Context, names *nameserver.Server) (float64, error) {
	binding, err := b.auditor.IssueCredential(ctx, "app:ticket-api", client.NewCredential{Kind: "acme"})
	if err != nil {
		return 0, err
	}
	secret, err := base64.RawURLEncoding.DecodeString(binding.Secret)
	if err != nil {
		return 0, err
	}
	var clients []*acme.Client
	for range certificateUsers {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			return 0, err
		}
		c := &acme.Client{Key: key, DirectoryURL: b.service + "/acme/ticketing-prod/server/directory"}
		if _, err := c.Register(ctx, &acme.Account{ExternalAccountBinding: &acme.ExternalAccountBinding{KID: binding.ID, Key: secret}},
			acme.AcceptTOS); err != nil {
			return 0, err
		}
		clients = append(clients, c)
	}
	started := time.Now()
	group, ctx := errgroup.WithContext(ctx)
	for n, c := range clients {
		group.Go(func() error {
			for range acmeOrders / certificateUsers {
				if err := acmeOrder(ctx, c, names, fmt.Sprintf("quay-%d.ferries.example", n)); err != nil {
					return err
				}
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return 0, err
	}
	return acmeOrders / time.Since(started).Seconds(), nil
}

func acmeOrder(ctx context.Context, c *acme.Client, names *nameserver.Server, name string) error {
	order, err := c.AuthorizeOrder(ctx, acme.DomainIDs(name))
	if err != nil {
		return err
	}
	z, err := c.GetAuthorization(ctx, order.AuthzURLs[0])
	if err != nil {
		return err
	}
	for _, challenge := range z.Challenges {
		if challenge.Type != "dns-01" {
			continue
		}
		record, err := c.DNS01ChallengeRecord(challenge.Token)
		if err != nil {
			return err
		}
		names.Put("_acme-challenge."+name, record)
		if _, err := c.Accept(ctx, challenge); err != nil {
			return err
		}
	}
	if _, err := c.WaitAuthorization(ctx, z.URI); err != nil {
		return err
	}
	request, err := requestFor(name)
	if err != nil {
		return err
	}
	_, _, err = c.CreateOrderCert(ctx, order.FinalizeURL, request, true)
	return err
}

package acmeclient

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/acme"
)

// way is the type of challenge that is answered.
func (o *Order) way() string {
	switch {
	case o.TLS != "":
		return "tls-alpn-01"
	case len(o.DNS) > 0:
		return "dns-01"
	}
	return "http-01"
}

// prove shows that one of the names is ours, unless the authority knows.
func (o *Order) prove(ctx context.Context, c *acme.Client, at string, names []string) error {
	z, err := c.GetAuthorization(ctx, at)
	if err != nil {
		return fmt.Errorf("ask about a name: %w", err)
	}
	name := z.Identifier.Value
	if !slices.ContainsFunc(names, func(asked string) bool { return strings.EqualFold(strings.TrimPrefix(asked, "*."), name) }) {
		return fmt.Errorf("the authority asks about %.100q, which is not what was ordered", name)
	}
	if z.Status == acme.StatusValid {
		return nil
	}
	i := slices.IndexFunc(z.Challenges, func(ch *acme.Challenge) bool { return ch.Type == o.way() })
	if i < 0 {
		var offered []string
		for _, ch := range z.Challenges {
			offered = append(offered, ch.Type)
		}
		return fmt.Errorf("%s cannot be proved by %s; the authority takes %s", name, o.way(), strings.Join(offered, ", "))
	}
	challenge := z.Challenges[i]
	hide, err := o.show(ctx, c, name, challenge.Token)
	if err != nil {
		return fmt.Errorf("prove %s: %w", name, err)
	}
	if _, err = c.Accept(ctx, challenge); err == nil {
		_, err = c.WaitAuthorization(ctx, z.URI)
	}
	if gone := hide(); gone != nil {
		err = errors.Join(err, gone)
	}
	if err != nil {
		return fmt.Errorf("prove %s by %s: %w", name, o.way(), err)
	}
	return nil
}

// show lets the authority see what it looks for, until hide is called.
func (o *Order) show(ctx context.Context, c *acme.Client, name, token string) (hide func() error, err error) {
	switch {
	case o.Webroot != "":
		return o.showInFile(c, token)
	case o.HTTP != "":
		return o.showOverHTTP(c, token)
	case o.TLS != "":
		return o.showOverTLS(c, name, token)
	}
	record, err := c.DNS01ChallengeRecord(token)
	if err != nil {
		return nil, err
	}
	run := func(ctx context.Context, act string) error {
		arguments := slices.Concat(o.DNS[1:], []string{act, "_acme-challenge." + name, record})
		if output, err := exec.CommandContext(ctx, o.DNS[0], arguments...).CombinedOutput(); err != nil {
			return fmt.Errorf("%s %s: %w: %.200s", o.DNS[0], act, err, bytes.TrimSpace(output))
		}
		return nil
	}
	return func() error { return run(context.WithoutCancel(ctx), "remove") }, run(ctx, "set")
}

// showInFile puts the answer where a web server finds it. The name of the file is the authority's, and is none that leads elsewhere.
func (o *Order) showInFile(c *acme.Client, token string) (hide func() error, err error) {
	answer, err := c.HTTP01ChallengeResponse(token)
	if err != nil {
		return nil, err
	}
	if token == "" || strings.Trim(token, base64url) != "" { // section 8.3
		return nil, errors.New("the authority names a token that is not in base64url")
	}
	dir := filepath.Join(o.Webroot, ".well-known", "acme-challenge")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	path := filepath.Join(dir, token)
	if err := os.WriteFile(path, []byte(answer), 0o644); err != nil {
		return nil, err
	}
	return func() error { return os.Remove(path) }, nil
}

const base64url = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_"

func (o *Order) showOverHTTP(c *acme.Client, token string) (hide func() error, err error) {
	answer, err := c.HTTP01ChallengeResponse(token)
	if err != nil {
		return nil, err
	}
	listener, err := net.Listen("tcp", o.HTTP)
	if err != nil {
		return nil, err
	}
	s := &http.Server{ReadHeaderTimeout: patience, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != c.HTTP01ChallengePath(token) {
			http.NotFound(w, r)
			return
		}
		_, _ = w.Write([]byte(answer))
	})}
	go func() { _ = s.Serve(listener) }()
	return s.Close, nil
}

func (o *Order) showOverTLS(c *acme.Client, name, token string) (hide func() error, err error) {
	answer, err := c.TLSALPN01ChallengeCert(token, name)
	if err != nil {
		return nil, err
	}
	listener, err := tls.Listen("tcp", o.TLS, &tls.Config{Certificates: []tls.Certificate{answer}, NextProtos: []string{acme.ALPNProto}})
	if err != nil {
		return nil, err
	}
	go func() {
		for {
			connection, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer func() { _ = connection.Close() }()
				if connection.SetDeadline(time.Now().Add(patience)) == nil {
					_ = connection.(*tls.Conn).Handshake() // which is all that the authority looks at
				}
			}()
		}
	}()
	return listener.Close, nil
}

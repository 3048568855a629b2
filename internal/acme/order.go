package acme

import (
	"encoding/json"
	"errors"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"tansu/internal/certs"
	"tansu/internal/chest"
	"tansu/internal/core/cert"
	"tansu/internal/core/reference"
)

// order is what a client wants a certificate for (section 7.1.3). The server's lock is over it.
type order struct {
	id      string
	account string
	app     string
	profile reference.Reference
	made    time.Time
	status  string // pending, ready, processing, valid or invalid
	proofs  []*proof
	failed  *problem
	chain   []byte
}

func (o *order) done() bool { return o.status == "valid" || o.status == "invalid" }

// proof is that of one name (section 7.1.4), by the first way that its client chooses.
type proof struct {
	name   string
	token  string
	status string // pending, valid or invalid
	way    string // that was chosen; empty for none yet
	busy   bool
	failed *problem
	at     time.Time
}

type identifier struct {
	Type  string `json:"type"`
	Value string `json:"value"`
}

func identify(name string) identifier {
	if net.ParseIP(name) != nil {
		return identifier{"ip", name} // RFC 8738
	}
	return identifier{"dns", name}
}

// newOrder takes an order, if the app may have certificates of the profile, and for these names.
func (c *call) newOrder() error {
	var body struct {
		Identifiers []identifier `json:"identifiers"`
		NotBefore   string       `json:"notBefore"`
		NotAfter    string       `json:"notAfter"`
	}
	if err := c.decode(&body); err != nil {
		return err
	}
	switch {
	case len(body.Identifiers) == 0 || len(body.Identifiers) > mostNames:
		return malformed("an order is for 1 to %d names", mostNames)
	case body.NotBefore != "" || body.NotAfter != "":
		return malformed("how long a certificate lasts is said by the profile: give no notBefore and no notAfter")
	}
	o := &order{id: random(), account: c.account, app: c.caller.ID, profile: c.profile, made: c.s.options.Now(), status: "pending"}
	var names []string
	for _, one := range body.Identifiers {
		name := strings.ToLower(one.Value)
		if ip := net.ParseIP(name); ip != nil {
			name = ip.String()
		}
		if one.Type != identify(name).Type {
			return problem{http.StatusBadRequest, "unsupportedIdentifier", "an identifier is of the type dns, or ip for an address"}
		}
		if slices.Contains(names, name) {
			continue
		}
		names = append(names, name)
		o.proofs = append(o.proofs, &proof{name: name, token: random() + random(), status: "pending"})
	}
	if err := c.s.options.Certs.MayIssue(c.caller, c.profile, names); err != nil {
		return err
	}
	if err := c.s.keep(o); err != nil {
		return err
	}
	c.s.mu.Lock()
	answer := c.orderJSON(o)
	c.s.mu.Unlock()
	c.w.Header().Set("Location", c.base+"order/"+o.id)
	return c.answer(http.StatusCreated, answer)
}

// keep keeps an order, and forgets those whose time is over.
func (s *Server) keep(o *order) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	own := 0
	for id, other := range s.orders {
		if o.made.Sub(other.made) > orderLife {
			delete(s.orders, id)
		} else if !other.done() && other.app == o.app {
			own++
		}
	}
	for id, other := range s.orders { // what is done is there to be fetched, and most of it was
		if len(s.orders) >= mostOrders && other.done() && o.made.Sub(other.made) > orderLife/60 {
			delete(s.orders, id)
		}
	}
	if own >= mostOfOne || len(s.orders) >= mostOrders {
		return problem{http.StatusTooManyRequests, "rateLimited", "too many orders are under way: wait until some are done"}
	}
	s.orders[o.id] = o
	return nil
}

// find finds an order of the account. The lock is held.
func (c *call) find(id string) (*order, error) {
	o := c.s.orders[id]
	if o == nil || o.account != c.account || o.profile != c.profile || c.s.options.Now().Sub(o.made) > orderLife {
		return nil, problem{http.StatusNotFound, "malformed", "there is no such order, or not any more: begin another one"}
	}
	return o, nil
}

func (c *call) orderJSON(o *order) map[string]any {
	var names []identifier
	var proofs []string
	for _, p := range o.proofs {
		names = append(names, identify(p.name))
		proofs = append(proofs, c.base+"authorization/"+o.id+"/"+p.token)
	}
	answer := map[string]any{"status": o.status, "expires": o.made.Add(orderLife).UTC().Format(time.RFC3339), "identifiers": names,
		"authorizations": proofs, "finalize": c.base + "order/" + o.id + "/finalize"}
	if o.failed != nil {
		answer["error"] = problemJSON(*o.failed)
	}
	if o.status == "valid" {
		answer["certificate"] = c.base + "order/" + o.id + "/certificate"
	}
	return answer
}

func (c *call) showOrder(id string) error {
	c.s.mu.Lock()
	o, err := c.find(id)
	if err != nil {
		c.s.mu.Unlock()
		return err
	}
	answer := c.orderJSON(o)
	c.s.mu.Unlock()
	return c.answer(http.StatusOK, answer)
}

func (c *call) findProof(id, token string) (*order, *proof, error) {
	o, err := c.find(id)
	if err != nil {
		return nil, nil, err
	}
	at := slices.IndexFunc(o.proofs, func(p *proof) bool { return p.token == token })
	if at < 0 {
		return nil, nil, problem{http.StatusNotFound, "malformed", "there is no such authorization"}
	}
	return o, o.proofs[at], nil
}

func (c *call) proofJSON(o *order, p *proof) map[string]any {
	var ways []map[string]any
	for _, way := range waysFor(p.name) {
		if p.way == "" || p.way == way || p.status == "pending" {
			ways = append(ways, c.wayJSON(o, p, way))
		}
	}
	return map[string]any{"status": p.status, "expires": o.made.Add(orderLife).UTC().Format(time.RFC3339),
		"identifier": identify(strings.TrimPrefix(p.name, "*.")), "wildcard": strings.HasPrefix(p.name, "*."), "challenges": ways}
}

func (c *call) wayJSON(o *order, p *proof, way string) map[string]any {
	answer := map[string]any{"type": way, "url": c.base + "challenge/" + o.id + "/" + p.token + "/" + way, "token": p.token,
		"status": "pending"}
	if p.way == way {
		answer["status"] = p.status
		if p.busy {
			answer["status"] = "processing"
		}
		if p.status == "valid" {
			answer["validated"] = p.at.UTC().Format(time.RFC3339)
		}
		if p.failed != nil {
			answer["error"] = problemJSON(*p.failed)
		}
	}
	return answer
}

func (c *call) authorization(id, token string) error {
	c.s.mu.Lock()
	o, p, err := c.findProof(id, token)
	if err != nil {
		c.s.mu.Unlock()
		return err
	}
	var body struct {
		Status string `json:"status"`
	}
	if len(c.payload) > 0 {
		if err := c.decode(&body); err != nil || body.Status != "deactivated" {
			c.s.mu.Unlock()
			return malformed("an authorization's status can be changed to deactivated")
		}
		p.status, o.status = "deactivated", "invalid" // section 7.5.2
	}
	answer, busy := c.proofJSON(o, p), p.busy
	c.s.mu.Unlock()
	if body.Status == "" && busy {
		c.w.Header().Set("Retry-After", "1")
	}
	return c.answer(http.StatusOK, answer)
}

// challenge shows one, or has it looked at when its client says that it is ready (section 7.5.1).
func (c *call) challenge(id, token, way string) error {
	c.s.mu.Lock()
	o, p, err := c.findProof(id, token)
	if err == nil && !slices.Contains(waysFor(p.name), way) {
		err = problem{http.StatusNotFound, "malformed", "there is no such challenge"}
	}
	if err != nil {
		c.s.mu.Unlock()
		return err
	}
	if len(c.payload) > 0 && p.status == "pending" && !p.busy {
		p.busy, p.way = true, way
		go c.s.look(o, p, way, c.keyAuthorization(p.token))
	}
	answer := c.wayJSON(o, p, way)
	c.s.mu.Unlock()
	c.w.Header().Add("Link", "<"+c.base+"authorization/"+o.id+"/"+p.token+`>;rel="up"`)
	c.w.Header().Set("Retry-After", "1")
	return c.answer(http.StatusOK, answer)
}

// look looks whether a name shows what its client was asked to show.
func (s *Server) look(o *order, p *proof, way, shown string) {
	ctx, cancel := background()
	defer cancel()
	err := s.prover.prove(ctx, way, p.name, p.token, shown)
	s.mu.Lock()
	defer s.mu.Unlock()
	p.busy, p.at = false, s.options.Now()
	if p.status != "pending" {
		return
	}
	if err != nil {
		s.options.Log.Info("a name was not proved", "name", p.name, "by", way, "error", err)
		kind := map[string]string{byDNS: "dns", byTLS: "tls"}[way]
		if kind == "" {
			kind = "connection"
		}
		p.status, p.failed = "invalid", &problem{http.StatusForbidden, kind, err.Error()}
		o.status, o.failed = "invalid", p.failed
		return
	}
	p.status = "valid"
	if o.status == "pending" && !slices.ContainsFunc(o.proofs, func(p *proof) bool { return p.status != "valid" }) {
		o.status = "ready"
	}
}

// finalize has the certificate issued (section 7.4): the request is for the names of the order, all of them and no other.
func (c *call) finalize(id string) error {
	var body struct {
		Request string `json:"csr"`
	}
	if err := c.decode(&body); err != nil {
		return err
	}
	der, err := decodeURL(body.Request)
	if err != nil || len(der) == 0 {
		return problem{http.StatusBadRequest, "badCSR", "the CSR is not base64url of a request in DER"}
	}
	request, err := cert.ReadRequest(der)
	if err != nil {
		return problem{http.StatusBadRequest, "badCSR", err.Error()}
	}
	c.s.mu.Lock()
	o, err := c.find(id)
	if err == nil && o.status != "ready" {
		err = problem{http.StatusForbidden, "orderNotReady", "the order is " + o.status + ", and not ready"}
	}
	if err == nil && !sameNames(o, request) {
		err = problem{http.StatusBadRequest, "badCSR", "the request is for other names than the order"}
	}
	if err != nil {
		c.s.mu.Unlock()
		return err
	}
	o.status = "processing"
	c.s.mu.Unlock()
	made, err := c.s.options.Certs.Issue(c.caller, c.profile, certs.Order{Request: der})
	c.s.mu.Lock()
	if err != nil {
		o.status = "ready" // with another request it may be possible
		c.s.mu.Unlock()
		var refused *chest.Error
		if errors.As(err, &refused) && refused.Code == chest.InvalidInput {
			return problem{http.StatusBadRequest, "badCSR", refused.Detail}
		}
		return err
	}
	o.status, o.chain = "valid", cert.PEM(made.Chain)
	answer := c.orderJSON(o)
	c.s.mu.Unlock()
	c.w.Header().Set("Location", c.base+"order/"+o.id)
	return c.answer(http.StatusOK, answer)
}

// sameNames reports whether a request is for exactly the names of an order; its common name, if it has one, is one of them.
func sameNames(o *order, r cert.Request) bool {
	var names []string
	for _, p := range o.proofs {
		names = append(names, p.name)
	}
	asked := r.Names.Texts()
	if r.Subject != "" {
		asked = append(asked, strings.ToLower(r.Subject))
	}
	slices.Sort(names)
	slices.Sort(asked)
	return slices.Equal(names, slices.Compact(asked))
}

func (c *call) certificate(id string) error {
	c.s.mu.Lock()
	o, err := c.find(id)
	if err == nil && o.status != "valid" {
		err = problem{http.StatusForbidden, "orderNotReady", "there is no certificate yet"}
	}
	if err != nil {
		c.s.mu.Unlock()
		return err
	}
	chain := o.chain
	c.s.mu.Unlock()
	c.w.Header().Set("Content-Type", "application/pem-certificate-chain")
	_, _ = c.w.Write(chain)
	return nil
}

// revoke revokes a certificate for the account that it was issued to, or for whoever has its key (section 7.6).
func (c *call) revoke() error {
	var body struct {
		Certificate string `json:"certificate"`
		Reason      int    `json:"reason"`
	}
	if err := c.decode(&body); err != nil {
		return err
	}
	der, err := decodeURL(body.Certificate)
	if err != nil {
		return malformed("the certificate is not base64url of one in DER")
	}
	reason, known := cert.ReasonNamed(body.Reason)
	if !known {
		return problem{http.StatusBadRequest, "badRevocationReason", "this reason is none of those that are taken here"}
	}
	var key json.RawMessage
	if c.account == "" {
		key = c.key
		c.caller = chest.Caller{Origin: c.origin}
	}
	err = c.s.options.Certs.RevokeThis(c.caller, c.profile, der, reason, publicOf(key))
	var refused *chest.Error
	switch {
	case errors.As(err, &refused) && refused.Code == chest.NotPossible:
		return problem{http.StatusBadRequest, "alreadyRevoked", refused.Detail}
	case err != nil:
		return err
	}
	c.w.WriteHeader(http.StatusOK)
	return nil
}

// renewalInfo says when a certificate is best renewed (RFC 9773): after two thirds of its life, and at once when it is revoked.
func (c *call) renewalInfo(id string) error {
	authorityKey, serial, is := strings.Cut(id, ".")
	_, err := decodeURL(authorityKey)
	number, errSerial := decodeURL(serial)
	if !is || err != nil || errSerial != nil || len(number) == 0 {
		return malformed("the certificate is named by its authority's key and its serial number (RFC 9773, section 4.1)")
	}
	from, until, err := c.s.options.Certs.RenewWindow(c.profile, number)
	if err != nil {
		return problem{http.StatusNotFound, "malformed", "there is no such certificate here"}
	}
	c.w.Header().Set("Retry-After", "21600")
	return c.answer(http.StatusOK, map[string]any{"suggestedWindow": map[string]string{"start": from.UTC().Format(time.RFC3339),
		"end": until.UTC().Format(time.RFC3339)}})
}

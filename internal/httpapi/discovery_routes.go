package httpapi

import (
	"net/http"

	"tansu/internal/people"
)

// metadata is the authorization server metadata of RFC 8414, by which OAuth clients find what they need. The issuer is the address at which
// it was asked for: a client checks that it is the one that it knows (section 3.3).
func (a *api) metadata(c *call) error {
	scheme := "http"
	if c.Request().TLS != nil {
		scheme = "https"
	}
	issuer := scheme + "://" + c.Request().Host
	methods := []string{"client_secret_basic", "client_secret_post", "private_key_jwt", "self_signed_tls_client_auth"}
	signing := []string{"EdDSA", "Ed25519", "ES256", "ES384", "RS256", "PS256"}
	return c.JSON(http.StatusOK, map[string]any{
		"issuer":                                                   issuer,
		"token_endpoint":                                           issuer + oauthPath + "token",
		"revocation_endpoint":                                      issuer + oauthPath + "revoke",
		"introspection_endpoint":                                   issuer + oauthPath + "introspect",
		"grant_types_supported":                                    []string{clientCredentials, outsideToken},
		"response_types_supported":                                 []string{},
		"token_endpoint_auth_methods_supported":                    methods,
		"token_endpoint_auth_signing_alg_values_supported":         signing,
		"revocation_endpoint_auth_methods_supported":               methods,
		"revocation_endpoint_auth_signing_alg_values_supported":    signing,
		"introspection_endpoint_auth_methods_supported":            methods,
		"introspection_endpoint_auth_signing_alg_values_supported": signing,
		"tls_client_certificate_bound_access_tokens":               true, // RFC 8705, section 3.3
		"service_documentation":                                    issuer + "/api/openapi.yaml",
	})
}

// introspect is RFC 7662: an authenticated app asks about a token that it was shown. Whoever has the token could use it, so the answer
// reveals nothing that they could not find out; about a token that is not valid it reveals nothing.
func (a *api) introspect(c *call) error {
	return a.aboutToken(c, func(proof people.AppProof, token string) error {
		t, err := a.service.Introspect(c.Request().Context(), c.origin, proof, token)
		if err != nil {
			return a.oauthError(c, err)
		}
		if !t.Active {
			return c.JSON(http.StatusOK, introspection{})
		}
		answer := introspection{Active: true, Subject: t.Subject, Username: t.Subject, App: t.App, Type: "Bearer", Begun: t.Begun.Unix(),
			Ends: t.Ends.Unix()}
		if t.Bound != "" {
			answer.Bound = map[string]string{"x5t#S256": t.Bound}
		}
		return c.JSON(http.StatusOK, answer)
	})
}

// introspection is an answer (RFC 7662, section 2.2; RFC 8705, section 3.2).
type introspection struct {
	Active   bool              `json:"active"`
	Subject  string            `json:"sub,omitempty"`
	Username string            `json:"username,omitempty"`
	App      string            `json:"client_id,omitempty"`
	Type     string            `json:"token_type,omitempty"`
	Begun    int64             `json:"iat,omitempty"`
	Ends     int64             `json:"exp,omitempty"`
	Bound    map[string]string `json:"cnf,omitempty"`
}

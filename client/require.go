package client

import (
	"crypto/sha256"
	"crypto/subtle"
	"errors"
	"net/http"
	"strings"
)

// RequireKey lets a request through to next only with a key that is the value of an item: as a bearer token (RFC 6750), compared in
// constant time. Without one, or with a wrong one, the answer is 401; with the right one, it is 403 where allow says no (nil allows
// everything); and it is 503 while the value cannot be had. A key that was replaced is good no longer than the version before is:
// give callers two items to change over between, or a version that begins later.
func (v *Values) RequireKey(reference string, allow func(*http.Request) bool, next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		scheme, given, _ := strings.Cut(r.Header.Get("Authorization"), " ")
		if !strings.EqualFold(scheme, "Bearer") || given == "" {
			w.Header().Set("WWW-Authenticate", "Bearer")
			http.Error(w, "a key is needed: Authorization: Bearer KEY", http.StatusUnauthorized)
			return
		}
		want, err := v.Get(r.Context(), reference)
		if err != nil {
			if !errors.Is(err, r.Context().Err()) {
				w.Header().Set("Retry-After", "5")
			}
			http.Error(w, "the key cannot be checked now", http.StatusServiceUnavailable)
			return
		}
		// Hashes have one length, so that the comparison tells nothing of the key's.
		a, b := sha256.Sum256([]byte(given)), sha256.Sum256(want.content)
		switch {
		case subtle.ConstantTimeCompare(a[:], b[:]) != 1 || len(want.content) == 0:
			w.Header().Set("WWW-Authenticate", `Bearer error="invalid_token"`)
			http.Error(w, "the key is wrong", http.StatusUnauthorized)
		case allow != nil && !allow(r):
			w.Header().Set("WWW-Authenticate", `Bearer error="insufficient_scope"`)
			http.Error(w, "the key is not for this", http.StatusForbidden)
		default:
			next.ServeHTTP(w, r)
		}
	})
}

package people

import (
	"encoding/json"
	"sync"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/reference"
	"tansu/internal/entity"
)

// issuers remembers which authorities have issued the certificates that are registered, since the chest was unlocked and until another
// one is registered: looking for them goes through all apps, and each handshake asks.
type issuers struct {
	mu    sync.Mutex
	known bool
	since time.Time // when the chest was unlocked then
	names [][]byte
	all   bool
}

// forget lets them be looked for again.
func (l *issuers) forget() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.known = false
}

// CertificateIssuers are the names (X.501, DER) of those who have issued the certificates that apps are registered with: what a service
// says in a handshake, so that ordinary clients show theirs (RFC 8446, section 4.2.4). It is not all of them when some were registered
// before their issuers were kept. Safe for concurrent use.
func (s *People) CertificateIssuers() (names [][]byte, all bool) {
	l, now := &s.issuers, s.heart.Now()
	l.mu.Lock()
	defer l.mu.Unlock()
	st := s.heart.Newest() // with the lock: what is registered while this looks is looked for again
	if st == nil {
		return nil, true
	}
	if l.known && l.since.Equal(st.Since()) {
		return l.names, l.all
	}
	l.known, l.since, l.names, l.all = true, st.Since(), nil, true
	seen := map[string]bool{}
	st.Identities(reference.App+":", func(_ string, row entity.Identity) bool {
		if row.Kind != reference.App {
			return false
		}
		for _, cr := range st.CredentialsOf(row.ID) {
			if cr.Kind != kindCert || cr.NotAfter != 0 && cr.NotAfter <= chest.Micros(now) {
				continue
			}
			var detail proofDetail
			if err := json.Unmarshal([]byte(cr.Detail), &detail); err != nil || len(detail.IssuedBy) == 0 {
				l.all = false
			} else if name := string(detail.IssuedBy); !seen[name] {
				seen[name] = true
				l.names = append(l.names, detail.IssuedBy)
			}
		}
		return true
	})
	return l.names, l.all
}

package people

import (
	"encoding/json"
	"sync"
	"time"

	"tansu/internal/chest"
	"tansu/internal/core/reference"
	"tansu/internal/entity"
)

// issuersFor is for how long it is remembered which authorities have issued the certificates that are registered.
const issuersFor = 5 * time.Second

// issuers remembers them.
type issuers struct {
	mu    sync.Mutex
	at    time.Time
	names [][]byte
	all   bool
}

// CertificateIssuers are the names (X.501, DER) of those who have issued the certificates that apps are registered with: what a service
// says in a handshake, so that ordinary clients show theirs (RFC 8446, section 4.2.4). It is not all of them when some were registered
// before their issuers were kept. Safe for concurrent use.
func (s *People) CertificateIssuers() (names [][]byte, all bool) {
	l, now := &s.issuers, s.heart.Now()
	l.mu.Lock()
	defer l.mu.Unlock()
	if age := now.Sub(l.at); age >= 0 && age < issuersFor {
		return l.names, l.all
	}
	st := s.heart.Newest()
	if st == nil {
		return nil, true
	}
	l.at, l.names, l.all = now, nil, true
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

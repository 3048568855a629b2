package authority

import (
	"crypto/tls"
	"crypto/x509"
	"testing"
	"time"
)

var now = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

func TestServerCertificateIsGoodForItsHostsAlone(t *testing.T) {
	made, err := New("ch_1", now)
	if err != nil {
		t.Fatal(err)
	}
	key, err := made.Key()
	if err != nil {
		t.Fatal(err)
	}
	ca, err := Restore(made.Certificate, key) // as after an unlock
	if err != nil {
		t.Fatal(err)
	}
	certificate, serverKey, err := ca.Issue([]string{"chest.ferries.example", "127.0.0.1"}, now)
	if err != nil {
		t.Fatal(err)
	}
	pair, err := tls.X509KeyPair(certificate, serverKey)
	if err != nil {
		t.Fatal(err)
	}
	leaf, err := x509.ParseCertificate(pair.Certificate[0])
	if err != nil {
		t.Fatal(err)
	}
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(ca.Certificate)
	for host, good := range map[string]bool{"chest.ferries.example": true, "127.0.0.1": true, "other.ferries.example": false,
		"127.0.0.2": false} {
		_, err := leaf.Verify(x509.VerifyOptions{Roots: pool, DNSName: host, CurrentTime: now})
		if (err == nil) != good {
			t.Errorf("%s: got %v", host, err)
		}
	}
	other, err := New("ch_1", now)
	if err != nil {
		t.Fatal(err)
	}
	strangers := x509.NewCertPool()
	strangers.AppendCertsFromPEM(other.Certificate)
	if _, err := leaf.Verify(x509.VerifyOptions{Roots: strangers, DNSName: "127.0.0.1", CurrentTime: now}); err == nil {
		t.Error("another authority of the same name is accepted")
	}
	if RenewalDue(certificate, now) || !RenewalDue(certificate, leaf.NotAfter.Add(-RenewBefore+time.Hour)) {
		t.Error("renewal is due at the wrong time")
	}
}

func TestFingerprintIsComparedAsPeopleWriteIt(t *testing.T) {
	if !SameFingerprint("AB:cd:01", "abCD01") || SameFingerprint("ab", "ac") {
		t.Error("SameFingerprint is wrong")
	}
}

package authority

import (
	"crypto/tls"
	"crypto/x509"
	"os"
	"path/filepath"
	"testing"
	"time"

	"moorwatch.example/uplink"
)

// TestAuthority makes an authority, and has it made anew as names and years change: it keeps its key, and so its
// fingerprint; and it cannot vouch for other names.
func TestAuthority(t *testing.T) {
	dir, now := t.TempDir(), time.Now()
	root := func() *x509.Certificate {
		t.Helper()
		pair, err := tls.LoadX509KeyPair(filepath.Join(dir, File), filepath.Join(dir, "authority-key.pem"))
		if err != nil {
			t.Fatal(err)
		}
		return pair.Leaf
	}
	load := func(at time.Time, names ...string) string {
		t.Helper()
		config, fingerprint, err := Load(dir, names, at)
		if err != nil {
			t.Fatal(err)
		}
		pool := x509.NewCertPool()
		pool.AddCert(root())
		leaf := config.Certificates[0].Leaf
		for _, name := range names {
			if _, err := leaf.Verify(x509.VerifyOptions{Roots: pool, DNSName: name, CurrentTime: at}); err != nil {
				t.Errorf("%s on %s: %v", name, at.Format(time.DateOnly), err)
			}
		}
		if left := leaf.NotAfter.Sub(at); left < renewBefore || left > certificateLasts {
			t.Errorf("the certificate ends in %s", left)
		}
		return fingerprint
	}
	fingerprint := load(now, "moor.example", "192.0.2.7", "2001:db8::7")
	first := root()
	if left := first.NotAfter.Sub(now); left > authorityLasts || left < authorityLasts-time.Hour {
		t.Errorf("the authority ends in %s", left)
	}
	if load(now.Add(time.Hour), "moor.example", "192.0.2.7", "2001:db8::7") != fingerprint || !root().Equal(first) {
		t.Error("what fits is made anew")
	}
	for name, again := range map[string]func() string{
		"years later": func() string {
			return load(now.Add(authorityLasts-authorityBefore+time.Hour), "moor.example", "192.0.2.7", "2001:db8::7")
		},
		"another name": func() string { return load(now, "fen.example") },
		"an address":   func() string { return load(now, "192.0.2.8") },
	} {
		before := root()
		if again() != fingerprint || root().Equal(before) {
			t.Errorf("%s: it is not made anew, or has another key", name)
		}
	}
	// What whoever stole its key could sign.
	for _, c := range []struct{ of, forged string }{{"192.0.2.8", "bank.example"}, {"192.0.2.8", "192.0.2.9"},
		{"moor.example", "192.0.2.8"}, {"moor.example", "bank.example"}} {
		load(now, c.of)
		stolen, err := tls.LoadX509KeyPair(filepath.Join(dir, File), filepath.Join(dir, "authority-key.pem"))
		if err != nil {
			t.Fatal(err)
		}
		template := &x509.Certificate{NotBefore: now.Add(-time.Hour), NotAfter: now.Add(time.Hour),
			ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
		name(template, c.forged)
		forged, err := issue(template, nil, &stolen)
		if err != nil {
			t.Fatal(err)
		}
		pool := x509.NewCertPool()
		pool.AddCert(stolen.Leaf)
		if _, err := forged.Leaf.Verify(x509.VerifyOptions{Roots: pool, DNSName: c.forged, CurrentTime: now}); err == nil {
			t.Errorf("the authority of %s vouches for %s", c.of, c.forged)
		}
	}
	if uplink.Fingerprint(root()) != fingerprint {
		t.Error("the fingerprint is another's")
	}
	if err := os.WriteFile(filepath.Join(dir, File), []byte("damaged"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, _, err := Load(dir, []string{"moor.example"}, now); err == nil {
		t.Error("a damaged authority is replaced without a word")
	}
}

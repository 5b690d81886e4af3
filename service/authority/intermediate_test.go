package authority

import (
	"crypto/tls"
	"net"
	"testing"
	"time"
)

// A certificate of a public authority is served as Mozilla's recommendation "intermediate" asks.
func TestHarden(t *testing.T) {
	own, _, err := Load(t.TempDir(), []string{"127.0.0.1"}, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	l, err := tls.Listen("tcp", "127.0.0.1:0", Harden(&tls.Config{Certificates: own.Certificates}))
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func(c net.Conn) { c.(*tls.Conn).Handshake(); c.Close() }(c)
		}
	}()
	for name, c := range map[string]struct {
		min, max uint16
		suites   []uint16
		want     bool
	}{
		"TLS 1.0": {tls.VersionTLS10, tls.VersionTLS10, nil, false},
		"TLS 1.1": {tls.VersionTLS10, tls.VersionTLS11, nil, false},
		"TLS 1.2": {tls.VersionTLS12, tls.VersionTLS12, nil, true},
		"TLS 1.3": {tls.VersionTLS13, tls.VersionTLS13, nil, true},
		"CBC": {tls.VersionTLS12, tls.VersionTLS12,
			[]uint16{tls.TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA, tls.TLS_ECDHE_ECDSA_WITH_AES_256_CBC_SHA}, false},
		"no ephemeral key": {tls.VersionTLS12, tls.VersionTLS12, []uint16{tls.TLS_RSA_WITH_AES_128_GCM_SHA256}, false},
		"GCM":              {tls.VersionTLS12, tls.VersionTLS12, []uint16{tls.TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256}, true},
	} {
		// what is spoken is asked, not by whom
		conn, err := tls.Dial("tcp", l.Addr().String(),
			&tls.Config{InsecureSkipVerify: true, MinVersion: c.min, MaxVersion: c.max, CipherSuites: c.suites})
		if (err == nil) != c.want {
			t.Errorf("%s: %v", name, err)
		}
		if err == nil {
			conn.Close()
		}
	}
}

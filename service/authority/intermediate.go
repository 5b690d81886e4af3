package authority

import "crypto/tls"

// Harden gives a server's settings what Mozilla's recommendation "intermediate" (version 5.7) asks for: TLS 1.2 and
// 1.3, with ephemeral keys and authenticated encryption alone. Of TLS 1.3 all suites are.
func Harden(c *tls.Config) *tls.Config {
	c.MinVersion = max(c.MinVersion, tls.VersionTLS12) // with a certificate of its own the service asks for 1.3
	c.CipherSuites = []uint16{
		tls.TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256, tls.TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256,
		tls.TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384, tls.TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384,
		tls.TLS_ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256, tls.TLS_ECDHE_RSA_WITH_CHACHA20_POLY1305_SHA256,
	}
	return c
}

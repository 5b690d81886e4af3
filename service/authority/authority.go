// Package authority is the service's own certificate authority, for when its operator gives no
// certificate. It makes both once, keeps them in the data folder and renews the certificate in
// time. Devices trust it by the fingerprint in their enrolment token; people by its file.
package authority

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"time"

	"moorwatch.example/link"
)

// How long what is made holds, and how long before its end a certificate is made anew.
const (
	authorityLasts   = 20 * 365 * 24 * time.Hour
	certificateLasts = 397 * 24 * time.Hour // the most that browsers accept
	renewBefore      = 60 * 24 * time.Hour
)

// File is the name of the authority's certificate in the data folder, for people to trust.
const File = "authority.pem"

// Load reads the authority and a certificate for names (host names or addresses) from dir, and
// makes what is missing, does not fit or ends soon. fingerprint is what enrolment tokens carry.
func Load(dir string, names []string, now time.Time) (config *tls.Config, fingerprint string, err error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, "", err
	}
	root, err := pair(dir, "authority", func() (*tls.Certificate, error) {
		return issue(&x509.Certificate{Subject: pkix.Name{CommonName: "Moorwatch authority"}, IsCA: true, BasicConstraintsValid: true, MaxPathLenZero: true,
			KeyUsage: x509.KeyUsageCertSign, NotBefore: now.Add(-time.Hour), NotAfter: now.Add(authorityLasts)}, nil)
	}, func(*x509.Certificate) bool { return true })
	if err != nil {
		return nil, "", err
	}
	leaf, err := pair(dir, "service", func() (*tls.Certificate, error) {
		template := &x509.Certificate{Subject: pkix.Name{CommonName: "Moorwatch service"}, KeyUsage: x509.KeyUsageDigitalSignature,
			ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, NotBefore: now.Add(-time.Hour), NotAfter: now.Add(certificateLasts)}
		for _, name := range names {
			if ip := net.ParseIP(name); ip != nil {
				template.IPAddresses = append(template.IPAddresses, ip)
			} else {
				template.DNSNames = append(template.DNSNames, name)
			}
		}
		return issue(template, root)
	}, func(c *x509.Certificate) bool {
		for _, name := range names {
			if c.VerifyHostname(name) != nil {
				return false
			}
		}
		return c.CheckSignatureFrom(root.Leaf) == nil && now.Before(c.NotAfter.Add(-renewBefore))
	})
	if err != nil {
		return nil, "", err
	}
	leaf.Certificate = append(leaf.Certificate[:1:1], root.Certificate[0])
	return &tls.Config{Certificates: []tls.Certificate{*leaf}, MinVersion: tls.VersionTLS13}, link.Fingerprint(root.Leaf), nil
}

// pair reads a certificate with its key, or makes and keeps one.
func pair(dir, name string, create func() (*tls.Certificate, error), fits func(*x509.Certificate) bool) (*tls.Certificate, error) {
	certFile, keyFile := filepath.Join(dir, name+".pem"), filepath.Join(dir, name+"-key.pem")
	found, err := tls.LoadX509KeyPair(certFile, keyFile)
	if err == nil && fits(found.Leaf) {
		return &found, nil
	}
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("reading %s: %w", certFile, err)
	}
	made, err := create()
	if err != nil {
		return nil, fmt.Errorf("making a certificate: %w", err)
	}
	if err := keep(keyFile, made.PrivateKey); err != nil {
		return nil, err
	}
	return made, os.WriteFile(certFile, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: made.Certificate[0]}), 0o644)
}

// keep writes a private key to a file that its owner alone reads (PKCS #8, RFC 5958).
func keep(path string, key any) error {
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	return os.WriteFile(path, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), 0o600)
}

// issue signs a template with the issuer's key, or with its own where there is no issuer.
func issue(template *x509.Certificate, issuer *tls.Certificate) (*tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	if template.SerialNumber, err = rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120)); err != nil {
		return nil, err
	}
	parent, signer := template, any(key)
	if issuer != nil {
		parent, signer = issuer.Leaf, issuer.PrivateKey
	}
	der, err := x509.CreateCertificate(rand.Reader, template, parent, key.Public(), signer)
	if err != nil {
		return nil, err
	}
	leaf, err := x509.ParseCertificate(der)
	return &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key, Leaf: leaf}, err
}

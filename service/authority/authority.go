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
	"slices"
	"time"

	"moorwatch.example/uplink"
)

// How long what is made holds, and how long before its end a certificate is made anew.
const (
	authorityLasts   = 5 * 365 * 24 * time.Hour
	authorityBefore  = 365 * 24 * time.Hour // people who trust its file have so long to take the new one
	certificateLasts = 397 * 24 * time.Hour // the most that browsers accept
	renewBefore      = 60 * 24 * time.Hour
)

// File is the name of the authority's certificate in the data folder, for people to trust.
const File = "authority.pem"

// Load reads the authority and a certificate for names (host names or addresses) from dir, and
// makes what is missing, does not fit or ends soon. The authority can vouch for these names alone (RFC 5280,
// 4.2.1.10); made anew, it keeps its key, by which devices know it. fingerprint is what enrolment tokens carry.
func Load(dir string, names []string, now time.Time) (config *tls.Config, fingerprint string, err error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, "", err
	}
	root, err := pair(dir, "authority", func(key *ecdsa.PrivateKey) (*tls.Certificate, error) {
		template := &x509.Certificate{Subject: pkix.Name{CommonName: "Moorwatch authority"}, IsCA: true, BasicConstraintsValid: true,
			MaxPathLenZero: true,
			KeyUsage:       x509.KeyUsageCertSign, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
			NotBefore: now.Add(-time.Hour),
			NotAfter:  now.Add(authorityLasts)}
		constrain(template, names)
		return issue(template, key, nil)
	}, func(c *x509.Certificate) bool {
		want := &x509.Certificate{}
		constrain(want, names)
		return sameConstraints(c, want) && now.Before(c.NotAfter.Add(-authorityBefore))
	})
	if err != nil {
		return nil, "", err
	}
	leaf, err := pair(dir, "service", func(*ecdsa.PrivateKey) (*tls.Certificate, error) {
		template := &x509.Certificate{Subject: pkix.Name{CommonName: "Moorwatch service"}, KeyUsage: x509.KeyUsageDigitalSignature,
			ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, NotBefore: now.Add(-time.Hour),
			NotAfter: now.Add(certificateLasts)}
		name(template, names...)
		return issue(template, nil, root)
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
	return &tls.Config{Certificates: []tls.Certificate{*leaf}, MinVersion: tls.VersionTLS13}, uplink.Fingerprint(root.Leaf), nil
}

// name gives a certificate names, or addresses.
func name(template *x509.Certificate, names ...string) {
	for _, name := range names {
		if ip := net.ParseIP(name); ip != nil {
			template.IPAddresses = append(template.IPAddresses, ip)
		} else {
			template.DNSNames = append(template.DNSNames, name)
		}
	}
}

// constrain has an authority vouch for names alone.
func constrain(authority *x509.Certificate, names []string) {
	authority.PermittedDNSDomainsCritical = true
	for _, name := range names {
		if ip := net.ParseIP(name); ip == nil {
			authority.PermittedDNSDomains = append(authority.PermittedDNSDomains, name)
		} else if four := ip.To4(); four != nil {
			authority.PermittedIPRanges = append(authority.PermittedIPRanges, &net.IPNet{IP: four, Mask: net.CIDRMask(32, 32)})
		} else {
			authority.PermittedIPRanges = append(authority.PermittedIPRanges, &net.IPNet{IP: ip, Mask: net.CIDRMask(128, 128)})
		}
	}
	// Of a kind of which nothing is permitted everything would be.
	if len(authority.PermittedDNSDomains) == 0 {
		authority.PermittedDNSDomains = []string{"invalid"} // which nothing is named (RFC 6761)
	}
	if len(authority.PermittedIPRanges) == 0 {
		for _, all := range []string{"0.0.0.0/0", "::/0"} {
			_, network, _ := net.ParseCIDR(all)
			authority.ExcludedIPRanges = append(authority.ExcludedIPRanges, network)
		}
	}
}

func sameConstraints(a, b *x509.Certificate) bool {
	texts := func(c *x509.Certificate) (all []string) {
		for _, d := range c.PermittedDNSDomains {
			all = append(all, "dns "+d)
		}
		for _, n := range c.PermittedIPRanges {
			all = append(all, "ip "+n.String())
		}
		for _, n := range c.ExcludedIPRanges {
			all = append(all, "not ip "+n.String())
		}
		slices.Sort(all)
		return all
	}
	return slices.Equal(texts(a), texts(b))
}

// pair reads a certificate with its key, or makes and keeps one; create is given the key of the one before, or nil.
func pair(dir, name string, create func(before *ecdsa.PrivateKey) (*tls.Certificate, error),
	fits func(*x509.Certificate) bool) (*tls.Certificate, error) {
	certFile, keyFile := filepath.Join(dir, name+".pem"), filepath.Join(dir, name+"-key.pem")
	found, err := tls.LoadX509KeyPair(certFile, keyFile)
	if err == nil && fits(found.Leaf) {
		return &found, nil
	}
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("reading %s: %w", certFile, err)
	}
	before, _ := found.PrivateKey.(*ecdsa.PrivateKey)
	made, err := create(before)
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

func newKey() (*ecdsa.PrivateKey, error) { return ecdsa.GenerateKey(elliptic.P256(), rand.Reader) }

// issue signs a template for a key with the issuer's, or with its own where there is no issuer. A key that is nil is
// made.
func issue(template *x509.Certificate, key *ecdsa.PrivateKey, issuer *tls.Certificate) (made *tls.Certificate, err error) {
	if key == nil {
		if key, err = newKey(); err != nil {
			return nil, err
		}
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

package uplink

import (
	"bufio"
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"time"

	"github.com/gobwas/ws"

	"moorwatch.example/contract/link"
)

// Path is where the service accepts links.
const Path = "/link"

// Dialer is what a device needs to connect.
type Dialer struct {
	URL    string // the service's address, https or (loopback only) http
	Device string // the identity given at enrolment
	Key    ed25519.PrivateKey
	TLS    *tls.Config // nil for the system's authorities; see Pinned
	Lane   string      // of a link beside the first one; "" for that
	// HostName and Hardware tell which computer this is.
	HostName string
	Hardware []string
	// Mark is what Keep was given at the last connection. Keep has it on disk when it returns; nil where none is kept.
	Mark string
	Keep func(mark string) error
}

// Dial connects and proves the device's key within GreetWithin. A refusal by the service is
// returned as *link.Refusal.
func (d Dialer) Dial(ctx context.Context) (*Link, error) {
	ctx, cancel := context.WithTimeout(ctx, GreetWithin)
	defer cancel()
	u, err := ServiceURL(d.URL)
	if err != nil {
		return nil, err
	}
	u.Scheme, u.Path = map[string]string{"http": "ws", "https": "wss"}[u.Scheme], Path
	if d.Lane != "" {
		u.RawQuery = url.Values{"lane": {d.Lane}}.Encode()
	}
	dialer := ws.Dialer{TLSConfig: &tls.Config{}, NetDial: throughProxy(u), WriteBufferSize: 1024, ReadBufferSize: 1024}
	if d.TLS != nil {
		dialer.TLSConfig = d.TLS.Clone()
	}
	if d.Lane == "" { // for a lane somebody waits
		dialer.TLSConfig.NextProtos = []string{link.Protocol, "http/1.1"}
	}
	nc, br, _, err := dialer.Dial(ctx, u.String())
	if err != nil {
		return nil, fmt.Errorf("connecting to %s: %w", d.URL, err)
	}
	c := &conn{Conn: nc, masks: true}
	if br != nil {
		c.early, _ = br.Peek(br.Buffered())
	}
	stop := context.AfterFunc(ctx, func() { nc.SetDeadline(time.Unix(1, 0)) })
	if err := d.greet(c); err != nil {
		nc.Close()
		return nil, errors.Join(ctx.Err(), err)
	}
	if !stop() {
		nc.Close()
		return nil, ctx.Err()
	}
	return start(c, d.Device, true)
}

func (d Dialer) greet(c *conn) error {
	var challenge link.Challenge
	if err := receive(c, &challenge); err != nil {
		return err
	}
	token, err := prove(d.Device, d.Key, challenge)
	if err != nil {
		return fmt.Errorf("proving the device's key: %w", err)
	}
	if err := send(c, link.Proof{Token: token, Notes: challenge.Notes, HostName: d.HostName, Hardware: d.Hardware,
		Mark: d.Mark}); err != nil {
		return err
	}
	var welcome link.Welcome
	if err := receive(c, &welcome); err != nil {
		return err
	}
	if welcome.Refusal != nil {
		return welcome.Refusal
	}
	if welcome.Mark != "" && d.Keep != nil {
		if err := d.Keep(welcome.Mark); err != nil {
			return fmt.Errorf("keeping the mark of this connection: %w", err)
		}
	}
	c.kinds = challenge.Notes
	return nil
}

// ServiceURL reads the address of a service. Plain HTTP is allowed on loopback alone.
func ServiceURL(address string) (*url.URL, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || (u.Scheme != "http" && u.Scheme != "https") {
		return nil, fmt.Errorf("%q is no address of a service: write it as https://moorwatch.example", address)
	}
	if u.Scheme == "http" {
		if ip := net.ParseIP(u.Hostname()); u.Hostname() != "localhost" && (ip == nil || !ip.IsLoopback()) {
			return nil, fmt.Errorf("%s is plain HTTP, which is for this machine alone: use https", address)
		}
	}
	return u, nil
}

// throughProxy dials the proxy that the environment names (HTTPS_PROXY, NO_PROXY) with HTTP
// CONNECT (RFC 9110, 9.3.6), or nil where there is none.
func throughProxy(service *url.URL) func(ctx context.Context, network, address string) (net.Conn, error) {
	scheme := map[string]string{"ws": "http", "wss": "https"}[service.Scheme]
	proxy, err := http.ProxyFromEnvironment(&http.Request{URL: &url.URL{Scheme: scheme, Host: service.Host}})
	if err != nil || proxy == nil {
		return nil
	}
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		c, err := (&net.Dialer{}).DialContext(ctx, network, proxy.Host)
		if err != nil {
			return nil, fmt.Errorf("connecting to the proxy: %w", err)
		}
		request := &http.Request{Method: http.MethodConnect, URL: &url.URL{Opaque: address}, Host: address, Header: http.Header{}}
		if u := proxy.User; u != nil {
			password, _ := u.Password()
			request.Header.Set("Proxy-Authorization", "Basic "+base64.StdEncoding.EncodeToString([]byte(u.Username()+":"+password)))
		}
		stop := context.AfterFunc(ctx, func() { c.SetDeadline(time.Unix(1, 0)) })
		defer stop()
		if err := request.Write(c); err != nil {
			c.Close()
			return nil, fmt.Errorf("asking the proxy: %w", err)
		}
		response, err := http.ReadResponse(bufio.NewReaderSize(c, 16), request)
		if err != nil {
			c.Close()
			return nil, fmt.Errorf("asking the proxy: %w", err)
		}
		if response.StatusCode != http.StatusOK {
			c.Close()
			return nil, fmt.Errorf("the proxy %s answers %s", proxy.Host, response.Status)
		}
		return c, nil
	}
}

// Fingerprint names a certificate authority: the first 16 bytes of the SHA-256 of its public key,
// in base64url. An enrolment token carries it, so that a device trusts the right service from the
// first byte.
func Fingerprint(authority *x509.Certificate) string {
	sum := sha256.Sum256(authority.RawSubjectPublicKeyInfo)
	return base64.RawURLEncoding.EncodeToString(sum[:16])
}

// Pinned is the TLS a device uses with a service that is its own certificate authority: the
// service's certificate must bear the name dialled and be signed by the authority of that
// fingerprint. Dates are not checked: a device whose clock is wrong must still be reachable, and
// the authority is pinned.
func Pinned(fingerprint string) *tls.Config {
	return &tls.Config{
		MinVersion:         tls.VersionTLS13,
		InsecureSkipVerify: true, // VerifyConnection below takes its place
		ClientSessionCache: nil,
		VerifyConnection: func(s tls.ConnectionState) error {
			roots, others := x509.NewCertPool(), x509.NewCertPool()
			for _, cert := range s.PeerCertificates {
				if cert.IsCA && Fingerprint(cert) == fingerprint {
					roots.AddCert(cert)
				} else {
					others.AddCert(cert)
				}
			}
			leaf := s.PeerCertificates[0]
			_, err := leaf.Verify(x509.VerifyOptions{Roots: roots, Intermediates: others, DNSName: s.ServerName,
				CurrentTime: leaf.NotBefore.Add(time.Second)})
			if err != nil {
				return fmt.Errorf("this is not the service that the device was enrolled with: %w", err)
			}
			return nil
		},
	}
}

package portable

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path"
	"regexp"
	"strings"
	"sync"
	"time"

	"github.com/shirou/gopsutil/v4/process"
	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"

	"moorwatch.example/core/device"
)

// Prober implements host.Prober where systems are alike; what only one system knows it is given.
type Prober struct {
	// Service tells whether a service runs, and otherwise its state; nil where there are none.
	Service func(ctx context.Context, name string) (running bool, state string, err error)
	// Journal reads the lines of the system's log since a time; nil where there is none.
	Journal func(ctx context.Context, since time.Time, line func(string)) error

	mu    sync.Mutex
	files map[device.Probe]*place
}

// place is how far a log was read, and when.
type place struct {
	offset int64
	at     time.Time
}

// Probe implements host.Prober.
func (p *Prober) Probe(ctx context.Context, q device.Probe) device.ProbeResult {
	began := time.Now()
	var r device.ProbeResult
	var err error
	switch q.Kind {
	case device.ProbeTCP:
		err = p.tcp(ctx, q.Target)
	case device.ProbeHTTP:
		r.Expires, err = get(ctx, q.Target)
	case device.ProbeDNS:
		_, err = net.DefaultResolver.LookupHost(ctx, q.Target)
	case device.ProbePing:
		err = ping(ctx, q.Target)
	case device.ProbeService:
		if p.Service == nil {
			return unknown("this system has no services that can be asked for")
		}
		if r.OK, r.Detail, err = p.Service(ctx, q.Target); err != nil {
			return unknown(err.Error())
		}
		r.Value = map[bool]float64{true: 1}[r.OK]
		return r
	case device.ProbeProcess:
		return processes(ctx, q.Target)
	case device.ProbeLog:
		return p.log(ctx, q)
	default:
		return unknown(fmt.Sprintf("the agent knows no probe %q", q.Kind))
	}
	if errors.Is(err, errMayNot) {
		return unknown(err.Error())
	}
	r.OK, r.Value = err == nil, float64(time.Since(began).Microseconds())/1000
	if err != nil {
		r.Detail = plain(err)
	}
	return r
}

func unknown(why string) device.ProbeResult { return device.ProbeResult{Unknown: true, Detail: why} }

var errMayNot = errors.New("the agent may not send ICMP here")

// plain says why something could not be reached, without the addresses that the reader knows.
func plain(err error) string {
	var op *net.OpError
	var name *net.DNSError
	var request *url.Error
	switch {
	case errors.Is(err, context.DeadlineExceeded) || os.IsTimeout(err):
		return "no answer in time"
	case errors.As(err, &name):
		return "the name does not resolve"
	case errors.As(err, &op):
		return op.Err.Error()
	case errors.As(err, &request):
		return request.Err.Error()
	}
	return err.Error()
}

func (*Prober) tcp(ctx context.Context, address string) error {
	c, err := (&net.Dialer{}).DialContext(ctx, "tcp", address)
	if err == nil {
		c.Close()
	}
	return err
}

// get asks for a page. A certificate that cannot be trusted is the result's failure; when it
// expires is told all the same.
func get(ctx context.Context, address string) (expires time.Time, err error) {
	var seen tls.ConnectionState
	settings := &tls.Config{VerifyConnection: func(s tls.ConnectionState) error { seen = s; return nil }} // beside the usual verification
	transport := &http.Transport{Proxy: http.ProxyFromEnvironment, TLSClientConfig: settings, DisableKeepAlives: true}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return expires, errors.New("the address cannot be read")
	}
	answer, err := transport.RoundTrip(r)
	if len(seen.PeerCertificates) > 0 {
		expires = seen.PeerCertificates[0].NotAfter
	} else if err != nil && r.URL.Scheme == "https" {
		expires = expiry(ctx, r.URL)
	}
	if err != nil {
		return expires, err
	}
	defer answer.Body.Close()
	io.Copy(io.Discard, io.LimitReader(answer.Body, 256<<10))
	if answer.StatusCode >= 400 {
		return expires, fmt.Errorf("it answers %s", answer.Status)
	}
	return expires, nil
}

// expiry reads when the certificate of a server expires that does not hold.
func expiry(ctx context.Context, u *url.URL) time.Time {
	port := u.Port()
	if port == "" {
		port = "443"
	}
	// only looked at, nothing is sent
	c, err := (&tls.Dialer{Config: &tls.Config{InsecureSkipVerify: true, ServerName: u.Hostname()}}).DialContext(ctx, "tcp",
		net.JoinHostPort(u.Hostname(), port))
	if err != nil {
		return time.Time{}
	}
	defer c.Close()
	if certificates := c.(*tls.Conn).ConnectionState().PeerCertificates; len(certificates) > 0 {
		return certificates[0].NotAfter
	}
	return time.Time{}
}

// ping sends one ICMP echo (RFC 792), by a socket that needs no rights where the system has such.
func ping(ctx context.Context, host string) error {
	addresses, err := net.DefaultResolver.LookupIP(ctx, "ip4", host)
	if err != nil {
		return err
	}
	var to net.Addr = &net.UDPAddr{IP: addresses[0]}
	c, err := icmp.ListenPacket("udp4", "0.0.0.0")
	if err != nil {
		if c, err = icmp.ListenPacket("ip4:icmp", "0.0.0.0"); err != nil {
			return errMayNot
		}
		to = &net.IPAddr{IP: addresses[0]}
	}
	defer c.Close()
	deadline, ok := ctx.Deadline()
	if !ok {
		deadline = time.Now().Add(5 * time.Second)
	}
	c.SetDeadline(deadline)
	seq := int(time.Now().UnixNano() & 0xffff)
	text, err := (&icmp.Message{Type: ipv4.ICMPTypeEcho,
		Body: &icmp.Echo{ID: os.Getpid() & 0xffff, Seq: seq, Data: []byte("moorwatch")}}).Marshal(nil)
	if err != nil {
		return err
	}
	if _, err := c.WriteTo(text, to); err != nil {
		return err
	}
	for b := make([]byte, 1500); ; {
		n, _, err := c.ReadFrom(b)
		if err != nil {
			return err
		}
		if m, err := icmp.ParseMessage(1, b[:n]); err == nil && m.Type == ipv4.ICMPTypeEchoReply {
			if echo, ok := m.Body.(*icmp.Echo); ok && echo.Seq == seq {
				return nil
			}
		}
	}
}

// named lists the processes of a name, in which * stands for any characters.
func named(ctx context.Context, pattern string) (found []*process.Process, err error) {
	all, err := process.ProcessesWithContext(ctx)
	if err != nil {
		return nil, err
	}
	for _, one := range all {
		if name, err := one.NameWithContext(ctx); err == nil {
			if ok, _ := path.Match(strings.ToLower(pattern), strings.ToLower(name)); ok {
				found = append(found, one)
			}
		}
	}
	return found, nil
}

// processes counts the processes of a name, with what they use. Their CPU is the mean since each
// began, as only a second look could tell more.
func processes(ctx context.Context, pattern string) (r device.ProbeResult) {
	found, err := named(ctx, pattern)
	if err != nil {
		return unknown(err.Error())
	}
	for _, one := range found {
		if m, err := one.MemoryInfoWithContext(ctx); err == nil {
			r.Memory += int64(m.RSS)
		}
		if c, err := one.CPUPercentWithContext(ctx); err == nil {
			r.CPU += c / cores()
		}
	}
	r.CPU = min(r.CPU, 100)
	r.OK, r.Value = true, float64(len(found))
	return r
}

// maxRead is the most of a log that is read at one look, in bytes.
const maxRead = 8 << 20

// log counts the lines that match since the last look, as a rate a minute.
func (p *Prober) log(ctx context.Context, q device.Probe) (r device.ProbeResult) {
	pattern, err := regexp.Compile(q.Pattern)
	if err != nil {
		return unknown("the pattern cannot be read")
	}
	key := q
	key.Every = 0
	p.mu.Lock()
	if p.files == nil {
		p.files = map[device.Probe]*place{}
	}
	last := p.files[key]
	p.mu.Unlock()
	now, matched := time.Now(), 0.0
	line := func(s string) {
		if pattern.MatchString(s) {
			matched++
			r.Detail = s
		}
	}
	next := &place{at: now}
	since := now.Add(-time.Minute)
	if last != nil {
		since, next.offset = last.at, last.offset
	}
	if q.Target == "journal" {
		if p.Journal == nil {
			err = errors.New("this system has no journal")
		} else {
			err = p.Journal(ctx, since, line)
		}
	} else {
		next.offset, err = follow(q.Target, last, line)
	}
	if err != nil {
		return unknown(err.Error())
	}
	p.mu.Lock()
	p.files[key] = next
	p.mu.Unlock()
	r.OK, r.Value = true, matched/max(now.Sub(since).Minutes(), 1.0/6)
	return r
}

// follow reads the lines that a file grew by. At the first look, and after the file began anew, it
// starts at the end, or at the beginning of what is new.
func follow(name string, last *place, line func(string)) (offset int64, err error) {
	f, err := os.Open(name)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return 0, err
	}
	if last == nil {
		return info.Size(), nil
	}
	if offset = last.offset; info.Size() < offset {
		offset = 0
	}
	if _, err := f.Seek(offset, io.SeekStart); err != nil {
		return offset, err
	}
	lines := bufio.NewReaderSize(io.LimitReader(f, maxRead), 64<<10)
	for {
		text, err := lines.ReadString('\n')
		if err != nil {
			return offset, nil // an unfinished line is read the next time
		}
		offset += int64(len(text))
		line(strings.TrimRight(text, "\r\n"))
	}
}

package test

import (
	"bufio"
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/gobwas/ws"
	"github.com/golang-jwt/jwt/v5"
	"github.com/google/uuid"
	"github.com/hashicorp/yamux"

	"moorwatch.example/agent"
	"moorwatch.example/agent/identity"
	"moorwatch.example/core/device"
	"moorwatch.example/uplink"
)

// What the first agents and services said is kept here as it was, in texts, and not by the types of today: an
// agent that was not renewed for two releases must still be looked after, and one that was renewed before its service must still report.

// frames is a stream of bytes over the binary messages of a WebSocket, as link 0.1 had it: nothing
// tells one message from another.
type frames struct {
	net.Conn
	in     *bufio.Reader
	masks  bool
	unread []byte
	mu     sync.Mutex
}

func (f *frames) Read(p []byte) (int, error) {
	for len(f.unread) == 0 {
		h, err := ws.ReadHeader(f.in)
		if err != nil {
			return 0, err
		}
		if h.OpCode == ws.OpClose {
			return 0, io.EOF
		}
		if (h.OpCode != ws.OpBinary && h.OpCode != ws.OpContinuation) || h.Length > 1<<20 {
			return 0, fmt.Errorf("link 0.1 knows no messages of kind %v and %d bytes", h.OpCode, h.Length)
		}
		b := make([]byte, h.Length)
		if _, err := io.ReadFull(f.in, b); err != nil {
			return 0, err
		}
		if h.Masked {
			ws.Cipher(b, h.Mask, 0)
		}
		f.unread = b
	}
	n := copy(p, f.unread)
	f.unread = f.unread[n:]
	return n, nil
}

func (f *frames) Write(p []byte) (int, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	frame := ws.NewBinaryFrame(bytes.Clone(p))
	if f.masks {
		frame = ws.MaskFrameInPlace(frame)
	}
	return len(p), ws.WriteFrame(f.Conn, frame)
}

// line reads a message of the greeting.
func (f *frames) line(t *testing.T) map[string]any {
	t.Helper()
	var b []byte
	for one := make([]byte, 1); ; b = append(b, one[0]) {
		if _, err := f.Read(one); err != nil {
			t.Fatalf("the greeting ends after %q: %v", b, err)
		}
		if one[0] == '\n' {
			break
		}
	}
	m := map[string]any{}
	if err := json.Unmarshal(b, &m); err != nil {
		t.Fatal(err)
	}
	return m
}

// An agent of the first release is enrolled, seen and given commands by the service of today.
func TestOldAgent(t *testing.T) {
	t.Parallel()
	w := begin(t, false)
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	trust := &tls.Config{InsecureSkipVerify: true} // who the service is, is not what is tested
	c := &http.Client{Transport: &http.Transport{TLSClientConfig: trust}}
	answer := must(c.Post(w.Service.URL+"/api/v1/enrol", "application/json", strings.NewReader(fmt.Sprintf(
		`{"token":%q,"public_key":%q,"host_name":"old-till"}`, w.enrolmentToken(t, 1), base64.RawURLEncoding.EncodeToString(public)))))(t)
	var enrolled struct{ Device string }
	if err := json.NewDecoder(answer.Body).Decode(&enrolled); err != nil || answer.StatusCode != http.StatusCreated {
		t.Fatalf("%s, %v", answer.Status, err)
	}
	answer.Body.Close()
	id := uuid.MustParse(enrolled.Device)

	nc, br, _, err := ws.Dialer{TLSConfig: trust}.Dial(t.Context(), strings.Replace(w.Service.URL, "http", "ws", 1)+"/link")
	if err != nil {
		t.Fatal(err)
	}
	defer nc.Close()
	f := &frames{Conn: nc, in: bufio.NewReader(nc), masks: true}
	if br != nil {
		f.in = br
	}
	challenge := f.line(t)
	at := must(time.Parse(time.RFC3339Nano, challenge["time"].(string)))(t)
	proof := must(jwt.NewWithClaims(jwt.SigningMethodEdDSA,
		jwt.MapClaims{"iss": id.String(), "sub": id.String(), "aud": []string{challenge["audience"].(string)},
			"nonce": challenge["nonce"], "iat": at.Unix(), "exp": at.Add(time.Minute).Unix()}).SignedString(private))(t)
	fmt.Fprintf(f, `{"token":%q}`+"\n", proof)
	if welcome := f.line(t); welcome["refusal"] != nil {
		t.Fatalf("refused: %v", welcome)
	}
	config := yamux.DefaultConfig()
	config.LogOutput = io.Discard
	session := must(yamux.Server(f, config))(t)
	defer session.Close()
	commands := http.NewServeMux()
	commands.HandleFunc("POST /commands", func(w http.ResponseWriter, r *http.Request) {
		io.WriteString(w, `{"stdout":"b2xkCg=="}`+"\n"+`{"exit":0,"elapsed_seconds":0.01}`+"\n")
	})
	go http.Serve(session, commands)
	service := &http.Client{Transport: &http.Transport{DialContext: func(context.Context, string, string) (net.Conn, error) {
		return session.Open()
	}}}
	post := func(path, body string) string {
		t.Helper()
		answer := must(service.Post("http://service"+path, "application/json", strings.NewReader(body)))(t)
		defer answer.Body.Close()
		text := must(io.ReadAll(answer.Body))(t)
		if answer.StatusCode >= 300 {
			t.Fatalf("%s is answered %s: %s", path, answer.Status, text)
		}
		return string(text)
	}
	post("/facts", `{"host_name":"old-till","os":"linux","agent_version":"0.1.0","capabilities":["vitals","commands"]}`)
	now := time.Now().UTC().Format(time.RFC3339)
	receipt := post("/reports", `{"epoch":"0b7a2c1e-5f7b-4d0c-9d1f-2a63c1b7e001","sent":"`+now+`","reports":[{"seq":1,"vitals":{"at":"`+now+
		`","cpu":12.5,"load1":0.5,"memory":40,"memory_bytes":1000,"memory_used_bytes":400,"swap":0,"disks":[{"mount":"/","total_bytes":1000,"used_bytes":250}],"receive":0,"transmit":0,"uptime_seconds":60,"temperatures":[],"people":[]}}]}`)
	if !strings.Contains(receipt, `"through":1`) {
		t.Errorf("the receipt is %s", receipt)
	}
	w.await(t, "it is seen", func() bool {
		d := w.device(t, id)
		return d.Device.Online && d.Vitals != nil && d.Vitals.CPU == 12.5 && d.Device.AgentVersion == "0.1.0"
	})
	out, errs, exit := ran(t, w.moor(t, "run", "old-till", "--", "hostname"))
	if exit != 0 || out != "old\n" {
		t.Errorf("%d %q %q", exit, out, errs)
	}
	for _, later := range []string{"files", "screen", "updates"} {
		if strings.Contains(strings.Join(w.device(t, id).Device.Capabilities, " "), later) {
			t.Errorf("it offers %s", later)
		}
	}
}

// An agent of today reports to the service of the first release, which knows no notes, and nothing that came later.
func TestOldService(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	said, notThere := map[string]string{}, 0
	calls := http.NewServeMux()
	calls.HandleFunc("POST /facts", func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		said["facts"] = string(must(io.ReadAll(r.Body))(t))
		w.WriteHeader(http.StatusNoContent)
	})
	reported := make(chan uint64, 100)
	calls.HandleFunc("POST /reports", func(w http.ResponseWriter, r *http.Request) {
		var batch struct {
			Reports []struct {
				Seq    uint64
				Vitals struct{ CPU *float64 }
			}
		}
		if err := json.NewDecoder(r.Body).Decode(&batch); err != nil || len(batch.Reports) == 0 || batch.Reports[0].Vitals.CPU == nil {
			t.Errorf("it reports %+v, %v", batch, err)
			return
		}
		last := batch.Reports[len(batch.Reports)-1].Seq
		fmt.Fprintf(w, `{"through":%d}`, last)
		reported <- last
	})
	calls.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		notThere++
		http.NotFound(w, r)
	})
	sessions := make(chan *yamux.Session, 4)
	service := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		nc, rw, _, err := ws.UpgradeHTTP(r, w)
		if err != nil {
			t.Error(err)
			return
		}
		f := &frames{Conn: nc, in: rw.Reader}
		fmt.Fprintf(f, `{"nonce":"abc","audience":"old","time":%q}`+"\n", time.Now().Format(time.RFC3339Nano))
		if proof := f.line(t); proof["token"] == "" {
			t.Errorf("the proof is %v", proof)
		}
		io.WriteString(f, "{}\n")
		config := yamux.DefaultConfig()
		config.LogOutput = io.Discard
		session, err := yamux.Client(f, config)
		if err != nil {
			t.Error(err)
			return
		}
		sessions <- session
		go http.Serve(session, calls)
	}))
	defer service.Close()
	dir := t.TempDir()
	i := identity.Identity{Service: service.URL, Device: uuid.NewString(), Name: "new-till",
		Seed: bytes.Repeat([]byte{7}, ed25519.SeedSize)}
	i.Fingerprint = uplink.Fingerprint(service.Certificate())
	if err := os.WriteFile(filepath.Join(dir, "identity.json"), must(json.Marshal(i))(t), 0o600); err != nil {
		t.Fatal(err)
	}
	a := &agent.Agent{Dir: dir, Host: body("new-till", 41), Log: quiet, Every: 200 * time.Millisecond}
	ended := make(chan error, 1)
	go func() { ended <- a.Run(t.Context()) }()
	for seq := uint64(0); seq < 5; {
		select {
		case seq = <-reported:
		case err := <-ended:
			t.Fatal(err)
		case <-time.After(soon):
			t.Fatalf("after report %d there is no other", seq)
		}
	}
	mu.Lock()
	defer mu.Unlock()
	var facts device.Facts
	if err := json.Unmarshal([]byte(said["facts"]), &facts); err != nil || facts.HostName != "new-till" {
		t.Errorf("%s, %v", said["facts"], err)
	}
	if notThere == 0 {
		t.Error("it asks for nothing that came later: this test is of no use")
	}
	if n := len(sessions); n != 1 {
		t.Errorf("it connected %d times", n)
	}
}

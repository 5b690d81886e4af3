package identity

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"

	"moorwatch.example/core/device"
	"moorwatch.example/test/scratch"
)

// asked is what a device shows to the service as it enrols.
type asked struct {
	Token     string   `json:"token"`
	PublicKey string   `json:"public_key"`
	HostName  string   `json:"host_name"`
	Hardware  []string `json:"hardware"`
}

// service answers enrolments with ids that count up, or as it is told to.
func service(t *testing.T, answer func(w http.ResponseWriter, a asked)) *httptest.Server {
	t.Helper()
	n := 0
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var a asked
		if err := json.NewDecoder(r.Body).Decode(&a); err != nil || r.URL.Path != "/api/v1/enrol" {
			t.Errorf("%s: %v", r.URL, err)
		}
		if answer != nil {
			answer(w, a)
			return
		}
		n++
		w.WriteHeader(http.StatusCreated)
		fmt.Fprintf(w, `{"device":"device-%d","name":%q}`, n, a.HostName)
	}))
	t.Cleanup(s.Close)
	return s
}

var computer = device.Facts{HostName: "front-desk", Hardware: []string{"board:1"}}

func TestEnrol(t *testing.T) {
	dir := filepath.Join(scratch.Dir(t), "agent")
	var shown asked
	s := service(t, func(w http.ResponseWriter, a asked) {
		shown = a
		w.WriteHeader(http.StatusCreated)
		io.WriteString(w, `{"device":"device-1","name":"front-desk"}`)
	})
	if _, err := Load(dir); err != ErrNotEnrolled {
		t.Errorf("before: %v", err)
	}
	i, err := Enrol(t.Context(), dir, s.URL+"/devices?x=1", "a.b.sha256-of-the-authority", computer)
	if err != nil {
		t.Fatal(err)
	}
	if shown.Token != "a.b.sha256-of-the-authority" || shown.HostName != "front-desk" || !slices.Equal(shown.Hardware, computer.Hardware) {
		t.Errorf("shown: %+v", shown)
	}
	if want := base64.RawURLEncoding.EncodeToString(i.Key()[32:]); shown.PublicKey != want {
		t.Errorf("the key shown is %s, not %s", shown.PublicKey, want)
	}
	back, err := Load(dir)
	if err != nil || back.Device != "device-1" || back.Name != "front-desk" || back.Service != s.URL ||
		back.Fingerprint != "sha256-of-the-authority" || !back.Key().Equal(i.Key()) {
		t.Errorf("loaded: %+v %v", back, err)
	}
	if info, err := os.Stat(filepath.Join(dir, fileName)); err != nil || runtime.GOOS != "windows" && info.Mode().Perm() != 0o600 {
		t.Errorf("its file: %v %v", info.Mode(), err)
	}
	if _, err := Enrol(t.Context(), dir, s.URL, "a.b", computer); err == nil || !strings.Contains(err.Error(), "enrolled already") {
		t.Errorf("twice: %v", err)
	}
	if err := Rename(dir, "device-9"); err != nil {
		t.Fatal(err)
	}
	if back, err := Load(dir); err != nil || back.Device != "device-9" || !back.Key().Equal(i.Key()) {
		t.Errorf("renamed: %+v %v", back, err)
	}
}

// What is refused leaves no identity, so that the next try is as the first.
func TestEnrolRefused(t *testing.T) {
	for want, answer := range map[string]func(w http.ResponseWriter, a asked){
		"The token was used. Make another.": func(w http.ResponseWriter, _ asked) {
			w.WriteHeader(http.StatusForbidden)
			io.WriteString(w, `{"title":"The token was used.","detail":"Make another."}`)
		},
		"is its address right?": func(w http.ResponseWriter, _ asked) { io.WriteString(w, "<html>a proxy's page") },
	} {
		dir := scratch.Dir(t)
		if _, err := Enrol(t.Context(), dir, service(t, answer).URL, "used.secret", computer); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		} else if strings.Contains(err.Error(), "secret") {
			t.Errorf("the token is told: %v", err)
		}
		if _, err := Load(dir); err != ErrNotEnrolled {
			t.Errorf("after %q: %v", want, err)
		}
	}
	for _, address := range []string{"", "moorwatch.example", "ftp://moorwatch.example", "https://"} {
		if _, err := Enrol(t.Context(), scratch.Dir(t), address, "a.b", computer); err == nil {
			t.Errorf("%q is an address", address)
		}
	}
}

func TestDamaged(t *testing.T) {
	for _, text := range []string{"", "{", `{"service":"https://x","device":"d","seed":"AAAA"}`} {
		dir := scratch.Dir(t)
		if err := os.WriteFile(filepath.Join(dir, fileName), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := Load(dir); err == nil || !strings.Contains(err.Error(), "is damaged") {
			t.Errorf("%q: %v", text, err)
		}
	}
}

// A copy takes nothing of the other device with it but what was chosen at installation, and stays what it
// is when it cannot become another.
func TestAnew(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("Wine 8 lacks what Go removes folders by")
	}
	dir := scratch.Dir(t)
	s := service(t, nil)
	old, err := Enrol(t.Context(), dir, s.URL, "a.b", computer)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.MkdirAll(filepath.Join(dir, "runs"), 0o700); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"reports.jsonl", "choices.json"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte("{}"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	names := func() (list []string) {
		entries, err := os.ReadDir(dir)
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range entries {
			list = append(list, e.Name())
		}
		return list
	}
	before := names()
	address := s.URL
	s.Close()
	if _, err := Anew(t.Context(), dir, "c.d", computer); err == nil {
		t.Error("enrolled with nobody")
	}
	if same, err := Load(dir); err != nil || same.Device != old.Device || !slices.Equal(names(), before) {
		t.Errorf("it is %+v %v with %v", same, err, names())
	}

	next := service(t, nil)
	if err := Move(dir, "no address"); err == nil {
		t.Error("moved to no address")
	}
	if err := Move(dir, next.URL); err != nil {
		t.Fatal(err)
	}
	if there, err := Load(dir); err != nil || there.Service != next.URL || !there.Key().Equal(old.Key()) {
		t.Errorf("moved it is %+v %v", there, err)
	}
	fresh, err := Anew(t.Context(), dir, "c.d", computer)
	if err != nil {
		t.Fatal(err)
	}
	if back, err := Load(dir); err != nil || back.Key().Equal(old.Key()) || back.Device != fresh.Device || back.Service == address {
		t.Errorf("it is %+v %v", back, err)
	}
	if got := names(); !slices.Equal(got, []string{"choices.json", fileName}) {
		t.Errorf("left: %v", got)
	}
}

// Package agents keeps the releases of the agent that lie in a folder: devices are installed from them,
// and renew themselves from them. Releases are signed elsewhere; what is signed by none of the known keys is
// not offered.
package agents

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/release"
	"moorwatch.example/service/part"
)

// Service serves the releases.
type Service struct {
	dir string // "" where there is none
	url string // by which devices reach the service
	own bool   // its certificate is of its own authority, which devices do not know before they are enrolled

	mu   sync.Mutex
	seen string // what the folder held when it was read
	all  []kept
}

// kept is a release that is offered.
type kept struct {
	release.Manifest
	signed []byte
}

// New serves the releases in a folder. own tells that the service is its own certificate authority.
func New(dir, url string, own bool) *Service { return &Service{dir: dir, url: url, own: own} }

// Part is what the service hands out.
func (c *Service) Part() part.Part {
	return part.Part{Name: "agents",
		Links: map[string]http.HandlerFunc{"GET /release": c.serveRelease, "GET /release/program": c.serveProgram}}
}

// manifestFile and keyFile are names of files in the folder: of a release, and of the keys that sign here
// beside those that are part of the program.
const (
	manifestFile = "release.json"
	keyFile      = "release.pub"
)

// releases are those that are offered, the latest first.
func (c *Service) releases() []kept {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.dir == "" {
		return nil
	}
	entries, err := os.ReadDir(c.dir)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		slog.Warn("the agent's releases cannot be read", "folder", c.dir, "error", err)
	}
	now := c.state(entries)
	if now == c.seen {
		return c.all
	}
	c.seen = now
	keys := release.Keys(release.Built)
	if text, err := os.ReadFile(filepath.Join(c.dir, keyFile)); err == nil {
		keys = append(keys, release.Keys(string(text))...)
	}
	var all []kept
	for _, e := range entries {
		if !e.IsDir() {
			continue
		}
		k, err := read(filepath.Join(c.dir, e.Name()), e.Name(), keys)
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		if err != nil {
			slog.Warn("a release of the agent is not offered", "folder", e.Name(), "error", err)
			continue
		}
		all = append(all, k)
	}
	slices.SortFunc(all, func(a, b kept) int { return release.Compare(a.Manifest, b.Manifest) })
	c.all = all
	return all
}

// state tells what the folder holds, so that releases are read when that changes.
func (c *Service) state(entries []os.DirEntry) string {
	var b strings.Builder
	for _, e := range entries {
		name := e.Name()
		if e.IsDir() {
			name = filepath.Join(name, manifestFile)
		}
		if info, err := os.Stat(filepath.Join(c.dir, name)); err == nil {
			fmt.Fprintln(&b, name, info.Size(), info.ModTime().UnixNano())
		}
	}
	return b.String()
}

// read reads a release and makes sure that its files are there whole.
func read(dir, name string, keys []ed25519.PublicKey) (k kept, err error) {
	if k.signed, err = os.ReadFile(filepath.Join(dir, manifestFile)); err != nil {
		return k, err
	}
	if k.Manifest, err = release.Open(k.signed, keys); err != nil {
		return k, err
	}
	if k.Version != name {
		return k, fmt.Errorf("it is release %s, and lies in a folder of another name", k.Version)
	}
	for _, p := range slices.Concat(k.Programs, k.Packages) {
		if info, err := os.Stat(filepath.Join(dir, p.File)); err != nil || info.Size() != p.Size {
			return k, fmt.Errorf("the file %s is missing, or has another size", p.File)
		}
	}
	return k, nil
}

// ListAgentReleases lists them: GET /agent-releases.
func (c *Service) ListAgentReleases(g *gin.Context) {
	out := api.AgentReleases{Items: []api.AgentRelease{}, Commands: []api.AgentCommand{}}
	for _, k := range c.releases() {
		one := api.AgentRelease{Version: k.Version, Made: k.Made, Files: []api.AgentFile{}}
		for _, p := range slices.Concat(k.Programs, k.Packages) {
			one.Files = append(one.Files, api.AgentFile{OS: p.OS, Arch: p.Arch, Kind: kindOf(p.File), Path: "/install/" + k.Version + "/" +
				p.File, Sha256: p.SHA256, Size: p.Size})
		}
		out.Items = append(out.Items, one)
	}
	if len(out.Items) > 0 {
		sum := sha256.Sum256([]byte(c.script()))
		script := release.Script{Path: "/install/agent.sh", SHA256: hex.EncodeToString(sum[:])}
		for _, system := range []string{"linux", "darwin", "windows"} {
			files := out.Items[0].Files
			if i := slices.IndexFunc(files, func(f api.AgentFile) bool {
				return f.Kind == "program" && f.OS == system && (system != "windows" || f.Arch == "amd64")
			}); i >= 0 {
				out.Commands = append(out.Commands, api.AgentCommand{OS: system,
					Command: release.Paste(system, c.own, script, release.Script{Path: files[i].Path, SHA256: files[i].Sha256})})
			}
		}
	}
	g.JSON(http.StatusOK, out)
}

// kindOf is what a file of a release is, by the end of its name.
func kindOf(file string) string {
	for _, kind := range []string{"deb", "rpm", "msi"} {
		if strings.HasSuffix(file, "."+kind) {
			return kind
		}
	}
	return "program"
}

// ServeHTTP serves what devices are installed from, to anybody: GET /install/. Nothing of it is secret.
func (c *Service) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("X-Content-Type-Options", "nosniff")
	name := strings.TrimPrefix(r.URL.Path, "/install/")
	if name == "agent.sh" && len(c.releases()) > 0 {
		w.Header().Set("Content-Type", "text/x-shellscript; charset=utf-8")
		http.ServeContent(w, r, "", time.Time{}, strings.NewReader(c.script()))
		return
	}
	version, file := path.Split(name)
	for _, k := range c.releases() {
		if version != k.Version+"/" {
			continue
		}
		for _, p := range slices.Concat(k.Programs, k.Packages) {
			if p.File == file {
				c.serve(w, r, k.Version, p, 0)
				return
			}
		}
	}
	http.Error(w, "there is no such file of a release of the agent", http.StatusNotFound)
}

func (c *Service) serve(w http.ResponseWriter, r *http.Request, version string, p release.Program, offset int64) {
	f, err := os.Open(filepath.Join(c.dir, version, p.File))
	if err != nil {
		http.Error(w, "the file cannot be read", http.StatusNotFound)
		return
	}
	defer f.Close()
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("Content-Disposition", `attachment; filename="`+p.File+`"`)
	w.Header().Set("ETag", `"`+p.SHA256+`"`)
	if offset > 0 {
		r.Header.Set("Range", "bytes="+strconv.FormatInt(offset, 10)+"-")
		w = whole{w}
	}
	http.ServeContent(w, r, "", time.Time{}, f)
}

// whole answers a part that was asked for by an offset as a device expects it.
type whole struct{ http.ResponseWriter }

func (w whole) WriteHeader(status int) {
	if status == http.StatusPartialContent {
		status = http.StatusOK
	}
	w.ResponseWriter.WriteHeader(status)
}

// serveRelease gives a device the manifest of the latest release: GET /release over its link.
func (c *Service) serveRelease(w http.ResponseWriter, _ *http.Request) {
	all := c.releases()
	if len(all) == 0 {
		http.Error(w, "there is no release", http.StatusNotFound)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	w.Write(all[0].signed)
}

// serveProgram gives a device a program of a release: GET /release/program over its link.
func (c *Service) serveProgram(w http.ResponseWriter, r *http.Request) {
	offset, err := strconv.ParseInt(r.URL.Query().Get("offset"), 10, 64)
	if err != nil || offset < 0 {
		http.Error(w, "offset is a number of bytes", http.StatusBadRequest)
		return
	}
	for _, k := range c.releases() {
		for _, p := range k.Programs {
			if p.SHA256 == r.URL.Query().Get("sha256") && offset < p.Size {
				c.serve(w, r, k.Version, p, offset)
				return
			}
		}
	}
	http.Error(w, "there is no such program of a release", http.StatusNotFound)
}

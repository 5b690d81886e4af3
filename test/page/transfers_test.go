package page

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"sync"
	"testing"
)

// uploads stands in for a device that takes uploads.
type uploads struct {
	sync.Mutex
	have   map[string][]byte
	begun  []map[string]any
	ended  map[string]bool
	given  []string // uploads that were given up
	during func(piece int, have []byte) (status int, keep int)
	pieces int
}

func serveUploads(p *tab) *uploads {
	u := &uploads{have: map[string][]byte{}, ended: map[string]bool{}}
	refuse := func(w http.ResponseWriter, status int, title string) {
		w.WriteHeader(status)
		fmt.Fprintf(w, `{"title":%q,"status":%d}`, title, status)
	}
	p.api.HandleFunc("POST /api/v1/devices/{id}/uploads", func(w http.ResponseWriter, r *http.Request) {
		u.Lock()
		defer u.Unlock()
		var body map[string]any
		json.NewDecoder(r.Body).Decode(&body)
		id := fmt.Sprintf("u%d", len(u.begun)+1)
		u.begun = append(u.begun, body)
		u.have[id] = nil
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(http.StatusCreated)
		fmt.Fprintf(w, `{"id":%q,"offset":0}`, id)
	})
	p.api.HandleFunc("GET /api/v1/devices/{id}/uploads/{upload}", func(w http.ResponseWriter, r *http.Request) {
		u.Lock()
		defer u.Unlock()
		have, ok := u.have[r.PathValue("upload")]
		if !ok {
			refuse(w, http.StatusNotFound, "There is no such upload.")
			return
		}
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprintf(w, `{"id":"u","offset":%d}`, len(have))
	})
	p.api.HandleFunc("PUT /api/v1/devices/{id}/uploads/{upload}/content", func(w http.ResponseWriter, r *http.Request) {
		piece, err := io.ReadAll(r.Body)
		u.Lock()
		defer u.Unlock()
		id := r.PathValue("upload")
		var offset int
		fmt.Sscan(r.FormValue("offset"), &offset)
		if err != nil || offset != len(u.have[id]) {
			refuse(w, http.StatusConflict, "It does not go on there.")
			return
		}
		u.pieces++
		keep, status := len(piece), http.StatusOK
		if u.during != nil {
			status, keep = u.during(u.pieces, piece)
		}
		u.have[id] = append(u.have[id], piece[:keep]...)
		if status != http.StatusOK {
			refuse(w, status, "It is away.")
			return
		}
		fmt.Fprintf(w, `{"offset":%d}`, len(u.have[id]))
	})
	p.api.HandleFunc("POST /api/v1/devices/{id}/uploads/{upload}/end", func(w http.ResponseWriter, r *http.Request) {
		u.Lock()
		defer u.Unlock()
		id := r.PathValue("upload")
		var body struct {
			SHA256 string `json:"sha256"`
		}
		json.NewDecoder(r.Body).Decode(&body)
		if sum := sha256.Sum256(u.have[id]); hex.EncodeToString(sum[:]) != body.SHA256 {
			refuse(w, http.StatusConflict, "It came damaged.")
			return
		}
		u.ended[id] = true
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprint(w, `{"message":"It stands there."}`)
	})
	p.api.HandleFunc("DELETE /api/v1/devices/{id}/uploads/{upload}", func(w http.ResponseWriter, r *http.Request) {
		u.Lock()
		defer u.Unlock()
		u.given = append(u.given, r.PathValue("upload"))
		delete(u.have, r.PathValue("upload"))
		w.WriteHeader(http.StatusNoContent)
	})
	return u
}

// filled makes a file of bytes that a seed tells: the page makes the same ones.
const filled = `const filled = (n, seed) => { const b = new Uint8Array(n); let s = seed;
	for (let i = 0; i < n; i++) { s = (s * 16807) % 2147483647; b[i] = s >> 8; } return new File([b], "f", {lastModified: 1e12}); };`

func content(n int, seed uint64) []byte {
	b := make([]byte, n)
	for i := range b {
		seed = seed * 16807 % 2147483647
		b[i] = byte(seed >> 8)
	}
	return b
}

// send sends a file and waits until it is at its end, or failed; it gives how it ended.
const sendFile = `(size, path) => new Promise(done => { ` + filled + `
	const key = part.transfers.send({id: "d1", name: "hay-desk-01"}, path, filled(size, 7), () => done({state: "done", problem: ""}));
	part.transfers.listen(() => {
		const t = part.transfers.list().find(x => x.path === path);
		if (t?.state === "failed") done({state: t.state, problem: t.problem.problem.title});
	});
})`

type ended struct{ State, Problem string }

func TestFileIsSentWhole(t *testing.T) {
	t.Parallel()
	p := open(t)
	u := serveUploads(p)
	for i, size := range []int{0, 1, 262_144, 3_000_001} {
		path := fmt.Sprintf("/srv/f%d", i)
		if got := call[ended](p, sendFile, size, path); got.State != "done" {
			t.Fatalf("%d bytes: %+v", size, got)
		}
		id := fmt.Sprintf("u%d", i+1)
		u.Lock()
		if !u.ended[id] || !bytes.Equal(u.have[id], content(size, 7)) {
			t.Errorf("%d bytes came as %d, ended %t", size, len(u.have[id]), u.ended[id])
		}
		if b := u.begun[i]; b["path"] != path || b["size"] != float64(size) || b["replace"] != false ||
			b["modified"] != "2001-09-09T01:46:40.000Z" {
			t.Errorf("it was begun as %v", b)
		}
		u.Unlock()
	}
	if kept := call[int](p, `() => localStorage.length`); kept != 0 {
		t.Errorf("%d uploads that ended are still remembered", kept)
	}
}

// A device that goes away and comes back gets the rest, from where it stands.
func TestFileGoesOnWhereItStands(t *testing.T) {
	t.Parallel()
	p := open(t)
	u := serveUploads(p)
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 2))
	u.during = func(piece int, b []byte) (int, int) {
		if piece%2 == 1 && piece < 6 {
			return []int{http.StatusBadGateway, http.StatusServiceUnavailable, http.StatusGatewayTimeout}[r.IntN(3)], r.IntN(len(b))
		}
		return http.StatusOK, len(b)
	}
	if got := call[ended](p, sendFile, 2_000_000, "/srv/f"); got.State != "done" {
		t.Fatalf("%+v", got)
	}
	u.Lock()
	defer u.Unlock()
	if !bytes.Equal(u.have["u1"], content(2_000_000, 7)) || len(u.begun) != 1 {
		t.Errorf("%d bytes came, of %d uploads", len(u.have["u1"]), len(u.begun))
	}
}

// What the device refuses is not tried again, and is told; what it lost begins anew when the person says so.
func TestFileThatIsRefused(t *testing.T) {
	t.Parallel()
	p := open(t)
	u := serveUploads(p)
	u.during = func(int, []byte) (int, int) { return http.StatusInsufficientStorage, 0 }
	if got := call[ended](p, sendFile, 1000, "/srv/full"); got != (ended{"failed", "It is away."}) {
		t.Errorf("no room: %+v", got)
	}
	u.Lock()
	if u.pieces != 1 {
		t.Errorf("it was tried %d times", u.pieces)
	}
	clear(u.have) // the device gives it up
	u.during = nil
	u.Unlock()
	again := `path => new Promise(done => {
		part.transfers.listen(() => { const t = part.transfers.list().find(x => x.path === path);
			if (t?.state === "done" || t?.state === "failed") done({state: t.state, problem: t.problem?.problem.title ?? ""}); });
		part.transfers.resume(part.transfers.list().find(x => x.path === path).key); })`
	if got := call[ended](p, again, "/srv/full"); got.State != "failed" || got.Problem != "There is no such upload." {
		t.Errorf("given up there: %+v", got)
	}
	if got := call[ended](p, again, "/srv/full"); got.State != "done" {
		t.Errorf("begun anew: %+v", got)
	}
}

// Two go side by side; one that is paused lets the next go, and goes on from where it was.
func TestFilesWaitTheirTurn(t *testing.T) {
	t.Parallel()
	p := open(t)
	u := serveUploads(p)
	hold := make(chan struct{})
	u.during = func(piece int, b []byte) (int, int) {
		u.Unlock()
		<-hold
		u.Lock()
		return http.StatusOK, len(b)
	}
	states := `() => part.transfers.list().map(t => t.state)`
	call[any](p, `() => { `+filled+` for (const n of [1, 2, 3])
		part.transfers.send({id: "d1", name: "d"}, "/f" + n, filled(50_000, n), () => {}); }`)
	if got := fmt.Sprint(call[[]string](p, states)); got != "[sending sending waiting]" {
		t.Errorf("at first %s", got)
	}
	call[any](p, `() => part.transfers.pause(part.transfers.list()[0].key)`)
	if got := fmt.Sprint(call[[]string](p, states)); got != "[paused sending sending]" {
		t.Errorf("with one paused %s", got)
	}
	close(hold)
	if got := call[[]string](p, `() => new Promise(done => {
		const all = () => part.transfers.list();
		const look = () => {
			if (all()[1].state === "done" && all()[2].state === "done" && all()[0].state === "paused") part.transfers.resume(all()[0].key);
			if (all().every(t => t.state === "done") && (stop(), true)) done(all().map(t => t.path));
		};
		const stop = part.transfers.listen(look);
		look();
	})`); len(got) != 3 {
		t.Errorf("%v", got)
	}
	call[any](p, `() => { for (const t of [...part.transfers.list()]) part.transfers.drop(t.key); }`)
	u.Lock()
	defer u.Unlock()
	if len(u.given) != 0 {
		t.Errorf("what was at its end was given up: %v", u.given)
	}
	for n := range 3 {
		found := 0
		for _, have := range u.have {
			if bytes.Equal(have, content(50_000, uint64(n+1))) {
				found++
			}
		}
		if found != 1 {
			t.Errorf("file %d stands there %d times", n+1, found)
		}
	}
}

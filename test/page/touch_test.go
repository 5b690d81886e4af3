package page

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
)

// gestures runs a script of fingers and gives what they did, in order. Timers run when "tick" says so.
const gestures = `(moves, larger) => {
	const did = [];
	let timers = new Map(), last = 0;
	const own = [setTimeout, clearTimeout];
	setTimeout = (f, ms) => { timers.set(++last, [f, ms]); return last; };
	clearTimeout = id => timers.delete(id);
	try {
		const g = new part.touch.Gestures(() => ({
			point: (x, y, b) => did.push("point " + [x, y, b]),
			wheel: n => did.push("wheel " + n),
			pan: (x, y) => { if (larger) did.push("pan " + [x, y]); return larger; },
			zoom: z => did.push("zoom " + z.toFixed(2)),
			held: () => did.push("held"),
			release: () => did.push("release"),
		}));
		for (const [what, id, x, y] of moves) {
			if (what === "tick") { const due = [...timers.values()]; timers.clear(); for (const [f] of due) f(); }
			else if (what === "down") g.down({id, x, y}, 1);
			else g[what]({id, x, y});
		}
		return did;
	} finally { [setTimeout, clearTimeout] = own; }
}`

type move []any

func TestFingers(t *testing.T) {
	t.Parallel()
	p := open(t)
	for _, c := range []struct {
		name   string
		larger bool // the desktop is larger than its place
		moves  []move
		want   string
	}{
		{"a press", false, []move{{"down", 1, 10, 20}, {"move", 1, 13, 22}, {"up", 1}}, "point 13,22,0; point 13,22,1; point 13,22,0"},
		{"a drag", false, []move{{"down", 1, 10, 10}, {"move", 1, 30, 10}, {"move", 1, 40, 10}, {"up", 1}},
			"point 10,10,1; point 30,10,1; point 40,10,1; point 40,10,0"},
		{"a finger that stays", false, []move{{"down", 1, 5, 6}, {"tick"}, {"up", 1}}, "point 5,6,2; point 5,6,0; held"},
		{"one that moved does not stay", false, []move{{"down", 1, 5, 6}, {"move", 1, 50, 6}, {"tick"}, {"up", 1}},
			"point 5,6,1; point 50,6,1; point 50,6,0"},
		{"two turn the wheel", false, []move{{"down", 1, 0, 0}, {"down", 2, 400, 0}, {"move", 1, 0, -40}, {"move", 2, 400, -40},
			{"move", 1, 0, -70}, {"move", 2, 400, -65}, {"up", 1}, {"up", 2}}, "wheel 1; wheel 1"},
		{"two pan what is larger", true, []move{{"down", 1, 0, 0}, {"down", 2, 100, 0}, {"move", 1, 2, 3}, {"up", 2}, {"up", 1}},
			"pan -1,-1.5"},
		{"two pinch", false, []move{{"down", 1, 0, 0}, {"down", 2, 100, 0}, {"move", 2, 200, 0}, {"up", 1}, {"up", 2}}, "zoom 2.00"},
		{"a pinch ends somewhere", false, []move{{"down", 1, 0, 0}, {"down", 2, 1, 0}, {"move", 2, 4000, 0}}, "zoom 8.00"},
		{"a second finger ends a drag", false, []move{{"down", 1, 0, 0}, {"move", 1, 20, 0}, {"down", 2, 40, 0}, {"up", 2}, {"up", 1}},
			"point 0,0,1; point 20,0,1; point 30,0,0"},
		{"the finger that is left presses nothing", false, []move{{"down", 1, 0, 0}, {"down", 2, 40, 0}, {"up", 2}, {"up", 1}}, ""},
		{"a drag that the system takes", false, []move{{"down", 1, 0, 0}, {"move", 1, 20, 0}, {"cancel", 1}},
			"point 0,0,1; point 20,0,1; release"},
		{"fingers that never came", false, []move{{"move", 7, 1, 1}, {"up", 7}, {"cancel", 7}, {"tick"}}, ""},
	} {
		if got := strings.Join(call[[]string](p, gestures, c.moves, c.larger), "; "); got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
}

// Whatever fingers do, once all are up no button is left held at the device.
func TestNoButtonStaysHeld(t *testing.T) {
	t.Parallel()
	p := open(t)
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 5))
	for range 120 {
		moves := []move{}
		down := map[int]bool{}
		for range r.IntN(25) {
			id := r.IntN(3)
			at := func(what string) { moves = append(moves, move{what, id, r.IntN(300), r.IntN(300)}) }
			switch k := r.IntN(6); {
			case k == 0:
				moves = append(moves, move{"tick"})
			case k == 1 && down[id]:
				at([]string{"up", "cancel"}[r.IntN(2)])
				delete(down, id)
			case !down[id]:
				at("down")
				down[id] = true
			default:
				at("move")
			}
		}
		for id := range down {
			moves = append(moves, move{"up", id, 0, 0})
		}
		held := false
		for _, did := range call[[]string](p, gestures, moves, r.IntN(2) == 0) {
			switch {
			case strings.HasPrefix(did, "point "):
				held = !strings.HasSuffix(did, ",0")
			case did == "release":
				held = false
			}
		}
		if held {
			t.Fatalf("a button stays held after %s", fmt.Sprint(moves))
		}
	}
}

package sign

import (
	"strings"
	"sync"

	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
)

// Notices are a sign by the notices of a desktop, where nothing can be painted over it: each change is told
// once. The person can answer none of them, and sees no marks.
type Notices struct {
	// Tell shows a notice, and does not wait until it is seen.
	Tell func(title, text string)

	mu   sync.Mutex
	told string
}

var _ host.Sign = (*Notices)(nil)

// Show implements host.Sign.
func (n *Notices) Show(lines []string, _ bool) {
	text := strings.Join(lines, "\n")
	n.mu.Lock()
	defer n.mu.Unlock()
	if text == n.told {
		return
	}
	if n.told = text; text != "" {
		n.Tell("Moorwatch", text)
	}
}

// Say implements host.Sign.
func (n *Notices) Say(note link.ScreenNote) { n.Tell(note.Name, note.Text) }

// Mark implements host.Sign.
func (*Notices) Mark(host.Mark) {}

// Close implements host.Sign.
func (n *Notices) Close() error {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.told != "" {
		n.Tell("Moorwatch", "Nobody sees this screen any more.")
	}
	return nil
}

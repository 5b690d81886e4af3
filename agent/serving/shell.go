package serving

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"sync"
	"time"

	"github.com/coder/websocket"
	"github.com/google/uuid"

	"moorwatch.example/agent/host"
	"moorwatch.example/contract/link"
)

// shells are the shells of this agent. They outlive the connection that opened them, and the link.
type shells struct {
	mu   sync.Mutex
	open map[string]*shell
}

// mostShells is how many may be open at once.
const mostShells = 64

// shell is one open shell with the last of what it printed.
type shell struct {
	id       string
	terminal host.Terminal
	end      context.CancelFunc // hangs it up

	mu      sync.Mutex
	kept    []byte
	printed int64         // bytes in all
	news    chan struct{} // closed when more was printed, or the shell ended
	ended   bool
	exit    int
	turn    int         // of the connection that is attached; a later one takes it over
	linger  *time.Timer // hangs it up when nobody attaches
}

// shellChoices tells which shells can be opened: POST /shell/choices.
func (v *Server) shellChoices(ctx context.Context, _ struct{}) (link.ShellChoices, error) {
	out := link.ShellChoices{Programs: v.config.Host.Terminals.Programs(), People: []string{}}
	if v.config.Host.People == nil {
		return out, nil
	}
	list, err := v.config.Host.People.People(ctx)
	seen := map[string]bool{}
	for _, p := range list.Items {
		if !seen[p.Name] {
			seen[p.Name] = true
			out.People = append(out.People, p.Name)
		}
	}
	return out, err
}

// shell opens a shell under an id, or finds the one that has it.
func (v *Server) shell(id string, o link.ShellOrder) (*shell, error) {
	v.shells.mu.Lock()
	defer v.shells.mu.Unlock()
	if s := v.shells.open[id]; s != nil {
		return s, nil
	}
	if len(v.shells.open) >= mostShells {
		return nil, &link.Problem{Status: http.StatusConflict,
			Reason: fmt.Sprintf("%d shells are open at this device: close one first.", mostShells)}
	}
	ctx, cancel := context.WithCancel(v.life)
	t, err := v.config.Host.Terminals.Open(ctx, o)
	if err != nil {
		cancel()
		return nil, err
	}
	s := &shell{id: id, terminal: t, end: cancel, news: make(chan struct{})}
	if v.shells.open == nil {
		v.shells.open = map[string]*shell{}
	}
	v.shells.open[id] = s
	go func() {
		s.print(ctx)
		cancel()
		t.Close()
		// Its end can be asked for as long as its connection may be made again.
		select {
		case <-time.After(link.ShellLinger):
		case <-v.life.Done():
		}
		v.shells.mu.Lock()
		defer v.shells.mu.Unlock()
		delete(v.shells.open, id)
	}()
	return s, nil
}

// print keeps what the shell prints, until it ends or is hung up.
func (s *shell) print(ctx context.Context) {
	b := make([]byte, 32<<10)
	for {
		n, err := s.terminal.Read(b)
		if n > 0 {
			s.say(b[:n])
		}
		if err == nil {
			continue
		}
		hungUp := ctx.Err() != nil || !errors.Is(err, io.EOF)
		exit := 0
		if !hungUp {
			exit = s.terminal.Wait()
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		s.ended, s.exit = !hungUp, exit
		if hungUp {
			s.turn++ // whoever is attached is let go without a word
		}
		close(s.news)
		s.news = make(chan struct{})
		return
	}
}

func (s *shell) say(p []byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.kept = append(s.kept, p...)
	if over := len(s.kept) - 2*link.ShellKept; over > 0 { // cut seldom, and then to the half
		s.kept = append([]byte(nil), s.kept[len(s.kept)-link.ShellKept:]...)
	}
	s.printed += int64(len(p))
	close(s.news)
	s.news = make(chan struct{})
}

// attach makes a connection the shell's own; from where it wants to read on is put within what is kept.
func (s *shell) attach(from int64) (turn int, at int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.linger != nil {
		s.linger.Stop()
	}
	s.turn++
	close(s.news) // the connection before this one is let go
	s.news = make(chan struct{})
	return s.turn, min(max(from, s.printed-int64(len(s.kept))), s.printed)
}

// detach has the shell hung up after a while, unless it was attached to again.
func (s *shell) detach(turn int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.turn == turn {
		s.linger = time.AfterFunc(link.ShellLinger, s.end)
	}
}

// next waits for what was printed after a place; over says that there will be no more for this turn.
func (s *shell) next(ctx context.Context, turn int, at int64) (p []byte, ended, over bool) {
	for {
		s.mu.Lock()
		if s.turn != turn {
			s.mu.Unlock()
			return nil, false, true
		}
		if missing := s.printed - at; missing > 0 {
			missing = min(missing, int64(len(s.kept)))
			p = append([]byte(nil), s.kept[int64(len(s.kept))-missing:][:min(missing, 256<<10)]...)
			s.mu.Unlock()
			return p, false, false
		}
		if s.ended {
			s.mu.Unlock()
			return nil, true, true
		}
		news := s.news
		s.mu.Unlock()
		select {
		case <-news:
		case <-ctx.Done():
			return nil, false, true
		}
	}
}

// serveShell joins a connection to a shell: a new one, or one whose connection was lost.
func (v *Server) serveShell(w http.ResponseWriter, r *http.Request) {
	number := func(name string) int64 { n, _ := strconv.ParseInt(r.URL.Query().Get(name), 10, 64); return n }
	id, err := uuid.Parse(r.URL.Query().Get("shell"))
	if err != nil {
		id = uuid.New()
	}
	size := link.TerminalSize{Columns: int(number("columns")), Rows: int(number("rows"))}.Sane()
	s, err := v.shell(id.String(), link.ShellOrder{Size: size, Person: r.URL.Query().Get("person"), Program: r.URL.Query().Get("program")})
	if err != nil {
		fail(w, err)
		return
	}
	c, err := websocket.Accept(w, r, nil)
	if err != nil {
		return
	}
	defer c.CloseNow()
	c.SetReadLimit(1 << 20)
	ctx, cancel := context.WithCancel(r.Context())
	defer cancel()
	turn, at := s.attach(number("from"))
	defer s.detach(turn)
	if s.terminal.Resize(size) != nil {
		v.config.Log.Debug("a terminal could not be resized")
	}
	tell := func(e link.ShellEvent) error {
		text, err := json.Marshal(e)
		if err != nil {
			return err
		}
		return c.Write(ctx, websocket.MessageText, text)
	}
	if tell(link.ShellEvent{Begin: &at}) != nil {
		return
	}
	go func() {
		defer cancel()
		err := v.typeInto(ctx, s.terminal, c)
		if websocket.CloseStatus(err) == websocket.StatusNormalClosure {
			s.end() // who closes a shell wants it to end; who is cut off comes back
		}
	}()
	for {
		p, ended, over := s.next(ctx, turn, at)
		if ended && tell(link.ShellEvent{Exit: &s.exit}) == nil {
			c.Close(websocket.StatusNormalClosure, "")
		}
		if over || c.Write(ctx, websocket.MessageBinary, p) != nil {
			return
		}
		at += int64(len(p))
	}
}

// typeInto passes what the technician types to a terminal, until they leave, and returns why.
func (v *Server) typeInto(ctx context.Context, t interface {
	io.Writer
	Resize(link.TerminalSize) error
}, c *websocket.Conn) error {
	for {
		kind, data, err := c.Read(ctx)
		if err != nil {
			return err
		}
		if kind == websocket.MessageBinary {
			if _, err := t.Write(data); err != nil {
				return err
			}
			continue
		}
		var e link.ShellEvent
		if json.Unmarshal(data, &e) == nil && e.Resize != nil {
			if err := t.Resize(e.Resize.Sane()); err != nil {
				v.config.Log.Debug("a terminal could not be resized", "error", err)
			}
		}
	}
}

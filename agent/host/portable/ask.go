package portable

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"

	psnet "github.com/shirou/gopsutil/v4/net"
	"github.com/shirou/gopsutil/v4/process"

	"moorwatch.example/contract/link"
)

func cores() float64 { return float64(max(runtime.NumCPU(), 1)) }

// Asker implements host.Asker where systems are alike.
type Asker struct {
	// Service tells whether a service runs, and otherwise its state; nil where there are none.
	Service func(ctx context.Context, name string) (running bool, state string, err error)
	// Registry reads a value of the registry; nil where there is none.
	Registry func(name string) (string, error)
}

// Ask implements host.Asker.
func (a Asker) Ask(ctx context.Context, q link.Question) (link.Answer, error) {
	switch q.Kind {
	case link.AskProcess:
		return askProcess(ctx, q.Name)
	case link.AskPort:
		return askPort(ctx, q.Name)
	case link.AskFile:
		return askFile(ctx, q.Name, q.Digest)
	case link.AskService:
		if a.Service == nil {
			return link.Answer{}, errors.New("this system has no services that can be asked for")
		}
		running, state, err := a.Service(ctx, q.Name)
		if err == nil && running {
			state = "running"
		}
		return link.Answer{Value: state}, err
	case link.AskRegistry:
		if a.Registry == nil {
			return link.Answer{}, errors.New("this system has no registry")
		}
		value, err := a.Registry(q.Name)
		return link.Answer{Value: value}, err
	}
	return link.Answer{}, fmt.Errorf("the agent knows no question %q", q.Kind)
}

func askProcess(ctx context.Context, pattern string) (link.Answer, error) {
	found, err := named(ctx, pattern)
	n := float64(len(found))
	answer := link.Answer{Value: strconv.Itoa(len(found)), Number: &n}
	for _, one := range found {
		name, _ := one.NameWithContext(ctx)
		user, _ := one.UsernameWithContext(ctx)
		answer.Lines = append(answer.Lines, fmt.Sprintf("%d %s %s", one.Pid, name, user))
		if len(answer.Lines) == link.MaxAnswerLines {
			break
		}
	}
	return answer, err
}

func askPort(ctx context.Context, port string) (link.Answer, error) {
	n, err := strconv.ParseUint(strings.TrimSpace(port), 10, 16)
	if err != nil {
		return link.Answer{}, errors.New("a port is a number from 0 to 65535")
	}
	all, err := psnet.ConnectionsWithContext(ctx, "inet")
	if err != nil {
		return link.Answer{}, err
	}
	answer := link.Answer{Value: "closed"}
	for _, c := range all {
		if (c.Status != "LISTEN" && c.Status != "NONE") || c.Laddr.Port != uint32(n) {
			continue
		}
		name := ""
		if p, err := process.NewProcessWithContext(ctx, c.Pid); err == nil {
			name, _ = p.NameWithContext(ctx)
		}
		answer.Value = "open"
		if name != "" {
			answer.Value = name
		}
		answer.Lines = append(answer.Lines, fmt.Sprintf("%s:%d %s", c.Laddr.IP, c.Laddr.Port, name))
	}
	return answer, nil
}

// maxDigest is the largest file whose digest is taken, in bytes.
const maxDigest = 4 << 30

func askFile(ctx context.Context, name string, digest bool) (link.Answer, error) {
	if !filepath.IsAbs(name) {
		return link.Answer{}, errors.New("give the whole path")
	}
	info, err := os.Stat(name)
	if errors.Is(err, os.ErrNotExist) {
		return link.Answer{Value: "absent"}, nil
	}
	if err != nil {
		return link.Answer{}, err
	}
	size := float64(info.Size())
	answer := link.Answer{Value: "present", Number: &size,
		Lines: []string{fmt.Sprintf("%d bytes, %s, changed %s", info.Size(), info.Mode(),
			info.ModTime().UTC().Format("2006-01-02 15:04:05"))}}
	if !digest || !info.Mode().IsRegular() {
		return answer, nil
	}
	if info.Size() > maxDigest {
		return answer, fmt.Errorf("the file is larger than %d bytes: its digest is not taken", int64(maxDigest))
	}
	f, err := os.Open(name)
	if err != nil {
		return answer, err
	}
	defer f.Close()
	h, b := sha256.New(), make([]byte, 1<<20)
	for {
		n, err := f.Read(b)
		h.Write(b[:n])
		if err == io.EOF {
			break
		}
		if err != nil {
			return answer, err
		}
		if ctx.Err() != nil {
			return answer, ctx.Err()
		}
	}
	answer.Value = hex.EncodeToString(h.Sum(nil))
	return answer, nil
}

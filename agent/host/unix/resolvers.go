//go:build unix

package unix

import (
	"os"
	"strings"

	"moorwatch.example/contract/link"
)

// Resolvers adds what a file of resolv.conf(5) or resolver(5) names.
func Resolvers(path string, n *link.Network) {
	b, _ := os.ReadFile(path)
	for line := range strings.Lines(string(b)) {
		f := strings.Fields(line)
		switch {
		case len(f) >= 2 && f[0] == "nameserver":
			n.Resolvers = append(n.Resolvers, f[1])
		case len(f) >= 2 && f[0] == "search":
			n.Search = append(n.Search, f[1:]...)
		}
	}
}

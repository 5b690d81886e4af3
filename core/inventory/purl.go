package inventory

import (
	"net/url"
	"strings"
)

// PackageURL writes a package URL (purl, ECMA-427): pkg:type/namespace/name@version?key=value.
// namespace may be empty; qualifiers are pairs of key and value, those without a value left out.
func PackageURL(kind, namespace, name, version string, qualifiers ...string) string {
	var b strings.Builder
	b.WriteString("pkg:" + strings.ToLower(kind) + "/")
	if namespace != "" {
		b.WriteString(escape(namespace) + "/")
	}
	b.WriteString(escape(name))
	if version != "" {
		b.WriteString("@" + escape(version))
	}
	sep := "?"
	for i := 0; i+1 < len(qualifiers); i += 2 {
		if qualifiers[i+1] != "" {
			b.WriteString(sep + qualifiers[i] + "=" + escape(qualifiers[i+1]))
			sep = "&"
		}
	}
	return b.String()
}

func escape(s string) string {
	return strings.NewReplacer("+", "%2B", "%3A", ":", "%7E", "~").Replace(strings.ReplaceAll(url.QueryEscape(s), "+", "%20"))
}

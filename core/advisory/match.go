package advisory

import (
	"cmp"
	"slices"

	"github.com/package-url/packageurl-go"

	"moorwatch.example/core/versions"
)

// Package is an installed package, as its package URL names it.
type Package struct {
	Type, Namespace, Name, Version string
	// Source is the package that it was built from, and the version of that, where they are others:
	// distributions publish advisories about those.
	Source, SourceVersion string
}

// Parse reads an installed package from its package URL (ECMA-427); ok is false where it is none, or without a
// version.
func Parse(purl, source, sourceVersion string) (p Package, ok bool) {
	u, err := packageurl.FromString(purl)
	if err != nil || u.Version == "" || len(u.Version) > maxVersion {
		return p, false
	}
	return Package{u.Type, u.Namespace, u.Name, u.Version, source, sourceVersion}, true
}

// Hit is a weakness that a package has on devices of a release.
type Hit struct {
	Advisory int    // its place in the index
	Release  string // of the distribution; "" for all
	Fixed    string // the version in which it is mended; "" where none is known
}

// Index finds the advisories about packages. It takes some 150 bytes for each package of an advisory, beside
// the advisories' own.
type Index struct {
	All []Advisory
	by  map[string][]place
}

type place struct{ advisory, affected int32 }

// NewIndex makes an index of advisories; those that were withdrawn are about nothing.
func NewIndex(all []Advisory) *Index {
	x := &Index{All: all, by: map[string][]place{}}
	for i := range all {
		if all[i].Withdrawn {
			continue
		}
		for j := range all[i].Affected {
			k := all[i].Affected[j].Key()
			x.by[k] = append(x.by[k], place{int32(i), int32(j)})
		}
	}
	return x
}

// Match returns the weaknesses that a package has, one a release for each advisory, in the order of the index.
func (x *Index) Match(p Package) (hits []Hit) {
	hits = x.match(hits, p.Type, p.Namespace, p.Name, p.Version)
	if p.Source != "" && p.Source != p.Name {
		hits = x.match(hits, p.Type, p.Namespace, p.Source, cmp.Or(p.SourceVersion, p.Version))
	}
	slices.SortFunc(hits, func(a, b Hit) int { return cmp.Or(a.Advisory-b.Advisory, cmp.Compare(a.Release, b.Release)) })
	return slices.CompactFunc(hits, func(a, b Hit) bool { return a.Advisory == b.Advisory && a.Release == b.Release })
}

func (x *Index) match(hits []Hit, kind, namespace, name, version string) []Hit {
	for _, at := range x.by[key(kind, namespace, name)] {
		a := &x.All[at.advisory].Affected[at.affected]
		if has, fixed := a.Has(version); has {
			hits = append(hits, Hit{int(at.advisory), a.Release, fixed})
		}
	}
	return hits
}

// Keys are what an index finds the package by.
func (p Package) Keys() []string {
	keys := []string{key(p.Type, p.Namespace, p.Name)}
	if p.Source != "" && p.Source != p.Name {
		keys = append(keys, key(p.Type, p.Namespace, p.Source))
	}
	return keys
}

// Mends tells whether an update of a package of a type, to a version, mends what is mended in another.
func Mends(kind, to, fixed string) bool { return fixed != "" && versions.Compare(kind, to, fixed) >= 0 }

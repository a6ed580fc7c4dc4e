package pattern

import (
	"slices"
	"strings"

	"widelark/core/weburl"
)

// OfHost returns the pattern for the host of a URL, alone or with the hosts below it; an address has none below it. ok is false for a host
// that the notation cannot name.
func OfHost(u weburl.URL, scope Scope) (p Pattern, ok bool) {
	return written(u, scope, "")
}

// OfPage returns the pattern for exactly the page of a URL, with any query. ok is false for a page that the notation cannot name: a "*" in its path
// would be a wildcard.
func OfPage(u weburl.URL) (p Pattern, ok bool) {
	if strings.ContainsAny(u.Path(), "* #") {
		return Pattern{}, false
	}
	return written(u, Only, u.Path())
}

func written(u weburl.URL, scope Scope, path string) (Pattern, bool) {
	host := u.Host()
	if u.Addr().IsValid() && path == "" {
		host, scope = u.Addr().String(), AndBelow
	}
	entry, err := Parse([...]string{AndBelow: "", Only: "=", BelowOnly: "*."}[scope] + host + path)
	return entry.Pattern, err == nil
}

// CutScope splits a stored pattern of a literal host, as [Pattern.String] writes it, into name and scope without parsing it, which makes reading a
// large list fast. ok is false if the pattern is of another kind, or its name is not plain.
func CutScope(kind Kind, text string) (name string, scope Scope, ok bool) {
	name = text
	switch kind {
	case Site:
		scope = AndBelow
	case Host:
		name, scope = strings.TrimPrefix(text, "="), Only
	case Below:
		name, scope = strings.TrimPrefix(text, "*."), BelowOnly
	default:
		return "", 0, false
	}
	return name, scope, IsPlainName(name)
}

// CutCarveOut cuts the mark of a carve-out from a line. The rest of the line need not parse.
func CutCarveOut(line string) (pattern string, carveOut bool) {
	pattern, carveOut = strings.CutPrefix(strings.TrimSpace(line), "!")
	return strings.TrimSpace(pattern), carveOut
}

// mostCovering bounds how many folders deep [Covering] goes: a URL may have thousands, and nobody lists folders that deep.
const mostCovering = 50

// Covering returns, in order, the keys of all patterns that cover a URL and have no wildcards, words or queries. A store that keeps patterns by
// their keys looks for these.
func Covering(u weburl.URL) []string {
	var texts []string
	if u.Addr().IsValid() {
		for bits := range u.Addr().BitLen() + 1 {
			prefix, _ := u.Addr().Prefix(bits)
			texts = append(texts, prefix.String())
		}
		texts = append(texts, u.Host())
	}
	path := strings.TrimSuffix(weburl.FoldPath(u.Path()), "/")
	paths := []string{""}
	if path == "" {
		paths = append(paths, "/") // the front page alone
	}
	for i := 0; i < len(path) && len(paths) <= mostCovering; i++ {
		if i+1 == len(path) || path[i+1] == '/' {
			if i >= MaxLength {
				break
			}
			paths = append(paths, path[:i+1])
		}
	}
	for host := u.Host(); host != ""; {
		for _, path := range paths {
			for _, scope := range []string{"", "=", "*.", "=*."} {
				texts = append(texts, scope+host+path)
			}
		}
		if u.Addr().IsValid() {
			break
		}
		_, host, _ = strings.Cut(host, ".")
	}
	var keys []string
	for _, text := range texts {
		if entry, err := Parse(text); err == nil {
			keys = append(keys, entry.Pattern.Key())
		}
	}
	slices.Sort(keys)
	return slices.Compact(keys)
}

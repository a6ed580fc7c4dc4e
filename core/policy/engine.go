package policy

import (
	"slices"
	"strings"

	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/weburl"
)

// Engine is a search engine: where it is, how it is asked, and what makes its answers safe.
type Engine struct {
	ID      string
	Name    string
	Entries []pattern.Entry // its hosts, at all times
	Words   []string        // the parameters that hold what is searched for; nil: those that usually do
	Safe    Safe
}

// Safe is what makes a search engine give safe answers: a parameter or a header field with a value, or another host that answers for it. The zero Safe says
// that nothing does.
type Safe struct {
	By    SafeBy
	Name  string // of the parameter or the header field
	Value string // of it; the other host
}

// SafeBy says what makes a search engine's answers safe.
type SafeBy string

// What makes answers safe.
const (
	ByParameter SafeBy = "parameter"
	ByHeader    SafeBy = "header"
	ByHost      SafeBy = "host"
)

// String says it in a few words, as in "the parameter calm=1"; "" for nothing.
func (s Safe) String() string {
	switch s.By {
	case ByParameter:
		return "the parameter " + s.Name + "=" + s.Value
	case ByHeader:
		return "the header " + s.Name + ": " + s.Value
	case ByHost:
		return "the host " + s.Value
	}
	return ""
}

// holdable reports whether a gate can have a request answered safely at what it sees of it.
func (s Safe) holdable(gate Gate, sight weburl.Sight) bool {
	switch {
	case gate == DNS:
		return s.By == ByHost // the name is answered with the other one
	case s.By == "":
		return false
	case s.By == ByHost && gate == Proxy && sight == weburl.Tunnel:
		return true // the tunnel leads to the other host
	}
	return sight == weburl.Full
}

// EngineAt returns the search engine that a URL is on; nil where it is on none.
func (s *Snapshot) EngineAt(u URL) *Engine {
	if len(s.config.Engines) == 0 {
		return nil
	}
	for _, m := range s.engines.Memberships(nil, u, pattern.Date{}, weburl.Name) {
		if m.In == match.Yes {
			return &s.config.Engines[m.List]
		}
	}
	return nil
}

// Searched returns what a URL searches for, decoded; the terms of several parameters one a line.
func (s *Snapshot) Searched(u URL) string {
	return searchTerms(u.Query(), s.EngineAt(u))
}

// usualWords are the names of parameters that hold what somebody searches for, at engines that nothing is said about.
var usualWords = []string{"q", "query", "search", "s", "k", "term", "terms", "keyword", "keywords", "text", "find", "wd"}

func searchTerms(query string, on *Engine) string {
	names := usualWords
	if on != nil && len(on.Words) > 0 {
		names = on.Words
	}
	var terms []string
	for pair := range strings.SplitSeq(query, "&") {
		name, value, _ := strings.Cut(pair, "=")
		if slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(n, decodeForm(name)) }) && value != "" {
			terms = append(terms, decodeForm(value))
		}
	}
	return strings.Join(terms, "\n")
}

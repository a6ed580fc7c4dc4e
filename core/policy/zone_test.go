package policy

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/core/match"
	"widelark/core/weburl"
)

// said returns what a zone says of a name, as the DNS has it: the line of the name, else that of what is above it, or above that.
func (z *Zone) said(host string) bool {
	for i := range z.Lines {
		if z.Lines[i].Host == host {
			return z.Lines[i].Open
		}
	}
	for at := host; ; {
		_, rest, ok := strings.Cut(at, ".")
		if !ok {
			return z.Open
		}
		at = rest
		for i := range z.Lines {
			if z.Lines[i].Host == at {
				return z.Lines[i].BelowOpen
			}
		}
	}
}

// encloser returns what resolvers that look for the closest name alone would say: a name in between that has no line ends their search.
func (z *Zone) encloser(host string) (open, found bool) {
	for at := host; at != ""; {
		for i := range z.Lines {
			l := &z.Lines[i]
			switch {
			case l.Host == at && at == host:
				return l.Open, true
			case l.Host == at:
				return l.BelowOpen, true
			case at != host && strings.HasSuffix(l.Host, "."+at):
				return true, false // a name in between, of which nothing is said
			}
		}
		_, at, _ = strings.Cut(at, ".")
	}
	return z.Open, true
}

// A zone says of every name that entries name, and of names beside and below them, what the gate decides; by both ways in which resolvers look.
func TestZoneAgrees(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := drawNaive(t)
		n.r.NotTLS, n.r.TwoNames, n.r.Answer = false, false, nil
		for i := range n.lists { // what names cannot say is counted, and not agreed on
			n.lists[i].Entries = nil
			for _, e := range drawEntries(t, true) {
				if e.Pattern.Name() != "" && !e.Pattern.IsGlob() && !e.Pattern.EveryEnding() && e.Pattern.FoldedPath() == "" {
					n.lists[i].Entries = append(n.lists[i].Entries, e)
				}
			}
		}
		n.Lists = match.New(n.lists)
		n.Packs, n.Exceptions, n.Grants, n.Unlocked, n.Local, n.Engines = nil, nil, nil, nil, nil, nil
		s := n.snapshot()
		z := s.Zone(n.r, n.at, LeaveOpen)
		n.r.Gate, n.r.Sight = DNS, weburl.Name
		var w Work
		for _, host := range []string{"heron.example", "www.heron.example", "a.www.heron.example", "a.heron.example", "gull.test", "a.gull.test", "tern.example", "a.tern.example", "example", "test", "elsewhere.example", "a.b.tern.example"} {
			n.r.URL = weburl.MustParse("https://" + host + "/")
			want := s.Decide(&w, &n.r, n.at).Verdict.Passes()
			require.Equal(t, want, z.said(host), "%s: %+v", host, z.Lines)
			if open, found := z.encloser(host); found || !z.Open {
				require.Equal(t, want, open, "%s, by the closest name: %+v", host, z.Lines)
			}
		}
	})
}

// What names cannot say is counted, with the reason; how a zone errs is a choice.
func TestZoneUnsaid(t *testing.T) {
	config := ward()
	config.Lists = match.New([]match.List{{ID: "betting", Name: "Betting", Entries: entries("oddsfield.example", "heron.example/odds", `"late odds"`, "od*s.example", "~host ^odds", "http://tern.example", "10.0.0.0/8")}, {ID: "care", Name: "Care"}, {ID: "welcome", Name: "Welcome"}, {ID: "all", Name: "All of dosage", Entries: entries("dosage.example")}})
	s := New(config)
	z := s.Zone(Request{Group: "nurses"}, monday.Add(10*time.Hour), LeaveOpen)
	counts := map[string]int{}
	for _, u := range z.Unsaid {
		counts[u.What] = u.Count
		assert.NotEmpty(t, u.Why)
	}
	assert.Equal(t, map[string]int{
		`pages of the list "Betting"`: 1, `words of the list "Betting"`: 1, `regexes of the list "Betting"`: 1, `globs, and names before any ending of the list "Betting"`: 1, `schemes and ports of the list "Betting"`: 1,
		`addresses of the list "Betting"`: 1, "rules that hold": 1,
	}, counts)
	assert.True(t, z.said("heron.example"))
	closed := s.Zone(Request{Group: "nurses"}, monday.Add(10*time.Hour), Close)
	assert.False(t, closed.said("heron.example"))
	assert.False(t, z.said("dosage.example"), "what is held is refused")
}

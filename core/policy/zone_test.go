package policy

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/weburl"
)

// said returns what a zone says of a name, as the DNS has it: the line of the name, else that of what is above it, or above that.
func (z *Zone) said(host string) bool {
	for i := range z.Lines() {
		if z.Lines()[i].Host == host {
			return z.Lines()[i].Open
		}
	}
	for at := host; ; {
		_, rest, ok := strings.Cut(at, ".")
		if !ok {
			return z.Open
		}
		at = rest
		for i := range z.Lines() {
			if z.Lines()[i].Host == at {
				return z.Lines()[i].BelowOpen
			}
		}
	}
}

// encloser returns what resolvers that look for the closest name alone would say: a name in between that has no line ends their search.
func (z *Zone) encloser(host string) (open, found bool) {
	for at := host; at != ""; {
		for i := range z.Lines() {
			l := &z.Lines()[i]
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
			require.Equal(t, want, z.said(host), "%s: %+v", host, z.Lines())
			if open, found := z.encloser(host); found || !z.Open {
				require.Equal(t, want, open, "%s, by the closest name: %+v", host, z.Lines())
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

// A zone that is made of the one before says what one that is made anew says, and so does a small zone before an older one.
func TestZoneAfter(t *testing.T) {
	hosts := []string{"heron.example", "www.heron.example", "a.www.heron.example", "a.heron.example", "b.a.heron.example", "gull.test", "x.y.gull.test", "y.gull.test", "tern.example", "example", "a.b.tern.example", "b.tern.example", "c.b.tern.example"}
	anew, after := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		n := drawNaive(t)
		n.r.NotTLS, n.r.TwoNames, n.r.Answer = false, false, nil
		n.Packs, n.Exceptions, n.Grants, n.Unlocked, n.Local, n.Engines = nil, nil, nil, nil, nil, nil
		literal := func() (all []pattern.Entry) {
			for range rapid.IntRange(0, 4).Draw(t, "entries") {
				text := rapid.SampledFrom(hosts).Draw(t, "host")
				text = rapid.SampledFrom([]string{"", "", "*.", "=", "! "}).Draw(t, "scope") + text
				if e, err := pattern.Parse(text); err == nil {
					all = append(all, e)
				}
			}
			return all
		}
		for i := range n.lists {
			n.lists[i].Entries = literal()
		}
		exception := func() []Exception {
			var all []Exception
			for i := range rapid.IntRange(0, 2).Draw(t, "exceptions") {
				from := n.at.Add(time.Duration(rapid.IntRange(-300, 600).Draw(t, "from")) * time.Minute)
				all = append(all, Exception{ID: fmt.Sprint("e", i), From: from, Until: from.Add(time.Hour), Then: rapid.SampledFrom([]Verdict{Allow, Block}).Draw(t, "then"), Entries: literal(), For: Whom{Everybody: true}})
			}
			return all
		}
		var zones []*Zone
		at := n.at
		for range 4 {
			n.Lists = match.New(n.lists)
			s := n.snapshot()
			if len(zones) == 0 {
				zones = append(zones, s.Zone(n.r, at, LeaveOpen))
			} else {
				before := zones[len(zones)-1]
				if _, ok := s.changedHosts(before, at); ok {
					after++
				} else {
					anew++
				}
				zones = append(zones, s.ZoneAfter(before, at))
			}
			last, want := zones[len(zones)-1], s.Zone(n.r, at, LeaveOpen)
			require.Equal(t, want.Open, last.Open)
			require.Equal(t, want.Lines(), last.Lines())
			for _, base := range zones {
				also := rapid.SliceOfNDistinct(rapid.SampledFrom(hosts), 0, 2, rapid.ID).Draw(t, "also")
				slices.SortFunc(also, CompareHosts)
				small, ok := last.Since(1000, also, base)
				if !ok {
					require.NotEqual(t, base.Open, last.Open)
					continue
				}
				for _, host := range append(hosts, "elsewhere.example", "z.a.heron.example", "z.gull.test", "z.y.gull.test", "z.tern.example", "test") {
					require.Equal(t, last.said(host), before(small, base, host), "%s, by %+v before %+v", host, small.Lines(), base.Lines())
				}
			}
			switch rapid.IntRange(0, 5).Draw(t, "edit") {
			case 0, 1:
				if len(n.lists) > 0 {
					i := rapid.IntRange(0, len(n.lists)-1).Draw(t, "list")
					n.lists[i].Entries = literal()
				}
			case 2, 3:
				n.Exceptions = exception()
			case 4:
				at = at.Add(time.Duration(rapid.IntRange(0, 600).Draw(t, "minutes")) * time.Minute)
			default:
				if n.Fallback != nil {
					fallback := *n.Fallback
					fallback.Otherwise = rapid.SampledFrom([]Verdict{Allow, Block}).Draw(t, "otherwise")
					n.Fallback = &fallback
				}
			}
		}
	})
	assert.Greater(t, after, anew/4, "most are made of the one before")
}

// before returns what resolvers say of a host that have a small zone before another.
func before(small, base *Zone, host string) bool {
	for at, own := host, true; at != ""; own = false {
		for _, l := range small.Lines() {
			if l.Host == at {
				if own {
					return l.Open
				}
				return l.BelowOpen
			}
		}
		_, at, _ = strings.Cut(at, ".")
	}
	return base.said(host)
}

package policy

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/core/match"
	"widelark/core/weburl"
)

// A grant gives the same verdicts as the same exception in a published state.
func TestGrantsAreOrderedLikeExceptions(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := drawNaive(t)
		published := n.house
		published.Exceptions, published.Grants = append(published.Exceptions, n.Grants...), nil
		granted := n.house
		granted.Exceptions, granted.Grants = nil, published.Exceptions
		one, other := published.snapshot(), granted.snapshot()
		var w Work
		for range 4 {
			a, b := one.Decide(&w, &n.r, n.at), other.Decide(&w, &n.r, n.at)
			require.Equal(t, a, b, "%s at %s", n.r.URL, n.at)
			require.Equal(t, one.Strip(&w, &n.r, n.at, n.at.Add(48*time.Hour)), other.Strip(&w, &n.r, n.at, n.at.Add(48*time.Hour)))
			n.draw(t)
		}
	})
}

// Facts do not change the snapshot that they are combined with; new facts replace the earlier ones.
func TestFactsStandBeside(t *testing.T) {
	config := furnished().Config
	config.Fallback = &Policy{Name: "Fallback", Otherwise: Block}
	plain := New(config)
	r := Request{URL: weburl.MustParse("heron.example/wards"), Person: "kay"}
	var w Work
	says := func(s *Snapshot, at time.Time) string {
		e := s.Explain(&w, &r, at)
		return fmt.Sprint(e.Decision.Verdict, ": ", e.Because)
	}
	const without = "block: The fallback has no rules; otherwise it says block."
	assert.Equal(t, without, says(plain, monday))

	hour := monday.Add(time.Hour)
	grant := Exception{ID: "g", Name: "heron.example/wards", Entries: entries("heron.example/wards"), Then: Allow, For: Whom{Persons: []string{"kay"}}, From: monday, Until: hour, Reason: "For the shift"}
	with := plain.With(Facts{Grants: []Exception{grant}})
	assert.Equal(t, `allow: The grant "heron.example/wards" says allow for Kay Moran, because it has the entry heron.example/wards. Reason given: For the shift.`, says(with, monday))
	assert.Equal(t, without, says(with, hour), "its end is outside")
	assert.Equal(t, without, says(plain, monday), "what it was made of stays")
	assert.Equal(t, without, says(with.With(Facts{}), monday))
	assert.Equal(t, without, says(with.With(Facts{Stints: []Stint{{ID: "st", Group: "gone", Kind: Paused, Until: hour}}}), monday), "what is not there never holds")

	until, changes := with.Until(&w, &r, monday)
	assert.True(t, changes)
	assert.True(t, until.Equal(hour))
	grant.From, grant.Until = monday.Add(90*time.Millisecond), hour.Add(900*time.Millisecond)
	strip := plain.With(Facts{Grants: []Exception{grant}}).Strip(&w, &r, monday.Add(-time.Hour), hour.Add(time.Hour))
	require.Len(t, strip, 3, "fractions of a second do not count")
	assert.Equal(t, []time.Time{monday.UTC(), hour.UTC()}, []time.Time{strip[1].From.UTC(), strip[1].To.UTC()})
	flips := with.Flips(&w, &r, monday)
	require.NotEmpty(t, flips)
	assert.Equal(t, []any{EndGrant, "g", `End the grant "heron.example/wards"`}, []any{flips[len(flips)-1].Kind, flips[len(flips)-1].Exception, flips[len(flips)-1].Text})
	standing := with.Standing(&w, r, monday)
	require.Len(t, standing.Exceptions, 1)
	assert.True(t, standing.Exceptions[0].Grant)
	assert.True(t, (&Facts{}).IsEmpty())
	assert.False(t, (&Facts{Grants: []Exception{grant}}).IsEmpty())
}

// Whoever has acknowledged what a rule holds is let past it, with its provisos, until that ends; what other rules say stays.
func TestAcknowledged(t *testing.T) {
	config := furnished().Config
	held := Rule{ID: "r1", Name: "Read first", If: Cond{Op: InList, Values: []string{"l"}}, Then: Hold, With: Provisos{NoUploads: true}}
	config.Lists = match.New([]match.List{{ID: "l", Name: "Betting", Entries: entries("heron.example")}})
	config.Fallback = &Policy{ID: "f", Name: "Fallback", Rules: []Rule{held}, Otherwise: Hold}
	r := Request{URL: weburl.MustParse("http://heron.example/wards"), Person: "kay"}
	hour := monday.Add(time.Hour)
	var w Work
	past := func(of, entry, person string) Facts {
		return Facts{Acknowledged: []Acknowledged{{of, Unlocked{Entries: entries(entry), Person: person, From: monday, Until: hour}}}}
	}
	for _, c := range []struct {
		facts Facts
		url   string
		at    time.Time
		want  Verdict
	}{
		{past("r1", "heron.example/wards", "kay"), "http://heron.example/wards", monday, Allow},
		{past("r1", "heron.example/wards", "kay"), "http://heron.example/other", monday, Hold},
		{past("r1", "heron.example/wards", "kay"), "http://heron.example/wards", hour, Hold},
		{past("r1", "heron.example/wards", "ola"), "http://heron.example/wards", monday, Hold},
		{past("f", "heron.example/wards", "kay"), "http://heron.example/wards", monday, Hold},
		{past("f", "gull.test", "kay"), "http://gull.test/", monday, Allow},
		{past("r1", "gull.test", "kay"), "http://gull.test/", monday, Hold},
	} {
		r.URL = weburl.MustParse(c.url)
		s := New(config).With(c.facts)
		d := s.Decide(&w, &r, c.at)
		assert.Equal(t, c.want, d.Verdict, "%s with %v", c.url, c.facts)
		if c.want == Hold {
			id, left, open := s.HeldBy(d)
			assert.Equal(t, PassedFor, open)
			assert.Equal(t, map[bool]string{true: "r1", false: "f"}[d.Rule >= 0], id)
			assert.Equal(t, Acknowledging, left)
		}
	}
	r.URL = weburl.MustParse("http://heron.example/wards")
	s := New(config).With(past("r1", "heron.example/wards", "kay"))
	e := s.Explain(&w, &r, monday)
	assert.Equal(t, Provisos{NoUploads: true}, e.Decision.Provisos)
	assert.Equal(t, `The rule "Read first" of the fallback says hold, because the list "Betting" has the entry heron.example. That has been acknowledged, so it is allowed until 01:00.`, e.Because)
	until, changes := s.Until(&w, &r, monday)
	assert.True(t, changes && until.Equal(hour))
}

// What is not TLS in a tunnel is blocked unless the rule that lets it pass names the trait.
func TestNotTLS(t *testing.T) {
	config := furnished().Config
	config.Fallback = &Policy{ID: "f", Name: "Fallback", Otherwise: Allow}
	r := Request{URL: weburl.MustParse("https://heron.example/"), Sight: weburl.Tunnel, NotTLS: true}
	var w Work
	e := New(config).Explain(&w, &r, monday)
	assert.Equal(t, Block, e.Decision.Verdict)
	assert.Equal(t, "What the client says through the tunnel is not TLS, and no rule that names the trait not-tls allows it: block.", e.Because)
	named := Cond{Op: HasTrait, Values: []string{"not-tls"}}
	for _, c := range []struct {
		cond Cond
		want Verdict
	}{{named, Allow}, {Cond{Op: All, Of: []Cond{named}}, Allow}, {Cond{Op: None, Of: []Cond{{Op: HasTrait, Values: []string{"two-names"}}}}, Block}} {
		config.Fallback = &Policy{ID: "f", Name: "Fallback", Otherwise: Block, Rules: []Rule{{Name: "Mail", If: c.cond, Then: Allow}}}
		assert.Equal(t, c.want, New(config).Decide(&w, &r, monday).Verdict, c.cond)
	}
}

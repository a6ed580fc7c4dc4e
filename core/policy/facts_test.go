package policy

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

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

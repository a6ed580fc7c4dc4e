package trial_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/weburl"
)

// Facts are combined with a state once, apply to the next version of the draft as well, and do not change the state.
func TestFactsBesideAState(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.add(t, "heron.example")
	editions := h.editions()
	facts := &policy.Facts{Grants: []policy.Exception{{
		ID: "g", Name: "heron.example", Then: policy.Allow, For: policy.Whom{Everybody: true}, Entries: []pattern.Entry{pattern.MustParse("heron.example")}, Until: time.Now().Add(time.Hour),
	}}}
	says := func(s *policy.Snapshot, url string) policy.Verdict {
		return s.Decide(&policy.Work{}, &policy.Request{URL: weburl.MustParse(url)}, time.Now()).Verdict
	}
	state := h.state(t, editions)
	assert.Same(t, state, state.With(&policy.Facts{}), "none cost nothing")
	with := state.With(facts)
	assert.Equal(t, []policy.Verdict{policy.Block, policy.Allow}, []policy.Verdict{says(state.Snapshot, "heron.example"), says(with.Snapshot, "heron.example")})
	assert.Same(t, with.Snapshot, h.state(t, editions).With(facts).Snapshot, "the same beside the same is made once")
	other := *facts
	assert.NotSame(t, with.Snapshot, state.With(&other).Snapshot)

	h.add(t, "tern.example")
	after := h.state(t, editions).With(facts)
	require.NotSame(t, with.Snapshot, after.Snapshot)
	assert.Equal(t, []policy.Verdict{policy.Allow, policy.Block}, []policy.Verdict{says(after.Snapshot, "heron.example"), says(after.Snapshot, "tern.example")})
}

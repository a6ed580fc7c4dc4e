package account

import (
	"strings"
	"testing"
	"time"

	"github.com/alexedwards/argon2id"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCheckPassword(t *testing.T) {
	for _, good := range []string{"ferry lantern moss", "heronwharf7tides", "ünïcode wharf", strings.Repeat("tide and quill ", 60)} {
		assert.NoError(t, CheckPassword("edda", good), "%q", good)
	}
	for bad, why := range map[string]string{
		"short":                   "shorter than",
		"äöüäöüä":                 "shorter than", // characters, not bytes
		strings.Repeat("x", 1001): "longer than",
		"password":                "tried first",
		"Password123":             "tried first",
		"aaaaaaaaaaaa":            "tried first",
		"12121212":                "tried first",
		"abcdefghijkl":            "tried first",
		"edda2026":                "little more than the name",
	} {
		assert.ErrorContains(t, CheckPassword("Edda", bad), why, "%q", bad)
	}
}

func TestThrottle(t *testing.T) {
	now := time.Date(2026, 11, 28, 9, 0, 0, 0, time.UTC)
	var th throttle
	for range freeTries - 1 {
		th.failed("edda", "192.0.2.7", now)
	}
	assert.Zero(t, th.wait("edda", "192.0.2.7", now), "a few slips cost nothing")
	before := time.Duration(0)
	for range 12 {
		th.failed("EDDA", "192.0.2.7", now)
		wait := th.wait("edda", "192.0.2.7", now)
		assert.GreaterOrEqual(t, wait, before, "each failure makes the wait no shorter")
		before = wait
	}
	assert.Greater(t, before, longestByName, "the address waits longer than a name may")
	assert.LessOrEqual(t, before, longestByAddress)
	assert.LessOrEqual(t, th.wait("edda", "192.0.2.8", now), longestByName, "whoever guesses does not keep the owner out for long")
	assert.Zero(t, th.wait("amos", "192.0.2.8", now), "others are not touched")

	th.succeeded("edda", "192.0.2.7")
	assert.Zero(t, th.wait("edda", "192.0.2.8", now), "who came in begins anew")
	assert.Zero(t, th.wait("edda", "192.0.2.7", now.Add(forgotten+time.Second)), "and time makes up for the rest")

	for i := range mostTracked + 100 {
		th.failed(strings.Repeat("n", i%70)+time.Duration(i).String(), "", now.Add(time.Duration(i)*time.Second))
	}
	assert.LessOrEqual(t, len(th.fails), mostTracked+1, "what is remembered is bounded")
}

// An unknown name takes as long as a known one only if its hash asks for the same work.
func TestUnmatchedCostsTheSame(t *testing.T) {
	cost := Cost{Memory: 64, Iterations: 2, Parallelism: 3, SaltLength: 16, KeyLength: 32}
	same, params, err := argon2id.CheckHash("a password", unmatched(cost))
	require.NoError(t, err)
	assert.False(t, same)
	assert.Equal(t, cost, *params)
	another := unmatched(cost)
	assert.NotEqual(t, another, unmatched(cost))
}

package check

import (
	"context"
	"net/netip"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/internal/journal"
)

// traffic is recorded requests from memory.
type traffic struct {
	journal.Store
	records []journal.Record
	asked   int
}

func (t *traffic) RecordedSpan(context.Context) (from, to time.Time, n int64, err error) {
	return t.records[0].At, t.records[len(t.records)-1].At, int64(len(t.records)), nil
}

func (t *traffic) EachRecord(_ context.Context, from, to time.Time, _ bool, each func(journal.Record) error) error {
	t.asked++
	for _, r := range t.records {
		if !r.At.Before(from) && r.At.Before(to) {
			if err := each(r); err != nil {
				return err
			}
		}
	}
	return nil
}

// Hosts load together if the same asker mostly requests both within a moment.
func TestSeenTogether(t *testing.T) {
	begin := time.Date(2026, 11, 16, 0, 0, 0, 0, time.UTC)
	kay, beds := uuid.New(), netip.MustParseAddr("10.40.41.9")
	kept := &traffic{}
	add := func(after time.Duration, url string, person uuid.UUID, addr netip.Addr) {
		kept.records = append(kept.records, journal.Record{At: begin.Add(after), URL: url, Person: person, Address: addr})
	}
	for i := range 40 {
		minute := time.Duration(i) * time.Minute
		add(minute, "https://portal.example/order", kay, netip.Addr{})
		if i%4 != 0 {
			add(minute+time.Second, "https://keys.example:8443/sign-in", kay, netip.Addr{}) // three times of four
		}
		if i%4 == 0 {
			add(minute+2*time.Second, "https://seldom.example/", kay, netip.Addr{})
		}
		add(minute+2*time.Second, "https://others.example/", uuid.Nil, beds) // somebody else
		add(minute+2*time.Second, "https://portal.example/order/2", kay, netip.Addr{})
		add(minute+30*time.Second, "https://later.example/?a=b", kay, netip.Addr{})
	}
	for i := range 5 {
		add(time.Hour+time.Duration(i)*time.Minute, "https://rare.example/", kay, netip.Addr{})
		add(time.Hour+time.Duration(i)*time.Minute, "https://rare-too.example/", kay, netip.Addr{})
	}
	now := begin
	d := &Checker{Journal: kept, Now: func() time.Time { return now }}
	found, err := d.seenTogether(t.Context())
	require.NoError(t, err)
	require.Len(t, found, 2, "%v", found)
	assert.Equal(t, []any{"https://keys.example:8443/sign-in", "https://portal.example/order", 30, 30},
		[]any{found[0].Page.String(), found[0].Needs.String(), found[0].Times, found[0].Of}, "whoever signs in goes on to the portal")
	assert.Equal(t, []any{"https://portal.example/order", "https://keys.example:8443/sign-in", 30, 40},
		[]any{found[1].Page.String(), found[1].Needs.String(), found[1].Times, found[1].Of})
	again, err := d.seenTogether(t.Context())
	require.NoError(t, err)
	assert.Equal(t, found, again)
	assert.Equal(t, 1, kept.asked, "from memory")
	add(2*time.Hour, "https://portal.example/order", kay, netip.Addr{})
	_, err = d.seenTogether(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 1, kept.asked, "one request more is no reason to read a week again at once")
	now = now.Add(lookedAgain)
	_, err = d.seenTogether(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 2, kept.asked)
	for url, host := range map[string]string{"https://a.example/x": "a.example", "http://a.example:81/": "a.example", "https://[2001:db8::1]/x": "[2001:db8::1]", "https://[2001:db8::1]:81/x?y=:": "[2001:db8::1]", "https://a.example?b": "a.example"} {
		assert.Equal(t, host, hostOf(url))
	}
}

// Only patterns with little literal text are suspected, and expressions with near misses.
func TestTooWide(t *testing.T) {
	for line, want := range map[string]bool{
		"*bet*": true, "=*bet*": true, "*jackpot*": false, "shop-*.heron.example": false, "heron.example": false, "heron.*": false, "*/wards": false,
		`"bet*"`: true, `"*betting*"`: false, `"bet"`: false, "~host heron.example": true, `~host (^|\.)heron\.example$`: false, "203.0.113.0/24": false, "*": false,
	} {
		wide, ok := tooWide(match.Found{Entry: pattern.MustParse(line)})
		assert.Equal(t, want, ok, line)
		if ok {
			assert.NotEmpty(t, wide.Shown, line)
			assert.NotEmpty(t, wide.Why, line)
		}
	}
}

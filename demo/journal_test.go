package demo

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/weburl"
)

// The requests span fourteen days with a daily rhythm, in order, from people of the hospital and addresses of its networks, to invented sites.
func TestJournal(t *testing.T) {
	zone, err := time.LoadLocation(TimeZone)
	require.NoError(t, err)
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	all := recorded(now, zone, journalCount, false)
	assert.Greater(t, len(all), journalCount)
	people := map[string]bool{}
	for _, p := range everybody() {
		people[p.uid] = true
	}
	hours, hosts, kiosk, rush := [24]int{}, map[string]int{}, 0, 0
	for i, r := range all {
		if i > 0 && r.At.Before(all[i-1].At) {
			t.Fatalf("request %d stands before the one before it", i)
		}
		if r.At.After(now.Add(time.Second)) || r.At.Before(now.AddDate(0, 0, -journalDays)) {
			t.Fatalf("request %d is of %s", i, r.At)
		}
		if r.Person != nil && !people[*r.Person] {
			t.Fatalf("nobody is called %s", *r.Person)
		}
		if r.Address != nil {
			addr := netip.MustParseAddr(*r.Address)
			if !netip.MustParsePrefix("10.40.0.0/16").Contains(addr) {
				t.Fatalf("%s is elsewhere", addr)
			}
			if *r.Address == "10.40.41.77" {
				kiosk++
			}
		}
		hours[r.At.In(zone).Hour()]++
		u, err := weburl.Parse(r.URL)
		require.NoError(t, err, r.URL)
		hosts[u.Host()]++
		if strings.HasPrefix(u.Host(), "gull-films") {
			rush++
			assert.Less(t, now.Sub(r.At), 73*time.Hour, "nobody knew it before")
		}
	}
	assert.Greater(t, hours[11], 3*hours[3], "nights are quiet")
	assert.Greater(t, kiosk, 1000, "a screen that asks all night")
	assert.Greater(t, rush, 500)
	assert.Greater(t, len(hosts), 1000)
	for host := range hosts {
		ending := host[strings.LastIndexByte(host, '.')+1:]
		_, address := netip.ParseAddr(host)
		assert.True(t, address == nil || ending == "example" || ending == "test" || ending == "internal" || ending == "uk", host)
	}
	assert.GreaterOrEqual(t, 2*hosts["pictures.story-shelf.test"], hosts["story-hour.example"]-kiosk, "what it pulls in comes with it")
	assert.Len(t, recorded(now, zone, journalCount, false), len(all), "the same each time")
}

// There are about thirty expectations, each well formed, in a folder, and about people of the demo.
func TestExpectations(t *testing.T) {
	assert.Len(t, expectations, 30)
	ids := map[string]uuid.UUID{"person kay.moran": uuid.New(), "group Bedside screens": uuid.New(), "group Visitors": uuid.New()}
	for _, g := range staff {
		ids["group "+g.name] = uuid.New()
	}
	for _, s := range schedules {
		ids["schedule "+s.name] = uuid.New()
	}
	folders := map[string]int{}
	for _, e := range expectations {
		b := e.body(ids)
		folders[e.folder]++
		assert.NotEmpty(t, b.Urls)
		for _, u := range b.Urls {
			_, err := weburl.Parse(u)
			assert.NoError(t, err)
		}
		if strings.Contains(e.when, " ") && (strings.HasPrefix(e.when, "in ") || strings.HasPrefix(e.when, "outside ")) {
			assert.NotNil(t, b.Schedule, e.when)
			assert.Nil(t, b.At)
		}
		assert.False(t, b.Person != nil && b.Group != nil)
	}
	assert.Greater(t, len(folders), 6)
	assert.Panics(t, func() { expected{who: "Nobody"}.body(ids) })
}

package compare

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/directory"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/schedule"
	"widelark/core/weburl"
)

var (
	zone, _ = time.LoadLocation("Europe/London")
	monday  = time.Date(2026, 11, 23, 0, 0, 0, 0, zone)
)

func named(text string) policy.Schedule {
	s, err := schedule.Parse(text)
	if err != nil {
		panic(err)
	}
	return policy.Schedule{ID: text, Name: text, Schedule: s, Zone: zone}
}

func town(entries []string, rules ...policy.Rule) *policy.Snapshot {
	list := match.List{ID: "list", Name: "Betting"}
	for _, text := range entries {
		list.Entries = append(list.Entries, pattern.MustParse(text))
	}
	return policy.New(policy.Config{
		Zone: zone, Lists: match.New([]match.List{list}), Gates: []policy.Gate{policy.Proxy}, Combining: policy.Position,
		Schedules: []policy.Schedule{named("mon-fri 09:00-12:00"), named("mon-fri 09:00-13:00"), named("fri 20:00-08:00")},
		Directory: directory.New(nil, []directory.Group{{ID: "a", Name: "Nurses"}, {ID: "b", Name: "Doctors"}, {ID: "c", Name: "Guests"}}, nil),
		Policies:  []policy.Policy{{ID: "p", Name: "Ward", Groups: []string{"a", "b"}, Otherwise: policy.Allow, Rules: rules}},
	})
}

func rule(then policy.Verdict, when string) policy.Rule {
	return policy.Rule{Name: "Never", Then: then, If: policy.Cond{Op: policy.InList, Values: []string{"list"}}, When: policy.When{Schedule: when}}
}

var everybody = []Who{{"Nurses", policy.Request{Group: "a"}}, {"Doctors", policy.Request{Group: "b"}}, {"Guests", policy.Request{Group: "c"}}}

func TestTurns(t *testing.T) {
	t.Parallel()
	urls := []weburl.URL{weburl.MustParse("odds.example"), weburl.MustParse("slots.example"), weburl.MustParse("heron.example")}
	for _, c := range []struct {
		before, after *policy.Snapshot
		want          []string
	}{
		{town([]string{"odds.example"}, rule(policy.Block, "")), town([]string{"odds.example", "slots.example"}, rule(policy.Block, "")), []string{"allow to block always for Nurses, Doctors: slots.example"}},
		{town([]string{"odds.example"}, rule(policy.Block, "mon-fri 09:00-12:00")), town([]string{"odds.example"}, rule(policy.Block, "mon-fri 09:00-13:00")), []string{"allow to block mon-fri 12:00-13:00 for Nurses, Doctors: odds.example"}},
		{town([]string{"odds.example"}, rule(policy.Block, "fri 20:00-08:00")), town([]string{"odds.example"}), []string{"block to allow fri 20:00-24:00; sat 00:00-08:00 for Nurses, Doctors: odds.example"}},
		{town([]string{"*"}, rule(policy.Watch, "")), town([]string{"*"}, rule(policy.Hold, "")), []string{"watch to hold always for Nurses, Doctors: odds.example slots.example heron.example"}},
		{town([]string{"odds.example"}, rule(policy.Block, "")), town([]string{"*.odds.example", "=odds.example"}, rule(policy.Block, "")), nil},
	} {
		turns, ok := Turns(c.before, c.after, urls, everybody, monday, nil)
		require.True(t, ok)
		var told []string
		for _, turn := range turns {
			var hosts []string
			for _, u := range turn.URLs {
				hosts = append(hosts, u.Host())
			}
			times := turn.Times
			if times == "" {
				times = "always"
			}
			told = append(told, fmt.Sprintf("%s to %s %s for %s: %s", turn.Before, turn.After, times, strings.Join(turn.Who, ", "), strings.Join(hosts, " ")))
			assert.NotEmpty(t, turn.WasBecause)
			assert.NotEmpty(t, turn.IsBecause)
		}
		assert.Equal(t, c.want, told)
	}
}

// What is said to turn turns, and what is not does not: at random moments of the week.
func TestTurnsAgreeWithDeciding(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(2, 7))
	var urls []weburl.URL
	for i := range 6 {
		urls = append(urls, weburl.MustParse(fmt.Sprintf("site-%d.example", i)))
	}
	draw := func() *policy.Snapshot {
		var entries []string
		for i := range 6 {
			if random.IntN(2) == 0 {
				entries = append(entries, fmt.Sprintf("site-%d.example", i))
			}
		}
		when := []string{"", "mon-fri 09:00-12:00", "mon-fri 09:00-13:00", "fri 20:00-08:00"}[random.IntN(4)]
		return town(append(entries, "x.example"), rule(policy.Verdicts[random.IntN(4)], when))
	}
	for range 60 {
		before, after := draw(), draw()
		turns, ok := Turns(before, after, urls, everybody, monday, nil)
		require.True(t, ok)
		var w policy.Work
		for range 200 {
			at := monday.Add(time.Duration(random.IntN(7*24*60)) * time.Minute)
			who, u := everybody[random.IntN(3)], urls[random.IntN(len(urls))]
			q := who.Request
			q.URL = u
			was, is := before.Decide(&w, &q, at).Verdict, after.Decide(&w, &q, at).Verdict
			found := false
			for _, turn := range turns {
				if turn.Before != was || turn.After != is || !strings.Contains(strings.Join(turn.Who, " "), who.Name) {
					continue
				}
				for _, one := range turn.URLs {
					s, err := schedule.Parse(turn.Times)
					found = found || one == u && (turn.Times == "" || err == nil && s.At(at, zone))
				}
			}
			require.Equal(t, was != is, found, "%s for %s at %s: %s, then %s; %v", u, who.Name, at, was, is, turns)
		}
	}
}

func TestBoundaries(t *testing.T) {
	t.Parallel()
	for entry, want := range map[string]string{
		"www.heron.example": "https://www.heron.example/ https://below.www.heron.example/ https://heron.example/ https://notwww.heron.example/ https://www.heron.example/below",
		"=heron.example/a":  "https://heron.example/a https://below.heron.example/a https://notheron.example/a https://heron.example/ https://heron.example/a/below https://heron.example/a-beside",
		"203.0.113.0/24":    "https://203.0.113.0/ https://203.0.113.0/below",
		"~ ^ftp":            "",
	} {
		var told []string
		for _, u := range Boundaries(pattern.MustParse(entry).Pattern) {
			told = append(told, u.String())
		}
		assert.Equal(t, want, strings.Join(told, " "), entry)
	}
}

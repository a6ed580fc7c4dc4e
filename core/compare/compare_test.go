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
		Zone: zone, Lists: match.New([]match.List{list}), Way: policy.ByProxy, Combining: policy.Position,
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

// The reported turns agree with decisions on both states at random moments of the week.
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
	} {
		var told []string
		for _, u := range Boundaries(pattern.MustParse(entry).Pattern) {
			told = append(told, u.String())
		}
		assert.Equal(t, want, strings.Join(told, " "), entry)
	}
}

// Times are written in the notation of schedules, and read back as the same spans.
func TestTimes(t *testing.T) {
	t.Parallel()
	at := func(day, hour, minute int) time.Time { return time.Date(2026, 11, 23+day, hour, minute, 0, 0, zone) }
	end := monday.AddDate(0, 0, 7)
	for want, spans := range map[string][][2]time.Time{
		"":                                 {{monday, end}},
		"mon 09:00-12:00":                  {{at(0, 9, 0), at(0, 12, 0)}},
		"mon-tue 09:00-12:00":              {{at(0, 9, 0), at(0, 12, 0)}, {at(1, 9, 0), at(1, 12, 0)}},
		"mon 09:00-12:00; wed 09:00-12:00": {{at(0, 9, 0), at(0, 12, 0)}, {at(2, 9, 0), at(2, 12, 0)}},
		"fri 20:00-24:00; sat 00:00-08:00": {{at(4, 20, 0), at(5, 8, 0)}},
		"mon 00:30-01:15, 12:30-13:15":     {{at(0, 12, 30), at(0, 13, 15)}, {at(0, 0, 30), at(0, 1, 15)}},
		"mon-sat 00:00-24:00":              {{monday, at(6, 0, 0)}},
		"sat-sun 10:00-20:00":              {{at(5, 10, 0), at(5, 20, 0)}, {at(6, 10, 0), at(6, 20, 0)}},
	} {
		assert.Equal(t, want, Times(spans, monday, end, zone))
		if want == "" {
			continue
		}
		s, err := schedule.Parse(want)
		require.NoError(t, err)
		for minute := 0; minute < 7*24*60; minute += 15 {
			moment := monday.Add(time.Duration(minute) * time.Minute)
			in := false
			for _, span := range spans {
				in = in || !moment.Before(span[0]) && moment.Before(span[1])
			}
			require.Equal(t, in, s.At(moment, zone), "%s at %s", want, moment)
		}
	}
}

// Two strips differ exactly where their verdicts do.
func TestSpans(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(4, 4))
	draw := func() (strip []policy.Segment) {
		from := 0
		for from < 48 {
			to := min(48, from+1+random.IntN(12))
			verdict := policy.Verdicts[random.IntN(2)]
			strip = append(strip, policy.Segment{From: monday.Add(time.Duration(from) * time.Hour), To: monday.Add(time.Duration(to) * time.Hour), Decision: policy.Decision{Verdict: verdict}})
			from = to
		}
		return strip
	}
	verdict := func(strip []policy.Segment, at time.Time) policy.Verdict {
		for _, s := range strip {
			if !at.Before(s.From) && at.Before(s.To) {
				return s.Decision.Verdict
			}
		}
		return ""
	}
	for range 300 {
		a, b := draw(), draw()
		found := spans(a, b)
		for i, s := range found {
			assert.True(t, s.from.Before(s.to))
			if i > 0 {
				last := found[i-1]
				assert.False(t, s.from.Before(last.to))
				assert.False(t, s.from.Equal(last.to) && s.before == last.before && s.after == last.after, "joined where they touch")
			}
		}
		for hour := range 48 {
			at := monday.Add(time.Duration(hour)*time.Hour + time.Minute)
			was, is := verdict(a, at), verdict(b, at)
			in := false
			for _, s := range found {
				if !at.Before(s.from) && at.Before(s.to) {
					in = true
					assert.Equal(t, []policy.Verdict{was, is}, []policy.Verdict{s.before, s.after})
				}
			}
			require.Equal(t, was != is, in)
		}
	}
}

package demo

import (
	"context"
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"widelark/client"
)

const (
	journalDays  = 14
	journalCount = 200_000
	journalSeed  = 3

	// Before those days, requests are few, and reach further back than the review looks for what nobody needs.
	earlierDays  = 100
	earlierCount = 14_000
)

// rhythm is the weight of each hour of the day, for requests of those who work then.
var rhythm = map[string][24]float64{
	"office":   {7: 1, 8: 6, 9: 9, 10: 10, 11: 9, 12: 6, 13: 7, 14: 9, 15: 8, 16: 7, 17: 3, 18: 1},
	"ward":     {0: 3, 1: 3, 2: 2, 3: 2, 4: 2, 5: 2, 6: 3, 7: 6, 8: 7, 9: 8, 10: 8, 11: 8, 12: 9, 13: 8, 14: 7, 15: 7, 16: 6, 17: 6, 18: 6, 19: 6, 20: 5, 21: 4, 22: 4, 23: 3},
	"night":    {0: 9, 1: 8, 2: 6, 3: 5, 4: 4, 5: 5, 6: 6, 7: 3, 20: 4, 21: 7, 22: 8, 23: 9},
	"visiting": {10: 2, 11: 3, 12: 3, 13: 3, 14: 8, 15: 9, 16: 5, 17: 3, 18: 8, 19: 8, 20: 3, 21: 1},
}

var rhythmOf = map[string]string{"Ward nurses": "ward", "Night ward": "night", "Doctors": "ward", "Theatre staff": "ward"}

// asker is somebody whose requests are recorded: a person, or an address without a known person.
type asker struct {
	person, address, rhythm string
}

func askers() []asker {
	var all []asker
	for i, p := range everybody() {
		kind := "office"
		for _, g := range p.groups {
			if r, ok := rhythmOf[g]; ok {
				kind = r
			}
		}
		all = append(all, asker{p.uid, fmt.Sprintf("10.40.%d.%d", map[string]int{"office": 30, "ward": 10, "night": 11}[kind], 1+i%250), kind})
	}
	for i := range 120 {
		all = append(all, asker{"", fmt.Sprintf("10.40.%d.%d", 64+i%16, 2+i), "visiting"})
	}
	for i := range 40 { // bedside screens
		all = append(all, asker{"", fmt.Sprintf("10.40.41.%d", 2+i), "visiting"})
	}
	return all
}

// companions are the hosts that pages of the demo load from.
var companions = map[string][]string{
	"https://story-hour.example/read-aloud":       {"https://pictures.story-shelf.test/heron.webp"},
	"https://ferrow-instruments.example/portal":   {"https://keys.marsh-passport.example/sign-in", "https://static.ferrow-shelf.test/portal.js"},
	"https://keys.marsh-passport.example/sign-in": {"https://ferrow-instruments.example/portal"},
	"https://dosage-tables.example/adult":         {"https://fonts.quill-type.example/sans.woff2"},
}

// searches are what is searched for.
var searches = []string{"dosage+tables+adult", "ward+rota", "tide+times", "heron+nest", "cheap+slots", "exam+answers", "essays+on+sepsis", "bus+to+the+quay", "wound+dressing", "knitting+patterns"}

// agents are how the programs of those who ask call themselves, by their rhythm.
var agents = map[string][]string{
	"office": {"Petrel/4.2 (Larch)", "Petrel/4.1 (Larch)", "Ledger/2"}, "ward": {"Petrel/4.2 (Larch)", "Trolley/1.9"}, "night": {"Petrel/4.2 (Larch)", "Trolley/1.9"}, "visiting": {"Plume/11 (Pocket)", "Plume/12 (Pocket)", "Bedside/3"}, "": {"Bedside/3"},
}

// answered fills in what a proxy gate records of an answer.
func answered(random *rand.Rand, r *client.RecordedInput, a asker) {
	name, agent, status, media := "front-1", agents[a.rhythm][random.IntN(len(agents[a.rhythm]))], int64(200), "text/html"
	if a.rhythm == "visiting" {
		name = "front-2"
	}
	switch {
	case strings.HasSuffix(r.URL, ".webp"):
		media = "image/webp"
	case strings.HasSuffix(r.URL, ".woff2"):
		media = "font/woff2"
	case strings.HasSuffix(r.URL, ".js"):
		media = "text/javascript"
	case random.IntN(40) == 0:
		status = 404
	case random.IntN(9) == 0:
		media = "application/json"
	}
	size, millis := int64(math.Exp(7+2.2*random.NormFloat64()+2*random.Float64())), int64(math.Exp(4+random.NormFloat64()))
	r.GateName, r.Agent, r.Status, r.Media, r.Size, r.Millis = &name, &agent, &status, &media, &size, &millis
}

// recorded returns fourteen days of requests up to now: with a daily rhythm, a kiosk that requests the same page all night, and a rush to a
// video site that came up three days ago. Of the days before, it returns some requests, without kiosk and rush.
func recorded(now time.Time, zone *time.Location, count int, earlier bool) []client.RecordedInput {
	random := rand.New(rand.NewPCG(journalSeed, 0x10a1))
	who := askers()
	pages := slices.Sorted(maps.Keys(noted))
	sites := Sites(5_000, suspectsSeed+1)
	paths := []string{"/", "/", "/news", "/shop/basket", "/watch", "/forum/thread/17", "/images/tide.webp", "/search", "/help"}
	zipf := rand.NewZipf(random, 1.15, 3, uint64(len(sites)-1))
	get, post := "GET", "POST"
	begin := now.AddDate(0, 0, -journalDays)
	if earlier {
		now, begin = begin, begin.AddDate(0, 0, -earlierDays)
	}
	all := make([]client.RecordedInput, 0, count)
	add := func(at time.Time, a asker, url string, method *string) {
		r := client.RecordedInput{At: at, URL: url, Method: method}
		if a.person != "" {
			r.Person = &a.person
		}
		if a.address != "" {
			r.Address = &a.address
		}
		answered(random, &r, a)
		all = append(all, r)
	}
	for len(all) < count {
		a := who[random.IntN(len(who))]
		at := begin.Add(time.Duration(random.Int64N(int64(now.Sub(begin)))))
		local := at.In(zone)
		share := rhythm[a.rhythm][local.Hour()]
		if weekend := local.Weekday() == time.Saturday || local.Weekday() == time.Sunday; weekend && a.rhythm == "office" {
			share /= 12
		}
		if random.Float64()*10 > share {
			continue
		}
		method := &get
		url := "https://" + sites[zipf.Uint64()] + paths[random.IntN(len(paths))]
		switch n := random.IntN(20); {
		case n < 5:
			url = "https://" + pages[int(math.Sqrt(random.Float64())*float64(len(pages)))%len(pages)]
		case n == 5 && !earlier && now.Sub(at) < 72*time.Hour:
			url = "https://gull-films7.example/watch"
		case n == 6:
			method = &post
		case n == 7:
			url = "https://www.diabetes-day.example/diet"
		case n == 8:
			e := engines[random.IntN(len(engines))]
			url = "https://" + e.host + e.path + "?" + e.words + "=" + searches[random.IntN(len(searches))]
		}
		add(at, a, url, method)
		for _, needs := range companions[url] { // what the page loads
			add(at.Add(time.Second), a, needs, &get)
		}
	}
	for at := begin; at.Before(now) && !earlier; at = at.Add(4 * time.Minute) {
		if hour := at.In(zone).Hour(); hour < 6 {
			add(at, asker{"", "10.40.41.77", ""}, "https://story-hour.example/read-aloud/next", &get)
		}
	}
	slices.SortStableFunc(all, func(a, b client.RecordedInput) int { return a.At.Compare(b.At) })
	return all
}

// loadJournal records the requests of the last fourteen days, and where all of them are wanted, some of the time before.
func loadJournal(ctx context.Context, api *client.ClientWithResponses, count int) error {
	zone, err := time.LoadLocation(TimeZone)
	if err != nil {
		return err
	}
	const batch = 20_000
	now := time.Now().Truncate(time.Second)
	all := recorded(now, zone, count, false)
	if count == journalCount {
		all = append(recorded(now, zone, earlierCount, true), all...)
	}
	for some := range slices.Chunk(all, batch) {
		if _, err := api.AddRecordedWithResponse(ctx, client.AddRecordedInputBody{Records: some}); err != nil {
			return err
		}
	}
	return nil
}

package demo

import (
	"context"
	"maps"
	"math"
	"math/rand/v2"
	"slices"
	"time"

	types "github.com/oapi-codegen/runtime/types"

	"widelark/client"
)

// Hosts and pages that people of the hospital requested, besides the generated ones: some that the lists are about,
// and some that a careless pattern would cover, too.
var noted = map[string]int64{
	"oddsfield.example/today": 412, "www.oddsfield.test/live": 96, "help.oddsfield.example/": 31, "slots-palace.example/": 58, "slots-bay.example/": 22,
	"lucky-lantern.example/draw": 47, "betting-barn.co.uk/": 64, "jackpot-junction.test/": 38, "www.quillmere-jackpot-fund.example/donate": 77,
	"time-slots.example/clinic": 940, "theatre-slots.quillmere.internal/": 2210, "harbour-news.example/puzzles/lottery": 18, "harbour-news.example/": 3105,
	"tidepool-news.example/": 4120, "tidepool-news.example/sport/odds": 133, "gull-video.test/watch": 505, "gull-video.example/watch": 821,
	"seagull-video-archive.example/birds": 12, "dosage-tables.example/adult": 5210, "dosage-tables.example/children": 1877, "interactions.example/checker": 2954,
	"dose-calc3.example/": 611, "overdose-calc.example/help": 9, "ferrow-instruments.example/portal": 702, "keys.marsh-passport.example/sign-in": 688,
	"static.ferrow-shelf.test/": 2044, "better-breathing.example/asthma": 260, "alphabet-blocks.example/": 41, "diabetes-bet.example/": 5,
	"marrow-trust.test/": 214, "marrow-trust.test/breast/screening": 96, "bare-facts.example/breast/exhibition": 8, "shore-odds.example/free-bets": 33,
	"sweepstakes-weekly.test/": 27, "wound-atlas.example/grades": 1490, "poison-line.example/": 388, "encyclopaedia.example/wiki/Heron": 64,
	"encyclopaedia.example/wiki/Betting": 11, "story-hour.example/read-aloud": 230, "203.0.113.71/": 14, "203.0.113.9/": 6,
}

// loadTraffic records the traffic by host in a service without any: some thousand hosts, with frequencies by Zipf's law.
func loadTraffic(ctx context.Context, api *client.ClientWithResponses, today time.Time) error {
	seen, err := api.GetSeenWithResponse(ctx, nil)
	if err != nil || len(seen.JSON200.Hosts) > 0 {
		return err
	}
	random := rand.New(rand.NewPCG(suspectsSeed, 0x5ee9))
	day := func() types.Date { return types.Date{Time: today.AddDate(0, 0, -random.IntN(14))} }
	paths := []string{"/", "/", "/", "/news", "/shop/basket", "/watch", "/forum/thread/17", "/images/tide.webp", "/search", "/help"}
	var pages []client.SeenPage
	for _, url := range slices.Sorted(maps.Keys(noted)) {
		requests := noted[url]
		pages = append(pages, client.SeenPage{URL: url, Requests: requests, LastOn: day()})
	}
	sites := append(Sites(5_000, suspectsSeed+1), Sites(300, suspectsSeed)...)
	for rank, site := range sites {
		requests := int64(math.Ceil(9000 / math.Pow(float64(rank+1), 0.9)))
		if rank >= 5_000 { // suspect sites are requested seldom
			requests = 1 + int64(random.IntN(6))
		}
		pages = append(pages, client.SeenPage{URL: site + paths[random.IntN(len(paths))], Requests: requests, LastOn: day()})
	}
	_, err = api.AddSeenWithResponse(ctx, client.AddSeenInputBody{Pages: pages})
	return err
}

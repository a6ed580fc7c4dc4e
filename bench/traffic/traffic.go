// Package traffic makes up what benchmarks ask and what they ask it of: the URLs that the people of an organisation fetch, and lists as it
// keeps them. All is seeded, so that two runs measure the same, and under reserved names (RFC 2606).
package traffic

import (
	"fmt"
	"math/rand/v2"
	"strings"
)

var words = strings.Fields("wards doses search find images tide shop basket watch forum thread order news help index")

// URLs returns n URLs as a log has them: their hosts are drawn by Zipf's law from those [Asked] for; nine in a hundred are not plain, with
// escapes, upper case, other scripts, addresses or dot segments. They are some 75 bytes long on average. A benchmark should draw more than it
// has time for a few rounds of: a URL that is asked again soon is too easy for the caches.
func URLs(n, sites int) []string {
	random := rand.New(rand.NewPCG(1, 2))
	zipf := rand.NewZipf(random, 1.1, 8, Hosts-1)
	word := func() string { return words[random.IntN(len(words))] }
	urls := make([]string, n)
	for i := range urls {
		host := "www." + Asked(int(zipf.Uint64()), sites)
		path := fmt.Sprintf("/%s/the-%s-of-the-%s-%d", word(), word(), word(), random.IntN(1e6))
		switch random.IntN(55) {
		case 0:
			path += "/%c3%a4rzte%20" + word()
		case 1:
			host = strings.Replace(strings.ToUpper(host), "SITE", "Site", 1)
		case 2:
			host = strings.ReplaceAll(host, "site", "m\u00f6we")
		case 3:
			host = fmt.Sprintf("203.0.113.%d", random.IntN(256))
		case 4:
			path += "/../" + word() + "/./index"
		}
		if random.IntN(2) == 0 {
			path += fmt.Sprintf("?tab=%d&q=%s+%s", random.IntN(50), word(), word())
		}
		urls[i] = "https://" + host + path
	}
	return urls
}

// Hosts is how many hosts people ask for.
const Hosts = 100_000

// Asked returns a host that people ask for by its rank, the one asked most first; half of them are among so many [Site]s.
func Asked(rank, sites int) string { return Site(rank * 7919 % (2 * sites)) }

// Site returns the host of a site by its number.
func Site(n int) string { return fmt.Sprintf("site-%d.example", n) }

// Globs returns n globs of hosts.
func Globs(n int) []string {
	lines := make([]string, n)
	for i := range lines {
		lines[i] = fmt.Sprintf("shop-%d-*.reed%d.example", i*31, i)
	}
	return lines
}

// Expressions returns n regular expressions as administrators write them: few are anchored, most have choices, and three in a hundred
// name nothing that a URL must hold.
func Expressions(n int) []string {
	lines := make([]string, n)
	for i := range lines {
		switch {
		case i%33 == 0:
			lines[i] = fmt.Sprintf("~path /[0-9]+/[a-f]{%d}$", i%9+2)
		case i%3 == 0:
			lines[i] = fmt.Sprintf(`~path /(en/)?sportsbook-?%d(/|\?|$)`, i*17)
		case i%3 == 1:
			lines[i] = fmt.Sprintf(`~ (play|live)\.[a-z-]*reed-?%d\.(example|test)/`, i*31)
		default:
			lines[i] = fmt.Sprintf(`~host (^|\.)(play|m)?rush-?%d[a-z]*\.(example|test)$`, i*31)
		}
	}
	return lines
}

package demo

import (
	"bytes"
	"crypto/ed25519"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/classify"
	"widelark/packfile"
	"widelark/sealed"
)

// unpacked reads a pack of the demo as a service would.
func unpacked(t *testing.T, file []byte) (*packfile.Reader, map[string]string) {
	t.Helper()
	key := sealed.KeyText(makersKey().Public().(ed25519.PublicKey))
	p, err := packfile.Open(bytes.NewReader(file), []string{key})
	require.NoError(t, err)
	t.Cleanup(p.Close)
	sites := map[string]string{}
	require.NoError(t, p.EachSite(func(s packfile.Site) error {
		sites[s.Entry] = s.Categories
		return nil
	}))
	return p, sites
}

func TestTaxonomy(t *testing.T) {
	taxonomy := demoTaxonomy()
	require.NoError(t, taxonomy.Check())
	assert.Len(t, taxonomy.Families, 9)
	assert.GreaterOrEqual(t, len(taxonomy.Categories), 60)
	security := 0
	for _, c := range taxonomy.Categories {
		assert.NotEmpty(t, c.About, c.Key)
		assert.NotEmpty(t, c.Keywords, c.Key)
		assert.True(t, strings.HasSuffix(c.Example, ".example"), c.Key)
		if f, _ := taxonomy.Family(c.Family); f.Security {
			security++
		}
	}
	assert.GreaterOrEqual(t, security, 4)
	for text, want := range map[string]string{"gambl": "betting", "puzzle": "games", "dose": "medicine", "scam password": "phishing"} {
		found := taxonomy.Find(text)
		require.NotEmpty(t, found, text)
		assert.Equal(t, want, found[0].Key, text)
	}
}

// The packs hold the sites of the demo's stories and invented names only, and their two versions differ.
func TestPacks(t *testing.T) {
	older, was := unpacked(t, publish().whole[before])
	newer, is := unpacked(t, publish().whole[latest])
	estuary, additions := unpacked(t, estuaryFile())
	assert.Equal(t, []any{int64(before), int64(latest), "estuary"}, []any{older.Version, newer.Version, estuary.Key})
	assert.Greater(t, len(was), 25_000)
	assert.Equal(t, "adult", was["marrow-trust.test"], "a cancer charity, wrong on purpose")
	assert.Equal(t, "drugs", was["dosage-tables.example"], "a dosage site, wrong on purpose")
	assert.Equal(t, "hospitals", additions["time-slots.example"])
	assert.NotContains(t, was, "time-slots.example")
	assert.Equal(t, "betting", is["time-slots.example"], "the update would have the clinic's page blocked")
	pages, several, changed := 0, 0, 0
	for entry, categories := range is {
		if strings.Contains(entry, "/") {
			pages++
		}
		if strings.Contains(categories, " ") {
			several++
		}
		if was[entry] != categories {
			changed++
		}
		host, _, _ := strings.Cut(strings.TrimPrefix(entry, "="), "/")
		invented := strings.HasSuffix(host, ".example") || strings.HasSuffix(host, ".test") || strings.HasSuffix(host, ".internal") || strings.HasPrefix(host, "203.0.113.")
		assert.True(t, invented || entry == "betting-barn.co.uk", "%s is under no reserved name", entry)
	}
	assert.Greater(t, pages, 1000)
	assert.Greater(t, several, 500)
	assert.Greater(t, changed, 300)
	for _, c := range demoTaxonomy().Categories {
		assert.Equal(t, c.Key, is[c.Example], "the example of a category is in it")
	}
	assert.Equal(t, is, harbourSites(latest), "the same every time")
}

// The stand-in publishes the pack like a maker that knows deltas, and answers for every site of the demo.
func TestStandIn(t *testing.T) {
	web := httptest.NewServer(Partner())
	defer web.Close()
	get := func(path, host string, header ...string) (status int, tag string, body []byte) {
		r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, web.URL+path, nil)
		require.NoError(t, err)
		if host != "" {
			r.Host = host
		}
		for i := 0; i+1 < len(header); i += 2 {
			r.Header.Set(header[i], header[i+1])
		}
		res, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer res.Body.Close()
		body, err = io.ReadAll(res.Body)
		require.NoError(t, err)
		return res.StatusCode, res.Header.Get("ETag"), body
	}
	_, tag, whole := get(packPath, "")
	assert.Equal(t, `"harbour-47"`, tag)
	_, is := unpacked(t, whole)
	status, _, _ := get(packPath, "", "If-None-Match", `"harbour-47"`)
	assert.Equal(t, http.StatusNotModified, status)
	status, _, changes := get(packPath, "", "If-None-Match", `"harbour-46"`, "A-IM", "widelark-pack")
	assert.Equal(t, http.StatusIMUsed, status)
	assert.Less(t, len(changes), len(whole)/5)
	delta, changed := unpacked(t, changes)
	assert.EqualValues(t, before, delta.Base)
	_, sites := unpacked(t, publish().whole[before])
	for entry, categories := range changed {
		if sites[entry] = categories; categories == "" {
			delete(sites, entry)
		}
	}
	assert.Equal(t, is, sites, "the version before with what changed is the latest")

	_, _, page := get("/news", "www.harbour-news.example:80")
	assert.Equal(t, "This is www.harbour-news.example/news, an invented site.\nIt is: news.\n", string(page))
	_, _, page = get("/big?megabytes=2", "tern.example")
	assert.Len(t, page, 2_000_000)
	_, _, page = get("/", "never-heard.example")
	assert.Contains(t, string(page), "no pack says what")
}

func TestScorecards(t *testing.T) {
	for _, file := range []string{"adult-words.csv", "betting-words.csv"} {
		all, err := terms(file)
		require.NoError(t, err)
		assert.NotEmpty(t, all)
		negative := 0
		for _, term := range all {
			if term.Points < 0 {
				negative++
			}
		}
		assert.Positive(t, negative, "%s shows what speaks against it", file)
	}
	assert.Equal(t, "a b", classify.SetID([]string{"b", "a", "b"}))
}

package lookup_test

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/classify"
	"widelark/core/pattern"
	"widelark/core/weburl"
	"widelark/internal/access"
	"widelark/internal/catalogue"
	"widelark/internal/edition"
	"widelark/internal/lookup"
	"widelark/internal/postgres"
	"widelark/internal/revision"
	"widelark/internal/testkit"
	"widelark/packfile"
	"widelark/sealed"
)

var server *testkit.Server

func TestMain(m *testing.M) { os.Exit(testkit.RunWithServer(m, &server)) }

var (
	makersKey = ed25519.NewKeyFromSeed(bytes.Repeat([]byte{5}, ed25519.SeedSize))
	taxonomy  = classify.Taxonomy{
		Families: []classify.Family{{Key: "play", Name: "Play"}, {Key: "talk", Name: "Talk"}},
		Categories: []classify.Category{
			{Key: "games", Family: "play", Name: "Games"}, {Key: "video", Family: "play", Name: "Video"}, {Key: "chat", Family: "talk", Name: "Chat"}, {Key: "news", Family: "talk", Name: "News"},
		},
	}
)

// office holds the parts of a service on one database.
type office struct {
	store    *postgres.Store
	cache    *catalogue.Cache
	puller   *catalogue.Puller
	editions *edition.Editions
	finder   *lookup.Finder
}

func openOffice(t *testing.T, url string) *office {
	t.Helper()
	o := &office{}
	var err error
	o.store, err = postgres.Open(t.Context(), url)
	require.NoError(t, err)
	t.Cleanup(o.store.Close)
	o.cache = catalogue.NewCache(o.store, slog.New(slog.DiscardHandler))
	require.NoError(t, o.cache.Load(t.Context()))
	o.editions = edition.New(o.store, o.cache, time.UTC, time.Now)
	o.finder = lookup.NewFinder(o.editions, o.cache, o.store, o.store)
	o.puller = &catalogue.Puller{Client: http.DefaultClient, Store: o.store, Cache: o.cache, Now: time.Now}
	key := catalogue.Key{Key: sealed.KeyText(makersKey.Public().(ed25519.PublicKey)), Name: "Maker"}
	require.NoError(t, o.store.Trust(t.Context(), key, access.Setup))
	return o
}

// pack adds a pack, or returns the one with that name.
func (o *office) pack(t *testing.T, name string, hold bool) catalogue.Pack {
	t.Helper()
	packs, err := o.store.Packs(t.Context())
	require.NoError(t, err)
	for _, p := range packs {
		if p.Name == name {
			return p
		}
	}
	p, err := o.store.AddPack(t.Context(), name, catalogue.Settings{Every: time.Hour, MaxBytes: 1 << 20, MaxShrink: 100, Hold: hold}, access.Setup)
	require.NoError(t, err)
	return p
}

func (o *office) take(t *testing.T, p catalogue.Pack, version int64, sites map[string]string) catalogue.Pack {
	t.Helper()
	var file bytes.Buffer
	content := packfile.Content{Key: strings.ToLower(p.Name), Name: p.Name, Version: version, Date: time.Now(), Licence: "CC0-1.0"}
	require.NoError(t, packfile.Write(&file, content, taxonomy, sites, makersKey))
	after, err := o.puller.Import(t.Context(), p, &file, 0, false, access.Setup)
	require.NoError(t, err)
	return after
}

func (o *office) categories(t *testing.T, url string) string {
	t.Helper()
	found, err := o.finder.Lookup(t.Context(), []string{url}, weburl.Full, false)
	require.NoError(t, err)
	return classify.SetID(found[0].Answer.Categories)
}

func (o *office) see(t *testing.T, pages ...any) {
	t.Helper()
	var all []revision.SeenPage
	for i := 0; i < len(pages); i += 2 {
		host, path, _ := strings.Cut(pages[i].(string), "/")
		all = append(all, revision.SeenPage{Host: host, Path: "/" + path, Requests: int64(pages[i+1].(int)), LastOn: time.Now()})
	}
	require.NoError(t, o.store.AddSeen(t.Context(), all, access.Setup))
}

// An edit of categories counts for the next answer, at every service on the database.
func TestSayingCountsAtOnce(t *testing.T) {
	t.Parallel()
	url := server.Database(t)
	here, there := openOffice(t, url), openOffice(t, url)
	here.take(t, here.pack(t, "Main", false), 1, map[string]string{"heron.example": "games", "dosage.example": "chat"})
	assert.Equal(t, "games", here.categories(t, "www.heron.example"))
	require.Eventually(t, func() bool { return there.categories(t, "www.heron.example") == "games" }, testkit.Patience, testkit.Look, "another service loads it by itself")

	ctx := t.Context()
	made, err := here.store.AddCorrections(ctx, []pattern.Pattern{pattern.MustParse("heron.example").Pattern}, []string{"news"}, "it is news", access.Setup)
	require.NoError(t, err)
	for _, o := range []*office{here, there} {
		assert.Equal(t, "news", o.categories(t, "www.heron.example"))
	}
	again, err := there.store.AddCorrections(ctx, []pattern.Pattern{pattern.MustParse("HERON.example/").Pattern}, []string{"video"}, "no, films", access.Setup)
	require.NoError(t, err)
	assert.Equal(t, "video", here.categories(t, "heron.example"), "the same place is corrected once")
	_, total, err := here.store.Corrections(ctx, "", 0, 10)
	require.NoError(t, err)
	assert.EqualValues(t, 1, total)
	require.ErrorIs(t, here.store.RemoveCorrection(ctx, made[0].ID, access.Setup), revision.ErrNotFound)
	require.NoError(t, here.store.RemoveCorrection(ctx, again[0].ID, access.Setup))
	assert.Equal(t, "games", there.categories(t, "heron.example"))

	name, adds := "Formulary", true
	list, err := here.store.AddList(ctx, revision.ListEdit{Name: &name}, access.Setup)
	require.NoError(t, err)
	lists := []uuid.UUID{list.ID}
	own, err := here.store.AddOwnCategory(ctx, revision.OwnCategoryEdit{Name: &name, Lists: &lists}, access.Setup)
	require.NoError(t, err)
	_, _, err = here.store.MergeEntries(ctx, list.ID, revision.NewBatch(pattern.MustParse("dosage.example")), revision.Merging{}, 0, access.Setup)
	require.NoError(t, err)
	assert.Equal(t, "formulary", there.categories(t, "dosage.example"))
	own, err = here.store.EditOwnCategory(ctx, own.ID, revision.OwnCategoryEdit{Adds: &adds}, own.Version, access.Setup)
	require.NoError(t, err)
	assert.Equal(t, "chat formulary", there.categories(t, "dosage.example"))
	_, err = there.store.EditOwnCategory(ctx, own.ID, revision.OwnCategoryEdit{Adds: &adds}, own.Version-1, access.Setup)
	require.ErrorIs(t, err, revision.ErrStale)
	var used *revision.InUseError
	require.ErrorAs(t, here.store.RemoveList(ctx, list.ID, 0, access.Setup), &used)
	assert.Equal(t, []string{`the category "Formulary"`}, used.UsedBy)
	kept, err := here.store.List(ctx, list.ID)
	require.NoError(t, err)
	assert.Equal(t, []string{"category Formulary"}, kept.UsedBy)
	_, err = here.store.AddOwnCategory(ctx, revision.OwnCategoryEdit{Name: &name, Lists: &lists}, access.Setup)
	var field *revision.FieldError
	require.ErrorAs(t, err, &field)
	assert.Equal(t, "name", field.Field)
	require.NoError(t, here.store.RemoveOwnCategory(ctx, own.ID, own.Version, access.Setup))
	assert.Equal(t, "chat", there.categories(t, "dosage.example"))

	category, threshold, terms, off := "games", 5, []revision.Term{{Word: "play*", Points: 5}}, true
	card, err := here.store.AddScorecard(ctx, revision.ScorecardEdit{Name: &name, Category: &category, Threshold: &threshold, Terms: &terms}, access.Setup)
	require.NoError(t, err)
	assert.Equal(t, "games", there.categories(t, "new.example/playing"))
	_, err = here.store.EditScorecard(ctx, card.ID, revision.ScorecardEdit{Off: &off}, card.Version, access.Setup)
	require.NoError(t, err)
	assert.Empty(t, there.categories(t, "new.example/playing"))
	require.NoError(t, here.store.RemoveScorecard(ctx, card.ID, 0, access.Setup))
	left, err := there.store.Scorecards(ctx)
	require.NoError(t, err)
	assert.Empty(t, left)
}

// The survey agrees with looking up every recorded page by itself.
func TestSurvey(t *testing.T) {
	t.Parallel()
	o := openOffice(t, server.Database(t))
	random := rand.New(rand.NewPCG(8, 8))
	sites := map[string]string{}
	for i := range 40 {
		sites[fmt.Sprintf("site-%d.example", i)] = []string{"games", "chat", "games news", "video"}[random.IntN(4)]
		sites[fmt.Sprintf("site-%d.example/page", i)] = []string{"games", "chat"}[random.IntN(2)]
	}
	o.take(t, o.pack(t, "Main", false), 1, sites)
	var pages []any
	for range 200 {
		pages = append(pages, fmt.Sprintf("%ssite-%d.example/%s", []string{"", "www."}[random.IntN(2)], random.IntN(70), []string{"", "page", "page/x", "other"}[random.IntN(4)]), 1+random.IntN(50))
	}
	o.see(t, pages...)

	want := lookup.Survey{Categories: map[string]lookup.Traffic{}, Families: map[string]lookup.Traffic{}}
	hosts := map[string]bool{}
	unrated := map[string]lookup.UnratedHost{}
	require.NoError(t, o.store.EachSeen(t.Context(), func(p revision.SeenPage) error {
		count := func(to map[string]lookup.Traffic, what, key string) {
			t := to[key]
			t.Requests += p.Requests
			if at := what + key + " " + p.Host; !hosts[at] {
				hosts[at] = true
				t.Hosts++
			}
			to[key] = t
		}
		found, err := o.finder.Lookup(t.Context(), []string{p.Host + p.Path}, weburl.Full, false)
		require.NoError(t, err)
		families := map[string]bool{}
		for _, key := range found[0].Answer.Categories {
			count(want.Categories, "", key)
			category, _ := taxonomy.Category(key)
			families[category.Family] = true
		}
		for key := range families {
			count(want.Families, "f ", key)
		}
		if len(families) == 0 {
			h := unrated[p.Host]
			unrated[p.Host] = lookup.UnratedHost{Host: p.Host, Requests: h.Requests + p.Requests, Pages: h.Pages + 1}
		}
		return nil
	}))
	survey, err := o.finder.Survey(t.Context())
	require.NoError(t, err)
	assert.Equal(t, want.Categories, survey.Categories)
	assert.Equal(t, want.Families, survey.Families)
	assert.Len(t, survey.Unrated, len(unrated))
	for _, h := range survey.Unrated {
		assert.Equal(t, unrated[h.Host], h)
	}
	assert.True(t, slices.IsSortedFunc(survey.Unrated, func(a, b lookup.UnratedHost) int { return int(b.Requests - a.Requests) }))
	assert.NotEmpty(t, unrated)
	again, err := o.finder.Survey(t.Context())
	require.NoError(t, err)
	assert.Same(t, survey, again, "nothing changed, so nothing is counted anew")
	o.see(t, "nobody.example/", 10_000)
	fresh, err := o.finder.Survey(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "nobody.example", fresh.Unrated[0].Host)
}

// The predicted effects of an update agree with the differences once it is in force, with corrections and other packs.
func TestTurns(t *testing.T) {
	t.Parallel()
	o := openOffice(t, server.Database(t))
	ctx := t.Context()
	main := o.take(t, o.pack(t, "Main", true), 1, map[string]string{"a.example": "games", "b.example": "chat", "c.example": "news", "c.example/x": "video", "d.example": "games"})
	o.take(t, o.pack(t, "Second", false), 1, map[string]string{"d.example": "games", "e.example": "chat", "z.example": "news"})
	_, err := o.store.AddCorrections(ctx, []pattern.Pattern{pattern.MustParse("b.example").Pattern}, []string{"news"}, "x", access.Setup)
	require.NoError(t, err)
	o.see(t, "www.a.example/", 5, "b.example/", 9, "c.example/x/y", 3, "c.example/", 4, "d.example/", 7, "e.example/", 2, "f.example/", 1)
	main = o.take(t, main, 2, map[string]string{"a.example": "video", "b.example": "games", "c.example": "news", "e.example": "video", "f.example": "news"})
	require.NotNil(t, main.Waiting)
	turns, total, err := o.finder.Turns(ctx, main.ID, main.Waiting.Number, 10)
	require.NoError(t, err)
	var told []string
	for _, turn := range turns {
		told = append(told, fmt.Sprintf("%d %s%s %v→%v", turn.Requests, turn.Host, turn.Path, turn.Before, turn.After))
	}
	assert.Equal(t, []string{
		"5 www.a.example/ [games]→[video]", "3 c.example/x/y [video]→[news]", "2 e.example/ [chat]→[video]", "1 f.example/ []→[news]",
	}, told, "b is corrected, and what goes of d the other pack says, too")
	assert.Equal(t, lookup.Traffic{Requests: 11, Hosts: 4}, total)
	few, total, err := o.finder.Turns(ctx, main.ID, main.Waiting.Number, 1)
	require.NoError(t, err)
	assert.Len(t, few, 1)
	assert.EqualValues(t, 4, total.Hosts)

	before := map[string]string{}
	urls := []string{"www.a.example", "b.example", "c.example/x/y", "c.example", "d.example", "e.example", "f.example"}
	for _, url := range urls {
		before[url] = o.categories(t, url)
	}
	_, err = o.store.Accept(ctx, main.ID, main.Waiting.Number, access.Setup)
	require.NoError(t, err)
	require.NoError(t, o.cache.Load(ctx))
	turned := 0
	for _, url := range urls {
		if before[url] != o.categories(t, url) {
			turned++
		}
	}
	assert.Equal(t, 4, turned)
	_, _, err = o.finder.Turns(ctx, main.ID, 1, 10)
	assert.ErrorContains(t, err, "Only a later state")
}

// The history of a URL gives its categories at each moment at which they changed.
func TestPast(t *testing.T) {
	t.Parallel()
	o := openOffice(t, server.Database(t))
	ctx := t.Context()
	p := o.pack(t, "Main", false)
	history := []string{}
	for version, sites := range []map[string]string{
		{"heron.example": "games"},
		{"heron.example": "games", "other.example": "chat"},
		{"heron.example": "games", "heron.example/news": "news"},
		{"heron.example/news": "chat"},
		{"other.example": "chat"},
		{"*.heron.example": "video", "=www.heron.example": "chat"},
	} {
		p = o.take(t, p, int64(version+1), sites)
		history = append(history, o.categories(t, "www.heron.example/news/today"))
	}
	assert.Equal(t, []string{"games", "games", "news", "chat", "", "chat"}, history)
	found, err := o.finder.Lookup(ctx, []string{"www.heron.example/news/today"}, weburl.Full, true)
	require.NoError(t, err)
	var past []string
	for _, one := range found[0].Past {
		past = append(past, fmt.Sprintf("%d %s %s", one.Version, classify.SetID(one.Categories), one.Entry))
	}
	assert.Equal(t, []string{"6 chat =www.heron.example", "5  ", "4 chat heron.example/news", "3 news heron.example/news", "1 games heron.example"}, past)
	_, err = o.store.Undo(ctx, p.ID, access.Setup)
	require.NoError(t, err)
	require.NoError(t, o.cache.Load(ctx))
	found, err = o.finder.Lookup(ctx, []string{"www.heron.example/news/today", "never.example", "what is this"}, weburl.Full, true)
	require.NoError(t, err)
	assert.Equal(t, int64(5), found[0].Past[0].Version)
	assert.Empty(t, found[0].Answer.Categories)
	assert.Empty(t, found[1].Past)
	assert.NotEmpty(t, found[2].Problem)
	assert.Len(t, found[0].Neighbours, 4)
}

// A correction with which the catalogue agrees is reported as no longer needed, for every kind of entry.
func TestAgreedCorrections(t *testing.T) {
	t.Parallel()
	o := openOffice(t, server.Database(t))
	o.take(t, o.pack(t, "Main", false), 1, map[string]string{"a.example": "news", "b.example": "chat games", "b.example/x": "video"})
	want := map[string]bool{"a.example": true, "www.a.example/page": true, "b.example": false, "b.example/x": true, "~ ^https://a\\.example/[a-z]+$": true, "nowhere.example": false}
	for entry := range want {
		categories := []string{"news"}
		if strings.Contains(entry, "b.example/") {
			categories = []string{"video"}
		}
		_, err := o.store.AddCorrections(context.WithoutCancel(t.Context()), []pattern.Pattern{pattern.MustParse(entry).Pattern}, categories, "x", access.Setup)
		require.NoError(t, err)
	}
	found, total, err := o.finder.Corrections(t.Context(), "", 0, 100)
	require.NoError(t, err)
	assert.EqualValues(t, len(want), total)
	for _, c := range found {
		assert.Equal(t, want[c.Entry.String()], c.Agreed, c.Entry.String())
	}
	few, total, err := o.finder.Corrections(t.Context(), "nowhere", 0, 100)
	require.NoError(t, err)
	assert.Len(t, few, 1)
	assert.EqualValues(t, 1, total)
}

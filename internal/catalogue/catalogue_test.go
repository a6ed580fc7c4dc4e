package catalogue_test

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"fmt"
	"log/slog"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/bench/rounds"
	"widelark/core/classify"
	"widelark/core/pattern"
	"widelark/core/weburl"
	"widelark/internal/access"
	"widelark/internal/catalogue"
	"widelark/internal/postgres"
	"widelark/internal/postgres/cluster"
	"widelark/internal/revision"
	"widelark/internal/testkit"
	"widelark/packfile"
	"widelark/sealed"
)

var server *testkit.Server

func TestMain(m *testing.M) { os.Exit(testkit.RunWithServer(m, &server)) }

var (
	makersKey = ed25519.NewKeyFromSeed(bytes.Repeat([]byte{3}, ed25519.SeedSize))
	taxonomy  = classify.Taxonomy{
		Families:   []classify.Family{{Key: "play", Name: "Play"}},
		Categories: []classify.Category{{Key: "games", Family: "play", Name: "Games"}, {Key: "chat", Family: "play", Name: "Chat"}, {Key: "news", Family: "play", Name: "News"}},
	}
)

// desk is a store with one pack, which is pulled from the test's source.
type desk struct {
	store  *postgres.Store
	cache  *catalogue.Cache
	puller *catalogue.Puller
	pack   catalogue.Pack
	answer func(http.ResponseWriter, *http.Request)
	now    time.Time
}

func newDesk(t testing.TB, change func(*catalogue.Settings)) *desk {
	t.Helper()
	d := &desk{now: time.Now().UTC().Truncate(time.Second)}
	var err error
	d.store, err = postgres.Open(t.Context(), server.Database(t))
	require.NoError(t, err)
	t.Cleanup(d.store.Close)
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { d.answer(w, r) }))
	t.Cleanup(web.Close)
	settings := catalogue.Settings{URL: web.URL, Every: 24 * time.Hour, MaxBytes: 1 << 20, MaxShrink: 50}
	if change != nil {
		change(&settings)
	}
	d.pack, err = d.store.AddPack(t.Context(), "Harbour", settings, access.Setup)
	require.NoError(t, err)
	require.NoError(t, d.store.Trust(t.Context(), catalogue.Key{Key: sealed.KeyText(makersKey.Public().(ed25519.PublicKey)), Name: "Harbour office"}, access.Setup))
	d.cache = catalogue.NewCache(d.store, slog.New(slog.DiscardHandler))
	d.puller = &catalogue.Puller{Client: http.DefaultClient, Store: d.store, Cache: d.cache, Now: func() time.Time { return d.now }}
	return d
}

func content(version int64) packfile.Content {
	return packfile.Content{Key: "harbour", Name: "Harbour", Version: version, Date: time.Date(2026, 11, 20, 0, 0, int(version), 0, time.UTC), Licence: "CC0-1.0"}
}

func whole(t testing.TB, version int64, sites map[string]string) []byte {
	t.Helper()
	var file bytes.Buffer
	require.NoError(t, packfile.Write(&file, content(version), taxonomy, sites, makersKey))
	return file.Bytes()
}

func delta(t testing.TB, version, base int64, before, after map[string]string) []byte {
	t.Helper()
	var file bytes.Buffer
	c := content(version)
	c.Base = base
	require.NoError(t, packfile.WriteDelta(&file, c, taxonomy, before, after, makersKey))
	return file.Bytes()
}

func gives(file []byte, header ...string) func(http.ResponseWriter, *http.Request) {
	return func(w http.ResponseWriter, _ *http.Request) {
		for i := 0; i+1 < len(header); i += 2 {
			w.Header().Set(header[i], header[i+1])
		}
		_, _ = w.Write(file)
	}
}

func (d *desk) pull(t testing.TB) catalogue.Pack {
	t.Helper()
	var err error
	d.pack, err = d.puller.Pull(t.Context(), d.pack, false)
	require.NoError(t, err)
	return d.pack
}

// sites returns the loaded categories of every entry of the pack.
func (d *desk) sites(t testing.TB, entries []string) map[string]string {
	t.Helper()
	c := classify.New(classify.NewLocal(nil, nil, nil), d.cache.Loaded().Packs, nil)
	known := map[string]string{}
	for _, entry := range entries {
		a := c.Explain(weburl.MustParse(entry), pattern.Date{}, weburl.Full)
		if len(a.Given) > 0 && a.Given[0].Entry.Pattern.String() == entry {
			known[entry] = classify.SetID(a.Categories)
		}
	}
	return known
}

func TestPullAndGuards(t *testing.T) {
	t.Parallel()
	d := newDesk(t, nil)
	first := map[string]string{"a.example": "games", "b.example": "chat games", "b.example/x": "news", "c.example": "chat"}
	all := []string{"a.example", "b.example", "b.example/x", "c.example", "d.example"}
	d.answer = gives(whole(t, 7, first), "ETag", `"7"`)
	got := d.pull(t)
	assert.Equal(t, "Version 7: 4 sites came, 0 moved, 0 went.", got.Told)
	assert.Equal(t, first, d.sites(t, all))
	assert.Equal(t, map[string]int64{"games": 2, "chat": 2, "news": 1}, d.cache.Loaded().Sites)
	assert.Equal(t, []any{"harbour", int64(7), int64(4)}, []any{got.Key, got.InForce.Version, got.InForce.Sites})

	d.answer = func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, `"7"`, r.Header.Get("If-None-Match"))
		w.WriteHeader(http.StatusNotModified)
	}
	assert.Equal(t, revision.PullUnchanged, d.pull(t).Result)

	// Whatever comes, the last good state stays, and the reason is kept.
	stranger := ed25519.NewKeyFromSeed(bytes.Repeat([]byte{9}, ed25519.SeedSize))
	var foreign bytes.Buffer
	require.NoError(t, packfile.Write(&foreign, content(8), taxonomy, first, stranger))
	other := content(8)
	other.Key = "bay"
	var bay bytes.Buffer
	require.NoError(t, packfile.Write(&bay, other, taxonomy, first, makersKey))
	good := whole(t, 8, first)
	for want, row := range map[string]struct {
		answer func(http.ResponseWriter, *http.Request)
		result revision.PullResult
	}{
		"which nobody here trusts":                   {gives(foreign.Bytes()), revision.PullRefused},
		`It is the pack "bay", and "harbour"`:        {gives(bay.Bytes()), revision.PullRefused},
		"It is version 6, older than version 7":      {gives(whole(t, 6, first)), revision.PullRefused},
		"no later version":                           {gives(whole(t, 7, nil)), revision.PullUnchanged},
		"It would take away 3 of 4 sites, more than": {gives(whole(t, 8, map[string]string{"a.example": "games"})), revision.PullRefused},
		"no pack, or damaged, or not whole":          {gives(good[:len(good)-40]), revision.PullRefused},
		"no pack, or damaged":                        {gives([]byte("<html>")), revision.PullRefused},
		"The source answers 410":                     {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusGone) }, revision.PullFailed},
		"broke off": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Length", "900000")
			_, _ = w.Write(good[:len(good)-40])
		}, revision.PullFailed},
		"The file has 2000000 bytes": {func(w http.ResponseWriter, _ *http.Request) { w.Header().Set("Content-Length", "2000000") }, revision.PullRefused},
		"since version 5, and version 7 is there": {func(w http.ResponseWriter, r *http.Request) {
			gives(delta(t, 8, 5, first, first))(w, r)
		}, revision.PullRefused},
	} {
		d.answer = row.answer
		got := d.pull(t)
		assert.Contains(t, got.Told, want)
		assert.Equal(t, row.result, got.Result, want)
		assert.Equal(t, int64(7), got.InForce.Version, want)
		assert.Equal(t, first, d.sites(t, all), want)
	}
	twin, err := d.store.AddPack(t.Context(), "Twin", d.pack.Settings, access.Setup)
	require.NoError(t, err)
	d.answer = gives(good)
	twin, err = d.puller.Pull(t.Context(), twin, false)
	require.NoError(t, err)
	assert.Equal(t, `The pack "harbour" is here already, as "Harbour". The last good state stays.`, twin.Told)
	assert.Nil(t, twin.InForce)

	d.answer = gives(whole(t, 8, map[string]string{"a.example": "games"}))
	got, err = d.puller.Pull(t.Context(), d.pack, true)
	require.NoError(t, err)
	assert.Equal(t, "Version 8: 0 sites came, 0 moved, 3 went.", got.Told, "with force it may shrink")
	assert.Equal(t, 50, got.MaxShrink)
}

// A source that has deltas is asked for one; if the delta does not fit, the whole pack is fetched.
func TestDelta(t *testing.T) {
	t.Parallel()
	d := newDesk(t, nil)
	first := map[string]string{"a.example": "games", "b.example": "chat"}
	second := map[string]string{"a.example": "news", "c.example": "chat"}
	d.answer = gives(whole(t, 1, first), "ETag", `"1"`)
	d.pull(t)
	d.answer = func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, "widelark-pack", r.Header.Get("A-IM"))
		w.Header().Set("ETag", `"2"`)
		w.Header().Set("IM", "widelark-pack")
		w.WriteHeader(http.StatusIMUsed)
		_, _ = w.Write(delta(t, 2, 1, first, second))
	}
	got := d.pull(t)
	assert.Equal(t, "By what changed: version 2: 1 sites came, 1 moved, 1 went.", got.Told)
	assert.Equal(t, `"2"`, got.ETag)
	all := []string{"a.example", "b.example", "c.example", "d.example"}
	assert.Equal(t, second, d.sites(t, all))

	third := map[string]string{"d.example": "games", "a.example": "news"}
	d.answer = func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("A-IM") == "" {
			gives(whole(t, 3, third), "ETag", `"3"`)(w, r)
			return
		}
		w.Header().Set("IM", "widelark-pack")
		w.WriteHeader(http.StatusIMUsed)
		_, _ = w.Write(delta(t, 3, 2, map[string]string{"never.example": "games"}, third)) // made from something else
	}
	got = d.pull(t)
	assert.Equal(t, revision.PullChanged, got.Result, got.Told)
	assert.Equal(t, third, d.sites(t, all))
}

// A held update changes nothing until it is accepted; an update in force can be undone, and the undoing be undone.
func TestHoldAcceptUndo(t *testing.T) {
	t.Parallel()
	d := newDesk(t, func(s *catalogue.Settings) { s.Hold = true })
	first, second := map[string]string{"a.example": "games", "b.example": "chat"}, map[string]string{"a.example": "news", "b.example": "chat", "c.example": "chat"}
	all := []string{"a.example", "b.example", "c.example"}
	d.answer = gives(whole(t, 1, first))
	require.Nil(t, d.pull(t).Waiting, "there is nothing yet that a first file could change")
	d.answer = gives(whole(t, 2, second))
	got := d.pull(t)
	require.NotNil(t, got.Waiting)
	assert.Contains(t, got.Told, "It waits until somebody accepts it.")
	assert.Equal(t, first, d.sites(t, all))
	changes, totals, err := d.store.Differences(t.Context(), d.pack.ID, 1, 2, "", 10)
	require.NoError(t, err)
	assert.Equal(t, catalogue.Totals{Added: 1, Moved: 1}, totals)
	assert.Equal(t, []catalogue.Difference{{Entry: "a.example", Before: "games", After: "news"}, {Entry: "c.example", After: "chat"}}, changes)
	back, totals, err := d.store.Differences(t.Context(), d.pack.ID, 2, 1, "a.example", 10)
	require.NoError(t, err)
	assert.Equal(t, catalogue.Totals{Moved: 1, Gone: 1}, totals)
	assert.Equal(t, []catalogue.Difference{{Entry: "c.example", Before: "chat"}}, back)

	_, after, err := d.cache.WithState(t.Context(), d.pack.ID, 2)
	require.NoError(t, err)
	ahead := classify.New(classify.NewLocal(nil, nil, nil), after, nil)
	assert.Equal(t, []string{"news"}, ahead.Explain(weburl.MustParse("a.example"), pattern.Date{}, weburl.Full).Categories)

	_, err = d.store.Accept(t.Context(), d.pack.ID, 7, access.Setup)
	require.ErrorIs(t, err, revision.ErrStale)
	d.pack, err = d.store.Accept(t.Context(), d.pack.ID, 2, access.Setup)
	require.NoError(t, err)
	require.NoError(t, d.cache.Load(t.Context()))
	assert.Equal(t, second, d.sites(t, all))
	for range 2 {
		d.pack, err = d.store.Undo(t.Context(), d.pack.ID, access.Setup)
		require.NoError(t, err)
		require.NoError(t, d.cache.Load(t.Context()))
	}
	assert.Equal(t, second, d.sites(t, all))
	d.pack, err = d.store.Undo(t.Context(), d.pack.ID, access.Setup)
	require.NoError(t, err)
	require.NoError(t, d.cache.Load(t.Context()))
	assert.Equal(t, first, d.sites(t, all))
	assert.Equal(t, revision.PullUnchanged, d.pull(t).Result, "what was undone does not come back by itself")

	d.answer = gives(whole(t, 3, first))
	require.NotNil(t, d.pull(t).Waiting)
	d.pack, err = d.store.Refuse(t.Context(), d.pack.ID, 3, access.Setup)
	require.NoError(t, err)
	assert.Nil(t, d.pack.Waiting)
	events, err := d.store.Events(t.Context(), d.pack.ID)
	require.NoError(t, err)
	var told []string
	for _, e := range events {
		told = append(told, fmt.Sprint(e.What, " ", e.Version, " by ", e.By))
	}
	assert.Equal(t, []string{"refused 3 by setup", "held 3 by subscription", "undone 1 by setup", "undone 2 by setup", "undone 1 by setup", "in force 2 by setup", "held 2 by subscription", "in force 1 by subscription"}, told)
	stated, err := d.store.Stated(t.Context(), []string{"a.example"})
	require.NoError(t, err)
	assert.Len(t, stated, 3)
}

// After random updates, whole or as deltas, the loaded catalogue equals the last file, and differences between states equal those between files.
func TestRandomUpdates(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(5, 5))
	d := newDesk(t, func(s *catalogue.Settings) { s.MaxShrink = 100 })
	var all []string
	for i := range 60 {
		all = append(all, fmt.Sprintf("site-%d.example", i))
		if i%4 == 0 {
			all = append(all, fmt.Sprintf("site-%d.example/page", i))
		}
	}
	sets := []string{"games", "chat", "news", "chat games"}
	states := []map[string]string{{}}
	for version := int64(1); version <= 12; version++ {
		next := maps.Clone(states[version-1])
		for range 1 + random.IntN(20) {
			entry := all[random.IntN(len(all))]
			if random.IntN(3) == 0 {
				delete(next, entry)
			} else {
				next[entry] = sets[random.IntN(len(sets))]
			}
		}
		file := whole(t, version, next)
		if version > 1 && random.IntN(2) == 0 {
			file = delta(t, version, version-1, states[version-1], next)
		}
		d.answer = gives(file)
		got := d.pull(t)
		require.Equal(t, revision.PullChanged, got.Result, got.Told)
		require.Equal(t, next, d.sites(t, all))
		require.EqualValues(t, len(next), got.InForce.Sites)
		states = append(states, next)
	}
	for range 20 {
		a, b := 1+random.IntN(12), 1+random.IntN(12)
		var want []catalogue.Difference
		var totals catalogue.Totals
		for _, entry := range slices.Sorted(slices.Values(all)) {
			before, after := states[a][entry], states[b][entry]
			if before == after {
				continue
			}
			want = append(want, catalogue.Difference{Entry: entry, Before: before, After: after})
			switch {
			case before == "":
				totals.Added++
			case after == "":
				totals.Gone++
			default:
				totals.Moved++
			}
		}
		got, gotTotals, err := d.store.Differences(t.Context(), d.pack.ID, int64(a), int64(b), "", 1000)
		require.NoError(t, err)
		require.Equal(t, totals, gotTotals)
		require.Equal(t, want, append([]catalogue.Difference(nil), got...))
	}
	found, err := d.store.Sites(t.Context(), []string{"chat"}, "", "", 1000)
	require.NoError(t, err)
	for _, site := range found {
		require.Contains(t, strings.Fields(states[12][site.Entry]), "chat")
	}
	require.Len(t, found, int(d.cache.Loaded().Sites["chat"]))
}

func TestRanks(t *testing.T) {
	t.Parallel()
	d := newDesk(t, nil)
	for _, name := range []string{"Second", "Third"} {
		_, err := d.store.AddPack(t.Context(), name, d.pack.Settings, access.Setup)
		require.NoError(t, err)
	}
	order := func() (names []string) {
		packs, err := d.store.Packs(t.Context())
		require.NoError(t, err)
		for i, p := range packs {
			assert.Equal(t, i+1, p.Rank)
			names = append(names, p.Name)
		}
		return names
	}
	for _, row := range []struct {
		pack string
		rank int
		want []string
	}{
		{"Third", 1, []string{"Third", "Harbour", "Second"}},
		{"Third", 2, []string{"Harbour", "Third", "Second"}},
		{"Harbour", 3, []string{"Third", "Second", "Harbour"}},
		{"Third", 9, []string{"Second", "Harbour", "Third"}},
	} {
		packs, err := d.store.Packs(t.Context())
		require.NoError(t, err)
		at := slices.IndexFunc(packs, func(p catalogue.Pack) bool { return p.Name == row.pack })
		_, err = d.store.EditPack(t.Context(), packs[at].ID, catalogue.Edit{Rank: &row.rank}, access.Setup)
		require.NoError(t, err)
		assert.Equal(t, row.want, order())
	}
	packs, err := d.store.Packs(t.Context())
	require.NoError(t, err)
	require.NoError(t, d.store.RemovePack(t.Context(), packs[0].ID, access.Setup))
	assert.Equal(t, []string{"Harbour", "Third"}, order())
}

// A database that dies at any moment of an update has either the old or the new state, complete, after a restart.
func TestTheDatabaseDies(t *testing.T) {
	t.Parallel()
	dir, err := os.MkdirTemp("", "widelark-dies-")
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	require.NoError(t, os.Chmod(dir, 0o755)) // the server's user has to get in
	const n = 20_000
	files := map[int64][]byte{}
	for version := int64(1); version <= 8; version++ {
		sites := map[string]string{}
		for i := range n + int(version) {
			sites[fmt.Sprintf("site-%d.example", i)] = []string{"games", "chat"}[version%2]
		}
		files[version] = whole(t, version, sites)
	}
	var pack catalogue.Pack
	var kept []int64
	for round := range 7 {
		db, err := cluster.Start(t.Context(), cluster.Config{Dir: filepath.Join(dir, "database")}) // kept as a real one is: what was committed stays
		require.NoError(t, err)
		require.NoError(t, db.EnsureDatabase(t.Context(), "dies"))
		store, err := postgres.Open(t.Context(), db.URL("dies"))
		require.NoError(t, err)
		cache := catalogue.NewCache(store, slog.New(slog.DiscardHandler))
		puller := &catalogue.Puller{Client: http.DefaultClient, Store: store, Cache: cache, Now: time.Now}
		if round == 0 {
			require.NoError(t, store.Trust(t.Context(), catalogue.Key{Key: sealed.KeyText(makersKey.Public().(ed25519.PublicKey)), Name: "Maker"}, access.Setup))
			pack, err = store.AddPack(t.Context(), "Harbour", catalogue.Settings{Every: time.Hour, MaxBytes: 1 << 30, MaxShrink: 100}, access.Setup)
			require.NoError(t, err)
			pack, err = puller.Import(t.Context(), pack, bytes.NewReader(files[1]), 0, false, access.Setup)
			require.NoError(t, err)
		}
		pack, err = store.Pack(t.Context(), pack.ID)
		require.NoError(t, err)
		require.NoError(t, cache.Load(t.Context()))
		version := pack.InForce.Version
		kept = append(kept, version)
		want := map[string]int64{[]string{"games", "chat"}[version%2]: n + version}
		require.Equal(t, want, cache.Loaded().Sites, "round %d", round)
		require.Equal(t, pack.Latest.Number, pack.InForce.Number, "nothing is stored that does not count")
		ended := make(chan struct{})
		go func() {
			defer close(ended)
			_, _ = puller.Import(context.WithoutCancel(t.Context()), pack, bytes.NewReader(files[version+1]), 0, false, access.Setup)
		}()
		time.Sleep(time.Duration(20+150*round) * time.Millisecond)
		db.Kill()
		<-ended // it may have come to its end, or not: that is what is looked at
		store.Close()
	}
	t.Log("versions in force after each death:", kept)
}

// A million sites from a file into the store and into memory, compared with COPY of the same rows into a bare table.
func BenchmarkTake(b *testing.B) {
	const n = 1_000_000
	sites := make(map[string]string, n)
	var rows strings.Builder
	for i := range n {
		entry := fmt.Sprintf("site-%d.example", i*7919%n)
		sites[entry] = []string{"games", "chat", "news", "chat games"}[i%4]
		fmt.Fprintf(&rows, "%d\t1\tt\t%s\t%d\n", i, entry, i%4)
	}
	file := whole(b, 1, sites)
	d := newDesk(b, nil)
	rounds.Measure(b, func(b *testing.B) {
		for i := 0; b.Loop(); i++ {
			pack, err := d.store.AddPack(b.Context(), fmt.Sprint(b.N, i, rand.Uint64()), d.pack.Settings, access.Setup)
			require.NoError(b, err)
			_, err = d.store.Pool().Exec(b.Context(), `update packs set key = ''`)
			require.NoError(b, err)
			pack.MaxBytes = 1 << 30
			_, err = d.puller.Import(b.Context(), pack, bytes.NewReader(file), 0, true, access.Setup)
			require.NoError(b, err)
			b.StopTimer()
			require.NoError(b, d.store.RemovePack(b.Context(), pack.ID, access.Setup))
			require.NoError(b, d.cache.Load(b.Context()))
			b.StartTimer()
		}
	}, func(b *testing.B) {
		_, err := d.store.Pool().Exec(b.Context(), `create table if not exists bare (id bigint, since bigint, plain boolean, entry text, set integer)`)
		require.NoError(b, err)
		for b.Loop() {
			conn, err := d.store.Pool().Acquire(b.Context())
			require.NoError(b, err)
			_, err = conn.Conn().PgConn().CopyFrom(context.Background(), strings.NewReader(rows.String()), "copy bare from stdin")
			require.NoError(b, err)
			conn.Release()
		}
	})
}

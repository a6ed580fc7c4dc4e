package demo

import (
	"bytes"
	"cmp"
	"compress/gzip"
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/csv"
	"fmt"
	"hash/fnv"
	"html"
	"io"
	"mime"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/coder/websocket"
	"github.com/google/uuid"

	"widelark/client"
	"widelark/core/classify"
	"widelark/packfile"
	"widelark/sealed"
)

// The packs of the demo. The stand-in publishes the harbour office's; the estuary's is imported by hand.
const (
	harbourPack = "Harbour catalogue"
	estuaryPack = "Estuary additions"
	packPath    = "/catalogue" + packfile.Extension

	before, latest = 46, 47 // the two versions of the harbour's pack
)

// makersKey signs the packs of the demo. It is not secret: anybody can read it here.
func makersKey() ed25519.PrivateKey {
	seed := sha256.Sum256([]byte("the harbour office of an invented coast"))
	return ed25519.NewKeyFromSeed(seed[:])
}

// byWord maps words in the names of invented sites to categories.
var byWord = func() map[string]string {
	words := map[string]string{}
	for categories, names := range map[string]string{
		"games": "arcade games cards dice player quiz toys", "betting": "casino odds lottery poker slots wagers raffle stakes coins", "news": "gazette journal news notes review bulletin courier",
		"video": "cinema films stream studio stage channel watch", "music": "music radio song tonic mixer", "shopping": "bazaar market mall outlet shop store tools trade supply",
		"social": "circle lounge parlour", "chat": "chat talk", "forums": "forum board union", "web-mail": "mail post", "file-sharing": "drive vault depot media",
		"investing": "broker finance fund exchange ledger syndicate", "libraries": "archive atlas books lending library prints", "travel": "travel trail voyage rides tickets",
		"arts": "gallery museum pictures hall theatre", "health-advice": "health kitchen", "pharmacies": "pharmacy", "schools": "school rooms lab", "crafts": "crafts forge garden guild works bench",
		"motors": "motors rentals wire", "diaries": "diary digest", "software": "pixels hub", "advertising": "offers deals dealers", "delivery": "feed files mirror", "property": "lodge loft cabin",
		"suppliers": "parcel wharf", "sport": "score club", "dating": "spot",
	} {
		for _, name := range strings.Fields(names) {
			words[name] = categories
		}
	}
	return words
}()

// others are the categories of sites whose names hold no such word.
var others = strings.Fields(`weather government politics religion charity law humour pets-garden auctions banking insurance jobs science reference
	fitness mental-health hospitals medicine children calls search hosting remote-control alcohol-tobacco travel software sport shopping`)

// named are the sites of the demo's stories.
var named = map[string]string{
	"marrow-trust.test": "adult", "dosage-tables.example": "drugs", "oddsfield.example": "betting", "find.lark-search.example": "search", "deepwater.test": "search", "skerry-video.example": "video", "oddsfield.test": "betting", "slots-palace.example": "betting", "slots-bay.example": "betting",
	"jackpot-junction.test": "betting", "lucky-lantern.example": "betting", "harbour-news.example": "news", "harbour-news.example/puzzles": "games", "tidepool-news.example": "news",
	"gull-video.test": "video", "gull-video.example": "video", "ferrow-instruments.example": "suppliers", "marsh-passport.example": "software", "ferrow-shelf.test": "delivery",
	"interactions.example": "medicine", "wound-atlas.example": "violence", "poison-line.example": "drugs", "encyclopaedia.example": "reference", "story-hour.example": "children libraries",
	"seagull-video-archive.example": "science", "better-breathing.example": "health-advice", "alphabet-blocks.example": "children", "quillmere-jackpot-fund.example": "charity",
	"betting-barn.co.uk": "betting", "sweepstakes-weekly.test": "betting", "=theatre-slots.quillmere.internal": "hospitals", "203.0.113.64/28": "hosting",
}

// moves are the categories that the latest version of the harbour's pack changes.
var moves = map[string]string{
	"poison-line.example": "health-advice medicine", "seagull-video-archive.example": "video", "tidepool-news.example/sport/odds": "betting news", "gull-video.test": "video newly-seen",
	"story-hour.example": "children video", "time-slots.example": "betting", "ferrow-shelf.test": "",
}

// harbourSites returns the sites of the harbour's pack at one of its two versions.
func harbourSites(version int64) map[string]string {
	sites := map[string]string{}
	for _, name := range slices.Concat(Sites(5_000, suspectsSeed+1), Sites(28_000, suspectsSeed+40)) {
		draw := chance(name)
		if draw%6 == 0 { // a site without a category yet
			continue
		}
		categories := others[draw/6%uint64(len(others))]
		for _, part := range strings.FieldsFunc(name, func(r rune) bool { return r < 'a' || r > 'z' }) {
			for i := range part {
				if known, ok := byWord[part[i:]]; ok {
					categories = known
					break
				}
			}
		}
		switch {
		case draw%40 == 1:
			categories += " newly-seen"
		case draw%25 == 2:
			categories += " advertising"
		case draw%90 == 4:
			categories = "malware"
		case draw%90 == 5:
			categories = "phishing"
		case draw%400 == 9:
			categories = "command-and-control"
		case draw%300 == 11:
			categories = "swindle"
		case draw%700 == 13:
			categories = "crypto-mining"
		}
		sites[name] = classify.SetID(strings.Fields(categories))
		if draw%12 == 7 {
			sites[name+"/forum"] = "forums"
		}
		if version < latest {
			continue
		}
		switch draw % 97 {
		case 0:
			delete(sites, name)
		case 1:
			sites[name] = "newly-seen"
		case 2:
			sites[name+"/shop"] = "shopping"
		}
	}
	for _, c := range demoTaxonomy().Categories {
		sites[c.Example] = c.Key
	}
	for entry, categories := range named {
		sites[entry] = classify.SetID(strings.Fields(categories))
	}
	if version >= latest {
		for entry, categories := range moves {
			if sites[entry] = classify.SetID(strings.Fields(categories)); categories == "" {
				delete(sites, entry)
			}
		}
	}
	return sites
}

// chance returns a number that depends only on a name.
func chance(name string) uint64 {
	h := fnv.New64a()
	_, _ = io.WriteString(h, name)
	return h.Sum64() >> 7
}

func demoTaxonomy() classify.Taxonomy {
	t, err := packfile.UnmarshalTaxonomy(File("taxonomy.json"))
	if err != nil {
		panic("bug: " + err.Error())
	}
	return t
}

// harbour is the harbour's pack as its maker publishes it: both versions whole, and the latest as a delta.
type harbour struct {
	whole map[int64][]byte
	delta []byte
	truth map[string]string // the categories of the sites in the latest version
}

// publish builds the harbour's pack, once, as it takes some tenths of a second.
var publish = sync.OnceValue(func() harbour {
	h := harbour{whole: map[int64][]byte{}}
	content := func(version int64) packfile.Content {
		return packfile.Content{
			Key: "harbour", Name: harbourPack, Version: version, Licence: "CC0-1.0",
			Date: time.Date(2026, 11, 10, 6, 0, 0, 0, time.UTC).AddDate(0, 0, 7*int(version-before)),
		}
	}
	older := harbourSites(before)
	h.truth = harbourSites(latest)
	for version, sites := range map[int64]map[string]string{before: older, latest: h.truth} {
		var file bytes.Buffer
		if err := packfile.Write(&file, content(version), demoTaxonomy(), sites, makersKey()); err != nil {
			panic("bug: " + err.Error())
		}
		h.whole[version] = file.Bytes()
	}
	var file bytes.Buffer
	changed := content(latest)
	changed.Base = before
	if err := packfile.WriteDelta(&file, changed, demoTaxonomy(), older, h.truth, makersKey()); err != nil {
		panic("bug: " + err.Error())
	}
	h.delta = file.Bytes()
	return h
})

// servePack serves the harbour's pack. A client that has the version before and accepts deltas gets the delta (RFC 3229).
func servePack(w http.ResponseWriter, r *http.Request) {
	h := publish()
	tag := func(version int64) string { return `"harbour-` + strconv.FormatInt(version, 10) + `"` }
	w.Header().Set("ETag", tag(latest))
	if strings.Contains(r.Header.Get("A-IM"), "widelark-pack") && r.Header.Get("If-None-Match") == tag(before) {
		w.Header().Set("IM", "widelark-pack")
		w.Header().Set("Delta-Base", tag(before))
		w.WriteHeader(http.StatusIMUsed)
		_, _ = w.Write(h.delta)
		return
	}
	http.ServeContent(w, r, "catalogue"+packfile.Extension, time.Time{}, bytes.NewReader(h.whole[latest]))
}

// estuaryFile returns the estuary hospitals' own small pack.
func estuaryFile() []byte {
	sites := map[string]string{
		"wound-atlas.example": "medicine", "dose-calc3.example": "medicine", "overdose-calc.example": "medicine", "diabetes-bet.example": "health-advice", "time-slots.example": "hospitals",
		"keys.marsh-passport.example": "software",
	}
	for _, name := range Sites(400, suspectsSeed+60) {
		sites[name] = "hospitals"
	}
	var file bytes.Buffer
	content := packfile.Content{Key: "estuary", Name: estuaryPack, Version: 3, Licence: "CC-BY-4.0", Date: time.Date(2026, 11, 2, 6, 0, 0, 0, time.UTC)}
	if err := packfile.Write(&file, content, demoTaxonomy(), sites, makersKey()); err != nil {
		panic("bug: " + err.Error())
	}
	return file.Bytes()
}

// loadCatalogue loads the packs. The harbour's latest version waits, so that the demo has an update to examine.
func loadCatalogue(ctx context.Context, api *client.ClientWithResponses, partner string, out io.Writer) error {
	found, err := api.GetPacksWithResponse(ctx)
	if err != nil {
		return err
	}
	have := map[string]client.Pack{}
	for _, p := range found.JSON200.Packs {
		have[p.Name] = p
	}
	url := partner + packPath
	if p, ok := have[harbourPack]; ok && p.URL != url { // the stand-in has another port each time
		if _, err := api.EditPackWithResponse(ctx, p.ID, client.EditPackInputBody{URL: &url}); err != nil {
			return err
		}
	}
	key := sealed.KeyText(makersKey().Public().(ed25519.PublicKey))
	if _, err := api.TrustKeyWithResponse(ctx, client.TrustInputBody{Key: key, Name: "Harbour office"}); err != nil {
		return err
	}
	hold, paused := true, true
	for _, one := range []struct {
		body client.NewPackInputBody
		file func() []byte
	}{
		{client.NewPackInputBody{Name: harbourPack, URL: &url, Hold: &hold, Paused: &paused}, func() []byte { return publish().whole[before] }},
		{client.NewPackInputBody{Name: estuaryPack}, estuaryFile},
	} {
		p, ok := have[one.body.Name]
		if !ok {
			made, err := api.CreatePackWithResponse(ctx, one.body)
			if err != nil {
				return err
			}
			p = *made.JSON201
		}
		if p.InForce != nil {
			continue
		}
		got, err := api.ImportPackWithBodyWithResponse(ctx, p.ID, nil, "application/octet-stream", bytes.NewReader(one.file()))
		if err != nil {
			return err
		}
		fmt.Fprintf(out, "  %-28s %7d sites of version %d\n", p.Name, got.JSON200.InForce.Sites, got.JSON200.InForce.Version)
		if p.URL == "" {
			continue
		}
		if _, err := api.PullPackWithResponse(ctx, p.ID, nil); err != nil {
			return err
		}
		paused := false
		if _, err := api.EditPackWithResponse(ctx, p.ID, client.EditPackInputBody{Paused: &paused}); err != nil {
			return err
		}
	}
	return nil
}

// loadLocal loads what Quillmere itself adds to the catalogue: a category, two corrections, scorecards.
func loadLocal(ctx context.Context, api *client.ClientWithResponses, ids map[string]uuid.UUID) error {
	about, family := "What wards look doses up in, whatever else the sites are.", "health"
	_, err := api.CreateCategoryWithResponse(ctx, client.NewCategoryInputBody{Name: "Dosage pages", About: &about, Family: &family, Lists: []uuid.UUID{ids["Formulary and dosage sites"]}})
	if err != nil {
		return err
	}
	adds, about := true, "Read by the trainees' lead, and open to trainees at any hour."
	_, err = api.CreateCategoryWithResponse(ctx, client.NewCategoryInputBody{Name: "Trainees' reading", About: &about, Lists: []uuid.UUID{ids["Trainees' reading list"]}, Adds: &adds})
	if err != nil {
		return err
	}
	for _, c := range []client.CorrectInputBody{
		{Entries: []string{"poison-line.example"}, Categories: []string{"health-advice", "medicine"}, Reason: "The poisons helpline, called a drugs site."},
		{Entries: []string{"diabetes-bet.example"}, Categories: []string{"health-advice"}, Reason: "Named after its founder, Bet Marlow."},
	} {
		if _, err := api.CorrectWithResponse(ctx, c); err != nil {
			return err
		}
	}
	off := true
	for _, card := range []struct {
		name, about, category, file string
		threshold                   int64
		off                         *bool
		only                        func(client.Term) bool
	}{
		{"Adult words", "With points that clear what medicine says plainly.", "adult", "adult-words.csv", 100, nil, nil},
		{"Adult words, first try", "Kept to show why: it takes screening for breast cancer for an adult site.", "adult", "adult-words.csv", 80, &off, func(t client.Term) bool { return t.Points > 0 }},
		{"Betting words", "For betting sites that no pack knows yet.", "betting", "betting-words.csv", 90, nil, nil},
	} {
		terms, err := terms(card.file)
		if err != nil {
			return err
		}
		if card.only != nil {
			terms = slices.DeleteFunc(terms, func(t client.Term) bool { return !card.only(t) })
		}
		body := client.NewScorecardInputBody{Name: card.name, About: &card.about, Category: card.category, Threshold: card.threshold, Terms: terms, Off: card.off}
		if _, err := api.CreateScorecardWithResponse(ctx, body); err != nil {
			return err
		}
	}
	return nil
}

func terms(name string) ([]client.Term, error) {
	rows, err := csv.NewReader(bytes.NewReader(File(name))).ReadAll()
	if err != nil {
		return nil, err
	}
	var all []client.Term
	for _, row := range rows[1:] {
		points, err := strconv.ParseInt(row[1], 10, 64)
		if err != nil {
			return nil, err
		}
		all = append(all, client.Term{Word: row[0], Points: points})
	}
	return all, nil
}

// serveSite stands in for every site of the demo: a plain page with the site's name and purpose.
func serveSite(w http.ResponseWriter, r *http.Request) {
	host, _, _ := strings.Cut(r.Host, ":")
	truth := publish().truth
	what := ""
	for at := host; at != "" && what == ""; {
		what = truth[at]
		_, at, _ = strings.Cut(at, ".")
	}
	if what == "" {
		what = "no pack says what"
	}
	arrived, err := io.Copy(io.Discard, r.Body)
	if err != nil {
		return // the client is gone
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	switch r.URL.Path {
	case "/slow":
		linger(w, r)
	case "/big":
		sendMuch(w, r)
		return
	case "/echo":
		echo(w, r)
		return
	case "/file":
		sendFile(w, r)
		return
	case "/page":
		sendPage(w, r)
		return
	case "/old":
		sendLatin(w, host)
		return
	}
	for i := range engines {
		_, _ = io.WriteString(w, engines[i].answer(r, host))
	}
	fmt.Fprintf(w, "This is %s%s, an invented site.\nIt is: %s.\n", host, r.URL.Path, what)
	if arrived > 0 {
		fmt.Fprintf(w, "%d bytes arrived.\n", arrived)
	}
}

// sendMuch sends as many megabytes of text as the query says, a thousand at most.
func sendMuch(w http.ResponseWriter, r *http.Request) {
	const line = "The tide comes in, and the tide goes out, and the lark is above it all the day. And again:\n"
	megabytes, _ := strconv.Atoi(r.URL.Query().Get("megabytes"))
	left := int64(min(max(megabytes, 0), 1000)) * 1_000_000
	w.Header().Set("Content-Length", strconv.FormatInt(left, 10))
	text := strings.Repeat(line, 1000)
	for left > 0 {
		n, err := io.WriteString(w, text[:min(int64(len(text)), left)])
		if left -= int64(n); err != nil {
			return
		}
	}
}

// echo returns what it is told through a WebSocket (RFC 6455).
func echo(w http.ResponseWriter, r *http.Request) {
	conn, err := websocket.Accept(w, r, &websocket.AcceptOptions{InsecureSkipVerify: true}) // from whatever page: nothing depends on who asks
	if err != nil {
		return // it has answered
	}
	defer func() { _ = conn.CloseNow() }()
	for {
		kind, said, err := conn.Read(r.Context())
		if err != nil || conn.Write(r.Context(), kind, said) != nil {
			return
		}
	}
}

// heads are the first bytes of files.
var heads = map[string]string{
	"program": "MZ\x90\x00\x03\x00\x00\x00\x04\x00\x00\x00\xff\xff\x00\x00\xb8\x00\x00\x00", "archive": "7z\xbc\xaf\x27\x1c\x00\x04", "document": "%PDF-1.7\n", "text": "The tide table.\n",
}

// sendFile sends the beginning of a file of the kind that the query says, declared as it says: as type and name, packed where it says so.
func sendFile(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	body := []byte(heads[q.Get("as")] + strings.Repeat("the tide comes in ", 200))
	w.Header().Set("Content-Type", cmp.Or(q.Get("type"), "text/plain; charset=utf-8"))
	if name := q.Get("name"); name != "" {
		w.Header().Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": name}))
	}
	if q.Has("packed") {
		w.Header().Set("Content-Encoding", "gzip")
		packed := gzip.NewWriter(w)
		defer func() { _ = packed.Close() }()
		_, _ = packed.Write(body)
		return
	}
	_, _ = w.Write(body)
}

// sendPage sends a page with the text that the query says.
func sendPage(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_, _ = io.WriteString(w, "<!doctype html><title>An invented site</title><p>"+html.EscapeString(r.URL.Query().Get("text"))+"\n")
}

// sendLatin sends a page in the encoding of many old sites.
func sendLatin(w http.ResponseWriter, host string) {
	w.Header().Set("Content-Type", "text/html; charset=iso-8859-1")
	page := "<!doctype html><title>Caf\xe9 by the mill</title><p>The caf\xe9 of " + host + " opens at eight; cr\xe8me br\xfbl\xe9e on Fridays. An invented site.\n"
	_, _ = io.WriteString(w, page)
}

// linger sends a line a second, for as many seconds as the query says.
func linger(w http.ResponseWriter, r *http.Request) {
	seconds, _ := strconv.Atoi(r.URL.Query().Get("seconds"))
	sent := http.NewResponseController(w)
	for i := range min(seconds, 600) {
		fmt.Fprintf(w, "%d\n", i+1)
		_ = sent.Flush()
		select {
		case <-r.Context().Done():
			return
		case <-time.After(time.Second):
		}
	}
}

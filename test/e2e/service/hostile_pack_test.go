package service

import (
	"archive/tar"
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/packfile"
	"widelark/sealed"
	"widelark/test/e2e/house"
)

// forged builds a pack by hand, signed with a trusted key, as a malicious or careless maker could. A file whose text
// begins with "repeat " is that many mebibytes of the letter a.
func forged(t *testing.T, key ed25519.PrivateKey, change func(*packfile.Content), files ...string) []byte {
	t.Helper()
	c := packfile.Content{Format: 1, Key: "hostile", Name: "Hostile", Version: 1, Date: time.Now().UTC(), Licence: "x", Files: map[string]sealed.File{}}
	open := func(text string) (io.Reader, int64) {
		var mebibytes int64
		if n, _ := fmt.Sscanf(text, "repeat %d", &mebibytes); n == 1 {
			return io.LimitReader(letters{}, mebibytes<<20), mebibytes << 20
		}
		return strings.NewReader(text), int64(len(text))
	}
	for i := 0; i < len(files); i += 2 {
		r, size := open(files[i+1])
		sum := sha256.New()
		_, err := io.Copy(sum, r)
		require.NoError(t, err)
		c.Files[files[i]] = sealed.File{Bytes: size, SHA256: hex.EncodeToString(sum.Sum(nil))}
	}
	if change != nil {
		change(&c)
	}
	signed, err := json.Marshal(c)
	require.NoError(t, err)
	head, err := json.Marshal(map[string]any{"content": json.RawMessage(signed), "signature": map[string]string{
		"key": sealed.KeyText(key.Public().(ed25519.PublicKey)), "ed25519": base64.StdEncoding.EncodeToString(ed25519.Sign(key, signed)),
	}})
	require.NoError(t, err)
	var out bytes.Buffer
	packed, err := zstd.NewWriter(&out)
	require.NoError(t, err)
	w := tar.NewWriter(packed)
	all := append([]string{"manifest.json", string(head)}, files...)
	for i := 0; i < len(all); i += 2 {
		r, size := open(all[i+1])
		require.NoError(t, w.WriteHeader(&tar.Header{Name: all[i], Size: size, Mode: 0o644}))
		_, err := io.Copy(w, r)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	require.NoError(t, packed.Close())
	return out.Bytes()
}

// letters is a reader that repeats the letter a endlessly.
type letters struct{}

var block = bytes.Repeat([]byte{'a'}, 64<<10)

func (letters) Read(p []byte) (int, error) { return copy(p, block), nil }

// No pack stops the service or makes it use too much memory: each bad pack is refused with the reason.
func TestHostilePacks(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	api := s.API(t)
	key := ed25519.NewKeyFromSeed(bytes.Repeat([]byte{11}, ed25519.SeedSize))
	_, err := api.TrustKeyWithResponse(t.Context(), client.TrustInputBody{Key: sealed.KeyText(key.Public().(ed25519.PublicKey)), Name: "Hostile"})
	require.NoError(t, err)
	made, err := api.CreatePackWithResponse(t.Context(), client.NewPackInputBody{Name: "Hostile"})
	require.NoError(t, err)
	id := made.JSON201.ID
	const taxonomy = `{"families":[{"key":"a","name":"A"}],"categories":[{"key":"b","family":"a","name":"B"}]}`
	sites := func(lines string) []string { return []string{"taxonomy.json", taxonomy, "sites.csv", lines} }
	for want, file := range map[string][]byte{
		"longer than it may be":                   forged(t, key, nil, "taxonomy.json", "repeat 600", "sites.csv", ""),
		"manifest.json: longer than it may be":    forged(t, key, func(c *packfile.Content) { c.Licence = strings.Repeat("x", 2<<20) }, sites("")...),
		"the columns [entry categories]":          forged(t, key, nil, sites("repeat 600")...),
		"extraneous or missing":                   forged(t, key, nil, sites("entry,categories\n\""+strings.Repeat("a", 500))...),
		"taxonomy.json is wanted where":           forged(t, key, nil, "../../etc/passwd", "x", "sites.csv", ""),
		"it holds 1 sites, and the manifest says": forged(t, key, func(c *packfile.Content) { c.Sites = 4_000_000_000 }, sites("entry,categories\nheron.example,b\n")...),
		"sites.csv: not as it was signed": forged(t, key, func(c *packfile.Content) {
			f := c.Files["sites.csv"]
			f.Bytes--
			c.Files["sites.csv"] = f
			c.Sites = 1
		}, sites("entry,categories\nheron.example,b\n")...),
		"taxonomy.json: no taxonomy":  forged(t, key, nil, "taxonomy.json", strings.Repeat("[", 100_000), "sites.csv", ""),
		"counts below nothing":        forged(t, key, func(c *packfile.Content) { c.Sites = -1 }, sites("entry,categories\n")...),
		"has to be written":           forged(t, key, nil, sites("entry,categories\nHERON.example,b\n")...),
		"a-z, 0-9 and single hyphens": forged(t, key, nil, "taxonomy.json", `{"families":[{"key":"<script>","name":"A"}]}`, "sites.csv", ""),
		"no pack, or damaged":         bytes.Repeat([]byte{0x28, 0xb5, 0x2f, 0xfd}, 1000),
	} {
		_, err := api.ImportPackWithBodyWithResponse(t.Context(), id, nil, "application/octet-stream", bytes.NewReader(file))
		if assert.Error(t, err, want) {
			assert.Contains(t, err.Error(), want)
			assert.Contains(t, err.Error(), "The last good state stays", want)
		}
	}
	found, err := api.GetPackWithResponse(t.Context(), id)
	require.NoError(t, err)
	assert.Nil(t, found.JSON200.InForce)
	assert.Nil(t, found.JSON200.Progress)
	_, err = api.ImportPackWithBodyWithResponse(t.Context(), id, nil, "application/octet-stream",
		bytes.NewReader(forged(t, key, func(c *packfile.Content) { c.Sites = 1 }, sites("entry,categories\nheron.example,b\n")...)))
	require.NoError(t, err, "a good one is taken after all that")
	look, err := api.LookupUrlsWithResponse(t.Context(), client.LookupsInputBody{Urls: []string{"heron.example", "\x00", "https://\xff.example", strings.Repeat("a", 60_000), "https://" + strings.Repeat("a.", 120) + "example/" + strings.Repeat("x/", 2000)}})
	require.NoError(t, err)
	assert.Equal(t, "B", look.JSON200.Lookups[0].Class.Categories[0].Name)
	detail := true
	for _, url := range []string{"heron.example/" + strings.Repeat("a/", 30_000), "heron.example/[*?x]/**/\"~!#", "heron.example/" + strings.Repeat("*", 5000), "heron.example/%00%ff%F0%9F%98%80/ü/", "[2001:db8::7]/a*"} {
		answer, err := api.LookupUrlsWithResponse(t.Context(), client.LookupsInputBody{Urls: []string{url}, Detail: &detail})
		require.NoError(t, err, url[:16])
		assert.Nil(t, answer.JSON200.Lookups[0].Problem, url[:16])
	}
	assert.Less(t, s.PeakMemory(t), int64(512<<20))
	assert.Equal(t, "answers", string(health(t, api)))

	nul := "a\x00b"
	for what, err := range map[string]error{
		"reason":    second(api.CorrectWithResponse(t.Context(), client.CorrectInputBody{Entries: []string{"a.example"}, Categories: []string{"b"}, Reason: nul})),
		"filter":    second(api.GetCorrectionsWithResponse(t.Context(), &client.GetCorrectionsParams{Text: &nul})),
		"sites":     second(api.GetCategorySitesWithResponse(t.Context(), "b", &client.GetCategorySitesParams{Text: &nul})),
		"scorecard": second(api.CreateScorecardWithResponse(t.Context(), client.NewScorecardInputBody{Name: "x", About: &nul, Category: "b", Threshold: 5, Terms: []client.Term{{Word: "x", Points: 1}}})),
		"pack":      second(api.EditPackWithResponse(t.Context(), id, client.EditPackInputBody{URL: &nul})),
	} {
		assert.ErrorContains(t, err, "The request cannot be carried out", what)
	}
}

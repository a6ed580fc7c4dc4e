package parcel

import (
	"crypto/ecdh"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/internal/revision"
	"widelark/internal/standing"
)

// inMemory has parts in memory.
type inMemory map[Digest][]byte

// Put implements [Parts].
func (p inMemory) Put(d Digest, packed []byte) { p[d] = packed }

// Part implements [Source].
func (p inMemory) Part(d Digest) ([]byte, error) {
	packed, ok := p[d]
	if !ok {
		return nil, fmt.Errorf("%s is not there", d)
	}
	return Decompress(d, packed)
}

var listID = uuid.MustParse("7b0c3f0e-0000-4000-8000-000000000001")

// listOf makes an edition of one list with entries by their ids.
func listOf(t require.TestingT, parts inMemory, version int64, entries map[int64]string, earlier ...*Manifest) *Edition {
	k := maker{parts: parts, before: &Manifest{}}
	sink := &rowSink{}
	for id, line := range entries {
		if e := pattern.MustParse(line); e.Pattern.IsNamed() && e == (pattern.Entry{Pattern: e.Pattern, CarveOut: e.CarveOut}) {
			sink.Named(id, e.Pattern.Name(), e.Pattern.Scope(), e.CarveOut)
		} else {
			sink.Entry(id, e)
		}
	}
	m := &Manifest{Version: version, Objects: k.rows(nil), Lists: []List{{ID: listID, Name: "Betting", Version: version, Count: int64(len(entries)), Entries: k.rows(sink.rows)}}}
	var err error
	m.Schedules, err = k.json([]revision.Schedule{})
	require.NoError(t, err)
	m.Local, err = k.json(local{})
	require.NoError(t, err)
	return &Edition{Manifest: m, Source: parts, Earlier: earlier}
}

// read returns the entries that a reader passes.
type read map[int64]string

// Named implements [revision.EntrySink].
func (r read) Named(id int64, name string, scope pattern.Scope, carveOut bool) {
	r[id] = pattern.Entry{Pattern: pattern.Named(name, scope), CarveOut: carveOut}.String()
}

// Entry implements [revision.EntrySink].
func (r read) Entry(id int64, entry pattern.Entry) { r[id] = entry.String() }

// After any edits, an edition that was made from the one before has the same parts as one that was made of nothing; what is read back is what was put in, whole,
// in stretches and as differences to the edition before; and few parts are new.
func TestEditionsFromTheOneBefore(t *testing.T) {
	ctx := t.Context()
	rapid.Check(t, func(r *rapid.T) {
		parts := inMemory{}
		line := func(id int64, kind string) string {
			switch kind {
			case "glob":
				return fmt.Sprintf("*-%d.heron.*", id)
			case "carve-out":
				return fmt.Sprintf("! site-%d.example", id)
			case "ends":
				return fmt.Sprintf("site-%d.example/x [until 2026-12-24]", id)
			}
			return fmt.Sprintf("site-%d.example", id)
		}
		kinds := rapid.SampledFrom([]string{"", "", "", "glob", "carve-out", "ends"})
		was := map[int64]string{}
		size := rapid.SampledFrom([]int{0, 1, 30, 30, 30, 30, 30, 4000}).Draw(r, "size")
		step := rapid.Int64Range(1, 5).Draw(r, "step")
		for i := range int64(size) {
			was[1+i*step] = line(i, "")
		}
		now := maps.Clone(was)
		for range rapid.IntRange(0, 12).Draw(r, "edits") {
			id := rapid.Int64Range(1, int64(size+2)*step).Draw(r, "id")
			if rapid.Bool().Draw(r, "gone") {
				for until := id + rapid.SampledFrom([]int64{1, 1, 1, 3000}).Draw(r, "many"); id < until; id++ {
					delete(now, id)
				}
			} else {
				now[id] = line(id, kinds.Draw(r, "kind"))
			}
		}
		before := listOf(r, parts, 1, was)
		after := listOf(r, parts, 2, now, before.Manifest)

		made := inMemory{}
		m, err := Make(ctx, after, after.Catalogue(), 1, "UTC", before.Manifest, parts, made)
		require.NoError(r, err)
		require.Equal(r, after.Lists, m.Lists)

		whole, between, changed := read{}, read{}, read{}
		require.NoError(r, after.Entries(ctx, listID, 0, whole))
		require.Equal(r, read(now), whole)
		middle := rapid.Int64Range(0, int64(size+2)*step).Draw(r, "middle")
		require.NoError(r, after.EntriesBetween(ctx, listID, 0, middle, between))
		require.NoError(r, after.EntriesBetween(ctx, listID, middle, 1<<62, between))
		require.Equal(r, read(now), between)
		require.NoError(r, after.Entries(ctx, listID, 1, changed))
		gone, err := after.Gone(ctx, listID, 1)
		require.NoError(r, err)
		again := read(maps.Clone(was))
		for _, id := range gone {
			require.Contains(r, again, id)
			delete(again, id)
		}
		maps.Copy(again, changed)
		require.Equal(r, read(now), again)
		for id, line := range changed {
			require.NotEqual(r, was[id], line, "it did not change")
		}
	})
}

// One entry that is added to a long list changes one of its blocks and the table.
func TestOneEntryIsOneBlock(t *testing.T) {
	parts, entries := inMemory{}, map[int64]string{}
	for i := range int64(60_000) {
		entries[i+1] = fmt.Sprintf("site-%d.example", i)
	}
	before := listOf(t, parts, 1, entries)
	all, err := before.Parts(parts)
	require.NoError(t, err)
	entries[60_001] = "tern.example"
	after := listOf(t, parts, 2, entries)
	more, err := after.Parts(parts)
	require.NoError(t, err)
	fresh := 0
	for _, d := range more {
		if !slices.Contains(all, d) {
			fresh++
		}
	}
	assert.LessOrEqual(t, fresh, 4)
	assert.InDelta(t, 60_000/rowsABlock, len(all), 20)
}

// Whatever a part holds, it is read, or refused with an error.
func FuzzParts(f *testing.F) {
	parts := inMemory{}
	e := listOf(f, parts, 1, map[int64]string{1: "heron.example", 2: "*.tern.test", 7: "! gull.example/x [off]"})
	for d := range parts {
		part, err := parts.Part(d)
		require.NoError(f, err)
		f.Add(part)
	}
	f.Fuzz(func(t *testing.T, part []byte) {
		parts := maps.Clone(parts)
		d, packed := Compress(part)
		parts[d] = packed
		for _, m := range []Manifest{
			{Version: 2, Lists: []List{{ID: listID, Entries: d}}, Objects: d, Schedules: d, Local: d, Packs: []Pack{{ID: listID, Taxonomy: d, Sites: d}}},
		} {
			made := maker{parts: parts, before: &Manifest{}}
			m.Lists = append(m.Lists, List{ID: uuid.Nil, Entries: made.put(encodeTable([]block{{digest: d}}, made.put))})
			read := &Edition{Manifest: &m, Source: parts, Earlier: []*Manifest{e.Manifest}}
			into := readAll{}
			_ = read.Entries(t.Context(), listID, 0, into)
			_ = read.Entries(t.Context(), uuid.Nil, 0, into)
			_ = read.Entries(t.Context(), listID, 1, into)
			_, _ = read.Gone(t.Context(), listID, 1)
			_, _, _ = read.Objects(t.Context(), 0)
			_, _ = read.Local(t.Context())
			_, _ = read.Schedules(t.Context())
			_, _ = read.Catalogue().Taxonomy(t.Context(), listID, 1)
			_ = read.Catalogue().EachSite(t.Context(), listID, 1, into)
		}
	})
}

// readAll takes anything.
type readAll struct{}

func (readAll) Named(int64, string, pattern.Scope, bool)             {}
func (readAll) Entry(int64, pattern.Entry)                           {}
func (readAll) Site(_ int64, _ string, _ bool, _ string) (err error) { return nil }

// A part that is not what its digest says is refused.
func TestDamagedParts(t *testing.T) {
	d, packed := Compress([]byte("heron.example"))
	part, err := Decompress(d, packed)
	require.NoError(t, err)
	assert.Equal(t, "heron.example", string(part))
	_, other := Compress([]byte("tern.example"))
	for _, bad := range [][]byte{nil, packed[:len(packed)-1], other, []byte("no frame")} {
		_, err := Decompress(d, bad)
		assert.ErrorIs(t, err, ErrDamaged)
	}
	var read Digest
	require.NoError(t, read.UnmarshalText([]byte(d.String())))
	assert.Equal(t, d, read)
	assert.Error(t, read.UnmarshalText([]byte("abc")))
	assert.Error(t, read.UnmarshalText([]byte("z"+d.String()[1:])))
}

// A manifest opens with the key that signed it alone, and only as it was.
func TestSigned(t *testing.T) {
	public, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	other, _, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signed, err := Sign(&Manifest{Number: 7, Revision: 3, Zone: "Europe/London"}, key)
	require.NoError(t, err)
	m, err := signed.Open(public)
	require.NoError(t, err)
	assert.Equal(t, &Manifest{Number: 7, Revision: 3, Zone: "Europe/London"}, m)
	_, err = signed.Open(other)
	require.ErrorIs(t, err, ErrSignature)
	renumbered, changed := signed, signed
	renumbered.Number = 8
	_, err = renumbered.Open(public)
	require.ErrorIs(t, err, ErrSignature)
	changed.Manifest = slices.Concat(signed.Manifest, []byte(" "))
	_, err = changed.Open(public)
	require.ErrorIs(t, err, ErrSignature)
	assert.NotEqual(t, signed.Digest(), changed.Digest())
}

// A message opens at its place in its stream alone.
func TestMessages(t *testing.T) {
	public, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	at := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	line, err := SignMessage(&Message{At: at, Edition: 3}, []byte("mine"), 5, key)
	require.NoError(t, err)
	m, err := OpenMessage(line, []byte("mine"), 5, public)
	require.NoError(t, err)
	assert.Equal(t, &Message{At: at, Edition: 3}, m)
	_, err = OpenMessage(line, []byte("mine"), 6, public)
	require.ErrorIs(t, err, ErrSignature)
	_, err = OpenMessage(line, []byte("other"), 5, public)
	require.ErrorIs(t, err, ErrSignature)
	_, err = OpenMessage([]byte("{"), []byte("mine"), 5, public)
	require.Error(t, err)
}

// Facts arrive as they were, at once and by what has changed.
func TestFactsTravel(t *testing.T) {
	at := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	items := func(n int) *standing.Items {
		all := &standing.Items{}
		for i := range n {
			id := uuid.NewSHA1(uuid.NameSpaceDNS, []byte{byte(i)})
			from := at.Add(-time.Duration(i) * time.Minute)
			all.Grants = append(all.Grants, standing.Grant{ID: id, MadeAt: from, MadeBy: "edda", GrantBody: standing.GrantBody{
				Entries: pattern.Keep("heron.example/x"), For: revision.WhomBody{Everybody: true}, Reason: "dosage", Until: at.Add(time.Hour),
			}})
			all.Presences = append(all.Presences, standing.Presence{ID: id, Person: id, Address: netip.MustParseAddr("10.40.9.7"), From: from, Until: at.Add(time.Hour), MadeBy: "edda"})
			all.Passages = append(all.Passages, standing.Passage{ID: id, Rule: id, Person: id, Entries: pattern.Keep("tern.example"), From: from, Until: at.Add(time.Hour)})
			all.Used = append(all.Used, standing.Used{Rule: id, Address: netip.MustParseAddr("10.40.9.7"), Minutes: []int64{int64(i) + 29_000_000}})
		}
		return all
	}
	before, err := FactsOf(items(3))
	require.NoError(t, err)
	fewer := items(5)
	fewer.Grants, fewer.Presences = fewer.Grants[1:], fewer.Presences[2:]
	fewer.Grants[0].EndedAt = &at
	after, err := FactsOf(fewer)
	require.NoError(t, err)

	known := Facts(nil).With(&Message{Whole: true, Put: before})
	put, gone := after.Since(known)
	assert.Len(t, gone, 3)
	known = known.With(travel(t, &Message{Put: put, Gone: gone}))
	assert.Equal(t, after, known)
	got, err := known.Items()
	require.NoError(t, err)
	assert.Equal(t, fewer.Grants, got.Grants)
	assert.Equal(t, fewer.Presences, got.Presences)
	assert.ElementsMatch(t, fewer.Passages, got.Passages)
	assert.ElementsMatch(t, fewer.Used, got.Used)
	assert.Equal(t, policy.Allow, got.Facts().Grants[0].Then)
	put, gone = after.Since(known)
	assert.Empty(t, put)
	assert.Empty(t, gone)
	known["grant x"] = json.RawMessage(`{"grant":7}`)
	others, err := known.Items()
	assert.ErrorContains(t, err, "grant x")
	assert.Equal(t, got.Grants, others.Grants, "one that cannot be read takes no other with it")
}

// travel returns a message as it arrives.
func travel(t *testing.T, m *Message) *Message {
	public, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	line, err := SignMessage(m, nil, 0, key)
	require.NoError(t, err)
	m, err = OpenMessage(line, nil, 0, public)
	require.NoError(t, err)
	return m
}

// What is sealed for a gate opens with its key and for its purpose alone.
func TestSeal(t *testing.T) {
	key, err := ecdh.X25519().GenerateKey(rand.Reader)
	require.NoError(t, err)
	other, err := ecdh.X25519().GenerateKey(rand.Reader)
	require.NoError(t, err)
	sealed, err := Seal(key.PublicKey().Bytes(), "authority", []byte("secret"))
	require.NoError(t, err)
	plain, err := Unseal(key, "authority", sealed)
	require.NoError(t, err)
	assert.Equal(t, "secret", string(plain))
	_, err = Unseal(other, "authority", sealed)
	require.Error(t, err)
	_, err = Unseal(key, "something else", sealed)
	require.Error(t, err)
	_, err = Seal([]byte("short"), "authority", nil)
	assert.ErrorContains(t, err, "the gate's key")
}

func TestReadCode(t *testing.T) {
	private, fingerprint, err := ReadCode(" aaaa-bbbb cccc-DDDD-EEEE-FFFF-GGGG-2222 ")
	require.NoError(t, err)
	assert.Len(t, private, SecretBytes)
	assert.Len(t, fingerprint, SecretBytes)
	for _, bad := range []string{"", "AAAA", "AAAA-BBBB-CCCC-DDDD-EEEE-FFFF-GGGG-2221", "AAAA-BBBB-CCCC-DDDD-EEEE-FFFF-GGGG-2222-AAAA"} {
		_, _, err := ReadCode(bad)
		assert.ErrorIs(t, err, ErrCode, bad)
	}
}

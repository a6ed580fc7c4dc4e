package match

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/core/pattern"
	"widelark/core/weburl"
)

// asHits returns takes in the form of [Index.Cover].
func asHits(x *Index, takes []Take) map[string][]string {
	hits := map[string][]string{}
	for _, t := range takes {
		found := x.Found(t)
		list := x.Lists()[t.List].ID
		hits[list] = append(hits[list], fmt.Sprintf("%s %d %s %v", t.Answer(), found.ID, found.Pattern, t.CarveOut))
	}
	for _, all := range hits {
		slices.Sort(all)
	}
	return hits
}

// Takes agree with Cover, and have the ids and specificities of the entries.
func TestTakes(t *testing.T) {
	lines := []string{
		"heron.example", "=www.heron.example", "*.heron.example", "! heron.example/private", "heron.example/wards", "*heron*", `"wards"`, "~ /wards", "heron.*", "http://heron.example",
		"203.0.113.0/24", "203.0.113.7", "heron.example [until 2026-11-23]", "heron.example [off]", "*",
	}
	urls := []string{"heron.example", "www.heron.example/wards/a", "http://heron.example/private", "203.0.113.7/wards", "other.test"}
	rapid.Check(t, func(t *rapid.T) {
		var lists []List
		for i := range rapid.IntRange(1, 4).Draw(t, "lists") {
			lists = append(lists, list(fmt.Sprint("list", i), rapid.SliceOfN(rapid.SampledFrom(lines), 0, 8).Draw(t, "lines")...))
		}
		x := New(lists)
		u := weburl.MustParse(rapid.SampledFrom(urls).Draw(t, "url"))
		sight := rapid.SampledFrom(weburl.Sights).Draw(t, "sight")
		takes := x.Takes(nil, u, today, sight, true)
		want := map[string][]string{}
		for _, hit := range x.Cover(u, today, sight) {
			for kind, found := range map[string][]Found{"yes false": hit.Covering, "yes true": hit.CarveOuts, "cannot tell false": hit.Unclear, "cannot tell true": hit.UnclearCarveOuts} {
				answer, out, _ := strings.Cut(kind, " ")
				if answer == "cannot" {
					answer, out = "cannot tell", strings.TrimPrefix(out, "tell ")
				}
				for _, f := range found {
					want[hit.List.ID] = append(want[hit.List.ID], fmt.Sprintf("%s %d %s %s", answer, f.ID, f.Pattern, out))
				}
			}
			slices.Sort(want[hit.List.ID])
		}
		require.Equal(t, want, asHits(x, takes))
		require.True(t, slices.IsSortedFunc(takes, func(a, b Take) int { return int(a.List - b.List) }), "list by list")
		for _, take := range takes {
			found := x.Found(take)
			require.Equal(t, found.ID, x.ID(take))
			require.Equal(t, found.Pattern.Specificity(), x.Specificity(take))
		}
		certain := slices.DeleteFunc(slices.Clone(takes), func(t Take) bool { return t.Unclear })
		few := slices.DeleteFunc(x.Takes(nil, u, today, sight, false), func(t Take) bool { return t.Unclear })
		require.Equal(t, asHits(x, certain), asHits(x, few), "what is certain is there either way")
	})
}

// Joined indexes keep their lists apart, in order, also if they share ids.
func TestGather(t *testing.T) {
	a := New([]List{list("one", "heron.example"), list("two", "tern.example")})
	b := New([]List{list("one", "heron.example/wards", "gull.example")})
	x := Gather(a, b, &Index{}, a)
	var ids []string
	for _, ref := range x.Lists() {
		ids = append(ids, ref.ID)
	}
	assert.Equal(t, []string{"one", "two", "one", "one", "two"}, ids)
	var lists []int32
	for _, take := range x.Takes(nil, weburl.MustParse("heron.example/wards"), today, weburl.Full, false) {
		lists = append(lists, take.List)
	}
	assert.Equal(t, []int32{0, 2, 3}, lists)
	joined := Join(a, b, a)
	assert.Len(t, joined.Lists(), 2, "joined, lists of one id are one list")
	assert.Len(t, joined.Takes(nil, weburl.MustParse("heron.example/wards"), today, weburl.Full, false), 3)
	takes := make([]Take, 0, 8)
	u := weburl.MustParse("heron.example/wards")
	assert.Zero(t, testing.AllocsPerRun(100, func() { takes = x.Takes(takes[:0], u, today, weburl.Full, false) }))
}

// The words found in a text are those that a loop over all finds by the rules of the notation.
func TestWords(t *testing.T) {
	words := []string{"bet", "bet*", "*bet*", "free bets", "größe", "a", "c++", "naïve", "être*"}
	var patterns []pattern.Pattern
	for _, word := range words {
		patterns = append(patterns, pattern.MustParse(`"`+word+`"`).Pattern)
	}
	w := NewWords(patterns)
	for text, want := range map[string][]string{
		"":                         nil,
		"Bet!":                     {"bet", "bet*", "*bet*"},
		"better":                   {"bet*", "*bet*"},
		"alphabets":                {"*bet*"},
		"FREE—Bets, a lot":         {"bet*", "*bet*", "free bets", "a"},
		"free  \n bets":            {"bet*", "*bet*", "free bets"},
		"freebets":                 {"*bet*"},
		"Die Größe zählt":          {"größe"},
		"C++ is a language":        {"a", "c++"},
		"so naïve, d’êtres":        {"naïve", "être*"},
		"naive":                    nil,
		"bet1 2bet bet_ _bet ébet": {"bet", "bet*", "*bet*"},
	} {
		var got []string
		for _, i := range w.Find(text) {
			got = append(got, words[i])
		}
		assert.Equal(t, want, got, text)
	}
}

func list(id string, lines ...string) List {
	l := List{ID: id, Name: strings.ToUpper(id)}
	for _, line := range lines {
		l.Entries = append(l.Entries, pattern.MustParse(line))
	}
	return l
}

// What differs between two indexes is what differs between their entries, however much of them they share.
func TestDiffering(t *testing.T) {
	hosts := []string{"heron.example", "gull.test", "tern.example", "=heron.example", "*.gull.test", "! tern.example", "~ odds", "heron.example/a", "h*n.example", "gull.test # until 2026-12-24"}
	rapid.Check(t, func(t *rapid.T) {
		b := NewBuilder(0)
		lists := []int{b.List("a", "A"), b.List("b", "B")}
		var all []string
		for i := range rapid.IntRange(0, 12).Draw(t, "n") {
			n, line := rapid.IntRange(0, 1).Draw(t, "list"), rapid.SampledFrom(hosts).Draw(t, "entry")
			b.Add(lists[n], int64(i), pattern.MustParse(line))
			all = append(all, letters[n]+line)
		}
		base := b.Build()
		made := func(name string) (*Index, map[string]int) {
			x, count := base, map[string]int{}
			gone := map[int64]bool{}
			for i := range all {
				if rapid.IntRange(0, 3).Draw(t, name) == 0 {
					gone[int64(i)] = true
				} else {
					count[all[i]]++
				}
			}
			for id := range gone {
				x = x.Without(id)
			}
			more := NewBuilder(0)
			at := []int{more.List("a", "A"), more.List("b", "B")}
			for i := range rapid.IntRange(0, 3).Draw(t, name+" more") {
				n, line := rapid.IntRange(0, 1).Draw(t, "list"), rapid.SampledFrom(hosts).Draw(t, "entry")
				more.Add(at[n], int64(100+i), pattern.MustParse(line))
				count[letters[n]+line]++
			}
			return Join(x, more.Build()), count
		}
		x, xs := made("x")
		y, ys := made("y")
		var want, got []string
		for key := range xs {
			if xs[key] != ys[key] {
				want = append(want, pattern.MustParse(key[1:]).Pattern.String())
			}
		}
		for key := range ys {
			if xs[key] == 0 {
				want = append(want, pattern.MustParse(key[1:]).Pattern.String())
			}
		}
		require.True(t, x.Differing(y, 1000, func(p pattern.Pattern) { got = append(got, p.String()) }))
		require.ElementsMatch(t, want, got)
		require.True(t, x.Differing(x, 0, func(pattern.Pattern) { require.Fail(t, "nothing differs") }))
	})
}

var letters = []string{"a", "b"}

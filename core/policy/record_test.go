package policy

import (
	"fmt"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/core/classify"
	"widelark/core/directory"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/weburl"
)

var noon = time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)

// What a record says of a decision is what its trace says.
func TestRecordAgreesWithTheTrace(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := drawNaive(t)
		for i := range n.Policies {
			n.Policies[i].Records = Recording{Amount: rapid.SampledFrom(append([]Amount{""}, Amounts...)).Draw(t, "amount"), Words: rapid.Bool().Draw(t, "words")}
		}
		s := n.snapshot()
		var w Work
		d := s.Decide(&w, &n.r, n.at)
		made := s.Record(&w, &n.r, n.at, d)
		e := s.Explain(&w, &n.r, n.at)
		require.Equal(t, d, e.Decision)
		if e.Decider >= 0 {
			step := e.Steps[e.Decider]
			require.Equal(t, step.PolicyID, made.Policy)
			require.Equal(t, step.RuleID, made.Rule)
			switch step.Rung {
			case AtException, AtUnlocked:
				require.Equal(t, step.ID, made.Exception)
				if step.Rung == AtException {
					require.Equal(t, step.Evidence[0].Entry.String(), made.Entry)
				}
			case AtStint:
				require.Equal(t, step.ID, made.Stint)
			default:
				list, entry := "", ""
				for _, found := range step.Evidence {
					if found.Op == InList && found.Entry != nil {
						list, entry = found.List.ID, found.Entry.Pattern.String()
						break
					}
					if found.Op == Is {
						if found.Given != nil {
							list, entry = found.Given.List.ID, found.Given.Entry.Pattern.String()
						}
						break
					}
				}
				require.Equal(t, list, made.List)
				require.Equal(t, entry, made.Entry)
			}
		}
		require.ElementsMatch(t, e.Class.Categories, made.Categories)
		require.Equal(t, e.Class.By, made.Source)
		network := ""
		if e.Network != nil {
			network = e.Network.ID
		}
		require.Equal(t, network, made.Network)
		var notes []string
		for _, note := range e.Notes {
			notes = append(notes, note.RuleID)
		}
		require.Equal(t, notes, made.Notes)

		least, words := Everything, len(e.Policies) > 0
		for _, p := range n.Policies {
			if slices.ContainsFunc(e.Policies, func(r match.Ref) bool { return r.ID == p.ID }) {
				least, words = Amounts[max(slices.Index(Amounts, least), slices.Index(Amounts, p.Records.Amount))], words && p.Records.Words
			}
		}
		require.Equal(t, least, made.Amount)
		if !words || least != Everything || w.sight != weburl.Full {
			require.Empty(t, made.Searched)
		} else {
			require.Equal(t, s.Searched(n.r.URL), made.Searched)
		}
		for _, g := range e.Groups {
			require.True(t, made.Amount == GroupOnly || slices.Contains(made.Groups, g.ID))
		}
	})
}

// A record of a group names groups of five members or more alone, persons and addresses counted, directly or not.
func TestSmallGroupsAreNotNamed(t *testing.T) {
	var people []directory.Person
	of := func(from, until int) (ids []string) {
		for i := from; i < until; i++ {
			ids = append(ids, fmt.Sprint("p", i))
		}
		return ids
	}
	for _, id := range of(0, 12) {
		people = append(people, directory.Person{ID: id, Name: id})
	}
	d := directory.New(people, []directory.Group{
		{ID: "four", Persons: of(0, 4)},
		{ID: "five", Persons: of(0, 5)},
		{ID: "nested", Persons: of(0, 1), Groups: []string{"other"}},
		{ID: "other", Persons: of(1, 6)},
		{ID: "room", Ranges: []netip.Prefix{netip.MustParsePrefix("10.40.9.0/29")}},
		{ID: "desk", Ranges: []netip.Prefix{netip.MustParsePrefix("10.40.9.7/32")}},
		{ID: "floor", Networks: []string{"n"}},
	}, []directory.Network{{ID: "n", Name: "Floor", Ranges: []netip.Prefix{netip.MustParsePrefix("10.40.9.4/30")}}}).
		WithMachines([]directory.Machine{{ID: "m", Name: "desk-7", Addr: netip.MustParseAddr("10.40.9.7")}})
	config := Config{Directory: d, Zone: time.UTC, Fallback: &Policy{ID: "f", Otherwise: Allow, Records: Recording{Amount: Everything, Words: true}}}
	u, err := weburl.Parse("http://find.example/?q=tide")
	require.NoError(t, err)
	r := &Request{URL: u, Person: "p0", Addr: netip.MustParseAddr("10.40.9.7")}
	var w Work
	record := func() Recorded {
		s := New(config)
		return s.Record(&w, r, noon, s.Decide(&w, r, noon))
	}
	made := record()
	assert.ElementsMatch(t, []string{"four", "five", "nested", "room", "desk", "floor"}, made.Groups)
	assert.Equal(t, "m", made.Machine)
	assert.Equal(t, "tide", made.Searched)
	config.Fallback.Records.Amount = GroupOnly
	made = record()
	assert.ElementsMatch(t, []string{"five", "nested", "room"}, made.Groups)
	assert.Empty(t, made.Searched)
	assert.Equal(t, "n", made.Network)
}

// The entry that a record names made the rule hold.
func TestRecordedEntry(t *testing.T) {
	lists := match.New([]match.List{{ID: "l", Name: "Betting", Entries: pattern.Keep("heron.example", "heron.example/x", "! heron.example/y")}})
	pack := match.New([]match.List{{ID: classify.SetID([]string{"gambling"}), Entries: pattern.Keep("tern.test")}})
	config := Config{
		Directory: directory.New(nil, nil, nil), Zone: time.UTC, Lists: lists, Packs: []classify.Pack{{ID: "p", Name: "Pack", Sites: pack}},
		Taxonomy: classify.Taxonomy{Families: []classify.Family{{Key: "play", Name: "Play"}}, Categories: []classify.Category{{Key: "gambling", Name: "Gambling", Family: "play"}}},
		Fallback: &Policy{ID: "f", Otherwise: Allow, Rules: []Rule{
			{ID: "n", Name: "Seen", Then: Note},
			{ID: "r", Name: "Never", Then: Block, If: Cond{Op: Any, Of: []Cond{{Op: InList, Values: []string{"l"}}, {Op: Is, Values: []string{"gambling"}}}}},
		}},
	}
	s := New(config)
	var w Work
	for url, want := range map[string][]string{
		"http://heron.example/":  {"l", "heron.example", "r"},
		"http://heron.example/x": {"l", "heron.example/x", "r"},
		"http://heron.example/y": {"", "", ""},
		"http://tern.test/":      {"", "tern.test", "r"},
		"http://gull.example/":   {"", "", ""},
	} {
		u, err := weburl.Parse(url)
		require.NoError(t, err)
		r := &Request{URL: u}
		made := s.Record(&w, r, noon, s.Decide(&w, r, noon))
		assert.Equal(t, want, []string{made.List, made.Entry, made.Rule}, url)
		assert.Equal(t, []string{"n"}, made.Notes)
		assert.Equal(t, "f", made.Policy)
	}
}

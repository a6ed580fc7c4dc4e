package tidy

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/core/cover"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/weburl"
	"widelark/test/patterntest"
)

func parsed(text string) pattern.Pattern { return pattern.MustParse(text).Pattern }

func TestNearMisses(t *testing.T) {
	for entry, want := range map[string]string{
		"*bank.example":                "https://notbank.example/ -> bank.example",
		"*bank.example/x":              "", // the near miss is about the front page only where that is covered
		"*heron*":                      "https://unheronish.example/ -> ~host (^|[.-])heron([.-]|$); https://bystander.test.heron.example/ -> ",
		"*heron.example*":              "https://notheron.example.evil.test/ -> heron.example",
		"shop-*.heron.example":         `https://shop-x.bystander-y.heron.example/ -> ~host (^|\.)shop-[^.]*\.heron\.example$`,
		"heron.*":                      "https://heron.test/ -> ; https://x.heron.test/ -> =heron.*",
		`"bet"`:                        "",
		`"bet*"`:                       `https://witness.example/beter -> "bet"`,
		`"*bet*"`:                      `https://witness.example/beter -> "bet"; https://witness.example/unbet -> "bet"; https://witness.example/conbeting -> "bet"`,
		"~host ^heron.example$":        `https://heronxexample/ -> ~host ^heron\.example$`,
		`~host heron\.example$`:        `https://notheron.example/ -> ~host (^|\.)heron\.example$`,
		`~host (^|\.)heron\.example`:   `https://heron.example.evil.test/ -> ~host ((^|\.)heron\.example)$`,
		`~host (^|\.)heron\.example$`:  "",
		`~ heron\.example`:             `https://bystander.test/?from=heron.example -> ~host (^|\.)heron\.example$`,
		`~path ^/wards/[0-9]+$`:        "",
		`~host ^(play|m)\.reed\.test$`: "",
		`~host video.mirror\.test$`:    `https://videoxmirror.test/ -> ~host video\.mirror\.test$; https://notvideo.mirror.test/ -> ~host (^|\.)video\.mirror\.test$`,
		"heron.example":                "",
		"203.0.113.0/24":               "",
	} {
		var told []string
		for _, miss := range NearMisses(parsed(entry)) {
			told = append(told, miss.URL+" -> "+miss.Tighter)
			assert.NotEmpty(t, miss.Why)
		}
		assert.Equal(t, want, strings.Join(told, "; "), entry)
	}
}

func TestExamine(t *testing.T) {
	today := pattern.Date{Year: 2026, Month: 11, Day: 23}
	lists := []match.List{
		{ID: "betting", Name: "Betting", Entries: entries("heron.example", "www.heron.example", "heron.example/x", "! bittern.example", "=bittern.example", "ended.example [until 2026-11-22]",
			"crane.example [until 2026-12-01]", "www.crane.example", "http://egret.example", "http://egret.example:80", "off.example [off]", "=off.example", "# note", "~path ^/[0-9]+$")},
		{ID: "care", Name: "Care", Entries: entries("www.heron.example", "egret.example")},
	}
	x := &Examiner{Index: match.New(lists), Today: today, Opposed: func(list, other string) string {
		if list == "care" || other == "care" {
			return "the policy says block to one and allow to the other"
		}
		return ""
	}}
	var told []string
	for _, list := range lists {
		for i, e := range list.Entries {
			for _, f := range x.Examine(match.Ref{ID: list.ID, Name: list.Name}, match.Found{ID: int64(i), Entry: e}) {
				by := "-"
				if f.By != nil {
					by = f.By.Pattern.String()
					assert.True(t, cover.Covers(f.By.Pattern, weburl.MustParse(f.Shown)))
				}
				told = append(told, fmt.Sprintf("%s: %s %s by %s", list.ID, f.Entry.Pattern, f.Kind, by))
			}
		}
	}
	assert.Equal(t, []string{
		"betting: www.heron.example covered by heron.example", "betting: www.heron.example contradict by www.heron.example",
		"betting: heron.example/x covered by heron.example",
		"betting: =bittern.example undone by bittern.example", "betting: ended.example ended by -",
		"betting: http://egret.example contradict by egret.example",
		"betting: http://egret.example:80 covered by http://egret.example", "betting: http://egret.example:80 contradict by egret.example",
		"betting: ~path ^/[0-9]+$ costly by -",
		"care: www.heron.example contradict by www.heron.example",
	}, told)
}

func entries(lines ...string) []pattern.Entry {
	all := make([]pattern.Entry, len(lines))
	for i, line := range lines {
		all[i] = pattern.MustParse(line)
	}
	return all
}

// Removing all absorbable entries at once leaves what a list covers unchanged.
func TestAbsorbingChangesNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var list match.List
		for range rapid.IntRange(2, 8).Draw(t, "entries") {
			e := pattern.Entry{Pattern: patterntest.Any(t, "entry"), CarveOut: rapid.IntRange(0, 4).Draw(t, "carve-out") == 0}
			list.Entries = append(list.Entries, e)
		}
		before := match.New([]match.List{list})
		x := &Examiner{Index: before, Opposed: func(string, string) string { return "" }}
		var gone []int64
		for i, e := range list.Entries {
			for _, f := range x.Examine(match.Ref{}, match.Found{ID: int64(i), Entry: e}) {
				if f.Kind.Absorbable() {
					gone = append(gone, int64(i))
				}
			}
		}
		after := before.Without(gone...)
		for i := range list.Entries {
			u, ok := cover.Witness(list.Entries[i].Pattern)
			require.True(t, ok || list.Entries[i].Pattern.Kind() == pattern.Regex)
			if ok {
				assert.Equal(t, before.Covered(u, pattern.Date{}), after.Covered(u, pattern.Date{}), "%s in %v without %v", u, list.Entries, gone)
			}
		}
	})
}

// checkMisses checks that every near miss and every witness of a pattern is one.
func checkMisses(t assert.TestingT, p pattern.Pattern) {
	for _, miss := range NearMisses(p) {
		u := weburl.MustParse(miss.URL)
		assert.True(t, cover.Covers(p, u), "%s covers %s", p, miss.URL)
		if miss.Tighter != "" {
			assert.False(t, cover.Covers(parsed(miss.Tighter), u), "%s, tighter than %s, covers %s", miss.Tighter, p, miss.URL)
		}
	}
	if u, ok := cover.Witness(p); ok {
		assert.True(t, cover.Covers(p, u), "%s covers %s", p, u)
	}
}

func TestNearMissesHold(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		checkMisses(t, patterntest.Any(t, "pattern"))
		expr := rapid.StringMatching(`\^?(\(\^\|\\\.\))?[ab]{1,3}(\.|\\\.|-)[ab]{1,3}(\\\.|\.)example\$?`).Draw(t, "expression")
		entry, err := pattern.Parse(rapid.SampledFrom([]string{"~host ", "~ ", "~path "}).Draw(t, "on") + expr)
		if err == nil { // some cannot match
			checkMisses(t, entry.Pattern)
		}
	})
}

func FuzzNearMisses(f *testing.F) {
	f.Add("*heron.example")           // no boundary before the name
	f.Add("~host heron.example")      // a bare dot, and no end
	f.Add(`~ (play|m)\.heron\.test/`) // a choice
	f.Add(`"*bet*"`)
	f.Add("shop-*.a*.heron.*/x?y=*")
	f.Fuzz(func(t *testing.T, line string) {
		e, err := pattern.Parse(line)
		if err != nil || !e.Pattern.IsValid() {
			return
		}
		checkMisses(t, e.Pattern)
		assert.True(t, whollyCovers(e.Pattern, e.Pattern), line)
	})
}

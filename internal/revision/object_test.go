package revision

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/core/classify"
	"widelark/core/pattern"
	"widelark/core/policy"
)

func drawRef(t *rapid.T) Ref {
	n := rapid.IntRange(1, 5).Draw(t, "ref")
	return Ref{ID: uuid.MustParse(fmt.Sprintf("00000000-0000-0000-0000-%012d", n)), Name: fmt.Sprint("Name ", n)}
}

func drawRefs(t *rapid.T) []Ref {
	return rapid.SliceOfN(rapid.Custom(drawRef), 1, 3).Draw(t, "refs")
}

func drawCondition(t *rapid.T, depth int) Condition {
	some := func(pool ...string) []string {
		return rapid.SliceOfN(rapid.SampledFrom(pool), 1, 3).Draw(t, "values")
	}
	kinds := 8
	if depth > 0 {
		kinds = 11
	}
	switch rapid.IntRange(0, kinds-1).Draw(t, "kind") {
	case 0:
		return Condition{Lists: drawRefs(t)}
	case 1:
		return Condition{Categories: some("games", "news")}
	case 2:
		return Condition{Apps: some("share", "share/upload")}
	case 3:
		return Condition{Traits: some("unrated", "raw-address")}
	case 4:
		return Condition{Methods: some("post", " PUT ", "GET")}
	case 5:
		return Condition{Files: some("archives", ".ZIP", " .iso")}
	case 6:
		return Condition{Search: some("odds", `"late odds"`, "bet*")}
	case 7:
		return Condition{Score: &ScoreBody{Scorecard: drawRef(t), AtLeast: rapid.IntRange(0, 9).Draw(t, "points")}}
	}
	parts := make([]Condition, rapid.IntRange(1, 3).Draw(t, "parts"))
	for i := range parts {
		parts[i] = drawCondition(t, depth-1)
	}
	return rapid.SampledFrom([]Condition{{All: parts}, {Any: parts}, {None: parts}}).Draw(t, "joint")
}

func drawPolicy(t *rapid.T) PolicyBody {
	b := PolicyBody{Description: rapid.SampledFrom([]string{"", "Wards"}).Draw(t, "about"), Otherwise: rapid.SampledFrom(policy.Verdicts).Draw(t, "otherwise"), Groups: drawRefs(t)}
	for i := range rapid.IntRange(0, 3).Draw(t, "rules") {
		r := RuleBody{Name: fmt.Sprint(" rule ", i), Off: rapid.Bool().Draw(t, "off"), Then: rapid.SampledFrom(append(policy.Verdicts, policy.Note)).Draw(t, "then")}
		if rapid.Bool().Draw(t, "asks") {
			c := drawCondition(t, 2)
			r.If = &c
		}
		if rapid.Bool().Draw(t, "times") {
			r.When = &WhenBody{Schedule: drawRef(t), Outside: rapid.Bool().Draw(t, "outside")}
		}
		if r.Then == policy.Allow {
			r.With = &ProvisosBody{SafeSearch: rapid.Bool().Draw(t, "safe"), MaxBytes: rapid.Int64Range(0, 9).Draw(t, "bytes")}
		}
		b.Rules = append(b.Rules, r)
	}
	return b
}

// Checked bodies are stored and read back unchanged, and pass the check again; only the names of references are left out.
func TestBodiesAreKept(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		b := drawPolicy(t)
		require.NoError(t, b.Check())
		text, err := Encode(&b)
		require.NoError(t, err)
		again, err := Decode[PolicyBody](Object{Kind: KindPolicy, Body: text})
		require.NoError(t, err)
		once, err := json.Marshal(again)
		require.NoError(t, err)
		require.JSONEq(t, string(text), string(once))
		require.NoError(t, again.Check(), "what is checked is right")
		twice, err := json.Marshal(again)
		require.NoError(t, err)
		require.JSONEq(t, string(once), string(twice), "checking again changes nothing")

		var given, kept []uuid.UUID
		b.Refs(func(_ string, _ Kind, ref *Ref) {
			require.NotEmpty(t, ref.Name, "the names of what was given stay")
			given = append(given, ref.ID)
		})
		again.Refs(func(_ string, _ Kind, ref *Ref) {
			require.Empty(t, ref.Name)
			kept = append(kept, ref.ID)
		})
		require.ElementsMatch(t, given, kept)

		// The core gets the same rules, in order.
		core := again.Policy(Meta{Name: "P"}, &Asides{})
		require.Len(t, core.Rules, len(b.Rules))
		for i, r := range core.Rules {
			require.Equal(t, b.Rules[i].Name, r.Name)
			require.Equal(t, b.Rules[i].If == nil, r.If.Op == "")
			require.Equal(t, b.Rules[i].When != nil, r.When.Schedule != "")
			require.NotEmpty(t, r.Sentence(policy.Names{}))
		}
	})
}

func TestMove(t *testing.T) {
	a, b, c := uuid.New(), uuid.New(), uuid.New()
	p := PersonBody{Groups: []Ref{{ID: a}, {ID: b}}}
	assert.False(t, p.Move([]uuid.UUID{a}, nil), "they are in it")
	assert.False(t, p.Move(nil, []uuid.UUID{c}))
	assert.True(t, p.Move([]uuid.UUID{c}, []uuid.UUID{a}))
	assert.Equal(t, []Ref{{ID: b}, {ID: c}}, p.Groups)
	assert.False(t, p.Move([]uuid.UUID{b}, []uuid.UUID{b}), "into and out of the same: they stay")
	assert.True(t, p.Move(nil, []uuid.UUID{b, c}))
	assert.Empty(t, p.Groups)
}

func TestParseRange(t *testing.T) {
	for text, want := range map[string]string{
		"10.40.9.7": "10.40.9.7", " 10.40.9.7/24 ": "10.40.9.0/24", "::ffff:10.40.9.7": "10.40.9.7", "::ffff:10.40.0.0/112": "10.40.0.0/16", "2001:DB8::1": "2001:db8::1", "2001:db8::1/32": "2001:db8::/32", "10.40.9.7/32": "10.40.9.7",
	} {
		p, err := ParseRange(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, printRange(p), text)
	}
	for _, text := range []string{"", "10.40", "10.40.9.7/33", "heron.example", "fe80::1%eth0", "10.40.9.7-10.40.9.9"} {
		_, err := ParseRange(text)
		assert.Error(t, err, text)
	}
}

// Every starting point and mode gives rules that pass the check and name only existing categories.
func TestStarts(t *testing.T) {
	full := classify.Taxonomy{
		Families:   []classify.Family{{Key: "dangers", Name: "Dangers", Security: true}, {Key: "leisure", Name: "Leisure"}},
		Categories: []classify.Category{{Key: "malware", Family: "dangers"}, {Key: "betting", Family: "leisure"}, {Key: "games", Family: "leisure"}},
	}
	lists := []Ref{{ID: uuid.New()}}
	for start, want := range map[string]struct {
		rules, bare int
		otherwise   policy.Verdict
	}{
		"careful": {6, 3, policy.Watch}, "balanced": {4, 2, policy.Allow}, "open": {2, 1, policy.Allow}, "only": {1, 1, policy.Block}, "all-but": {1, 1, policy.Allow}, "off": {0, 0, policy.Block},
	} {
		b := StartOf(start, lists, full)
		require.NoError(t, b.Check(), start)
		assert.Len(t, b.Rules, want.rules, start)
		assert.Equal(t, want.otherwise, b.Otherwise, start)
		assert.NotEmpty(t, b.Description)
		require.NoError(t, b.Keys(func(_, key string, _ bool) error {
			_, isFamily := full.Family(key)
			_, isCategory := full.Category(key)
			assert.True(t, isFamily || isCategory, key)
			return nil
		}))
		assert.Len(t, StartOf(start, lists, classify.Taxonomy{}).Rules, want.bare, "%s without a catalogue", start)
	}
}

func TestExceptionForTheCore(t *testing.T) {
	until := time.Date(2026, 11, 28, 0, 0, 0, 987654321, time.FixedZone("x", 3600))
	b := ExceptionBody{Entries: pattern.Keep("HERON.example  # why", "=tern.example/x"), Then: policy.Block, Reason: " x ", For: WhomBody{Persons: []Ref{{ID: uuid.New()}}, Addresses: []string{"10.40.9.7"}}, Until: &until}
	require.NoError(t, b.Check())
	e := b.Exception(Meta{Name: "E"}, &Asides{})
	assert.Equal(t, "2026-11-27T23:00:00Z", e.Until.Format(time.RFC3339Nano), "in UTC, whole seconds")
	assert.Equal(t, []string{"heron.example # why", "=tern.example/x"}, []string{e.Entries[0].String(), e.Entries[1].String()})
	assert.Equal(t, "10.40.9.7/32", e.For.Ranges[0].String())
	assert.Equal(t, "x", e.Reason)
}

func TestAppForTheCore(t *testing.T) {
	b := AppBody{Key: "share", Hosts: pattern.Keep("share.example", "*.share.test"), Activities: []ActivityBody{{Name: "Add files", Methods: []string{" put "}, Paths: []string{"/up", "/files/*/add"}}, {Name: "Look"}}}
	require.NoError(t, b.Check())
	app := b.App(Meta{Name: "Share"}, &Asides{})
	assert.Equal(t, []string{"add-files", "look"}, []string{app.Activities[0].Key, app.Activities[1].Key})
	var lines []string
	for _, e := range app.Activities[0].Entries {
		lines = append(lines, e.String())
	}
	assert.Equal(t, []string{"share.example/up", "*.share.test/up", "share.example/files/*/add", "*.share.test/files/*/add"}, lines)
	assert.Equal(t, []string{"PUT"}, app.Activities[0].Methods)
	assert.Empty(t, app.Activities[1].Entries)
}

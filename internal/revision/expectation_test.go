package revision

import (
	"slices"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/policy"
)

func TestExpectationCheck(t *testing.T) {
	ref := &Ref{ID: uuid.New()}
	expectation := func(change func(*ExpectationBody)) *ExpectationBody {
		b := &ExpectationBody{URLs: []string{"heron.example"}, Verdict: policy.Allow}
		change(b)
		return b
	}
	for want, change := range map[string]func(*ExpectationBody){
		"": func(b *ExpectationBody) { b.Person, b.Address, b.At = ref, "::ffff:10.40.9.7", " tue 12:30 " },
		"urls: an expectation is about one URL at least": func(b *ExpectationBody) { b.URLs = nil },
		"urls[1]: ": func(b *ExpectationBody) { b.URLs = []string{"heron.example", "ftp://heron.example"} },
		`address: "10.40" is not an address, as 10.40.9.7`:                          func(b *ExpectationBody) { b.Address = "10.40" },
		"group: a person has groups of their own: name a person or a group":         func(b *ExpectationBody) { b.Person, b.Group = ref, ref },
		"schedule: give a moment or a schedule, not both":                           func(b *ExpectationBody) { b.At, b.Schedule = "12:30", ref },
		"outside: outside what? Name a schedule":                                    func(b *ExpectationBody) { b.Outside = true },
		`at: "whenever" is not a moment`:                                            func(b *ExpectationBody) { b.At = "whenever" },
		"sight: there are name, tunnel and full":                                    func(b *ExpectationBody) { b.Sight = "blind" },
		`verdict: "maybe" is not a verdict: there are allow, watch, hold and block`: func(b *ExpectationBody) { b.Verdict = "maybe" },
	} {
		b := expectation(change)
		err := b.Check()
		if want == "" {
			require.NoError(t, err)
			assert.Equal(t, []string{"10.40.9.7", "tue 12:30"}, []string{b.Address, b.At}, "as it is kept")
			continue
		}
		assert.ErrorContains(t, err, want)
		var field *FieldError
		assert.ErrorAs(t, err, &field)
	}
	visited := map[string]Kind{}
	b := expectation(func(b *ExpectationBody) { b.Person, b.Group, b.Schedule = ref, ref, ref })
	b.Refs(func(field string, kind Kind, _ *Ref) { visited[field] = kind })
	assert.Equal(t, map[string]Kind{"person": KindPerson, "group": KindGroup, "schedule": KindSchedule}, visited)
}

func TestExpectationSentence(t *testing.T) {
	kay, nurses, office := Ref{ID: uuid.New()}, Ref{ID: uuid.New()}, Ref{ID: uuid.New()}
	name := func(r Ref) string {
		return map[uuid.UUID]string{kay.ID: "Kay Moran", nurses.ID: "Ward nurses", office.ID: "Office hours"}[r.ID]
	}
	for want, b := range map[string]ExpectationBody{
		"Somebody unknown gets allow for a.example.":                                                  {},
		"Kay Moran at 10.40.9.7 gets allow for a.example, tue 12:30.":                                 {Person: &kay, Address: "10.40.9.7", At: "tue 12:30"},
		"A member of Ward nurses gets allow for a.example and 1 more, outside Office hours.":          {URLs: []string{"a.example", "b.example"}, Group: &nurses, Schedule: &office, Outside: true},
		"10.40.9.7 gets allow for a.example, in Office hours, at the sight name.":                     {Address: "10.40.9.7", Schedule: &office, Sight: "name"},
		`Somebody unknown gets allow for a.example, as news, by the rule "Papers", with safe search.`: {Category: "news", Rule: "Papers", With: &ProvisosBody{SafeSearch: true}},
	} {
		if b.URLs == nil {
			b.URLs = []string{"a.example"}
		}
		b.Verdict = policy.Allow
		assert.Equal(t, want, b.Sentence(name))
	}
}

// References are read as ids with names, as in the API, and as plain names, as in files.
func TestRefsAreNamesInFiles(t *testing.T) {
	id := uuid.New()
	o := Object{Kind: KindPerson, Body: []byte(`{"fullName": "Kay Moran", "groups": [{"id": "` + id.String() + `", "name": "Ward nurses"}, "Night ward"]}`)}
	body, err := o.Decoded()
	require.NoError(t, err)
	assert.Equal(t, []Ref{{ID: id, Name: "Ward nurses"}, {Name: "Night ward"}}, body.(*PersonBody).Groups)
	for _, kind := range Kinds {
		if slices.Contains([]Kind{KindList, KindSchedule, KindCategory, KindScorecard, KindCorrection}, kind) {
			continue // kept in tables of their own
		}
		body, err := Object{Kind: kind, Body: []byte("{}")}.Decoded()
		require.NoError(t, err, kind)
		assert.NotNil(t, body)
		_, err = Object{Kind: kind, Body: []byte(`{"groups": 7}`), Meta: Meta{Name: "x"}}.Decoded()
		if kind == KindPerson || kind == KindGroup || kind == KindPolicy {
			assert.ErrorContains(t, err, `the `+string(kind)+` "x" cannot be read any more`)
		}
	}
	_, err = Object{Kind: KindList, Body: []byte("{}")}.Decoded()
	assert.ErrorContains(t, err, "bug: ")
}

func TestCheckNote(t *testing.T) {
	note, err := CheckNote("  supplier portals \n")
	require.NoError(t, err)
	assert.Equal(t, "supplier portals", note)
	_, err = CheckNote(" ")
	assert.ErrorContains(t, err, "note: say what this revision is for")
	_, err = CheckNote(string(make([]byte, MaxDescription+1)))
	assert.ErrorContains(t, err, "note: longer than 2000 characters")
}

package revision

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/pattern"
	"widelark/core/policy"
)

func TestEngineBody(t *testing.T) {
	b := EngineBody{
		Hosts: pattern.Keep("find.lark-search.example", "*.lark.test # all of them"), Words: []string{" q ", "words", "q"}, Safe: &SafeBody{By: policy.ByHeader, Name: " Deepwater-Filter ", Value: " strict"},
	}
	require.NoError(t, b.Check())
	assert.Equal(t, []string{"q", "words"}, b.Words)
	var asides Asides
	e := b.Engine(Meta{Name: "Lark"}, &asides)
	assert.Equal(t, policy.Safe{By: policy.ByHeader, Name: "Deepwater-Filter", Value: "strict"}, e.Safe)
	assert.Len(t, e.Entries, 2)
	assert.Empty(t, asides)

	b.Safe = &SafeBody{By: policy.ByHost, Name: "x", Value: " Calm.Lark.TEST. "}
	require.NoError(t, b.Check())
	assert.Equal(t, SafeBody{By: policy.ByHost, Value: "calm.lark.test"}, *b.Safe)
	b.Safe, b.Words = nil, nil
	require.NoError(t, b.Check())
	assert.Equal(t, policy.Safe{}, new(b).Engine(Meta{}, &asides).Safe)
}

func TestAsksEngines(t *testing.T) {
	search := Condition{Search: []string{`"odds"`}}
	for want, rules := range map[bool][]RuleBody{
		true:  {{With: &ProvisosBody{SafeSearch: true}}, {If: &search}, {If: &Condition{All: []Condition{{Methods: []string{"GET"}}, {None: []Condition{search}}}}}, {If: &Condition{Any: []Condition{search}}}},
		false: {{}, {With: &ProvisosBody{NoUploads: true}}, {If: &Condition{All: []Condition{{Methods: []string{"GET"}}}}}},
	} {
		for _, r := range rules {
			assert.Equal(t, want, (&PolicyBody{Rules: []RuleBody{{}, r}}).AsksEngines(), "%+v", r)
		}
	}
}

func TestEngineBodyRefuses(t *testing.T) {
	hosts := pattern.Keep("lark.example")
	safe := func(by policy.SafeBy, name, value string) EngineBody {
		return EngineBody{Hosts: hosts, Safe: &SafeBody{by, name, value}}
	}
	for want, b := range map[string]EngineBody{
		"hosts: an engine without hosts is never met": {},
		"hosts[0]: ": {Hosts: pattern.Keep("lark..example")},
		`hosts[0]: "lark.example/find" is about more than hosts`:       {Hosts: pattern.Keep("lark.example/find")},
		`hosts[1]: "! lark.example" is about more than hosts`:          {Hosts: pattern.Keep("lark.test", "! lark.example")},
		`hosts[0]: "lark.example [until 2026-12-24]" has an end`:       {Hosts: pattern.Keep("lark.example [until 2026-12-24]")},
		`hosts[0]: "lark.example [off]" has an end or is switched off`: {Hosts: pattern.Keep("lark.example [off]")},
		`words[1]: "a=b" is not the name of a parameter`:               {Hosts: hosts, Words: []string{"q", "a=b"}},
		`words[0]: "" is not the name of a parameter`:                  {Hosts: hosts, Words: []string{" "}},
		"safe.name: which parameter?":                                  safe(policy.ByParameter, " ", "1"),
		`safe.name: "a b" is not the name of a header field`:           safe(policy.ByHeader, "a b", "1"),
		"safe.name: Content-Length is not for engines":                 safe(policy.ByHeader, "Content-Length", "1"),
		`safe.value: "a\nb" cannot be the value of a header field`:     safe(policy.ByHeader, "Filter", "a\nb"),
		`safe.value: "" cannot be the value`:                           safe(policy.ByHeader, "Filter", ""),
		`safe.value: "lark.example/x" is not a host`:                   safe(policy.ByHost, "", "lark.example/x"),
		`safe.value: "lark.example:80" is not a host`:                  safe(policy.ByHost, "", "lark.example:80"),
		`safe.value: "203.0.113.7" is not a host`:                      safe(policy.ByHost, "", "203.0.113.7"),
		`safe.by: "magic" is none of parameter, header, host`:          safe("magic", "", ""),
		"description: longer than":                                     {Hosts: hosts, Description: strings.Repeat("x", MaxDescription+1)},
	} {
		assert.ErrorContains(t, b.Check(), want)
	}
}

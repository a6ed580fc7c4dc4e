package configfile

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/internal/revision"
)

// small is a configuration with one object of each kind.
func small(t *testing.T) (Source, map[string]uuid.UUID) {
	t.Helper()
	ids := map[string]uuid.UUID{}
	s := Source{Names: map[uuid.UUID]string{}}
	add := func(kind revision.Kind, name string, body any) {
		text, err := json.Marshal(body)
		require.NoError(t, err)
		id := uuid.New()
		ids[name] = id
		s.Names[id] = name
		s.Objects = append(s.Objects, revision.Object{Kind: kind, Meta: revision.Meta{ID: id, Name: name}, Body: text})
	}
	ref := func(name string) revision.Ref { return revision.Ref{ID: ids[name]} }
	row := func(fields map[string]any) map[string]any { return fields }
	add(revision.KindList, "Betting, bets", row(map[string]any{"description": "x", "colour": "reed", "owner": "", "created_at": "2026-01-01T00:00:00Z"}))
	add(revision.KindSchedule, "Office hours", row(map[string]any{"zone": "Europe/London", "text": "mon-fri 09:00-17:00\nnot on 2026-12-25"}))
	add(revision.KindCategory, "Ward links", row(map[string]any{"key": "ward-links", "lists": []string{ids["Betting, bets"].String()}, "adds": true, "family": "", "description": ""}))
	add(revision.KindCorrection, "heron.example", row(map[string]any{"id": 7, "entry": "heron.example", "key": "heron.example", "categories": []string{"news"}, "reason": "It is: a paper.", "by": "edda", "at": "2026-01-01T00:00:00Z"}))
	add(revision.KindScorecard, "Words", row(map[string]any{"category": "adult", "threshold": 10, "terms": []revision.Term{{Word: "no", Points: -3}}, "off": true, "description": ""}))
	add(revision.KindNetwork, "Wards", &revision.NetworkBody{Ranges: []string{"10.40.0.0/16"}})
	add(revision.KindGroup, "Nurses", &revision.GroupBody{Groups: []revision.Ref{}, Networks: []revision.Ref{ref("Wards")}, Machines: []revision.Ref{}, Ranges: []string{}})
	add(revision.KindPerson, "kay.moran", &revision.PersonBody{FullName: "Kay Moran", Groups: []revision.Ref{ref("Nurses")}})
	add(revision.KindPolicy, "Ward: floor", &revision.PolicyBody{Groups: []revision.Ref{ref("Nurses")}, Otherwise: policy.Allow, Rules: []revision.RuleBody{
		{Name: "yes", Then: policy.Block, If: &revision.Condition{All: []revision.Condition{{Lists: []revision.Ref{ref("Betting, bets")}}, {Methods: []string{"POST"}}}}, When: &revision.WhenBody{Schedule: ref("Office hours"), Outside: true}},
	}})
	add(revision.KindMachine, "Ward screen", &revision.MachineBody{Address: "10.40.9.7"})
	add(revision.KindException, "One page", &revision.ExceptionBody{Entries: pattern.Keep("=heron.example/wards # asked for"), Then: policy.Allow, Reason: "x", For: revision.WhomBody{Groups: []revision.Ref{ref("Nurses")}}})
	add(revision.KindApp, "Share", &revision.AppBody{Key: "share", Hosts: pattern.Keep("share.example", "*.share.test"), Activities: []revision.ActivityBody{{Key: "up", Name: "Up", Methods: []string{"PUT"}, Paths: []string{"/up"}}}})
	add(revision.KindEngine, "Find the Lark", &revision.EngineBody{Hosts: pattern.Keep("find.lark-search.example"), Words: []string{"q"}, Safe: &revision.SafeBody{By: policy.ByParameter, Name: "calm", Value: "1"}})
	add(revision.KindExpectation, "It stays", &revision.ExpectationBody{URLs: []string{"heron.example"}, Person: new(ref("kay.moran")), Verdict: policy.Allow})
	add(revision.KindSettings, "Settings", &revision.SettingsBody{Combining: policy.Strictest, Order: []revision.Ref{ref("Ward: floor")}, Way: policy.ByDNS})
	s.Lists = func(_ uuid.UUID, each func(string) error) error {
		for _, line := range []string{"# by hand", "odds.example [until 2026-12-24] # derby", "! =help.odds.example"} {
			if err := each(line); err != nil {
				return err
			}
		}
		return nil
	}
	return s, ids
}

// A configuration that was written reads back with the same ids; on an empty service it is the same but for the ids; and written again it is
// the same, byte for byte.
func TestRoundTrip(t *testing.T) {
	t.Parallel()
	s, ids := small(t)
	files, err := Write(s)
	require.NoError(t, err)
	assert.Contains(t, files["policies.yaml"], "- name: 'Ward: floor'\n  groups: [Nurses]\n  rules:\n    - name: \"yes\"\n")
	require.Len(t, kinds, len(revision.Kinds))
	for _, k := range kinds {
		assert.True(t, slices.ContainsFunc(s.Objects, func(o revision.Object) bool { return o.Kind == k.kind }), "none is a %s", k.kind)
	}
	assert.Equal(t, "# by hand\nodds.example [until 2026-12-24] # derby\n! =help.odds.example\n", files["lists/betting-bets.txt"])
	for path, text := range files {
		assert.NotContains(t, text, ids["Nurses"].String(), path)
	}
	for name, known := range map[string]Known{"here": {Objects: s.Objects}, "elsewhere": {}} {
		target, err := Read(files, known)
		require.NoError(t, err, name)
		require.Len(t, target.Objects, len(s.Objects))
		again := Source{Objects: target.Objects, Names: map[uuid.UUID]string{}, Lists: func(id uuid.UUID, each func(string) error) error {
			for _, e := range target.Entries[id] {
				if err := each(e.String()); err != nil {
					return err
				}
			}
			return nil
		}}
		for _, o := range target.Objects {
			again.Names[o.ID] = o.Name
			if name == "here" {
				assert.Equal(t, ids[o.Name], o.ID, "%s keeps its id", o.Name)
			} else if o.Kind != revision.KindSettings {
				assert.NotEqual(t, ids[o.Name], o.ID)
			}
		}
		rewritten, err := Write(again)
		require.NoError(t, err)
		assert.Equal(t, files, rewritten, name)
	}
	other, err := Write(s)
	require.NoError(t, err)
	assert.Equal(t, files, other, "the same gives the same")
}

// Every error is reported with its place.
func TestMistakes(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ path, from, to, want string }{
		{"policies.yaml", "otherwise: allow", "otherwize: allow", `policies.yaml:13:3: there is no field "otherwize" here; there are name, description, role, groups, rules, otherwise, inspect`},
		{"policies.yaml", "  otherwise: allow\n", "", `policies.yaml:1:3: the field "otherwise" is missing`},
		{"policies.yaml", "then: block", "then: maybe", `policies.yaml:12:13: "maybe" is not possible for then; there are allow, watch, hold, block, note`},
		{"policies.yaml", "groups: [Nurses]", "groups: Nurses", "policies.yaml:2:11: groups: a list is wanted: lines that begin with a dash"},
		{"policies.yaml", "groups: [Nurses]", "groups: [Doctors]", `policies.yaml:2:12: groups[0]: there is no group "Doctors"`},
		{"policies.yaml", "schedule: Office hours", "schedule: Night", `policies.yaml:6:19: rules[0].when.schedule: there is no schedule "Night"`},
		{"policies.yaml", "methods: [POST]", "methods: [P0ST]", `"P0ST" is not a method of HTTP`},
		{"policies.yaml", "- name: 'Ward: floor'", "- name: Ward\n  otherwise: allow\n- name: ward", `policies.yaml:3:3: "ward" stands in line 1 already`},
		{"scorecards.yaml", "threshold: 10", "threshold: ten", `scorecards.yaml:3:14: threshold: a number is wanted, not "ten"`},
		{"scorecards.yaml", "off: true", "off: 1", `off: true or false is wanted, not "1"`},
		{"schedules.yaml", "mon-fri 09:00", "mon-fri 99:00", "schedules.yaml:3:9: text:"},
		{"schedules.yaml", "zone: Europe/London", "zone: Atlantis", `schedules.yaml:2:9: zone: there is no time zone "Atlantis"`},
		{"lists.yaml", "lists/betting-bets.txt", "lists/bets.txt", `lists.yaml:4:12: entries: the file "lists/bets.txt" is missing`},
		{"lists.yaml", "colour: reed", "colour: red", `"red" is not possible for colour; there are reed, heather`},
		{"lists/betting-bets.txt", "! =help.odds.example", "odds..example", `lists/betting-bets.txt:3:5: found ".."`},
		{"lists/betting-bets.txt", "! =help.odds.example", "ODDS.example", "lists/betting-bets.txt:3:1: odds.example stands in line 2 already"},
		{"people.yaml", "fullName: Kay Moran", "fullName: {first: Kay}", "people.yaml:2:13: fullName: a text is wanted"},
		{"settings.yaml", "combining: strictest", "combining: strictest\n  x: [", "settings.yaml: line"},
		{"corrections.yaml", "reason: 'It is: a paper.'", "reason: ' '", "corrections.yaml:3:11: reason: say why"},
		{"categories.yaml", "lists: ['Betting, bets']", "lists: [Bets]", `there is no list "Bets"`},
	} {
		s, _ := small(t)
		files, err := Write(s)
		require.NoError(t, err)
		require.Contains(t, files[c.path], c.from, c.path)
		files[c.path] = strings.Replace(files[c.path], c.from, c.to, 1)
		_, err = Read(files, Known{})
		if assert.Error(t, err, c.want) {
			assert.Contains(t, err.Error(), c.want)
		}
	}
	s, _ := small(t)
	files, err := Write(s)
	require.NoError(t, err)
	delete(files, "settings.yaml")
	files["rules.yaml"] = "[]"
	_, err = Read(files, Known{})
	assert.ErrorContains(t, err, "settings.yaml: the file is missing")
	assert.ErrorContains(t, err, "rules.yaml: no such file belongs here")
}

// The schema for editors agrees with the checks of reading.
func TestSchema(t *testing.T) {
	t.Parallel()
	var schema struct {
		Defs map[string]struct {
			Type                 string
			Items                map[string]any
			Properties           map[string]any
			AdditionalProperties *bool
		} `json:"$defs"`
	}
	require.NoError(t, json.Unmarshal([]byte(Schema()), &schema))
	for _, k := range kinds {
		def, ok := schema.Defs[strings.TrimSuffix(k.path, ".yaml")]
		require.True(t, ok, k.path)
		if k.kind != revision.KindSettings {
			assert.Equal(t, "array", def.Type)
			assert.NotEmpty(t, def.Items["$ref"])
		}
	}
	for name, def := range schema.Defs {
		if def.Type == "object" {
			require.NotNil(t, def.AdditionalProperties, name)
			assert.False(t, *def.AdditionalProperties, "unknown fields are mistakes")
			assert.NotEmpty(t, def.Properties, name)
		}
	}
	assert.NotContains(t, Schema(), `"id"`)
}

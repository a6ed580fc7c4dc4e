package demo

import (
	"bytes"
	"encoding/json"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
)

// The directory is the same each time, and holds the people of the stories and everybody only once.
func TestPeople(t *testing.T) {
	people := everybody()
	assert.Len(t, people, peopleCount)
	assert.Equal(t, people, everybody())
	ids, members := map[string]bool{}, map[string]int{}
	for _, p := range people {
		assert.False(t, ids[p.uid], p.uid)
		ids[p.uid] = true
		assert.Equal(t, strings.ToLower(strings.ReplaceAll(p.name, " ", ".")), p.uid)
		assert.NotEmpty(t, p.groups, p.uid)
		for _, g := range p.groups {
			members[g]++
			assert.True(t, slices.ContainsFunc(staff, func(s struct {
				name, about string
				share       int
			},
			) bool {
				return s.name == g
			}), g)
			if g == "Night ward" {
				assert.Contains(t, p.groups, "Ward nurses", "who works nights is a ward nurse, too")
			}
		}
	}
	for _, g := range staff {
		assert.Greater(t, members[g.name], 5, g.name)
	}
	file := PeopleLDIF()
	assert.Equal(t, peopleCount, bytes.Count(file, []byte("objectClass: inetOrgPerson")))
	assert.Equal(t, len(staff), bytes.Count(file, []byte("objectClass: groupOfNames")))
}

// Networks overlap only with the one that contains all; machines are in the networks of the stories.
func TestNetworks(t *testing.T) {
	var all netip.Prefix
	for _, n := range networks {
		if n.name == "Quillmere" {
			all = netip.MustParsePrefix(n.ranges)
		}
	}
	for i, a := range networks {
		p := netip.MustParsePrefix(a.ranges)
		assert.Equal(t, p, p.Masked(), a.name)
		assert.True(t, all.Overlaps(p), a.name)
		for _, b := range networks[i+1:] {
			if a.name != "Quillmere" && b.name != "Quillmere" {
				assert.False(t, p.Overlaps(netip.MustParsePrefix(b.ranges)), "%s and %s", a.name, b.name)
			}
		}
	}
	for _, m := range machines {
		assert.True(t, all.Contains(netip.MustParseAddr(m.address)), m.name)
	}
}

// The rules of the demo are JSON in the form of the API, and every name in them belongs to the demo.
func TestPlannedRules(t *testing.T) {
	ids := map[string]uuid.UUID{}
	for _, l := range lists {
		ids["list "+l.name] = uuid.New()
	}
	for _, s := range schedules {
		ids["schedule "+s.name] = uuid.New()
	}
	texts := []string{baselineRules, fallbackRules}
	for _, p := range plannedPolicies {
		texts = append(texts, p.rules)
		if p.inspect != "" {
			require.NoError(t, json.Unmarshal([]byte(p.inspect), &client.InspectionBody{}), p.name)
		}
	}
	asked := 0
	for _, text := range texts {
		rules, err := rulesOf(text, ids)
		require.NoError(t, err, text)
		require.NotEmpty(t, rules)
		for _, r := range rules {
			assert.NotEmpty(t, r.Name)
			if r.If != nil && r.If.Lists != nil {
				for _, ref := range *r.If.Lists {
					assert.NotEqual(t, uuid.Nil, ref.ID)
					asked++
				}
			}
		}
	}
	assert.Greater(t, asked, 5)
	assert.Panics(t, func() { _, _ = rulesOf(`[{"name": "x", "if": {"lists": ["Gone"]}}]`, ids) })
}

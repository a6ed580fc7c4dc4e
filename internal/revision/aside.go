package revision

import (
	"fmt"

	"github.com/google/uuid"

	"widelark/core/pattern"
	"widelark/core/policy"
)

// Aside is something stored that cannot be read: it takes no part in decisions, and everything else works. It is reported
// as a finding, and can be mended or removed like everything else.
type Aside struct {
	Kind    Kind      // of the object; [KindPack] for a pack
	ID      uuid.UUID // of the object
	Name    string    // of the object
	Rule    int       // of a policy, the place of the rule; -1 for none
	Text    string    // as it is kept
	Problem string    // one sentence
}

// KindPack stands for packs of the catalogue, which are not objects of the draft.
const KindPack Kind = "pack"

// Asides collects what is set aside while objects are read.
type Asides []Aside

// Add records that a text of an object cannot be read, and why.
func (a *Asides) Add(kind Kind, meta Meta, text string, why error) {
	*a = append(*a, Aside{Kind: kind, ID: meta.ID, Name: meta.Name, Rule: -1, Text: text, Problem: why.Error()})
}

// AddUnread records an entry that came back as [pattern.Unread].
func (a *Asides) AddUnread(kind Kind, meta Meta, entry pattern.Entry) {
	a.Add(kind, meta, entry.String(), entry.Err())
}

// readable returns the entries of an object that can be read, and records the others.
func (a *Asides) readable(kind Kind, meta Meta, entries []pattern.Entry) (all []pattern.Entry) {
	for _, entry := range entries {
		if entry.Err() != nil {
			a.AddUnread(kind, meta, entry)
			continue
		}
		all = append(all, entry)
	}
	return all
}

// Ranges records which ranges of addresses of an object cannot be read.
func (a *Asides) Ranges(kind Kind, meta Meta, ranges []string) {
	for _, text := range ranges {
		if _, err := ParseRange(text); err != nil {
			a.Add(kind, meta, text, err)
		}
	}
}

// rule reports whether the conditions of a rule can be read. A rule that cannot be read is left out as a whole: without one of its conditions it would mean something
// else.
func (a *Asides) rule(meta Meta, place int, r RuleBody) bool {
	if r.If == nil {
		return true
	}
	err := r.If.readable(fmt.Sprintf("rules[%d].if", place), 0)
	if err == nil {
		return true
	}
	*a = append(*a, Aside{Kind: KindPolicy, ID: meta.ID, Name: meta.Name, Rule: place, Text: r.Name, Problem: err.Error()})
	return false
}

// leftOut takes the place of a rule that cannot be read, so that the other rules keep their places.
func leftOut(r RuleBody) policy.Rule {
	return policy.Rule{ID: r.ID.String(), Name: r.Name, Off: true, Then: policy.Note}
}

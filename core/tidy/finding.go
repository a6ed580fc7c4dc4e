// Package tidy finds faults of lists before anybody complains: entries that other entries make superfluous or undo, and patterns that cover more
// than their author can have meant.
//
// From: entries and a [match.Index].
// To: [Finding] and [NearMiss]. Each finding about coverage carries a URL that shows it.
package tidy

import (
	"fmt"
	"slices"

	"widelark/core/cover"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/weburl"
)

// Kind is a kind of fault of an entry.
type Kind string

// The kinds. Removing the entry mends each.
const (
	Duplicate  Kind = "duplicate"  // another entry of the list means the same in another spelling
	Covered    Kind = "covered"    // another entry of the list covers everything that this one covers
	Undone     Kind = "undone"     // a carve-out of the list takes out everything that this one covers
	Elsewhere  Kind = "elsewhere"  // an entry of another list covers everything that this one covers, which may be intended
	Contradict Kind = "contradict" // the same, where a policy gives the other list the opposite verdict
	Ended      Kind = "ended"      // its last day is past
	Costly     Kind = "costly"     // no literal text narrows down which URLs it can match, so it is tried on every URL
)

// Kinds lists every kind; those that are safe to mend without a further look come first.
var Kinds = []Kind{Duplicate, Covered, Undone, Ended, Contradict, Costly, Elsewhere}

// Absorbable reports whether removing such an entry leaves what its list covers today unchanged.
func (k Kind) Absorbable() bool { return k == Duplicate || k == Covered || k == Undone || k == Ended }

// Finding is a fault of one entry.
type Finding struct {
	Kind    Kind
	Entry   match.Found
	By      *match.Found // the other entry; nil for Ended and Costly
	List    match.Ref    // the list of By
	Shown   string       // a URL that both entries cover; "" for Ended and Costly
	Message string       // one sentence
}

// Examiner examines entries one by one. It is safe for concurrent use.
type Examiner struct {
	Index *match.Index // all lists
	Today pattern.Date

	// Own leaves out findings about the entries of other lists.
	Own bool

	// Opposed returns a clause that names the policy and the two verdicts where two lists contradict each other, and "" otherwise.
	Opposed func(list, other string) string
}

// Examine returns the findings about an entry of a list. Of two entries that cover each other it calls only one absorbable, so all absorbable
// entries can be removed at once.
func (x *Examiner) Examine(list match.Ref, e match.Found) []Finding {
	if e.Off || !e.Pattern.IsValid() {
		return nil
	}
	if !e.InForce(x.Today) {
		return []Finding{{Kind: Ended, Entry: e, Message: fmt.Sprintf("Its last day was %s; since then it does nothing.", e.Until)}}
	}
	var costly []Finding
	if match.Costly(e.Pattern) {
		costly = []Finding{{Kind: Costly, Entry: e, Message: "It names nothing that a URL would have to hold, so it is tried on every one. A few do no harm."}}
	}
	url, ok := cover.Witness(e.Pattern)
	if !ok || x.Index.Count(url, x.Today) < 2 { // only the entry itself covers the URL, as for nearly every entry of a large list
		return costly
	}
	var own, others []Finding
	add := func(to *[]Finding, kind Kind, by *match.Found, in match.Ref, format string, args ...any) {
		if len(*to) == 0 || rank(kind) < rank((*to)[0].Kind) {
			*to = []Finding{{Kind: kind, Entry: e, By: by, List: in, Shown: url.String(), Message: fmt.Sprintf(format, args...)}}
		}
	}
	for _, hit := range x.Index.Cover(url, x.Today, weburl.Full) {
		found := hit.Covering
		if e.CarveOut {
			found = hit.CarveOuts
		}
		if x.Own && hit.List.ID != list.ID {
			continue
		}
		for i := range found {
			by := &found[i]
			if !whollyCovers(by.Pattern, e.Pattern) || !lastsAsLong(by, &e) {
				continue
			}
			if hit.List.ID == list.ID {
				mutual := whollyCovers(e.Pattern, by.Pattern) && lastsAsLong(&e, by)
				switch {
				case by.ID == e.ID:
				case mutual && by.ID < e.ID:
					add(&own, Duplicate, by, hit.List, "%s means the same.", by.String())
				case !mutual:
					add(&own, Covered, by, hit.List, "%s covers all of it.", by.Pattern)
				}
				continue
			}
			if e.CarveOut {
				continue
			}
			if said := x.Opposed(list.ID, hit.List.ID); said != "" {
				add(&others, Contradict, by, hit.List, "%s in %q covers all of it, and %s.", by.Pattern, hit.List.Name, said)
			} else {
				add(&others, Elsewhere, by, hit.List, "%s in %q covers it, too.", by.Pattern, hit.List.Name)
			}
		}
		if hit.List.ID == list.ID && !e.CarveOut {
			for i := range hit.CarveOuts {
				by := &hit.CarveOuts[i]
				if whollyCovers(by.Pattern, e.Pattern) && lastsAsLong(by, &e) {
					add(&own, Undone, by, hit.List, "The carve-out %s takes all of it out again.", by.Pattern)
				}
			}
		}
	}
	return slices.Concat(own, others, costly)
}

func rank(k Kind) int {
	for i, kind := range Kinds {
		if k == kind {
			return i
		}
	}
	return len(Kinds)
}

// lastsAsLong reports whether a is in force at least as long as b.
func lastsAsLong(a, b *match.Found) bool {
	return a.Until.IsZero() || !b.Until.IsZero() && !a.Until.Before(b.Until)
}

// whollyCovers reports whether a covers everything that b covers, for certain.
func whollyCovers(a, b pattern.Pattern) bool { return cover.Of(a, b).Answer == cover.Yes }

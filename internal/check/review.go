package check

import (
	"context"
	"slices"
	"strings"

	"github.com/google/uuid"

	"widelark/core/classify"
	"widelark/core/hands"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/review"
	"widelark/core/tidy"
	"widelark/core/weburl"
	"widelark/internal/edition"
	"widelark/internal/revision"
)

// Recorded gives the pages of the recorded traffic: [upkeep.Examiner].
type Recorded interface {
	Recorded(ctx context.Context) ([]weburl.URL, error)
}

// looked is the examination of a list, with the version that it is valid for.
type looked struct {
	version int64
	day     pattern.Date
	list    review.List
}

// review examines the draft. Lists that were not edited since the last review are not examined again.
func (d *Checker) review(ctx context.Context, h *edition.State) ([]review.Finding, error) {
	draft := review.Draft{Snapshot: h.Snapshot, Now: h.Now(), Named: map[string]bool{}}
	for _, one := range h.Asides() {
		draft.Aside = append(draft.Aside, review.Aside{
			At: review.Place{Kind: string(one.Kind), ID: one.ID.String(), Name: one.Name, Rule: one.Rule}, Text: one.Text, Problem: one.Problem,
		})
	}
	for _, one := range h.Gone() {
		draft.Gone = append(draft.Gone, review.Gone{At: review.Place{Kind: string(one.Kind), ID: one.ID.String(), Name: one.Name, Rule: -1}, Does: one.Does, Person: one.Person})
	}
	var err error
	if draft.Seen, err = d.Traffic.Recorded(ctx); err != nil {
		return nil, err
	}
	if draft.Together, err = d.seenTogether(ctx); err != nil {
		return nil, err
	}
	own, err := d.Categories.OwnCategories(ctx)
	if err != nil {
		return nil, err
	}
	for _, c := range own {
		for _, l := range c.Lists {
			draft.Named[l.ID.String()] = true
		}
	}
	for _, e := range h.Expectations() {
		if e.Body.Schedule != nil {
			draft.Named[e.Body.Schedule.ID.String()] = true
		}
	}
	if draft.Corrections, err = d.corrections(ctx, h); err != nil {
		return nil, err
	}
	today := pattern.DateOf(h.Now().In(h.Zone))
	next := map[uuid.UUID]looked{}
	for _, l := range h.Lists() {
		one, ok := d.looked[l.ID]
		if !ok || one.version != l.Version || one.day != today || one.list.Name != l.Name {
			if one.list, err = d.look(ctx, h, l, today); err != nil {
				return nil, err
			}
			one.version, one.day = l.Version, today
		}
		next[l.ID] = one
		draft.Lists = append(draft.Lists, one.list)
	}
	d.looked = next
	if draft.Unmet, err = d.unmet(ctx, h, own); err != nil {
		return nil, err
	}
	return review.Of(draft), nil
}

// look examines a list.
func (d *Checker) look(ctx context.Context, h *edition.State, l revision.DraftList, today pattern.Date) (review.List, error) {
	var entries []match.Found
	err := d.Lists.EachEntry(ctx, l.ID, func(id int64, entry pattern.Entry) error {
		if entry.Pattern.IsValid() {
			entries = append(entries, match.Found{ID: id, Entry: entry})
		}
		return nil
	})
	if err != nil {
		return review.List{}, err
	}
	x := tidy.Examiner{Index: h.Snapshot.Config().Lists, Today: today, Own: true}
	ref := match.Ref{ID: l.ID.String(), Name: l.Name}
	const share = 4096
	tidied := make([]review.Tidied, (len(entries)+share-1)/share)
	var shared hands.Group
	room := make(chan struct{}, 2) // trials and edits go on beside it
	for i := range tidied {
		room <- struct{}{}
		shared.Go(func() {
			defer func() { <-room }()
			for _, e := range entries[i*share : min((i+1)*share, len(entries))] {
				if ctx.Err() != nil {
					return
				}
				for _, f := range x.Examine(ref, e) {
					if f.Kind.Absorbable() {
						if tidied[i].Superfluous++; tidied[i].Superfluous == 1 {
							tidied[i].First, tidied[i].Message, tidied[i].Shown = e.Pattern.String(), f.Message, f.Shown
						}
					}
				}
				if wide, ok := tooWide(e); ok && !e.CarveOut && e.InForce(today) {
					tidied[i].TooWide = append(tidied[i].TooWide, wide)
				}
			}
		})
	}
	shared.Wait()
	var all review.Tidied
	for _, t := range tidied {
		if all.Superfluous == 0 {
			all.First, all.Message, all.Shown = t.First, t.Message, t.Shown
		}
		all.Superfluous += t.Superfluous
		all.TooWide = append(all.TooWide, t.TooWide...)
	}
	return review.NewList(ref.ID, ref.Name, entries, today, all), ctx.Err()
}

// shortText is the number of letters between two stars up to which they occur in many unrelated names.
const shortText = 5

// tooWide returns what an entry covers that its author can hardly have meant. Globs and words are suspected only if little in them is
// literal; for expressions every near miss counts.
func tooWide(e match.Found) (review.Wide, bool) {
	p := e.Pattern
	switch p.Kind() {
	case pattern.Regex:
	case pattern.Word:
		if text := strings.Trim(p.String(), `"`); !strings.Contains(text, "*") || len(strings.Trim(text, "*")) >= shortText {
			return review.Wide{}, false
		}
	default:
		if !p.IsGlob() || !slices.ContainsFunc(strings.Split(p.Name(), "*"), func(piece string) bool { return piece != "" }) {
			return review.Wide{}, false
		}
		longest := 0
		for piece := range strings.SplitSeq(p.Name(), "*") {
			longest = max(longest, len(piece))
		}
		if longest >= shortText {
			return review.Wide{}, false
		}
	}
	for _, miss := range tidy.NearMisses(p) {
		return review.Wide{Entry: p.String(), Shown: miss.URL, Why: miss.Why, Tighter: miss.Tighter}, true
	}
	return review.Wide{}, false
}

// mostCorrections bounds how many corrections are looked at.
const mostCorrections = 5000

// corrections reports for each correction whether the catalogue says the same without it.
func (d *Checker) corrections(ctx context.Context, h *edition.State) ([]review.Correction, error) {
	found, _, err := d.Categories.Corrections(ctx, "", 0, mostCorrections)
	if err != nil || len(found) == 0 {
		return nil, err
	}
	config := h.Snapshot.Config()
	bare := classify.New(classify.NewLocal(nil, nil, nil), config.Packs, config.Lists)
	today := pattern.DateOf(h.Now().In(h.Zone))
	all := make([]review.Correction, 0, len(found))
	for _, c := range found {
		one := review.Correction{ID: c.UID.String(), Entry: c.Entry.String()}
		if u, ok := review.Witness(c.Entry); ok {
			is := slices.Clone(bare.Explain(u, today, weburl.Full).Categories)
			said := slices.Clone(c.Categories)
			slices.Sort(is)
			slices.Sort(said)
			one.Same, one.Shown = slices.Equal(is, said), u.String()
		}
		all = append(all, one)
	}
	return all, nil
}

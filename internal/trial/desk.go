// Package trial answers what happens to a URL: it keeps the draft compiled in memory and decides on it.
//
// From: the draft, as the store has it.
// To: [Answer], which the API gives out.
package trial

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"widelark/core/classify"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/catalogue"
	"widelark/internal/revision"
)

// Store is where the draft comes from.
type Store interface {
	DraftVersion(ctx context.Context) (draft, catalogue int64, err error)
	ReadDraft(ctx context.Context, read func(revision.DraftReader) error) error
}

// Desk decides trials on the draft as it is at the moment of asking, whoever edited it, by this service or another. It
// is safe for concurrent use.
type Desk struct {
	store Store
	shelf *catalogue.Shelf
	zone  *time.Location
	now   func() time.Time

	compiled atomic.Pointer[compiled] // replaced whole, never edited
	building sync.Mutex               // one build at a time
	merging  atomic.Bool              // a build in the background is under way

	classed atomic.Pointer[classed] // replaced whole, never edited
}

// classed is a classifier with what it was made of.
type classed struct {
	of      *compiled
	loaded  *catalogue.Loaded
	answers *classify.Classifier
}

// NewDesk returns a desk. Days begin and end in zone. now is the clock.
func NewDesk(store Store, shelf *catalogue.Shelf, zone *time.Location, now func() time.Time) *Desk {
	return &Desk{store: store, shelf: shelf, zone: zone, now: now}
}

// Question is what is tried. The zero Group asks for the first policy, the zero Sight for all that there is to see.
type Question struct {
	URLs  []string
	Group string // name or id of a group
	Sight match.Sight
}

// Answer is what happens to one URL.
type Answer struct {
	Input    string
	Problem  string // why the input is no URL; all below is empty then
	URL      weburl.URL
	Decision policy.Decision
	Because  string
	AtFull   policy.Verdict // at a lesser sight, what the verdict would be at full; else empty
	Class    classify.Answer
}

// Answers are the answers to one question, all decided on one version of the draft.
type Answers struct {
	DraftVersion int64
	Policy       revision.Policy
	Answers      []Answer // in the order of the question
}

// Try answers a question. A group that does not exist is a [*revision.FieldError].
func (d *Desk) Try(ctx context.Context, q Question) (Answers, error) {
	c, err := d.current(ctx)
	if err != nil {
		return Answers{}, err
	}
	at := slices.IndexFunc(c.draft.Policies, func(p revision.Policy) bool {
		return q.Group == "" || strings.EqualFold(p.Group.Name, q.Group) || p.Group.ID.String() == strings.ToLower(q.Group)
	})
	if at < 0 {
		return Answers{}, &revision.FieldError{Field: "group", Msg: fmt.Sprintf("there is no policy for a group %q", q.Group)}
	}
	answers := Answers{DraftVersion: c.draft.Version, Policy: c.draft.Policies[at]}
	sight := cmp.Or(q.Sight, match.Full)
	answers.Answers = make([]Answer, len(q.URLs))
	today := pattern.DateOf(d.now().In(d.zone))
	classifier := d.classifier(c)
	taxonomy := classify.Merge(d.shelf.Loaded().Taxonomy, c.own)
	for i, text := range q.URLs {
		if i%256 == 0 && ctx.Err() != nil {
			return Answers{}, ctx.Err()
		}
		a := &answers.Answers[i]
		a.Input = text
		var refused *weburl.Error
		if a.URL, err = weburl.Parse(text); errors.As(err, &refused) {
			a.Problem = refused.Reason
			continue
		}
		a.Class = classifier.Explain(a.URL, today, sight)
		a.Decision = policy.Decide(c.index, c.policies[at], a.URL, policy.Class{Answer: a.Class, Taxonomy: taxonomy}, today, sight)
		if sight != match.Full {
			full := policy.Class{Answer: classifier.Explain(a.URL, today, match.Full), Taxonomy: taxonomy}
			a.AtFull = policy.Decide(c.index, c.policies[at], a.URL, full, today, match.Full).Verdict
		}
		a.Because = a.Decision.Because(c.policies[at])
	}
	return answers, nil
}

// Index returns the lists of the draft, compiled, and the day that it is now where the organisation is.
func (d *Desk) Index(ctx context.Context) (*match.Index, pattern.Date, error) {
	c, err := d.current(ctx)
	if err != nil {
		return nil, pattern.Date{}, err
	}
	return c.index, pattern.DateOf(d.now().In(d.zone)), nil
}

// Classifier returns what says what URLs are, with the catalogue as it is loaded, and the day that it is now where the organisation is.
func (d *Desk) Classifier(ctx context.Context) (*classify.Classifier, pattern.Date, error) {
	c, err := d.current(ctx)
	if err != nil {
		return nil, pattern.Date{}, err
	}
	return d.classifier(c), pattern.DateOf(d.now().In(d.zone)), nil
}

// ClassifierWith returns a classifier of the draft with other packs than those that are loaded.
func (d *Desk) ClassifierWith(ctx context.Context, packs []classify.Pack) (*classify.Classifier, error) {
	c, err := d.current(ctx)
	if err != nil {
		return nil, err
	}
	return classify.New(c.local, packs, c.index), nil
}

// classifier returns the classifier of a compiled draft. It is made again where the draft or the catalogue is another.
func (d *Desk) classifier(c *compiled) *classify.Classifier {
	loaded := d.shelf.Loaded()
	if last := d.classed.Load(); last != nil && last.of == c && last.loaded == loaded {
		return last.answers
	}
	fresh := &classed{c, loaded, classify.New(c.local, loaded.Packs, c.index)}
	d.classed.Store(fresh)
	return fresh.answers
}

// Prepare compiles the draft ahead of the next trial, so that this one need not wait for it.
func (d *Desk) Prepare(ctx context.Context) error {
	_, err := d.current(ctx)
	return err
}

// current returns the draft compiled at its present version.
func (d *Desk) current(ctx context.Context) (*compiled, error) {
	version, shelved, err := d.store.DraftVersion(ctx)
	if err != nil {
		return nil, err
	}
	d.shelf.Notice(shelved)
	if c := d.compiled.Load(); c != nil && c.draft.Version >= version {
		return c, nil
	}
	d.building.Lock()
	defer d.building.Unlock()
	before := d.compiled.Load()
	if before != nil && before.draft.Version >= version {
		return before, nil
	}
	c, err := d.build(ctx, before, mostOverlaid)
	if err != nil {
		return nil, err
	}
	if c.overlaid > mergeFrom && d.merging.CompareAndSwap(false, true) {
		go d.mergeOverlays(context.WithoutCancel(ctx))
	}
	return c, nil
}

func (d *Desk) build(ctx context.Context, before *compiled, most int) (c *compiled, err error) {
	err = d.store.ReadDraft(ctx, func(r revision.DraftReader) error {
		c, err = compile(ctx, r, before, most)
		return err
	})
	if err == nil {
		d.compiled.Store(c)
	}
	return c, err
}

// mergeOverlays compiles anew what has many edits beside it, while trials go on with what there is.
func (d *Desk) mergeOverlays(ctx context.Context) {
	defer d.merging.Store(false)
	ctx, cancel := context.WithTimeout(ctx, 5*time.Minute)
	defer cancel()
	fresh, err := (&Desk{store: d.store, shelf: d.shelf}).build(ctx, d.compiled.Load(), mergeFrom)
	if err != nil {
		return // the next trial that finds much beside the bases begins again
	}
	d.building.Lock()
	defer d.building.Unlock()
	if now := d.compiled.Load(); now.draft.Version <= fresh.draft.Version {
		d.compiled.Store(fresh)
		return
	}
	// Edits came in meanwhile: they go beside the new bases.
	_, _ = d.build(ctx, fresh, mostOverlaid)
}

// Package trial answers what happens to a URL: it keeps the draft compiled in memory and decides on it.
//
// From: the draft, as the store has it.
// To: [Answer], which the API gives out.
package trial

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/weburl"
	"widelark/internal/revision"
)

// Store is where the draft comes from.
type Store interface {
	DraftVersion(ctx context.Context) (int64, error)
	Draft(ctx context.Context, known map[uuid.UUID]int64) (revision.Draft, error)
}

// Desk decides trials on the draft as it is at the moment of asking, whoever edited it, by this service or another. It
// is safe for concurrent use.
type Desk struct {
	store Store
	zone  *time.Location
	now   func() time.Time

	compiled atomic.Pointer[compiled] // replaced whole, never edited
	building sync.Mutex               // one build at a time
}

// NewDesk returns a desk. Days begin and end in zone. now is the clock.
func NewDesk(store Store, zone *time.Location, now func() time.Time) *Desk {
	return &Desk{store: store, zone: zone, now: now}
}

// compiled is the draft at one version, ready to be decided on.
type compiled struct {
	draft    revision.Draft
	index    match.Union
	large    map[uuid.UUID]largeList // the indexes of large lists, to be kept while their lists stay
	policies []policy.Policy         // as draft.Policies
	ids      map[string][]int64      // list id -> entry ids, by position
}

// Question is what is tried. The zero Group asks for the first policy.
type Question struct {
	URLs  []string
	Group string // name or id of a group
}

// Answer is what happens to one URL.
type Answer struct {
	Input    string
	Problem  string // why the input is no URL; all below is empty then
	URL      weburl.URL
	Decision policy.Decision
	Because  string
}

// Answers are the answers to one question, all decided on one version of the draft.
type Answers struct {
	DraftVersion int64
	Policy       revision.Policy
	Answers      []Answer // in the order of the question
	ids          map[string][]int64
}

// EntryID returns the id under which the entry at a position of a list is kept.
func (a Answers) EntryID(list *match.List, position int) int64 { return a.ids[list.ID][position] }

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
	answers := Answers{DraftVersion: c.draft.Version, Policy: c.draft.Policies[at], ids: c.ids}
	answers.Answers = make([]Answer, len(q.URLs))
	today := pattern.DateOf(d.now().In(d.zone))
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
		a.Decision = policy.Decide(c.index, c.policies[at], a.URL, today)
		a.Because = a.Decision.Because(c.policies[at])
	}
	return answers, nil
}

// Prepare compiles the draft ahead of the next trial, so that this one need not wait for it.
func (d *Desk) Prepare(ctx context.Context) error {
	_, err := d.current(ctx)
	return err
}

// current returns the draft compiled at its present version.
func (d *Desk) current(ctx context.Context) (*compiled, error) {
	version, err := d.store.DraftVersion(ctx)
	if err != nil {
		return nil, err
	}
	if c := d.compiled.Load(); c != nil && c.draft.Version >= version {
		return c, nil
	}
	d.building.Lock()
	defer d.building.Unlock()
	before := d.compiled.Load()
	if before != nil && before.draft.Version >= version {
		return before, nil
	}
	known := map[uuid.UUID]int64{}
	kept := map[uuid.UUID]revision.DraftList{}
	if before != nil {
		for _, list := range before.draft.Lists {
			known[list.ID], kept[list.ID] = list.Version, list
		}
	}
	draft, err := d.store.Draft(ctx, known)
	if err != nil {
		return nil, err
	}
	c := compile(draft, kept, before)
	d.compiled.Store(c)
	return c, nil
}

// large is from how many entries on a list has an index of its own. Compiling so many takes about a millisecond.
const large = 5_000

// largeList is the index of one large list at one version of it.
type largeList struct {
	version int64 // rises with a new name, too
	index   *match.Index
}

// compile makes a draft ready. Entries that the draft leaves out are those kept from before; so are the indexes of large
// lists that did not change.
func compile(draft revision.Draft, kept map[uuid.UUID]revision.DraftList, before *compiled) *compiled {
	c := &compiled{draft: draft, ids: map[string][]int64{}, large: map[uuid.UUID]largeList{}}
	var small []match.List
	for i := range draft.Lists {
		l := &draft.Lists[i]
		if l.Entries == nil {
			l.Entries, l.IDs = kept[l.ID].Entries, kept[l.ID].IDs
		}
		list := match.List{ID: l.ID.String(), Name: l.Name, Entries: l.Entries}
		c.ids[list.ID] = l.IDs
		if len(l.Entries) < large {
			small = append(small, list)
			continue
		}
		var own largeList
		if before != nil {
			own = before.large[l.ID]
		}
		if own.version != l.Version {
			own = largeList{l.Version, match.New([]match.List{list})}
		}
		c.large[l.ID] = own
		c.index = append(c.index, own.index)
	}
	c.index = append(c.index, match.New(small))
	for _, p := range draft.Policies {
		decided := policy.Policy{Name: p.Name, Group: p.Group.Name, Otherwise: p.Otherwise}
		for _, r := range p.Rules {
			rule := policy.Rule{Name: r.Name, Then: r.Verdict}
			for _, l := range r.Lists {
				rule.Lists = append(rule.Lists, l.ID.String())
			}
			decided.Rules = append(decided.Rules, rule)
		}
		c.policies = append(c.policies, decided)
	}
	return c
}

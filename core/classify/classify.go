// Package classify determines the categories of a URL, where they come from, and which other statements were overruled.
//
// From: corrections, categories of our own that lists fill, packs of category data, scorecards.
// To: [Result] for decisions, which costs no allocation, and [Answer] for people.
//
// In this order, the first source that knows the URL decides: the most specific correction; the categories of our own whose lists
// it is in; the packs by their rank, and in a pack the most specific entry. Categories of our own that add to the catalogue and
// scorecards that reach their threshold add categories, except to a correction, which counts alone.
package classify

import (
	"cmp"
	"reflect"
	"slices"
	"strings"
	"sync"

	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/weburl"
)

// Correction is a local statement that what a pattern covers has certain categories.
type Correction struct {
	ID         int64
	Pattern    pattern.Pattern
	Categories []string // keys
}

// Own is a category of our own. Its members are what is in its lists.
type Own struct {
	Key   string
	Lists []string // ids
	Adds  bool     // to what the catalogue says, instead of standing in its place
}

// Pack is the sites of a pack of category data at one of its versions. The lists of the index are sets of categories: see [SetID].
type Pack struct {
	ID      string
	Name    string
	Version int64 // as the pack says
	Sites   *match.Index
}

// SetID names a set of categories: the list of a pack's index whose entries have just these.
func SetID(categories []string) string {
	keys := slices.Clone(categories)
	slices.Sort(keys)
	return strings.Join(slices.Compact(keys), " ")
}

// Local is corrections, categories of our own and scorecards, compiled. It is immutable, and may serve many classifiers.
type Local struct {
	corrections *match.Index
	own         []Own
	cards       []compiledCard

	once  sync.Once // for texts
	texts []*match.Words
}

// NewLocal makes corrections, categories of our own and scorecards ready.
func NewLocal(corrections []Correction, own []Own, cards []Scorecard) *Local {
	l := &Local{corrections: compileCorrections(corrections), own: own}
	for _, card := range cards {
		l.cards = append(l.cards, compiledCard{card, card.index()})
	}
	return l
}

// Classifier determines the categories of URLs. It is immutable and safe for concurrent use.
type Classifier struct {
	index     *match.Index // corrections, lists, packs and scorecards, asked at once
	places    []place      // by the lists of index
	firstList int32        // where the lists begin in index

	keys   []string // of categories, by number
	sets   [][]int32
	own    []own
	packs  []Pack
	scores []scores
}

// place is the meaning of a list of the joined index.
type place struct {
	what Source
	at   int32 // pack or scorecard
	set  int32 // corrections and packs: what its entries say
	own  []int32
}

type own struct {
	key  int32
	adds bool
}

// Source is where a category comes from.
type Source string

// The sources, in the order in which they are asked.
const (
	ByCorrection Source = "correction"
	ByOwn        Source = "own category"
	ByCatalogue  Source = "catalogue"
	ByScorecard  Source = "scorecard"
)

// New returns a classifier of local statements, packs in the order of their ranks, and lists, which may be nil. It copies next to nothing: the
// indexes are shared.
func New(local *Local, packs []Pack, lists *match.Index) *Classifier {
	c := &Classifier{packs: packs}
	numbers := map[string]int32{}
	number := func(key string) int32 {
		n, ok := numbers[key]
		if !ok {
			n = int32(len(c.keys))
			numbers[key] = n
			c.keys = append(c.keys, key)
		}
		return n
	}
	setNumbers := map[string]int32{}
	set := func(id string) int32 {
		n, ok := setNumbers[id]
		if !ok {
			n = int32(len(c.sets))
			setNumbers[id] = n
			var members []int32
			for key := range strings.SplitSeq(id, " ") {
				members = append(members, number(key))
			}
			c.sets = append(c.sets, members)
		}
		return n
	}
	ownOf := map[string][]int32{}
	for i, o := range local.own {
		c.own = append(c.own, own{number(o.Key), o.Adds})
		for _, list := range o.Lists {
			ownOf[list] = append(ownOf[list], int32(i))
		}
	}

	parts := []*match.Index{local.corrections}
	what := []place{{what: ByCorrection}}
	c.firstList = int32(len(local.corrections.Lists()))
	if lists != nil {
		parts, what = append(parts, lists), append(what, place{what: ByOwn})
	}
	for i, p := range packs {
		parts, what = append(parts, p.Sites), append(what, place{what: ByCatalogue, at: int32(i)})
	}
	for i, card := range local.cards {
		c.scores = append(c.scores, scores{Scorecard: card.Scorecard, key: number(card.Category)})
		parts, what = append(parts, card.words), append(what, place{what: ByScorecard, at: int32(i)})
	}
	// Lists of different sources stay separate, whatever their ids.
	c.index = match.Gather(parts...)
	for i, part := range parts {
		for _, ref := range part.Lists() {
			p := what[i]
			switch p.what {
			case ByCorrection, ByCatalogue:
				p.set = set(ref.ID)
			case ByOwn:
				p.own = ownOf[ref.ID]
			}
			c.places = append(c.places, p)
		}
	}
	return c
}

func compileCorrections(all []Correction) *match.Index {
	b := match.NewBuilder(len(all))
	lists := map[string]int{}
	for _, correction := range all {
		id := SetID(correction.Categories)
		list, ok := lists[id]
		if !ok {
			list = b.List(id, id)
			lists[id] = list
		}
		b.Add(list, correction.ID, pattern.Entry{Pattern: correction.Pattern})
	}
	return b.Build()
}

// Says reports whether the entries of a list of [Classifier.Index] say what a site is, and whether what they say can take the place of what others say.
func (c *Classifier) Says(list int32) (says, displaces bool) {
	p := c.places[list]
	switch p.what {
	case ByOwn:
		return len(p.own) > 0, slices.ContainsFunc(p.own, func(own int32) bool { return !c.own[own].adds })
	case ByScorecard:
		return true, false
	}
	return true, true
}

// Key returns the key of the category with a number of a [Result].
func (c *Classifier) Key(number int32) string { return c.keys[number] }

// Count returns how many categories have a number.
func (c *Classifier) Count() int { return len(c.keys) }

// Number returns the number of a category; -1 where nothing of the classifier names it.
func (c *Classifier) Number(key string) int32 { return int32(slices.Index(c.keys, key)) }

// Result is the categories of a URL, by number. Filling a Result again allocates nothing. The zero Result is ready for use.
type Result struct {
	Categories []int32 // see [Classifier.Key]; each once; none where the URL is unrated
	By         Source  // who said what it is; "" where nobody did, [ByScorecard] where scorecards alone did

	Takes []match.Take // what has something to say about the URL, list by list
}

// best is the most specific take so far.
type best struct {
	found bool
	says  pattern.Specificity
	id    int64
	take  match.Take
}

// offer keeps a take if it is more specific than the best so far. Between equals the lower id stays: the first in its pack.
// With newest, the higher: among corrections the last word counts.
func (b *best) offer(x *match.Index, t match.Take, newest bool) {
	says, id := x.Specificity(t), x.ID(t)
	if order := says.Compare(b.says); b.found && (order < 0 || order == 0 && (id > b.id) != newest) {
		return
	}
	*b = best{true, says, id, t}
}

// Classify fills r with the categories of u on a day at a sight. At a lesser sight only entries that certainly cover u count.
func (c *Classifier) Classify(r *Result, u weburl.URL, today pattern.Date, sight weburl.Sight) {
	c.Look(r, u, today, sight, false)
	c.Weigh(r)
}

// Look fills r with the takes for u; see [match.Index.Takes]. [Classifier.Weigh] then determines the categories.
func (c *Classifier) Look(r *Result, u weburl.URL, today pattern.Date, sight weburl.Sight, unclear bool) {
	r.Takes = c.index.Takes(r.Takes[:0], u, today, sight, unclear)
}

// Index returns the index in which everything is looked up, including the lists that the classifier was made with, from FirstList on.
func (c *Classifier) Index() *match.Index { return c.index }

// FirstList returns where the lists begin in [Classifier.Index].
func (c *Classifier) FirstList() int32 { return c.firstList }

// Card returns the number of a scorecard; -1 where there is no such.
func (c *Classifier) Card(id string) int32 {
	return int32(slices.IndexFunc(c.scores, func(s scores) bool { return s.ID == id }))
}

// CardName returns the name of a scorecard that is switched on; its id if there is none.
func (c *Classifier) CardName(id string) string {
	if n := c.Card(id); n >= 0 {
		return c.scores[n].Name
	}
	return id
}

// Points returns a scorecard's total for what r looked at, and its threshold.
func (c *Classifier) Points(r *Result, card int32) (total, threshold int) {
	score := &c.scores[card]
	for i := 0; i < len(r.Takes); {
		group := r.Takes[i:match.ListEnd(r.Takes, i)]
		i += len(group)
		if p := &c.places[group[0].List]; p.what == ByScorecard && p.at == card {
			total += score.total(c.index, group)
		}
	}
	return total, score.Threshold
}

// WeighText adds the categories of scorecards that a page's text reaches, by their ids; to a correction, which counts alone, it adds nothing.
func (c *Classifier) WeighText(r *Result, points map[string]int) {
	if len(points) == 0 || r.By == ByCorrection {
		return
	}
	for i := range c.scores {
		if total, scored := points[c.scores[i].ID]; !scored || total < c.scores[i].Threshold {
			continue
		}
		if r.add(c.scores[i].key); r.By == "" {
			r.By = ByScorecard
		}
	}
}

// CardID returns the id of a scorecard.
func (c *Classifier) CardID(card int32) string { return c.scores[card].ID }

// ScoreText returns the totals of a text by the ids of scorecards, of those of which a word is in it. The words are compiled the first time.
func (l *Local) ScoreText(text string) map[string]int {
	l.once.Do(func() {
		for i := range l.cards {
			words := make([]pattern.Pattern, len(l.cards[i].Terms))
			for n, term := range l.cards[i].Terms {
				words[n] = term.Word
			}
			l.texts = append(l.texts, match.NewWords(words))
		}
	})
	points := map[string]int{}
	for i := range l.cards {
		for _, n := range l.texts[i].Find(text) {
			points[l.cards[i].ID] += l.cards[i].Terms[n].Points
		}
	}
	return points
}

// HasScorecards reports whether there are scorecards.
func (l *Local) HasScorecards() bool { return l != nil && len(l.cards) > 0 }

// Weigh determines the categories of the URL that r looked up.
func (c *Classifier) Weigh(r *Result) {
	r.Categories, r.By = r.Categories[:0], ""
	var corrected, catalogue best
	rank := int32(len(c.packs))
	instead := false
	for i := 0; i < len(r.Takes); {
		group := r.Takes[i:match.ListEnd(r.Takes, i)]
		i += len(group)
		switch p := &c.places[group[0].List]; p.what {
		case ByCorrection:
			for _, t := range group {
				if !t.Unclear {
					corrected.offer(c.index, t, true)
				}
			}
		case ByOwn:
			if len(p.own) > 0 && match.In(group) == match.Yes {
				for _, n := range p.own {
					instead = instead || !c.own[n].adds
					r.add(c.own[n].key)
				}
			}
		case ByCatalogue:
			for _, t := range group {
				switch {
				case t.Unclear || p.at > rank:
				case p.at < rank:
					rank, catalogue = p.at, best{}
					fallthrough
				default:
					catalogue.offer(c.index, t, false)
				}
			}
		}
	}
	if corrected.found {
		r.Categories, r.By = r.Categories[:0], ByCorrection
		r.addSet(c.sets[c.places[corrected.take.List].set])
		return
	}
	if len(r.Categories) > 0 {
		r.By = ByOwn
	}
	if catalogue.found && !instead {
		r.By = ByCatalogue
		r.addSet(c.sets[c.places[catalogue.take.List].set])
	}
	if len(c.scores) == 0 {
		return
	}
	for i := 0; i < len(r.Takes); {
		group := r.Takes[i:match.ListEnd(r.Takes, i)]
		i += len(group)
		p := &c.places[group[0].List]
		if p.what != ByScorecard {
			continue
		}
		score := &c.scores[p.at]
		if score.total(c.index, group) >= score.Threshold {
			r.add(score.key)
			if r.By == "" {
				r.By = ByScorecard
			}
		}
	}
}

func (r *Result) add(key int32) {
	if !slices.Contains(r.Categories, key) {
		r.Categories = append(r.Categories, key)
	}
}

func (r *Result) addSet(keys []int32) {
	for _, key := range keys {
		r.add(key)
	}
}

// Given is a statement about a URL, with its source.
type Given struct {
	Source     Source
	Categories []string // keys
	Entry      match.Found
	List       match.Ref // categories of our own: the list that holds the entry
	Pack       string    // catalogue: id, name and version of the pack
	PackName   string
	Version    int64
	Adds       bool // categories of our own: they add to the catalogue
}

// Answer is the categories of a URL, and every statement about it.
type Answer struct {
	Categories []string // keys, each once; none where the URL is unrated
	By         Source   // see [Result]
	Given      []Given  // what counts
	Overruled  []Given  // what was said, and does not count beside what is given
	Unclear    []Given  // at a lesser sight: what could say otherwise
	Scores     []Score  // of scorecards with a word in the URL
}

// Explain returns the categories of u on a day at a sight, with every statement. It agrees with [Classifier.Classify].
func (c *Classifier) Explain(u weburl.URL, today pattern.Date, sight weburl.Sight) Answer {
	var r Result
	c.Look(&r, u, today, sight, true)
	c.Weigh(&r)
	return c.ExplainLooked(&r)
}

// ExplainLooked is [Classifier.Explain] for a URL that r has already looked up, with unclear takes, and weighed.
func (c *Classifier) ExplainLooked(r *Result) Answer {
	a := Answer{By: r.By}
	for _, key := range r.Categories {
		a.Categories = append(a.Categories, c.keys[key])
	}
	takes := r.Takes
	var corrected, catalogue []Given
	var replacing, adding []Given
	for i := 0; i < len(takes); {
		group := takes[i:match.ListEnd(takes, i)]
		i += len(group)
		p := &c.places[group[0].List]
		switch p.what {
		case ByOwn:
			c.explainOwn(&a, p, group, &replacing, &adding)
		case ByScorecard:
			a.Scores = append(a.Scores, c.scores[p.at].explain(c.index, group))
		default:
			for _, t := range group {
				g := c.given(t)
				switch {
				case t.Unclear:
					a.Unclear = append(a.Unclear, g)
				case p.what == ByCorrection:
					corrected = append(corrected, g)
				default:
					catalogue = append(catalogue, g)
				}
			}
		}
	}
	bySpecificity := func(newest int) func(a, b Given) int {
		return func(a, b Given) int {
			return cmp.Or(pattern.MoreSpecific(a.Entry.Pattern, b.Entry.Pattern), newest*cmp.Compare(b.Entry.ID, a.Entry.ID))
		}
	}
	slices.SortFunc(corrected, bySpecificity(1))
	slices.SortStableFunc(catalogue, func(a, b Given) int {
		return cmp.Or(cmp.Compare(c.rank(a.Pack), c.rank(b.Pack)), bySpecificity(-1)(a, b))
	})
	switch {
	case len(corrected) > 0:
		a.Given = corrected[:1]
		a.Overruled = slices.Concat(corrected[1:], replacing, adding, catalogue)
	case len(replacing) > 0:
		a.Given, a.Overruled = slices.Concat(replacing, adding), catalogue
	case len(catalogue) > 0:
		a.Given, a.Overruled = slices.Concat(catalogue[:1], adding), catalogue[1:]
	default:
		a.Given = adding
	}
	slices.SortStableFunc(a.Scores, func(x, y Score) int { return strings.Compare(x.Name, y.Name) })
	return a
}

// explainOwn collects the statements of a list that categories of our own are made of.
func (c *Classifier) explainOwn(a *Answer, p *place, group []match.Take, replacing, adding *[]Given) {
	answer := match.In(group)
	if len(p.own) == 0 || answer == match.No {
		return
	}
	var covering best
	for _, t := range group {
		if !t.CarveOut && t.Answer() == answer {
			covering.offer(c.index, t, false)
		}
	}
	for _, n := range p.own {
		g := c.given(covering.take)
		g.Categories, g.Adds = []string{c.keys[c.own[n].key]}, c.own[n].adds
		switch {
		case answer == match.CannotTell:
			a.Unclear = append(a.Unclear, g)
		case g.Adds:
			*adding = append(*adding, g)
		default:
			*replacing = append(*replacing, g)
		}
	}
}

func (c *Classifier) given(t match.Take) Given {
	p := &c.places[t.List]
	g := Given{Source: p.what, Entry: c.index.Found(t)}
	switch p.what {
	case ByOwn:
		g.List = c.index.Lists()[t.List]
		return g
	case ByCatalogue:
		pack := c.packs[p.at]
		g.Pack, g.PackName, g.Version = pack.ID, pack.Name, pack.Version
	}
	for _, key := range c.sets[p.set] {
		g.Categories = append(g.Categories, c.keys[key])
	}
	return g
}

func (c *Classifier) rank(pack string) int {
	return slices.IndexFunc(c.packs, func(p Pack) bool { return p.ID == pack })
}

// Differing gives the patterns of corrections that only one of two has; see [match.Index.Differing]. It reports false where more than corrections differs.
func (l *Local) Differing(o *Local, most int, each func(pattern.Pattern)) bool {
	if l == o {
		return true
	}
	cards := func(l *Local) (all []Scorecard) {
		for i := range l.cards {
			all = append(all, l.cards[i].Scorecard)
		}
		return all
	}
	return reflect.DeepEqual(l.own, o.own) && reflect.DeepEqual(cards(l), cards(o)) && l.corrections.Differing(o.corrections, most, each)
}

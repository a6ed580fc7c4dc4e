package catalogue

import (
	"context"
	"log/slog"
	"runtime/debug"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"widelark/core/classify"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/internal/revision"
)

// Loaded is the catalogue at one version, in memory. It is immutable.
type Loaded struct {
	Version  int64 // see [Store.CatalogueVersion]; 0 before anything was loaded
	Taxonomy classify.Taxonomy
	Packs    []classify.Pack  // by rank; those without a file are left out
	Sites    map[string]int64 // how many sites each category has, in all packs
	Aside    []revision.Aside // what of the packs cannot be read, the first few of each
	loaded   map[uuid.UUID]loadedPack
}

// loadedPack is a pack at one of its states.
type loadedPack struct {
	number   int64
	index    *match.Index
	taxonomy classify.Taxonomy
	sites    map[string]int64
	aside    revision.Asides
}

// mostAside bounds how many unreadable sites of a pack are reported; all of them are left out.
const mostAside = 100

// Index returns the sites of a pack, and the number of their state; nil if the pack is not loaded.
func (l *Loaded) Index(pack uuid.UUID) (*match.Index, int64) {
	p := l.loaded[pack]
	return p.index, p.number
}

// Cache holds the catalogue in memory. It is safe for concurrent use.
type Cache struct {
	store   Store
	log     *slog.Logger
	loaded  atomic.Pointer[Loaded] // replaced whole, never edited
	loading sync.Mutex             // one load at a time
	behind  atomic.Bool            // a load in the background is under way
	beside  sync.WaitGroup         // that load
	life    context.Context        // ends with Close
	end     context.CancelFunc
}

// Close cancels a load in the background, and waits for its end.
func (s *Cache) Close() {
	s.end()
	s.beside.Wait()
}

// NewCache returns an empty cache.
func NewCache(store Store, log *slog.Logger) *Cache {
	s := &Cache{store: store, log: log}
	s.life, s.end = context.WithCancel(context.Background())
	s.loaded.Store(&Loaded{})
	return s
}

// Loaded returns the catalogue that was loaded last. It never waits.
func (s *Cache) Loaded() *Loaded { return s.loaded.Load() }

// Notice loads the catalogue in the background if a version is later than the loaded one, which is used until the load
// is done.
func (s *Cache) Notice(version int64) {
	if s.Loaded().Version >= version || !s.behind.CompareAndSwap(false, true) {
		return
	}
	s.beside.Go(func() {
		defer s.behind.Store(false)
		defer func() {
			if cause := recover(); cause != nil { // a bug: what is loaded goes on
				s.log.Error("loading the catalogue failed badly", "cause", cause, "stack", string(debug.Stack()))
			}
		}()
		ctx, cancel := context.WithTimeout(s.life, 10*time.Minute)
		defer cancel()
		if err := s.Load(ctx); err != nil {
			s.log.Warn("the catalogue could not be loaded; the last goes on", "error", err)
		}
	})
}

// Load loads the states that are in force. Packs whose state is already loaded are not read again.
func (s *Cache) Load(ctx context.Context) error {
	s.loading.Lock()
	defer s.loading.Unlock()
	return s.store.ReadCatalogue(ctx, func(r Reader) error {
		next, err := Read(ctx, r, s.Loaded())
		if err == nil {
			s.loaded.Store(next)
		}
		return err
	})
}

// Read returns what a reader has. Packs whose state is loaded already are not read again.
func Read(ctx context.Context, r Reader, before *Loaded) (*Loaded, error) {
	if r.Version() == before.Version {
		return before, nil
	}
	packs, err := r.Packs(ctx)
	if err != nil {
		return nil, err
	}
	next := &Loaded{Version: r.Version(), Sites: map[string]int64{}, loaded: map[uuid.UUID]loadedPack{}}
	var taxonomies []classify.Taxonomy
	for _, p := range packs {
		if p.InForce == nil {
			continue
		}
		one := before.loaded[p.ID]
		if one.number != p.InForce.Number {
			if one, err = loadPack(ctx, r, p); err != nil {
				return nil, err
			}
		}
		next.loaded[p.ID] = one
		next.Aside = append(next.Aside, one.aside...)
		next.Packs = append(next.Packs, classify.Pack{ID: p.ID.String(), Name: p.Name, Version: p.InForce.Version, Sites: one.index})
		taxonomies = append(taxonomies, one.taxonomy)
		for key, sites := range one.sites {
			next.Sites[key] += sites
		}
	}
	next.Taxonomy = classify.Merge(taxonomies...)
	return next, nil
}

func loadPack(ctx context.Context, r Reader, p Pack) (one loadedPack, err error) {
	one.number = p.InForce.Number
	if one.taxonomy, err = r.Taxonomy(ctx, p.ID, one.number); err != nil {
		return one, err
	}
	sink := newSink(int(p.InForce.Sites))
	if err := r.EachSite(ctx, p.ID, one.number, sink); err != nil {
		return one, err
	}
	for i := range sink.aside {
		sink.aside[i].ID, sink.aside[i].Name = p.ID, p.Name
	}
	one.aside = sink.aside
	one.index, one.sites = sink.b.Build(), map[string]int64{}
	for set, at := range sink.lists {
		for key := range strings.SplitSeq(set, " ") {
			one.sites[key] += sink.counts[at]
		}
	}
	return one, nil
}

// sink builds the index of a pack: its lists are sets of categories.
type sink struct {
	b      *match.Builder
	lists  map[string]int
	counts []int64
	aside  revision.Asides // what cannot be read
}

func newSink(sites int) *sink {
	return &sink{b: match.NewBuilder(sites), lists: map[string]int{}}
}

// Site implements [Sink].
func (s *sink) Site(id int64, entry string, plain bool, set string) error {
	list, ok := s.lists[set]
	if !ok {
		set = strings.Clone(set) // it may be a piece of something large
		list = s.b.List(set, set)
		s.lists[set] = list
		s.counts = append(s.counts, 0)
	}
	s.counts[list]++
	if plain && pattern.IsPlainName(entry) {
		s.b.AddNamed(list, id, entry, pattern.AndBelow, false)
		return nil
	}
	read, err := pattern.Parse(entry)
	if err != nil { // left out, and reported
		if len(s.aside) < mostAside {
			s.aside.Add(revision.KindPack, revision.Meta{}, entry, err)
		}
		return nil
	}
	s.b.Add(list, id, read)
	return nil
}

// WithState returns the packs of the catalogue with another state of one of them: the loaded packs, with the
// differences beside them.
func (s *Cache) WithState(ctx context.Context, id uuid.UUID, number int64) (before, after []classify.Pack, err error) {
	loaded := s.Loaded()
	index, from := loaded.Index(id)
	if index == nil {
		return loaded.Packs, loaded.Packs, nil
	}
	if from > number {
		return nil, nil, &RefusedError{"Only a later state can be looked at ahead"}
	}
	var gone []int64
	came := newSink(0)
	err = s.store.EachDifference(ctx, id, from, number, func(id int64) error {
		gone = append(gone, id)
		return nil
	}, func(site Site, plain bool) error { return came.Site(site.ID, site.Entry, plain, site.Categories) })
	if err != nil {
		return nil, nil, err
	}
	for _, p := range loaded.Packs {
		if p.ID == id.String() {
			p.Sites = match.Join(index.Without(gone...), came.b.Build())
		}
		after = append(after, p)
	}
	return loaded.Packs, after, nil
}

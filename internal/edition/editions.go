// Package edition compiles the states that decide: the draft as it is, and revisions as they were. It keeps the last few in memory and
// follows edits by reading what changed.
//
// From: the draft and its revisions, as the store has them, and the catalogue as it is loaded.
// To: [State], which trials, checks and lookups ask.
package edition

import (
	"context"
	"fmt"
	"log/slog"
	"runtime/debug"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/singleflight"

	"widelark/core/classify"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/internal/catalogue"
	"widelark/internal/revision"
	"widelark/internal/turn"
)

// Store reads the draft.
type Store interface {
	DraftVersion(ctx context.Context) (revision.Now, error)
	ReadDraft(ctx context.Context, version int64, read func(revision.DraftReader) error) error // 0 for the draft as it is now
	Revision(ctx context.Context, number int64) (revision.Revision, error)
}

// Editions keeps compiled states: the draft as it is at the moment of asking, whoever edited it, by this service or another, and the last
// few revisions that were asked for. It is safe for concurrent use.
type Editions struct {
	store Store
	cache *catalogue.Cache
	zone  *time.Location
	now   func() time.Time

	compiled    atomic.Pointer[compiled] // the draft; replaced whole, never edited
	directories atomic.Int64             // the last version of what directories say that was noticed
	building    turn.Lock                // one build at a time
	merging     atomic.Bool              // a build in the background is under way
	beside      sync.WaitGroup           // that build
	closed      atomic.Bool

	Log *slog.Logger // for what fails in the background; nil keeps it quiet

	making    singleflight.Group // versions that are being compiled, by number
	revisions sync.Mutex         // for published; never held while something is compiled
	published []*compiled        // the last few versions that were asked for by number, the last one first
}

// mostPublished is how many versions besides the draft are kept compiled: the live one, the one before it, and those that people look at.
const mostPublished = 4

// ready is a snapshot with the catalogue that it was made with.
type ready struct {
	loaded   *catalogue.Loaded
	snapshot *policy.Snapshot
	beside   atomic.Pointer[beside] // the last facts that were put beside it
}

// beside is a snapshot with facts beside it.
type beside struct {
	facts    *policy.Facts
	snapshot *policy.Snapshot
}

// New returns editions that read from a store. Days begin and end in zone. now is the clock.
func New(store Store, cache *catalogue.Cache, zone *time.Location, now func() time.Time) *Editions {
	return &Editions{store: store, cache: cache, zone: zone, now: now}
}

// Index returns the lists of the draft, compiled, and the day that it is now where the organisation is.
func (d *Editions) Index(ctx context.Context) (*match.Index, pattern.Date, error) {
	c, err := d.current(ctx)
	if err != nil {
		return nil, pattern.Date{}, err
	}
	return c.index, pattern.DateOf(d.now().In(d.zone)), nil
}

// Policies returns the policies of the draft: the baseline, those of groups in their order, the fallback.
func (d *Editions) Policies(ctx context.Context) ([]policy.Policy, error) {
	c, err := d.current(ctx)
	if err != nil {
		return nil, err
	}
	config := c.roster.config
	var all []policy.Policy
	if config.Baseline != nil {
		all = append(all, *config.Baseline)
	}
	all = append(all, config.Policies...)
	if config.Fallback != nil {
		all = append(all, *config.Fallback)
	}
	return all, nil
}

// Classifier returns what says what URLs are, with the catalogue as it is loaded, and the day that it is now where the organisation is.
func (d *Editions) Classifier(ctx context.Context) (*classify.Classifier, pattern.Date, error) {
	c, err := d.current(ctx)
	if err != nil {
		return nil, pattern.Date{}, err
	}
	return d.snapshot(c).Classifier(), pattern.DateOf(d.now().In(d.zone)), nil
}

// ClassifierWith returns a classifier of the draft with the given packs instead of those that are loaded.
func (d *Editions) ClassifierWith(ctx context.Context, packs []classify.Pack) (*classify.Classifier, error) {
	c, err := d.current(ctx)
	if err != nil {
		return nil, err
	}
	return classify.New(c.local, packs, c.index), nil
}

// snapshot returns the snapshot of a compiled draft. It is built again when the draft or the catalogue has changed.
func (d *Editions) snapshot(c *compiled) *policy.Snapshot { return d.ready(c).snapshot }

func (d *Editions) ready(c *compiled) *ready {
	loaded := d.cache.Loaded()
	if last := c.ready.Load(); last != nil && last.loaded == loaded {
		return last
	}
	fresh := c.with(loaded, d.zone)
	c.ready.Store(fresh)
	return fresh
}

// with returns a snapshot of a compiled draft with a catalogue.
func (c *compiled) with(loaded *catalogue.Loaded, zone *time.Location) *ready {
	config := c.roster.config
	config.Lists, config.Local, config.Packs, config.Zone, config.Schedules = c.index, c.local, loaded.Packs, zone, c.clocks
	config.Taxonomy = classify.Merge(loaded.Taxonomy, c.own)
	return &ready{loaded: loaded, snapshot: policy.New(config)}
}

// Close waits for a build in the background and prevents further ones.
func (d *Editions) Close() {
	d.closed.Store(true)
	d.beside.Wait()
}

// Prepare compiles the draft ahead of the next trial, so that the trial need not wait.
func (d *Editions) Prepare(ctx context.Context) error {
	_, err := d.current(ctx)
	return err
}

// current returns the draft compiled at its present version.
func (d *Editions) current(ctx context.Context) (*compiled, error) {
	now, err := d.store.DraftVersion(ctx)
	if err != nil {
		return nil, err
	}
	d.notice(now)
	return d.draft(ctx, now.Draft)
}

// notice takes note of what versions there are, so that nothing of before is taken for it.
func (d *Editions) notice(now revision.Now) {
	d.cache.Notice(now.Catalogue)
	for {
		last := d.directories.Load()
		if now.Directories <= last || d.directories.CompareAndSwap(last, now.Directories) {
			return
		}
	}
}

// isCurrent reports whether what directories say has not changed since a state was compiled.
func (d *Editions) isCurrent(c *compiled) bool { return c.draft.Directories >= d.directories.Load() }

// draft returns the compiled draft at the given version or a later one.
func (d *Editions) draft(ctx context.Context, version int64) (*compiled, error) {
	if c := d.compiled.Load(); c != nil && c.draft.Version >= version && d.isCurrent(c) {
		return c, nil
	}
	if err := d.building.Lock(ctx); err != nil {
		return nil, err
	}
	defer d.building.Unlock()
	before := d.compiled.Load()
	if before != nil && before.draft.Version >= version && d.isCurrent(before) {
		return before, nil
	}
	c, err := d.build(ctx, before, mostOverlaid)
	if err != nil {
		return nil, err
	}
	if c.overlaid > mergeFrom && !d.closed.Load() && d.merging.CompareAndSwap(false, true) {
		d.beside.Go(func() { d.mergeOverlays(context.WithoutCancel(ctx)) })
	}
	return c, nil
}

// at returns the compiled state of any version. It shares memory with the draft as far as they are the same.
func (d *Editions) at(ctx context.Context, version int64) (*compiled, error) {
	if c := d.kept(version); c != nil {
		return c, nil
	}
	made, err, _ := d.making.Do(fmt.Sprint(version, " ", d.directories.Load()), func() (any, error) {
		var c *compiled
		near := d.compiled.Load()
		ctx := context.WithoutCancel(ctx) // others may wait for it, too
		err := d.store.ReadDraft(ctx, version, func(r revision.DraftReader) (err error) {
			c, err = compile(ctx, r, near, mostOverlaid)
			return err
		})
		if err != nil {
			return nil, err
		}
		d.revisions.Lock()
		defer d.revisions.Unlock()
		d.keep(c)
		return c, nil
	})
	if err != nil {
		return nil, err
	}
	return made.(*compiled), nil
}

// kept returns a compiled version if it is kept, else nil, and marks it as used.
func (d *Editions) kept(version int64) *compiled {
	d.revisions.Lock()
	defer d.revisions.Unlock()
	c := d.compiled.Load()
	if c == nil || c.draft.Version != version || !d.isCurrent(c) {
		i := slices.IndexFunc(d.published, func(c *compiled) bool { return c.draft.Version == version && d.isCurrent(c) })
		if i < 0 {
			return nil
		}
		c = d.published[i]
	}
	d.keep(c)
	return c
}

// keep adds a version to those that are kept, and drops the least recently used. The caller holds the lock.
func (d *Editions) keep(c *compiled) {
	d.published = slices.DeleteFunc(d.published, func(of *compiled) bool { return of.draft.Version == c.draft.Version })
	d.published = slices.Insert(d.published, 0, c)
	d.published = d.published[:min(len(d.published), mostPublished)]
}

func (d *Editions) build(ctx context.Context, before *compiled, most int) (c *compiled, err error) {
	err = d.store.ReadDraft(ctx, 0, func(r revision.DraftReader) error {
		c, err = compile(ctx, r, before, most)
		return err
	})
	if err == nil {
		d.compiled.Store(c)
	}
	return c, err
}

// mergeOverlays compiles groups with many edits beside them again, while trials use the old ones.
func (d *Editions) mergeOverlays(ctx context.Context) {
	defer d.merging.Store(false)
	failed := func(cause any) {
		if d.Log != nil {
			d.Log.Warn("what was edited could not be merged in the background; the trial that finds much of it begins again", "cause", cause)
		}
	}
	defer func() {
		if cause := recover(); cause != nil { // a bug
			failed(fmt.Sprintf("%v\n%s", cause, debug.Stack()))
		}
	}()
	ctx, cancel := context.WithTimeout(ctx, 5*time.Minute)
	defer cancel()
	fresh, err := (&Editions{store: d.store, cache: d.cache}).build(ctx, d.compiled.Load(), mergeFrom)
	if err == nil {
		err = d.building.Lock(ctx)
	}
	if err != nil {
		failed(err)
		return
	}
	defer d.building.Unlock()
	if now := d.compiled.Load(); now.draft.Version <= fresh.draft.Version {
		d.compiled.Store(fresh)
		return
	}
	// Edits made meanwhile stand beside the new bases.
	if _, err = d.build(ctx, fresh, mostOverlaid); err != nil {
		failed(err)
	}
}

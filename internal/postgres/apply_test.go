package postgres_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/internal/access"
	"widelark/internal/journal"
	"widelark/internal/journal/archive"
	"widelark/internal/revision"
)

func stated(t testing.TB, kind revision.Kind, id uuid.UUID, name string, body any) revision.Object {
	t.Helper()
	text, err := json.Marshal(body)
	require.NoError(t, err)
	return revision.Object{Kind: kind, Meta: revision.Meta{ID: id, Name: name}, Body: text}
}

// A target is applied completely or not at all, and only to the version of the draft that it was made for.
func TestApply(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	betting := newList(t, store, "Betting", "odds.example", "slots.example")
	was := whole(t, store, 0)
	now := func() int64 {
		at, err := store.DraftVersion(ctx)
		require.NoError(t, err)
		return at.Draft
	}
	list, office, words, nurses, ward := uuid.New(), uuid.New(), uuid.New(), uuid.New(), uuid.New()
	target := revision.Target{
		Objects: []revision.Object{
			stated(t, revision.KindList, list, "Video", map[string]any{"id": list, "name": "Video", "description": "films", "colour": "plum", "owner": ""}),
			stated(t, revision.KindSchedule, office, "Office hours", map[string]any{"id": office, "name": "Office hours", "description": "", "zone": "UTC", "text": "mon 09:00-10:00"}),
			stated(t, revision.KindScorecard, words, "Words", map[string]any{"id": words, "name": "Words", "description": "", "category": "adult", "threshold": 5, "terms": []revision.Term{{Word: "x", Points: 1}}, "off": false}),
			stated(t, revision.KindCorrection, uuid.New(), "heron.example", map[string]any{"uid": uuid.New(), "entry": "heron.example", "key": "heron.example", "categories": []string{"news"}, "reason": "x"}),
			stated(t, revision.KindGroup, nurses, "Nurses", &revision.GroupBody{Groups: []revision.Ref{}, Networks: []revision.Ref{}, Machines: []revision.Ref{}, Ranges: []string{}}),
			stated(t, revision.KindPolicy, ward, "Ward", &revision.PolicyBody{Groups: []revision.Ref{{ID: nurses}}, Otherwise: policy.Allow, Rules: []revision.RuleBody{
				{Name: "x", Then: policy.Block, If: &revision.Condition{Lists: []revision.Ref{{ID: list}}}, When: &revision.WhenBody{Schedule: revision.Ref{ID: office}}},
			}}),
		},
		Entries: map[uuid.UUID][]pattern.Entry{
			list:       {pattern.MustParse("# by hand"), pattern.MustParse("films.example"), pattern.MustParse("! =help.films.example")},
			betting.ID: {pattern.MustParse("slots.example # stays"), pattern.MustParse("raffle.example")},
		},
	}
	require.ErrorIs(t, store.Apply(ctx, target, now()-1, access.Setup), revision.ErrStale)
	broken := target
	broken.Objects = append(append([]revision.Object{}, target.Objects...), stated(t, revision.KindPolicy, uuid.New(), "Broken", &revision.PolicyBody{
		Groups: []revision.Ref{{ID: uuid.New()}}, Otherwise: policy.Allow, Rules: []revision.RuleBody{},
	}))
	require.ErrorContains(t, store.Apply(ctx, broken, now(), access.Setup), "there is no such group")
	twice := target
	twice.Objects = append(append([]revision.Object{}, target.Objects...), stated(t, revision.KindSchedule, uuid.New(), "OFFICE hours", map[string]any{"id": uuid.New(), "name": "OFFICE hours", "description": "", "zone": "UTC", "text": "tue 09:00-10:00"}))
	require.ErrorContains(t, store.Apply(ctx, twice, now(), access.Setup), "the name is taken")
	assert.Equal(t, was, whole(t, store, 0), "nothing of it was kept")

	before := now()
	require.NoError(t, store.Apply(ctx, target, before, access.Setup))
	assert.Equal(t, before+1, now(), "one edit")
	assert.Equal(t, []string{"# by hand", "films.example", "! =help.films.example"}, written(t, store, list))
	assert.Equal(t, []string{"slots.example # stays", "raffle.example"}, written(t, store, betting.ID))
	video, err := store.List(ctx, list)
	require.NoError(t, err)
	assert.Equal(t, []any{int64(2), int64(1), "films", []string{"Ward"}}, []any{video.EntryCount, video.NoteCount, video.Description, video.UsedBy})
	corrections, _, err := store.Corrections(ctx, "", 0, 10)
	require.NoError(t, err)
	assert.Equal(t, "setup", corrections[0].By)
	_, err = store.AddCorrections(ctx, []pattern.Pattern{pattern.MustParse("tern.example").Pattern}, []string{"news"}, "y", access.Setup)
	require.NoError(t, err, "numbers of corrections go on")
	require.NoError(t, store.Restore(ctx, before, 0, nil, access.Subscription))
	assert.Equal(t, was, whole(t, store, 0), "and taken back at once")

	// What is named cannot go alone.
	require.NoError(t, store.Apply(ctx, target, now(), access.Setup))
	var used *revision.InUseError
	gone := revision.Target{Remove: []revision.Object{{Kind: revision.KindGroup, Meta: revision.Meta{ID: nurses, Name: "Nurses"}}}}
	err = store.Apply(ctx, gone, now(), access.Setup)
	require.Error(t, err)
	assert.False(t, assert.ObjectsAreEqual(used, err))
	assert.Contains(t, err.Error(), `it is used by the policy "Ward"`)
	all, version, err := store.AllObjects(ctx)
	require.NoError(t, err)
	assert.Equal(t, now(), version)
	kinds := map[revision.Kind]bool{}
	for _, o := range all {
		kinds[o.Kind] = true
	}
	assert.Len(t, kinds, 7)
}

// One object of each kind is restored without the others.
func TestRestoreOne(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	list := newList(t, store, "Betting", "odds.example")
	office, err := store.AddSchedule(ctx, revision.ScheduleEdit{Name: new("Office"), Zone: new("UTC"), Text: new("mon 09:00-10:00")}, access.Setup)
	require.NoError(t, err)
	card, err := store.AddScorecard(ctx, revision.ScorecardEdit{Name: new("Words"), Category: new("adult"), Threshold: new(5), Terms: &[]revision.Term{{Word: "x", Points: 3}}}, access.Setup)
	require.NoError(t, err)
	own, err := store.AddOwnCategory(ctx, revision.OwnCategoryEdit{Name: new("Wards"), Lists: &[]uuid.UUID{list.ID}}, access.Setup)
	require.NoError(t, err)
	groups, err := store.Change(ctx, []revision.ObjectChange{group("Nurses", "10.40.0.0/16")}, access.Setup)
	require.NoError(t, err)
	at, err := store.DraftVersion(ctx)
	require.NoError(t, err)

	_, err = store.EditSchedule(ctx, office.ID, revision.ScheduleEdit{Text: new("tue 09:00-10:00")}, 0, access.Subscription)
	require.NoError(t, err)
	_, err = store.EditScorecard(ctx, card.ID, revision.ScorecardEdit{Threshold: new(9)}, 0, access.Subscription)
	require.NoError(t, err)
	_, err = store.EditOwnCategory(ctx, own.ID, revision.OwnCategoryEdit{Description: new("new")}, 0, access.Subscription)
	require.NoError(t, err)
	_, _, err = store.MergeEntries(ctx, list.ID, revision.NewBatch(pattern.MustParse("slots.example")), revision.Merging{}, 0, access.Subscription)
	require.NoError(t, err)
	edit := group("Nurses")
	edit.ID = groups[0].ID
	_, err = store.Change(ctx, []revision.ObjectChange{edit}, access.Subscription)
	require.NoError(t, err)
	left := []uuid.UUID{office.ID, card.ID, own.ID, list.ID, groups[0].ID}
	for len(left) > 0 {
		changed, err := store.Changed(ctx, at.Draft, 0)
		require.NoError(t, err)
		require.Len(t, changed, len(left))
		for _, c := range changed {
			assert.Equal(t, []string{"subscription"}, c.By, c.Name())
		}
		require.NoError(t, store.Restore(ctx, at.Draft, 0, left[:1], access.Subscription))
		left = left[1:]
	}
	names, err := store.Names(ctx, []uuid.UUID{office.ID, card.ID, own.ID, list.ID, groups[0].ID, uuid.New()})
	require.NoError(t, err)
	assert.Equal(t, map[uuid.UUID]string{office.ID: "Office", card.ID: "Words", own.ID: "Wards", list.ID: "Betting", groups[0].ID: "Nurses"}, names)
}

// Entries that only moved are unchanged; those with another text are changed.
func TestEntryDifferencesAreByWhatTheySay(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	list := newList(t, store, "Betting", "# first", "a.example", "b.example", "c.example # note", "# last")
	var lines []pattern.Entry
	for _, line := range []string{"c.example # another", "# last", "new.example", "a.example", "# second"} {
		lines = append(lines, pattern.MustParse(line))
	}
	_, _, err := store.Rewrite(ctx, list.ID, lines, 0, access.Setup)
	require.NoError(t, err)
	differ := func(from, to int64) map[string]string {
		t.Helper()
		found, err := store.EntryDifferences(ctx, list.ID, from, to, 0, 100)
		require.NoError(t, err)
		told := map[string]string{}
		for _, d := range found {
			before, after := "", ""
			if d.Before != nil {
				before = d.Before.String()
			}
			if d.After != nil {
				after = d.After.String()
			}
			told[before] += after
			if before == "" {
				delete(told, "")
				told[after] = "+"
			}
		}
		return told
	}
	want := map[string]string{"# first": "", "b.example": "", "c.example # note": "c.example # another", "new.example": "+", "# second": "+"}
	assert.Equal(t, want, differ(list.Version, 0))
	paged := 0
	for after := int64(0); ; paged++ {
		some, err := store.EntryDifferences(ctx, list.ID, list.Version, 0, after, 1)
		require.NoError(t, err)
		if len(some) == 0 {
			break
		}
		after = some[0].ID
	}
	assert.Equal(t, 5, paged, "page by page")
	_, err = store.EntryDifferences(ctx, uuid.New(), 1, 0, 0, 10)
	require.ErrorIs(t, err, revision.ErrNotFound)
}

// Recorded requests are read back unchanged, within the given period.
func TestJournal(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	kept := archive.New(store.Records(), 1<<20)
	_, _, n, err := kept.RecordedSpan(ctx)
	require.NoError(t, err)
	assert.Zero(t, n)
	begin := time.Date(2026, 11, 16, 0, 0, 0, 0, time.UTC)
	var records []journal.Record
	for i := range 100 {
		r := journal.Record{At: begin.Add(time.Duration(i) * time.Hour), Method: "GET", URL: fmt.Sprintf("https://site-%d.example/", i), Gate: policy.Proxy, Verdict: policy.Watch}
		switch i % 3 {
		case 0:
			r.Person = uuid.New()
		case 1:
			r.Address = netip.MustParseAddr("2001:db8::7")
		}
		records = append(records, r)
	}
	require.NoError(t, store.AddRecords(ctx, records, access.Setup))
	from, to, n, err := kept.RecordedSpan(ctx)
	require.NoError(t, err)
	assert.Equal(t, []any{begin, begin.Add(99 * time.Hour), int64(100)}, []any{from.UTC(), to.UTC(), n})
	var read []journal.Record
	require.NoError(t, kept.EachRecord(ctx, begin.Add(10*time.Hour), begin.Add(20*time.Hour), true, func(r journal.Record) error {
		read = append(read, r)
		return nil
	}))
	assert.Equal(t, records[10:20], read, "the end is outside")
}

// If several services look at once, a plan that is due is published once.
func TestPublishDueAtOnce(t *testing.T) {
	t.Parallel()
	store, ctx := open(t), t.Context()
	newList(t, store, "Betting")
	for i := range 5 {
		_, err := store.Plan(ctx, revision.Planned{Due: time.Now().Add(-time.Minute), Version: 2, Note: fmt.Sprint("plan ", i)}, access.Setup)
		require.NoError(t, err)
	}
	var published atomic.Int32
	var hands sync.WaitGroup
	for range 6 {
		hands.Go(func() {
			made, err := store.PublishDue(context.WithoutCancel(ctx), time.Now(), func(p revision.Planned) (revision.Publishing, error) {
				return revision.Publishing{Version: p.Version, Note: p.Note}, nil
			}, access.Setup)
			assert.NoError(t, err)
			published.Add(int32(len(made)))
		})
	}
	hands.Wait()
	assert.EqualValues(t, 5, published.Load())
	all, err := store.Revisions(ctx, 0, 10)
	require.NoError(t, err)
	assert.Len(t, all, 6)
	page, err := store.Revisions(ctx, all[2].Number, 2)
	require.NoError(t, err)
	assert.Equal(t, all[3:5], page)
}

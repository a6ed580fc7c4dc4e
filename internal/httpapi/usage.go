package httpapi

import (
	"context"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"widelark/internal/journal/usage"
)

// UsedObject is how often something decided, or was what requests were.
type UsedObject struct {
	ID       string     `json:"id" doc:"The id that was asked for; for scorecards too"`
	Entry    string     `json:"entry,omitempty" doc:"Of a list"`
	Requests int64      `json:"requests" doc:"In all the days that were asked for"`
	Stopped  int64      `json:"stopped" doc:"Of them: held or blocked"`
	Last     *time.Time `json:"last,omitempty" doc:"The last of them, or the last one before; left out where there is none"`
	Days     []int64    `json:"days" doc:"Requests by day, in UTC; the last one is today"`
}

type usageInput struct {
	Kind    usage.Kind `query:"kind" required:"true" enum:"rule,list,entry,exception,category,scorecard"`
	IDs     []string   `query:"id,explode" required:"true" maxItems:"500" doc:"Of objects; keys of categories. For entries, of their list"`
	Entries []string   `query:"entry,explode" maxItems:"500" doc:"Only these entries, in the notation"`
	Days    int        `query:"days" minimum:"1" maximum:"400" default:"30"`
}

type usageOutput struct {
	Body struct {
		From  time.Time    `json:"from" doc:"The first of the days"`
		Since *time.Time   `json:"since,omitempty" doc:"The first day that was counted; left out where nothing was"`
		Until *time.Time   `json:"until,omitempty" doc:"When records were counted last"`
		Used  []UsedObject `json:"used" doc:"In the order of the question; of entries, those that were used, and those that were asked for"`
	}
}

type unmetEntriesInput struct {
	ByID
	Days  int `query:"days" minimum:"1" maximum:"400" default:"90"`
	Limit int `query:"limit" minimum:"1" maximum:"10000" default:"200"`
}

// UnmetEntry is an entry that no recorded request met.
type UnmetEntry struct {
	ID    int64  `json:"id"`
	Entry string `json:"entry"`
}

type unmetEntriesOutput struct {
	Body struct {
		Told    bool         `json:"told" doc:"Whether the records say when each entry was used: they do where rules name the list by itself, and everything is recorded"`
		Count   int          `json:"count"`
		Entries []UnmetEntry `json:"entries" doc:"The first of them, in the list's order"`
		Since   *time.Time   `json:"since,omitempty" doc:"The first day that was counted; where it is later than the days that were asked for, there are no entries"`
	}
}

func (s *server) registerUsage(api huma.API) {
	huma.Register(api, operation("getUsage", http.MethodGet, "/usage", "Journal", "How often rules, lists, entries, exceptions, categories and scorecards were used, by day", 422), s.usage)
	huma.Register(api, operation("getUnmetEntries", http.MethodGet, "/lists/{id}/unmet", "Journal", "Entries of a list that were in it some days ago, and that no recorded request met since", 404), s.unmetEntries)
}

const day = 24 * time.Hour

// today is the beginning of the day, as use is counted by.
func (s *server) today() time.Time { return s.Now().UTC().Truncate(day) }

func (s *server) usage(ctx context.Context, in *usageInput) (*usageOutput, error) {
	from := s.today().AddDate(0, 0, 1-in.Days)
	asked := slices.Clone(in.IDs) // what is counted under them
	if in.Kind == usage.Scorecard {
		cards, err := s.Categories.Scorecards(ctx)
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		for i, id := range asked {
			for _, c := range cards {
				if c.ID.String() == id {
					asked[i] = c.Category
				}
			}
		}
	}
	found, err := s.Usage.Usage(ctx, in.Kind, asked, in.Entries, from)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &usageOutput{}
	out.Body.From, out.Body.Used = from, []UsedObject{}
	since, until, err := s.Usage.UsageSpan(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	if !since.IsZero() {
		out.Body.Since, out.Body.Until = &since, &until
	}
	add := func(id, entry string, n usage.Used) {
		one := UsedObject{ID: id, Entry: entry, Requests: n.Requests, Stopped: n.Stopped, Days: make([]int64, in.Days)}
		copy(one.Days, n.Days)
		if !n.Last.IsZero() {
			one.Last = &n.Last
		}
		out.Body.Used = append(out.Body.Used, one)
	}
	for i, id := range in.IDs {
		switch {
		case in.Kind != usage.Entry:
			add(id, "", found[usage.Key{Kind: in.Kind, ID: asked[i]}])
		case len(in.Entries) > 0:
			for _, entry := range in.Entries {
				add(id, entry, found[usage.Key{Kind: usage.Entry, ID: id, Entry: entry}])
			}
		default:
			counts := usage.Counts{}
			for key, n := range found {
				if key.ID == id {
					counts[key] = n.Count
				}
			}
			for _, key := range counts.Sorted() {
				add(id, key.Entry, found[key])
			}
		}
	}
	return out, nil
}

func (s *server) unmetEntries(ctx context.Context, in *unmetEntriesInput) (*unmetEntriesOutput, error) {
	out := &unmetEntriesOutput{}
	out.Body.Entries = []UnmetEntry{}
	if _, err := s.Store.List(ctx, in.ID); err != nil {
		return nil, s.problem(ctx, err)
	}
	told, err := s.Checks.MetByEntry(ctx, in.ID)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	from := s.Now().AddDate(0, 0, -in.Days)
	first, _, err := s.Usage.UsageSpan(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out.Body.Told = told
	if !first.IsZero() {
		out.Body.Since = &first
	}
	if !told || first.IsZero() || first.After(from) {
		return out, nil
	}
	found, err := s.Usage.UnmetEntries(ctx, in.ID, from)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out.Body.Count = len(found)
	for _, e := range found[:min(len(found), in.Limit)] {
		out.Body.Entries = append(out.Body.Entries, UnmetEntry(e))
	}
	return out, nil
}

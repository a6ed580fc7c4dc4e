package httpapi

import (
	"cmp"
	"context"
	"io"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/tidy"
	"widelark/internal/companion"
	"widelark/internal/revision"
	"widelark/internal/traffic"
	"widelark/internal/upkeep"
)

// Finding is something wrong with one entry.
type Finding struct {
	Kind       tidy.Kind `json:"kind" enum:"duplicate,covered,undone,ended,contradict,costly,elsewhere"`
	Absorbable bool      `json:"absorbable" doc:"Taking the entry out changes nothing about what the list covers"`
	Entry      EntryRef  `json:"entry" doc:"The entry that could go"`
	By         *EntryRef `json:"by,omitempty" doc:"The entry that makes it so"`
	List       *ListRef  `json:"list,omitempty" doc:"The list of that entry"`
	Shown      string    `json:"shown,omitempty" doc:"A URL that both cover"`
	Message    string    `json:"message" doc:"What is wrong, in one sentence"`
}

// FindingCount is how many findings of a kind there are.
type FindingCount struct {
	Kind       tidy.Kind `json:"kind" enum:"duplicate,covered,undone,ended,contradict,costly,elsewhere"`
	Absorbable bool      `json:"absorbable"`
	Count      int       `json:"count"`
}

type findingsInput struct {
	ByID
	Kinds []tidy.Kind `query:"kind" enum:"duplicate,covered,undone,ended,contradict,costly,elsewhere" doc:"Only findings of these kinds"`
	Limit int         `query:"limit" default:"200" minimum:"1" maximum:"2000"`
}

type findingsOutput struct {
	ETag string `header:"ETag"`
	Body struct {
		Counts   []FindingCount `json:"counts" doc:"Of all kinds, also those not asked for"`
		Findings []Finding      `json:"findings" doc:"The first of those asked for, in the list's order"`
	}
}

type tidyInput struct {
	ByID
	MayMatch
	Body struct {
		Kinds   []tidy.Kind `json:"kinds,omitempty" enum:"duplicate,covered,undone,ended" doc:"What to absorb; left out, all that can be"`
		Preview bool        `json:"preview,omitempty" doc:"Only say what would go"`
	}
}

type tidyOutput struct {
	ETag string `header:"ETag"`
	Body struct {
		Removed  int64     `json:"removed" doc:"Entries that went, or would go"`
		Findings []Finding `json:"findings" doc:"Why, for the first 200 of them"`
		Preview  bool      `json:"preview"`
		List     List      `json:"list"`
	}
}

type explainInput struct {
	Body struct {
		Lines   []string        `json:"lines" minItems:"1" maxItems:"2000" doc:"Lines of the notation"`
		Reading pattern.Reading `json:"reading,omitempty" enum:"exact,mending" doc:"Left out, exact"`
		Catches bool            `json:"catches,omitempty" doc:"Also say what each entry would catch of the recorded traffic, and what it covers by mistake; for up to 50 lines"`
		Days    int             `json:"days,omitempty" enum:"1,7,30,90" doc:"Of so many days of the journal; left out, 7"`
	}
}

// Explanation says all that is known about one line by itself.
type Explanation struct {
	Text       string       `json:"text" doc:"The line as given"`
	Entries    []string     `json:"entries" doc:"What it was read as"`
	Kind       pattern.Kind `json:"kind,omitempty" enum:"site,host,below,any-ending,host-glob,page-tree,page,path-glob,query,scheme,port,address,word,regex,everything,note"`
	Explain    string       `json:"explain,omitempty" doc:"What the entry covers, in one sentence"`
	Changes    []string     `json:"changes,omitempty" doc:"What was read differently than written"`
	Problem    *RefusedLine `json:"problem,omitempty" doc:"Why the line is not an entry; its line counts from 1"`
	Costly     bool         `json:"costly,omitempty" doc:"The entry names nothing that a URL would have to hold, so it is tried on every one"`
	NeedsFull  bool         `json:"needsFull,omitempty" doc:"The entry depends on more than host, port and scheme, so it works only where the whole URL is seen"`
	NearMisses []NearMiss   `json:"nearMisses,omitempty" doc:"URLs that the entry covers though that can hardly be meant"`
	Caught     *Caught      `json:"caught,omitempty" doc:"What it would catch of the recorded traffic"`
}

// NearMiss is a URL that a pattern covers though its author can hardly have meant it.
type NearMiss struct {
	URL     string `json:"url"`
	Why     string `json:"why" doc:"What in the pattern lets it in"`
	Tighter string `json:"tighter,omitempty" doc:"A pattern that does without it"`
}

// Caught is what an entry covers of the recorded traffic.
type Caught struct {
	Hosts    int          `json:"hosts" doc:"Different hosts"`
	Requests int64        `json:"requests" doc:"Requests to them"`
	Looked   int          `json:"looked" doc:"Pages that were looked at; 0 where nothing was recorded yet"`
	Top      []CaughtHost `json:"top" doc:"The 20 hosts that were asked for most"`
}

// CaughtHost is a host with pages that an entry covers.
type CaughtHost struct {
	Host     string `json:"host"`
	Shown    string `json:"shown" doc:"The page of it that was asked for most"`
	Requests int64  `json:"requests"`
}

type explainOutput struct {
	Body struct {
		Explanations []Explanation `json:"explanations" doc:"In the order of the lines"`
	}
}

// SeenPage is a page of recorded traffic.
type SeenPage struct {
	URL      string `json:"url" maxLength:"4096" doc:"A host, or a URL whose query does not count"`
	Requests int64  `json:"requests" minimum:"1"`
	LastOn   string `json:"lastOn" format:"date" doc:"The last day on which it was asked for, as 2026-11-23"`
}

type addSeenInput struct {
	Body struct {
		Pages []SeenPage `json:"pages" minItems:"1" maxItems:"20000"`
	}
}

type addSeenOutput struct {
	Body struct {
		Kept int `json:"kept" doc:"Pages that were web addresses"`
	}
}

type seenInput struct {
	Text  string `query:"text" maxLength:"200" doc:"Only hosts that hold this"`
	Limit int    `query:"limit" default:"20" minimum:"1" maximum:"500"`
}

type seenOutput struct {
	Body struct {
		Hosts []CaughtHost `json:"hosts" doc:"The most asked for first"`
	}
}

// Companion is a host that a recorded page needs.
type Companion struct {
	Host     string   `json:"host"`
	Page     bool     `json:"page" doc:"The page itself"`
	Requests int      `json:"requests"`
	Failed   int      `json:"failed" doc:"Requests without a good answer: perhaps blocked already"`
	Kinds    []string `json:"kinds" doc:"What was loaded from it"`
	SentFrom []string `json:"sentFrom" doc:"Hosts that send people on to it"`
	InList   bool     `json:"inList" doc:"The list lets it in"`
	Entry    string   `json:"entry" doc:"The line that would let it in, with a note that says why"`
}

// companionsInput takes the recording as a stream, which the schema cannot say.
type companionsInput struct {
	ByID
	body io.Reader
}

// Resolve keeps the body for the handler.
func (in *companionsInput) Resolve(ctx huma.Context) []error {
	in.body = &limited{r: ctx.BodyReader(), left: maxRecording}
	return nil
}

// maxRecording is the largest recording that is taken, in bytes. It is held in memory while it is read, at some twice its size.
const maxRecording = 64 << 20

type companionsOutput struct {
	Body struct {
		Page       string      `json:"page" doc:"The URL that the recording begins with"`
		Companions []Companion `json:"companions" doc:"The page's host first, then by requests"`
	}
}

func (s *server) registerUpkeep(api huma.API) {
	huma.Register(api, operation("getFindings", http.MethodGet, "/lists/{id}/findings", "Upkeep", "What is wrong with a list's entries", 404, 422), s.getFindings)
	huma.Register(api, operation("tidyList", http.MethodPost, "/lists/{id}/tidy", "Upkeep", "Take out the entries that change nothing about what the list covers", 404, 412, 422), s.tidyList)
	explain := operation("explainEntries", http.MethodPost, "/entries/explain", "Upkeep", "What do these lines cover, and what else", 422)
	explain.MaxBodyBytes = 16 << 20
	huma.Register(api, explain, s.explainEntries)
	add := operation("addSeen", http.MethodPost, "/seen", "Upkeep", "Add to what was seen of the traffic", 422)
	add.MaxBodyBytes = 32 << 20
	huma.Register(api, add, s.addSeen)
	huma.Register(api, operation("getSeen", http.MethodGet, "/seen", "Upkeep", "Hosts that were seen in the traffic", 422),
		func(ctx context.Context, in *seenInput) (*seenOutput, error) {
			found, err := s.Seen.SeenHosts(ctx, in.Text, in.Limit)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			out := &seenOutput{}
			out.Body.Hosts = make([]CaughtHost, len(found))
			for i, p := range found {
				out.Body.Hosts[i] = CaughtHost{p.Host, "https://" + p.Host + "/", p.Requests}
			}
			return out, nil
		})
	huma.Register(api, operation("getCompanions", http.MethodGet, "/lists/{id}/companions", "Upkeep", "Hosts that pages in a list load from, by the recorded requests of a week, and whether the list has them", 404), s.recordedCompanions)
	companions := operation("findCompanions", http.MethodPost, "/lists/{id}/companions", "Upkeep", "Hosts that a recorded page needs, and whether the list lets them in", 404, 413, 422)
	companions.BodyReadTimeout, companions.MaxBodyBytes = -1, -1 // limited counts
	companions.RequestBody = &huma.RequestBody{
		Required: true, Description: "An HTTP Archive (HAR 1.2), as browsers save their network log",
		Content: map[string]*huma.MediaType{"application/octet-stream": {Schema: &huma.Schema{Type: huma.TypeString}}},
	}
	huma.Register(api, companions, s.findCompanions)
}

func (s *server) getFindings(ctx context.Context, in *findingsInput) (*findingsOutput, error) {
	l, err := s.Store.List(ctx, in.ID)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	found, err := s.Examiner.Examine(ctx, l, in.Kinds, in.Limit)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &findingsOutput{ETag: etag(l.Version)}
	out.Body.Counts = []FindingCount{}
	for _, kind := range tidy.Kinds {
		if n := found.Counts[kind]; n > 0 {
			out.Body.Counts = append(out.Body.Counts, FindingCount{kind, kind.Absorbable(), n})
		}
	}
	out.Body.Findings = findings(found.Findings)
	return out, nil
}

func findings(found []tidy.Finding) []Finding {
	all := make([]Finding, len(found))
	for i, f := range found {
		all[i] = Finding{Kind: f.Kind, Absorbable: f.Kind.Absorbable(), Entry: entryRef(f.Entry), Shown: f.Shown, Message: f.Message}
		if f.By != nil {
			by, list := entryRef(*f.By), listRef(f.List)
			all[i].By, all[i].List = &by, &list
		}
	}
	return all
}

func (s *server) tidyList(ctx context.Context, in *tidyInput) (*tidyOutput, error) {
	version, err := in.version()
	if err != nil {
		return nil, err
	}
	l, err := s.Store.List(ctx, in.ID)
	if err == nil && version != 0 && version != l.Version {
		err = revision.ErrStale
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	kinds := in.Body.Kinds
	if len(kinds) == 0 {
		kinds = []tidy.Kind{tidy.Duplicate, tidy.Covered, tidy.Undone, tidy.Ended}
	}
	found, err := s.Examiner.Examine(ctx, l, kinds, 200)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	var ids []int64
	for _, kind := range kinds {
		ids = append(ids, found.Absorb[kind]...)
	}
	out := &tidyOutput{}
	out.Body.Preview, out.Body.Removed, out.Body.Findings = in.Body.Preview, int64(len(ids)), findings(found.Findings)
	if !in.Body.Preview && len(ids) > 0 {
		// The version that was looked at has to be the one that is tidied.
		if l, out.Body.Removed, err = s.Store.RemoveEntries(ctx, in.ID, revision.Selection{IDs: ids}, revision.ChangeTidied, found.Version, actor(ctx)); err != nil {
			return nil, s.problem(ctx, err)
		}
		s.Checks.Prepare(ctx)
	}
	out.ETag, out.Body.List = etag(l.Version), List(l)
	return out, nil
}

// maxCatches is how many lines are looked up in the recorded traffic at once.
const maxCatches = 50

func (s *server) explainEntries(ctx context.Context, in *explainInput) (*explainOutput, error) {
	out := &explainOutput{}
	out.Body.Explanations = make([]Explanation, len(in.Body.Lines))
	var patterns []pattern.Pattern
	var of []int
	for i, text := range in.Body.Lines {
		e := &out.Body.Explanations[i]
		line := pattern.ReadLine(i+1, text, in.Body.Reading)
		e.Text, e.Changes, e.Entries = text, line.Changes, []string{}
		if line.Err != nil {
			refused := refusedLine(line)
			e.Problem = &refused
			continue
		}
		for _, entry := range line.Entries {
			e.Entries = append(e.Entries, entry.String())
		}
		if len(line.Entries) == 0 {
			continue
		}
		entry := line.Entries[0]
		e.Kind, e.Explain = entry.Kind(), pattern.Explain(entry)
		if entry.Kind() == pattern.Note {
			continue
		}
		e.Costly, e.NeedsFull = match.Costly(entry.Pattern), match.NeedsFull(entry.Pattern)
		for _, miss := range tidy.NearMisses(entry.Pattern) {
			e.NearMisses = append(e.NearMisses, NearMiss(miss))
		}
		if in.Body.Catches && len(patterns) < maxCatches {
			patterns, of = append(patterns, entry.Pattern), append(of, i)
		}
	}
	if len(patterns) == 0 {
		return out, nil
	}
	catches, err := s.Examiner.Catches(ctx, patterns, cmp.Or(in.Body.Days, traffic.Days), 20)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	for n, c := range catches {
		caught := &Caught{Hosts: c.Hosts, Requests: c.Requests, Looked: c.Looked, Top: []CaughtHost{}}
		for _, h := range c.Top {
			caught.Top = append(caught.Top, CaughtHost{h.Host, h.Shown, h.Requests})
		}
		out.Body.Explanations[of[n]].Caught = caught
	}
	return out, nil
}

func (s *server) addSeen(ctx context.Context, in *addSeenInput) (*addSeenOutput, error) {
	pages := make([]revision.SeenPage, len(in.Body.Pages))
	for i, p := range in.Body.Pages {
		day, err := time.Parse(time.DateOnly, p.LastOn)
		if err != nil {
			return nil, s.problem(ctx, &revision.FieldError{Field: "pages", Msg: "a day as 2026-11-23 is wanted"})
		}
		pages[i] = revision.SeenPage{Host: p.URL, Requests: p.Requests, LastOn: day}
	}
	kept, err := s.Examiner.AddSeen(ctx, pages, actor(ctx))
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &addSeenOutput{}
	out.Body.Kept = kept
	return out, nil
}

// RecordedCompanion is a host that was asked for together with a page of a list.
type RecordedCompanion struct {
	Host   string `json:"host"`
	Page   string `json:"page" doc:"The host of the page"`
	Times  int    `json:"times" doc:"So often with the page"`
	Of     int    `json:"of" doc:"Of so many times that the page was asked for"`
	InList bool   `json:"inList"`
	Entry  string `json:"entry" doc:"That would let it in, with a note"`
}

type recordedCompanionsOutput struct {
	Body struct {
		Companions []RecordedCompanion `json:"companions" doc:"Those that come with their page most often first"`
	}
}

func (s *server) recordedCompanions(ctx context.Context, in *ByID) (*recordedCompanionsOutput, error) {
	if _, err := s.Store.List(ctx, in.ID); err != nil {
		return nil, s.problem(ctx, err)
	}
	found, err := s.Checks.Together(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	index, today, err := s.Editions.Index(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &recordedCompanionsOutput{}
	out.Body.Companions = []RecordedCompanion{}
	for _, c := range found {
		if upkeep.Companion(index, today, in.ID, c.Page) {
			entry := pattern.Entry{Pattern: upkeep.Suggested(c.Needs, c.Page), Note: c.Page.Host() + " loads from it"}
			out.Body.Companions = append(out.Body.Companions, RecordedCompanion{Host: c.Needs.Host(), Page: c.Page.Host(), Times: c.Times, Of: c.Of, InList: upkeep.Companion(index, today, in.ID, c.Needs), Entry: entry.String()})
		}
	}
	return out, nil
}

func (s *server) findCompanions(ctx context.Context, in *companionsInput) (*companionsOutput, error) {
	if _, err := s.Store.List(ctx, in.ID); err != nil {
		return nil, s.problem(ctx, err)
	}
	hosts, err := companion.Read(in.body)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	index, today, err := s.Editions.Index(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &companionsOutput{}
	page := hosts[0]
	out.Body.Page = page.First.String()
	for _, h := range hosts {
		entry := pattern.Entry{Pattern: upkeep.Suggested(h.First, page.First), Note: h.Note(page.Host)}
		out.Body.Companions = append(out.Body.Companions, Companion{
			Host: h.Host, Page: h.IsPage, Requests: h.Requests, Failed: h.Failed, Kinds: orEmpty(h.Kinds), SentFrom: orEmpty(h.SentFrom),
			InList: upkeep.Companion(index, today, in.ID, h.First), Entry: entry.String(),
		})
	}
	return out, nil
}

func orEmpty(texts []string) []string {
	if texts == nil {
		return []string{}
	}
	return texts
}

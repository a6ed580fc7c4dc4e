package httpapi

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"mime"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/core/pattern"
	"widelark/internal/listfile"
	"widelark/internal/revision"
)

// Entry is one line of a list.
type Entry struct {
	ID       int64        `json:"id"`
	Kind     pattern.Kind `json:"kind" enum:"site,host,below,any-ending,host-glob,page-tree,page,path-glob,query,scheme,port,address,word,regex,everything,note"`
	Text     string       `json:"text" doc:"The whole line in the notation"`
	Pattern  string       `json:"pattern" doc:"The pattern alone; empty for a note"`
	CarveOut bool         `json:"carveOut" doc:"Taken out of the list"`
	Until    string       `json:"until,omitempty" doc:"The last day in force, as 2026-12-24; left out where there is no end"`
	Off      bool         `json:"off" doc:"Kept, but not in force"`
	Note     string       `json:"note"`
	Explain  string       `json:"explain" doc:"What the entry covers, in one sentence"`
	AddedAt  time.Time    `json:"addedAt"`
	AddedBy  string       `json:"addedBy"`
}

func entryBody(e revision.Entry) Entry {
	return Entry{
		ID: e.ID, Kind: e.Kind(), Text: e.String(), Pattern: e.Pattern.String(), CarveOut: e.CarveOut,
		Until: e.Until.String(), Off: e.Off, Note: e.Note, Explain: pattern.Explain(e.Entry), AddedAt: e.AddedAt, AddedBy: e.AddedBy,
	}
}

type entriesInput struct {
	ByID
	After string       `query:"after" doc:"The cursor that the page before gave as next"`
	Limit int          `query:"limit" default:"200" minimum:"1" maximum:"2000"`
	Text  string       `query:"text" maxLength:"200" doc:"Only entries whose pattern or note holds this, letter case aside"`
	Kind  pattern.Kind `query:"kind" enum:"site,host,below,any-ending,host-glob,page-tree,page,path-glob,query,scheme,port,address,word,regex,everything,note" doc:"Only entries of this kind"`
}

type entriesOutput struct {
	Body struct {
		Entries []Entry `json:"entries" doc:"In the list's order"`
		Total   int64   `json:"total" doc:"How many there are on all pages"`
		Next    string  `json:"next,omitempty" doc:"The cursor of the next page; left out on the last"`
	}
}

// FoundEntry is an entry with its list.
type FoundEntry struct {
	Entry
	List ListRef `json:"list"`
}

type findEntriesInput struct {
	Text  string `query:"text" required:"true" minLength:"2" maxLength:"200" doc:"What the pattern or the note holds, letter case aside"`
	After string `query:"after" doc:"The cursor that the page before gave as next"`
	Limit int    `query:"limit" default:"200" minimum:"1" maximum:"2000"`
}

type findEntriesOutput struct {
	Body struct {
		Entries []FoundEntry `json:"entries" doc:"The oldest first"`
		Next    string       `json:"next,omitempty" doc:"The cursor of the next page; left out on the last"`
	}
}

type addEntriesInput struct {
	ByID
	MayMatch
	Body struct {
		Lines   []string        `json:"lines" minItems:"1" maxItems:"10000" doc:"Lines of the notation"`
		Reading pattern.Reading `json:"reading,omitempty" enum:"exact,mending" default:"exact" doc:"mending turns what people paste into the entry meant, and says how"`
	}
}

// MaxImport is the size of the largest file that is accepted, in bytes, unpacked.
const MaxImport = 128 << 20

var errTooLarge = fmt.Errorf("The file is larger than %d MiB. Split it, and import the parts one after the other.", MaxImport>>20)

// importInput takes the file as a stream, which the schema cannot express.
type importInput struct {
	ByID
	MayMatch
	Reading pattern.Reading `query:"reading" enum:"exact,mending" default:"mending" doc:"exact takes notation only; mending also turns what people keep and paste into the entry meant, and says how"`
	Preview bool            `query:"preview" doc:"Only report what would become of everything; nothing is kept"`
	Replace bool            `query:"replace" doc:"Take out the entries that are not in the file; those that stay keep their notes"`
	Format  listfile.Format `query:"format" enum:"lines,domains,hosts,csv,jsonl,zone" default:"lines" doc:"How the file writes entries. lines is the notation and, with mending, what people keep. Each may be packed with gzip or zstd"`
	Column  string          `query:"column" maxLength:"200" doc:"csv: the column with the entries, by its name or its number from 1 on (default the first). jsonl: the field (default entry)"`
	Note    string          `query:"noteColumn" maxLength:"200" doc:"csv: the column with the notes. jsonl: the field (default note)"`
	Until   string          `query:"untilColumn" maxLength:"200" doc:"csv: the column with the last days. jsonl: the field (default until)"`
	Report  int             `query:"report" default:"1000" minimum:"0" maximum:"100000" doc:"How many changed and how many refused lines the report shows; all are counted"`
	body    io.Reader
}

// Resolve keeps the body for the handler.
func (in *importInput) Resolve(ctx huma.Context) []error {
	in.body = &limited{r: ctx.BodyReader(), left: MaxImport}
	media, params, err := mime.ParseMediaType(ctx.Header("Content-Type"))
	if err != nil || !slices.Contains(fileMedia, media) {
		return []error{huma.NewError(http.StatusUnsupportedMediaType, "Send the file as one of "+strings.Join(fileMedia, ", ")+".")}
	}
	if charset := strings.ToLower(params["charset"]); charset != "" && charset != "utf-8" && charset != "us-ascii" && charset != "utf-16" {
		return []error{huma.NewError(http.StatusUnsupportedMediaType, "Send the file as UTF-8; this one says that it is "+charset+".")}
	}
	return nil
}

// fileMedia are the media types that files come as. The parameter format says what they hold; packing is recognised by their first
// bytes.
var fileMedia = []string{"text/plain", "text/csv", "application/x-ndjson", "application/gzip", "application/zstd", "application/octet-stream"}

// limited fails with errTooLarge if a reader exceeds its limit.
type limited struct {
	r    io.Reader
	left int64
}

func (l *limited) Read(p []byte) (int, error) {
	if l.left <= 0 {
		return 0, errTooLarge
	}
	n, err := l.r.Read(p[:min(int64(len(p)), l.left)])
	l.left -= int64(n)
	return n, err
}

// Report accounts for every line.
type Report struct {
	Lines        int           `json:"lines" doc:"The sum of blank, notes, good, changed and refused"`
	Blank        int           `json:"blank"`
	Notes        int           `json:"notes" doc:"Lines that are a note alone"`
	Good         int           `json:"good" doc:"Lines that are notation as they stand"`
	Changed      int           `json:"changed" doc:"Lines that were turned into the entry meant"`
	Refused      int           `json:"refused"`
	Added        int64         `json:"added" doc:"Entries that the list did not have"`
	Updated      int64         `json:"updated" doc:"Entries that it had with another note or other attributes"`
	Same         int64         `json:"same" doc:"Entries that it had, or that were named before in the file"`
	Removed      int64         `json:"removed" doc:"Entries taken out, because the file replaced the list and does not name them"`
	Preview      bool          `json:"preview" doc:"Nothing was kept"`
	ChangedLines []ChangedLine `json:"changedLines" doc:"As many as were asked for"`
	RefusedLines []RefusedLine `json:"refusedLines" doc:"As many as were asked for"`
	List         *List         `json:"list,omitempty" doc:"The list after it; left out for a preview"`
}

// ChangedLine is a line that was turned into the entry meant.
type ChangedLine struct {
	Line    int      `json:"line" doc:"1-based"`
	Text    string   `json:"text" doc:"The line of the file"`
	Entries []string `json:"entries" doc:"What it was read as"`
	Changes []string `json:"changes" doc:"What was read differently than written, a clause each"`
}

// RefusedLine is a line that is not an entry.
type RefusedLine struct {
	Line       int          `json:"line" doc:"1-based"`
	Column     int          `json:"column" doc:"1-based, in characters"`
	Text       string       `json:"text" doc:"The line of the file"`
	Code       pattern.Code `json:"code" enum:"bad-host,bad-path,bad-query,bad-word,bad-scheme,bad-regex,bad-attribute,misplaced,too-long,not-text"`
	Found      string       `json:"found"`
	Expected   string       `json:"expected"`
	Suggestion string       `json:"suggestion,omitempty" doc:"An entry that is probably meant"`
	Message    string       `json:"message" doc:"All of it in one sentence"`
}

type reportOutput struct {
	ETag string `header:"ETag"`
	Body Report
}

func reportBody(r revision.Report, l revision.List, preview bool) *reportOutput {
	out := &reportOutput{Body: Report{
		Lines: r.Lines, Blank: r.Blank, Notes: r.Notes, Good: r.Good, Changed: r.Changed, Refused: r.Refused,
		Added: r.Added, Updated: r.Updated, Same: r.Same, Removed: r.Removed, Preview: preview,
		ChangedLines: []ChangedLine{}, RefusedLines: []RefusedLine{},
	}}
	for _, line := range r.ChangedLines {
		changed := ChangedLine{Line: line.Number, Text: shown(line.Text), Changes: line.Changes}
		for _, entry := range line.Entries {
			changed.Entries = append(changed.Entries, entry.String())
		}
		out.Body.ChangedLines = append(out.Body.ChangedLines, changed)
	}
	for _, line := range r.RefusedLines {
		out.Body.RefusedLines = append(out.Body.RefusedLines, refusedLine(line))
	}
	if !preview {
		out.ETag, out.Body.List = etag(l.Version), (*List)(&l)
	}
	return out
}

func refusedLine(line pattern.Line) RefusedLine {
	err := line.Err
	return RefusedLine{
		Line: line.Number, Column: err.Column, Text: shown(line.Text), Code: err.Code,
		Found: shown(err.Found), Expected: err.Expected, Suggestion: err.Suggestion, Message: err.Error(),
	}
}

// shown shortens a line of a file to what a report can show.
func shown(text string) string {
	const most = 500
	if text = strings.ToValidUTF8(text, "\uFFFD"); len(text) > most {
		return strings.ToValidUTF8(text[:most], "") + "…"
	}
	return text
}

func (s *server) registerEntries(api huma.API) {
	huma.Register(api, operation("getEntries", http.MethodGet, "/lists/{id}/entries", "Entries", "Entries of a list, page by page", 404, 422), s.getEntries)
	huma.Register(api, operation("findEntries", http.MethodGet, "/entries", "Entries", "Entries of all lists that mention a text", 422), s.findEntries)
	add := operation("addEntries", http.MethodPost, "/lists/{id}/entries", "Entries", "Add lines to a list; bad ones are reported and do not stop the others", 404, 412, 422)
	add.MaxBodyBytes = 16 << 20
	huma.Register(api, add, func(ctx context.Context, in *addEntriesInput) (*reportOutput, error) {
		for i, line := range in.Body.Lines {
			if strings.ContainsAny(line, "\r\n") {
				return nil, s.problem(ctx, &revision.FieldError{Field: fmt.Sprintf("lines[%d]", i), Msg: "one line is wanted, without a line end"})
			}
		}
		lines := func(each func(pattern.Line) error) error {
			return listfile.ReadTexts(in.Body.Lines, in.Body.Reading, each)
		}
		return s.merge(ctx, in.ID, lines, revision.Merging{}, in.MayMatch)
	})
	load := operation("importEntries", http.MethodPost, "/lists/{id}/import", "Entries", "Add a file to a list, in one transaction", 404, 412, 413, 415, 422)
	load.BodyReadTimeout = -1 // a large file over a slow line may take its time
	load.MaxBodyBytes = -1    // limited counts
	load.RequestBody = &huma.RequestBody{
		Required: true, Description: "The file, plain or packed with gzip or zstd; also as text/csv, application/x-ndjson, application/gzip, application/zstd",
		Content: map[string]*huma.MediaType{"text/plain": {Schema: &huma.Schema{Type: huma.TypeString}}},
	}
	huma.Register(api, load, func(ctx context.Context, in *importInput) (*reportOutput, error) {
		how := revision.Merging{Replace: in.Replace, Preview: in.Preview, Shown: in.Report}
		if in.Report == 0 {
			how.Shown = -1
		}
		options := listfile.Options{Format: in.Format, Reading: in.Reading, Entry: in.Column, Note: in.Note, Until: in.Until}
		lines := func(each func(pattern.Line) error) error {
			plain, err := listfile.Unpacked(in.body)
			if err != nil {
				return err
			}
			defer plain.Close()
			return listfile.Read(&limited{r: plain, left: MaxImport}, options, each) // what a small packed file holds may be very large
		}
		return s.merge(ctx, in.ID, lines, how, in.MayMatch)
	})

	export := operation("exportEntries", http.MethodGet, "/lists/{id}/export", "Entries", "The whole list as a file", 404, 422)
	export.Metadata = anyLength
	export.Responses = map[string]*huma.Response{"200": {
		Description: "One entry a line", Content: map[string]*huma.MediaType{"text/plain": {Schema: &huma.Schema{Type: huma.TypeString}}},
	}}
	huma.Register(api, export, s.exportEntries)
}

// cursor reads a numeric cursor; an empty one is 0.
func cursor(text string) (int64, error) {
	after, err := strconv.ParseInt("0"+text, 10, 64)
	if err != nil {
		return 0, huma.Error422UnprocessableEntity("The page cannot be found.",
			&huma.ErrorDetail{Message: "no cursor of ours", Location: "query.after"})
	}
	return after, nil
}

func (s *server) findEntries(ctx context.Context, in *findEntriesInput) (*findEntriesOutput, error) {
	after, err := cursor(in.After)
	if err != nil {
		return nil, err
	}
	found, err := s.Store.FindEntries(ctx, in.Text, after, in.Limit+1)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &findEntriesOutput{}
	if len(found) > in.Limit {
		found = found[:in.Limit]
		out.Body.Next = strconv.FormatInt(found[in.Limit-1].ID, 10)
	}
	out.Body.Entries = make([]FoundEntry, len(found))
	for i, f := range found {
		out.Body.Entries[i] = FoundEntry{entryBody(f.Entry), ListRef(f.List)}
	}
	return out, nil
}

func (s *server) getEntries(ctx context.Context, in *entriesInput) (*entriesOutput, error) {
	after, err := cursor(in.After)
	if err != nil {
		return nil, err
	}
	found, total, err := s.Store.Entries(ctx, in.ID, revision.EntryQuery{After: after, Limit: in.Limit + 1, Text: in.Text, Kind: in.Kind})
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &entriesOutput{}
	out.Body.Total = total
	if len(found) > in.Limit {
		found = found[:in.Limit]
		out.Body.Next = strconv.FormatInt(found[in.Limit-1].ID, 10)
	}
	out.Body.Entries = make([]Entry, len(found))
	for i, entry := range found {
		out.Body.Entries[i] = entryBody(entry)
	}
	return out, nil
}

func (s *server) merge(ctx context.Context, id uuid.UUID, lines func(each func(pattern.Line) error) error, how revision.Merging, match MayMatch) (*reportOutput, error) {
	version, err := match.version()
	if err != nil {
		return nil, err
	}
	if _, err := s.Store.List(ctx, id); err != nil { // before a long file is read for nothing
		return nil, s.problem(ctx, err)
	}
	l, report, err := revision.ImportLines(ctx, s.Store, id, lines, how, version, actor(ctx))
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	if !how.Preview {
		s.Checks.Prepare(ctx)
	}
	return reportBody(report, l, how.Preview), nil
}

type exportInput struct {
	ByID
	Format  listfile.Format  `query:"format" enum:"lines,domains,hosts,csv,jsonl" default:"lines" doc:"domains and hosts hold hosts only; what they cannot say is left out, and counted at the end"`
	Packing listfile.Packing `query:"packing" enum:",gzip,zstd" doc:"Left out, the file is plain"`
}

// mediaOf is the media type of each format.
var mediaOf = map[listfile.Format]string{listfile.CSV: "text/csv; charset=utf-8", listfile.JSONLines: "application/x-ndjson"}

func (s *server) exportEntries(ctx context.Context, in *exportInput) (*huma.StreamResponse, error) {
	l, err := s.Store.List(ctx, in.ID)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return &huma.StreamResponse{Body: func(hctx huma.Context) {
		media := cmp.Or(mediaOf[in.Format], "text/plain; charset=utf-8")
		if in.Packing != listfile.Plain {
			media = "application/" + string(in.Packing)
		}
		hctx.SetHeader("Content-Type", media)
		hctx.SetHeader("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": l.Name + "." + listfile.Ending(in.Format, in.Packing)}))
		hctx.SetHeader("ETag", etag(l.Version))
		w, err := listfile.NewWriter(hctx.BodyWriter(), in.Format, in.Packing)
		if err == nil {
			err = s.Store.EachEntry(ctx, in.ID, func(_ int64, entry pattern.Entry) error { return w.Write(entry) })
		}
		if err == nil {
			err = w.Close()
		}
		if err != nil {
			// The status has been sent: cutting the connection is the only way left to signal that the file is incomplete.
			s.Log.WarnContext(ctx, "an export broke off", "list", l.Name, "error", err)
			panic(http.ErrAbortHandler)
		}
	}}, nil
}

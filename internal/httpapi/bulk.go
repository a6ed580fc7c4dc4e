package httpapi

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/core/pattern"
	"widelark/internal/revision"
)

// Selection chooses entries of a list.
type Selection struct {
	IDs   []int64         `json:"ids,omitempty" maxItems:"10000"`
	Lines []pattern.Entry `json:"lines,omitempty" maxItems:"10000" doc:"Entries as they are written; notes and attributes do not count"`
	All   bool            `json:"all,omitempty" doc:"Every entry that text and kind leave, also those on no page yet; ids and lines do not count then"`
	Text  string          `json:"text,omitempty" maxLength:"200" doc:"Only entries whose pattern or note holds this, letter case aside"`
	Kind  pattern.Kind    `json:"kind,omitempty" enum:"site,host,below,any-ending,host-glob,page-tree,page,path-glob,query,scheme,port,address,word,regex,everything,note,unreadable" doc:"Only entries of this kind"`
}

// selection reads which entries of a list are meant. A line that cannot be read matches an unreadable entry with the same text.
func (s *server) selection(ctx context.Context, list uuid.UUID, in Selection) (revision.Selection, error) {
	which := revision.Selection{IDs: in.IDs, All: in.All, Text: in.Text, Kind: in.Kind}
	unread := map[string]error{}
	var texts []string
	for i, entry := range in.Lines {
		err := entry.Err()
		if err == nil && entry.Kind() == pattern.Note {
			err = errors.New("an entry is wanted")
		}
		if err != nil {
			text := strings.TrimSpace(entry.String())
			unread[text] = &revision.FieldError{Field: fmt.Sprintf("lines[%d]", i), Msg: err.Error()}
			texts = append(texts, text)
			continue
		}
		which.Keys = append(which.Keys, entry.Key())
	}
	if len(texts) == 0 {
		return which, nil
	}
	kept, err := s.Store.KeptAs(ctx, list, texts)
	if err != nil {
		return which, err
	}
	for _, text := range texts {
		if len(kept[text]) == 0 {
			return which, unread[text]
		}
		which.IDs = append(which.IDs, kept[text]...)
	}
	return which, nil
}

type removeEntriesInput struct {
	ByID
	MayMatch
	Body Selection
}

type removeEntriesOutput struct {
	ETag string `header:"ETag"`
	Body struct {
		Removed int64 `json:"removed"`
		List    List  `json:"list"`
	}
}

type editEntriesInput struct {
	ByID
	MayMatch
	Body struct {
		Which Selection `json:"which"`
		Note  *string   `json:"note,omitempty" maxLength:"4000" doc:"The new note; empty removes it"`
		Until *string   `json:"until,omitempty" doc:"The new last day, as 2026-12-24; empty removes it"`
		Off   *bool     `json:"off,omitempty" doc:"Whether the entries are kept, but not in force"`
	}
}

type editEntriesOutput struct {
	ETag string `header:"ETag"`
	Body struct {
		Edited int64 `json:"edited" doc:"Entries that are not as they were"`
		List   List  `json:"list"`
	}
}

type copyEntriesInput struct {
	ByID
	MayMatch
	Body struct {
		Which Selection `json:"which"`
		To    uuid.UUID `json:"to" format:"uuid" doc:"The list that they go into"`
		Move  bool      `json:"move,omitempty" doc:"Take them out where they are"`
	}
}

type copyEntriesOutput struct {
	Body struct {
		Added   int64 `json:"added" doc:"Entries that the other list did not have"`
		Updated int64 `json:"updated" doc:"Entries that it had with another note or other attributes"`
		Same    int64 `json:"same" doc:"Entries that it had just so"`
		Removed int64 `json:"removed" doc:"Entries taken out where they were"`
		List    List  `json:"list" doc:"The list that they went into"`
	}
}

type textInput struct {
	ByID
	MustMatch
	Body struct {
		Lines []string `json:"lines" maxItems:"10000" doc:"Every line of the list, in order. Blank lines are passed over"`
	}
}

func (s *server) registerBulk(api huma.API) {
	remove := operation("removeEntries", http.MethodPost, "/lists/{id}/entries/remove", "Entries", "Take entries out of a list", 404, 412, 422)
	remove.MaxBodyBytes = 16 << 20
	huma.Register(api, remove, func(ctx context.Context, in *removeEntriesInput) (*removeEntriesOutput, error) {
		version, err := in.version()
		if err != nil {
			return nil, err
		}
		which, err := s.selection(ctx, in.ID, in.Body)
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		l, removed, err := s.Store.RemoveEntries(ctx, in.ID, which, revision.ChangeRemoved, version, actor(ctx))
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		s.Checks.Prepare(ctx)
		out := &removeEntriesOutput{ETag: etag(l.Version)}
		out.Body.Removed, out.Body.List = removed, List(l)
		return out, nil
	})

	edit := operation("editEntries", http.MethodPatch, "/lists/{id}/entries", "Entries", "Set note, last day or switch of some entries", 404, 412, 422)
	edit.MaxBodyBytes = 16 << 20
	huma.Register(api, edit, s.editEntries)

	duplicate := operation("copyEntries", http.MethodPost, "/lists/{id}/entries/copy", "Entries", "Copy or move entries into another list", 404, 412, 422)
	duplicate.MaxBodyBytes = 16 << 20
	huma.Register(api, duplicate, func(ctx context.Context, in *copyEntriesInput) (*copyEntriesOutput, error) {
		version, err := in.version()
		if err != nil {
			return nil, err
		}
		which, err := s.selection(ctx, in.ID, in.Body.Which)
		if err == nil && in.Body.To == in.ID {
			err = &revision.FieldError{Field: "to", Msg: "this is the list where they are"}
		}
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		l, merged, err := s.Store.CopyEntries(ctx, in.ID, in.Body.To, which, in.Body.Move, version, actor(ctx))
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		s.Checks.Prepare(ctx)
		out := &copyEntriesOutput{}
		out.Body.Added, out.Body.Updated, out.Body.Same, out.Body.Removed, out.Body.List = merged.Added, merged.Updated, merged.Same, merged.Removed, List(l)
		return out, nil
	})

	text := operation("rewriteList", http.MethodPut, "/lists/{id}/text", "Entries", "Make a list of up to 10,000 lines just these lines", 404, 412, 422, 428)
	text.MaxBodyBytes = 64 << 20
	huma.Register(api, text, s.rewriteList)
}

func (s *server) editEntries(ctx context.Context, in *editEntriesInput) (*editEntriesOutput, error) {
	version, err := in.version()
	if err != nil {
		return nil, err
	}
	which, err := s.selection(ctx, in.ID, in.Body.Which)
	edit := revision.EntryEdit{Note: in.Body.Note, Off: in.Body.Off}
	if until := in.Body.Until; err == nil && until != nil {
		edit.Until = &pattern.Date{}
		if *until != "" {
			if *edit.Until, err = pattern.ParseDate(*until); err != nil {
				err = &revision.FieldError{Field: "until", Msg: "a day as 2026-12-24 is wanted"}
			}
		}
	}
	if note := edit.Note; err == nil && note != nil {
		if strings.ContainsAny(*note, "\r\n\x00") {
			err = &revision.FieldError{Field: "note", Msg: "one line is wanted"}
		}
		*note = strings.TrimSpace(*note)
	}
	if err == nil && edit == (revision.EntryEdit{}) {
		err = &revision.FieldError{Msg: "nothing to change: give a note, a last day or the switch"}
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	l, edited, err := s.Store.EditEntries(ctx, in.ID, which, edit, version, actor(ctx))
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	s.Checks.Prepare(ctx)
	out := &editEntriesOutput{ETag: etag(l.Version)}
	out.Body.Edited, out.Body.List = edited, List(l)
	return out, nil
}

// rewriteList takes all lines or, if one of them is not an entry or occurs twice, none.
func (s *server) rewriteList(ctx context.Context, in *textInput) (*reportOutput, error) {
	version, err := in.version()
	if err != nil {
		return nil, err
	}
	var report revision.Report
	var entries []pattern.Entry
	at := map[string]int{}
	for i, line := range in.Body.Lines {
		entry, err := pattern.Parse(line)
		if err == nil && strings.ContainsAny(line, "\r\n") {
			err = errors.New("one line is wanted, without a line end")
		}
		report.Lines++
		key := entry.Key()
		switch first, twice := at[key]; {
		case err != nil:
			return nil, s.problem(ctx, &revision.FieldError{Field: fmt.Sprintf("lines[%d]", i), Msg: err.Error()})
		case entry == pattern.Entry{}:
			report.Blank++
			continue
		case entry.Kind() == pattern.Note:
			report.Notes++
		case twice:
			return nil, s.problem(ctx, &revision.FieldError{Field: fmt.Sprintf("lines[%d]", i), Msg: fmt.Sprintf("the same entry stands on line %d", first+1)})
		default:
			report.Good++
			at[key] = i
		}
		entries = append(entries, entry)
	}
	l, merged, err := s.Store.Rewrite(ctx, in.ID, entries, version, actor(ctx))
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	report.Merged = merged
	s.Checks.Prepare(ctx)
	return reportBody(report, l, false), nil
}

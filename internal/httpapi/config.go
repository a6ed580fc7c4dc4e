package httpapi

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"reflect"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/core/pattern"
	"widelark/internal/change"
	"widelark/internal/configfile"
	"widelark/internal/revision"
)

type configOutput struct {
	Body struct {
		Version int64             `json:"version" doc:"Of the draft"`
		Files   map[string]string `json:"files" doc:"By their paths: YAML, lists as text, and schema.json for editors"`
	}
}

type configInput struct {
	Body struct {
		Files map[string]string `json:"files" doc:"By their paths, as an export has them. Objects that are not in them go"`
	}
}

type applyInput struct {
	Body struct {
		Files   map[string]string `json:"files" doc:"By their paths, as an export has them. Objects that are not in them go"`
		Version int64             `json:"version,omitempty" doc:"Of the draft, as a plan was made for it: where it has gone on since, nothing is done. Left out: whatever it is"`
	}
}

type configPlanOutput struct {
	Body struct {
		Version int64              `json:"version" doc:"Of the draft that the files were compared with"`
		Changes []ObjectDifference `json:"changes" doc:"What applying the files would do to the draft"`
	}
}

// maxConfigBytes bounds the size of configuration files: a million entries are some 25 MB.
const maxConfigBytes = 256 << 20

func (s *server) registerConfig(api huma.API) {
	huma.Register(api, operation("exportConfig", http.MethodGet, "/config", "Configuration", "The whole configuration of the draft as files"), s.exportConfig)
	plan := operation("planConfig", http.MethodPost, "/config/plan", "Configuration", "What applying files would do to the draft", 422)
	plan.MaxBodyBytes = maxConfigBytes
	huma.Register(api, plan, func(ctx context.Context, in *configInput) (*configPlanOutput, error) {
		_, changes, version, err := s.planned(ctx, in.Body.Files)
		if err != nil {
			return nil, err
		}
		out := &configPlanOutput{}
		out.Body.Version, out.Body.Changes = version, changes
		return out, nil
	})
	apply := operation("applyConfig", http.MethodPost, "/config/apply", "Configuration", "Make the draft what files say", 403, 412, 422)
	apply.MaxBodyBytes = maxConfigBytes
	huma.Register(api, apply, func(ctx context.Context, in *applyInput) (*configPlanOutput, error) {
		var changes []ObjectDifference
		var version int64
		for {
			target, differ, planned, err := s.planned(ctx, in.Body.Files)
			if err != nil {
				return nil, err
			}
			if in.Body.Version != 0 && in.Body.Version != planned {
				return nil, s.problem(ctx, revision.ErrStale)
			}
			if changes, version = differ, planned; len(differ) == 0 {
				break
			}
			// Without a version, the draft as it is now is meant, even if it was edited since the comparison.
			err = s.Publishing.Apply(ctx, target, planned, actor(ctx))
			if err == nil {
				break
			}
			if !errors.Is(err, revision.ErrStale) || in.Body.Version != 0 || ctx.Err() != nil {
				return nil, s.problem(ctx, err)
			}
		}
		if len(changes) > 0 {
			s.Checks.Prepare(ctx)
		}
		out := &configPlanOutput{}
		out.Body.Version, out.Body.Changes = version, changes
		return out, nil
	})
}

func (s *server) exportConfig(ctx context.Context, _ *struct{}) (*configOutput, error) {
	objects, version, err := s.Publishing.AllObjects(ctx)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	files, err := configfile.Write(configfile.Source{Objects: objects, Names: namesOf(objects), Lists: func(id uuid.UUID, each func(string) error) error {
		return s.Store.EachEntry(ctx, id, func(_ int64, e pattern.Entry) error { return each(e.String()) })
	}})
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &configOutput{}
	out.Body.Version, out.Body.Files = version, files
	return out, nil
}

func namesOf(objects []revision.Object) map[uuid.UUID]string {
	names := map[uuid.UUID]string{}
	for _, o := range objects {
		names[o.ID] = o.Name
	}
	return names
}

// planned reads files and returns what applying them would change; the target holds only what differs.
func (s *server) planned(ctx context.Context, files map[string]string) (target revision.Target, changes []ObjectDifference, version int64, err error) {
	known, version, err := s.Publishing.AllObjects(ctx)
	if err != nil {
		return target, nil, 0, s.problem(ctx, err)
	}
	read, err := configfile.Read(files, configfile.Known{Objects: known})
	if err != nil {
		return target, nil, 0, fileProblem(err)
	}
	target.Entries = map[uuid.UUID][]pattern.Entry{}
	was := map[uuid.UUID]revision.Object{}
	for _, o := range known {
		was[o.ID] = o
	}
	var states []revision.ObjectState
	stays, first := map[uuid.UUID]bool{}, map[uuid.UUID][]EntryChange{}
	for _, o := range read.Objects {
		stays[o.ID] = true
		before, there := was[o.ID]
		st := revision.ObjectState{ID: o.ID, Kind: o.Kind, At: s.Now(), By: []string{caller(ctx).Name}}
		after := o
		st.After = &after
		if there {
			st.Before = &before
		}
		differs := !there || before.Name != o.Name || !sameBody(before.Body, o.Body)
		if lines, ok := read.Entries[o.ID]; ok {
			differ, err := s.entriesDiffer(ctx, o.ID, there, lines)
			if err != nil {
				return target, nil, 0, s.problem(ctx, err)
			}
			if differ != nil {
				st.Entries = &revision.EntryCounts{Added: differ.Added, Edited: differ.Edited, Removed: differ.Removed}
				target.Entries[o.ID], first[o.ID] = lines, differ.First
			}
		}
		if differs {
			target.Objects = append(target.Objects, o)
		}
		if differs || st.Entries != nil {
			states = append(states, st)
		}
	}
	for _, o := range known {
		if !stays[o.ID] && o.Directory == uuid.Nil {
			gone := o
			states = append(states, revision.ObjectState{ID: o.ID, Kind: o.Kind, Before: &gone, At: s.Now(), By: []string{caller(ctx).Name}})
			target.Remove = append(target.Remove, o)
		}
	}
	slices.SortStableFunc(states, func(a, b revision.ObjectState) int {
		return cmp.Or(strings.Compare(string(a.Kind), string(b.Kind)), strings.Compare(strings.ToLower(a.Name()), strings.ToLower(b.Name())))
	})
	names := namesOf(known)
	for _, o := range read.Objects {
		names[o.ID] = o.Name
	}
	changes, err = s.differenceBodies(ctx, states, names)
	if err != nil {
		return target, nil, 0, s.problem(ctx, err)
	}
	for i := range changes {
		if changes[i].Entries != nil {
			changes[i].Entries.First = first[changes[i].ID]
		}
	}
	return target, changes, version, nil
}

// sameBody compares two bodies; an empty field equals a missing one.
func sameBody(a, b []byte) bool {
	var one, other any
	if json.Unmarshal(a, &one) != nil || json.Unmarshal(b, &other) != nil {
		return false
	}
	return reflect.DeepEqual(withoutEmpty(one), withoutEmpty(other))
}

// withoutEmpty removes empty fields.
func withoutEmpty(value any) any {
	switch v := value.(type) {
	case map[string]any:
		kept := map[string]any{}
		for key, one := range v {
			if f := withoutEmpty(one); f != nil {
				kept[key] = f
			}
		}
		return kept
	case []any:
		if len(v) == 0 {
			return nil
		}
		kept := make([]any, len(v))
		for i, one := range v {
			kept[i] = withoutEmpty(one)
		}
		return kept
	case string:
		if v == "" {
			return nil
		}
	case bool:
		if !v {
			return nil
		}
	case float64:
		if v == 0 {
			return nil
		}
	}
	return value
}

// entriesDiffer returns the entries by which a list differs from lines; nil if they are the same, in the same order.
func (s *server) entriesDiffer(ctx context.Context, list uuid.UUID, there bool, lines []pattern.Entry) (*EntryDifference, error) {
	key := func(e pattern.Entry) string {
		if k := e.Key(); k != "" {
			return k
		}
		return "# " + e.Note
	}
	left := map[string]pattern.Entry{}
	var order []string
	at, same := 0, true
	if there {
		err := s.Store.EachEntry(ctx, list, func(_ int64, e pattern.Entry) error {
			same = same && at < len(lines) && lines[at] == e
			at++
			left[key(e)] = e
			order = append(order, key(e))
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	if same && at == len(lines) {
		return nil, nil
	}
	d := &EntryDifference{First: []EntryChange{}}
	emit := func(c EntryChange) {
		if len(d.First) < shownEntries {
			d.First = append(d.First, c)
		}
	}
	for _, e := range lines {
		before, ok := left[key(e)]
		switch {
		case !ok:
			d.Added++
			emit(EntryChange{After: e.String()})
		case before != e:
			d.Edited++
			emit(EntryChange{Before: before.String(), After: e.String()})
		}
		delete(left, key(e))
	}
	for _, k := range order {
		if e, gone := left[k]; gone {
			d.Removed++
			emit(EntryChange{Before: e.String()})
			delete(left, k)
		}
	}
	return d, nil
}

// fileProblem reports every mistake in files with its place.
func fileProblem(err error) error {
	var details []error
	var walk func(err error)
	walk = func(err error) {
		var many interface{ Unwrap() []error }
		var one *configfile.Error
		switch {
		case errors.As(err, &many):
			for _, part := range many.Unwrap() {
				walk(part)
			}
		case errors.As(err, &one):
			details = append(details, &huma.ErrorDetail{Message: one.Error(), Location: "body.files"})
		default:
			details = append(details, &huma.ErrorDetail{Message: err.Error(), Location: "body.files"})
		}
	}
	walk(err)
	return huma.Error422UnprocessableEntity("The files cannot be read as they stand. Nothing was changed.", details...)
}

// differences turns differences into answers. names holds the names of all objects that are referred to.
func (s *server) differenceBodies(ctx context.Context, states []revision.ObjectState, called map[uuid.UUID]string) ([]ObjectDifference, error) {
	h, err := s.Editions.Draft(ctx)
	if err != nil {
		return nil, err
	}
	object := func(id uuid.UUID) string { return cmp.Or(called[id], "something that is gone") }
	byText := func(id string) string { return object(uuid.MustParse(id)) }
	names := change.Names{Names: h.Names(), Object: object}
	names.List, names.Schedule, names.Card = byText, byText, byText
	differences := make([]ObjectDifference, len(states))
	for i, st := range states {
		d := ObjectDifference{ID: st.ID, Kind: st.Kind, Name: st.Name(), What: "changed", By: st.By, At: st.At, Lines: []DifferenceLine{}}
		switch {
		case st.Before == nil:
			d.What = "made"
		case st.After == nil:
			d.What = "removed"
		}
		lines, err := change.Lines(st, names)
		if err != nil {
			return nil, err
		}
		for _, l := range lines {
			d.Lines = append(d.Lines, DifferenceLine(l))
		}
		if st.Entries != nil {
			d.Entries = &EntryDifference{Added: st.Entries.Added, Edited: st.Entries.Edited, Removed: st.Entries.Removed, First: []EntryChange{}}
		}
		differences[i] = d
	}
	return differences, nil
}

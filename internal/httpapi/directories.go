package httpapi

import (
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/internal/access"
	"widelark/internal/directories"
	"widelark/internal/revision"
	"widelark/internal/scim"
)

// Directory is people and groups that somebody else keeps.
type Directory struct {
	ID           uuid.UUID           `json:"id" format:"uuid"`
	Name         string              `json:"name"`
	Kind         directories.Kind    `json:"kind" enum:"ldap,file,scim" doc:"ldap is read on a timetable; file is fetched on a timetable, or handed over; to scim programs send each change"`
	URL          string              `json:"url" doc:"Where it is read from; empty where it is handed over"`
	Base         string              `json:"base,omitempty" doc:"Of LDAP: below which distinguished name people and groups are"`
	Bind         string              `json:"bind,omitempty" doc:"Of LDAP: the name to sign in with; left out for nobody"`
	HasPassword  bool                `json:"hasPassword"`
	HasToken     bool                `json:"hasToken" doc:"A program can send people with a token"`
	NameField    string              `json:"nameField,omitempty" doc:"The attribute that says how people sign in; left out for uid"`
	KeyField     string              `json:"keyField,omitempty" doc:"The attribute that identifies an entry for good; left out for entryUUID"`
	EveryMinutes int                 `json:"everyMinutes" doc:"Between two readings"`
	Paused       bool                `json:"paused"`
	MaxShrink    int                 `json:"maxShrink" doc:"Per cent of the people that may go without anybody's leave"`
	Hold         bool                `json:"hold" doc:"Every change waits until somebody accepts it"`
	NextAt       *time.Time          `json:"nextAt,omitempty" doc:"The next reading; left out where there will be none"`
	TriedAt      *time.Time          `json:"triedAt,omitempty"`
	SyncedAt     *time.Time          `json:"syncedAt,omitempty" doc:"When it was last read to its end, changed or not"`
	Result       revision.PullResult `json:"result,omitempty" enum:"changed,unchanged,failed" doc:"How the last reading went; left out before the first. After failed the state in force stays"`
	Told         string              `json:"told" doc:"What happened, in one sentence"`
	LeftOut      []string            `json:"leftOut" doc:"What of the last reading could not be used"`
	Shadowed     []string            `json:"shadowed" doc:"People of the state in force who stay away, as somebody of the draft, of the live revision or of another directory has their name"`
	InForce      *DirectoryState     `json:"inForce,omitempty" doc:"The state in force; left out before the first"`
	Waiting      *DirectoryState     `json:"waiting,omitempty" doc:"The state that waits to be accepted"`
	Why          []string            `json:"why" doc:"Why it waits"`
	CanUndo      bool                `json:"canUndo" doc:"There is a state to go back to"`
	Running      bool                `json:"running" doc:"It is being read at this service"`
}

// DirectoryState is the state of a directory after one of its readings.
type DirectoryState struct {
	Number    int64     `json:"number" doc:"From 1"`
	People    int       `json:"people"`
	Groups    int       `json:"groups"`
	Came      int       `json:"came" doc:"People and groups, against the state that was in force"`
	Changed   int       `json:"changed"`
	Went      int       `json:"went"`
	ArrivedAt time.Time `json:"arrivedAt"`
	By        string    `json:"by"`
}

// DirectoryChange is a person or group that differs between two states of a directory.
type DirectoryChange struct {
	ID     uuid.UUID `json:"id" format:"uuid"`
	Kind   string    `json:"kind" enum:"person,group"`
	Name   string    `json:"name" doc:"With which a person signs in"`
	Full   string    `json:"fullName,omitempty"`
	What   string    `json:"what" enum:"came,changed,went"`
	Detail string    `json:"detail" doc:"What is otherwise, in a few words"`
}

func (s *server) directoryBody(d directories.Directory) Directory {
	body := Directory{
		ID: d.ID, Name: d.Name, Kind: d.Kind, URL: d.URL, Base: d.Base, Bind: d.Bind, HasPassword: d.HasPassword, HasToken: d.HasToken, NameField: d.NameField, KeyField: d.KeyField,
		EveryMinutes: int(d.Every.Minutes()), Paused: d.Paused, MaxShrink: d.MaxShrink, Hold: d.Hold, TriedAt: d.TriedAt, SyncedAt: d.SyncedAt, Result: d.Result, Told: d.Told,
		LeftOut: append([]string{}, d.LeftOut...), Shadowed: append([]string{}, d.Shadowed...), InForce: directoryState(d.InForce), Waiting: directoryState(d.Waiting), Why: append([]string{}, d.Why...),
		CanUndo: d.Before > 0, Running: s.DirectorySyncer.Running(d.ID),
	}
	if d.URL != "" && !d.Paused {
		body.NextAt = &d.NextAt
	}
	return body
}

func directoryState(s *directories.State) *DirectoryState { return (*DirectoryState)(s) }

// directoryNames returns the names of all directories.
func (s *server) directoryNames(ctx context.Context) (map[uuid.UUID]string, error) {
	found, err := s.Directories.Directories(ctx)
	names := map[uuid.UUID]string{}
	for _, d := range found {
		names[d.ID] = d.Name
	}
	return names, err
}

type directoryOutput struct{ Body Directory }

type directoriesOutput struct {
	Body struct {
		Directories []Directory `json:"directories" doc:"By name"`
	}
}

type newDirectoryInput struct {
	Body struct {
		Name         string           `json:"name" minLength:"1" maxLength:"80"`
		Kind         directories.Kind `json:"kind" enum:"ldap,file,scim"`
		URL          string           `json:"url,omitempty" maxLength:"2000" doc:"ldap:// or ldaps:// of a server, http:// or https:// of a file; left out for one that is handed over"`
		Base         string           `json:"base,omitempty" maxLength:"500"`
		Bind         string           `json:"bind,omitempty" maxLength:"500"`
		Password     string           `json:"password,omitempty" maxLength:"500" doc:"Kept sealed, and never shown"`
		NameField    string           `json:"nameField,omitempty" maxLength:"80"`
		KeyField     string           `json:"keyField,omitempty" maxLength:"80"`
		EveryMinutes *int             `json:"everyMinutes,omitempty" minimum:"1" maximum:"44640" doc:"Left out, an hour"`
		Paused       bool             `json:"paused,omitempty"`
		MaxShrink    *int             `json:"maxShrink,omitempty" minimum:"0" maximum:"100" doc:"Per cent of the people that may go without anybody's leave; left out, 10"`
		Hold         bool             `json:"hold,omitempty"`
	}
}

type editDirectoryInput struct {
	ByID
	Body struct {
		Name         *string `json:"name,omitempty" minLength:"1" maxLength:"80"`
		URL          *string `json:"url,omitempty" maxLength:"2000"`
		Base         *string `json:"base,omitempty" maxLength:"500"`
		Bind         *string `json:"bind,omitempty" maxLength:"500"`
		Password     *string `json:"password,omitempty" maxLength:"500" doc:"Empty for none"`
		NameField    *string `json:"nameField,omitempty" maxLength:"80"`
		KeyField     *string `json:"keyField,omitempty" maxLength:"80"`
		EveryMinutes *int    `json:"everyMinutes,omitempty" minimum:"1" maximum:"44640"`
		Paused       *bool   `json:"paused,omitempty"`
		MaxShrink    *int    `json:"maxShrink,omitempty" minimum:"0" maximum:"100"`
		Hold         *bool   `json:"hold,omitempty"`
	}
}

type syncDirectoryInput struct {
	ByID
	Anyway bool `query:"anyway" doc:"Nothing waits, this time"`
}

type importDirectoryInput struct {
	ByID
	Anyway bool `query:"anyway" doc:"Nothing waits, this time"`
	body   io.Reader
}

// Resolve keeps the body for the handler.
func (in *importDirectoryInput) Resolve(ctx huma.Context) []error {
	in.body = ctx.BodyReader()
	return nil
}

type settleDirectoryInput struct {
	ByID
	Body struct {
		Number int64 `json:"number" doc:"The state that waits, so that nobody accepts what they have not seen"`
	}
}

type removeDirectoryInput struct {
	ByID
	Anyway bool `query:"anyway" doc:"Also where draft or live name its people or groups"`
}

type directoryPreviewOutput struct {
	Body struct {
		State   *DirectoryState   `json:"state,omitempty" doc:"That taking it would make; left out where nothing is otherwise"`
		Why     []string          `json:"why" doc:"Why it would wait; empty where it would be in force at once"`
		LeftOut []string          `json:"leftOut" doc:"What could not be used"`
		Changes []DirectoryChange `json:"changes" doc:"The first 200"`
	}
}

type directoryHistoryOutput struct {
	Body struct {
		Events []DirectoryEvent `json:"events" doc:"The newest first"`
		States []DirectoryState `json:"states" doc:"The newest first"`
	}
}

// DirectoryEvent is something that happened to a directory.
type DirectoryEvent struct {
	At     time.Time `json:"at"`
	By     string    `json:"by"`
	What   string    `json:"what" enum:"in force,held,refused,undone" doc:"undone names the state that counts again"`
	Number int64     `json:"number"`
}

type directoryChangesInput struct {
	ByID
	From int64 `query:"from" minimum:"0" doc:"The number of a state; 0, the state in force"`
	To   int64 `query:"to" minimum:"0" doc:"The number of a state; 0, the one that waits or else the latest"`
	Skip int   `query:"skip" minimum:"0" doc:"How many changes are passed over"`
	Most int   `query:"limit" default:"100" minimum:"1" maximum:"1000"`
}

type directoryChangesOutput struct {
	Body struct {
		From    int64             `json:"from"`
		To      int64             `json:"to"`
		Total   int               `json:"total"`
		Changes []DirectoryChange `json:"changes" doc:"By kind and name"`
	}
}

type adoptDirectoryInput struct {
	ByID
	Preview bool `query:"preview" doc:"Only says what would happen"`
}

type adoptDirectoryOutput struct {
	Body struct {
		People int      `json:"people" doc:"Who were edited in the draft, and are the directory's now; they stay who they are"`
		Kept   []string `json:"kept" doc:"Who stay in the draft, and why, a sentence each"`
	}
}

type directoryTokenOutput struct {
	Body struct {
		Token string `json:"token" doc:"Shown this once. The one before is no good any more"`
		URL   string `json:"url" doc:"Where SCIM (RFC 7644) is spoken with it"`
	}
}

func (s *server) registerDirectories(api huma.API) {
	huma.Register(api, operation("getDirectories", http.MethodGet, "/directories", "Directories", "Every directory, what is in force of it and how its last reading went"),
		func(ctx context.Context, _ *struct{}) (*directoriesOutput, error) {
			found, err := s.Directories.Directories(ctx)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			out := &directoriesOutput{}
			out.Body.Directories = []Directory{}
			for _, d := range found {
				out.Body.Directories = append(out.Body.Directories, s.directoryBody(d))
			}
			return out, nil
		})
	create := operation("addDirectory", http.MethodPost, "/directories", "Directories", "Have people and groups read from an LDAP server or a file, or sent by a program; for owners", 403, 422)
	create.DefaultStatus = http.StatusCreated
	huma.Register(api, create, s.addDirectory)
	huma.Register(api, operation("getDirectory", http.MethodGet, "/directories/{id}", "Directories", "One directory", 404),
		func(ctx context.Context, in *ByID) (*directoryOutput, error) {
			d, err := s.Directories.Directory(ctx, in.ID)
			return s.directoryAnswer(ctx, d, err)
		})
	huma.Register(api, operation("editDirectory", http.MethodPatch, "/directories/{id}", "Directories", "Change what is chosen about a directory; for owners", 403, 404, 422), s.editDirectory)
	huma.Register(api, operation("removeDirectory", http.MethodDelete, "/directories/{id}", "Directories", "Do without a directory: its people and groups go, their records stay; for owners", 403, 404, 409),
		func(ctx context.Context, in *removeDirectoryInput) (*struct{}, error) {
			if err := s.Directories.RemoveDirectory(ctx, in.ID, in.Anyway, actor(ctx)); err != nil {
				return nil, s.problem(ctx, err)
			}
			s.Checks.Prepare(ctx)
			return nil, nil
		})
	huma.Register(api, operation("syncDirectory", http.MethodPost, "/directories/{id}/sync", "Directories", "Read a directory now; for owners", 403, 404, 409),
		func(ctx context.Context, in *syncDirectoryInput) (*directoryOutput, error) {
			d, err := s.Directories.Directory(ctx, in.ID)
			if err == nil {
				d, err = s.DirectorySyncer.Sync(ctx, d, in.Anyway, actor(ctx))
			}
			return s.directoryAnswer(ctx, d, err)
		})
	huma.Register(api, operation("previewDirectory", http.MethodPost, "/directories/{id}/preview", "Directories", "What reading a directory now would change; nothing is kept; for owners", 403, 404, 409), s.previewDirectory)
	load := operation("importDirectory", http.MethodPost, "/directories/{id}/import", "Directories", "Hand a file over, LDIF or CSV, for a directory of the kind file; for owners", 403, 404, 409, 422)
	load.MaxBodyBytes = directories.MaxFile
	load.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{"text/plain": {Schema: &huma.Schema{Type: huma.TypeString}}}}
	huma.Register(api, load, func(ctx context.Context, in *importDirectoryInput) (*directoryOutput, error) {
		d, err := s.Directories.Directory(ctx, in.ID)
		if err == nil {
			d, err = s.DirectorySyncer.Import(ctx, d, in.body, in.Anyway, actor(ctx))
		}
		return s.directoryAnswer(ctx, d, err)
	})
	settle := func(do func(ctx context.Context, id uuid.UUID, number int64, by access.Actor) (directories.Directory, error)) func(context.Context, *settleDirectoryInput) (*directoryOutput, error) {
		return func(ctx context.Context, in *settleDirectoryInput) (*directoryOutput, error) {
			d, err := do(ctx, in.ID, in.Body.Number, actor(ctx))
			if err == nil {
				s.Checks.Prepare(ctx)
			}
			return s.directoryAnswer(ctx, d, err)
		}
	}
	accept := func(ctx context.Context, id uuid.UUID, number int64, by access.Actor) (directories.Directory, error) {
		return s.Directories.AcceptDirectory(ctx, id, number, by)
	}
	refuse := func(ctx context.Context, id uuid.UUID, number int64, by access.Actor) (directories.Directory, error) {
		return s.Directories.RefuseDirectory(ctx, id, number, by)
	}
	huma.Register(api, operation("acceptDirectory", http.MethodPost, "/directories/{id}/accept", "Directories", "Put the state that waits in force; for owners", 403, 404, 412), settle(accept))
	huma.Register(api, operation("refuseDirectory", http.MethodPost, "/directories/{id}/refuse", "Directories", "Refuse the state that waits; the next one that is otherwise is looked at anew; for owners", 403, 404, 412), settle(refuse))
	huma.Register(api, operation("undoDirectory", http.MethodPost, "/directories/{id}/undo", "Directories", "Put the state of before in force again; doing it twice changes nothing; for owners", 403, 404, 409),
		func(ctx context.Context, in *ByID) (*directoryOutput, error) {
			d, err := s.Directories.UndoDirectory(ctx, in.ID, actor(ctx))
			if err == nil {
				s.Checks.Prepare(ctx)
			}
			return s.directoryAnswer(ctx, d, err)
		})
	huma.Register(api, operation("adoptDirectory", http.MethodPost, "/directories/{id}/adopt", "Directories", "Hand people of the draft over to the directory that has people of the same names; for owners", 403, 404, 409),
		func(ctx context.Context, in *adoptDirectoryInput) (*adoptDirectoryOutput, error) {
			done, err := s.Directories.AdoptDirectory(ctx, in.ID, in.Preview, actor(ctx))
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			if !in.Preview {
				s.Checks.Prepare(ctx)
			}
			out := &adoptDirectoryOutput{}
			out.Body.People, out.Body.Kept = done.People, append([]string{}, done.Kept...)
			return out, nil
		})
	huma.Register(api, operation("getDirectoryHistory", http.MethodGet, "/directories/{id}/history", "Directories", "What states a directory had, and when they were in force", 404), s.directoryHistory)
	huma.Register(api, operation("getDirectoryChanges", http.MethodGet, "/directories/{id}/changes", "Directories", "Who comes, changes and goes between two states", 404), s.directoryChanges)
	huma.Register(api, operation("makeDirectoryToken", http.MethodPost, "/directories/{id}/token", "Directories", "Make a token with which a program sends people by SCIM; for owners", 403, 404, 409), s.makeDirectoryToken)
	huma.Register(api, operation("endDirectoryToken", http.MethodDelete, "/directories/{id}/token", "Directories", "Take no more from the program that sends people; for owners", 403, 404),
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			if err := s.Directories.SetDirectoryToken(ctx, in.ID, nil, actor(ctx)); err != nil {
				return nil, s.problem(ctx, err)
			}
			return nil, nil
		})
}

func (s *server) directoryAnswer(ctx context.Context, d directories.Directory, err error) (*directoryOutput, error) {
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return &directoryOutput{s.directoryBody(d)}, nil
}

// sealed returns a password as it is kept.
func (s *server) sealedPassword(password string) ([]byte, error) {
	switch {
	case password == "":
		return nil, nil
	case s.Secret == nil:
		return nil, &revision.FieldError{Field: "password", Msg: "the service has no secret to seal it with: start it with --secret-file"}
	}
	return s.Secret.Seal(directories.PasswordPurpose, []byte(password)), nil
}

func (s *server) addDirectory(ctx context.Context, in *newDirectoryInput) (*directoryOutput, error) {
	b := &in.Body
	c := directories.Settings{
		Kind: b.Kind, URL: b.URL, Base: b.Base, Bind: b.Bind, NameField: b.NameField, KeyField: b.KeyField, Every: directories.DefaultEvery, Paused: b.Paused, MaxShrink: directories.DefaultShrink, Hold: b.Hold,
	}
	if b.EveryMinutes != nil {
		c.Every = time.Duration(*b.EveryMinutes) * time.Minute
	}
	if b.MaxShrink != nil {
		c.MaxShrink = *b.MaxShrink
	}
	name, err := revision.CheckName("name", b.Name)
	if err == nil {
		c.Password, err = s.sealedPassword(b.Password)
	}
	var d directories.Directory
	if err == nil {
		d, err = s.Directories.AddDirectory(ctx, name, c, actor(ctx))
	}
	return s.directoryAnswer(ctx, d, err)
}

func (s *server) editDirectory(ctx context.Context, in *editDirectoryInput) (*directoryOutput, error) {
	b := &in.Body
	e := directories.Edit{Name: b.Name, URL: b.URL, Base: b.Base, Bind: b.Bind, NameField: b.NameField, KeyField: b.KeyField, Paused: b.Paused, MaxShrink: b.MaxShrink, Hold: b.Hold}
	if b.EveryMinutes != nil {
		every := time.Duration(*b.EveryMinutes) * time.Minute
		e.Every = &every
	}
	var err error
	if b.Name != nil {
		*e.Name, err = revision.CheckName("name", *b.Name)
	}
	if b.Password != nil && err == nil {
		var sealed []byte
		sealed, err = s.sealedPassword(*b.Password)
		e.Password = &sealed
	}
	var d directories.Directory
	if err == nil {
		d, err = s.Directories.EditDirectory(ctx, in.ID, e, actor(ctx))
	}
	return s.directoryAnswer(ctx, d, err)
}

func (s *server) previewDirectory(ctx context.Context, in *ByID) (*directoryPreviewOutput, error) {
	d, err := s.Directories.Directory(ctx, in.ID)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	taken, left, err := s.DirectorySyncer.Preview(ctx, d, actor(ctx))
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &directoryPreviewOutput{}
	out.Body.State, out.Body.Why, out.Body.LeftOut = directoryState(taken.State), append([]string{}, taken.Why...), append([]string{}, left...)
	out.Body.Changes, err = s.directoryChangeBodies(ctx, taken.Differences)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return out, nil
}

func (s *server) directoryHistory(ctx context.Context, in *ByID) (*directoryHistoryOutput, error) {
	if _, err := s.Directories.Directory(ctx, in.ID); err != nil {
		return nil, s.problem(ctx, err)
	}
	states, err := s.Directories.DirectoryStates(ctx, in.ID)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	events, err := s.Directories.DirectoryEvents(ctx, in.ID)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &directoryHistoryOutput{}
	out.Body.Events, out.Body.States = []DirectoryEvent{}, []DirectoryState{}
	for _, e := range events {
		out.Body.Events = append(out.Body.Events, DirectoryEvent(e))
	}
	for _, st := range states {
		out.Body.States = append(out.Body.States, DirectoryState(st))
	}
	return out, nil
}

func (s *server) directoryChanges(ctx context.Context, in *directoryChangesInput) (*directoryChangesOutput, error) {
	d, err := s.Directories.Directory(ctx, in.ID)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &directoryChangesOutput{}
	b := &out.Body
	b.From, b.To = in.From, in.To
	if b.From == 0 && d.InForce != nil {
		b.From = d.InForce.Number
	}
	if b.To == 0 && d.Waiting != nil {
		b.To = d.Waiting.Number
	} else if b.To == 0 && d.Latest != nil {
		b.To = d.Latest.Number
	}
	differ, err := s.Directories.DirectoryDifferences(ctx, in.ID, b.From, b.To)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	b.Total = len(differ)
	differ = differ[min(in.Skip, len(differ)):]
	if b.Changes, err = s.directoryChangeBodies(ctx, differ[:min(in.Most, len(differ))]); err != nil {
		return nil, s.problem(ctx, err)
	}
	return out, nil
}

// directoryChangeBodies says what is otherwise about people and groups.
func (s *server) directoryChangeBodies(ctx context.Context, differ []directories.Difference) ([]DirectoryChange, error) {
	told := make([]DirectoryChange, len(differ))
	var refs []*Ref
	type moved struct{ came, left []*Ref }
	moves := make([]moved, len(differ))
	for i, one := range differ {
		told[i] = DirectoryChange{ID: one.ID, Kind: string(one.Kind), Name: one.Name, What: "changed"}
		switch {
		case one.Before == nil:
			told[i].What = "came"
		case one.After == nil:
			told[i].What = "went"
		}
		if one.Before != nil && one.After != nil && one.Before.Name != one.After.Name {
			told[i].Detail = "was " + one.Before.Name
		}
		var err error
		if told[i].Full, err = one.FullName(); err != nil {
			return nil, err
		}
		came, left, err := one.Moved()
		if err != nil {
			return nil, err
		}
		for _, id := range came {
			moves[i].came = append(moves[i].came, &Ref{ID: id})
		}
		for _, id := range left {
			moves[i].left = append(moves[i].left, &Ref{ID: id})
		}
		refs = append(append(refs, moves[i].came...), moves[i].left...)
	}
	names, err := s.groupNames(ctx, differ, refs)
	if err != nil {
		return nil, err
	}
	for i, m := range moves {
		parts := []string{}
		if told[i].Detail != "" {
			parts = append(parts, told[i].Detail)
		}
		into, out := "into ", "out of "
		if told[i].Kind == string(revision.KindGroup) {
			into, out = "holds ", "does not hold "
		}
		for _, r := range m.came {
			parts = append(parts, into+names[r.ID])
		}
		for _, r := range m.left {
			parts = append(parts, out+names[r.ID])
		}
		if len(parts) > 6 {
			parts = append(parts[:6], fmt.Sprintf("%d more", len(parts)-6))
		}
		if told[i].Detail = strings.Join(parts, ", "); told[i].Detail == "" && told[i].What == "changed" {
			told[i].Detail = "full name, mail or description"
		}
	}
	return told, nil
}

// groupNames returns the names of groups, those that differ among them, which may not be in force.
func (s *server) groupNames(ctx context.Context, differ []directories.Difference, refs []*Ref) (map[uuid.UUID]string, error) {
	names, err := s.Objects.Names(ctx, idsOf(refs))
	if err != nil {
		return nil, err
	}
	for _, one := range differ {
		names[one.ID] = one.Name
	}
	for _, r := range refs {
		if names[r.ID] == "" {
			names[r.ID] = "a group"
		}
	}
	return names, nil
}

func (s *server) makeDirectoryToken(ctx context.Context, in *ByID) (*directoryTokenOutput, error) {
	d, err := s.Directories.Directory(ctx, in.ID)
	if err == nil && d.Kind != directories.SCIM {
		err = &directories.RefusedError{Msg: "Programs send people to directories of the kind scim"}
	}
	out := &directoryTokenOutput{}
	if err == nil {
		out.Body.Token, out.Body.URL = scim.TokenPrefix+rand.Text(), strings.TrimSuffix(s.ConsoleURL, "/")+scim.Path
		err = s.Directories.SetDirectoryToken(ctx, in.ID, scim.Hash(out.Body.Token), actor(ctx))
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return out, nil
}

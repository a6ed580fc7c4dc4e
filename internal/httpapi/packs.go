package httpapi

import (
	"context"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/internal/catalogue"
	"widelark/internal/revision"
	"widelark/sealed"
)

// Pack is a pack of the catalogue.
type Pack struct {
	ID           uuid.UUID           `json:"id" format:"uuid"`
	Key          string              `json:"key" doc:"What the pack calls itself for good; empty before its first file"`
	Name         string              `json:"name"`
	Rank         int                 `json:"rank" doc:"The least is asked first"`
	URL          string              `json:"url" doc:"Where it is pulled from; empty for one that is imported by hand"`
	EveryMinutes int                 `json:"everyMinutes" doc:"Between two pulls"`
	Paused       bool                `json:"paused"`
	MaxBytes     int64               `json:"maxBytes"`
	MaxShrink    int                 `json:"maxShrink" doc:"Per cent of the sites that an update may take away"`
	Hold         bool                `json:"hold" doc:"Updates wait until somebody accepts them"`
	NextAt       *time.Time          `json:"nextAt,omitempty" doc:"The next pull; left out where there will be none"`
	TriedAt      *time.Time          `json:"triedAt,omitempty"`
	PulledAt     *time.Time          `json:"pulledAt,omitempty" doc:"The last pull that went well"`
	Result       revision.PullResult `json:"result,omitempty" enum:"changed,unchanged,refused,failed" doc:"How the last pull went; left out before the first. After refused and failed the last good state stays"`
	Told         string              `json:"told" doc:"What happened, in one sentence"`
	InForce      *PackState          `json:"inForce,omitempty" doc:"The state in force; left out before the first file"`
	Waiting      *PackState          `json:"waiting,omitempty" doc:"The update that waits to be accepted"`
	CanUndo      bool                `json:"canUndo" doc:"There is a state to go back to"`
	Progress     *PackProgress       `json:"progress,omitempty" doc:"While a file is being read at this service"`
}

// PackState is the state of a pack after one of its files.
type PackState struct {
	Number    int64     `json:"number" doc:"Of this service, from 1"`
	Version   int64     `json:"version" doc:"As the pack says"`
	Date      time.Time `json:"date"`
	Licence   string    `json:"licence"`
	Signer    string    `json:"signer" doc:"The public key that vouches for it"`
	Sites     int64     `json:"sites"`
	Added     int64     `json:"added" doc:"Against the state before"`
	Moved     int64     `json:"moved" doc:"With other categories than before"`
	Gone      int64     `json:"gone"`
	ArrivedAt time.Time `json:"arrivedAt"`
	By        string    `json:"by"`
}

// PackProgress is the progress of a file that is being read.
type PackProgress struct {
	Stage string `json:"stage" doc:"reading, storing or loading"`
	Bytes int64  `json:"bytes"`
	Of    int64  `json:"of" doc:"0 where the length is not known"`
	Sites int64  `json:"sites"`
}

func packState(s *catalogue.State) *PackState { return (*PackState)(s) }

func (s *server) packBody(p catalogue.Pack) Pack {
	body := Pack{
		ID: p.ID, Key: p.Key, Name: p.Name, Rank: p.Rank, URL: p.URL, EveryMinutes: int(p.Every.Minutes()), Paused: p.Paused, MaxBytes: p.MaxBytes,
		MaxShrink: p.MaxShrink, Hold: p.Hold, TriedAt: p.TriedAt, PulledAt: p.PulledAt, Result: p.Result, Told: p.Told,
		InForce: packState(p.InForce), Waiting: packState(p.Waiting), CanUndo: p.Before > 0,
	}
	if p.URL != "" && !p.Paused {
		body.NextAt = &p.NextAt
	}
	if at, running := s.PackPuller.Progress(p.ID); running {
		body.Progress = (*PackProgress)(&at)
	}
	return body
}

type packOutput struct{ Body Pack }

type packsOutput struct {
	Body struct {
		Packs []Pack `json:"packs" doc:"By rank"`
	}
}

type newPackInput struct {
	Body struct {
		Name         string `json:"name" minLength:"1" maxLength:"80"`
		URL          string `json:"url,omitempty" maxLength:"2000" doc:"An http or https address of a pack; left out for one that is imported by hand"`
		EveryMinutes *int   `json:"everyMinutes,omitempty" minimum:"5" maximum:"44640" doc:"Left out, a day"`
		Paused       bool   `json:"paused,omitempty"`
		MaxBytes     *int64 `json:"maxBytes,omitempty" doc:"A larger file is refused; left out, 1 GiB"`
		MaxShrink    *int   `json:"maxShrink,omitempty" minimum:"0" maximum:"100" doc:"Per cent of the sites that an update may take away; left out, 20"`
		Hold         bool   `json:"hold,omitempty" doc:"Let updates wait until somebody accepts them"`
	}
}

type editPackInput struct {
	ByID
	Body struct {
		Name         *string `json:"name,omitempty" minLength:"1" maxLength:"80"`
		Rank         *int    `json:"rank,omitempty" minimum:"1" maximum:"50"`
		URL          *string `json:"url,omitempty" maxLength:"2000"`
		EveryMinutes *int    `json:"everyMinutes,omitempty" minimum:"5" maximum:"44640"`
		Paused       *bool   `json:"paused,omitempty"`
		MaxBytes     *int64  `json:"maxBytes,omitempty"`
		MaxShrink    *int    `json:"maxShrink,omitempty" minimum:"0" maximum:"100"`
		Hold         *bool   `json:"hold,omitempty"`
	}
}

type importPackInput struct {
	ByID
	Force  bool `query:"force" doc:"Let the pack shrink as much as the file says, this time"`
	body   io.Reader
	length int64
}

// Resolve keeps the body for the handler.
func (in *importPackInput) Resolve(ctx huma.Context) []error {
	in.body = ctx.BodyReader()
	in.length, _ = strconv.ParseInt(ctx.Header("Content-Length"), 10, 64) // 0 where it is not said
	return nil
}

type settlePackInput struct {
	ByID
	Body struct {
		Number int64 `json:"number" doc:"The state that waits, so that nobody accepts what they have not seen"`
	}
}

type packHistoryOutput struct {
	Body struct {
		Events []PackEvent `json:"events" doc:"The newest first"`
		States []PackState `json:"states" doc:"The newest first"`
	}
}

// PackEvent is something that happened to a pack.
type PackEvent struct {
	At      time.Time `json:"at"`
	By      string    `json:"by"`
	What    string    `json:"what" enum:"in force,held,refused,undone" doc:"undone names the state that counts again"`
	Number  int64     `json:"number"`
	Version int64     `json:"version"`
}

type packChangesInput struct {
	ByID
	From  int64  `query:"from" minimum:"0" doc:"The number of a state; 0, the state in force"`
	To    int64  `query:"to" minimum:"0" doc:"The number of a state; 0, the one that waits or else the latest"`
	After string `query:"after" doc:"The cursor that the page before gave as next"`
	Limit int    `query:"limit" default:"100" minimum:"1" maximum:"1000"`
}

// SiteChange is an entry that differs between two states of a pack.
type SiteChange struct {
	Entry  string        `json:"entry"`
	Before []CategoryRef `json:"before" doc:"None where the entry came"`
	After  []CategoryRef `json:"after" doc:"None where it went"`
}

type packChangesOutput struct {
	Body struct {
		From    int64        `json:"from"`
		To      int64        `json:"to"`
		Added   int64        `json:"added"`
		Moved   int64        `json:"moved"`
		Gone    int64        `json:"gone"`
		Changes []SiteChange `json:"changes" doc:"By entry"`
		Next    string       `json:"next,omitempty" doc:"The cursor of the next page; left out on the last"`
		Turns   []Turn       `json:"turns" doc:"On the first page, where the state is a later one than what is in force: recorded traffic that changes category, the most asked for first, at most as many as the page may hold"`
		Turned  Traffic      `json:"turned" doc:"How much traffic that is in all"`
	}
}

// Turn is recorded traffic that changes category.
type Turn struct {
	URL      string        `json:"url"`
	Requests int64         `json:"requests"`
	Before   []CategoryRef `json:"before" doc:"None where it is unrated"`
	After    []CategoryRef `json:"after"`
}

// PackKey is a public key that packs may be signed with.
type PackKey struct {
	Key     string    `json:"key" doc:"44 characters of base64"`
	Name    string    `json:"name"`
	AddedAt time.Time `json:"addedAt"`
	AddedBy string    `json:"addedBy"`
}

type packKeysOutput struct {
	Body struct {
		Keys []PackKey `json:"keys"`
	}
}

type trustInput struct {
	Body struct {
		Key  string `json:"key" maxLength:"100"`
		Name string `json:"name" minLength:"1" maxLength:"80" doc:"Whose key it is"`
	}
}

type distrustInput struct {
	Key string `query:"key" required:"true"`
}

func (s *server) registerPacks(api huma.API) {
	huma.Register(api, operation("getPacks", http.MethodGet, "/packs", "Packs", "Every pack, what is in force of it and how its last pull went"),
		func(ctx context.Context, _ *struct{}) (*packsOutput, error) {
			found, err := s.Packs.Packs(ctx)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			out := &packsOutput{}
			out.Body.Packs = []Pack{}
			for _, p := range found {
				out.Body.Packs = append(out.Body.Packs, s.packBody(p))
			}
			return out, nil
		})
	create := operation("createPack", http.MethodPost, "/packs", "Packs", "Have a pack pulled from an address, or a place for one that is imported by hand", 422)
	create.DefaultStatus = http.StatusCreated
	huma.Register(api, create, s.createPack)
	huma.Register(api, operation("getPack", http.MethodGet, "/packs/{id}", "Packs", "One pack", 404),
		func(ctx context.Context, in *ByID) (*packOutput, error) {
			found, err := s.Packs.Pack(ctx, in.ID)
			return s.packAnswer(ctx, found, err)
		})
	huma.Register(api, operation("editPack", http.MethodPatch, "/packs/{id}", "Packs", "Change what is chosen about a pack", 404, 422), s.editPack)
	huma.Register(api, operation("deletePack", http.MethodDelete, "/packs/{id}", "Packs", "Take a pack out of the catalogue, with its history", 404),
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			err := s.Packs.RemovePack(ctx, in.ID, actor(ctx))
			if err == nil {
				err = s.Cache.Load(ctx)
			}
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			return nil, nil
		})
	type pullPackInput struct {
		ByID
		Force bool `query:"force" doc:"Let the pack shrink as much as the file says, this time"`
	}
	huma.Register(api, operation("pullPack", http.MethodPost, "/packs/{id}/pull", "Packs", "Pull a pack now", 404, 422),
		func(ctx context.Context, in *pullPackInput) (*packOutput, error) {
			p, err := s.Packs.Pack(ctx, in.ID)
			if err == nil && p.URL == "" {
				err = &revision.FieldError{Msg: "this pack has no address to be pulled from; import a file"}
			}
			if err == nil {
				p, err = s.PackPuller.Pull(ctx, p, in.Force)
			}
			return s.packAnswer(ctx, p, err)
		})
	load := operation("importPack", http.MethodPost, "/packs/{id}/import", "Packs", "Put a pack's file into the catalogue", 404, 409, 422)
	load.BodyReadTimeout, load.MaxBodyBytes = -1, -1 // what is chosen about the pack bounds it
	load.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{
		"application/octet-stream": {Schema: &huma.Schema{Type: huma.TypeString, Format: "binary"}},
	}}
	huma.Register(api, load, func(ctx context.Context, in *importPackInput) (*packOutput, error) {
		p, err := s.Packs.Pack(ctx, in.ID)
		if err == nil {
			p, err = s.PackPuller.Import(ctx, p, in.body, in.length, in.Force, actor(ctx))
		}
		return s.packAnswer(ctx, p, err)
	})
	huma.Register(api, operation("acceptPack", http.MethodPost, "/packs/{id}/accept", "Packs", "Put the update that waits in force", 404, 412), s.settlePack(s.acceptPack))
	huma.Register(api, operation("refusePack", http.MethodPost, "/packs/{id}/refuse", "Packs", "Refuse the update that waits; the next one waits again", 404, 412), s.settlePack(s.refusePack))
	huma.Register(api, operation("undoPack", http.MethodPost, "/packs/{id}/undo", "Packs", "Put the previous state in force again; doing it twice changes nothing", 404, 409),
		func(ctx context.Context, in *ByID) (*packOutput, error) {
			p, err := s.Packs.Undo(ctx, in.ID, actor(ctx))
			return s.loadedPack(ctx, p, err)
		})
	huma.Register(api, operation("getPackHistory", http.MethodGet, "/packs/{id}/history", "Packs", "What a pack came to, and when it was in force", 404), s.packHistory)
	huma.Register(api, operation("getPackChanges", http.MethodGet, "/packs/{id}/changes", "Packs", "What an update changes: sites, and recorded traffic", 404, 422), s.packChanges)

	huma.Register(api, operation("getPackKeys", http.MethodGet, "/pack-keys", "Packs", "The public keys that packs may be signed with"),
		func(ctx context.Context, _ *struct{}) (*packKeysOutput, error) {
			found, err := s.Packs.Keys(ctx)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			out := &packKeysOutput{}
			out.Body.Keys = []PackKey{}
			for _, key := range found {
				out.Body.Keys = append(out.Body.Keys, PackKey(key))
			}
			return out, nil
		})
	huma.Register(api, operation("trustKey", http.MethodPost, "/pack-keys", "Packs", "Trust packs that are signed with a key; for owners", 403, 422),
		func(ctx context.Context, in *trustInput) (*struct{}, error) {
			key := strings.TrimSpace(in.Body.Key)
			name, err := revision.CheckName("name", in.Body.Name)
			if _, bad := sealed.ParseKey(key); err == nil && bad != nil {
				err = &revision.FieldError{Field: "key", Msg: bad.Error()}
			}
			if err == nil {
				err = s.Packs.Trust(ctx, catalogue.Key{Key: key, Name: name}, actor(ctx))
			}
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			return nil, nil
		})
	huma.Register(api, operation("distrustKey", http.MethodDelete, "/pack-keys", "Packs", "Stop trusting a key; what was signed with it stays; for owners", 403, 404),
		func(ctx context.Context, in *distrustInput) (*struct{}, error) {
			if err := s.Packs.Distrust(ctx, in.Key, actor(ctx)); err != nil {
				return nil, s.problem(ctx, err)
			}
			return nil, nil
		})
}

func (s *server) packAnswer(ctx context.Context, p catalogue.Pack, err error) (*packOutput, error) {
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return &packOutput{s.packBody(p)}, nil
}

// loadedPack waits until a change is in force in this service before it answers.
func (s *server) loadedPack(ctx context.Context, p catalogue.Pack, err error) (*packOutput, error) {
	if err == nil {
		err = s.Cache.Load(ctx)
	}
	return s.packAnswer(ctx, p, err)
}

func minutes(n *int) *time.Duration {
	if n == nil {
		return nil
	}
	every := time.Duration(*n) * time.Minute
	return &every
}

func (s *server) createPack(ctx context.Context, in *newPackInput) (*packOutput, error) {
	b := in.Body
	settings := catalogue.Settings{URL: b.URL, Every: 24 * time.Hour, Paused: b.Paused, MaxBytes: catalogue.MaxPackBytes, MaxShrink: catalogue.DefaultShrink, Hold: b.Hold}
	if every := minutes(b.EveryMinutes); every != nil {
		settings.Every = *every
	}
	if b.MaxBytes != nil {
		settings.MaxBytes = *b.MaxBytes
	}
	if b.MaxShrink != nil {
		settings.MaxShrink = *b.MaxShrink
	}
	name, err := revision.CheckName("name", b.Name)
	if err == nil {
		err = settings.Checked()
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	made, err := s.Packs.AddPack(ctx, name, settings, actor(ctx))
	return s.packAnswer(ctx, made, err)
}

func (s *server) editPack(ctx context.Context, in *editPackInput) (*packOutput, error) {
	b := in.Body
	if b.Name != nil {
		name, err := revision.CheckName("name", *b.Name)
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		b.Name = &name
	}
	edited, err := s.Packs.EditPack(ctx, in.ID, catalogue.Edit{
		Name: b.Name, Rank: b.Rank, URL: b.URL, Every: minutes(b.EveryMinutes), Paused: b.Paused, MaxBytes: b.MaxBytes, MaxShrink: b.MaxShrink, Hold: b.Hold,
	}, actor(ctx))
	return s.loadedPack(ctx, edited, err)
}

func (s *server) acceptPack(ctx context.Context, id uuid.UUID, number int64) (catalogue.Pack, error) {
	return s.Packs.Accept(ctx, id, number, actor(ctx))
}

func (s *server) refusePack(ctx context.Context, id uuid.UUID, number int64) (catalogue.Pack, error) {
	return s.Packs.Refuse(ctx, id, number, actor(ctx))
}

func (s *server) settlePack(do func(context.Context, uuid.UUID, int64) (catalogue.Pack, error)) func(context.Context, *settlePackInput) (*packOutput, error) {
	return func(ctx context.Context, in *settlePackInput) (*packOutput, error) {
		p, err := do(ctx, in.ID, in.Body.Number)
		return s.loadedPack(ctx, p, err)
	}
}

func (s *server) packHistory(ctx context.Context, in *ByID) (*packHistoryOutput, error) {
	if _, err := s.Packs.Pack(ctx, in.ID); err != nil {
		return nil, s.problem(ctx, err)
	}
	events, err := s.Packs.Events(ctx, in.ID)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	states, err := s.Packs.States(ctx, in.ID)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &packHistoryOutput{}
	out.Body.Events, out.Body.States = []PackEvent{}, []PackState{}
	for _, e := range events {
		out.Body.Events = append(out.Body.Events, PackEvent(e))
	}
	for _, state := range states {
		out.Body.States = append(out.Body.States, PackState(state))
	}
	return out, nil
}

func (s *server) packChanges(ctx context.Context, in *packChangesInput) (*packChangesOutput, error) {
	p, err := s.Packs.Pack(ctx, in.ID)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	out := &packChangesOutput{}
	b := &out.Body
	b.Changes, b.Turns = []SiteChange{}, []Turn{}
	b.From, b.To = in.From, in.To
	switch {
	case p.InForce == nil:
		return out, nil
	case b.From == 0:
		b.From = p.InForce.Number
	}
	switch {
	case b.To != 0:
	case p.Waiting != nil:
		b.To = p.Waiting.Number
	default:
		b.To = p.Latest.Number
	}
	names, err := s.naming(ctx)
	if err != nil {
		return nil, err
	}
	found, totals, err := s.Packs.Differences(ctx, in.ID, b.From, b.To, in.After, in.Limit+1)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	b.Added, b.Moved, b.Gone = totals.Added, totals.Moved, totals.Gone
	if len(found) > in.Limit {
		found = found[:in.Limit]
		b.Next = found[in.Limit-1].Entry
	}
	for _, d := range found {
		b.Changes = append(b.Changes, SiteChange{d.Entry, names.refs(strings.Fields(d.Before)), names.refs(strings.Fields(d.After))})
	}
	if in.After != "" || b.From != p.InForce.Number || b.To <= b.From {
		return out, nil
	}
	turns, turned, err := s.Finder.Turns(ctx, in.ID, b.To, in.Limit)
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	b.Turned = Traffic(turned)
	for _, turn := range turns {
		path := turn.Path
		if path == "/" {
			path = ""
		}
		b.Turns = append(b.Turns, Turn{turn.Host + path, turn.Requests, names.refs(turn.Before), names.refs(turn.After)})
	}
	return out, nil
}

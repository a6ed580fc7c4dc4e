package httpapi

import (
	"context"
	"errors"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/alexedwards/scs/v2"
	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/internal/access"
	"widelark/internal/account"
	"widelark/internal/audit"
)

// SessionCookie is the name of the cookie that carries a person's session.
const SessionCookie = "widelark_session"

// secureCookie is its name over TLS: browsers then keep it from other paths and hosts (RFC 6265bis, section 4.1.3.2).
const secureCookie = "__Host-" + SessionCookie

// sessionID is the key under which a session keeps the id of its row; see [account.Session].
const sessionID = "id"

// basicSessions returns the library's manager, made once: with each one it begins to clean up a store in memory that nobody uses, and goes
// on as long as the process.
var basicSessions = sync.OnceValue(scs.New)

// NewSessions returns the manager of people's sessions. They live in store, end after half an idle hour and after twelve hours
// in any case (OWASP ASVS 4.0.3, 3.3.2). secure is for services that are reached over TLS: the cookie then never travels without.
func NewSessions(store scs.Store, secure bool) *scs.SessionManager {
	fresh := *basicSessions()
	sessions := &fresh
	sessions.Store = store
	sessions.HashTokenInStore = true
	sessions.Lifetime = 12 * time.Hour
	sessions.IdleTimeout = 30 * time.Minute
	sessions.Cookie.Name = SessionCookie
	if secure {
		sessions.Cookie.Name = secureCookie
	}
	sessions.Cookie.HttpOnly = true
	sessions.Cookie.SameSite = http.SameSiteStrictMode
	sessions.Cookie.Secure = secure
	return sessions
}

// withSession gives operations the session of who asks. The console's own files need none, and are there while the database is not.
func (s *server) withSession(engine http.Handler) http.Handler {
	s.Sessions.ErrorFunc = func(w http.ResponseWriter, r *http.Request, err error) {
		status, detail := s.refusal(r.Context(), err)
		writeProblem(w, status, detail)
	}
	operations := s.Sessions.LoadAndSave(engine)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/api/") {
			operations.ServeHTTP(w, r)
		} else {
			engine.ServeHTTP(w, r)
		}
	})
}

// refusal returns the status and the detail of the problem for an error.
func (s *server) refusal(ctx context.Context, err error) (status int, detail string) {
	var problem huma.StatusError
	errors.As(s.problem(ctx, err), &problem) // it always is one
	return problem.GetStatus(), problem.Error()
}

const unknownCaller = "Sign in first: the session is over, or the token is unknown."

// identify returns whose token stands in the header or, where it is empty, whose session it is; else
// [account.ErrUnknown].
func (s *server) identify(ctx context.Context, authorization string) (account.Account, error) {
	if authorization != "" {
		return s.Authenticator.ByToken(ctx, strings.TrimPrefix(authorization, "Bearer "))
	}
	id := s.session(ctx)
	if id == uuid.Nil {
		return account.Account{}, account.ErrUnknown
	}
	return s.Accounts.AccountBySession(ctx, id)
}

// session returns the id of the session that a request is made in; uuid.Nil for none.
func (s *server) session(ctx context.Context) uuid.UUID {
	id, _ := uuid.Parse(s.Sessions.GetString(ctx, sessionID))
	return id
}

// Account is who is signed in.
type Account struct {
	ID       uuid.UUID `json:"id" format:"uuid"`
	Name     string    `json:"name" doc:"The sign-in name"`
	FullName string    `json:"fullName"`
	Roles    []Role    `json:"roles" doc:"What they may do: all of these together; none of them, nothing"`
	Provider bool      `json:"provider,omitempty" doc:"The identity provider keeps the account: it has no password here"`
	Second   bool      `json:"second,omitempty" doc:"It has a second factor here: an app that makes codes, or a passkey"`
}

// Role is a role that an account or a token has, and its bounds.
type Role struct {
	Role    access.Role  `json:"role" enum:"owner,editor,publisher,help desk,lead,auditor,reader"`
	Groups  []Ref        `json:"groups,omitempty" maxItems:"100" doc:"Help desk and lead: for members of these groups alone; left out, for everybody"`
	Lists   []Ref        `json:"lists,omitempty" maxItems:"100" doc:"Editor and publisher: for entries of these lists alone; left out, for everything"`
	Reach   access.Reach `json:"reach,omitempty" enum:"page,host,site,everything" doc:"Help desk and lead: the widest that a grant may open; left out, everything"`
	Minutes int          `json:"minutes,omitempty" minimum:"0" maximum:"129600" doc:"Help desk and lead: the longest that a grant may last; left out, 90 days"`
}

// Permitted is operations that the caller may carry out.
type Permitted struct {
	Operations []string    `json:"operations" doc:"By the ids that the contract gives them"`
	Groups     []uuid.UUID `json:"groups,omitempty" doc:"For members of these groups alone; left out with whole"`
	Lists      []uuid.UUID `json:"lists,omitempty" doc:"On entries of these lists alone; left out with whole"`
	Whole      bool        `json:"whole" doc:"On everything, apart from the baseline, which is for owners"`
}

// Token is a program's token without its secret.
type Token struct {
	ID         uuid.UUID  `json:"id" format:"uuid"`
	Name       string     `json:"name" doc:"What it is for"`
	CreatedAt  time.Time  `json:"createdAt"`
	LastUsedAt *time.Time `json:"lastUsedAt,omitempty" doc:"To the minute; left out where it was never used"`
	ExpiresAt  *time.Time `json:"expiresAt,omitempty" doc:"Left out where it has no end"`
	Roles      []Role     `json:"roles,omitempty" doc:"It may do no more than these, and no more than you; left out, as much as you"`
}

type accountOutput struct{ Body Account }

type whoAmIInput struct {
	Authorization string `header:"Authorization" hidden:"true"`
}

type sessionOutput struct {
	Body struct {
		Account  *Account    `json:"account,omitempty" doc:"Left out where nobody is signed in"`
		May      []Permitted `json:"may,omitempty" doc:"What the account may do; an operation may be in several parts"`
		Provider string      `json:"provider,omitempty" doc:"The identity provider at which people can sign in, as it is called; left out for none"`
		Unowned  bool        `json:"unowned,omitempty" doc:"Nobody has an account yet: the service has printed an address where the first owner makes one"`
		Zone     string      `json:"zone" doc:"The organisation's IANA time zone: its days begin there, and moments are said by its clock"`
	}
}

type signInInput struct {
	from
	Body struct {
		Name     string `json:"name" maxLength:"80"`
		Password string `json:"password" maxLength:"1000"`
		Code     string `json:"code,omitempty" maxLength:"20" doc:"That the account's app shows, where it has one"`
	}
}

// from is where a request comes from.
type from struct{ address, agent, host string }

// Resolve keeps address and program for the handler.
func (in *from) Resolve(ctx huma.Context) []error {
	in.address, in.agent = ctx.RemoteAddr(), ctx.Header("User-Agent")
	if host, _, err := net.SplitHostPort(in.address); err == nil {
		in.address = host
	}
	in.host = ctx.Host()
	in.agent = strings.ToValidUTF8(in.agent[:min(len(in.agent), 200)], "")
	return nil
}

type newTokenInput struct {
	Body struct {
		Name      string     `json:"name" minLength:"1" maxLength:"80" doc:"What it is for, as: nightly import"`
		ExpiresAt *time.Time `json:"expiresAt,omitempty" doc:"When it ends; left out, never"`
		Roles     []Role     `json:"roles,omitempty" maxItems:"20" doc:"It may do no more than these, and never more than you; left out, as much as you"`
	}
}

type newTokenOutput struct {
	Body struct {
		Token
		Secret string `json:"secret" doc:"Shown this once; send it as Authorization: Bearer …"`
	}
}

type tokensOutput struct {
	Body struct {
		Tokens []Token `json:"tokens"`
	}
}

type healthOutput struct {
	Body struct {
		Version  string `json:"version" doc:"The version of the service"`
		Database string `json:"database" enum:"answers,silent"`
	}
}

// ByID names the object that an operation is about.
type ByID struct {
	ID uuid.UUID `path:"id" format:"uuid"`
}

// noteRefused keeps a sign-in that failed. A name that is nobody's is not kept: people type passwords there.
func (s *server) noteRefused(ctx context.Context, name, detail string) error {
	event := audit.Event{What: audit.SignInRefused, Detail: detail}
	if known, _, err := s.Accounts.AccountByName(ctx, strings.TrimSpace(name)); err == nil {
		event.By = known.Name
	}
	return s.Audit.Note(ctx, event)
}

// begin begins the session of somebody who has signed in, unless that failed.
func (s *server) begin(ctx context.Context, who account.Account, in from, err error) (*accountOutput, error) {
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	if err := s.Sessions.RenewToken(ctx); err != nil { // so that a cookie planted before is worth nothing
		return nil, s.problem(ctx, err)
	}
	session := account.Session{ID: uuid.New(), Address: in.address, Agent: in.agent}
	if len(who.Roles) == 0 {
		return nil, huma.Error403Forbidden("You are known here, and may do nothing yet: an owner has to give you a role.")
	}
	if err := s.Accounts.AddSession(ctx, session, who.Actor()); err != nil {
		return nil, s.problem(ctx, err)
	}
	s.Sessions.Put(ctx, sessionID, session.ID.String())
	return s.accountAnswer(ctx, who, nil)
}

func (s *server) registerSessions(api huma.API) {
	health := operation("getHealth", http.MethodGet, "/health", "Service", "Whether the service runs and can store changes")
	huma.Register(api, health, func(ctx context.Context, _ *struct{}) (*healthOutput, error) {
		out := &healthOutput{}
		out.Body.Version, out.Body.Database = s.Version, "answers"
		if s.Alive(ctx) != nil {
			out.Body.Database = "silent"
		}
		return out, nil
	})

	signIn := operation("signIn", http.MethodPost, "/session", "Sign-in", "Sign in as a person; sets the session's cookie", 422, 429, 401)
	huma.Register(api, signIn, func(ctx context.Context, in *signInInput) (*accountOutput, error) {
		who, err := s.Authenticator.SignIn(ctx, in.Body.Name, in.Body.Password, in.Body.Code, in.address)
		switch {
		case errors.Is(err, account.ErrRefused):
			err = errors.Join(err, s.noteRefused(ctx, in.Body.Name, "name and password do not belong together, from "+in.address))
		case errors.Is(err, account.ErrWrongCode):
			err = errors.Join(err, s.noteRefused(ctx, in.Body.Name, "the password was right, and the code wrong, from "+in.address))
		}
		return s.begin(ctx, who, in.from, err)
	})
	// Public, so that asking is not a failure: browsers write every failed request to their console.
	whoAmI := operation("whoAmI", http.MethodGet, "/session", "Sign-in", "Who is signed in, if anybody", 401)
	huma.Register(api, whoAmI, func(ctx context.Context, in *whoAmIInput) (*sessionOutput, error) {
		who, err := s.identify(ctx, in.Authorization)
		out := &sessionOutput{}
		out.Body.Zone = s.Zone.String()
		if s.Provider != nil {
			out.Body.Provider = s.Provider.Name()
		}
		if errors.Is(err, account.ErrUnknown) && in.Authorization == "" {
			has, err := s.Accounts.HasAccounts(ctx)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			out.Body.Unowned = !has
		}
		switch {
		case err == nil:
			body, err := s.accountAnswer(ctx, who, nil)
			if err != nil {
				return nil, err
			}
			out.Body.Account, out.Body.May = &body.Body, permitted(who.Roles)
		case errors.Is(err, account.ErrUnknown) && in.Authorization != "":
			return nil, huma.Error401Unauthorized(unknownCaller)
		case !errors.Is(err, account.ErrUnknown):
			return nil, s.problem(ctx, err)
		}
		return out, nil
	})
	signOut := operation("signOut", http.MethodDelete, "/session", "Sign-in", "End the session")
	huma.Register(api, signOut, func(ctx context.Context, _ *struct{}) (*struct{}, error) {
		if id := s.session(ctx); id != uuid.Nil {
			if who, err := s.identify(ctx, ""); err == nil {
				if err := s.Accounts.EndSession(ctx, id, false, who.Actor()); err != nil && !errors.Is(err, account.ErrUnknown) {
					return nil, s.problem(ctx, err)
				}
			}
		}
		if err := s.Sessions.Destroy(ctx); err != nil {
			return nil, s.problem(ctx, err)
		}
		return nil, nil
	})

	huma.Register(api, operation("getTokens", http.MethodGet, "/tokens", "Sign-in", "Your programs' tokens"),
		func(ctx context.Context, _ *struct{}) (*tokensOutput, error) {
			tokens, err := s.Accounts.Tokens(ctx, caller(ctx).ID)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			out := &tokensOutput{}
			out.Body.Tokens = make([]Token, len(tokens))
			for i, token := range tokens {
				if out.Body.Tokens[i], err = s.tokenBody(ctx, token); err != nil {
					return nil, s.problem(ctx, err)
				}
			}
			return out, nil
		})
	create := operation("createToken", http.MethodPost, "/tokens", "Sign-in", "Make a token for a program", 422)
	create.DefaultStatus = http.StatusCreated
	huma.Register(api, create, func(ctx context.Context, in *newTokenInput) (*newTokenOutput, error) {
		wanted := account.Token{Name: in.Body.Name, ExpiresAt: in.Body.ExpiresAt, Roles: heldOf(in.Body.Roles)}
		if len(in.Body.Roles) == 0 {
			wanted.Roles = nil
		}
		token, secret, err := s.Authenticator.AddToken(ctx, wanted, actor(ctx))
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		out := &newTokenOutput{}
		out.Body.Secret = secret
		if out.Body.Token, err = s.tokenBody(ctx, token); err != nil {
			return nil, s.problem(ctx, err)
		}
		return out, nil
	})
	huma.Register(api, operation("deleteToken", http.MethodDelete, "/tokens/{id}", "Sign-in", "Take a token back", 404),
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			if err := s.Accounts.RemoveToken(ctx, in.ID, actor(ctx)); err != nil {
				return nil, s.problem(ctx, err)
			}
			return nil, nil
		})
}

package httpapi

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"widelark/internal/access"
	"widelark/internal/account"
)

type firstOwnerInput struct {
	from
	Body struct {
		Secret   string `json:"secret" maxLength:"200" doc:"From the address that the service has printed"`
		Name     string `json:"name" minLength:"1" maxLength:"80" doc:"To sign in with: one word"`
		FullName string `json:"fullName,omitempty" maxLength:"200"`
		Password string `json:"password" maxLength:"1000"`
	}
}

type providerStartOutput struct {
	Body struct {
		URL  string `json:"url" doc:"Where to sign in"`
		Kept []byte `json:"kept" doc:"To be sent back with what the provider answers"`
	}
}

type providerSignInInput struct {
	from
	Body struct {
		Code  string `json:"code" minLength:"1" maxLength:"4000" doc:"From the provider"`
		State string `json:"state" minLength:"1" maxLength:"4000" doc:"From the provider"`
		Kept  []byte `json:"kept" maxLength:"8000"`
	}
}

// Claim is what those may do whom the identity provider puts in a group.
type Claim struct {
	Group     string    `json:"group" doc:"As the provider calls it"`
	Roles     []Role    `json:"roles"`
	UpdatedAt time.Time `json:"updatedAt"`
	UpdatedBy string    `json:"updatedBy"`
}

type claimsOutput struct {
	Body struct {
		Provider string  `json:"provider,omitempty" doc:"What the provider is called; left out where there is none"`
		Claims   []Claim `json:"claims" doc:"By group"`
	}
}

type claimOutput struct{ Body Claim }

// ByGroup names a group of the provider in a query, as its name may hold anything.
type ByGroup struct {
	Group string `query:"group" required:"true" minLength:"1" maxLength:"300"`
}

type putClaimInput struct {
	ByGroup
	Body struct {
		Roles []Role `json:"roles" maxItems:"20"`
	}
}

// fromURL reads base64 as it stands in URLs, with or without padding.
func fromURL(text string) ([]byte, error) {
	text = strings.NewReplacer("+", "-", "/", "_").Replace(strings.TrimRight(text, "="))
	return base64.RawURLEncoding.DecodeString(text)
}

func (s *server) registerSignOn(api huma.API) {
	first := operation("makeFirstOwner", http.MethodPost, "/first-owner", "Sign-in", "Make the first account, an owner's, with the address that the service has printed; sets the session's cookie", 404, 422, 429)
	first.DefaultStatus = http.StatusCreated
	huma.Register(api, first, func(ctx context.Context, in *firstOwnerInput) (*accountOutput, error) {
		made, err := s.Authenticator.AddFirstOwner(ctx, in.Body.Secret, account.Account{Name: strings.TrimSpace(in.Body.Name), FullName: in.Body.FullName}, in.Body.Password)
		if errors.Is(err, account.ErrUnknown) {
			err = huma.Error404NotFound("This address makes no account: it is mistyped or older than a day, or somebody has an account by now. As long as nobody has one, the service prints another address when it starts.")
		}
		return s.begin(ctx, made, in.from, err)
	})
	huma.Register(api, operation("beginProviderSignIn", http.MethodPost, "/session/provider/start", "Sign-in", "Begin to sign in at the identity provider", 404, 502),
		func(ctx context.Context, _ *struct{}) (*providerStartOutput, error) {
			if s.Provider == nil {
				return nil, huma.Error404NotFound("The service has no identity provider.")
			}
			out := &providerStartOutput{}
			var err error
			if out.Body.URL, out.Body.Kept, err = s.Provider.Begin(ctx); err != nil {
				return nil, s.problem(ctx, err)
			}
			return out, nil
		})
	huma.Register(api, operation("signInByProvider", http.MethodPost, "/session/provider", "Sign-in", "Sign in with what the identity provider has answered; sets the session's cookie", 401, 404, 409, 422, 502),
		func(ctx context.Context, in *providerSignInInput) (*accountOutput, error) {
			if s.Provider == nil {
				return nil, huma.Error404NotFound("The service has no identity provider.")
			}
			var who account.Account
			said, err := s.Provider.Finish(ctx, in.Body.Code, in.Body.State, in.Body.Kept)
			if err == nil {
				who, err = s.Accounts.AccountOf(ctx, said, access.SignOn)
			}
			if errors.Is(err, account.ErrTaken) {
				err = huma.Error409Conflict(fmt.Sprintf("An account here is called %s already, and it is not yours: an owner has to remove it, or the identity provider to call you something else.", said.Name))
			}
			return s.begin(ctx, who, in.from, err)
		})
	huma.Register(api, operation("getClaims", http.MethodGet, "/provider/groups", "Accounts", "What those may do whom the identity provider puts in a group", 403),
		func(ctx context.Context, _ *struct{}) (*claimsOutput, error) {
			found, err := s.Accounts.Claims(ctx)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			out := &claimsOutput{}
			if s.Provider != nil {
				out.Body.Provider = s.Provider.Name()
			}
			out.Body.Claims = make([]Claim, len(found))
			for i, c := range found {
				if out.Body.Claims[i], err = s.claimBody(ctx, c); err != nil {
					return nil, s.problem(ctx, err)
				}
			}
			return out, nil
		})
	huma.Register(api, operation("putClaim", http.MethodPut, "/provider/group", "Accounts", "Say what those may do whom the identity provider puts in a group; it holds at once; for owners", 403, 422),
		func(ctx context.Context, in *putClaimInput) (*claimOutput, error) {
			put, err := s.Accounts.PutClaim(ctx, account.Claim{Value: in.Group, Roles: heldOf(in.Body.Roles)}, actor(ctx))
			var body Claim
			if err == nil {
				body, err = s.claimBody(ctx, put)
			}
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			return &claimOutput{body}, nil
		})
	huma.Register(api, operation("removeClaim", http.MethodDelete, "/provider/group", "Accounts", "Give nothing to a group of the identity provider any more; it holds at once; for owners", 403, 404),
		func(ctx context.Context, in *ByGroup) (*struct{}, error) {
			return s.nothing(ctx, s.Accounts.RemoveClaim(ctx, in.Group, actor(ctx)))
		})
}

func (s *server) claimBody(ctx context.Context, c account.Claim) (body Claim, err error) {
	body = Claim{Group: c.Value, UpdatedAt: c.UpdatedAt, UpdatedBy: c.UpdatedBy}
	body.Roles, err = s.roleBodies(ctx, c.Roles)
	return body, err
}

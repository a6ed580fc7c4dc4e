package httpapi

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"widelark/internal/account"
)

type accountsOutput struct {
	Body struct {
		Accounts []Account `json:"accounts" doc:"By name"`
	}
}

type newAccountInput struct {
	Body struct {
		Name     string `json:"name" minLength:"1" maxLength:"80" doc:"To sign in with: one word"`
		FullName string `json:"fullName,omitempty" maxLength:"200"`
		Password string `json:"password" maxLength:"1000"`
		Roles    []Role `json:"roles,omitempty" maxItems:"20" doc:"What they may do; left out, nothing"`
	}
}

type putRolesInput struct {
	ByID
	Body struct {
		Roles []Role `json:"roles" maxItems:"20" doc:"All that they may do from now on"`
	}
}

type resetPasswordInput struct {
	ByID
	Body struct {
		Password string `json:"password" maxLength:"1000"`
	}
}

type ownPasswordInput struct {
	from
	Body struct {
		Present  string `json:"present" maxLength:"1000" doc:"The password until now"`
		Password string `json:"password" maxLength:"1000" doc:"The new one"`
	}
}

// Stay is a person's stay from one sign-in on.
type Stay struct {
	ID      uuid.UUID `json:"id" format:"uuid"`
	MadeAt  time.Time `json:"madeAt"`
	SeenAt  time.Time `json:"seenAt" doc:"To the minute"`
	Address string    `json:"address" doc:"The client's address at the sign-in"`
	Agent   string    `json:"agent" doc:"The program, as it says itself"`
	This    bool      `json:"this,omitempty" doc:"The request was made in it"`
}

type staysOutput struct {
	Body struct {
		Sessions []Stay `json:"sessions" doc:"The last seen first"`
	}
}

func (s *server) registerAccounts(api huma.API) {
	huma.Register(api, operation("getAccounts", http.MethodGet, "/accounts", "Accounts", "Who may sign in, and what they may do", 403),
		func(ctx context.Context, _ *struct{}) (*accountsOutput, error) {
			all, err := s.Accounts.Accounts(ctx)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			out := &accountsOutput{}
			out.Body.Accounts = []Account{}
			for _, a := range all {
				one, err := s.accountAnswer(ctx, a, nil)
				if err != nil {
					return nil, err
				}
				out.Body.Accounts = append(out.Body.Accounts, one.Body)
			}
			return out, nil
		})
	add := operation("addAccount", http.MethodPost, "/accounts", "Accounts", "Let somebody sign in; for owners", 403, 409, 422, 429)
	add.DefaultStatus = http.StatusCreated
	huma.Register(api, add, func(ctx context.Context, in *newAccountInput) (*accountOutput, error) {
		made, err := s.Authenticator.Add(ctx, account.Account{Name: in.Body.Name, FullName: in.Body.FullName, Roles: heldOf(in.Body.Roles)}, in.Body.Password, actor(ctx))
		return s.accountAnswer(ctx, made, err)
	})
	huma.Register(api, operation("putRoles", http.MethodPut, "/accounts/{id}/roles", "Accounts", "Say what somebody may do; it holds at once; for owners", 403, 404, 409, 422),
		func(ctx context.Context, in *putRolesInput) (*accountOutput, error) {
			put, err := s.Accounts.PutRoles(ctx, in.ID, heldOf(in.Body.Roles), actor(ctx))
			return s.accountAnswer(ctx, put, err)
		})
	huma.Register(api, operation("removeAccount", http.MethodDelete, "/accounts/{id}", "Accounts", "Remove an account; its sessions and tokens end at once; for owners", 403, 404, 409),
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			if err := s.Accounts.RemoveAccount(ctx, in.ID, actor(ctx)); err != nil {
				return nil, s.problem(ctx, err)
			}
			return nil, nil
		})
	huma.Register(api, operation("resetPassword", http.MethodPut, "/accounts/{id}/password", "Accounts", "Give somebody another password; sessions and tokens end at once; for owners", 403, 404, 422, 429),
		func(ctx context.Context, in *resetPasswordInput) (*struct{}, error) {
			a, err := s.Accounts.Account(ctx, in.ID)
			if err == nil {
				err = s.Authenticator.ResetPassword(ctx, a, in.Body.Password, actor(ctx))
			}
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			return nil, nil
		})
	huma.Register(api, operation("changePassword", http.MethodPut, "/session/password", "Sign-in", "Change your own password; your other sessions end", 422, 429),
		func(ctx context.Context, in *ownPasswordInput) (*struct{}, error) {
			err := s.Authenticator.ChangePassword(ctx, caller(ctx), in.Body.Present, in.Body.Password, in.address, s.session(ctx))
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			return nil, nil
		})
	huma.Register(api, operation("getSessions", http.MethodGet, "/sessions", "Sign-in", "Where you are signed in"),
		func(ctx context.Context, _ *struct{}) (*staysOutput, error) {
			found, err := s.Accounts.Sessions(ctx, caller(ctx).ID)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			out := &staysOutput{}
			out.Body.Sessions = []Stay{}
			for _, one := range found {
				out.Body.Sessions = append(out.Body.Sessions, Stay{one.ID, one.MadeAt, one.SeenAt, one.Address, one.Agent, one.ID == s.session(ctx)})
			}
			return out, nil
		})
	huma.Register(api, operation("endSession", http.MethodDelete, "/sessions/{id}", "Sign-in", "Sign out there", 404),
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			err := s.Accounts.EndSession(ctx, in.ID, in.ID != s.session(ctx), actor(ctx))
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			return nil, nil
		})
}

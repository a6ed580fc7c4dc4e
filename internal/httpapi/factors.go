package httpapi

import (
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"widelark/internal/account"
)

// Factors is what an account can sign in with besides its password.
type Factors struct {
	Provider bool      `json:"provider,omitempty" doc:"The identity provider keeps the account, and asks for what it wants"`
	Codes    bool      `json:"codes" doc:"Of an app that makes a new one every half minute"`
	Passkeys []Passkey `json:"passkeys" doc:"The oldest first"`
}

// Passkey is a key of a device, with which an account signs in instead of its password.
type Passkey struct {
	ID     []byte     `json:"id"`
	Name   string     `json:"name"`
	MadeAt time.Time  `json:"madeAt"`
	UsedAt *time.Time `json:"usedAt,omitempty" doc:"Left out where it was never used"`
}

type factorsOutput struct{ Body Factors }

// AgainInput asks for the password once more, from somebody who is signed in.
type AgainInput struct {
	from
	Body struct {
		Password string `json:"password" maxLength:"1000" doc:"The password of the account, once more"`
	}
}

type generatorOutput struct {
	Body struct {
		Secret  string `json:"secret" doc:"In base32, for apps that are typed to; shown this once"`
		URL     string `json:"url" doc:"The same, as apps read it"`
		Picture string `json:"picture" doc:"The same, as a picture that apps photograph: a data URL"`
	}
}

type codeInput struct {
	from
	Body struct {
		Code string `json:"code" maxLength:"20" doc:"That the app shows"`
	}
}

// Challenge is what a browser asks its passkeys.
type Challenge struct {
	Options json.RawMessage `json:"options" doc:"For the browser, as Web Authentication, Level 3, section 5.1.8 has it"`
	Kept    []byte          `json:"kept" doc:"To be sent back with the answer"`
}

type challengeOutput struct{ Body Challenge }

// PasskeyAnswer is what a browser answers to a challenge.
type PasskeyAnswer struct {
	Kept   []byte         `json:"kept" maxLength:"8000"`
	Answer map[string]any `json:"answer" doc:"The browser's, as JSON"`
}

type addPasskeyInput struct {
	from
	Body struct {
		PasskeyAnswer
		Name string `json:"name" minLength:"1" maxLength:"80" doc:"Of the device, as: my phone"`
	}
}

type removePasskeyInput struct {
	AgainInput
	ID string `path:"id" maxLength:"2000" doc:"As the list of passkeys has it, in base64 for URLs"`
}

type passkeySignInInput struct {
	from
	Body PasskeyAnswer
}

type originInput struct{ from }

// origin returns the address at which people reach the console. On the service's own machine that may be localhost, whatever it is for others: passkeys need a name, and that one has no other.
func (s *server) origin(in from) string {
	if at, err := url.Parse(s.ConsoleURL); err == nil && s.ConsoleURL != "" && !isLocalhost(in.host) {
		return at.Scheme + "://" + at.Host
	}
	scheme := "http"
	if s.Sessions.Cookie.Secure {
		scheme = "https"
	}
	return scheme + "://" + in.host
}

// isLocalhost reports whether a Host field names this machine.
func isLocalhost(host string) bool {
	return host == "localhost" || strings.HasPrefix(host, "localhost:")
}

func (s *server) challenge(ctx context.Context, options any, kept []byte, err error) (*challengeOutput, error) {
	var text []byte
	if err == nil {
		text, err = json.Marshal(options)
	}
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return &challengeOutput{Challenge{text, kept}}, nil
}

func (s *server) nothing(ctx context.Context, err error) (*struct{}, error) {
	if err != nil {
		return nil, s.problem(ctx, err)
	}
	return nil, nil
}

func (s *server) registerFactors(api huma.API) {
	huma.Register(api, operation("getFactors", http.MethodGet, "/session/factors", "Sign-in", "What you can sign in with besides your password"),
		func(ctx context.Context, _ *struct{}) (*factorsOutput, error) {
			who := caller(ctx)
			has, err := s.Accounts.Factors(ctx, who.ID)
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			out := &factorsOutput{Factors{Provider: who.Issuer != "", Codes: has.Codes, Passkeys: []Passkey{}}}
			for _, p := range has.Passkeys {
				out.Body.Passkeys = append(out.Body.Passkeys, Passkey{p.ID, p.Name, p.MadeAt, p.UsedAt})
			}
			return out, nil
		})
	huma.Register(api, operation("beginCodes", http.MethodPost, "/session/codes", "Sign-in", "Set up an app that makes codes; it holds once a code has confirmed it", 401, 409, 422, 429),
		func(ctx context.Context, in *AgainInput) (*generatorOutput, error) {
			made, err := s.Authenticator.BeginCodes(ctx, caller(ctx), in.Body.Password, in.address, "Wide Lark")
			if err != nil {
				return nil, s.problem(ctx, err)
			}
			out := &generatorOutput{}
			out.Body.Secret, out.Body.URL, out.Body.Picture = made.Secret, made.URL, made.Picture
			return out, nil
		})
	huma.Register(api, operation("confirmCodes", http.MethodPut, "/session/codes", "Sign-in", "Show with a code that the app is set up: from now on signing in wants one, too", 401, 404, 409, 422, 429),
		func(ctx context.Context, in *codeInput) (*struct{}, error) {
			return s.nothing(ctx, s.Authenticator.ConfirmCodes(ctx, caller(ctx), in.Body.Code, in.address))
		})
	huma.Register(api, operation("removeCodes", http.MethodPost, "/session/codes/removal", "Sign-in", "Sign in without codes from now on", 401, 404, 409, 422, 429),
		func(ctx context.Context, in *AgainInput) (*struct{}, error) {
			return s.nothing(ctx, s.Authenticator.RemoveCodes(ctx, caller(ctx), in.Body.Password, in.address))
		})
	huma.Register(api, operation("beginPasskey", http.MethodPost, "/session/passkeys/challenge", "Sign-in", "Begin to add a passkey", 401, 409, 422, 429),
		func(ctx context.Context, in *AgainInput) (*challengeOutput, error) {
			if err := s.Authenticator.Again(ctx, caller(ctx), in.Body.Password, in.address); err != nil {
				return nil, s.problem(ctx, err)
			}
			options, kept, err := s.Passkeys.BeginAdding(ctx, caller(ctx), s.origin(in.from))
			return s.challenge(ctx, options, kept, err)
		})
	huma.Register(api, operation("addPasskey", http.MethodPost, "/session/passkeys", "Sign-in", "Add the passkey that the browser has made", 401, 409, 422),
		func(ctx context.Context, in *addPasskeyInput) (*struct{}, error) {
			answer, err := json.Marshal(in.Body.Answer)
			if err == nil {
				err = s.Passkeys.Add(ctx, caller(ctx), s.origin(in.from), in.Body.Name, in.Body.Kept, answer)
			}
			return s.nothing(ctx, err)
		})
	huma.Register(api, operation("removePasskey", http.MethodPost, "/session/passkeys/{id}/removal", "Sign-in", "Remove a passkey", 401, 404, 409, 422, 429),
		func(ctx context.Context, in *removePasskeyInput) (*struct{}, error) {
			id, err := fromURL(in.ID)
			if err != nil {
				return nil, s.problem(ctx, account.ErrUnknown)
			}
			return s.nothing(ctx, s.Authenticator.RemovePasskey(ctx, caller(ctx), id, in.Body.Password, in.address))
		})
	huma.Register(api, operation("beginPasskeySignIn", http.MethodPost, "/session/passkey/challenge", "Sign-in", "Begin to sign in with a passkey", 422),
		func(ctx context.Context, in *originInput) (*challengeOutput, error) {
			options, kept, err := s.Passkeys.BeginSignIn(s.origin(in.from))
			return s.challenge(ctx, options, kept, err)
		})
	huma.Register(api, operation("signInByPasskey", http.MethodPost, "/session/passkey", "Sign-in", "Sign in with a passkey; sets the session's cookie", 401, 422),
		func(ctx context.Context, in *passkeySignInInput) (*accountOutput, error) {
			var who account.Account
			answer, err := json.Marshal(in.Body.Answer)
			if err == nil {
				who, err = s.Passkeys.SignIn(ctx, s.origin(in.from), in.Body.Kept, answer)
			}
			return s.begin(ctx, who, in.from, err)
		})
}

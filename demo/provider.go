package demo

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"html/template"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
)

// Member is somebody whom the stand-in of the identity provider knows.
type Member struct {
	Subject, Name, FullName string
	Groups                  []string
}

// Staff are the members in the demo.
var Staff = []Member{
	{"staff-204", "tamsin", "Tamsin Reed", []string{"staff", "lark-desk"}},
	{"staff-311", "noor", "Noor Fenn", []string{"staff", "lark-readers"}},
	{"staff-412", "odile", "Odile Brand", []string{"staff"}},
}

// The service as the stand-in of the identity provider knows it.
const (
	ProviderName   = "Quillmere's staff page"
	ProviderClient = "wide-lark"
	ProviderSecret = "quillmere-demo-client"
)

// Provider stands in for the hospital's identity provider (OpenID Connect Core 1.0; Discovery 1.0): whoever comes chooses a member, without a password. It is safe for concurrent use.
type Provider struct {
	Return string // where it leads back to; nowhere else

	mu      sync.Mutex
	members []Member
	key     jose.JSONWebKey
	codes   map[string]code
}

// code is what somebody who has chosen a member brings back, once.
type code struct {
	member                      Member
	nonce, challenge, returning string
}

// NewProvider returns a provider with members, which leads back to an address.
func NewProvider(members []Member, returning string) *Provider {
	p := &Provider{Return: returning, members: slices.Clone(members), codes: map[string]code{}}
	p.NewKey()
	return p
}

// NewKey replaces the key that the provider signs with.
func (p *Provider) NewKey() {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		panic("bug: " + err.Error()) // a key of this curve can always be made
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.key = jose.JSONWebKey{Key: private, KeyID: rand.Text(), Algorithm: string(jose.ES256), Use: "sig"}
}

// Put replaces the groups of a member, or adds the member.
func (p *Provider) Put(m Member) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.members = append(slices.DeleteFunc(p.members, func(o Member) bool { return o.Subject == m.Subject }), m)
}

var providerPage = template.Must(template.New("").Parse(`<!doctype html><html lang="en"><meta charset="utf-8"><title>Quillmere staff sign-in</title>
<style>body{font:16px/1.5 sans-serif;max-width:24rem;margin:4rem auto;padding:0 1rem;color:#222}a{display:block;padding:.7rem 1rem;margin:.5rem 0;border:1px solid #999;color:#222;text-decoration:none}</style>
<h1>Quillmere staff</h1><p>A stand-in for the hospital's sign-in. Who are you?</p>
{{range .}}<a href="{{.Link}}">{{.FullName}} <small>({{.Name}})</small></a>{{end}}</html>`))

// ServeHTTP implements [http.Handler].
func (p *Provider) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	issuer := "http://" + r.Host
	switch r.URL.Path {
	case "/.well-known/openid-configuration":
		answerJSON(w, http.StatusOK, map[string]any{
			"issuer": issuer, "authorization_endpoint": issuer + "/authorize", "token_endpoint": issuer + "/token", "jwks_uri": issuer + "/keys",
			"response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"}, "id_token_signing_alg_values_supported": []string{"ES256"},
			"code_challenge_methods_supported": []string{"S256"},
		})
	case "/keys":
		p.mu.Lock()
		public := p.key.Public()
		p.mu.Unlock()
		answerJSON(w, http.StatusOK, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{public}})
	case "/authorize":
		p.authorize(w, r)
	case "/token":
		p.token(w, r, issuer)
	default:
		http.NotFound(w, r)
	}
}

// authorize lets whoever comes choose a member, and leads them back with a code.
func (p *Provider) authorize(w http.ResponseWriter, r *http.Request) {
	asked := r.URL.Query()
	if asked.Get("client_id") != ProviderClient || asked.Get("redirect_uri") != p.Return || asked.Get("response_type") != "code" || asked.Get("code_challenge_method") != "S256" {
		http.Error(w, "This service is not known here.", http.StatusBadRequest)
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	type choice struct {
		Member
		Link string
	}
	var choices []choice
	for _, m := range p.members {
		if m.Name != asked.Get("member") {
			again := maps.Clone(asked)
			again.Set("member", m.Name)
			choices = append(choices, choice{m, "/authorize?" + again.Encode()})
			continue
		}
		text := rand.Text()
		p.codes[text] = code{m, asked.Get("nonce"), asked.Get("code_challenge"), asked.Get("redirect_uri")}
		http.Redirect(w, r, p.Return+"?"+url.Values{"code": {text}, "state": {asked.Get("state")}}.Encode(), http.StatusFound)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = providerPage.Execute(w, choices) // the client has gone away
}

// token gives what it signs of a member for a code (OpenID Connect Core 1.0, section 3.1.3), and the proof that whoever brings it began (RFC 7636, section 4.6).
func (p *Provider) token(w http.ResponseWriter, r *http.Request, issuer string) {
	id, secret, _ := r.BasicAuth()
	if id == "" {
		id, secret = r.FormValue("client_id"), r.FormValue("client_secret")
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	got, known := p.codes[r.FormValue("code")]
	delete(p.codes, r.FormValue("code"))
	proof := sha256.Sum256([]byte(r.FormValue("code_verifier")))
	switch {
	case id != ProviderClient || subtle.ConstantTimeCompare([]byte(secret), []byte(ProviderSecret)) != 1:
		answerJSON(w, http.StatusUnauthorized, map[string]string{"error": "invalid_client"})
		return
	case !known || got.returning != r.FormValue("redirect_uri") || base64.RawURLEncoding.EncodeToString(proof[:]) != got.challenge:
		answerJSON(w, http.StatusBadRequest, map[string]string{"error": "invalid_grant"})
		return
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: p.key}, nil)
	if err == nil {
		now := time.Now()
		said := map[string]any{
			"iss": issuer, "sub": got.member.Subject, "aud": ProviderClient, "iat": now.Unix(), "exp": now.Add(5 * time.Minute).Unix(), "nonce": got.nonce,
			"preferred_username": got.member.Name, "name": got.member.FullName, "groups": got.member.Groups,
		}
		var signed string
		if signed, err = jwt.Signed(signer).Claims(said).Serialize(); err == nil {
			answerJSON(w, http.StatusOK, map[string]any{"access_token": rand.Text(), "token_type": "Bearer", "expires_in": 300, "id_token": signed})
			return
		}
	}
	answerJSON(w, http.StatusInternalServerError, map[string]string{"error": err.Error()})
}

func answerJSON(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body) // the client has gone away
}

package accounts

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/demo"
	"widelark/internal/testkit"
	"widelark/test/e2e/browser"
	"widelark/test/e2e/house"
)

// visitor is somebody at a browser: what they send carries their cookie.
type visitor struct {
	t      *testing.T
	s      *testkit.Service
	cookie string
}

// do sends a request and returns the status and the answer.
func (v *visitor) do(method, path string, body any) (int, map[string]any) {
	v.t.Helper()
	text, err := json.Marshal(body)
	require.NoError(v.t, err)
	header := map[string]string{"Content-Type": "application/json"}
	if v.cookie != "" {
		header["Cookie"] = v.cookie
	}
	res := v.s.Request(v.t, method, "/api/v1"+path, string(text), header)
	if set := res.Header.Get("Set-Cookie"); set != "" {
		v.cookie, _, _ = strings.Cut(set, ";")
	}
	said, err := io.ReadAll(res.Body)
	require.NoError(v.t, err)
	answer := map[string]any{}
	if len(said) > 0 {
		require.NoError(v.t, json.Unmarshal(said, &answer), string(said))
	}
	return res.StatusCode, answer
}

// who returns the name of the account that is signed in; "" for nobody.
func (v *visitor) who() string {
	_, session := v.do("GET", "/session", nil)
	account, _ := session["account"].(map[string]any)
	name, _ := account["name"].(string)
	return name
}

// unowned starts a service whose database has no account, and returns it with the secret of the address that it prints.
func unowned(t *testing.T) (s *testkit.Service, secret string) {
	t.Helper()
	s = &testkit.Service{Database: house.Server.Database(t), Config: filepath.Join(t.TempDir(), "client.yaml")}
	s.Start(t)
	t.Cleanup(s.Kill)
	printed := regexp.MustCompile(`/welcome#(\S+)`)
	require.Eventually(t, func() bool { return printed.MatchString(s.Said()) }, 10*time.Second, 20*time.Millisecond, "no address is printed: %s", s.Said())
	return s, printed.FindStringSubmatch(s.Said())[1]
}

// On an empty database the service prints an address, with which one person, once, makes the first account.
func TestFirstOwner(t *testing.T) {
	t.Parallel()
	s, secret := unowned(t)
	body := func(secret, name string) map[string]any {
		return map[string]any{"secret": secret, "name": name, "fullName": "Edda Marsh", "password": testkit.Password}
	}
	_, session := (&visitor{t: t, s: s}).do("GET", "/session", nil)
	assert.Equal(t, true, session["unowned"])
	status, refused := (&visitor{t: t, s: s}).do("POST", "/first-owner", body(strings.Repeat("A", 43), "thief"))
	assert.Equal(t, 404, status)
	assert.Contains(t, refused["detail"], "the service prints another address")
	status, _ = (&visitor{t: t, s: s}).do("POST", "/first-owner", map[string]any{"secret": secret, "name": "edda", "password": "short"})
	assert.Equal(t, 422, status, "a refused password uses nothing up")

	// Many at once: one becomes the owner.
	var hands sync.WaitGroup
	var mu sync.Mutex
	counts := map[int]int{}
	var first string
	for i := range 6 {
		hands.Go(func() {
			v := &visitor{t: t, s: s}
			status, answer := v.do("POST", "/first-owner", body(secret, fmt.Sprint("edda", i)))
			mu.Lock()
			defer mu.Unlock()
			if counts[status]++; status == 201 {
				first = answer["name"].(string)
				assert.Equal(t, first, v.who(), "the session has begun")
			}
		})
	}
	hands.Wait()
	assert.Equal(t, map[int]int{201: 1, 404: 5}, counts)
	s.Run(t, testkit.Password, "login", "--name", first, "--password-stdin", "--server", s.URL).Done(t)
	assert.Contains(t, s.Run(t, "", "account", "ls").Done(t), "owner")
	assert.NotContains(t, s.Run(t, "", "audit").Done(t), secret)

	require.NoError(t, s.Stop())
	s.Start(t)
	require.Never(t, func() bool { return strings.Contains(s.Said(), "/welcome#") }, 500*time.Millisecond, 50*time.Millisecond)
}

func code(t *testing.T, secret string, at time.Time) string {
	t.Helper()
	code, err := totp.GenerateCode(secret, at)
	require.NoError(t, err)
	return code
}

// A second factor: after the password, a code of an app, each of which counts once; guessing at it is slowed down; an owner's reset takes it away.
func TestCodes(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	require.NoError(t, s.Stop())
	s.Args = []string{"--secret-file", filepath.Join(t.TempDir(), "secret")}
	s.Start(t)
	s.Run(t, "a-password-for-ivo", "account", "add", "ivo", "--password-stdin").Done(t)
	ivo := &visitor{t: t, s: s}
	signIn := func(v *visitor, code string) (int, string) {
		status, answer := v.do("POST", "/session", map[string]any{"name": "ivo", "password": "a-password-for-ivo", "code": code})
		kind, _ := answer["type"].(string)
		return status, kind
	}
	status, _ := signIn(ivo, "")
	require.Equal(t, 200, status)
	status, _ = ivo.do("POST", "/session/codes", map[string]any{"password": "not-the-password"})
	assert.Equal(t, 401, status, "the password is wanted once more")
	status, made := ivo.do("POST", "/session/codes", map[string]any{"password": "a-password-for-ivo"})
	require.Equal(t, 200, status, made)
	secret := made["secret"].(string)
	assert.Contains(t, made["url"], secret)
	assert.Contains(t, made["picture"], "data:image/png;base64,")
	status, _ = signIn(&visitor{t: t, s: s}, "")
	assert.Equal(t, 200, status, "it does not hold before it is confirmed")
	now := time.Now()
	status, _ = ivo.do("PUT", "/session/codes", map[string]any{"code": code(t, secret, now.Add(-30*time.Second))})
	require.Equal(t, 204, status)

	other := &visitor{t: t, s: s}
	status, kind := signIn(other, "")
	assert.Equal(t, []any{401, "/problems/code-wanted"}, []any{status, kind})
	assert.Empty(t, other.who())
	used := code(t, secret, now)
	status, _ = signIn(other, used[:3]+" "+used[3:])
	assert.Equal(t, 200, status)
	assert.Equal(t, "ivo", other.who())
	for _, again := range []string{used, code(t, secret, now.Add(-30*time.Second))} {
		status, _ = signIn(&visitor{t: t, s: s}, again)
		assert.Equal(t, 401, status, "a code counts once, and none before it any more")
	}
	for status = 0; status != 429; { // each wrong one makes the next wait longer
		status, _ = signIn(&visitor{t: t, s: s}, "000000")
		require.NotEqual(t, 200, status)
	}
	assert.Contains(t, s.Run(t, "", "audit").Done(t), "the password was right, and the code wrong")

	// The database does not show the secret.
	conn, err := pgx.Connect(t.Context(), s.Database)
	require.NoError(t, err)
	defer conn.Close(t.Context())
	var sealed []byte
	require.NoError(t, conn.QueryRow(t.Context(), `select secret from code_generators`).Scan(&sealed))
	assert.NotContains(t, string(sealed), secret)

	// By the command line, and after a reset without.
	require.Eventually(t, func() bool {
		ran := s.Run(t, "a-password-for-ivo", "login", "--name", "ivo", "--password-stdin", "--code", code(t, secret, time.Now().Add(30*time.Second)), "--server", s.URL)
		return ran.Code == 0
	}, 40*time.Second, time.Second)
	s.Run(t, testkit.Password, "login", "--name", "edda", "--password-stdin", "--server", s.URL).Done(t)
	assert.Contains(t, s.Run(t, "", "account", "ls").Done(t), "a second factor")
	s.Run(t, "another-for-ivo", "account", "password", "ivo", "--password-stdin").Done(t)
	assert.Empty(t, other.who(), "sessions end")
	status, _ = (&visitor{t: t, s: s}).do("POST", "/session", map[string]any{"name": "ivo", "password": "another-for-ivo"})
	assert.Equal(t, 200, status)
}

// provided starts a service that lets people sign in at a stand-in of an identity provider.
func provided(t *testing.T) (*testkit.Service, *demo.Provider, *httptest.Server) {
	t.Helper()
	s := house.Server.Serve(t)
	require.NoError(t, s.Stop())
	p := demo.NewProvider(demo.Staff, s.URL+"/signed-in")
	web := httptest.NewServer(p)
	t.Cleanup(web.Close)
	s.Args = []string{
		"--provider-url", web.URL, "--provider-name", demo.ProviderName, "--provider-client", demo.ProviderClient, "--provider-secret-file", house.File(t, "provider", []byte(demo.ProviderSecret+"\n")),
		"--console-url", s.URL, "--secret-file", filepath.Join(t.TempDir(), "secret"),
	}
	s.Start(t)
	return s, p, web
}

// atProvider chooses a member at the provider, and returns what it gives to the browser.
func atProvider(t *testing.T, address, member string) (code, state string) {
	t.Helper()
	browser := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	res, err := browser.Get(address + "&member=" + member)
	require.NoError(t, err)
	_ = res.Body.Close()
	back, err := url.Parse(res.Header.Get("Location"))
	require.NoError(t, err)
	require.Equal(t, "/signed-in", back.Path, res.Status)
	return back.Query().Get("code"), back.Query().Get("state")
}

// through signs a visitor in at the provider.
func (v *visitor) through(member string) (int, map[string]any) {
	v.t.Helper()
	status, begun := v.do("POST", "/session/provider/start", nil)
	require.Equal(v.t, 200, status, begun)
	code, state := atProvider(v.t, begun["url"].(string), member)
	return v.do("POST", "/session/provider", map[string]any{"code": code, "state": state, "kept": begun["kept"]})
}

// Whoever signs in at the identity provider may do what its groups have here: as they are at the sign-in, and as what they have is now.
func TestProvider(t *testing.T) {
	t.Parallel()
	s, p, web := provided(t)
	new := func() *visitor { return &visitor{t: t, s: s} }

	status, said := new().through("tamsin")
	assert.Equal(t, 403, status)
	assert.Contains(t, said["detail"], "an owner has to give you a role")
	s.Run(t, "", "group", "new", "Ward nurses").Done(t)
	assert.Contains(t, s.Run(t, "", "provider", "give", "lark-desk", "help desk", "--group", "Ward nurses", "--reach", "site").Done(t), "help desk (Ward nurses, at most a site)")
	s.Run(t, "", "provider", "give", "lark-readers", "reader").Done(t)
	assert.Contains(t, s.Run(t, "", "provider", "ls").Done(t), "lark-desk")
	tamsin := new()
	status, said = tamsin.through("tamsin")
	require.Equal(t, 200, status, said)
	assert.Equal(t, "tamsin", tamsin.who())
	assert.Contains(t, s.Run(t, "", "account", "ls").Done(t), "the identity provider")
	status, _ = tamsin.do("GET", "/accounts", nil)
	assert.Equal(t, 403, status)
	status, _ = tamsin.do("GET", "/lists", nil)
	assert.Equal(t, 200, status)

	// A group's roles hold at once; another group of the provider at the next sign-in.
	s.Run(t, "", "provider", "give", "lark-desk", "auditor").Done(t)
	status, _ = tamsin.do("GET", "/accounts", nil)
	assert.Equal(t, 200, status)
	p.Put(demo.Member{Subject: "staff-204", Name: "tamsin.fenn", FullName: "Tamsin Fenn", Groups: []string{"lark-readers"}})
	status, _ = new().through("tamsin.fenn")
	require.Equal(t, 200, status)
	assert.Equal(t, "tamsin.fenn", tamsin.who(), "the same person, married")
	status, _ = tamsin.do("GET", "/accounts", nil)
	assert.Equal(t, 403, status)
	assert.Contains(t, s.Run(t, "", "audit").Done(t), "was tamsin")

	// Nothing of it is edited here, and there is no password.
	assert.Contains(t, s.Run(t, "", "account", "give", "tamsin.fenn", "owner").Err, "identity provider keeps the account")
	assert.Contains(t, s.Run(t, "a-password-for-her", "account", "password", "tamsin.fenn", "--password-stdin").Err, "identity provider keeps the account")
	for _, path := range []string{"/session/codes", "/session/passkeys/challenge"} {
		status, _ = tamsin.do("POST", path, map[string]any{"password": ""})
		assert.Equal(t, 409, status, path)
	}
	status, _ = new().do("POST", "/session", map[string]any{"name": "tamsin.fenn", "password": ""})
	assert.Equal(t, 401, status)

	// A token of hers works as long as the provider has vouched for her lately.
	status, token := tamsin.do("POST", "/tokens", map[string]any{"name": "nightly"})
	require.Equal(t, 201, status)
	hers := *s
	hers.Config = filepath.Join(t.TempDir(), "hers.yaml")
	hers.Run(t, token["secret"].(string), "login", "--token-stdin", "--server", s.URL).Done(t)
	hers.Run(t, "", "list", "ls").Done(t)
	conn, err := pgx.Connect(t.Context(), s.Database)
	require.NoError(t, err)
	defer conn.Close(t.Context())
	_, err = conn.Exec(t.Context(), `update accounts set vouched_at = now() - interval '31 days' where name = 'tamsin.fenn'`)
	require.NoError(t, err)
	assert.NotZero(t, hers.Run(t, "", "list", "ls").Code)

	// An owner by the provider is none that counts: it may be away.
	s.Run(t, "", "provider", "give", "lark-readers", "owner").Done(t)
	assert.Contains(t, s.Run(t, "", "account", "remove", "edda").Err, "Nobody else is an owner")
	s.Run(t, "", "provider", "take", "lark-readers").Done(t)
	status, _ = tamsin.do("GET", "/lists", nil)
	assert.Equal(t, 403, status)

	// Somebody else's name.
	p.Put(demo.Member{Subject: "staff-999", Name: "edda", FullName: "Another Edda", Groups: []string{"lark-desk"}})
	status, _ = new().through("edda")
	assert.Equal(t, 409, status)

	// A new key of the provider is fetched; without the provider, passwords still do.
	p.NewKey()
	status, _ = new().through("noor")
	assert.Equal(t, 403, status, "known, and without a role by now")
	web.Close()
	v := new()
	status, begun := v.do("POST", "/session/provider/start", nil) // what the provider is, is known by now
	require.Equal(t, 200, status)
	status, _ = v.do("POST", "/session/provider", map[string]any{"code": "x", "state": stateOf(t, begun["url"].(string)), "kept": begun["kept"]})
	assert.Equal(t, 502, status)
	status, _ = new().do("POST", "/session", map[string]any{"name": testkit.Name, "password": testkit.Password})
	assert.Equal(t, 200, status)
}

func stateOf(t *testing.T, address string) string {
	t.Helper()
	at, err := url.Parse(address)
	require.NoError(t, err)
	return at.Query().Get("state")
}

// What was not begun by the same browser, or is brought twice, lets nobody in.
func TestProviderRefuses(t *testing.T) {
	t.Parallel()
	s, _, _ := provided(t)
	s.Run(t, "", "provider", "give", "staff", "reader").Done(t)
	begin := func() (code, state string, kept any) {
		_, begun := (&visitor{t: t, s: s}).do("POST", "/session/provider/start", nil)
		code, state = atProvider(t, begun["url"].(string), "noor")
		return code, state, begun["kept"]
	}
	finish := func(code, state string, kept any) int {
		v := &visitor{t: t, s: s}
		status, _ := v.do("POST", "/session/provider", map[string]any{"code": code, "state": state, "kept": kept})
		if status != 200 {
			assert.Empty(t, v.who())
		}
		return status
	}
	mine, myState, myKept := begin()
	theirs, theirState, theirKept := begin()
	assert.Equal(t, 401, finish(theirs, theirState, myKept), "another one's answer")
	assert.Equal(t, 401, finish(theirs, myState, myKept), "another one's code: its proof does not fit")
	assert.Equal(t, 401, finish(mine, myState, "AAAA"))
	assert.Equal(t, 422, finish(mine, "", theirKept))
	assert.Equal(t, 200, finish(mine, myState, myKept))
	assert.Equal(t, 401, finish(mine, myState, myKept), "a code counts once")
}

// The console: the first owner; signing in at the provider; a code; a passkey.
func TestConsoleSignOn(t *testing.T) {
	t.Parallel()
	s, secret := unowned(t)
	b := browser.Open(t, s.URL)
	b.GoTo("/")
	b.See("main", "Nobody has an account yet")
	b.Accessible("signing in")
	b.GoTo("/welcome#" + secret)
	b.Fill("[name=name]", testkit.Name)
	b.Fill("[autocomplete=name]", "Edda Marsh")
	b.Fill("[autocomplete=new-password]", "password1")
	b.Press("Make the account")
	b.See("main", "tried first")
	b.Accessible("the first owner")
	b.Fill("[autocomplete=new-password]", testkit.Password)
	b.Press("Make the account")
	b.See("nav", "Edda Marsh")

	provider := demo.NewProvider(demo.Staff, s.URL+"/signed-in")
	web := httptest.NewServer(provider)
	t.Cleanup(web.Close)
	require.NoError(t, s.Stop())
	s.Args = []string{
		"--provider-url", web.URL, "--provider-name", demo.ProviderName, "--provider-client", demo.ProviderClient, "--provider-secret-file", house.File(t, "provider", []byte(demo.ProviderSecret)),
		"--console-url", s.URL, "--secret-file", filepath.Join(t.TempDir(), "secret"),
	}
	s.Start(t)
	b.GoTo("/people?view=accounts")
	b.Press("Group of the provider")
	b.Fill("[role=dialog] input[type=text], [role=dialog] input:not([type])", "lark-readers")
	b.Press("Save")
	b.See("main table:last-of-type", "reader")
	b.Accessible("accounts with a provider")

	noor := browser.Open(t, s.URL)
	noor.GoTo("/")
	noor.Press("Sign in at " + demo.ProviderName)
	noor.Press("Noor Fenn (noor)")
	noor.See("nav", "Noor Fenn")
	noor.Await(`location.search === ''`, "the code stays in the address")
	noor.Quiet()

	// Codes of an app.
	b.Press("Edda Marsh")
	b.Press("Your account")
	b.Press("Set up codes")
	b.Fill("form:has([autofocus]) [type=password], form.border-l-3 [type=password]", testkit.Password)
	b.Press("Go on")
	b.See("[role=dialog] .font-mono", "")
	key := b.Text("[role=dialog] .font-mono")
	b.Accessible("setting up codes")
	b.Fill("[autocomplete=one-time-code]", code(t, key, time.Now().Add(-30*time.Second)))
	b.Press("Confirm")
	b.See("[role=dialog]", "Codes of an app")

	// A passkey, at the name of this machine: an address can have none.
	at := strings.Replace(s.URL, "127.0.0.1", "localhost", 1)
	again := browser.Open(t, at)
	again.Passkeys()
	again.GoTo("/")
	again.Fill("[name=name]", testkit.Name)
	again.Fill("[name=password]", testkit.Password)
	again.Press("Sign in")
	again.See("main", "Now type the code")
	again.Accessible("asking for a code")
	again.Fill("[name=code]", code(t, key, time.Now()))
	again.Press("Sign in")
	again.See("nav", "Edda Marsh")
	again.Press("Edda Marsh")
	again.Press("Your account")
	again.Press("Add a passkey")
	again.Fill("form.border-l-3 [type=password]", testkit.Password)
	again.Press("Add the passkey")
	again.See("[role=dialog]", "Passkey: This device")
	again.Press("Close")
	again.Press("Edda Marsh")
	again.Press("Sign out")
	again.Press("Sign in with a passkey")
	again.See("nav", "Edda Marsh")
	again.Press("Edda Marsh")
	again.Press("Your account")
	again.See("[role=dialog]", "last used")
	assert.Contains(t, strings.Join(again.Texts("[role=dialog] li"), "\n"), "this one")
}

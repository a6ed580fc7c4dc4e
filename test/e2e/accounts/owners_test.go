package accounts

import (
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gopkg.in/yaml.v3"

	"widelark/internal/access"
	"widelark/internal/account"
	"widelark/internal/httpapi"
	"widelark/internal/postgres"
	"widelark/internal/testkit"
	"widelark/test/e2e/browser"
	"widelark/test/e2e/house"
)

// accounts runs `widelarkd account` on a service's database and returns its output.
func accounts(t *testing.T, s *testkit.Service, args ...string) string {
	t.Helper()
	cmd := exec.Command(testkit.Program(t, "widelarkd"), append(append([]string{"account"}, args...), "--database-url", s.Database)...)
	cmd.Stdin = strings.NewReader(testkit.Password)
	out, _ := cmd.CombinedOutput()
	return string(out)
}

// Only owners edit the baseline, in whatever way; everybody edits everything else.
func TestOwners(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	assert.Contains(t, accounts(t, s, "add", "ivo", "--full-name", "Ivo Sedge", "--role", "editor,publisher,help desk,auditor", "--password-stdin"), "ivo can sign in now, as editor")
	assert.Regexp(t, `(?m)^edda +Edda Marsh +owner\nivo +Ivo Sedge +editor, publisher, help desk, auditor$`, accounts(t, s, "ls"))
	assert.Contains(t, accounts(t, s, "owner", "edda", "--not"), "edda is the last owner: make somebody else one first")
	assert.Contains(t, accounts(t, s, "owner", "nobody"), `there is no account "nobody"`)

	ivo := *s
	ivo.Config = filepath.Join(t.TempDir(), "ivo.yaml")
	ivo.Run(t, testkit.Password, "login", "--name", "ivo", "--password-stdin", "--server", s.URL).Done(t)
	const refused = "Nothing was changed; ask Edda Marsh"
	s.Run(t, "", "list", "new", "Dangers").Done(t)
	s.Run(t, "", "list", "add", "Dangers", "gull.test").Done(t)
	rule := []string{"policy", "rule", "add", "Baseline", "Never", "--then", "block", "--list", "Dangers"}
	made := ivo.Run(t, "", rule...)
	assert.Equal(t, 3, made.Code)
	assert.Contains(t, made.Err, refused)
	s.Run(t, "", rule...).Done(t)
	// What the baseline's rules name is theirs, too, whichever way it is changed; what is beside it is not.
	engines := []string{"engine", "edit", "Lark", "--words", "words"}
	s.Run(t, "", "engine", "new", "Lark", "lark.example", "--words", "q").Done(t)
	ivo.Run(t, "", engines...).Done(t)
	s.Run(t, "", "policy", "rule", "add", "Baseline", "No essays", "--search", `"essay*"`, "--then", "block").Done(t)
	m := house.NewMaker(t, s)
	s.Run(t, "", "pack", "trust", m.Key, "Harbour office").Done(t)
	s.Run(t, "", "pack", "add", "Harbour").Done(t)
	s.Run(t, "", "pack", "import", "Harbour", m.Build(t, "phish.test,phishing", "www.odds.test,betting")).Done(t)
	s.Run(t, "", "policy", "rule", "add", "Baseline", "Dangers", "--category", "dangers", "--then", "block").Done(t)
	for _, args := range [][]string{
		{"engine", "edit", "Lark", "--words", "none"}, // the baseline looks at what is searched for there
		{"engine", "remove", "Lark"},
		{"engine", "new", "Other", "other.example"},
		{"list", "add", "Dangers", "heron.example"},
		{"list", "remove", "Dangers", "gull.test"},
		{"list", "edit", "Dangers", "--name", "Harmless"},
		{"list", "source", "set", "Dangers", "https://lists.heron.example/x"},
		{"category", "correct", "phish.test", "news", "--why", "x"},
		{"category", "correct", "*.test", "news", "--why", "x"},
		{"category", "correct", "gull.test", "phishing", "--why", "x"},
		{"pack", "trust", m.Key, "Mine"},
		{"pack", "distrust", m.Key},
	} {
		assert.Contains(t, ivo.Run(t, "", args...).Err, refused, args)
	}
	ivo.Run(t, "", "category", "correct", "www.odds.test", "news", "--why", "x").Done(t)
	for _, args := range [][]string{{"policy", "rule", "off", "Baseline", "Never"}, {"policy", "edit", "Baseline", "--describe", "x"}, {"discard", "policy", "Baseline"}, {"discard", "--all"}} {
		assert.Contains(t, ivo.Run(t, "", args...).Err, refused, args)
	}
	files := t.TempDir()
	s.Run(t, "", "export", files).Done(t)
	policies := filepath.Join(files, "policies.yaml")
	text, err := os.ReadFile(policies)
	require.NoError(t, err)
	require.Contains(t, string(text), "name: Never")
	require.NoError(t, os.WriteFile(policies, []byte(strings.Replace(string(text), "name: Never", "name: Seldom", 1)), 0o600))
	assert.Contains(t, ivo.Run(t, "", "apply", files).Err, refused)
	assert.Contains(t, s.Run(t, "", "policy", "show", "Baseline").Done(t), "Never")

	// The rest is his: policies of groups, the fallback, lists, publishing.
	for _, args := range [][]string{
		{"group", "new", "Trainees"},
		{"policy", "new", "Trainees", "--off", "--for", "Trainees"},
		{"policy", "edit", "Fallback", "--describe", "mine"},
		{"policy", "copy", "Baseline", "Copy"},
		{"list", "new", "Reading"},
		{"publish", "--note", "all of it"},
	} {
		ivo.Run(t, "", args...).Done(t)
	}

	// Making an earlier revision live with another baseline is for owners, with the draft or without.
	live := func() string { return s.Run(t, "", "status").Done(t) }
	assert.Contains(t, live(), "Live is revision 2")
	assert.Contains(t, ivo.Run(t, "", "rollback", "1", "--draft", "--note", "as before").Err, refused)
	assert.Contains(t, live(), "Live is revision 2")
	assert.Contains(t, ivo.Run(t, "", "rollback", "1", "--note", "as before").Err, refused)
	assert.Contains(t, live(), "Live is revision 2")
	ivo.Run(t, "", "list", "new", "More").Done(t)
	ivo.Run(t, "", "publish", "--note", "more").Done(t)
	ivo.Run(t, "", "rollback", "2", "--note", "the same baseline").Done(t)
	s.Run(t, "", "rollback", "1", "--note", "as before").Done(t)
	s.Run(t, "", "rollback", "2", "--draft", "--note", "as it was").Done(t)
	assert.Contains(t, live(), "Live is revision 6, \"as it was\"; the draft is the same.")

	b := browser.Open(t, s.URL)
	b.SignIn("ivo", testkit.Password)
	b.Press("Policies")
	b.Press("Baseline")
	b.See("main", "Only owners edit the baseline.")
	b.See("li", "Never")
	b.Gone("button[aria-label='What to do with Never']")
	b.Accessible("a closed baseline")
	b.Try("gull.test")
	b.See("aside", `Switch the rule "Never" of "Baseline" off`)
	b.See("aside li", "for owners")
	b.Quiet()

	assert.Contains(t, accounts(t, s, "owner", "ivo"), "ivo is an owner now.")
	ivo.Run(t, "", "policy", "rule", "off", "Baseline", "Never").Done(t)
	b.GoTo("/policies")
	b.Press("Baseline")
	b.See("button", "New rule")
	assert.Contains(t, accounts(t, s, "owner", "edda", "--not"), "edda is no longer an owner.")
	assert.Contains(t, s.Run(t, "", "policy", "rule", "on", "Baseline", "Never").Err, "ask Ivo Sedge")
}

// The contract names the act of every operation: a caller who may perform it on nothing is refused before anything else is checked, whatever the role, with bounds
// and without; and a caller without a sign-in everywhere except where the contract says that anybody may.
func TestOperationsAskWhoMay(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	text, err := httpapi.OpenAPI()
	require.NoError(t, err)
	var contract struct {
		Paths map[string]map[string]struct {
			OperationID string     `yaml:"operationId"`
			Act         access.Act `yaml:"x-act"`
		} `yaml:"paths"`
	}
	require.NoError(t, yaml.Unmarshal(text, &contract))
	store, err := postgres.Open(t.Context(), s.Database)
	require.NoError(t, err)
	defer store.Close()
	authenticator := account.NewAuthenticator(store, account.DefaultCost, nil)
	type caller struct {
		held  access.Held
		token string
	}
	callers := []caller{{}} // nobody's role
	for _, role := range access.Roles() {
		callers = append(callers, caller{held: access.Held{Role: role}})
		for _, h := range []access.Held{{Role: role, Groups: []uuid.UUID{uuid.New()}}, {Role: role, Lists: []uuid.UUID{uuid.New()}}} {
			if h.Validate() == nil {
				callers = append(callers, caller{held: h})
			}
		}
	}
	for i := range callers {
		c := &callers[i]
		a := account.Account{Name: fmt.Sprint("caller", i)}
		if c.held.Role != "" {
			a.Roles = []access.Held{c.held}
		}
		a, err := store.AddAccount(t.Context(), a, "no password", access.Setup)
		require.NoError(t, err)
		_, c.token, err = authenticator.AddToken(t.Context(), account.Token{Name: "test"}, access.Account(a.ID, a.Name))
		if c.held.Role == "" {
			var denied *access.DeniedError
			require.ErrorAs(t, err, &denied, "who has no role makes no token")
			continue
		}
		require.NoError(t, err)
	}
	callers = callers[1:]
	refused := 0
	for path, operations := range contract.Paths {
		path = strings.NewReplacer("{id}", "00000000-0000-4000-8000-000000000000", "{number}", "99", "{key}", "none").Replace(path)
		for method, op := range operations {
			method = strings.ToUpper(method)
			if op.Act == "" {
				assert.NotEqual(t, http.StatusUnauthorized, status(t, s.URL, method, path, ""), op.OperationID)
				continue
			}
			assert.Equal(t, http.StatusUnauthorized, status(t, s.URL, method, path, ""), op.OperationID)
			for _, c := range callers {
				held := []access.Held{c.held}
				who := access.Account(uuid.New(), "caller")
				got := status(t, s.URL, method, path, c.token)
				switch {
				case access.Begin(who, held, op.Act) != nil:
					assert.Equal(t, http.StatusForbidden, got, "%s by %v", op.OperationID, c.held)
					refused++
				case len(c.held.Groups)+len(c.held.Lists) == 0:
					assert.NotEqual(t, http.StatusForbidden, got, "%s by %v", op.OperationID, c.held)
				}
			}
		}
	}
	assert.Greater(t, refused, 1000)
}

// status calls an operation with an empty body and returns the status. token is "" for a caller without a sign-in.
func status(t *testing.T, server, method, path, token string) int {
	t.Helper()
	request, err := http.NewRequestWithContext(t.Context(), method, server+path, nil)
	require.NoError(t, err)
	if token != "" {
		request.Header.Set("Authorization", "Bearer "+token)
	}
	response, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	require.NoError(t, response.Body.Close())
	return response.StatusCode
}

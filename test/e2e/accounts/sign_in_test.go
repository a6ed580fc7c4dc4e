package accounts

import (
	"fmt"
	"net/http"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/internal/testkit"
	"widelark/test/e2e/browser"
	"widelark/test/e2e/house"
)

func signInBody(name, password string) string {
	return fmt.Sprintf(`{"name":%q,"password":%q}`, name, password)
}

var asJSON = map[string]string{"Content-Type": "application/json"}

// Guessing gets slower for each address and each name, and what is typed for an unknown name is stored nowhere.
func TestGuessing(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	try := func(name, password string) *http.Response {
		answer := s.Request(t, "POST", "/api/v1/session", signInBody(name, password), asJSON)
		_ = answer.Body.Close()
		return answer
	}
	for range 3 {
		assert.Equal(t, 401, try("nobody-hunter2", "wrong-password").StatusCode)
	}
	refused := try("edda", testkit.Password)
	assert.Equal(t, 429, refused.StatusCode, "the right password has to wait, too")
	assert.Equal(t, "1", refused.Header.Get("Retry-After"))
	require.Eventually(t, func() bool { return try("edda", testkit.Password).StatusCode == 200 }, 10*time.Second, 200*time.Millisecond)

	log := s.Run(t, "", "audit").Done(t)
	assert.Contains(t, log, "refused")
	assert.NotContains(t, log, "hunter2")

	// A hundred tries at once starve nobody: most are sent away, and other calls go on.
	var hands sync.WaitGroup
	counts := map[int]int{}
	var mu sync.Mutex
	for i := range 100 {
		hands.Go(func() {
			status := try(fmt.Sprint("somebody-", i), "wrong-password").StatusCode
			mu.Lock()
			defer mu.Unlock()
			counts[status]++
		})
	}
	began := time.Now()
	s.Run(t, "", "list", "ls").Done(t)
	assert.Less(t, time.Since(began), 5*time.Second)
	hands.Wait()
	assert.Greater(t, counts[429], 40, "%v", counts)
	assert.Equal(t, 100, counts[429]+counts[401], "%v", counts)
}

// Owners add and remove accounts; everybody changes their own password and ends their own sessions; tokens expire.
func TestAccounts(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	for _, weak := range []string{"short", "password1", "P@ssw0rd!", "ivo-ivo-1", "aaaaaaaaaa", "12345678910", "sunshine99"} {
		assert.Contains(t, s.Run(t, weak, "account", "add", "ivo", "--password-stdin").Err, "password is", weak)
	}
	assert.Contains(t, s.Run(t, "a-password-for-ivo", "account", "add", "subscription", "--password-stdin").Err, "cannot be a sign-in name")
	s.Run(t, "a-password-for-ivo", "account", "add", "ivo", "--full-name", "Ivo Sedge", "--role", "editor,publisher,help desk,auditor", "--password-stdin").Done(t)
	ivo := *s
	ivo.Config = filepath.Join(t.TempDir(), "ivo.yaml")
	login := func(password string) testkit.Ran {
		return ivo.Run(t, password, "login", "--name", "ivo", "--password-stdin", "--server", s.URL)
	}
	login("a-password-for-ivo").Done(t)
	for _, args := range [][]string{{"account", "password", "edda", "--password-stdin"}, {"account", "remove", "edda"}} {
		assert.Contains(t, ivo.Run(t, "another-for-edda", args...).Err, "Only owners may edit accounts", args)
	}

	// Two browsers; changing the password in one ends the other.
	browser := func() map[string]string {
		answer := s.Request(t, "POST", "/api/v1/session", signInBody("ivo", "a-password-for-ivo"), map[string]string{"Content-Type": "application/json", "User-Agent": "Harbour/1"})
		defer answer.Body.Close()
		require.Equal(t, 200, answer.StatusCode)
		assert.Equal(t, "no-store", answer.Header.Get("Cache-Control"))
		assert.Equal(t, "nosniff", answer.Header.Get("X-Content-Type-Options"))
		return map[string]string{"Cookie": strings.Split(answer.Header.Get("Set-Cookie"), ";")[0], "Content-Type": "application/json"}
	}
	here, there := browser(), browser()
	status := func(who map[string]string) int {
		answer := s.Request(t, "GET", "/api/v1/lists", "", who)
		defer answer.Body.Close()
		return answer.StatusCode
	}
	assert.Equal(t, []int{200, 200}, []int{status(here), status(there)})
	assert.Equal(t, 2, strings.Count(ivo.Run(t, "", "session", "ls").Done(t), "Harbour/1"))
	answer := s.Request(t, "PUT", "/api/v1/session/password", `{"present":"a-password-for-ivo","password":"another-one-for-ivo"}`, here)
	_ = answer.Body.Close()
	require.Equal(t, 204, answer.StatusCode)
	assert.Equal(t, []int{200, 401}, []int{status(here), status(there)})
	id := regexp.MustCompile(`[0-9a-f]{8}-[0-9a-f-]{27}`).FindString(ivo.Run(t, "", "session", "ls").Done(t))
	ivo.Run(t, "", "session", "end", id).Done(t)
	assert.Equal(t, 401, status(here))
	ivo.Run(t, "another-one-for-ivo\na-third-one-for-ivo", "account", "password", "--password-stdin").Done(t)
	login("a-third-one-for-ivo").Done(t)

	// Tokens end at their time.
	secret := strings.TrimSpace(ivo.Run(t, "", "token", "new", "nightly", "--until", "1h").Done(t))
	assert.Contains(t, ivo.Run(t, "", "token", "ls").Done(t), "nightly")
	assert.Equal(t, 200, status(map[string]string{"Authorization": "Bearer " + secret}))
	over := strings.TrimSpace(ivo.Run(t, "", "token", "new", "over", "--until", "1s").Done(t))
	require.Eventually(t, func() bool { return status(map[string]string{"Authorization": "Bearer " + over}) == 401 }, 5*time.Second, 100*time.Millisecond)

	// Another password by an owner ends tokens, too; so does going.
	s.Run(t, "a-fourth-one-for-ivo", "account", "password", "ivo", "--password-stdin").Done(t)
	assert.Equal(t, 401, status(map[string]string{"Authorization": "Bearer " + secret}))
	login("a-fourth-one-for-ivo").Done(t)
	assert.Contains(t, s.Run(t, "", "account", "remove", "edda").Err, "Nobody else is an owner")
	s.Run(t, "", "account", "remove", "ivo").Done(t)
	assert.Equal(t, 3, ivo.Run(t, "", "list", "ls").Code)
}

// The service answers only requests that are meant for it.
func TestNames(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	ask := func(host, origin string) int {
		req, err := http.NewRequestWithContext(t.Context(), "GET", s.URL+"/api/v1/health", nil)
		require.NoError(t, err)
		if req.Host = host; origin != "" {
			req.Header.Set("Origin", origin)
		}
		answer, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer answer.Body.Close()
		return answer.StatusCode
	}
	port := s.URL[strings.LastIndexByte(s.URL, ':'):]
	for _, host := range []string{"127.0.0.1" + port, "localhost" + port, "LOCALHOST", "localhost.", "[::1]" + port} {
		assert.Equal(t, 200, ask(host, ""), host)
	}
	for _, host := range []string{"evil.example", "evil.example" + port, "127.0.0.1.evil.example", "localhost@evil.example"} {
		assert.GreaterOrEqual(t, ask(host, ""), 400, host)
	}
	assert.Equal(t, 421, ask("evil.example", ""))
	assert.Equal(t, 421, ask("localhost", "https://evil.example"))
	assert.Equal(t, 200, ask("localhost", "http://localhost"+port))
}

// In the console, people change their own password, which ends their other sessions, and end single sessions.
func TestConsoleAccount(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	answer := s.Request(t, "POST", "/api/v1/session", signInBody(testkit.Name, testkit.Password), map[string]string{"Content-Type": "application/json", "User-Agent": "Harbour/1"})
	_ = answer.Body.Close()
	b := browser.Open(t, s.URL)
	b.SignIn(testkit.Name, testkit.Password)
	b.Press("Edda Marsh")
	b.Press("Your account")
	b.See("[role=dialog] li", "Harbour/1")
	b.Accessible("the account dialog")
	b.Press("Sign out there")
	b.Gone("[role=dialog] li:nth-child(2)")
	b.Fill("[autocomplete=current-password]", testkit.Password)
	b.Fill("[autocomplete=new-password]", "password1")
	b.Press("Change it")
	b.See("[role=dialog]", "tried first")
	b.Fill("[autocomplete=new-password]", "quite-another-password")
	b.Press("Change it")
	b.See("[role=status]", "Your password is changed.")
}

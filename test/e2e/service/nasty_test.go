package service

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gopkg.in/yaml.v3"

	"widelark/internal/httpapi"
	"widelark/test/e2e/house"
)

// nasty are values that callers send by mistake or on purpose.
var nasty = []any{
	"", " ", "+", "\x00", "a\x00b", "\u202egpj.exe", "%00", "%", "../../etc/passwd", strings.Repeat("x", 3000), "'; drop table lists; --", "\ufffd", "𝕏", "null", "-1", "9223372036854775808",
	"2026-02-30", "0000-00-00T00:00:00Z", "9999-12-31T23:59:59Z", "Local", "live", "0", "heron..example", "~ (", "http://[::1", "10.40.0.0/99", "{}", "\n", "=1+1",
	nil, true, -1, 0, 1.5, 1e308, 9007199254740993,
	[]any{},
	[]any{nil},
	map[string]any{},
	[]any{"a", 1, nil, map[string]any{"id": nil}},
}

// schemas makes values for the schemas of a contract.
type schemas struct {
	all    map[string]any
	random *rand.Rand
	ids    map[string]string // real ids, by the first part of a path
}

func (s *schemas) value(schema map[string]any, depth int) any {
	if ref, ok := schema["$ref"].(string); ok {
		schema, _ = s.all[ref[strings.LastIndexByte(ref, '/')+1:]].(map[string]any)
	}
	if s.random.IntN(6) == 0 || depth > 6 {
		return nasty[s.random.IntN(len(nasty))]
	}
	kind, _ := schema["type"].(string)
	if kinds, ok := schema["type"].([]any); ok && len(kinds) > 0 {
		kind, _ = kinds[0].(string)
	}
	if values, ok := schema["enum"].([]any); ok {
		return values[s.random.IntN(len(values))]
	}
	switch kind {
	case "object":
		made := map[string]any{}
		required, _ := schema["required"].([]any)
		properties, _ := schema["properties"].(map[string]any)
		for _, name := range slices.Sorted(maps.Keys(properties)) {
			if of, ok := properties[name].(map[string]any); ok && of["readOnly"] != true && (slices.Contains(required, any(name)) || s.random.IntN(3) > 0) {
				made[name] = s.value(of, depth+1)
			}
		}
		return made
	case "array":
		of, _ := schema["items"].(map[string]any)
		made := []any{}
		for range s.random.IntN(3) {
			made = append(made, s.value(of, depth+1))
		}
		return made
	case "integer", "number":
		return []any{0, 1, 7, -1, 100000}[s.random.IntN(5)]
	case "boolean":
		return s.random.IntN(2) == 0
	}
	if schema["format"] == "uuid" {
		return s.ids[slices.Sorted(maps.Keys(s.ids))[s.random.IntN(len(s.ids))]]
	}
	if schema["format"] == "date-time" {
		return "2026-12-24T09:00:00Z"
	}
	texts := []string{"heron.example", "Ward nurses", "edda", "mon-fri 09:00-12:00", "games", "10.40.10.7", "10.40.10.0/24", `"betting"`, "=heron.example/a", "Kept", "now", "tue 12:30", "x"}
	return texts[s.random.IntN(len(texts))]
}

var placeholder = regexp.MustCompile(`\{(\w+)\}`)

// Every operation of the contract reports what is wrong with bad input, and the service goes on.
func TestNastyValues(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	for _, args := range [][]string{
		{"list", "new", "Kept"},
		{"list", "add", "Kept", "heron.example", "~ tern[0-9]"},
		{"schedule", "new", "Nights", "mon-sun 20:00-07:30"},
		{"network", "new", "Wards", "10.40.10.0/23"},
		{"machine", "new", "Kiosk", "10.40.30.40"},
		{"group", "new", "Desk", "--machine", "Kiosk"},
		{"app", "new", "Share", "share.example"},
		{"engine", "new", "Lark", "lark.example"},
		{"exception", "new", "dunlin.example/a", "--everybody", "--why", "agreed"},
		{"expect", "add", "gull.test", "--verdict", "allow"},
		{"publish", "--note", "begin"},
	} {
		s.Run(t, "", args...).Done(t)
	}
	text, err := httpapi.OpenAPI()
	require.NoError(t, err)
	var contract struct {
		Paths      map[string]map[string]map[string]any
		Components struct{ Schemas map[string]any }
	}
	require.NoError(t, yaml.Unmarshal(text, &contract))
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	made := &schemas{all: contract.Components.Schemas, random: rand.New(rand.NewPCG(seed, 1)), ids: map[string]string{}}
	client := &http.Client{Timeout: 60 * time.Second}
	token := "Bearer " + s.Token(t)
	send := func(method, path string, body []byte, kind string) (int, string) {
		req, err := http.NewRequestWithContext(t.Context(), method, s.URL+path, bytes.NewReader(body))
		if err != nil {
			return 0, ""
		}
		req.Header.Set("Authorization", token)
		req.Header.Set("Content-Type", kind)
		if method != "GET" && method != "POST" {
			req.Header.Set("If-Match", []string{`"1"`, `*`, `"x"`, ``}[made.random.IntN(4)])
		}
		answer, err := client.Do(req)
		if err != nil {
			return 0, err.Error()
		}
		defer answer.Body.Close()
		var said bytes.Buffer
		if answer.Header.Get("Content-Type") != "text/event-stream" { // which does not end
			_, _ = said.ReadFrom(answer.Body)
		}
		return answer.StatusCode, said.String()
	}
	found := regexp.MustCompile(`"id":\s*"([0-9a-f-]{36})"`)
	for path := range contract.Paths {
		if !strings.Contains(path, "{") && contract.Paths[path]["get"] != nil {
			if _, said := send("GET", path, nil, "application/json"); found.MatchString(said) {
				made.ids[path] = found.FindStringSubmatch(said)[1]
			}
		}
	}
	require.Greater(t, len(made.ids), 5)
	asked, statuses := 0, map[int]int{}
	ask := func(method, at string, body []byte, kind string) {
		status, said := send(strings.ToUpper(method), at, body, kind)
		asked++
		statuses[status]++
		if status != 0 || said != "" {
			assert.True(t, status > 0 && status < 500, "%s %s: %d\n%.2000s\n%.500s", strings.ToUpper(method), at, status, body, said)
		}
	}
	// Every value for every parameter of what is only read, one at a time; the edits are many more, and are drawn.
	for _, path := range slices.Sorted(maps.Keys(contract.Paths)) {
		reads := contract.Paths[path]["get"]
		parameters, _ := reads["parameters"].([]any)
		at := placeholder.ReplaceAllString(path, made.ids[path[:max(0, strings.Index(path, "/{"))]])
		for _, p := range parameters {
			for _, value := range nasty {
				if p, _ := p.(map[string]any); p["in"] == "query" {
					ask("get", at+"?"+url.Values{fmt.Sprint(p["name"]): {fmt.Sprint(value)}}.Encode(), nil, "application/json")
				}
			}
		}
	}
	for _, path := range slices.Sorted(maps.Keys(contract.Paths)) {
		for _, method := range slices.Sorted(maps.Keys(contract.Paths[path])) {
			operation := contract.Paths[path][method]
			if slices.Contains([]any{"signOut", "deleteToken", "removeAccount", "resetPassword", "changePassword"}, operation["operationId"]) {
				continue // which would send the test itself away
			}
			for range 30 {
				at := placeholder.ReplaceAllStringFunc(path, func(string) string {
					if id, ok := made.ids[path[:max(0, strings.Index(path, "/{"))]]; ok && made.random.IntN(4) > 0 {
						return id
					}
					return url.PathEscape(fmt.Sprint(nasty[made.random.IntN(len(nasty))]))
				})
				query := url.Values{}
				parameters, _ := operation["parameters"].([]any)
				for _, p := range parameters {
					if p, _ := p.(map[string]any); p["in"] == "query" && made.random.IntN(2) == 0 {
						schema, _ := p["schema"].(map[string]any)
						query.Set(fmt.Sprint(p["name"]), fmt.Sprint(made.value(schema, 3)))
					}
				}
				if len(query) > 0 {
					at += "?" + query.Encode()
				}
				var body []byte
				kind := "application/json"
				if request, ok := operation["requestBody"].(map[string]any); ok {
					content, _ := request["content"].(map[string]any)
					for k, of := range content {
						kind = k
						schema, _ := of.(map[string]any)["schema"].(map[string]any)
						value := made.value(schema, 0)
						if body, err = json.Marshal(value); err != nil || !strings.Contains(k, "json") {
							body = []byte(fmt.Sprint(value))
						}
					}
				}
				ask(method, at, body, kind)
			}
		}
	}
	t.Logf("answers by status: %v", statuses)
	assert.Greater(t, asked, 1000)
	assert.Greater(t, statuses[200]+statuses[201]+statuses[204], 200, "some get through")
}

// Broken bodies and texts with NUL are refused wherever something is stored.
func TestBrokenBodies(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	s.Run(t, "", "list", "new", "Kept").Done(t)
	lists, err := s.API(t).GetListsWithResponse(t.Context(), nil)
	require.NoError(t, err)
	list := "/api/v1/lists/" + lists.JSON200.Lists[0].ID.String()
	m := house.NewMaker(t, s)
	s.Run(t, "", "pack", "trust", m.Key, "Harbour office").Done(t)
	s.Run(t, "", "pack", "add", "Small", "--max-bytes", "1000").Done(t)
	packs, err := s.API(t).GetPacksWithResponse(t.Context())
	require.NoError(t, err)
	pack := "/api/v1/packs/" + packs.JSON200.Packs[0].ID.String()
	token := s.Token(t)
	for _, path := range []string{"/api/v1/people/import?format=ldif", "/api/v1/people/import?format=csv", list + "/import", list + "/companions", "/api/v1/schedules/calendar", "/api/v1/trials", pack + "/import"} {
		for _, body := range []string{"5\r\nabc", "zz\r\nabc\r\n0\r\n\r\n", "fffffffffffffffff\r\n", "-1\r\n\r\n", "5\r\nabcdefgh\r\n"} {
			conn, err := net.Dial("tcp", strings.TrimPrefix(s.URL, "http://"))
			require.NoError(t, err)
			_, err = fmt.Fprintf(conn, "POST %s HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer %s\r\nContent-Type: application/json\r\nTransfer-Encoding: chunked\r\n\r\n%s", path, token, body)
			require.NoError(t, err)
			require.NoError(t, conn.(*net.TCPConn).CloseWrite())
			answer, err := http.ReadResponse(bufio.NewReader(conn), nil)
			if err == nil { // else the connection is closed, which is an answer too
				said, _ := io.ReadAll(answer.Body)
				assert.Less(t, answer.StatusCode, 500, "%s %q: %s", path, body, said)
			}
			_ = conn.Close()
		}
	}
	for _, row := range []struct{ method, path, body string }{
		{"POST", "/api/v1/people", `{"name":"a\u0000b"}`},
		{"POST", "/api/v1/codes", `{"minutes":5,"uses":1,"until":"` + time.Now().Add(time.Hour).Format(time.RFC3339) + `","reason":"a\u0000b"}`},
		{"POST", "/api/v1/people", `{"name":"ab","fullName":"a\u0000b"}`},
		{"POST", "/api/v1/people", `{"name":"ab2","mail":"a\u0000b"}`},
		{"POST", "/api/v1/apps", `{"name":"x","hosts":["heron.example"],"activities":[{"key":"a","name":"a\u0000b"}]}`},
		{"POST", "/api/v1/apps", `{"name":"x","hosts":["heron.example"],"activities":[],"description":"a\u0000b"}`},
		{"POST", "/api/v1/groups", `{"name":"x","description":"a\u0000b"}`},
		{"POST", "/api/v1/lists", `{"name":"x","description":"a\u0000b"}`},
		{"POST", "/api/v1/people/import?format=csv", "name,full name\nx,a\x00b\n"},
		{"POST", "/api/v1/policies", `{"name":"x","groups":[],"otherwise":"allow","rules":[{"name":"r","then":"block","if":{"search":["a\u0000b"]}}]}`},
		{"POST", "/api/v1/tokens", `{"name":"a\u0000b"}`},
		{"POST", pack + "/import", strings.Repeat("x", 2<<20)},
		{"GET", "/api/v1/plan?group=+", ""},
		{"GET", "/api/v1/audit?text=%00", ""},
		{"GET", list + "/entries?text=%00", ""},
	} {
		answer := s.Request(t, row.method, row.path, row.body, map[string]string{"Authorization": "Bearer " + token, "Content-Type": "application/json"})
		said, _ := io.ReadAll(answer.Body)
		_ = answer.Body.Close()
		assert.True(t, answer.StatusCode >= 400 && answer.StatusCode < 500, "%s %s %.200s: %d %s", row.method, row.path, row.body, answer.StatusCode, said)
	}
}

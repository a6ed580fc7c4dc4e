package weburl

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The parser's module holds the test data of the URL Standard: a text that a browser reads as an http(s) URL is read
// as the same URL, and a text that fails there fails here.
func TestStandard(t *testing.T) {
	dir, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", "github.com/nlnwa/whatwg-url").Output()
	require.NoError(t, err)
	text, err := os.ReadFile(filepath.Join(strings.TrimSpace(string(dir)), "testdata", "urltestdata.json"))
	require.NoError(t, err)
	var rows []any // comments are texts, cases are objects
	require.NoError(t, json.Unmarshal(text, &rows))
	checked := map[string]int{}
	for _, row := range rows {
		fields, ok := row.(map[string]any)
		if !ok {
			continue
		}
		input, _ := fields["input"].(string)
		scheme, _, found := strings.Cut(strings.ToLower(strip(input)), ":")
		if base, _ := fields["base"].(string); !found || webScheme[scheme] == "" || strings.HasPrefix(base, "http") || strings.HasPrefix(base, "ws") {
			continue // relative to another URL, or no URL of the web
		}
		u, err := Parse(input)
		if failure, _ := fields["failure"].(bool); failure {
			assert.Error(t, err, "%q", input)
			checked["failure"]++
			continue
		}
		href, _ := fields["href"].(string)
		want, wantErr := Parse(href)
		if wantErr != nil { // hosts that we refuse on purpose: they end in more dots than one
			assert.Error(t, err, "%q", input)
			continue
		}
		if assert.NoError(t, err, "%q", input) {
			assert.Equal(t, want, u, "%q", input)
			again, err := Parse(u.String())
			require.NoError(t, err)
			again.userInfo = u.userInfo
			assert.Equal(t, u, again, "%q", input)
		}
		hostname, _ := fields["hostname"].(string)
		if host, wantErr := ParseHost(hostname); wantErr == nil && err == nil {
			assert.Equal(t, host.ASCII, u.Host(), "%q", input)
		}
		checked["read"]++
	}
	assert.Greater(t, checked["failure"], 50)
	assert.Greater(t, checked["read"], 100)
}

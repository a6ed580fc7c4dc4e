package house

import (
	"io"
	"os"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/internal/testkit"
)

// refusal is a line of a file of refusals, as
//
//	PUT /lists/$list/text if * {"lines":["a..example"]} => 422 did you mean a.example?
//
// a method, a path below /api/v1, the value of If-Match after "if", a body, the status that is expected, and texts that the answer must contain, with
// " | " between them. All but the method, the path, and what is expected may be missing.
var refusal = regexp.MustCompile(`^([A-Z]+) (\S+)(?: if (\S+))?(?: (.*))? => (\d{3}) (.+)$`)

// Nowhere is the id of nothing: "$nowhere" in a file of refusals.
const Nowhere = "00000000-0000-0000-0000-000000000000"

// Refuse sends the requests of testdata/refusals.txt, and expects each to be refused with a problem that says what is wrong; and with 401 where
// nobody has signed in. Names in the file, as "$list", stand for the given values. Empty lines and lines that begin with "#" are skipped.
func Refuse(t *testing.T, s *testkit.Service, values ...string) {
	t.Helper()
	text, err := os.ReadFile("testdata/refusals.txt")
	require.NoError(t, err)
	names := strings.NewReplacer(append([]string{"$nowhere", Nowhere}, values...)...)
	bearer := "Bearer " + s.Token(t)
	tried := 0
	for line := range strings.SplitSeq(string(text), "\n") {
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		parts := refusal.FindStringSubmatch(line)
		require.NotNil(t, parts, "testdata/refusals.txt: %s", line)
		header := map[string]string{"Content-Type": "application/json"}
		if parts[3] != "" {
			header["If-Match"] = names.Replace(parts[3])
		}
		method, path, body := parts[1], "/api/v1"+names.Replace(parts[2]), names.Replace(parts[4])
		assert.Equal(t, 401, s.Request(t, method, path, body, header).StatusCode, "without a sign-in: %s", line)
		header["Authorization"] = bearer
		res := s.Request(t, method, path, body, header)
		answer, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		assert.Equal(t, parts[5], strconv.Itoa(res.StatusCode), "%s\n%s", line, answer)
		assert.Contains(t, res.Header.Get("Content-Type"), "problem+json", line)
		for _, want := range strings.Split(parts[6], " | ") {
			assert.Contains(t, string(answer), want, line)
		}
		tried++
	}
	assert.NotZero(t, tried)
}

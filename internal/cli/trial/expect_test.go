package trial

import (
	"bytes"
	"encoding/xml"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/internal/cli/command"
	"widelark/internal/cli/question"
)

var ran = &client.ExpectationsRunOutputBody{Failing: 2, Micros: 1500, Results: []client.ExpectationResult{
	{Name: new("one"), Folder: new("Wards"), Passed: true, Says: "It holds."},
	{Name: new(`two # "odd" <name>`), Says: "It fails.", Wrong: []client.WrongURL{{URL: "https://a.example/", Why: "block in place of allow", Because: "The rule \"x\" says so."}}},
	{Name: new("three"), Says: "It cannot be.", Broken: new("there is no person \"x\"")},
}}

// Results of expectations are written in two formats for build servers.
func TestExpectationFormats(t *testing.T) {
	var junit bytes.Buffer
	require.NoError(t, writeJUnit(&junit, ran))
	assert.True(t, strings.HasPrefix(junit.String(), xml.Header))
	var suite junitSuite
	require.NoError(t, xml.Unmarshal(junit.Bytes(), &suite))
	assert.Equal(t, []any{3, int64(2), "0.001500", "widelark.Wards"}, []any{suite.Tests, suite.Failures, suite.Time, suite.Cases[0].Class})
	assert.Nil(t, suite.Cases[0].Failure)
	assert.Equal(t, `two # "odd" <name>`, suite.Cases[1].Name)
	assert.Equal(t, "expected: It fails.", suite.Cases[1].Failure.Message)
	assert.Contains(t, suite.Cases[1].Failure.Text, `https://a.example/: block in place of allow. The rule "x" says so.`)
	assert.Contains(t, suite.Cases[2].Failure.Text, `it cannot be tried: there is no person "x"`)

	var tap bytes.Buffer
	writeTAP(&tap, ran)
	assert.Equal(t, `TAP version 14
1..3
ok 1 - one
not ok 2 - two \# "odd" <name>
  ---
  expected: "It fails."
  why:
    - "https://a.example/: block in place of allow. The rule \"x\" says so."
  ...
not ok 3 - three
  ---
  expected: "It cannot be."
  why:
    - "it cannot be tried: there is no person \"x\""
  ...
`, tap.String())
	var text bytes.Buffer
	question.ShowFailing((&command.App{}), &text, ran.Results)
	assert.Equal(t, "fails  two # \"odd\" <name>\n    expected: It fails.\n    https://a.example/: block in place of allow. The rule \"x\" says so.\nbroken  three\n    expected: It cannot be.\n    it cannot be tried: there is no person \"x\"\n", text.String())
}

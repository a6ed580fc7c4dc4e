package trial

import (
	"bytes"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"

	"widelark/client"
	"widelark/internal/cli/command"
)

// A trial prints sentences; its steps are listed rung by rung, and an empty rung says why.
func TestShowTrial(t *testing.T) {
	id := uuid.New()
	list := client.ListRef{ID: id, Name: "Welcome"}
	verdict := func(v string) *client.TrialVerdict { return new(client.TrialVerdict(v)) }
	next := time.Date(2026, 11, 28, 1, 0, 0, 0, time.UTC)
	trial := client.Trial{
		Input: "lore.example/tides", URL: new("https://lore.example/tides"), Verdict: verdict("block"), AtFull: new(client.TrialAtFull("allow")),
		Because: new(`No rule of the policy "Screens" matches; otherwise it says block.`), FullBecause: new(`The exception "Tides" says allow.`), Sees: new("a name that does not resolve"),
		Way: new("dns,proxy"), Stops: &[]client.Stop{{Gate: "dns", Sight: "name", Verdict: "block"}},
		Matches: &[]client.Match{
			{List: list, In: client.MatchInCannotTell, Unclear: &[]client.EntryRef{{ID: 1, Text: "=lore.example/heron"}}},
			{List: client.ListRef{ID: uuid.New(), Name: "Elsewhere"}, In: client.MatchInCannotTell, Unclear: &[]client.EntryRef{{ID: 2, Text: `"bet"`}}},
		},
		Steps: &[]client.Step{
			{Rung: "baseline", Outcome: "no match", Missing: new("it has no rules")},
			{Rung: "exception", Rule: new("Tides"), Then: new(client.StepThen("allow")), Outcome: "cannot tell", Missing: new("the page: only the host is seen here")},
			{Rung: "policy", Policy: new("Screens"), Rule: new("Nightly"), Then: new(client.StepThen("watch")), Outcome: "not now", When: new("in Night shift"), Next: &next},
			{Rung: "policy", Policy: new("Screens"), Rule: new("Welcome sites"), Then: new(client.StepThen("note")), Outcome: "no match", List: &list},
			{Rung: "policy", Policy: new("Screens"), Then: new(client.StepThen("block")), Outcome: "decided"},
		},
	}
	all := client.TrialsOutputBody{At: time.Date(2026, 11, 27, 14, 10, 0, 0, time.UTC), Who: client.Asker{Name: "Bedside 4-12"}, Trials: []client.Trial{trial}}
	var out bytes.Buffer
	a := &command.App{Out: &out, Format: "table"}
	showTrial(a, &out, all, true)
	assert.Equal(t, `■ block  https://lore.example/tides
  for Bedside 4-12, Fri 27 Nov 14:10
  No rule of the policy "Screens" matches; otherwise it says block.
  Where the whole URL is seen it would be: ○ allow
    The exception "Tides" says allow.

  on the way  dns, proxy
    dns    sees name    ■ block
  The person sees a name that does not resolve.


  also matched
    Welcome  ›  =lore.example/heron  (cannot tell)

  baseline: it has no rules

  exception
    cannot tell       Tides          ○ allow  the page: only the host is seen here

  policy Screens
    not now           Nightly        ◐ watch  in Night shift; next Sat 28 Nov 01:00
    no match          Welcome sites    note
    decided           otherwise      ■ block
`, out.String())
	out.Reset()
	trial.Way, trial.Stops, trial.AtFull, trial.FullBecause, trial.Matches = nil, nil, new(client.TrialAtFull("block")), nil, nil
	all.Trials[0] = trial
	showTrial(a, &out, all, false)
	assert.Equal(t, `■ block  https://lore.example/tides
  for Bedside 4-12, Fri 27 Nov 14:10
  No rule of the policy "Screens" matches; otherwise it says block.

  5 steps were looked at; --trace shows them.
`, out.String(), "what is the same in full sight is not said")
}

package policies

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/internal/testkit"
	"widelark/test/e2e/browser"
	"widelark/test/e2e/house"
)

// The help desk's case: a complaint, the cause, and the narrowest grant that lets one person in, at once and without publishing.
func TestGrantCommands(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	run := func(args ...string) testkit.Ran { return s.Run(t, "", args...) }
	for _, step := range [][]string{
		{"group", "new", "Nurses"},
		{"person", "new", "kay", "--full-name", "Kay Moran", "--in", "Nurses"},
		{"person", "new", "ola", "--full-name", "Ola Fenn", "--in", "Nurses"},
		{"list", "new", "Dangers"},
		{"list", "add", "Dangers", "gull.test"},
		{"policy", "rule", "add", "Baseline", "Never", "--list", "Dangers", "--then", "block"},
		{"policy", "new", "Off", "--off", "--for", "Nurses"},
		{"publish", "--note", "first"},
	} {
		run(step...).Done(t)
	}
	verdict := func(want string, args ...string) {
		t.Helper()
		assert.Contains(t, run(append([]string{"try"}, args...)...).Done(t), want, args)
	}
	revisions := strings.Count(run("history", "-o", "csv").Done(t), "\n")

	assert.Contains(t, run("grant", "ls").Done(t), "No grant is in force.")
	made := run("grant", "reach", "heron.example/wards", "--as", "kay", "--until", "2h", "--why", "She asked").Done(t)
	assert.Contains(t, made, "○ allow =heron.example for Kay Moran until ", "the DNS gate is on the way, and sees no page")
	for _, on := range []string{"draft", "live", "2"} {
		verdict(`The grant "=heron.example" says allow for Kay Moran, because it has the entry =heron.example. Reason given: She asked.`, "heron.example/wards", "--as", "kay", "--on", on)
	}
	verdict("■ block", "heron.example/wards", "--as", "ola")
	verdict("■ block", "other.heron.example", "--as", "kay")
	verdict("○ allow", "heron.example", "--as", "kay", "--week")
	verdict("End the grant", "heron.example", "--as", "kay")
	assert.Contains(t, run("who", "kay").Done(t), "grants      ○ allow =heron.example until ")
	assert.Equal(t, revisions, strings.Count(run("history", "-o", "csv").Done(t), "\n"), "nothing was published")
	assert.Contains(t, run("diff").Done(t), "no difference", "and the draft is not edited")

	for _, refused := range []struct {
		says string
		args []string
	}{
		{"Kay Moran gets allow for https://heron.example/ already. Nothing was changed", []string{"grant", "reach", "heron.example", "--as", "kay", "--until", "2h", "--why", "x"}},
		{`No grant lets Kay Moran reach https://gull.test/: The rule "Never" of the baseline says block`, []string{"grant", "reach", "gull.test", "--as", "kay", "--until", "2h", "--why", "x"}},
		{"who.person", []string{"grant", "reach", "gull.test", "--as", "nobody", "--until", "2h", "--why", "x"}},
		{"say who asks", []string{"grant", "reach", "gull.test", "--until", "2h", "--why", "x"}},
		{"say why", []string{"grant", "new", "gull.test", "--everybody", "--until", "2h"}},
		{"say until when", []string{"grant", "new", "gull.test", "--everybody", "--why", "x"}},
		{"at most 90 days", []string{"grant", "new", "gull.test", "--everybody", "--why", "x", "--until", "91d"}},
		{"no carve-outs", []string{"grant", "new", "! gull.test", "--everybody", "--why", "x", "--until", "1d"}},
		{`there is no grant "nothing"`, []string{"grant", "end", "nothing"}},
	} {
		assert.Contains(t, run(refused.args...).Err, refused.says, refused.args)
	}

	run("grant", "new", "tern.example", "gull.test", "--group", "Nurses", "--until", "1d", "--why", "For the shift", "--requested-by", "Rae Scar").Done(t)
	verdict("○ allow", "tern.example", "--group", "Nurses")
	verdict("■ block", "gull.test", "--group", "Nurses") // the baseline stands before it
	listed := run("grant", "ls", "-o", "csv").Done(t)
	assert.Equal(t, 3, strings.Count(listed, "\n"))
	assert.Contains(t, listed, `,in force,"tern.example, gull.test",Nurses,`)
	kept := run("grant", "keep", "=heron.example", "--name", "Heron for Kay").Done(t)
	assert.Contains(t, kept, `The exception is called "Heron for Kay"`)
	assert.Contains(t, run("exception", "show", "Heron for Kay").Done(t), "reason   She asked\n")
	assert.Contains(t, run("grant", "keep", "=heron.example").Err, "made of this grant already")
	assert.Contains(t, run("grant", "end", "=heron.example").Done(t), "Ended the grant of =heron.example for Kay Moran.")
	verdict("■ block", "heron.example/wards", "--as", "kay", "--on", "live")
	verdict("○ allow", "heron.example/wards", "--as", "kay") // the draft has it as an exception
	assert.Contains(t, run("grant", "ls", "--over").Done(t), "ended ")
	id := strings.Split(strings.Split(listed, "\n")[1], ",")[0]
	assert.Contains(t, run("grant", "end", id).Done(t), "Ended the grant of tern.example, gull.test for Nurses.")
	assert.Contains(t, run("grant", "end", id).Err, "is over already")
	assert.Contains(t, run("grant", "keep", id).Err, "the grant is over")
	audit := run("audit").Done(t)
	for _, what := range []string{"grant made", "grant ended", "grant kept"} {
		assert.Contains(t, audit, what)
	}
}

// An expectation speaks of the configuration: a grant at the help desk does not make it fail, and does not keep anybody from publishing.
func TestGrantsAndExpectations(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	run := func(args ...string) testkit.Ran { return s.Run(t, "", args...) }
	run("policy", "edit", "Fallback", "--otherwise", "block").Done(t)
	run("expect", "add", "heron.example", "--verdict", "block", "--name", "Herons stay out").Done(t)
	run("publish", "--note", "first").Done(t)
	run("grant", "new", "heron.example", "--everybody", "--until", "1h", "--why", "x").Done(t)
	assert.Contains(t, run("try", "heron.example").Done(t), "○ allow")
	assert.NotContains(t, run("expect", "run").Done(t), "fails")
	assert.Contains(t, run("diff").Done(t), "no difference")
}

func TestGrantsAPI(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	api := s.API(t)
	two, url, who := int64(120), "heron.example", client.Who{}
	until := time.Now().Add(time.Hour)
	everybody := true
	whom := client.WhomBody{Everybody: &everybody}
	entries := []string{"heron.example"}
	gone := client.WhomBody{Persons: &[]client.Ref{{ID: uuid.New()}}}
	for want, body := range map[string]client.NewGrantInputBody{
		"say when the grant ends":         {Entries: &entries, For: &whom, Reason: "x"},
		"until a moment, or after so":     {Entries: &entries, For: &whom, Reason: "x", Minutes: &two, Until: &until},
		"a person, a group or an address": {URL: &url, Who: &who, Reason: "x", Minutes: &two},
		"name a url and who asks":         {Entries: &entries, For: &whom, Who: &who, Reason: "x", Minutes: &two},
		"not both":                        {URL: &url, Entries: &entries, Who: &who, Reason: "x", Minutes: &two},
		"say who asks":                    {URL: &url, Reason: "x", Minutes: &two},
		"say for whom it is":              {Entries: &entries, Reason: "x", Minutes: &two},
		"what is live has no such person": {Entries: &entries, For: &gone, Reason: "x", Minutes: &two},
	} {
		_, err := api.AddGrantWithResponse(t.Context(), body)
		assert.ErrorContains(t, err, want)
	}
	made, err := api.AddGrantWithResponse(t.Context(), client.NewGrantInputBody{Entries: &entries, For: &whom, Reason: "x", Minutes: &two})
	require.NoError(t, err)
	assert.Equal(t, http.StatusCreated, made.StatusCode())
	assert.WithinDuration(t, time.Now().Add(2*time.Hour), made.JSON201.Until, time.Minute)
	assert.EqualValues(t, "in force", made.JSON201.State)
}

// In the console, a grant leads from a blocked trial to an allowed one, and ending the grant leads back.
func TestGrantsConsole(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	for _, step := range [][]string{{"group", "new", "Nurses"}, {"person", "new", "kay", "--full-name", "Kay Moran", "--in", "Nurses"}, {"policy", "new", "Off", "--off", "--for", "Nurses"}, {"publish", "--note", "first"}} {
		s.Run(t, "", step...).Done(t)
	}
	b := browser.Open(t, s.URL)
	b.SignIn(testkit.Name, testkit.Password)
	b.GoTo("/exceptions?view=grants&url=heron.example/wards&as=kay")
	b.See("main", "No grants yet")
	b.See("aside", "block")
	b.Press("Allow now…: Allow this host (=heron.example) for Kay Moran")
	b.See("[role=dialog]", "It holds at once, without publishing")
	b.Accessible("grant")
	b.Fill(`[role=dialog] input[placeholder^="Why"]`, "She asked")
	b.Press("Allow it now")
	b.Gone("[role=dialog]")
	b.See("td", "=heron.example")
	b.See("td", "in force")
	b.See("aside", `The grant "=heron.example" says allow for Kay Moran`)
	b.Accessible("grants")
	b.Press("What to do with the grant of =heron.example")
	b.Press("Keep it as an exception")
	b.See("td", "kept as an exception")
	b.Press("What to do with the grant of =heron.example")
	b.Press("End it now")
	b.See("td", "ended ")
	b.Quiet()
	listed := s.Run(t, "", "grant", "ls", "--over", "-o", "csv").Done(t)
	assert.Contains(t, listed, "over,'=heron.example,Kay Moran")
}

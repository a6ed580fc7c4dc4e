package journal

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/internal/testkit"
	"widelark/test/e2e/browser"
)

// The pages Reports and Alerts; searches that are kept, columns, and what can be done about a record, on the page Journal; and a choice that becomes a rule.
func TestConsole(t *testing.T) {
	t.Parallel()
	mails := newSink(t)
	s := serve(t, "--mail-server", "smtp://"+mails.address, "--mail-from", "lark@quillmere.example")
	furnish(t, s)
	api := s.API(t)
	for range 4 {
		record(t, api, "kay.moran", time.Now().Add(-time.Minute), "https://oddsfield.example/today", "https://heron.example/wards")
	}
	b := browser.Open(t, s.URL)
	b.SignIn(testkit.Name, testkit.Password)

	b.GoTo("/reports")
	b.See("main dl", "8")
	b.See("figure[aria-label='Requests over time'] svg", "")
	b.See("section[aria-label=People]", "Kay Moran")
	b.See("section[aria-label='Sites blocked most']", "oddsfield.example")
	b.Accessible("reports")
	b.Press("Keep…")
	b.Fill("[role=dialog] input:not([type])", "The wards")
	b.Accessible("a report that is kept")
	b.Press("Keep it")
	b.See("main h1", "The wards")
	b.See("nav[aria-label=Reports]", "The wards")
	b.Eval(`document.querySelector("section[aria-label='Sites blocked most'] tbody a").click()`)
	b.See("main p[role=status]", "4 requests")

	b.Press("Columns")
	b.Accessible("columns")
	b.Eval(`[...document.querySelectorAll("[role=dialog] label")].find((l) => l.textContent === "Size").click()`)
	b.See("main thead", "Size")
	b.Press("Close")
	b.Eval(`document.querySelector("main tbody button").click()`)
	b.See("aside[aria-label=Record]", "No betting")
	b.Accessible("what can be done about a record")
	b.Press("Allow…")
	b.See("[role=dialog]", "oddsfield.example/today")
	b.See("[role=dialog]", "Kay Moran")
	b.Press("Close")
	b.Press("Expect this")
	b.See("[role=status]", "Expected from now on")
	require.Eventually(t, func() bool { return len(mustExpect(t, s)) > 20 }, testkit.Patience, testkit.Look)

	b.GoTo("/alerts?view=alerts")
	b.See("main", "No alerts yet")
	b.Press("New alert")
	b.Fill("[role=dialog] input:not([type])", "Keeps trying")
	b.Fill("[role=dialog] input[type=number]", "1")
	b.Accessible("an alert")
	b.Press("Make it")
	b.See("main tbody", "More than 1 request in 10 minutes.")
	b.GoTo("/alerts")
	b.See("main tbody", "8 requests in 10 minutes, more than 1.")
	b.Accessible("incidents")
	b.Press("Acknowledge: 8 requests in 10 minutes, more than 1.")
	b.Press("I have seen to it")
	b.See("main", "Nothing goes on")
	b.GoTo("/alerts?view=forwards")
	b.See("main", "Records are sent on to nobody")
	b.Accessible("where records are sent on")

	b.GoTo(`/changes?view=affected&entries=["heron.example"]&days=7`)
	b.See("main", "4 requests of 1 known person to 1 host")
	b.Accessible("before you block")
	b.Press("Make it a rule…")
	b.Fill("[role=dialog] input", "No herons")
	b.Press("Add the rule")
	b.See("main ol", "No herons")
	assert.Contains(t, s.Run(t, "", "list", "show", "No herons").Done(t), "heron.example")
	b.GoTo("/lists")
	b.See("main tbody", "Betting")
	b.Accessible("lists with hits")
}

func mustExpect(t *testing.T, s *testkit.Service) string {
	t.Helper()
	return s.Run(t, "", "expect", "ls", "-o", "csv").Done(t)
}

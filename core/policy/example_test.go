package policy_test

import (
	"fmt"
	"time"

	"widelark/core/directory"
	"widelark/core/match"
	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/core/schedule"
	"widelark/core/weburl"
)

// snapshot is one policy for one group: a list that is blocked outside the breaks.
func snapshot() *policy.Snapshot {
	breaks, _ := schedule.Parse("mon-sun 12:00-13:00")
	return policy.New(policy.Config{
		Directory: directory.New([]directory.Person{{ID: "kay", Name: "Kay Moran"}}, []directory.Group{{ID: "nurses", Name: "Ward nurses", Persons: []string{"kay"}}}, nil),
		Lists:     match.New([]match.List{{ID: "games", Name: "Games", Entries: []pattern.Entry{pattern.MustParse("puzzle.example")}}}),
		Schedules: []policy.Schedule{{ID: "breaks", Name: "Breaks", Schedule: breaks, Zone: time.UTC}},
		Policies: []policy.Policy{{
			ID: "floor", Name: "Ward floor", Groups: []string{"nurses"}, Otherwise: policy.Allow,
			Rules: []policy.Rule{{
				Name: "No games", Then: policy.Block, If: policy.Cond{Op: policy.InList, Values: []string{"games"}}, When: policy.When{Schedule: "breaks", Outside: true},
			}},
		}},
		Way: policy.ByBoth,
	})
}

var (
	morning = time.Date(2026, 11, 23, 10, 0, 0, 0, time.UTC)
	request = policy.Request{URL: weburl.MustParse("puzzle.example/today"), Person: "kay"}
)

func ExampleSnapshot_Decide() {
	var w policy.Work
	d := snapshot().Decide(&w, &request, morning)
	fmt.Println(d.Verdict, "at the rung", d.Rung)
	// Output: block at the rung policy
}

func ExampleSnapshot_Explain() {
	var w policy.Work
	fmt.Println(snapshot().Explain(&w, &request, morning).Because)
	// Output: The rule "No games" of the policy "Ward floor" says block outside Breaks, because the list "Games" has the entry puzzle.example.
}

func ExampleSnapshot_Strip() {
	var w policy.Work
	for _, s := range snapshot().Strip(&w, &request, morning, morning.Add(6*time.Hour)) {
		fmt.Println(s.From.UTC().Format("15:04"), s.Decision.Verdict)
	}
	// Output:
	// 10:00 block
	// 12:00 allow
	// 13:00 block
}

func ExampleSnapshot_Flips() {
	var w policy.Work
	for _, f := range snapshot().Flips(&w, &request, morning) {
		fmt.Println(f.Text)
	}
	// Output:
	// Allow this page (=puzzle.example/today) for Kay Moran
	// Allow this host (=puzzle.example) for Kay Moran
	// Allow this site (puzzle.example) for Kay Moran
	// Allow this page (=puzzle.example/today) for the group "Ward nurses"
	// Allow this page (=puzzle.example/today) for everybody
	// Switch the rule "No games" of "Ward floor" off: this changes more than this page
	// Take the entry puzzle.example out of the list "Games"
}

func ExampleSnapshot_Travel() {
	var w policy.Work
	j := snapshot().Travel(&w, &request, morning)
	fmt.Println(j.Verdict, "at the", j.Stops[len(j.Stops)-1].Gate.Title(), "gate; the person sees", j.Sees)
	// Output: block at the DNS gate; the person sees a name that does not resolve
}

package question

import (
	"fmt"
	"io"

	"widelark/client"
	"widelark/internal/cli/command"
)

// Outcome returns the outcome of an expectation, in words.
func Outcome(r client.ExpectationResult) string {
	switch {
	case r.Passed:
		return "holds"
	case r.Broken != nil:
		return "broken"
	}
	return "fails"
}

// WhyNot returns lines that say why an expectation does not hold.
func WhyNot(r client.ExpectationResult) []string {
	if r.Broken != nil {
		return []string{"it cannot be tried: " + *r.Broken}
	}
	var lines []string
	for _, w := range r.Wrong {
		lines = append(lines, fmt.Sprintf("%s: %s. %s", w.URL, w.Why, w.Because))
	}
	return lines
}

// ShowFailing prints the expectations that do not hold, and why.
func ShowFailing(a *command.App, to io.Writer, results []client.ExpectationResult) {
	for _, r := range results {
		if !r.Passed {
			fmt.Fprintf(to, "%s  %s\n    expected: %s\n", Outcome(r), command.OrEmpty(r.Name), r.Says)
			for _, line := range WhyNot(r) {
				fmt.Fprintf(to, "    %s\n", line)
			}
		}
	}
}

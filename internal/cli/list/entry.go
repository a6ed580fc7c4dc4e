package list

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
)

func EntryCommand(a *command.App) *cobra.Command {
	var catches bool
	explain := &cobra.Command{
		Use:   "explain ENTRY...",
		Short: "What does this entry cover, and what else?",
		Long: "Say what entries cover: in one sentence, with what a pattern covers by mistake (near misses made up from it, and a tighter form), " +
			"and what it would catch of the recorded traffic. The exit code is 1 where a line is not an entry.",
		Example: `  widelark entry explain 'heron.*' '*.heron.example' '~host ^heron[0-9]+\.'
  widelark entry explain 'https://heron.example/wards?tab=2'`,
		Args: command.AtLeast("ENTRY"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			reading := client.ExplainInputBodyReadingMending
			answer, err := api.ExplainEntriesWithResponse(cmd.Context(), client.ExplainInputBody{Lines: args, Reading: &reading, Catches: &catches})
			if err != nil {
				return err
			}
			all := answer.JSON200.Explanations
			if a.Format == "table" {
				for i, e := range all {
					if i > 0 {
						fmt.Fprintln(a.Out)
					}
					showExplanation(a, e)
				}
			} else {
				v := command.View{Data: all, Columns: []string{"Entry", "Kind", "Covers", "Hosts caught", "Requests caught", "Near misses"}}
				for _, e := range all {
					v.Rows = append(v.Rows, explanationRow(e))
				}
				if err := a.Show(v); err != nil {
					return err
				}
			}
			for _, e := range all {
				if e.Problem != nil {
					return command.ErrNo
				}
			}
			return nil
		}),
	}
	explain.Flags().BoolVar(&catches, "catches", true, "also look into the recorded traffic")
	return command.Noun("entry", "Entries by themselves", a.Reads(explain), entryCompareCommand(a))
}

func explanationRow(e client.Explanation) []string {
	if e.Problem != nil {
		return []string{e.Text, "refused", e.Problem.Message, "", "", ""}
	}
	row := []string{strings.Join(e.Entries, " | "), "", given(e.Explain), "", "", ""}
	if e.Kind != nil {
		row[1] = string(*e.Kind)
	}
	if e.Caught != nil {
		row[3], row[4] = fmt.Sprint(e.Caught.Hosts), fmt.Sprint(e.Caught.Requests)
	}
	if e.NearMisses != nil {
		var urls []string
		for _, miss := range *e.NearMisses {
			urls = append(urls, miss.URL)
		}
		row[5] = strings.Join(urls, " ")
	}
	return row
}

// shownHosts is the largest number of covered hosts that a terminal shows.
const shownHosts = 8

// showExplanation prints what one line covers as a sentence, with its near misses below.
func showExplanation(a *command.App, e client.Explanation) {
	w := a.Out
	if e.Problem != nil {
		fmt.Fprintf(w, "%s\n%s\n", e.Text, a.Wrapped(e.Problem.Message, 2))
		return
	}
	for _, entry := range e.Entries {
		fmt.Fprintln(w, entry)
	}
	if e.Changes != nil {
		fmt.Fprintln(w, a.Wrapped("Read differently than written: "+strings.Join(*e.Changes, "; ")+".", 2))
	}
	if e.Kind == nil {
		return
	}
	fmt.Fprintln(w, a.Wrapped(fmt.Sprintf("%s: %s", *e.Kind, given(e.Explain)), 2))
	if e.NeedsFull != nil && *e.NeedsFull {
		fmt.Fprintln(w, a.Wrapped("It depends on more than the host, so it works only where the whole URL is seen.", 2))
	}
	if e.Costly != nil && *e.Costly {
		fmt.Fprintln(w, a.Wrapped("Costly: it names nothing that a URL would have to hold, so it is tried on every one.", 2))
	}
	if e.NearMisses != nil {
		fmt.Fprintln(w, "\n  it also covers")
		for _, miss := range *e.NearMisses {
			fmt.Fprintf(w, "    %s\n%s\n", miss.URL, a.Wrapped(miss.Why, 6))
			if miss.Tighter != nil {
				fmt.Fprintf(w, "      tighter: %s\n", *miss.Tighter)
			}
		}
	}
	c := e.Caught
	switch {
	case c == nil:
	case c.Looked == 0:
		fmt.Fprintln(w, "\n  No traffic has been recorded yet.")
	case c.Hosts == 0:
		fmt.Fprintln(w, "\n  It would have caught nothing of the recorded traffic.")
	default:
		fmt.Fprintf(w, "\n  of the recorded traffic it would have caught %s with %s\n", command.Plural(c.Hosts, "host", "hosts"), command.Plural(c.Requests, "request", "requests"))
		for _, h := range c.Top[:min(len(c.Top), shownHosts)] {
			fmt.Fprintf(w, "  %9s  %s\n", command.Grouped(h.Requests), h.Shown)
		}
		if more := c.Hosts - shownHosts; more > 0 {
			fmt.Fprintf(w, "             and %s more\n", command.Plural(more, "host", "hosts"))
		}
	}
}

package cli

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"widelark/client"
)

// batch is how many URLs go in one call: many enough that the call costs nothing beside them, few enough that
// progress is seen.
const batch = 5000

func (a *app) tryCommand() *cobra.Command {
	var group, file, sight string
	var exitCode bool
	cmd := &cobra.Command{
		Use:   "try [URL...]",
		Short: "What happens to a URL, and why",
		Long: "Say what happens to URLs: the verdict, the entry, list and rule that decided, and what else matched. " +
			"Without URLs, they are read from --file, one a line; - is standard input.",
		Example: `  widelark try oddsfield.example/today
  widelark try --file asked-for.txt -o csv > verdicts.csv
  cut -f3 proxy.log | widelark try --file - -o json
  widelark try --sight name dosage.example/tables
  widelark try --exit-code formulary.example && echo reachable`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if (len(args) == 0) == (file == "") {
				return usageError{fmt.Errorf("give URLs, or a file of them with --file, not both")}
			}
			api, err := a.api()
			if err != nil {
				return err
			}
			urls := args
			if file != "" {
				if urls, err = a.readURLs(file); err != nil {
					return err
				}
			}
			all, err := a.tryAll(cmd.Context(), api, group, sight, urls)
			if err != nil {
				return err
			}
			if err := a.showTrials(all); err != nil {
				return err
			}
			for _, t := range all.Trials {
				if exitCode && (t.Verdict == nil || *t.Verdict != client.TrialVerdictAllow) {
					return errNo
				}
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&group, "group", "", "who asks; without it, the group of the first policy")
	cmd.Flags().StringVar(&sight, "sight", "full", "what can be seen of the request: name (the host), tunnel (host and port over https) or full")
	cmd.Flags().StringVar(&file, "file", "", "a file of URLs, one a line; - is standard input")
	cmd.Flags().BoolVar(&exitCode, "exit-code", false, "exit with 1 where any URL is not allowed")
	return a.reads(cmd)
}

// readURLs reads one URL a line; blank lines and lines that begin with "#" are passed over.
func (a *app) readURLs(name string) ([]string, error) {
	file, err := a.open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	var urls []string
	lines := bufio.NewScanner(file)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		if line := strings.TrimSpace(strings.TrimPrefix(lines.Text(), "\uFEFF")); line != "" && line[0] != '#' {
			urls = append(urls, line)
		}
	}
	if err := lines.Err(); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if len(urls) == 0 {
		return nil, fmt.Errorf("%s holds no URLs", name)
	}
	return urls, nil
}

// tryAll asks in batches. The answer of each is decided on one version of the draft; the last one's is told.
func (a *app) tryAll(ctx context.Context, api *client.ClientWithResponses, group, sight string, urls []string) (client.TrialsOutputBody, error) {
	var all client.TrialsOutputBody
	seen := client.TrialsInputBodySight(sight)
	for begin := 0; begin < len(urls); begin += batch {
		part := urls[begin:min(begin+batch, len(urls))]
		answer, err := api.TryUrlsWithResponse(ctx, client.TrialsInputBody{Urls: part, Group: &group, Sight: &seen})
		if err != nil {
			return all, err
		}
		trials := append(all.Trials, answer.JSON200.Trials...)
		all = *answer.JSON200
		all.Trials = trials
		if len(urls) > batch {
			fmt.Fprintf(a.err, "%s of %s tried\n", grouped(int64(len(trials))), grouped(int64(len(urls))))
		}
	}
	return all, nil
}

func (a *app) showTrials(all client.TrialsOutputBody) error {
	if a.format == "table" && len(all.Trials) == 1 {
		a.showTrial(a.out, all)
		return nil
	}
	v := view{data: all, columns: []string{"Verdict", "URL", "List or category", "Entry", "Rule", "Also in"}}
	counts := map[string]int64{}
	for _, t := range all.Trials {
		if t.Problem != nil {
			counts["no URL"]++
			v.rows = append(v.rows, []string{a.noURL(), t.Input, "", "", "", *t.Problem})
			continue
		}
		verdict := string(*t.Verdict)
		counts[verdict]++
		row := []string{a.verdictCell(verdict), *t.URL, "", "", "otherwise", strings.Join(alsoIn(t), ", ")}
		if d := t.Decider; d != nil {
			row[4] = d.Rule
			if d.List != nil {
				row[2] = d.List.Name
			}
			if d.Category != nil {
				row[2] = d.Category.Name
			}
			if d.Entry != nil {
				row[3] = d.Entry.Pattern
			}
		}
		v.rows = append(v.rows, row)
	}
	v.foot = fmt.Sprintf("\n%s allowed, %s blocked", grouped(counts["allow"]), grouped(counts["block"]))
	if n := counts["no URL"]; n > 0 {
		v.foot += fmt.Sprintf(", %s no URL", grouped(n))
	}
	v.foot += fmt.Sprintf(". For %s, policy %s.", all.Group, all.Policy)
	return a.show(v)
}

// noURL stands in place of a verdict.
func (a *app) noURL() string {
	if a.format == "table" {
		return "? no URL"
	}
	return "no URL"
}

// alsoIn names the lists that the URL is in besides the one that decided.
func alsoIn(t client.Trial) []string {
	var names []string
	if t.Matches == nil {
		return names
	}
	for _, m := range *t.Matches {
		if m.In == client.MatchInYes && (t.Decider == nil || t.Decider.List == nil || t.Decider.List.ID != m.List.ID) {
			names = append(names, m.List.Name)
		}
	}
	return names
}

// showTrial tells one trial like a sentence, with the steps below it.
func (a *app) showTrial(w io.Writer, all client.TrialsOutputBody) {
	t := all.Trials[0]
	if t.Problem != nil {
		fmt.Fprintf(w, "%s  %s\n  %s\n", a.noURL(), t.Input, *t.Problem)
		return
	}
	fmt.Fprintf(w, "%s  %s\n%s\n", a.verdict(string(*t.Verdict)), *t.URL, a.wrapped(*t.Because, 2))
	if t.AtFull != nil && string(*t.AtFull) != string(*t.Verdict) {
		fmt.Fprintf(w, "  Where the whole URL is seen it would be: %s\n", a.verdict(string(*t.AtFull)))
	}
	if d := t.Decider; d != nil {
		fmt.Fprintf(w, "\n  decided by  %s\n", d.Rule)
		if d.List != nil {
			fmt.Fprintf(w, "  list        %s\n", d.List.Name)
		}
		if d.Category != nil {
			fmt.Fprintf(w, "  category    %s\n", d.Category.Name)
		}
		if d.Entry != nil {
			fmt.Fprintf(w, "  entry       %s\n%s\n", d.Entry.Text, a.wrapped(d.Entry.Explain, 14))
		}
	}
	if t.Class != nil {
		fmt.Fprintf(w, "\n  it is       %s", names(t.Class.Categories))
		if len(t.Class.Given) > 0 {
			fmt.Fprintf(w, "  by %s  (%s)", t.Class.Given[0].Entry.Pattern, from(t.Class.Given[0]))
		}
		fmt.Fprintln(w)
	}
	if t.Matches != nil {
		a.showMatches(w, t)
	}
	if t.Steps != nil {
		fmt.Fprintf(w, "\n  rules of %s, for %s\n", all.Policy, all.Group)
		for i, s := range *t.Steps {
			fmt.Fprintf(w, "  %3d  %-11s  %s\n", i+1, s.Outcome, s.Rule)
		}
	}
}

// showMatches tells what else covers the URL: other entries of the list that decided, and other lists.
func (a *app) showMatches(w io.Writer, t client.Trial) {
	title := "\n  also matched\n"
	for _, m := range *t.Matches {
		for _, e := range m.Entries {
			if t.Decider != nil && t.Decider.List != nil && t.Decider.List.ID == m.List.ID && t.Decider.Entry.ID == e.ID {
				continue
			}
			fmt.Fprintf(w, "%s  %s  ›  %s%s\n", title, m.List.Name, e.Text, map[client.MatchIn]string{client.MatchInNo: "  (carved out)"}[m.In])
			title = ""
		}
		for _, e := range m.CarveOuts {
			fmt.Fprintf(w, "%s  %s  ›  %s\n", title, m.List.Name, e.Text)
			title = ""
		}
		if m.Unclear == nil {
			continue
		}
		for _, e := range *m.Unclear {
			fmt.Fprintf(w, "%s  %s  ›  %s  (cannot tell)\n", title, m.List.Name, e.Text)
			title = ""
		}
	}
}

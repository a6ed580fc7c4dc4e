// Package trial implements the commands that try and look up URLs, and those about expectations.
//
// From: arguments.
// To: the API, by package client.
package trial

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
	"widelark/internal/cli/object"
	"widelark/internal/cli/question"
)

// tryFlags holds the flags that say what is tried, for whom, and what is printed.
type tryFlags struct {
	ask, other                            question.Circumstances
	file                                  string
	exitCode, trace, matrix, week, expect bool
}

func (f *tryFlags) register(cmd *cobra.Command) {
	f.ask.Register(cmd, "")
	f.other.Register(cmd, "or-")
	flags := cmd.Flags()
	flags.StringVar(&f.ask.Gate, "gate", "", "the gate that decides: dns, proxy or icap; left out, the one that sees so much")
	flags.StringVar(&f.ask.Method, "method", "", "the method of HTTP; left out, GET")
	flags.StringVar(&f.ask.Traits, "trait", "", "what a gate learns once a connection stands: two-names, not-tls, or both with a comma between them")
	flags.StringVar(&f.ask.Answer, "answer", "", "the kinds of files that the site answers with, as programs or archives,programs; left out, there is no answer yet")
	flags.StringVar(&f.ask.Chain, "leads-to", "", "where the DNS says that the name leads, in order, as edge.example,cdn.example; it counts at the DNS gate")
	flags.StringVar(&f.other.On, "or-on", "", "the same for the other of two trials")
	flags.StringVar(&f.ask.On, "on", "", "draft, live or the number of a revision; left out, the draft")
	flags.StringVar(&f.file, "file", "", "a file of URLs, one a line; - is standard input")
	flags.BoolVar(&f.ask.Journey, "journey", false, "through all gates on the asker's way: for one URL, what the person sees; also with --matrix, --week and two trials")
	flags.StringVar(&f.ask.Way, "way", "", "a journey on this way, in place of the asker's: dns, proxy, dns,proxy, icap or none")
	flags.StringVar(&f.other.Way, "or-way", "", "the same for the other of two trials")
	flags.BoolVar(&f.trace, "trace", false, "every rule that was looked at, with what came of it")
	flags.BoolVar(&f.matrix, "matrix", false, "for every group that has a policy, side by side")
	flags.BoolVar(&f.week, "week", false, "over the seven days from today, for the one who asks or for every group")
	flags.BoolVar(&f.expect, "expect", false, "save each as an expectation: from now on it must come to the same verdict")
	flags.BoolVar(&f.exitCode, "exit-code", false, "exit with 1 where any URL is not reached")
}

func Command(a *command.App) *cobra.Command {
	var f tryFlags
	cmd := &cobra.Command{
		Use:   "try [URL...]",
		Short: "What happens to a URL, for whom and when, and why",
		Long: "Say what happens to URLs: the verdict, what decided and why, how long it holds, and what would change it. " +
			"Without --as, --group or --from, somebody asks of whom nothing is known. " +
			"Without URLs, they are read from --file, one a line; - is standard input.",
		Example: `  widelark try oddsfield.example/today --as "Kay Moran" --at 14:10
  widelark try encyclopaedia.example/heart --from 10.40.41.9 --journey
  widelark try puzzle.example --as kay.moran --or-as ola.fenn
  widelark try --file asked-for.txt --matrix -o csv > matrix.csv
  widelark try puzzle.example --group "Night ward" --week
  cut -f3 proxy.log | widelark try --file - --group Visitors -o json
  widelark try --exit-code formulary.example --group Doctors && echo reachable`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if (len(args) == 0) == (f.file == "") {
				return command.Usagef("give URLs, or a file of them with --file, not both")
			}
			if err := command.Apart(cmd, []string{"journey", "sight", "gate", "or-sight"}, []string{"way", "sight", "gate"}, []string{"matrix", "week", "trace", "expect", "exit-code"}, []string{"week", "trace", "expect", "exit-code"}); err != nil {
				return err
			}
			api, err := a.API()
			if err != nil {
				return err
			}
			urls := args
			if f.file != "" {
				if urls, err = question.ReadURLs(a, f.file); err != nil {
					return err
				}
			}
			return runTry(cmd.Context(), a, api, urls, &f)
		},
	}
	f.register(cmd)
	return a.Reads(cmd)
}

// runTry asks the question that the flags describe, and prints the answer.
func runTry(ctx context.Context, a *command.App, api *client.ClientWithResponses, urls []string, f *tryFlags) error {
	switch {
	case !f.other.None() && len(urls) != 1:
		return command.Usagef("two trials are compared of one URL")
	case !f.other.None():
		return compareTrials(ctx, a, api, urls[0], f.ask, f.other.Or(f.ask))
	case f.matrix:
		return tryMatrix(ctx, a, api, urls, f.ask)
	case f.week:
		return sweep(ctx, a, api, urls, f.ask)
	}
	all, err := tryAll(ctx, a, api, f.ask, urls)
	if err != nil {
		return err
	}
	if err := showTrials(a, all, f.trace); err != nil {
		return err
	}
	if f.expect {
		if err := expectTrials(ctx, a, api, all, f.ask); err != nil {
			return err
		}
	}
	for _, t := range all.Trials {
		if f.exitCode && (t.Verdict == nil || !passes(string(*t.Verdict))) {
			return command.ErrNo
		}
	}
	return nil
}

func passes(verdict string) bool { return verdict == "allow" || verdict == "watch" }

// tryAll asks in batches. Each batch is decided on one version of the draft; it reports the version of the last batch.
func tryAll(ctx context.Context, a *command.App, api *client.ClientWithResponses, ask question.Circumstances, urls []string) (client.TrialsOutputBody, error) {
	var all client.TrialsOutputBody
	body, err := object.Recast[client.TrialsInputBody](ask.Body())
	if err != nil {
		return all, err
	}
	outlook := len(urls) == 1
	body.Outlook = &outlook
	for begin := 0; begin < len(urls); begin += question.Batch {
		body.Urls = urls[begin:min(begin+question.Batch, len(urls))]
		answer, err := api.TryUrlsWithResponse(ctx, body)
		if err != nil {
			return all, err
		}
		trials := append(all.Trials, answer.JSON200.Trials...)
		all = *answer.JSON200
		all.Trials = trials
		if len(urls) > question.Batch {
			fmt.Fprintf(a.Err, "%s of %s tried\n", command.Grouped(int64(len(trials))), command.Grouped(int64(len(urls))))
		}
	}
	return all, nil
}

func showTrials(a *command.App, all client.TrialsOutputBody, trace bool) error {
	if a.Format == "table" && len(all.Trials) == 1 {
		showTrial(a, a.Out, all, trace)
		return nil
	}
	v := command.View{Data: all, Columns: []string{"Verdict", "URL", "List or category", "Entry", "Rule", "Also in"}}
	counts := map[string]int64{}
	for _, t := range all.Trials {
		if t.Problem != nil {
			counts["no URL"]++
			v.Rows = append(v.Rows, []string{question.NoURL(a), t.Input, "", "", "", *t.Problem})
			continue
		}
		verdict := string(*t.Verdict)
		counts[verdict]++
		row := []string{a.VerdictCell(verdict), *t.URL, "", "", "otherwise", strings.Join(alsoIn(t), ", ")}
		if d := t.Decider; d != nil {
			if d.Rule != nil {
				row[4] = *d.Rule
			}
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
		v.Rows = append(v.Rows, row)
	}
	v.Foot = "\n"
	for _, said := range []struct{ verdict, word string }{{"allow", "allowed"}, {"watch", "allowed and flagged"}, {"hold", "held"}, {"block", "blocked"}, {"no URL", "no URL"}} {
		if n := counts[said.verdict]; n > 0 || said.verdict == "allow" || said.verdict == "block" {
			if v.Foot != "\n" {
				v.Foot += ", "
			}
			v.Foot += fmt.Sprintf("%s %s", command.Grouped(n), said.word)
		}
	}
	v.Foot += fmt.Sprintf(". For %s, %s.", all.Who.Name, all.At.Format(command.Clock))
	return a.Show(v)
}

// alsoIn names the lists that cover the URL besides the one that decided.
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

// showTrial prints one trial as sentences; with trace, every step below them.
func showTrial(a *command.App, w io.Writer, all client.TrialsOutputBody, trace bool) {
	t := all.Trials[0]
	if t.Problem != nil {
		fmt.Fprintf(w, "%s  %s\n  %s\n", question.NoURL(a), t.Input, *t.Problem)
		return
	}
	fmt.Fprintf(w, "%s  %s\n  for %s, %s\n%s\n", a.Verdict(string(*t.Verdict)), *t.URL, all.Who.Name, all.At.Format(command.Clock), a.Wrapped(*t.Because, 2))
	if with := command.OrEmpty(t.Provisos); with != "" {
		fmt.Fprintf(w, "  With %s.\n", with)
	}
	if by := command.OrEmpty(t.SafeBy); by != "" {
		fmt.Fprintf(w, "  Answers are made safe by %s.\n", by)
	}
	for _, spent := range command.Deref(t.Spent) {
		fmt.Fprintf(w, "  Used today: %d of %s (%s: %s).\n", spent.Minutes, command.Plural(spent.Of, "minute", "minutes"), spent.Policy, spent.Rule)
	}
	if not := command.OrEmpty(t.NotHeld); not != "" {
		fmt.Fprintf(w, "  Not held, as the gate cannot do it there: %s.\n", not)
	}
	if t.AtFull != nil && string(*t.AtFull) != string(*t.Verdict) {
		fmt.Fprintf(w, "  Where the whole URL is seen it would be: %s\n", a.Verdict(string(*t.AtFull)))
		if why := command.OrEmpty(t.FullBecause); why != "" {
			fmt.Fprintln(w, a.Wrapped(why, 4))
		}
	}
	if t.Way != nil {
		fmt.Fprintf(w, "\n  on the way  %s\n", question.WayText(*t.Way))
		for _, s := range command.Deref(t.Stops) {
			opened := ""
			if command.Deref(s.Opened) {
				opened = ", opened"
			}
			fmt.Fprintf(w, "    %-6s sees %-7s %s%s\n", s.Gate, s.Sight, a.Verdict(string(s.Verdict)), opened)
		}
		fmt.Fprintf(w, "  The person sees %s.\n", *t.Sees)
		if *t.Way == "dns" {
			fmt.Fprintln(w, "  The DNS gate cuts nothing: what runs goes on until it ends.")
		}
	}
	if t.Decider != nil || t.Way != nil {
		fmt.Fprintln(w)
	}
	showDecider(a, w, t)
	showOutlook(a, w, t)
	if t.Matches != nil {
		showMatches(a, w, t)
	}
	if trace && t.Steps != nil {
		showSteps(a, w, *t.Steps)
	} else if t.Steps != nil {
		fmt.Fprintf(w, "\n  %s looked at; --trace shows them.\n", command.Plural(int64(len(*t.Steps)), "step was", "steps were"))
	}
}

// showDecider prints what decided, the categories of the URL, and the groups and network of the request.
func showDecider(a *command.App, w io.Writer, t client.Trial) {
	if d := t.Decider; d != nil {
		if d.Rule != nil {
			fmt.Fprintf(w, "  decided by  %s\n", *d.Rule)
		}
		if d.List != nil {
			fmt.Fprintf(w, "  list        %s\n", d.List.Name)
		}
		if d.Category != nil {
			fmt.Fprintf(w, "  category    %s\n", d.Category.Name)
		}
		if d.Entry != nil {
			fmt.Fprintf(w, "  entry       %s\n%s\n", d.Entry.Text, a.Wrapped(d.Entry.Explain, 14))
		}
	}
	if t.Class != nil {
		fmt.Fprintf(w, "  it is       %s", object.Names(t.Class.Categories))
		if len(t.Class.Given) > 0 {
			fmt.Fprintf(w, "  by %s  (%s)", t.Class.Given[0].Entry.Pattern, object.From(t.Class.Given[0]))
		}
		fmt.Fprintln(w)
	}
	if b := t.Belongs; b != nil {
		if names := object.NamesOf(b.Groups); names != "" {
			fmt.Fprintf(w, "  belongs to  %s\n", names)
		}
	}
}

// showOutlook prints the next changes of the verdict, and the changes of rules that would turn it.
func showOutlook(a *command.App, w io.Writer, t client.Trial) {
	o := t.Outlook
	if o == nil {
		return
	}
	switch {
	case o.Until != nil:
		fmt.Fprintf(w, "  until       %s\n", o.Until.Format(command.Clock))
	default:
		fmt.Fprintln(w, "  until       time alone does not change it")
	}
	if len(o.Week) > 1 {
		fmt.Fprintln(w, "\n  the days to come")
		showStrip(a, w, o.Week)
	}
	if len(o.Flips) > 0 {
		fmt.Fprintln(w, "\n  any of these would change the verdict")
		for i, f := range o.Flips {
			if i == 9 {
				fmt.Fprintf(w, "    and %d more\n", len(o.Flips)-i)
				break
			}
			fmt.Fprintf(w, "    %s → %s\n", f.Text, f.Verdict)
		}
	}
}

func showStrip(a *command.App, w io.Writer, strip []client.Segment) {
	const most = 8
	for i, s := range strip {
		if i == most {
			fmt.Fprintf(w, "    and %d changes more; -o json has all\n", len(strip)-most)
			return
		}
		fmt.Fprintf(w, "    %s  %s  %s\n", s.From.Format("Mon 2 Jan 15:04"), a.Verdict(string(s.Verdict)), s.By)
	}
}

// showSteps prints the steps of the trace, rung by rung.
func showSteps(a *command.App, w io.Writer, steps []client.Step) {
	widest := 0
	for _, s := range steps {
		widest = max(widest, utf8.RuneCountInString(stepName(s)))
	}
	last := ""
	for _, s := range steps {
		title := string(s.Rung)
		if s.Policy != nil && s.Rung == "policy" {
			title += " " + *s.Policy
		}
		detail := command.OrEmpty(s.By)
		if s.Missing != nil {
			detail = *s.Missing
		}
		if stepName(s) == "" {
			fmt.Fprintf(w, "\n  %s: %s\n", title, detail)
			continue
		}
		if title != last {
			fmt.Fprintf(w, "\n  %s\n", title)
			last = title
		}
		if s.Next != nil {
			detail = strings.TrimPrefix(command.OrEmpty(s.When)+"; next "+s.Next.Format(command.Clock), "; ")
		}
		const outcome, verdict = 16, 7
		then := command.OrEmpty(s.Then)
		line := fmt.Sprintf("    %-*s  %-*s  %s%*s  ", outcome, s.Outcome, widest, stepName(s), stepVerdict(a, then), verdict-2-len(then), "")
		line += strings.TrimLeft(a.Wrapped(detail, 4+outcome+2+widest+2+verdict+2), " ")
		fmt.Fprintln(w, strings.TrimRight(line, " "))
	}
}

// stepName returns the name of the rule of a step; "" for a rung on which nothing applies.
func stepName(s client.Step) string {
	switch {
	case s.Rule != nil:
		return *s.Rule
	case s.Policy != nil:
		return "otherwise"
	}
	return ""
}

// stepVerdict returns the verdict of a step with its mark; a note has none.
func stepVerdict(a *command.App, then string) string {
	if command.Marks[then] == "" {
		return "  " + then
	}
	return a.Verdict(then)
}

// showMatches prints what else covers the URL: other entries of the list that decided, and other lists.
func showMatches(a *command.App, w io.Writer, t client.Trial) {
	title := "\n  also matched\n"
	for _, m := range *t.Matches {
		for _, e := range m.Entries {
			if t.Decider != nil && t.Decider.List != nil && t.Decider.List.ID == m.List.ID && t.Decider.Entry != nil && t.Decider.Entry.ID == e.ID {
				continue
			}
			fmt.Fprintf(w, "%s    %s  ›  %s%s\n", title, m.List.Name, e.Text, map[client.MatchIn]string{client.MatchInNo: "  (carved out)"}[m.In])
			title = ""
		}
		for _, e := range m.CarveOuts {
			fmt.Fprintf(w, "%s    %s  ›  %s\n", title, m.List.Name, e.Text)
			title = ""
		}
		if !asks(t, m) {
			continue
		}
		for _, e := range command.Deref(m.Unclear) {
			fmt.Fprintf(w, "%s    %s  ›  %s  (cannot tell)\n", title, m.List.Name, e.Text)
			title = ""
		}
	}
}

// asks reports whether any step of the trace asks for a list. At a lesser sight, the answer is unknown for many lists that no step asks for.
func asks(t client.Trial, m client.Match) bool {
	return t.Steps != nil && slices.ContainsFunc(*t.Steps, func(s client.Step) bool { return s.List != nil && s.List.ID == m.List.ID })
}

// tryMatrix prints the verdicts for URLs and several people or groups.
func tryMatrix(ctx context.Context, a *command.App, api *client.ClientWithResponses, urls []string, ask question.Circumstances) error {
	body, err := object.Recast[client.MatrixInputBody](ask.Setting())
	if err != nil {
		return err
	}
	body.Urls = urls
	if !ask.Nobody() {
		body.Who = &[]client.Who{ask.Who()}
	}
	answer, err := api.TryMatrixWithResponse(ctx, body)
	if err != nil {
		return err
	}
	m := answer.JSON200
	v := command.View{Data: m, Columns: []string{"URL"}}
	for _, who := range m.Who {
		name := who.Name
		if who.Group != nil {
			name = command.OrEmpty(who.Group.Name)
		}
		v.Columns = append(v.Columns, name)
	}
	for _, row := range m.Rows {
		cells := []string{row.Input}
		for _, c := range row.Cells {
			if a.Format == "table" {
				cells = append(cells, a.Verdict(string(c.Verdict)))
			} else {
				cells = append(cells, string(c.Verdict))
			}
		}
		if row.Problem != nil {
			cells = append(cells, slices.Repeat([]string{question.NoURL(a)}, len(m.Who))...)
		}
		v.Rows = append(v.Rows, cells)
	}
	v.Foot = "\n" + m.At.Format(command.Clock) + "."
	return a.Show(v)
}

// sweep prints the verdicts on URLs over a week.
func sweep(ctx context.Context, a *command.App, api *client.ClientWithResponses, urls []string, ask question.Circumstances) error {
	body, err := object.Recast[client.SweepInputBody](ask.Setting())
	if err != nil {
		return err
	}
	body.Urls, body.From = urls, command.Optional[string](ask.At)
	if !ask.Nobody() {
		body.Who = &[]client.Who{ask.Who()}
	}
	answer, err := api.SweepTrialsWithResponse(ctx, body)
	if err != nil {
		return err
	}
	zone, err := a.Zone()
	if err != nil {
		return err
	}
	v := command.View{Data: answer.JSON200, Columns: []string{"URL", "Who", "Verdict", "When"}}
	for _, row := range answer.JSON200.Rows {
		url, who := row.URL, row.Who.Name
		for _, verdict := range []string{"allow", "watch", "hold", "block"} {
			if times := question.StripTimes(row.Strip, verdict, zone); times != "" {
				v.Rows = append(v.Rows, []string{url, who, a.VerdictCell(verdict), times})
				if a.Format == "table" {
					url, who = "", ""
				}
			}
		}
	}
	return a.Show(v)
}

// compareTrials prints the first difference between two trials.
func compareTrials(ctx context.Context, a *command.App, api *client.ClientWithResponses, url string, one, other question.Circumstances) error {
	answer, err := api.CompareTrialsWithResponse(ctx, client.CompareTrialsInputBody{URL: url, A: one.Body(), B: other.Body()})
	if err != nil {
		return err
	}
	c := answer.JSON200
	v := command.View{Data: c, Columns: []string{"Who", "When", "Verdict", "Because"}}
	for _, side := range []client.Compared{c.A, c.B} {
		v.Rows = append(v.Rows, []string{side.Who.Name, side.At.Format(command.Clock), a.VerdictCell(string(command.Deref(side.Trial.Verdict))), command.OrEmpty(side.Trial.Because)})
	}
	v.Foot = "\n" + a.Wrapped(c.Because, 0)
	return a.Show(v)
}

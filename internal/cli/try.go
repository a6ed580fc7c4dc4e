package cli

import (
	"bufio"
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"widelark/client"
)

// batch is how many URLs go in one call: many enough that the call costs nothing beside them, few enough that
// progress is seen.
const batch = 5000

// circumstances are those of a question, as flags give them: who asks, when, and how it is seen.
type circumstances struct {
	person, group, address, at, sight, gate, method, on string
	journey                                             bool
}

// registerWho adds the flags that say who asks, each with something before its name.
func (c *circumstances) registerWho(cmd *cobra.Command, before string) {
	flags := cmd.Flags()
	flags.StringVar(&c.person, before+"as", "", "the person who asks, by name")
	flags.StringVar(&c.group, before+"group", "", "the group that an unnamed member of asks")
	flags.StringVar(&c.address, before+"from", "", "the address that is asked from")
}

// register adds the flags that say who asks, when, and at which sight.
func (c *circumstances) register(cmd *cobra.Command, before string) {
	c.registerWho(cmd, before)
	flags := cmd.Flags()
	flags.StringVar(&c.at, before+"at", "", "when: now, 12:30, 'tue 12:30', '2026-12-24 12:30' or RFC 3339")
	flags.StringVar(&c.sight, before+"sight", "", "what can be seen of the request: name (the host), tunnel (host and port over https) or full")
}

// none reports that nothing was said.
func (c *circumstances) none() bool { return *c == circumstances{} }

// nobody reports that nobody was named.
func (c *circumstances) nobody() bool { return c.person == "" && c.group == "" && c.address == "" }

// or takes from others what was not said.
func (c circumstances) or(others circumstances) circumstances {
	if c.nobody() {
		c.person, c.group, c.address = others.person, others.group, others.address
	}
	for _, field := range [][2]*string{{&c.at, &others.at}, {&c.sight, &others.sight}, {&c.gate, &others.gate}, {&c.method, &others.method}, {&c.on, &others.on}} {
		*field[0] = cmp.Or(*field[0], *field[1])
	}
	c.journey = c.journey || others.journey
	return c
}

func optional[T ~string](text string) *T {
	if text == "" {
		return nil
	}
	value := T(text)
	return &value
}

func (c *circumstances) who() client.Who {
	return client.Who{Person: optional[string](c.person), Group: optional[string](c.group), Address: optional[string](c.address)}
}

// body returns the circumstances as the API takes them.
func (c *circumstances) body() client.Circumstances {
	who := c.who()
	body := c.setting()
	body.Who = &who
	return body
}

// setting is body without the one who asks, for questions about several.
func (c *circumstances) setting() client.Circumstances {
	return client.Circumstances{
		At: optional[string](c.at), Sight: optional[client.CircumstancesSight](c.sight), Gate: optional[client.CircumstancesGate](c.gate),
		Method: optional[string](c.method), On: optional[string](c.on), Journey: &c.journey,
	}
}

// tryFlags say what is tried, for whom, and what is told of it.
type tryFlags struct {
	ask, other                            circumstances
	file                                  string
	exitCode, trace, matrix, week, expect bool
}

func (f *tryFlags) register(cmd *cobra.Command) {
	f.ask.register(cmd, "")
	f.other.register(cmd, "or-")
	flags := cmd.Flags()
	flags.StringVar(&f.ask.gate, "gate", "", "the gate that decides: dns, proxy or icap; left out, the one that sees so much")
	flags.StringVar(&f.ask.method, "method", "", "the method of HTTP; left out, GET")
	flags.StringVar(&f.other.on, "or-on", "", "the same for the other of two trials")
	flags.StringVar(&f.ask.on, "on", "", "draft, live or the number of a revision; left out, the draft")
	flags.StringVar(&f.file, "file", "", "a file of URLs, one a line; - is standard input")
	flags.BoolVar(&f.ask.journey, "journey", false, "through all gates that are switched on: for one URL, what the person sees; also with --matrix, --week and two trials")
	flags.BoolVar(&f.trace, "trace", false, "every rule that was looked at, with what came of it")
	flags.BoolVar(&f.matrix, "matrix", false, "for every group that has a policy, side by side")
	flags.BoolVar(&f.week, "week", false, "over the seven days from today, for the one who asks or for every group")
	flags.BoolVar(&f.expect, "expect", false, "save each as an expectation: from now on it must come to the same verdict")
	flags.BoolVar(&f.exitCode, "exit-code", false, "exit with 1 where any URL is not reached")
}

func (a *app) tryCommand() *cobra.Command {
	var f tryFlags
	cmd := &cobra.Command{
		Use:   "try [URL...]",
		Short: "What happens to a URL, for whom and when, and why",
		Long: "Say what happens to URLs: the verdict, what decided and why, what changes it, and what would turn it round. " +
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
				return usagef("give URLs, or a file of them with --file, not both")
			}
			if err := apart(cmd, []string{"journey", "sight", "gate", "or-sight"}, []string{"matrix", "week", "trace", "expect", "exit-code"}, []string{"week", "trace", "expect", "exit-code"}); err != nil {
				return err
			}
			api, err := a.api()
			if err != nil {
				return err
			}
			urls := args
			if f.file != "" {
				if urls, err = a.readURLs(f.file); err != nil {
					return err
				}
			}
			return a.runTry(cmd.Context(), api, urls, &f)
		},
	}
	f.register(cmd)
	return a.reads(cmd)
}

// runTry asks what the flags ask, and tells it.
func (a *app) runTry(ctx context.Context, api *client.ClientWithResponses, urls []string, f *tryFlags) error {
	switch {
	case !f.other.none() && len(urls) != 1:
		return usagef("two trials are compared of one URL")
	case !f.other.none():
		return a.compareTrials(ctx, api, urls[0], f.ask, f.other.or(f.ask))
	case f.matrix:
		return a.tryMatrix(ctx, api, urls, f.ask)
	case f.week:
		return a.sweep(ctx, api, urls, f.ask)
	}
	all, err := a.tryAll(ctx, api, f.ask, urls)
	if err != nil {
		return err
	}
	if err := a.showTrials(all, f.trace); err != nil {
		return err
	}
	if f.expect {
		if err := a.expectTrials(ctx, api, all, f.ask); err != nil {
			return err
		}
	}
	for _, t := range all.Trials {
		if f.exitCode && (t.Verdict == nil || !passes(string(*t.Verdict))) {
			return errNo
		}
	}
	return nil
}

func passes(verdict string) bool { return verdict == "allow" || verdict == "watch" }

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
func (a *app) tryAll(ctx context.Context, api *client.ClientWithResponses, ask circumstances, urls []string) (client.TrialsOutputBody, error) {
	var all client.TrialsOutputBody
	body, err := recast[client.TrialsInputBody](ask.body())
	if err != nil {
		return all, err
	}
	outlook := len(urls) == 1
	body.Outlook = &outlook
	for begin := 0; begin < len(urls); begin += batch {
		body.Urls = urls[begin:min(begin+batch, len(urls))]
		answer, err := api.TryUrlsWithResponse(ctx, body)
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

func (a *app) showTrials(all client.TrialsOutputBody, trace bool) error {
	if a.format == "table" && len(all.Trials) == 1 {
		a.showTrial(a.out, all, trace)
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
		v.rows = append(v.rows, row)
	}
	v.foot = "\n"
	for _, said := range []struct{ verdict, word string }{{"allow", "allowed"}, {"watch", "allowed and flagged"}, {"hold", "held"}, {"block", "blocked"}, {"no URL", "no URL"}} {
		if n := counts[said.verdict]; n > 0 || said.verdict == "allow" || said.verdict == "block" {
			if v.foot != "\n" {
				v.foot += ", "
			}
			v.foot += fmt.Sprintf("%s %s", grouped(n), said.word)
		}
	}
	v.foot += fmt.Sprintf(". For %s, %s.", all.Who.Name, all.At.Format(clock))
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

// showTrial tells one trial like a sentence; with trace, every step below it.
func (a *app) showTrial(w io.Writer, all client.TrialsOutputBody, trace bool) {
	t := all.Trials[0]
	if t.Problem != nil {
		fmt.Fprintf(w, "%s  %s\n  %s\n", a.noURL(), t.Input, *t.Problem)
		return
	}
	fmt.Fprintf(w, "%s  %s\n  for %s, %s\n%s\n", a.verdict(string(*t.Verdict)), *t.URL, all.Who.Name, all.At.Format(clock), a.wrapped(*t.Because, 2))
	if with := orEmpty(t.Provisos); with != "" {
		fmt.Fprintf(w, "  With %s.\n", with)
	}
	if t.AtFull != nil && string(*t.AtFull) != string(*t.Verdict) {
		fmt.Fprintf(w, "  Where the whole URL is seen it would be: %s\n", a.verdict(string(*t.AtFull)))
		if why := orEmpty(t.FullBecause); why != "" {
			fmt.Fprintln(w, a.wrapped(why, 4))
		}
	}
	if t.Stops != nil {
		fmt.Fprintln(w, "\n  on the way")
		for _, s := range *t.Stops {
			opened := ""
			if deref(s.Opened) {
				opened = ", opened"
			}
			fmt.Fprintf(w, "    %-6s sees %-7s %s%s\n", s.Gate, s.Sight, a.verdict(string(s.Verdict)), opened)
		}
		fmt.Fprintf(w, "  The person sees %s.\n", *t.Sees)
	}
	if t.Decider != nil || t.Stops != nil {
		fmt.Fprintln(w)
	}
	a.showDecider(w, t)
	a.showOutlook(w, t)
	if t.Matches != nil {
		a.showMatches(w, t)
	}
	if trace && t.Steps != nil {
		a.showSteps(w, *t.Steps)
	} else if t.Steps != nil {
		fmt.Fprintf(w, "\n  %s looked at; --trace shows them.\n", plural(int64(len(*t.Steps)), "step was", "steps were"))
	}
}

// showDecider tells what decided, what the URL is and what whoever asks belongs to.
func (a *app) showDecider(w io.Writer, t client.Trial) {
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
			fmt.Fprintf(w, "  entry       %s\n%s\n", d.Entry.Text, a.wrapped(d.Entry.Explain, 14))
		}
	}
	if t.Class != nil {
		fmt.Fprintf(w, "  it is       %s", names(t.Class.Categories))
		if len(t.Class.Given) > 0 {
			fmt.Fprintf(w, "  by %s  (%s)", t.Class.Given[0].Entry.Pattern, from(t.Class.Given[0]))
		}
		fmt.Fprintln(w)
	}
	if b := t.Belongs; b != nil {
		if names := namesOf(b.Groups); names != "" {
			fmt.Fprintf(w, "  belongs to  %s\n", names)
		}
	}
}

// showOutlook tells what is to come, and what would turn the verdict round.
func (a *app) showOutlook(w io.Writer, t client.Trial) {
	o := t.Outlook
	if o == nil {
		return
	}
	switch {
	case o.Until != nil:
		fmt.Fprintf(w, "  until       %s\n", o.Until.Format(clock))
	default:
		fmt.Fprintln(w, "  until       time alone does not change it")
	}
	if len(o.Week) > 1 {
		fmt.Fprintln(w, "\n  the days to come")
		a.showStrip(w, o.Week)
	}
	if len(o.Flips) > 0 {
		fmt.Fprintln(w, "\n  any of these would turn it round")
		for i, f := range o.Flips {
			if i == 9 {
				fmt.Fprintf(w, "    and %d more\n", len(o.Flips)-i)
				break
			}
			fmt.Fprintf(w, "    %s → %s\n", f.Text, f.Verdict)
		}
	}
}

func (a *app) showStrip(w io.Writer, strip []client.Segment) {
	const most = 8
	for i, s := range strip {
		if i == most {
			fmt.Fprintf(w, "    and %d changes more; -o json has all\n", len(strip)-most)
			return
		}
		fmt.Fprintf(w, "    %s  %s  %s\n", s.From.Format("Mon 2 Jan 15:04"), a.verdict(string(s.Verdict)), s.By)
	}
}

// showSteps lists what was looked at, rung by rung.
func (a *app) showSteps(w io.Writer, steps []client.Step) {
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
		detail := orEmpty(s.By)
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
			detail = strings.TrimPrefix(orEmpty(s.When)+"; next "+s.Next.Format(clock), "; ")
		}
		const outcome, verdict = 16, 7
		then := orEmpty(s.Then)
		line := fmt.Sprintf("    %-*s  %-*s  %s%*s  ", outcome, s.Outcome, widest, stepName(s), a.stepVerdict(then), verdict-2-len(then), "")
		line += strings.TrimLeft(a.wrapped(detail, 4+outcome+2+widest+2+verdict+2), " ")
		fmt.Fprintln(w, strings.TrimRight(line, " "))
	}
}

// stepName says what was looked at; "" for a rung on which nothing has a say.
func stepName(s client.Step) string {
	switch {
	case s.Rule != nil:
		return *s.Rule
	case s.Policy != nil:
		return "otherwise"
	}
	return ""
}

// stepVerdict is what a step says, with its mark; a note has none.
func (a *app) stepVerdict(then string) string {
	if marks[then] == "" {
		return "  " + then
	}
	return a.verdict(then)
}

// showMatches tells what else covers the URL: other entries of the list that decided, and other lists.
func (a *app) showMatches(w io.Writer, t client.Trial) {
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
		for _, e := range deref(m.Unclear) {
			fmt.Fprintf(w, "%s    %s  ›  %s  (cannot tell)\n", title, m.List.Name, e.Text)
			title = ""
		}
	}
}

// asks reports whether anything that was looked at hangs on a list that cannot be told: of the others there are many at a lesser sight.
func asks(t client.Trial, m client.Match) bool {
	return t.Steps != nil && slices.ContainsFunc(*t.Steps, func(s client.Step) bool { return s.List != nil && s.List.ID == m.List.ID })
}

// tryMatrix shows URLs against those who ask.
func (a *app) tryMatrix(ctx context.Context, api *client.ClientWithResponses, urls []string, ask circumstances) error {
	body, err := recast[client.MatrixInputBody](ask.setting())
	if err != nil {
		return err
	}
	body.Urls = urls
	if !ask.nobody() {
		body.Who = &[]client.Who{ask.who()}
	}
	answer, err := api.TryMatrixWithResponse(ctx, body)
	if err != nil {
		return err
	}
	m := answer.JSON200
	v := view{data: m, columns: []string{"URL"}}
	for _, who := range m.Who {
		name := who.Name
		if who.Group != nil {
			name = orEmpty(who.Group.Name)
		}
		v.columns = append(v.columns, name)
	}
	for _, row := range m.Rows {
		cells := []string{row.Input}
		for _, c := range row.Cells {
			if a.format == "table" {
				cells = append(cells, a.verdict(string(c.Verdict)))
			} else {
				cells = append(cells, string(c.Verdict))
			}
		}
		if row.Problem != nil {
			cells = append(cells, slices.Repeat([]string{a.noURL()}, len(m.Who))...)
		}
		v.rows = append(v.rows, cells)
	}
	v.foot = "\n" + m.At.Format(clock) + "."
	return a.show(v)
}

// sweep shows the verdicts on URLs over a week.
func (a *app) sweep(ctx context.Context, api *client.ClientWithResponses, urls []string, ask circumstances) error {
	body, err := recast[client.SweepInputBody](ask.setting())
	if err != nil {
		return err
	}
	body.Urls, body.From = urls, optional[string](ask.at)
	if !ask.nobody() {
		body.Who = &[]client.Who{ask.who()}
	}
	answer, err := api.SweepTrialsWithResponse(ctx, body)
	if err != nil {
		return err
	}
	zone, err := a.zone()
	if err != nil {
		return err
	}
	v := view{data: answer.JSON200, columns: []string{"URL", "Who", "Verdict", "When"}}
	for _, row := range answer.JSON200.Rows {
		url, who := row.URL, row.Who.Name
		for _, verdict := range []string{"allow", "watch", "hold", "block"} {
			if times := stripTimes(row.Strip, verdict, zone); times != "" {
				v.rows = append(v.rows, []string{url, who, a.verdictCell(verdict), times})
				if a.format == "table" {
					url, who = "", ""
				}
			}
		}
	}
	return a.show(v)
}

// compareTrials shows where two trials part.
func (a *app) compareTrials(ctx context.Context, api *client.ClientWithResponses, url string, one, other circumstances) error {
	answer, err := api.CompareTrialsWithResponse(ctx, client.CompareTrialsInputBody{URL: url, A: one.body(), B: other.body()})
	if err != nil {
		return err
	}
	c := answer.JSON200
	v := view{data: c, columns: []string{"Who", "When", "Verdict", "Because"}}
	for _, side := range []client.Compared{c.A, c.B} {
		v.rows = append(v.rows, []string{side.Who.Name, side.At.Format(clock), a.verdictCell(string(deref(side.Trial.Verdict))), orEmpty(side.Trial.Because)})
	}
	v.foot = "\n" + a.wrapped(c.Because, 0)
	return a.show(v)
}

package cli

import (
	"context"
	"encoding/xml"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"widelark/client"
)

func (a *app) expectCommand() *cobra.Command {
	cmd := noun("expect", "Expectations: what must hold, tried on every change", a.expectLsCommand(), a.expectAddCommand(), a.removeCommand(expectationKind), a.expectRunCommand(), a.expectExportCommand(), a.expectImportCommand())
	cmd.Example = `  widelark expect add formulary.example/dosage --group "Ward nurses" --verdict allow --folder Wards
  widelark expect run
  widelark expect run --format junit > report.xml`
	return cmd
}

func (a *app) expectAddCommand() *cobra.Command {
	var ask circumstances
	var name, verdict, folder, schedule, category, rule, note string
	var outside bool
	cmd := &cobra.Command{
		Use: "add URL...", Short: "Save what must come of a trial", Args: atLeast("URL"),
		Example: `  widelark expect add oddsfield.example --group "Ward nurses" --verdict block
  widelark expect add puzzle.example --group "Ward nurses" --in "Meal breaks" --verdict watch --folder Breaks`,
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, urls []string) error {
			ctx := cmd.Context()
			body := client.ExpectationInput{
				Urls: urls, Name: optional[string](name), Folder: optional[string](folder), Address: optional[string](ask.address), At: optional[string](ask.at),
				Sight: optional[client.ExpectationInputSight](ask.sight), Method: optional[string](ask.method), Verdict: client.ExpectationInputVerdict(verdict),
				Category: optional[string](category), Rule: optional[string](rule), Note: optional[string](note), Outside: &outside,
			}
			for _, r := range []struct {
				kind kind
				name string
				into **client.Ref
			}{{personKind, ask.person, &body.Person}, {groupKind, ask.group, &body.Group}, {scheduleKind, schedule, &body.Schedule}} {
				if r.name == "" {
					continue
				}
				refs, err := references(ctx, api, r.kind, []string{r.name})
				if err != nil {
					return err
				}
				*r.into = &refs[0]
			}
			answer, err := api.AddExpectationWithResponse(ctx, body)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Added the expectation %q.\n", answer.JSON201.Name)
			return nil
		}),
	}
	ask.register(cmd, "")
	flags := cmd.Flags()
	flags.StringVar(&ask.method, "method", "", "the method of HTTP; left out, GET")
	flags.StringVar(&verdict, "verdict", "", "the verdict that must come: allow, watch, hold or block")
	flags.StringVar(&name, "name", "", "what it is called; left out, it is made from the URL and the verdict")
	flags.StringVar(&folder, "folder", "", "expectations of one folder are shown together")
	flags.StringVar(&schedule, "in", "", "the next moment at which this schedule is in force, in place of --at")
	flags.BoolVar(&outside, "outside", false, "with --in: the next moment at which it is not in force")
	flags.StringVar(&category, "category", "", "the key of a category that the URL must have, too")
	flags.StringVar(&rule, "rule", "", "the name of the rule or exception that must decide, too")
	flags.StringVar(&note, "note", "", "why it must be so")
	return cmd
}

// expectTrials saves trials with the verdicts that they gave.
func (a *app) expectTrials(ctx context.Context, api *client.ClientWithResponses, all client.TrialsOutputBody, ask circumstances) error {
	for _, t := range all.Trials {
		if t.Verdict == nil {
			continue
		}
		body := client.ExpectationInput{
			Urls: []string{t.Input}, Person: all.Who.Person, Group: all.Who.Group, Address: all.Who.Address, At: optional[string](ask.at),
			Sight: optional[client.ExpectationInputSight](ask.sight), Method: optional[string](ask.method), Verdict: client.ExpectationInputVerdict(*t.Verdict),
		}
		made, err := api.AddExpectationWithResponse(ctx, body)
		if err != nil {
			return err
		}
		fmt.Fprintf(a.err, "Expected from now on: %s\n", made.JSON201.Name)
	}
	return nil
}

const expectationsFile = "expectations.yaml"

func (a *app) expectExportCommand() *cobra.Command {
	return &cobra.Command{
		Use: "export FILE", Short: "All expectations as a file; - is standard output", Args: exactly("FILE"),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			answer, err := api.ExportConfigWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			text := answer.JSON200.Files[expectationsFile]
			if args[0] == "-" {
				fmt.Fprint(a.out, text)
				return nil
			}
			return os.WriteFile(args[0], []byte(text), 0o644)
		}),
	}
}

func (a *app) expectImportCommand() *cobra.Command {
	return &cobra.Command{
		Use: "import FILE", Short: "Expect what a file says, and nothing else; - is standard input", Args: exactly("FILE"),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			file, err := a.open(args[0])
			if err != nil {
				return err
			}
			defer file.Close()
			text, err := io.ReadAll(file)
			if err != nil {
				return err
			}
			answer, err := api.ExportConfigWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			files := answer.JSON200.Files // everything else stays as it is
			files[expectationsFile] = string(text)
			applied, err := api.ApplyConfigWithResponse(cmd.Context(), client.ApplyInputBody{Files: files, Version: &answer.JSON200.Version})
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s of expectations.\n", plural(int64(len(applied.JSON200.Changes)), "change", "changes"))
			return nil
		}),
	}
}

func (a *app) results(ctx context.Context, api *client.ClientWithResponses, on string) (*client.ExpectationsRunOutputBody, error) {
	answer, err := api.RunExpectationsWithResponse(ctx, &client.RunExpectationsParams{On: optional[string](on)})
	if err != nil {
		return nil, err
	}
	return answer.JSON200, nil
}

// outcome says what came of an expectation.
func outcome(r client.ExpectationResult) string {
	switch {
	case r.Passed:
		return "holds"
	case r.Broken != nil:
		return "broken"
	}
	return "fails"
}

func (a *app) expectLsCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "ls", Short: "All expectations, and whether they hold in the draft", Args: exactly(),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			run, err := a.results(cmd.Context(), api, "")
			if err != nil {
				return err
			}
			v := view{data: run.Results, columns: []string{"Folder", "Name", "State", "Expected"}, empty: "Nothing is expected yet; `widelark expect add` says what must hold."}
			for _, r := range run.Results {
				v.rows = append(v.rows, []string{orEmpty(r.Folder), orEmpty(r.Name), outcome(r), r.Says})
			}
			return a.show(v)
		}),
	}
	return a.reads(cmd)
}

func (a *app) expectRunCommand() *cobra.Command {
	var on, format string
	cmd := &cobra.Command{
		Use: "run", Short: "Try everything that is expected; exit with 1 where anything fails", Args: exactly(),
		Long: "Try everything that is expected, on the draft or another state, and say what fails. The exit code is 1 where anything does. " +
			"--format junit writes the XML that build servers read, --format tap the Test Anything Protocol, version 14.",
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			run, err := a.results(cmd.Context(), api, on)
			if err != nil {
				return err
			}
			switch format {
			case "text":
				a.showFailing(a.out, run.Results)
				fmt.Fprintf(a.out, "%s, %d failing.\n", plural(int64(len(run.Results)), "expectation", "expectations"), run.Failing)
			case "junit":
				err = writeJUnit(a.out, run)
			case "tap":
				writeTAP(a.out, run)
			default:
				return usagef("there is no format %q; take text, junit or tap", format)
			}
			if err == nil && run.Failing > 0 {
				err = errNo
			}
			return err
		}),
	}
	cmd.Flags().StringVar(&on, "on", "", "draft, live or the number of a revision; left out, the draft")
	cmd.Flags().StringVar(&format, "format", "text", "text, junit or tap")
	return cmd
}

// whyNot says in lines why an expectation does not hold.
func whyNot(r client.ExpectationResult) []string {
	if r.Broken != nil {
		return []string{"it cannot be tried: " + *r.Broken}
	}
	var lines []string
	for _, w := range r.Wrong {
		lines = append(lines, fmt.Sprintf("%s: %s. %s", w.URL, w.Why, w.Because))
	}
	return lines
}

func (a *app) showFailing(to io.Writer, results []client.ExpectationResult) {
	for _, r := range results {
		if !r.Passed {
			fmt.Fprintf(to, "%s  %s\n    expected: %s\n", outcome(r), orEmpty(r.Name), r.Says)
			for _, line := range whyNot(r) {
				fmt.Fprintf(to, "    %s\n", line)
			}
		}
	}
}

// The elements of JUnit's XML that build servers read.
type junitSuite struct {
	XMLName  xml.Name    `xml:"testsuite"`
	Name     string      `xml:"name,attr"`
	Tests    int         `xml:"tests,attr"`
	Failures int64       `xml:"failures,attr"`
	Time     string      `xml:"time,attr"`
	Cases    []junitCase `xml:"testcase"`
}

type junitCase struct {
	Class   string        `xml:"classname,attr"`
	Name    string        `xml:"name,attr"`
	Failure *junitFailure `xml:"failure,omitempty"`
}

type junitFailure struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

func writeJUnit(to io.Writer, run *client.ExpectationsRunOutputBody) error {
	suite := junitSuite{Name: "widelark expectations", Tests: len(run.Results), Failures: run.Failing, Time: fmt.Sprintf("%.6f", float64(run.Micros)/1e6)}
	for _, r := range run.Results {
		c := junitCase{Class: "widelark." + orEmpty(r.Folder), Name: orEmpty(r.Name)}
		if !r.Passed {
			c.Failure = &junitFailure{"expected: " + r.Says, strings.Join(whyNot(r), "\n")}
		}
		suite.Cases = append(suite.Cases, c)
	}
	if _, err := io.WriteString(to, xml.Header); err != nil {
		return err
	}
	enc := xml.NewEncoder(to)
	enc.Indent("", "  ")
	if err := enc.Encode(suite); err != nil {
		return err
	}
	_, err := io.WriteString(to, "\n")
	return err
}

func writeTAP(to io.Writer, run *client.ExpectationsRunOutputBody) {
	escape := strings.NewReplacer(`\`, `\\`, "#", `\#`).Replace
	fmt.Fprintf(to, "TAP version 14\n1..%d\n", len(run.Results))
	for i, r := range run.Results {
		ok := "ok"
		if !r.Passed {
			ok = "not ok"
		}
		fmt.Fprintf(to, "%s %d - %s\n", ok, i+1, escape(orEmpty(r.Name)))
		if !r.Passed {
			fmt.Fprintf(to, "  ---\n  expected: %q\n  why:\n", r.Says)
			for _, line := range whyNot(r) {
				fmt.Fprintf(to, "    - %q\n", line)
			}
			fmt.Fprint(to, "  ...\n")
		}
	}
}

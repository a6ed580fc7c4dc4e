package trial

import (
	"context"
	"encoding/xml"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
	"widelark/internal/cli/object"
	"widelark/internal/cli/question"
)

func ExpectCommand(a *command.App) *cobra.Command {
	cmd := command.Noun("expect", "Expectations: what must hold, tried on every change", expectLsCommand(a), expectAddCommand(a), object.RemoveCommand(a, object.Expectations), expectRunCommand(a), expectExportCommand(a), expectImportCommand(a))
	cmd.Example = `  widelark expect add formulary.example/dosage --group "Ward nurses" --verdict allow --folder Wards
  widelark expect run
  widelark expect run --format junit > report.xml`
	return cmd
}

func expectAddCommand(a *command.App) *cobra.Command {
	var ask question.Circumstances
	var name, verdict, folder, schedule, category, rule, note string
	var outside bool
	cmd := &cobra.Command{
		Use: "add URL...", Short: "Save what must come of a trial", Args: command.AtLeast("URL"),
		Example: `  widelark expect add oddsfield.example --group "Ward nurses" --verdict block
  widelark expect add puzzle.example --group "Ward nurses" --in "Meal breaks" --verdict watch --folder Breaks`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, urls []string) error {
			ctx := cmd.Context()
			body := client.ExpectationInput{
				Urls: urls, Name: command.Optional[string](name), Folder: command.Optional[string](folder), Address: command.Optional[string](ask.Address), At: command.Optional[string](ask.At),
				Sight: command.Optional[client.ExpectationInputSight](ask.Sight), Method: command.Optional[string](ask.Method), Verdict: client.ExpectationInputVerdict(verdict),
				Category: command.Optional[string](category), Rule: command.Optional[string](rule), Note: command.Optional[string](note), Outside: &outside,
			}
			for _, r := range []struct {
				kind object.Kind
				name string
				into **client.Ref
			}{{object.Persons, ask.Person, &body.Person}, {object.Groups, ask.Group, &body.Group}, {object.Schedules, schedule, &body.Schedule}} {
				if r.name == "" {
					continue
				}
				refs, err := object.References(ctx, api, r.kind, []string{r.name})
				if err != nil {
					return err
				}
				*r.into = &refs[0]
			}
			answer, err := api.AddExpectationWithResponse(ctx, body)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Added the expectation %q.\n", answer.JSON201.Name)
			return nil
		}),
	}
	ask.Register(cmd, "")
	flags := cmd.Flags()
	flags.StringVar(&ask.Method, "method", "", "the method of HTTP; left out, GET")
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

// expectTrials saves trials and their verdicts as expectations.
func expectTrials(ctx context.Context, a *command.App, api *client.ClientWithResponses, all client.TrialsOutputBody, ask question.Circumstances) error {
	for _, t := range all.Trials {
		if t.Verdict == nil {
			continue
		}
		body := client.ExpectationInput{
			Urls: []string{t.Input}, Person: all.Who.Person, Group: all.Who.Group, Address: all.Who.Address, At: command.Optional[string](ask.At),
			Sight: command.Optional[client.ExpectationInputSight](ask.Sight), Method: command.Optional[string](ask.Method), Verdict: client.ExpectationInputVerdict(*t.Verdict),
		}
		made, err := api.AddExpectationWithResponse(ctx, body)
		if err != nil {
			return err
		}
		fmt.Fprintf(a.Err, "Expected from now on: %s\n", made.JSON201.Name)
	}
	return nil
}

const expectationsFile = "expectations.yaml"

func expectExportCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "export FILE", Short: "All expectations as a file; - is standard output", Args: command.Exactly("FILE"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			answer, err := api.ExportConfigWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			text := answer.JSON200.Files[expectationsFile]
			if args[0] == "-" {
				fmt.Fprint(a.Out, text)
				return nil
			}
			return os.WriteFile(args[0], []byte(text), 0o644)
		}),
	}
}

func expectImportCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "import FILE", Short: "Expect what a file says, and nothing else; - is standard input", Args: command.Exactly("FILE"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			file, err := a.Open(args[0])
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
			files := answer.JSON200.Files // all other files stay as they are
			files[expectationsFile] = string(text)
			applied, err := api.ApplyConfigWithResponse(cmd.Context(), client.ApplyInputBody{Files: files, Version: &answer.JSON200.Version})
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "%s of expectations.\n", command.Plural(int64(len(applied.JSON200.Changes)), "change", "changes"))
			return nil
		}),
	}
}

func results(ctx context.Context, a *command.App, api *client.ClientWithResponses, on string) (*client.ExpectationsRunOutputBody, error) {
	answer, err := api.RunExpectationsWithResponse(ctx, &client.RunExpectationsParams{On: command.Optional[string](on)})
	if err != nil {
		return nil, err
	}
	return answer.JSON200, nil
}

func expectLsCommand(a *command.App) *cobra.Command {
	cmd := &cobra.Command{
		Use: "ls", Short: "All expectations, and whether they hold in the draft", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			run, err := results(cmd.Context(), a, api, "")
			if err != nil {
				return err
			}
			v := command.View{Data: run.Results, Columns: []string{"Folder", "Name", "State", "Expected"}, Empty: "Nothing is expected yet; `widelark expect add` says what must hold."}
			for _, r := range run.Results {
				v.Rows = append(v.Rows, []string{command.OrEmpty(r.Folder), command.OrEmpty(r.Name), question.Outcome(r), r.Says})
			}
			return a.Show(v)
		}),
	}
	return a.Reads(cmd)
}

func expectRunCommand(a *command.App) *cobra.Command {
	var on, format string
	cmd := &cobra.Command{
		Use: "run", Short: "Try everything that is expected; exit with 1 where anything fails", Args: command.Exactly(),
		Long: "Try everything that is expected, on the draft or another state, and say what fails. The exit code is 1 where anything does. " +
			"--format junit writes the XML that build servers read, --format tap the Test Anything Protocol, version 14.",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			run, err := results(cmd.Context(), a, api, on)
			if err != nil {
				return err
			}
			switch format {
			case "text":
				question.ShowFailing(a, a.Out, run.Results)
				fmt.Fprintf(a.Out, "%s, %d failing.\n", command.Plural(int64(len(run.Results)), "expectation", "expectations"), run.Failing)
			case "junit":
				err = writeJUnit(a.Out, run)
			case "tap":
				writeTAP(a.Out, run)
			default:
				return command.Usagef("there is no format %q; take text, junit or tap", format)
			}
			if err == nil && run.Failing > 0 {
				err = command.ErrNo
			}
			return err
		}),
	}
	cmd.Flags().StringVar(&on, "on", "", "draft, live or the number of a revision; left out, the draft")
	cmd.Flags().StringVar(&format, "format", "text", "text, junit or tap")
	return cmd
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
		c := junitCase{Class: "widelark." + command.OrEmpty(r.Folder), Name: command.OrEmpty(r.Name)}
		if !r.Passed {
			c.Failure = &junitFailure{"expected: " + r.Says, strings.Join(question.WhyNot(r), "\n")}
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
		fmt.Fprintf(to, "%s %d - %s\n", ok, i+1, escape(command.OrEmpty(r.Name)))
		if !r.Passed {
			fmt.Fprintf(to, "  ---\n  expected: %q\n  why:\n", r.Says)
			for _, line := range question.WhyNot(r) {
				fmt.Fprintf(to, "    - %q\n", line)
			}
			fmt.Fprint(to, "  ...\n")
		}
	}
}

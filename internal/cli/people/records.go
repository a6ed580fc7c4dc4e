package people

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
)

func personRecordsCommand(a *command.App) *cobra.Command {
	var form, to string
	cmd := &cobra.Command{
		Use: "records NAME", Short: "Everything that is recorded of a person, as a file to hand out", Args: command.Exactly("NAME"),
		Example: `  widelark person records kay.moran --to kay.jsonl`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			f := client.ExportJournalParamsForm(form)
			q := fmt.Sprintf("person:%q since:2000-01-01", args[0])
			res, err := api.ExportJournal(cmd.Context(), &client.ExportJournalParams{Q: &q, Form: &f})
			if err != nil {
				return err
			}
			defer res.Body.Close()
			if to == "" {
				_, err = io.Copy(a.Out, res.Body)
				return err
			}
			return command.Save(to, res.Body)
		}),
	}
	cmd.Flags().StringVar(&form, "form", "jsonl", "csv or jsonl")
	cmd.Flags().StringVar(&to, "to", "", "a file; left out, it is printed")
	return cmd
}

func personEraseCommand(a *command.App) *cobra.Command {
	var why string
	var names bool
	cmd := &cobra.Command{
		Use: "erase NAME", Short: "Erase what is recorded of a person; the audit log keeps a note of it", Args: command.Exactly("NAME"),
		Long: "Erase the records of a person, their requests to the help desk, minutes used, presences, ways past a hold, and what alerts found of them. Revisions and the audit log stay whole. " +
			"What was sent on to others is theirs. A gate that is away hands in what it has later: erase again when it is back.",
		Example: `  widelark person erase kay.moran --why "asked for by letter of 12 November"
  widelark person erase "Kay Moran" --names --why "left in June"`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if why == "" {
				return command.Usagef("say who asked for it, with --why: it stands in the audit log")
			}
			done, err := api.ErasePersonWithResponse(cmd.Context(), client.EraseInputBody{Person: args[0], Names: &names, Reason: why})
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Erased %s of %s.\n", command.Plural(done.JSON200.Records, "record", "records"), args[0])
			return nil
		}),
	}
	cmd.Flags().StringVar(&why, "why", "", "who asked for it")
	cmd.Flags().BoolVar(&names, "names", false, "what the person was called in past states of the draft, too")
	return cmd
}

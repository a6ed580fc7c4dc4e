package list

import (
	"fmt"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
)

func entryCompareCommand(a *command.App) *cobra.Command {
	cmd := &cobra.Command{
		Use: "compare A B", Short: "Whether one entry covers all that another covers, with a URL that proves a no", Args: command.Exactly("A", "B"),
		Long:    "Decide whether A covers everything that B covers, and the reverse. A no comes with a URL that proves it. Some regular expressions are not decided.",
		Example: `  widelark entry compare '*.heron.example' 'www.heron.example/map'`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			answer, err := api.CompareEntriesWithResponse(cmd.Context(), client.CompareEntriesInputBody{A: args[0], B: args[1]})
			if err != nil {
				return err
			}
			r := answer.JSON200
			v := command.View{Data: r, Columns: []string{"Question", "Answer", "Shown by"}}
			for _, side := range []struct {
				a, b string
				is   client.Coverage
			}{{args[0], args[1], r.ACoversB}, {args[1], args[0], r.BCoversA}} {
				v.Rows = append(v.Rows, []string{fmt.Sprintf("Does %s cover all of %s?", side.a, side.b), string(side.is.Answer), command.OrEmpty(side.is.Shown)})
			}
			return a.Show(v)
		}),
	}
	return a.Reads(cmd)
}

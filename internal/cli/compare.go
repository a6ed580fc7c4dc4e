package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"widelark/client"
)

func (a *app) entryCompareCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "compare A B", Short: "Whether one entry covers all that another covers, with a URL that proves a no", Args: exactly("A", "B"),
		Long:    "Decide whether A covers everything that B covers, and the reverse. A no comes with a URL that proves it. Some regular expressions are not decided.",
		Example: `  widelark entry compare '*.heron.example' 'www.heron.example/map'`,
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			answer, err := api.CompareEntriesWithResponse(cmd.Context(), client.CompareEntriesInputBody{A: args[0], B: args[1]})
			if err != nil {
				return err
			}
			r := answer.JSON200
			v := view{data: r, columns: []string{"Question", "Answer", "Shown by"}}
			for _, side := range []struct {
				a, b string
				is   client.Coverage
			}{{args[0], args[1], r.ACoversB}, {args[1], args[0], r.BCoversA}} {
				v.rows = append(v.rows, []string{fmt.Sprintf("Does %s cover all of %s?", side.a, side.b), string(side.is.Answer), orEmpty(side.is.Shown)})
			}
			return a.show(v)
		}),
	}
	return a.reads(cmd)
}

package people

import (
	"fmt"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
)

// PresenceCommand is `widelark presence`.
func PresenceCommand(a *command.App) *cobra.Command {
	cmd := command.Noun("presence", "Presences: who is at which address, for a while", presenceLsCommand(a), presenceSetCommand(a), presenceEndCommand(a))
	cmd.Long = "A presence says that a person is at an address until some moment. Gates and trials then take requests from the address for theirs. Whoever knows it sets it: a sign-in page, " +
		"a controller of wireless access points, a script. It holds at once, without publishing."
	cmd.Example = `  widelark presence set "Kay Moran" 10.40.20.7 --until 8h
  widelark presence ls
  widelark presence end 10.40.20.7`
	return cmd
}

func presenceLsCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: "ls", Short: "Who is at which address now", Args: command.Exactly(), Example: "  widelark presence ls",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			answer, err := api.GetPresencesWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			v := command.View{Data: answer.JSON200.Presences, Columns: []string{"Person", "Address", "Since", "Until", "Known by", "Set by"}, Empty: "Nobody is known to be at any address."}
			for _, p := range answer.JSON200.Presences {
				v.Rows = append(v.Rows, []string{command.OrEmpty(p.Person.Name), p.Address, a.Moment(p.From), a.Moment(p.Until), command.OrEmpty(p.How), p.MadeBy})
			}
			return a.Show(v)
		}),
	})
}

func presenceSetCommand(a *command.App) *cobra.Command {
	var until, how string
	cmd := &cobra.Command{
		Use: "set PERSON ADDRESS", Short: "Say that a person is at an address, for a while", Args: command.Exactly("PERSON", "ADDRESS"),
		Example: `  widelark presence set "Kay Moran" 10.40.20.7 --until 8h --how "ward trolley"`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if until == "" {
				return command.Usagef("say until when, with --until: 8h, or a moment")
			}
			end, err := a.End(until)
			if err != nil {
				return err
			}
			made, err := api.SetPresenceWithResponse(cmd.Context(), client.SetPresenceInputBody{Person: args[0], Address: args[1], Until: end, How: command.Optional[string](how)})
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "%s is at %s %s.\n", command.OrEmpty(made.JSON200.Person.Name), made.JSON200.Address, a.EndText(made.JSON200.Until, command.Clock))
			return nil
		}),
	}
	cmd.Flags().StringVar(&until, "until", "", "a length of time (8h), the last day, or the moment; within seven days")
	cmd.Flags().StringVar(&how, "how", "", "who knows it")
	return cmd
}

func presenceEndCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "end ADDRESS", Short: "End the presence at an address now", Args: command.Exactly("ADDRESS"), Example: "  widelark presence end 10.40.20.7",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if _, err := api.EndPresenceWithResponse(cmd.Context(), &client.EndPresenceParams{Address: args[0]}); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Nobody is known to be at %s any more.\n", args[0])
			return nil
		}),
	}
}

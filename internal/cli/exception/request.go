package exception

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
)

// RequestCommand is `widelark request`.
func RequestCommand(a *command.App) *cobra.Command {
	cmd := command.Noun("request", "Requests: people who ask for a page that was refused", requestLsCommand(a), requestGrantCommand(a), requestRefuseCommand(a))
	cmd.Long = "People ask for access from the block page. A request is answered by the narrowest grant that lets them reach the page, in force at once, or by a refusal with a reason. " +
		"The page on which they asked shows the answer."
	cmd.Example = `  widelark request ls
  widelark request grant Q44JK7WT --until 2h
  widelark request refuse Q44JK7WT --why "Betting is never open on the ward"`
	return cmd
}

func requestLsCommand(a *command.App) *cobra.Command {
	var answered bool
	cmd := a.Reads(&cobra.Command{
		Use: "ls", Short: "Requests that wait for an answer", Args: command.Exactly(), Example: "  widelark request ls\n  widelark request ls --answered -o csv",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			answer, err := api.GetRequestsWithResponse(cmd.Context(), &client.GetRequestsParams{All: &answered})
			if err != nil {
				return err
			}
			v := command.View{Data: answer.JSON200.Requests, Columns: []string{"Reference", "When", "Who", "URL", "Needed for", "Refused by", "State"}, Empty: "No request waits."}
			for _, r := range answer.JSON200.Requests {
				who := command.OrEmpty(r.Address)
				if r.Person != nil {
					who = cmp.Or(command.OrEmpty(r.Person.Name), who)
				}
				v.Rows = append(v.Rows, []string{r.Reference, a.Moment(r.MadeAt), who, r.URL, r.Reason, r.By, string(r.State)})
			}
			return a.Show(v)
		}),
	})
	cmd.Flags().BoolVar(&answered, "answered", false, "those that are answered, too")
	return cmd
}

// requestNamed returns the request with a reference.
func requestNamed(ctx context.Context, api *client.ClientWithResponses, reference string) (client.AccessRequest, error) {
	everything, most := true, int64(500)
	answer, err := api.GetRequestsWithResponse(ctx, &client.GetRequestsParams{All: &everything, Limit: &most})
	if err != nil {
		return client.AccessRequest{}, err
	}
	for _, r := range answer.JSON200.Requests {
		if strings.EqualFold(r.Reference, reference) {
			return r, nil
		}
	}
	return client.AccessRequest{}, fmt.Errorf("there is no request %q; `widelark request ls` shows those that wait", reference)
}

func requestGrantCommand(a *command.App) *cobra.Command {
	var until, why string
	cmd := &cobra.Command{
		Use: "grant REFERENCE", Short: "Answer a request with the narrowest grant; it holds at once", Args: command.Exactly("REFERENCE"),
		Example: "  widelark request grant Q44JK7WT --until 2h",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if until == "" {
				return command.Usagef("say until when, with --until: 2h, 7d, 2026-11-28")
			}
			end, err := a.End(until)
			if err != nil {
				return err
			}
			r, err := requestNamed(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			done, err := api.GrantRequestWithResponse(cmd.Context(), r.ID, client.GrantRequestInputBody{Until: end, Answer: command.Optional[string](why)})
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "%s: %s\n", done.JSON200.URL, command.OrEmpty(done.JSON200.Answer))
			return nil
		}),
	}
	cmd.Flags().StringVar(&until, "until", "", "a length of time (2h, 7d), the last day, or the moment; within 90 days")
	cmd.Flags().StringVar(&why, "say", "", "what the asker reads; left out, until when it is allowed")
	return cmd
}

func requestRefuseCommand(a *command.App) *cobra.Command {
	var why string
	cmd := &cobra.Command{
		Use: "refuse REFERENCE", Short: "Answer a request with a refusal", Args: command.Exactly("REFERENCE"),
		Example: `  widelark request refuse Q44JK7WT --why "Betting is never open on the ward"`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if why == "" {
				return command.Usagef("say why, with --why; the asker reads it")
			}
			r, err := requestNamed(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			if _, err := api.RefuseRequestWithResponse(cmd.Context(), r.ID, client.RefuseRequestInputBody{Answer: why}); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Refused %s.\n", r.URL)
			return nil
		}),
	}
	cmd.Flags().StringVar(&why, "why", "", "the reason, which the asker reads")
	return cmd
}

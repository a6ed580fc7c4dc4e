package exception

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
	"widelark/internal/cli/object"
)

// RequestCommand is `widelark request`.
func RequestCommand(a *command.App) *cobra.Command {
	cmd := command.Noun("request", "Requests: people who ask for a page that was refused", requestLsCommand(a), requestGroupsCommand(a), requestShowCommand(a), requestGrantCommand(a), requestRefuseCommand(a), requestTimesCommand(a))
	cmd.Long = "People ask for access from the block page. A request is answered by the narrowest grant that lets them reach the page, in force at once, or by a refusal with a reason. " +
		"The page on which they asked shows the answer."
	cmd.Example = `  widelark request groups
  widelark request show Q44JK7WT
  widelark request grant Q44JK7WT --until 2h
  widelark request grant Q44JK7WT 7KJW44QT --group "Ward nurses" --until 1d
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

// requestsNamed returns the requests with references.
func requestsNamed(ctx context.Context, api *client.ClientWithResponses, references []string) (ids []string, err error) {
	for _, reference := range references {
		r, err := requestNamed(ctx, api, reference)
		if err != nil {
			return nil, err
		}
		ids = append(ids, r.ID.String())
	}
	return ids, nil
}

// answered says what became of requests.
func answered(a *command.App, all []client.AnsweredRequest) error {
	failed := 0
	for _, one := range all {
		if one.Request == nil {
			failed++
			fmt.Fprintf(a.Err, "%s: %s\n", one.ID, command.OrEmpty(one.Problem))
			continue
		}
		fmt.Fprintf(a.Out, "%s: %s\n", one.Request.URL, command.OrEmpty(one.Request.Answer))
	}
	if failed > 0 {
		return fmt.Errorf("%s not answered", command.Plural(int64(failed), "request was", "requests were"))
	}
	return nil
}

func requestGrantCommand(a *command.App) *cobra.Command {
	var until, why, group string
	cmd := &cobra.Command{
		Use: "grant REFERENCE...", Short: "Answer requests with the narrowest grants; they hold at once", Args: command.AtLeast("REFERENCE"),
		Long: "Answer requests with the narrowest grant for each asker. With --group, one grant is made for a group that all of them belong to.",
		Example: `  widelark request grant Q44JK7WT --until 2h
  widelark request grant Q44JK7WT 7KJW44QT --group "Ward nurses" --until 1d`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if until == "" {
				return command.Usagef("say until when, with --until: 2h, 7d, 2026-11-28")
			}
			end, err := a.End(until)
			if err != nil {
				return err
			}
			ids, err := requestsNamed(cmd.Context(), api, args)
			if err != nil {
				return err
			}
			body := client.GrantRequestsInputBody{Requests: ids, Until: end, Answer: command.Optional[string](why)}
			if group != "" {
				refs, err := object.References(cmd.Context(), api, object.Groups, []string{group})
				if err != nil {
					return err
				}
				body.Group = &refs[0].ID
			}
			done, err := api.GrantRequestsWithResponse(cmd.Context(), body)
			if err != nil {
				return err
			}
			return answered(a, done.JSON200.Answered)
		}),
	}
	cmd.Flags().StringVar(&until, "until", "", "a length of time (2h, 7d), the last day, or the moment; within 90 days")
	cmd.Flags().StringVar(&why, "say", "", "what the asker reads; left out, until when it is allowed")
	cmd.Flags().StringVar(&group, "group", "", "one grant for this group, to which all who asked belong")
	return cmd
}

func requestRefuseCommand(a *command.App) *cobra.Command {
	var why string
	cmd := &cobra.Command{
		Use: "refuse REFERENCE...", Short: "Answer requests with a refusal", Args: command.AtLeast("REFERENCE"),
		Example: `  widelark request refuse Q44JK7WT --why "Betting is never open on the ward"`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if why == "" {
				return command.Usagef("say why, with --why; the asker reads it")
			}
			ids, err := requestsNamed(cmd.Context(), api, args)
			if err != nil {
				return err
			}
			done, err := api.RefuseRequestsWithResponse(cmd.Context(), client.RefuseRequestsInputBody{Requests: ids, Answer: why})
			if err != nil {
				return err
			}
			return answered(a, done.JSON200.Answered)
		}),
	}
	cmd.Flags().StringVar(&why, "why", "", "the reason, which the asker reads")
	return cmd
}

func requestGroupsCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: "groups", Short: "Requests that wait, those for one site together", Args: command.Exactly(), Example: "  widelark request groups",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			found, err := api.GetRequestGroupsWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			v := command.View{Data: found.JSON200.Groups, Columns: []string{"Site", "Requests", "Waits since", "Refused by", "All are in", "References"}, Numbers: []int{1}, Empty: "No request waits."}
			for _, g := range found.JSON200.Groups {
				var references, shared []string
				for _, r := range g.Requests {
					references = append(references, r.Reference)
				}
				for _, ref := range g.Shared {
					shared = append(shared, command.Deref(ref.Name))
				}
				v.Rows = append(v.Rows, []string{g.Site, fmt.Sprint(len(g.Requests)), a.Moment(g.Requests[0].MadeAt), strings.Join(g.By, "; "), strings.Join(shared, ", "), strings.Join(references, " ")})
			}
			if command.Deref(found.JSON200.More) {
				fmt.Fprintln(a.Err, "More people wait than are shown: these are the 500 requests that were made last.")
			}
			return a.Show(v)
		}),
	})
}

func requestShowCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: "show REFERENCE", Short: "What a request is about, whom else it meets, and what would help", Args: command.Exactly("REFERENCE"), Example: "  widelark request show Q44JK7WT",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			r, err := requestNamed(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			found, err := api.GetRequestAdviceWithResponse(cmd.Context(), r.ID)
			if err != nil {
				return err
			}
			p := found.JSON200
			if a.Format != "table" {
				return a.Show(command.View{Data: p})
			}
			who := command.OrEmpty(p.Request.Address)
			if p.Request.Person != nil {
				who = cmp.Or(command.OrEmpty(p.Request.Person.Name), who)
			}
			var categories []string
			for _, c := range p.Categories {
				categories = append(categories, c.Name)
			}
			out := a.Out
			fmt.Fprintf(out, "%s asks for %s: %s\n", who, p.Request.URL, p.Request.Reason)
			fmt.Fprintf(out, "Now: %s. %s\n", p.Verdict, p.Because)
			fmt.Fprintf(out, "It is: %s.\n", cmp.Or(strings.Join(categories, ", "), "in no category"))
			fmt.Fprintf(out, "In the last week the site was refused %d times, to %d; %s for it.\n", p.Affected.Requests, p.Affected.People, command.Plural(p.Affected.Waiting, "request waits", "requests wait"))
			if len(p.Suggestions) > 0 {
				fmt.Fprintln(out, "What would help:")
			}
			for _, one := range p.Suggestions {
				fmt.Fprintln(out, "  "+one.Text)
			}
			return nil
		}),
	})
}

func requestTimesCommand(a *command.App) *cobra.Command {
	var days int64
	cmd := a.Reads(&cobra.Command{
		Use: "times", Short: "How long requests wait for an answer", Args: command.Exactly(), Example: "  widelark request times --days 7",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			found, err := api.GetRequestTimesWithResponse(cmd.Context(), &client.GetRequestTimesParams{Days: &days})
			if err != nil {
				return err
			}
			t := found.JSON200
			oldest := ""
			if t.Oldest != nil {
				oldest = a.Moment(*t.Oldest)
			}
			half, nine := "", ""
			if t.Granted+t.Refused > 0 {
				half, nine = fmt.Sprintf("%.0f min", t.Half), fmt.Sprintf("%.0f min", t.Nine)
			}
			return a.Show(command.View{
				Data: t, Columns: []string{"Open", "The oldest", "Granted", "Refused", "Half within", "Nine of ten within"}, Numbers: []int{0, 2, 3},
				Rows: [][]string{{fmt.Sprint(t.Open), oldest, fmt.Sprint(t.Granted), fmt.Sprint(t.Refused), half, nine}},
			})
		}),
	})
	cmd.Flags().Int64Var(&days, "days", 30, "of requests that were made in so many days")
	return cmd
}

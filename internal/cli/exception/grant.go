package exception

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
	"widelark/internal/cli/object"
	"widelark/internal/cli/question"
)

func GrantCommand(a *command.App) *cobra.Command {
	cmd := command.Noun("grant", "Grants: allowed at once and for some time, without publishing",
		grantReachCommand(a), grantNewCommand(a), grantLsCommand(a), grantEndCommand(a), grantKeepCommand(a))
	cmd.Long = "Grants allow something at once, for some people and some time. They stand beside what is published, count as exceptions do, and end by themselves; " +
		"the baseline stands before them. What is to hold for good is an exception, in the draft."
	cmd.Example = `  widelark grant reach oddsfield.example/today --as "Kay Moran" --until 2h --why "She checks a patient's complaint"
  widelark grant ls
  widelark grant end '=oddsfield.example'`
	return cmd
}

// grantFlags holds the flags of a grant: why, for how long and on whose request.
type grantFlags struct{ why, until, by string }

func (f *grantFlags) register(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.why, "why", "", "the reason")
	cmd.Flags().StringVar(&f.until, "until", "", "a length of time (2h, 7d), the last day, or the moment; within 90 days")
	cmd.Flags().StringVar(&f.by, "requested-by", "", "who asked for it")
}

// ask returns the body of the request, as far as the flags give it.
func (f *grantFlags) ask(a *command.App) (body client.NewGrantInputBody, err error) {
	switch {
	case f.why == "":
		return body, command.Usagef("say why, with --why")
	case f.until == "":
		return body, command.Usagef("say until when, with --until: 2h, 7d, 2026-11-28")
	}
	body.Reason, body.RequestedBy = f.why, command.Optional[string](f.by)
	body.Until, err = a.End(f.until)
	return body, err
}

func grantReachCommand(a *command.App) *cobra.Command {
	var f grantFlags
	var ask question.Circumstances
	cmd := &cobra.Command{
		Use: "reach URL", Short: "Let somebody reach a URL now, by the narrowest grant that does", Args: command.Exactly("URL"),
		Long: "Let somebody reach a URL now, through all gates. The service finds the narrowest entry that lets them: the page, what is below it, or the host. " +
			"Where the baseline stands before it, or they reach the URL already, it says so and changes nothing.",
		Example: `  widelark grant reach oddsfield.example/today --as "Kay Moran" --until 2h --why "She checks a patient's complaint"
  widelark grant reach encyclopaedia.example/heart --from 10.40.41.9 --until 1h --why "Ward round"`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			body, err := f.ask(a)
			if err != nil {
				return err
			}
			if ask.Nobody() {
				return command.Usagef("say who asks: --as, --group or --from")
			}
			who := ask.Who()
			body.URL, body.Who = &args[0], &who
			return grant(cmd.Context(), a, api, body)
		}),
	}
	ask.RegisterWho(cmd, "")
	f.register(cmd)
	return cmd
}

func grantNewCommand(a *command.App) *cobra.Command {
	var f grantFlags
	var persons, groups, networks, addresses []string
	var everybody bool
	cmd := &cobra.Command{
		Use: "new ENTRY...", Short: "Allow some URLs now, for some people and some time", Args: command.AtLeast("ENTRY"),
		Example: `  widelark grant new encyclopaedia.example/heart --network "Bedside screens" --until 1d --why "Cardiac ward asked"`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			body, err := f.ask(a)
			if err != nil {
				return err
			}
			whom, err := object.Whom(cmd.Context(), api, everybody, persons, groups, networks, addresses)
			if err != nil {
				return err
			}
			body.Entries, body.For = &args, &whom
			return grant(cmd.Context(), a, api, body)
		}),
	}
	flags := cmd.Flags()
	flags.BoolVar(&everybody, "everybody", false, "for everybody")
	flags.StringArrayVar(&persons, "person", nil, "a person whom it is for; give it again for more")
	flags.StringArrayVar(&groups, "group", nil, "a group whom it is for; give it again for more")
	flags.StringArrayVar(&networks, "network", nil, "a network whom it is for; give it again for more")
	flags.StringArrayVar(&addresses, "address", nil, "an address or a range whom it is for; give it again for more")
	f.register(cmd)
	return cmd
}

// grant creates a grant and prints it.
func grant(ctx context.Context, a *command.App, api *client.ClientWithResponses, body client.NewGrantInputBody) error {
	made, err := api.AddGrantWithResponse(ctx, body)
	if err != nil {
		return err
	}
	g := made.JSON201
	fmt.Fprintf(a.Out, "%s %s for %s %s. It holds now, without publishing.\n", a.Verdict("allow"), strings.Join(g.Entries, ", "), object.WhomText(g.For), a.EndText(g.Until, command.Clock))
	return nil
}

func grantLsCommand(a *command.App) *cobra.Command {
	var over bool
	cmd := &cobra.Command{
		Use: "ls", Short: "Grants that are in force", Args: command.Exactly(), Example: "  widelark grant ls --over -o csv > grants.csv",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := api.GetGrantsWithResponse(cmd.Context(), &client.GetGrantsParams{Over: &over})
			if err != nil {
				return err
			}
			v := command.View{Data: all.JSON200.Grants, Columns: []string{"Id", "State", "Covers", "For", "Until", "Made by", "Reason"}, Empty: "No grant is in force."}
			for _, g := range all.JSON200.Grants {
				until := a.Moment(g.Until)
				if a.Format == "table" {
					until = a.EndText(g.Until, "2006-01-02 15:04")
				}
				if g.EndedAt != nil {
					until = "ended " + a.Moment(*g.EndedAt)
				}
				v.Rows = append(v.Rows, []string{g.ID.String()[:8], string(g.State), strings.Join(g.Entries, ", "), object.WhomText(g.For), until, g.MadeBy, g.Reason})
			}
			return a.Show(v)
		}),
	}
	cmd.Flags().BoolVar(&over, "over", false, "those of the last 90 days that are over, too")
	return a.Reads(cmd)
}

// grantCalled returns the grant with an entry or with the beginning of an id. Grants that are over are found by id only.
func grantCalled(ctx context.Context, api *client.ClientWithResponses, called string) (client.Grant, error) {
	over := true
	all, err := api.GetGrantsWithResponse(ctx, &client.GetGrantsParams{Over: &over})
	if err != nil {
		return client.Grant{}, err
	}
	var found []client.Grant
	for _, g := range all.JSON200.Grants {
		byID := len(called) >= 4 && strings.HasPrefix(g.ID.String(), strings.ToLower(called))
		if byID || g.State == "in force" && strings.EqualFold(strings.Join(g.Entries, ", "), called) {
			found = append(found, g)
		}
	}
	switch len(found) {
	case 0:
		return client.Grant{}, fmt.Errorf("there is no grant %q; `widelark grant ls` lists those in force", called)
	case 1:
		return found[0], nil
	}
	return client.Grant{}, fmt.Errorf("%d grants are meant by %q: name one by its id, as `widelark grant ls` shows it", len(found), called)
}

func grantEndCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "end GRANT", Short: "End a grant now; it stays on record", Args: command.Exactly("GRANT"), Example: "  widelark grant end '=oddsfield.example'\n  widelark grant end 5f0c21aa",
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			g, err := grantCalled(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			if g.State == "over" {
				return fmt.Errorf("the grant of %s is over already", strings.Join(g.Entries, ", "))
			}
			if _, err := api.EndGrantWithResponse(cmd.Context(), g.ID); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Ended the grant of %s for %s.\n", strings.Join(g.Entries, ", "), object.WhomText(g.For))
			return nil
		}),
	}
}

func grantKeepCommand(a *command.App) *cobra.Command {
	var name string
	cmd := &cobra.Command{
		Use: "keep GRANT", Short: "Make an exception of the draft of a grant", Args: command.Exactly("GRANT"),
		Example: `  widelark grant keep '=oddsfield.example' --name "Odds for the ward"`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			g, err := grantCalled(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			kept, err := api.KeepGrantWithResponse(cmd.Context(), g.ID, client.KeepGrantInputBody{Name: command.Optional[string](name)})
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "The exception is called %q, and ends when the grant does; `widelark exception edit` sets another end.\nIt holds once the draft is published.\n", kept.JSON201.Name)
			return nil
		}),
	}
	cmd.Flags().StringVar(&name, "name", "", "what the exception is called; left out, it is made from the first entry")
	return cmd
}

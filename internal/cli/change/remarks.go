package change

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
)

// changed finds an object that differs from what is live, by its kind and name, as: policy Ward floor.
func changed(diff *client.DiffOutputBody, text string) (client.ObjectDifference, error) {
	kind, name, _ := strings.Cut(strings.TrimSpace(text), " ")
	for _, c := range diff.Changes {
		if string(c.Kind) == kind && strings.EqualFold(c.Name, strings.TrimSpace(name)) {
			return c, nil
		}
	}
	return client.ObjectDifference{}, fmt.Errorf("the draft has no change of the %s %q; `widelark diff` shows which there are", kind, strings.TrimSpace(name))
}

// draftDiff returns what the draft differs by from what is live.
func draftDiff(ctx context.Context, api *client.ClientWithResponses) (*client.DiffOutputBody, error) {
	from, to := "live", "draft"
	answer, err := api.GetDiffWithResponse(ctx, &client.GetDiffParams{From: &from, To: &to})
	if err != nil {
		return nil, err
	}
	return answer.JSON200, nil
}

func RemarkCommand(a *command.App) *cobra.Command {
	var about, ask string
	add := &cobra.Command{
		Use: "new TEXT", Short: "Say something of the draft, or ask somebody to look at it",
		Example: `  widelark remark new "Ferrow moved to another host" --about "list Supplier portals"
  widelark remark new "Please look before the night shift" --ask mara`,
		Args: command.Exactly("TEXT"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			body := client.AddRemarkInputBody{Text: args[0], Asks: command.Optional[string](ask)}
			if about != "" {
				diff, err := draftDiff(cmd.Context(), api)
				if err != nil {
					return err
				}
				c, err := changed(diff, about)
				if err != nil {
					return err
				}
				body.Object = &c.ID
			}
			made, err := api.AddRemarkWithResponse(cmd.Context(), body)
			if err != nil {
				return err
			}
			r := made.JSON201
			switch {
			case r.Asks == nil:
				fmt.Fprintf(a.Out, "Said, as number %d.\n", r.ID)
			case r.Link == nil:
				fmt.Fprintf(a.Out, "Asked %s, as number %d: it stands under Changes.\n", *r.Asks, r.ID)
			default:
				fmt.Fprintf(a.Out, "Asked %s, as number %d: %s\n", *r.Asks, r.ID, *r.Link)
			}
			return nil
		}),
	}
	add.Flags().StringVar(&about, "about", "", "the kind and the name of a changed object")
	add.Flags().StringVar(&ask, "ask", "", "the sign-in name of somebody who is asked to look")
	ls := a.Reads(&cobra.Command{
		Use: "ls", Short: "What people say of the draft, what is not done first", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := api.GetRemarksWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			v := command.View{Data: all.JSON200.Remarks, Columns: []string{"No.", "When", "By", "Asks", "About", "Remark", "Done"}, Empty: "Nobody has said anything of the draft."}
			for _, r := range all.JSON200.Remarks {
				about, done := "", ""
				if r.Object != nil {
					about = command.Deref(r.Object.Name)
				}
				if r.DoneAt != nil {
					done = fmt.Sprintf("%s, %s", command.Deref(r.DoneBy), a.ByClock(*r.DoneAt).Format(command.Clock))
				}
				v.Rows = append(v.Rows, []string{strconv.FormatInt(r.ID, 10), a.ByClock(r.At).Format(command.Clock), r.By, command.Deref(r.Asks), about, r.Text, done})
			}
			return a.Show(v)
		}),
	})
	done := &cobra.Command{
		Use: "done NUMBER", Short: "Say that a remark has been seen to", Example: "  widelark remark done 3", Args: command.Exactly("NUMBER"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil || id < 1 {
				return command.Usagef("%q is not the number of a remark; ls shows them", args[0])
			}
			r, err := api.EndRemarkWithResponse(cmd.Context(), id)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Seen to: %s\n", r.JSON200.Text)
			return nil
		}),
	}
	return command.Noun("remark", "What people say of the draft to each other, and whom they ask to look", ls, add, done)
}

func PracticeCommand(a *command.App) *cobra.Command {
	said := func(p *client.Practices) string {
		if p.SecondLook {
			return "What one person edited alone is published by another."
		}
		return "One person is enough to publish."
	}
	show := a.Reads(&cobra.Command{
		Use: "show", Short: "Show how changes go live", Example: "  widelark practice show", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			p, err := api.GetPracticesWithResponse(cmd.Context())
			if err != nil {
				return err
			}
			told := "Nobody is told of new requests by mail."
			if len(p.JSON200.DeskMail) > 0 {
				told = "Mail tells of new requests: " + strings.Join(p.JSON200.DeskMail, ", ")
			}
			return a.Show(command.View{Data: p.JSON200, Columns: []string{"Practice", "Since", "By"}, Rows: [][]string{{said(p.JSON200), a.ByClock(p.JSON200.UpdatedAt).Format(command.Clock), p.JSON200.UpdatedBy}, {told, "", ""}}})
		}),
	})
	set := &cobra.Command{
		Use: "second-look on|off", Short: "Whether what one person edited alone has to be published by another; for owners", Example: "  widelark practice second-look on", Args: command.Exactly("on|off"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if args[0] != "on" && args[0] != "off" {
				return command.Usagef("say on or off, and not %q", args[0])
			}
			p, err := api.PutPracticesWithResponse(cmd.Context(), client.PutPracticesInputBody{SecondLook: args[0] == "on"})
			if err != nil {
				return err
			}
			fmt.Fprintln(a.Out, said(p.JSON200))
			return nil
		}),
	}
	tell := &cobra.Command{
		Use: "desk-mail [ADDRESS...]", Short: "Whom mail tells of new requests; without an address, nobody; for owners", Example: "  widelark practice desk-mail desk@quillmere.example", Args: cobra.ArbitraryArgs,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if args == nil {
				args = []string{}
			}
			p, err := api.PutDeskMailWithResponse(cmd.Context(), client.PutDeskMailInputBody{Addresses: args})
			if err != nil {
				return err
			}
			if len(p.JSON200.DeskMail) == 0 {
				fmt.Fprintln(a.Out, "Nobody is told of new requests by mail.")
				return nil
			}
			fmt.Fprintf(a.Out, "Mail tells of new requests: %s\n", strings.Join(p.JSON200.DeskMail, ", "))
			return nil
		}),
	}
	return command.Noun("practice", "How changes go live here, and who is told of requests", show, set, tell)
}

// chosenOf returns the ids of changed objects, each named by its kind and name.
func chosenOf(diff *client.DiffOutputBody, only []string) ([]string, error) {
	var ids []string
	for _, text := range only {
		c, err := changed(diff, text)
		if err != nil {
			return nil, err
		}
		ids = append(ids, c.ID.String())
	}
	return ids, nil
}

// besides names what goes live beside what was chosen.
func besides(objects []client.Ref, chosen []string) (names []string) {
	for _, o := range objects {
		if id := o.ID; id != uuid.Nil {
			named := false
			for _, c := range chosen {
				named = named || c == id.String()
			}
			if !named {
				names = append(names, command.Deref(o.Name))
			}
		}
	}
	return names
}

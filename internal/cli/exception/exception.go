// Package exception implements the commands about exceptions and grants.
//
// From: arguments.
// To: the API, by package client.
package exception

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/core/pattern"
	"widelark/core/schedule"
	"widelark/internal/cli/command"
	"widelark/internal/cli/object"
)

func Command(a *command.App) *cobra.Command {
	cmd := command.Noun("exception", "Exceptions: for some people, some pages, some days",
		lsCommand(a), showCommand(a), newCommand(a), editCommand(a), endCommand(a), object.RemoveCommand(a, object.Exceptions))
	cmd.Example = `  widelark exception new ferrow-instruments.example --group "Records office" --until 2026-11-28 --why "Orders by Friday"
  widelark exception ls --ending 7d
  widelark exception end "Allow ferrow-instruments.example"`
	return cmd
}

func lsCommand(a *command.App) *cobra.Command {
	var ending string
	var hits *bool
	cmd := &cobra.Command{
		Use: "ls", Short: "All exceptions", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := object.Exceptions.List(cmd.Context(), api)
			if err != nil {
				return err
			}
			within, err := command.Duration(ending)
			if err != nil {
				return err
			}
			v := command.View{Columns: []string{"Name", "State", "Then", "Covers", "For", "Until", "Reason"}, Empty: "There are no such exceptions."}
			shown, keys := []client.Exception{}, []string{}
			for _, e := range all {
				if ending != "" && (e.Until == nil || e.State == "over" || time.Until(*e.Until) > within) {
					continue
				}
				until := "no end"
				if e.Until != nil {
					if until = a.Moment(*e.Until); a.Format == "table" {
						until = a.EndText(*e.Until, "2006-01-02 15:04")
					}
				}
				shown, keys = append(shown, e), append(keys, e.ID.String())
				v.Rows = append(v.Rows, []string{e.Name, string(e.State), a.VerdictCell(string(e.Then)), strings.Join(e.Entries, ", "), object.WhomText(e.For), until, e.Reason})
			}
			v.Data = shown
			if *hits {
				if err := a.AddHits(cmd.Context(), api, &v, client.GetUsageParamsKindException, "", keys); err != nil {
					return err
				}
			}
			return a.Show(v)
		}),
	}
	cmd.Flags().StringVar(&ending, "ending", "", "only those that end within so long, as 7d or 12h")
	hits = command.HitsFlag(cmd)
	return a.Reads(cmd)
}

// exceptionFlags holds the flags that describe an exception.
type exceptionFlags struct {
	name, why, from, until, by                    string
	entries, persons, groups, networks, addresses []string
	everybody, block, allow, off, on              bool
}

func (f *exceptionFlags) register(cmd *cobra.Command, edit bool) {
	flags := cmd.Flags()
	more := ""
	flags.BoolVar(&f.block, "block", false, "block instead of allowing")
	if edit {
		more = ", in place of all before"
		flags.BoolVar(&f.allow, "allow", false, "allow instead of blocking")
		flags.BoolVar(&f.off, "off", false, "switch it off without ending it")
		flags.BoolVar(&f.on, "on", false, "switch it on again")
		flags.StringArrayVar(&f.entries, "entry", nil, "an entry in the notation"+more+"; give it again for more")
	}
	flags.StringVar(&f.name, "name", "", "what it is called; left out, it is made from the first entry or stays")
	flags.StringVar(&f.why, "why", "", "the reason")
	flags.StringVar(&f.by, "requested-by", "", "who asked for it")
	flags.StringVar(&f.from, "from", "", "the first day or the moment; left out, now")
	flags.StringVar(&f.until, "until", "", "the last day, the moment, a length of time (7d), or none")
	flags.BoolVar(&f.everybody, "everybody", false, "for everybody"+more)
	flags.StringArrayVar(&f.persons, "person", nil, "a person whom it is for"+more+"; give it again for more")
	flags.StringArrayVar(&f.groups, "group", nil, "a group whom it is for"+more+"; give it again for more")
	flags.StringArrayVar(&f.networks, "network", nil, "a network whom it is for"+more+"; give it again for more")
	flags.StringArrayVar(&f.addresses, "address", nil, "an address or a range whom it is for"+more+"; give it again for more")
}

// whomGiven reports whether the flags say for whom the exception is.
func (f *exceptionFlags) whomGiven() bool {
	return f.everybody || len(f.persons)+len(f.groups)+len(f.networks)+len(f.addresses) > 0
}

// apply changes an exception according to the flags given.
func (f *exceptionFlags) apply(ctx context.Context, a *command.App, api *client.ClientWithResponses, changed func(string) bool, body *client.ExceptionInput) (err error) {
	switch {
	case f.block:
		body.Then = "block"
	case f.allow:
		body.Then = "allow"
	}
	if changed("entry") {
		body.Entries = f.entries
	}
	if f.off || f.on {
		body.Off = &f.off
	}
	body.Reason = cmp.Or(f.why, body.Reason)
	if f.name != "" {
		body.Name = &f.name
	}
	if f.by != "" {
		body.RequestedBy = &f.by
	}
	if f.whomGiven() {
		if body.For, err = object.Whom(ctx, api, f.everybody, f.persons, f.groups, f.networks, f.addresses); err != nil {
			return err
		}
	}
	if changed("from") {
		if body.From, err = begin(a, f.from); err != nil {
			return err
		}
	}
	switch {
	case f.until == "none":
		body.Until = nil
	case changed("until"):
		body.Until, err = a.End(f.until)
	}
	return err
}

// begin reads the moment at which something begins; a day means its first moment.
func begin(a *command.App, text string) (*time.Time, error) {
	day, err := pattern.ParseDate(text)
	if err != nil {
		return a.End(text)
	}
	zone, err := a.Zone()
	if err != nil {
		return nil, err
	}
	at := schedule.BeginOf(day, zone)
	return &at, nil
}

func newCommand(a *command.App) *cobra.Command {
	var f exceptionFlags
	cmd := &cobra.Command{
		Use: "new ENTRY...", Short: "Allow or block some URLs for some people, for some time", Args: command.AtLeast("ENTRY"),
		Long: "Make an exception. Entries are in the notation: =host/page is one page, host/page a page and what is below it, host a site. " +
			"It counts before policies and after the baseline: those that name the person first, then the address or network, then a group, then everybody.",
		Example: `  widelark exception new '=encyclopaedia.example/heart' --network "Bedside screens" --why "Cardiac ward asked" --until 7d
  widelark exception new webmail.example --block --group Trainees --why "Agreed with the lead"`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if f.why == "" {
				return command.Usagef("say why, with --why")
			}
			if !f.whomGiven() {
				return object.SaysForNobody
			}
			body := client.ExceptionInput{Entries: args, Then: "allow"}
			if err := f.apply(cmd.Context(), a, api, cmd.Flags().Changed, &body); err != nil {
				return err
			}
			made, err := api.AddExceptionWithResponse(cmd.Context(), body)
			if err != nil {
				return err
			}
			e := made.JSON201
			fmt.Fprintf(a.Out, "%s %s for %s%s.\nThe exception is called %q.\n", a.Verdict(string(e.Then)), strings.Join(e.Entries, ", "), object.WhomText(e.For), object.UntilText(a, *e), e.Name)
			return nil
		}),
	}
	f.register(cmd, false)
	return cmd
}

func editCommand(a *command.App) *cobra.Command {
	var f exceptionFlags
	cmd := &cobra.Command{
		Use: "edit NAME", Short: "Change an exception; what is not named stays", Args: command.Exactly("NAME"),
		Example: `  widelark exception edit "The page on tides" --until 2026-12-24
  widelark exception edit "The page on tides" --entry encyclopaedia.example/wiki --why "All of the lexicon"`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if cmd.Flags().NFlag() == 0 {
				return command.NothingToChange
			}
			if err := command.Apart(cmd, []string{"allow", "block"}, []string{"on", "off"}); err != nil {
				return err
			}
			e, err := object.Exceptions.Edit(cmd.Context(), api, args[0], func(body *client.ExceptionInput) error {
				return f.apply(cmd.Context(), a, api, cmd.Flags().Changed, body)
			})
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Changed the exception %q: %s %s for %s%s.\n", e.Name, a.Verdict(string(e.Then)), strings.Join(e.Entries, ", "), object.WhomText(e.For), object.UntilText(a, *e))
			return nil
		}),
	}
	f.register(cmd, true)
	return cmd
}

func endCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "end NAME", Short: "End an exception now; it stays on record", Args: command.Exactly("NAME"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			ended, err := object.Exceptions.Edit(cmd.Context(), api, args[0], func(body *client.ExceptionInput) error {
				now := time.Now()
				body.Until = &now
				if body.From != nil && !body.From.Before(now) { // it has never been in force
					body.From = nil
				}
				return nil
			})
			if err == nil {
				fmt.Fprintf(a.Out, "Ended %q.\n", ended.Name)
			}
			return err
		}),
	}
}

func showCommand(a *command.App) *cobra.Command {
	return object.ShowCommand(a, "exception", "What an exception does, for whom, until when and why", func(ctx context.Context, api *client.ClientWithResponses, name string) (s *object.Shown, err error) {
		e, err := object.Exceptions.Get(ctx, api, name)
		if err != nil {
			return s, err
		}
		from, until := "at once", "no end"
		if e.From != nil {
			from = a.ByClock(*e.From).Format(command.Clock)
		}
		if e.Until != nil {
			until = a.EndText(*e.Until, command.Clock)
		}
		return &object.Shown{ID: e.ID, Data: e, Fields: [][2]string{
			{"name", e.Name},
			{"state", string(e.State)},
			{"does", a.VerdictCell(string(e.Then))},
			{"covers", strings.Join(e.Entries, ", ")},
			{"for", object.WhomText(e.For)},
			{"from", from},
			{"until", until},
			{"reason", e.Reason},
			{"asked for by", command.OrEmpty(e.RequestedBy)},
			object.Edited(a, e.UpdatedBy, e.UpdatedAt),
		}}, nil
	})
}

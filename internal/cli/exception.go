package cli

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
)

func (a *app) exceptionCommand() *cobra.Command {
	cmd := noun("exception", "Exceptions: for some people, some pages, some days",
		a.exceptionLsCommand(), a.exceptionShowCommand(), a.exceptionNewCommand(), a.exceptionEditCommand(), a.exceptionEndCommand(), a.removeCommand(exceptionKind))
	cmd.Example = `  widelark exception new ferrow-instruments.example --group "Records office" --until 2026-11-28 --why "Orders by Friday"
  widelark exception ls --ending 7d
  widelark exception end "Allow ferrow-instruments.example"`
	return cmd
}

// whomSaid says for whom an exception is.
func whomSaid(w client.WhomBody) string {
	var parts []string
	if deref(w.Everybody) {
		parts = append(parts, "everybody")
	}
	for _, refs := range [][]client.Ref{deref(w.Persons), deref(w.Groups), deref(w.Networks)} {
		if names := namesOf(refs); names != "" {
			parts = append(parts, names)
		}
	}
	return strings.Join(append(parts, deref(w.Addresses)...), ", ")
}

// endSaid says until when something lasts, which is until a moment or through a day. Layout is for moments.
func (a *app) endSaid(end time.Time, layout string) string {
	end = a.byClock(end)
	if end.Equal(schedule.Today(end, end.Location())) {
		return "through " + end.Add(-time.Second).Format(strings.TrimSuffix(layout, " 15:04"))
	}
	return "until " + end.Format(layout)
}

// untilSaid says until when, and from when, an exception holds.
func (a *app) untilSaid(e client.Exception) string {
	said := ""
	if e.From != nil && e.State == "later" {
		said = " from " + a.byClock(*e.From).Format(clock)
	}
	if e.Until != nil {
		said += " " + a.endSaid(*e.Until, clock)
	}
	return said
}

func (a *app) exceptionLsCommand() *cobra.Command {
	var ending string
	cmd := &cobra.Command{
		Use: "ls", Short: "All exceptions", Args: exactly(),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := exceptionKind.list(cmd.Context(), api)
			if err != nil {
				return err
			}
			within, err := duration(ending)
			if err != nil {
				return err
			}
			v := view{columns: []string{"Name", "State", "Then", "Covers", "For", "Until", "Reason"}, empty: "There are no such exceptions."}
			shown := []client.Exception{}
			for _, e := range all {
				if ending != "" && (e.Until == nil || e.State == "over" || time.Until(*e.Until) > within) {
					continue
				}
				until := "no end"
				if e.Until != nil {
					if until = a.moment(*e.Until); a.format == "table" {
						until = a.endSaid(*e.Until, "2006-01-02 15:04")
					}
				}
				shown = append(shown, e)
				v.rows = append(v.rows, []string{e.Name, string(e.State), a.verdictCell(string(e.Then)), strings.Join(e.Entries, ", "), whomSaid(e.For), until, e.Reason})
			}
			v.data = shown
			return a.show(v)
		}),
	}
	cmd.Flags().StringVar(&ending, "ending", "", "only those that end within so long, as 7d or 12h")
	return a.reads(cmd)
}

// duration reads 90m, 12h, 7d and 2w.
func duration(text string) (time.Duration, error) {
	days := map[string]time.Duration{"d": 24 * time.Hour, "w": 7 * 24 * time.Hour}
	if text == "" {
		return 0, nil
	}
	if unit, ok := days[text[len(text)-1:]]; ok {
		var n float64
		if _, err := fmt.Sscanf(text[:len(text)-1], "%g", &n); err == nil && n > 0 {
			return time.Duration(n * float64(unit)), nil
		}
	}
	d, err := time.ParseDuration(text)
	if err != nil || d <= 0 {
		return 0, usagef("%q is no length of time, as 90m, 12h, 7d or 2w", text)
	}
	return d, nil
}

// end reads when something ends: a length of time from now, a day (which is its last), or a moment, by the clock of a zone.
func end(text string, zone *time.Location) (*time.Time, error) {
	if text == "" {
		return nil, nil
	}
	if day, err := pattern.ParseDate(text); err == nil {
		over := schedule.BeginOf(day.Add(1), zone)
		return &over, nil
	}
	for _, layout := range []string{time.RFC3339, "2006-01-02 15:04"} {
		if at, err := time.ParseInLocation(layout, text, zone); err == nil {
			return &at, nil
		}
	}
	d, err := duration(text)
	if err != nil {
		return nil, usagef("%q is neither a day (2026-11-28), a moment (2026-11-28 17:00) nor a length of time (7d)", text)
	}
	at := time.Now().Add(d)
	return &at, nil
}

// exceptionFlags are what say how an exception is to be.
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

// whomGiven reports whether it was said for whom the exception is.
func (f *exceptionFlags) whomGiven() bool {
	return f.everybody || len(f.persons)+len(f.groups)+len(f.networks)+len(f.addresses) > 0
}

// apply makes an exception as the flags that were given say.
func (f *exceptionFlags) apply(ctx context.Context, a *app, api *client.ClientWithResponses, changed func(string) bool, body *client.ExceptionInput) (err error) {
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
		if body.For, err = whom(ctx, api, f.everybody, f.persons, f.groups, f.networks, f.addresses); err != nil {
			return err
		}
	}
	if changed("from") {
		if body.From, err = a.begin(f.from); err != nil {
			return err
		}
	}
	switch {
	case f.until == "none":
		body.Until = nil
	case changed("until"):
		body.Until, err = a.end(f.until)
	}
	return err
}

// begin reads when something begins: a day begins at its beginning.
func (a *app) begin(text string) (*time.Time, error) {
	day, err := pattern.ParseDate(text)
	if err != nil {
		return a.end(text)
	}
	zone, err := a.zone()
	if err != nil {
		return nil, err
	}
	at := schedule.BeginOf(day, zone)
	return &at, nil
}

func (a *app) exceptionNewCommand() *cobra.Command {
	var f exceptionFlags
	cmd := &cobra.Command{
		Use: "new ENTRY...", Short: "Allow or block some URLs for some people, for some time", Args: atLeast("ENTRY"),
		Long: "Make an exception. Entries are in the notation: =host/page is one page, host/page a page and what is below it, host a site. " +
			"It counts before policies and after the baseline: those that name the person first, then the address or network, then a group, then everybody.",
		Example: `  widelark exception new '=encyclopaedia.example/heart' --network "Bedside screens" --why "Cardiac ward asked" --until 7d
  widelark exception new webmail.example --block --group Trainees --why "Agreed with the lead"`,
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if f.why == "" {
				return usagef("say why, with --why")
			}
			if !f.whomGiven() {
				return saysForNobody
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
			fmt.Fprintf(a.out, "%s %s for %s%s.\nThe exception is called %q.\n", a.verdict(string(e.Then)), strings.Join(e.Entries, ", "), whomSaid(e.For), a.untilSaid(*e), e.Name)
			return nil
		}),
	}
	f.register(cmd, false)
	return cmd
}

func (a *app) exceptionEditCommand() *cobra.Command {
	var f exceptionFlags
	cmd := &cobra.Command{
		Use: "edit NAME", Short: "Change an exception; what is not named stays", Args: exactly("NAME"),
		Example: `  widelark exception edit "The page on tides" --until 2026-12-24
  widelark exception edit "The page on tides" --entry encyclopaedia.example/wiki --why "All of the lexicon"`,
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if cmd.Flags().NFlag() == 0 {
				return nothingToChange
			}
			if err := apart(cmd, []string{"allow", "block"}, []string{"on", "off"}); err != nil {
				return err
			}
			e, err := exceptionKind.edit(cmd.Context(), api, args[0], func(body *client.ExceptionInput) error {
				return f.apply(cmd.Context(), a, api, cmd.Flags().Changed, body)
			})
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Changed the exception %q: %s %s for %s%s.\n", e.Name, a.verdict(string(e.Then)), strings.Join(e.Entries, ", "), whomSaid(e.For), a.untilSaid(*e))
			return nil
		}),
	}
	f.register(cmd, true)
	return cmd
}

// saysForNobody is the error of a command that has to say whom something is for.
var saysForNobody = usagef("say for whom: --person, --group, --network, --address or --everybody")

func whom(ctx context.Context, api *client.ClientWithResponses, everybody bool, persons, groups, networks, addresses []string) (w client.WhomBody, err error) {
	if everybody {
		w.Everybody = &everybody
	}
	for _, part := range []struct {
		kind  kind
		names []string
		into  **[]client.Ref
	}{{personKind, persons, &w.Persons}, {groupKind, groups, &w.Groups}, {networkKind, networks, &w.Networks}} {
		if len(part.names) > 0 {
			refs, err := references(ctx, api, part.kind, part.names)
			if err != nil {
				return w, err
			}
			*part.into = &refs
		}
	}
	if len(addresses) > 0 {
		w.Addresses = &addresses
	}
	if !everybody && len(persons)+len(groups)+len(networks)+len(addresses) == 0 {
		return w, saysForNobody
	}
	return w, nil
}

func (a *app) exceptionEndCommand() *cobra.Command {
	return &cobra.Command{
		Use: "end NAME", Short: "End an exception now; it stays on record", Args: exactly("NAME"),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			ended, err := exceptionKind.edit(cmd.Context(), api, args[0], func(body *client.ExceptionInput) error {
				now := time.Now()
				body.Until = &now
				if body.From != nil && !body.From.Before(now) { // it never began
					body.From = nil
				}
				return nil
			})
			if err == nil {
				fmt.Fprintf(a.out, "Ended %q.\n", ended.Name)
			}
			return err
		}),
	}
}

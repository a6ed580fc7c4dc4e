package object

import (
	"context"
	"strings"

	"widelark/client"
	"widelark/internal/cli/command"
)

// WhomText returns for whom an exception is, in words.
func WhomText(w client.WhomBody) string {
	var parts []string
	if command.Deref(w.Everybody) {
		parts = append(parts, "everybody")
	}
	for _, refs := range [][]client.Ref{command.Deref(w.Persons), command.Deref(w.Groups), command.Deref(w.Networks)} {
		if names := NamesOf(refs); names != "" {
			parts = append(parts, names)
		}
	}
	return strings.Join(append(parts, command.Deref(w.Addresses)...), ", ")
}

// SaysForNobody is the error of a command without the flags that say for whom something is.
var SaysForNobody = command.Usagef("say for whom: --person, --group, --network, --address or --everybody")

// Whom returns for whom something is, given names.
func Whom(ctx context.Context, api *client.ClientWithResponses, everybody bool, persons, groups, networks, addresses []string) (w client.WhomBody, err error) {
	if everybody {
		w.Everybody = &everybody
	}
	for _, part := range []struct {
		kind  Kind
		names []string
		into  **[]client.Ref
	}{{Persons, persons, &w.Persons}, {Groups, groups, &w.Groups}, {Networks, networks, &w.Networks}} {
		if len(part.names) > 0 {
			refs, err := References(ctx, api, part.kind, part.names)
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
		return w, SaysForNobody
	}
	return w, nil
}

// UntilText returns from when and until when an exception holds, in words.
func UntilText(a *command.App, e client.Exception) string {
	said := ""
	if e.From != nil && e.State == "later" {
		said = " from " + a.ByClock(*e.From).Format(command.Clock)
	}
	if e.Until != nil {
		said += " " + a.EndText(*e.Until, command.Clock)
	}
	return said
}

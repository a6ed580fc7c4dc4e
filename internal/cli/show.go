package cli

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"widelark/client"
)

// shown is an object with what is told of it in words.
type shown struct {
	id     uuid.UUID
	data   any
	fields [][2]string // names and values; those without a value are passed over in tables
}

// showCommand tells one object, and where it is used.
func (a *app) showCommand(noun, short string, get func(ctx context.Context, api *client.ClientWithResponses, name string) (*shown, error)) *cobra.Command {
	return a.reads(&cobra.Command{
		Use: "show NAME", Short: short, Args: exactly("NAME"),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			found, err := get(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			if a.format != "table" {
				v := view{data: found.data, rows: [][]string{nil}}
				for _, f := range found.fields {
					v.columns, v.rows[0] = append(v.columns, f[0]), append(v.rows[0], f[1])
				}
				return a.show(v)
			}
			if noun != "exception" { // nothing refers to exceptions
				uses, err := api.GetUsesWithResponse(cmd.Context(), &client.GetUsesParams{Kind: client.GetUsesParamsKind(noun), ID: found.id})
				if err != nil {
					return err
				}
				found.fields = append(found.fields, [2]string{"used by", usersSaid(uses.JSON200.Uses)})
			}
			widest := 0
			for _, f := range found.fields[1:] {
				if f[1] != "" {
					widest = max(widest, len(f[0]))
				}
			}
			fmt.Fprintf(a.out, "%s\n\n", found.fields[0][1]) // the name
			for _, f := range found.fields[1:] {
				if f[1] != "" {
					fmt.Fprintf(a.out, "  %-*s  %s\n", widest, f[0], strings.TrimLeft(a.wrapped(f[1], widest+4), " "))
				}
			}
			return nil
		}),
	})
}

// usersSaid names what refers to an object, the first few of each kind. People who are in a group are no use of it.
func usersSaid(uses []client.ObjectUse) string {
	const most = 4
	var said []string
	count := map[string]int{}
	for i, u := range uses {
		if u.Kind == "person" {
			continue
		}
		if count[u.Kind]++; count[u.Kind] <= most {
			said = append(said, fmt.Sprintf("the %s %q", u.Kind, u.Name))
		}
		if last := i == len(uses)-1 || uses[i+1].Kind != u.Kind; last && count[u.Kind] > most {
			said = append(said, fmt.Sprintf("%d more", count[u.Kind]-most))
		}
	}
	return cmp.Or(strings.Join(said, ", "), "nothing")
}

// edited tells who changed an object last.
func (a *app) edited(by string, at time.Time) [2]string {
	return [2]string{"changed", fmt.Sprintf("by %s, %s", by, a.moment(at))}
}

func (a *app) personShowCommand() *cobra.Command {
	return a.showCommand("person", "Who somebody is; `widelark who` says what is for them", func(ctx context.Context, api *client.ClientWithResponses, name string) (s *shown, err error) {
		p, err := personKind.get(ctx, api, name)
		if err != nil {
			return s, err
		}
		return &shown{id: p.ID, data: p, fields: [][2]string{
			{"name", p.Name}, {"full name", p.FullName}, {"groups", namesOf(p.Groups)}, {"mail", orEmpty(p.Mail)}, {"in the file", orEmpty(p.Key)}, a.edited(p.UpdatedBy, p.UpdatedAt),
		}}, nil
	})
}

func (a *app) groupShowCommand() *cobra.Command {
	return a.showCommand("group", "Who is in a group, and what is for it", func(ctx context.Context, api *client.ClientWithResponses, name string) (s *shown, err error) {
		g, err := groupKind.get(ctx, api, name)
		if err != nil {
			return s, err
		}
		lead := ""
		if g.Lead != nil {
			lead = orEmpty(g.Lead.Name)
		}
		return &shown{id: g.ID, data: g, fields: [][2]string{
			{"name", g.Name},
			{"about", orEmpty(g.Description)},
			{"people", fmt.Sprint(g.Persons)},
			{"groups in it", namesOf(g.Groups)},
			{"networks", namesOf(g.Networks)},
			{"machines", namesOf(g.Machines)},
			{"ranges", strings.Join(g.Ranges, ", ")},
			{"within", namesOf(g.Within)},
			{"led by", lead},
			{"policies", namesOf(g.Policies)},
			a.edited(g.UpdatedBy, g.UpdatedAt),
		}}, nil
	})
}

func (a *app) networkShowCommand() *cobra.Command {
	return a.showCommand("network", "The ranges of a network", func(ctx context.Context, api *client.ClientWithResponses, name string) (s *shown, err error) {
		n, err := networkKind.get(ctx, api, name)
		return &shown{id: n.ID, data: n, fields: [][2]string{{"name", n.Name}, {"about", orEmpty(n.Description)}, {"ranges", strings.Join(n.Ranges, ", ")}, a.edited(n.UpdatedBy, n.UpdatedAt)}}, err
	})
}

func (a *app) machineShowCommand() *cobra.Command {
	return a.showCommand("machine", "Where a machine is", func(ctx context.Context, api *client.ClientWithResponses, name string) (s *shown, err error) {
		m, err := machineKind.get(ctx, api, name)
		return &shown{id: m.ID, data: m, fields: [][2]string{{"name", m.Name}, {"about", orEmpty(m.Description)}, {"address", m.Address}, a.edited(m.UpdatedBy, m.UpdatedAt)}}, err
	})
}

func (a *app) exceptionShowCommand() *cobra.Command {
	return a.showCommand("exception", "What an exception does, for whom, until when and why", func(ctx context.Context, api *client.ClientWithResponses, name string) (s *shown, err error) {
		e, err := exceptionKind.get(ctx, api, name)
		if err != nil {
			return s, err
		}
		from, until := "at once", "no end"
		if e.From != nil {
			from = a.byClock(*e.From).Format(clock)
		}
		if e.Until != nil {
			until = a.endSaid(*e.Until, clock)
		}
		return &shown{id: e.ID, data: e, fields: [][2]string{
			{"name", e.Name},
			{"state", string(e.State)},
			{"does", a.verdictCell(string(e.Then))},
			{"covers", strings.Join(e.Entries, ", ")},
			{"for", whomSaid(e.For)},
			{"from", from},
			{"until", until},
			{"reason", e.Reason},
			{"asked for by", orEmpty(e.RequestedBy)},
			a.edited(e.UpdatedBy, e.UpdatedAt),
		}}, nil
	})
}

func (a *app) appShowCommand() *cobra.Command {
	return a.showCommand("app", "The hosts of an app, and what is done there", func(ctx context.Context, api *client.ClientWithResponses, name string) (s *shown, err error) {
		found, err := appKind.get(ctx, api, name)
		if err != nil {
			return s, err
		}
		var done []string
		for _, act := range found.Activities {
			said := act.Name + " (" + orEmpty(found.Key) + "/" + act.Key + ")"
			if methods := deref(act.Methods); len(methods) > 0 {
				said += ": " + strings.Join(methods, " or ")
			}
			if paths := deref(act.Paths); len(paths) > 0 {
				said += " on " + strings.Join(paths, ", ")
			}
			done = append(done, said)
		}
		return &shown{id: found.ID, data: found, fields: [][2]string{
			{"name", found.Name},
			{"about", orEmpty(found.Description)},
			{"key", orEmpty(found.Key)},
			{"hosts", strings.Join(found.Hosts, ", ")},
			{"done there", strings.Join(done, "; ")},
			a.edited(found.UpdatedBy, found.UpdatedAt),
		}}, nil
	})
}

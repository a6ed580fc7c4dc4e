package people

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

func personShowCommand(a *command.App) *cobra.Command {
	return object.ShowCommand(a, "person", "Who somebody is; `widelark who` says what is for them", func(ctx context.Context, api *client.ClientWithResponses, name string) (s *object.Shown, err error) {
		p, err := object.Persons.Get(ctx, api, name)
		if err != nil {
			return s, err
		}
		return &object.Shown{ID: p.ID, Data: p, Fields: [][2]string{
			{"name", p.Name}, {"full name", p.FullName}, {"groups", object.NamesOf(p.Groups)}, {"mail", command.OrEmpty(p.Mail)}, {"in the file", command.OrEmpty(p.Key)}, object.Edited(a, p.UpdatedBy, p.UpdatedAt),
		}}, nil
	})
}

func groupShowCommand(a *command.App) *cobra.Command {
	return object.ShowCommand(a, "group", "Who is in a group, and what is for it", func(ctx context.Context, api *client.ClientWithResponses, name string) (s *object.Shown, err error) {
		g, err := object.Groups.Get(ctx, api, name)
		if err != nil {
			return s, err
		}
		lead := ""
		if g.Lead != nil {
			lead = command.OrEmpty(g.Lead.Name)
		}
		return &object.Shown{ID: g.ID, Data: g, Fields: [][2]string{
			{"name", g.Name},
			{"about", command.OrEmpty(g.Description)},
			{"people", fmt.Sprint(g.Persons)},
			{"groups in it", object.NamesOf(g.Groups)},
			{"networks", object.NamesOf(g.Networks)},
			{"machines", object.NamesOf(g.Machines)},
			{"ranges", strings.Join(g.Ranges, ", ")},
			{"within", object.NamesOf(g.Within)},
			{"led by", lead},
			{"policies", object.NamesOf(g.Policies)},
			object.Edited(a, g.UpdatedBy, g.UpdatedAt),
		}}, nil
	})
}

func networkShowCommand(a *command.App) *cobra.Command {
	return object.ShowCommand(a, "network", "The ranges of a network", func(ctx context.Context, api *client.ClientWithResponses, name string) (s *object.Shown, err error) {
		n, err := object.Networks.Get(ctx, api, name)
		return &object.Shown{ID: n.ID, Data: n, Fields: [][2]string{{"name", n.Name}, {"about", command.OrEmpty(n.Description)}, {"ranges", strings.Join(n.Ranges, ", ")}, {"meets", networkWay(n)}, {"shared", map[bool]string{true: "many clients stand behind one address"}[command.Deref(n.Shared)]}, object.Edited(a, n.UpdatedBy, n.UpdatedAt)}}, err
	})
}

// networkWay returns how the clients of a network come to the gates; "" where the network says nothing.
func networkWay(n client.Network) string {
	var parts []string
	if n.Way != nil {
		parts = append(parts, question.WayText(*n.Way))
	}
	if n.Sends != nil {
		parts = append(parts, "sent: "+string(*n.Sends))
	}
	if n.SignIn != nil && *n.SignIn != "unknown" {
		parts = append(parts, "signs in: "+string(*n.SignIn))
	}
	if command.Deref(n.Distrusts) {
		parts = append(parts, "trusts no authority of the gates")
	}
	return strings.Join(parts, "; ")
}

func machineShowCommand(a *command.App) *cobra.Command {
	return object.ShowCommand(a, "machine", "Where a machine is", func(ctx context.Context, api *client.ClientWithResponses, name string) (s *object.Shown, err error) {
		m, err := object.Machines.Get(ctx, api, name)
		return &object.Shown{ID: m.ID, Data: m, Fields: [][2]string{{"name", m.Name}, {"about", command.OrEmpty(m.Description)}, {"address", m.Address}, object.Edited(a, m.UpdatedBy, m.UpdatedAt)}}, err
	})
}

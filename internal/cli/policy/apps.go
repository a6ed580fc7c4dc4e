package policy

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
	"widelark/internal/cli/object"
)

func AppCommand(a *command.App) *cobra.Command {
	ls := a.Reads(&cobra.Command{
		Use: "ls", Short: "All apps, and what is done with them", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := object.Apps.List(cmd.Context(), api)
			if err != nil {
				return err
			}
			v := command.View{Data: all, Columns: []string{"Name", "Key", "Hosts", "Activity", "Methods", "Paths"}}
			for _, app := range all {
				row := []string{app.Name, command.OrEmpty(app.Key), strings.Join(app.Hosts, ", "), "", "", ""}
				for _, act := range app.Activities {
					row[3], row[4], row[5] = command.OrEmpty(app.Key)+"/"+act.Key, strings.Join(command.Deref(act.Methods), ", "), strings.Join(command.Deref(act.Paths), ", ")
					v.Rows = append(v.Rows, row)
					row = make([]string, 6)
				}
				if len(app.Activities) == 0 {
					v.Rows = append(v.Rows, row)
				}
			}
			return a.Show(v)
		}),
	})
	var about string
	var activities []string
	add := &cobra.Command{
		Use: "new NAME HOST...", Short: "Add an app", Args: command.AtLeast("NAME", "HOST"),
		Example: `  widelark app new Sharebay sharebay.example --activity 'upload:POST,PUT:/up,/files/*/add'`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			body := client.AppInput{Name: args[0], Hosts: args[1:], Description: &about, Activities: []client.ActivityBody{}}
			for _, said := range activities {
				body.Activities = append(body.Activities, activity(said))
			}
			made, err := api.AddAppWithResponse(cmd.Context(), body)
			if err == nil {
				fmt.Fprintf(a.Out, "Added the app %q; rules call it %s.\n", made.JSON201.Name, command.OrEmpty(made.JSON201.Key))
			}
			return err
		}),
	}
	add.Flags().StringVar(&about, "describe", "", "what it is")
	add.Flags().StringArrayVar(&activities, "activity", nil, "something it is used for, as NAME:METHOD,METHOD:/path,/path; give it again for more")
	return command.Noun("app", "Apps: named sets of hosts, and what is done there", ls, appShowCommand(a), add, appEditCommand(a), object.RemoveCommand(a, object.Apps))
}

// activity reads NAME:METHOD,METHOD:/path,/path.
func activity(said string) client.ActivityBody {
	name, rest, _ := strings.Cut(said, ":")
	methods, paths, _ := strings.Cut(rest, ":")
	act := client.ActivityBody{Name: name} // the service makes the key from the name
	if methods != "" {
		some := strings.Split(methods, ",")
		act.Methods = &some
	}
	if paths != "" {
		some := strings.Split(paths, ",")
		act.Paths = &some
	}
	return act
}

// appFlags holds the flags that describe an app.
type appFlags struct {
	name, about                              string
	hosts, noHosts, activities, noActivities []string
}

func (f *appFlags) register(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringVar(&f.name, "name", "", "the new name; rules go on calling it by its key")
	flags.StringVar(&f.about, "describe", "", "what it is")
	flags.StringArrayVar(&f.hosts, "add-host", nil, "an entry in the notation; give it again for more")
	flags.StringArrayVar(&f.noHosts, "drop-host", nil, "an entry that goes; give it again for more")
	flags.StringArrayVar(&f.activities, "activity", nil, "something it is used for, new or in place of what it was, as NAME:METHOD,METHOD:/path,/path; give it again for more")
	flags.StringArrayVar(&f.noActivities, "drop-activity", nil, "the key of one that goes; give it again for more")
}

// apply changes an app according to the flags given.
func (f *appFlags) apply(changed func(string) bool, body *client.AppInput) error {
	was := body.Name
	if f.name != "" {
		body.Name = f.name
	}
	if changed("describe") {
		body.Description = &f.about
	}
	left, err := withoutHosts(was, body.Hosts, f.noHosts)
	if err != nil {
		return err
	}
	body.Hosts = append(left, f.hosts...)
	for _, key := range f.noActivities {
		at := slices.IndexFunc(body.Activities, func(act client.ActivityBody) bool { return act.Key == key })
		if at < 0 {
			return command.Usagef("%s has no activity with the key %q; `widelark app ls` shows them", was, key)
		}
		body.Activities = slices.Delete(body.Activities, at, at+1)
	}
	for _, said := range f.activities {
		act := activity(said)
		if at := slices.IndexFunc(body.Activities, func(old client.ActivityBody) bool { return strings.EqualFold(old.Name, act.Name) }); at >= 0 {
			act.Key = body.Activities[at].Key
			body.Activities[at] = act
		} else {
			body.Activities = append(body.Activities, act)
		}
	}
	return nil
}

func appEditCommand(a *command.App) *cobra.Command {
	var f appFlags
	cmd := &cobra.Command{
		Use: "edit NAME", Short: "Change an app: its hosts, and what is done there", Args: command.Exactly("NAME"),
		Example: `  widelark app edit Sharebay --add-host sharebay.test --activity 'delete:DELETE:/files'
  widelark app edit Sharebay --drop-activity download`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if cmd.Flags().NFlag() == 0 {
				return command.NothingToChange
			}
			kept, err := object.Apps.Edit(cmd.Context(), api, args[0], func(body *client.AppInput) error { return f.apply(cmd.Flags().Changed, body) })
			if err == nil {
				fmt.Fprintf(a.Out, "Changed the app %q.\n", kept.Name)
			}
			return err
		}),
	}
	f.register(cmd)
	return cmd
}

func appShowCommand(a *command.App) *cobra.Command {
	return object.ShowCommand(a, "app", "The hosts of an app, and what is done there", func(ctx context.Context, api *client.ClientWithResponses, name string) (s *object.Shown, err error) {
		found, err := object.Apps.Get(ctx, api, name)
		if err != nil {
			return s, err
		}
		var done []string
		for _, act := range found.Activities {
			said := act.Name + " (" + command.OrEmpty(found.Key) + "/" + act.Key + ")"
			if methods := command.Deref(act.Methods); len(methods) > 0 {
				said += ": " + strings.Join(methods, " or ")
			}
			if paths := command.Deref(act.Paths); len(paths) > 0 {
				said += " on " + strings.Join(paths, ", ")
			}
			done = append(done, said)
		}
		return &object.Shown{ID: found.ID, Data: found, Fields: [][2]string{
			{"name", found.Name},
			{"about", command.OrEmpty(found.Description)},
			{"key", command.OrEmpty(found.Key)},
			{"hosts", strings.Join(found.Hosts, ", ")},
			{"done there", strings.Join(done, "; ")},
			object.Edited(a, found.UpdatedBy, found.UpdatedAt),
		}}, nil
	})
}

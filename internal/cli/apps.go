package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"widelark/client"
)

func (a *app) appCommand() *cobra.Command {
	ls := a.reads(&cobra.Command{
		Use: "ls", Short: "All apps, and what is done with them", Args: exactly(),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := appKind.list(cmd.Context(), api)
			if err != nil {
				return err
			}
			v := view{data: all, columns: []string{"Name", "Key", "Hosts", "Activity", "Methods", "Paths"}}
			for _, app := range all {
				row := []string{app.Name, orEmpty(app.Key), strings.Join(app.Hosts, ", "), "", "", ""}
				for _, act := range app.Activities {
					row[3], row[4], row[5] = orEmpty(app.Key)+"/"+act.Key, strings.Join(deref(act.Methods), ", "), strings.Join(deref(act.Paths), ", ")
					v.rows = append(v.rows, row)
					row = make([]string, 6)
				}
				if len(app.Activities) == 0 {
					v.rows = append(v.rows, row)
				}
			}
			return a.show(v)
		}),
	})
	var about string
	var activities []string
	add := &cobra.Command{
		Use: "new NAME HOST...", Short: "Add an app", Args: atLeast("NAME", "HOST"),
		Example: `  widelark app new Sharebay sharebay.example --activity 'upload:POST,PUT:/up,/files/*/add'`,
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			body := client.AppInput{Name: args[0], Hosts: args[1:], Description: &about, Activities: []client.ActivityBody{}}
			for _, said := range activities {
				body.Activities = append(body.Activities, activity(said))
			}
			made, err := api.AddAppWithResponse(cmd.Context(), body)
			if err == nil {
				fmt.Fprintf(a.out, "Added the app %q; rules call it %s.\n", made.JSON201.Name, orEmpty(made.JSON201.Key))
			}
			return err
		}),
	}
	add.Flags().StringVar(&about, "describe", "", "what it is")
	add.Flags().StringArrayVar(&activities, "activity", nil, "something it is used for, as NAME:METHOD,METHOD:/path,/path; give it again for more")
	return noun("app", "Apps: named sets of hosts, and what is done there", ls, a.appShowCommand(), add, a.appEditCommand(), a.removeCommand(appKind))
}

// activity reads NAME:METHOD,METHOD:/path,/path.
func activity(said string) client.ActivityBody {
	name, rest, _ := strings.Cut(said, ":")
	methods, paths, _ := strings.Cut(rest, ":")
	act := client.ActivityBody{Name: name} // its key is made from the name
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

// appFlags say what changes about an app.
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

// apply changes an app as the flags that were given say.
func (f *appFlags) apply(changed func(string) bool, body *client.AppInput) error {
	was := body.Name
	if f.name != "" {
		body.Name = f.name
	}
	if changed("describe") {
		body.Description = &f.about
	}
	for _, host := range f.noHosts {
		at := slices.Index(body.Hosts, host)
		if at < 0 {
			return usagef("%s has no host %q, but %s", was, host, strings.Join(body.Hosts, ", "))
		}
		body.Hosts = slices.Delete(body.Hosts, at, at+1)
	}
	body.Hosts = append(body.Hosts, f.hosts...)
	for _, key := range f.noActivities {
		at := slices.IndexFunc(body.Activities, func(act client.ActivityBody) bool { return act.Key == key })
		if at < 0 {
			return usagef("%s has no activity with the key %q; `widelark app ls` shows them", was, key)
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

func (a *app) appEditCommand() *cobra.Command {
	var f appFlags
	cmd := &cobra.Command{
		Use: "edit NAME", Short: "Change an app: its hosts, and what is done there", Args: exactly("NAME"),
		Example: `  widelark app edit Sharebay --add-host sharebay.test --activity 'delete:DELETE:/files'
  widelark app edit Sharebay --drop-activity download`,
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if cmd.Flags().NFlag() == 0 {
				return nothingToChange
			}
			kept, err := appKind.edit(cmd.Context(), api, args[0], func(body *client.AppInput) error { return f.apply(cmd.Flags().Changed, body) })
			if err == nil {
				fmt.Fprintf(a.out, "Changed the app %q.\n", kept.Name)
			}
			return err
		}),
	}
	f.register(cmd)
	return cmd
}

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

func EngineCommand(a *command.App) *cobra.Command {
	ls := a.Reads(&cobra.Command{
		Use: "ls", Short: "All search engines, and what makes their answers safe", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := object.Engines.List(cmd.Context(), api)
			if err != nil {
				return err
			}
			v := command.View{Data: all, Columns: []string{"Name", "Hosts", "Words in", "Safe by"}}
			for _, e := range all {
				v.Rows = append(v.Rows, []string{e.Name, strings.Join(e.Hosts, ", "), strings.Join(command.Deref(e.Words), ", "), safeText(e.Safe)})
			}
			return a.Show(v)
		}),
	})
	show := object.ShowCommand(a, "engine", "Where a search engine is, how it is asked, and what makes its answers safe", func(ctx context.Context, api *client.ClientWithResponses, name string) (s *object.Shown, err error) {
		e, err := object.Engines.Get(ctx, api, name)
		if err != nil {
			return s, err
		}
		return &object.Shown{ID: e.ID, Data: e, Fields: [][2]string{
			{"name", e.Name},
			{"about", command.OrEmpty(e.Description)},
			{"hosts", strings.Join(e.Hosts, ", ")},
			{"words in", wordsText(e.Words)},
			{"safe by", safeText(e.Safe)},
			object.Edited(a, e.UpdatedBy, e.UpdatedAt),
		}}, nil
	})
	return command.Noun("engine", "Search engines: where safe search can be held, and how", ls, show, engineNewCommand(a), engineEditCommand(a), object.RemoveCommand(a, object.Engines))
}

func wordsText(words *[]string) string {
	if len(command.Deref(words)) == 0 {
		return "the parameters that usually hold them, as q"
	}
	return strings.Join(*words, ", ")
}

func safeText(s *client.SafeBody) string {
	if s == nil {
		return "nothing"
	}
	switch name := command.OrEmpty(s.Name); s.By {
	case "parameter":
		return "the parameter " + name + "=" + s.Value
	case "header":
		return "the header " + name + ": " + s.Value
	}
	return "the host " + s.Value
}

// engineFlags holds the flags that describe a search engine.
type engineFlags struct {
	about                   string
	words                   []string
	parameter, header, host string
	unsafe                  bool
}

func (f *engineFlags) register(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringVar(&f.about, "describe", "", "what it is")
	flags.StringSliceVar(&f.words, "words", nil, "the parameters that hold what is searched for, with commas between them (default those that usually do, as q)")
	flags.StringVar(&f.parameter, "safe-parameter", "", "the parameter that makes its answers safe, as calm=1")
	flags.StringVar(&f.header, "safe-header", "", "the header field that makes its answers safe, as 'Filter: strict'")
	flags.StringVar(&f.host, "safe-host", "", "the host that gives safe answers in its place, as calm.heron.example")
	flags.BoolVar(&f.unsafe, "never-safe", false, "nothing makes its answers safe")
	cmd.MarkFlagsMutuallyExclusive("safe-parameter", "safe-header", "safe-host", "never-safe")
}

// apply changes a search engine according to the flags given.
func (f *engineFlags) apply(changed func(string) bool, body *client.EngineInput) error {
	if changed("describe") {
		body.Description = &f.about
	}
	if changed("words") {
		body.Words = &f.words
	}
	pair := func(flag, text, between string, by client.SafeBodyBy) error {
		name, value, ok := strings.Cut(text, between)
		if !ok {
			return command.Usagef("--%s wants a name and a value with %q between them, not %q", flag, between, text)
		}
		name = strings.TrimSpace(name)
		body.Safe = &client.SafeBody{By: by, Name: &name, Value: strings.TrimSpace(value)}
		return nil
	}
	switch {
	case changed("safe-parameter"):
		return pair("safe-parameter", f.parameter, "=", "parameter")
	case changed("safe-header"):
		return pair("safe-header", f.header, ":", "header")
	case changed("safe-host"):
		body.Safe = &client.SafeBody{By: "host", Value: f.host}
	case f.unsafe:
		body.Safe = nil
	}
	return nil
}

func engineNewCommand(a *command.App) *cobra.Command {
	var f engineFlags
	cmd := &cobra.Command{
		Use: "new NAME HOST...", Short: "Add a search engine", Args: command.AtLeast("NAME", "HOST"),
		Example: `  widelark engine new "Find the Lark" find.lark-search.example --words q --safe-parameter calm=1
  widelark engine new Deepwater deepwater.test --words words --safe-header 'Deepwater-Filter: strict'
  widelark engine new "Skerry Video" skerry-video.example --words term --safe-host calm.skerry-video.example`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			body := client.EngineInput{Name: args[0], Hosts: args[1:]}
			if err := f.apply(cmd.Flags().Changed, &body); err != nil {
				return err
			}
			made, err := api.AddEngineWithResponse(cmd.Context(), body)
			if err == nil {
				fmt.Fprintf(a.Out, "Added the search engine %q; its answers are made safe by %s.\n", made.JSON201.Name, safeText(made.JSON201.Safe))
			}
			return err
		}),
	}
	f.register(cmd)
	return cmd
}

func engineEditCommand(a *command.App) *cobra.Command {
	var f engineFlags
	var name string
	var hosts, noHosts []string
	cmd := &cobra.Command{
		Use: "edit NAME", Short: "Change a search engine", Args: command.Exactly("NAME"),
		Example: `  widelark engine edit Deepwater --add-host deepwater.example --safe-parameter calm=1`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if cmd.Flags().NFlag() == 0 {
				return command.NothingToChange
			}
			kept, err := object.Engines.Edit(cmd.Context(), api, args[0], func(body *client.EngineInput) (err error) {
				if body.Hosts, err = withoutHosts(body.Name, body.Hosts, noHosts); err != nil {
					return err
				}
				body.Hosts = append(body.Hosts, hosts...)
				if name != "" {
					body.Name = name
				}
				return f.apply(cmd.Flags().Changed, body)
			})
			if err == nil {
				fmt.Fprintf(a.Out, "Changed the search engine %q.\n", kept.Name)
			}
			return err
		}),
	}
	cmd.Flags().StringVar(&name, "name", "", "the new name")
	cmd.Flags().StringArrayVar(&hosts, "add-host", nil, "an entry in the notation; give it again for more")
	cmd.Flags().StringArrayVar(&noHosts, "drop-host", nil, "an entry that goes; give it again for more")
	f.register(cmd)
	return cmd
}

// withoutHosts returns hosts without those that go.
func withoutHosts(of string, hosts, gone []string) ([]string, error) {
	for _, host := range gone {
		at := slices.Index(hosts, host)
		if at < 0 {
			return nil, command.Usagef("%s has no host %q, but %s", of, host, strings.Join(hosts, ", "))
		}
		hosts = slices.Delete(hosts, at, at+1)
	}
	return hosts, nil
}

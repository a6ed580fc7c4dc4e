// Package policy implements the commands about policies, their rules, and apps.
//
// From: arguments.
// To: the API, by package client.
package policy

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"gopkg.in/yaml.v3"

	"widelark/client"
	"widelark/internal/cli/command"
	"widelark/internal/cli/object"
	"widelark/internal/cli/question"
)

func Command(a *command.App) *cobra.Command {
	cmd := command.Noun("policy", "Policies and their rules",
		lsCommand(a), showCommand(a), newCommand(a), editCommand(a), pageCommand(a), copyCommand(a), object.RemoveCommand(a, object.Policies), orderCommand(a), question.PlanCommand(a, "plan GROUP"),
		command.Noun("rule", "The rules of a policy", ruleSetCommand(a, false), ruleSetCommand(a, true), ruleRemoveCommand(a), ruleSwitchCommand(a, true), ruleSwitchCommand(a, false)))
	cmd.Example = `  widelark policy show "Ward floor"
  widelark policy new "Visitors" --start balanced --for Visitors
  widelark policy new "Bedside screens" --only "Bedside welcome sites" --for "Bedside screens"
  widelark policy rule add "Ward floor" "Games in breaks" --category games --in "Meal breaks" --then watch
  widelark policy order --combine strictest`
	return cmd
}

// givenTo returns the groups that a policy applies to, in words.
func givenTo(p client.Policy) string {
	switch {
	case p.Role != nil && *p.Role == "baseline":
		return "everybody, before all others"
	case p.Role != nil && *p.Role == "fallback":
		return "requests that no policy is for"
	case len(p.Groups) == 0:
		return "nobody"
	}
	return object.NamesOf(p.Groups)
}

// otherwise returns the verdict of a policy without a deciding rule; "" for the baseline, after which other policies decide.
func otherwise(p client.Policy) string {
	if p.Role != nil && *p.Role == "baseline" {
		return ""
	}
	return string(p.Otherwise)
}

func lsCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: "ls", Short: "All policies in their order", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := object.Policies.List(cmd.Context(), api)
			if err != nil {
				return err
			}
			settings, err := allSettings(cmd.Context(), api)
			if err != nil {
				return err
			}
			v := command.View{Data: all, Columns: []string{"Name", "For", "Rules", "Otherwise", "Changed", "By"}, Numbers: []int{2}}
			for _, p := range all {
				last := otherwise(p)
				if last != "" {
					last = a.VerdictCell(last)
				}
				v.Rows = append(v.Rows, []string{p.Name, givenTo(p), fmt.Sprint(len(p.Rules)), last, a.Moment(p.UpdatedAt), p.UpdatedBy})
			}
			v.Foot = "\nWhere a request has several policies, " + combining[string(settings.Combining)] + "."
			return a.Show(v)
		}),
	})
}

var combining = map[string]string{
	"position": "the first in this order counts", "strictest": "the strictest verdict counts", "loosest": "the loosest verdict counts",
}

func showCommand(a *command.App) *cobra.Command {
	var hits *bool
	cmd := &cobra.Command{
		Use: "show NAME", Short: "A policy's rules in order", Args: command.Exactly("NAME"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			p, err := object.Policies.Get(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			if !*hits {
				return showPolicy(a, p, nil)
			}
			return showPolicy(a, p, func(v *command.View) error {
				var keys []string
				for _, r := range p.Rules {
					keys = append(keys, r.ID.String())
				}
				return a.AddHits(cmd.Context(), api, v, client.GetUsageParamsKindRule, "", keys)
			})
		}),
	}
	hits = command.HitsFlag(cmd)
	return a.Reads(cmd)
}

// showPolicy shows a policy, with what extra adds to its rules; nil for nothing.
func showPolicy(a *command.App, p client.Policy, extra func(*command.View) error) error {
	if a.Format == "table" || a.Format == "" {
		a.Format = "table"
		fmt.Fprintf(a.Out, "%s · for %s\n", p.Name, givenTo(p))
		if about := command.OrEmpty(p.Description); about != "" {
			fmt.Fprintln(a.Out, about)
		}
		fmt.Fprintln(a.Out)
	}
	v := command.View{Data: p, Columns: []string{"#", "Rule", "Then", "In words"}}
	for i, r := range p.Rules {
		then := a.VerdictCell(string(r.Then))
		if command.Deref(r.Off) {
			then = "off"
		}
		v.Rows = append(v.Rows, []string{fmt.Sprint(i + 1), r.Name, then, p.Sentences[i]})
	}
	if last := otherwise(p); last != "" {
		v.Rows = append(v.Rows, []string{"", "otherwise", a.VerdictCell(last), ""})
	}
	if extra != nil {
		if err := extra(&v); err != nil {
			return err
		}
	}
	if err := a.Show(v); err != nil || a.Format != "table" {
		return err
	}
	for _, said := range []*string{p.Opens, p.Insists, p.Recorded} {
		if text := command.OrEmpty(said); text != "" {
			fmt.Fprintf(a.Out, "\n%s\n", a.Wrapped(text, 0))
		}
	}
	for _, c := range p.Conflicts {
		fmt.Fprintf(a.Out, "\n%s\n", a.Wrapped(c.Text, 0))
	}
	return nil
}

func newCommand(a *command.App) *cobra.Command {
	var start, about, last string
	var groups, only, allBut []string
	var off bool
	cmd := &cobra.Command{
		Use: "new NAME", Short: "Make a policy: from a starting point, for only some lists, for all but some, or with everything off", Args: command.Exactly("NAME"),
		Example: `  widelark policy new "Visitors" --start open --for Visitors
  widelark policy new "Exam room" --only "Trainees' reading list" --for Trainees`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			ctx := cmd.Context()
			modes := 0
			names := append(append([]string{}, only...), allBut...)
			for mode, asked := range map[string]bool{start: start != "", "only": len(only) > 0, "all-but": len(allBut) > 0, "off": off} {
				if asked {
					modes++
					start = mode
				}
			}
			if modes > 1 {
				return command.Usagef("take one of --start, --only, --all-but and --off")
			}
			body := client.PolicyInput{Name: args[0], Groups: []client.Ref{}, Rules: []client.RuleBody{}, Otherwise: "allow"}
			var err error
			if body.Groups, err = object.References(ctx, api, object.Groups, groups); err != nil {
				return err
			}
			if start != "" {
				ids, err := object.FindLists(ctx, api, names)
				if err != nil {
					return err
				}
				begun, err := api.StartPolicyWithResponse(ctx, client.StartInputBody{Start: client.StartInputBodyStart(start), Lists: &ids})
				if err != nil {
					return err
				}
				body.Rules, body.Otherwise, body.Description = begun.JSON200.Rules, client.PolicyInputOtherwise(begun.JSON200.Otherwise), &begun.JSON200.About
			}
			if cmd.Flags().Changed("describe") {
				body.Description = &about
			}
			if last != "" {
				body.Otherwise = client.PolicyInputOtherwise(last)
			}
			made, err := api.AddPolicyWithResponse(ctx, body)
			if err != nil {
				return err
			}
			return showPolicy(a, *made.JSON201, nil)
		}),
	}
	cmd.Flags().StringVar(&start, "start", "", "a starting point: careful, balanced or open")
	cmd.Flags().StringArrayVar(&only, "only", nil, "allow only this list; give it again for more")
	cmd.Flags().StringArrayVar(&allBut, "all-but", nil, "allow all but this list; give it again for more")
	cmd.Flags().BoolVar(&off, "off", false, "everything off")
	cmd.Flags().StringArrayVar(&groups, "for", nil, "a group that it is for; give it again for more")
	cmd.Flags().StringVar(&about, "describe", "", "what the policy is for")
	cmd.Flags().StringVar(&last, "otherwise", "", "allow, watch, hold or block, where no rule decides")
	return cmd
}

func editCommand(a *command.App) *cobra.Command {
	var name, description, last, inspect, records string
	var unheld, names string
	var overTLS bool
	var page pageFlags
	var words bool
	var groups []string
	cmd := &cobra.Command{
		Use: "edit NAME", Short: "Rename or describe a policy, say for whom it is and what holds where no rule decides", Args: command.Exactly("NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if cmd.Flags().NFlag() == 0 {
				return command.NothingToChange
			}
			changed := cmd.Flags().Changed
			return editPolicy(cmd.Context(), a, args[0], func(ctx context.Context, api *client.ClientWithResponses, p *client.PolicyInput) (err error) {
				if changed("name") {
					p.Name = name
				}
				if changed("describe") {
					p.Description = &description
				}
				if changed("otherwise") {
					p.Otherwise = client.PolicyInputOtherwise(last)
				}
				if changed("for") {
					if p.Groups, err = object.References(ctx, api, object.Groups, slices.DeleteFunc(groups, func(g string) bool { return g == "" })); err != nil {
						return err
					}
				}
				switch {
				case !changed("inspect"):
				case inspect == "all":
					p.Inspect = &client.InspectionBody{All: true, Pages: pagesOf(p.Inspect)}
				case inspect == "none":
					p.Inspect = &client.InspectionBody{Pages: pagesOf(p.Inspect)}
				default:
					return command.Usagef("--inspect takes all or none")
				}
				if changed("pages-over-tls") {
					if p.Inspect == nil {
						p.Inspect = &client.InspectionBody{}
					}
					p.Inspect.Pages = &overTLS
				}
				if p.Page, err = page.edit(p.Page, changed); err != nil {
					return err
				}
				if changed("names") {
					p.Names = command.Optional[client.PolicyInputNames](names)
				}
				if changed("unheld") {
					p.Unheld = command.Optional[client.PolicyInputUnheld](unheld)
				}
				if changed("records") || changed("words") {
					if p.Records == nil {
						p.Records = &client.RecordsBody{Amount: client.RecordsBodyAmountEverything}
					}
					if changed("records") {
						p.Records.Amount = client.RecordsBodyAmount(records)
					}
					if changed("words") {
						p.Records.Words = &words
					}
				}
				return nil
			})
		},
	}
	cmd.Flags().StringVar(&name, "name", "", "the new name")
	cmd.Flags().StringVar(&description, "describe", "", "what the policy is for")
	cmd.Flags().StringVar(&last, "otherwise", "", "allow, watch, hold or block")
	cmd.Flags().StringArrayVar(&groups, "for", nil, "a group that it is for, in place of all before; give it again for more")
	cmd.Flags().StringVar(&inspect, "inspect", "", "which TLS connections are opened: all or none")
	cmd.Flags().StringVar(&records, "records", "", "how much of its decisions is recorded: everything, group (the host and the groups alone) or nothing")
	cmd.Flags().StringVar(&names, "names", "", "what the DNS gate answers for names that are refused: none (there is none such), refused, or page (the address of the page that says so)")
	cmd.Flags().StringVar(&unheld, "unheld", "", "what becomes of requests whose provisos a gate cannot hold: pass (without them) or block")
	page.add(cmd)
	cmd.Flags().BoolVar(&overTLS, "pages-over-tls", false, "open TLS connections that are refused to show the page; --pages-over-tls=false: no longer")
	cmd.Flags().BoolVar(&words, "words", false, "record what is searched for, too; --words=false: no longer")
	return cmd
}

// pagesOf returns whether connections that are refused are opened to show the page; nil where nothing says so.
func pagesOf(i *client.InspectionBody) *bool {
	if i == nil {
		return nil
	}
	return i.Pages
}

func copyCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "copy NAME NEW", Short: "Make a policy with the same rules, for nobody yet", Args: command.Exactly("NAME", "NEW"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			p, err := object.Policies.Get(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			body, err := object.Recast[client.PolicyInput](p)
			if err != nil {
				return err
			}
			body.Name, body.Groups, body.Role = args[1], []client.Ref{}, nil
			made, err := api.AddPolicyWithResponse(cmd.Context(), body)
			if err != nil {
				return err
			}
			return showPolicy(a, *made.JSON201, nil)
		}),
	}
}

func allSettings(ctx context.Context, api *client.ClientWithResponses) (client.Settings, error) {
	found, err := api.GetAllSettingsWithResponse(ctx, nil)
	if err != nil {
		return client.Settings{}, err
	}
	return found.JSON200.Items[0], nil
}

// policyOrder returns the policies that have a position, in their order.
func policyOrder(ctx context.Context, api *client.ClientWithResponses) ([]client.Ref, error) {
	all, err := object.Policies.List(ctx, api)
	order := []client.Ref{}
	for _, p := range all {
		if p.Role == nil {
			order = append(order, client.Ref{ID: p.ID, Name: &p.Name})
		}
	}
	return order, err
}

// movedTo returns an order in which the policy with a name has a 1-based position, and the others keep their order.
func movedTo(order []client.Ref, name string, position int) ([]client.Ref, error) {
	at := slices.IndexFunc(order, func(r client.Ref) bool { return strings.EqualFold(command.OrEmpty(r.Name), name) })
	if at < 0 {
		return nil, fmt.Errorf("there is no policy %q with a place; `widelark policy ls` shows which there are", name)
	}
	moved := order[at]
	order = slices.Delete(order, at, at+1)
	return slices.Insert(order, min(position-1, len(order)), moved), nil
}

func orderCommand(a *command.App) *cobra.Command {
	var combine string
	var position int
	var way string
	cmd := &cobra.Command{
		Use: "order [NAME]", Short: "Move a policy, say which counts where a request has several, and which gates clients meet", Args: command.AtMost(1),
		Example: `  widelark policy order "Night ward" --position 1
  widelark policy order --combine strictest`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			if len(args) == 1 && position < 1 {
				return command.Usagef("say where to, with --position")
			}
			ctx := cmd.Context()
			seen, err := allSettings(ctx, api)
			if err != nil {
				return err
			}
			body, err := object.Recast[client.SettingsInput](seen)
			if err != nil {
				return err
			}
			if body.Order, err = policyOrder(ctx, api); err != nil {
				return err
			}
			if len(args) == 1 {
				if body.Order, err = movedTo(body.Order, args[0], position); err != nil {
					return err
				}
			}
			if combine != "" {
				body.Combining = client.SettingsInputCombining(combine)
			}
			body.Way = cmp.Or(way, body.Way)
			effects, err := api.GetEffectsWithResponse(ctx)
			if err != nil {
				return err
			}
			put, err := api.PutSettingsWithResponse(ctx, seen.ID, &client.PutSettingsParams{IfMatch: command.Match(seen.Version)}, body)
			if err != nil {
				return err
			}
			if combine != "" {
				if err := showEffects(ctx, a, api, effects); err != nil {
					return err
				}
			}
			fmt.Fprintf(a.Out, "Order: %s.\nWhere a request has several, %s.\nClients meet: %s.\n", object.NamesOf(put.JSON200.Order), combining[string(put.JSON200.Combining)], question.WayText(put.JSON200.Way))
			return nil
		}),
	}
	cmd.Flags().IntVar(&position, "position", 0, "its place, from 1")
	cmd.Flags().StringVar(&combine, "combine", "", "position, strictest or loosest")
	cmd.Flags().StringVar(&way, "way", "", "the gates that clients meet whose network does not say: dns, proxy, dns,proxy, icap or none")
	return cmd
}

// showEffects prints the effects of another way of combining policies, as predicted before the change.
func showEffects(ctx context.Context, a *command.App, api *client.ClientWithResponses, before *client.GetEffectsResponse) error {
	settings, err := allSettings(ctx, api)
	if err != nil {
		return err
	}
	e := before.JSON200
	for _, way := range e.Ways {
		if string(way.Combining) == string(settings.Combining) && way.Opened+way.Closed > 0 {
			fmt.Fprintf(a.Out, "For %s with several policies, %s of %s recorded pages are opened by this, and %s closed, as %s.\n", command.Plural(e.People, "person", "people"),
				command.Grouped(way.Opened), command.Grouped(e.Pages), command.Grouped(way.Closed), way.Examples[0])
		}
	}
	return nil
}

// editPolicy fetches a policy, edits it, and prints the result.
func editPolicy(ctx context.Context, a *command.App, name string, edit func(context.Context, *client.ClientWithResponses, *client.PolicyInput) error) error {
	api, err := a.API()
	if err != nil {
		return err
	}
	edited, err := object.Policies.Edit(ctx, api, name, func(body *client.PolicyInput) error { return edit(ctx, api, body) })
	if err != nil {
		return err
	}
	return showPolicy(a, *edited, nil)
}

// place returns the index of the rule with a name.
func place(p *client.PolicyInput, rule string) (int, error) {
	at := slices.IndexFunc(p.Rules, func(r client.RuleBody) bool { return strings.EqualFold(r.Name, rule) })
	if at < 0 {
		return 0, fmt.Errorf("the policy %q has no rule %q", p.Name, rule)
	}
	return at, nil
}

// ruleFlags holds the flags that describe a rule.
type ruleFlags struct {
	name, then, in, outside, tree   string
	lists, categories, apps, traits []string
	methods, files, words, at       []string
	join                            string
	safe, noUploads, everything     bool
	megabytes, minutes, scorePoints int64
	score                           string
	position                        int
	leave                           string
	leaveMinutes                    int64
}

func (f *ruleFlags) on(cmd *cobra.Command) {
	flags := cmd.Flags()
	many := func(into *[]string, name, what string) {
		flags.StringArrayVar(into, name, nil, what+"; give it again for more")
	}
	many(&f.lists, "list", "a list that the URL is in")
	many(&f.categories, "category", "the key of a category or family that it has")
	many(&f.apps, "app", "an app that it belongs to, or APP/ACTIVITY")
	many(&f.traits, "trait", "raw-address, plain-http, unrated, odd-port, user-info, punycode, two-names or not-tls")
	many(&f.methods, "method", "a method of HTTP, as POST")
	many(&f.files, "file", "a kind of files (archives, programs, documents, macros, pictures, sound, film, disks) or an ending as .zip")
	many(&f.words, "search", "a word that is searched for")
	many(&f.at, "at", "a gate that the rule is for: dns, proxy or icap")
	flags.StringVar(&f.score, "score", "", "a scorecard that reaches its threshold")
	flags.Int64Var(&f.scorePoints, "points", 0, "with --score: from so many points on")
	flags.StringVar(&f.join, "join", "any", "how conditions of several kinds are joined: any or all")
	flags.StringVar(&f.tree, "if", "", "a file with the condition as a tree in YAML or JSON; - is standard input")
	flags.BoolVar(&f.everything, "everything", false, "no condition: every request")
	flags.StringVar(&f.in, "in", "", "only while this schedule is in force")
	flags.StringVar(&f.outside, "outside", "", "only while this schedule is not in force")
	flags.StringVar(&f.then, "then", "block", "allow, watch, hold, block or note")
	flags.StringVar(&f.leave, "leave", "", "how people come past what is held: acknowledging or code")
	flags.Int64Var(&f.leaveMinutes, "leave-minutes", 0, "for how many minutes whoever acknowledges comes past it (default 60)")
	flags.BoolVar(&f.safe, "safe-search", false, "with safe search")
	flags.BoolVar(&f.noUploads, "no-uploads", false, "without uploads")
	flags.Int64Var(&f.megabytes, "max-mb", 0, "with answers of at most this many megabytes")
	flags.Int64Var(&f.minutes, "minutes", 0, "for at most this many minutes a day")
	flags.IntVar(&f.position, "position", 0, "its place among the rules, from 1")
}

// apply changes a rule according to the flags given.
func (f *ruleFlags) apply(ctx context.Context, a *command.App, api *client.ClientWithResponses, changed func(string) bool, r *client.RuleBody) error {
	if changed("name") {
		r.Name = f.name
	}
	if changed("then") || r.Then == "" {
		r.Then = client.RuleBodyThen(f.then)
	}
	if changed("in") || changed("outside") {
		name, isOutside := f.in+f.outside, f.outside != ""
		if r.When = nil; name != "" {
			s, err := object.Find(ctx, api, object.Schedules, name)
			if err != nil {
				return err
			}
			r.When = &client.WhenBody{Schedule: client.Ref{ID: s.ID}, Outside: &isOutside}
		}
	}
	if changed("at") {
		at := []client.RuleBodyAt{}
		for _, g := range f.at {
			if g != "" {
				at = append(at, client.RuleBodyAt(g))
			}
		}
		r.At = &at
	}
	if changed("safe-search") || changed("no-uploads") || changed("max-mb") || changed("minutes") {
		bytes := f.megabytes * 1_000_000
		r.With = &client.ProvisosBody{SafeSearch: &f.safe, NoUploads: &f.noUploads, MaxBytes: &bytes, MinutesADay: &f.minutes}
	}
	if changed("leave") || changed("leave-minutes") {
		leave := client.LeaveBody{By: client.LeaveBodyByAcknowledging}
		if r.Leave != nil {
			leave = *r.Leave
		}
		if changed("leave") && f.leave != "" {
			leave.By = client.LeaveBodyBy(f.leave)
		}
		if changed("leave-minutes") {
			leave.Minutes = &f.leaveMinutes
		}
		r.Leave = &leave
	}
	if f.everything {
		r.If = nil
		return nil
	}
	if f.tree != "" {
		cond, err := readCondition(ctx, a, api, f.tree)
		if err == nil {
			r.If = &cond
		}
		return err
	}
	parts, err := f.conditions(ctx, api)
	switch {
	case err != nil:
		return err
	case len(parts) == 1:
		r.If = &parts[0]
	case len(parts) > 1 && f.join == "all":
		r.If = &client.Condition{All: &parts}
	case len(parts) > 1:
		r.If = &client.Condition{Any: &parts}
	}
	return nil
}

func (f *ruleFlags) conditions(ctx context.Context, api *client.ClientWithResponses) (parts []client.Condition, err error) {
	if len(f.lists) > 0 {
		ids, err := object.FindLists(ctx, api, f.lists)
		if err != nil {
			return nil, err
		}
		lists := []client.Ref{}
		for _, id := range ids {
			lists = append(lists, client.Ref{ID: id})
		}
		parts = append(parts, client.Condition{Lists: &lists})
	}
	if len(f.traits) > 0 {
		traits := []client.ConditionTraits{}
		for _, t := range f.traits {
			traits = append(traits, client.ConditionTraits(t))
		}
		parts = append(parts, client.Condition{Traits: &traits})
	}
	for _, values := range []struct {
		given []string
		make  func(*[]string) client.Condition
	}{
		{f.categories, func(v *[]string) client.Condition { return client.Condition{Categories: v} }},
		{f.apps, func(v *[]string) client.Condition { return client.Condition{Apps: v} }},
		{f.methods, func(v *[]string) client.Condition { return client.Condition{Methods: v} }},
		{f.files, func(v *[]string) client.Condition { return client.Condition{Files: v} }},
		{f.words, func(v *[]string) client.Condition { return client.Condition{Search: v} }},
	} {
		if len(values.given) > 0 {
			parts = append(parts, values.make(&values.given))
		}
	}
	if f.score != "" {
		card, err := object.Scorecards.Get(ctx, api, f.score)
		if err != nil {
			return nil, err
		}
		parts = append(parts, client.Condition{Score: &client.ScoreBody{Scorecard: client.Ref{ID: card.ID}, AtLeast: &f.scorePoints}})
	}
	return parts, nil
}

// readCondition reads a tree of conditions from a file, which may refer to lists and scorecards by name.
func readCondition(ctx context.Context, a *command.App, api *client.ClientWithResponses, name string) (cond client.Condition, err error) {
	file, err := a.Open(name)
	if err != nil {
		return cond, err
	}
	defer file.Close()
	content, err := io.ReadAll(file)
	if err != nil {
		return cond, err
	}
	var tree any
	if err := yaml.Unmarshal(content, &tree); err != nil {
		return cond, fmt.Errorf("%s: %w", name, err)
	}
	if err := nameRefs(ctx, a, api, tree); err != nil {
		return cond, fmt.Errorf("%s: %w", name, err)
	}
	return object.Recast[client.Condition](tree)
}

// nameRefs replaces the names of lists by references, at all levels.
func nameRefs(ctx context.Context, a *command.App, api *client.ClientWithResponses, tree any) error {
	switch node := tree.(type) {
	case []any:
		for _, part := range node {
			if err := nameRefs(ctx, a, api, part); err != nil {
				return err
			}
		}
	case map[string]any:
		for key, value := range node {
			names, isList := value.([]any)
			if key != "lists" || !isList {
				if err := nameRefs(ctx, a, api, value); err != nil {
					return err
				}
				continue
			}
			for i, one := range names {
				if called, isName := one.(string); isName {
					l, err := object.FindList(ctx, api, called)
					if err != nil {
						return err
					}
					names[i] = client.Ref{ID: l.ID}
				}
			}
		}
	}
	return nil
}

func ruleSetCommand(a *command.App, edit bool) *cobra.Command {
	var f ruleFlags
	cmd := &cobra.Command{
		Use: "add POLICY RULE", Short: "Add a rule; the last, where no position is given", Args: command.Exactly("POLICY", "RULE"),
		Example: `  widelark policy rule add "Ward floor" "Never on the ward" --list Betting --list "Video mirrors" --then block
  widelark policy rule add "Ward floor" "Games in breaks" --category games --in "Meal breaks" --then watch --minutes 30
  widelark policy rule add Research "No uploads" --category file-sharing --method POST --method PUT --join all
  widelark policy rule add "Ward floor" Dangers --category dangers --position 1`,
		RunE: func(cmd *cobra.Command, args []string) error {
			return editPolicy(cmd.Context(), a, args[0], func(ctx context.Context, api *client.ClientWithResponses, p *client.PolicyInput) error {
				at, rule := len(p.Rules), client.RuleBody{Name: args[1]}
				if edit {
					var err error
					if at, err = place(p, args[1]); err != nil {
						return err
					}
					rule = p.Rules[at]
					p.Rules = slices.Delete(p.Rules, at, at+1)
				}
				if err := f.apply(ctx, a, api, cmd.Flags().Changed, &rule); err != nil {
					return err
				}
				if !edit && rule.If == nil && !f.everything {
					return command.Usagef("say what the rule is about: --list, --category, --trait and so on, or --everything")
				}
				if f.position > 0 {
					at = min(f.position-1, len(p.Rules))
				}
				p.Rules = slices.Insert(p.Rules, at, rule)
				return nil
			})
		},
	}
	f.on(cmd)
	if edit {
		cmd.Use, cmd.Short = "edit POLICY RULE", "Change a rule, or move it"
		cmd.Example = `  widelark policy rule edit "Ward floor" "Never on the ward" --position 1
  widelark policy rule edit "Ward floor" "Never on the ward" --list Betting --list "Blocked on request"`
		cmd.Flags().StringVar(&f.name, "name", "", "the new name")
	}
	return cmd
}

func ruleRemoveCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "remove POLICY RULE", Short: "Take a rule out of a policy", Args: command.Exactly("POLICY", "RULE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return editPolicy(cmd.Context(), a, args[0], func(_ context.Context, _ *client.ClientWithResponses, p *client.PolicyInput) error {
				at, err := place(p, args[1])
				if err == nil {
					p.Rules = slices.Delete(p.Rules, at, at+1)
				}
				return err
			})
		},
	}
}

func ruleSwitchCommand(a *command.App, on bool) *cobra.Command {
	cmd := &cobra.Command{
		Use: "off POLICY RULE", Short: "Switch a rule off without deleting it", Args: command.Exactly("POLICY", "RULE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return editPolicy(cmd.Context(), a, args[0], func(_ context.Context, _ *client.ClientWithResponses, p *client.PolicyInput) error {
				at, err := place(p, args[1])
				if err == nil {
					off := !on
					p.Rules[at].Off = &off
				}
				return err
			})
		},
	}
	if on {
		cmd.Use, cmd.Short = "on POLICY RULE", "Switch a rule on again"
	}
	return cmd
}

package trial

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
	"widelark/internal/cli/object"
	"widelark/internal/cli/question"
)

func LookupCommand(a *command.App) *cobra.Command {
	var file, sight string
	var exitCode bool
	cmd := &cobra.Command{
		Use:   "lookup [URL...]",
		Short: "What a URL is, and who says so",
		Long: "Say which categories URLs have, by which entry of which pack, list or correction, what else was said, and what was said before. " +
			"Without URLs, they are read from --file, one a line; - is standard input.",
		Example: `  widelark lookup marrow-trust.test
  widelark lookup tidepool-news.example/sport/odds
  widelark lookup --file asked-for.txt -o csv > categories.csv
  cut -f3 proxy.log | widelark lookup --file - -o json
  widelark lookup --exit-code new-site.example || echo unrated`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if (len(args) == 0) == (file == "") {
				return command.Usagef("give URLs, or a file of them with --file, not both")
			}
			api, err := a.API()
			if err != nil {
				return err
			}
			urls := args
			if file != "" {
				if urls, err = question.ReadURLs(a, file); err != nil {
					return err
				}
			}
			found, err := lookupAll(cmd.Context(), a, api, sight, urls)
			if err != nil {
				return err
			}
			if err := showLookups(a, found); err != nil {
				return err
			}
			for _, l := range found {
				if exitCode && (l.Class == nil || len(l.Class.Categories) == 0) {
					return command.ErrNo
				}
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&sight, "sight", "full", "what can be seen of the request: name (the host), tunnel (host and port over https) or full")
	cmd.Flags().StringVar(&file, "file", "", "a file of URLs, one a line; - is standard input")
	cmd.Flags().BoolVar(&exitCode, "exit-code", false, "exit with 1 where any URL is unrated")
	return a.Reads(cmd)
}

// lookupAll asks in batches; for a single URL it asks for all details.
func lookupAll(ctx context.Context, a *command.App, api *client.ClientWithResponses, sight string, urls []string) ([]client.Lookup, error) {
	var all []client.Lookup
	seen, detail := client.LookupsInputBodySight(sight), len(urls) == 1
	for begin := 0; begin < len(urls); begin += question.Batch {
		answer, err := api.LookupUrlsWithResponse(ctx, client.LookupsInputBody{Urls: urls[begin:min(begin+question.Batch, len(urls))], Sight: &seen, Detail: &detail})
		if err != nil {
			return nil, err
		}
		all = append(all, answer.JSON200.Lookups...)
		if len(urls) > question.Batch {
			fmt.Fprintf(a.Err, "%s of %s looked up\n", command.Grouped(int64(len(all))), command.Grouped(int64(len(urls))))
		}
	}
	return all, nil
}

func showLookups(a *command.App, all []client.Lookup) error {
	if a.Format == "table" && len(all) == 1 {
		showLookup(a, a.Out, all[0])
		return nil
	}
	v := command.View{Data: all, Columns: []string{"URL", "Categories", "Says who", "Entry", "Pack or list"}}
	unrated, problems := 0, 0
	for _, l := range all {
		if l.Problem != nil {
			problems++
			v.Rows = append(v.Rows, []string{l.Input, question.NoURL(a), "", "", *l.Problem})
			continue
		}
		row := []string{*l.URL, object.Names(l.Class.Categories), string(l.Class.By), "", ""}
		if len(l.Class.Categories) == 0 {
			unrated++
		}
		if len(l.Class.Given) > 0 {
			row[3], row[4] = l.Class.Given[0].Entry.Pattern, object.From(l.Class.Given[0])
		}
		v.Rows = append(v.Rows, row)
	}
	v.Foot = fmt.Sprintf("\n%s, %s unrated", command.Plural(int64(len(all)), "URL", "URLs"), command.Grouped(int64(unrated)))
	if problems > 0 {
		v.Foot += fmt.Sprintf(", %s no URL", command.Grouped(int64(problems)))
	}
	v.Foot += "."
	return a.Show(v)
}

// showLookup prints the categories of one URL, and all their sources.
func showLookup(a *command.App, w io.Writer, l client.Lookup) {
	if l.Problem != nil {
		fmt.Fprintf(w, "%s  %s\n  %s\n", question.NoURL(a), l.Input, *l.Problem)
		return
	}
	fmt.Fprintf(w, "%s\n", *l.URL)
	if len(l.Class.Categories) == 0 {
		fmt.Fprintln(w, "  unrated: nothing says what it is")
	}
	for _, c := range l.Class.Categories {
		danger := ""
		if c.Security {
			danger = "  (security)"
		}
		fmt.Fprintf(w, "  %s › %s%s\n", c.Family, c.Name, danger)
	}
	said := func(title string, all []client.Given) {
		for _, g := range all {
			fmt.Fprintf(w, "%s  %-13s  %-34s  %s  (%s)\n", title, g.Source, g.Entry.Pattern, object.Names(g.Categories), object.From(g))
			title = ""
		}
	}
	said("\n  because\n", l.Class.Given)
	said("\n  also said, and does not count beside that\n", l.Class.Overruled)
	said("\n  could say otherwise where the whole URL is seen\n", l.Class.Unclear)
	for _, s := range l.Class.Scores {
		fmt.Fprintf(w, "\n  scorecard %s: %s\n", s.Name, sum(s))
	}
	if l.Neighbours != nil && len(*l.Neighbours) > 1 {
		fmt.Fprintln(w, "\n  places above")
		for _, n := range *l.Neighbours {
			fmt.Fprintf(w, "  %-42s  %s%s\n", strings.TrimPrefix(n.URL, "https://"), object.Names(n.Categories), by(n.Entry))
		}
	}
	if l.Past != nil {
		fmt.Fprintln(w, "\n  what packs said")
		for _, p := range *l.Past {
			fmt.Fprintf(w, "  from %s  %s%s  (%s, version %d)\n", a.ByClock(p.From).Format("2006-01-02 15:04"), object.Names(p.Categories), by(p.Entry), p.Pack, p.Version)
		}
	}
	fmt.Fprintf(w, "\n  wrong? widelark category correct %s CATEGORY --why REASON\n", strings.TrimSuffix(strings.TrimPrefix(*l.URL, "https://"), "/"))
}

func by(entry string) string {
	if entry == "" {
		return ""
	}
	return "  by " + entry
}

// sum returns a score as a sum of points.
func sum(s client.Score) string {
	var b strings.Builder
	for _, t := range s.Terms {
		fmt.Fprintf(&b, "%s %+d  ", t.Word, t.Points)
	}
	outcome := "not " + s.Category.Name
	if s.Reached {
		outcome = s.Category.Name
	}
	fmt.Fprintf(&b, "= %d of %d: %s", s.Total, s.Threshold, outcome)
	return b.String()
}

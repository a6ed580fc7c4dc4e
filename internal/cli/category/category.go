// Package category implements the commands about categories, corrections and scorecards.
//
// From: arguments.
// To: the API, by package client.
package category

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"widelark/client"
	"widelark/internal/cli/command"
	"widelark/internal/cli/object"
	"widelark/internal/cli/question"
	"widelark/spreadsheet"
)

func Command(a *command.App) *cobra.Command {
	cmd := command.Noun("category", "Categories, corrections, and what has none",
		treeCommand(a), showCommand(a), findCommand(a), newCommand(a), editCommand(a), deleteCommand(a),
		correctCommand(a), correctionsCommand(a), uncorrectCommand(a), unratedCommand(a))
	cmd.Example = `  widelark category tree
  widelark category find betting
  widelark category correct marrow-trust.test charity --why "A cancer charity, no adult site"`
	return cmd
}

func categories(ctx context.Context, api *client.ClientWithResponses, text string) (client.CategoriesOutputBody, error) {
	found, err := api.GetCategoriesWithResponse(ctx, &client.GetCategoriesParams{Text: &text})
	if err != nil {
		return client.CategoriesOutputBody{}, err
	}
	return *found.JSON200, nil
}

func treeCommand(a *command.App) *cobra.Command {
	var hits *bool
	cmd := &cobra.Command{
		Use: "tree", Short: "Families and categories, with their sites and recorded traffic", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := categories(cmd.Context(), api, "")
			if err != nil {
				return err
			}
			v := command.View{Data: all, Columns: []string{"Family", "Category", "Key", "Sites", "Requests", "Hosts"}, Numbers: []int{3, 4, 5}}
			if len(all.Categories) == 0 {
				v.Empty = "There are no categories yet: the catalogue is empty. Get a pack with `widelark pack add NAME URL`."
			}
			var keys []string
			for _, f := range all.Families {
				first := f.Name
				for _, c := range all.Categories {
					if c.Family != f.Key {
						continue
					}
					v.Rows = append(v.Rows, []string{first, c.Name, c.Key, sitesOf(c), command.Grouped(c.Traffic.Requests), command.Grouped(c.Traffic.Hosts)})
					keys = append(keys, c.Key)
					if a.Format == "table" {
						first = ""
					}
				}
			}
			v.Foot = fmt.Sprintf("\nUnrated: %s of %s requests, to %s.", command.Grouped(all.Unrated.Requests), command.Grouped(all.Total.Requests), command.Plural(all.Unrated.Hosts, "host", "hosts"))
			if *hits {
				if err := a.AddHits(cmd.Context(), api, &v, client.GetUsageParamsKindCategory, "", keys); err != nil {
					return err
				}
			}
			return a.Show(v)
		}),
	}
	hits = command.HitsFlag(cmd)
	return a.Reads(cmd)
}

// sitesOf returns the number of a category's sites or, for a category made of lists, says so.
func sitesOf(c client.Category) string {
	if c.Own != nil {
		return "lists"
	}
	return command.Grouped(c.Sites)
}

func findCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: "find TEXT", Short: "Categories that a text leads to: by name, keyword or description", Args: command.Exactly("TEXT"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			found, err := categories(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			v := command.View{Data: found.Categories, Columns: []string{"Key", "Name", "Family", "Sites", "About"}, Numbers: []int{3}, Empty: "No category is about that."}
			for _, c := range found.Categories {
				v.Rows = append(v.Rows, []string{c.Key, c.Name, c.Family, sitesOf(c), c.About})
			}
			return a.Show(v)
		}),
	})
}

func showCommand(a *command.App) *cobra.Command {
	var contains, after string
	var limit int64
	cmd := &cobra.Command{
		Use: "show KEY", Short: "A category or family, and what the catalogue has in it, page by page", Args: command.Exactly("KEY"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			page, err := api.GetCategorySitesWithResponse(cmd.Context(), args[0], &client.GetCategorySitesParams{Text: &contains, After: &after, Limit: &limit})
			var problem *client.Problem
			if errors.As(err, &problem) && problem.Status == 404 {
				return fmt.Errorf("there is no category or family %q; `widelark category tree` shows which there are", args[0])
			}
			if err != nil {
				return err
			}
			all, err := categories(cmd.Context(), api, "")
			if err != nil {
				return err
			}
			v := command.View{Data: page.JSON200, Columns: []string{"Entry", "Categories", "Pack"}, Empty: "The catalogue has no such site."}
			for _, c := range all.Categories {
				if c.Key != args[0] || a.Format != "table" {
					continue
				}
				fmt.Fprintf(a.Out, "%s · %s\n%s\n", c.Name, c.Family, a.Wrapped(c.About, 0))
				if c.Own != nil {
					var lists []string
					for _, l := range c.Own.Lists {
						lists = append(lists, l.Name)
					}
					how := "in place of what the catalogue says"
					if c.Own.Adds {
						how = "beside what the catalogue says"
					}
					v.Empty = fmt.Sprintf("A category of our own: what is in %s, %s.", strings.Join(lists, ", "), how)
				}
				fmt.Fprintln(a.Out)
			}
			for _, s := range page.JSON200.Sites {
				v.Rows = append(v.Rows, []string{s.Entry, strings.Join(s.Categories, " "), s.Pack})
			}
			if next := page.JSON200.Next; next != nil {
				v.Foot = fmt.Sprintf("\nMore: widelark category show %s --after %s --limit %d", args[0], *next, limit)
			}
			return a.Show(v)
		}),
	}
	cmd.Flags().StringVar(&contains, "contains", "", "only entries that hold this text")
	cmd.Flags().StringVar(&after, "after", "", "the place that the page before named")
	cmd.Flags().Int64Var(&limit, "limit", 50, "how many entries, at most 1000")
	return a.Reads(cmd)
}

func newCommand(a *command.App) *cobra.Command {
	var lists []string
	var about, family string
	var adds bool
	cmd := &cobra.Command{
		Use: "new NAME", Short: "Make a category of our own from lists", Args: command.Exactly("NAME"),
		Example: `  widelark category new "Dosage pages" --list "Formulary and dosage sites" --family health --about "What wards look doses up in"`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			ids, err := object.FindLists(cmd.Context(), api, lists)
			if err != nil {
				return err
			}
			made, err := api.CreateCategoryWithResponse(cmd.Context(), client.NewCategoryInputBody{Name: args[0], About: &about, Family: &family, Lists: ids, Adds: &adds})
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Made the category %q, with the key %s.\n", made.JSON201.Name, made.JSON201.Key)
			return nil
		}),
	}
	cmd.Flags().StringArrayVar(&lists, "list", nil, "a list whose sites are in it; may be repeated")
	cmd.Flags().StringVar(&about, "about", "", "what it is for, in a sentence")
	cmd.Flags().StringVar(&family, "family", "", "the key of a family of the catalogue (default a family of our own)")
	cmd.Flags().BoolVar(&adds, "adds", false, "add to what the catalogue says, instead of standing in its place")
	_ = cmd.MarkFlagRequired("list") // it fails only if the flag does not exist
	return cmd
}

// ownCategory finds a category that the organisation made.
func ownCategory(ctx context.Context, api *client.ClientWithResponses, key string) (client.Category, error) {
	all, err := categories(ctx, api, "")
	if err != nil {
		return client.Category{}, err
	}
	for _, c := range all.Categories {
		if c.Key != key && !strings.EqualFold(c.Name, key) {
			continue
		}
		if c.Own == nil {
			return c, fmt.Errorf("%q is a category of the catalogue; what is here can only correct single sites of it", c.Key)
		}
		return c, nil
	}
	return client.Category{}, fmt.Errorf("there is no category %q; `widelark category tree` shows which there are", key)
}

func editCommand(a *command.App) *cobra.Command {
	var name, about, family string
	var lists []string
	var adds bool
	cmd := &cobra.Command{
		Use: "edit KEY", Short: "Edit a category of our own; what is not named stays", Args: command.Exactly("KEY"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			c, err := ownCategory(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			var edit client.EditCategoryInputBody
			given := func(flag string) bool { return cmd.Flags().Changed(flag) }
			if given("name") {
				edit.Name = &name
			}
			if given("about") {
				edit.About = &about
			}
			if given("family") {
				edit.Family = &family
			}
			if given("adds") {
				edit.Adds = &adds
			}
			if given("list") {
				ids, err := object.FindLists(cmd.Context(), api, lists)
				if err != nil {
					return err
				}
				edit.Lists = &ids
			}
			edited, err := api.EditCategoryWithResponse(cmd.Context(), c.Own.ID, &client.EditCategoryParams{IfMatch: command.Match(c.Own.Version)}, edit)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Edited the category %q.\n", edited.JSON200.Name)
			return nil
		}),
	}
	cmd.Flags().StringVar(&name, "name", "", "its new name; the key stays")
	cmd.Flags().StringVar(&about, "about", "", "what it is for, in a sentence")
	cmd.Flags().StringVar(&family, "family", "", "the key of a family of the catalogue; empty for a family of our own")
	cmd.Flags().StringArrayVar(&lists, "list", nil, "a list whose sites are in it; may be repeated, and replaces all of before")
	cmd.Flags().BoolVar(&adds, "adds", false, "add to what the catalogue says, instead of standing in its place")
	return cmd
}

func deleteCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "remove KEY", Short: "Delete a category of our own; its lists stay", Args: command.Exactly("KEY"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			c, err := ownCategory(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			if _, err := api.DeleteCategoryWithResponse(cmd.Context(), c.Own.ID, &client.DeleteCategoryParams{IfMatch: command.Match(c.Own.Version)}); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Deleted the category %q; its lists stay.\n", c.Name)
			return nil
		}),
	}
}

func correctCommand(a *command.App) *cobra.Command {
	var why, file string
	var also []string
	cmd := &cobra.Command{
		Use: "correct ENTRY CATEGORY...", Short: "Say what a site, host or page is, whatever the catalogue says",
		Long: "Say which categories a site, host, page or page tree has. ENTRY is in the notation, or a URL as it stands in an address bar; CATEGORY is a key. " +
			"A correction that is there for the same entry is replaced. With --file, entries are read from it, one a line, and all arguments are categories.",
		Example: `  widelark category correct marrow-trust.test charity --why "A cancer charity"
  widelark category correct =harbour-news.example/puzzles games news --why "Only the puzzles are games"
  widelark category unrated -o csv | cut -d, -f1 | tail -n +2 | head -20 | widelark category correct --file - business --why "Suppliers, looked at one by one"`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			entries := also
			switch {
			case file == "" && len(args) < 2:
				return command.Usagef("wanted: ENTRY CATEGORY…; or --file FILE CATEGORY…")
			case file == "":
				entries, args = append(entries, args[0]), args[1:]
			case len(args) < 1:
				return command.Usagef("wanted: --file FILE CATEGORY…")
			default:
				read, err := question.ReadURLs(a, file)
				if err != nil {
					return err
				}
				entries = append(entries, read...)
			}
			done := 0
			for begin := 0; begin < len(entries); begin += 1000 {
				made, err := api.CorrectWithResponse(cmd.Context(), client.CorrectInputBody{Entries: entries[begin:min(begin+1000, len(entries))], Categories: args, Reason: why})
				if err != nil {
					return err
				}
				done += len(made.JSON200.Corrections)
				for _, c := range made.JSON200.Corrections {
					if len(entries) <= 20 {
						fmt.Fprintf(a.Out, "%s is %s from now on, whatever the catalogue says.\n", c.Entry, strings.Join(c.Categories, ", "))
					}
				}
			}
			if len(entries) > 20 {
				fmt.Fprintf(a.Out, "Made %s.\n", command.Plural(int64(done), "correction", "corrections"))
			}
			return nil
		}),
	}
	cmd.Flags().StringVar(&why, "why", "", "the reason, for whoever wonders later")
	cmd.Flags().StringVar(&file, "file", "", "a file of entries, one a line; - is standard input")
	cmd.Flags().StringArrayVar(&also, "entry", nil, "another entry with the same categories; may be repeated")
	_ = cmd.MarkFlagRequired("why") // it fails only if the flag does not exist
	return cmd
}

func correctionsCommand(a *command.App) *cobra.Command {
	var contains string
	var export bool
	cmd := &cobra.Command{
		Use: "corrections", Short: "All corrections, and which are no longer needed", Args: command.Exactly(),
		Example: `  widelark category corrections
  widelark category corrections --export > for-the-packs-maker.csv`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			if export {
				file, err := api.ExportCorrectionsWithResponse(cmd.Context())
				if err != nil {
					return err
				}
				_, err = a.Out.Write(file.Body)
				return err
			}
			var all []client.Correction
			limit := int64(1000)
			for params := (&client.GetCorrectionsParams{Text: &contains, Limit: &limit}); ; {
				page, err := api.GetCorrectionsWithResponse(cmd.Context(), params)
				if err != nil {
					return err
				}
				all = append(all, page.JSON200.Corrections...)
				if params.After = page.JSON200.Next; params.After == nil {
					break
				}
			}
			v := command.View{Data: all, Columns: []string{"Id", "Entry", "Is", "The catalogue says", "Reason", "By", "On"}, Empty: "There are no corrections."}
			for _, c := range all {
				says := strings.Join(c.Catalogue, " ")
				switch {
				case c.Agreed:
					says += " (no longer needed)"
				case says == "":
					says = "unrated"
				}
				v.Rows = append(v.Rows, []string{fmt.Sprint(c.ID), c.Entry, strings.Join(c.Categories, " "), says, c.Reason, c.By, a.ByClock(c.At).Format("2006-01-02")})
			}
			return a.Show(v)
		}),
	}
	cmd.Flags().StringVar(&contains, "contains", "", "only those that mention this")
	cmd.Flags().BoolVar(&export, "export", false, "write all of them as a CSV file that the pack's maker, or `widelark pack build`, can read")
	return a.Reads(cmd)
}

func uncorrectCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "uncorrect ID...", Short: "Take corrections back", Args: command.AtLeast("ID"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			for _, text := range args {
				id, err := strconv.ParseInt(text, 10, 64)
				if err != nil {
					return command.Usagef("%q is not an id; `widelark category corrections` shows them", text)
				}
				if _, err := api.RemoveCorrectionWithResponse(cmd.Context(), id); err != nil {
					return err
				}
			}
			fmt.Fprintf(a.Out, "Took %s back.\n", command.Plural(int64(len(args)), "correction", "corrections"))
			return nil
		}),
	}
}

func unratedCommand(a *command.App) *cobra.Command {
	var limit int64
	cmd := &cobra.Command{
		Use: "unrated", Short: "Hosts that were asked for and have no category, the most asked for first", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			found, err := api.GetUnratedWithResponse(cmd.Context(), &client.GetUnratedParams{Limit: &limit})
			if err != nil {
				return err
			}
			all := found.JSON200
			v := command.View{Data: all, Columns: []string{"Host", "Requests", "Pages"}, Numbers: []int{1, 2}, Empty: "Everything that was asked for has a category."}
			for _, h := range all.Hosts {
				v.Rows = append(v.Rows, []string{h.Host, fmt.Sprint(h.Requests), fmt.Sprint(h.Pages)})
			}
			v.Foot = fmt.Sprintf("\n%s of %s, with %s of %s requests, are unrated.", command.Grouped(all.Unrated.Hosts), command.Plural(all.Total.Hosts, "host", "hosts"),
				command.Grouped(all.Unrated.Requests), command.Grouped(all.Total.Requests))
			return a.Show(v)
		}),
	}
	cmd.Flags().Int64Var(&limit, "limit", 30, "how many hosts, at most 10000")
	return a.Reads(cmd)
}

func ScorecardCommand(a *command.App) *cobra.Command {
	cmd := command.Noun("scorecard", "Words with points that give a category",
		scorecardLsCommand(a), scorecardShowCommand(a), scorecardSetCommand(a), scorecardRemoveCommand(a), scorecardTryCommand(a))
	cmd.Example = `  widelark scorecard try "Screening for breast cancer"
  widelark scorecard set "Adult words" --category adult --threshold 100 --words words.csv`
	return cmd
}

func scorecardLsCommand(a *command.App) *cobra.Command {
	var hits *bool
	cmd := &cobra.Command{
		Use: "ls", Short: "All scorecards", Args: command.Exactly(),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := object.Scorecards.List(cmd.Context(), api)
			if err != nil {
				return err
			}
			v := command.View{Data: all, Columns: []string{"Name", "Gives", "From", "Words", "", "About"}, Numbers: []int{2, 3}, Empty: "There are no scorecards."}
			var keys []string
			for _, c := range all {
				v.Rows = append(v.Rows, []string{c.Name, c.Category, fmt.Sprint(c.Threshold), fmt.Sprint(len(c.Terms)), map[bool]string{true: "off"}[c.Off], c.About})
				keys = append(keys, c.ID.String())
			}
			if *hits {
				if err := a.AddHits(cmd.Context(), api, &v, client.GetUsageParamsKindScorecard, "", keys); err != nil {
					return err
				}
			}
			return a.Show(v)
		}),
	}
	hits = command.HitsFlag(cmd)
	return a.Reads(cmd)
}

func scorecardShowCommand(a *command.App) *cobra.Command {
	return a.Reads(&cobra.Command{
		Use: "show NAME", Short: "A scorecard's words and points; -o csv is what set reads", Args: command.Exactly("NAME"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			c, err := object.Scorecards.Get(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			v := command.View{Data: c, Columns: []string{"word", "points"}, Numbers: []int{1}}
			for _, t := range c.Terms {
				v.Rows = append(v.Rows, []string{t.Word, fmt.Sprint(t.Points)})
			}
			v.Foot = fmt.Sprintf("\nGives %s from %d points on. %s", c.Category, c.Threshold, c.About)
			return a.Show(v)
		}),
	})
}

// readTerms reads a CSV file with the columns word and points.
func readTerms(a *command.App, name string) ([]client.Term, error) {
	file, err := a.Open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	rows := csv.NewReader(file)
	rows.FieldsPerRecord = 2
	var terms []client.Term
	for line := 1; ; line++ {
		row, err := rows.Read()
		if errors.Is(err, io.EOF) {
			return terms, nil
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		points, err := strconv.ParseInt(strings.TrimSpace(row[1]), 10, 64)
		switch {
		case err != nil && line == 1: // the names of the columns
		case err != nil:
			return nil, fmt.Errorf("%s, line %d: %q are not points; a whole number is wanted", name, line, row[1])
		default:
			terms = append(terms, client.Term{Word: strings.TrimSpace(spreadsheet.Plain(row[0])), Points: points})
		}
	}
}

func scorecardSetCommand(a *command.App) *cobra.Command {
	var category, about, words string
	var threshold int64
	var off bool
	cmd := &cobra.Command{
		Use: "set NAME", Short: "Make a scorecard, or edit the one of that name; what is not named stays", Args: command.Exactly("NAME"),
		Example: `  widelark scorecard set "Adult words" --category adult --threshold 100 --words words.csv
  widelark scorecard show "Adult words" -o csv > words.csv
  widelark scorecard set "Adult words" --off`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			var terms *[]client.Term
			if words != "" {
				read, err := readTerms(a, words)
				if err != nil {
					return err
				}
				terms = &read
			}
			all, err := object.Scorecards.List(cmd.Context(), api)
			if err != nil {
				return err
			}
			for _, c := range all {
				if !strings.EqualFold(c.Name, args[0]) {
					continue
				}
				edit := client.EditScorecardInputBody{Terms: terms}
				for flag, set := range map[string]func(){
					"category": func() { edit.Category = &category }, "about": func() { edit.About = &about },
					"threshold": func() { edit.Threshold = &threshold }, "off": func() { edit.Off = &off },
				} {
					if cmd.Flags().Changed(flag) {
						set()
					}
				}
				_, err := api.EditScorecardWithResponse(cmd.Context(), c.ID, &client.EditScorecardParams{IfMatch: command.Match(c.Version)}, edit)
				if err == nil {
					fmt.Fprintf(a.Out, "Edited the scorecard %q.\n", c.Name)
				}
				return err
			}
			if category == "" || terms == nil {
				return command.Usagef("there is no scorecard %q; to make one, say --category and --words", args[0])
			}
			made, err := api.CreateScorecardWithResponse(cmd.Context(), client.NewScorecardInputBody{Name: args[0], About: &about, Category: category, Threshold: threshold, Terms: *terms, Off: &off})
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Made the scorecard %q with %s.\n", made.JSON201.Name, command.Plural(int64(len(*terms)), "word", "words"))
			return nil
		}),
	}
	cmd.Flags().StringVar(&category, "category", "", "the key of the category that it gives")
	cmd.Flags().StringVar(&about, "about", "", "what it is for, in a sentence")
	cmd.Flags().StringVar(&words, "words", "", "a CSV file with the columns word and points; - is standard input")
	cmd.Flags().Int64Var(&threshold, "threshold", 100, "from how many points on it gives the category")
	cmd.Flags().BoolVar(&off, "off", false, "keep it, but let it give nothing")
	return cmd
}

func scorecardRemoveCommand(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Delete a scorecard", Args: command.Exactly("NAME"),
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			c, err := object.Scorecards.Get(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			if _, err := api.DeleteScorecardWithResponse(cmd.Context(), c.ID, &client.DeleteScorecardParams{IfMatch: command.Match(c.Version)}); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Deleted the scorecard %q.\n", c.Name)
			return nil
		}),
	}
}

func scorecardTryCommand(a *command.App) *cobra.Command {
	var words string
	var threshold int64
	cmd := &cobra.Command{
		Use: "try TEXT", Short: "What a text or a URL scores, word by word; - is standard input", Args: command.Exactly("TEXT"),
		Example: `  widelark scorecard try "Screening for breast cancer, without shame"
  widelark scorecard try https://shore.example/breast/screening
  widelark scorecard try - --words words.csv --threshold 80 < page.txt`,
		RunE: a.WithAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			body := client.ScoreInputBody{Text: args[0]}
			if args[0] == "-" {
				text, err := io.ReadAll(io.LimitReader(a.In, 1_000_000))
				if err != nil {
					return err
				}
				body.Text = string(text)
			}
			if words != "" {
				terms, err := readTerms(a, words)
				if err != nil {
					return err
				}
				body.Terms, body.Threshold = &terms, &threshold
			}
			found, err := api.ScoreTextWithResponse(cmd.Context(), body)
			if err != nil {
				return err
			}
			v := command.View{Data: found.JSON200, Columns: []string{"Scorecard", "Total", "From", "Words that count", "Outcome"}, Numbers: []int{1, 2}, Empty: "There are no scorecards."}
			for _, s := range found.JSON200.Scores {
				var counted []string
				for _, t := range s.Terms {
					counted = append(counted, fmt.Sprintf("%s %+d", t.Word, t.Points))
				}
				outcome := "–"
				if s.Reached {
					outcome = s.Category.Name
					if outcome == "" {
						outcome = "reached"
					}
				}
				v.Rows = append(v.Rows, []string{s.Name, fmt.Sprint(s.Total), fmt.Sprint(s.Threshold), strings.Join(counted, ", "), outcome})
			}
			v.Foot = map[bool]string{true: "\nScored as a URL: over host, path and decoded query."}[found.JSON200.IsURL]
			return a.Show(v)
		}),
	}
	cmd.Flags().StringVar(&words, "words", "", "a CSV file with the columns word and points to score with, instead of the scorecards that are kept")
	cmd.Flags().Int64Var(&threshold, "threshold", 100, "with --words: from how many points on it is reached")
	return a.Reads(cmd)
}

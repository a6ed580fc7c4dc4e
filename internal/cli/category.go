package cli

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
	"widelark/internal/spreadsheet"
)

func (a *app) categoryCommand() *cobra.Command {
	cmd := noun("category", "Categories, corrections, and what has none",
		a.categoryTreeCommand(), a.categoryShowCommand(), a.categoryFindCommand(), a.categoryNewCommand(), a.categoryEditCommand(), a.categoryDeleteCommand(),
		a.categoryCorrectCommand(), a.categoryCorrectionsCommand(), a.categoryUncorrectCommand(), a.categoryUnratedCommand())
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

func (a *app) categoryTreeCommand() *cobra.Command {
	return a.reads(&cobra.Command{
		Use: "tree", Short: "Families and categories, with their sites and recorded traffic", Args: exactly(),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := categories(cmd.Context(), api, "")
			if err != nil {
				return err
			}
			v := view{data: all, columns: []string{"Family", "Category", "Key", "Sites", "Requests", "Hosts"}, numbers: []int{3, 4, 5}}
			if len(all.Categories) == 0 {
				v.empty = "There are no categories yet: the catalogue is empty. Get a pack with `widelark pack add NAME URL`."
			}
			for _, f := range all.Families {
				first := f.Name
				for _, c := range all.Categories {
					if c.Family != f.Key {
						continue
					}
					v.rows = append(v.rows, []string{first, c.Name, c.Key, sitesOf(c), grouped(c.Traffic.Requests), grouped(c.Traffic.Hosts)})
					if a.format == "table" {
						first = ""
					}
				}
			}
			v.foot = fmt.Sprintf("\nUnrated: %s of %s requests, to %s.", grouped(all.Unrated.Requests), grouped(all.Total.Requests), plural(all.Unrated.Hosts, "host", "hosts"))
			return a.show(v)
		}),
	})
}

// sitesOf tells how many sites a category has or, of one of our own, that lists fill it.
func sitesOf(c client.Category) string {
	if c.Own != nil {
		return "lists"
	}
	return grouped(c.Sites)
}

func (a *app) categoryFindCommand() *cobra.Command {
	return a.reads(&cobra.Command{
		Use: "find TEXT", Short: "Categories that a text leads to: by name, keyword or description", Args: exactly("TEXT"),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			found, err := categories(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			v := view{data: found.Categories, columns: []string{"Key", "Name", "Family", "Sites", "About"}, numbers: []int{3}, empty: "No category is about that."}
			for _, c := range found.Categories {
				v.rows = append(v.rows, []string{c.Key, c.Name, c.Family, sitesOf(c), c.About})
			}
			return a.show(v)
		}),
	})
}

func (a *app) categoryShowCommand() *cobra.Command {
	var contains, after string
	var limit int64
	cmd := &cobra.Command{
		Use: "show KEY", Short: "A category or family, and what the catalogue has in it, page by page", Args: exactly("KEY"),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
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
			v := view{data: page.JSON200, columns: []string{"Entry", "Categories", "Pack"}, empty: "The catalogue has no such site."}
			for _, c := range all.Categories {
				if c.Key != args[0] || a.format != "table" {
					continue
				}
				fmt.Fprintf(a.out, "%s · %s\n%s\n", c.Name, c.Family, a.wrapped(c.About, 0))
				if c.Own != nil {
					var lists []string
					for _, l := range c.Own.Lists {
						lists = append(lists, l.Name)
					}
					how := "in place of what the catalogue says"
					if c.Own.Adds {
						how = "beside what the catalogue says"
					}
					v.empty = fmt.Sprintf("A category of our own: what is in %s, %s.", strings.Join(lists, ", "), how)
				}
				fmt.Fprintln(a.out)
			}
			for _, s := range page.JSON200.Sites {
				v.rows = append(v.rows, []string{s.Entry, strings.Join(s.Categories, " "), s.Pack})
			}
			if next := page.JSON200.Next; next != nil {
				v.foot = fmt.Sprintf("\nMore: widelark category show %s --after %s --limit %d", args[0], *next, limit)
			}
			return a.show(v)
		}),
	}
	cmd.Flags().StringVar(&contains, "contains", "", "only entries that hold this text")
	cmd.Flags().StringVar(&after, "after", "", "the place that the page before named")
	cmd.Flags().Int64Var(&limit, "limit", 50, "how many entries, at most 1000")
	return a.reads(cmd)
}

func (a *app) categoryNewCommand() *cobra.Command {
	var lists []string
	var about, family string
	var adds bool
	cmd := &cobra.Command{
		Use: "new NAME", Short: "Make a category of our own from lists", Args: exactly("NAME"),
		Example: `  widelark category new "Dosage pages" --list "Formulary and dosage sites" --family health --about "What wards look doses up in"`,
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			ids, err := findLists(cmd.Context(), api, lists)
			if err != nil {
				return err
			}
			made, err := api.CreateCategoryWithResponse(cmd.Context(), client.NewCategoryInputBody{Name: args[0], About: &about, Family: &family, Lists: ids, Adds: &adds})
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Made the category %q, with the key %s.\n", made.JSON201.Name, made.JSON201.Key)
			return nil
		}),
	}
	cmd.Flags().StringArrayVar(&lists, "list", nil, "a list whose sites are in it; may be repeated")
	cmd.Flags().StringVar(&about, "about", "", "what it is for, in a sentence")
	cmd.Flags().StringVar(&family, "family", "", "the key of a family of the catalogue (default a family of our own)")
	cmd.Flags().BoolVar(&adds, "adds", false, "add to what the catalogue says, instead of standing in its place")
	_ = cmd.MarkFlagRequired("list") // the flag is there
	return cmd
}

// ownCategory finds a category of our own.
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

func (a *app) categoryEditCommand() *cobra.Command {
	var name, about, family string
	var lists []string
	var adds bool
	cmd := &cobra.Command{
		Use: "edit KEY", Short: "Edit a category of our own; what is not named stays", Args: exactly("KEY"),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
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
				ids, err := findLists(cmd.Context(), api, lists)
				if err != nil {
					return err
				}
				edit.Lists = &ids
			}
			edited, err := api.EditCategoryWithResponse(cmd.Context(), c.Own.ID, &client.EditCategoryParams{IfMatch: match(c.Own.Version)}, edit)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Edited the category %q.\n", edited.JSON200.Name)
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

func (a *app) categoryDeleteCommand() *cobra.Command {
	return &cobra.Command{
		Use: "remove KEY", Short: "Delete a category of our own; its lists stay", Args: exactly("KEY"),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			c, err := ownCategory(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			if _, err := api.DeleteCategoryWithResponse(cmd.Context(), c.Own.ID, &client.DeleteCategoryParams{IfMatch: match(c.Own.Version)}); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Deleted the category %q; its lists stay.\n", c.Name)
			return nil
		}),
	}
}

func (a *app) categoryCorrectCommand() *cobra.Command {
	var why, file string
	var also []string
	cmd := &cobra.Command{
		Use: "correct ENTRY CATEGORY...", Short: "Say what a site, host or page is, whatever the catalogue says",
		Long: "Say which categories a site, host, page or page tree has. ENTRY is in the notation, or a URL as it stands in an address bar; CATEGORY is a key. " +
			"A correction that is there for the same entry is replaced. With --file, entries are read from it, one a line, and all arguments are categories.",
		Example: `  widelark category correct marrow-trust.test charity --why "A cancer charity"
  widelark category correct =harbour-news.example/puzzles games news --why "Only the puzzles are games"
  widelark category unrated -o csv | cut -d, -f1 | tail -n +2 | head -20 | widelark category correct --file - business --why "Suppliers, looked at one by one"`,
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			entries := also
			switch {
			case file == "" && len(args) < 2:
				return usagef("wanted: ENTRY CATEGORY…; or --file FILE CATEGORY…")
			case file == "":
				entries, args = append(entries, args[0]), args[1:]
			case len(args) < 1:
				return usagef("wanted: --file FILE CATEGORY…")
			default:
				read, err := a.readURLs(file)
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
						fmt.Fprintf(a.out, "%s is %s from now on, whatever the catalogue says.\n", c.Entry, strings.Join(c.Categories, ", "))
					}
				}
			}
			if len(entries) > 20 {
				fmt.Fprintf(a.out, "Made %s.\n", plural(int64(done), "correction", "corrections"))
			}
			return nil
		}),
	}
	cmd.Flags().StringVar(&why, "why", "", "the reason, for whoever wonders later")
	cmd.Flags().StringVar(&file, "file", "", "a file of entries, one a line; - is standard input")
	cmd.Flags().StringArrayVar(&also, "entry", nil, "another entry with the same categories; may be repeated")
	_ = cmd.MarkFlagRequired("why") // the flag is there
	return cmd
}

func (a *app) categoryCorrectionsCommand() *cobra.Command {
	var contains string
	var export bool
	cmd := &cobra.Command{
		Use: "corrections", Short: "All corrections, and which are no longer needed", Args: exactly(),
		Example: `  widelark category corrections
  widelark category corrections --export > for-the-packs-maker.csv`,
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			if export {
				file, err := api.ExportCorrectionsWithResponse(cmd.Context())
				if err != nil {
					return err
				}
				_, err = a.out.Write(file.Body)
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
			v := view{data: all, columns: []string{"Id", "Entry", "Is", "The catalogue says", "Reason", "By", "On"}, empty: "There are no corrections."}
			for _, c := range all {
				says := strings.Join(c.Catalogue, " ")
				switch {
				case c.Agreed:
					says += " (no longer needed)"
				case says == "":
					says = "unrated"
				}
				v.rows = append(v.rows, []string{fmt.Sprint(c.ID), c.Entry, strings.Join(c.Categories, " "), says, c.Reason, c.By, a.byClock(c.At).Format("2006-01-02")})
			}
			return a.show(v)
		}),
	}
	cmd.Flags().StringVar(&contains, "contains", "", "only those that mention this")
	cmd.Flags().BoolVar(&export, "export", false, "write all of them as a CSV file that the pack's maker, or `widelark pack build`, can read")
	return a.reads(cmd)
}

func (a *app) categoryUncorrectCommand() *cobra.Command {
	return &cobra.Command{
		Use: "uncorrect ID...", Short: "Take corrections back", Args: atLeast("ID"),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			for _, text := range args {
				id, err := strconv.ParseInt(text, 10, 64)
				if err != nil {
					return usagef("%q is no id; `widelark category corrections` shows them", text)
				}
				if _, err := api.RemoveCorrectionWithResponse(cmd.Context(), id); err != nil {
					return err
				}
			}
			fmt.Fprintf(a.out, "Took %s back.\n", plural(int64(len(args)), "correction", "corrections"))
			return nil
		}),
	}
}

func (a *app) categoryUnratedCommand() *cobra.Command {
	var limit int64
	cmd := &cobra.Command{
		Use: "unrated", Short: "Hosts that were asked for and have no category, the most asked for first", Args: exactly(),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			found, err := api.GetUnratedWithResponse(cmd.Context(), &client.GetUnratedParams{Limit: &limit})
			if err != nil {
				return err
			}
			all := found.JSON200
			v := view{data: all, columns: []string{"Host", "Requests", "Pages"}, numbers: []int{1, 2}, empty: "Everything that was asked for has a category."}
			for _, h := range all.Hosts {
				v.rows = append(v.rows, []string{h.Host, fmt.Sprint(h.Requests), fmt.Sprint(h.Pages)})
			}
			v.foot = fmt.Sprintf("\n%s of %s, with %s of %s requests, are unrated.", grouped(all.Unrated.Hosts), plural(all.Total.Hosts, "host", "hosts"),
				grouped(all.Unrated.Requests), grouped(all.Total.Requests))
			return a.show(v)
		}),
	}
	cmd.Flags().Int64Var(&limit, "limit", 30, "how many hosts, at most 10000")
	return a.reads(cmd)
}

func (a *app) scorecardCommand() *cobra.Command {
	cmd := noun("scorecard", "Words with points that give a category",
		a.scorecardLsCommand(), a.scorecardShowCommand(), a.scorecardSetCommand(), a.scorecardRemoveCommand(), a.scorecardTryCommand())
	cmd.Example = `  widelark scorecard try "Screening for breast cancer"
  widelark scorecard set "Adult words" --category adult --threshold 100 --words words.csv`
	return cmd
}

func (a *app) scorecardLsCommand() *cobra.Command {
	return a.reads(&cobra.Command{
		Use: "ls", Short: "All scorecards", Args: exactly(),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, _ []string) error {
			all, err := scorecardKind.list(cmd.Context(), api)
			if err != nil {
				return err
			}
			v := view{data: all, columns: []string{"Name", "Gives", "From", "Words", "", "About"}, numbers: []int{2, 3}, empty: "There are no scorecards."}
			for _, c := range all {
				v.rows = append(v.rows, []string{c.Name, c.Category, fmt.Sprint(c.Threshold), fmt.Sprint(len(c.Terms)), map[bool]string{true: "off"}[c.Off], c.About})
			}
			return a.show(v)
		}),
	})
}

func (a *app) scorecardShowCommand() *cobra.Command {
	return a.reads(&cobra.Command{
		Use: "show NAME", Short: "A scorecard's words and points; -o csv is what set reads", Args: exactly("NAME"),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			c, err := scorecardKind.get(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			v := view{data: c, columns: []string{"word", "points"}, numbers: []int{1}}
			for _, t := range c.Terms {
				v.rows = append(v.rows, []string{t.Word, fmt.Sprint(t.Points)})
			}
			v.foot = fmt.Sprintf("\nGives %s from %d points on. %s", c.Category, c.Threshold, c.About)
			return a.show(v)
		}),
	})
}

// readTerms reads a CSV file with the columns word and points.
func (a *app) readTerms(name string) ([]client.Term, error) {
	file, err := a.open(name)
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
			return nil, fmt.Errorf("%s, line %d: %q are no points; a whole number is wanted", name, line, row[1])
		default:
			terms = append(terms, client.Term{Word: strings.TrimSpace(spreadsheet.Plain(row[0])), Points: points})
		}
	}
}

func (a *app) scorecardSetCommand() *cobra.Command {
	var category, about, words string
	var threshold int64
	var off bool
	cmd := &cobra.Command{
		Use: "set NAME", Short: "Make a scorecard, or edit the one of that name; what is not named stays", Args: exactly("NAME"),
		Example: `  widelark scorecard set "Adult words" --category adult --threshold 100 --words words.csv
  widelark scorecard show "Adult words" -o csv > words.csv
  widelark scorecard set "Adult words" --off`,
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			var terms *[]client.Term
			if words != "" {
				read, err := a.readTerms(words)
				if err != nil {
					return err
				}
				terms = &read
			}
			all, err := scorecardKind.list(cmd.Context(), api)
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
				_, err := api.EditScorecardWithResponse(cmd.Context(), c.ID, &client.EditScorecardParams{IfMatch: match(c.Version)}, edit)
				if err == nil {
					fmt.Fprintf(a.out, "Edited the scorecard %q.\n", c.Name)
				}
				return err
			}
			if category == "" || terms == nil {
				return usagef("there is no scorecard %q; to make one, say --category and --words", args[0])
			}
			made, err := api.CreateScorecardWithResponse(cmd.Context(), client.NewScorecardInputBody{Name: args[0], About: &about, Category: category, Threshold: threshold, Terms: *terms, Off: &off})
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Made the scorecard %q with %s.\n", made.JSON201.Name, plural(int64(len(*terms)), "word", "words"))
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

func (a *app) scorecardRemoveCommand() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Delete a scorecard", Args: exactly("NAME"),
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			c, err := scorecardKind.get(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			if _, err := api.DeleteScorecardWithResponse(cmd.Context(), c.ID, &client.DeleteScorecardParams{IfMatch: match(c.Version)}); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Deleted the scorecard %q.\n", c.Name)
			return nil
		}),
	}
}

func (a *app) scorecardTryCommand() *cobra.Command {
	var words string
	var threshold int64
	cmd := &cobra.Command{
		Use: "try TEXT", Short: "What a text or a URL scores, word by word; - is standard input", Args: exactly("TEXT"),
		Example: `  widelark scorecard try "Screening for breast cancer, without shame"
  widelark scorecard try https://shore.example/breast/screening
  widelark scorecard try - --words words.csv --threshold 80 < page.txt`,
		RunE: a.withAPI(func(cmd *cobra.Command, api *client.ClientWithResponses, args []string) error {
			body := client.ScoreInputBody{Text: args[0]}
			if args[0] == "-" {
				text, err := io.ReadAll(io.LimitReader(a.in, 1_000_000))
				if err != nil {
					return err
				}
				body.Text = string(text)
			}
			if words != "" {
				terms, err := a.readTerms(words)
				if err != nil {
					return err
				}
				body.Terms, body.Threshold = &terms, &threshold
			}
			found, err := api.ScoreTextWithResponse(cmd.Context(), body)
			if err != nil {
				return err
			}
			v := view{data: found.JSON200, columns: []string{"Scorecard", "Total", "From", "Words that count", "Outcome"}, numbers: []int{1, 2}, empty: "There are no scorecards."}
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
				v.rows = append(v.rows, []string{s.Name, fmt.Sprint(s.Total), fmt.Sprint(s.Threshold), strings.Join(counted, ", "), outcome})
			}
			v.foot = map[bool]string{true: "\nScored as a URL: over host, path and decoded query."}[found.JSON200.IsURL]
			return a.show(v)
		}),
	}
	cmd.Flags().StringVar(&words, "words", "", "a CSV file with the columns word and points to score with, instead of the scorecards that are kept")
	cmd.Flags().Int64Var(&threshold, "threshold", 100, "with --words: from how many points on it is reached")
	return a.reads(cmd)
}

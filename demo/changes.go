package demo

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"widelark/client"
)

// expected is an expectation of the demo. who is a group, a person (with a dot in the name), or an address.
type expected struct{ folder, urls, who, when, verdict, note string }

var expectations = []expected{
	{"Wards", "dosage-tables.example/adults formulary.quillmere.internal", "Ward nurses", "", "allow", "Nobody waits for a dose."},
	{"Wards", "childrens-doses.test interactions.example/checker", "Doctors", "tue 03:10", "allow", "At night, too."},
	{"Wards", "poison-line.example", "Night ward", "sun 02:00", "allow", "Must open at any hour."},
	{"Wards", "infusion-pumps.example/manuals/mk2", "Ward nurses", "", "allow", ""},
	{"Wards", "diabetes-day.example/diet", "Ward nurses", "", "allow", "Asked for on the wards every week."},
	{"Wards", "wound-atlas.example/burns", "Theatre staff", "", "allow", ""},
	{"Wards", "oddsfield.example www.oddsfield.test", "Ward nurses", "in Meal breaks", "block", "No betting, not in breaks either."},
	{"Wards", "slots-palace.example/play", "Doctors", "", "block", ""},
	{"Breaks", "harbour-news.example/puzzles/today", "Ward nurses", "in Meal breaks", "watch", "Games in breaks are agreed with the staff council."},
	{"Breaks", "harbour-news.example/puzzles/today", "Ward nurses", "outside Meal breaks", "block", ""},
	{"Night", "gull-video.example/watch", "Night ward", "wed 23:30", "block", "Not before one."},
	{"Night", "oddsfield.example", "kay.moran", "sat 03:00", "block", "Still no betting."},
	{"Bedside", "menu.quillmere.internal encyclopaedia.example/wiki/Heron", "Bedside screens", "", "allow", ""},
	{"Bedside", "encyclopaedia.example/wiki/Tides", "10.40.41.9", "", "allow", "The volunteers asked for it."},
	{"Bedside", "encyclopaedia.example/wiki/Storm", "Bedside screens", "", "block", "One page, not the whole of it."},
	{"Bedside", "web-mail.example", "10.40.40.17", "", "block", ""},
	{"Visitors", "tidepool-news.example", "10.40.66.3", "", "allow", ""},
	{"Visitors", "betting-barn.example", "10.40.66.3", "", "block", ""},
	{"Visitors", "tidepool-news.example/sport/today", "Visitors", "", "block", ""},
	{"Trainees", "anatomy-atlas.example ward-rounds.example", "Trainees", "in Office hours", "allow", "Set for this term."},
	{"Trainees", "lantern-mail.example", "Trainees", "", "block", "Agreed with their lead."},
	{"Trainees", "search.example/find?q=exam+answers", "Trainees", "", "block", ""},
	{"Offices", "scalpel-and-sons.example/order", "Records office", "outside Office hours", "allow", ""},
	{"Offices", "coin-cove.example", "Front desk", "in Office hours", "allow", ""},
	{"Offices", "jackpot-junction.example", "Records office", "", "block", ""},
	{"Research", "harbour-news.example/archive", "Research library", "", "watch", "Open and watched."},
	{"Everybody", "www.quillmere.internal/emergency", "", "", "allow", "Whoever asks."},
	{"Everybody", "tide-and-flood-warnings.example", "Bedside screens", "", "allow", ""},
	{"Everybody", "better-breathing.example/emergency/asthma", "Visitors", "", "allow", ""},
	{"Everybody", "harbour-news.example/puzzles/lottery", "", "", "block", "Also for who is not known."},
}

// byName returns the ids of everything that expectations name, by kind and name.
func byName(ctx context.Context, api *client.ClientWithResponses) (map[string]uuid.UUID, error) {
	ids := map[string]uuid.UUID{}
	groups, err := api.GetGroupsWithResponse(ctx, nil)
	if err != nil {
		return nil, err
	}
	for _, g := range groups.JSON200.Items {
		ids["group "+g.Name] = g.ID
	}
	schedules, err := api.GetSchedulesWithResponse(ctx)
	if err != nil {
		return nil, err
	}
	for _, s := range schedules.JSON200.Schedules {
		ids["schedule "+s.Name] = s.ID
	}
	kay := "kay.moran"
	people, err := api.GetPeopleWithResponse(ctx, &client.GetPeopleParams{Text: &kay})
	if err != nil {
		return nil, err
	}
	for _, p := range people.JSON200.Items {
		ids["person "+p.Name] = p.ID
	}
	return ids, nil
}

func (e expected) body(ids map[string]uuid.UUID) client.ExpectationInput {
	ref := func(kind, name string) *client.Ref {
		id, ok := ids[kind+" "+name]
		if !ok {
			panic(fmt.Sprintf("bug: the demo has no %s %q", kind, name))
		}
		return &client.Ref{ID: id}
	}
	b := client.ExpectationInput{Urls: strings.Fields(e.urls), Folder: &e.folder, Verdict: client.ExpectationInputVerdict(e.verdict), Note: &e.note}
	switch {
	case e.who == "":
	case strings.HasPrefix(e.who, "10."):
		b.Address = &e.who
	case strings.Contains(e.who, "."):
		b.Person = ref("person", e.who)
	default:
		b.Group = ref("group", e.who)
	}
	in, inside := strings.CutPrefix(e.when, "in ")
	out, outside := strings.CutPrefix(e.when, "outside ")
	switch {
	case inside:
		b.Schedule = ref("schedule", in)
	case outside:
		b.Schedule, b.Outside = ref("schedule", out), &outside
	case e.when != "":
		b.At = &e.when
	}
	return b
}

// loadGrant grants one person one site for a week, as a help desk does.
func loadGrant(ctx context.Context, api *client.ClientWithResponses) error {
	const week = 7 * 24 * 60
	url, who, minutes, by := "gull-video.test", "Ines Scar", int64(week), "Ines Scar"
	_, err := api.AddGrantWithResponse(ctx, client.NewGrantInputBody{
		URL: &url, Who: &client.Who{Person: &who}, Minutes: &minutes, RequestedBy: &by, Reason: "She shows new colleagues the film about the ward.",
	})
	return err
}

// loadPresence says that a doctor is at a machine of a theatre, for the length of a shift.
func loadPresence(ctx context.Context, api *client.ClientWithResponses) error {
	const shift = 8 * 60
	minutes, how := int64(shift), "the theatre's sign-in page"
	_, err := api.SetPresenceWithResponse(ctx, client.SetPresenceInputBody{Person: "Hal Birch", Address: "10.40.20.11", Minutes: &minutes, How: &how})
	return err
}

// loadChanges creates the expectations, publishes everything, and then edits the draft as somebody careless might: it breaks two of the
// expectations.
func loadChanges(ctx context.Context, api *client.ClientWithResponses, requests int, mails bool) error {
	draft, err := api.GetDraftWithResponse(ctx)
	if err != nil || draft.JSON200.Live.Number > 1 {
		return err
	}
	ids, err := byName(ctx, api)
	if err != nil {
		return err
	}
	if draft.JSON200.Expected == 0 {
		for _, e := range expectations {
			if _, err := api.AddExpectationWithResponse(ctx, e.body(ids)); err != nil {
				return fmt.Errorf("the expectation of %s: %w", e.urls, err)
			}
		}
	}
	if _, err := api.PublishWithResponse(ctx, client.PublishInputBody{Note: "Quillmere General as it is run today"}); err != nil {
		return err
	}
	if err := loadAccounts(ctx, api); err != nil {
		return fmt.Errorf("the accounts: %w", err)
	}
	if err := loadGrant(ctx, api); err != nil {
		return fmt.Errorf("the grant: %w", err)
	}
	if err := loadStint(ctx, api); err != nil {
		return fmt.Errorf("the stint: %w", err)
	}
	if err := loadPresence(ctx, api); err != nil {
		return fmt.Errorf("the presence: %w", err)
	}
	if err := loadJournal(ctx, api, requests); err != nil {
		return fmt.Errorf("the recorded requests: %w", err)
	}
	if err := loadWatching(ctx, api, mails); err != nil {
		return err
	}
	return editDraft(ctx, api)
}

func editDraft(ctx context.Context, api *client.ClientWithResponses) error {
	for name, lines := range map[string]string{
		"Betting":          "*bet* # all of them at once",
		"Supplier portals": "quoin-surgical.example\norders.gannet-linen.example # from December on",
	} {
		found, err := api.GetListsWithResponse(ctx, &client.GetListsParams{Name: &name})
		if err != nil {
			return err
		}
		if len(found.JSON200.Lists) == 0 {
			return fmt.Errorf("there is no list %q to edit", name)
		}
		_, err = api.AddEntriesWithResponse(ctx, found.JSON200.Lists[0].ID, nil, client.AddEntriesInputBody{Lines: strings.Split(lines, "\n")})
		if err != nil {
			return err
		}
	}
	policies, err := api.GetPoliciesWithResponse(ctx, nil)
	if err != nil {
		return err
	}
	for _, p := range policies.JSON200.Items {
		rules := slices.Clone(p.Rules)
		switch p.Name {
		case "Ward floor": // a block before the rule that allows games in breaks, which is never reached then
			at := slices.IndexFunc(rules, func(r client.RuleBody) bool { return r.Name == "No games, no video" })
			if at < 1 {
				continue
			}
			rules[at-1], rules[at] = rules[at], rules[at-1]
		case "IT workshop":
			rules = append(rules, client.RuleBody{Name: "File sharing is flagged", Then: "watch", If: &client.Condition{Categories: &[]string{"file-sharing"}}})
		default:
			continue
		}
		tag := fmt.Sprintf(`"%d"`, p.Version)
		if _, err := api.PutPolicyWithResponse(ctx, p.ID, &client.PutPolicyParams{IfMatch: &tag}, client.PolicyInput{
			Name: p.Name, Description: p.Description, Rules: rules, Groups: p.Groups, Otherwise: client.PolicyInputOtherwise(p.Otherwise), Inspect: p.Inspect, Records: p.Records, Page: p.Page,
		}); err != nil {
			return fmt.Errorf("the policy %q: %w", p.Name, err)
		}
	}
	schedules, err := api.GetSchedulesWithResponse(ctx)
	if err != nil {
		return err
	}
	for _, s := range schedules.JSON200.Schedules {
		if s.Name != "Visiting" {
			continue
		}
		text := "mon-fri 14:00-16:00, 18:00-20:30; sat-sun 10:00-20:00"
		tag := fmt.Sprintf(`"%d"`, s.Version)
		if _, err := api.EditScheduleWithResponse(ctx, s.ID, &client.EditScheduleParams{IfMatch: &tag}, client.EditScheduleInputBody{Text: &text}); err != nil {
			return err
		}
	}
	return nil
}

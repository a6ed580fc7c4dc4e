package demo

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"

	"widelark/client"
)

var apps = []struct {
	name, about string
	hosts       []string
	activities  []client.ActivityBody
}{
	{"Sharebay", "Files handed about between strangers.", []string{"sharebay.example"}, []client.ActivityBody{activity("upload", "POST PUT", "/up /files/*/add"), activity("download", "GET", "/get")}},
	{"Estuary Drive", "Where the research library keeps its drafts.", []string{"drive.estuary-cloud.example"}, []client.ActivityBody{activity("upload", "POST PUT", "/v1/files")}},
	{"Ferry Chat", "Messages, and files beside them.", []string{"ferry-chat.example", "media.ferry-chat.example"}, []client.ActivityBody{activity("write", "POST", "/send"), activity("send files", "POST", "/attach")}},
	{"Gull Video", "Films that anybody may add to.", []string{"gull-video.*"}, []client.ActivityBody{activity("watch", "GET", "/watch"), activity("add films", "POST", "/upload")}},
	{"Lantern Mail", "Private mail.", []string{"lantern-mail.example"}, []client.ActivityBody{activity("attach", "POST", "/compose/attach")}},
}

func activity(name, methods, paths string) client.ActivityBody {
	m, p := strings.Fields(methods), strings.Fields(paths)
	return client.ActivityBody{Name: name, Key: strings.ReplaceAll(name, " ", "-"), Methods: &m, Paths: &p}
}

// planned is a policy of the demo. Rules are JSON in the form of the API, with names in place of ids: {"lists": ["Betting"]}.
type planned struct {
	name, about, otherwise, inspect string
	groups                          []string
	rules                           string
}

// kept says what is recorded where it is not everything but search words.
var kept = map[string]client.RecordsBody{
	"Trainees": {Amount: client.RecordsBodyAmountEverything, Words: new(true)},
	"Offices":  {Amount: client.RecordsBodyAmountEverything, Words: new(true)},
	"Research": {Amount: client.RecordsBodyAmountGroup},
}

const sensitive = `"categories": ["adult", "nudity", "betting", "drugs", "weapons", "violence", "hatred"]`

var plannedPolicies = []planned{
	{
		"Ward floor", "What a ward’s people may open. Games and video in meal breaks only.", "allow", `{"all": true, "butCategories": ["banking", "mental-health", "hospitals"]}`,
		[]string{"Ward nurses", "Doctors", "Theatre staff"},
		`[
		{"name": "Formulary and dosage", "then": "allow", "if": {"lists": ["Formulary and dosage sites"]}},
		{"name": "Never on the ward", "then": "block", "if": {"lists": ["Betting", "Video mirrors", "Blocked on request"]}},
		{"name": "Suspect sites", "then": "block", "if": {"lists": ["Suspect sites"]}},
		{"name": "Unfit for a ward", "then": "block", "if": {` + sensitive + `}},
		{"name": "Games and video in breaks", "then": "watch", "if": {"categories": ["games", "video"]}, "when": {"schedule": "Meal breaks"}, "with": {"minutesADay": 30}},
		{"name": "No games, no video", "then": "block", "if": {"categories": ["games", "video"]}},
		{"name": "Programs from unknown places", "then": "hold", "leave": {"by": "code"}, "if": {"all": [{"files": ["programs"]}, {"traits": ["unrated", "raw-address"]}]}},
		{"name": "Nobody has looked at it", "then": "note", "if": {"traits": ["unrated"]}}]`,
	},
	{"Night ward", "More open from one o’clock on, still no betting.", "allow", "", []string{"Night ward"}, `[
		{"name": "No betting", "then": "block", "if": {"any": [{"lists": ["Betting"]}, {"categories": ["betting"]}]}},
		{"name": "Unfit for a ward", "then": "block", "if": {` + sensitive + `}},
		{"name": "After one", "then": "watch", "if": {"categories": ["games", "video"]}, "when": {"schedule": "Small hours"}},
		{"name": "Films on weekend nights", "then": "watch", "if": {"categories": ["video"]}, "when": {"schedule": "Weekend nights"}},
		{"name": "Not before", "then": "block", "if": {"categories": ["games", "video"]}}]`},
	{"Bedside screens", "Only the welcome sites.", "block", "", []string{"Bedside screens"}, `[
		{"name": "Welcome sites", "then": "allow", "if": {"lists": ["Bedside welcome sites"]}}]`},
	{"Visitors", "Open, but nothing dangerous, adult or for bets.", "allow", "", []string{"Visitors"}, `[
		{"name": "No dangers, nothing adult, no betting", "then": "block", "if": {"any": [{"categories": ["dangers", "adult", "nudity", "betting"]}, {"lists": ["Betting", "Suspect sites"]}]}},
		{"name": "Safe search", "then": "allow", "if": {"categories": ["search", "video"]}, "with": {"safeSearch": true, "maxBytes": 200000000}}]`},
	{"Trainees", "What is set, and the rest outside teaching.", "allow", "", []string{"Trainees"}, `[
		{"name": "Reading list", "then": "allow", "if": {"lists": ["Trainees' reading list", "Formulary and dosage sites"]}},
		{"name": "Unfit for trainees", "then": "block", "if": {"any": [{` + sensitive + `}, {"lists": ["Betting", "Suspect sites"]}]}},
		{"name": "Answers for sale", "then": "block", "if": {"search": ["\"exam answers\"", "\"essay*\""]}},
		{"name": "Search, made safe", "then": "allow", "if": {"categories": ["search"]}, "with": {"safeSearch": true}},
		{"name": "No leisure while teaching", "then": "block", "if": {"categories": ["leisure", "social", "chat"]}, "when": {"schedule": "Office hours"}}]`},
	{"Offices", "Strict in office hours, open otherwise; social sites are watched.", "allow", `{"all": true, "butCategories": ["banking"]}`, []string{"Front desk", "Records office"}, `[
		{"name": "Unfit for the office", "then": "block", "if": {"any": [{` + sensitive + `}, {"lists": ["Betting", "Suspect sites"]}]}},
		{"name": "Private contact in office hours", "then": "block", "if": {"categories": ["contact"]}, "when": {"schedule": "Office hours"}},
		{"name": "Social sites are watched", "then": "watch", "if": {"categories": ["social"]}, "when": {"schedule": "Office hours"}},
		{"name": "Leisure and shops in office hours", "then": "block", "if": {"categories": ["leisure", "shopping", "auctions", "suppliers"]}, "when": {"schedule": "Office hours"}},
		{"name": "Social sites after hours", "then": "watch", "if": {"categories": ["social"]}, "when": {"schedule": "Office hours", "outside": true}}]`},
	{"Research", "Open and watched; nothing goes up to file sharing.", "watch", `{"all": true}`, []string{"Research library"}, `[
		{"name": "Nothing goes up to file sharing", "then": "block", "if": {"any": [{"apps": ["sharebay/upload"]}, {"all": [{"categories": ["file-sharing"]}, {"methods": ["POST", "PUT"]}]}]}},
		{"name": "Study of dangers", "then": "watch", "if": {"categories": ["phishing", "swindle"]}},
		{"name": "Publishers and libraries", "then": "allow", "if": {"categories": ["learning", "health"]}}]`},
	{"IT workshop", "Open; what nobody has looked at is flagged.", "allow", "", []string{"IT workshop"}, `[
		{"name": "Bare addresses and odd ports", "then": "watch", "if": {"traits": ["raw-address", "odd-port", "unrated"]}}]`},
}

const (
	baselineRules = `[
		{"name": "Hospital and emergency sites", "then": "allow", "if": {"lists": ["Hospital and emergency sites"]}},
		{"name": "Dangers", "then": "block", "if": {"categories": ["malware", "phishing", "command-and-control", "swindle", "crypto-mining"]}}]`
	fallbackRules = `[
		{"name": "Unfit for anybody unknown", "then": "block", "if": {"any": [{` + sensitive + `}, {"lists": ["Betting", "Suspect sites"]}]}}]`
)

// rulesOf reads rules, and replaces names by ids.
func rulesOf(text string, ids map[string]uuid.UUID) ([]client.RuleBody, error) {
	var tree any
	if err := json.Unmarshal([]byte(text), &tree); err != nil {
		return nil, err
	}
	withIDs(tree, ids)
	named, err := json.Marshal(tree)
	if err != nil {
		return nil, err
	}
	var rules []client.RuleBody
	return rules, json.Unmarshal(named, &rules)
}

func withIDs(tree any, ids map[string]uuid.UUID) {
	ref := func(kind string, name any) any {
		id, ok := ids[kind+" "+name.(string)]
		if !ok {
			panic(fmt.Sprintf("bug: the demo has no %s %v", kind, name))
		}
		return map[string]any{"id": id}
	}
	switch node := tree.(type) {
	case []any:
		for _, part := range node {
			withIDs(part, ids)
		}
	case map[string]any:
		for key, value := range node {
			switch key {
			case "lists":
				for i, name := range value.([]any) {
					value.([]any)[i] = ref("list", name)
				}
			case "schedule":
				node[key] = ref("schedule", value)
			default:
				withIDs(value, ids)
			}
		}
	}
}

// loadPolicies creates the policies, the baseline and the fallback, and the exceptions. ids holds the ids of lists, groups and the like, by
// kind and name.
func loadPolicies(ctx context.Context, api *client.ClientWithResponses, ids map[string]uuid.UUID) error {
	for _, app := range apps {
		if _, err := api.AddAppWithResponse(ctx, client.AppInput{Name: app.name, Description: &app.about, Hosts: app.hosts, Activities: app.activities}); err != nil {
			return fmt.Errorf("the app %q: %w", app.name, err)
		}
	}
	if err := loadEngines(ctx, api); err != nil {
		return err
	}
	var order []client.Ref
	for _, p := range plannedPolicies {
		rules, err := rulesOf(p.rules, ids)
		if err != nil {
			return fmt.Errorf("the policy %q: %w", p.name, err)
		}
		body := client.PolicyInput{Name: p.name, Description: &p.about, Rules: rules, Otherwise: client.PolicyInputOtherwise(p.otherwise), Groups: []client.Ref{}}
		for _, g := range p.groups {
			body.Groups = append(body.Groups, client.Ref{ID: ids["group "+g]})
		}
		if p.inspect != "" {
			body.Inspect = &client.InspectionBody{}
			if err := json.Unmarshal([]byte(p.inspect), body.Inspect); err != nil {
				return err
			}
		}
		if records, ok := kept[p.name]; ok {
			body.Records = &records
		}
		made, err := api.AddPolicyWithResponse(ctx, body)
		if err != nil {
			return fmt.Errorf("the policy %q: %w", p.name, err)
		}
		order = append(order, client.Ref{ID: made.JSON201.ID})
	}
	if err := loadExceptions(ctx, api, ids); err != nil {
		return err
	}
	settings, err := api.GetAllSettingsWithResponse(ctx, nil)
	if err != nil {
		return err
	}
	s := settings.JSON200.Items[0]
	tag := fmt.Sprintf(`"%d"`, s.Version)
	_, err = api.PutSettingsWithResponse(ctx, s.ID, &client.PutSettingsParams{IfMatch: &tag},
		client.SettingsInput{Combining: "strictest", Order: order, Way: "dns,proxy"})
	if err != nil {
		return err
	}
	// The fallback comes last: it shows that everything else has been loaded.
	known, err := api.GetPoliciesWithResponse(ctx, nil)
	if err != nil {
		return err
	}
	for role, text := range map[client.PolicyRole]string{"baseline": baselineRules, "fallback": fallbackRules} {
		for _, p := range known.JSON200.Items {
			if p.Role == nil || *p.Role != role {
				continue
			}
			rules, err := rulesOf(text, ids)
			if err != nil {
				return err
			}
			as, tag := client.PolicyInputRole(role), fmt.Sprintf(`"%d"`, p.Version)
			_, err = api.PutPolicyWithResponse(ctx, p.ID, &client.PutPolicyParams{IfMatch: &tag}, client.PolicyInput{
				Name: p.Name, Description: p.Description, Role: &as, Rules: rules, Otherwise: client.PolicyInputOtherwise(p.Otherwise), Groups: []client.Ref{},
			})
			if err != nil {
				return err
			}
		}
	}
	return nil
}

func loadExceptions(ctx context.Context, api *client.ClientWithResponses, ids map[string]uuid.UUID) error {
	zone, err := time.LoadLocation(TimeZone)
	if err != nil {
		return err
	}
	now := time.Now().In(zone)
	midnight := time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, zone) // London's clock never skips midnight
	day := func(n int) *time.Time { t := midnight.AddDate(0, 0, n); return &t }
	friday := (int(time.Friday)-int(now.Weekday())+7)%7 + 1 // the end of Friday
	refs := func(kind, name string) *[]client.Ref { return &[]client.Ref{{ID: ids[kind+" "+name]}} }
	for _, e := range []struct {
		name, entry, then, reason, by string
		whom                          client.WhomBody
		until                         *time.Time
	}{
		{"Ferrow’s portal until Friday", "ferrow-instruments.example", "allow", "The quarter’s orders have to be in by Friday.", "Petra Lapwing", client.WhomBody{Groups: refs("group", "Records office")}, day(friday)},
		{"The page on tides", "=encyclopaedia.example/wiki/Tides", "allow", "Asked for at the beds by the sea windows.", "Volunteers’ office", client.WhomBody{Networks: refs("network", "Bedside screens")}, nil},
		{"Lantern Mail for trainees", "lantern-mail.example", "block", "Agreed with their lead after the exam papers went round.", "Ivo Sedge", client.WhomBody{Groups: refs("group", "Trainees")}, day(120)},
		{"Derby day", "derby-day.example", "allow", "The theatres’ sweepstake.", "Theatre staff", client.WhomBody{Groups: refs("group", "Theatre staff")}, day(-160)},
		{"No sports pages for visitors", "tidepool-news.example/sport", "block", "Complaints about odds beside the scores.", "Front desk", client.WhomBody{Groups: refs("group", "Visitors")}, day(45)},
		{"Gull Video for the open day", "gull-video.test", "allow", "The film about the new ward is shown from there.", "Rae Scar", client.WhomBody{Networks: refs("network", "Wards")}, day(3)},
	} {
		_, err := api.AddExceptionWithResponse(ctx, client.ExceptionInput{
			Name: &e.name, Entries: []string{e.entry}, Then: client.ExceptionInputThen(e.then), Reason: e.reason,
			RequestedBy: &e.by, For: e.whom, Until: e.until,
		})
		if err != nil {
			return fmt.Errorf("the exception %q: %w", e.name, err)
		}
	}
	return nil
}

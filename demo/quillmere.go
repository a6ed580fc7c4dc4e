// Package demo is Quillmere General, an invented hospital on an invented coast: the lists and the policy that the demo,
// the pictures and the tests of the whole use. It is loaded through the API, as anybody would.
//
// From: the files of this folder and a seeded generator.
// To: a running service.
package demo

import (
	"bytes"
	"context"
	"embed"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/uuid"

	"widelark/client"
)

// The person who signs in to the demo. The password is no secret: the demo listens on loopback only.
const (
	Name     = "edda"
	FullName = "Edda Marsh"
	Password = "quillmere-demo"
	TimeZone = "Europe/London"
)

// HandKept is the name of a file as people keep them: mixed line ends, a byte-order mark, addresses from a browser,
// hosts-file lines, defanged text, typing errors.
const HandKept = "hand-kept.txt"

// Recording is the name of a browser's recording of a supplier's page.
const Recording = "ordering.har"

// Suspects is the name of a file of a hundred thousand sites, one a line.
const (
	Suspects      = "suspect-sites.txt"
	SuspectsCount = 100_000
	suspectsSeed  = 20
)

//go:embed files
var files embed.FS

// File returns one of the files that ship with the demo.
func File(name string) []byte {
	content, err := files.ReadFile("files/" + name)
	if err != nil {
		panic("bug: " + err.Error())
	}
	return content
}

// SuspectSites returns the content of the file of suspect sites.
func SuspectSites() []byte {
	var b bytes.Buffer
	_ = WriteSites(&b, SuspectsCount, suspectsSeed) // a buffer takes everything
	return b.Bytes()
}

// list is one list of the demo with the file that fills it.
type list struct{ name, description, file, owner, colour string }

var lists = []list{
	{"Formulary and dosage sites", "What wards look doses up in. Must always open.", "formulary.txt", "Pharmacy", "reed"},
	{"Bedside welcome sites", "All that a bedside screen may open.", "bedside.txt", "Volunteers' office", "sky"},
	{"Betting", "Betting, lotteries and the pages that lead there.", "betting.txt", "Safeguarding", "rust"},
	{"Video mirrors", "Copies of video sites that turn up under ever new endings.", "video-mirrors.txt", "IT workshop", "plum"},
	{"Supplier portals", "Where Purchasing and the Records office order.", "suppliers.txt", "Purchasing", "gorse"},
	{"Trainees' reading list", "Set by the trainees' lead; renewed every term.", "reading.txt", "Trainees' lead", "reed"},
	{"Blocked on request", "Kept by hand at the service desk for years.", HandKept, "Service desk", "rust"},
	{"Suspect sites", "A hundred thousand sites from a partner hospital, renewed monthly.", Suspects, "IT workshop", "slate"},
	{"Old ward links", "Nothing uses this list any more.", "old-ward-links.txt", "", ""},
}

// The policy of the demo.
const (
	group      = "Ward nurses"
	policyName = "Ward floor"
)

var rules = []struct {
	name       string
	lists      []string
	categories []string
}{
	{"Never on the ward", []string{"Betting", "Video mirrors", "Blocked on request"}, nil},
	{"Suspect sites", []string{"Suspect sites"}, nil},
	{"Dangers and what wards do without", nil, []string{"dangers", "adult", "betting", "drugs"}},
}

// Load brings the demo data into a service that does not have them, and writes the files that they came from to dir, so
// that people have something to import. partner is where the partner's stand-in serves. What it does is told on out. A Load that
// was broken off is finished by the next.
func Load(ctx context.Context, api *client.ClientWithResponses, dir, partner string, out io.Writer) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	if err := follow(ctx, api, partner); err != nil {
		return fmt.Errorf("list %q: %w", partnerList, err)
	}
	if err := loadTraffic(ctx, api, time.Now().UTC()); err != nil {
		return fmt.Errorf("the recorded traffic: %w", err)
	}
	if err := loadCatalogue(ctx, api, partner, out); err != nil {
		return fmt.Errorf("the catalogue: %w", err)
	}
	policies, err := api.GetPoliciesWithResponse(ctx)
	if err != nil {
		return err
	}
	first := policies.JSON200.Policies[0]
	if first.Name == policyName { // made last, so all is there
		return nil
	}
	ids := map[string]uuid.UUID{}
	for _, l := range lists {
		content := SuspectSites
		if l.file != Suspects {
			content = func() []byte { return File(l.file) }
		}
		id, err := loadList(ctx, api, l, content(), out)
		if err != nil {
			return fmt.Errorf("list %q: %w", l.name, err)
		}
		ids[l.name] = id
	}
	for name, content := range map[string][]byte{HandKept: File(HandKept), Suspects: SuspectSites(), Recording: File(Recording), Holidays: File(Holidays)} {
		if err := os.WriteFile(filepath.Join(dir, name), content, 0o644); err != nil {
			return err
		}
	}
	if err := loadSchedules(ctx, api); err != nil {
		return fmt.Errorf("the schedules: %w", err)
	}
	if err := loadLocal(ctx, api, ids); err != nil {
		return fmt.Errorf("what is said of categories here: %w", err)
	}
	return loadPolicy(ctx, api, first, ids)
}

func loadList(ctx context.Context, api *client.ClientWithResponses, l list, content []byte, out io.Writer) (uuid.UUID, error) {
	found, err := api.GetListsWithResponse(ctx, &client.GetListsParams{Name: &l.name})
	if err != nil {
		return uuid.Nil, err
	}
	var have client.List
	if len(found.JSON200.Lists) > 0 {
		have = found.JSON200.Lists[0]
	} else {
		made, err := api.CreateListWithResponse(ctx, client.NewListInputBody{
			Name: l.name, Description: &l.description, Owner: &l.owner, Colour: (*client.NewListInputBodyColour)(&l.colour),
		})
		if err != nil {
			return uuid.Nil, err
		}
		have = *made.JSON201
	}
	if have.EntryCount > 0 {
		return have.ID, nil
	}
	reading := client.ImportEntriesParamsReadingExact
	if l.file == HandKept {
		reading = client.ImportEntriesParamsReadingMending
	}
	report, err := api.ImportEntriesWithBodyWithResponse(ctx, have.ID, &client.ImportEntriesParams{Reading: &reading}, "text/plain", bytes.NewReader(content))
	if err != nil {
		return uuid.Nil, err
	}
	r := report.JSON200
	fmt.Fprintf(out, "  %-28s %7d entries from %d lines (%d refused)\n", l.name, r.Added, r.Lines, r.Refused)
	return have.ID, nil
}

func loadPolicy(ctx context.Context, api *client.ClientWithResponses, p client.Policy, ids map[string]uuid.UUID) error {
	tag := func(version int64) *string { t := fmt.Sprintf(`"%d"`, version); return &t }
	name, said := group, "Nurses on the wards, day and night."
	if _, err := api.EditGroupWithResponse(ctx, p.Group.ID, &client.EditGroupParams{IfMatch: tag(p.Group.Version)},
		client.EditGroupInputBody{Name: &name, Description: &said}); err != nil {
		return err
	}
	edits := make([]client.RuleEdit, len(rules))
	for i, r := range rules {
		edits[i] = client.RuleEdit{Name: r.name, Verdict: client.RuleEditVerdictBlock, Lists: []uuid.UUID{}, Categories: &r.categories}
		for _, l := range r.lists {
			edits[i].Lists = append(edits[i].Lists, ids[l])
		}
	}
	title, about := policyName, strings.Join([]string{"What a ward’s machines may open.", "Whatever no rule names is allowed."}, " ")
	_, err := api.EditPolicyWithResponse(ctx, p.ID, &client.EditPolicyParams{IfMatch: tag(p.Version)},
		client.EditPolicyInputBody{Name: &title, Description: &about, Rules: &edits})
	return err
}

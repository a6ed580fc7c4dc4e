// Package demo holds Quillmere General, an invented hospital on an invented coast: the data of the demo,
// the pictures and the tests of the whole. It is loaded through the API, as anybody could do.
//
// From: the files of this folder and a seeded generator.
// To: a running service.
package demo

import (
	"bytes"
	"cmp"
	"context"
	"embed"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/google/uuid"

	"widelark/client"
)

// The account of the demo. The password is not secret: the demo listens on loopback only.
const (
	Name         = "edda"
	FullName     = "Edda Marsh"
	Password     = "quillmere-demo"
	Organisation = "Quillmere General"
	PageName     = "lark.quillmere.internal" // under which browsers reach the pages of the proxy gate
	TimeZone     = "Europe/London"
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
func SuspectSites() []byte { return suspectSites(SuspectsCount) }

func suspectSites(count int) []byte {
	var b bytes.Buffer
	_ = WriteSites(&b, count, suspectsSeed) // writing to a buffer cannot fail
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
	{"Hospital and emergency sites", "Open for everybody, always.", "hospital.txt", "Safeguarding", "reed"},
	{"Old ward links", "Nothing uses this list any more.", "old-ward-links.txt", "", ""},
}

// Loading holds the options of loading the demo data.
type Loading struct {
	Dir      string    // the folder for the files of the demo, so that people have something to import
	Partner  string    // the address of the partner's stand-in
	Requests int       // the number of recorded requests of two weeks; 0 for 200,000
	Suspects int       // the number of suspect sites to load; 0 for all 100,000
	Mails    bool      // the service can send mail: alerts and reports go to somebody
	Out      io.Writer // for progress

	Directory *DirectoryServer // the stand-in of the hospital's directory; nil for none
}

// Load loads the demo data into a service that lacks them. After an interrupted Load, the next one loads the rest.
func Load(ctx context.Context, api *client.ClientWithResponses, l Loading) error {
	if err := os.MkdirAll(l.Dir, 0o755); err != nil {
		return err
	}
	if Loaded(l.Dir) {
		return errors.Join(findPartner(ctx, api, l.Partner), findDirectory(ctx, api, l.Directory))
	}
	if err := load(ctx, api, l); err != nil {
		return err
	}
	if err := handOver(ctx, api, l.Directory); err != nil {
		return fmt.Errorf("the directory: %w", err)
	}
	return os.WriteFile(filepath.Join(l.Dir, loadedMark), []byte("The demo data are loaded; what is edited since stays as it is.\n"), 0o644)
}

// loadedMark is a file that marks a complete load. Afterwards nothing that people rename, edit or remove is restored.
const loadedMark = ".loaded"

// Loaded reports whether a load with this folder has completed.
func Loaded(dir string) bool {
	_, err := os.Stat(filepath.Join(dir, loadedMark))
	return err == nil
}

func load(ctx context.Context, api *client.ClientWithResponses, loading Loading) error {
	dir, partner, out := loading.Dir, loading.Partner, loading.Out
	if err := follow(ctx, api, partner); err != nil {
		return fmt.Errorf("list %q: %w", partnerList, err)
	}
	if err := loadTraffic(ctx, api, time.Now().UTC()); err != nil {
		return fmt.Errorf("the recorded traffic: %w", err)
	}
	if err := loadCatalogue(ctx, api, partner, out); err != nil {
		return fmt.Errorf("the catalogue: %w", err)
	}
	policies, err := api.GetPoliciesWithResponse(ctx, nil)
	if err != nil {
		return err
	}
	for _, p := range policies.JSON200.Items {
		if p.Role != nil && *p.Role == client.PolicyRole("fallback") && len(p.Rules) > 0 { // the last thing to be edited, so everything has been loaded
			return loadChanges(ctx, api, cmp.Or(loading.Requests, journalCount), loading.Mails)
		}
	}
	ids := map[string]uuid.UUID{}
	for _, l := range lists {
		var content []byte
		if l.file == Suspects {
			content = suspectSites(cmp.Or(loading.Suspects, SuspectsCount))
		} else {
			content = File(l.file)
		}
		id, err := loadList(ctx, api, l, content, out)
		if err != nil {
			return fmt.Errorf("list %q: %w", l.name, err)
		}
		ids[l.name] = id
	}
	for name, content := range map[string][]byte{HandKept: File(HandKept), Suspects: SuspectSites(), Recording: File(Recording), Holidays: File(Holidays), Directory: PeopleLDIF()} {
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
	named, err := loadPeople(ctx, api)
	if err != nil {
		return fmt.Errorf("the people: %w", err)
	}
	if err := loadDirectory(ctx, api, loading.Directory); err != nil {
		return fmt.Errorf("the directory: %w", err)
	}
	for name, id := range ids {
		named["list "+name] = id
	}
	if err := loadPolicies(ctx, api, named); err != nil {
		return err
	}
	return loadChanges(ctx, api, cmp.Or(loading.Requests, journalCount), loading.Mails)
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
		may := slices.Contains(forStints, l.name)
		made, err := api.CreateListWithResponse(ctx, client.NewListInputBody{
			ForStints: &may, Name: l.name, Description: &l.description, Owner: &l.owner, Colour: (*client.NewListInputBodyColour)(&l.colour),
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

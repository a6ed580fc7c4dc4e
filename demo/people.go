package demo

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"

	"github.com/google/uuid"

	"widelark/client"
)

// Directory is the name of the directory's file: about 400 people with their groups.
const Directory = "people.ldif"

const (
	peopleCount = 400
	peopleSeed  = 1847
	suffix      = "dc=quillmere,dc=internal"
)

// givenNames and familyNames make up the names of people. All people are invented.
var (
	givenNames = strings.Fields(`Ada Alder Anwen Aric Bea Beck Bram Brin Cal Calla Cato Cleo Corin Dara Dell Doran Edda Elan Elin Ennis Esme Fay Fenn Finn Flora
		Gale Gwen Hal Hedda Hollis Ida Ines Iona Ivo Jory Juno Kay Keir Kit Lark Leif Linnet Lorna Mab Maren Merrin Mina Nell Nerys Niall Noor Ola Orla Oswin
		Perrin Petra Piers Quill Rae Reed Rhian Robin Rowan Sable Senan Sorrel Tamsin Tarn Teal Thea Toby Una Vesper Wren Yara Zeb`)
	familyNames = strings.Fields(`Abney Alderby Arkwell Ashdown Barrow Beckfoot Birch Blakeney Brack Brayshaw Carrow Clegg Coble Corran Dace Dunlin Eddery Elver Fairhaven
		Fenn Ferrow Flint Gannet Garth Grebe Hale Harrow Hawes Hollin Ibbot Ings Jessop Kettle Kirkby Knott Lapwing Leat Ling Linden Loxley Marl Marsh Mere Moran
		Mossop Nairn Nettle Oake Ormsby Pell Plover Quayle Rill Rook Sallow Scar Sedge Selby Shore Skene Stell Tarrant Tern Thorne Tolland Usk Vale Wade Wharram Whin Yarrow`)
)

// staff holds the groups of the directory, with the share of people in each.
var staff = []struct {
	name, about string
	share       int // in per cent
}{
	{"Ward nurses", "Nurses on the wards, day and night.", 34},
	{"Night ward", "Those of the ward nurses who work nights this term.", 0},
	{"Doctors", "All grades, all wards.", 18},
	{"Theatre staff", "Surgery, anaesthetics, recovery.", 11},
	{"Front desk", "Reception and switchboard.", 6},
	{"Records office", "Records and purchasing.", 9},
	{"Research library", "Researchers and librarians.", 8},
	{"Trainees", "All who are in training, led by Ivo Sedge.", 10},
	{"IT workshop", "Who keeps the machines going.", 4},
}

// somebody is a person of the directory.
type somebody struct {
	uid, name string
	groups    []string
}

// The people of the demo's stories.
var known = []somebody{
	{"kay.moran", "Kay Moran", []string{"Ward nurses", "Night ward"}},
	{"ola.fenn", "Ola Fenn", []string{"Ward nurses"}},
	{"ivo.sedge", "Ivo Sedge", []string{"Trainees"}},
	{"edda.marsh", "Edda Marsh", []string{"IT workshop"}},
	{"petra.lapwing", "Petra Lapwing", []string{"Records office"}},
	{"noor.hale", "Noor Hale", []string{"Research library"}},
	{"wren.tolland", "Wren Tolland", []string{"Trainees"}},
	{"hal.birch", "Hal Birch", []string{"Doctors"}},
	{"rae.scar", "Rae Scar", []string{"Front desk"}},
}

// everybody returns all people, the same each time.
func everybody() []somebody {
	draw := rand.New(rand.NewPCG(peopleSeed, 0))
	all := slices.Clone(known)
	taken := map[string]bool{}
	for _, p := range all {
		taken[p.uid] = true
	}
	for len(all) < peopleCount {
		given, family := givenNames[draw.IntN(len(givenNames))], familyNames[draw.IntN(len(familyNames))]
		p := somebody{uid: strings.ToLower(given + "." + family), name: given + " " + family}
		if taken[p.uid] {
			continue
		}
		taken[p.uid] = true
		at := draw.IntN(100)
		for _, g := range staff {
			if at < g.share {
				p.groups = append(p.groups, g.name)
				break
			}
			at -= g.share
		}
		if slices.Contains(p.groups, "Ward nurses") && draw.IntN(4) == 0 {
			p.groups = append(p.groups, "Night ward")
		}
		all = append(all, p)
	}
	return all
}

// PeopleLDIF returns the directory's file (RFC 2849).
func PeopleLDIF() []byte { return ldifOf(everybody()) }

func ldifOf(people []somebody) []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, "version: 1\n\ndn: ou=people,%s\nobjectClass: organizationalUnit\nou: people\n", suffix)
	for _, p := range people {
		family := p.name[strings.IndexByte(p.name, ' ')+1:]
		fmt.Fprintf(&b, "\ndn: uid=%s,ou=people,%s\nobjectClass: inetOrgPerson\nuid: %s\ncn: %s\nsn: %s\nmail: %s@quillmere.internal\n", p.uid, suffix, p.uid, p.name, family, p.uid)
	}
	for _, g := range staff {
		fmt.Fprintf(&b, "\ndn: cn=%s,ou=groups,%s\nobjectClass: groupOfNames\ncn: %s\ndescription: %s\n", g.name, suffix, g.name, g.about)
		for _, p := range people {
			if slices.Contains(p.groups, g.name) {
				fmt.Fprintf(&b, "member: uid=%s,ou=people,%s\n", p.uid, suffix)
			}
		}
	}
	return b.Bytes()
}

var networks = []struct {
	name, about, ranges string
	way                 string // "": that of the organisation
	distrusts, shared   bool
}{
	{"Wards", "Desks and trolleys on the wards.", "10.40.10.0/23", "proxy", false, false},
	{"Theatres", "", "10.40.20.0/24", "proxy", false, false},
	{"Offices", "", "10.40.30.0/24", "proxy", false, false},
	{"Bedside screens", "The screens at the beds.", "10.40.40.0/22", "dns,proxy", false, false},
	{"Visitor Wi-Fi", "Nobody has a name here.", "10.40.64.0/20", "dns", true, false},
	{"Library", "The university's proxy asks us.", "10.40.50.0/24", "icap", false, true},
	{"Workshop", "Benches of the IT workshop.", "10.40.60.0/24", "proxy", false, false},
	{"Quillmere", "Everything else of the hospital's.", "10.40.0.0/16", "", false, false},
}

var machines = []struct{ name, about, address string }{
	{"Bedside 4-12", "Ward 4, bed 12.", "10.40.41.12"}, {"Front hall kiosk", "Where visitors find their way.", "10.40.30.40"}, {"Library scanner", "", "10.40.50.9"},
}

// loadPeople creates people, networks, machines and groups in the service, and returns their ids by name.
func loadPeople(ctx context.Context, api *client.ClientWithResponses) (map[string]uuid.UUID, error) {
	ids := map[string]uuid.UUID{}
	for _, n := range networks {
		made, err := api.AddNetworkWithResponse(ctx, client.NetworkInput{Name: n.name, Description: &n.about, Ranges: []string{n.ranges}, Way: &n.way, Distrusts: &n.distrusts, Shared: &n.shared})
		if err != nil {
			return nil, err
		}
		ids["network "+n.name] = made.JSON201.ID
	}
	for _, m := range machines {
		made, err := api.AddMachineWithResponse(ctx, client.MachineInput{Name: m.name, Description: &m.about, Address: m.address})
		if err != nil {
			return nil, err
		}
		ids["machine "+m.name] = made.JSON201.ID
	}
	format := client.ImportPeopleParamsFormat("ldif")
	if _, err := api.ImportPeopleWithBodyWithResponse(ctx, &client.ImportPeopleParams{Format: &format}, "text/plain", bytes.NewReader(PeopleLDIF())); err != nil {
		return nil, err
	}
	for _, g := range []struct{ name, about, network string }{
		{"Bedside screens", "Whoever sits at a screen; nobody signs in there.", "Bedside screens"}, {"Visitors", "Whoever is on the visitors' Wi-Fi.", "Visitor Wi-Fi"},
	} {
		_, err := api.AddGroupWithResponse(ctx, client.GroupInput{
			Name: g.name, Description: &g.about, Groups: []client.Ref{}, Machines: []client.Ref{}, Ranges: []string{},
			Networks: []client.Ref{{ID: ids["network "+g.network]}},
		})
		if err != nil {
			return nil, err
		}
	}
	found, err := api.GetGroupsWithResponse(ctx, nil)
	if err != nil {
		return nil, err
	}
	lead := "ivo.sedge"
	leads, err := api.GetPeopleWithResponse(ctx, &client.GetPeopleParams{Text: &lead})
	if err != nil {
		return nil, err
	}
	for _, g := range found.JSON200.Items {
		ids["group "+g.Name] = g.ID
		edit := client.GroupInput{Name: g.Name, Description: g.Description, Key: g.Key, Groups: g.Groups, Networks: g.Networks, Machines: g.Machines, Ranges: g.Ranges}
		switch g.Name {
		case "Trainees":
			edit.Lead = &client.Ref{ID: leads.JSON200.Items[0].ID}
		case "IT workshop":
			edit.Networks = append(edit.Networks, client.Ref{ID: ids["network Workshop"]})
		case "Front desk":
			edit.Machines = append(edit.Machines, client.Ref{ID: ids["machine Front hall kiosk"]})
		default:
			continue
		}
		tag := fmt.Sprintf(`"%d"`, g.Version)
		if _, err := api.PutGroupWithResponse(ctx, g.ID, &client.PutGroupParams{IfMatch: &tag}, edit); err != nil {
			return nil, err
		}
	}
	schedules, err := api.GetSchedulesWithResponse(ctx)
	if err != nil {
		return nil, err
	}
	for _, s := range schedules.JSON200.Schedules {
		ids["schedule "+s.Name] = s.ID
	}
	return ids, nil
}

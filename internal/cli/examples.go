package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"widelark/internal/cli/command"
)

// examples holds examples for commands whose definition has none: short commands that an example explains.
var examples = []string{
	`account add ivo --full-name "Ivo Tern" --role editor`,
	`account ls`,
	`provider ls`,
	`remark ls`,
	`account password`,
	`account remove ivo`,
	`session ls`,
	`stint ls --over`,
	`stint choices`,
	`stint own ls`,
	`token ls`,
	`app ls`,
	`app remove Sharebay`,
	`app show Sharebay`,
	`directory ls`,
	`directory show Staff`,
	`directory import Students students.ldif`,
	`directory accept Staff`,
	`directory refuse Staff`,
	`directory undo Staff`,
	`directory history Staff`,
	`directory token Agency`,
	`directory remove Staff`,
	`engine ls`,
	`engine remove "Find the Lark"`,
	`engine show "Find the Lark"`,
	`category edit mirrors --name "Copies of films" --list "Video mirrors"`,
	`category find puzzle`,
	`category remove mirrors`,
	`category show games --contains puzzle`,
	`category tree`,
	`category uncorrect 17`,
	`category unrated`,
	`exception end "The page on tides"`,
	`gate authority export authority.pem`,
	`gate authority new "Quillmere General"`,
	`gate authority show`,
	`gate latest --limit 20`,
	`gate ls`,
	`gate show "proxy at front-1"`,
	`exception ls --ending 7d`,
	`exception remove "Derby day"`,
	`exception show "The page on tides"`,
	`expect export expectations.yaml`,
	`expect import expectations.yaml`,
	`expect ls`,
	`expect remove "oddsfield.example: block"`,
	`expect run`,
	`group edit Trainees --lead "Ivo Sedge"`,
	`group ls`,
	`group new "Bedside screens" --network "Bedside screens"`,
	`group plan "Ward nurses"`,
	`group remove "Bedside screens"`,
	`group show "Ward nurses"`,
	`history`,
	`list delete "Old ward links"`,
	`list history Betting`,
	`list ls`,
	`list new Betting`,
	`list source ls`,
	`list source pull "Suspect sites"`,
	`list source remove "Suspect sites"`,
	`list source set "Suspect sites" https://lists.partner.example/suspects.txt --every 6h`,
	`list take-back Betting 41`,
	`list undo Betting`,
	`logout`,
	`machine edit "Library scanner" --address 10.40.50.10`,
	`machine ls`,
	`machine new "Front hall kiosk" 10.40.30.40`,
	`machine remove "Library scanner"`,
	`machine show "Front hall kiosk"`,
	`network edit Wards --range 10.40.10.0/23 --range 2001:db8:10::/48`,
	`network ls`,
	`network new Wards 10.40.10.0/23 --describe "Desks and trolleys on the wards"`,
	`network remove Library`,
	`network show Wards`,
	`pack accept "Harbour catalogue"`,
	`pack distrust 1f0c5a92`,
	`pack history "Harbour catalogue"`,
	`pack import "Harbour catalogue" harbour-46.tar.zst`,
	`pack key signing.key`,
	`pack keys`,
	`pack ls`,
	`pack pull "Harbour catalogue"`,
	`pack refuse "Harbour catalogue"`,
	`pack remove "Estuary additions"`,
	`pack show "Harbour catalogue"`,
	`pack trust Hu9X3o1exIV35eQnIQX1aisFQdxZFW8pC7IUk1crBiM= "Harbour, since spring"`,
	`pack undo "Harbour catalogue"`,
	`pack verify harbour-46.tar.zst`,
	`person edit kay.moran --in "Ward nurses" --in "Night ward"`,
	`person ls --group "Ward nurses"`,
	`person new rae.scar --full-name "Rae Scar" --in Doctors`,
	`person remove rae.scar`,
	`person show "Kay Moran"`,
	`plan policy-repo`,
	`policy copy "Ward floor" "Ward floor in spring"`,
	`policy edit Visitors --for Visitors --otherwise allow`,
	`policy ls`,
	`policy plan "Night ward"`,
	`policy remove "Ward floor in spring"`,
	`policy rule off "Ward floor" "No games, no video"`,
	`policy rule on "Ward floor" "No games, no video"`,
	`policy rule remove "Ward floor" "Nobody has looked at it"`,
	`policy show "Ward floor"`,
	`restore backup.json --publish "as it was on Monday"`,
	`review accept k7f2 --why "The volunteers keep this list for next year"`,
	`review reopen k7f2`,
	`schedule edit "Office hours" --text 'mon-fri 08:30-12:30, 13:15-17:00'`,
	`schedule explain 'fri 20:00-08:00; not on 2026-12-25..2026-12-26'`,
	`schedule export "Public holidays" --out holidays.ics`,
	`schedule import "Office hours" holidays.ics --as "not on"`,
	`schedule ls`,
	`schedule remove "Weekend nights"`,
	`schedule show "Office hours"`,
	`scorecard ls`,
	`scorecard remove "First try"`,
	`scorecard show "Screening for breast cancer"`,
	`status`,
	`version`,
	`whoami`,
}

// exemplify sets the examples of commands from [examples].
func exemplify(root *cobra.Command) {
	byPath := map[string][]string{}
	for _, line := range examples {
		if cmd, _, err := root.Find(exampleWords(line)); err == nil {
			byPath[cmd.CommandPath()] = append(byPath[cmd.CommandPath()], "  "+root.Name()+" "+line)
		}
	}
	command.Walk(root, func(cmd *cobra.Command) {
		if cmd.Example == "" {
			cmd.Example = strings.Join(byPath[cmd.CommandPath()], "\n")
		}
	})
}

// exampleWords returns the words of a line up to the first quoted one, which are enough to find its command.
func exampleWords(line string) []string {
	line, _, _ = strings.Cut(line, `"`)
	line, _, _ = strings.Cut(line, `'`)
	return strings.Fields(line)
}

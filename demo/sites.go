package demo

import (
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
)

// The parts of invented site names: things of an invented coast, trades, and usual endings of
// names.
var (
	firsts = strings.Fields(`amber ash barley beacon birch bracken brine briar brook cairn cedar chalk cinder clover cobble
		copper coral crag cress curlew dapple delta dew drift dune eddy elder ember estuary fathom fen fern ferry fjord flint
		foam ford frost gale gannet garnet glade glen gorse granite grove gull harbour hawthorn hazel heath heron hollow holly
		ivory jetty juniper kelp kestrel knoll lagoon lantern larch lark lichen linden loam lock marrow marsh meadow mere mill
		mint mist moor moss myrtle nettle oak oat orchard osier otter oyster pebble petrel pine plover pond poplar quarry quay
		quill rain raven reed ridge rill river rook rowan rush rye saffron sage salt sand sedge shale shoal shore silver skerry
		sleet slate sloe sorrel spruce squall starling storm strand sumac swallow swift tarn teal thistle thorn thyme tide timber
		tor umber vale velvet wharf wheat whin willow winter wold wren yarrow yew`)
	seconds = strings.Fields(`arcade archive atlas bakery bazaar bench board books bridge broker bulletin cabin cards cart
		casino channel charts chat cinema circle club coins corner courier crafts dealers depot diary digest dice drive exchange
		fair feed files films finance forge forum fund gallery games garden gazette guild hall harbour health hub journal
		kitchen lab ledger lending library lodge lottery loft lounge mail market matches media mirror mixer motors museum music
		news notes odds offers outlet parcel parlour pharmacy pictures pixels player poker post prints quiz radio raffle records
		rentals review rides rooms school score seller shop slots song spot stage stakes store stream studio supply syndicate
		tables talk tickets tonic tools toys trade trail travel union vault video voyage wagers watch wire works yard`)
	endings = []string{"example", "test", "example", "test", "example"}
)

// Sites returns n different site names under reserved endings, the same for the same seed. About one in eight has a
// host part of its own before it.
func Sites(n int, seed uint64) []string {
	random := rand.New(rand.NewPCG(seed, 0x1a2b))
	pick := func(from []string) string { return from[random.IntN(len(from))] }
	seen := make(map[string]bool, n)
	sites := make([]string, 0, n)
	for len(sites) < n {
		name := pick(firsts) + pick([]string{"-", "", "-"}) + pick(seconds)
		switch random.IntN(8) {
		case 0:
			name = fmt.Sprintf("%s%d", name, 2+random.IntN(998))
		case 1:
			name = pick([]string{"www", "m", "shop", "cdn", "play", "img", "static"}) + "." + name + "-" + pick(firsts)
		case 2, 3, 4:
			name = name + "-" + pick(firsts)
		}
		site := name + "." + pick(endings)
		if !seen[site] {
			seen[site] = true
			sites = append(sites, site)
		}
	}
	return sites
}

// WriteSites writes a list file of n sites, one a line.
func WriteSites(w io.Writer, n int, seed uint64) error {
	_, err := io.WriteString(w, strings.Join(Sites(n, seed), "\n")+"\n")
	return err
}

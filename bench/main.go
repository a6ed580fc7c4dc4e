// Command bench reads what `go test -bench` prints and tells it as ratios: each benchmark that has an anchor, a few lines of
// well-known library code measured in the same run, beside the goal for it.
//
// From: standard input.
// To: one table.
package main

import (
	"bufio"
	"fmt"
	"os"
	"regexp"
	"slices"
	"strconv"

	"github.com/jedib0t/go-pretty/v6/table"
)

// goals are how many times the anchor's time each may take at most.
var goals = []struct {
	name, work, anchor string
	most               float64
}{
	{"CanonicalClean", "canonicalise clean URLs", "net/url.Parse", 0.3},
	{"CanonicalMix", "canonicalise the realistic mix", "net/url.Parse", 1},
	{"Hosts", "lookup among a million sites, all matches", "Go map asked label by label", 0.7},
	{"Hosts10M", "lookup among ten million", "Go map asked label by label", 0.6},
	{"Build", "index of a million sites", "filling a presized Go map", 0.6},
	{"Build10M", "index of ten million sites", "filling a presized Go map", 0.6},
	{"Edit", "one edit of a million entries, until it counts", "compiling all anew", 1.0 / 100},
	{"HostGlobs", "10,000 host globs", "loop over all", 1.0 / 400},
	{"Regexes", "1,000 regexes, 3 in 100 without a literal", "loop over all", 1.0 / 800},
	{"RegexesTenfold", "10,000 regexes", "1,000 regexes", 4},
	{"Compile", "10,000 regexes into an index", "compiling them one by one", 1.6},
	{"Words", "5,000 words", "loop over all", 1.0 / 400},
	{"Mix", "covered? a million sites, 10,000 globs, 1,000 regexes", "reading the URL and looking its host up", 5},
	{"MixTenfold", "the same with 10,000 regexes", "with 1,000", 1.5},
	{"Classify", "what is it? a pack of a million sites, 10,000 globs, 1,000 regexes", "reading the URL and looking its host up", 5},
	{"Decide", "a whole decision: 200 policies of 20 rules, 2,000 exceptions, 5,000 people", "what is it, and which lists hold it?", 1.3},
	{"Trace", "a decision with every step told", "a decision", 6},
	{"Week", "the verdicts of a week", "a decision", 60},
	{"Take", "a pack of a million sites, checked, kept and loaded", "COPY of the same rows into a bare table", 8},
	{"Replay", "200,000 recorded requests under two states", "deciding them once, from memory", 2},
	{"Import", "import of a million lines", "COPY of the same rows into a bare table", 3},
}

var line = regexp.MustCompile(`^Benchmark(\w+)/(ours|anchor)(?:#\d+)?-\d+\s+\d+\s+([0-9.]+) ns/op`)

func main() {
	times := map[string][]float64{} // nanoseconds a run, by name and side, round by round
	for in := bufio.NewScanner(os.Stdin); in.Scan(); {
		fmt.Fprintln(os.Stderr, in.Text())
		if found := line.FindStringSubmatch(in.Text()); found != nil {
			ns, _ := strconv.ParseFloat(found[3], 64) // the expression lets only numbers through
			times[found[1]+found[2]] = append(times[found[1]+found[2]], ns)
		}
	}
	t := table.NewWriter()
	t.SetOutputMirror(os.Stdout)
	t.AppendHeader(table.Row{"work", "anchor, same run", "goal", "ratio", "spread", "met"})
	missing := false
	for _, g := range goals {
		ours, anchor := times[g.name+"ours"], times[g.name+"anchor"]
		if len(ours) == 0 || len(anchor) == 0 {
			missing = true
			t.AppendRow(table.Row{g.work, g.anchor, figure(g.most), "not measured", "", ""})
			continue
		}
		ratios := make([]float64, min(len(ours), len(anchor)))
		for round := range ratios {
			ratios[round] = ours[round] / anchor[round]
		}
		slices.Sort(ratios)
		ratio := ratios[len(ratios)/2]
		met := "no"
		if ratio <= g.most {
			met = "yes"
		}
		spread := fmt.Sprintf("%s to %s", figure(ratios[0]), figure(ratios[len(ratios)-1]))
		t.AppendRow(table.Row{g.work, g.anchor, figure(g.most), figure(ratio), spread, met})
	}
	t.Render()
	if missing {
		os.Exit(1)
	}
}

// figure writes small ratios as a fraction.
func figure(ratio float64) string {
	if ratio < 0.1 {
		return fmt.Sprintf("1/%.0f", 1/ratio)
	}
	return fmt.Sprintf("%.2f", ratio)
}

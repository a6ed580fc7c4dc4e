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
	{"Hosts", "lookup among a million sites, all matches", "Go map asked label by label", 0.6},
	{"Hosts10M", "lookup among ten million", "Go map asked label by label", 0.5},
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
	{"Steered", "a decision beside the stints of a month, one of them in force", "a decision without any", 1.5},
	{"Directory", "a reading of 10,000 people in 500 nested groups, every twentieth otherwise, until it is in force", "asking the LDAP server for them", 5},
	{"Week", "the verdicts of a week", "a decision", 60},
	{"Take", "a pack of a million sites, checked, kept and loaded", "COPY of the same rows into a bare table", 8},
	{"Replay", "200,000 recorded requests under two states", "deciding them once, from memory", 2},
	{"Import", "import of a million lines", "COPY of the same rows into a bare table", 3},
	{"ProxyPlain", "a plain request through the proxy gate", "the same proxy without decisions and records", 1 / 0.9},
	{"ProxyDirect", "a plain request through the proxy gate", "a request to the origin", 1 / 0.3},
	{"ProxyTunnels", "a new tunnel with TLS and one request", "a new connection with TLS and one request", 1 / 0.3},
	{"ProxyThroughput", "64 MiB through a tunnel", "64 MiB from the origin", 1 / 0.7},
	{"GateStart", "start of a gate from its disk, a million entries, to its first decision", "the index, built from memory", 2},
	{"GatePublish", "one edit of a million that is live, until a gate elsewhere decides by it", "the index, built from memory", 3},
	{"GateBytes", "bytes that travel for one edit of a million", "the list, compressed", 1.0 / 100},
	{"ProxyOpened", "a new connection that is opened, with a new certificate, and the block page", "a TLS server with one certificate", 1 / 0.6},
	{"ProxyOpenedThrough", "the same, and a request through it", "the same request to the origin", 1 / 0.3},
	{"Names", "names over UDP from the cache, decided and recorded, 64 under way", "a fixed answer through the same library", 1 / 0.85},
	{"NamesTail", "the wait of the slowest in a hundred names, at 20,000 a second", "a fixed answer through the same library", 1},
	{"NamesOverHTTPS", "a name over HTTPS", "the same server of HTTP/2 with fixed bytes", 2},
	{"ZoneFile", "a zone of a million names, written to a file", "a second", 1},
	{"ZoneEdit", "an edit, until a resolver that holds a million names of ours answers by it", "a second", 1},
	{"ICAP", "questions of a proxy about requests over 8 connections, decided and recorded", "the same reading, and a fixed answer", 1 / 0.8},
	{"SearchPerson", "a person's first page among ten million records of thirty days", "100 ms", 1},
	{"SearchRule", "the first page of a rule", "100 ms", 1},
	{"SearchRare", "what hardly occurs", "100 ms", 1},
	{"SearchNothing", "what does not occur", "100 ms", 1},
	{"SearchDay", "what does not occur in a day, by its size", "100 ms", 1},
	{"SearchText", "a text that does not occur", "a second", 1},
	{"SearchTextDay", "a text that does not occur in a day", "100 ms", 1},
	{"SearchCovers", "what an entry covers", "4 seconds", 1},
	{"SearchCoversDay", "what an entry covers in a day", "500 ms", 1},
	{"SearchCounts", "twelve fields counted over thirty days", "a second", 1},
	{"SearchCountsDay", "twelve fields counted over a day", "150 ms", 1},
	{"SearchCountsSome", "twelve fields counted of what is blocked in thirty days", "a second", 1},
	{"SearchChart", "a month of two groups by host", "500 ms", 1},
	{"SignInFlood", "a call while a thousand sign-ins a second fail, from as many addresses", "the same call while none does", 10},
	{"Journal", "20,000 records into the journal, beside a gate that decides all the time", "COPY of the same as rows into a bare table, nothing else running", 2},
}

// Two forms are read: times of either side, and ratios in millionths. See package rounds.
var (
	timeLine  = regexp.MustCompile(`^Benchmark(\w+)/(ours|anchor)(?:#\d+)?-\d+\s+\d+\s+([0-9.]+) ns/op`)
	ratioLine = regexp.MustCompile(`^Benchmark(?:\w+/)?(\w+)-\d+\s.*\s([0-9.e+]+) ppm\s+([0-9.e+]+) ppm-high\s+([0-9.e+]+) ppm-low`)
)

// ratios are how many times the anchor's time something took: the lowest, the middle and the highest.
type ratios [3]float64

func main() {
	times := map[string][]float64{} // nanoseconds a run, by name and side, round by round
	measured := map[string]ratios{}
	for in := bufio.NewScanner(os.Stdin); in.Scan(); {
		fmt.Fprintln(os.Stderr, in.Text())
		if found := timeLine.FindStringSubmatch(in.Text()); found != nil {
			times[found[1]+found[2]] = append(times[found[1]+found[2]], number(found[3]))
		}
		if found := ratioLine.FindStringSubmatch(in.Text()); found != nil {
			measured[found[1]] = ratios{number(found[4]) / 1e6, number(found[2]) / 1e6, number(found[3]) / 1e6}
		}
	}
	t := table.NewWriter()
	t.SetOutputMirror(os.Stdout)
	t.AppendHeader(table.Row{"work", "anchor, same run", "goal", "ratio", "spread", "met"})
	missing := false
	for _, g := range goals {
		r, ok := measured[g.name]
		if !ok {
			r, ok = rounds(times[g.name+"ours"], times[g.name+"anchor"])
		}
		if !ok {
			missing = true
			t.AppendRow(table.Row{g.work, g.anchor, figure(g.most), "not measured", "", ""})
			continue
		}
		met := "no"
		if r[1] <= g.most {
			met = "yes"
		}
		t.AppendRow(table.Row{g.work, g.anchor, figure(g.most), figure(r[1]), fmt.Sprintf("%s to %s", figure(r[0]), figure(r[2])), met})
	}
	t.Render()
	if missing {
		os.Exit(1)
	}
}

// rounds compares times round by round; false where there is none.
func rounds(ours, anchor []float64) (ratios, bool) {
	all := make([]float64, min(len(ours), len(anchor)))
	if len(all) == 0 {
		return ratios{}, false
	}
	for round := range all {
		all[round] = ours[round] / anchor[round]
	}
	slices.Sort(all)
	return ratios{all[0], all[len(all)/2], all[len(all)-1]}, true
}

// number reads what the expressions let through.
func number(text string) float64 {
	n, _ := strconv.ParseFloat(text, 64)
	return n
}

// figure writes small ratios as a fraction.
func figure(ratio float64) string {
	if ratio < 0.1 {
		return fmt.Sprintf("1/%.0f", 1/ratio)
	}
	return fmt.Sprintf("%.2f", ratio)
}

package weburl

import (
	"bufio"
	"bytes"
	"compress/gzip"
	_ "embed"
	"strings"
	"sync"

	"golang.org/x/net/publicsuffix"
)

// SplitSuffix cuts a host name before its public suffix (Public Suffix List, ICANN and private sections; a name
// under no listed suffix has its last label as suffix): "www.heron.co.uk" is "www.heron" and "co.uk". The
// name is empty where the host is itself a suffix. Precondition: host is a name in ASCII form, no address.
func SplitSuffix(host string) (name, suffix string) {
	suffix, _ = publicsuffix.PublicSuffix(host)
	if len(suffix) >= len(host) {
		return "", host
	}
	return host[:len(host)-len(suffix)-1], suffix
}

// Site returns the registrable domain of the host: its public suffix and one label more; "" for an address and for a public suffix.
func (u URL) Site() string {
	if u.addr.IsValid() {
		return ""
	}
	name, suffix := SplitSuffix(u.host)
	if name == "" || suffix == "" {
		return ""
	}
	return name[strings.LastIndexByte(name, '.')+1:] + "." + suffix
}

// suffixes holds the rules of the Public Suffix List that have more than one label, one a line, without exceptions ("!…"), compressed. The
// library has the rules but does not list them. TestSuffixesAreCurrent writes the file and checks that it agrees with the library.
//
//go:embed suffixes.txt.gz
var suffixes []byte

// SuffixesBelow returns the listed public suffixes below a name; those below "uk" include "co.uk". A first label "*" stands for any one label.
// The caller must not change the result, which is shared. Safe for concurrent use.
func SuffixesBelow(name string) []string { return suffixesBelow()[name] }

var suffixesBelow = sync.OnceValue(func() map[string][]string {
	below := map[string][]string{}
	unpacked, err := gzip.NewReader(bytes.NewReader(suffixes))
	if err != nil {
		panic("the list of public suffixes in this program: " + err.Error())
	}
	lines := bufio.NewScanner(unpacked)
	for lines.Scan() {
		suffix := lines.Text()
		for _, above, more := strings.Cut(suffix, "."); more; _, above, more = strings.Cut(above, ".") {
			below[above] = append(below[above], suffix)
		}
	}
	if err := lines.Err(); err != nil {
		panic("the list of public suffixes in this program: " + err.Error())
	}
	return below
})

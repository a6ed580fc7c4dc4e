package listfile

import (
	"io"
	"strings"

	"github.com/miekg/dns"

	"widelark/core/pattern"
)

// said is what a zone says of a name.
type said struct {
	line        int
	text        string
	name        string
	here, below string // what becomes of the name, and of those below it: "", refused or passed
}

const (
	refused = "refused"
	passed  = "passed"
)

// readZone reads a response policy zone, as a master file (RFC 1035, section 5): what it refuses becomes entries, what it lets pass carve-outs. Records that are about
// something else than names are faults of their own.
func readZone(r io.Reader, each func(pattern.Line) error) error {
	p := dns.NewZoneParser(r, "", "")
	origin := ""
	var all []*said
	byName := map[string]*said{}
	number := 0
	for rr, ok := p.Next(); ok; rr, ok = p.Next() {
		number++
		head := rr.Header()
		if soa, ok := rr.(*dns.SOA); ok && origin == "" {
			origin = strings.ToLower(soa.Hdr.Name)
			continue
		}
		text := strings.Join(strings.Fields(rr.String()), " ")
		name, within := strings.CutSuffix(strings.ToLower(head.Name), "."+origin)
		switch {
		case origin == "":
			return &Error{"this is no zone: it does not begin with a SOA record"}
		case !within || head.Rrtype == dns.TypeNS:
			continue // of the zone itself
		case strings.HasSuffix(name, ".rpz-ip") || strings.HasSuffix(name, ".rpz-client-ip") || strings.HasSuffix(name, ".rpz-nsip") || strings.HasSuffix(name, ".rpz-nsdname"):
			line := pattern.Line{Number: number, Text: text, Err: &pattern.Error{Line: number, Column: 1, Code: pattern.BadAttribute, Found: name, Expected: "a name; addresses and servers of names are no entries"}}
			if err := each(line); err != nil {
				return err
			}
			continue
		}
		what := refused
		if alias, ok := rr.(*dns.CNAME); ok && strings.EqualFold(alias.Target, "rpz-passthru.") {
			what = passed
		}
		host, below := strings.CutPrefix(name, "*.")
		s := byName[host]
		if s == nil {
			s = &said{line: number, text: text, name: host}
			byName[host], all = s, append(all, s)
		}
		if below {
			s.below = what
		} else {
			s.here = what
		}
	}
	if err := p.Err(); err != nil {
		return &Error{"the zone cannot be read: " + err.Error()}
	}
	for _, s := range all {
		for _, entry := range s.entries() {
			line := pattern.ReadLine(s.line, entry, pattern.Exact)
			line.Text = s.text
			if err := each(line); err != nil {
				return err
			}
		}
	}
	return nil
}

// entries returns what a zone says of a name in the notation.
func (s *said) entries() (entries []string) {
	mark := map[string]string{passed: "! "}
	switch {
	case s.name == "*":
		return []string{mark[s.here] + "*"}
	case s.here == s.below:
		return []string{mark[s.here] + s.name}
	}
	if s.here != "" {
		entries = append(entries, mark[s.here]+"="+s.name)
	}
	if s.below != "" {
		entries = append(entries, mark[s.below]+"*."+s.name)
	}
	return entries
}

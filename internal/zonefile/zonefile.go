// Package zonefile writes what policies say of names for other filters: as a response policy zone, as hosts, as plain names, and as a PAC file.
//
// From: a [policy.Zone].
// To: text, with what the form cannot say in comments.
package zonefile

import (
	"bufio"
	"fmt"
	"io"
	"net/netip"
	"strings"
	"time"

	"widelark/core/policy"
)

// Form is a form of files.
type Form string

// The forms.
const (
	RPZ   Form = "rpz"   // a zone of response policies, as a master file (RFC 1035, section 5)
	Hosts Form = "hosts" // lines of an address that is nobody's, and a name (hosts(5))
	Plain Form = "names" // a name a line
	PAC   Form = "pac"   // a function for browsers
)

// Forms lists every form.
var Forms = []Form{RPZ, Hosts, Plain, PAC}

// About is what a file says of itself.
type About struct {
	Who    string // it is for
	At     time.Time
	From   string // what it was made of, as "revision 7"
	Errs   policy.Erring
	Origin string // of a zone, as rpz.lark.example
	Serial uint32
	Page   []netip.Addr // where refused names lead, where a policy says so
}

// TTL is how long answers by a zone live, in seconds.
const TTL = 60

// longest is the longest name that the DNS can hold, in characters (RFC 1035, section 2.3.4).
const longest = 253

// Records calls each with the records of a zone of response policies: the name, below the origin, the type, and what it holds. It returns how many hosts have names that are too
// long for that.
func Records(z *policy.Zone, about *About, each func(name, kind, value string) error) (tooLong int, err error) {
	if !z.Open {
		if err = closed(z, about, "*", ".", each); err != nil {
			return 0, err
		}
	}
	lines := z.Lines()
	for i := range lines {
		l := &lines[i]
		if len(l.Host)+len("*.")+1+len(about.Origin) > longest {
			tooLong++
			continue
		}
		switch {
		case l.Instead != "":
			err = each(l.Host, "CNAME", l.Instead+".")
		case l.Open:
			err = each(l.Host, "CNAME", "rpz-passthru.")
		case l.BelowOpen: // the name has no records, but those below have
			err = closed(z, about, l.Host, "*.", each)
		default:
			err = closed(z, about, l.Host, ".", each)
		}
		if err == nil && l.BelowOpen {
			err = each("*."+l.Host, "CNAME", "rpz-passthru.")
		} else if err == nil {
			err = closed(z, about, "*."+l.Host, ".", each)
		}
		if err != nil {
			return tooLong, err
		}
	}
	return tooLong, nil
}

func closed(z *policy.Zone, about *About, name, target string, each func(name, kind, value string) error) error {
	if !z.Page || len(about.Page) == 0 {
		return each(name, "CNAME", target)
	}
	for _, at := range about.Page {
		kind := "A"
		if at.Is6() {
			kind = "AAAA"
		}
		if err := each(name, kind, at.String()); err != nil {
			return err
		}
	}
	return nil
}

// SOA returns the record with which a zone begins.
func SOA(about *About) string {
	return fmt.Sprintf("%s. %d IN SOA localhost. hostmaster.localhost. %d 60 30 604800 %d", about.Origin, TTL, about.Serial, TTL)
}

// NS returns the record that every zone has. Nobody asks for the server of such a zone, and one below its origin could be refused by the zone itself.
func NS(about *About) string { return fmt.Sprintf("%s. %d IN NS localhost.", about.Origin, TTL) }

// Write writes a file.
func Write(to io.Writer, form Form, z *policy.Zone, about About) error {
	w := bufio.NewWriterSize(to, 64<<10)
	mark := map[Form]string{RPZ: ";", PAC: "//"}[form]
	if mark == "" {
		mark = "#"
	}
	comment := func(format string, with ...any) { fmt.Fprintf(w, mark+" "+format+"\n", with...) }
	comment("What Wide Lark says of names for %s, %s, by %s.", about.Who, about.At.Format("Mon 2006-01-02 15:04 MST"), about.From)
	comment("Where a rule cannot be told by a name, the name is left %s.", map[policy.Erring]string{policy.Close: "closed"}[about.Errs]+map[policy.Erring]string{policy.LeaveOpen: "open"}[about.Errs])
	unsaid := append(z.Unsaid, lost(form, z)...)
	if len(unsaid) > 0 {
		comment("")
		comment("What this form cannot say:")
		for _, u := range unsaid {
			comment("%8d  %s: %s", u.Count, printable(u.What), u.Why)
		}
	}
	var err error
	switch form {
	case RPZ:
		fmt.Fprintf(w, "$ORIGIN %s.\n%s\n%s\n", about.Origin, SOA(&about), NS(&about))
		tooLong, between := 0, fmt.Sprintf(" %d ", TTL)
		tooLong, err = Records(z, &about, func(name, kind, value string) error {
			_, _ = w.WriteString(name) // an error stays with the writer
			_, _ = w.WriteString(between)
			_, _ = w.WriteString(kind)
			_ = w.WriteByte(' ')
			_, _ = w.WriteString(value)
			return w.WriteByte('\n')
		})
		if tooLong > 0 {
			comment("%8d  names are too long for a zone", tooLong)
		}
	case Hosts:
		for _, l := range z.Lines() {
			if !l.Open && !l.Between {
				fmt.Fprintf(w, "0.0.0.0 %s\n", l.Host)
			}
		}
	case Plain:
		for _, l := range z.Lines() {
			if !l.Open && !l.Between {
				fmt.Fprintln(w, l.Host)
			}
		}
	case PAC:
		pac(w, z)
	}
	if err == nil {
		err = w.Flush()
	}
	return err
}

// printable returns a text without ends of lines, which would end a comment.
func printable(text string) string { return strings.NewReplacer("\n", " ", "\r", " ").Replace(text) }

// lost says what a form loses that the zone has.
func lost(form Form, z *policy.Zone) (all []policy.Unsaid) {
	closedBelow, instead := 0, 0
	for _, l := range z.Lines() {
		if !l.Open && !l.BelowOpen && !l.Between {
			closedBelow++
		}
		if l.Instead != "" {
			instead++
		}
	}
	add := func(n int, what, why string) {
		if n > 0 {
			all = append(all, policy.Unsaid{What: what, Count: n, Why: why})
		}
	}
	if form == Hosts || form == Plain {
		if !z.Open {
			add(1, "all names that are not listed", "they are refused, and the file cannot say so: they stay open")
		}
		if form == Hosts {
			add(closedBelow, "names below those that are listed", "they are refused, and the file has no lines for them: they stay open")
		}
	}
	if form != RPZ {
		add(instead, "search engines with another host", "safe search is not held")
	}
	return all
}

// pac writes a function that sends what is refused nowhere.
func pac(w io.Writer, z *policy.Zone) {
	fmt.Fprintf(w, "var open = %v\nvar said = {\n", z.Open)
	for _, l := range z.Lines() {
		what := 0
		if l.Open {
			what |= 1
		}
		if l.BelowOpen {
			what |= 2
		}
		fmt.Fprintf(w, "%q: %d,\n", l.Host, what)
	}
	fmt.Fprint(w, `}
function FindProxyForURL(url, host) {
  host = host.toLowerCase().replace(/\.$/, "")
  var passes = open
  var own = true
  for (var at = host; at; at = at.substring(at.indexOf(".") + 1)) {
    if (Object.prototype.hasOwnProperty.call(said, at)) {
      passes = (said[at] & (own ? 1 : 2)) !== 0
      break
    }
    own = false
    if (at.indexOf(".") < 0) break
  }
  return passes ? "DIRECT" : "PROXY 127.0.0.1:9"
}
`)
}

package pattern

import (
	"net/netip"
	"regexp"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"widelark/core/weburl"
)

// Mended is the result of [Mend] for one line.
type Mended struct {
	Entries []Entry  // one; one for each name of a line from a hosts file; none for a blank line
	Changes []string // the differences between the line and the entries, a clause each; none if the line was notation
}

// Mend reads one line as people keep and paste them. It takes notation as it is, and understands besides
//
//   - URLs from an address bar (scheme, user-info, query, fragment and default port are left out);
//   - lines of a hosts file (an address, then names: each name is a host, and only that host);
//   - defanged text (hxxps://heron[.]example, heron(dot)example);
//   - what e-mail programs and word processors put around text (<…>, “…”, bullets, a comma at the end, invisible characters);
//   - comments that begin with "//" or ";".
//
// The error is an [*Error] about the line as given, with Column set and Line zero.
func Mend(line string) (Mended, error) {
	if err := checkText(line); err != nil {
		return Mended{}, err
	}
	m := mender{text: line}
	if !isASCII(line) {
		m.replace(invisible, "", "invisible characters left out")
		m.replace(otherSpace, " ", "")
	}
	body, note := cutNote(m.text)
	if strings.TrimSpace(body) == "" {
		entry, err := Parse(m.text)
		if err != nil || entry == (Entry{}) {
			return Mended{}, err
		}
		return m.result(entry), nil
	}
	for _, mark := range []string{"//", ";"} {
		if text, found := strings.CutPrefix(strings.TrimSpace(m.text), mark); found && !looksLikeURL(text) {
			m.addChange(`"` + mark + `" read as the beginning of a note`)
			return m.result(Entry{Note: strings.TrimSpace(text)}), nil
		}
	}
	entry, err := Parse(m.text)
	if err == nil && !pastedAddress(body) {
		return m.result(entry), nil
	}
	if strings.HasPrefix(strings.TrimLeft(body, " \t!"), "~") {
		return Mended{}, err // a regex is never guessed at
	}

	m.text = strings.TrimSpace(body)
	m.text, m.carveOut = strings.CutPrefix(m.text, "!")
	m.text = strings.TrimSpace(m.text)
	attributes := m.cutAttributes()
	m.unwrap()
	m.refang()
	entries, wrong := m.hostsLine()
	if entries == nil && wrong == nil {
		if m.addressBar(); len(m.changes) == 0 {
			if err == nil {
				return m.result(entry), nil
			}
			return Mended{}, err
		}
		entry, wrong = parseKept(m.text)
		entries = []Entry{entry}
		if wrong == nil && !entry.Pattern.IsValid() { // mending left nothing of the line
			wrong = &Error{Code: BadHost, Found: strings.TrimSpace(body), Expected: "a host"}
		}
	}
	if wrong != nil {
		return Mended{}, refusal(line, wrong)
	}
	for i := range entries {
		entries[i].Note, entries[i].CarveOut = note, m.carveOut
		entries[i].Off, entries[i].Until = attributes.Off, attributes.Until
	}
	return m.result(entries...), nil
}

// refusal returns an error about mended text as one about the line as given: its column is that of the piece found if the line still holds the
// piece, and otherwise that of the first character.
func refusal(line string, err *Error) error {
	moved := *err
	moved.Column = 1 + len([]rune(line)) - len([]rune(strings.TrimLeftFunc(line, unicode.IsSpace)))
	if i := strings.Index(line, moved.Found); i > 0 && moved.Found != "" {
		moved.Column = column(line, i)
	}
	moved.Suggestion = suggest(line, &moved)
	return &moved
}

// mender holds a line while it is mended.
type mender struct {
	text     string
	carveOut bool
	changes  []string
}

func (m *mender) addChange(change string) { m.changes = append(m.changes, change) }

// replace puts text in place of what re finds, and records the change unless it is "".
func (m *mender) replace(re *regexp.Regexp, text, change string) {
	if replaced := re.ReplaceAllString(m.text, text); replaced != m.text {
		m.text = replaced
		if change != "" {
			m.addChange(change)
		}
	}
}

func (m *mender) result(entries ...Entry) Mended { return Mended{Entries: entries, Changes: m.changes} }

var (
	invisible  = regexp.MustCompile(`[\x{200B}-\x{200F}\x{2060}\x{FEFF}\x{00AD}]`)
	otherSpace = regexp.MustCompile(`[\x{00A0}\x{2002}-\x{200A}\x{202F}\x{3000}]`)
	bullet     = regexp.MustCompile(`^(?:[-+*•·–—>]|\d{1,3}[.)])\s+`)
	wrapped    = regexp.MustCompile(`^(?:<(.+)>|'(.+)'|“(.+)”|‘(.+)’|\x60(.+)\x60|\((.+)\))$`)
	trailing   = regexp.MustCompile(`[,;]+$`)
	safeScheme = regexp.MustCompile(`(?i)^h(?:xx|\*\*)p(s?)(?:\[:\]|:)(?://|\[//\]|\[/\]\[/\])`)
	safeColon  = regexp.MustCompile(`(?i)^h(?:xx|\*\*|tt)p(s?)(?:\[://\]|\[:\]//)`)
	safeDot    = regexp.MustCompile(`(?i)\s*(?:\[(?:\.|dot)\]|\((?:\.|dot)\)|\{(?:\.|dot)\})\s*`)
	webAddress = regexp.MustCompile(`(?i)^(?:https?:)?[/\\]{2}`)
	attributed = regexp.MustCompile(`(?i)\[[^\[\]]*(?:until|off)[^\[\]]*\]$`)
)

// pastedAddress reports whether a line is a whole URL. The notation would bind the entry to the scheme, but somebody who pastes an address means
// the page.
func pastedAddress(body string) bool {
	body = strings.TrimSpace(body)
	return webAddress.MatchString(strings.TrimSpace(strings.TrimPrefix(body, "!"))) && !strings.ContainsRune(body, '*')
}

func isASCII(text string) bool {
	for i := 0; i < len(text); i++ {
		if text[i] >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

func looksLikeURL(text string) bool {
	return strings.Contains(text, ".") && !strings.ContainsAny(text, " \t")
}

// cutAttributes cuts the attributes from the end of the line, so that the text before them can be mended.
func (m *mender) cutAttributes() Entry {
	found := attributed.FindString(m.text)
	if found == "" {
		return Entry{}
	}
	entry, err := parse("host " + found)
	if err != nil {
		return Entry{}
	}
	before := strings.TrimSuffix(m.text, found)
	if m.text = strings.TrimSpace(before); m.text == before {
		m.addChange("a blank put before " + found)
	}
	return entry
}

// unwrap removes what surrounds an address in e-mails and documents.
func (m *mender) unwrap() {
	m.replace(bullet, "", "the bullet before it left out")
	m.replace(ranked, "$1", "the number before it left out")
	m.replace(trailing, "", "the punctuation after it left out")
	m.replace(framed, "$1$2", "the marks around it left out")
	if straight := curly.ReplaceAllString(m.text, `"`); straight != m.text && !strings.Contains(straight, ".") {
		m.text = straight
		m.addChange("typographic quotation marks read as a word's")
		return
	}
	if inner := wrapped.FindStringSubmatch(m.text); inner != nil {
		m.text = strings.TrimSpace(strings.Join(inner[1:], ""))
		m.addChange("the marks around it left out")
	}
}

// refang undoes defanging, by which people keep others from clicking on an address.
func (m *mender) refang() {
	before := m.text
	m.replace(safeColon, "http$1://", "")
	m.replace(safeScheme, "http$1://", "")
	m.replace(safeDot, ".", "")
	if m.text != before {
		m.addChange("defanged text read as " + m.text)
	}
}

// localNames are names in every hosts file that are not web sites.
var localNames = map[string]bool{
	"localhost": true, "localhost.localdomain": true, "local": true, "broadcasthost": true,
	"ip6-localhost": true, "ip6-loopback": true, "ip6-localnet": true, "ip6-mcastprefix": true, "ip6-allnodes": true,
	"ip6-allrouters": true, "ip6-allhosts": true, "0.0.0.0": true,
}

// hostsLine reads a line of a hosts file, "ADDRESS NAME…". It returns nothing if the line is something else.
func (m *mender) hostsLine() ([]Entry, *Error) {
	fields := strings.Fields(m.text)
	if len(fields) < 2 {
		return nil, nil
	}
	if _, err := netip.ParseAddr(fields[0]); err != nil {
		return nil, nil
	}
	var entries []Entry
	var left []string
	for _, name := range fields[1:] {
		if localNames[strings.ToLower(name)] {
			left = append(left, name)
			continue
		}
		entry, err := parseKept("=" + name)
		if err != nil {
			err.Found = name
			return nil, err
		}
		entries = append(entries, entry)
	}
	if len(entries) == 0 {
		return nil, &Error{Column: 1, Code: BadHost, Found: left[0], Expected: "a web site, not the machine's own name (leave the line out)"}
	}
	m.addChange("a hosts-file line: each name covers that host only")
	if len(left) > 0 {
		m.addChange("the machine's own name left out: " + strings.Join(left, ", "))
	}
	return entries, nil
}

// addressBar turns a whole URL into the entry that it means: host and path.
func (m *mender) addressBar() {
	if !webAddress.MatchString(m.text) || strings.ContainsRune(m.text, '*') {
		return
	}
	u, err := weburl.Parse(m.text)
	if err != nil {
		m.text = webAddress.ReplaceAllString(m.text, "")
		m.addChange("the scheme left out")
		return
	}
	left := []string{"scheme"}
	if u.HasUserInfo() {
		left = append(left, "user name")
	}
	path := strings.TrimSuffix(u.Path(), "/")
	if u.Addr().IsValid() && isNumber(strings.TrimPrefix(path, "/")) { // without the scheme it would be a range
		m.text = u.Scheme() + "://" + u.Host() + path
		m.addChange("an address from a browser, bound to its scheme, without which it would be a range of addresses")
		return
	}
	if u.Query() != "" {
		left = append(left, "query")
	}
	if strings.Contains(m.text, "#") {
		left = append(left, "fragment")
	}
	host := hostAsTyped(m.text, u)
	if u.Port() != 443 && u.Scheme() == "https" || u.Port() != 80 && u.Scheme() == "http" {
		host += ":" + strconv.Itoa(int(u.Port()))
	}
	m.text = host + path
	m.addChange("an address from a browser; left out: " + strings.Join(left, ", "))
}

// hostAsTyped returns the host of u in Unicode form if it was typed so, and otherwise in ASCII.
func hostAsTyped(text string, u weburl.URL) string {
	if readable := weburl.Unicode(u.Host()); readable != u.Host() && strings.Contains(strings.ToLower(text), readable) {
		return readable
	}
	return u.Host()
}

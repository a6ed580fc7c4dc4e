package pattern

import (
	"errors"
	"fmt"
	"net/netip"
	"regexp"
	"regexp/syntax"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"widelark/core/language"
	"widelark/core/ranges"
	"widelark/core/weburl"
)

// Parse reads one line of notation exactly as written; [Mend] is for what people paste. A blank line gives the zero Entry. The error is an
// [*Error] with Column set and Line zero.
func Parse(line string) (Entry, error) {
	entry, err := parseKept(line)
	if err != nil {
		err.Suggestion = suggest(line, err)
		return Entry{}, err
	}
	return entry, nil
}

// parseKept is Parse without suggestions. Entries are stored as they print, so it refuses a line that would not parse back to the same entry. No such
// line is known; tests and fuzzing look for one.
func parseKept(line string) (Entry, *Error) {
	entry, err := parse(line)
	if err != nil {
		return Entry{}, err
	}
	kept := entry.String()
	if kept == line {
		return entry, nil
	}
	if again, err := parse(kept); err != nil || again != entry {
		return Entry{}, &Error{Column: 1, Code: Misplaced, Found: strings.TrimSpace(line), Expected: "an entry that can be kept as it is written"}
	}
	return entry, nil
}

// MustParse is [Parse] for literals; it panics if the line is refused.
func MustParse(line string) Entry {
	entry, err := Parse(line)
	if err != nil {
		panic("bug: " + line + ": " + err.Error())
	}
	return entry
}

// parse is Parse without suggestions.
func parse(line string) (Entry, *Error) {
	if err := checkText(line); err != nil {
		return Entry{}, err
	}
	body, note := cutNote(line)
	entry := Entry{Note: note}
	p := &parser{line: line, at: len(body) - len(strings.TrimLeftFunc(body, unicode.IsSpace))}
	body = strings.TrimSpace(body)
	if body == "" {
		return entry, nil
	}
	if rest, found := strings.CutPrefix(body, "!"); found {
		entry.CarveOut = true
		p.skip(1)
		body = p.trimLeft(rest)
		switch {
		case body == "":
			return Entry{}, p.fail(0, "", Misplaced, `an entry after the carve-out's "!"`)
		case body[0] == '!':
			return Entry{}, p.fail(0, "!", Misplaced, `one "!" only`)
		}
	}
	body, err := p.attributes(body, &entry)
	if err != nil {
		return Entry{}, err
	}
	if len(body) > MaxLength {
		return Entry{}, p.fail(0, body, TooLong, "a pattern of at most 2048 bytes")
	}
	start := p.at
	switch body[0] {
	case '~':
		entry.Pattern, err = p.regex(body)
	case '"':
		entry.Pattern, err = p.word(body)
	default:
		entry.Pattern, err = p.url(body)
	}
	if err != nil {
		return Entry{}, err
	}
	if len(entry.Key()) > MaxLength { // escapes make a path longer than it was typed
		return Entry{}, p.fail(start-p.at, body, TooLong, "a pattern of at most 2048 bytes, escapes counted")
	}
	return entry, nil
}

// checkText refuses a line that is not valid UTF-8 or holds control characters.
func checkText(line string) *Error {
	for i, r := range line {
		if r == utf8.RuneError {
			if _, size := utf8.DecodeRuneInString(line[i:]); size == 1 {
				return &Error{Column: column(line, i), Code: NotText, Found: "a byte that is not UTF-8", Expected: "text in UTF-8"}
			}
		}
		if r < ' ' && r != '\t' || r == 0x7f {
			return &Error{Column: column(line, i), Code: NotText, Found: "a control character", Expected: "printable text"}
		}
	}
	return nil
}

// cutNote splits a line before the "#" that begins its note: a "#" at the start of the line or after white space.
func cutNote(line string) (body, note string) {
	for from := 0; ; {
		i := strings.IndexByte(line[from:], '#')
		if i < 0 {
			return line, ""
		}
		i += from
		if r, _ := utf8.DecodeLastRuneInString(line[:i]); i == 0 || unicode.IsSpace(r) {
			return line[:i], strings.TrimSpace(line[i+1:])
		}
		from = i + 1
	}
}

// parser holds a line and the position of the piece that is being read.
type parser struct {
	line string
	at   int // 0-based byte offset in line of the current piece
}

func (p *parser) skip(n int) { p.at += n }

func (p *parser) trimLeft(rest string) string {
	trimmed := strings.TrimLeftFunc(rest, unicode.IsSpace)
	p.skip(len(rest) - len(trimmed))
	return trimmed
}

// fail returns an error about the piece found, which is offset bytes after the start of the current piece.
func (p *parser) fail(offset int, found string, code Code, expected string) *Error {
	return &Error{Column: column(p.line, p.at+offset), Code: code, Found: found, Expected: expected}
}

// column turns a 0-based byte offset into a 1-based column in characters.
func column(line string, offset int) int {
	return utf8.RuneCountInString(line[:min(offset, len(line))]) + 1
}

// attributes reads the bracket at the end of body into entry and returns what stands before it. A bracket without white space before it belongs to
// the pattern. After a regex, a bracket holds attributes only if it holds known ones, as it may also be a character class.
func (p *parser) attributes(body string, entry *Entry) (string, *Error) {
	open := strings.LastIndexByte(body, '[')
	if open < 0 || !strings.HasSuffix(body, "]") {
		return body, nil
	}
	before := strings.TrimRightFunc(body[:open], unicode.IsSpace)
	if before == "" || len(before) == open {
		return body, nil
	}
	var read Entry
	offset := open + 1
	var err *Error
	for _, part := range strings.Split(body[open+1:len(body)-1], ",") {
		lead := len(part) - len(strings.TrimLeftFunc(part, unicode.IsSpace))
		if err = p.attribute(strings.TrimSpace(part), offset+lead, &read); err != nil {
			break
		}
		offset += len(part) + 1
	}
	if err != nil {
		if body[0] == '~' {
			return body, nil
		}
		return "", err
	}
	entry.Until, entry.Off = read.Until, read.Off
	return before, nil
}

func (p *parser) attribute(text string, offset int, entry *Entry) *Error {
	const known = `"until 2026-12-24" or "off"`
	name, value, _ := strings.Cut(text, " ")
	switch strings.ToLower(name) {
	case "off":
		if value != "" || entry.Off {
			return p.fail(offset, text, BadAttribute, `"off", once`)
		}
		entry.Off = true
	case "until":
		day, err := ParseDate(strings.TrimSpace(value))
		if err != nil || !entry.Until.IsZero() {
			return p.fail(offset, text, BadAttribute, `one day, as "until 2026-12-24"`)
		}
		entry.Until = day
	default:
		return p.fail(offset, text, BadAttribute, known)
	}
	return nil
}

// regex reads "~ REGEX", "~host REGEX" or "~path REGEX".
func (p *parser) regex(body string) (Pattern, *Error) {
	head, expr, spaced := cutBlank(body)
	target, ok := regexHeads[strings.ToLower(head)]
	if !ok {
		return Pattern{}, p.fail(1, head[1:], BadRegex, `a blank after "~", or "~host " or "~path "`)
	}
	if trimmed := strings.TrimSpace(expr); !spaced || trimmed == "" {
		return Pattern{}, p.fail(len(head), "", BadRegex, "a regular expression")
	}
	p.skip(len(head) + 1)
	expr = strings.TrimSpace(p.trimLeft(expr))
	re, err := CompileRegex(expr)
	if err != nil {
		var wrong *syntax.Error
		if !errors.As(err, &wrong) {
			return Pattern{}, p.fail(0, expr, BadRegex, err.Error())
		}
		found, offset := wrong.Expr, strings.Index(expr, wrong.Expr)
		if found == "" || offset < 0 {
			found, offset = expr, 0
		}
		return Pattern{}, p.fail(offset, found, BadRegex, regexProblem(wrong.Code))
	}
	if !canMatch(re, expr, target) {
		return Pattern{}, p.fail(0, expr, BadRegex, unmatchable[target])
	}
	if matchesAll(re, expr, target) {
		return Pattern{}, p.fail(0, expr, BadRegex, errMatchesEverything.Error())
	}
	return Pattern{kind: Regex, target: target, expr: expr}, nil
}

// regexHeads are what regexes begin with.
var regexHeads = map[string]Target{"~": OnURL, "~host": OnHost, "~path": OnPath}

// cutBlank cuts a text at its first blank or tab.
func cutBlank(text string) (before, after string, found bool) {
	i := strings.IndexAny(text, " \t")
	if i < 0 {
		return text, "", false
	}
	return text[:i], text[i+1:], true
}

// unmatchable describes the texts of each target, for expressions that match none of them.
var unmatchable = [...]string{
	OnURL:  "an expression that some URL matches (URLs are looked at as https://host/path?query, in ASCII, without blanks)",
	OnHost: `an expression that some host matches ("~host " looks at the host alone, in its ASCII form, without scheme, port and path)`,
	OnPath: `an expression that some path matches ("~path " looks at /path?query, in ASCII, without scheme and host)`,
}

// domains are the texts that an expression is applied to, by target.
var domains = [...]string{OnURL: language.URL, OnHost: language.Host, OnPath: language.Target}

// strangers are texts of each domain that have next to nothing in common. An expression that matches all of them is likely to match everything.
var strangers = [...][]string{
	OnURL: {"https://a/", "http://192.0.2.1:81/", "https://x-7.example/?"}, OnHost: {"a", "192.0.2.1", "x-7.example"}, OnPath: {"/", "/x-7?q"},
}

// matchesAll reports whether the expression matches every text of its domain. It may report false if that cannot be decided.
func matchesAll(re *regexp.Regexp, expr string, target Target) bool {
	for _, text := range strangers[target] {
		if !re.MatchString(text) {
			return false
		}
	}
	_, found, decided := language.Witness(language.Anywhere(expr), domains[target])
	return decided && !found
}

// canMatch reports whether the expression matches some canonical URL. It may report true if that cannot be decided. It tries a sample of the
// expression first, as the automaton takes milliseconds.
func canMatch(re *regexp.Regexp, expr string, target Target) bool {
	text := language.Sample(expr)
	tries := []string{text, text + ".example", "www." + text + ".example"}
	switch target {
	case OnURL:
		tries = []string{text, "https://" + text, "https://heron.example/" + strings.TrimPrefix(text, "/"), "https://heron.example" + text}
	case OnPath:
		tries = []string{"https://heron.example" + text, "https://heron.example/" + text}
	}
	for _, try := range tries {
		u, err := weburl.Parse(try)
		if err == nil && re.MatchString([...]string{OnURL: u.String(), OnHost: u.Host(), OnPath: u.Target()}[target]) {
			return true
		}
	}
	_, found, decided := language.Witness("", language.Anywhere(expr), domains[target])
	return found || !decided
}

// regexProblem returns what an expression should have held in place of a syntax error, as a clause.
func regexProblem(code syntax.ErrorCode) string {
	if text, ok := map[syntax.ErrorCode]string{
		syntax.ErrInvalidCharClass:      "a character class that RE2 knows",
		syntax.ErrInvalidCharRange:      "a range in the class that goes upwards, as a-z",
		syntax.ErrInvalidEscape:         "an escape that RE2 knows (a backslash before a letter has a meaning of its own)",
		syntax.ErrInvalidNamedCapture:   "a name for the group, as (?P<name>…)",
		syntax.ErrInvalidPerlOp:         "a group that RE2 knows (it has no look-ahead, look-behind or back references)",
		syntax.ErrInvalidRepeatOp:       `one "*", "+", "?" or {count} after what is repeated`,
		syntax.ErrInvalidRepeatSize:     "a repeat count of at most 1000",
		syntax.ErrInvalidUTF8:           "text in UTF-8",
		syntax.ErrMissingBracket:        `a "]" that closes the class`,
		syntax.ErrMissingParen:          `a ")" that closes the group`,
		syntax.ErrMissingRepeatArgument: `something before "*", "+" or "?" that is repeated`,
		syntax.ErrTrailingBackslash:     "a character after the backslash",
		syntax.ErrUnexpectedParen:       `a "(" before the ")"`,
		syntax.ErrNestingDepth:          "groups that are nested less deeply",
		syntax.ErrLarge:                 "a shorter expression (repeat counts multiply)",
	}[code]; ok {
		return text
	}
	return "RE2 syntax"
}

// CompileRegex compiles the expression of a regex entry: RE2 syntax, letter case ignored, linear time. One that
// matches the empty text is refused, since it would cover every URL.
func CompileRegex(expr string) (*regexp.Regexp, error) {
	if _, err := syntax.Parse(expr, syntax.Perl); err != nil { // without the flags, which errors would show
		return nil, err
	}
	re, err := regexp.Compile("(?i)" + expr)
	if err != nil {
		return nil, err
	}
	if re.MatchString("") {
		return nil, errMatchesEverything
	}
	return re, nil
}

var errMatchesEverything = errors.New(`an expression that does not cover every URL ("*" does that)`)

// word reads "betting", "bet*", "*bet*".
func (p *parser) word(body string) (Pattern, *Error) {
	inner, closed := strings.CutSuffix(body[1:], `"`)
	switch text := strings.TrimSuffix(strings.TrimPrefix(inner, "*"), "*"); {
	case !closed || len(body) < 2:
		return Pattern{}, p.fail(len(body), "", BadWord, `a quotation mark after the word`)
	case strings.Contains(inner, `"`):
		return Pattern{}, p.fail(1+strings.Index(inner, `"`), `"`, BadWord, "one word, in one pair of quotation marks")
	case strings.Contains(text, "*"):
		return Pattern{}, p.fail(1+strings.Index(inner, text)+strings.Index(text, "*"), "*", BadWord, `"*" at the ends of a word only`)
	case !strings.ContainsFunc(text, isWordRune):
		return Pattern{}, p.fail(1, inner, BadWord, "a letter or a digit")
	}
	return Pattern{kind: Word, word: inner}, nil
}

// isWordRune reports whether r is part of a word: a letter or a digit, of any script.
func isWordRune(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) }

// url reads a pattern that is written like a URL.
func (p *parser) url(body string) (Pattern, *Error) {
	if i := strings.IndexFunc(body, unicode.IsSpace); i >= 0 {
		rest := strings.TrimSpace(body[i:])
		return Pattern{}, p.fail(strings.Index(body, rest), rest, Misplaced, `one entry a line, and "#" before a note`)
	}
	var pat Pattern
	if rest, found := strings.CutPrefix(body, "="); found {
		if body = rest; body == "" {
			return Pattern{}, p.fail(1, "", BadHost, `a host after "="`)
		}
		pat.scope, pat.exact = Only, true
		p.skip(1)
	}
	if scheme, rest, found := strings.Cut(body, "://"); found && !strings.ContainsAny(scheme, "/?") {
		pat.scheme = strings.ToLower(scheme)
		if pat.scheme != "http" && pat.scheme != "https" {
			return Pattern{}, p.fail(0, scheme+"://", BadScheme, "a host, or http:// or https://")
		}
		p.skip(len(scheme) + len("://"))
		if body = rest; body == "" {
			return Pattern{}, p.fail(0, "", BadHost, "a host")
		}
	} else if scheme, _, found := strings.Cut(body, "//"); found && (strings.EqualFold(scheme, "http") || strings.EqualFold(scheme, "https")) {
		return Pattern{}, p.fail(len(scheme), "//", BadScheme, `":" after `+scheme)
	}
	length, err := p.hostOrAddress(body, &pat)
	if err != nil {
		return Pattern{}, err
	}
	p.skip(length)
	if err := p.afterHost(body[:length], body[length:], &pat); err != nil {
		return Pattern{}, err
	}
	if pat.path == "" {
		pat.exact = false
	}
	if pat.addr.IsValid() || pat.every {
		pat.scope = AndBelow // an address has no hosts below it that "=" could leave out
	}
	pat.kind = pat.sort()
	return pat, nil
}

// sort returns the kind of a pattern that is written like a URL.
func (p Pattern) sort() Kind {
	switch {
	case p.query != "":
		return Query
	case strings.Contains(p.path, "*"):
		return PathGlob
	case p.exact:
		return Page
	case p.path != "":
		return PageTree
	case p.port != 0:
		return Port
	case p.scheme != "":
		return Scheme
	case p.addr.IsValid():
		return Address
	case p.every:
		return Everything
	case p.IsGlob() || p.ascii == "":
		return HostGlob
	case p.ending:
		return AnyEnding
	}
	return [...]Kind{AndBelow: Site, Only: Host, BelowOnly: Below}[p.scope]
}

// hostOrAddress reads the host, address or range before port, path and query into pat, and returns its length in bytes.
func (p *parser) hostOrAddress(body string, pat *Pattern) (int, *Error) {
	if end := strings.IndexByte(body, ']'); body[0] == '[' && end > 0 {
		addr, err := netip.ParseAddr(body[1:end])
		if err != nil || addr.Zone() != "" {
			return 0, p.fail(0, body[:end+1], BadHost, "an IPv6 address in the brackets")
		}
		if path := strings.Trim(body[end+1:], "/"); addr.Is4In6() && pat.scheme == "" && body[end+1:] != "" && body[end+1] == '/' && path != "" {
			return 0, p.fail(0, body[:end+1], BadHost, "the IPv4 address itself before a path: "+addr.Unmap().String())
		}
		pat.addr = ranges.Single(addr)
		return end + 1, nil
	}
	if strings.Count(body, ":") > 1 { // only an IPv6 address has several colons; without brackets only the bits of a range may follow
		address, bits, isRange := strings.Cut(body, "/")
		if isRange && pat.scheme != "" {
			return 0, p.fail(0, address, BadHost, "brackets round an IPv6 address after a scheme")
		}
		addr, err := netip.ParseAddr(address)
		if err != nil || addr.Zone() != "" {
			return 0, p.fail(0, body, BadHost, "an IPv6 address (in brackets where a port or a path follows)")
		}
		if !isRange {
			pat.addr = ranges.Single(addr)
			return len(body), nil
		}
		return len(body), p.network(addr, bits, len(address)+1, pat)
	}
	end := strings.IndexAny(body, "/?#:")
	if end < 0 {
		end = len(body)
	}
	if end == 0 {
		return 0, p.fail(0, body, BadHost, "a host first")
	}
	if err := p.host(body[:end], pat); err != nil {
		return 0, err
	}
	// Address, slash, number is a range, however the slash is written; after a scheme it is a page.
	if rest := body[end:]; pat.addr.IsValid() && pat.scheme == "" && rest != "" && rest[0] == '/' && !strings.ContainsAny(rest, `?#*\`) {
		bits := strings.Trim(weburl.ParsePath(rest), "/")
		if _, err := netip.ParseAddr(bits); err == nil {
			return 0, p.fail(end+1, bits, BadHost, "a number of bits after the slash")
		}
		if isNumber(bits) {
			return len(body), p.network(pat.addr.Addr(), bits, end+1, pat)
		}
	}
	return end, nil
}

func isNumber(text string) bool { return text != "" && strings.Trim(text, "0123456789") == "" }

// network reads the bits of a range of addresses.
func (p *parser) network(addr netip.Addr, text string, offset int, pat *Pattern) *Error {
	bits, err := strconv.Atoi(text)
	if err != nil || bits < 0 || bits > addr.BitLen() || len(text) > 1 && text[0] == '0' || !isNumber(text) {
		return p.fail(offset, text, BadHost, fmt.Sprintf("a number of bits from 0 to %d", addr.BitLen()))
	}
	if pat.scope == Only {
		return p.fail(-1, "=", Misplaced, `no "=" before a range of addresses`)
	}
	if addr.Is4In6() && bits < 96 {
		return p.fail(offset, text, BadHost, "96 bits at least, for these are IPv4 addresses")
	}
	pat.addr = ranges.Canonical(netip.PrefixFrom(addr, bits))
	return nil
}

// host reads a host name, wildcards included, or an IPv4 address into pat.
func (p *parser) host(host string, pat *Pattern) *Error {
	plain := weburl.PlainDots(host) // labels with wildcards may also end in any kind of dot
	if strings.Contains(plain, "*") {
		pieces := strings.Split(plain, "*")
		for i, piece := range pieces {
			pieces[i] = weburl.MapName(piece)
			if at := strings.IndexFunc(pieces[i], func(r rune) bool { return !hostRune(r) }); at >= 0 && pieces[i] != piece {
				r, _ := utf8.DecodeRuneInString(pieces[i][at:])
				return p.fail(0, host, BadHost, fmt.Sprintf(`a letter, a digit, "-", "_" or "." in the host (this one holds "%c")`, r))
			}
		}
		plain = strings.Join(pieces, "*")
	}
	err := p.plainHost(plain, pat)
	if err != nil && len(plain) != len(host) { // no place in the one is a place in the other
		return p.fail(0, host, err.Code, err.Expected)
	}
	return err
}

// plainHost is host for one in which wildcards stand in a name that is mapped already, so that they stand where they count.
func (p *parser) plainHost(host string, pat *Pattern) *Error {
	switch {
	case host == "*":
		pat.every = true
		return nil
	case strings.Trim(host, ".") == "":
		return p.fail(0, host, BadHost, "a host")
	case strings.Trim(host, "*.") == "" && host != "*.*":
		return p.fail(0, host, BadHost, `"*" for every URL, or "*.*" for every host before a public suffix`)
	}
	host = strings.TrimSuffix(host, ".")
	for strings.Contains(host, "**") {
		host = strings.ReplaceAll(host, "**", "*")
	}
	name, isBelow := strings.CutPrefix(host, "*.")
	if isBelow {
		pat.scope = BelowOnly
	}
	if isBelow && name == "*" {
		pat.ending = true // *.*: whatever stands before a public suffix
		return nil
	}
	if rest, found := strings.CutSuffix(name, ".*"); found {
		name, pat.ending = rest, true
	}
	offset := strings.Index(host, name)
	if at := strings.IndexFunc(name, func(r rune) bool { return !hostRune(r) && r != '%' && r != '*' }); at >= 0 {
		r, _ := utf8.DecodeRuneInString(name[at:])
		return p.fail(offset+at, string(r), BadHost, `a letter, a digit, "-", "_" or "." in the host`)
	}
	for at, label := 0, ""; at <= len(name); at += len(label) + 1 {
		if label, _, _ = strings.Cut(name[at:], "."); label == "" {
			from := max(0, at-1)
			return p.fail(offset+from, name[from:min(at+1, len(name))], BadHost, "a name between the dots")
		}
	}
	if strings.Contains(name, "*") {
		return p.hostGlob(name, offset, pat)
	}
	after := "" // what makes a host of a name before any ending
	if pat.ending {
		after = ".example"
	}
	read, err := weburl.ParseHost(name + after)
	if err != nil {
		return p.fail(offset, name, BadHost, "a host ("+err.Error()+")")
	}
	if read.Addr.IsValid() {
		if isBelow {
			return p.fail(0, host, BadHost, `no "*" beside an address; a range is written 203.0.113.0/24`)
		}
		if name != read.Addr.String() { // nothing is completed silently
			return p.fail(offset, name, BadHost, "all four numbers of an address, as 203.0.113.7, or a range, as 203.0.113.0/24")
		}
		pat.addr = ranges.Single(read.Addr)
		return nil
	}
	ascii := strings.TrimSuffix(read.ASCII, after)
	if last := ascii[strings.LastIndexByte(ascii, '.')+1:]; !pat.ending && isNumber(strings.TrimLeft(last, "+-")) {
		return p.fail(offset, name, BadHost, "a host (no site has a number with a sign as its ending)")
	}
	for label := range strings.SplitSeq(ascii, ".") {
		if len(label) > 63 || strings.Trim(label, "-_") == "" {
			return p.fail(offset, name, BadHost, "names between the dots of 1 to 63 characters (RFC 1035, section 2.3.4), a letter or digit among them")
		}
	}
	if len(ascii) > 253 {
		return p.fail(offset, name, BadHost, "a host of at most 253 characters (RFC 1035, section 2.3.4)")
	}
	if i := strings.IndexFunc(ascii, func(r rune) bool { return !hostRune(r) }); i >= 0 { // from an escape, or a full-width form
		return p.fail(offset, name, BadHost, fmt.Sprintf(`a letter, a digit, "-", "_" or "." in the host (this one holds "%c")`, ascii[i]))
	}
	pat.ascii = ascii
	if pat.typed = strings.ToLower(name); !sameHost(pat.typed, ascii) {
		pat.typed = ascii // full-width forms and escapes are spellings, not names
	}
	return nil
}

// hostGlob reads a name with "*" in it. Pieces of international names have no ASCII form, so a glob that holds any is
// compared with the Unicode form of hosts.
func (p *parser) hostGlob(name string, offset int, pat *Pattern) *Error {
	if at := strings.IndexByte(name, '%'); at >= 0 {
		return p.fail(offset+at, "%", BadHost, `no escape in a host with "*"`)
	}
	if strings.Trim(name, "*.-_") == "" {
		return p.fail(offset, name, BadHost, `a letter or a digit beside "*" ("*" alone covers everything)`)
	}
	pat.ascii, pat.typed = name, name
	return nil
}

// sameHost reports whether typed may be shown for ascii: it is one, or reads as its Unicode form does.
func sameHost(typed, ascii string) bool {
	if typed == ascii {
		return true
	}
	read, err := weburl.ParseHost(typed)
	return err == nil && read.ASCII == ascii && !strings.Contains(typed, "%") && strings.Contains(ascii, "xn--")
}

// hostRune reports whether r may stand in a host. Of Unicode, only what is not a letter, mark, digit or symbol is refused here; the
// URL Standard's parser refuses the rest.
func hostRune(r rune) bool {
	if r >= utf8.RuneSelf {
		return !unicode.In(r, unicode.Pi, unicode.Pf, unicode.Ps, unicode.Pe)
	}
	return r == '.' || r == '-' || r == '_' || r|0x20 >= 'a' && r|0x20 <= 'z' || r >= '0' && r <= '9'
}

// afterHost reads what follows the host: port, path, query. The first byte in hand is that of rest.
func (p *parser) afterHost(host, rest string, pat *Pattern) *Error {
	if after, found := strings.CutPrefix(rest, ":"); found {
		digits := len(after) - len(strings.TrimLeft(after, "0123456789"))
		port, err := strconv.ParseUint(after[:digits], 10, 16)
		switch name := pat.ascii; {
		case digits == 0 && (name == "http" || name == "https"):
			return p.fail(0, rest, BadScheme, `"://" after `+name)
		case digits == 0 && after != "" && name != "" && !strings.ContainsAny(name, ".*"):
			return p.fail(-len(host), host+":", BadScheme, "a host, or http:// or https://")
		case err != nil || port == 0:
			return p.fail(1, after, BadHost, `a port from 1 to 65535 after ":"`)
		}
		pat.port = uint16(port)
		p.skip(1 + digits)
		rest = after[digits:]
	}
	if rest == "" {
		return nil
	}
	if i := strings.IndexByte(rest, '#'); i >= 0 {
		return p.fail(i, rest[i:], BadPath, `no fragment, for it never leaves the browser (a note needs a blank before "#")`)
	}
	path, query, hasQuery := strings.Cut(rest, "?")
	switch {
	case path != "" && path[0] != '/':
		return p.fail(0, rest, Misplaced, `"/", "?", ":" or the end after the host`)
	case strings.Contains(path, `\`):
		return p.fail(strings.IndexByte(path, '\\'), `\`, BadPath, `"/" between the parts of a path`)
	}
	if path != "" {
		pat.path = strings.TrimSuffix(weburl.ParsePath(path), "/")
		if pat.path == "" && pat.exact {
			pat.path = "/"
		}
	}
	if !hasQuery {
		return nil
	}
	for param := range strings.SplitSeq(query, "&") {
		if name, _, _ := strings.Cut(param, "="); name == "" {
			return p.fail(len(path)+1, query, BadQuery, `parameters as name, name=value or name=*part*, with "&" between them`)
		}
	}
	pat.query = weburl.CanonicalEscapes(query)
	return nil
}

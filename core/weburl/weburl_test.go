package weburl

import (
	"encoding/hex"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"os"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"unicode"
	"unicode/utf8"

	whatwg "github.com/nlnwa/whatwg-url/url"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/bench/rounds"
)

func TestCanonical(t *testing.T) {
	text, err := os.ReadFile("testdata/canonical.txt")
	require.NoError(t, err)
	rows := 0
	for number, line := range strings.Split(string(text), "\n") {
		written, want, found := strings.Cut(line, "=>")
		if !found || strings.HasPrefix(line, "#") {
			continue
		}
		rows++
		input, err := strconv.Unquote(`"` + strings.NewReplacer(`\\`, `\\\\`, `\h`, `\\h`, `\wards`, `\\wards`).Replace(strings.TrimSpace(written)) + `"`)
		require.NoError(t, err, "line %d", number+1)
		want = strings.TrimSpace(want)
		u, err := Parse(input)
		if why, refused := strings.CutPrefix(want, "!"); refused {
			var wrong *Error
			require.ErrorAs(t, err, &wrong, "%q", input)
			assert.Equal(t, why, wrong.Reason, "%q", input)
			continue
		}
		if assert.NoError(t, err, "%q", input) {
			assert.Equal(t, want, u.String(), "%q", input)
		}
	}
	assert.Greater(t, rows, 50)
}

func TestParts(t *testing.T) {
	u := MustParse("http://edda@heron.example:8080/wards?tab=2")
	assert.Equal(t, []any{"http", "heron.example", uint16(8080), "/wards", "tab=2", "/wards?tab=2", true},
		[]any{u.Scheme(), u.Host(), u.Port(), u.Path(), u.Query(), u.Target(), u.HasUserInfo()})
	assert.Equal(t, uint16(443), MustParse("heron.example").Port())
	assert.Equal(t, uint16(80), MustParse("http://heron.example").Port())
	assert.Equal(t, "203.0.113.7", MustParse("http://0xcb007107").Addr().String())
	assert.False(t, MustParse("heron.example").Addr().IsValid())
	assert.False(t, URL{}.IsValid())
	assert.Empty(t, URL{}.String())
	_, err := Parse("https://heron.example/" + strings.Repeat("a", MaxLength))
	require.ErrorContains(t, err, "longer than 65536 bytes")
	assert.Less(t, len(err.Error()), 300, "an error does not echo all of it")
}

func TestSplitSuffix(t *testing.T) {
	for host, want := range map[string][2]string{
		"www.heron.example": {"www.heron", "example"},
		"www.heron.co.uk":   {"www.heron", "co.uk"},
		"heron.internal":    {"heron", "internal"},
		"co.uk":             {"", "co.uk"},
		"heron":             {"", "heron"},
	} {
		name, suffix := SplitSuffix(host)
		assert.Equal(t, want, [2]string{name, suffix}, host)
	}
}

func TestFoldPath(t *testing.T) {
	for path, want := range map[string]string{
		"/Wards":           "/wards",
		"/W%C3%84rde":      "/wärde",
		"/w%C3%A4RDE":      "/wärde",
		"/a%2FB":           "/a%2fb",
		"/%C3%28":          "/%c3%28", // no UTF-8: the byte stays an escape
		"/%E2%82%AC":       "/€",
		"/%C3%84%C3%96x%4": "/äöx%254",
	} {
		assert.Equal(t, want, FoldPath(MustParse("h"+path).Path()), path)
	}
}

// anyURL draws text that browsers read in surprising ways.
func anyURL(t *rapid.T) string {
	scheme := rapid.SampledFrom([]string{"", "http://", "https://", "HTTPS:", `http:\\`, "//", "ws://"}).Draw(t, "scheme")
	user := rapid.SampledFrom([]string{"", "", "u:p@", "a@b@"}).Draw(t, "user")
	host := rapid.StringMatching(`[a-cA-C0-9.%_\-\[\]:xXäß。]{1,14}`).Draw(t, "host")
	rest := rapid.StringMatching(`[/\\?#a-c.%2eE0-9fF :@|^ä]{0,16}`).Draw(t, "rest")
	return scheme + user + host + "/" + rest
}

func TestParseIsIdempotent(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) { checkIdempotent(t, anyURL(t)) })
}

// checkIdempotent checks the properties of every accepted URL.
func checkIdempotent(t assert.TestingT, text string) {
	u, err := Parse(text)
	if err != nil {
		var wrong *Error
		assert.True(t, errors.As(err, &wrong) && wrong.Reason != "", "%q: %v", text, err)
		return
	}
	again, err := Parse(u.String())
	u.userInfo = false // which a canonical URL does not show
	if assert.NoError(t, err, "%q gave %s", text, u) {
		assert.Equal(t, u, again, "%q gave %s", text, u)
	}
	assert.Equal(t, u.Path(), ParsePath(u.Path()), "%q", text)
	assert.Equal(t, FoldPath(u.Path()), FoldPath(FoldPath(u.Path())), "%q", text)
}

// The shortcuts agree with the parser.
func TestPlainAgreesWithParser(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		name := rapid.StringMatching(`[a-z0-9_\-.xn]{1,12}`).Draw(t, "name")
		if plainName(name) {
			read, err := whatwg.Parse("http://" + name + "/")
			require.NoError(t, err, name)
			assert.Equal(t, name, read.Hostname())
			host, err := ParseHost(name)
			require.NoError(t, err)
			assert.Equal(t, Host{ASCII: name}, host)
		}
		path := "/" + rapid.StringMatching(`[a-z./_\-0A]{0,10}`).Draw(t, "path")
		if plainPath(path) {
			read, err := whatwg.Parse("http://host" + path)
			require.NoError(t, err, path)
			assert.Equal(t, path, canonicalPath(read.Pathname()))
		}
	})
}

// The three ways of reading a URL agree wherever they accept it, and together they agree with the parser alone.
func checkShortWays(t assert.TestingT, text string) (clean, written bool) {
	full, err := withScheme(strip(strings.ToValidUTF8(text, "\uFFFD")))
	var want URL
	if err == nil {
		want, err = parseStandard(full)
	}
	checkLibrary(t, text)
	asTyped := func(text string) (URL, bool) { return parseWritten(text, false) }
	for i, short := range []func(string) (URL, bool){parseClean, asTyped} {
		if u, ok := short(text); ok && assert.NoError(t, err, "%q", text) && assert.Equal(t, want, u, "%q", text) {
			clean, written = clean || i == 0, written || i == 1
		}
	}
	u, refused := Parse(text)
	assert.Equal(t, want, u, "%q", text)
	if assert.Equal(t, err == nil, refused == nil, "%q: %v, %v", text, err, refused) && err != nil {
		var wrong *Error
		assert.ErrorAs(t, refused, &wrong)
		assert.Equal(t, err.Error(), wrong.Reason, "%q", text)
	}
	return clean, written
}

// oddHost are hosts that the library reads differently than browsers do: numbers with a sign, "xn--" with nothing behind it, names beyond
// ASCII with characters that no registered name has.
var oddHost = regexp.MustCompile(`(?i)(^|\.)0?x?[+-]|xn--|[^\x00-\x7f]|%`)

// A URL that the library reads by itself is read as the same place.
func checkLibrary(t assert.TestingT, text string) {
	full, err := withScheme(strip(strings.ToValidUTF8(text, "\uFFFD")))
	if err != nil {
		return
	}
	full, userInfo := plainer(full)
	_, after, _ := strings.Cut(full, "://")
	host := strings.FieldsFunc(after, func(r rune) bool { return strings.ContainsRune("/?#:", r) })
	if len(host) > 0 && !strings.HasPrefix(after, "[") && oddHost.MatchString(host[0]) {
		return
	}
	read, err := whatwg.Parse(full)
	u, refused := Parse(text)
	if err != nil || read.Port() == "0" || strings.HasSuffix(read.Hostname(), "..") || strings.Trim(read.Hostname(), ".") == "" {
		assert.Error(t, refused, "%q", text)
		return
	}
	if assert.NoError(t, refused, "%q", text) {
		want, err := Parse(read.Href(true))
		want.userInfo = userInfo
		assert.NoError(t, err)
		assert.Equal(t, want, u, "%q", text)
	}
}

// Hosts that the library reads differently than browsers do.
func TestOddHosts(t *testing.T) {
	for host, want := range map[string]string{
		"+127": "+127", "-010": "-010", "heron.-6": "heron.-6", "heron.xn--": "", "xn--.heron.example": "", "xn--heron-.example": "", "ｘn--.heron.example": "",
		"..": "", "...": "", "a_b.bücher.example": "a_b.xn--bcher-kva.example", "0x": "0.0.0.0", "0x+7": "0x+7", "1.0x-7": "1.0x-7", "heron.09": "", "256": "0.0.1.0", "1.2.3.4.": "1.2.3.4",
		"4294967296": "", "1.2.65536": "", "0x100.1": "", "1..2": "",
	} {
		read, err := ParseHost(host)
		assert.Equal(t, want, read.ASCII, host)
		assert.Equal(t, want == "", err != nil, "%s: %v", host, err)
	}
	_, err := Parse("heron.example:0")
	assert.ErrorContains(t, err, "port 0")
}

func TestShortWaysAgree(t *testing.T) {
	clean, written := 0, 0
	count := func(t *rapid.T, text string) {
		c, w := checkShortWays(t, text)
		if c {
			clean++
		}
		if w {
			written++
		}
	}
	rapid.Check(t, func(t *rapid.T) {
		count(t, rapid.StringMatching(`https?://[a-c0-9.x_-]{1,8}(/[a-cA-C0-9._~!$&'()*+,;=:@/-]{0,8})?(\?[a-cA-C0-9=&+,;:/?@!*~._$()%-]{0,8})?`).Draw(t, "clean"))
		count(t, rapid.StringMatching(`([hH]ttps?://)?[a-cA-C0-9.xn-]{0,8}(:[0-9]{0,6})?(/[a-cA-C0-9.%2eE/ä|\\]{0,12})?(\?[a-c&%4eä'"]{0,5})?(#[a%]{0,2})?`).Draw(t, "written"))
		count(t, rapid.StringMatching(`(http://)?([0-9]{1,3}\.){3}[0-9]{1,4}\.?(:443|:80)?(/(\.|%2e|%2E){0,3}){0,4}`).Draw(t, "address"))
		count(t, anyURL(t))
		count(t, "heron.example/"+rapid.StringMatching(`[ -~ä\x00-\x20\x7f]{0,12}`).Draw(t, "anything"))
	})
	assert.Positive(t, clean)
	assert.Positive(t, written)
}

func TestCleanAllocatesNothing(t *testing.T) {
	assert.Zero(t, testing.AllocsPerRun(100, func() { _, _ = Parse("https://www.heron.example/wards/map?tab=2&x=a+b") }))
}

func TestParseHost(t *testing.T) {
	for text, want := range map[string]string{
		"heron.example": "heron.example", "HERON.example.": "heron.example", "0x7f.1": "127.0.0.1", "[::1]": "[::1]",
	} {
		host, err := ParseHost(text)
		if assert.NoError(t, err, text) {
			assert.Equal(t, want, host.ASCII, text)
		}
	}
	for _, text := range []string{"", "heron/example", "a b", "heron:80", "[::1", "."} {
		_, err := ParseHost(text)
		assert.Error(t, err, text)
	}
	assert.Equal(t, "müßig.example", Unicode(MustParse("müßig.example").Host()))
}

func FuzzParse(f *testing.F) {
	f.Add("https://heron.example/a/../b")         // dot segments
	f.Add("http://0xcb.0.0x71.7/")                // an address in disguise
	f.Add("http:\\\\h\\%2e%2e\\x")                // backslashes and escaped dots
	f.Add(strings.Repeat("@", 60_000) + "h")      // which takes the parser alone ten seconds
	f.Add("https://u@\u0438.example/%C3%84?%zz#") // everything at once
	f.Fuzz(func(t *testing.T, text string) {
		checkIdempotent(t, text)
		if len(text) < 1_000 { // the parser alone is slow
			checkShortWays(t, text)
		}
	})
}

func BenchmarkCanonicalClean(b *testing.B) {
	texts := make([]string, 4096)
	for i := range texts {
		texts[i] = fmt.Sprintf("https://www.site-%d.example/wards/%d/map-of-the-ward?tab=%d&view=plan", i, i, i)
	}
	rounds.Against(b, func(i int) { _, _ = Parse(texts[i%len(texts)]) }, func(i int) { _, _ = url.Parse(texts[i%len(texts)]) })
}

// One URL in eleven is not plain, as in a log.
func BenchmarkCanonicalMix(b *testing.B) {
	odd := []string{"https://site-%d.example/a%%20b/%%7e", "HTTP://Site-%d.example:80/", "https://müßig-%d.example/Ärzte", "http://3405803%03d/", "https://site-%d.example/a/../b//c"}
	texts := make([]string, 4096)
	for i := range texts {
		texts[i] = fmt.Sprintf("https://www.site-%d.example/wards/map-of-the-ward?tab=2&view=plan", i)
		if i%11 == 0 {
			texts[i] = fmt.Sprintf(odd[i/11%len(odd)], i%1000)
		}
	}
	rounds.Against(b, func(i int) { _, _ = Parse(texts[i%len(texts)]) }, func(i int) { _, _ = url.Parse(texts[i%len(texts)]) })
}

// Whatever a browser sends to one place gets one canonical URL: respelling a URL changes nothing.
func TestRespellingsAgree(t *testing.T) {
	escape := func(t *rapid.T, s string) string { // some characters as escapes, in either case
		var b strings.Builder
		for _, c := range []byte(s) {
			switch rapid.IntRange(0, 5).Draw(t, "escaped") {
			case 0:
				fmt.Fprintf(&b, "%%%02x", c)
			case 1:
				fmt.Fprintf(&b, "%%%02X", c)
			default:
				b.WriteByte(c)
			}
		}
		return b.String()
	}
	pick := func(t *rapid.T, from ...string) string { return rapid.SampledFrom(from).Draw(t, "spelling") }
	rapid.Check(t, func(t *rapid.T) {
		host := rapid.StringMatching(`[a-c]{1,3}(\.[a-c]{1,3}){0,2}`).Draw(t, "host")
		segments := rapid.SliceOfN(rapid.StringMatching(`[a-c0-9~_-]{1,3}`), 0, 3).Draw(t, "path")
		query := pick(t, "", "?x=1")
		want := "https://" + host + "/" + strings.Join(segments, "/") + query

		for i := range segments {
			segments[i] = escape(t, segments[i])
		}
		path := ""
		for _, segment := range segments {
			path += pick(t, "/", "//", "/./", "/x/../", "/%2E/", `\`, "/a/%2e%2E/") + segment
		}
		if path == "" {
			path = pick(t, "", "/", "//", "/.", "/x/..")
		}
		named := strings.ReplaceAll(escape(t, host), ".", pick(t, ".", "。", "．", "%2e"))
		if rapid.Bool().Draw(t, "upper") {
			named = strings.ToUpper(named)
		}
		written := pick(t, "https://", "HTTPS:", `https:\\`, "//", "wss://", " \t https://") + pick(t, "", "user@", "a:b@") +
			named + pick(t, "", ".") + pick(t, "", ":443", ":0443", ":") + path + query + pick(t, "", "#top", " ", "\n")
		u, err := Parse(written)
		require.NoError(t, err, "%q", written)
		assert.Equal(t, want, u.String(), "%q", written)
	})
}

func TestAddressSpellingsAgree(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.Uint32().Draw(t, "address")
		b := [4]byte{byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)}
		want := netip.AddrFrom4(b)
		for _, host := range []string{
			want.String(), fmt.Sprint(n), fmt.Sprintf("0x%x", n), fmt.Sprintf("0%o", n), want.String() + ".",
			fmt.Sprintf("%d.0x%x.0%o.%d", b[0], b[1], b[2], b[3]), fmt.Sprintf("%d.%d", b[0], n&0xffffff),
			fmt.Sprintf("[::ffff:%s]", want), fmt.Sprintf("[0:0:0:0:0:FFFF:%x:%x]", n>>16, n&0xffff),
		} {
			u, err := Parse("http://" + host + "/x")
			require.NoError(t, err, host)
			assert.Equal(t, "http://"+want.String()+"/x", u.String(), host)
			assert.Equal(t, want, u.Addr(), host)
		}
	})
}

// slowFold folds a path with the library's functions: a readable reference.
func slowFold(path string) string {
	var b strings.Builder
	for len(path) > 0 {
		n := 0 // how many escapes of bytes beyond ASCII stand here, one after the other
		var raw []byte
		for n < utf8.UTFMax && len(path) >= 3*n+3 && path[3*n] == '%' {
			decoded, err := hex.DecodeString(path[3*n+1 : 3*n+3])
			if err != nil || decoded[0] < utf8.RuneSelf {
				break
			}
			raw = append(raw, decoded[0])
			n++
		}
		r, size := utf8.DecodeRune(raw)
		switch {
		case len(raw) > 0 && r != utf8.RuneError:
			b.WriteRune(unicode.ToLower(r))
			path = path[3*size:]
		case len(raw) > 0:
			b.WriteString(strings.ToLower(path[:3]))
			path = path[3:]
		default:
			r, size := utf8.DecodeRuneInString(path)
			b.WriteRune(unicode.ToLower(r))
			path = path[size:]
		}
	}
	return b.String()
}

func TestFoldPathAgreesWithTheLibrary(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		path := "/" + strings.Join(rapid.SliceOfN(rapid.SampledFrom([]string{
			"a", "B", "/", "%41", "%2F", "%C3%84", "%c3%a4", "%E2%82%AC", "%E2%82", "%C3", "%", "%4", "Ä", "%F0%9F%90%A6",
		}), 0, 8).Draw(t, "pieces"), "")
		assert.Equal(t, slowFold(path), FoldPath(path), "%q", path)
		assert.Equal(t, FoldPath(path), FoldPath(FoldPath(path)), "%q: folded once is folded", path)
	})
}

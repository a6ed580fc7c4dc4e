package match

import (
	"fmt"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widelark/bench/rounds"
	"widelark/bench/traffic"
	"widelark/core/pattern"
	"widelark/core/weburl"
)

var today = pattern.Date{Year: 2026, Month: 11, Day: 23}

func entries(lines ...string) []pattern.Entry {
	all := make([]pattern.Entry, len(lines))
	for i, line := range lines {
		all[i] = pattern.MustParse(line)
	}
	return all
}

func TestCover(t *testing.T) {
	for _, row := range []struct {
		entry   string
		covered string // URLs, separated by blanks
		not     string
	}{
		{"heron.example", "heron.example http://www.heron.example:8080/x a.b.heron.example HERON.example.", "notheron.example heron.test example heron.example.test"},
		{"=heron.example", "heron.example https://heron.example/x", "www.heron.example"},
		{"*.heron.example", "www.heron.example a.b.heron.example", "heron.example xheron.example"},
		{"heron.*", "heron.example heron.co.uk www.heron.example heron.internal", "heron.com.heron2.example nheron.example heron co.uk heron.www.example"},
		{"=heron.*", "heron.example heron.co.uk", "www.heron.example"},
		{"*.heron.*", "www.heron.co.uk", "heron.co.uk heron.example"},
		{"www.heron.*", "www.heron.example a.www.heron.co.uk", "heron.example"},
		{"*.example", "heron.example a.b.example", "example heron.test"},
		{"heron.example/wards", "heron.example/wards www.heron.example/Wards/ heron.example/wards/map?x=1 heron.example//wards heron.example/x/../wards heron.example/%77ards", "heron.example heron.example/wardship heron.example/x/wards"},
		{"*.heron.example/wards", "www.heron.example/wards", "heron.example/wards"},
		{"heron.example/Ärzte", "heron.example/%C3%A4rzte/x heron.example/ÄRZTE", "heron.example/arzte"},
		{"müßig.example", "MÜßIG.example/x www.müßig.example", "müssig.example mußig.example"},
		{"~ heron\\.(example|test)/w", "heron.example/wards http://a.heron.test/W", "heron.example heron.example:8443/w"},
		{"~host ^heron", "heron.test heron2.example/x", "www.heron.example x.test/heron"},
		{"~path ^/wards\\?tab=[0-9]$", "heron.example/wards?tab=1", "heron.example/wards heron.example/x/wards?tab=1"},
		{"~host ^203\\.", "203.0.113.7 0xcb007107", "198.51.100.7"},
		{"shop-*.heron.example", "shop-1.heron.example a.shop-1.heron.example shop-.heron.example shop-a.b.heron.example", "shop.heron.example heron.example xshop-1.heron.example"},
		{"=shop-*.heron.example", "shop-1.heron.example shop-a.b.heron.example", "a.shop-1.heron.example"},
		{"*heron*", "heron.example xheronx.test a.heron.b.test", "example/heron 203.0.113.7"},
		{"*.heron-*.example", "a.heron-1.example b.a.heron-1.example", "heron-1.example"},
		{"heron-*.*", "heron-1.co.uk a.heron-1.example", "heron.example xheron-1.test"},
		{"*möwe*.example", "schwarzmöwen.example a.MÖWE.example", "mowe.example"},
		{"*.*", "heron.example a.heron.co.uk", "example co.uk 203.0.113.7"},
		{"*", "heron.example example 203.0.113.7 http://[2001:db8::1]/x", ""},
		{"=heron.example/wards", "heron.example/wards heron.example/Wards/ heron.example/wards?x=1", "heron.example/wards/map www.heron.example/wards heron.example"},
		{"heron.example/*/map", "heron.example/a/map www.heron.example/b/map/1", "heron.example/map heron.example/a/b/map heron.example/a/mapx"},
		{"=heron.example/*/map", "heron.example/a/map/", "heron.example/a/map/1"},
		{"heron.example/**/map", "heron.example/map heron.example/a/b/map heron.example/a/map/1", "heron.example/xmap"},
		{"heron.example/w*s/**", "heron.example/wards heron.example/ws/1/2", "heron.example/w/s heron.example/x"},
		{"heron.example/a**z", "heron.example/az heron.example/a/b/cz heron.example/abz/x", "heron.example/a/b"},
		{"heron.example/find?q=*boat*", "heron.example/find?q=BOAT heron.example/find/x?a&q=my+boats heron.example/find?q=x&q=%62oat", "heron.example/find heron.example/find?q=bat heron.example/find?r=boat heron.example/x?q=boat"},
		{"heron.example?q&r=a+b", "heron.example?r=A%20b&q=1 www.heron.example/x?q&r=a+b", "heron.example?q heron.example?r=a+b heron.example?q&r=ab"},
		{"heron.example?q=a*b*c", "heron.example?q=abc heron.example?q=a1b2c", "heron.example?q=acb heron.example?q=ab heron.example?q=xabc"},
		{"heron.example?q=%2A", "heron.example?q=* heron.example?q=%2a", "heron.example?q=x"},
		{"http://heron.example", "http://heron.example/x http://www.heron.example ws://heron.example", "https://heron.example heron.example"},
		{"heron.example:8443", "heron.example:8443 http://www.heron.example:8443/x", "heron.example http://heron.example"},
		{"heron.example:443", "heron.example http://heron.example:443", "http://heron.example"},
		{"*:8080", "http://heron.example:8080 http://203.0.113.7:8080/x", "heron.example"},
		{"203.0.113.7", "203.0.113.7 http://0xcb007107/x http://[::ffff:203.0.113.7]/", "203.0.113.8 heron.example"},
		{"203.0.113.0/24", "203.0.113.7 http://203.0.113.255:81/x", "203.0.114.1"},
		{"0.0.0.0/0", "203.0.113.7", "http://[2001:db8::1]/ heron.example"},
		{"2001:db8::/32", "http://[2001:db8:1::7]/x", "http://[2001:db9::1]/ 203.0.113.7"},
		{"[2001:db8::7]:8080/wards", "http://[2001:db8::7]:8080/wards/1", "http://[2001:db8::7]/wards"},
		{"=203.0.113.7/24/x", "203.0.113.7/24/x", "203.0.113.7/24/x/y 203.0.113.8"},
		{"http://203.0.113.7/24", "http://203.0.113.7/24/x", "http://203.0.113.8/"},
		{`"betting"`, "betting.example a-betting.test heron.example/Betting heron.example?q=my+betting! heron.example/x/%42etting", "bettings.example abetting.example heron.example/bettingx"},
		{`"bet*"`, "bettings.example my-bet.test", "abet.example"},
		{`"*bet"`, "abet.example bet.test", "bets.example"},
		{`"*bet*"`, "alphabets.example", "be-t.example"},
		{`"fish boat"`, "fish-boat.example heron.example/fish%20%20boat heron.example?q=fish+boat heron.example/fish/boat", "fishboat.example fish.example/boats heron.example/fish?boat"},
		{`"möwe"`, "möwe.example heron.example/M%C3%B6we", "möwen.example"},
	} {
		x := New([]List{{ID: "l", Entries: entries(row.entry)}})
		for _, url := range strings.Fields(row.covered) {
			assert.Len(t, x.Cover(weburl.MustParse(url), today, weburl.Full), 1, "%s covers %s", row.entry, url)
		}
		for _, url := range strings.Fields(row.not) {
			assert.Empty(t, x.Cover(weburl.MustParse(url), today, weburl.Full), "%s does not cover %s", row.entry, url)
		}
	}
	var none Index
	assert.Empty(t, none.Cover(weburl.MustParse("heron.example"), today, weburl.Full), "the zero index")
}

func TestHits(t *testing.T) {
	x := New([]List{
		{ID: "a", Name: "a", Entries: entries("~host heron", "heron.example", "www.heron.example/wards", "*.heron.example", "heron.example [off]", "www.heron.example [until 2026-11-22]")},
		{ID: "b", Name: "b", Entries: entries("heron.example", "! www.heron.example", "! =www.heron.example [off]")},
		{ID: "c", Name: "c", Entries: entries("bittern.example")},
	})
	url := weburl.MustParse("www.heron.example/wards/map")
	assert.Equal(t, []string{"a[2 3 1 0] [] yes", "b[0] [1] no"}, asText(x.Cover(url, today, weburl.Full)), "the most specific first")
	assert.Equal(t, []string{"a[3 1 0] [] yes [2] []", "b[0] [1] no"}, asText(x.Cover(url, today, weburl.Name)), "the page is out of sight")
	assert.True(t, x.Covered(url, today))
	assert.False(t, x.Covered(weburl.MustParse("egret.example"), today))
	assert.Equal(t, []Membership{{0, Yes}}, x.Memberships(nil, url, today, weburl.Full))

	carved := New([]List{{ID: "d", Entries: entries("heron.example/x", "! heron.example/x/y")}})
	assert.Equal(t, []string{"d[] [] cannot tell [0] [1]"}, asText(carved.Cover(url, today, weburl.Tunnel)))
	assert.Equal(t, []Membership{{0, CannotTell}}, carved.Memberships(nil, url, today, weburl.Tunnel))
}

// asText returns hits as text, with the ids of their entries.
func asText(hits []Hit) []string {
	ids := func(found []Found) []int64 {
		all := []int64{}
		for _, f := range found {
			all = append(all, f.ID)
		}
		return all
	}
	var lines []string
	for _, hit := range hits {
		line := fmt.Sprint(hit.List.ID, ids(hit.Covering), " ", ids(hit.CarveOuts), " ", hit.In())
		if len(hit.Unclear)+len(hit.UnclearCarveOuts) > 0 {
			line += fmt.Sprint(" ", ids(hit.Unclear), " ", ids(hit.UnclearCarveOuts))
		}
		lines = append(lines, line)
	}
	return lines
}

// At a lesser sight, an entry whose host matches may depend on unseen parts; one whose host does not match never does.
func TestSights(t *testing.T) {
	for _, row := range []struct{ entry, url, name, tunnel string }{
		{"heron.example", "www.heron.example/x", "yes", "yes"},
		{"heron.example", "bittern.example/x", "no", "no"},
		{"heron.example/wards", "heron.example/wards", "cannot tell", "cannot tell"},
		{"heron.example/wards", "heron.example", "cannot tell", "cannot tell"},
		{"heron.example/wards", "bittern.example/wards", "no", "no"},
		{"heron.example/**", "heron.example/wards", "yes", "yes"},
		{"heron.example/*/map", "heron.example/a/map", "cannot tell", "cannot tell"},
		{"heron.*/wards", "heron.co.uk/wards", "cannot tell", "cannot tell"},
		{"heron.example?q", "heron.example?q=1", "cannot tell", "cannot tell"},
		{"heron-*.example?q", "bittern.example?q=1", "no", "no"},
		{"https://heron.example", "heron.example", "cannot tell", "yes"},
		{"http://heron.example", "http://heron.example", "cannot tell", "no"},
		{"http://heron.example/wards", "http://heron.example/wards", "cannot tell", "no"},
		{"heron.example:8443", "heron.example:8443", "cannot tell", "yes"},
		{"heron.example:8443/x", "heron.example", "cannot tell", "no"},
		{"203.0.113.0/24", "203.0.113.7/x", "yes", "yes"},
		{"203.0.113.7/wards", "203.0.113.7/wards", "cannot tell", "cannot tell"},
		{"*", "heron.example/x", "yes", "yes"},
		{"*/wards", "heron.example/wards", "cannot tell", "cannot tell"},
		{"*heron*/wards", "bittern.example/wards", "no", "no"},
		{`"heron"`, "heron.example/x", "yes", "yes"},
		{`"heron"`, "bittern.example/heron", "cannot tell", "cannot tell"},
		{`"ox"`, "ox.example/", "yes", "yes"},
		{"~host ^heron", "heron.example/x", "yes", "yes"},
		{"~host wards", "heron.example/wards", "no", "no"},
		{"~ heron", "heron.example/x", "yes", "yes"},
		{"~ heron", "bittern.example/heron", "cannot tell", "cannot tell"},
		{"~ ^https://heron\\.example/wards", "bittern.example/wards", "no", "no"},
		{"~ ^https://heron\\.example/wards", "heron.example/wards", "cannot tell", "cannot tell"},
		{"~ ^https?://heron\\.example", "heron.example/wards", "yes", "yes"},
		{"~ ^https://heron\\.example", "heron.example/wards", "cannot tell", "yes"},
		{"~ ^https://heron\\.example/$", "heron.example", "cannot tell", "cannot tell"},
		{"~ ^https://heron\\.example:8443/", "heron.example:8443/", "cannot tell", "yes"},
		{"~ ^https://heron\\.example:8443/", "heron.example/", "cannot tell", "no"},
		{"~ heron\\b", "heron.example", "yes", "yes"},
		{"~ example/\\b", "heron.example/", "cannot tell", "cannot tell"},
		{"~ ^http:", "heron.example", "cannot tell", "no"},
		{"~path ^/wards", "heron.example/wards", "cannot tell", "cannot tell"},
		{"~path ^/wards/?$", "heron.example/wards", "cannot tell", "cannot tell"},
		{"~path /.", "heron.example/wards", "cannot tell", "cannot tell"},
		{"=heron.example/", "heron.example/wards", "cannot tell", "cannot tell"},
		{"=*.heron.example/a", "heron.example/a", "no", "no"},
		{"=*.heron.example/a", "www.heron.example/b", "cannot tell", "cannot tell"},
	} {
		x := New([]List{{ID: "l", Entries: entries(row.entry)}})
		for sight, want := range map[weburl.Sight]string{weburl.Name: row.name, weburl.Tunnel: row.tunnel} {
			got := No
			if hits := x.Cover(weburl.MustParse(row.url), today, sight); len(hits) > 0 {
				got = hits[0].In()
			}
			assert.Equal(t, want, string(got), "%s, %s at %s", row.entry, row.url, sight)
		}
	}
}

// An edit of a large list adds a small index.
func TestJoin(t *testing.T) {
	base := New([]List{{ID: "l", Name: "l", Entries: entries("heron.example", "bittern.example", "heron.example/wards", `"crane"`)}})
	b := NewBuilder(0)
	b.Add(b.List("l", "renamed"), 9, pattern.MustParse("egret.example"))
	x := Join(base.Without(0, 2, 3), b.Build())
	assert.Equal(t, []Ref{{"l", "renamed"}}, x.Lists())
	for url, want := range map[string][]string{
		"heron.example/wards": nil, "crane.example": nil, "bittern.example": {"l[1] [] yes"}, "egret.example": {"l[9] [] yes"},
	} {
		assert.Equal(t, want, asText(x.Cover(weburl.MustParse(url), today, weburl.Full)), url)
	}
	assert.Equal(t, []string{"l[2 0] [] yes"}, asText(base.Cover(weburl.MustParse("heron.example/wards"), today, weburl.Full)), "the base stays as it was")
}

func TestCostly(t *testing.T) {
	for line, want := range map[string]bool{
		"heron.example": false, "*": false, "*.*": false, "~path ^/[0-9]+$": true, "*heron*": false, `"ox"`: true, "*a*": true, "~ heron": false, "heron.*": false,
	} {
		assert.Equal(t, want, Costly(pattern.MustParse(line).Pattern), line)
	}
}

func TestNeedsFull(t *testing.T) {
	for line, want := range map[string]bool{
		"heron.example": false, "heron.example/wards": true, "heron.example/**": false, "heron.example?q": true, `"ox"`: true, "~host ^a": false, "~ a": true, "~path a": true, "http://heron.example:81": false,
	} {
		assert.Equal(t, want, NeedsFull(pattern.MustParse(line).Pattern), line)
	}
}

// covers decides one pattern in the words of the notation, without an index. It is the readable
// reference for the index.
func covers(p pattern.Pattern, u weburl.URL, sight weburl.Sight) Answer {
	if p.Kind() == pattern.Regex {
		return regexCovers(p, u, sight)
	}
	if p.Kind() == pattern.Word {
		word := strings.Trim(strings.ToLower(p.String()), `"`)
		texts := []string{u.Host(), strings.ToLower(weburl.Unicode(u.Host()))}
		if sight == weburl.Full {
			texts = append(texts, pattern.Decode(u.Path()), pattern.DecodeForm(u.Query()))
		}
		for _, text := range texts {
			if holdsWord([]rune(text), word) {
				return Yes
			}
		}
		if sight != weburl.Full {
			return CannotTell
		}
		return No
	}
	if !coversHost(p, u) {
		return No
	}
	answer := Yes
	scheme, port := p.SchemeAndPort()
	if scheme != "" {
		answer = both(answer, map[weburl.Sight]Answer{weburl.Name: CannotTell, weburl.Tunnel: yesIf(scheme == "https"), weburl.Full: yesIf(scheme == u.Scheme())}[sight])
	}
	if port != 0 {
		answer = both(answer, map[weburl.Sight]Answer{weburl.Name: CannotTell, weburl.Tunnel: yesIf(port == u.Port()), weburl.Full: yesIf(port == u.Port())}[sight])
	}
	if glob := p.FoldedPath(); strings.ReplaceAll(glob, "/**", "") != "" {
		answer = both(answer, map[weburl.Sight]Answer{weburl.Name: CannotTell, weburl.Tunnel: CannotTell, weburl.Full: yesIf(coversPath(p, u))}[sight])
	}
	for _, param := range p.Params() {
		answer = both(answer, map[weburl.Sight]Answer{weburl.Name: CannotTell, weburl.Tunnel: CannotTell, weburl.Full: yesIf(param.Covers(u.Query()))}[sight])
	}
	return answer
}

// regexCovers handles, at lesser sights, only expressions without assertions.
func regexCovers(p pattern.Pattern, u weburl.URL, sight weburl.Sight) Answer {
	expr, target := p.Expr()
	re := regexp.MustCompile("(?i)" + expr)
	port := strings.TrimPrefix(strings.TrimSuffix(u.String(), u.Target()), u.Scheme()+"://"+u.Host())
	switch {
	case target == pattern.OnHost:
		return yesIf(re.MatchString(u.Host()))
	case sight == weburl.Full:
		return yesIf(re.MatchString(map[pattern.Target]string{pattern.OnURL: u.String(), pattern.OnPath: u.Target()}[target]))
	case target == pattern.OnPath:
		return re2Answer(re.MatchString("/"))
	case sight == weburl.Tunnel && u.Port() == 443:
		return re2Answer(re.MatchString("https://" + u.Host() + "/"))
	case sight == weburl.Tunnel && port == "":
		return re2Answer(re.MatchString("https://" + u.Host() + ":80/"))
	case sight == weburl.Tunnel:
		return re2Answer(re.MatchString("https://" + u.Host() + port + "/"))
	}
	every := true
	for _, begin := range []string{"https://" + u.Host() + "/", "http://" + u.Host() + "/", "https://" + u.Host() + ":", "http://" + u.Host() + ":"} {
		every = every && re.MatchString(begin)
	}
	return re2Answer(every)
}

func re2Answer(matches bool) Answer {
	if matches {
		return Yes
	}
	return CannotTell
}

// holdsWord looks for a word that has no space in it.
func holdsWord(text []rune, word string) bool {
	wanted := []rune(strings.Trim(word, "*"))
	part := func(i int) bool {
		return i >= 0 && i < len(text) && (unicode.IsLetter(text[i]) || unicode.IsDigit(text[i]))
	}
	for i := 0; i+len(wanted) <= len(text); i++ {
		if string(text[i:i+len(wanted)]) == string(wanted) &&
			(strings.HasPrefix(word, "*") || !part(i-1)) && (strings.HasSuffix(word, "*") || !part(i+len(wanted))) {
			return true
		}
	}
	return false
}

// globbed reports whether text is the glob; "*" is any run of what is allowed.
func globbed(text, glob string, allowed func(byte) bool) bool {
	if glob == "" {
		return text == ""
	}
	if glob[0] != '*' {
		return text != "" && text[0] == glob[0] && globbed(text[1:], glob[1:], allowed)
	}
	return globbed(text, glob[1:], allowed) || text != "" && allowed(text[0]) && globbed(text[1:], glob, allowed)
}

func coversHost(p pattern.Pattern, u weburl.URL) bool {
	anything := func(byte) bool { return true }
	switch {
	case p.EveryHost():
		return true
	case p.Prefix().IsValid():
		return u.Addr().IsValid() && p.Prefix().Contains(u.Addr())
	case u.Addr().IsValid():
		return false
	}
	host, suffix := u.Host(), ""
	if p.EveryEnding() {
		if host, suffix = weburl.SplitSuffix(u.Host()); host == "" || suffix == "" {
			return false
		}
	}
	if p.Name() == "" {
		return true
	}
	labels := strings.Split(host, ".")
	for below := range labels { // how many labels stand before the one that the name begins with
		rest := strings.Join(labels[below:], ".")
		inScope := p.Scope() == pattern.AndBelow || (p.Scope() == pattern.Only) == (below == 0)
		if inScope && globbed(rest, p.Name(), anything) {
			return true
		}
	}
	return false
}

func coversPath(p pattern.Pattern, u weburl.URL) bool {
	if p.FoldedPath() == "/" {
		return u.Path() == "/"
	}
	split := func(path string) []string {
		if path = strings.Trim(path, "/"); path == "" {
			return nil
		}
		return strings.Split(path, "/")
	}
	return segmentsCover(split(weburl.FoldPath(u.Path())), split(p.FoldedPath()), p.ExactPage())
}

func segmentsCover(path, globs []string, exact bool) bool {
	if len(globs) == 0 {
		return !exact || len(path) == 0
	}
	if globs[0] == "**" {
		return segmentsCover(path, globs[1:], exact) || len(path) > 0 && segmentsCover(path[1:], globs, exact)
	}
	return len(path) > 0 && (globs[0] == "*" || globbed(path[0], globs[0], func(c byte) bool { return c != '/' })) &&
		segmentsCover(path[1:], globs[1:], exact)
}

// assertions matches expressions that the reference cannot handle at lesser sights.
var assertions = regexp.MustCompile(`\$$|\^|\\[bBAz]|\(\?`)

// agree compares the index with the reference for every list, at all sights.
func agree(t assert.TestingT, lists []List, u weburl.URL) {
	x := New(lists)
	half := len(lists) / 2
	union := Join(New(lists[:half]), New(lists[half:]))
	full := map[string]Answer{} // by list and entry: at weburl.Full
	for _, sight := range []weburl.Sight{weburl.Full, weburl.Tunnel, weburl.Name} {
		found := map[string]Hit{}
		hits := x.Cover(u, today, sight)
		for _, hit := range hits {
			found[hit.List.ID] = hit
		}
		assert.Equal(t, asText(hits), asText(union.Cover(u, today, sight)), "two indexes of half the lists each")
		members := map[string]Answer{}
		for _, m := range x.Memberships(nil, u, today, sight) {
			members[x.Lists()[m.List].ID] = m.In
		}
		for _, list := range lists {
			want, got := map[int64]string{}, map[int64]string{}
			for i, e := range list.Entries {
				if !e.InForce(today) {
					continue
				}
				answer := covers(e.Pattern, u, sight)
				if expr, target := e.Pattern.Expr(); sight != weburl.Full && target != pattern.OnHost && assertions.MatchString(expr) {
					continue
				}
				if answer != No {
					want[int64(i)] = fmt.Sprint(answer, e.CarveOut)
				}
			}
			hit := found[list.ID]
			for i, entries := range [][]Found{hit.Covering, hit.CarveOuts, hit.Unclear, hit.UnclearCarveOuts} {
				for _, f := range entries {
					answer := [...]Answer{Yes, Yes, CannotTell, CannotTell}[i]
					if key := fmt.Sprint(list.ID, f.ID); sight == weburl.Full {
						full[key] = answer
					} else if answer == Yes && (sight == weburl.Name || u.Scheme() == "https") {
						assert.Equal(t, Yes, full[key], "what is certain at %s holds at full: %s, %s", sight, f.Entry, u)
					}
					if expr, target := f.Pattern.Expr(); sight != weburl.Full && target != pattern.OnHost && assertions.MatchString(expr) {
						continue
					}
					got[f.ID] = fmt.Sprint(answer, i%2 == 1)
				}
			}
			assert.Equal(t, want, got, "%s at %s in %v", u, sight, list.Entries)
			if hit.In() == No {
				assert.NotContains(t, members, list.ID, "%s at %s in %v", u, sight, list.Entries)
			} else {
				assert.Equal(t, hit.In(), members[list.ID], "%s at %s in %v", u, sight, list.Entries)
			}
		}
	}
}

// Names and paths are made of very few pieces, so that they collide.
func anyHost(t *rapid.T) string {
	return rapid.StringMatching(`([ab]\.){0,3}[ab]\.(a|example|co\.uk)`).Draw(t, "host")
}

func anyPath(t *rapid.T) string { return rapid.StringMatching(`(/[aAä]{1,2}){0,3}/?`).Draw(t, "path") }

func anyEntry(t *rapid.T) string {
	carveOut := rapid.SampledFrom([]string{"", "", "! "}).Draw(t, "carve-out")
	attribute := rapid.SampledFrom([]string{"", "", "", " [off]", " [until 2026-11-22]", " [until 2026-11-23]"}).Draw(t, "attribute")
	host, path := anyHost(t), anyPath(t)
	if rapid.Bool().Draw(t, "glob") {
		path = rapid.StringMatching(`(/(\*|\*\*|[aAä*]{1,2})){0,3}/?`).Draw(t, "path glob")
		for strings.Contains(path, "***") || longRun.MatchString(path) { // "**" within a segment has a test of its own
			path = strings.ReplaceAll(longRun.ReplaceAllString(path, "${1}*$2"), "***", "**")
		}
	}
	return carveOut + rapid.SampledFrom([]string{
		host + path, host + path, "*." + host + path, "=" + host + path, "=" + host + "/", "=*." + host + path, "=" + host + "/?b", "=*" + path, host + ".*" + path, "=" + host + ".*", "*." + host + ".*" + path,
		"~host " + host + "$", "~path " + strings.ReplaceAll(regexp.QuoteMeta(strings.Trim(path, "/")), "ä", "%c3%a4") + "a", "~ (a|b)" + host, "~ a/a|[ab]b", "~path [ab]", "*" + path, "*.*", "a*." + host + path, "*a*", "=*b." + host,
		"*.a*.b" + path, "a*.*", "http://" + host + path, host + ":8443" + path, "*:443", host + "?a&b=*a", "=" + host + path + "?a=a*",
		"203.0.113.7" + path, "203.0.113.0/24", "0.0.0.0/0", "2001:db8::/32", `"a"`, `"a*"`, `"*ä"`, `"*ba*"`, `"aba"`,
	}).Draw(t, "line") + attribute
}

var longRun = regexp.MustCompile(`([^/*])\*\*|\*\*([^/*])`)

func TestIndexAgreesWithReference(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		lists := make([]List, rapid.IntRange(1, 4).Draw(t, "lists"))
		for i := range lists {
			lists[i] = List{ID: fmt.Sprint(i), Name: fmt.Sprint("list ", i)}
			for range rapid.IntRange(0, 8).Draw(t, "entries") {
				lists[i].Entries = append(lists[i].Entries, pattern.MustParse(anyEntry(t)))
			}
		}
		for range 4 {
			at := rapid.SampledFrom([]string{anyHost(t), "." + anyHost(t), anyHost(t) + ":8443", "http://" + anyHost(t), "203.0.113.7", "http://[2001:db8::1]:443"}).Draw(t, "at")
			query := rapid.SampledFrom([]string{"", "", "?a", "?b=ba&a=ab", "?a=%61&b=a+b"}).Draw(t, "query")
			agree(t, lists, weburl.MustParse(at+anyPath(t)+query))
		}
	})
}

func FuzzCover(f *testing.F) {
	f.Add("*.a.example\n! b.a.example/a", "c.b.a.example/a/b") // a carve-out at page level
	f.Add("a.*\n=a.*\n*.a.*", "b.a.co.uk")                     // a suffix of two labels
	f.Add("~ a\nä.example/ä", "Ä.example/%C3%84/x")            // Unicode on both sides
	f.Add("*a*.b/*/**?q=*a&b", "http://xax.b/1/2?b&q=%61")     // wildcards everywhere
	f.Fuzz(func(t *testing.T, lines, url string) {
		u, err := weburl.Parse(url)
		if err != nil {
			return
		}
		var list List
		for line := range strings.SplitSeq(lines, "\n") {
			// The reference knows neither spaces in words nor "**" within a segment; these have rows in TestCover.
			beyond := strings.ContainsAny(line, "\" ") || longRun.MatchString(line) || strings.Contains(line, "***")
			if entry, err := pattern.Parse(line); err == nil && entry.Pattern.IsValid() && !beyond {
				list.Entries = append(list.Entries, entry)
			}
		}
		agree(t, []List{list}, u)
	})
}

// stream draws realistic URLs from a hundred thousand hosts, half of them listed if there are that many sites.
func stream(sites int) []weburl.URL {
	texts := traffic.URLs(1<<16, sites)
	urls := make([]weburl.URL, len(texts))
	for i, text := range texts {
		urls[i] = weburl.MustParse(text)
	}
	return urls
}

// addSites adds n sites to a builder, in the order of the store.
func addSites(b *Builder, n int) {
	list := b.List("sites", "sites")
	for i := range n {
		b.AddNamed(list, int64(i), traffic.Site(i), pattern.AndBelow, false)
	}
}

func sites(n int) *Index {
	b := NewBuilder(n)
	addSites(b, n)
	return b.Build()
}

// A million sites, compared with a Go map that is asked label by label.
func BenchmarkHosts(b *testing.B) { benchHosts(b, 1_000_000) }

// The same with ten million sites.
func BenchmarkHosts10M(b *testing.B) { benchHosts(b, 10_000_000) }

func benchHosts(b *testing.B, n int) {
	x, urls := sites(n), stream(n)
	plain := make(map[string]int32, n)
	for i := range n {
		plain[traffic.Site(i)] = int32(i)
	}
	found := 0
	rounds.Against(b, func(i int) { x.Covered(urls[i%len(urls)], today) }, func(i int) {
		for host, more := urls[i%len(urls)].Host(), true; more; _, host, more = strings.Cut(host, ".") {
			if _, ok := plain[host]; ok {
				found++
			}
		}
	})
}

// mixed is the lists of a large organisation: a million sites, ten thousand globs, some regular expressions of which three in a
// hundred hold no literal that a URL must contain.
func mixed(regexes int) *Index {
	b := NewBuilder(1_000_000)
	addSites(b, 1_000_000)
	list := b.List("patterns", "patterns")
	for i, line := range slices.Concat(traffic.Globs(10_000), traffic.Expressions(regexes)) {
		b.Add(list, int64(1_000_000+i), pattern.MustParse(line))
	}
	return b.Build()
}

// Matching against the whole mix, compared with reading the URL and looking its host up.
func BenchmarkMix(b *testing.B) {
	x, plain, texts := mixed(1_000), sites(1_000_000), traffic.URLs(1<<16, 1_000_000)
	read := func(i int) weburl.URL {
		u, _ := weburl.Parse(texts[i%len(texts)])
		return u
	}
	rounds.Against(b, func(i int) { x.Covered(read(i), today) }, func(i int) { plain.Covered(read(i), today) })
}

// The same with ten times the expressions, compared with a thousand.
func BenchmarkMixTenfold(b *testing.B) {
	more, x, urls := mixed(10_000), mixed(1_000), stream(1_000_000)
	rounds.Against(b, func(i int) { more.Covered(urls[i%len(urls)], today) }, func(i int) { x.Covered(urls[i%len(urls)], today) })
}

// Ten thousand expressions, compared with a thousand.
func BenchmarkRegexesTenfold(b *testing.B) {
	of := func(n int) *Index {
		return New([]List{{ID: "l", Entries: entries(traffic.Expressions(n)...)}})
	}
	more, x, urls := of(10_000), of(1_000), stream(10_000)
	rounds.Against(b, func(i int) { more.Covered(urls[i%len(urls)], today) }, func(i int) { x.Covered(urls[i%len(urls)], today) })
}

// Compiling ten thousand expressions into an index, compared with compiling them one by one.
func BenchmarkCompile(b *testing.B) {
	all := entries(traffic.Expressions(10_000)...)
	rounds.Against(b, func(int) { New([]List{{ID: "l", Entries: all}}) }, func(int) {
		for _, e := range all {
			expr, _ := e.Pattern.Expr()
			regexp.MustCompile("(?i)" + expr)
		}
	})
}

// Adding one entry to a million, compared with building the index anew.
func BenchmarkEdit(b *testing.B) {
	base := sites(1_000_000)
	rounds.Against(b, func(i int) {
		over := NewBuilder(0)
		over.Add(over.List("sites", "sites"), 1_000_000, pattern.MustParse("heron.example"))
		Join(base.Without(int64(i%1000)), over.Build())
	}, func(int) { sites(1_000_000) })
}

// The memory of the index of a million sites, in bytes per entry.
func BenchmarkMemory(b *testing.B) {
	const n = 1_000_000
	for b.Loop() {
		var before, after runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&before)
		x := sites(n)
		runtime.GC()
		runtime.ReadMemStats(&after)
		b.ReportMetric(float64(after.HeapAlloc-before.HeapAlloc)/n, "bytes/entry")
		runtime.KeepAlive(x)
	}
}

// Matching allocates nothing.
func TestNoAllocs(t *testing.T) {
	x := mixedSmall()
	for _, url := range []string{
		"https://www.site-1.example/wards?tab=1", "http://nowhere.test:8080/", "https://shop-31-x.reed1.example/", "https://203.0.113.7/%41b?q=a+b", "https://play.x-reed-31.test/EN/x",
	} {
		u := weburl.MustParse(url)
		assert.Zero(t, testing.AllocsPerRun(100, func() { x.Covered(u, today) }), url)
		dst := make([]Membership, 0, 16)
		for _, sight := range weburl.Sights {
			assert.Zero(t, testing.AllocsPerRun(100, func() { x.Memberships(dst, u, today, sight) }), "%s at %s", url, sight)
		}
	}
}

func mixedSmall() *Index {
	b := NewBuilder(0)
	addSites(b, 100)
	list := b.List("patterns", "patterns")
	for i, line := range slices.Concat(traffic.Globs(50), traffic.Expressions(100), []string{`"betting"`, `"bet*"`, "site-1.example/wards", "! site-1.example/wards/x", "203.0.113.0/24", "heron.*"}) {
		b.Add(list, int64(100+i), pattern.MustParse(line))
	}
	return b.Build()
}

// Ten thousand host globs, compared with a loop over all.
func BenchmarkHostGlobs(b *testing.B) { benchPatterns(b, traffic.Globs(10_000)) }

// A thousand regular expressions, of which three in a hundred hold no literal that a URL must contain, compared with a loop over all.
func BenchmarkRegexes(b *testing.B) { benchPatterns(b, traffic.Expressions(1_000)) }

// Five thousand words, compared with a loop over all.
func BenchmarkWords(b *testing.B) {
	var lines []string
	for i := range 5_000 {
		lines = append(lines, fmt.Sprintf(`"reed%dbank"`, i*31))
	}
	benchPatterns(b, lines)
}

func benchPatterns(b *testing.B, lines []string) {
	x, urls := New([]List{{ID: "l", Entries: entries(lines...)}}), stream(10_000)
	compiled := make([]*regexp.Regexp, len(lines))
	forms := make([]form, len(lines))
	for i, s := range x.parts[0].sieve.scans {
		if forms[i] = s.form; s.form != isGlob {
			compiled[i] = s.re.compiled()
		} else {
			compiled[i] = regexp.MustCompile("^(?:.*\\.)?" + strings.ReplaceAll(regexp.QuoteMeta(strings.Join(s.glob, "*")), `\*`, ".*") + "$")
		}
	}
	rounds.Against(b, func(i int) { x.Covered(urls[i%len(urls)], today) }, func(i int) {
		url := urls[i%len(urls)]
		text, target := url.String(), url.Target()
		for n, re := range compiled {
			switch forms[n] {
			case onURL:
				re.MatchString(text)
			case onPath:
				re.MatchString(target)
			default:
				re.MatchString(url.Host())
			}
		}
	})
}

// Building the index of a million sites, compared with filling a Go map of known size.
func BenchmarkBuild(b *testing.B) { benchBuild(b, 1_000_000) }

// The same with ten million sites.
func BenchmarkBuild10M(b *testing.B) { benchBuild(b, 10_000_000) }

func benchBuild(b *testing.B, n int) {
	names := make([]string, n)
	for i := range names {
		names[i] = traffic.Site(i)
	}
	rounds.Against(b, func(int) {
		builder := NewBuilder(n)
		list := builder.List("l", "l")
		for i, name := range names {
			builder.AddNamed(list, int64(i), name, pattern.AndBelow, false)
		}
		builder.Build()
	}, func(int) {
		plain := make(map[string]int32, n)
		for i, name := range names {
			plain[name] = int32(i)
		}
	})
}

// The entries of a list with only a few are those that it was made of, however it was put together.
func TestFew(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		pool := []string{"heron.example", "=gull.test", `"crane"`, "heron.example/wards", "! tern.example", "10.0.0.0/8", "*.example", "rail.* [until 2026-12-01]"}
		want := map[int64]string{}
		b, index, next := NewBuilder(0), &Index{}, int64(0)
		lists := []int{b.List("a", "a"), b.List("b", "b")}
		for range rapid.IntRange(0, 3).Draw(t, "parts") {
			for range rapid.IntRange(0, MostFew).Draw(t, "entries") {
				text := rapid.SampledFrom(pool).Draw(t, "entry")
				list := rapid.SampledFrom(lists).Draw(t, "list")
				b.Add(list, next, pattern.MustParse(text))
				if list == lists[0] {
					want[next] = pattern.MustParse(text).String()
				}
				next++
			}
			index = Join(index, b.Build())
			gone := rapid.Int64Range(0, next).Draw(t, "gone")
			index = index.Without(gone)
			delete(want, gone)
			b = NewBuilder(0)
			lists = []int{b.List("a", "a"), b.List("b", "b")}
		}
		index = Join(index, b.Build())
		few, ok := index.Few(0)
		if len(want) > MostFew {
			require.False(t, ok)
			return
		}
		if !ok {
			return // entries that are gone count, too
		}
		var got, sorted []string
		for _, e := range few {
			got = append(got, e.String())
		}
		for _, text := range want {
			sorted = append(sorted, text)
		}
		require.ElementsMatch(t, sorted, got)
	})
}

// Package patterntest draws patterns for tests of what works on them.
package patterntest

import (
	"strings"

	"pgregory.net/rapid"

	"widelark/core/pattern"
)

// Any draws a pattern of any kind over a small alphabet, so that two of them often have something to do with each other. name tells draws
// of one test apart.
func Any(t *rapid.T, name string) pattern.Pattern {
	host := rapid.StringMatching(`([abé]\.){0,2}[abé]\.(a|co\.uk)`).Draw(t, name)
	path := rapid.StringMatching(`(/(\*|\*\*|a|b|é|ab|a\*|\*b)){0,2}`).Draw(t, name+" path")
	plain := pattern.MustParse(host).Pattern.Name()
	quoted := strings.ReplaceAll(plain, ".", `\.`)
	return pattern.MustParse(rapid.SampledFrom([]string{
		host, "=" + host, "*." + host, host + path, "=" + host + path, "*." + host + path, host + ".*" + path, "=" + host + ".*", "*." + host + ".*", "*" + host, "=*" + host + path, "*a*" + path, "a*" + host, "=a*b.a",
		"http://" + host + path, host + ":81" + path, host + path + "?a", host + path + "?a=b", host + "?a=é", host + path + "?a=*b", host + "?a=a*&b", "192.0.2.0/24", "192.0.2.1" + path, "192.0.2.128/25",
		"*.*", "*.*" + path, "a", "*.a", "*.uk", "*.co.uk", "*é*", "=*é." + host, "=*." + host + "/a", "=" + host + "/", "=*/a", "*" + path, "*:81", `"a"`, `"a*"`, `"*ab"`, `"a b"`, "~host ^" + quoted + "$", "~host (^|\\.)" + quoted + "$", "~host a+b", "~path ^/a", "~path ^/(a|b)/?$", "~ ^https://" + quoted + "/a", "~ /ab?$", "a-*." + host,
	}).Draw(t, name+" form")).Pattern
}

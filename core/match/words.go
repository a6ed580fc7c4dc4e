package match

import (
	"strings"

	"widelark/core/pattern"
)

// Words searches text that is not a URL, such as that of a page, for many words. It is immutable and safe for concurrent use.
type Words struct{ scans []scan }

// NewWords returns a search for words. Precondition: each is a [pattern.Word].
func NewWords(words []pattern.Pattern) *Words {
	w := &Words{}
	for i, p := range words {
		w.scans = append(w.scans, newScan(int32(i), p))
	}
	return w
}

// Find returns the positions of the words that stand in a text, in order, by the rules of the notation: letter case aside, alone
// unless a star says otherwise.
func (w *Words) Find(text string) []int {
	text = strings.ToLower(text)
	var found []int
	for i := range w.scans {
		s := &w.scans[i]
		if has(text, s.needs) && s.re.compiled().MatchString(text) {
			found = append(found, i)
		}
	}
	return found
}

// has reports whether a text holds any of some; where there are none, it may.
func has(text string, needs []string) bool {
	for _, need := range needs {
		if strings.Contains(text, need) {
			return true
		}
	}
	return len(needs) == 0
}

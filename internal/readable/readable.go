// Package readable refuses names that look like something else: with invisible characters, with characters that reverse the order of others, or
// with letters of several alphabets that look alike.
//
// From: a name that somebody gives.
// To: an error that names the character and its position, or nil.
package readable

import (
	"fmt"
	"unicode"
)

// alike are the alphabets whose letters look like those of another one (Unicode Technical Standard 39, section 5).
var alike = map[string]*unicode.RangeTable{
	"Latin": unicode.Latin, "Cyrillic": unicode.Cyrillic, "Greek": unicode.Greek, "Armenian": unicode.Armenian, "Cherokee": unicode.Cherokee,
}

// Check returns nil if a name is readable, and otherwise an error that says why not, in a clause.
func Check(name string) error {
	script, of := "", rune(0) // the alphabet of the current word, and its last letter so far
	at := 0
	for _, r := range name {
		at++
		switch {
		case unicode.Is(unicode.Bidi_Control, r):
			return fmt.Errorf("character %d (U+%04X) turns the order of others round", at, r)
		case unicode.In(r, unicode.Cf, unicode.Zl, unicode.Zp, unicode.Other_Default_Ignorable_Code_Point, unicode.Variation_Selector) || r == 0x115F || r == 0x1160 || r == 0x3164:
			return fmt.Errorf("character %d (U+%04X) cannot be seen", at, r)
		case unicode.Is(unicode.Cc, r):
			return fmt.Errorf("character %d is a control character", at)
		}
		if !unicode.IsLetter(r) && !unicode.IsMark(r) && !unicode.IsDigit(r) && r != '\'' && r != '’' {
			script = ""
			continue
		}
		for name, table := range alike {
			if !unicode.Is(table, r) {
				continue
			}
			if script != "" && script != name {
				return fmt.Errorf("a word in it has %s letters beside %s ones (%q beside %q), which look alike", name, script, r, of)
			}
			script, of = name, r
		}
	}
	return nil
}

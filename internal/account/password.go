package account

import (
	_ "embed"
	"fmt"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"
)

// The bounds of names and passwords, the same wherever one is set or asked for.
const (
	MaxName     = 80   // characters
	MinPassword = 8    // characters (NIST SP 800-63B, section 5.1.1.2)
	MaxPassword = 1000 // bytes
)

// common holds the words that people make passwords of, one a line, in lower case.
//
//go:embed common.txt
var common string

var commonWords = sync.OnceValue(func() map[string]bool {
	words := map[string]bool{}
	for word := range strings.Lines(common) {
		words[strings.TrimSpace(word)] = true
	}
	return words
})

// CheckPassword returns a [*WeakError] if a text cannot be the password of the account with this name.
func CheckPassword(name, password string) error {
	if n := utf8.RuneCountInString(password); n < MinPassword {
		return &WeakError{fmt.Sprintf("the password is shorter than %d characters", MinPassword)}
	}
	if len(password) > MaxPassword {
		return &WeakError{fmt.Sprintf("the password is longer than %d bytes", MaxPassword)}
	}
	plain := strings.ToLower(password)
	if name = strings.ToLower(name); len(name) > 2 && strings.Contains(plain, name) && len(plain) < len(name)+MinPassword {
		return &WeakError{"the password is little more than the name"}
	}
	if isCommon(plain) {
		return &WeakError{"the password is one that is tried first: take several words that have nothing to do with each other"}
	}
	return nil
}

// WeakError describes why a password is refused.
type WeakError struct{ Msg string }

// Error returns the message.
func (e *WeakError) Error() string { return e.Msg }

// isCommon reports whether a password in lower case is a common word or two, with digits and signs around and between them, or a run or
// repetition of few characters.
func isCommon(plain string) bool {
	kinds := map[rune]bool{}
	steps := map[rune]bool{}
	before := rune(-1)
	for _, r := range plain {
		kinds[r] = true
		if before >= 0 {
			steps[r-before] = true
		}
		before = r
	}
	if len(kinds) < 4 || len(steps) == 1 { // aaaaaaaa, 12121212, abcdefgh
		return true
	}
	known := commonWords()
	letters := func(text string) string {
		return strings.Join(strings.FieldsFunc(text, func(r rune) bool { return !unicode.IsLetter(r) }), "")
	}
	inner := strings.TrimFunc(plain, func(r rune) bool { return !unicode.IsLetter(r) })
	if inner == "" { // digits and signs only
		return known[plain] || len(plain) < 14
	}
	for _, bare := range []string{plain, letters(plain), letters(unleet(inner)), letters(unleet(plain))} {
		if known[bare] {
			return true
		}
		for i := range bare {
			if i > 0 && known[bare[:i]] && known[bare[i:]] && len(bare) < 14 {
				return true
			}
		}
	}
	return false
}

// unleet replaces digits and signs that stand for letters by the letters.
func unleet(plain string) string {
	return strings.NewReplacer("4", "a", "@", "a", "3", "e", "1", "i", "!", "i", "0", "o", "5", "s", "$", "s", "7", "t").Replace(plain)
}

package readable

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestCheck(t *testing.T) {
	for name, says := range map[string]string{
		"Ward nurses": "", "Müller-Lüdenscheidt": "", "Отделение": "", "β-Blocker": "", "α-Station, B 12": "", "病棟": "", "": "", "naïve": "", "Ward 7 · café": "",
		"gpj\u202eexe": "character 4 (U+202E) turns", "a\u200bb": "character 2 (U+200B) cannot be seen", "a\u00adb": "cannot be seen", "\ufeffx": "cannot be seen", "a\u2066b": "turns", "a\x00": "control", "a\nb": "control",
		"О'Brien": "look alike", "Bеtting": "look alike", "Τrainees": "look alike", "x\u3164": "cannot be seen",
	} {
		if err := Check(name); says == "" {
			assert.NoError(t, err, "%q", name)
		} else {
			assert.ErrorContains(t, err, says, "%q", name)
		}
	}
}

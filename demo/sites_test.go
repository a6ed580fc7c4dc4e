package demo

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/pattern"
)

func TestSites(t *testing.T) {
	sites := Sites(20_000, 7)
	seen := map[string]bool{}
	for _, site := range sites {
		assert.False(t, seen[site], site)
		seen[site] = true
		assert.True(t, strings.HasSuffix(site, ".example") || strings.HasSuffix(site, ".test"), "%s is under no reserved name", site)
	}
	assert.Equal(t, sites[:100], Sites(100, 7), "the same for the same seed")
	assert.NotEqual(t, sites[:100], Sites(100, 8))
	assert.Equal(t, SuspectsCount, bytes.Count(SuspectSites(), []byte("\n")))
}

// Every line of the demo's files is good, except in the one that is messy on purpose, and every host in them is
// invented.
func TestFiles(t *testing.T) {
	for _, l := range lists {
		if l.file == Suspects {
			continue
		}
		reading := pattern.Exact
		if l.file == HandKept {
			reading = pattern.Mending
		}
		err := pattern.ReadLines(bytes.NewReader(File(l.file)), reading, func(line pattern.Line) error {
			if l.file != HandKept {
				assert.Contains(t, []pattern.Outcome{pattern.Good, pattern.NoteOnly}, line.Outcome(), "%s:%d %s", l.file, line.Number, line.Text)
			}
			for _, e := range line.Entries {
				name := e.Pattern.Name()
				reserved := name == "" || e.Pattern.EveryEnding() || e.Pattern.IsGlob() || strings.HasSuffix(name, ".example") || strings.HasSuffix(name, ".test") || strings.HasSuffix(name, ".internal")
				assert.True(t, reserved, "%s: %s", l.file, e)
			}
			return nil
		})
		require.NoError(t, err)
	}
}

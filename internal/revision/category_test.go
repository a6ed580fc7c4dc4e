package revision

import (
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/classify"
)

func TestKeyOf(t *testing.T) {
	for name, want := range map[string]string{
		"Dosage pages": "dosage-pages", "  Ward links (day) ": "ward-links-day", "24/7": "24-7", "Ärzte": "rzte", "!!": "", "UNRATED": "unrated",
		strings.Repeat("long name ", 9): "long-name-long-name-long-name-long-name",
	} {
		got := KeyOf(name)
		assert.Equal(t, want, got, name)
		assert.Equal(t, want != "" && want != "unrated", classify.ValidKey(got), name)
	}
}

func TestCheckReason(t *testing.T) {
	reason, err := CheckReason("  it is so \n")
	require.NoError(t, err)
	assert.Equal(t, "it is so", reason)
	for _, wrong := range []string{"", " \t", strings.Repeat("x", MaxDescription+1)} {
		_, err := CheckReason(wrong)
		var field *FieldError
		require.ErrorAs(t, err, &field)
		assert.Equal(t, "reason", field.Field)
	}
}

func TestOwnCategoryEdits(t *testing.T) {
	checked, err := OwnCategoryEdit{Name: new("  Dosage pages ")}.Checked()
	require.NoError(t, err)
	assert.Equal(t, "Dosage pages", *checked.Name)
	for want, edit := range map[string]OwnCategoryEdit{
		"name: a name is wanted":                     {Name: new(" ")},
		"name: a name with letters a to z or digits": {Name: new("Ä Ö")},
		"name: a name with letters":                  {Name: new("Unrated")},
		"lists: a category without lists has no":     {Name: new("X"), Lists: &[]uuid.UUID{}},
		"description: longer than":                   {Description: new(strings.Repeat("x", MaxDescription+1))},
	} {
		_, err := edit.Checked()
		assert.ErrorContains(t, err, want)
	}
}

func TestScorecardEdits(t *testing.T) {
	checked, err := ScorecardEdit{Name: new(" Adult "), Threshold: new(100), Terms: &[]Term{{`"bare*"`, 60}, {" adults   only ", 40}, {"größe", -5}, {"*bet*", 1}}}.Checked()
	require.NoError(t, err)
	assert.Equal(t, "Adult", *checked.Name)
	words := []string{}
	for _, term := range *checked.Terms {
		words = append(words, term.Word)
		again, err := ParseWord(term.Word)
		require.NoError(t, err)
		assert.Equal(t, term.Word, strings.Trim(again.String(), `"`), "a kept word is read as it was kept")
	}
	assert.Len(t, words, 4)
	assert.Equal(t, []string{"bare*", "größe", "*bet*"}, []string{words[0], words[2], words[3]})
	many := make([]Term, MaxTerms+1)
	for want, edit := range map[string]ScorecardEdit{
		"threshold: between 1 and":                      {Threshold: new(0)},
		"threshold: between 1":                          {Threshold: new(MaxPoints + 1)},
		"terms: more than":                              {Terms: &many},
		"terms[0].word":                                 {Terms: &[]Term{{"", 1}}},
		"terms[1].word: \"BET\" is there already":       {Terms: &[]Term{{"bet", 1}, {"BET", 2}}},
		"terms[0].points: points are between -10000":    {Terms: &[]Term{{"bet", 0}}},
		"terms[1].points":                               {Terms: &[]Term{{"bet", 1}, {"odds", -MaxPoints - 1}}},
		"terms[0].word: ":                               {Terms: &[]Term{{`bet" [off]`, 1}}},
		"name: longer than 80":                          {Name: new(strings.Repeat("x", 81))},
		`terms[0].word: "odds" # why is not a word`:     {Terms: &[]Term{{`"odds" # why`, 1}}},
		`terms[0].word: "odds" [until 2026-12-24] is n`: {Terms: &[]Term{{`"odds" [until 2026-12-24]`, 1}}},
	} {
		_, err := edit.Checked()
		assert.ErrorContains(t, err, want)
	}
}

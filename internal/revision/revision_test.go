package revision

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/pattern"
	"widelark/core/policy"
)

func ptr[T any](v T) *T { return &v }

func TestChecked(t *testing.T) {
	long := strings.Repeat("ä", MaxName)
	for name, want := range map[string]string{
		"Betting": "", "  Betting ": "", long: "", long + "x": "name: longer than 80 characters", " \t": "name: a name is wanted",
		"a\nb": "name: holds characters that cannot be shown", "a\xff": "name: holds characters that cannot be shown",
	} {
		edit, err := ListEdit{Name: &name}.Checked()
		if want != "" {
			assert.EqualError(t, err, want, "%q", name)
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, strings.TrimSpace(name), *edit.Name)
	}
	_, err := GroupEdit{Description: ptr(strings.Repeat("x", MaxDescription+1))}.Checked()
	assert.EqualError(t, err, "description: longer than 2000 characters")

	rule := RuleEdit{Name: "Never", Lists: []uuid.UUID{uuid.New()}, Verdict: policy.Block}
	for want, edit := range map[string]PolicyEdit{
		"":                                {Name: ptr("x"), Otherwise: ptr(policy.Allow), Rules: &[]RuleEdit{rule}},
		"name: a name is wanted":          {Name: ptr("")},
		`otherwise: "" is no verdict`:     {Otherwise: ptr(policy.Verdict(""))},
		"rules[1].name: a name is wanted": {Rules: &[]RuleEdit{rule, {Lists: rule.Lists, Verdict: policy.Allow}}},
		"rules[0].lists: a rule without lists and categories never matches: name at least one": {Rules: &[]RuleEdit{{Name: "x", Verdict: policy.Allow}}},
		`rules[0].verdict: "maybe" is no verdict`:                                              {Rules: &[]RuleEdit{{Name: "x", Lists: rule.Lists, Verdict: "maybe"}}},
	} {
		_, err := edit.Checked()
		if want == "" {
			assert.NoError(t, err)
			continue
		}
		assert.EqualError(t, err, want)
	}
}

func reportOn(t *testing.T, text string) Report {
	t.Helper()
	_, report, err := Gather(t.Context(), func(each func(pattern.Line) error) error {
		return pattern.ReadLines(strings.NewReader(text), pattern.Mending, each)
	}, 0)
	require.NoError(t, err)
	return report
}

func TestReportCountsEveryLine(t *testing.T) {
	r := reportOn(t, "# note\n\na.example\nA.example # again\nhttps://b.example/\n0.0.0.0 c.example d.example a.example\na..example")
	assert.Equal(t, [6]int{7, 1, 1, 2, 2, 1}, [6]int{r.Lines, r.Blank, r.Notes, r.Good, r.Changed, r.Refused})
	assert.EqualValues(t, 1, r.Same, "a.example again; =a.example is another entry")

	var many strings.Builder
	for i := range MaxShown + 5 {
		fmt.Fprintf(&many, "bad..%d\nhttps://n%d.example/\n", i, i)
	}
	r = reportOn(t, many.String())
	assert.Equal(t, [3]int{2 * (MaxShown + 5), MaxShown + 5, MaxShown + 5}, [3]int{r.Lines, r.Changed, r.Refused})
	assert.Len(t, r.RefusedLines, MaxShown)
	assert.Len(t, r.ChangedLines, MaxShown)
}

// Lines are taken in order, however many; the first failure of either side ends both.
func TestAhead(t *testing.T) {
	lines := func(n int, end error) func(each func(pattern.Line) error) error {
		return func(each func(pattern.Line) error) error {
			for i := range n {
				if err := each(pattern.Line{Number: i + 1}); err != nil {
					return err
				}
			}
			return end
		}
	}
	broken, full := errors.New("broken"), errors.New("full")
	for _, n := range []int{0, 1, 511, 512, 513, 5000} {
		taken := 0
		take := func(some []pattern.Line) error {
			for _, line := range some {
				taken++
				assert.Equal(t, taken, line.Number)
			}
			return nil
		}
		require.NoError(t, ahead(lines(n, nil), take))
		assert.Equal(t, n, taken)
		require.ErrorIs(t, ahead(lines(n, broken), func([]pattern.Line) error { return nil }), broken)
	}
	require.ErrorContains(t, ahead(func(func(pattern.Line) error) error { panic("odd") }, nil), "bug: reading lines: odd")
	require.ErrorIs(t, ahead(lines(100_000, broken), func([]pattern.Line) error { return full }), full)
}

func TestBatch(t *testing.T) {
	b := NewBatch()
	for line, isNew := range map[string]bool{"# x": true, "möwe.example": true} {
		added, err := b.Add(pattern.MustParse(line))
		require.NoError(t, err)
		assert.Equal(t, isNew, added, line)
	}
	b = NewBatch()
	long := strings.Repeat("a very long note ", 3000)
	var told []bool
	for _, line := range []string{"# x", "a.example # " + long, "a.example", "A.example [until 2026-12-24, off] # first", "! a.example", "# x", "http://MÖWE.example"} {
		added, err := b.Add(pattern.MustParse(line))
		require.NoError(t, err)
		told = append(told, added)
	}
	assert.Equal(t, []bool{true, true, false, false, true, true, true}, told)
	assert.Equal(t, []int{5, 3}, []int{b.Len(), b.Count})
	rows := func(each func(func(Row) error) error) (all []Row) {
		require.NoError(t, each(func(r Row) error { all = append(all, r); return nil }))
		return all
	}
	assert.Equal(t, []Row{
		{Kind: pattern.Note, Note: "x"},
		{Kind: pattern.Site, Pattern: "a.example", Note: strings.TrimSpace(long)},
		{Kind: pattern.Site, Key: "! a.example", Pattern: "a.example", CarveOut: true},
		{Kind: pattern.Note, Note: "x"},
		{Kind: pattern.Scheme, Key: "http://xn--mwe-sna.example", Pattern: "http://möwe.example"},
	}, rows(b.Each))
	assert.Equal(t, []Row{{Kind: pattern.Site, Pattern: "a.example", Note: "first", Until: pattern.Date{Year: 2026, Month: 12, Day: 24}, Off: true}}, rows(b.EachAgain))
}

func TestImportKeepsNothingOfHalfAFile(t *testing.T) {
	broken := errors.New("the line went down")
	_, report, err := Import(t.Context(), nil, uuid.Nil, &halfFile{text: "a.example\nb.exam", err: broken}, pattern.Exact, Merging{}, 0, "")
	require.ErrorIs(t, err, broken) // the store, of which there is none here, is never asked
	assert.LessOrEqual(t, report.Lines, 1)
}

type halfFile struct {
	text string
	err  error
}

func (h *halfFile) Read(p []byte) (int, error) {
	if h.text == "" {
		return 0, h.err
	}
	n := copy(p, h.text)
	h.text = h.text[n:]
	return n, nil
}

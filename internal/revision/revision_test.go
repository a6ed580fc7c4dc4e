package revision

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/internal/access"
)

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
	long = strings.Repeat("x", MaxDescription+1)
	assert.EqualError(t, (&GroupBody{Description: long}).Check(), "description: longer than 2000 characters")
}

// bodyOf returns the body of a line of testdata/bodies.txt.
func bodyOf(t *testing.T, kind, text string) Body {
	t.Helper()
	into := func(target any) {
		require.NoError(t, json.Unmarshal([]byte(text), target), text)
	}
	rule := RuleBody{Name: "Never", If: &Condition{Lists: []Ref{{ID: uuid.New()}}}, Then: policy.Block}
	switch kind {
	case "rule":
		into(&rule)
	case "condition":
		rule.If = &Condition{}
		into(rule.If)
	case string(KindException):
		e := &ExceptionBody{Entries: pattern.Keep("heron.example"), Then: policy.Allow, Reason: "x", For: WhomBody{Everybody: true}}
		if strings.Contains(text, `"for"`) {
			e.For = WhomBody{}
		}
		into(e)
		return e
	default:
		body, err := Object{Kind: Kind(kind), Body: []byte(text)}.Decoded()
		require.NoError(t, err, text)
		return body
	}
	return &PolicyBody{Otherwise: policy.Allow, Rules: []RuleBody{{Name: "Fine", Then: policy.Note}, rule}}
}

// The check of every body reports what is wrong, and where.
func TestBodies(t *testing.T) {
	lines, err := os.ReadFile("testdata/bodies.txt")
	require.NoError(t, err)
	list := uuid.New()
	checked := 0
	for line := range strings.SplitSeq(strings.TrimSpace(string(lines)), "\n") {
		if strings.HasPrefix(line, "#") {
			continue
		}
		given, want, ok := strings.Cut(line, " => ")
		kind, text, both := strings.Cut(given, " ")
		require.True(t, ok && both, line)
		checked++
		err := bodyOf(t, kind, strings.ReplaceAll(text, "$list", list.String())).Check()
		if want == "good" {
			assert.NoError(t, err, line)
		} else {
			assert.EqualError(t, err, want, line)
		}
	}
	assert.NotZero(t, checked)
	e := &ExceptionBody{Entries: pattern.Keep("heron.example"), Then: policy.Allow, Reason: "x", For: WhomBody{Addresses: []string{"::ffff:10.40.9.7", "10.40.9.7/32", "10.40.9.0/20"}}}
	require.NoError(t, e.Check())
	assert.Equal(t, []string{"10.40.9.7", "10.40.0.0/20"}, e.For.Addresses, "each once, as it is printed")

	// What is kept has references without names; the body that was given keeps them.
	b := &PolicyBody{Otherwise: policy.Allow, Rules: []RuleBody{{Name: "Never", Then: policy.Block, If: &Condition{Any: []Condition{{Lists: []Ref{{ID: list, Name: "Betting"}}}}}}}}
	text, err := Encode(b)
	require.NoError(t, err)
	assert.NotContains(t, string(text), "Betting")
	assert.Equal(t, "Betting", b.Rules[0].If.Any[0].Lists[0].Name)
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

// Lines arrive in order, in any number; the first failure of either side ends both.
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
	_, report, err := Import(t.Context(), nil, uuid.Nil, &halfFile{text: "a.example\nb.exam", err: broken}, pattern.Exact, Merging{}, 0, access.Setup)
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

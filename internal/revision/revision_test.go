package revision

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/core/pattern"
	"widelark/core/policy"
	"widelark/internal/access"
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
	long = strings.Repeat("x", MaxDescription+1)
	assert.EqualError(t, (&GroupBody{Description: long}).Check(), "description: longer than 2000 characters")
}

// The check of every body reports what is wrong, and where.
func TestBodies(t *testing.T) {
	list := []Ref{{ID: uuid.New()}}
	deep := Condition{Lists: list}
	for range maxDepth + 1 {
		deep = Condition{All: []Condition{deep}}
	}
	rules := func(change func(r *RuleBody)) *PolicyBody {
		r := RuleBody{Name: "Never", If: &Condition{Lists: list}, Then: policy.Block}
		change(&r)
		return &PolicyBody{Otherwise: policy.Allow, Rules: []RuleBody{{Name: "Fine", Then: policy.Note}, r}}
	}
	asks := func(c Condition) *PolicyBody { return rules(func(r *RuleBody) { r.If = &c }) }
	exception := func(change func(e *ExceptionBody)) *ExceptionBody {
		e := &ExceptionBody{Entries: pattern.Keep("HERON.example"), Then: policy.Allow, Reason: "x", For: WhomBody{Everybody: true}}
		change(e)
		return e
	}
	now := time.Now()
	for want, body := range map[string]Body{
		"":                            rules(func(*RuleBody) {}),
		`otherwise: "" is no verdict`: &PolicyBody{},
		"groups: the baseline is given to no groups":                                                                                                            &PolicyBody{Role: RoleBaseline, Groups: list},
		"rules[0].then: the baseline allows, blocks and notes, nothing else":                                                                                    &PolicyBody{Role: RoleBaseline, Rules: []RuleBody{{Name: "x", Then: policy.Hold}}},
		"rules[1].name: a name is wanted":                                                                                                                       rules(func(r *RuleBody) { r.Name = " " }),
		`rules[1].then: "maybe" is no verdict`:                                                                                                                  rules(func(r *RuleBody) { r.Then = "maybe" }),
		`rules[1].at[0]: "mail" is no kind of gate: there are dns, proxy and icap`:                                                                              rules(func(r *RuleBody) { r.At = []policy.Gate{"mail"} }),
		"rules[1].with: provisos bind what is allowed: a rule that says block has none":                                                                         rules(func(r *RuleBody) { r.With = &ProvisosBody{SafeSearch: true} }),
		"rules[1].if: a condition asks exactly one thing: all, any, none, lists, categories, apps, traits, methods, files, search or score":                     asks(Condition{Lists: list, Traits: []string{"unrated"}}),
		"rules[1].if: a condition that names nothing never holds: name at least one":                                                                            asks(Condition{Lists: []Ref{}}),
		"rules[1].if" + strings.Repeat(".all[0]", maxDepth+1) + ": more than 8 conditions in one another":                                                       asks(deep),
		`rules[1].if.any[1].methods[0]: "g3t" is no method of HTTP, as POST`:                                                                                    asks(Condition{Any: []Condition{{Lists: list}, {Methods: []string{"g3t"}}}}),
		`rules[1].if.none[0].traits[0]: there is no trait "odd": there are raw-address, plain-http, unrated, odd-port, user-info and punycode`:                  asks(Condition{None: []Condition{{Traits: []string{"odd"}}}}),
		`rules[1].if.files[1]: "zip" is no ending as .zip, and no kind of files: there are archives, programs, documents, macros, pictures, sound, film, disks`: asks(Condition{Files: []string{"archives", "zip"}}),
		"entries: an exception without entries covers nothing: name at least one, as heron.example/wards":                                                       exception(func(e *ExceptionBody) { e.Entries = nil }),
		"entries[0]: an exception has no carve-outs: write what it covers more narrowly, or make another that says the opposite":                                exception(func(e *ExceptionBody) { e.Entries = pattern.Keep("! heron.example") }),
		"for: say for whom it is: everybody, persons, groups, networks or addresses":                                                                            exception(func(e *ExceptionBody) { e.For = WhomBody{} }),
		`for.addresses[0]: "10.40" is neither an address nor a range, as 10.40.9.7 or 10.40.8.0/24`:                                                             exception(func(e *ExceptionBody) { e.For.Addresses = []string{"10.40"} }),
		"until: it ends before it begins":                                                                                                                       exception(func(e *ExceptionBody) { e.From, e.Until = ptr(now), ptr(now.Add(-time.Hour)) }),
		"ranges: a network without ranges holds nobody: name at least one, as 10.40.8.0/24":                                                                     &NetworkBody{},
		`address: "heron" is no address, as 10.40.9.7`:                                                                                                          &MachineBody{Address: "heron"},
		`activities[0].paths[0]: "up" is no path, as /up or /files/*/add, or =/up for that page alone`:                                                          &AppBody{Hosts: pattern.Keep("heron.example"), Activities: []ActivityBody{{Name: "upload", Paths: []string{"up"}}}},
		"combining: there are position, strictest and loosest":                                                                                                  &SettingsBody{},
	} {
		if err := body.Check(); want == "" {
			assert.NoError(t, err)
		} else {
			assert.EqualError(t, err, want)
		}
	}
	e := exception(func(e *ExceptionBody) { e.For.Addresses = []string{"::ffff:10.40.9.7", "10.40.9.7/32", "10.40.9.0/20"} })
	require.NoError(t, e.Check())
	assert.Equal(t, []string{"10.40.9.7", "10.40.0.0/20"}, e.For.Addresses, "each once, as it is printed")

	// What is kept has references without names; the body that was given keeps them.
	b := asks(Condition{Any: []Condition{{Lists: []Ref{{ID: list[0].ID, Name: "Betting"}}}}})
	text, err := Encode(b)
	require.NoError(t, err)
	assert.NotContains(t, string(text), "Betting")
	assert.Equal(t, "Betting", b.Rules[1].If.Any[0].Lists[0].Name)
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

package report_test

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/internal/journal/segment"
	"widelark/internal/report"
)

func TestChange(t *testing.T) {
	for _, c := range []struct {
		now, before int64
		want        string
	}{{0, 0, ""}, {3, 0, "new"}, {3, 3, "±0 %"}, {1001, 1000, "±0 %"}, {999, 1000, "±0 %"}, {150, 100, "+50 %"}, {0, 7, "−100 %"}, {33, 100, "−67 %"}, {110, 100, "+10 %"}} {
		assert.Equal(t, c.want, report.Change(c.now, c.before), "%d after %d", c.now, c.before)
	}
	for n, want := range map[int64]string{0: "0", 999: "999", 1000: "1,000", 1234567: "1,234,567", -1234: "-1,234"} {
		assert.Equal(t, want, report.Thousands(n))
	}
}

func TestWithin(t *testing.T) {
	from, to := time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), time.Date(2026, 11, 30, 0, 0, 0, 0, time.UTC)
	const span = ` since:"2026-11-23T00:00:00Z" until:"2026-11-30T00:00:00Z"`
	for q, want := range map[string]string{"": span[1:], "verdict:block": "verdict:block" + span, "a or b": "(a or b)" + span, "(a) OR(b)": "((a) OR(b))" + span, "orchid": "orchid" + span} {
		assert.Equal(t, want, report.Within(q, from, to))
	}
}

// Reports of every size become documents and tables: empty ones, long names in other scripts, many rows.
func TestFiles(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 3))
	count := func() (c segment.Count) {
		for i := range c.Requests {
			c.Requests[i] = random.Int64N(50_000)
		}
		c.Bytes = random.Int64N(1 << 40)
		return c
	}
	for _, rows := range []int{0, 1, 200} {
		m := &report.Made{Asked: report.Asked{Compare: rows != 1, Query: "group:\"Ward nurses\""}, Title: "Woche im Krankenhaus – тиждень 𝕏", At: time.Now(), From: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), To: time.Date(2026, 11, 30, 0, 0, 0, 0, time.UTC), Total: count()}
		for _, s := range report.Sections {
			done := report.MadeSection{Section: s, Others: rows}
			for i := range rows {
				done.Rows = append(done.Rows, report.Row{Value: fmt.Sprintf("=SUM(%d) %s", i, "ein sehr langer Name, der niemals in eine Spalte passt – Ωμέγα 𝕏\n\x01 \ufffd 漢字"), Now: count(), Earlier: count()})
				done.Over = append(done.Over, report.Moment{At: m.From.Add(time.Duration(i) * time.Hour), Now: count(), Earlier: count()})
			}
			m.Sections = append(m.Sections, done)
		}
		var pdf, table bytes.Buffer
		require.NoError(t, m.PDF(&pdf, "Quillmere General"))
		assert.True(t, bytes.HasPrefix(pdf.Bytes(), []byte("%PDF-")))
		pages := bytes.Count(pdf.Bytes(), []byte("/Type /Page\n"))
		assert.Positive(t, pages)
		require.NoError(t, m.CSV(&table))
		read, err := csv.NewReader(&table).ReadAll()
		require.NoError(t, err)
		assert.Len(t, read, 2+2*rows*len(report.Sections))
		for _, row := range read[2:] {
			assert.NotEqual(t, byte('='), row[1][0], "a formula")
		}
	}
}

package journal

import (
	"bytes"
	"encoding/csv"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/client"
	"widelark/internal/testkit"
)

// Each number of a report is that of the records that its query finds; it is saved as PDF and CSV, and sent when it is due: once, also where two services look.
func TestReports(t *testing.T) {
	t.Parallel()
	mails := newSink(t)
	s := serve(t, "--mail-server", "smtp://"+mails.address, "--mail-from", "Lark <lark@quillmere.example>", "--console-url", "https://lark.quillmere.example")
	furnish(t, s)
	api, ctx := s.API(t), t.Context()
	run := func(args ...string) string { return s.Run(t, "", args...).Done(t) }
	now := time.Now()
	for days := range 12 {
		at := now.AddDate(0, 0, -days).Add(-time.Minute)
		record(t, api, "kay.moran", at, "https://oddsfield.example/today", "https://heron.example/wards", "https://www.heron.example/")
		if days < 6 {
			record(t, api, "moss.teal", at, "https://slots.example/", "https://new.example/?q==SUM(A1)")
		}
	}
	yes, top, span := true, int64(5), client.MakeReportParamsSpan("7d")
	for _, q := range []string{"", "person:kay.moran", "host:heron.example or host:slots.example"} {
		answer, err := api.MakeReportWithResponse(ctx, &client.MakeReportParams{Q: &q, Span: &span, Compare: &yes, Top: &top})
		require.NoError(t, err)
		made := answer.JSON200
		require.Len(t, made.Sections, 17)
		count := func(query string) client.VerdictCounts {
			sum, err := api.SummarizeJournalWithResponse(ctx, &client.SummarizeJournalParams{Q: &query})
			require.NoError(t, err)
			return sum.JSON200.Total
		}
		assert.Equal(t, made.Total, count(made.Query))
		for _, section := range made.Sections {
			over := int64(0)
			for _, m := range listed(section.Over) {
				over += m.Now.All
				assert.Equal(t, m.Now, count(m.Query), "%s %s", section.Key, m.Query)
			}
			if section.Key == "over" {
				assert.Equal(t, made.Total.All, over)
			}
			for _, r := range section.Rows {
				assert.Equal(t, r.Now, count(r.Query), "%s: %s", section.Key, r.Query)
			}
		}
	}
	shown := run("report", "show", "--span", "7d", "--compare", "--section", "new,sites,people", "-o", "csv")
	assert.Regexp(t, `New sites,new.example,6,0,0\nNew sites,slots.example,6,6,0`, shown)
	assert.Regexp(t, `Sites,heron.example,14,0,10`, shown)
	assert.Regexp(t, `People,Kay Moran,21,7,15`, shown)
	wrong := s.Run(t, "", "report", "show", "verdct:block")
	assert.NotEqual(t, 0, wrong.Code)
	assert.Contains(t, wrong.Err, "verdict")

	dir := t.TempDir()
	run("report", "save", filepath.Join(dir, "a.pdf"), "--compare")
	pdf, err := os.ReadFile(filepath.Join(dir, "a.pdf"))
	require.NoError(t, err)
	assert.True(t, bytes.HasPrefix(pdf, []byte("%PDF-1.")) && bytes.Contains(pdf, []byte("%%EOF")))
	run("report", "save", filepath.Join(dir, "a.csv"), "--compare")
	table, err := os.ReadFile(filepath.Join(dir, "a.csv"))
	require.NoError(t, err)
	rows, err := csv.NewReader(bytes.NewReader(table)).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, []string{"section", "value", "requests", "allow", "watch", "hold", "block", "bytes", "requests before", "block before", "bytes before"}, rows[0])

	assert.Contains(t, run("report", "new", "The week: wards", "person:kay.moran", "--compare", "--every", "week", "--at", "07:30", "--to", "board@quillmere.example", "--to", "ward@quillmere.example", "--file", "pdf,csv"), "It is sent first at")
	assert.Contains(t, s.Run(t, "", "report", "new", "Nobody", "--every", "day").Err, "goes to somebody")
	assert.Contains(t, s.Run(t, "", "report", "new", "The Week: Wards").Err, "taken")
	beside(t, s)
	db, err := pgx.Connect(ctx, s.Database)
	require.NoError(t, err)
	defer db.Close(ctx)
	_, err = db.Exec(ctx, `update watch_items set next_at = now() - interval '1 minute' where kind = 'report'`)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		return len(mails.letters(t, "board@")) == 1 && len(mails.letters(t, "ward@")) == 1
	}, testkit.Patience, testkit.Look)
	l := mails.letters(t, "board@")[0]
	assert.True(t, strings.HasPrefix(l.subject, "The week: wards, "), l.subject)
	assert.Regexp(t, `requests +21`, l.text)
	assert.Contains(t, l.text, "https://lark.quillmere.example/reports")
	assert.Len(t, l.files, 2)
	assert.Contains(t, run("report", "ls"), "delivered")
	run("report", "send", "The week: wards")
	require.Eventually(t, func() bool { return len(mails.letters(t, "board@")) == 2 }, testkit.Patience, testkit.Look)
	time.Sleep(6 * time.Second) // in which the other service would have sent it, too
	assert.Len(t, mails.letters(t, "board@"), 2)
	run("report", "edit", "The week: wards", "--never", "--name", "Wards")
	assert.Regexp(t, `Wards +7d +person:kay.moran +never`, run("report", "ls"))
	run("report", "remove", "Wards")
	assert.Contains(t, run("report", "ls"), "No reports")
}

// listed returns a list, an empty one where there is none.
func listed[T any](list *[]T) []T {
	if list == nil {
		return nil
	}
	return *list
}

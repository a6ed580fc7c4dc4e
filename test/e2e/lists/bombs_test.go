package lists

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widelark/test/e2e/house"
)

func gzipped(t *testing.T, piece string, times int) []byte {
	t.Helper()
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	for range times {
		_, err := w.Write([]byte(piece))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

func zstandard(t *testing.T, piece string, times int) []byte {
	t.Helper()
	var b bytes.Buffer
	w, err := zstd.NewWriter(&b)
	require.NoError(t, err)
	for range times {
		_, err := w.Write([]byte(piece))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

// Small files that expand to large ones or take long, in every format that the service reads, are each answered soon, with a sentence
// if they are refused, and all together take a bounded amount of memory.
func TestBombs(t *testing.T) {
	t.Parallel()
	s := house.Server.Serve(t)
	api := s.API(t)
	s.Run(t, "", "list", "new", "Target").Done(t)
	lists, err := api.GetListsWithResponse(t.Context(), nil)
	require.NoError(t, err)
	list := "/api/v1/lists/" + lists.JSON200.Lists[0].ID.String()
	event := func(lines string) []byte {
		return []byte("BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\n" + lines + "END:VCALENDAR\r\n")
	}
	vevent := func(lines string) string {
		return "BEGIN:VEVENT\r\nUID:1\r\nDTSTAMP:20260101T000000Z\r\n" + lines + "END:VEVENT\r\n"
	}
	deep := strings.Repeat("[", 400_000)
	mb := strings.Repeat("a", 1<<20)
	bombs := []struct {
		name, method, path, kind string
		body                     []byte
	}{
		{"a calendar of seconds", "POST", "/api/v1/schedules/calendar", "text/calendar", event(vevent("DTSTART:20200101T000000Z\r\nDTEND:20200101T000001Z\r\nRRULE:FREQ=SECONDLY\r\n"))},
		{"a calendar of seconds that never come", "POST", "/api/v1/schedules/calendar", "text/calendar", event(vevent("DTSTART:20200101T000000Z\r\nRRULE:FREQ=SECONDLY;BYMONTH=2;BYMONTHDAY=30\r\n"))},
		{"a calendar of days that never come", "POST", "/api/v1/schedules/calendar", "text/calendar", event(strings.Repeat(vevent("DTSTART;VALUE=DATE:20200101\r\nRRULE:FREQ=DAILY;BYMONTH=2;BYMONTHDAY=30\r\n"), 2))},
		{"a calendar since the year one", "POST", "/api/v1/schedules/calendar", "text/calendar", event(strings.Repeat(vevent("DTSTART;VALUE=DATE:00010101\r\nRRULE:FREQ=DAILY\r\n"), 3))},
		{"an event of thousands of years", "POST", "/api/v1/schedules/calendar?as=on", "text/calendar", event(vevent("DTSTART:00010101T010000Z\r\nDTEND:99981231T000000Z\r\n"))},
		{"a calendar of a million lines", "POST", "/api/v1/schedules/calendar", "text/calendar", event(strings.Repeat("X-A:b\r\n", 1_000_000))},
		{"a folded directory", "POST", "/api/v1/people/import?preview=true&format=ldif", "text/plain", []byte("dn: cn=x\ndescription: a\n" + strings.Repeat(" a\n", 2_300_000))},
		{"a directory with one entry of many values", "POST", "/api/v1/people/import?preview=true&format=ldif", "text/plain", []byte("dn: cn=x\nobjectClass: person\ncn: x\n" + strings.Repeat("mail: a\n", 500_000))},
		{"a table of one cell", "POST", "/api/v1/people/import?preview=true&format=csv", "text/plain", []byte("name\n\"" + strings.Repeat(mb, 30))},
		{"a table of many groups", "POST", "/api/v1/people/import?preview=true&format=csv", "text/plain", []byte("name,groups\nx," + strings.Repeat("a;b;", 1_000_000))},
		{"a list that unpacks to more than is taken, gzip", "POST", list + "/import", "text/plain", gzipped(t, mb, 300)},
		{"a list that unpacks to more than is taken, zstd", "POST", list + "/import", "text/plain", zstandard(t, mb, 300)},
		{"a list of packed sites", "POST", list + "/import?preview=true", "text/plain", gzipped(t, strings.Repeat("heron.example\n", 1000), 1000)},
		{"a row of columns", "POST", list + "/import?format=csv", "text/csv", []byte(strings.Repeat("a,", 4_000_000))},
		{"deep JSON lines", "POST", list + "/import?format=jsonl", "application/x-ndjson", []byte(deep)},
		{"a deep recording", "POST", list + "/companions", "application/json", []byte(`{"log":{"entries":` + deep)},
		{"a deep question", "POST", "/api/v1/trials", "application/json", []byte(`{"urls":` + deep)},
		{"expressions that repeat", "POST", list + "/entries", "application/json", []byte(`{"lines":["~ (((a{100}){100}){100}){100}","~ ` + strings.Repeat("(a|b)*", 300) + `c$","~host ` + strings.Repeat("a?", 500) + strings.Repeat("a", 500) + `"]}`)},
		{"long URLs", "POST", "/api/v1/trials", "application/json", []byte(`{"urls":["http://h:/` + strings.Repeat("|/", 30_000) + `","http://` + strings.Repeat("ä", 30_000) + `/","` + strings.Repeat("@", 60_000) + `h"]}`)},
		{"a schedule of many windows", "POST", "/api/v1/schedules/explain", "application/json", []byte(`{"text":"mon ` + strings.Repeat("09:00-10:00, ", 60_000) + `11:00-12:00"}`)},
		{"aliases of aliases", "POST", "/api/v1/config/plan", "application/json", []byte(`{"files":{"settings.yaml":"a: &a [x,x,x,x,x,x,x,x,x]\nb: &b [*a,*a,*a,*a,*a,*a,*a,*a,*a]\nc: &c [*b,*b,*b,*b,*b,*b,*b,*b,*b]\nd: &d [*c,*c,*c,*c,*c,*c,*c,*c,*c]\ne: &e [*d,*d,*d,*d,*d,*d,*d,*d,*d]\nf: &f [*e,*e,*e,*e,*e,*e,*e,*e,*e]\ng: &g [*f,*f,*f,*f,*f,*f,*f,*f,*f]\nh: [*g,*g,*g,*g,*g,*g,*g,*g,*g]\n"}}`)},
		{"deep YAML", "POST", "/api/v1/config/plan", "application/json", []byte(`{"files":{"settings.yaml":"` + strings.Repeat("[", 200_000) + `"}}`)},
	}
	token := s.Token(t)
	for _, bomb := range bombs {
		req, err := http.NewRequestWithContext(t.Context(), bomb.method, s.URL+bomb.path, bytes.NewReader(bomb.body))
		require.NoError(t, err)
		req.Header.Set("Content-Type", bomb.kind)
		req.Header.Set("Authorization", "Bearer "+token)
		began := time.Now()
		resp, err := http.DefaultClient.Do(req)
		if assert.NoError(t, err, bomb.name) {
			var answer bytes.Buffer
			_, _ = answer.ReadFrom(resp.Body)
			_ = resp.Body.Close()
			assert.Less(t, resp.StatusCode, 500, "%s: %s", bomb.name, answer.String())
			assert.NotEqual(t, 404, resp.StatusCode, "%s: %s", bomb.name, answer.String())
			assert.Less(t, time.Since(began), 60*time.Second, bomb.name)
			t.Logf("%-45s %d in %s", bomb.name, resp.StatusCode, time.Since(began).Round(time.Millisecond))
		}
	}
	assert.Less(t, s.PeakMemory(t), int64(1500<<20))

	// The command line unpacks backups itself.
	path := filepath.Join(t.TempDir(), "bomb.zip")
	file, err := os.Create(path)
	require.NoError(t, err)
	out := zip.NewWriter(file)
	for i := range 2 {
		w, err := out.Create(fmt.Sprintf("lists/%d.txt", i))
		require.NoError(t, err)
		for range 140 {
			_, err = w.Write([]byte(mb))
			require.NoError(t, err)
		}
	}
	require.NoError(t, out.Close())
	require.NoError(t, file.Close())
	refused := s.Run(t, "", "restore", path)
	assert.Equal(t, 3, refused.Code)
	assert.Contains(t, refused.Err, "more than 256 MB unpacked")
}

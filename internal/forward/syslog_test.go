package forward_test

import (
	"testing"
	"time"
	"unicode/utf8"

	"github.com/leodido/go-syslog/v4/rfc5424"
	"github.com/stretchr/testify/require"

	"widelark/core/policy"
	"widelark/internal/forward"
	"widelark/internal/journal"
)

// Another reader of RFC 5424 gets back what a record says, whatever it says.
func FuzzMessage(f *testing.F) {
	f.Add("https://oddsfield.example/a\"]b\\", "Kay ]Moran", "vm-1.quillmere.internal")
	f.Add("http://heron.example/\n<13>1 - - - - - - forged", "\"", "")
	f.Add("", "", "ein haus")
	f.Fuzz(func(t *testing.T, url, person, host string) {
		if !utf8.ValidString(url) || !utf8.ValidString(person) {
			t.Skip() // records are UTF-8
		}
		s := forward.Sent{Record: journal.Record{At: time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC), URL: url, Verdict: policy.Block}, Fields: []forward.Field{{Key: "url", Value: url}, {Key: "person", Value: person}}}
		read, err := rfc5424.NewParser().Parse(forward.Message(&s, host))
		require.NoError(t, err)
		m := read.(*rfc5424.SyslogMessage)
		require.Equal(t, "widelark", *m.Appname)
		require.EqualValues(t, 4, *m.Severity)
		of := (*m.StructuredData)["request@32473"]
		require.Equal(t, url, of["url"])
		require.Equal(t, person, of["person"])
		require.NotContains(t, *m.Message, "\n")
	})
}
